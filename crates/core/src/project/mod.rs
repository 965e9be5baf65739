//! The project file and its profiles as typed data, each value with the place where it was written.

mod areas;
mod asked;
pub(crate) mod caps;
mod client_lists;
mod declared;
mod endpoint;
mod fault_kinds;
mod faults;
mod fields;
mod forward;
mod health;
mod keys;
mod kinds;
mod nodes;
mod own_keys;
mod profile;
mod read;
mod read_blocks;
mod read_clients;
mod read_ports;
mod read_profiles;
mod read_rig;
mod reader;
mod repeat;
mod rule;
mod scalars;
mod signal;

pub use crate::line::{Line, LineFault, Parity};
pub use crate::shown::show_micros;
pub(crate) use areas::at_address;
pub use areas::{Area, AreaSlots, AreaUse, has_address};
pub use asked::{Asked, parse_asked};
pub(crate) use asked::{address, at_form, list_or};
pub use client_lists::{ClientList, ListedAs};
pub use endpoint::{Endpoint, Owner, Target};
pub use fault_kinds::{
    AS_UNIT, CLOSE, CUT, DROP_ACK, FAULTS, IDLE, LATE, MUTE, NOISE, READ_ONLY, REFUSE, RENAME, RETYPE,
    SECOND_OWNER, SHORT, SLOW, TWICE, UNPLUG, WRONG_SIZE,
};
pub use faults::{
    Changes, DeviceFaults, Fault, FaultKind, FaultNumber, FaultValue, LineFaults, RigFault, Takes,
};
pub use forward::Forward;
pub use keys::{KEYS, all_keys, keys_of};
pub use profile::{Point, Profile, Role};
pub use read::{Read, read};
pub use read_blocks::SetUpEntry;
pub use rule::{Map, OnLoss, Polling, Sending};
pub use scalars::{HostPort, Network, Retry, duration as micros};
pub use signal::{Shape, Signal};

pub use health::{BoxHealth, Health, HealthItem, ImageHealth, PortHealth};

use crate::ledger::Issue;
use crate::protocol::{Address, AddressContext, AddressFault, Dialect, Setup, Transport};
use crate::source::{Sources, Span, Spanned};
use std::collections::HashMap;
use std::net::Ipv4Addr;

/// Everything that the project file and its profiles say. Faulty parts are left out or stand at their defaults; the
/// findings of [`read`] tell which.
#[derive(Debug, Default)]
pub struct Project {
    /// The files, for showing places.
    pub sources: Sources,
    /// `[project] name`.
    pub name: Spanned<String>,
    /// `[converter]`.
    pub converter: Converter,
    /// `[ports.NAME]`, in file order.
    pub ports: Vec<Port>,
    /// `[devices.NAME]`, in file order.
    pub devices: Vec<Device>,
    /// `[images.NAME]`, in file order.
    pub images: Vec<Image>,
    /// What was handed over, as the ledger says, the first issue first.
    pub issues: Vec<Issue>,
    /// `[areas.NAME]`, in file order.
    pub areas: Vec<Area>,
    /// `[[map]]`, in file order.
    pub maps: Vec<Map>,
    /// `[[forward]]`, in file order.
    pub forwards: Vec<Forward>,
    /// `[clients.NAME]`, in file order.
    pub clients: Vec<Client>,
    /// `[rig]`.
    pub rig: Rig,
    /// The profiles that devices name, each once.
    pub profiles: Vec<Profile>,
    /// Devices and images by name: a large project looks up two for each of its rules.
    pub(crate) owners: HashMap<String, Owner>,
    /// Rules by name.
    pub(crate) rule_names: HashMap<String, usize>,
}

/// The box itself.
#[derive(Debug, Default)]
pub struct Converter {
    /// Its address with prefix length.
    pub address: Option<Spanned<Network>>,
    /// The router of its subnet.
    pub router: Option<Spanned<Ipv4Addr>>,
    /// The file that gets a row for every write of a client.
    pub write_log: Option<Spanned<String>>,
    /// Megabytes of one write log.
    pub write_log_mb: u32,
    /// Write logs that are kept.
    pub write_log_files: u32,
    /// What the box takes.
    pub limits: Limits,
}

/// `[converter.limits]`: what the box takes; `None` where nothing is known.
#[derive(Debug, Default)]
pub struct Limits {
    /// Connections at once, over all ports.
    pub clients: Option<Spanned<u32>>,
    /// Devices on one serial line.
    pub devices_per_line: Option<Spanned<u32>>,
    /// Serial lines.
    pub lines: Option<Spanned<u32>>,
    /// Values in all rules.
    pub values: Option<Spanned<u32>>,
}

/// A place where wires meet the converter.
#[derive(Debug)]
pub struct Port {
    /// Its name and where that stands.
    pub name: Spanned<String>,
    /// What it is made of; `None` where the file does not say.
    pub wires: Option<Wires>,
    /// What is spoken.
    pub protocol: Option<Spanned<&'static dyn Dialect>>,
    /// Keys of its protocol.
    pub setup: Setup,
    /// Where each of them stands.
    pub settings: Vec<(&'static str, Span)>,
    /// At least this between two messages, in microseconds; `None` for the protocol's own.
    pub frame_gap: Option<Spanned<u64>>,
    /// Wait for an answer, in microseconds.
    pub timeout: Spanned<u64>,
    /// Further tries of one request.
    pub retries: u32,
    /// Wait after a broadcast, in microseconds.
    pub turnaround: u64,
    /// The adapter gives back what we send (serial).
    pub echo: bool,
    /// Connections at once (listen).
    pub max_clients: u32,
    /// Of those, from one address while all places are taken (listen); `None` for the default, a half.
    pub per_address: Option<Spanned<u32>>,
    /// Who may connect (listen); `None` for all.
    pub allow: Option<Spanned<Vec<Spanned<Network>>>>,
    /// A connection silent for so long is closed, in microseconds.
    pub idle_timeout: u64,
}

/// What a port is made of.
#[derive(Debug, Clone)]
pub enum Wires {
    /// A serial line.
    Serial {
        /// Path of the line.
        path: Spanned<String>,
        /// Speed and character; `None` where left out or not understood.
        line: Option<Spanned<Line>>,
        /// `rs232`, `rs485`, `rs485-4w`, `rs422`.
        wiring: Option<Spanned<String>>,
    },
    /// A listening TCP socket.
    Listen {
        /// Host and port.
        at: Spanned<HostPort>,
    },
    /// An outgoing TCP connection.
    Connect {
        /// Host and port.
        to: Spanned<HostPort>,
    },
    /// A virtual serial port that we make.
    Pty {
        /// Where others find it.
        path: Spanned<String>,
    },
    /// An address of ours on a network, with all sockets of the protocol.
    Network {
        /// Our address; 0.0.0.0 for whichever the machine has.
        at: Spanned<Ipv4Addr>,
    },
    /// An interface on which frames go without IP, or with one that is the protocol's own.
    Ethernet {
        /// As the system calls it.
        interface: Spanned<String>,
    },
}

impl Wires {
    /// What it is and where, in one line: what must be the same for it to be the same port.
    #[must_use]
    pub fn identity(&self) -> String {
        match self {
            Self::Serial { path, line, wiring } => {
                let line = line.map(|line| line.value.to_string()).unwrap_or_default();
                let wiring = wiring.as_ref().map(|wiring| wiring.value.as_str()).unwrap_or_default();
                format!("serial {} {line} {wiring}", path.value)
            }
            Self::Listen { at } => format!("listen {}", at.value),
            Self::Connect { to } => format!("connect {}", to.value),
            Self::Pty { path } => format!("pty {}", path.value),
            Self::Network { at } => format!("network {}", at.value),
            Self::Ethernet { interface } => format!("ethernet {}", interface.value),
        }
    }
}

impl Port {
    /// What carries it.
    #[must_use]
    pub fn transport(&self) -> Option<Transport> {
        self.wires.as_ref().map(|wires| match wires {
            Wires::Serial { .. } => Transport::Serial,
            Wires::Listen { .. } => Transport::Listen,
            Wires::Connect { .. } => Transport::Connect,
            Wires::Pty { .. } => Transport::Pty,
            Wires::Network { .. } => Transport::Network,
            Wires::Ethernet { .. } => Transport::Ethernet,
        })
    }

    /// Connections from one address while all places are taken: at least one, by default a half of them.
    #[must_use]
    pub fn max_clients_per_address(&self) -> u32 {
        self.per_address.map_or(self.max_clients / 2, |each| each.value).max(1)
    }

    /// Whether bytes pass unread there.
    #[must_use]
    pub fn is_opaque(&self) -> bool {
        self.protocol.is_some_and(|protocol| protocol.value.is_opaque())
    }

    /// Where it is, in words to stand after "is": `the serial line /dev/ttyUSB0`.
    #[must_use]
    pub fn whereabouts(&self) -> String {
        match &self.wires {
            None => "nowhere yet".into(),
            Some(Wires::Serial { path, .. }) => format!("the serial line {}", path.value),
            Some(Wires::Listen { at }) => format!("listening at {}", at.value),
            Some(Wires::Connect { to }) => format!("a connection to {}", to.value),
            Some(Wires::Pty { path }) => format!("the virtual serial port {}", path.value),
            Some(Wires::Network { at }) => format!("all sockets of {}", at.value),
            Some(Wires::Ethernet { interface }) => format!("the Ethernet interface {}", interface.value),
        }
    }

    /// The line's settings, if it is a serial one and they are understood.
    #[must_use]
    pub fn line(&self) -> Option<Spanned<Line>> {
        match &self.wires {
            Some(Wires::Serial { line, .. }) => *line,
            _ => None,
        }
    }
}

/// What the converter asks.
#[derive(Debug)]
pub struct Device {
    /// Its name and where that stands.
    pub name: Spanned<String>,
    /// Index of its port.
    pub port: Option<Spanned<usize>>,
    /// Index of another port by which it is written.
    pub write_port: Option<Spanned<usize>>,
    /// Index of its profile.
    pub profile: Option<Spanned<usize>>,
    /// Keys of its protocol and request limits, profile's values filled in.
    pub setup: Setup,
    /// Where each of its protocol's keys stands.
    pub settings: Vec<(&'static str, Span)>,
    /// Where its station stands: the key, or the name where the profile's is taken.
    pub station_at: Span,
    /// Whether the station was written, not taken from the profile.
    pub station_written: bool,
    /// What the device itself is set to, if its own entry says so.
    pub line: Option<Spanned<Line>>,
    /// Points that some rule must carry.
    pub must_map: Vec<Spanned<String>>,
    /// How often it is polled.
    pub poll: Spanned<Polling>,
    /// Unused grains that may be read to join two reads.
    pub read_gap: u32,
    /// Failed polls in a row before it counts as lost.
    pub lost_after: u32,
    /// How often it is tried once lost.
    pub retry: Retry,
    /// Sizes of its spaces by name, if known.
    pub tables: Vec<(Spanned<String>, u32)>,
    /// Added to every address of its profile.
    pub shift: Spanned<i64>,
    /// What its parameters shall be, in this order.
    pub set_up: Vec<SetUpEntry>,
    /// Which repetition of an entry it is.
    pub n: Option<u32>,
}

impl Device {
    /// Whether it is asked or written by this port.
    #[must_use]
    pub fn is_on(&self, port: usize) -> bool {
        [self.port, self.write_port].into_iter().flatten().any(|own| own.value == port)
    }
}

/// What the converter shows.
#[derive(Debug)]
pub struct Image {
    /// Its name and where that stands.
    pub name: Spanned<String>,
    /// Index of its port.
    pub port: Option<Spanned<usize>>,
    /// Keys of its protocol.
    pub setup: Setup,
    /// Where each of them stands.
    pub settings: Vec<(&'static str, Span)>,
    /// Where its station stands, or the name.
    pub station_at: Span,
    /// What a reader gets once a source is lost.
    pub on_loss: OnLoss,
    /// A value older than this counts as lost, in microseconds; `None` for the default.
    pub max_age: Option<u64>,
    /// An address that no rule feeds reads as zero.
    pub unmapped_zero: bool,
    /// Who may write; `None` for all who may connect.
    pub writers: Option<Spanned<Vec<Spanned<Network>>>>,
}

/// A client of the converter, as set up at its end.
#[derive(Debug)]
pub struct Client {
    /// Its name and where that stands.
    pub name: Spanned<String>,
    /// Index of the image that it asks.
    pub image: Option<Spanned<usize>>,
    /// Index of the port that it asks through a forward, and the units.
    pub port: Option<Spanned<usize>>,
    /// The units that it asks there.
    pub units: Option<Spanned<Vec<u16>>>,
    /// The device that it means behind each of them, by name, where it says so.
    pub meant: Vec<(u16, Spanned<String>)>,
    /// The unit that it asks its image by.
    pub unit: Option<Spanned<u32>>,
    /// What it expects of a value that is lost.
    pub lost: Option<Spanned<OnLoss>>,
    /// The list that its programmer has typed into it.
    pub list: Option<ClientList>,
    /// Keys of its image's protocol.
    pub setup: Setup,
    /// Where each of them stands.
    pub settings: Vec<(&'static str, Span)>,
    /// Its line settings, where it is a serial one.
    pub line: Option<Spanned<Line>>,
    /// Its own address.
    pub address: Option<Spanned<Ipv4Addr>>,
    /// Host and port set there.
    pub dials: Option<Spanned<HostPort>>,
    /// The framing set there.
    pub protocol: Option<Spanned<&'static dyn Dialect>>,
    /// What it reads.
    pub reads: Vec<Asked>,
    /// What it writes.
    pub writes: Vec<Asked>,
    /// Endpoints that it must be able to see.
    pub must_read: Vec<Spanned<String>>,
    /// Registers in one of its requests.
    pub max_read: Option<u32>,
    /// After which it gives up, in microseconds.
    pub timeout: Option<Spanned<u64>>,
}

/// The bench.
#[derive(Debug, Default)]
pub struct Rig {
    /// Makes a run repeatable.
    pub seed: u64,
    /// What simulated devices do: device, point or address as written, signal.
    pub signals: Vec<(usize, Spanned<String>, Signal)>,
    /// What simulated controllers send in cycles: client, address as written, signal.
    pub client_signals: Vec<(usize, Spanned<String>, Signal)>,
    /// What goes wrong when.
    pub faults: Vec<RigFault>,
}

impl Project {
    /// The device of that name.
    #[must_use]
    pub fn device(&self, name: &str) -> Option<usize> {
        self.devices.iter().position(|device| device.name.value == name)
    }

    /// The image of that name.
    #[must_use]
    pub fn image(&self, name: &str) -> Option<usize> {
        self.images.iter().position(|image| image.name.value == name)
    }

    /// The port of that name.
    #[must_use]
    pub fn port(&self, name: &str) -> Option<usize> {
        self.ports.iter().position(|port| port.name.value == name)
    }

    /// The client of that name.
    #[must_use]
    pub fn client(&self, name: &str) -> Option<usize> {
        self.clients.iter().position(|client| client.name.value == name)
    }

    /// The clients that ask an image.
    pub fn clients_of(&self, image: usize) -> impl Iterator<Item = &Client> {
        self.clients.iter().filter(move |client| client.image.is_some_and(|own| own.value == image))
    }

    /// A device's port, where both are sound.
    #[must_use]
    pub fn port_of(&self, device: &Device) -> Option<&Port> {
        self.ports.get(device.port?.value)
    }

    /// The dialect spoken with a device.
    #[must_use]
    pub fn device_dialect(&self, device: usize) -> Option<&'static dyn Dialect> {
        let device = self.devices.get(device)?;
        let spoken = self.port_of(device)?.protocol?.value;
        Some(spoken.by_memory(&device.setup).unwrap_or(spoken))
    }

    /// The dialect in which an image answers.
    #[must_use]
    pub fn image_dialect(&self, image: usize) -> Option<&'static dyn Dialect> {
        let image = self.images.get(image)?;
        let spoken = self.ports.get(image.port?.value)?.protocol?.value;
        Some(spoken.by_memory(&image.setup).unwrap_or(spoken))
    }

    /// The address of a point in a device: its own, moved by its place in a row and by the device's shift.
    ///
    /// # Errors
    /// The address is not understood, or moved out of its table.
    pub fn point_address(&self, device: usize, point: &Point) -> Result<Address, AddressFault> {
        let fault =
            |what: String| AddressFault { code: "F10", at: 0..point.at.value.len(), what, likely: vec![] };
        let (Some(dialect), Some(own)) = (self.device_dialect(device), self.devices.get(device)) else {
            return Err(fault("its device has no protocol".into()));
        };
        let context = AddressContext::of_device(&own.setup).with_form(point.form.map(|form| form.value));
        let mut address = dialect.notation().parse(&point.at.value, &context)?;
        let moved = i64::from(address.first) + i64::from(point.later) + own.shift.value;
        let within = |first: &u32| address.space.len.is_none_or(|len| *first < len);
        address.first = u32::try_from(moved).ok().filter(within).ok_or_else(|| {
            fault(format!(
                "`{}` moved by {} leaves its table",
                point.at.value,
                i64::from(point.later) + own.shift.value
            ))
        })?;
        Ok(address)
    }

    /// A device's profile.
    #[must_use]
    pub fn profile_of(&self, device: usize) -> Option<&Profile> {
        self.profiles.get(self.devices.get(device)?.profile?.value)
    }

    /// What the device is set to: its own entry, or the profile's as-shipped setting.
    #[must_use]
    pub fn line_of(&self, device: usize) -> Option<Spanned<Line>> {
        let own = self.devices.get(device)?.line;
        own.or_else(|| self.profile_of(device)?.line)
    }
}
