//! Who is on a link: their numbers, our own, and what the other end is set to.

use super::{Setup, Transport};
use std::ops::Range;

/// Who speaks on a link of a protocol.
pub trait Stations {
    /// Whether it is a link of two ends, both of which may send at once.
    fn joins_two_ends(&self) -> bool {
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
    fn station(&self, _setup: &Setup) -> Option<u32> {
        None
    }
    /// The key that says the station, and its least and greatest number on such a port; `None` where a port has one
    /// station only.
    fn station_key(&self, _transport: Transport) -> Option<(&'static str, Range<u32>)> {
        None
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
