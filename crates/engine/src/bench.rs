//! The whole converter in memory on a virtual clock, with simulated devices at one end and clients at the other.
//!
//! Freshness, retries, fairness, faults and an hour of noise take milliseconds here and are the same every time:
//! nothing reads a clock, and every random number comes from the project's `seed`.

use crate::Moment;
use crate::line::{LineAct, Schedule};
use crate::rig::{Bus, BusAct, Opener, SimDevice, Twins, kin_bus_of};
use crate::session::{ClientIdentity, Session, SessionAct};
use crate::shared::{ClientId, Event, Inbox, ProjectChange, Shared, Site};
use crate::speak::News;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Arc, Mutex, PoisonError};
use woodrush_core::check::Checked;

/// The simulated side of a port.
struct FarSide {
    /// The port's name, by which it is found in whatever project runs.
    name: Arc<str>,
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
                self.asking.handle(&side.name, now, News::Up);
            }
            let (port, act) = self.asking.poll(now);
            let side = self.sides.iter_mut().find(|side| side.name == port);
            let mut next = match act {
                LineAct::Send(bytes) => {
                    side.into_iter().for_each(|side| side.bus.handle(Opener::FIRST, now, &bytes));
                    continue;
                }
                LineAct::HangUp(_) => {
                    self.asking.handle(&port, now, News::Down);
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
                            self.asking.handle(&side.name, now, News::Bytes(&bytes));
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
    site: Arc<Site>,
    lines: Vec<Line>,
    /// Simulated sides of ports that the project does not have now.
    unused: Vec<FarSide>,
    /// A changed project that waits for what is under way.
    waiting: Option<(Arc<ProjectChange>, Arc<Checked>)>,
    events: Arc<Mutex<Vec<(Moment, Event)>>>,
    /// What `events` are stamped with.
    clock: Arc<Mutex<Moment>>,
}

/// One connection to a listening port of the bench.
pub struct BenchClient {
    session: Session,
    inbox: Inbox,
}

impl BenchClient {
    /// Does what can be done at this moment: what the converter sends, and whether the connection is still there.
    fn pass(&mut self, now: Moment) -> (Vec<u8>, bool) {
        let mut back = vec![];
        while let Some((ticket, outcome)) = self.inbox.take() {
            self.session.ended(now, ticket, outcome);
        }
        loop {
            match self.session.poll(now) {
                SessionAct::Send(bytes) => back.extend(bytes),
                SessionAct::HangUp(_) => return (back, false),
                SessionAct::WaitUntil(_) | SessionAct::Rest => return (back, true),
                SessionAct::Hand(ticket) => self.session.submit(self.inbox.reply(ticket, || {})),
            }
        }
    }
}

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
        let site = Site::new(shared);
        let mut bench =
            Self { now: Moment(0), site, lines: vec![], unused: vec![], waiting: None, events, clock };
        bench.connect_lines(checked)?;
        Ok(bench)
    }

    /// Gives each port on which the converter asks, and that has none yet, its schedule and its simulated side.
    fn connect_lines(&mut self, checked: &Checked) -> Result<(), String> {
        let shared = self.site.current();
        let mut kin = Twins::new();
        for port in 0..checked.project.ports.len() {
            let Some(name) = shared.ports.get(port).map(|port| Arc::<str>::from(port.name.as_str())) else {
                continue;
            };
            if self.sides().any(|side| side.name == name) {
                continue;
            }
            let known = self.unused.iter().position(|side| side.name == name);
            let no_files = |path: &str| Err(format!("{path}: there are no files here"));
            let side = match known.map(|at| self.unused.swap_remove(at)) {
                Some(known) => known,
                None => match kin_bus_of(checked, port, &no_files, true, &mut kin)? {
                    Some(bus) => FarSide { name, bus, made: self.now, again: None },
                    None => continue,
                },
            };
            let same = |line: &&mut Line| line.asking.ports().contains(&port);
            if let Some(line) = self.lines.iter_mut().find(same) {
                line.sides.push(side);
                continue;
            }
            let Some(asking) = Schedule::new(&self.site, port) else { continue };
            let woken = Arc::new(AtomicBool::new(true));
            for queue in asking.ports().into_iter().filter_map(|port| shared.queues.get(port)) {
                let wakes = Arc::clone(&woken);
                queue.set_wake(move || wakes.store(true, Relaxed));
            }
            self.lines.push(Line { asking, sides: vec![side], next: self.now, woken });
        }
        Ok(())
    }

    fn sides(&self) -> impl Iterator<Item = &FarSide> {
        self.lines.iter().flat_map(|line| &line.sides)
    }

    /// Begins to take a changed project, as a running converter does: at once where nothing is under way, else as soon as
    /// that has ended. The simulated devices stay what they are; a port that they do not know yet gets those of the changed
    /// project.
    pub fn reload(&mut self, checked: &Arc<Checked>, plan: Arc<woodrush_core::plan::Plan>) {
        let old = self.site.current();
        let mut next = Shared::renewed(checked, plan, old.teller(), Some(&old));
        next.ports.iter_mut().for_each(|port| port.first = 0);
        self.waiting = Some((ProjectChange::between(&old, Arc::new(next)), Arc::clone(checked)));
        self.site.hold(true);
    }

    /// Whether a changed project waits.
    #[must_use]
    pub const fn is_reloading(&self) -> bool {
        self.waiting.is_some()
    }

    /// Takes the changed project, if one waits and nothing is under way.
    fn take_changed(&mut self) {
        let Some((change, checked)) = self.waiting.take() else { return };
        if !self.site.try_replace(&change) {
            self.waiting = Some((change, checked));
            return;
        }
        let shared = self.site.current();
        let stays = |line: &Line| {
            line.sides.iter().all(|side| shared.ports.iter().any(|port| line.asking.stays(&side.name, port)))
        };
        let (stay, go): (Vec<_>, Vec<_>) = std::mem::take(&mut self.lines).into_iter().partition(stays);
        self.lines = stay;
        for mut side in go.into_iter().flat_map(|line| line.sides) {
            // The port is closed, and what was on its way to it is lost.
            side.bus.left(Opener::FIRST);
            side.bus.connected(self.now);
            self.unused.push(side);
        }
        self.lines.iter().for_each(|line| line.woken.store(true, Relaxed));
        // What cannot be simulated was found when the bench was made.
        let _ = self.connect_lines(&checked);
    }

    /// The present moment.
    #[must_use]
    pub fn now(&self) -> Moment {
        self.now
    }

    /// The converter's health of a device.
    #[must_use]
    pub fn is_online(&self, device: usize) -> bool {
        self.shared().health.devices.get(device).is_some_and(|health| health.is_online())
    }

    /// Good polls of a device since the start.
    #[must_use]
    pub fn polls(&self, device: usize) -> u64 {
        self.counts(device).answers
    }

    /// What became of the polls of a device since the start.
    #[must_use]
    pub fn counts(&self, device: usize) -> crate::health::Counts {
        self.shared().health.devices.get(device).map(|health| health.tally.counts()).unwrap_or_default()
    }

    /// What became of all requests of a port since the start.
    #[must_use]
    pub fn port_counts(&self, port: usize) -> crate::health::Counts {
        self.shared().health.ports.get(port).map(|health| health.tally.counts()).unwrap_or_default()
    }

    /// Requests of others on a port that made no sense, since the start.
    #[must_use]
    pub fn damaged_requests(&self, port: usize) -> u64 {
        self.shared().health.ports.get(port).map_or(0, |health| health.noise.load(Relaxed))
    }

    /// What became of all requests of those who have asked on a port and gone.
    #[must_use]
    pub fn past_counts(&self, port: usize) -> crate::health::Counts {
        self.shared().health.ports.get(port).map(|health| health.past()).unwrap_or_default()
    }

    /// All counters from 0 on.
    pub fn reset_counts(&self) {
        self.shared().health.reset();
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

    /// What all machines share now.
    #[must_use]
    pub fn shared(&self) -> Arc<Shared> {
        self.site.current()
    }

    /// The simulated side of a port.
    pub fn bus(&mut self, port: usize) -> Option<&mut Bus> {
        let shared = self.site.current();
        let name = &shared.ports.get(port)?.name;
        if let Some(side) = self.unused.iter_mut().find(|side| *side.name == **name) {
            return Some(&mut side.bus);
        }
        self.lines.iter_mut().find_map(|line| {
            let side = line.sides.iter_mut().find(|side| *side.name == **name)?;
            // Whatever is done to it, it is looked at again.
            line.woken.store(true, Relaxed);
            Some(&mut side.bus)
        })
    }

    /// The simulated devices of the port of that name, also while the project does not have it.
    pub fn devices_of(&mut self, port: &str) -> &mut [SimDevice] {
        let sides = self.lines.iter_mut().flat_map(|line| &mut line.sides).chain(&mut self.unused);
        let side = sides.into_iter().find(|side| *side.name == *port);
        side.map_or(&mut [], |side| &mut side.bus.devices)
    }

    /// A simulated device, by its port and its place there.
    #[must_use]
    pub fn device(&self, port: usize, place: usize) -> Option<&SimDevice> {
        let shared = self.site.current();
        let name = &shared.ports.get(port)?.name;
        self.sides().chain(&self.unused).find(|side| *side.name == **name)?.bus.devices.get(place)
    }

    /// Lets everything happen that happens now; says when something happens next.
    fn settle(&mut self) -> Moment {
        *self.clock.lock().unwrap_or_else(PoisonError::into_inner) = self.now;
        // Only who is due or was woken is asked, as the drivers of ports do it.
        loop {
            let mut still = true;
            self.take_changed();
            for line in &mut self.lines {
                if line.woken.swap(false, Relaxed) || line.next <= self.now {
                    line.pass(self.now);
                    still = false;
                }
            }
            if still && (self.waiting.is_none() || self.lines.iter().any(|line| !line.asking.is_idle())) {
                return self.lines.iter().map(|line| line.next).min().unwrap_or(Moment::NEVER);
            }
        }
    }

    /// Lets everything happen that happens now, and goes to the moment at which something happens next, `end` at the latest.
    pub fn step(&mut self, end: Moment) {
        self.now = self.settle().min(end).max(self.now);
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
        self.connect_as(ClientId(0), port)
    }

    /// The same as one client of several.
    #[must_use]
    pub fn connect_as(&self, id: ClientId, port: usize) -> Option<BenchClient> {
        let client = ClientIdentity { id, who: "bench".into(), address: None };
        let session = Session::new(Arc::clone(&self.site), port, client)?;
        Some(BenchClient { session, inbox: Inbox::default() })
    }

    /// Sends bytes over a connection, without waiting for what comes back.
    pub fn say(&self, client: &mut BenchClient, bytes: &[u8]) {
        client.session.handle(self.now, News::Bytes(bytes));
    }

    /// What has come back by now; `None` once the connection was closed.
    pub fn hear(&mut self, client: &mut BenchClient) -> Option<Vec<u8>> {
        let (back, open) = client.pass(self.now);
        (open || !back.is_empty()).then_some(back)
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
        self.say(client, bytes);
        let mut back = vec![];
        loop {
            let (more, open) = client.pass(self.now);
            back.extend(more);
            if !open {
                return None;
            }
            if !client.session.is_waiting() {
                return Some(back);
            }
            let has_ended = self.run_until(600_000_000, |bench| {
                seen(bench);
                client.inbox.has_come()
            });
            if !has_ended {
                return None;
            }
        }
    }
}
