//! The project file and its profiles as typed data, each value with the place where it was written.

mod asked;
mod endpoint;
mod fields;
mod keys;
mod profile;
mod read;
mod scalars;
mod signal;

pub use crate::line::{Line, Parity};
pub use asked::{Asked, parse_asked};
pub(crate) use asked::{address, list_or};
pub use endpoint::{Endpoint, Health, Owner, Target};
pub use keys::{KEYS, keys_of};
pub use profile::{Point, Profile};
pub use read::{Read, read};
pub use scalars::{HostPort, Network, Retry, show_micros};
pub use signal::{Noun, RigFault, Shape, Signal, Trouble};

use crate::form::Overflow;
use crate::protocol::{Dialect, Setup, Transport};
use crate::source::{At, Sources, Span};
use std::collections::HashMap;
use std::net::Ipv4Addr;

/// Everything that the project file and its profiles say. Faulty parts are left out or stand at their defaults; the
/// findings of [`read`] tell which.
#[derive(Debug, Default)]
pub struct Project {
    /// The files, for showing places.
    pub sources: Sources,
    /// `[project] name`.
    pub name: At<String>,
    /// `[converter]`.
    pub converter: Converter,
    /// `[ports.NAME]`, in file order.
    pub ports: Vec<Port>,
    /// `[devices.NAME]`, in file order.
    pub devices: Vec<Device>,
    /// `[images.NAME]`, in file order.
    pub images: Vec<Image>,
    /// `[[map]]`, in file order.
    pub maps: Vec<Map>,
    /// `[clients.NAME]`, in file order.
    pub clients: Vec<Client>,
    /// `[rig]`.
    pub rig: Rig,
    /// The profiles that devices name, each once.
    pub profiles: Vec<Profile>,
    /// Devices and images by name: a large project looks up two for each of its rules.
    pub(crate) owners: HashMap<String, Owner>,
}

/// The box itself.
#[derive(Debug, Default)]
pub struct Converter {
    /// Its address with prefix length.
    pub address: Option<At<Network>>,
    /// The router of its subnet.
    pub router: Option<At<Ipv4Addr>>,
}

/// A place where wires meet the converter.
#[derive(Debug)]
pub struct Port {
    /// Its name and where that stands.
    pub name: At<String>,
    /// What it is made of; `None` where the file does not say.
    pub wires: Option<Wires>,
    /// What is spoken.
    pub protocol: Option<At<&'static dyn Dialect>>,
    /// At least this between two messages, in microseconds; `None` for the protocol's own.
    pub silence: Option<At<u64>>,
    /// Wait for an answer, in microseconds.
    pub timeout: u64,
    /// Further tries of one request.
    pub retries: u32,
    /// Connections at once (listen).
    pub max_clients: u32,
    /// Who may connect (listen); `None` for everybody.
    pub allow: Option<At<Vec<At<Network>>>>,
    /// A connection silent for so long is closed, in microseconds.
    pub idle_timeout: u64,
}

/// What a port is made of.
#[derive(Debug, Clone)]
pub enum Wires {
    /// A serial line.
    Serial {
        /// Path of the line.
        path: At<String>,
        /// Speed and character; `None` where left out or not understood.
        line: Option<At<Line>>,
        /// `rs232`, `rs485`, `rs485-4w`, `rs422`.
        wiring: Option<At<String>>,
    },
    /// A listening TCP socket.
    Listen {
        /// Host and port.
        at: At<HostPort>,
    },
}

impl Port {
    /// What carries it.
    #[must_use]
    pub fn transport(&self) -> Option<Transport> {
        self.wires.as_ref().map(|wires| match wires {
            Wires::Serial { .. } => Transport::Serial,
            Wires::Listen { .. } => Transport::Listen,
        })
    }

    /// The line's settings, if it is a serial one and they are understood.
    #[must_use]
    pub fn line(&self) -> Option<At<Line>> {
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
    pub name: At<String>,
    /// Index of its port.
    pub port: Option<At<usize>>,
    /// Index of its profile.
    pub profile: Option<At<usize>>,
    /// Keys of its protocol and request limits, profile's values filled in.
    pub setup: Setup,
    /// Where its station stands: the key, or the name where the profile's is taken.
    pub station_at: Span,
    /// Whether the station was written, not taken from the profile.
    pub station_written: bool,
    /// What the device itself is set to, if its own entry says so.
    pub line: Option<At<Line>>,
    /// Points that some rule must carry.
    pub needs: Vec<At<String>>,
    /// How often it is polled, in microseconds.
    pub poll: At<u64>,
    /// Unused grains that may be read to join two reads.
    pub join: u32,
    /// Failed polls in a row before it counts as lost.
    pub lost_after: u32,
    /// How often it is tried once lost.
    pub retry: Retry,
    /// Sizes of its spaces by name, if known.
    pub tables: Vec<(At<String>, u32)>,
}

/// What the converter shows.
#[derive(Debug)]
pub struct Image {
    /// Its name and where that stands.
    pub name: At<String>,
    /// Index of its port.
    pub port: Option<At<usize>>,
    /// Keys of its protocol.
    pub setup: Setup,
    /// Where its station stands, or the name.
    pub station_at: Span,
    /// What a reader gets once a source is lost.
    pub on_loss: OnLoss,
    /// A value older than this counts as lost, in microseconds; `None` for the default.
    pub max_age: Option<u64>,
    /// An address that no rule feeds reads as zero.
    pub unmapped_zero: bool,
}

/// What a reader gets once a value's source is lost.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum OnLoss {
    /// A refusal.
    #[default]
    Refuse,
    /// The last value; a refusal while there has been none.
    Hold,
    /// One word repeated, 0 or 1 for bits.
    Fill(u16),
}

/// A rule: data flows from `from` to `to`.
#[derive(Debug)]
pub struct Map {
    /// The whole rule's place: its header.
    pub span: Span,
    /// A name for messages and reports.
    pub name: Option<At<String>>,
    /// Source, as written.
    pub from: At<String>,
    /// Target, as written.
    pub to: At<String>,
    /// Values in a row.
    pub count: Option<At<u32>>,
    /// `false` keeps it in the file and out of work.
    pub enabled: bool,
    /// Whether a write on the `to` side goes back to `from`.
    pub read_write: Option<Span>,
    /// Overrides the device's poll, in microseconds.
    pub poll: Option<At<u64>>,
    /// Overrides the image's.
    pub on_loss: Option<OnLoss>,
    /// What becomes of a value that does not fit.
    pub overflow: Overflow,
}

/// Somebody who asks the converter, as set up at their end.
#[derive(Debug)]
pub struct Client {
    /// Its name and where that stands.
    pub name: At<String>,
    /// Index of the image that it asks.
    pub image: Option<At<usize>>,
    /// Its own address.
    pub address: Option<At<Ipv4Addr>>,
    /// Host and port set there.
    pub dials: Option<At<HostPort>>,
    /// The framing set there.
    pub protocol: Option<At<&'static dyn Dialect>>,
    /// What it reads.
    pub reads: Vec<Asked>,
    /// What it writes.
    pub writes: Vec<Asked>,
    /// Endpoints that it must be able to see.
    pub needs: Vec<At<String>>,
    /// Registers in one of its requests.
    pub max_read: Option<u32>,
    /// After which it gives up, in microseconds.
    pub timeout: Option<At<u64>>,
}

/// The bench.
#[derive(Debug, Default)]
pub struct Rig {
    /// Makes a run repeatable.
    pub seed: u64,
    /// What simulated devices do: device, point or address as written, signal.
    pub signals: Vec<(usize, At<String>, Signal)>,
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

    /// A device's port, where both are sound.
    #[must_use]
    pub fn port_of(&self, device: &Device) -> Option<&Port> {
        self.ports.get(device.port?.value)
    }

    /// The dialect spoken with a device.
    #[must_use]
    pub fn device_dialect(&self, device: usize) -> Option<&'static dyn Dialect> {
        let device = self.devices.get(device)?;
        self.port_of(device)?.protocol.map(|protocol| protocol.value)
    }

    /// The dialect in which an image answers.
    #[must_use]
    pub fn image_dialect(&self, image: usize) -> Option<&'static dyn Dialect> {
        let port = self.images.get(image)?.port?.value;
        self.ports.get(port)?.protocol.map(|protocol| protocol.value)
    }

    /// A device's profile.
    #[must_use]
    pub fn profile_of(&self, device: usize) -> Option<&Profile> {
        self.profiles.get(self.devices.get(device)?.profile?.value)
    }

    /// What the device is set to: its own entry, or the profile's as-shipped setting.
    #[must_use]
    pub fn line_of(&self, device: usize) -> Option<At<Line>> {
        let own = self.devices.get(device)?.line;
        own.or_else(|| self.profile_of(device)?.line)
    }
}
