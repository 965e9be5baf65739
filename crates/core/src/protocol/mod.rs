//! What the pure floor knows of protocols: one [`Dialect`] each, listed in [`DIALECTS`] and nowhere else.
//!
//! A space is a linear table of equal grains. Its `key` is the dialect's own text, which only the dialect parses.

pub mod df1;
mod dialect;
pub mod isotcp;
mod keys;
mod modbus;
mod raw;
mod refusals;
mod space;

pub use crate::grain::Grain;
pub use dialect::{Dialect, Example};
pub use keys::{Content, Key, KeyKind, Setup};
pub use refusals::{
    Refusals, health_shown, refusal_cause, refusal_health, refusal_number, refusal_shown, refusals,
};
pub use space::{BitWrite, Extent, Place, Space, SpaceId};

use crate::form::Type;
use std::fmt;
use std::ops::Range;

/// Every protocol that a port may speak. The engine has a list of its own with the state machines; a test there says
/// that the two agree.
pub static DIALECTS: [&dyn Dialect; 7] =
    [&modbus::RTU, &modbus::ASCII, &modbus::TCP, &df1::FULL, &df1::HALF, &isotcp::BLOCKS, &raw::RAW];

/// The protocol that the project file calls so.
#[must_use]
pub fn dialect(name: &str) -> Option<&'static dyn Dialect> {
    DIALECTS.into_iter().find(|dialect| dialect.name() == name)
}

/// One notation of each family, for `addr`, which has no port to tell the protocol.
pub fn notations() -> impl Iterator<Item = &'static dyn Dialect> {
    let first = |at: usize| !DIALECTS.iter().take(at).any(|d| d.family() == DIALECTS[at].family());
    let all = DIALECTS.iter().enumerate().filter(move |(at, dialect)| first(*at) && !dialect.is_opaque());
    all.map(|(_, dialect)| *dialect)
}

/// The protocol that is most likely spoken on such a connection, where none is given.
#[must_use]
pub fn usual_protocol(transport: Transport, tcp_port: Option<u16>) -> Option<&'static dyn Dialect> {
    let runs = || DIALECTS.iter().copied().filter(move |dialect| dialect.runs_on(transport).is_ok());
    if !transport.is_tcp() {
        return runs().next();
    }
    let usual = || runs().filter(|dialect| dialect.usual_tcp_port().is_some());
    usual().find(|dialect| dialect.usual_tcp_port() == tcp_port).or_else(|| usual().next())
}

/// Every key that may stand in a [`Setup`] of a dialect.
pub fn keys_of_setup(dialect: &dyn Dialect) -> impl Iterator<Item = &'static str> + use<> {
    dialect.keys().iter().map(|key| key.name).chain(["max-read", "max-write"])
}

/// What a request does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Verb {
    /// Values come back.
    Read,
    /// Values go out.
    Write,
}

/// Bytes each way and line turn-rounds of one request, framing included; the budget multiplies them out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Cost {
    /// Bytes of the request.
    pub out: u32,
    /// Bytes of the answer.
    pub back: u32,
    /// Silences that must be kept.
    pub turns: u32,
}

/// Why it cannot be one request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TooMuch {
    /// Most grains of one request.
    pub limit: u32,
    /// Who sets that limit.
    pub source: &'static str,
}

/// What carries a port.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Transport {
    /// A serial line.
    Serial,
    /// A listening TCP socket.
    Listen,
    /// An outgoing TCP connection.
    Connect,
    /// A virtual serial port that we make.
    Pty,
}

impl Transport {
    /// Whether bytes go through TCP.
    #[must_use]
    pub const fn is_tcp(self) -> bool {
        matches!(self, Self::Listen | Self::Connect)
    }
}

/// A table to look at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Territory {
    /// Its first address, as it is written.
    pub begins: &'static str,
    /// Offsets at which people begin tables, ascending.
    pub anchors: &'static [u32],
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

/// One address as a dialect reads it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Address {
    /// Which space.
    pub space: Space,
    /// Zero-based address of the grain.
    pub first: u32,
    /// One bit of it.
    pub bit: Option<u8>,
    /// What the address says of the value that lies there.
    pub brings: ImpliedType,
}

/// What an address says of the value that lies there, besides where.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum ImpliedType {
    /// Nothing.
    Nothing,
    /// How wide it is: the type, unless somebody names another one as wide.
    Width(Type),
    /// Its type.
    Type(Type),
}

/// What is wrong with a port's settings for a protocol.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SettingFault {
    /// The check's code.
    pub code: &'static str,
    /// The key that it is about, written or not.
    pub key: &'static str,
    /// What is wrong, in words.
    pub what: String,
    /// What to do.
    pub fix: String,
}

/// Why an address is not understood.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AddressFault {
    /// The check's code, such as `M01`.
    pub code: &'static str,
    /// Which bytes of the text are meant.
    pub at: Range<usize>,
    /// What is wrong, in words.
    pub what: String,
    /// What was likely meant, as it would be written, the likeliest first.
    pub likely: Vec<String>,
}

/// An address in the two ways that every output shows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ShownAddress {
    /// The canonical notation, such as `400318`.
    pub canonical: String,
    /// The offset on the wire, such as `holding:317`.
    pub offset: String,
    /// The offset in hex, such as `0x013D`.
    pub hex: String,
}

impl fmt::Display for ShownAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} ({})", self.canonical, self.offset)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn protocols_are_named_once_and_their_keys_are_told() {
        for (at, dialect) in DIALECTS.iter().enumerate() {
            assert!(DIALECTS.iter().skip(at + 1).all(|other| other.name() != dialect.name()));
            for key in dialect.keys() {
                assert!(!key.doc.is_empty() && !key.doc.ends_with('.'), "{}", key.name);
            }
        }
        assert_eq!(
            notations().map(|dialect| dialect.family()).collect::<Vec<_>>(),
            ["Modbus", "data tables", "data blocks"]
        );
    }
}
