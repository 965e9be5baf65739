//! Stations of a simulated network: I/O devices and controllers, each our own node in the other role, at loopback
//! addresses of their own.

use super::device::SimDevice;
use super::station_end::{ExchangedBlocks, SeenLink, StationDoor, StationEnd};
use super::switch::RigSwitch;
use crate::dice::Dice;
use crate::moment::Clock;
use crate::net::{NetMachine, Place, ReadyNet, idle_worker, open_sockets};
use crate::port::worker::Worker;
use crate::speak::{LinkFaults, NodeLink, NodeSetup, ServerSetup, Socket, another, speaker};
use std::collections::BTreeMap;
use std::fmt;
use std::net::Ipv4Addr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use woodrush_core::check::Checked;
use woodrush_core::plan::{CyclicLink, Station};
use woodrush_core::project::{LineFaults, Owner};
use woodrush_core::protocol::{KeyKind, Setup};

/// The address that an image gets whose file says none.
const GIVEN: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 199);
/// How often a free place among the loopback addresses is looked for.
const TRIES: usize = 50;

/// Stations of one network: what is left of 256 addresses for more controllers than one an image.
const STATIONS_MAX: usize = 200;

/// One station on a simulated network.
pub(super) struct NetStation {
    /// The device or client that it is.
    pub(super) whom: Whom,
    pub(super) address: Ipv4Addr,
    pub(super) sim: Arc<Mutex<SimDevice>>,
    seen: Arc<Mutex<SeenLink>>,
    thread: Worker,
}

/// Who a station is in the project.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Whom {
    /// The device of that index.
    Device(usize),
    /// A controller of the image of that index: the client of that one, where one is described.
    Controller {
        /// Which image.
        image: usize,
        /// Which client.
        client: Option<usize>,
    },
}

impl NetStation {
    pub(super) fn sim(&self) -> MutexGuard<'_, SimDevice> {
        self.sim.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn seen(&self) -> SeenLink {
        self.seen.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// What goes wrong with it has changed.
    pub(super) fn changed(&self) {
        self.thread.ring();
    }
}

/// The simulated end of one network port.
pub(super) struct RigNetwork {
    pub(super) port: usize,
    pub(super) ground: Ground,
    pub(super) faults: Arc<Mutex<LineFaults>>,
    pub(super) devices: Vec<NetStation>,
}

/// What stands for the wires of a network.
pub(super) enum Ground {
    /// Loopback addresses.
    Loopback {
        /// Where the converter is.
        own: Ipv4Addr,
        /// The first three numbers of all addresses.
        base: [u8; 3],
    },
    /// A switch, on which addresses are those of the project.
    Switch(RigSwitch),
    /// An interface of this machine, likewise.
    Wire(String),
}

impl fmt::Display for Ground {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Loopback { own, .. } => own.fmt(f),
            Self::Switch(own) => f.write_str(&own.name),
            Self::Wire(own) => write!(f, "interface {own}"),
        }
    }
}

impl RigNetwork {
    /// A free corner of the loopback addresses with all devices of a port.
    ///
    /// # Errors
    /// A signal does not fit, or no address is free.
    pub(super) fn up(
        checked: &Checked,
        (port, wire): (usize, Option<&String>),
        read_file: &dyn Fn(&str) -> Result<String, String>,
        clock: Clock,
    ) -> Result<Self, String> {
        let protocol = protocol(checked, port).ok_or("its protocol exchanges nothing in cycles")?;
        let make =
            speaker(protocol).and_then(|own| own.node).ok_or("its protocol has no stations of a network")?;
        let sockets: &'static [Socket] = make(&NodeSetup::default()).sockets();
        let by_frames = sockets.iter().any(|own| matches!(own, Socket::Frames { .. }));
        let ground = match (by_frames, wire) {
            (true, Some(interface)) => Ground::Wire(interface.clone()),
            (true, None) => Ground::Switch(RigSwitch::up()?),
            (false, Some(_)) => return Err("only `ethernet` ports can be on an interface here".into()),
            (false, None) => {
                let base = free_base(sockets).ok_or("no loopback address is free for its stations")?;
                let [a, b, c] = base;
                Ground::Loopback { own: Ipv4Addr::new(a, b, c, 1), base }
            }
        };
        let mut network = Self { port, ground, faults: Arc::default(), devices: vec![] };
        let here = checked.plan.links.iter().filter(|link| link.port == port);
        let devices = here.clone().filter(|link| link.with.device().is_some()).count();
        let all = devices + network.controllers_of(checked, false).len();
        if all > STATIONS_MAX {
            return Err(format!(
                "{all} stations are on its network, and the rig holds {STATIONS_MAX} of one; part the project"
            ));
        }
        for (place, (link, device)) in here.filter_map(|link| Some((link, link.with.device()?))).enumerate() {
            let sim = SimDevice::new(checked, device, read_file)?;
            let setup = sim.station.setup.clone();
            let address = network.address(place + 1, None);
            let own = NodeLink {
                name: sim.name.clone(),
                setup,
                opens: None,
                writers: None,
                fault: LinkFaults::default(),
            };
            let station = network.station(checked, (Whom::Device(device), address), sim, own, link, clock)?;
            network.devices.push(station);
        }
        Ok(network)
    }

    /// Who opens the images of this network: each client that is described, or where there is none or all are to be `plain`
    /// one as the image itself would have it. Image and client, in the order of their places.
    pub(super) fn controllers_of(&self, checked: &Checked, plain: bool) -> Vec<(usize, Option<usize>)> {
        let links = checked.plan.links.iter().filter(|link| link.port == self.port);
        let images = links.filter_map(|link| match link.with {
            Owner::Image(image) => Some(image),
            _ => None,
        });
        let mut all = vec![];
        for image in images {
            let clients = checked.project.clients.iter().enumerate();
            let clients = clients.filter(|(_, own)| own.image.is_some_and(|own| own.value == image));
            let described: Vec<_> = clients.map(|(at, _)| (image, Some(at))).collect();
            match plain || described.is_empty() {
                true => all.push((image, None)),
                false => all.extend(described),
            }
        }
        all
    }

    /// The address of a controller by its place among them; `wanted` is what the project says.
    pub(super) fn address_of_controller(&self, place: usize, wanted: Option<Ipv4Addr>) -> Ipv4Addr {
        self.address(self.devices.len() + 1 + place, wanted)
    }

    fn address(&self, place: usize, wanted: Option<Ipv4Addr>) -> Ipv4Addr {
        let last = u8::try_from(place + 1).unwrap_or(u8::MAX);
        match self.ground {
            Ground::Loopback { base: [a, b, c], .. } => Ipv4Addr::new(a, b, c, last),
            Ground::Switch(_) | Ground::Wire(_) => {
                wanted.unwrap_or(Ipv4Addr::new(192, 0, 2, 200u8.saturating_add(last)))
            }
        }
    }

    /// Where the converter is for those who open it; on a switch the address that the image has or is to have.
    fn own(&self, station: &Station) -> Ipv4Addr {
        match self.ground {
            Ground::Loopback { own, .. } => own,
            Ground::Switch(_) | Ground::Wire(_) => station.own_address().unwrap_or(GIVEN),
        }
    }

    /// A controller of an image: as a client describes it, or as the image itself would have it.
    pub(super) fn controller(
        &self,
        checked: &Checked,
        ((image, client), place): ((usize, Option<usize>), usize),
        replays: &BTreeMap<String, String>,
        clock: Clock,
    ) -> Result<NetStation, String> {
        let link = checked.plan.link_of(Owner::Image(image)).ok_or("the image exchanges nothing")?;
        let station = checked.plan.images.get(image).ok_or("no such image")?;
        let dialect = station.dialect.ok_or("the image has no protocol")?;
        let described = client.and_then(|client| checked.project.clients.get(client));
        let usual = dialect.stations().other_end(&station.setup);
        let mut setup = described.map_or(usual.clone(), |client| client.setup.with(Some(&usual)));
        // What a client leaves open of a block is as the image has it; a list is its own.
        let lists = |key: &str| {
            dialect.keys().iter().any(|own| own.name == key && matches!(own.kind, KeyKind::Rows(_)))
        };
        for (key, row) in setup.rows.iter_mut().filter(|(key, _)| !lists(key)) {
            *row = row.with(usual.row(key));
        }
        let name =
            described.map_or_else(|| format!("{}'s controller", station.name), |own| own.name.value.clone());
        let signals: Vec<_> = checked
            .project
            .rig
            .client_signals
            .iter()
            .filter(|(of, ..)| Some(*of) == client)
            .map(|(_, target, signal)| (target.clone(), signal.clone()))
            .collect();
        let sim = SimDevice::controller(checked, image, &name, &signals, &|path| {
            replays.get(path).cloned().ok_or_else(|| format!("{path}: it was not read when the rig began"))
        })?;
        let own = NodeLink {
            name,
            setup,
            opens: Some(self.own(station)),
            writers: None,
            fault: LinkFaults::default(),
        };
        let whom = Whom::Controller { image, client };
        let wanted = described.and_then(|own| own.address.as_ref()).map(|own| own.value);
        let address = self.address_of_controller(place, wanted);
        self.station(checked, (whom, address), sim, own, link, clock)
    }

    fn station(
        &self,
        checked: &Checked,
        (whom, address): (Whom, Ipv4Addr),
        sim: SimDevice,
        own: NodeLink,
        link: &CyclicLink,
        clock: Clock,
    ) -> Result<NetStation, String> {
        let said = |fault: crate::port::tty::OpenFault| fault.what;
        let protocol = protocol(checked, self.port).ok_or("no protocol")?;
        let make = speaker(protocol).and_then(|own| own.node).ok_or("no node")?;
        let spaces = sim.station.spaces.clone();
        let unit = sim.station.dialect.and_then(|dialect| {
            // As an image is named: by the number of its inputs.
            let bare = Setup { words: vec![], ..sim.station.setup.clone() };
            u16::try_from(dialect.stations().number(&bare)?).ok()
        });
        let serves = ServerSetup { stations: vec![(unit, spaces)], ..ServerSetup::default() };
        let sim = Arc::new(Mutex::new(sim));
        let seen = Arc::<Mutex<SeenLink>>::default();
        let setup = NodeSetup {
            links: vec![own],
            port: Setup::default(),
            address: Some(address),
            first: another(),
            kept: vec![],
        };
        let node = make(&setup);
        let sockets = node.sockets();
        let end = StationEnd {
            sim: Arc::clone(&sim),
            seen: Arc::clone(&seen),
            blocks: ExchangedBlocks::of(link),
            setup,
            serves,
            clock,
        };
        let door = StationDoor {
            sim: Arc::clone(&sim),
            line: Arc::clone(&self.faults),
            dice: Dice::new(u64::from(u32::from(address))),
        };
        let at = match &self.ground {
            Ground::Loopback { .. } => Place::Address(address),
            Ground::Switch(switch) => Place::Switch(switch.name.clone()),
            Ground::Wire(interface) => Place::Interface(interface.clone()),
        };
        let open = at.open(sockets, None).map_err(said)?;
        let machine = NetMachine::new(node, Box::new(end));
        let worker = idle_worker().map_err(said)?;
        let ready = ReadyNet::new(worker, at, machine, Box::new(door), Some(open), clock).map_err(said)?;
        Ok(NetStation { whom, address, sim, seen, thread: ready.begin() })
    }

    /// What goes wrong on its line has changed.
    pub(super) fn line(&self) -> MutexGuard<'_, LineFaults> {
        self.faults.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

fn protocol(checked: &Checked, port: usize) -> Option<&'static str> {
    Some(checked.project.ports.get(port)?.protocol?.value.name())
}

/// Three numbers below which nobody has these sockets.
fn free_base(sockets: &[Socket]) -> Option<[u8; 3]> {
    (0..TRIES).find_map(|_| {
        let [high, low] = another().to_be_bytes();
        let [third, _] = another().to_be_bytes();
        // 127.0 stands for clients that only ask.
        let base = [127, high.max(1), low ^ third];
        let [a, b, c] = base;
        open_sockets(Ipv4Addr::new(a, b, c, 1), sockets, None).ok().map(|_| base)
    })
}
