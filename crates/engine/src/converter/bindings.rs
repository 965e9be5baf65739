//! Where the ports of a converter really go, and why one cannot be opened there.

use super::running::StartFault;
use crate::admission::Aliases;
use crate::net::Elsewhere;
use crate::port::Way;
use crate::speak::ToldStations;
use std::collections::HashMap;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::PathBuf;
use std::sync::Arc;
use woodrush_core::project::{Port, Wires};

/// Where ports really go, when that is not where the project says: the bench.
#[derive(Debug, Clone, Default)]
pub struct Bindings {
    /// Path of a serial port's line, by port.
    pub serial: HashMap<usize, PathBuf>,
    /// Where an outgoing connection goes, by port.
    pub connect: HashMap<usize, SocketAddr>,
    /// Where a virtual serial port is made, by port.
    pub pty: HashMap<usize, PathBuf>,
    /// Our own address of a network, by port.
    pub network: HashMap<usize, Ipv4Addr>,
    /// Where a station of a network is, by port and its address in the project.
    pub network_stations: HashMap<(usize, Ipv4Addr), Ipv4Addr>,
    /// Switches that stand for interfaces, by port.
    pub switches: HashMap<usize, String>,
    /// What others have told stations, in this run and for good before it.
    pub kept: ToldStations,
    /// Every listening port goes to a free loopback port, and these addresses stand for others.
    pub bench: Option<Aliases>,
    /// A port whose adapter or address is missing is told and opened as soon as that is there; else it keeps the
    /// converter from starting.
    pub may_be_missing: bool,
}

impl Bindings {
    /// Where the addresses of a network port really are.
    pub(super) fn elsewhere(&self, port: usize) -> Elsewhere {
        let stations = self.network_stations.iter().filter(|((own, _), _)| *own == port);
        Elsewhere {
            own: self.network.get(&port).copied(),
            stations: stations.map(|((_, from), to)| (*from, *to)).collect(),
            switch: self.switches.get(&port).cloned(),
            kept: Arc::clone(&self.kept),
        }
    }

    /// How a port with one other end is opened.
    pub(super) fn way(&self, at: usize, port: &Port) -> Option<Way> {
        Some(match port.wires.as_ref()? {
            Wires::Serial { path, line: Some(line), wiring } => Way::Serial {
                path: self.serial.get(&at).cloned().unwrap_or_else(|| PathBuf::from(&path.value)),
                line: line.value,
                two_wires: wiring.as_ref().is_some_and(|wiring| wiring.value == "rs485"),
            },
            Wires::Connect { to } => {
                let real = SocketAddr::from((to.value.host, to.value.port));
                Way::Connect { to: self.connect.get(&at).copied().unwrap_or(real) }
            }
            Wires::Pty { path } => {
                Way::Pty { path: self.pty.get(&at).cloned().unwrap_or_else(|| PathBuf::from(&path.value)) }
            }
            Wires::Serial { line: None, .. }
            | Wires::Listen { .. }
            | Wires::Network { .. }
            | Wires::Ethernet { .. } => return None,
        })
    }
}

/// Why a listening port cannot be bound, in words, with what to do.
pub(super) fn listen_fault(
    fault: &impl Fn(String, &str) -> StartFault,
    address: SocketAddr,
    error: &std::io::Error,
) -> StartFault {
    match error.kind() {
        std::io::ErrorKind::AddrInUse => fault(
            format!("{address} is in use by another program"),
            "stop it (`ss -ltnp` names it), or write another port in `listen`",
        ),
        std::io::ErrorKind::PermissionDenied => {
            let fix = "ports below 1024 need the right to bind them (`setcap cap_net_bind_service+ep`), or choose one above";
            fault(format!("{address} may not be opened by this user"), fix)
        }
        std::io::ErrorKind::AddrNotAvailable => fault(
            format!("{address} is not an address of this machine"),
            "write 0.0.0.0 for all addresses, or one of its own",
        ),
        _ => fault(format!("{address} cannot be opened: {error}"), "check `listen`"),
    }
}
