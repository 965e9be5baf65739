//! The thread that owns a serial line: `ppoll` on the tty and an eventfd, running the line's state machine.

use super::{rs485, tty};
use crate::Moment;
use crate::line::{Asking, LineAct};
use crate::moment::Clock;
use crate::shared::{Event, Shared};
use crate::speak::News;
use rustix::event::{EventfdFlags, PollFd, PollFlags, Timespec, eventfd, poll};
use rustix::fd::{AsFd, OwnedFd};
use rustix::io::Errno;
use std::num::NonZero;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::thread::JoinHandle;
use woodrush_core::project::Line;

/// How long before a moment the system's wait ends, in microseconds; the rest is spun, so that a silence is met to
/// the microsecond. A system wakes a thread some 50 µs late.
const SPIN: u64 = 60;
/// How often a line that went away is tried again.
const REOPEN: u64 = 1_000_000;

/// Waits for bytes or the eventfd, at most until `until`; says whether bytes (or the line's end) are there.
pub(crate) fn wait(fd: Option<&OwnedFd>, wake: &OwnedFd, until: Moment, now: Moment) -> bool {
    let micros = until.since(now);
    let timeout = (until != Moment::NEVER).then(|| Timespec {
        tv_sec: i64::try_from(micros / 1_000_000).unwrap_or(i64::MAX),
        tv_nsec: i64::try_from(micros % 1_000_000 * 1000).unwrap_or(0),
    });
    let mut fds = vec![PollFd::new(wake, PollFlags::IN)];
    fds.extend(fd.map(|fd| PollFd::new(fd, PollFlags::IN)));
    // A signal ends the wait early, which changes nothing.
    let _ = poll(&mut fds, timeout.as_ref());
    if fds.first().is_some_and(|fd| fd.revents().contains(PollFlags::IN)) {
        let _ = rustix::io::read(wake, &mut [0u8; 8]);
    }
    fds.get(1).is_some_and(|fd| !fd.revents().is_empty())
}

/// A new eventfd for [`wait`].
pub(crate) fn waker() -> Result<Arc<OwnedFd>, Errno> {
    Ok(Arc::new(eventfd(0, EventfdFlags::NONBLOCK | EventfdFlags::CLOEXEC)?))
}

/// Ends a [`wait`] now.
pub(crate) fn wake(waker: &OwnedFd) {
    // A full counter wakes just as well.
    let _ = rustix::io::write(waker, &1u64.to_ne_bytes());
}

/// Takes the timer slack from this thread: it would add 50 µs to every silence.
pub(crate) fn be_punctual() {
    let _ = rustix::thread::set_current_timer_slack(NonZero::new(1));
}

/// Writes all bytes to a non-blocking descriptor.
///
/// # Errors
/// The other end is gone.
pub(crate) fn write_all(fd: &OwnedFd, mut bytes: &[u8]) -> Result<(), Errno> {
    while !bytes.is_empty() {
        match rustix::io::write(fd, bytes) {
            Ok(count) => bytes = bytes.get(count..).unwrap_or_default(),
            Err(Errno::AGAIN) => {
                let mut fds = [PollFd::new(fd, PollFlags::OUT)];
                let patience = Timespec { tv_sec: 1, tv_nsec: 0 };
                if poll(&mut fds, Some(&patience)).unwrap_or(0) == 0 {
                    return Err(Errno::TIMEDOUT);
                }
            }
            Err(Errno::INTR) => {}
            Err(errno) => return Err(errno),
        }
    }
    Ok(())
}

/// A line's thread; dropping it ends the thread.
pub(crate) struct LineThread {
    stop: Arc<AtomicBool>,
    waker: Arc<OwnedFd>,
    thread: Option<JoinHandle<()>>,
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

/// Opens a port's line and gives it a thread.
///
/// # Errors
/// The line cannot be opened.
pub(crate) fn spawn_line(
    shared: &Arc<Shared>,
    port: usize,
    path: PathBuf,
    line: Line,
    two_wires: bool,
    clock: Clock,
) -> Result<LineThread, tty::OpenFault> {
    let system = |errno: Errno| tty::OpenFault {
        what: format!("no thread for {}: {errno}", path.display()),
        mend: "free memory or descriptors".into(),
    };
    let fd = tty::open_line(&path, line)?;
    if two_wires {
        rs485::drive_direction(fd.as_fd());
    }
    shared.tell(Event::PortUp { port, what: path.display().to_string() });
    let waker = waker().map_err(system)?;
    let stop = Arc::new(AtomicBool::new(false));
    if let Some(queue) = shared.queues.get(port) {
        let waker = Arc::clone(&waker);
        queue.set_wake(move || wake(&waker));
    }
    let Some(asking) = Asking::new(Arc::clone(shared), port) else {
        return Err(tty::OpenFault {
            what: "the port has no protocol".into(),
            mend: "add `protocol`".into(),
        });
    };
    let mut driver = Driver {
        asking,
        shared: Arc::clone(shared),
        port,
        path,
        line,
        two_wires,
        clock,
        fd: Some(fd),
        waker: Arc::clone(&waker),
        stop: Arc::clone(&stop),
    };
    let named = std::thread::Builder::new().name(format!("line-{port}"));
    let thread = named.spawn(move || driver.run()).map_err(|error| tty::OpenFault {
        what: format!("no thread for the line: {error}"),
        mend: "free memory or raise the limit of threads".into(),
    })?;
    Ok(LineThread { stop, waker, thread: Some(thread) })
}

struct Driver {
    asking: Asking,
    shared: Arc<Shared>,
    port: usize,
    path: PathBuf,
    line: Line,
    two_wires: bool,
    clock: Clock,
    fd: Option<OwnedFd>,
    waker: Arc<OwnedFd>,
    stop: Arc<AtomicBool>,
}

impl Driver {
    fn run(&mut self) {
        be_punctual();
        let mut chunk = [0; 1024];
        let mut reopen_at = Moment::NEVER;
        while !self.stop.load(Relaxed) {
            let now = self.clock.now();
            if self.fd.is_none() && now >= reopen_at {
                reopen_at = now + REOPEN;
                self.reopen();
            }
            let until = match self.asking.poll(now) {
                LineAct::Send(bytes) => {
                    let sent = self.fd.as_ref().map(|fd| write_all(fd, &bytes));
                    if let Some(Err(errno)) = sent {
                        self.gone(&errno.to_string());
                        reopen_at = now + REOPEN;
                    }
                    continue;
                }
                LineAct::WaitUntil(moment) => moment,
                LineAct::Rest => Moment::NEVER,
            };
            let until = if self.fd.is_none() { until.min(reopen_at) } else { until };
            if until.since(now) <= SPIN {
                // The last stretch of a silence: a wake-up of the system would come too late for it.
                while self.clock.now() < until {
                    std::hint::spin_loop();
                }
                continue;
            }
            let early = if until == Moment::NEVER { until } else { until - SPIN };
            let readable = wait(self.fd.as_ref(), &self.waker, early, now);
            let Some(fd) = &self.fd else { continue };
            if !readable {
                continue;
            }
            match rustix::io::read(fd, &mut chunk) {
                // An adapter that was pulled reads as nothing for ever.
                Ok(0) => {
                    self.gone("the adapter is gone");
                    reopen_at = now + REOPEN;
                }
                Ok(count) => {
                    let now = self.clock.now();
                    self.asking.handle(now, News::Bytes(chunk.get(..count).unwrap_or_default()));
                }
                Err(Errno::AGAIN | Errno::INTR) => {}
                Err(errno) => {
                    self.gone(&errno.to_string());
                    reopen_at = now + REOPEN;
                }
            }
        }
    }

    fn gone(&mut self, why: &str) {
        self.fd = None;
        self.asking.handle(self.clock.now(), News::Down);
        self.shared.tell(Event::PortDown { port: self.port, why: format!("{}: {why}", self.path.display()) });
    }

    fn reopen(&mut self) {
        if let Ok(fd) = tty::open_line(&self.path, self.line) {
            if self.two_wires {
                rs485::drive_direction(fd.as_fd());
            }
            self.fd = Some(fd);
            self.asking.handle(self.clock.now(), News::Up);
            self.shared.tell(Event::PortUp { port: self.port, what: self.path.display().to_string() });
        }
    }
}
