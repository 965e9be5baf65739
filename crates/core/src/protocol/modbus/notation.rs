//! Modbus addresses as people write them.
//!
//! Six digits `400318` (reference number 318 of table 4, offset 317), five digits `40318`, offsets `holding:317` and
//! `holding:0x13D`, and one bit of a register `400010.3`. A reference number is text: leading zeros count. Anything
//! that could be read in two ways is refused with both readings.

use super::{ITEMS, SPACES};
use crate::protocol::{Address, AddressFault, ImpliedType, ShownAddress, Space};
use std::ops::Range;

/// First digits of reference numbers, in the order of the spaces.
const DIGITS: [char; 4] = ['0', '1', '3', '4'];

pub(super) fn parse(text: &str) -> Result<Address, AddressFault> {
    let (base, bit) = match text.rsplit_once('.') {
        Some((base, bit)) => (base, Some(bit)),
        None => (text, None),
    };
    let (at, offset) = match base.split_once(':') {
        Some((word, number)) => by_offset(text, word, number)?,
        None => by_reference(text, base)?,
    };
    let Some(space) = SPACES.get(at) else {
        return Err(fault("M01", text, 0..text.len(), "no such table", vec![]));
    };
    let bit = match bit {
        None => None,
        Some(digits) => Some(bit_of(text, base, digits, space)?),
    };
    Ok(Address { space: space.clone(), first: offset, bit, brings: ImpliedType::Nothing })
}

fn fault(
    code: &'static str,
    text: &str,
    at: Range<usize>,
    what: impl Into<String>,
    likely: Vec<String>,
) -> AddressFault {
    let at = at.start.min(text.len())..at.end.min(text.len());
    AddressFault { code, at, what: what.into(), likely }
}

fn bit_of(text: &str, base: &str, digits: &str, space: &Space) -> Result<u8, AddressFault> {
    let at = base.len() + 1..text.len();
    if space.grain.cell_bytes() == 1 {
        let what = format!("{} is one bit and has no bit {digits}", space.a());
        return Err(fault("M01", text, at, what, vec![base.to_string()]));
    }
    match digits.parse::<u8>() {
        Ok(bit) if bit < 16 && digits.len() <= 2 => Ok(bit),
        _ => {
            let what = format!("bit `{digits}` of a register: bits count 0 to 15, 0 the least significant");
            let likely = if digits == "16" { vec![format!("{base}.15")] } else { vec![] };
            Err(fault("M01", text, at, what, likely))
        }
    }
}

fn by_offset(text: &str, word: &str, number: &str) -> Result<(usize, u32), AddressFault> {
    let Some(at) = SPACES.iter().position(|space| space.key == word) else {
        let what = format!("`{word}` is not a table (coil, discrete, input or holding)");
        let near = crate::nearest::nearest(word, SPACES.iter().map(|space| space.key.as_ref()));
        return Err(fault(
            "M01",
            text,
            0..word.len(),
            what,
            near.map(|key| format!("{key}:{number}")).into_iter().collect(),
        ));
    };
    let digits = word.len() + 1..word.len() + 1 + number.len();
    let parsed = match number.strip_prefix("0x").or_else(|| number.strip_prefix("0X")) {
        Some(hex) if plain(hex, 16) => u32::from_str_radix(hex, 16).ok(),
        None if plain(number, 10) => number.parse().ok(),
        _ => {
            let what = format!("`{number}` is not an offset (a decimal number, or hex with 0x)");
            return Err(fault("M01", text, digits, what, vec![]));
        }
    };
    match parsed {
        Some(offset) if offset < ITEMS => Ok((at, offset)),
        _ => Err(fault(
            "M01",
            text,
            digits,
            format!("offset {number} is past the table's end, 65535 (0xFFFF)"),
            vec![],
        )),
    }
}

fn plain(digits: &str, radix: u32) -> bool {
    !digits.is_empty() && digits.chars().all(|digit| digit.is_digit(radix))
}

fn by_reference(text: &str, base: &str) -> Result<(usize, u32), AddressFault> {
    let whole = 0..base.len();
    if base.is_empty() {
        return Err(fault("M01", text, 0..text.len(), "an address is missing", vec![]));
    }
    if !plain(base, 10) {
        return Err(not_digits(text, base));
    }
    if !matches!(base.len(), 5 | 6) {
        return Err(wrong_length(text, base));
    }
    let (digit, number) = base.split_at(1);
    let Some(at) = DIGITS.iter().position(|known| digit.starts_with(*known)) else {
        let what = format!("there is no table {digit}x; reference numbers begin with 0, 1, 3 or 4");
        return Err(fault("M01", text, 0..1, what, vec![]));
    };
    match number.parse::<u32>() {
        Ok(0) => Err(fault(
            "M01",
            text,
            whole,
            format!("reference number 0 does not exist: numbering begins at 1 ({})", reference(at, 1)),
            vec![reference(at, 0)],
        )),
        Ok(number) if number <= ITEMS => Ok((at, number - 1)),
        _ => Err(fault(
            "M01",
            text,
            whole,
            format!("reference number {number} is past the table's end, 65536"),
            vec![],
        )),
    }
}

/// The six-digit form of a zero-based offset.
fn reference(at: usize, offset: u32) -> String {
    format!("{}{:05}", DIGITS.get(at).copied().unwrap_or('4'), offset + 1)
}

/// Four, seven and more digits are slips of the keyboard or other makers' habits; fewer are a bare number.
fn wrong_length(text: &str, base: &str) -> AddressFault {
    let whole = 0..base.len();
    let value: u64 = base.parse().unwrap_or(u64::MAX);
    if base.len() < 4 {
        let readings = u32::try_from(value).ok().filter(|value| *value > 0);
        let likely = [Some(format!("holding:{value}")), readings.map(|number| reference(3, number - 1))];
        let what = format!(
            "`{base}` is a bare number: it could be offset {value} or reference number {value}, one beside"
        );
        return fault("M03", text, whole, what, likely.into_iter().flatten().collect());
    }
    let (digit, rest) = base.split_at(1);
    let table = DIGITS.iter().position(|known| digit.starts_with(*known));
    let number = rest.parse::<u32>().ok().filter(|number| (1..=ITEMS).contains(number));
    let likely = table.zip(number).map(|(at, number)| reference(at, number - 1)).into_iter().collect();
    let what = format!("`{base}` has {} digits; a reference number has five or six", base.len());
    fault("M01", text, whole, what, likely)
}

fn not_digits(text: &str, base: &str) -> AddressFault {
    let whole = 0..base.len();
    if let Some(hex) =
        base.strip_prefix("0x").or_else(|| base.strip_suffix(['h', 'H'])).filter(|hex| plain(hex, 16))
    {
        let offset = u32::from_str_radix(hex, 16).ok().filter(|offset| *offset < ITEMS);
        let mut likely: Vec<String> =
            offset.map(|offset| format!("holding:0x{offset:X}")).into_iter().collect();
        // Five or six decimal digits behind `0x` are a reference number with a mark too many.
        let marked = (5..=6).contains(&hex.len()).then(|| parse(hex).ok()).flatten();
        if let Some(address) = marked.filter(|address| address.bit.is_none()) {
            let table = DIGITS.iter().position(|known| hex.starts_with(*known));
            likely.extend(table.map(|at| reference(at, address.first)));
        } else if hex.len() < 5 && plain(hex, 10) && base.starts_with("0x") {
            likely.extend(
                hex.parse::<u32>().ok().filter(|n| (1..=ITEMS).contains(n)).map(|n| reference(0, n - 1)),
            );
        }
        return fault(
            "M03",
            text,
            whole,
            format!("`{base}` names no table: a hex number is an offset in one"),
            likely,
        );
    }
    // `4x108`, `4x00108`, `4-00108`: the table's digit, a mark, a reference number.
    let mut characters = base.chars();
    let table = characters.next().and_then(|digit| DIGITS.iter().position(|known| *known == digit));
    let number = characters.as_str().trim_start_matches(['x', 'X', '-', '/']);
    let number = number.parse::<u32>().ok().filter(|number| (1..=ITEMS).contains(number));
    let likely = table.zip(number).map(|(at, number)| reference(at, number - 1)).into_iter().collect();
    fault("M01", text, whole, format!("`{base}` is not a Modbus address"), likely)
}

pub(super) fn show(space: &Space, first: u32, bit: Option<u8>) -> ShownAddress {
    let at = SPACES.iter().position(|known| known.key == space.key).unwrap_or_default();
    let bit = bit.map(|bit| format!(".{bit}")).unwrap_or_default();
    ShownAddress {
        canonical: format!("{}{bit}", reference(at, first)),
        offset: format!("{}:{first}{bit}", space.key),
        hex: format!("0x{first:04X}"),
    }
}

/// Every notation that people use for the address.
pub(super) fn all(space: &Space, first: u32, bit: Option<u8>) -> Vec<(&'static str, String)> {
    let at = SPACES.iter().position(|known| known.key == space.key).unwrap_or_default();
    let shown = show(space, first, bit);
    let dot = bit.map(|bit| format!(".{bit}")).unwrap_or_default();
    let digit = DIGITS.get(at).copied().unwrap_or('4');
    let five = if first < 9999 {
        format!("{digit}{:04}{dot}", first + 1)
    } else {
        "past 9999: six digits only".into()
    };
    vec![
        ("six digits", shown.canonical),
        ("five digits", five),
        ("offset", shown.offset),
        ("offset in hex", format!("{}:{}{dot}", space.key, shown.hex)),
        ("in words", format!("{} number {}, counted from 1", space.noun, first + 1)),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_notation_is_read() {
        for (text, key, offset, bit) in [
            ("400318", "holding", 317, None),
            ("40318", "holding", 317, None),
            ("holding:317", "holding", 317, None),
            ("holding:0x13D", "holding", 317, None),
            ("000017", "coil", 16, None),
            ("00017", "coil", 16, None),
            ("coil:16", "coil", 16, None),
            ("100005", "discrete", 4, None),
            ("discrete:4", "discrete", 4, None),
            ("300001", "input", 0, None),
            ("input:0", "input", 0, None),
            ("400010.3", "holding", 9, Some(3)),
            ("465536", "holding", 65_535, None),
            ("49999", "holding", 9998, None),
            ("holding:9.15", "holding", 9, Some(15)),
        ] {
            let found = parse(text).unwrap_or_else(|fault| panic!("{text}: {}", fault.what));
            assert_eq!((found.space.key.as_ref(), found.first, found.bit), (key, offset, bit), "{text}");
        }
    }

    #[test]
    fn faults_say_what_was_likely_meant() {
        for (text, code, likely) in [
            ("4018", "M01", vec!["400018"]),
            ("40000318", "M01", vec!["400318"]),
            ("4000318", "M01", vec!["400318"]),
            ("37", "M03", vec!["holding:37", "400037"]),
            ("0", "M03", vec!["holding:0"]),
            ("0x6B", "M03", vec!["holding:0x6B"]),
            ("6Bh", "M03", vec!["holding:0x6B"]),
            ("0x0001", "M03", vec!["holding:0x1", "000001"]),
            ("200001", "M01", vec![]),
            ("50001", "M01", vec![]),
            ("400000", "M01", vec!["400001"]),
            ("40000", "M01", vec!["400001"]),
            ("465537", "M01", vec![]),
            ("4x108", "M01", vec!["400108"]),
            ("4x00108", "M01", vec!["400108"]),
            ("holdng:3", "M01", vec!["holding:3"]),
            ("holding:65536", "M01", vec![]),
            ("holding:-1", "M01", vec![]),
            ("400010.16", "M01", vec!["400010.15"]),
            ("000017.1", "M01", vec!["000017"]),
            ("", "M01", vec![]),
        ] {
            let fault = parse(text).unwrap_err();
            assert_eq!(
                (fault.code, fault.likely),
                (code, likely.iter().map(ToString::to_string).collect()),
                "{text}"
            );
            assert!(fault.at.end <= text.len(), "{text}");
        }
    }

    /// The address vectors of the shared table: offset 0 of `00 00`, refusals as `valid` false.
    #[test]
    fn address_vectors_are_read_as_they_say() {
        let text = include_str!("../../../../wire/testdata/vectors-modbus.json");
        let mut seen = 0;
        for part in text.split("\"name\": \"addr-").skip(1) {
            let (name, rest) = part.split_once('"').unwrap();
            let field = |key: &str| rest.split_once(key).unwrap().1.trim_start_matches([' ', ':', '"']);
            let valid = field("\"valid\"").starts_with("true");
            let hex: String = field("\"hex\"").split('"').next().unwrap().split_whitespace().collect();
            let expected = valid.then(|| u32::from_str_radix(&hex, 16).unwrap());
            assert_eq!(parse(name).ok().map(|address| address.first), expected, "{name}");
            seen += 1;
        }
        assert_eq!(seen, 31);
    }

    #[test]
    fn what_is_shown_is_read_back() {
        for space in &SPACES {
            for first in [0, 1, 99, 9998, 9999, 65_535] {
                let bit = (space.grain.cell_bytes() == 2).then_some(7);
                let shown = show(space, first, bit);
                for text in [&shown.canonical, &shown.offset] {
                    let back = parse(text).unwrap();
                    assert_eq!((&back.space, back.first, back.bit), (space, first, bit), "{text}");
                }
            }
        }
    }
}
