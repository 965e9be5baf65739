//! Controllers with numbered blocks, asked by FETCH and WRITE over ISO-on-TCP: notation, keys, limits and costs.

mod notation;
mod refusals;
mod requests;
mod terms;

use super::{
    Address, AddressContext, AddressFault, BitWrite, Dialect, Flow, Framing, Grain, Key, KeyKind, Link,
    Notation, Refusals, Requests, Search, SettingFault, Setup, ShownAddress, Space, Stations, Territory,
    Transport,
};
use crate::form::{Order, Type};
use crate::term::Term;
use std::borrow::Cow;
use woodrush_wire::isotcp::fetch::Area;
use woodrush_wire::isotcp::tpkt;

/// `fetch-write`.
#[derive(Debug)]
pub(super) struct Blocks;

/// `fetch-write`.
pub(super) static BLOCKS: Blocks = Blocks;

/// Areas besides data blocks, with the letter of their notation, which is the key of their space, and their noun.
const AREAS: [(Area, &str, &str); 5] = [
    (Area::Markers, "M", "marker byte"),
    (Area::Inputs, "I", "input byte"),
    (Area::Outputs, "Q", "output byte"),
    (Area::Counters, "C", "counter"),
    (Area::Timers, "T", "timer"),
];
/// Start and length are 16 bits wide.
const UNITS: u32 = 65_536;

/// The memory of a space.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Memory {
    area: Area,
    block: u8,
}

impl Memory {
    fn of(space: &Space) -> Self {
        let block = space.key.strip_prefix("DB").and_then(|block| block.parse().ok());
        let other = AREAS.iter().find(|(_, key, _)| *key == space.key).map(|(area, ..)| *area);
        match (block, other) {
            (Some(block), _) => Self { area: Area::DataBlock, block },
            (None, area) => Self { area: area.unwrap_or(Area::Markers), block: 0 },
        }
    }
}

/// Which memory a space of this protocol stands for, for the engine: the area and the number of the block.
#[must_use]
pub fn memory(space: &Space) -> (Area, u8) {
    let Memory { area, block } = Memory::of(space);
    (area, block)
}

/// The space of a memory, the reverse of [`memory`].
#[must_use]
pub fn space_of(area: Area, block: u8) -> Space {
    let (key, noun) = match AREAS.iter().find(|(known, ..)| *known == area) {
        Some((_, key, noun)) => (Cow::Borrowed(*key), *noun),
        None => (Cow::Owned(format!("DB{block}")), "data-block byte"),
    };
    let (grain, align, len) = match area {
        // Addresses count bytes, requests whole words.
        Area::DataBlock => (1, 2, 2 * UNITS),
        Area::Counters | Area::Timers => (2, 1, UNITS),
        _ => (1, 1, UNITS),
    };
    Space {
        key,
        noun,
        grain: Grain::Bytes(grain),
        align,
        len: Some(len),
        writable: area != Area::Inputs,
        bits: if grain == 1 { BitWrite::ReadBack } else { BitWrite::Never },
        // A word each, in the controller's own coding.
        only: if grain == 2 { &[Type::U16, Type::I16, Type::Bcd16, Type::Bool, Type::Raw] } else { &[] },
        shown: None,
        rewritten: area == Area::Outputs,
        whole: false,
        publishes: false,
        flow: Flow::Asked,
    }
}

static KEYS: [Key; 3] = [
    Key {
        table: "ports",
        name: "local-tsap",
        kind: KeyKind::Text,
        doc: "our TSAP of an ISO connection: pairs of hex digits such as `01.00`, or text in quotes within the quotes",
    },
    Key {
        table: "ports",
        name: "remote-tsap",
        kind: KeyKind::Text,
        doc: "the controller's TSAP of an ISO connection, as its programmer has set it",
    },
    Key {
        table: "images",
        name: "local-tsap",
        kind: KeyKind::Text,
        doc: "the TSAP under which the image is called; default any",
    },
];

/// A TSAP as the project file writes it: pairs of hex digits with dots between, or text in quotes.
///
/// # Errors
/// It is neither, in words.
pub fn tsap(text: &str) -> Result<Vec<u8>, String> {
    let quoted = ['\'', '"'].into_iter().find_map(|quote| text.strip_prefix(quote)?.strip_suffix(quote));
    let bytes = match quoted {
        Some(inner) if inner.is_ascii() => Some(inner.as_bytes().to_vec()),
        Some(_) => None,
        None => {
            let pair = |pair: &str| u8::from_str_radix(pair, 16).ok().filter(|_| pair.len() == 2);
            text.split(['.', ' ']).map(pair).collect()
        }
    };
    match bytes {
        Some(bytes) if (1..=32).contains(&bytes.len()) => Ok(bytes),
        Some(_) => Err(format!("`{text}` is not a valid TSAP (1 to 32 bytes)")),
        None => Err(format!(
            "`{text}` is not a valid TSAP (pairs of hex digits such as `01.00`, or text in quotes such as `'FETCH01'`)"
        )),
    }
}

/// Markers and the blocks that are numbered first; others are looked at by name.
static TERRITORIES: [Territory; 6] = [
    Territory { begins: "%MB0", anchors: &[0] },
    Territory { begins: "%DB1.B0", anchors: &[0] },
    Territory { begins: "%DB2.B0", anchors: &[0] },
    Territory { begins: "%DB10.B0", anchors: &[0] },
    Territory { begins: "%DB20.B0", anchors: &[0] },
    Territory { begins: "%DB100.B0", anchors: &[0] },
];

impl Dialect for Blocks {
    fn name(&self) -> &'static str {
        "fetch-write"
    }

    fn family(&self) -> &'static str {
        "data blocks"
    }

    fn notation(&self) -> &dyn Notation {
        self
    }

    fn stations(&self) -> &dyn Stations {
        self
    }

    fn framing(&self) -> &dyn Framing {
        self
    }

    fn runs_on(&self, transport: Transport) -> Result<(), &'static str> {
        if transport.is_tcp() {
            return Ok(());
        }
        Err("its packets have no check sum; it goes over TCP: write `connect` or `listen`")
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

    fn port_faults(&self, setup: &Setup, asks: bool) -> Vec<SettingFault> {
        let mut found = vec![];
        for key in ["local-tsap", "remote-tsap"] {
            match setup.word(key).map(tsap) {
                Some(Err(what)) => found.push(SettingFault { code: "F03", key, what, fix: "write what the controller's programmer has set up, local and remote swapped".into() }),
                None if asks => found.push(SettingFault {
                    code: "M34",
                    key,
                    what: format!("`{key}` is missing; an ISO-on-TCP connection needs both TSAPs"),
                    fix: format!("ask the controller's programmer for the connection's TSAPs and add `{key} = \"01.00\"`; what is local there is remote here"),
                }),
                _ => {}
            }
        }
        found
    }

    fn requests(&self) -> Option<&dyn Requests> {
        Some(self)
    }
}

impl Notation for Blocks {
    fn parse(&self, text: &str, _context: &AddressContext<'_>) -> Result<Address, AddressFault> {
        notation::parse(text)
    }

    fn show(&self, space: &Space, first: u32, width: u32, bit: Option<u8>, _setup: &Setup) -> ShownAddress {
        notation::show(space, first, width, bit)
    }

    fn notations(
        &self,
        space: &Space,
        first: u32,
        bit: Option<u8>,
        _setup: &Setup,
    ) -> Vec<(&'static str, String)> {
        notation::all(space, first, bit)
    }

    fn order(&self, _space: &Space) -> Option<Order> {
        Some(Order::HIGH_FIRST)
    }

    fn table_unit(&self, space: &Space) -> &'static str {
        if space.grain.cell_bytes() == 2 { "word" } else { "byte" }
    }
}

impl Stations for Blocks {
    fn shared_keys(&self) -> &'static [&'static str] {
        &["local-tsap", "remote-tsap"]
    }

    fn to_set_up(&self, link: &Link<'_>) -> Option<String> {
        let end = if link.image { "active" } else { "passive" };
        let work = match (link.reads, link.writes) {
            (true, true) => "FETCH and WRITE",
            (false, true) => "WRITE",
            (_, false) => "FETCH",
        };
        // What is local for us is the partner's there.
        let told = |key| link.setup.word(key).unwrap_or("any");
        let (own, partner) = (told("remote-tsap"), told("local-tsap"));
        Some(format!("{end} ISO-on-TCP connection for {work}: own TSAP {own}, partner's TSAP {partner}"))
    }

    fn other_end(&self, own: &Setup) -> Setup {
        let turned = |(key, word): &(&'static str, String)| {
            let key = match *key {
                "local-tsap" => "remote-tsap",
                "remote-tsap" => "local-tsap",
                other => other,
            };
            (key, word.clone())
        };
        Setup {
            numbers: own.numbers.clone(),
            words: own.words.iter().map(turned).collect(),
            ..Setup::default()
        }
    }
}

impl Framing for Blocks {
    fn odd_tcp_port(&self, port: u16) -> Option<&'static str> {
        (port == 502).then_some("port 502 is the usual port of Modbus TCP; ISO-on-TCP has 102")
    }

    fn dissector(&self) -> Option<&'static str> {
        Some("tpkt")
    }

    fn usual_tcp_port(&self) -> Option<u16> {
        Some(102)
    }

    fn is_frame(&self, bytes: &[u8]) -> bool {
        matches!(tpkt::parse(bytes), Ok(Some(_)))
    }
}

impl Search for Blocks {
    fn territories(&self) -> &'static [Territory] {
        &TERRITORIES
    }
}
