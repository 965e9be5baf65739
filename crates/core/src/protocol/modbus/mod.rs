//! Modbus for the pure floor: notation, keys, limits and costs. The two framings share all but the overhead.

mod identity;
mod notation;
mod refusals;
mod terms;

use super::{
    Address, AddressFault, BitWrite, Cost, Dialect, Example, Grain, Key, KeyKind, Refusals, Setup,
    ShownAddress, Space, Territory, TooMuch, Transport, Verb,
};
use crate::form::Order;
use crate::line::Line;
use crate::term::Term;
use std::borrow::Cow;
use std::ops::Range;
use woodrush_wire::modbus::{Request, Response, Table, ascii, pack, rtu, tcp};

/// Modbus with one way of framing.
#[derive(Debug)]
pub(super) struct Modbus {
    framing: Framing,
}

#[derive(Debug, PartialEq, Eq)]
enum Framing {
    Rtu,
    Ascii,
    Tcp,
}

/// `modbus-rtu`.
pub(super) static RTU: Modbus = Modbus { framing: Framing::Rtu };
/// `modbus-ascii`.
pub(super) static ASCII: Modbus = Modbus { framing: Framing::Ascii };
/// `modbus-tcp`.
pub(super) static TCP: Modbus = Modbus { framing: Framing::Tcp };

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
        rewritten: false,
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
            Framing::Rtu => "modbus-rtu",
            Framing::Ascii => "modbus-ascii",
            Framing::Tcp => "modbus-tcp",
        }
    }

    fn family(&self) -> &'static str {
        "Modbus"
    }

    fn runs_on(&self, transport: Transport) -> Result<(), &'static str> {
        match (&self.framing, transport) {
            (Framing::Tcp, Transport::Serial | Transport::Pty) => Err(
                "its frames have no checksum and no end mark; a serial line needs `modbus-rtu` or `modbus-ascii`",
            ),
            _ => Ok(()),
        }
    }

    fn refusals(&self) -> &'static Refusals {
        &refusals::REFUSALS
    }

    fn terms(&self) -> &'static [Term] {
        terms::TERMS
    }

    fn line_fault(&self, line: crate::line::Line) -> Option<&'static str> {
        (self.framing == Framing::Rtu && line.data == 7)
            .then_some("RTU frames are bytes of 8 bits, and 7 data bits cut each of them (SER 2.5.1)")
    }

    fn odd_tcp_port(&self, port: u16) -> Option<&'static str> {
        (self.framing != Framing::Tcp && port == 502)
            .then_some("on port 502 clients expect MBAP frames: they will get no answer")
    }

    fn keys(&self) -> &'static [Key] {
        &KEYS
    }

    fn parse(&self, text: &str, _setup: &Setup) -> Result<Address, AddressFault> {
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

    fn frame_gap(&self, line: Line) -> u64 {
        match self.framing {
            Framing::Rtu => rtu::silence_us(line.baud, line.bits_per_char()),
            Framing::Ascii | Framing::Tcp => 0,
        }
    }

    fn order(&self) -> Option<Order> {
        None
    }

    fn cost(&self, verb: Verb, space: &Space, count: u32, setup: &Setup) -> Result<Cost, TooMuch> {
        let table = table_of(space);
        let (standard, key) = match verb {
            Verb::Read => (u32::from(table.read_max()), "max-read"),
            Verb::Write => (u32::from(table.write_max()), "max-write"),
        };
        // The device's own limit is in registers; bits are asked by the standard's.
        let own = setup.number(key).filter(|_| !table.is_bits());
        let (limit, source) = match own {
            Some(own) if own < standard => (own, key),
            _ => (standard, "the standard"),
        };
        if count > limit {
            return Err(TooMuch { limit, source });
        }
        let data = if table.is_bits() { count.div_ceil(8) } else { count * 2 };
        let single = verb == Verb::Write && count == 1 && setup.word("write-one") == Some("single");
        // Bytes of unit and PDU (APP 6.1 to 6.12).
        let (out, back) = match verb {
            Verb::Read => (6, 3 + data),
            Verb::Write if single => (6, 6),
            Verb::Write => (7 + data, 6),
        };
        Ok(match self.framing {
            Framing::Rtu => Cost { out: out + 2, back: back + 2, turns: 2 },
            Framing::Ascii => {
                let characters = |bytes: u32| 2 * bytes + 5;
                Cost { out: characters(out), back: characters(back), turns: 2 }
            }
            Framing::Tcp => Cost { out: out + 6, back: back + 6, turns: 0 },
        })
    }

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

    fn dissector(&self) -> Option<&'static str> {
        match self.framing {
            Framing::Rtu => Some("mbrtu"),
            Framing::Tcp => Some("mbtcp"),
            Framing::Ascii => None,
        }
    }

    fn usual_tcp_port(&self) -> Option<u16> {
        matches!(self.framing, Framing::Tcp).then_some(502)
    }

    fn is_frame(&self, bytes: &[u8]) -> bool {
        match self.framing {
            Framing::Rtu => rtu::parse(bytes).is_ok(),
            Framing::Ascii => {
                bytes.first() == Some(&b':') && bytes.iter().skip(1).take(4).all(u8::is_ascii_hexdigit)
            }
            Framing::Tcp => matches!(tcp::parse(bytes), Ok(Some(_))),
        }
    }

    fn station(&self, setup: &Setup) -> Option<u32> {
        setup.number("unit")
    }

    fn station_key(&self, transport: Transport) -> Option<(&'static str, Range<u32>)> {
        // A frame without MBAP goes to a line in the end, where 0 is for all (SER 2.2).
        Some(match (&self.framing, transport.is_tcp()) {
            (Framing::Tcp, true) => ("unit", 0..256),
            _ => ("unit", 1..248),
        })
    }

    fn request_code(&self, request: &[u8]) -> Option<u8> {
        match self.framing {
            Framing::Rtu => rtu::parse(request).ok()?.pdu.first().copied(),
            Framing::Ascii => match ascii::find(request, true) {
                ascii::Found::Frame { frame, .. } => frame.addressed().pdu.first().copied(),
                _ => None,
            },
            Framing::Tcp => tcp::parse(request).ok()??.0.body.pdu.first().copied(),
        }
    }

    fn example_bit(&self, space: &Space, first: u32, bit: u8, on: bool, setup: &Setup) -> Option<Example> {
        let offset = u16::try_from(first).ok()?;
        let mask = 1u16.checked_shl(bit.into())?;
        let (and, or) = (!mask, if on { mask } else { 0 });
        Some(Example {
            words: format!("function 22, offset {offset}, bit {bit} of the {}", space.noun),
            request: self.frame(setup, |out| Request::MaskWrite { offset, and, or }.emit(out)),
            answer: self.frame(setup, |out| Response::MaskWrote { offset, and, or }.emit(out)),
        })
    }

    fn example(&self, verb: Verb, space: &Space, first: u32, cells: &[u8], setup: &Setup) -> Example {
        let table = table_of(space);
        let offset = u16::try_from(first).unwrap_or(u16::MAX);
        let each = space.grain.cell_bytes();
        let count = u16::try_from(cells.len() / each).unwrap_or(u16::MAX);
        let packed = pack(table, cells);
        let single = count == 1 && setup.word("write-one") == Some("single");
        let word = packed.iter().fold(0u16, |word, byte| word << 8 | u16::from(*byte));
        let (request, response) = match (verb, table.is_bits(), single) {
            (Verb::Read, ..) => {
                (Request::Read { table, offset, count }, Response::Read { table, data: &packed })
            }
            (Verb::Write, true, true) => {
                let on = word != 0;
                (Request::WriteCoil { offset, on }, Response::WroteCoil { offset, on })
            }
            (Verb::Write, false, true) => (
                Request::WriteRegister { offset, value: word },
                Response::WroteRegister { offset, value: word },
            ),
            (Verb::Write, true, false) => (
                Request::WriteCoils { offset, count, bits: &packed },
                Response::Wrote { table, offset, count },
            ),
            (Verb::Write, false, false) => {
                (Request::WriteRegisters { offset, words: &packed }, Response::Wrote { table, offset, count })
            }
        };
        let plural = if count == 1 { "" } else { "s" };
        Example {
            words: format!(
                "function {}, offset {offset}, {count} {}{plural}",
                request.function(),
                space.noun
            ),
            request: self.frame(setup, |out| request.emit(out)),
            answer: self.frame(setup, |out| response.emit(out)),
        }
    }
}

impl Modbus {
    fn frame(&self, setup: &Setup, body: impl FnOnce(&mut Vec<u8>)) -> Vec<u8> {
        let (mut pdu, mut out) = (vec![], vec![]);
        body(&mut pdu);
        let unit = setup.number("unit").and_then(|unit| u8::try_from(unit).ok()).unwrap_or(1);
        match self.framing {
            Framing::Rtu => rtu::emit(unit, &pdu, &mut out),
            Framing::Ascii => ascii::emit(unit, &pdu, &mut out),
            Framing::Tcp => tcp::emit(1, unit, &pdu, &mut out),
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn costs_are_those_of_the_standard() {
        let setup = Setup::default();
        let holding = &SPACES[3];
        assert_eq!(RTU.cost(Verb::Read, holding, 1, &setup), Ok(Cost { out: 8, back: 7, turns: 2 }));
        assert_eq!(RTU.cost(Verb::Read, holding, 125, &setup), Ok(Cost { out: 8, back: 255, turns: 2 }));
        assert_eq!(
            RTU.cost(Verb::Read, holding, 126, &setup),
            Err(TooMuch { limit: 125, source: "the standard" })
        );
        assert_eq!(RTU.cost(Verb::Write, holding, 2, &setup), Ok(Cost { out: 13, back: 8, turns: 2 }));
        assert_eq!(TCP.cost(Verb::Read, &SPACES[0], 19, &setup), Ok(Cost { out: 12, back: 12, turns: 0 }));
        let small = Setup { numbers: vec![("max-read", 32)], words: vec![("write-one", "single".into())] };
        assert_eq!(RTU.cost(Verb::Read, holding, 33, &small), Err(TooMuch { limit: 32, source: "max-read" }));
        assert_eq!(RTU.cost(Verb::Write, holding, 1, &small), Ok(Cost { out: 8, back: 8, turns: 2 }));
    }

    #[test]
    fn costs_are_the_lengths_of_the_bytes() {
        for (framing, verb, at, count, word) in [
            (&RTU, Verb::Read, 3, 2, "multiple"),
            (&RTU, Verb::Write, 3, 1, "single"),
            (&RTU, Verb::Write, 0, 9, "multiple"),
            (&TCP, Verb::Write, 3, 5, "multiple"),
            (&TCP, Verb::Read, 1, 17, "multiple"),
            (&ASCII, Verb::Read, 3, 3, "multiple"),
            (&ASCII, Verb::Write, 3, 1, "single"),
        ] {
            let setup = Setup { numbers: vec![("unit", 23)], words: vec![("write-one", word.into())] };
            let space = &SPACES[at];
            let cells = vec![1; space.grain.cell_bytes() * count as usize];
            let example = framing.example(verb, space, 7, &cells, &setup);
            let cost = framing.cost(verb, space, count, &setup).unwrap();
            let bytes = (example.request.len(), example.answer.len());
            assert_eq!((cost.out as usize, cost.back as usize), bytes, "{}", example.words);
        }
    }
}
