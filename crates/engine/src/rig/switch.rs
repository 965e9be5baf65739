//! A simulated Ethernet switch: ends plug in by a local socket, and whole frames go where their addresses say.

use crate::Moment;
use crate::dice::Dice;
use crate::net::FRAME_MAX;
use crate::port::wait::wait_any;
use crate::port::worker::{Bell, IdleWorker, Worker};
use crate::speak::another;
use rustix::fd::OwnedFd;
use rustix::io::Errno;
use rustix::net::{
    AddressFamily, RecvFlags, SendFlags, SocketAddrUnix, SocketFlags, SocketType, accept_with, bind, listen,
    recv, send, socket_with,
};
use std::collections::VecDeque;

/// Ends that are plugged in at once.
const ENDS_MAX: usize = 256;
/// Addresses that are known at once, the oldest of which is forgotten: as few as a small switch has.
const KNOWN_MAX: usize = 1024;
/// Frames of one end that go before others have their turn.
const TURN: usize = 32;
/// How often a free name is looked for.
const TRIES: usize = 50;

/// A switch; dropping it unplugs all.
pub(super) struct RigSwitch {
    /// By what ends find it.
    pub(super) name: String,
    _worker: Worker,
}

impl RigSwitch {
    /// A switch of a name that nothing else has.
    ///
    /// # Errors
    /// The system has no socket or thread left, in words.
    pub(super) fn up() -> Result<Self, String> {
        let words = |errno: Errno| format!("no switch: {errno}");
        let (name, listener) = open().map_err(words)?;
        let worker = IdleWorker::new("switch").map_err(|error| format!("no thread: {error}"))?;
        let own = Switch { listener, ends: vec![], known: VecDeque::new(), bell: worker.bell() };
        Ok(Self { name, _worker: worker.begin(move || own.run()) })
    }
}

fn open() -> Result<(String, OwnedFd), Errno> {
    let mut dice = Dice::new(u64::from(another()) << 16 | u64::from(another()));
    let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
    let mut last = Errno::ADDRINUSE;
    for _ in 0..TRIES {
        let name = format!("woodrush-switch-{:08x}", dice.roll() & 0xFFFF_FFFF);
        let socket = socket_with(AddressFamily::UNIX, SocketType::SEQPACKET, flags, None)?;
        match bind(&socket, &SocketAddrUnix::new_abstract_name(name.as_bytes())?) {
            Ok(()) => {
                listen(&socket, 64)?;
                return Ok((name, socket));
            }
            Err(errno) => last = errno,
        }
    }
    Err(last)
}

/// The switch's own side.
struct Switch {
    listener: OwnedFd,
    /// Each with its number.
    ends: Vec<(u32, OwnedFd)>,
    /// At which end an address was seen last.
    known: VecDeque<([u8; 6], u32)>,
    bell: Bell,
}

impl Switch {
    fn run(mut self) {
        let mut next = 0;
        while !self.bell.is_ending() {
            let fds: Vec<&OwnedFd> =
                std::iter::once(&self.listener).chain(self.ends.iter().map(|(_, fd)| fd)).collect();
            let ready = wait_any(&fds, self.bell.fd(), Moment::NEVER, Moment(0));
            let mut ready = ready.into_iter();
            let knocks = ready.next().unwrap_or(false);
            let with_frames: Vec<u32> =
                self.ends.iter().zip(ready).filter(|(_, ready)| *ready).map(|((end, _), _)| *end).collect();
            with_frames.into_iter().for_each(|end| self.carry(end));
            while knocks
                && let Ok(fd) = accept_with(&self.listener, SocketFlags::CLOEXEC | SocketFlags::NONBLOCK)
            {
                next += 1;
                if self.ends.len() < ENDS_MAX {
                    self.ends.push((next, fd));
                }
            }
        }
    }

    fn end(&self, number: u32) -> Option<&OwnedFd> {
        self.ends.iter().find(|(own, _)| *own == number).map(|(_, fd)| fd)
    }

    /// Carries what one end has sent.
    fn carry(&mut self, from: u32) {
        let mut room = [0; FRAME_MAX];
        for _ in 0..TURN {
            let Some(fd) = self.end(from) else { return };
            match recv(fd, &mut room[..], RecvFlags::DONTWAIT) {
                Ok((_, 0)) => return self.unplug(from),
                Ok((_, count)) => {
                    let frame = room.get(..count).unwrap_or_default();
                    self.forward(from, frame);
                }
                Err(Errno::AGAIN | Errno::INTR) => return,
                Err(_) => return self.unplug(from),
            }
        }
    }

    fn unplug(&mut self, end: u32) {
        self.ends.retain(|(own, _)| *own != end);
        self.known.retain(|(_, own)| *own != end);
    }

    fn forward(&mut self, from: u32, frame: &[u8]) {
        let Some((to, rest)) = frame.split_first_chunk::<6>() else { return };
        let Some(source) = rest.first_chunk::<6>().copied().filter(|own| own[0] & 1 == 0) else { return };
        match self.known.iter_mut().find(|(mac, _)| *mac == source) {
            Some((_, end)) => *end = from,
            None => {
                if self.known.len() >= KNOWN_MAX {
                    self.known.pop_front();
                }
                self.known.push_back((source, from));
            }
        }
        let one = self.known.iter().find(|(mac, _)| mac == to).map(|(_, end)| *end);
        for (end, fd) in &self.ends {
            if *end != from && one.is_none_or(|one| one == *end) {
                // Whose queue is full loses the frame.
                let _ = send(fd, frame, SendFlags::DONTWAIT | SendFlags::NOSIGNAL);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::net::FrameSocket;

    /// Frames that came within a second, up to so many.
    fn heard(end: &FrameSocket, most: usize) -> Vec<Vec<u8>> {
        let waker = crate::port::wait::waker().unwrap();
        let clock = crate::moment::Clock::start();
        let until = clock.now() + 1_000_000;
        let (mut all, mut room) = (vec![], [0; FRAME_MAX]);
        while all.len() < most && clock.now() < until {
            let fd = end.fds().next().unwrap().try_clone_to_owned().unwrap();
            crate::port::wait::wait(Some(&fd), &waker, until, clock.now());
            while let Some(count) = end.receive(0, &mut room) {
                all.push(room[..count].to_vec());
            }
        }
        all
    }

    fn frame(to: [u8; 6], from: [u8; 6], last: u8) -> Vec<u8> {
        [&to[..], &from, &[0x88, 0x92, last]].concat()
    }

    #[test]
    fn frames_go_to_all_until_it_is_known_where_their_address_is() {
        let switch = RigSwitch::up().unwrap();
        let ends: Vec<FrameSocket> = (0..3).map(|_| FrameSocket::of_switch(&switch.name).unwrap()).collect();
        let macs: Vec<[u8; 6]> = ends.iter().map(FrameSocket::mac).collect();
        assert!(macs[0] != macs[1] && macs[0][..3] == [0x02, 0x57, 0x52]);
        ends[0].send(&frame([0xFF; 6], macs[0], 1));
        for other in [1, 2] {
            assert_eq!(heard(&ends[other], 1), [frame([0xFF; 6], macs[0], 1)]);
        }
        // Now it knows where the first is, and the third hears nothing of it.
        ends[1].send(&frame(macs[0], macs[1], 2));
        assert_eq!(heard(&ends[0], 1), [frame(macs[0], macs[1], 2)]);
        ends[1].send(&frame([0xFF; 6], macs[1], 3));
        assert_eq!(heard(&ends[2], 1), [frame([0xFF; 6], macs[1], 3)]);
        let name = switch.name.clone();
        drop(switch);
        let fault = FrameSocket::of_switch(&name).unwrap_err();
        assert!(fault.missing && fault.fix.contains("woodrush rig up"), "{}", fault.what);
    }
}
