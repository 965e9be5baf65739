//! What a protocol tells the rest of core, one part a concern: addresses, stations, requests, framing, search.

use super::{
    Cost, Cyclic, Extent, Framing, Key, Notation, PortKeys, Refusals, Requests, Search, SetUp, Setup, Space,
    SpaceId, Stations, TooMuch, Verb,
};
use crate::term::Term;
use std::fmt;

/// Facts of one protocol for the pure floor.
pub trait Dialect: Sync + fmt::Debug {
    /// As the project file calls it.
    fn name(&self) -> &'static str;
    /// Protocols of one family share notation and keys and differ in framing; whole requests can be forwarded between
    /// them.
    fn family(&self) -> &'static str;
    /// How its addresses are written.
    fn notation(&self) -> &dyn Notation;
    /// Who speaks on its links.
    fn stations(&self) -> &dyn Stations;
    /// How its messages are framed.
    fn framing(&self) -> &dyn Framing;
    /// The protocol as it is with a station whose keys say that its memory is of another kind: over the same link, with
    /// that memory's notation and requests. `None` where that is this one.
    fn by_memory(&self, _setup: &Setup) -> Option<&'static dyn Dialect> {
        None
    }
    /// The notation of a space that was heard on its links, where they lead to memories of several kinds.
    fn notation_of(&self, _space: &Space) -> &dyn Notation {
        self.notation()
    }
    /// Whether it goes on such a port, and if not, why.
    ///
    /// # Errors
    /// The reason and the mend, in words.
    fn runs_on(&self, transport: Transport) -> Result<(), &'static str>;
    /// The numbers by which its devices refuse.
    fn refusals(&self) -> &'static Refusals;
    /// What its people call things.
    fn terms(&self) -> &'static [Term] {
        &[]
    }
    /// Keys that it adds to ports, devices and images.
    fn keys(&self) -> &'static [Key] {
        &[]
    }
    /// What is wrong with a port's keys of this protocol; `asks` where we ask on it.
    fn port_faults(&self, _setup: &Setup, _asks: bool) -> Vec<SettingFault> {
        vec![]
    }
    /// What is wrong with a device's or an image's own keys of this protocol, at a port with those keys.
    fn station_faults(&self, _setup: &Setup, _port: PortKeys<'_>) -> Vec<SettingFault> {
        vec![]
    }
    /// How values are asked for; `None` where nobody asks.
    fn requests(&self) -> Option<&dyn Requests> {
        None
    }
    /// What it exchanges in cycles; `None` where its stations are asked.
    fn cyclic(&self) -> Option<&dyn Cyclic> {
        None
    }
}

impl dyn Dialect + '_ {
    /// How its devices are set up by their parameters; `None` where they are not.
    #[must_use]
    pub fn set_up(&self) -> Option<&dyn SetUp> {
        self.requests()?.set_up()
    }

    /// How its stations are looked for; `None` where they are not.
    #[must_use]
    pub fn search(&self) -> Option<&dyn Search> {
        self.requests()?.search()
    }

    /// Whether nothing in it is understood: bytes can be passed on and nothing else.
    #[must_use]
    pub fn is_opaque(&self) -> bool {
        self.requests().is_none() && self.cyclic().is_none()
    }

    /// One request over several parts, or why it cannot be one: see [`Requests::cost`].
    ///
    /// # Errors
    /// The limit and who sets it; nothing goes where nobody asks.
    pub fn cost_of(&self, verb: Verb, parts: &[(&Space, Extent)], setup: &Setup) -> Result<Cost, TooMuch> {
        let nothing = TooMuch { limit: 0, source: "the protocol, in which nothing is asked" };
        self.requests().ok_or(nothing)?.cost(verb, parts, setup)
    }

    /// The same over so many grains in a row.
    ///
    /// # Errors
    /// The limit and who sets it; nothing goes where nobody asks.
    pub fn cost(&self, verb: Verb, space: &Space, count: u32, setup: &Setup) -> Result<Cost, TooMuch> {
        self.cost_of(verb, &[(space, Extent { space: SpaceId(0), first: 0, count })], setup)
    }
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
    /// An address of ours on a network, with all sockets of its protocol.
    Network,
    /// An interface on which frames go without IP.
    Ethernet,
}

impl Transport {
    /// Whether blocks go over it in cycles, by sockets or frames of its own.
    #[must_use]
    pub const fn is_cyclic(self) -> bool {
        matches!(self, Self::Network | Self::Ethernet)
    }

    /// Whether bytes go through TCP.
    #[must_use]
    pub const fn is_tcp(self) -> bool {
        matches!(self, Self::Listen | Self::Connect)
    }
}
