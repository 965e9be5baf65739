//! The thread that owns a port with one other end: a serial line, a connection that we make, a virtual serial port; or those
//! that have a device in common. It runs their machine, `ppoll`s their descriptors and an eventfd, and decides nothing.

use super::opened::{OpenedPort, passed};
use super::tty::OpenFault;
use super::wait::{be_punctual, wait_any, wake, waker, write_all};
use crate::Moment;
use crate::line::{LineAct, Schedule};
use crate::moment::Clock;
use crate::session::{ClientIdentity, LineSession, LineStep, Session};
use crate::shared::{ClientId, Event, Inbox, Shared, Site};
use crate::speak::{News, Side};
use rustix::fd::OwnedFd;
use rustix::io::Errno;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::thread::JoinHandle;

/// How long before a moment the system's wait ends, in microseconds; the rest is spun, so that a silence is met to
/// the microsecond. A system wakes a thread some 50 µs late.
const SPIN: u64 = 60;
/// How often a virtual port that nobody has open is looked at.
const LOOK: u64 = 10_000;

/// A port's thread; dropping it ends the thread.
pub(crate) struct LineThread {
    stop: Arc<AtomicBool>,
    waker: Arc<OwnedFd>,
    thread: Option<JoinHandle<()>>,
}

impl LineThread {
    /// Lets the thread look whether the project has changed.
    pub(crate) fn look(&self) {
        wake(&self.waker);
    }
}

impl Drop for LineThread {
    fn drop(&mut self) {
        self.stop.store(true, Relaxed);
        wake(&self.waker);
        if let Some(thread) = self.thread.take() {
            // A panic there has been printed already.
            let _ = thread.join();
        }
    }
}

/// What a port does.
enum Machine {
    Schedule(Box<Schedule>),
    Session(Box<LineSession>),
}

/// Gives opened ports a thread; `asks` says whether we ask there or others do. Several are those of one schedule.
///
/// # Errors
/// They have no protocol, or the system no thread left.
pub(crate) fn spawn(
    site: &Arc<Site>,
    ports: Vec<OpenedPort>,
    asks: bool,
    clock: Clock,
) -> Result<LineThread, OpenFault> {
    let system = |what: String| OpenFault::new(what, "free memory or descriptors");
    let shared = site.current();
    let no_protocol = || OpenFault::new("the port has no protocol", "add `protocol`");
    let first = ports.first().map(|own| own.port).ok_or_else(no_protocol)?;
    let waker = waker().map_err(|errno| system(format!("no thread: {errno}")))?;
    for queue in ports.iter().filter_map(|own| shared.queues.get(own.port)) {
        let waker = Arc::clone(&waker);
        queue.set_wake(move || wake(&waker));
    }
    let mut machine = if asks {
        Machine::Schedule(Box::new(Schedule::new(Arc::clone(&shared), first).ok_or_else(no_protocol)?))
    } else {
        let name = shared.ports.get(first).map(|port| port.name.clone()).unwrap_or_default();
        // The client of a line is one client, apart from all addresses.
        let client = ClientIdentity { id: ClientId(u64::MAX - first as u64), who: name, address: None };
        let answering = Session::new(Arc::clone(site), first, client).ok_or_else(no_protocol)?;
        let frame_gap = shared.plan.lines.get(first).map_or(0, |line| line.frame_gap);
        Machine::Session(Box::new(LineSession::new(answering, frame_gap)))
    };
    for own in ports.iter().filter(|own| own.open.is_none()) {
        machine.handle(own.port, clock.now(), News::Down);
    }
    let stop = Arc::new(AtomicBool::new(false));
    let driver = Driver {
        generation: site.generation(),
        site: Arc::clone(site),
        shared,
        ports,
        clock,
        machine,
        inbox: Inbox::default(),
        waker: Arc::clone(&waker),
        stop: Arc::clone(&stop),
    };
    let named = std::thread::Builder::new().name(format!("port-{first}"));
    let thread = named.spawn(move || driver.run()).map_err(|error| system(format!("no thread: {error}")))?;
    Ok(LineThread { stop, waker, thread: Some(thread) })
}

impl Machine {
    fn handle(&mut self, port: usize, now: Moment, news: News<'_>) {
        match self {
            Self::Schedule(asking) => asking.handle(port, now, news),
            Self::Session(answering) => answering.handle(now, news),
        }
    }
}

struct Driver {
    machine: Machine,
    site: Arc<Site>,
    generation: u64,
    shared: Arc<Shared>,
    ports: Vec<OpenedPort>,
    clock: Clock,
    inbox: Inbox,
    waker: Arc<OwnedFd>,
    stop: Arc<AtomicBool>,
}

impl Driver {
    fn run(mut self) {
        be_punctual();
        while !self.stop.load(Relaxed) {
            let now = self.clock.now();
            self.reopen(now);
            self.renew();
            let (port, act) = self.poll(now);
            let at = self.ports.iter().position(|own| own.port == port);
            let until = match act {
                LineAct::Send(bytes) => {
                    at.into_iter().for_each(|at| self.send(at, &bytes));
                    continue;
                }
                LineAct::HangUp(why) => {
                    at.into_iter().for_each(|at| self.gone(at, &why));
                    continue;
                }
                LineAct::WaitUntil(moment) => moment,
                LineAct::Rest => Moment::NEVER,
            };
            if self.can_renew() {
                continue;
            }
            let closed = self.ports.iter().filter(|own| own.open.is_none()).map(|own| own.reopen_at);
            let until = closed.fold(until, Moment::min);
            if until.since(now) <= SPIN {
                // The last stretch of a frame_gap: a wake-up of the system would come too late for it.
                while self.clock.now() < until {
                    std::hint::spin_loop();
                }
                continue;
            }
            let early = if until == Moment::NEVER { until } else { until - SPIN };
            self.take(early, now);
        }
    }

    /// Waits until then for what comes, and takes it.
    fn take(&mut self, until: Moment, now: Moment) {
        // Nothing is read while a request is worked on: the other side waits, and no bytes pile up here.
        let open = |own: &&OpenedPort| own.open.is_some() && !self.is_full(own);
        // A virtual port that no program has open reports that for ever, so it is looked at now and then.
        let is_looked_at = self.ports.iter().filter(open).any(|own| !own.is_used);
        let until = if is_looked_at { until.min(now + LOOK) } else { until };
        let waits = self.ports.iter().filter(open).filter(|own| own.is_used);
        let fds: Vec<&OwnedFd> = waits.filter_map(|own| Some(&own.open.as_ref()?.fd)).collect();
        let mut ready = wait_any(&fds, &self.waker, until, now).into_iter();
        let to_read = self.ports.iter().enumerate().filter(|(_, own)| open(own));
        let to_read = to_read.filter(|(_, own)| !own.is_used || ready.next() == Some(true));
        let to_read: Vec<usize> = to_read.map(|(at, _)| at).collect();
        let mut chunk = [0; 1024];
        for at in to_read {
            let Some(own) = self.ports.get_mut(at) else { continue };
            let Some(open) = &own.open else { continue };
            match rustix::io::read(&open.fd, &mut chunk) {
                Ok(0) if open.is_pty => own.is_used = false,
                // An adapter that was pulled, or a peer that has gone, reads as nothing for ever.
                Ok(0) => self.gone(at, "the other end is gone"),
                Ok(count) => {
                    own.is_used = true;
                    self.came(at, chunk.get(..count).unwrap_or_default());
                }
                Err(Errno::AGAIN | Errno::INTR) => own.is_used = true,
                Err(_) if open.is_pty => own.is_used = false,
                Err(errno) => self.gone(at, &errno.to_string()),
            }
        }
    }

    /// Whether a client's request on a stream is in the hands of another port.
    fn is_full(&self, own: &OpenedPort) -> bool {
        match &self.machine {
            Machine::Session(answering) => own.way.is_stream() && answering.is_waiting(),
            Machine::Schedule(_) => false,
        }
    }

    fn came(&mut self, at: usize, bytes: &[u8]) {
        let now = self.clock.now();
        let Some(own) = self.ports.get_mut(at) else { return };
        let bytes = match &mut own.echo {
            Some(echo) => echo.came(bytes),
            None => bytes,
        };
        if !bytes.is_empty() {
            let heard = match self.machine {
                Machine::Schedule(_) => Side::Answers,
                // Others may answer there too.
                Machine::Session(_) => Side::Either,
            };
            passed(&self.shared, &own.name, heard, (now, now), bytes);
            self.machine.handle(own.port, now, News::Bytes(bytes));
        }
    }

    fn send(&mut self, at: usize, bytes: &[u8]) {
        let Some(own) = self.ports.get_mut(at) else { return };
        if let Some(echo) = &mut own.echo {
            echo.sent(bytes);
        }
        let Some(open) = &own.open else { return };
        if self.shared.tap.is_on() {
            let side = match self.machine {
                Machine::Schedule(_) => Side::Asks,
                Machine::Session(_) => Side::Answers,
            };
            let now = self.clock.now();
            let count = u32::try_from(bytes.len()).unwrap_or(u32::MAX);
            let takes = self.shared.plan.lines.get(own.port).map_or(0, |line| line.bytes(count));
            passed(&self.shared, &own.name, side, (now, now + takes), bytes);
        }
        match write_all(&open.fd, bytes) {
            Ok(()) => {}
            // Nobody reads a virtual port: the bytes are lost, as on a wire.
            Err(_) if open.is_pty => {}
            Err(errno) => self.gone(at, &errno.to_string()),
        }
    }

    fn poll(&mut self, now: Moment) -> (usize, LineAct) {
        let first = self.ports.first().map_or(usize::MAX, |own| own.port);
        let answering = match &mut self.machine {
            Machine::Schedule(asking) => return asking.poll(now),
            Machine::Session(answering) => answering,
        };
        loop {
            while let Some((ticket, outcome)) = self.inbox.take() {
                answering.ended(now, ticket, outcome);
            }
            match answering.poll(now) {
                LineStep::Act(act) => return (first, act),
                LineStep::Hand(ticket) => {
                    let waker = Arc::clone(&self.waker);
                    answering.submit(self.inbox.reply(ticket, move || wake(&waker)));
                }
            }
        }
    }

    /// Whether a changed project waits that can be taken now.
    fn can_renew(&self) -> bool {
        let idle = !matches!(&self.machine, Machine::Schedule(asking) if !asking.is_idle());
        idle && self.site.generation() != self.generation
    }

    /// Takes a changed project, between two requests.
    fn renew(&mut self) {
        let generation = self.site.generation();
        if generation == self.generation {
            return;
        }
        if let Machine::Schedule(asking) = &mut self.machine
            && !asking.is_idle()
        {
            return asking.hold(true);
        }
        self.generation = generation;
        let shared = self.site.current();
        // A port that is gone has its thread ended by the reload.
        let place = |own: &OpenedPort| shared.ports.iter().position(|port| port.name == own.name);
        let Some(places) = self.ports.iter().map(place).collect::<Option<Vec<usize>>>() else { return };
        if let (Machine::Schedule(asking), Some(first)) = (&mut self.machine, places.first()) {
            let Some(next) = asking.renewed(Arc::clone(&shared), *first) else { return asking.hold(false) };
            self.machine = Machine::Schedule(Box::new(next));
        }
        self.ports.iter_mut().zip(places).for_each(|(own, place)| own.port = place);
        self.shared = shared;
    }

    fn gone(&mut self, at: usize, why: &str) {
        let Some(own) = self.ports.get_mut(at) else { return };
        let now = self.clock.now();
        own.lost(&self.shared, now, why);
        self.machine.handle(own.port, now, News::Down);
    }

    fn reopen(&mut self, now: Moment) {
        let shares = self.ports.len() > 1;
        for own in &mut self.ports {
            if own.reopens(&self.shared, now, shares, &self.waker) {
                self.machine.handle(own.port, self.clock.now(), News::Up);
                self.shared.tell(Event::PortUp { port: own.port, what: own.way.shown() });
            }
        }
    }
}
