//! What a protocol tells the rest of core: notation, keys, limits, costs, refusals, examples.

use super::{
    Address, AddressFault, Cost, Key, Link, Refusals, SettingFault, Setup, ShownAddress, Space, Territory,
    TooMuch, Transport, Verb,
};
use crate::term::Term;
use std::fmt;
use std::ops::Range;

/// Facts of one protocol for the pure floor.
pub trait Dialect: Sync + fmt::Debug {
    /// As the project file calls it.
    fn name(&self) -> &'static str;
    /// Protocols of one family share notation and keys and differ in framing; whole requests can be forwarded between
    /// them.
    fn family(&self) -> &'static str;
    /// Whether nothing in it is understood: bytes can be passed on and nothing else.
    fn is_opaque(&self) -> bool {
        false
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
    /// A TCP port on which this protocol is a surprise, with the reason.
    fn odd_tcp_port(&self, port: u16) -> Option<&'static str>;
    /// Keys that it adds to ports, devices and images.
    fn keys(&self) -> &'static [Key];
    /// What is wrong with a port's keys of this protocol; `asks` where we ask on it.
    fn port_faults(&self, _setup: &Setup, _asks: bool) -> Vec<SettingFault> {
        vec![]
    }
    /// Reads an address.
    ///
    /// # Errors
    /// Which part is wrong and what was likely meant.
    fn parse(&self, text: &str, setup: &Setup) -> Result<Address, AddressFault>;
    /// The settings under which one text may be two addresses, each with how the project file says it.
    fn readings(&self) -> Vec<(&'static str, Setup)> {
        vec![("", Setup::default())]
    }
    /// Shows an address; `width` is how many grains one value there takes, 0 where that is not known.
    fn show(&self, space: &Space, first: u32, width: u32, bit: Option<u8>, setup: &Setup) -> ShownAddress;
    /// The address in other notations that people write, with what each is called.
    fn notations(
        &self,
        space: &Space,
        first: u32,
        bit: Option<u8>,
        setup: &Setup,
    ) -> Vec<(&'static str, String)>;
    /// The table that a space is, or is a part of, as the project file names it.
    fn table<'s>(&self, space: &'s Space) -> &'s str {
        &space.key
    }
    /// Whether a name in the project file means the table of a space.
    fn is_table(&self, space: &Space, name: &str) -> bool {
        self.table(space) == name
    }
    /// Grains of a table that is so long as the project file counts it.
    fn grains_of(&self, _space: &Space, size: u32) -> u32 {
        size
    }
    /// What the project file counts a table by: `register`, `byte`, `element`.
    fn table_unit(&self, _space: &Space) -> &'static str {
        "register"
    }
    /// The spaces that every image has, mapped or not.
    fn standing(&self) -> &'static [Space];
    /// Why such line settings cannot carry it; `None` where they can.
    fn line_fault(&self, _line: crate::line::Line) -> Option<&'static str> {
        None
    }
    /// Whether it is a link of two ends, both of which may send at once.
    fn joins_two_ends(&self) -> bool {
        false
    }
    /// Our own number on a port, where stations have one for clients too.
    fn own_station(&self, _port: &Setup) -> Option<u32> {
        None
    }
    /// The least silence between two messages on such a line, in microseconds; 0 where silence means nothing.
    fn frame_gap(&self, line: crate::line::Line) -> u64;
    /// Whether its link acknowledges messages before they are answered.
    fn acknowledges(&self) -> bool {
        false
    }
    /// How long one try of a request to a station that does not answer takes, its bytes not counted, in microseconds, and
    /// the keys of the port that say so; `None` where that is its timeout and a rest of the line.
    fn unanswered(&self, _port: &Setup) -> Option<(u64, &'static str)> {
        None
    }
    /// How long one try of a request waits, in microseconds, where the link acknowledges it first; `None` where that is
    /// the port's timeout.
    fn first_wait(&self, _port: &Setup) -> Option<u64> {
        None
    }
    /// Why a request is never tried again; `None` where it is, as often as the port says.
    fn no_retries(&self) -> Option<&'static str> {
        None
    }
    /// Default order of wider values; `None` where the protocol has none and one must be written.
    fn order(&self) -> Option<crate::form::Order>;
    /// One request over one extent, or why it cannot be one. The only place where limits and overheads are known.
    ///
    /// # Errors
    /// The limit and who sets it.
    fn cost(&self, verb: Verb, space: &Space, count: u32, setup: &Setup) -> Result<Cost, TooMuch>;
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
    fn station(&self, setup: &Setup) -> Option<u32>;
    /// The key that says the station, and its least and greatest number on such a port; `None` where a port has one
    /// station only.
    fn station_key(&self, transport: Transport) -> Option<(&'static str, Range<u32>)>;
    /// Its usual TCP port.
    fn usual_tcp_port(&self) -> Option<u16> {
        None
    }
    /// The name under which packet analysers know it; `None` where they do not.
    fn dissector(&self) -> Option<&'static str> {
        None
    }
    /// Where a station without a description is looked at, to find what it has.
    fn territories(&self) -> &'static [Territory] {
        &[]
    }
    /// Requests that ask a station what it is: the code, and the whole request.
    fn identity(&self) -> &'static [(u8, &'static [u8])] {
        &[]
    }
    /// What the answer to one of them says, as people read it.
    fn identity_shown(&self, _code: u8, _answer: &[u8]) -> Option<String> {
        None
    }
    /// Keys by which a station that is not there costs no more than one timeout.
    fn in_a_hurry(&self, _setup: &mut Setup, _timeout: u64) {}
    /// Whether bytes are, from the first one on, what its framing makes: to tell two framings apart.
    fn is_frame(&self, _bytes: &[u8]) -> bool {
        false
    }
    /// What a request chooses its command by, out of its bytes; `None` where that is not told.
    fn request_code(&self, request: &[u8]) -> Option<u8>;
    /// The request and the answer that carry such an extent, for `trace`: bytes as they go over the wire. `cells` are
    /// the values of the answer or of the write.
    fn example(&self, verb: Verb, space: &Space, first: u32, cells: &[u8], setup: &Setup) -> Example;
    /// The exchange that changes one bit of an element and leaves the others; nothing where the element has no bits that
    /// are changed so.
    fn example_bit(
        &self,
        _space: &Space,
        _first: u32,
        _bit: u8,
        _on: bool,
        _setup: &Setup,
    ) -> Option<Example> {
        None
    }
}

/// One exchange as bytes, with the request in words.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Example {
    /// What is asked, in words: `function 3, offset 316, 2 registers`.
    pub words: String,
    /// The request.
    pub request: Vec<u8>,
    /// The answer.
    pub answer: Vec<u8>,
}
