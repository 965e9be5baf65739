//! Addresses of a controller with numbered blocks, as IEC 61131-3 writes direct memory: `%DB10.W20`, `%MW4`, `%IX0.1`,
//! `%C3`.
//!
//! A letter says the width: `X` a bit, `B` a byte, `W` a word, `D` a double word; the number behind it always counts
//! bytes. The way of writing without the percent sign (`DB10.DBW20`, `MW4`, `I0.1`) is read as the same.

use super::{AREAS, Memory, space_of};
use crate::form::Type;
use crate::protocol::{Address, AddressFault, ImpliedType, ShownAddress, Space};
use std::ops::Range;
use woodrush_wire::isotcp::fetch::Area;

fn fault<T>(
    code: &'static str,
    at: Range<usize>,
    what: String,
    likely: Vec<String>,
) -> Result<T, AddressFault> {
    Err(AddressFault { code, at, what, likely })
}

/// Widths by their letter, with how many bytes each takes; a bit takes none.
const WIDTHS: [(char, u32); 4] = [('X', 0), ('B', 1), ('W', 2), ('D', 4)];

pub(super) fn parse(text: &str) -> Result<Address, AddressFault> {
    let upper = text.to_ascii_uppercase();
    // Offsets of `rest` in the text, for the places of faults.
    let begin = usize::from(upper.starts_with('%'));
    let rest = upper.get(begin..).unwrap_or_default();
    if let Some(inner) = rest.strip_prefix("DB") {
        return in_block(text, inner, begin + 2);
    }
    let area = match rest.chars().next() {
        Some('M') => Area::Markers,
        Some('I') => Area::Inputs,
        Some('Q') => Area::Outputs,
        Some('C') => Area::Counters,
        Some('T') => Area::Timers,
        _ => return named(text),
    };
    let inner = rest.get(1..).unwrap_or_default();
    if matches!(area, Area::Counters | Area::Timers) {
        let at = begin + 1..text.len();
        let Some(number) = number(inner) else { return named(text) };
        if number > u32::from(u16::MAX) {
            return fault("F10", at, format!("{number} is past the last, 65535"), vec![]);
        }
        let space = space_of(area, 0);
        return Ok(Address { space, first: number, bit: None, brings: ImpliedType::Width(Type::U16) });
    }
    cell(text, inner, begin + 1, Memory { area, block: 0 })
}

/// `10.W20`, behind `DB`.
fn in_block(text: &str, inner: &str, begin: usize) -> Result<Address, AddressFault> {
    let Some((block, place)) = inner.split_once('.') else {
        let at = 0..text.len();
        let likely = number(inner).map(|block| format!("%DB{block}.W0")).into_iter().collect();
        return fault("F10", at, format!("`{text}` names a block and no place in it"), likely);
    };
    let at = begin..begin + block.len();
    let Some(block) = number(block) else { return named(text) };
    let Some(block) = u8::try_from(block).ok().filter(|block| *block > 0) else {
        let what = format!("data block {block}: the header of a request has room for 1 to 255");
        return fault("M34", at, what, vec![]);
    };
    let begin = begin + inner.len() - place.len();
    let (place, begin) = place.strip_prefix("DB").map_or((place, begin), |place| (place, begin + 2));
    cell(text, place, begin, Memory { area: Area::DataBlock, block })
}

/// `W20`, `X20.3` or `20.3` of an area whose addresses count bytes.
fn cell(text: &str, inner: &str, begin: usize, place: Memory) -> Result<Address, AddressFault> {
    let width =
        inner.chars().next().and_then(|letter| WIDTHS.into_iter().find(|(known, _)| *known == letter));
    let (digits, begin) =
        if width.is_some() { (inner.get(1..).unwrap_or_default(), begin + 1) } else { (inner, begin) };
    let (byte, bit) = match digits.split_once('.') {
        Some((byte, bit)) => (byte, Some(bit)),
        None => (digits, None),
    };
    let Some(first) = number(byte) else { return named(text) };
    let head = |byte: u32, letter: char, bit: Option<u32>| shown(place, byte, letter, bit);
    let space = space_of(place.area, place.block);
    let last = space.len.unwrap_or(u32::MAX) - 1;
    if first > last {
        let what = format!("byte {first} is past the last that a request can ask for, {last}");
        return fault("F10", begin..begin + byte.len(), what, vec![]);
    }
    let bytes = match (width, bit) {
        (None | Some(('X', _)), Some(bit)) => {
            let at = begin + byte.len() + 1..text.len();
            return match number(bit) {
                Some(bit @ 0..8) => {
                    Ok(Address { space, first, bit: u8::try_from(bit).ok(), brings: ImpliedType::Nothing })
                }
                Some(bit) => {
                    let likely = vec![head(first + bit / 8, 'X', Some(bit % 8))];
                    fault("F10", at, format!("bit {bit} of a byte: bits count 0 to 7"), likely)
                }
                None => named(text),
            };
        }
        (Some(('X', _)), None) | (None, None) => {
            let what =
                format!("`{text}` does not say how wide: X a bit, B a byte, W a word, D a double word");
            let likely = vec![head(first, 'W', None), head(first, 'X', Some(0))];
            return fault("F10", 0..text.len(), what, likely);
        }
        (Some((letter, _)), Some(_)) => {
            let what = format!("`{letter}` is a whole cell, and a bit is written with X");
            let bit = bit.and_then(number).filter(|bit| *bit < 8).unwrap_or(0);
            return fault("F10", 0..text.len(), what, vec![head(first, 'X', Some(bit))]);
        }
        (Some((_, bytes)), None) => bytes,
    };
    let letter = width.map_or('B', |(letter, _)| letter);
    if place.area == Area::DataBlock && bytes > 1 && !first.is_multiple_of(2) {
        let what = format!(
            "byte {first} is odd, and words of a block begin at even bytes: the number counts bytes, not words"
        );
        let mut likely = vec![head(first - 1, letter, None), head(first + 1, letter, None)];
        if first * 2 <= last {
            likely.push(head(first * 2, letter, None));
        }
        return fault("M09", begin..text.len(), what, likely);
    }
    let ty = match bytes {
        1 => Type::U8,
        2 => Type::U16,
        _ => Type::U32,
    };
    Ok(Address { space, first, bit: None, brings: ImpliedType::Width(ty) })
}

fn number(digits: &str) -> Option<u32> {
    let plain = !digits.is_empty() && digits.bytes().all(|digit| digit.is_ascii_digit());
    digits.parse().ok().filter(|_| plain)
}

/// What is no numbered memory at all.
fn named(text: &str) -> Result<Address, AddressFault> {
    let what = format!(
        "`{text}` is not a numbered memory such as %DB10.W20, %MW4, %IX0.1 or %C3; names of a controller's own program \
         cannot be asked for"
    );
    fault("M45", 0..text.len(), what, vec![])
}

fn shown(place: Memory, byte: u32, letter: char, bit: Option<u32>) -> String {
    let head = match place.area {
        Area::DataBlock => format!("%DB{}.", place.block),
        area => AREAS
            .iter()
            .find(|(known, ..)| *known == area)
            .map(|(_, key, _)| format!("%{key}"))
            .unwrap_or_default(),
    };
    match bit {
        Some(bit) => format!("{head}{letter}{byte}.{bit}"),
        None => format!("{head}{letter}{byte}"),
    }
}

pub(super) fn show(space: &Space, first: u32, width: u32, bit: Option<u8>) -> ShownAddress {
    let place = Memory::of(space);
    let start = if place.area == Area::DataBlock { first / 2 } else { first };
    let canonical = match (place.area, bit) {
        (Area::Counters | Area::Timers, _) => format!("%{}{first}", space.key),
        (_, Some(bit)) => shown(place, first, 'X', Some(bit.into())),
        (_, None) => {
            let letter = match width {
                1 => 'B',
                4 => 'D',
                // Several in a row, or their number is not given: by words where they can begin.
                0 if !first.is_multiple_of(2) => 'B',
                _ => 'W',
            };
            shown(place, first, letter, None)
        }
    };
    let name =
        if place.area == Area::DataBlock { format!("{} word", space.key) } else { space.noun.to_string() };
    ShownAddress { canonical, offset: format!("{name} {start}"), hex: format!("0x{start:04X}") }
}

/// The same address as others write it.
pub(super) fn all(space: &Space, first: u32, bit: Option<u8>) -> Vec<(&'static str, String)> {
    let place = Memory::of(space);
    let even = first.is_multiple_of(2);
    let mut found = vec![];
    let block = place.area == Area::DataBlock;
    match (place.area, bit) {
        (Area::Counters | Area::Timers, _) => {
            found.push(("without the percent sign", format!("{}{first}", space.key)))
        }
        (_, Some(bit)) => {
            let old = if block {
                format!("DB{}.DBX{first}.{bit}", place.block)
            } else {
                format!("{}{first}.{bit}", space.key)
            };
            found.push(("bit", shown(place, first, 'X', Some(bit.into()))));
            found.push(("without the percent sign", old));
        }
        (_, None) => {
            for (letter, name) in [('W', "word"), ('D', "double word"), ('B', "byte")] {
                if letter == 'B' || even || !block {
                    found.push((name, shown(place, first, letter, None)));
                }
            }
            let letter = if even { 'W' } else { 'B' };
            let old = if block {
                format!("DB{}.DB{letter}{first}", place.block)
            } else {
                format!("{}{letter}{first}", space.key)
            };
            found.push(("without the percent sign", old));
        }
    }
    found
}
