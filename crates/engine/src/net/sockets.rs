//! All sockets of one address of ours.

use super::frame_socket::FrameSocket;
use crate::port::tty::OpenFault;
use crate::speak::Socket;
use std::net::{Ipv4Addr, SocketAddrV4, TcpListener, UdpSocket};

/// All sockets of an address.
pub(crate) struct Sockets {
    pub(super) listeners: Vec<TcpListener>,
    /// By the node's place of it.
    pub(super) datagrams: Vec<(usize, u16, UdpSocket)>,
    /// What carries whole frames, where some do.
    pub(super) frames: Option<FrameSocket>,
}

/// Opens the sockets of a node at an address.
///
/// # Errors
/// The first that cannot be opened, in words.
pub(crate) fn open_sockets(at: Ipv4Addr, sockets: &[Socket]) -> Result<Sockets, OpenFault> {
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
                let listener = TcpListener::bind((at, *port)).and_then(|listener| {
                    listener.set_nonblocking(true)?;
                    Ok(listener)
                });
                open.listeners.push(listener.map_err(|error| fault("TCP", *port, &error))?);
            }
            // Frames belong to an interface, and not to an address.
            Socket::Frames { .. } => {}
            Socket::Datagrams(port) => {
                let socket = UdpSocket::bind((at, *port)).and_then(|socket| {
                    socket.set_nonblocking(true)?;
                    Ok(socket)
                });
                open.datagrams.push((place, *port, socket.map_err(|error| fault("UDP", *port, &error))?));
            }
        }
    }
    Ok(open)
}
