//! The bench: simulated devices on real ptys, simulated clients on real sockets, and the faults between them.

mod bus;
mod clients;
mod command;
mod control;
mod device;
mod dialer;
mod line;
mod signal;

pub use bus::{Bus, BusAct, Change};
pub use clients::ClientState;
pub use command::{Answer, Row};
pub use control::{Control, Remote, control_path};
pub use device::{Ailment, SimDevice, Spot};
pub use dialer::Dialer;

use crate::Moment;
use crate::converter::{Aliases, Bindings};
use crate::moment::Clock;
use clients::SimClients;
use line::RigLine;
use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use woodrush_core::check::Checked;
use woodrush_core::project::{Trouble, Wires};
use woodrush_core::protocol::Extent;

/// Why a bench cannot be built, in words.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct RigFault(pub String);

/// A bench at work; dropping it removes its ptys and ends its clients.
pub struct Rig {
    checked: Arc<Checked>,
    clock: Clock,
    lines: Vec<RigLine>,
    clients: Mutex<SimClients>,
}

/// Where a device is: which line, and which place on it.
#[derive(Debug, Clone, Copy)]
struct Seat {
    line: usize,
    place: usize,
}

impl Rig {
    /// Builds the lines of every serial port with its devices. `read_file` brings the text of a replay.
    ///
    /// # Errors
    /// A signal does not fit, or the system has no pty left.
    pub fn up(
        checked: Arc<Checked>,
        read_file: &dyn Fn(&str) -> Result<String, String>,
    ) -> Result<Self, RigFault> {
        let clock = Clock::start();
        let mut rig = Self {
            clock,
            lines: vec![],
            clients: Mutex::new(SimClients::default()),
            checked: Arc::clone(&checked),
        };
        for (index, port) in checked.project.ports.iter().enumerate() {
            let Some(Wires::Serial { line: Some(line), .. }) = &port.wires else { continue };
            if let Some(bus) = bus_of(&checked, index, read_file, true).map_err(RigFault)? {
                let spawned = RigLine::spawn(index, bus, line.value, clock);
                rig.lines.push(
                    spawned
                        .map_err(|errno| RigFault(format!("no pty for `{}`: {errno}", port.name.value)))?,
                );
            }
        }
        Ok(rig)
    }

    /// Where a converter finds the lines, and whom the loopback addresses of clients stand for.
    #[must_use]
    pub fn bindings(&self) -> Bindings {
        let serial = self.lines.iter().map(|line| (line.port, line.path.clone())).collect();
        Bindings { serial, bench: Some(self.aliases()) }
    }

    /// The paths of the ptys, by port.
    #[must_use]
    pub fn paths(&self) -> Vec<(usize, PathBuf)> {
        self.lines.iter().map(|line| (line.port, line.path.clone())).collect()
    }

    fn aliases(&self) -> Aliases {
        aliases(&self.checked)
    }

    /// Lets the clients of the project dial the ports that a converter serves.
    pub fn serve_clients(&self, listening: &[(usize, SocketAddr)]) {
        let mut clients = self.clients.lock().unwrap_or_else(PoisonError::into_inner);
        *clients = SimClients::spawn(&self.checked, listening);
    }

    /// What each client has seen.
    #[must_use]
    pub fn client_states(&self) -> Vec<ClientState> {
        self.clients.lock().unwrap_or_else(PoisonError::into_inner).states()
    }

    fn now(&self) -> Moment {
        self.clock.now()
    }

    fn seat(&self, device: usize) -> Option<Seat> {
        let port = self.checked.plan.devices.get(device)?.port;
        let line = self.lines.iter().position(|line| line.port == port)?;
        let mut here =
            self.checked.plan.devices.iter().enumerate().filter(|(_, station)| station.port == port);
        Some(Seat { line, place: here.position(|(at, _)| at == device)? })
    }

    /// Does something with a device.
    pub fn with_device<T>(&self, device: usize, act: impl FnOnce(&mut SimDevice) -> T) -> Option<T> {
        let seat = self.seat(device)?;
        let line = self.lines.get(seat.line)?;
        line.bus().devices.get_mut(seat.place).map(act)
    }

    /// Lets all signals stand still: values are only what is put there.
    pub fn stand_still(&self) {
        for line in &self.lines {
            line.bus().devices.iter_mut().for_each(|device| device.still = true);
        }
    }

    /// Puts cells into a device.
    pub fn poke(&self, device: usize, extent: Extent, cells: &[u8]) {
        self.with_device(device, |device| device.poke(extent, cells));
    }

    /// Looks at cells of a device.
    #[must_use]
    pub fn peek(&self, device: usize, extent: Extent) -> Option<Vec<u8>> {
        self.with_device(device, |device| device.peek(extent)).flatten()
    }

    /// Cuts or mends a port's line.
    pub fn cut(&self, port: usize, cut: bool) {
        if let Some(line) = self.lines.iter().find(|line| line.port == port) {
            line.bus().change(Change::Cut(cut));
            line.changed();
        }
    }

    /// Starts or takes how long each exchange waited between answer and next request, in microseconds, silence
    /// included.
    #[must_use]
    pub fn gaps(&self, port: usize) -> Vec<u64> {
        let line = self.lines.iter().find(|line| line.port == port);
        line.and_then(|line| line.bus().gaps.replace(vec![])).unwrap_or_default()
    }

    fn apply(&self, trouble: &Trouble) -> Result<(), String> {
        let (line, change) = self
            .change_of(trouble)
            .ok_or_else(|| format!("nothing on this bench is called `{}`", trouble.place().1))?;
        let line = self.lines.get(line).ok_or("no such line")?;
        line.bus().change(change);
        line.changed();
        Ok(())
    }

    fn change_of(&self, trouble: &Trouble) -> Option<(usize, Change)> {
        let port = |name: &str| {
            let port = self.checked.project.port(name)?;
            self.lines.iter().position(|line| line.port == port)
        };
        let device = |name: &str| self.seat(self.checked.project.device(name)?);
        Some(match trouble {
            Trouble::Cut(name) => (port(name)?, Change::Cut(true)),
            Trouble::Noise(name, share) => (port(name)?, Change::Noise(*share)),
            Trouble::Mute(name) => device(name).map(|seat| (seat.line, Change::Mute(seat.place, true)))?,
            Trouble::Slow(name, by) => device(name).map(|seat| (seat.line, Change::Slow(seat.place, *by)))?,
            Trouble::Refuse(name, code) => {
                device(name).map(|seat| (seat.line, Change::Refuse(seat.place, Some(*code))))?
            }
        })
    }
}

/// The loopback address that stands for a client: its place in the file from 127.0.1.1 on.
fn stand_in(client: usize) -> Ipv4Addr {
    let place = u16::try_from(client).unwrap_or(u16::MAX - 257) + 257;
    let [high, low] = place.to_be_bytes();
    Ipv4Addr::new(127, 0, high, low)
}

/// Whom the loopback addresses of the bench stand for.
#[must_use]
pub fn aliases(checked: &Checked) -> Aliases {
    let mut known: HashMap<IpAddr, Ipv4Addr> = HashMap::new();
    for (at, client) in checked.project.clients.iter().enumerate() {
        if let Some(address) = client.address {
            known.insert(IpAddr::V4(stand_in(at)), address.value);
        }
    }
    Arc::new(known)
}

/// The simulated line of a port with its devices and the faults of the project; `None` where nothing hangs on it.
///
/// # Errors
/// A signal does not fit its device, in words.
pub fn bus_of(
    checked: &Checked,
    port: usize,
    read_file: &dyn Fn(&str) -> Result<String, String>,
    paced: bool,
) -> Result<Option<Bus>, String> {
    let (project, plan) = (&checked.project, &checked.plan);
    let Some(settings) = project.ports.get(port) else { return Ok(None) };
    let (Some(protocol), Some(time)) = (settings.protocol, plan.lines.get(port)) else { return Ok(None) };
    let here: Vec<usize> =
        plan.devices.iter().enumerate().filter(|(_, d)| d.port == port).map(|(at, _)| at).collect();
    if here.is_empty() {
        return Ok(None);
    }
    let devices: Result<Vec<SimDevice>, String> =
        here.iter().map(|device| SimDevice::new(checked, *device, read_file)).collect();
    let line = settings.line().map(|line| line.value);
    let seed = project.rig.seed.wrapping_add(port as u64);
    let Some(mut bus) = Bus::new(devices?, protocol.value.name(), line, *time, paced, seed) else {
        return Ok(None);
    };
    let place = |name: &str| here.iter().position(|device| project.device(name) == Some(*device));
    for fault in &project.rig.faults {
        let own_port = |name: &str| (project.port(name) == Some(port)).then_some(());
        let pair = match &fault.what.value {
            Trouble::Cut(name) => own_port(name).map(|()| (Change::Cut(true), Change::Cut(false))),
            Trouble::Noise(name, share) => {
                own_port(name).map(|()| (Change::Noise(*share), Change::Noise(0.0)))
            }
            Trouble::Mute(name) => place(name).map(|at| (Change::Mute(at, true), Change::Mute(at, false))),
            Trouble::Slow(name, by) => place(name).map(|at| (Change::Slow(at, *by), Change::Slow(at, 0))),
            Trouble::Refuse(name, code) => {
                place(name).map(|at| (Change::Refuse(at, Some(*code)), Change::Refuse(at, None)))
            }
        };
        if let Some((begin, end)) = pair {
            bus.schedule(Moment(fault.at), begin);
            if let Some(lasts) = fault.lasts {
                bus.schedule(Moment(fault.at.saturating_add(lasts)), end);
            }
        }
    }
    Ok(Some(bus))
}
