//! All sockets of one address of ours.

use super::frame_socket::FrameSocket;
use crate::port::tty::OpenFault;
use crate::speak::Socket;
use std::net::{Ipv4Addr, SocketAddrV4, TcpListener, UdpSocket};

/// All sockets of an address.
pub(crate) struct Sockets {
    /// By TCP port.
    pub(super) listeners: Vec<(u16, TcpListener)>,
    /// By the node's place of it.
    pub(super) datagrams: Vec<(usize, u16, UdpSocket)>,
    /// What carries whole frames, where some do.
    pub(super) frames: Option<FrameSocket>,
}

impl Sockets {
    /// Second descriptors of its sockets, for a port that takes the place of this one at the same address.
    pub(crate) fn spare(&self) -> Option<Self> {
        let listeners = self.listeners.iter().map(|(port, own)| Some((*port, own.try_clone().ok()?)));
        let datagrams =
            self.datagrams.iter().map(|(place, port, own)| Some((*place, *port, own.try_clone().ok()?)));
        Some(Self {
            listeners: listeners.collect::<Option<_>>()?,
            datagrams: datagrams.collect::<Option<_>>()?,
            frames: None,
        })
    }
}

/// Opens the sockets of a node at an address; of `spare` those that are open there already.
///
/// # Errors
/// The first that cannot be opened, in words.
pub(crate) fn open_sockets(
    at: Ipv4Addr,
    sockets: &[Socket],
    spare: Option<&Sockets>,
) -> Result<Sockets, OpenFault> {
    let fault = |what: &str, port: u16, error: &std::io::Error| {
        let place = SocketAddrV4::new(at, port);
        let (why, fix) = match error.kind() {
            std::io::ErrorKind::AddrInUse => (
                format!("{what} {place} is in use by another program"),
                "stop it (`ss -lntup` names it), or give this port another address of the machine",
            ),
            std::io::ErrorKind::AddrNotAvailable => (
                format!("{at} is not an address of this machine"),
                "write 0.0.0.0 for all addresses, or one of its own",
            ),
            _ => (format!("{what} {place} cannot be opened: {error}"), "check `network`"),
        };
        let mut fault = OpenFault::new(why, fix);
        fault.missing = error.kind() == std::io::ErrorKind::AddrNotAvailable;
        fault
    };
    let mut open = Sockets { listeners: vec![], datagrams: vec![], frames: None };
    for (place, socket) in sockets.iter().enumerate() {
        match socket {
            Socket::Listen(port) => {
                let known = spare.and_then(|open| open.listeners.iter().find(|(own, _)| own == port));
                let listener =
                    known.map_or_else(|| TcpListener::bind((at, *port)), |(_, own)| own.try_clone());
                let listener = listener.and_then(|own| own.set_nonblocking(true).map(|()| own));
                open.listeners.push((*port, listener.map_err(|error| fault("TCP", *port, &error))?));
            }
            // Frames belong to an interface, and not to an address.
            Socket::Frames { .. } => {}
            Socket::Datagrams(port) => {
                let known = spare.and_then(|open| open.datagrams.iter().find(|(_, own, _)| own == port));
                let socket = known.map_or_else(|| UdpSocket::bind((at, *port)), |(.., own)| own.try_clone());
                let socket = socket.and_then(|own| own.set_nonblocking(true).map(|()| own));
                open.datagrams.push((place, *port, socket.map_err(|error| fault("UDP", *port, &error))?));
            }
        }
    }
    Ok(open)
}
