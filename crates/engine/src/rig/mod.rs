//! The bench: simulated devices on real ptys, simulated clients on real sockets, and the faults between them.

mod behaving;
mod bus;
mod clients;
mod command;
mod controllers;
mod device;
mod driven;
mod faults;
mod inside;
mod line;
mod master;
mod names;
mod network;
mod newcomer;
mod plain;
mod settings;
mod signal;
mod station_end;
mod switch;
mod talk;

pub use bus::{Bus, BusAct, Change};
pub use clients::ClientState;
pub use device::SimDevice;
pub use network::Whom;
pub use station_end::SeenLink;
pub use talk::Opener;

pub use inside::Spot;
pub use plain::PlainEnd;

use crate::Dialer;
use crate::Moment;
use crate::converter::{Aliases, Bindings};
use crate::moment::Clock;
use crate::port::worker::Worker;
use clients::{Ends, SimClients};
use faults::value_of;
use line::{LinePlace, RigLine};
use master::Master;
use network::{Ground, NetStation, RigNetwork};
use std::collections::{BTreeMap, HashMap};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use woodrush_core::budget::LineTime;
use woodrush_core::check::Checked;
use woodrush_core::plan::Station;
use woodrush_core::project::{Fault, Signal, Wires};
use woodrush_core::protocol::{Extent, Verb};

/// Why a bench cannot be built, in words.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct RigFault(pub String);

/// A bench at work; dropping it removes its ptys and ends its clients.
pub struct Rig {
    checked: Arc<Checked>,
    clock: Clock,
    lines: Vec<RigLine>,
    networks: Vec<RigNetwork>,
    /// Simulated controllers, once a converter serves them.
    controllers: Mutex<Vec<NetStation>>,
    /// Stations on switches that have no name yet.
    newcomers: Mutex<Vec<Worker>>,
    /// What controllers replay, by path.
    replays: BTreeMap<String, String>,
    /// Why there are none, in words.
    no_controllers: Mutex<Option<String>>,
    /// Ends on which simulated clients ask that dial no socket of the converter.
    masters: Vec<Arc<Master>>,
    listening: Mutex<Vec<(usize, SocketAddr)>>,
    clients: Mutex<SimClients>,
}

/// Real interfaces that stand for the far ends of `ethernet` ports, by port: cabled to the converter's own.
pub type RigWires = BTreeMap<String, String>;

/// Where a device is: which line, and which place on it.
#[derive(Debug, Clone, Copy)]
struct DeviceSeat {
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
        Self::up_on(checked, read_file, &RigWires::new())
    }

    /// The same, with simulated stations of some ports on real interfaces.
    ///
    /// # Errors
    /// As [`Self::up`], or an interface cannot be opened.
    pub fn up_on(
        checked: Arc<Checked>,
        read_file: &dyn Fn(&str) -> Result<String, String>,
        interfaces: &RigWires,
    ) -> Result<Self, RigFault> {
        if let Some(port) = interfaces.keys().find(|port| checked.project.port(port).is_none()) {
            return Err(RigFault(format!("there is no port `{port}`")));
        }
        let clock = Clock::start();
        let mut rig = Self {
            clock,
            lines: vec![],
            networks: vec![],
            controllers: Mutex::default(),
            newcomers: Mutex::default(),
            replays: BTreeMap::new(),
            no_controllers: Mutex::default(),
            masters: vec![],
            listening: Mutex::default(),
            clients: Mutex::new(SimClients::default()),
            checked: Arc::clone(&checked),
        };
        for (.., signal) in &checked.project.rig.client_signals {
            if let Signal::Replay(path) = signal {
                rig.replays.insert(path.clone(), read_file(path).map_err(RigFault)?);
            }
        }
        let mut kin = Twins::new();
        let forwards = &checked.plan.forwards;
        for (index, port) in checked.project.ports.iter().enumerate() {
            let Some(wires) = port.wires.as_ref().filter(|wires| !matches!(wires, Wires::Listen { .. }))
            else {
                continue;
            };
            if matches!(wires, Wires::Network { .. } | Wires::Ethernet { .. }) {
                let network =
                    RigNetwork::up(&checked, (index, interfaces.get(&port.name.value)), read_file, clock)
                        .map_err(|why| RigFault(format!("no stations for `{}`: {why}", port.name.value)))?;
                rig.networks.push(network);
                continue;
            }
            let no_end =
                |error: std::io::Error| RigFault(format!("no far end for `{}`: {error}", port.name.value));
            if let Some(bus) = kin_bus_of(&checked, index, read_file, true, &mut kin).map_err(RigFault)? {
                let line = match wires {
                    Wires::Serial { line: Some(line), .. } => Some(line.value),
                    // A program behind a virtual port would be the device; here nobody opens it.
                    Wires::Connect { .. } => None,
                    _ => continue,
                };
                rig.lines.push(RigLine::spawn(index, bus, line, clock).map_err(no_end)?);
            } else if checked.plan.images.iter().any(|image| image.port == index)
                || forwards.iter().any(|forward| forward.from == index || forward.raw && forward.to == index)
            {
                rig.masters.extend(Master::new(index, wires).map_err(no_end)?.map(Arc::new));
            }
        }
        Ok(rig)
    }

    /// Where a converter finds the lines, and whom the loopback addresses of clients stand for.
    #[must_use]
    pub fn bindings(&self) -> Bindings {
        let mut bindings = Bindings { bench: Some(self.aliases()), ..Bindings::default() };
        for line in &self.lines {
            match &line.place {
                LinePlace::Path(path) => drop(bindings.serial.insert(line.port, path.clone())),
                LinePlace::Socket(at) => drop(bindings.connect.insert(line.port, *at)),
            }
        }
        for master in &self.masters {
            bindings.serial.extend(master.serial().map(|path| (master.port, path.to_path_buf())));
            bindings.pty.extend(master.pty().map(|path| (master.port, path.to_path_buf())));
            bindings.connect.extend(master.socket().map(|at| (master.port, at)));
        }
        for network in &self.networks {
            match &network.ground {
                Ground::Loopback { own, .. } => drop(bindings.network.insert(network.port, *own)),
                Ground::Switch(own) => drop(bindings.switches.insert(network.port, own.name.clone())),
                // The converter is on the interface that its project says.
                Ground::Wire(_) => {}
            }
            for (own, real) in self.stations_of(network) {
                bindings.network_stations.insert((network.port, own), real);
            }
        }
        bindings
    }

    /// The paths of the ptys, by port.
    #[must_use]
    pub fn paths(&self) -> Vec<(usize, PathBuf)> {
        self.lines.iter().filter_map(|line| Some((line.port, line.path()?.to_path_buf()))).collect()
    }

    /// The ports whose far end plays devices.
    #[must_use]
    pub fn device_ports(&self) -> Vec<usize> {
        self.lines.iter().map(|line| line.port).collect()
    }

    /// The converter serves these sockets now.
    pub fn serves(&self, listening: &[(usize, SocketAddr)]) {
        *self.listening.lock().unwrap_or_else(PoisonError::into_inner) = listening.to_vec();
    }

    /// A client of a port on which others ask; `from` is the loopback address that stands for it.
    ///
    /// # Errors
    /// Nobody serves the port, or it cannot be reached.
    pub fn dial(
        &self,
        port: usize,
        protocol: &str,
        station: &Station,
        from: Option<Ipv4Addr>,
        timeout: u64,
    ) -> std::io::Result<Dialer> {
        if let Some(master) = self.masters.iter().find(|master| master.port == port) {
            return master.dial(self.master_line(port, timeout), protocol, station);
        }
        let at = self.served(port).ok_or(std::io::ErrorKind::NotConnected)?;
        Dialer::connect(at, from, protocol, station, timeout)
    }

    /// The other end of a port that carries bytes unread.
    ///
    /// # Errors
    /// Nobody serves the port, or its end cannot be opened.
    pub fn plain_end(&self, port: usize) -> std::io::Result<PlainEnd> {
        if let Some(master) = self.masters.iter().find(|master| master.port == port) {
            return master.wire().map(PlainEnd::new);
        }
        let at = self.served(port).ok_or(std::io::ErrorKind::NotConnected)?;
        let stream = std::net::TcpStream::connect(at)?;
        stream.set_nodelay(true)?;
        stream.set_nonblocking(true)?;
        Ok(PlainEnd::new(stream.into()))
    }

    /// Where the converter serves a port.
    fn served(&self, port: usize) -> Option<SocketAddr> {
        let listening = self.listening.lock().unwrap_or_else(PoisonError::into_inner);
        listening.iter().find(|(other, _)| *other == port).map(|(_, at)| *at)
    }

    /// A client of the devices behind a port, while no converter is there; `None` where the bench plays no devices.
    ///
    /// # Errors
    /// The far end cannot be opened.
    #[must_use]
    pub fn ask_alone(&self, port: usize, station: &Station) -> Option<std::io::Result<Dialer>> {
        let line = self.lines.iter().find(|line| line.port == port)?;
        let time = *self.checked.plan.lines.get(port)?;
        let dialect = station.dialect?;
        let protocol = dialect.name();
        // Here the converter's own end is played.
        let station = &Station { setup: dialect.stations().other_end(&station.setup), ..station.clone() };
        Some(match (&line.place, self.checked.project.ports.get(port)?.line()) {
            (LinePlace::Path(path), Some(settings)) => {
                let open = crate::port::tty::open_shared(path, settings.value);
                // The simulated line takes the bytes' time by itself.
                let time = LineTime { char_nanos: 0, ..time };
                open.map_err(|fault| std::io::Error::other(fault.what))
                    .and_then(|wire| Dialer::over(wire, time, protocol, station))
            }
            (LinePlace::Socket(at), _) => Dialer::connect(*at, None, protocol, station, time.timeout),
            (LinePlace::Path(_), None) => return None,
        })
    }

    /// A connection to a client was lost: the next one waits for a new one.
    pub fn forget(&self, port: usize) {
        self.masters.iter().filter(|master| master.port == port).for_each(|master| master.forget());
    }

    fn master_line(&self, port: usize, timeout: u64) -> LineTime {
        let none =
            LineTime { char_nanos: 0, frame_gap: 0, own_frame_gap: 0, timeout, turnaround: 0, hurry: false };
        let line = self.checked.plan.lines.get(port).copied().unwrap_or(none);
        LineTime { timeout, own_frame_gap: line.frame_gap, ..line }
    }

    fn aliases(&self) -> Aliases {
        aliases(&self.checked)
    }

    /// Lets the clients of the project dial the ports that a converter serves.
    pub fn serve_clients(&self, listening: &[(usize, SocketAddr)]) {
        self.serves(listening);
        let ends = Ends { listening: listening.to_vec(), masters: self.masters.clone() };
        let line = |port| self.master_line(port, 1_000_000);
        if let Err(RigFault(why)) = self.begin_controllers(false) {
            // Its entry of the state says so: the other clients go on.
            *self.no_controllers.lock().unwrap_or_else(PoisonError::into_inner) = Some(why);
        }
        let mut clients = self.clients.lock().unwrap_or_else(PoisonError::into_inner);
        *clients = SimClients::spawn(&self.checked, &ends, &line);
    }

    /// What each client has seen.
    #[must_use]
    pub fn client_states(&self) -> Vec<ClientState> {
        self.clients.lock().unwrap_or_else(PoisonError::into_inner).states()
    }

    fn now(&self) -> Moment {
        self.clock.now()
    }

    fn seat(&self, device: usize) -> Option<DeviceSeat> {
        let port = self.checked.plan.devices.get(device)?.port;
        let line = self.lines.iter().position(|line| line.port == port)?;
        let plan = &self.checked.plan;
        let mut here = (0..plan.devices.len()).filter(|device| plan.is_on(*device, port));
        Some(DeviceSeat { line, place: here.position(|at| at == device)? })
    }

    /// Does something with a device.
    pub fn with_device<T>(&self, device: usize, act: impl FnOnce(&mut SimDevice) -> T) -> Option<T> {
        if let Some(station) = self.net_device(device) {
            return Some(act(&mut station.sim()));
        }
        let seat = self.seat(device)?;
        let line = self.lines.get(seat.line)?;
        line.bus().devices.get_mut(seat.place).map(act)
    }

    /// Lets all signals stand still: values are only what is put there.
    pub fn stand_still(&self) {
        for line in &self.lines {
            line.bus().devices.iter_mut().for_each(|device| device.still = true);
        }
        for station in self.networks.iter().flat_map(|network| &network.devices) {
            station.sim().still = true;
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

    /// Starts or takes how long each exchange waited between answer and next request, in microseconds, silence
    /// included.
    #[must_use]
    pub fn gaps(&self, port: usize) -> Vec<u64> {
        let line = self.lines.iter().find(|line| line.port == port);
        line.and_then(|line| line.bus().gaps.replace(vec![])).unwrap_or_default()
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

/// Devices with two connections, of which one has been made.
pub(crate) type Twins = HashMap<usize, SimDevice>;

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
    kin_bus_of(checked, port, read_file, paced, &mut Twins::new())
}

/// The same where devices hang on two ports: what holds one of their connections holds the other.
pub(crate) fn kin_bus_of(
    checked: &Checked,
    port: usize,
    read_file: &dyn Fn(&str) -> Result<String, String>,
    paced: bool,
    kin: &mut Twins,
) -> Result<Option<Bus>, String> {
    let (project, plan) = (&checked.project, &checked.plan);
    let Some(settings) = project.ports.get(port) else { return Ok(None) };
    let (Some(protocol), Some(time)) = (settings.protocol, plan.lines.get(port)) else { return Ok(None) };
    let here: Vec<usize> = (0..plan.devices.len()).filter(|device| plan.is_on(*device, port)).collect();
    // Requests are passed on to lines of which no device is known, too.
    if here.is_empty() && !plan.forwards.iter().any(|forward| !forward.raw && forward.to == port) {
        return Ok(None);
    }
    let mut device = |device: &usize| -> Result<SimDevice, String> {
        let mut made = SimDevice::new(checked, *device, read_file)?;
        let writes = plan.write_port(*device) == Some(port);
        if writes && made.station.port == port {
            return Ok(made);
        }
        made.only = Some(if writes { Verb::Write } else { Verb::Read });
        if writes {
            // Its signals move on the connection by which it is read.
            made.still = true;
            made.station.setup = settings.setup.with(Some(&made.station.setup));
        }
        match kin.get(device) {
            Some(other) => made.join(other),
            None => drop(kin.insert(*device, made.view())),
        }
        Ok(made)
    };
    let mut devices: Vec<SimDevice> = vec![];
    for own in &here {
        let mut made = device(own)?;
        let host = plan.host(*own);
        let place = here.iter().position(|at| *at == host).filter(|_| host != *own);
        if let Some((place, host)) = place.and_then(|place| Some((place, devices.get(place)?))) {
            made.enter(place, host);
        }
        devices.push(made);
    }
    let line = settings.line().map(|line| line.value);
    let seed = project.rig.seed.wrapping_add(port as u64);
    let Some(mut bus) = Bus::new(devices, protocol.value.name(), line, *time, paced, seed, &settings.setup)
    else {
        return Ok(None);
    };
    bus.echo = settings.echo;
    for fault in &project.rig.faults {
        let Fault { kind, place: name, .. } = &fault.what.value;
        let place = if kind.is_of_line() {
            (project.port(name) == Some(port)).then_some(0)
        } else {
            here.iter().position(|device| project.device(name) == Some(*device))
        };
        if let Some(place) = place {
            let value = value_of(&fault.what.value, &bus, place)?;
            bus.schedule(Moment(fault.at), Change::begin(kind, place, value));
            if let Some(lasts) = fault.lasts {
                bus.schedule(Moment(fault.at.saturating_add(lasts)), Change::end(kind, place));
            }
        }
    }
    Ok(Some(bus))
}
