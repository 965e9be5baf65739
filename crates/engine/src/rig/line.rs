//! The thread of a simulated line: a pty whose far end the converter, or any program, opens; or a socket that it dials.

use super::bus::{Bus, BusAct};
use super::talk::Opener;
use crate::Moment;
use crate::moment::Clock;
use crate::port::tty::{self, Pty};
use crate::port::wait::{be_punctual, wait, wait_any, write_all};
use crate::port::worker::{Bell, IdleWorker, Worker};
use rustix::fd::{AsFd, OwnedFd};
use rustix::io::Errno;
use std::net::{Ipv4Addr, SocketAddr, TcpListener};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use woodrush_core::project::{Line, LineFaults};

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
    worker: Worker,
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
                let listener = Some(listener.into());
                (Far::Socket { at, listener, streams: vec![] }, LinePlace::Socket(at))
            }
        };
        let bus = Arc::new(Mutex::new(bus));
        let worker = IdleWorker::new(&format!("rig-{port}"))?;
        let mut driver = RigDriver { bus: Arc::clone(&bus), far, clock, bell: worker.bell() };
        Ok(Self { port, place, bus, worker: worker.begin(move || driver.run()) })
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
        self.worker.ring();
    }
}

/// Our end.
enum Far {
    Pty {
        master: Option<OwnedFd>,
        path: PathBuf,
        line: Line,
    },
    /// While it is closed there is no listener.
    Socket {
        at: SocketAddr,
        listener: Option<OwnedFd>,
        streams: Vec<(Opener, OwnedFd)>,
    },
}

/// A listener there again.
fn listen(at: SocketAddr) -> Option<OwnedFd> {
    let listener = TcpListener::bind(at).ok()?;
    listener.set_nonblocking(true).ok()?;
    Some(listener.into())
}

/// Takes a connection that waits.
fn accept(listener: &OwnedFd) -> Option<OwnedFd> {
    let next = rustix::net::accept(listener).ok()?;
    let _ = rustix::net::sockopt::set_tcp_nodelay(&next, true);
    let flags = rustix::fs::fcntl_getfl(&next).ok()?;
    rustix::fs::fcntl_setfl(&next, flags | rustix::fs::OFlags::NONBLOCK).ok()?;
    Some(next)
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
    bell: Bell,
}

impl RigDriver {
    fn bus(&self) -> MutexGuard<'_, Bus> {
        self.bus.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn run(&mut self) {
        be_punctual();
        match self.far {
            Far::Pty { .. } => self.run_pty(),
            Far::Socket { .. } => self.run_socket(),
        }
    }

    fn run_pty(&mut self) {
        let mut chunk = [0; 1024];
        let mut opened = false;
        while !self.bell.is_ending() {
            let now = self.clock.now();
            let (act, away) = {
                let mut bus = self.bus();
                (bus.poll(Opener::FIRST, now), bus.faults().unplugged)
            };
            let Far::Pty { master, path, line } = &mut self.far else { return };
            // The adapter is taken away, or comes back where it was.
            match master {
                Some(_) if away => *master = None,
                None if !away => *master = same_pty(path),
                _ => {}
            }
            let until = match act {
                BusAct::Deliver(bytes) => {
                    // Nobody there, or nobody who reads: the bytes are lost, as on a wire.
                    let _ = master.as_ref().map(|fd| write_all(fd, &bytes));
                    continue;
                }
                BusAct::WaitUntil(moment) => moment,
                BusAct::Rest => Moment::NEVER,
            };
            match master {
                Some(fd) if opened => {
                    if !wait(Some(&*fd), self.bell.fd(), until, now) {
                        continue;
                    }
                }
                // A pty that nobody has open reports that for ever, so it is looked at now and then.
                _ => drop(wait(None, self.bell.fd(), until.min(now + LOOK), now)),
            }
            let Some(fd) = master.as_ref() else { continue };
            match rustix::io::read(fd, &mut chunk) {
                Ok(0) => opened = false,
                Ok(count) => {
                    opened = true;
                    let opener = tty::opener(fd.as_fd(), *line);
                    let now = self.clock.now();
                    let mut bus = self.bus();
                    bus.opener = Some(opener);
                    bus.handle(Opener::FIRST, now, chunk.get(..count).unwrap_or_default());
                }
                Err(Errno::AGAIN | Errno::INTR) => opened = true,
                // The other end is closed: what waits for it is for nobody.
                Err(_) => {
                    if opened {
                        tty::flush(fd);
                    }
                    opened = false;
                }
            }
        }
    }

    fn run_socket(&mut self) {
        let bus = Arc::clone(&self.bus);
        let bus = || bus.lock().unwrap_or_else(PoisonError::into_inner);
        while !self.bell.is_ending() {
            let now = self.clock.now();
            let Far::Socket { at, listener, streams } = &mut self.far else { return };
            let LineFaults { unplugged, closed, .. } = bus().faults();
            if unplugged || closed {
                streams.drain(..).for_each(|(opener, _)| bus().left(opener));
            }
            let mut until = Moment::NEVER;
            // One who has none open is still looked at: changes of the rig come at their times.
            if streams.is_empty()
                && let BusAct::WaitUntil(moment) = bus().poll(Opener::FIRST, now)
            {
                until = moment;
            }
            streams.retain(|(opener, fd)| {
                loop {
                    let act = bus().poll(*opener, now);
                    match act {
                        BusAct::Deliver(bytes) => {
                            if write_all(fd, &bytes).is_err() {
                                break;
                            }
                        }
                        // What is still to be said has gone first.
                        _ if bus().hung_up(*opener) => break,
                        BusAct::WaitUntil(moment) => {
                            until = until.min(moment);
                            return true;
                        }
                        BusAct::Rest => return true,
                    }
                }
                bus().left(*opener);
                false
            });
            match listener {
                Some(_) if closed => *listener = None,
                // Another program may have the port meanwhile, and leave it again.
                None if !closed => *listener = listen(*at),
                _ => {}
            }
            let retry = if listener.is_none() && !closed { now + 100 * LOOK } else { Moment::NEVER };
            let listens = listener.as_ref().filter(|_| !unplugged);
            let watched: Vec<&OwnedFd> = streams.iter().map(|(_, fd)| fd).chain(listens).collect();
            let ready = wait_any(&watched, self.bell.fd(), until.min(retry), now);
            let now = self.clock.now();
            let count = ready.len() - usize::from(listens.is_some());
            if ready.get(count) == Some(&true)
                && let Some(fd) = listens.and_then(accept)
            {
                // One too many is closed at once.
                if let Some(opener) = bus().connected(now) {
                    streams.push((opener, fd));
                }
            }
            // Behind the streams that were waited for, the listener, and who has just come.
            let mut ready = ready.into_iter().take(count);
            streams.retain(|(opener, fd)| {
                if ready.next() != Some(true) {
                    return true;
                }
                let stays = read(fd, |bytes| bus().handle(*opener, now, bytes));
                if !stays {
                    bus().left(*opener);
                }
                stays
            });
        }
    }
}

/// Reads what is there; whether the other end still is.
fn read(fd: &OwnedFd, mut take: impl FnMut(&[u8])) -> bool {
    let mut chunk = [0; 1024];
    match rustix::io::read(fd, &mut chunk) {
        Ok(0) => false,
        Ok(count) => {
            take(chunk.get(..count).unwrap_or_default());
            true
        }
        Err(errno) => matches!(errno, Errno::AGAIN | Errno::INTR),
    }
}
