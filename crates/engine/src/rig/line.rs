//! The thread of a simulated line: a pty whose far end the converter, or any program, opens.

use super::bus::{Bus, BusAct};
use crate::Moment;
use crate::moment::Clock;
use crate::port::serial::{be_punctual, wait, wake, waker, write_all};
use crate::port::tty::{self, Pty};
use rustix::fd::{AsFd, OwnedFd};
use rustix::io::Errno;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use woodrush_core::project::Line;

/// How often an unopened pty is looked at.
const LOOK: u64 = 10_000;

/// A simulated line at work; dropping it removes the pty.
pub(super) struct RigLine {
    /// Index of the port.
    pub(super) port: usize,
    /// What the converter opens.
    pub(super) path: PathBuf,
    bus: Arc<Mutex<Bus>>,
    stop: Arc<AtomicBool>,
    waker: Arc<OwnedFd>,
    thread: Option<JoinHandle<()>>,
}

impl RigLine {
    pub(super) fn spawn(port: usize, bus: Bus, line: Line, clock: Clock) -> Result<Self, Errno> {
        let Pty { master, path } = tty::make_pty()?;
        let bus = Arc::new(Mutex::new(bus));
        let (stop, waker) = (Arc::new(AtomicBool::new(false)), waker()?);
        let driver = Driver {
            bus: Arc::clone(&bus),
            master,
            line,
            clock,
            stop: Arc::clone(&stop),
            waker: Arc::clone(&waker),
        };
        let named = std::thread::Builder::new().name(format!("rig-{port}"));
        let thread = named.spawn(move || driver.run()).map_err(|_| Errno::AGAIN)?;
        Ok(Self { port, path, bus, stop, waker, thread: Some(thread) })
    }

    /// The line, to look at or to change; whoever drops the guard wakes the thread by [`RigLine::changed`].
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

struct Driver {
    bus: Arc<Mutex<Bus>>,
    master: OwnedFd,
    line: Line,
    clock: Clock,
    stop: Arc<AtomicBool>,
    waker: Arc<OwnedFd>,
}

impl Driver {
    fn bus(&self) -> MutexGuard<'_, Bus> {
        self.bus.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn run(&self) {
        be_punctual();
        let mut chunk = [0; 1024];
        let mut opened = false;
        while !self.stop.load(Relaxed) {
            let now = self.clock.now();
            let act = self.bus().poll(now);
            let until = match act {
                BusAct::Deliver(bytes) => {
                    // Nobody there, or nobody who reads: the bytes are lost, as on a wire.
                    let _ = write_all(&self.master, &bytes);
                    continue;
                }
                BusAct::WaitUntil(moment) => moment,
                BusAct::Rest => Moment::NEVER,
            };
            if !opened {
                // A pty that nobody has open reports that for ever, so it is looked at now and then.
                wait(None, &self.waker, until.min(now + LOOK), now);
            } else if !wait(Some(&self.master), &self.waker, until, now) {
                continue;
            }
            match rustix::io::read(&self.master, &mut chunk) {
                Ok(0) => opened = false,
                Ok(count) => {
                    opened = true;
                    let opener = tty::opener(self.master.as_fd(), self.line);
                    let now = self.clock.now();
                    let mut bus = self.bus();
                    bus.opener = Some(opener);
                    bus.handle(now, chunk.get(..count).unwrap_or_default());
                }
                Err(Errno::AGAIN | Errno::INTR) => opened = true,
                // The other end is closed: what waits for it is for nobody.
                Err(_) => {
                    if opened {
                        tty::flush(&self.master);
                    }
                    opened = false;
                }
            }
        }
    }
}
