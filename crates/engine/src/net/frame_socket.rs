//! Whole Ethernet frames by an interface of the machine, or by the rig's switch, which stands for one.

use crate::port::tty::OpenFault;
use crate::speak::{Socket, another};
use rustix::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd};
use rustix::io::Errno;
use rustix::net::netdevice::name_to_index;
use rustix::net::{
    AddressFamily, Protocol, RecvFlags, SendFlags, SocketAddrUnix, SocketFlags, SocketType, connect, recv,
    send, socket_with,
};
use std::num::NonZeroU32;

/// The longest frame, with its tag.
pub(crate) const FRAME_MAX: usize = 1518;
/// What every address on the rig's switch begins with: administered locally.
const RIG: [u8; 3] = [0x02, 0x57, 0x52];

/// The way frames go.
#[derive(Debug)]
pub(crate) struct FrameSocket {
    mac: [u8; 6],
    /// One for each kind, or one for all.
    fds: Vec<OwnedFd>,
}

impl FrameSocket {
    /// Opens an interface of this machine for these kinds of frames.
    ///
    /// # Errors
    /// There is no such interface, or the right to send frames is missing: how it is given stands in the fault.
    pub(crate) fn of_interface(name: &str, sockets: &[Socket]) -> Result<Self, OpenFault> {
        let missing = || {
            let mut fault = OpenFault::new(
                format!("there is no Ethernet interface `{name}`"),
                "`ip link` lists those of this machine; correct `ethernet`",
            );
            fault.missing = true;
            fault
        };
        // Any socket will do to ask by.
        let asking = socket_with(AddressFamily::INET, SocketType::DGRAM, SocketFlags::CLOEXEC, None)
            .map_err(|errno| not_opened(name, errno))?;
        let index = name_to_index(&asking, name).map_err(|_| missing())?;
        let index = i32::try_from(index).map_err(|_| missing())?;
        let mut fds = vec![];
        for own in sockets {
            let Socket::Frames { kind, groups, port } = own else { continue };
            fds.push(packet_socket(index, (*kind, *port), groups).map_err(|errno| not_opened(name, errno))?);
        }
        let mac = fds.first().and_then(hardware_address).filter(|own| *own != [0; 6]);
        let Some(mac) = mac else {
            return Err(OpenFault::new(
                format!("`{name}` is no Ethernet interface: it has no MAC address"),
                "write one that has a cable, such as `eth1`",
            ));
        };
        Ok(Self { mac, fds })
    }

    /// Plugs into the rig's switch.
    ///
    /// # Errors
    /// It is not there.
    pub(crate) fn of_switch(name: &str) -> Result<Self, OpenFault> {
        let gone = |errno: Errno| {
            let mut fault = OpenFault::new(
                format!("the rig's switch `{name}` is not there: {errno}"),
                "start the rig first: `woodrush rig up`",
            );
            fault.missing = true;
            fault
        };
        let address = SocketAddrUnix::new_abstract_name(name.as_bytes()).map_err(gone)?;
        let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
        let fd = socket_with(AddressFamily::UNIX, SocketType::SEQPACKET, flags, None).map_err(gone)?;
        connect(&fd, &address).map_err(gone)?;
        let ([a, b], [_, c]) = (another().to_be_bytes(), another().to_be_bytes());
        Ok(Self { mac: [RIG[0], RIG[1], RIG[2], a, b, c], fds: vec![fd] })
    }

    pub(crate) const fn mac(&self) -> [u8; 6] {
        self.mac
    }

    /// What becomes readable when frames have come.
    pub(crate) fn fds(&self) -> impl ExactSizeIterator<Item = BorrowedFd<'_>> {
        self.fds.iter().map(AsFd::as_fd)
    }

    /// The next frame of one of them, if one is there.
    pub(crate) fn receive(&self, which: usize, room: &mut [u8]) -> Option<usize> {
        let fd = self.fds.get(which)?;
        let most = room.len();
        // Of a switch that is gone nothing comes, and what is longer than any frame is cut.
        let (_, count) = recv(fd, room, RecvFlags::DONTWAIT).ok()?;
        (count > 0).then_some(count.min(most))
    }

    /// Sends a frame; a full queue loses it, as a network does.
    pub(crate) fn send(&self, frame: &[u8]) {
        if let Some(fd) = self.fds.first() {
            let _ = send(fd, frame, SendFlags::DONTWAIT | SendFlags::NOSIGNAL);
        }
    }
}

fn not_opened(name: &str, errno: Errno) -> OpenFault {
    match errno {
        Errno::PERM | Errno::ACCESS => OpenFault::new(
            format!("sending frames on `{name}` is not allowed to this program"),
            "give it that right once: `sudo setcap cap_net_raw+ep \"$(readlink -f \"$(command -v woodrush)\")\"`; nothing else of the machine is touched",
        ),
        errno => OpenFault::new(
            format!("frames cannot be sent on `{name}`: {errno}"),
            "look whether it is up: `ip link`",
        ),
    }
}

/// A socket for frames of one kind on an interface, that hears these groups.
fn packet_socket(index: i32, (kind, port): (u16, Option<u16>), groups: &[[u8; 6]]) -> Result<OwnedFd, Errno> {
    let protocol = NonZeroU32::new(u16::to_be(kind).into()).map(Protocol::from_raw);
    let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
    let fd = socket_with(AddressFamily::PACKET, SocketType::RAW, flags, protocol)?;
    if let Some(port) = port {
        keep_one_port(&fd, port)?;
    }
    bind_to(&fd, index, kind)?;
    groups.iter().try_for_each(|group| join(&fd, index, *group))?;
    Ok(fd)
}

/// Leaves only datagrams for one UDP port, in one piece: all else of the machine's own traffic wakes nobody.
fn keep_one_port(fd: &OwnedFd, port: u16) -> Result<(), Errno> {
    use libc::{
        BPF_ABS, BPF_B, BPF_H, BPF_IND, BPF_JEQ, BPF_JMP, BPF_JSET, BPF_K, BPF_LD, BPF_LDX, BPF_MSH, BPF_RET,
    };
    const UDP: u32 = 17;
    /// Where an IP header begins in a frame.
    const IP: u32 = 14;
    let one = |code: u32, yes: u8, no: u8, k: u32| libc::sock_filter {
        code: u16::try_from(code).unwrap_or(0),
        jt: yes,
        jf: no,
        k,
    };
    let filter = [
        one(BPF_LD | BPF_B | BPF_ABS, 0, 0, IP + 9),
        one(BPF_JMP | BPF_JEQ | BPF_K, 0, 6, UDP),
        // No part of a longer one.
        one(BPF_LD | BPF_H | BPF_ABS, 0, 0, IP + 6),
        one(BPF_JMP | BPF_JSET | BPF_K, 4, 0, 0x3FFF),
        one(BPF_LDX | BPF_B | BPF_MSH, 0, 0, IP),
        one(BPF_LD | BPF_H | BPF_IND, 0, 0, IP + 2),
        one(BPF_JMP | BPF_JEQ | BPF_K, 0, 1, port.into()),
        one(BPF_RET | BPF_K, 0, 0, u32::MAX),
        one(BPF_RET | BPF_K, 0, 0, 0),
    ];
    let program = libc::sock_fprog {
        len: u16::try_from(filter.len()).unwrap_or(0),
        filter: filter.as_ptr().cast_mut(),
    };
    set_option(fd, libc::SOL_SOCKET, libc::SO_ATTACH_FILTER, &program)
}

/// Hears a group, which an adapter otherwise keeps from the machine.
fn join(fd: &OwnedFd, index: i32, group: [u8; 6]) -> Result<(), Errno> {
    let mut address = [0; 8];
    address[..6].copy_from_slice(&group);
    let membership = libc::packet_mreq {
        mr_ifindex: index,
        mr_type: u16::try_from(libc::PACKET_MR_MULTICAST).unwrap_or(0),
        mr_alen: 6,
        mr_address: address,
    };
    set_option(fd, libc::SOL_PACKET, libc::PACKET_ADD_MEMBERSHIP, &membership)
}

#[allow(unsafe_code, reason = "options of packet sockets that no crate here wraps")]
fn set_option<T>(fd: &OwnedFd, level: i32, name: i32, value: &T) -> Result<(), Errno> {
    let size = libc::socklen_t::try_from(size_of::<T>()).unwrap_or(0);
    // SAFETY: `value` is one whole structure of the type that the option takes, and lives until the call is over; what
    // it points to does as well.
    let done =
        unsafe { libc::setsockopt(fd.as_raw_fd(), level, name, std::ptr::from_ref(value).cast(), size) };
    if done == 0 { Ok(()) } else { Err(last_errno()) }
}

#[allow(unsafe_code, reason = "an address of a packet socket, which no crate here wraps")]
fn bind_to(fd: &OwnedFd, index: i32, kind: u16) -> Result<(), Errno> {
    let address = libc::sockaddr_ll {
        sll_family: u16::try_from(libc::AF_PACKET).unwrap_or(0),
        sll_protocol: kind.to_be(),
        sll_ifindex: index,
        sll_hatype: 0,
        sll_pkttype: 0,
        sll_halen: 0,
        sll_addr: [0; 8],
    };
    let size = libc::socklen_t::try_from(size_of::<libc::sockaddr_ll>()).unwrap_or(0);
    // SAFETY: the address is one whole `sockaddr_ll`, its size is given, and it lives until the call is over.
    let done = unsafe { libc::bind(fd.as_raw_fd(), std::ptr::from_ref(&address).cast(), size) };
    if done == 0 { Ok(()) } else { Err(last_errno()) }
}

/// The MAC address of the interface that a packet socket is bound to.
#[allow(unsafe_code, reason = "an address of a packet socket, which no crate here wraps")]
fn hardware_address(fd: &OwnedFd) -> Option<[u8; 6]> {
    let mut address = libc::sockaddr_ll {
        sll_family: 0,
        sll_protocol: 0,
        sll_ifindex: 0,
        sll_hatype: 0,
        sll_pkttype: 0,
        sll_halen: 0,
        sll_addr: [0; 8],
    };
    let mut size = libc::socklen_t::try_from(size_of::<libc::sockaddr_ll>()).unwrap_or(0);
    // SAFETY: the kernel writes no more than the size that is given, which is that of the whole structure, and all of its
    // fields are numbers.
    let done =
        unsafe { libc::getsockname(fd.as_raw_fd(), std::ptr::from_mut(&mut address).cast(), &raw mut size) };
    if done != 0 || address.sll_halen != 6 {
        return None;
    }
    address.sll_addr.first_chunk().copied()
}

fn last_errno() -> Errno {
    let code = std::io::Error::last_os_error().raw_os_error().unwrap_or(0);
    Errno::from_raw_os_error(code)
}
