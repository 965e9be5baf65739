//! What the pure floor knows of protocols: one [`Dialect`] each, listed in [`DIALECTS`] and nowhere else.
//!
//! A space is a linear table of equal grains. Its `key` is the dialect's own text, which only the dialect parses.

mod blocks;
mod cyclic;
mod declared;
pub mod df1;
mod dialect;
mod direct;
pub mod enip;
mod framing;
pub mod h1;
pub mod isotcp;
mod keys;
mod listing;
mod meanings;
mod modbus;
mod notation;
pub mod profinet;
mod raw;
mod refusals;
mod requests;
mod search;
mod set_up;
mod space;
mod stations;
pub mod tables;

pub use crate::grain::Grain;
pub use blocks::{BlockParameter, DeviceBlock, DeviceBlocks};
pub use cyclic::{Cyclic, CyclicTimes, DeviceFile, FrameExample, Slot};
pub use declared::{Access, Declared, DeclaredName, DeclaredSpace};
pub use dialect::{Dialect, SettingFault, Transport};
pub use framing::Framing;
pub(crate) use keys::key;
pub use keys::{Content, Key, KeyKind, PortKeys, Setup};
pub use listing::{ListNumber, ListTable, Lists};
pub use meanings::{Meanings, ShownMember};
pub use notation::{
    Address, AddressContext, AddressFault, Alteration, Holder, ImpliedType, Notation, ShownAddress,
};
pub use refusals::{
    LastErrors, Refusals, health_shown, refusal_cause, refusal_health, refusal_number, refusal_shown,
    refusals,
};
pub use requests::{Cost, Example, Publishing, Requests, TooMuch, Verb};
pub use search::{FoundName, Search, Territory};
pub use set_up::{SetUp, SetUpStep, StepFault, StepsFault};
pub use space::{BitWrite, Extent, Flow, Place, Space, SpaceId, Spaces};
pub use stations::{Link, StationId, Stations};

/// Every protocol that a port may speak. The engine has a list of its own with the state machines; a test there says
/// that the two agree.
pub static DIALECTS: [&dyn Dialect; 10] = [
    &modbus::RTU,
    &modbus::ASCII,
    &modbus::TCP,
    &df1::FULL,
    &df1::HALF,
    &isotcp::BLOCKS,
    &enip::TAGS,
    &profinet::DEVICE,
    &h1::LINK,
    &raw::RAW,
];

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
    let usual = || runs().filter(|dialect| dialect.framing().usual_tcp_port().is_some());
    usual().find(|dialect| dialect.framing().usual_tcp_port() == tcp_port).or_else(|| usual().next())
}

/// Every key that may stand in a [`Setup`] of a dialect.
pub fn keys_of_setup(dialect: &dyn Dialect) -> impl Iterator<Item = &'static str> + use<> {
    dialect.keys().iter().map(|key| key.name).chain(["max-read", "max-write"])
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
            ["Modbus", "data tables", "data blocks", "tags", "slots", "H1 blocks"]
        );
    }
}
