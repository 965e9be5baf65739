//! The thread that owns a port with one other end: a serial line, a connection that we make, a virtual serial port; or those
//! that have a device in common. It runs their machine, `ppoll`s their descriptors and an eventfd, and decides nothing.

use super::opened::{OpenedPort, passed};
use super::wait::{be_punctual, wait_any, write_all};
use crate::Moment;
use crate::line::{LineAct, Schedule};
use crate::moment::Clock;
use crate::port::worker::{Bell, IdleWorker, Worker};
use crate::session::{ClientIdentity, LineSession, LineStep, Session};
use crate::shared::{ClientId, Event, Inbox, Shared, Site};
use crate::speak::{News, Side, speaker};
use rustix::fd::OwnedFd;
use rustix::io::Errno;
use std::sync::Arc;

/// How long before a moment the system's wait ends, in microseconds; the rest is spun, so that a silence is met to
/// the microsecond. A system wakes a thread some 50 µs late.
const SPIN: u64 = 60;
/// How often a virtual port that nobody has open is looked at.
const LOOK: u64 = 10_000;

/// What a port does.
enum Machine {
    Schedule(Box<Schedule>),
    Session(Box<LineSession>),
}

/// Whether a port can be driven: whether its protocol can be spoken there.
#[must_use]
pub(crate) fn can_drive(shared: &Shared, port: usize, asks: bool) -> bool {
    let speaker = shared.ports.get(port).and_then(|port| speaker(port.protocol));
    let answers = shared.answers.get(port).is_some_and(Option::is_some);
    speaker.is_some_and(
        |speaker| if asks { speaker.client.is_some() } else { answers && speaker.server.is_some() },
    )
}

/// Gives ports to a thread; `asks` says whether we ask there or others do. Several are those of one schedule. Nothing where
/// it [cannot drive](can_drive) them.
pub(crate) fn drive(
    worker: IdleWorker,
    site: &Arc<Site>,
    ports: Vec<OpenedPort>,
    asks: bool,
    clock: Clock,
) -> Option<Worker> {
    let (generation, shared) = (site.generation(), site.current());
    let first = ports.first()?.port;
    for queue in ports.iter().filter_map(|own| shared.queues.get(own.port)) {
        let bell = worker.bell();
        queue.set_wake(move || bell.ring());
    }
    let mut machine = if asks {
        Machine::Schedule(Box::new(Schedule::new(site, first)?))
    } else {
        let name = shared.ports.get(first).map(|port| port.name.clone()).unwrap_or_default();
        // The client of a line is one client, apart from all addresses.
        let client = ClientIdentity { id: ClientId(u64::MAX - first as u64), who: name, address: None };
        let answering = Session::new(Arc::clone(site), first, client)?;
        Machine::Session(Box::new(LineSession::new(answering)))
    };
    for own in ports.iter().filter(|own| own.open.is_none()) {
        machine.handle(&own.name, clock.now(), News::Down);
    }
    let driver = Driver {
        generation,
        site: Arc::clone(site),
        shared,
        ports,
        clock,
        machine,
        inbox: Inbox::default(),
        bell: worker.bell(),
    };
    Some(worker.begin(move || driver.run()))
}

impl Machine {
    fn handle(&mut self, port: &str, now: Moment, news: News<'_>) {
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
    bell: Bell,
}

impl Driver {
    fn run(mut self) {
        be_punctual();
        while !self.bell.is_ending() {
            let now = self.clock.now();
            self.reopen(now);
            if self.ports.iter().any(OpenedPort::is_untried) {
                wait_any(&[], self.bell.fd(), now + LOOK, now);
                continue;
            }
            self.follow();
            let (at, act) = self.poll(now);
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
        let mut ready = wait_any(&fds, self.bell.fd(), until, now).into_iter();
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
            self.machine.handle(&own.name, now, News::Bytes(bytes));
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

    /// What to do, and at which of the ports.
    fn poll(&mut self, now: Moment) -> (Option<usize>, LineAct) {
        let answering = match &mut self.machine {
            Machine::Schedule(asking) => {
                let (port, act) = asking.poll(now);
                return (self.ports.iter().position(|own| own.name == *port), act);
            }
            Machine::Session(answering) => answering,
        };
        loop {
            while let Some((ticket, outcome)) = self.inbox.take() {
                answering.ended(now, ticket, outcome);
            }
            match answering.poll(now) {
                LineStep::Act(act) => return (Some(0), act),
                LineStep::Hand(ticket) => {
                    let bell = self.bell.clone();
                    answering.submit(self.inbox.reply(ticket, move || bell.ring()));
                }
            }
        }
    }

    /// Takes the project that runs now, if that has changed: what its machine does by itself, the driver does for what it
    /// tells and counts.
    fn follow(&mut self) {
        let generation = self.site.generation();
        if generation == self.generation {
            return;
        }
        let shared = self.site.current();
        // A port that is gone has its thread ended by the reload.
        let place = |own: &OpenedPort| shared.ports.iter().position(|port| port.name == own.name);
        let Some(places) = self.ports.iter().map(place).collect::<Option<Vec<usize>>>() else { return };
        self.ports.iter_mut().zip(places).for_each(|(own, place)| own.port = place);
        (self.generation, self.shared) = (generation, shared);
    }

    fn gone(&mut self, at: usize, why: &str) {
        let Some(own) = self.ports.get_mut(at) else { return };
        let now = self.clock.now();
        own.lost(&self.shared, now, why);
        self.machine.handle(&own.name, now, News::Down);
    }

    fn reopen(&mut self, now: Moment) {
        for own in &mut self.ports {
            if own.reopens(&self.shared, now, &self.bell) {
                self.machine.handle(&own.name, self.clock.now(), News::Up);
                self.shared.tell(Event::PortUp { port: own.port, what: own.way.shown() });
            }
        }
    }
}
