//! The thread that owns an address on a network: all its sockets, `ppoll`ed together with an eventfd. It runs the port's
//! machine and decides nothing. What is due is sent before what came is read, and of each socket only so much is read at a
//! time, so that no flood holds up a frame.

use super::dialled::{DialNews, DialledSet, flush};
use super::doorkeeper::Doorkeeper;
use super::frame_socket::FRAME_MAX;
use super::place::Place;
use super::sockets::Sockets;
use super::{NetMachine, NetOut};
use crate::Moment;
use crate::admission::{is_out_of_room, keep_alive};
use crate::moment::Clock;
use crate::port::tty::OpenFault;
use crate::port::wait::be_punctual;
use crate::port::worker::{Bell, IdleWorker, Worker};
use crate::speak::{Channel, NetNews};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fd::{AsFd, OwnedFd};
use rustix::io::Errno;
use rustix::net::RecvFlags;
use std::collections::VecDeque;
use std::net::{Ipv4Addr, SocketAddr, SocketAddrV4};

/// Datagrams that are read at one socket before what is due is looked at again.
const DATAGRAMS: usize = 32;
/// Bytes of a connection that are read at one time.
const CHUNK: usize = 16 * 1024;
/// Bytes that wait to be sent to one who does not read.
const UNREAD_MAX: usize = 64 * 1024;
/// How often sockets are tried that cannot be opened, in microseconds.
const AGAIN: u64 = 1_000_000;
/// Datagrams that a simulated station holds back at most.
const DELAYED_MAX: usize = 4096;
/// The longest datagram that is taken: what Ethernet carries in one piece, and more.
const DATAGRAM_MAX: usize = 2048;

/// One who asks.
struct Asking {
    number: u32,
    who: SocketAddr,
    fd: OwnedFd,
    out: Vec<u8>,
    heard: Moment,
}

/// Something that leaves later.
enum Parcel {
    Datagram(usize, SocketAddrV4, Vec<u8>),
    Frame(Vec<u8>),
}

struct NetDriver {
    at: Place,
    machine: NetMachine,
    door: Box<dyn Doorkeeper>,
    clock: Clock,
    open: Option<Sockets>,
    again: Moment,
    asking: Vec<Asking>,
    dialled: DialledSet,
    next: u32,
    /// What leaves later.
    delayed: VecDeque<(Moment, Parcel)>,
    /// No descriptor was free for one who connects: none is accepted before that moment.
    paused_until: Option<Moment>,
    bell: Bell,
}

/// A port that is ready to begin: it has its thread and its machine, and its sockets unless they are missing.
pub(crate) struct ReadyNet {
    driver: NetDriver,
    worker: IdleWorker,
    open: Option<Sockets>,
}

impl ReadyNet {
    /// With a thread of its own. Without `open` the sockets are opened as soon as they can be.
    ///
    /// # Errors
    /// The system has no descriptor left.
    pub(crate) fn new(
        worker: IdleWorker,
        at: Place,
        machine: NetMachine,
        door: Box<dyn Doorkeeper>,
        open: Option<Sockets>,
        clock: Clock,
    ) -> Result<Self, OpenFault> {
        let driver = NetDriver {
            at,
            machine,
            door,
            clock,
            open: None,
            again: Moment(0),
            asking: vec![],
            dialled: DialledSet::new()?,
            next: 0,
            delayed: VecDeque::new(),
            paused_until: None,
            bell: worker.bell(),
        };
        Ok(Self { driver, worker, open })
    }

    /// What it has open once more, for a port that takes its place.
    pub(crate) fn spare(&self) -> Option<Sockets> {
        self.open.as_ref().and_then(Sockets::spare)
    }

    /// Begins. What is dropped then closes what it has opened, in order, and ends.
    pub(crate) fn begin(self) -> Worker {
        let Self { mut driver, worker, open } = self;
        if let Some(open) = open {
            driver.opened(open);
        }
        worker.begin(move || driver.run())
    }
}

/// A thread for [`ReadyNet::new`].
///
/// # Errors
/// The system has no thread or descriptor left.
pub(crate) fn idle_worker() -> Result<IdleWorker, OpenFault> {
    IdleWorker::new("network")
        .map_err(|error| OpenFault::new(format!("no thread: {error}"), "free memory, threads or descriptors"))
}

impl NetDriver {
    fn opened(&mut self, open: Sockets) {
        let mac = open.frames.as_ref().map(|own| own.mac());
        self.open = Some(open);
        self.again = Moment::NEVER;
        let now = self.clock.now();
        self.machine.handle(now, NetNews::Up);
        if let Some(mac) = mac {
            self.machine.handle(now, NetNews::Interface(mac));
        }
        self.door.is_open(Ok(self.at.to_string()));
    }

    fn try_to_open(&mut self, now: Moment) {
        match self.at.open(self.machine.sockets(), None) {
            Ok(open) => self.opened(open),
            Err(_) => self.again = now + AGAIN,
        }
    }

    fn run(mut self) {
        be_punctual();
        loop {
            let now = self.clock.now();
            if self.bell.is_ending() {
                break;
            }
            if self.open.is_none() && now >= self.again {
                self.try_to_open(now);
            }
            if self.open.is_none() {
                self.wait(self.again, now);
                continue;
            }
            while let Some((_, parcel)) = self.delayed.pop_front_if(|(at, _)| now >= *at) {
                match parcel {
                    Parcel::Datagram(socket, to, bytes) => drop(self.send_datagram(socket, to, &bytes)),
                    Parcel::Frame(bytes) => self.send_frame(&bytes),
                }
            }
            let delayed = self.delayed.front().map_or(Moment::NEVER, |(at, _)| *at);
            match self.machine.poll(now) {
                NetOut::WaitUntil(moment) => self.wait(moment.min(delayed), now),
                NetOut::Rest => self.wait(delayed, now),
                out => self.carry_out(out, now),
            }
        }
        // What was opened is closed in order; nobody is waited for.
        let now = self.clock.now();
        self.machine.node().shut(now);
        for _ in 0..1000 {
            match self.machine.poll(now) {
                NetOut::WaitUntil(_) | NetOut::Rest => break,
                out => self.carry_out(out, now),
            }
        }
    }

    fn carry_out(&mut self, out: NetOut, now: Moment) {
        match out {
            NetOut::Dial(channel, to) => {
                let own = self.at.address().unwrap_or(Ipv4Addr::UNSPECIFIED);
                let found = self.dialled.dial(own, channel, to);
                self.found(channel, found, &[], now);
            }
            NetOut::Send(channel, bytes) => {
                if self.door.sends(false).is_none() {
                    return;
                }
                let Some(to) = self.dialled.peer(channel) else { return };
                self.door.passed(now, to.into(), false, None, &bytes);
                let found = self.dialled.send(channel, &bytes);
                self.found(channel, found, &[], now);
            }
            NetOut::Close(channel) => self.dialled.close(channel),
            NetOut::Answer(number, bytes) => {
                let Some(at) = self.asking.iter().position(|own| own.number == number) else { return };
                let Some(own) = self.asking.get_mut(at) else { return };
                own.heard = now;
                if self.door.sends(false).is_none() {
                    return;
                }
                self.door.passed(now, own.who, false, None, &bytes);
                own.out.extend_from_slice(&bytes);
                if own.out.len() > UNREAD_MAX {
                    let own = self.asking.remove(at);
                    self.door.tells(own.who, "closed: it does not read its answers".into());
                    self.machine.left(number, now);
                } else if !flush(&own.fd, &mut own.out) {
                    self.asking.remove(at);
                    self.machine.left(number, now);
                }
            }
            NetOut::HangUp(number, why) => {
                if let Some(at) = self.asking.iter().position(|own| own.number == number) {
                    let own = self.asking.remove(at);
                    self.door.tells(own.who, format!("closed: {why}"));
                }
            }
            NetOut::Datagram { socket, to, bytes, due } => {
                let Some(later) = self.door.sends(due.is_some()) else { return };
                if later > 0 {
                    if self.delayed.len() < DELAYED_MAX {
                        self.delayed.push_back((now + later, Parcel::Datagram(socket, to, bytes)));
                    }
                    return;
                }
                let Some(port) = self.send_datagram(socket, to, &bytes) else { return };
                if let Some((link, due)) = due {
                    let late = self.clock.now().since(due);
                    self.machine.end().sent(link, late);
                }
                self.door.passed(now, to.into(), false, Some(port), &bytes);
            }
            NetOut::Frame { bytes, due } => {
                let Some(later) = self.door.sends(due.is_some()) else { return };
                if later > 0 {
                    if self.delayed.len() < DELAYED_MAX {
                        self.delayed.push_back((now + later, Parcel::Frame(bytes)));
                    }
                    return;
                }
                self.send_frame(&bytes);
                if let Some((link, due)) = due {
                    let late = self.clock.now().since(due);
                    self.machine.end().sent(link, late);
                }
                self.door.passed_frame(now, false, &bytes);
            }
            NetOut::WaitUntil(_) | NetOut::Rest => {}
        }
    }

    fn send_frame(&self, bytes: &[u8]) {
        if let Some(frames) = self.open.as_ref().and_then(|open| open.frames.as_ref()) {
            frames.send(bytes);
        }
    }

    /// Sends a datagram by the socket of that place: by which port.
    fn send_datagram(&self, socket: usize, to: SocketAddrV4, bytes: &[u8]) -> Option<u16> {
        let (_, port, socket) = self.open.as_ref()?.datagrams.iter().find(|(own, ..)| *own == socket)?;
        // A full queue loses the datagram, as a network does.
        let _ = socket.send_to(bytes, to);
        Some(*port)
    }

    /// Waits for a moment or whatever comes, and takes what came.
    fn wait(&mut self, until: Moment, now: Moment) {
        let closed = |own: &&Asking| !self.machine.may_be_silent(own.number, own.who);
        let heard = self.asking.iter().filter(closed).map(|own| own.heard).min();
        let idle = heard.map_or(Moment::NEVER, |heard| heard + self.door.idle_timeout());
        let is_paused = self.paused_until.is_some_and(|until| now < until);
        let until = until.min(idle).min(self.paused_until.filter(|_| is_paused).unwrap_or(Moment::NEVER));
        let micros = until.since(now);
        let timeout = (until != Moment::NEVER).then(|| Timespec {
            tv_sec: i64::try_from(micros / 1_000_000).unwrap_or(i64::MAX),
            tv_nsec: i64::try_from(micros % 1_000_000 * 1000).unwrap_or(0),
        });
        let pending = self.dialled.pending();
        let mut fds = vec![PollFd::new(self.bell.fd(), PollFlags::IN)];
        if let Some(open) = &self.open {
            fds.extend(open.datagrams.iter().map(|(.., socket)| PollFd::new(socket, PollFlags::IN)));
            // Who waits while nobody is accepted is not looked at.
            let flags = if is_paused { PollFlags::empty() } else { PollFlags::IN };
            fds.extend(open.listeners.iter().map(|(_, own)| PollFd::new(own, flags)));
            if let Some(frames) = &open.frames {
                fds.extend(frames.fds().map(|own| PollFd::from_borrowed_fd(own, PollFlags::IN)));
            }
        }
        fds.extend(self.dialled.waits(&pending));
        for own in &self.asking {
            let mut flags = PollFlags::empty();
            // Who waits for another port is not read: bytes do not pile up here.
            if !self.machine.is_waiting(own.number) && own.out.is_empty() {
                flags |= PollFlags::IN;
            }
            if !own.out.is_empty() {
                flags |= PollFlags::OUT;
            }
            fds.push(PollFd::new(&own.fd, flags));
        }
        // A signal ends the wait early, which changes nothing.
        if !matches!(poll(&mut fds, timeout.as_ref()), Ok(1..)) {
            drop(fds);
            return self.close_idle(self.clock.now());
        }
        let mut ready = fds.iter().map(|fd| fd.revents()).collect::<Vec<_>>().into_iter();
        drop(fds);
        if ready.next().is_some_and(|own| own.contains(PollFlags::IN)) {
            let _ = rustix::io::read(self.bell.fd(), &mut [0u8; 8]);
        }
        let now = self.clock.now();
        let (datagrams, listeners, frames) = self.open.as_ref().map_or((0, 0, 0), |open| {
            let frames = open.frames.as_ref().map_or(0, |own| own.fds().len());
            (open.datagrams.len(), open.listeners.len(), frames)
        });
        let came: Vec<bool> = ready.by_ref().take(datagrams).map(|own| !own.is_empty()).collect();
        let knocks = ready.by_ref().take(listeners).any(|own| !own.is_empty());
        let framed: Vec<PollFlags> = ready.by_ref().take(frames).collect();
        let answered = ready.next().is_some_and(|own| !own.is_empty());
        let moved: Vec<PollFlags> = ready.by_ref().take(pending.len()).collect();
        let asked: Vec<PollFlags> = ready.collect();
        self.take_datagrams(&came, now);
        self.take_frames(&framed, now);
        for (channel, flags) in pending.into_iter().zip(moved).filter(|(_, flags)| !flags.is_empty()) {
            self.look_at(channel, flags.contains(PollFlags::OUT), now);
        }
        if answered {
            self.dialled.ready().into_iter().for_each(|channel| self.look_at(channel, false, now));
        }
        let numbers: Vec<u32> = self.asking.iter().map(|own| own.number).collect();
        for (number, flags) in numbers.into_iter().zip(asked).filter(|(_, flags)| !flags.is_empty()) {
            self.take_questions(number, flags, now);
        }
        if knocks {
            self.accept(now);
        }
        self.close_idle(now);
    }

    fn take_datagrams(&mut self, came: &[bool], now: Moment) {
        let Some(open) = &self.open else { return };
        let mut room = [0; DATAGRAM_MAX];
        for ((place, port, socket), _) in open.datagrams.iter().zip(came).filter(|(_, came)| **came) {
            for _ in 0..DATAGRAMS {
                let Ok((count, from)) = socket.recv_from(&mut room) else { break };
                let SocketAddr::V4(peer) = from else { continue };
                if !self.door.lets_in(from) {
                    continue;
                }
                let bytes = room.get(..count).unwrap_or_default();
                self.door.passed(now, from, true, Some(*port), bytes);
                self.machine.handle(now, NetNews::Datagram { socket: *place, from: peer, bytes });
            }
        }
    }

    fn take_frames(&mut self, came: &[PollFlags], now: Moment) {
        if came.iter().any(|flags| flags.intersects(PollFlags::HUP | PollFlags::ERR)) {
            return self.interface_is_gone(now);
        }
        let mut room = [0; FRAME_MAX];
        for (which, _) in came.iter().enumerate().filter(|(_, flags)| !flags.is_empty()) {
            for _ in 0..DATAGRAMS {
                let frames = self.open.as_ref().and_then(|open| open.frames.as_ref());
                let Some(count) = frames.and_then(|own| own.receive(which, &mut room)) else { break };
                if !self.door.hears() {
                    continue;
                }
                let bytes = room.get(..count).unwrap_or_default();
                self.door.passed_frame(now, true, bytes);
                self.machine.handle(now, NetNews::Frame(bytes));
            }
        }
    }

    /// The interface was taken away, or the rig has ended: it is opened again as soon as it is there.
    fn interface_is_gone(&mut self, now: Moment) {
        self.open = None;
        self.again = now + AGAIN;
        self.machine.handle(now, NetNews::Down);
        self.door.is_open(Err(self.at.missing()));
    }

    fn look_at(&mut self, channel: Channel, writable: bool, now: Moment) {
        let mut room = [0; CHUNK];
        let found = self.dialled.look(channel, writable, &mut room);
        self.found(channel, found, &room, now);
    }

    /// Tells the machine what was found at a connection that it has dialled.
    fn found(&mut self, channel: Channel, found: DialNews, room: &[u8], now: Moment) {
        match found {
            DialNews::Nothing => {}
            DialNews::Connected => self.machine.handle(now, NetNews::Dialled(channel)),
            DialNews::Gone => self.machine.handle(now, NetNews::Closed(channel)),
            DialNews::Came(from, count) => {
                let bytes = room.get(..count).unwrap_or_default();
                self.door.passed(now, from.into(), true, None, bytes);
                self.machine.handle(now, NetNews::Bytes(channel, bytes));
            }
        }
    }

    fn take_questions(&mut self, number: u32, flags: PollFlags, now: Moment) {
        let Some(at) = self.asking.iter().position(|own| own.number == number) else { return };
        let Some(own) = self.asking.get_mut(at) else { return };
        let mut gone = !flush(&own.fd, &mut own.out);
        if flags.intersects(PollFlags::IN | PollFlags::HUP | PollFlags::ERR) {
            let mut room = [0; CHUNK];
            match rustix::net::recv(&own.fd, &mut room, RecvFlags::empty()) {
                Ok((0, _)) => gone = true,
                Ok((count, _)) => {
                    let bytes = room.get(..count).unwrap_or_default();
                    self.door.passed(now, own.who, true, None, bytes);
                    self.machine.asked(number, now, bytes);
                }
                Err(Errno::AGAIN | Errno::INTR) => {}
                Err(_) => gone = true,
            }
        }
        if gone {
            let own = self.asking.remove(at);
            // For those who look on: what comes from there next begins anew.
            self.door.passed(now, own.who, true, None, &[]);
            self.machine.left(number, now);
        }
    }

    /// Accepts nobody for a while where no descriptor was free: the one who waits would be reported without end.
    fn pause(&mut self, trouble: Option<std::io::Error>, came: bool, now: Moment) {
        let was_paused = self.paused_until.is_some();
        if let Some(error) = trouble {
            self.paused_until = Some(now + AGAIN);
            if !was_paused {
                self.door.accepts(Some(error.to_string()));
            }
        } else if came && was_paused {
            self.paused_until = None;
            self.door.accepts(None);
        }
    }

    fn accept(&mut self, now: Moment) {
        let Some(open) = &self.open else { return };
        let (mut come, mut trouble) = (vec![], None);
        for (_, listener) in &open.listeners {
            while come.len() < DATAGRAMS {
                match listener.accept() {
                    Ok(one) => come.push(one),
                    Err(error) => {
                        trouble = Some(error).filter(is_out_of_room);
                        break;
                    }
                }
            }
        }
        self.pause(trouble, !come.is_empty(), now);
        for (stream, who) in come {
            let SocketAddr::V4(peer) = who else { continue };
            if !self.door.lets_in(who) {
                self.door.tells(who, "turned away: `allow` does not hold its address".into());
                continue;
            }
            let seats: Vec<(SocketAddr, Moment)> =
                self.asking.iter().map(|own| (own.who, own.heard)).collect();
            match self.door.admits(&seats, who, now) {
                Err(()) => continue,
                Ok(None) => {}
                Ok(Some(at)) => {
                    let own = self.asking.remove(at);
                    self.machine.left(own.number, now);
                }
            }
            let _ = (stream.set_nonblocking(true), stream.set_nodelay(true));
            let fd: OwnedFd = stream.into();
            keep_alive(fd.as_fd());
            self.next = self.next.wrapping_add(1);
            if self.machine.connected(self.next, peer, now) {
                self.asking.push(Asking { number: self.next, who, fd, out: vec![], heard: now });
            }
        }
    }

    fn close_idle(&mut self, now: Moment) {
        if self.asking.is_empty() {
            return;
        }
        let most = self.door.idle_timeout();
        while let Some(at) = self
            .asking
            .iter()
            .position(|own| now.since(own.heard) >= most && !self.machine.may_be_silent(own.number, own.who))
        {
            let own = self.asking.remove(at);
            self.door.tells(own.who, "closed: it was idle for longer than `idle-timeout`".into());
            self.machine.left(own.number, now);
        }
    }
}
