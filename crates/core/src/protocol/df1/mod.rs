//! Controllers with a data table, asked over DF1: notation, keys, limits and costs.

mod files;
mod notation;
mod refusals;
mod requests;
mod spot;
mod terms;

pub use files::spaces_of;
pub use spot::{Spot, from_wire, to_wire};

use super::{
    Address, AddressContext, AddressFault, Dialect, Framing, Key, KeyKind, Link, Notation, Refusals,
    Requests, Search, Setup, ShownAddress, Space, StationId, Stations, Territory, Transport,
};
use crate::form::Order;
use crate::term::Term;
use files::FILES;
use std::ops::Range;
use woodrush_wire::df1::Check;

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

    fn refusals(&self) -> &'static Refusals {
        &refusals::REFUSALS
    }

    fn terms(&self) -> &'static [Term] {
        terms::TERMS
    }

    fn keys(&self) -> &'static [Key] {
        &KEYS
    }

    fn requests(&self) -> Option<&dyn Requests> {
        Some(self)
    }

    fn search(&self) -> Option<&dyn Search> {
        Some(self)
    }
}

impl Notation for Tables {
    fn table_unit(&self, _space: &Space) -> &'static str {
        "element"
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

    fn parse(&self, text: &str, context: &AddressContext<'_>) -> Result<Address, AddressFault> {
        notation::parse(text, octal(context.setup))
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

    fn order(&self, _space: &Space) -> Option<Order> {
        // Little-endian throughout: of two words that are one value the low one comes first.
        Some(Order { low_word_first: true, low_byte_first: false })
    }
}

impl Stations for Tables {
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

    fn joins_two_ends(&self) -> bool {
        !self.half
    }

    fn own_station(&self, port: &Setup) -> Option<u32> {
        Some(port.number("own-node").unwrap_or(0))
    }

    fn station(&self, setup: &Setup) -> Option<StationId> {
        setup.number("node").map(StationId::Number)
    }

    fn station_key(&self, _transport: Transport) -> Option<(&'static str, Range<u32>)> {
        Some(("node", 0..255))
    }
}

impl Framing for Tables {
    fn odd_tcp_port(&self, port: u16) -> Option<&'static str> {
        (port == 502).then_some("port 502 is the usual port of Modbus TCP")
    }

    fn is_frame(&self, bytes: &[u8]) -> bool {
        // DLE, and one of STX, SOH, EOT, ENQ, ACK, NAK.
        matches!(bytes, [0x10, 0x01 | 0x02 | 0x04 | 0x05 | 0x06 | 0x15, ..])
    }
}

impl Search for Tables {
    fn territories(&self) -> &'static [Territory] {
        &TERRITORIES
    }

    fn in_a_hurry(&self, setup: &mut Setup, timeout: u64) {
        setup.numbers.retain(|(key, _)| !matches!(*key, "link-retries" | "ack-timeout"));
        setup.numbers.push(("link-retries", 0));
        setup.numbers.push(("ack-timeout", u32::try_from(timeout).unwrap_or(u32::MAX)));
    }
}
