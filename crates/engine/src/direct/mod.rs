//! A person's way to one station: over a port opened for it, or through a running converter that has the port.

mod diagnosis;
mod handler;

pub use diagnosis::{Cause, Diagnosis, diagnose, unopened};
pub use handler::ControlHandler;

use crate::control::Remote;
use crate::port::Way;
use crate::speak::{Ask, Message};
use crate::{Dialer, Evidence};
use std::net::SocketAddr;
use std::path::PathBuf;
use woodrush_core::budget::LineTime;
use woodrush_core::plan::Station;
use woodrush_core::project::Line;
use woodrush_core::protocol::Extent;
use woodrush_core::{Blame, Kind, Refusal};

/// Where a way leads.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Link {
    /// A serial line.
    Serial {
        /// Its path.
        path: PathBuf,
        /// What it is set to.
        line: Line,
        /// Two wires: the direction is driven where the platform can.
        two_wires: bool,
        /// The adapter gives back what is sent.
        echo: bool,
    },
    /// A socket.
    Socket(SocketAddr),
}

impl Link {
    /// In words: `/dev/ttyUSB0 at 38400 8E1`, `192.0.2.40:502`.
    #[must_use]
    pub fn shown(&self) -> String {
        match self {
            Self::Serial { path, line, .. } => format!("{} at {line}", path.display()),
            Self::Socket(to) => to.to_string(),
        }
    }
}

/// Why a way is not open.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Closed {
    /// What is in the way.
    pub what: String,
    /// What to do.
    pub fix: String,
}

/// What was answered, and how long it took.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DirectAnswer {
    /// Cells of a read, nothing for a write, the body of the answer to what was passed on.
    pub cells: Vec<u8>,
    /// In microseconds.
    pub took: u64,
}

/// A way to stations of one port.
pub struct Direct(Leg);

enum Leg {
    Own { dialer: Box<Dialer>, station: Option<Station> },
    Held { remote: Remote, port: String, evidence: Evidence },
}

impl Direct {
    /// Opens a way. Of `line` its times; a socket has none but the timeout.
    ///
    /// # Errors
    /// It cannot be opened, with the fix.
    pub fn open(link: &Link, line: LineTime, station: &Station) -> Result<Self, Closed> {
        let (way, echo) = match link {
            Link::Serial { path, line, two_wires, echo } => {
                (Way::Serial { path: path.clone(), line: *line, two_wires: *two_wires }, *echo)
            }
            Link::Socket(to) => (Way::Connect { to: *to }, false),
        };
        let open = way.open().map_err(|fault| Closed { what: fault.what, fix: fault.fix })?;
        let protocol = station.dialect.map_or("", |dialect| dialect.name());
        let dialer = Dialer::opened(open.fd, line, protocol, station, echo).map_err(|_| Closed {
            what: format!("`{protocol}` cannot be used there"),
            fix: "name a protocol that reads and writes values".into(),
        })?;
        Ok(Self(Leg::Own { dialer: Box::new(dialer), station: Some(station.clone()) }))
    }

    /// Through the converter that has the port, so that two never ask on one line.
    #[must_use]
    pub fn through(remote: Remote, port: &str) -> Self {
        Self(Leg::Held { remote, port: port.into(), evidence: Evidence::default() })
    }

    /// Whether a running converter asks for us.
    #[must_use]
    pub fn is_held(&self) -> bool {
        matches!(self.0, Leg::Held { .. })
    }

    /// Reads cells.
    ///
    /// # Errors
    /// What the station answered instead, or that it did not.
    pub fn read(&mut self, station: &Station, extent: Extent) -> Result<DirectAnswer, Refusal> {
        self.ask(station, Ask::read(0, extent))
    }

    /// Writes cells.
    ///
    /// # Errors
    /// What the station answered instead, or that it did not.
    pub fn write(
        &mut self,
        station: &Station,
        extent: Extent,
        cells: Vec<u8>,
    ) -> Result<DirectAnswer, Refusal> {
        self.ask(station, Ask::Write { station: 0, extent, cells })
    }

    /// Changes some bits of one grain; where the station has no request for it, by reading it first.
    ///
    /// # Errors
    /// What the station answered instead, or that it did not.
    pub fn change(
        &mut self,
        station: &Station,
        extent: Extent,
        keep: &[u8],
        set: &[u8],
    ) -> Result<DirectAnswer, Refusal> {
        let ask = Ask::Change { station: 0, extent, keep: keep.to_vec(), set: set.to_vec() };
        match self.ask(station, ask) {
            Err(Refusal { kind: Kind::NoSuchCommand, blame: Blame::Device, .. }) => {
                let old = self.read(station, extent)?.cells;
                let bits = old.iter().zip(keep).zip(set);
                self.write(station, extent, bits.map(|((old, keep), set)| old & keep | set & !keep).collect())
            }
            other => other,
        }
    }

    /// Sends a whole request to any unit and gives back the whole answer.
    ///
    /// # Errors
    /// That no sound answer came.
    pub fn pass(&mut self, station: &Station, unit: u16, message: Message) -> Result<DirectAnswer, Refusal> {
        self.ask(station, Ask::Pass { unit, message })
    }

    fn ask(&mut self, station: &Station, ask: Ask) -> Result<DirectAnswer, Refusal> {
        match &mut self.0 {
            Leg::Own { dialer, station: present } => {
                if present.as_ref().is_none_or(|present| !same(present, station)) {
                    dialer.turn_to(station);
                    *present = Some(station.clone());
                }
                let cells = dialer.ask(ask)?;
                Ok(DirectAnswer { cells, took: dialer.evidence().took })
            }
            Leg::Held { remote, port, evidence } => {
                let answered;
                (answered, *evidence) = handler::ask(remote, port, station, &ask);
                answered.map(|cells| DirectAnswer { cells, took: evidence.took })
            }
        }
    }

    /// What the last exchange looked like; little where a running converter asked for us.
    #[must_use]
    pub fn evidence(&self) -> &Evidence {
        match &self.0 {
            Leg::Own { dialer, .. } => dialer.evidence(),
            Leg::Held { evidence, .. } => evidence,
        }
    }
}

fn same(one: &Station, other: &Station) -> bool {
    let keys = |station: &Station| station.spaces.iter().map(|space| space.key.clone()).collect::<Vec<_>>();
    one.setup == other.setup && one.name == other.name && keys(one) == keys(other)
}
