//! Modbus for the pure floor: notation, keys, limits and costs. The two framings share all but the overhead.

mod identity;
mod listed;
mod notation;
mod refusals;
mod requests;
mod terms;

use super::{
    Address, AddressContext, AddressFault, BitWrite, Dialect, Flow, Framing, Grain, Key, KeyKind, Lists,
    Notation, Refusals, Requests, Search, Setup, ShownAddress, Space, StationId, Stations, Territory,
    Transport,
};
use crate::line::Line;
use crate::term::Term;
use std::borrow::Cow;
use std::ops::Range;
use woodrush_wire::modbus::{Table, rtu, tcp};

/// Modbus with one way of framing.
#[derive(Debug)]
pub(super) struct Modbus {
    framing: Framed,
}

#[derive(Debug, PartialEq, Eq)]
enum Framed {
    Rtu,
    Ascii,
    Tcp,
}

/// `modbus-rtu`.
pub(super) static RTU: Modbus = Modbus { framing: Framed::Rtu };
/// `modbus-ascii`.
pub(super) static ASCII: Modbus = Modbus { framing: Framed::Ascii };
/// `modbus-tcp`.
pub(super) static TCP: Modbus = Modbus { framing: Framed::Tcp };

/// Items of each table (APP 4.3: offsets 0 to 65535).
const ITEMS: u32 = 65_536;

const fn space(key: &'static str, noun: &'static str, table: Table) -> Space {
    Space {
        key: Cow::Borrowed(key),
        noun,
        grain: if table.is_bits() { Grain::Bit } else { Grain::Bytes(2) },
        align: 1,
        len: Some(ITEMS),
        writable: table.is_writable(),
        bits: match table {
            Table::Coil | Table::DiscreteInput => BitWrite::Whole,
            Table::HoldingRegister => BitWrite::Masked,
            Table::InputRegister => BitWrite::Never,
        },
        only: &[],
        shown: None,
        rewritten: false,
        whole: false,
        publishes: false,
        flow: Flow::Asked,
    }
}

/// In the order of [`Table::ALL`].
static SPACES: [Space; 4] = [
    space("coil", "coil", Table::Coil),
    space("discrete", "discrete input", Table::DiscreteInput),
    space("input", "input register", Table::InputRegister),
    space("holding", "holding register", Table::HoldingRegister),
];

fn table_of(space: &Space) -> Table {
    let at = SPACES.iter().position(|known| known.key == space.key);
    at.and_then(|at| Table::ALL.get(at).copied()).unwrap_or(Table::HoldingRegister)
}

/// Where makers begin their tables: the round numbers, and what comes after a reference number of 1.
const ANCHORS: &[u32] = &[
    0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16, 17, 18, 19, 20, 24, 29, 30, 31, 32, 39, 40, 48,
    49, 50, 59, 60, 63, 64, 69, 70, 79, 80, 89, 90, 95, 96, 98, 99, 100, 110, 120, 127, 128, 149, 150, 199,
    200, 249, 250, 255, 256, 299, 300, 317, 399, 400, 499, 500, 511, 512, 599, 600, 699, 700, 768, 799, 800,
    899, 900, 999, 1000, 1001, 1023, 1024, 1099, 1100, 1199, 1200, 1499, 1500, 1999, 2000, 2047, 2048, 2999,
    3000, 3999, 4000, 4095, 4096, 4999, 5000, 5999, 6000, 7000, 8000, 8191, 8192, 9000, 9998, 9999, 10_000,
    12_288, 16_384, 20_000, 30_000, 32_768, 40_000, 40_960, 49_152, 50_000, 60_000, 65_535,
];
static TERRITORIES: [Territory; 4] = [
    Territory { begins: "holding:0", anchors: ANCHORS },
    Territory { begins: "input:0", anchors: ANCHORS },
    Territory { begins: "coil:0", anchors: ANCHORS },
    Territory { begins: "discrete:0", anchors: ANCHORS },
];

static KEYS: [Key; 3] = [
    Key {
        table: "devices",
        name: "unit",
        kind: KeyKind::Station { high: 255, any: false },
        doc: "Modbus unit, 1 to 247 on a serial line; default the profile's as-shipped unit",
    },
    Key {
        table: "devices",
        name: "write-one",
        kind: KeyKind::Choice(&["multiple", "single"]),
        doc: "what one register or coil is written with: functions 16 and 15 (`multiple`, default) or 6 and 5 (`single`)",
    },
    Key {
        table: "images",
        name: "unit",
        kind: KeyKind::Station { high: 255, any: true },
        doc: "the unit it answers as, or `any` (default when it is alone on its port)",
    },
];

impl Dialect for Modbus {
    fn name(&self) -> &'static str {
        match self.framing {
            Framed::Rtu => "modbus-rtu",
            Framed::Ascii => "modbus-ascii",
            Framed::Tcp => "modbus-tcp",
        }
    }

    fn family(&self) -> &'static str {
        "Modbus"
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
        match (&self.framing, transport) {
            (Framed::Tcp, Transport::Serial | Transport::Pty) => Err(
                "its frames have no checksum and no end mark; a serial line needs `modbus-rtu` or `modbus-ascii`",
            ),
            (_, Transport::Network | Transport::Ethernet) => {
                Err("it exchanges nothing in cycles: write `listen`, `connect`, `serial` or `pty`")
            }
            _ => Ok(()),
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
}

impl Notation for Modbus {
    fn lists(&self) -> &dyn Lists {
        &listed::ModbusLists
    }

    fn parse(&self, text: &str, _context: &AddressContext<'_>) -> Result<Address, AddressFault> {
        notation::parse(text)
    }

    fn show(&self, space: &Space, first: u32, _width: u32, bit: Option<u8>, _setup: &Setup) -> ShownAddress {
        notation::show(space, first, bit)
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

    fn standing(&self) -> &'static [Space] {
        &SPACES
    }
}

impl Stations for Modbus {
    fn shared_keys(&self) -> &'static [&'static str] {
        &["unit"]
    }

    fn station(&self, setup: &Setup) -> Option<StationId> {
        setup.number("unit").map(StationId::Number)
    }

    fn station_key(&self, transport: Transport) -> Option<(&'static str, Range<u32>)> {
        // A frame without MBAP goes to a line in the end, where 0 is for all (SER 2.2).
        Some(match (&self.framing, transport.is_tcp()) {
            (Framed::Tcp, true) => ("unit", 0..256),
            _ => ("unit", 1..248),
        })
    }
}

impl Framing for Modbus {
    fn line_fault(&self, line: Line) -> Option<&'static str> {
        (self.framing == Framed::Rtu && line.data == 7)
            .then_some("RTU frames are bytes of 8 bits, and 7 data bits cut each of them (SER 2.5.1)")
    }

    fn odd_tcp_port(&self, port: u16) -> Option<&'static str> {
        (self.framing != Framed::Tcp && port == 502)
            .then_some("on port 502 clients expect MBAP frames: they will get no answer")
    }

    fn frame_gap(&self, line: Line) -> u64 {
        match self.framing {
            Framed::Rtu => rtu::silence_us(line.baud, line.bits_per_char()),
            Framed::Ascii | Framed::Tcp => 0,
        }
    }

    fn dissector(&self) -> Option<&'static str> {
        match self.framing {
            Framed::Rtu => Some("mbrtu"),
            Framed::Tcp => Some("mbtcp"),
            Framed::Ascii => None,
        }
    }

    fn usual_tcp_port(&self) -> Option<u16> {
        matches!(self.framing, Framed::Tcp).then_some(502)
    }

    fn is_frame(&self, bytes: &[u8]) -> bool {
        match self.framing {
            Framed::Rtu => rtu::parse(bytes).is_ok(),
            Framed::Ascii => {
                bytes.first() == Some(&b':') && bytes.iter().skip(1).take(4).all(u8::is_ascii_hexdigit)
            }
            Framed::Tcp => matches!(tcp::parse(bytes), Ok(Some(_))),
        }
    }
}

impl Search for Modbus {
    fn territories(&self) -> &'static [Territory] {
        &TERRITORIES
    }

    fn identity(&self) -> &'static [(u8, &'static [u8])] {
        // Basic device identification (APP 6.21), and what serial devices of old have (APP 6.13).
        &[(43, &[43, 14, 1, 0]), (17, &[17])]
    }

    fn identity_shown(&self, _code: u8, answer: &[u8]) -> Option<String> {
        identity::shown(answer)
    }
}
