//! Controllers with a data table, asked over DF1: notation, keys, limits and costs.

mod files;
mod notation;
mod refusals;
mod spot;
mod terms;

pub use files::spaces_of;
pub use spot::{Spot, from_wire, to_wire};

use super::{
    Address, AddressFault, Cost, Dialect, Example, Key, KeyKind, Link, Refusals, Setup, ShownAddress, Space,
    Territory, TooMuch, Transport, Verb,
};
use crate::form::Order;
use crate::line::Line;
use crate::term::Term;
use files::FILES;
use std::ops::Range;
use woodrush_wire::df1::{Check, Command, Message, Set, emit_message, emit_to_station};

/// DF1, in full or half duplex.
#[derive(Debug)]
pub(super) struct Tables {
    half: bool,
}

/// `df1`.
pub(super) static FULL: Tables = Tables { half: false };
/// `df1-half`.
pub(super) static HALF: Tables = Tables { half: true };

/// Whether a device takes the word-range commands.
#[must_use]
pub fn by_ranges(setup: &Setup) -> bool {
    match setup.word("commands") {
        Some(commands) => commands == "word-range",
        None => octal(setup),
    }
}

/// How the link is checked.
#[must_use]
pub fn check(setup: &Setup) -> Check {
    if setup.word("check-field") == Some("bcc") { Check::Bcc } else { Check::Crc }
}

/// Whether a controller numbers its inputs and outputs in octal.
#[must_use]
pub fn octal(setup: &Setup) -> bool {
    setup.word("io-addresses") == Some("octal")
}

static KEYS: [Key; 9] = [
    Key {
        table: "ports",
        name: "check-field",
        kind: KeyKind::Choice(&["crc", "bcc"]),
        doc: "how messages are checked: `crc` (default) or `bcc`, the same at both ends",
    },
    Key { table: "ports", name: "own-node", kind: KeyKind::Whole(0, 254), doc: "our node number; default 0" },
    Key {
        table: "ports",
        name: "ack-timeout",
        kind: KeyKind::Duration,
        doc: "wait for the link's acknowledgement; default 1s",
    },
    Key {
        table: "ports",
        name: "link-retries",
        kind: KeyKind::Whole(0, 100),
        doc: "how often the link retries, after refusals and after missing answers each; default 3",
    },
    Key {
        table: "devices",
        name: "node",
        kind: KeyKind::Station { high: 254, any: false },
        doc: "DF1 node, 0 to 254",
    },
    Key {
        table: "devices",
        name: "io-addresses",
        kind: KeyKind::Choice(&["decimal", "octal"]),
        doc: "how the controller numbers words and bits of inputs and outputs; default `decimal`",
    },
    Key {
        table: "devices",
        name: "commands",
        kind: KeyKind::Choice(&["logical", "word-range"]),
        doc: "the read and write commands it takes: `logical` (default with decimal) or `word-range` (default with octal)",
    },
    Key {
        table: "images",
        name: "node",
        kind: KeyKind::Station { high: 254, any: true },
        doc: "the DF1 node that it answers as",
    },
    Key {
        table: "images",
        name: "io-addresses",
        kind: KeyKind::Choice(&["decimal", "octal"]),
        doc: "how words and bits of inputs and outputs are numbered; default `decimal`",
    },
];

/// The files that every programmer finds made.
static TERRITORIES: [Territory; 7] = [
    Territory { begins: "N7:0", anchors: &[0] },
    Territory { begins: "B3:0", anchors: &[0] },
    Territory { begins: "F8:0", anchors: &[0] },
    Territory { begins: "T4:0.ACC", anchors: &[0] },
    Territory { begins: "C5:0.ACC", anchors: &[0] },
    Territory { begins: "S:0", anchors: &[0] },
    Territory { begins: "N10:0", anchors: &[0] },
];

/// Most data bytes of one command, each way.
const LOGICAL: (u32, u32) = (236, 234);
const RANGES: (u32, u32) = (244, 236);

impl Tables {
    /// A command and its answer as they go over the link.
    fn framed(&self, setup: &Setup, command: &Command<'_>, data: &[u8]) -> (Vec<u8>, Vec<u8>) {
        let mut body = vec![];
        command.emit(&mut body);
        let node = u8::try_from(setup.number("node").unwrap_or(1)).unwrap_or(1);
        let own = u8::try_from(setup.number("own-node").unwrap_or(0)).unwrap_or(0);
        let asked = Message { dst: node, src: own, cmd: 0x0F, sts: 0, tns: 1, body: &body };
        let answered = asked.reply(0, data);
        let check = check(setup);
        let framed = |message: &Message<'_>, to: Option<u8>| {
            let (mut bytes, mut out) = (vec![], vec![]);
            message.emit(&mut bytes);
            match to {
                Some(station) => emit_to_station(station, &bytes, check, &mut out),
                None => emit_message(&bytes, check, &mut out),
            }
            out
        };
        (framed(&asked, self.half.then_some(node)), framed(&answered, None))
    }
}

impl Dialect for Tables {
    fn name(&self) -> &'static str {
        if self.half { "df1-half" } else { "df1" }
    }

    fn family(&self) -> &'static str {
        "data tables"
    }

    fn runs_on(&self, transport: Transport) -> Result<(), &'static str> {
        match transport {
            Transport::Serial | Transport::Connect => Ok(()),
            Transport::Listen | Transport::Pty => Err(
                "it is spoken on a serial line, or through a serial server that is dialled: write `serial` or `connect`",
            ),
        }
    }

    fn table_unit(&self, _space: &Space) -> &'static str {
        "element"
    }

    fn to_set_up(&self, link: &Link<'_>) -> Option<String> {
        let check = match check(link.setup) {
            Check::Crc => "CRC",
            Check::Bcc => "BCC",
        };
        Some(match (self.half, link.image, link.setup.number("node")) {
            (true, false, node) => format!("half-duplex slave, node {}, {check}", node.unwrap_or(0)),
            (true, true, node) => {
                format!("half-duplex master that polls node {}, {check}", node.unwrap_or(0))
            }
            (false, _, node) => {
                let node = node.map(|node| format!(", node {node}")).unwrap_or_default();
                format!("full duplex{node}, {check}")
            }
        })
    }

    fn table<'s>(&self, space: &'s Space) -> &'s str {
        // Parts of elements are spaces of their own.
        space.key.split('.').next().unwrap_or_default()
    }

    fn is_table(&self, space: &Space, name: &str) -> bool {
        // Of the files that there is one of each, people leave the number out, as in addresses.
        let alone = |file: &&files::File| file.fixed.is_some() && file.letter == name;
        let whole = FILES.iter().find(alone).and_then(|file| Some(format!("{name}{}", file.fixed?)));
        self.table(space) == whole.as_deref().unwrap_or(name)
    }

    fn grains_of(&self, space: &Space, size: u32) -> u32 {
        size.saturating_mul(Spot::of(space).map_or(1, |spot| spot.grains))
    }

    fn refusals(&self) -> &'static Refusals {
        &refusals::REFUSALS
    }

    fn terms(&self) -> &'static [Term] {
        terms::TERMS
    }

    fn odd_tcp_port(&self, port: u16) -> Option<&'static str> {
        (port == 502).then_some("port 502 is where everybody expects Modbus")
    }

    fn keys(&self) -> &'static [Key] {
        &KEYS
    }

    fn parse(&self, text: &str, setup: &Setup) -> Result<Address, AddressFault> {
        notation::parse(text, octal(setup))
    }

    fn readings(&self) -> Vec<(&'static str, Setup)> {
        let octal = Setup { words: vec![("io-addresses", "octal".into())], ..Setup::default() };
        vec![("io-addresses = \"decimal\"", Setup::default()), ("io-addresses = \"octal\"", octal)]
    }

    fn show(&self, space: &Space, first: u32, _width: u32, bit: Option<u8>, setup: &Setup) -> ShownAddress {
        notation::show(space, first, bit, octal(setup))
    }

    fn notations(
        &self,
        space: &Space,
        first: u32,
        bit: Option<u8>,
        setup: &Setup,
    ) -> Vec<(&'static str, String)> {
        notation::all(space, first, bit, octal(setup))
    }

    fn standing(&self) -> &'static [Space] {
        &[]
    }

    fn frame_gap(&self, _line: Line) -> u64 {
        0
    }

    fn acknowledges(&self) -> bool {
        true
    }

    fn unanswered(&self, port: &Setup) -> Option<(u64, &'static str)> {
        let tries = u64::from(port.number("link-retries").unwrap_or(3)) + 1;
        let wait = u64::from(port.number("ack-timeout").unwrap_or(1_000_000));
        Some((tries * wait, "`ack-timeout` or `link-retries`"))
    }

    fn joins_two_ends(&self) -> bool {
        !self.half
    }

    fn own_station(&self, port: &Setup) -> Option<u32> {
        Some(port.number("own-node").unwrap_or(0))
    }

    fn first_wait(&self, port: &Setup) -> Option<u64> {
        Some(port.number("ack-timeout").unwrap_or(1_000_000).into())
    }

    fn order(&self) -> Option<Order> {
        // Little-endian throughout: of two words that are one value the low one comes first.
        Some(Order { low_word_first: true, low_byte_first: false })
    }

    fn cost(&self, verb: Verb, space: &Space, count: u32, setup: &Setup) -> Result<Cost, TooMuch> {
        let Some(spot) = Spot::of(space) else { return Err(TooMuch { limit: 0, source: "the notation" }) };
        let ranges = by_ranges(setup);
        let standard = if ranges { RANGES } else { LOGICAL };
        let (most, key) = match verb {
            Verb::Read => (standard.0, "max-read"),
            Verb::Write => (standard.1, "max-write"),
        };
        let own = setup.number(key).filter(|own| *own < most);
        let (most, source) = own.map_or((most, "the command"), |own| (own, key));
        let per_element = u32::try_from(spot.bytes).unwrap_or(2);
        let alone = match (verb, spot.sub) {
            // The parts between belong to others; and slots have as many words as they have.
            (Verb::Write, Some(_)) => true,
            (Verb::Read, Some(_)) => spot.is_io() || spot.bytes > 6,
            _ => spot.is_io() && !octal(setup),
        };
        let limit =
            if alone { 1 } else { (most / per_element).max(u32::from(spot.sub.is_some())) * spot.grains };
        if count > limit {
            return Err(TooMuch { limit, source });
        }
        let data = u32::try_from(spot.wire_bytes(count)).unwrap_or(u32::MAX);
        // Places take more bytes for large numbers; the budget counts small ones.
        let mut place = vec![];
        if ranges {
            spot.table(0).emit(&mut place)
        } else {
            spot.logical(0).emit(&mut place)
        }
        let place = u32::try_from(place.len()).unwrap_or(4);
        let check = if check(setup) == Check::Bcc { 1 } else { 2 };
        let frame = |body: u32| 4 + 6 + body + check;
        let parameters = if ranges { 1 + 4 + place } else { 1 + 1 + place };
        let (asked, answered) = match verb {
            Verb::Read => (parameters + u32::from(ranges), data),
            Verb::Write => (parameters + data, 0),
        };
        // Each message has its acknowledgement the other way; in half duplex the reply is polled for.
        let (polls, station) = if self.half { (4, 3) } else { (0, 0) };
        Ok(Cost { out: station + frame(asked) + polls + 2, back: 2 + frame(answered), turns: 2 })
    }

    fn territories(&self) -> &'static [Territory] {
        &TERRITORIES
    }

    fn in_a_hurry(&self, setup: &mut Setup, timeout: u64) {
        setup.numbers.retain(|(key, _)| !matches!(*key, "link-retries" | "ack-timeout"));
        setup.numbers.push(("link-retries", 0));
        setup.numbers.push(("ack-timeout", u32::try_from(timeout).unwrap_or(u32::MAX)));
    }

    fn is_frame(&self, bytes: &[u8]) -> bool {
        // DLE, and one of STX, SOH, EOT, ENQ, ACK, NAK.
        matches!(bytes, [0x10, 0x01 | 0x02 | 0x04 | 0x05 | 0x06 | 0x15, ..])
    }

    fn station(&self, setup: &Setup) -> Option<u32> {
        setup.number("node")
    }

    fn station_key(&self, _transport: Transport) -> Option<(&'static str, Range<u32>)> {
        Some(("node", 0..255))
    }

    fn request_code(&self, _request: &[u8]) -> Option<u8> {
        None
    }

    fn example_bit(&self, space: &Space, first: u32, bit: u8, on: bool, setup: &Setup) -> Option<Example> {
        let spot = Spot::of(space)?;
        // Wider elements are read, changed and written whole.
        if spot.bytes != 2 && spot.sub.is_none() {
            return None;
        }
        let element = u16::try_from(first / spot.grains.max(1)).ok()?;
        let mask = 1u16.checked_shl(bit.into())?;
        let set = if on { mask } else { 0 };
        let (data, mut sets) = (set.to_le_bytes(), vec![]);
        let (name, command) = if by_ranges(setup) {
            Set { at: spot.table(element), and: !mask | set, or: set }.emit(&mut sets);
            ("read-modify-write", Command::Change(&sets))
        } else {
            ("masked write", Command::MaskedWrite { at: spot.logical(element), mask, data: &data })
        };
        let (request, answer) = self.framed(setup, &command, &[]);
        let words = format!("{name}, file {} element {element}, bit {bit}", spot.file);
        Some(Example { words, request, answer })
    }

    fn example(&self, verb: Verb, space: &Space, first: u32, cells: &[u8], setup: &Setup) -> Example {
        let nothing = || Example { words: "no such place".into(), request: vec![], answer: vec![] };
        let Some(spot) = Spot::of(space) else { return nothing() };
        let count = u32::try_from(cells.len() / space.grain.cell_bytes()).unwrap_or(1);
        let data = to_wire(&spot, count, cells);
        let element = u16::try_from(first / spot.grains.max(1)).unwrap_or(u16::MAX);
        let size = u8::try_from(data.len()).unwrap_or(u8::MAX);
        let words = u16::from(size / 2);
        let (offset, total) = (0, words);
        let command = match (verb, by_ranges(setup)) {
            (Verb::Read, false) => Command::Read { size, at: spot.logical(element) },
            (Verb::Write, false) => Command::Write { at: spot.logical(element), data: &data },
            (Verb::Read, true) => Command::RangeRead { offset, total, at: spot.table(element), size },
            (Verb::Write, true) => {
                Command::RangeWrite { offset, total, at: spot.table(element), data: &data }
            }
        };
        let (request, answer) = self.framed(setup, &command, if verb == Verb::Read { &data } else { &[] });
        let name = match (verb, by_ranges(setup)) {
            (Verb::Read, false) => "typed logical read",
            (Verb::Write, false) => "typed logical write",
            (Verb::Read, true) => "word-range read",
            (Verb::Write, true) => "word-range write",
        };
        Example {
            words: format!("{name}, file {} element {element}, {size} bytes", spot.file),
            request,
            answer,
        }
    }
}
