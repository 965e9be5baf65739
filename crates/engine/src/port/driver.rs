//! The thread that owns a port with one other end: a serial line, a connection that we make, a virtual serial port. It
//! runs the port's machine, `ppoll`s its descriptor and an eventfd, and decides nothing.

use super::echo::Unecho;
use super::tty::OpenFault;
use super::wait::{be_punctual, wait, wake, waker, write_all};
use super::way::{Open, Way};
use crate::Moment;
use crate::hub::Chunk;
use crate::line::{LineAct, Schedule};
use crate::moment::Clock;
use crate::session::{ClientIdentity, Handed, LineSession, LineStep, Session};
use crate::shared::{ClientId, Event, Shared, Site};
use crate::speak::{News, Side};
use rustix::fd::OwnedFd;
use rustix::io::Errno;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use woodrush_core::Refusal;

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

/// How something that was handed over has ended, on its way back to the port's thread.
type Slot = Arc<Mutex<Option<Result<Vec<u8>, Refusal>>>>;

/// What a port does.
enum Machine {
    Schedule(Box<Schedule>),
    Session(Box<LineSession>),
}

/// What a port begins with.
pub(crate) enum Begin {
    /// It was opened before.
    Opened(Open),
    /// It is opened now; where it must be and cannot, it does not begin.
    Open,
    /// It is opened now, and where what it leads to is missing, later.
    OpenLater,
    /// It is opened now or later, whatever is in the way.
    Whenever,
}

/// Opens a port and gives it a thread; `asks` says whether we ask there or others do.
///
/// # Errors
/// It cannot be opened, or has no protocol.
pub(crate) fn spawn(
    site: &Arc<Site>,
    port: usize,
    (way, begin): (Way, Begin),
    asks: bool,
    clock: Clock,
) -> Result<LineThread, OpenFault> {
    let system = |what: String| OpenFault::new(what, "free memory or descriptors");
    let shared = site.current();
    let may_wait = |fault: &OpenFault| match begin {
        Begin::OpenLater => !way.must_open() || fault.missing,
        Begin::Whenever => true,
        Begin::Open | Begin::Opened(_) => !way.must_open(),
    };
    let opened = match &begin {
        Begin::Opened(_) => None,
        _ => Some(way.open()),
    };
    let open = match opened {
        Some(Ok(open)) => Some(open),
        Some(Err(fault)) if may_wait(&fault) => {
            let why = if way.must_open() { format!("{} ({})", fault.what, fault.fix) } else { fault.what };
            shared.tell(Event::PortDown { port, why });
            None
        }
        Some(Err(fault)) => return Err(fault),
        None => match begin {
            Begin::Opened(open) => Some(open),
            _ => None,
        },
    };
    if open.is_some() {
        shared.tell(Event::PortUp { port, what: way.shown() });
    }
    let waker = waker().map_err(|errno| system(format!("no thread for {}: {errno}", way.shown())))?;
    if let Some(queue) = shared.queues.get(port) {
        let waker = Arc::clone(&waker);
        queue.set_wake(move || wake(&waker));
    }
    let no_protocol = || OpenFault::new("the port has no protocol", "add `protocol`");
    let mut machine = if asks {
        Machine::Schedule(Box::new(Schedule::new(Arc::clone(&shared), port).ok_or_else(no_protocol)?))
    } else {
        let name = shared.ports.get(port).map(|port| port.name.clone()).unwrap_or_default();
        // The client of a line is one client, apart from all addresses.
        let client = ClientIdentity { id: ClientId(u64::MAX - port as u64), who: name, address: None };
        let answering = Session::new(Arc::clone(site), port, client).ok_or_else(no_protocol)?;
        let frame_gap = shared.plan.lines.get(port).map_or(0, |line| line.frame_gap);
        Machine::Session(Box::new(LineSession::new(answering, frame_gap)))
    };
    if open.is_none() {
        machine.handle(clock.now(), News::Down);
    }
    let stop = Arc::new(AtomicBool::new(false));
    let settings = shared.ports.get(port);
    let again = if open.is_some() { 0 } else { way.again(0) };
    let driver = Driver {
        reopen_at: if open.is_some() { Moment::NEVER } else { clock.now() + again },
        again,
        name: settings.map(|port| port.name.clone()).unwrap_or_default(),
        echo: settings.is_some_and(|port| port.echo).then(Unecho::default),
        generation: site.generation(),
        site: Arc::clone(site),
        shared,
        port,
        way,
        clock,
        open,
        machine,
        slot: Slot::default(),
        waker: Arc::clone(&waker),
        stop: Arc::clone(&stop),
    };
    driver.mark(driver.open.is_some());
    let named = std::thread::Builder::new().name(format!("port-{port}"));
    let thread = named.spawn(move || driver.run()).map_err(|error| system(format!("no thread: {error}")))?;
    Ok(LineThread { stop, waker, thread: Some(thread) })
}

/// Leaves what has passed for those who look on.
fn passed(shared: &Shared, port: &str, side: Side, (began, ended): (Moment, Moment), bytes: &[u8]) {
    shared.tap.passed(port, began, || Chunk {
        port: port.into(),
        who: None,
        side,
        began,
        ended,
        bytes: bytes.to_vec(),
    });
}

impl Machine {
    fn handle(&mut self, now: Moment, news: News<'_>) {
        match self {
            Self::Schedule(asking) => asking.handle(now, news),
            Self::Session(answering) => answering.handle(now, news),
        }
    }
}

struct Driver {
    machine: Machine,
    site: Arc<Site>,
    generation: u64,
    shared: Arc<Shared>,
    port: usize,
    name: String,
    way: Way,
    echo: Option<Unecho>,
    clock: Clock,
    open: Option<Open>,
    reopen_at: Moment,
    again: u64,
    slot: Slot,
    waker: Arc<OwnedFd>,
    stop: Arc<AtomicBool>,
}

impl Driver {
    fn run(mut self) {
        be_punctual();
        let mut chunk = [0; 1024];
        // A program has the other end of a virtual port open.
        let mut opened = !matches!(self.way, Way::Pty { .. });
        while !self.stop.load(Relaxed) {
            let now = self.clock.now();
            if self.open.is_none() && now >= self.reopen_at {
                self.reopen();
            }
            self.renew();
            let until = match self.poll(now) {
                LineAct::Send(bytes) => {
                    self.send(&bytes);
                    continue;
                }
                LineAct::HangUp(why) => {
                    self.gone(&why);
                    continue;
                }
                LineAct::WaitUntil(moment) => moment,
                LineAct::Rest => Moment::NEVER,
            };
            let until = if self.open.is_none() { until.min(self.reopen_at) } else { until };
            if until.since(now) <= SPIN {
                // The last stretch of a frame_gap: a wake-up of the system would come too late for it.
                while self.clock.now() < until {
                    std::hint::spin_loop();
                }
                continue;
            }
            let early = if until == Moment::NEVER { until } else { until - SPIN };
            let Some(open) = &self.open else {
                wait(None, &self.waker, early, now);
                continue;
            };
            if self.is_full() {
                // Nothing is read while a request is worked on: the other side waits, and no bytes pile up here.
                wait(None, &self.waker, early, now);
                continue;
            }
            if !opened {
                // Nobody has it open: that is reported for ever, so it is looked at now and then.
                wait(None, &self.waker, early.min(now + LOOK), now);
            } else if !wait(Some(&open.fd), &self.waker, early, now) {
                continue;
            }
            match rustix::io::read(&open.fd, &mut chunk) {
                Ok(0) if open.is_pty => opened = false,
                // An adapter that was pulled, or a peer that has gone, reads as nothing for ever.
                Ok(0) => self.gone("the other end is gone"),
                Ok(count) => {
                    opened = true;
                    self.came(chunk.get(..count).unwrap_or_default());
                }
                Err(Errno::AGAIN | Errno::INTR) => opened = true,
                Err(_) if open.is_pty => opened = false,
                Err(errno) => self.gone(&errno.to_string()),
            }
        }
    }

    /// Whether a client's request on a stream is in the hands of another port.
    fn is_full(&self) -> bool {
        match &self.machine {
            Machine::Session(answering) => self.way.is_stream() && answering.is_waiting(),
            Machine::Schedule(_) => false,
        }
    }

    fn came(&mut self, bytes: &[u8]) {
        let now = self.clock.now();
        let bytes = match &mut self.echo {
            Some(echo) => echo.came(bytes),
            None => bytes,
        };
        if !bytes.is_empty() {
            let heard = match self.machine {
                Machine::Schedule(_) => Side::Answers,
                // Others may answer there too.
                Machine::Session(_) => Side::Either,
            };
            passed(&self.shared, &self.name, heard, (now, now), bytes);
            self.machine.handle(now, News::Bytes(bytes));
        }
    }

    fn send(&mut self, bytes: &[u8]) {
        if let Some(echo) = &mut self.echo {
            echo.sent(bytes);
        }
        let Some(open) = &self.open else { return };
        if self.shared.tap.is_on() {
            let side = match self.machine {
                Machine::Schedule(_) => Side::Asks,
                Machine::Session(_) => Side::Answers,
            };
            let now = self.clock.now();
            let count = u32::try_from(bytes.len()).unwrap_or(u32::MAX);
            let takes = self.shared.plan.lines.get(self.port).map_or(0, |line| line.bytes(count));
            passed(&self.shared, &self.name, side, (now, now + takes), bytes);
        }
        match write_all(&open.fd, bytes) {
            Ok(()) => {}
            // Nobody reads a virtual port: the bytes are lost, as on a wire.
            Err(_) if open.is_pty => {}
            Err(errno) => self.gone(&errno.to_string()),
        }
    }

    fn poll(&mut self, now: Moment) -> LineAct {
        let answering = match &mut self.machine {
            Machine::Schedule(asking) => return asking.poll(now),
            Machine::Session(answering) => answering,
        };
        loop {
            let ended = self.slot.lock().unwrap_or_else(PoisonError::into_inner).take();
            if let Some(result) = ended {
                answering.ended(now, result);
            }
            match answering.poll(now) {
                LineStep::Act(act) => return act,
                LineStep::Hand(handed) => Self::hand(answering, *handed, &self.slot, &self.waker),
            }
        }
    }

    fn hand(answering: &LineSession, handed: Handed, slot: &Slot, waker: &Arc<OwnedFd>) {
        let (slot, waker) = (Arc::clone(slot), Arc::clone(waker));
        answering.submit(
            handed,
            Box::new(move |result| {
                *slot.lock().unwrap_or_else(PoisonError::into_inner) = Some(result);
                wake(&waker);
            }),
        );
    }

    /// Takes a changed project, between two requests.
    fn renew(&mut self) {
        let generation = self.site.generation();
        if generation == self.generation {
            return;
        }
        if let Machine::Schedule(asking) = &mut self.machine {
            if !asking.is_idle() {
                return;
            }
            let shared = self.site.current();
            // A port that is gone has its thread ended by the reload.
            let Some(port) = shared.ports.iter().position(|port| port.name == self.name) else { return };
            let Some(next) = asking.renewed(Arc::clone(&shared), port) else { return };
            self.machine = Machine::Schedule(Box::new(next));
            (self.shared, self.port) = (shared, port);
        } else {
            let shared = self.site.current();
            if let Some(port) = shared.ports.iter().position(|port| port.name == self.name) {
                (self.shared, self.port) = (shared, port);
            }
        }
        self.generation = generation;
    }

    fn mark(&self, up: bool) {
        if let Some(port) = self.shared.health.ports.get(self.port) {
            port.up.store(up, Relaxed);
        }
    }

    fn gone(&mut self, why: &str) {
        self.open = None;
        self.again = self.way.again(0);
        self.reopen_at = self.clock.now() + self.again;
        self.mark(false);
        let now = self.clock.now();
        passed(&self.shared, &self.name, Side::Either, (now, now), &[]);
        self.machine.handle(now, News::Down);
        let why = format!("{}: {why}", self.way.shown());
        self.shared.tell(Event::PortDown { port: self.port, why });
    }

    fn reopen(&mut self) {
        match self.way.open() {
            Ok(open) => {
                self.open = Some(open);
                self.reopen_at = Moment::NEVER;
                self.again = 0;
                self.mark(true);
                self.machine.handle(self.clock.now(), News::Up);
                self.shared.tell(Event::PortUp { port: self.port, what: self.way.shown() });
            }
            Err(_) => {
                self.again = self.way.again(self.again);
                self.reopen_at = self.clock.now() + self.again;
            }
        }
    }
}
