//! What Modbus requests cost, and how they look in each framing.

use super::{Framed, Modbus, Search, table_of};
use crate::protocol::requests::one_part;
use crate::protocol::{Cost, Example, Extent, Requests, Setup, Space, TooMuch, Verb};
use woodrush_wire::modbus::{Request, Response, ascii, pack, rtu, tcp};

impl Requests for Modbus {
    fn search(&self) -> Option<&dyn Search> {
        Some(self)
    }

    fn cost(&self, verb: Verb, parts: &[(&Space, Extent)], setup: &Setup) -> Result<Cost, TooMuch> {
        let (space, count) = one_part(parts)?;
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
            Framed::Rtu => Cost { out: out + 2, back: back + 2, turns: 2 },
            Framed::Ascii => {
                let characters = |bytes: u32| 2 * bytes + 5;
                Cost { out: characters(out), back: characters(back), turns: 2 }
            }
            Framed::Tcp => Cost { out: out + 6, back: back + 6, turns: 0 },
        })
    }

    fn request_code(&self, request: &[u8]) -> Option<u8> {
        match self.framing {
            Framed::Rtu => rtu::parse(request).ok()?.pdu.first().copied(),
            Framed::Ascii => match ascii::find(request, true) {
                ascii::Found::Frame { frame, .. } => frame.addressed().pdu.first().copied(),
                _ => None,
            },
            Framed::Tcp => tcp::parse(request).ok()??.0.body.pdu.first().copied(),
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
            Framed::Rtu => rtu::emit(unit, &pdu, &mut out),
            Framed::Ascii => ascii::emit(unit, &pdu, &mut out),
            Framed::Tcp => tcp::emit(1, unit, &pdu, &mut out),
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::super::{ASCII, RTU, SPACES, TCP};
    use super::*;

    fn cost(of: &Modbus, verb: Verb, space: &Space, count: u32, setup: &Setup) -> Result<Cost, TooMuch> {
        let of: &dyn crate::protocol::Dialect = of;
        of.cost(verb, space, count, setup)
    }

    #[test]
    fn costs_are_those_of_the_standard() {
        let setup = Setup::default();
        let holding = &SPACES[3];
        assert_eq!(cost(&RTU, Verb::Read, holding, 1, &setup), Ok(Cost { out: 8, back: 7, turns: 2 }));
        assert_eq!(cost(&RTU, Verb::Read, holding, 125, &setup), Ok(Cost { out: 8, back: 255, turns: 2 }));
        assert_eq!(
            cost(&RTU, Verb::Read, holding, 126, &setup),
            Err(TooMuch { limit: 125, source: "the standard" })
        );
        assert_eq!(cost(&RTU, Verb::Write, holding, 2, &setup), Ok(Cost { out: 13, back: 8, turns: 2 }));
        assert_eq!(cost(&TCP, Verb::Read, &SPACES[0], 19, &setup), Ok(Cost { out: 12, back: 12, turns: 0 }));
        let small = Setup {
            numbers: vec![("max-read", 32)],
            words: vec![("write-one", "single".into())],
            ..Setup::default()
        };
        assert_eq!(
            cost(&RTU, Verb::Read, holding, 33, &small),
            Err(TooMuch { limit: 32, source: "max-read" })
        );
        assert_eq!(cost(&RTU, Verb::Write, holding, 1, &small), Ok(Cost { out: 8, back: 8, turns: 2 }));
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
            let setup = Setup {
                numbers: vec![("unit", 23)],
                words: vec![("write-one", word.into())],
                ..Setup::default()
            };
            let space = &SPACES[at];
            let cells = vec![1; space.grain.cell_bytes() * count as usize];
            let example = framing.example(verb, space, 7, &cells, &setup);
            let cost = cost(framing, verb, space, count, &setup).unwrap();
            let bytes = (example.request.len(), example.answer.len());
            assert_eq!((cost.out as usize, cost.back as usize), bytes, "{}", example.words);
        }
    }
}
