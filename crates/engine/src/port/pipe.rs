//! Bytes that pass between two ports unread, for one client at a time.

use super::wait::{wake, waker, write_all};
use super::way::{Open, Way};
use crate::moment::Clock;
use crate::shared::{Event, Shared};
use crate::speak::Side;
use crate::tap::Piece;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fd::{AsFd, OwnedFd};
use rustix::io::Errno;
use std::net::TcpListener;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::thread::JoinHandle;

/// The side on which others come.
pub(crate) enum Front {
    /// Each connection is a client.
    Listen(TcpListener),
    /// Whoever is at the other end.
    Way(Way),
}

/// A pipe at work; dropping it ends it.
pub(crate) struct Pipe {
    stop: Arc<AtomicBool>,
    waker: Arc<OwnedFd>,
    thread: Option<JoinHandle<()>>,
}

impl Drop for Pipe {
    fn drop(&mut self) {
        self.stop.store(true, Relaxed);
        wake(&self.waker);
        if let Some(thread) = self.thread.take() {
            // A panic there has been printed already.
            let _ = thread.join();
        }
    }
}

/// Joins two ports.
///
/// # Errors
/// The system gives no thread.
pub(crate) fn spawn(
    shared: &Arc<Shared>,
    (from, front): (usize, Front),
    (to, back): (usize, Way),
    clock: Clock,
) -> std::io::Result<Pipe> {
    let waker = waker()?;
    let stop = Arc::new(AtomicBool::new(false));
    if let Front::Listen(listener) = &front {
        listener.set_nonblocking(true)?;
    }
    let mut work = Work {
        shared: Arc::clone(shared),
        clock,
        from,
        to,
        front,
        back,
        near: None,
        far: None,
        waker: Arc::clone(&waker),
        told: [false; 2],
    };
    let asked = Arc::clone(&stop);
    let named = std::thread::Builder::new().name(format!("pipe-{from}-{to}"));
    let thread = named.spawn(move || {
        while !asked.load(Relaxed) {
            work.step();
        }
    })?;
    Ok(Pipe { stop, waker, thread: Some(thread) })
}

struct Work {
    shared: Arc<Shared>,
    clock: Clock,
    from: usize,
    to: usize,
    front: Front,
    back: Way,
    near: Option<Open>,
    far: Option<Open>,
    waker: Arc<OwnedFd>,
    /// A failure to open was told, by side.
    told: [bool; 2],
}

impl Work {
    fn step(&mut self) {
        if self.far.is_none() {
            self.far = Self::try_open(&self.shared, &self.back, self.to, &mut self.told[1]);
        }
        if let (Front::Way(way), None) = (&self.front, &self.near) {
            self.near = Self::try_open(&self.shared, way, self.from, &mut self.told[0]);
        }
        let ready = self.wait();
        if let (Front::Listen(listener), true) = (&self.front, ready[0])
            && let Ok((stream, who)) = listener.accept()
        {
            if self.near.is_some() || stream.set_nonblocking(true).is_err() {
                let why = "turned away: raw bytes pass for one client at a time".into();
                self.shared.tell(Event::Client { port: self.from, who: who.to_string(), why });
            } else {
                // Small pieces at once; where the platform cannot, they come a little later.
                let _ = stream.set_nodelay(true);
                self.near = Some(Open::of(stream.into()));
            }
        }
        if ready[1] && !self.carry(self.near.as_ref(), self.far.as_ref(), Side::Asks) {
            self.near = None;
        }
        if ready[2] && !self.carry(self.far.as_ref(), self.near.as_ref(), Side::Answers) {
            self.far = None;
            self.told[1] = true;
            let why = format!("{}: the other end is gone", self.back.shown());
            self.shared.tell(Event::PortDown { port: self.to, why });
            // Whoever is connected must not believe that his bytes arrive.
            if matches!(self.front, Front::Listen(_)) {
                self.near = None;
            }
        }
    }

    fn try_open(shared: &Shared, way: &Way, port: usize, told: &mut bool) -> Option<Open> {
        match way.open() {
            Ok(open) => {
                *told = false;
                shared.tell(Event::PortUp { port, what: way.shown() });
                Some(open)
            }
            Err(fault) => {
                if !std::mem::replace(told, true) {
                    shared.tell(Event::PortDown { port, why: fault.what });
                }
                None
            }
        }
    }

    /// Waits for a new client, bytes of the client, bytes of the other side; at most a second.
    fn wait(&self) -> [bool; 3] {
        let listener = if let Front::Listen(listener) = &self.front { Some(listener.as_fd()) } else { None };
        let watched = [
            listener,
            self.near.as_ref().map(|near| near.fd.as_fd()),
            self.far.as_ref().map(|far| far.fd.as_fd()),
        ];
        let mut fds = vec![PollFd::new(&self.waker, PollFlags::IN)];
        fds.extend(watched.iter().flatten().map(|fd| PollFd::from_borrowed_fd(*fd, PollFlags::IN)));
        let patience = Timespec { tv_sec: 1, tv_nsec: 0 };
        // A signal ends the wait early, which changes nothing.
        let _ = poll(&mut fds, Some(&patience));
        let mut ready = fds.iter().skip(1).map(|fd| !fd.revents().is_empty());
        watched.map(|fd| fd.is_some() && ready.next().unwrap_or(false))
    }

    /// Carries what is there; `false` where its source has gone.
    fn carry(&self, from: Option<&Open>, to: Option<&Open>, side: Side) -> bool {
        let Some(from) = from else { return true };
        let mut chunk = [0; 4096];
        match rustix::io::read(&from.fd, &mut chunk) {
            Ok(0) => from.is_pty && pause(),
            Ok(count) => {
                let bytes = chunk.get(..count).unwrap_or_default();
                self.passed(side, bytes);
                if let Some(to) = to {
                    // Where nobody takes them the bytes are lost, as on a wire.
                    let _ = write_all(&to.fd, bytes);
                }
                true
            }
            Err(Errno::AGAIN | Errno::INTR) => true,
            Err(_) => from.is_pty && pause(),
        }
    }
}

impl Work {
    /// Leaves what has passed for those who look on, at both of its ports.
    fn passed(&self, side: Side, bytes: &[u8]) {
        let now = self.clock.now();
        for port in [self.from, self.to] {
            let Some(port) = self.shared.ports.get(port).filter(|_| self.shared.tap.is_on()) else {
                continue;
            };
            let name: Arc<str> = port.name.as_str().into();
            let piece = || Piece {
                port: Arc::clone(&name),
                who: None,
                side,
                began: now,
                ended: now,
                bytes: bytes.to_vec(),
            };
            self.shared.tap.passed(&name, now, piece);
        }
    }
}

/// A virtual port that nobody has open reports that for ever.
fn pause() -> bool {
    #[allow(clippy::disallowed_methods, reason = "nobody is there to wait for")]
    std::thread::sleep(std::time::Duration::from_millis(10));
    true
}
