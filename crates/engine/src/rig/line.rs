//! The thread of a simulated line: a pty whose far end the converter, or any program, opens; or a socket that it dials.

use super::bus::{Bus, BusAct};
use crate::Moment;
use crate::moment::Clock;
use crate::port::tty::{self, Pty};
use crate::port::wait::{be_punctual, wait, wake, waker, write_all};
use rustix::fd::{AsFd, OwnedFd};
use rustix::io::Errno;
use std::net::{Ipv4Addr, SocketAddr, TcpListener};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use woodrush_core::project::Line;

/// How often an unopened pty is looked at.
const LOOK: u64 = 10_000;
/// Ptys that are made to get the number back that an unplugged one had.
const TRIES: usize = 16;

/// Where the converter finds a simulated line.
#[derive(Debug, Clone)]
pub(super) enum LinePlace {
    Path(PathBuf),
    Socket(SocketAddr),
}

/// A simulated line at work; dropping it removes the pty.
pub(super) struct RigLine {
    /// Index of the port.
    pub(super) port: usize,
    /// What the converter opens or dials.
    pub(super) place: LinePlace,
    bus: Arc<Mutex<Bus>>,
    stop: Arc<AtomicBool>,
    waker: Arc<OwnedFd>,
    thread: Option<JoinHandle<()>>,
}

impl RigLine {
    /// A pty with the line's settings, or without any a socket.
    pub(super) fn spawn(port: usize, bus: Bus, line: Option<Line>, clock: Clock) -> std::io::Result<Self> {
        let (far, place) = match line {
            Some(line) => {
                let Pty { master, path } = tty::make_pty()?;
                (Far::Pty { master: Some(master), path: path.clone(), line }, LinePlace::Path(path))
            }
            None => {
                let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?;
                listener.set_nonblocking(true)?;
                let at = listener.local_addr()?;
                (Far::Socket { listener: listener.into(), stream: None }, LinePlace::Socket(at))
            }
        };
        let bus = Arc::new(Mutex::new(bus));
        let (stop, waker) = (Arc::new(AtomicBool::new(false)), waker()?);
        let mut driver = RigDriver {
            bus: Arc::clone(&bus),
            far,
            clock,
            stop: Arc::clone(&stop),
            waker: Arc::clone(&waker),
        };
        let named = std::thread::Builder::new().name(format!("rig-{port}"));
        let thread = named.spawn(move || driver.run())?;
        Ok(Self { port, place, bus, stop, waker, thread: Some(thread) })
    }

    /// The path, where it is a pty.
    pub(super) fn path(&self) -> Option<&Path> {
        if let LinePlace::Path(path) = &self.place { Some(path) } else { None }
    }

    /// The line, to look at or to change; after dropping the guard wake the thread by [`RigLine::changed`].
    pub(super) fn bus(&self) -> MutexGuard<'_, Bus> {
        self.bus.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Lets the thread look at the line anew.
    pub(super) fn changed(&self) {
        wake(&self.waker);
    }
}

impl Drop for RigLine {
    fn drop(&mut self) {
        self.stop.store(true, Relaxed);
        wake(&self.waker);
        if let Some(thread) = self.thread.take() {
            // A panic there has been printed already.
            let _ = thread.join();
        }
    }
}

/// Our end.
enum Far {
    Pty { master: Option<OwnedFd>, path: PathBuf, line: Line },
    Socket { listener: OwnedFd, stream: Option<OwnedFd> },
}

impl Far {
    /// Takes the end away, or brings it back where it was.
    fn plug(&mut self, away: bool) {
        match self {
            Self::Pty { master, .. } if away => *master = None,
            Self::Pty { master: master @ None, path, .. } => *master = same_pty(path),
            Self::Pty { .. } => {}
            Self::Socket { stream, .. } if away => *stream = None,
            Self::Socket { .. } => {}
        }
    }

    fn fd(&self) -> Option<&OwnedFd> {
        match self {
            Self::Pty { master, .. } => master.as_ref(),
            Self::Socket { stream, .. } => stream.as_ref(),
        }
    }

    /// Takes a connection that waits; a new one takes the place of an older one.
    fn accept(&mut self) {
        let Self::Socket { listener, stream, .. } = self else { return };
        if let Ok(next) = rustix::net::accept(&*listener) {
            let _ = rustix::net::sockopt::set_tcp_nodelay(&next, true);
            let nonblocking = rustix::fs::fcntl_getfl(&next)
                .and_then(|flags| rustix::fs::fcntl_setfl(&next, flags | rustix::fs::OFlags::NONBLOCK));
            if nonblocking.is_ok() {
                *stream = Some(next);
            }
        }
    }
}

/// A pty under the number that another one had: the lowest free one is given out first.
fn same_pty(path: &Path) -> Option<OwnedFd> {
    let mut others = vec![];
    for _ in 0..TRIES {
        let pty = tty::make_pty().ok()?;
        if pty.path == path {
            return Some(pty.master);
        }
        others.push(pty);
    }
    None
}

struct RigDriver {
    bus: Arc<Mutex<Bus>>,
    far: Far,
    clock: Clock,
    stop: Arc<AtomicBool>,
    waker: Arc<OwnedFd>,
}

impl RigDriver {
    fn bus(&self) -> MutexGuard<'_, Bus> {
        self.bus.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn run(&mut self) {
        be_punctual();
        let mut chunk = [0; 1024];
        let mut opened = false;
        while !self.stop.load(Relaxed) {
            let now = self.clock.now();
            let (act, away, hung_up) = {
                let mut bus = self.bus();
                let act = bus.poll(now);
                // What is still to be said goes first.
                let hung_up = !matches!(act, BusAct::Deliver(_)) && std::mem::take(&mut bus.hung_up);
                (act, bus.faults().unplugged, hung_up)
            };
            if let (true, Far::Socket { stream, .. }) = (hung_up, &mut self.far) {
                *stream = None;
            }
            self.far.plug(away);
            let until = match act {
                BusAct::Deliver(bytes) => {
                    // Nobody there, or nobody who reads: the bytes are lost, as on a wire.
                    let _ = self.far.fd().map(|fd| write_all(fd, &bytes));
                    continue;
                }
                BusAct::WaitUntil(moment) => moment,
                BusAct::Rest => Moment::NEVER,
            };
            if let Far::Socket { listener, stream, .. } = &self.far {
                let watched = stream.as_ref().or((!away).then_some(listener));
                let accepts = stream.is_none() && !away;
                // A peer that has connected anew waits at the listener, which is looked at now and then.
                let until = if stream.is_some() { until.min(now + 100 * LOOK) } else { until };
                let ready = wait(watched, &self.waker, until, now);
                if accepts && ready {
                    self.far.accept();
                    let now = self.clock.now();
                    self.bus().connected(now);
                    opened = true;
                    continue;
                }
                if !ready {
                    continue;
                }
            } else if !opened || self.far.fd().is_none() {
                // A pty that nobody has open reports that for ever, so it is looked at now and then.
                wait(None, &self.waker, until.min(now + LOOK), now);
            } else if !wait(self.far.fd(), &self.waker, until, now) {
                continue;
            }
            let Some(fd) = self.far.fd() else { continue };
            match rustix::io::read(fd, &mut chunk) {
                Ok(0) => {
                    opened = false;
                    if let Far::Socket { stream, .. } = &mut self.far {
                        *stream = None;
                    }
                }
                Ok(count) => {
                    opened = true;
                    let opener = match &self.far {
                        Far::Pty { line, .. } => Some(tty::opener(fd.as_fd(), *line)),
                        Far::Socket { .. } => None,
                    };
                    let now = self.clock.now();
                    let mut bus = self.bus();
                    bus.opener = opener;
                    bus.handle(now, chunk.get(..count).unwrap_or_default());
                }
                Err(Errno::AGAIN | Errno::INTR) => opened = true,
                // The other end is closed: what waits for it is for nobody.
                Err(_) => {
                    match &mut self.far {
                        Far::Pty { master: Some(master), .. } if opened => tty::flush(master),
                        Far::Socket { stream, .. } => *stream = None,
                        Far::Pty { .. } => {}
                    }
                    opened = false;
                }
            }
        }
    }
}
