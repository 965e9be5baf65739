//! Listing who is on a link, where the link itself knows. A state machine, driven by `scan` alone.

use super::News;
use crate::Moment;
use std::net::Ipv4Addr;
use woodrush_core::plan::Station;
use woodrush_core::protocol::Setup;

/// What a finder needs to know.
pub struct FinderSetup<'a> {
    /// Keys of the protocol at the port.
    pub port: &'a Setup,
    /// Who is expected there.
    pub stations: &'a [Station],
    /// Wait for an answer, in microseconds.
    pub timeout: u64,
    /// Least time from one request that a device must answer to the next, in microseconds.
    pub pause: u64,
}

/// What its people call the things of a link, as heads of tables and keys of documents.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LinkWords {
    /// The link, such as `segment`.
    pub link: &'static str,
    /// A station by its address, such as `node`; several with an `s` behind.
    pub station: &'static str,
    /// Its name.
    pub name: &'static str,
    /// What else it says of itself that a table has room for, each as programs read it and as people do.
    pub also: &'static [(&'static str, &'static str)],
    /// A part of it, such as `block`; several with an `s` behind. Empty where stations are told as a whole.
    pub part: &'static str,
    /// Where a part begins, and what it does.
    pub of_part: [&'static str; 2],
}

/// A station that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundStation {
    /// Its address on the link, as people write it.
    pub address: String,
    /// Its name there; empty where it has none.
    pub name: String,
    /// What the project calls it, where it knows it.
    pub device: Option<String>,
    /// What else it says of itself, each with what that is, as programs read it.
    pub also: Vec<(&'static str, String)>,
    /// What is wrong with it, or not as the project says.
    pub remarks: Vec<String>,
    /// What it is made of.
    pub parts: Vec<FoundPart>,
}

/// A part of a station.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundPart {
    /// Its name.
    pub name: String,
    /// What it is.
    pub kind: String,
    /// Where it begins.
    pub place: u32,
    /// What it does now.
    pub state: String,
    /// What is wrong with it.
    pub remark: Option<String>,
}

/// Asking the stations of a network who they are: one datagram to each, or to all of them at once.
pub struct RollCall {
    /// What things are called there.
    pub words: &'static LinkWords,
    /// The UDP port on which they answer.
    pub port: u16,
    /// The question.
    pub question: fn() -> Vec<u8>,
    /// Reads an answer from that address; `None` where it is none.
    pub answer: fn(Ipv4Addr, &[u8]) -> Option<FoundStation>,
}

/// What a station is to be called and addressed.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct NewIdentity {
    /// Its name.
    pub name: Option<String>,
    /// Its address with its network, such as `192.0.2.30/24`.
    pub address: Option<String>,
    /// Both outlive its power.
    pub permanent: bool,
}

impl NewIdentity {
    /// The address alone.
    #[must_use]
    pub fn host(&self) -> Option<Ipv4Addr> {
        self.address.as_deref()?.split('/').next()?.parse().ok()
    }
}

/// Reads an answer to the question of that number; `None` where it is none.
pub type ReadStation = fn(&[u8], u32) -> Option<([u8; 6], FoundStation)>;
/// What that station says to the order of that number; `None` where it says nothing to it.
pub type ReadOutcome = fn(&[u8], u32, [u8; 6]) -> Option<Result<(), String>>;

/// Finding stations by whole Ethernet frames, before they have an address, and telling them what they are called.
pub struct Discovery {
    /// What things are called there.
    pub words: &'static LinkWords,
    /// The kinds of frames.
    pub sockets: &'static [super::Socket],
    /// The question who has a name, or who is there at all; from that address, with that number.
    pub question: fn([u8; 6], u32, Option<&str>) -> Vec<u8>,
    /// Reads an answer to the question of that number; `None` where it is none.
    pub answer: ReadStation,
    /// Whether a name and an address can be given at all, and if not, why.
    pub check: fn(&NewIdentity) -> Result<(), String>,
    /// The order to be called and addressed so: from, to, number.
    pub order: fn([u8; 6], [u8; 6], u32, &NewIdentity) -> Vec<u8>,
    /// What that station says to the order of that number; `None` where it says nothing to it.
    pub outcome: ReadOutcome,
    /// The question who has an address.
    pub probe: fn([u8; 6], Ipv4Addr) -> Vec<u8>,
    /// Who says that it has it.
    pub holder: fn(&[u8], Ipv4Addr) -> Option<[u8; 6]>,
}

/// What a finder wants done next.
#[derive(Debug, Clone, PartialEq, Eq)]
#[must_use = "an action that is not carried out stalls the search"]
pub enum FindAct {
    /// Write these bytes, then poll again.
    Send(Vec<u8>),
    /// A station was found.
    Found(Box<FoundStation>),
    /// Something about the link as a whole, in words.
    Remark(String),
    /// It cannot go on, and why, in words.
    Failed(String),
    /// All is told.
    Done,
    /// Nothing to do before this moment or news.
    WaitUntil(Moment),
}

/// Lists who is on a link.
pub trait Finder: Send {
    /// What things are called there.
    fn words(&self) -> &'static LinkWords;
    /// Takes news of the connection.
    fn handle(&mut self, now: Moment, news: News<'_>);
    /// What to do now.
    fn poll(&mut self, now: Moment) -> FindAct;
}
