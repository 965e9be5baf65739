//! The whole converter in memory on a virtual clock, with simulated devices at one end and clients at the other.
//!
//! Freshness, retries, fairness, faults and an hour of noise take milliseconds here and are the same every time:
//! nothing reads a clock, and every random number comes from the project's `seed`.

use crate::Moment;
use crate::line::{LineAct, Schedule};
use crate::rig::{Bus, BusAct, Opener, SimDevice, Twins, kin_bus_of};
use crate::session::{ClientIdentity, Session, SessionAct};
use crate::shared::{ClientId, Event, Inbox, Shared, Site};
use crate::speak::News;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Arc, Mutex, PoisonError};
use woodrush_core::check::Checked;

/// The simulated side of a port.
struct FarSide {
    port: usize,
    bus: Bus,
    /// When its connection was made last; and when it is made again, while there is none.
    made: Moment,
    again: Option<Moment>,
}

/// One port, or those of one schedule: the converter's side and the simulated sides.
struct Line {
    asking: Schedule,
    sides: Vec<FarSide>,
    /// When it has something to do next, if nobody wakes it before.
    next: Moment,
    woken: Arc<AtomicBool>,
}

impl Line {
    /// Lets everything happen here that happens now.
    fn pass(&mut self, now: Moment) {
        self.next = 'pass: loop {
            for side in self.sides.iter_mut().filter(|side| side.again.is_some_and(|again| again <= now)) {
                (side.again, side.made) = (None, now);
                side.bus.left(Opener::FIRST);
                side.bus.connected(now);
                self.asking.handle(side.port, now, News::Up);
            }
            let (port, act) = self.asking.poll(now);
            let side = self.sides.iter_mut().find(|side| side.port == port);
            let mut next = match act {
                LineAct::Send(bytes) => {
                    side.into_iter().for_each(|side| side.bus.handle(Opener::FIRST, now, &bytes));
                    continue;
                }
                LineAct::HangUp(_) => {
                    self.asking.handle(port, now, News::Down);
                    // At once, unless that was just done.
                    side.into_iter().for_each(|side| side.again = Some(now.max(side.made + AGAIN_AFTER)));
                    continue;
                }
                LineAct::WaitUntil(moment) => moment,
                LineAct::Rest => Moment::NEVER,
            };
            for side in &mut self.sides {
                let bus = match side.bus.poll(Opener::FIRST, now) {
                    BusAct::Deliver(bytes) => {
                        if side.again.is_none() {
                            self.asking.handle(side.port, now, News::Bytes(&bytes));
                        }
                        continue 'pass;
                    }
                    BusAct::WaitUntil(moment) => moment,
                    BusAct::Rest => Moment::NEVER,
                };
                next = next.min(bus).min(side.again.unwrap_or(Moment::NEVER));
            }
            // A machine that wants to be asked at this very moment again would never let time pass.
            break next.max(now + 1);
        };
    }
}

/// A connection that was made is not opened again before this time, in microseconds: as the driver of a port waits.
const AGAIN_AFTER: u64 = 1_000_000;

/// Converter, devices and clients at one virtual moment.
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
pub struct BenchClient(Session);

impl Bench {
    /// Builds the site as the project describes it.
    ///
    /// # Errors
    /// A signal does not fit its device, in words.
    pub fn new(checked: &Checked, plan: Arc<woodrush_core::plan::Plan>) -> Result<Self, String> {
        let events = Arc::new(Mutex::new(vec![]));
        let clock = Arc::new(Mutex::new(Moment(0)));
        let (told, at) = (Arc::clone(&events), Arc::clone(&clock));
        let mut shared = Shared::new(checked, plan, move |event| {
            let at = *at.lock().unwrap_or_else(PoisonError::into_inner);
            told.lock().unwrap_or_else(PoisonError::into_inner).push((at, event));
        });
        // The same numbers in every run.
        if let Some(own) = Arc::get_mut(&mut shared) {
            own.ports.iter_mut().for_each(|port| port.first = 0);
        }
        let (mut lines, mut kin): (Vec<Line>, _) = (vec![], Twins::new());
        for port in 0..checked.project.ports.len() {
            let no_files = |path: &str| Err(format!("{path}: there are no files here"));
            let bus = kin_bus_of(checked, port, &no_files, true, &mut kin)?;
            let Some(bus) = bus else { continue };
            let side = FarSide { port, bus, made: Moment(0), again: None };
            if let Some(line) = lines.iter_mut().find(|line| line.asking.ports().contains(&port)) {
                line.sides.push(side);
                continue;
            }
            let Some(asking) = Schedule::new(Arc::clone(&shared), port) else { continue };
            let woken = Arc::new(AtomicBool::new(true));
            for queue in asking.ports().into_iter().filter_map(|port| shared.queues.get(port)) {
                let wakes = Arc::clone(&woken);
                queue.set_wake(move || wakes.store(true, Relaxed));
            }
            lines.push(Line { asking, sides: vec![side], next: Moment(0), woken });
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

    /// Requests of others on a port that made no sense, since the start.
    #[must_use]
    pub fn damaged_requests(&self, port: usize) -> u64 {
        self.shared.health.ports.get(port).map_or(0, |health| health.noise.load(Relaxed))
    }

    /// What became of all requests of those who have asked on a port and gone.
    #[must_use]
    pub fn past_counts(&self, port: usize) -> crate::health::Counts {
        self.shared.health.ports.get(port).map(|health| health.past()).unwrap_or_default()
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
        self.lines.iter_mut().find_map(|line| {
            let side = line.sides.iter_mut().find(|side| side.port == port)?;
            // Whatever is done to it, it is looked at again.
            line.woken.store(true, Relaxed);
            Some(&mut side.bus)
        })
    }

    /// A simulated device, by its port and its place there.
    #[must_use]
    pub fn device(&self, port: usize, place: usize) -> Option<&SimDevice> {
        let mut sides = self.lines.iter().flat_map(|line| &line.sides);
        sides.find(|side| side.port == port)?.bus.devices.get(place)
    }

    /// Lets everything happen that happens now; says when something happens next.
    fn settle(&mut self) -> Moment {
        *self.clock.lock().unwrap_or_else(PoisonError::into_inner) = self.now;
        // Only who is due or was woken is asked, as the drivers of ports do it.
        loop {
            let mut still = true;
            for line in &mut self.lines {
                if line.woken.swap(false, Relaxed) || line.next <= self.now {
                    line.pass(self.now);
                    still = false;
                }
            }
            if still {
                return self.lines.iter().map(|line| line.next).min().unwrap_or(Moment::NEVER);
            }
        }
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
            self.now = next;
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
            self.now = next;
        }
    }

    /// Runs for so many microseconds; `seen` looks at every step.
    pub fn run_seen(&mut self, micros: u64, seen: &mut dyn FnMut(&mut Self)) {
        let end = self.now + micros;
        loop {
            let next = self.settle();
            seen(self);
            if next > end {
                break;
            }
            self.now = next;
        }
        self.now = end;
        self.settle();
        seen(self);
    }

    /// Connects to a listening port.
    #[must_use]
    pub fn connect(&self, port: usize) -> Option<BenchClient> {
        let client = ClientIdentity { id: ClientId(0), who: "bench".into(), address: None };
        Session::new(Arc::clone(&self.site), port, client).map(BenchClient)
    }

    /// Sends bytes over a connection and returns what comes back until nothing more does; time passes while writes go
    /// to devices. `None` once the connection was closed.
    pub fn exchange(&mut self, client: &mut BenchClient, bytes: &[u8]) -> Option<Vec<u8>> {
        self.exchange_seen(client, bytes, &mut |_| {})
    }

    /// The same; `seen` looks at every step of the time that passes.
    pub fn exchange_seen(
        &mut self,
        client: &mut BenchClient,
        bytes: &[u8],
        seen: &mut dyn FnMut(&mut Self),
    ) -> Option<Vec<u8>> {
        client.0.handle(self.now, News::Bytes(bytes));
        let mut back = vec![];
        loop {
            match client.0.poll(self.now) {
                SessionAct::Send(bytes) => back.extend(bytes),
                SessionAct::HangUp(_) => return None,
                SessionAct::WaitUntil(_) | SessionAct::Rest => return Some(back),
                SessionAct::Hand(ticket) => {
                    let inbox = Inbox::default();
                    client.0.submit(inbox.reply(ticket, || {}));
                    let mut ended = None;
                    self.run_until(600_000_000, |bench| {
                        seen(bench);
                        ended = ended.take().or_else(|| inbox.take());
                        ended.is_some()
                    });
                    let (ticket, outcome) = ended?;
                    client.0.ended(self.now, ticket, outcome);
                }
            }
        }
    }
}
