//! What the pure floor knows of protocols: one [`Dialect`] each, listed in [`DIALECTS`] and nowhere else.
//!
//! A space is a linear table of equal grains. Its `key` is the dialect's own text; nobody else parses it.

pub mod df1;
pub mod isotcp;
mod keys;
mod modbus;
mod raw;
mod refusals;

pub use crate::grain::Grain;
pub use keys::{Content, Key, KeyKind, Setup};
pub use refusals::{health_shown, refusal_cause, refusal_health, refusal_number, refusal_shown};

use crate::form::Type;
use crate::term::Term;
use std::borrow::Cow;
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

/// What is most likely spoken on such a way, where nobody says it.
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

/// How one bit is written where the grain is wider.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum BitWrite {
    /// The grain is the bit.
    Whole,
    /// With one request that changes some bits of a grain and leaves the others; where a device does not serve it, by
    /// reading the grain and writing it back.
    Masked,
    /// By reading the grain and writing it back changed: the protocol has no request for it.
    ReadBack,
    /// Not at all.
    Never,
}

/// A linear table of equal grains.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Space {
    /// The dialect's own name for it, such as `holding`.
    pub key: Cow<'static, str>,
    /// In words, for messages: `holding register`.
    pub noun: &'static str,
    /// What one address steps over.
    pub grain: Grain,
    /// Addresses come in multiples of this.
    pub align: u8,
    /// How many grains there are, where that is known.
    pub len: Option<u32>,
    /// Whether the protocol has a command that writes here.
    pub writable: bool,
    /// How one bit of a wider grain is written.
    pub bits: BitWrite,
    /// The only types that its cells can hold; empty for any.
    pub only: &'static [Type],
    /// Whether the controller's own program writes here all the time.
    pub rewritten: bool,
}

impl Space {
    /// Its noun with the article: `a coil`, `an input register`.
    #[must_use]
    pub fn a(&self) -> String {
        let article = if self.noun.starts_with(['a', 'e', 'i', 'o', 'u']) { "an" } else { "a" };
        format!("{article} {}", self.noun)
    }

    /// What it counts, shortly: `registers`, `bytes`.
    #[must_use]
    pub fn grains(&self) -> String {
        format!(
            "{}s",
            self.noun.rsplit(' ').next().and_then(|word| word.rsplit('-').next()).unwrap_or_default()
        )
    }
}

/// Index of a space in the list of its device or image.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SpaceId(pub u16);

/// Grains in a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Extent {
    /// In which space.
    pub space: SpaceId,
    /// Zero-based address of the first grain.
    pub first: u32,
    /// How many; at least 1.
    pub count: u32,
}

impl Extent {
    /// One past the last grain.
    #[must_use]
    pub const fn end(&self) -> u32 {
        self.first + self.count
    }
}

/// What one endpoint of a rule names: `count` items of `width` grains, one after the other, perhaps one bit of each.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Place {
    /// In which space.
    pub space: SpaceId,
    /// Zero-based address of the first grain.
    pub first: u32,
    /// Grains of one item.
    pub width: u32,
    /// Items.
    pub count: u32,
    /// One bit of each grain, 0 the least significant.
    pub bit: Option<u8>,
}

impl Place {
    /// All grains of all items.
    #[must_use]
    pub const fn extent(&self) -> Extent {
        Extent { space: self.space, first: self.first, count: self.width * self.count }
    }

    /// The grains of one item, from 0.
    #[must_use]
    pub const fn item(&self, index: u32) -> Extent {
        Extent { space: self.space, first: self.first + index * self.width, count: self.width }
    }
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
    /// What a device's own number of a refusal is called, such as `Modbus exception`.
    fn refusal_name(&self) -> &'static str;
    /// Such a number as people know it.
    fn refusal_text(&self, code: u32) -> String {
        format!("{} {code} (0x{code:02X})", self.refusal_name())
    }
    /// What such a number means, in the standard's words and with the likely cause.
    fn refusal_words(&self, code: u32) -> (&'static str, &'static str);
    /// What else there is to say of such a number, for `explain`.
    fn refusal_more(&self, _code: u32) -> Option<&'static str> {
        None
    }
    /// Such a number as people write it, in small letters; `None` where the words are none of it.
    fn refusal_code(&self, _words: &str) -> Option<u32> {
        None
    }
    /// The numbers that have words.
    fn refusal_codes(&self) -> &'static [u32] {
        &[]
    }
    /// What its people call things.
    fn terms(&self) -> &'static [Term] {
        &[]
    }
    /// Whether a device may have answered so because a read was too long for it: half as much is tried then.
    fn may_be_too_long(&self, _code: u32) -> bool {
        false
    }
    /// The numbers by which `health.last-error` shows its refusals, in their order from 0 on.
    fn health_codes(&self) -> Range<u32> {
        0..256
    }
    /// What a reader is answered once a value's source is lost, in words.
    fn lost_answer(&self) -> &'static str;
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
    /// How long one try of a request to somebody who says nothing takes, its bytes not counted, in microseconds, and the
    /// keys of the port that say so; `None` where that is its timeout and a rest of the line.
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
    /// The TCP port on which everybody expects it.
    fn usual_tcp_port(&self) -> Option<u16> {
        None
    }
    /// The name under which packet analysers know it; `None` where they do not.
    fn dissector(&self) -> Option<&'static str> {
        None
    }
    /// Where a station that nobody has described is looked at, to find what it has.
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
