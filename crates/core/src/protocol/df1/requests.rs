//! What commands of a data table cost, how long the link waits, and how they look.

use super::{Spot, Tables, by_ranges, check, octal, to_wire};
use crate::protocol::requests::one_part;
use crate::protocol::{Cost, Example, Extent, Requests, Setup, Space, TooMuch, Verb};
use woodrush_wire::df1::{Check, Command, Message, Set, emit_message, emit_to_station};

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

impl Requests for Tables {
    fn acknowledges(&self) -> bool {
        true
    }

    fn unanswered(&self, port: &Setup) -> Option<(u64, &'static str)> {
        let tries = u64::from(port.number("link-retries").unwrap_or(3)) + 1;
        let wait = u64::from(port.number("ack-timeout").unwrap_or(1_000_000));
        Some((tries * wait, "`ack-timeout` or `link-retries`"))
    }

    fn first_wait(&self, port: &Setup) -> Option<u64> {
        Some(port.number("ack-timeout").unwrap_or(1_000_000).into())
    }

    fn cost(&self, verb: Verb, parts: &[(&Space, Extent)], setup: &Setup) -> Result<Cost, TooMuch> {
        let (space, count) = one_part(parts)?;
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
