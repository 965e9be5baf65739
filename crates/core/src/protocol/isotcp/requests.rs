//! What FETCH and WRITE cost, and how they look.

use super::{Blocks, Memory, Search};
use crate::protocol::requests::one_part;
use crate::protocol::{Cost, Example, Extent, Requests, Setup, Space, TooMuch, Verb};
use woodrush_wire::isotcp::cotp;
use woodrush_wire::isotcp::fetch::{self, Answer, Area, Request};

/// Bytes in one request by default: many communication processors take no more.
const BYTES: u32 = 200;
/// Bytes of packet and data unit around a message of 16 bytes and its data.
const OVERHEAD: u32 = 7 + 16;
/// Data of a message that fills one data unit of the size that is proposed; each further one costs its header again.
const PIECE: u32 = 1021;

impl Requests for Blocks {
    fn search(&self) -> Option<&dyn Search> {
        Some(self)
    }

    fn no_retries(&self) -> Option<&'static str> {
        Some(
            "after a timeout the connection is closed and reopened, because a late answer could be mistaken for the next one",
        )
    }

    fn cost(&self, verb: Verb, parts: &[(&Space, Extent)], setup: &Setup) -> Result<Cost, TooMuch> {
        let (space, count) = one_part(parts)?;
        let each = u32::try_from(space.grain.cell_bytes()).unwrap_or(1);
        let bytes = count * each;
        let (own, key) = match verb {
            Verb::Read => (setup.number("max-read"), "max-read"),
            Verb::Write => (setup.number("max-write"), "max-write"),
        };
        let (limit, source) = own.map_or((BYTES, "what every controller takes"), |own| (own, key));
        if bytes > limit {
            return Err(TooMuch { limit: limit / each, source });
        }
        let data = bytes.next_multiple_of(2);
        let with = |data: u32| OVERHEAD + data + 7 * ((16 + data).div_ceil(PIECE) - 1);
        Ok(match verb {
            Verb::Read => Cost { out: OVERHEAD, back: with(data), turns: 0 },
            Verb::Write => Cost { out: with(data), back: OVERHEAD, turns: 0 },
        })
    }

    fn example_bit(&self, space: &Space, first: u32, bit: u8, on: bool, setup: &Setup) -> Option<Example> {
        let mut cells = vec![0; space.grain.cell_bytes()];
        crate::cells::set_bit(&mut cells, bit, on);
        let mut example = self.example(Verb::Write, space, first, &cells, setup);
        if !example.words.starts_with("FETCH") {
            example.words = format!("FETCH, change, {}", example.words);
        }
        Some(example)
    }

    fn example(&self, verb: Verb, space: &Space, first: u32, cells: &[u8], _setup: &Setup) -> Example {
        let Memory { area, block } = Memory::of(space);
        let start =
            u16::try_from(if area == Area::DataBlock { first / 2 } else { first }).unwrap_or(u16::MAX);
        let length = u16::try_from((first as usize % area.unit() + cells.len()).div_ceil(area.unit()))
            .unwrap_or(u16::MAX);
        // A part of a word is changed in the word, whose other byte is shown as 0.
        let lead = if area == Area::DataBlock { first as usize % 2 } else { 0 };
        let part = area.unit() == 2 && (lead + cells.len()) % 2 + lead > 0;
        let mut data = [vec![0; lead], cells.to_vec()].concat();
        data.resize(data.len().next_multiple_of(2), 0);
        let range = fetch::Range { org: area.org(), block, start, length };
        let (request, answer) = match verb {
            Verb::Read => (Request::Fetch(range), Answer::Fetched(0, &data)),
            Verb::Write => (Request::Write(range, &data), Answer::Wrote(0)),
        };
        let packed = |body: &dyn Fn(&mut Vec<u8>)| {
            let (mut message, mut out) = (vec![], vec![]);
            body(&mut message);
            cotp::emit_message(&message, cotp::SIZE, &mut out);
            out
        };
        let word = match verb {
            Verb::Read => "FETCH",
            Verb::Write if part => "FETCH, change, WRITE",
            Verb::Write => "WRITE",
        };
        let (unit, from) = match area {
            Area::DataBlock => ("word", format!("data block {block}, word")),
            Area::Counters | Area::Timers => ("word", space.noun.to_string()),
            _ => ("byte", space.noun.to_string()),
        };
        let plural = if length == 1 { "" } else { "s" };
        Example {
            words: format!("{word} {from} {start}, {length} {unit}{plural}"),
            request: packed(&|out| request.emit(out)),
            answer: packed(&|out| answer.emit(out)),
        }
    }
}
