//! The commands that read and write data tables: what fits into one, and how they look, without their link.

use super::{Spot, by_ranges, octal, to_wire};
use crate::protocol::{Setup, Space, TooMuch, Verb};
use woodrush_wire::tables::{Command, Set};

/// Most data bytes of one command, read and written.
const LOGICAL: (u32, u32) = (236, 234);
const RANGES: (u32, u32) = (244, 236);

/// Bytes of a command and its reply behind their headers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::protocol) struct Fitting {
    /// FNC, place, and data of a write.
    pub(in crate::protocol) asked: u32,
    /// Data of a read.
    pub(in crate::protocol) answered: u32,
}

/// What a command over so many grains takes, or why it cannot be one.
///
/// # Errors
/// The limit and who sets it.
pub(in crate::protocol) fn fitting(
    verb: Verb,
    space: &Space,
    count: u32,
    setup: &Setup,
) -> Result<Fitting, TooMuch> {
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
    let limit = if alone { 1 } else { (most / per_element).max(u32::from(spot.sub.is_some())) * spot.grains };
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
    let parameters = if ranges { 1 + 4 + place } else { 1 + 1 + place };
    Ok(match verb {
        Verb::Read => Fitting { asked: parameters + u32::from(ranges), answered: data },
        Verb::Write => Fitting { asked: parameters + data, answered: 0 },
    })
}

/// A command that carries such cells: in words, and its bytes and those of its reply behind their headers.
pub(in crate::protocol) fn asking(
    verb: Verb,
    space: &Space,
    first: u32,
    cells: &[u8],
    setup: &Setup,
) -> Option<(String, Vec<u8>, Vec<u8>)> {
    let spot = Spot::of(space)?;
    let count = u32::try_from(cells.len() / space.grain.cell_bytes()).unwrap_or(1);
    let data = to_wire(&spot, count, cells);
    let element = u16::try_from(first / spot.grains.max(1)).unwrap_or(u16::MAX);
    let size = u8::try_from(data.len()).unwrap_or(u8::MAX);
    let (offset, total) = (0, u16::from(size / 2));
    let (name, command) = match (verb, by_ranges(setup)) {
        (Verb::Read, false) => ("typed logical read", Command::Read { size, at: spot.logical(element) }),
        (Verb::Write, false) => {
            ("typed logical write", Command::Write { at: spot.logical(element), data: &data })
        }
        (Verb::Read, true) => {
            ("word-range read", Command::RangeRead { offset, total, at: spot.table(element), size })
        }
        (Verb::Write, true) => {
            ("word-range write", Command::RangeWrite { offset, total, at: spot.table(element), data: &data })
        }
    };
    let mut body = vec![];
    command.emit(&mut body);
    let words = format!("{name}, file {} element {element}, {size} bytes", spot.file);
    Some((words, body, if verb == Verb::Read { data } else { vec![] }))
}

/// The command that changes one bit of an element and leaves the others, in words and as its bytes; nothing where an
/// element is read, changed and written whole.
pub(in crate::protocol) fn changing(
    space: &Space,
    first: u32,
    bit: u8,
    on: bool,
    setup: &Setup,
) -> Option<(String, Vec<u8>)> {
    let spot = Spot::of(space).filter(Spot::has_masks)?;
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
    let mut body = vec![];
    command.emit(&mut body);
    Some((format!("{name}, file {} element {element}, bit {bit}", spot.file), body))
}
