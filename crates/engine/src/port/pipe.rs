//! Bytes that pass between two ports unread, for one client at a time.

use super::opened::Begin;
use super::wait::write_all;
use super::way::{Open, Way};
use crate::Moment;
use crate::admission::{Admission, Aliases, Seat, admit, keep_alive, may_connect};
use crate::admission::{ListenPlace, is_out_of_room};
use crate::hub::Chunk;
use crate::moment::Clock;
use crate::port::worker::{Bell, IdleWorker, Worker};
use crate::shared::{Event, Shared, Site};
use crate::speak::Side;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fd::AsFd;
use rustix::io::Errno;
use std::net::{SocketAddr, TcpListener};
use std::sync::Arc;
use std::sync::atomic::Ordering::Relaxed;

/// How often it looks, bytes or not: for what is missing, and for clients that are silent.
const LOOK: Timespec = Timespec { tv_sec: 0, tv_nsec: 500_000_000 };

/// The side on which others come.
pub(crate) enum Front {
    /// Each connection is a client.
    Listen(ListenPlace, Option<Aliases>),
    /// The one other end of a line, or of a connection.
    Way(Way),
}

/// What a pipe needs, before it begins.
pub(crate) struct PipeEnds {
    /// Index of the port on which others come, with what it begins with.
    pub(crate) from: (usize, Front, Begin),
    /// The other one.
    pub(crate) to: (usize, Way, Begin),
}

/// Joins two ports.
pub(crate) fn begin(worker: IdleWorker, site: &Arc<Site>, ends: PipeEnds, clock: Clock) -> Worker {
    let shared = site.current();
    let name = |port: usize| -> Arc<str> {
        shared.ports.get(port).map(|port| port.name.as_str()).unwrap_or_default().into()
    };
    let PipeEnds { from: (from, front, first), to: (to, back, second) } = ends;
    let door = |port: usize, begin: Begin| Door { name: name(port), open: begin.open(), told: false };
    let work = PipeWork {
        site: Arc::clone(site),
        clock,
        from: door(from, first),
        to: door(to, second),
        front,
        back,
        client: None,
        bell: worker.bell(),
        paused: false,
    };
    match &work.front {
        Front::Listen(ListenPlace { listener: Some(listener), wanted }, _) => {
            let real = listener.local_addr().unwrap_or(*wanted);
            work.up(&work.from, &real.to_string());
        }
        Front::Way(way) if work.from.open.is_some() => work.up(&work.from, &way.shown()),
        _ => {}
    }
    if work.to.open.is_some() {
        work.up(&work.to, &work.back.shown());
    }
    worker.begin(move || work.run())
}

/// One of the two ports.
struct Door {
    /// By which it is found in whatever project runs.
    name: Arc<str>,
    open: Option<Open>,
    /// A failure to open it was told.
    told: bool,
}

struct PipeWork {
    site: Arc<Site>,
    clock: Clock,
    from: Door,
    to: Door,
    front: Front,
    back: Way,
    /// The client of a listening port, and when a byte of it or for it last passed.
    client: Option<(SocketAddr, Moment)>,
    bell: Bell,
    /// No descriptor was free for a client.
    paused: bool,
}

/// Where a port stands in the project that runs.
fn index(shared: &Shared, door: &Door) -> usize {
    shared.ports.iter().position(|port| *port.name == *door.name).unwrap_or(usize::MAX)
}

impl PipeWork {
    fn run(mut self) {
        while !self.bell.is_ending() {
            self.step();
        }
    }

    fn step(&mut self) {
        self.open_what_is_missing();
        let ready = self.wait();
        if ready[0] {
            self.accept();
        }
        if ready[1] {
            self.carry(Side::Asks);
        }
        if ready[2] {
            self.carry(Side::Answers);
        }
        self.look_at_client();
    }

    fn open_what_is_missing(&mut self) {
        if self.to.open.is_none() {
            let way = self.back.clone();
            self.to.open = self.try_open(&way, true);
        }
        match &mut self.front {
            Front::Way(way) if self.from.open.is_none() => {
                let way = way.clone();
                self.from.open = self.try_open(&way, false);
            }
            Front::Listen(place, _) if place.listener.is_none() => {
                // Where it fails it is tried again at the next look.
                let Ok(listener) = TcpListener::bind(place.wanted) else { return };
                if listener.set_nonblocking(true).is_ok() {
                    let real = listener.local_addr().unwrap_or(place.wanted);
                    place.listener = Some(listener);
                    self.up(&self.from, &real.to_string());
                }
            }
            _ => {}
        }
    }

    fn up(&self, door: &Door, what: &str) {
        let shared = self.site.current();
        let port = index(&shared, door);
        if let Some(tally) = shared.health.ports.get(port) {
            tally.up.store(true, Relaxed);
        }
        shared.tell(Event::PortUp { port, what: what.into() });
    }

    fn down(&self, door: &Door, why: String) {
        let shared = self.site.current();
        let port = index(&shared, door);
        if let Some(tally) = shared.health.ports.get(port) {
            tally.up.store(false, Relaxed);
        }
        shared.tell(Event::PortDown { port, why });
    }

    fn client_told(&self, who: SocketAddr, why: String) {
        let shared = self.site.current();
        shared.tell(Event::Client { port: index(&shared, &self.from), who: who.to_string(), why });
    }

    /// Lets a client in, by the same rules as at every listening port; there is one place.
    fn accept(&mut self) {
        let Front::Listen(ListenPlace { listener: Some(listener), .. }, aliases) = &self.front else {
            return;
        };
        let (stream, who) = match listener.accept() {
            Ok(came) => came,
            Err(error) => {
                let paused = is_out_of_room(&error);
                let shared = self.site.current();
                let port = index(&shared, &self.from);
                if paused && !self.paused {
                    shared.tell(Event::Accepting { port, trouble: Some(error.to_string()) });
                }
                self.paused = paused;
                return;
            }
        };
        let shared = self.site.current();
        let port = index(&shared, &self.from);
        let Some(settings) = shared.answers.get(port).and_then(Option::as_ref) else { return };
        let turned_away = |why: String| {
            if let Some(tally) = shared.health.ports.get(port) {
                tally.turned_away.fetch_add(1, Relaxed);
            }
            self.client_told(who, format!("turned away: {why}"));
        };
        if !may_connect(settings.allow.as_deref(), aliases.as_ref(), who) {
            return turned_away("`allow` does not hold its address".into());
        }
        let seat = self.client.map(|(who, heard)| Seat { address: who.ip().to_canonical(), heard });
        match admit(settings, seat.as_slice(), who.ip().to_canonical(), self.clock.now()) {
            Admission::Room => {}
            Admission::InsteadOf(_, why) => {
                if let Some((old, _)) = self.client {
                    self.client_told(old, format!("closed for a new client: {why}"));
                }
            }
            Admission::TurnedAway(why) => {
                return turned_away(format!("raw bytes pass for one client at a time, but {why}"));
            }
        }
        if stream.set_nonblocking(true).is_err() {
            return;
        }
        // Small pieces at once; where the platform cannot, they come a little later.
        let _ = stream.set_nodelay(true);
        keep_alive(&stream);
        self.from.open = Some(Open::of(stream.into()));
        self.client = Some((who, self.clock.now()));
    }

    /// Closes a client that is silent for too long, and counts it.
    fn look_at_client(&mut self) {
        let Front::Listen(..) = self.front else { return };
        let shared = self.site.current();
        let port = index(&shared, &self.from);
        let idle = shared.answers.get(port).and_then(Option::as_ref).map(|settings| settings.idle_timeout);
        if let (Some((who, heard)), Some(idle)) = (self.client, idle)
            && self.clock.now().since(heard) > idle
        {
            self.client_told(who, "closed: it was idle for longer than `idle-timeout`".into());
            self.client_gone();
        }
        if let Some(tally) = shared.health.ports.get(port) {
            tally.clients.store(u64::from(self.client.is_some()), Relaxed);
        }
    }

    fn client_gone(&mut self) {
        (self.from.open, self.client) = (None, None);
    }

    fn try_open(&mut self, way: &Way, back: bool) -> Option<Open> {
        let opened = way.open();
        let door = if back { &mut self.to } else { &mut self.from };
        let told = std::mem::replace(&mut door.told, opened.is_err());
        let door = if back { &self.to } else { &self.from };
        match opened {
            Ok(open) => {
                self.up(door, &way.shown());
                Some(open)
            }
            Err(fault) => {
                if !told {
                    self.down(door, fault.what);
                }
                None
            }
        }
    }

    /// Waits for a new client, bytes of the client, bytes of the other side; at most until the next look.
    fn wait(&self) -> [bool; 3] {
        let listener = match &self.front {
            // Without a free descriptor the system would report the client that waits without end.
            Front::Listen(place, _) if !self.paused => place.listener.as_ref().map(AsFd::as_fd),
            _ => None,
        };
        let watched = [
            listener,
            self.from.open.as_ref().map(|open| open.fd.as_fd()),
            self.to.open.as_ref().map(|open| open.fd.as_fd()),
        ];
        let mut fds = vec![PollFd::new(self.bell.fd(), PollFlags::IN)];
        fds.extend(watched.iter().flatten().map(|fd| PollFd::from_borrowed_fd(*fd, PollFlags::IN)));
        // A signal ends the wait early, which changes nothing.
        let _ = poll(&mut fds, Some(&LOOK));
        let mut ready = fds.iter().skip(1).map(|fd| !fd.revents().is_empty());
        let ready = watched.map(|fd| fd.is_some() && ready.next().unwrap_or(false));
        // After a pause one client is tried.
        [ready[0] || self.paused, ready[1], ready[2]]
    }

    /// Carries what is there; a client or a connection that has gone is closed.
    fn carry(&mut self, side: Side) {
        let asks = side == Side::Asks;
        let (source, sink) = if asks { (&self.from, &self.to) } else { (&self.to, &self.from) };
        let Some(from) = &source.open else { return };
        let mut chunk = [0; 4096];
        let came = match rustix::io::read(&from.fd, &mut chunk) {
            Ok(0) | Err(_) if from.is_pty => return pause(),
            Ok(0) => None,
            Ok(count) => chunk.get(..count),
            Err(Errno::AGAIN | Errno::INTR) => return,
            Err(_) => None,
        };
        let Some(bytes) = came else { return self.gone(side) };
        self.passed(side, bytes);
        // Where the other end is not there the bytes are lost, as on a wire.
        let written = sink.open.as_ref().map(|to| (to.is_pty, write_all(&to.fd, bytes)));
        if let Some((_, heard)) = &mut self.client {
            *heard = self.clock.now();
        }
        if let (false, Some((false, Err(_)))) = (asks, written)
            && let Some((who, _)) = self.client
        {
            self.client_told(who, "closed: it does not read what is sent to it".into());
            self.client_gone();
        }
    }

    /// The source of one direction has gone.
    fn gone(&mut self, side: Side) {
        let listens = matches!(self.front, Front::Listen(..));
        if side == Side::Asks {
            if !listens {
                self.down(&self.from, "the other end is gone".into());
            }
            return self.client_gone();
        }
        self.to.open = None;
        self.to.told = true;
        self.down(&self.to, format!("{}: the other end is gone", self.back.shown()));
        // The client must not believe that its bytes arrive.
        if listens {
            self.client_gone();
        }
    }

    /// Counts what has passed, and leaves it for those who look on, at both ports.
    fn passed(&self, side: Side, bytes: &[u8]) {
        let now = self.clock.now();
        let shared = self.site.current();
        let count = bytes.len() as u64;
        for (door, comes) in [(&self.from, side == Side::Asks), (&self.to, side != Side::Asks)] {
            if let Some(tally) = shared.health.ports.get(index(&shared, door)) {
                tally.tally.carried(if comes { 0 } else { count }, if comes { count } else { 0 });
            }
            if !shared.tap.is_on() {
                continue;
            }
            let piece = || Chunk {
                port: Arc::clone(&door.name),
                who: None,
                side,
                began: now,
                ended: now,
                bytes: bytes.to_vec(),
            };
            shared.tap.passed(&door.name, now, piece);
        }
    }
}

/// A virtual port that no program has open reports that without end.
fn pause() {
    #[allow(clippy::disallowed_methods, reason = "there is nothing to wait for")]
    std::thread::sleep(std::time::Duration::from_millis(10));
}
