//! Who is on a link: their numbers, our own, and what the other end is set to.

use super::{Setup, Transport};
use serde::{Serialize, Serializer};
use std::fmt;
use std::ops::Range;
use std::sync::Arc;

/// Who speaks on a link of a protocol.
pub trait Stations {
    /// Whether it is a link of two ends, both of which may send at once.
    fn joins_two_ends(&self) -> bool {
        false
    }
    /// Whether one end of a link answers for all of its stations.
    fn one_answers_for_all(&self) -> bool {
        false
    }
    /// Our own number on a port, where stations have one for clients too.
    fn own_station(&self, _port: &Setup) -> Option<u32> {
        None
    }
    /// What must be set up at the other side before a connection or a place on the line is there, in words; `None` where
    /// every station is there by itself.
    fn to_set_up(&self, _link: &Link<'_>) -> Option<String> {
        None
    }
    /// What the other end of a connection is set to, out of our own keys: a client's or a simulated device's.
    fn other_end(&self, own: &Setup) -> Setup {
        own.clone()
    }
    /// The station on its line, for messages and for telling that two are one: `unit 23`. `None` where it is open.
    fn station(&self, _setup: &Setup) -> Option<StationId> {
        None
    }
    /// Keys whose values are set at the other end too: a change here needs the same change there.
    fn shared_keys(&self) -> &'static [&'static str] {
        &[]
    }
    /// The key that says the station, and the numbers that it may have on such a port, none where stations have names;
    /// `None` where a port has one station only.
    fn station_key(&self, _transport: Transport) -> Option<(&'static str, Range<u32>)> {
        None
    }
}

/// Who a station is on its link.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum StationId {
    /// By number.
    Number(u32),
    /// By name.
    Name(Arc<str>),
}

impl StationId {
    /// Its number; `None` where it has a name.
    #[must_use]
    pub const fn number(&self) -> Option<u32> {
        match self {
            Self::Number(number) => Some(*number),
            Self::Name(_) => None,
        }
    }
}

/// As the number or text that it is.
impl Serialize for StationId {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        match self {
            Self::Number(number) => to.serialize_u32(*number),
            Self::Name(name) => to.serialize_str(name),
        }
    }
}

impl fmt::Display for StationId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Number(number) => number.fmt(f),
            Self::Name(name) => name.fmt(f),
        }
    }
}

impl dyn Stations + '_ {
    /// The station's number on its line; `None` where it is open, or has a name.
    #[must_use]
    pub fn number(&self, setup: &Setup) -> Option<u32> {
        self.station(setup)?.number()
    }
}

/// How a station is reached, for telling what must be set up there.
#[derive(Debug, Clone, Copy)]
pub struct Link<'s> {
    /// Our keys of its protocol, the port's among them.
    pub setup: &'s Setup,
    /// The station is an image of ours; the other side asks.
    pub image: bool,
    /// Values are read through it.
    pub reads: bool,
    /// Values are written through it.
    pub writes: bool,
}
