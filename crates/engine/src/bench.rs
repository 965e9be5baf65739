//! The whole converter in memory on a virtual clock, with simulated devices at one end and askers at the other.
//!
//! Freshness, retries, fairness, faults and an hour of noise take milliseconds here and are the same every time:
//! nothing reads a clock, and every random number comes from the project's `seed`.

use crate::Moment;
use crate::converter::{Answering, AnsweringAct, Asker};
use crate::line::{Asking, LineAct};
use crate::rig::{Bus, BusAct, Kin, kin_bus_of};
use crate::shared::{AskerId, Event, Shared, Site};
use crate::speak::News;
use std::sync::{Arc, Mutex, PoisonError};
use woodrush_core::Refusal;
use woodrush_core::check::Checked;

/// How something that was handed over has ended.
type Ended = Arc<Mutex<Option<Result<Vec<u8>, Refusal>>>>;

/// One serial port: the converter's side and the simulated side.
struct Line {
    port: usize,
    asking: Asking,
    bus: Bus,
}

/// Converter, devices and askers at one virtual moment.
pub struct Bench {
    now: Moment,
    shared: Arc<Shared>,
    site: Arc<Site>,
    lines: Vec<Line>,
    events: Arc<Mutex<Vec<(Moment, Event)>>>,
    /// What `events` are stamped with.
    clock: Arc<Mutex<Moment>>,
}

/// One connection to a listening port of the bench.
pub struct BenchClient(Answering);

impl Bench {
    /// Builds the site as the project describes it.
    ///
    /// # Errors
    /// A signal does not fit its device, in words.
    pub fn new(checked: &Checked, plan: Arc<woodrush_core::plan::Plan>) -> Result<Self, String> {
        let events = Arc::new(Mutex::new(vec![]));
        let clock = Arc::new(Mutex::new(Moment(0)));
        let (told, at) = (Arc::clone(&events), Arc::clone(&clock));
        let shared = Shared::new(checked, plan, move |event| {
            let at = *at.lock().unwrap_or_else(PoisonError::into_inner);
            told.lock().unwrap_or_else(PoisonError::into_inner).push((at, event));
        });
        let (mut lines, mut kin) = (vec![], Kin::new());
        for port in 0..checked.project.ports.len() {
            let no_files = |path: &str| Err(format!("{path}: there are no files here"));
            let bus = kin_bus_of(checked, port, &no_files, true, &mut kin)?;
            if let (Some(bus), Some(asking)) = (bus, Asking::new(Arc::clone(&shared), port)) {
                lines.push(Line { port, asking, bus });
            }
        }
        let site = Site::new(Arc::clone(&shared));
        Ok(Self { now: Moment(0), shared, site, lines, events, clock })
    }

    /// The present moment.
    #[must_use]
    pub fn now(&self) -> Moment {
        self.now
    }

    /// The converter's health of a device.
    #[must_use]
    pub fn is_online(&self, device: usize) -> bool {
        self.shared.health.devices.get(device).is_some_and(|health| health.is_online())
    }

    /// Good polls of a device since the start.
    #[must_use]
    pub fn polls(&self, device: usize) -> u64 {
        self.counts(device).answers
    }

    /// What became of the polls of a device since the start.
    #[must_use]
    pub fn counts(&self, device: usize) -> crate::health::Counts {
        self.shared.health.devices.get(device).map(|health| health.tally.counts()).unwrap_or_default()
    }

    /// What became of all requests of a port since the start.
    #[must_use]
    pub fn port_counts(&self, port: usize) -> crate::health::Counts {
        self.shared.health.ports.get(port).map(|health| health.tally.counts()).unwrap_or_default()
    }

    /// All counters from 0 on.
    pub fn reset_counts(&self) {
        self.shared.health.reset();
    }

    /// What was told so far, with the moment.
    #[must_use]
    pub fn events(&self) -> Vec<(Moment, Event)> {
        self.events.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Forgets what was told so far: a long run would gather it.
    pub fn forget_events(&mut self) {
        self.events.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }

    /// The simulated side of a port.
    pub fn bus(&mut self, port: usize) -> Option<&mut Bus> {
        self.lines.iter_mut().find(|line| line.port == port).map(|line| &mut line.bus)
    }

    /// Lets everything happen that happens now; says when something happens next.
    fn settle(&mut self) -> Moment {
        *self.clock.lock().unwrap_or_else(PoisonError::into_inner) = self.now;
        let plan = &self.shared.plan;
        // Where a line waits for another one, what one has said is heard by those before it too.
        let linked =
            (0..plan.devices.len()).any(|at| plan.write_port(at) != plan.devices.get(at).map(|own| own.port));
        if linked {
            self.pass();
            self.pass();
        }
        self.pass()
    }

    fn pass(&mut self) -> Moment {
        let mut next = Moment::NEVER;
        for line in &mut self.lines {
            loop {
                let asking = match line.asking.poll(self.now) {
                    LineAct::Send(bytes) => {
                        line.bus.handle(self.now, &bytes);
                        continue;
                    }
                    LineAct::HangUp(_) => {
                        // It is made anew at once.
                        line.asking.handle(self.now, News::Down);
                        line.bus.connected(self.now);
                        line.asking.handle(self.now, News::Up);
                        continue;
                    }
                    LineAct::WaitUntil(moment) => moment,
                    LineAct::Rest => Moment::NEVER,
                };
                match line.bus.poll(self.now) {
                    BusAct::Deliver(bytes) => line.asking.handle(self.now, News::Bytes(&bytes)),
                    BusAct::WaitUntil(moment) => {
                        next = next.min(asking).min(moment);
                        break;
                    }
                    BusAct::Rest => {
                        next = next.min(asking);
                        break;
                    }
                }
            }
        }
        next
    }

    /// Runs for so many microseconds.
    pub fn run(&mut self, micros: u64) {
        let end = self.now + micros;
        loop {
            let next = self.settle();
            if next > end {
                self.now = end;
                self.settle();
                return;
            }
            // A machine that wants to be asked at this very moment again would never let time pass.
            self.now = next.max(self.now + 1);
        }
    }

    /// Runs until `done`, at most for so many microseconds; says whether it came about.
    pub fn run_until(&mut self, most: u64, mut done: impl FnMut(&mut Self) -> bool) -> bool {
        let end = self.now + most;
        loop {
            if done(self) {
                return true;
            }
            let next = self.settle();
            // It may have come about without anything more to wait for.
            if done(self) {
                return true;
            }
            if next > end {
                self.now = end;
                return done(self);
            }
            self.now = next.max(self.now + 1);
        }
    }

    /// Connects to a listening port.
    #[must_use]
    pub fn connect(&self, port: usize) -> Option<BenchClient> {
        let asker = Asker { id: AskerId(0), who: "bench".into(), address: None };
        Answering::new(Arc::clone(&self.site), port, asker).map(BenchClient)
    }

    /// Sends bytes over a connection and returns what comes back until nothing more does; time passes while writes go
    /// to devices. `None` once the connection was closed.
    pub fn exchange(&mut self, client: &mut BenchClient, bytes: &[u8]) -> Option<Vec<u8>> {
        client.0.handle(self.now, News::Bytes(bytes));
        let mut back = vec![];
        loop {
            match client.0.poll(self.now) {
                AnsweringAct::Send(bytes) => back.extend(bytes),
                AnsweringAct::HangUp(_) => return None,
                AnsweringAct::WaitUntil(_) | AnsweringAct::Rest => return Some(back),
                AnsweringAct::Hand(handed) => {
                    let ended: Ended = Arc::default();
                    let told = Arc::clone(&ended);
                    client.0.submit(
                        *handed,
                        Box::new(move |result| {
                            *told.lock().unwrap_or_else(PoisonError::into_inner) = Some(result);
                        }),
                    );
                    let result = || ended.lock().unwrap_or_else(PoisonError::into_inner).clone();
                    self.run_until(600_000_000, |_| result().is_some());
                    client.0.ended(self.now, result()?);
                }
            }
        }
    }
}
