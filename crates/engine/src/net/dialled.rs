//! The connections that a node has dialled. Most of them are silent for hours: they wait in a set of the kernel's own, so that
//! a wait for the next frame costs the same however many there are.

use crate::admission::keep_alive;
use crate::port::tty::OpenFault;
use crate::speak::Channel;
use rustix::event::{PollFd, PollFlags, Timespec, epoll};
use rustix::fd::OwnedFd;
use rustix::io::Errno;
use rustix::net::{AddressFamily, RecvFlags, SendFlags, SocketFlags, SocketType, sockopt};
use std::collections::HashMap;
use std::net::{Ipv4Addr, SocketAddrV4};

/// Ready ones that are asked for at one time; the others are next.
const READY: usize = 32;

struct DialledConnection {
    fd: OwnedFd,
    to: SocketAddrV4,
    connecting: bool,
    out: Vec<u8>,
}

/// What was found at a connection.
pub(super) enum DialNews {
    /// It is there now.
    Connected,
    /// Bytes of the other end.
    Came(SocketAddrV4, usize),
    Nothing,
    /// It is gone, and forgotten.
    Gone,
}

pub(super) struct DialledSet {
    /// Readable when one of them is.
    quiet: OwnedFd,
    open: HashMap<Channel, DialledConnection>,
}

impl DialledSet {
    /// # Errors
    /// The system has no descriptor left.
    pub(super) fn new() -> Result<Self, OpenFault> {
        let quiet = epoll::create(epoll::CreateFlags::CLOEXEC).map_err(|errno| {
            OpenFault::new(format!("no descriptor: {errno}"), "raise the limit of open files")
        })?;
        Ok(Self { quiet, open: HashMap::new() })
    }

    /// Begins to connect, by our own address: the other end knows us by it.
    pub(super) fn dial(&mut self, at: Ipv4Addr, channel: Channel, to: SocketAddrV4) -> DialNews {
        let begin = || {
            let flags = SocketFlags::NONBLOCK | SocketFlags::CLOEXEC;
            let fd = rustix::net::socket_with(AddressFamily::INET, SocketType::STREAM, flags, None)?;
            if !at.is_unspecified() {
                rustix::net::bind(&fd, &SocketAddrV4::new(at, 0))?;
            }
            let _ = sockopt::set_tcp_nodelay(&fd, true);
            match rustix::net::connect(&fd, &to) {
                Ok(()) => Ok((fd, false)),
                Err(Errno::INPROGRESS) => Ok((fd, true)),
                Err(errno) => Err(errno),
            }
        };
        let begun = begin().and_then(|(fd, connecting)| {
            let data = epoll::EventData::new_u64(u64::from(channel.0));
            epoll::add(&self.quiet, &fd, data, epoll::EventFlags::IN)?;
            Ok((fd, connecting))
        });
        let Ok((fd, connecting)) = begun else { return DialNews::Gone };
        keep_alive(&fd);
        self.open.insert(channel, DialledConnection { fd, to, connecting, out: vec![] });
        if connecting { DialNews::Nothing } else { DialNews::Connected }
    }

    /// To whom a connection is.
    pub(super) fn peer(&self, channel: Channel) -> Option<SocketAddrV4> {
        self.open.get(&channel).map(|own| own.to)
    }

    /// Sends what can be sent, and the rest later; `Gone` where the other end is.
    pub(super) fn send(&mut self, channel: Channel, bytes: &[u8]) -> DialNews {
        let Some(own) = self.open.get_mut(&channel) else { return DialNews::Nothing };
        own.out.extend_from_slice(bytes);
        if own.connecting || flush(&own.fd, &mut own.out) {
            return DialNews::Nothing;
        }
        self.close(channel);
        DialNews::Gone
    }

    /// The kernel takes a closed descriptor out of the set.
    pub(super) fn close(&mut self, channel: Channel) {
        self.open.remove(&channel);
    }

    /// Those that wait for more than bytes: to be connected, or to be rid of theirs.
    pub(super) fn pending(&self) -> Vec<Channel> {
        let pending = self.open.iter().filter(|(_, own)| own.connecting || !own.out.is_empty());
        pending.map(|(channel, _)| *channel).collect()
    }

    /// For a wait: the set, and those that wait for more.
    pub(super) fn waits<'a>(&'a self, pending: &[Channel]) -> impl Iterator<Item = PollFd<'a>> {
        let more = pending.iter().filter_map(|channel| self.open.get(channel));
        let more = more.map(|own| PollFd::new(&own.fd, PollFlags::IN | PollFlags::OUT));
        std::iter::once(PollFd::new(&self.quiet, PollFlags::IN)).chain(more.collect::<Vec<_>>())
    }

    /// Those of the set that have something to say.
    pub(super) fn ready(&self) -> Vec<Channel> {
        let mut events = Vec::with_capacity(READY);
        let now = Timespec { tv_sec: 0, tv_nsec: 0 };
        let _ = epoll::wait(&self.quiet, rustix::buffer::spare_capacity(&mut events), Some(&now));
        let channel = |event: &epoll::Event| u32::try_from(event.data.u64()).ok().map(Channel);
        events.iter().filter_map(channel).collect()
    }

    /// Looks at one, whether it may be written to now, and takes what came into `room`.
    pub(super) fn look(&mut self, channel: Channel, writable: bool, room: &mut [u8]) -> DialNews {
        let Some(own) = self.open.get_mut(&channel) else { return DialNews::Nothing };
        let gone = if own.connecting {
            match sockopt::socket_error(&own.fd) {
                Ok(Ok(())) if writable => {
                    own.connecting = false;
                    return DialNews::Connected;
                }
                Ok(Ok(())) => false,
                _ => true,
            }
        } else if flush(&own.fd, &mut own.out) {
            match rustix::net::recv(&own.fd, room, RecvFlags::empty()) {
                Ok((0, _)) => true,
                Ok((count, _)) => return DialNews::Came(own.to, count),
                Err(errno) => !matches!(errno, Errno::AGAIN | Errno::INTR),
            }
        } else {
            true
        };
        if gone {
            self.close(channel);
            return DialNews::Gone;
        }
        DialNews::Nothing
    }
}

/// Sends what can be sent; whether the other end is still there.
pub(super) fn flush(fd: &OwnedFd, out: &mut Vec<u8>) -> bool {
    while !out.is_empty() {
        match rustix::net::send(fd, out, SendFlags::NOSIGNAL) {
            Ok(count) => drop(out.drain(..count)),
            Err(Errno::AGAIN) => return true,
            Err(Errno::INTR) => {}
            Err(_) => return false,
        }
    }
    true
}
