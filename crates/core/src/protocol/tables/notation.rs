//! Addresses of a data table: `N7:10`, `B3:1/5`, `B3/21`, `T4:0.ACC`, `T4:0/DN`, `S:1`, `I:1/7`, `O:017/12`.
//!
//! A letter and a number name the file, a number behind the colon the element, what follows a part of it. Where the
//! controller numbers inputs and outputs in octal, their words and bits are octal and everything else is decimal: the same
//! text means another word there from 10 on, so that the family is a setting and never guessed.

use super::Spot;
use super::files::{FILES, File, length_space, named, space_of};
use crate::protocol::{Address, AddressFault, ImpliedType, ShownAddress, Space};
use std::ops::Range;

/// Words of a timer, counter or control element by their names, and of a string.
const PARTS: [(&str, &str, u16); 7] = [
    ("T", "PRE", 1),
    ("T", "ACC", 2),
    ("C", "PRE", 1),
    ("C", "ACC", 2),
    ("R", "LEN", 1),
    ("R", "POS", 2),
    ("ST", "LEN", 0),
];

/// Bits of the control words by their names.
const BITS: [(&str, &str, u8); 17] = [
    ("T", "EN", 15),
    ("T", "TT", 14),
    ("T", "DN", 13),
    ("C", "CU", 15),
    ("C", "CD", 14),
    ("C", "DN", 13),
    ("C", "OV", 12),
    ("C", "UN", 11),
    ("C", "UA", 10),
    ("R", "EN", 15),
    ("R", "EU", 14),
    ("R", "DN", 13),
    ("R", "EM", 12),
    ("R", "ER", 11),
    ("R", "UL", 10),
    ("R", "IN", 9),
    ("R", "FD", 8),
];

fn fault<T>(
    code: &'static str,
    at: Range<usize>,
    what: impl Into<String>,
    likely: Vec<String>,
) -> Result<T, AddressFault> {
    Err(AddressFault { code, at, what: what.into(), likely })
}

/// A part of the text, with where it stands.
#[derive(Clone, Copy)]
struct Part<'t> {
    text: &'t str,
    at: usize,
}

impl<'t> Part<'t> {
    const fn range(&self) -> Range<usize> {
        self.at..self.at + self.text.len()
    }

    /// What stands before and behind the first of these characters.
    fn split(&self, marks: &[char]) -> (Self, Option<(char, Self)>) {
        match self.text.find(marks) {
            None => (*self, None),
            Some(cut) => {
                let (head, tail) = self.text.split_at(cut);
                let mut rest = tail.chars();
                let mark = rest.next().unwrap_or_default();
                let tail = Part { text: rest.as_str(), at: self.at + cut + 1 };
                (Part { text: head, at: self.at }, Some((mark, tail)))
            }
        }
    }

    /// A number in this base; what is wrong with it otherwise.
    fn number(&self, octal: bool, noun: &str) -> Result<u32, AddressFault> {
        let plain = !self.text.is_empty() && self.text.bytes().all(|byte| byte.is_ascii_digit());
        if !plain {
            return fault("F10", self.range(), format!("`{}` is not a number of {noun}", self.text), vec![]);
        }
        let base = if octal { 8 } else { 10 };
        match u32::from_str_radix(self.text, base) {
            Ok(number) => Ok(number),
            Err(_) if octal && self.text.contains(['8', '9']) => {
                let decimal: u32 = self.text.parse().unwrap_or(0);
                let what = format!(
                    "`{}` has a digit 8 or 9, and this controller numbers words and bits of inputs and outputs in octal",
                    self.text
                );
                // Decimal 18 is octal 22.
                let likely = (decimal > 0).then(|| format!("{decimal:03o}")).into_iter().collect();
                fault("M14", self.range(), what, likely)
            }
            Err(_) => fault("F10", self.range(), format!("`{}` is too large", self.text), vec![]),
        }
    }
}

pub(super) fn parse(text: &str, octal: bool) -> Result<Address, AddressFault> {
    read(text, octal).map_err(|mut fault| {
        // What was meant is the whole address, not the part of it that is wrong.
        if fault.code == "M14" {
            let (head, tail) = (text.get(..fault.at.start), text.get(fault.at.end..));
            let whole =
                |part: &String| format!("{}{part}{}", head.unwrap_or_default(), tail.unwrap_or_default());
            fault.likely = fault.likely.iter().map(whole).collect();
        }
        fault
    })
}

fn read(text: &str, octal: bool) -> Result<Address, AddressFault> {
    let upper = text.to_ascii_uppercase();
    let begin = usize::from(upper.starts_with('$'));
    let whole = Part { text: upper.get(begin..).unwrap_or_default(), at: begin };
    let letters = whole.text.len() - whole.text.trim_start_matches(|c: char| c.is_ascii_alphabetic()).len();
    let (name, rest) = whole.text.split_at(letters);
    let rest = Part { text: rest, at: begin + letters };
    let Some(file) = FILES.iter().find(|file| file.letter == name) else {
        return no_file(text, name, begin);
    };
    let (number, behind) = rest.split(&[':', '/']);
    let number = match (number.text.is_empty(), file.fixed) {
        (true, Some(fixed)) => fixed,
        (true, None) => {
            let likely =
                file.default.map(|number| format!("{name}{number}{}", rest.text)).into_iter().collect();
            return fault(
                "F10",
                0..text.len(),
                format!("which of the {name} files? `{text}` has no file number"),
                likely,
            );
        }
        (false, fixed) => {
            let own = number.number(false, "a file")?;
            if let Some(fixed) = fixed.filter(|fixed| *fixed != own) {
                let likely =
                    vec![format!("{name}{}", rest.text.trim_start_matches(|c: char| c.is_ascii_digit()))];
                return fault("F10", number.range(), format!("`{name}` is always file {fixed}"), likely);
            }
            let most = if octal { 999 } else { 255 };
            if own > most {
                return fault(
                    "M17",
                    number.range(),
                    format!("file {own}: files of this controller end at {most}"),
                    vec![],
                );
            }
            own
        }
    };
    if let Some(why) = file.not_in(octal) {
        return fault("M14", begin..begin + name.len(), why, vec![]);
    }
    match behind {
        None => {
            let likely = vec![format!("{name}{number}:0")];
            fault("F10", 0..text.len(), format!("`{text}` names a file and no element of it"), likely)
        }
        Some(('/', bit)) if file.letter == "B" => {
            let bit = bit.number(false, "a bit of the file")?;
            let most = if octal { 999 } else { 255 };
            if bit / 16 > most {
                return fault("M17", 0..text.len(), format!("bit {bit} lies past element {most}"), vec![]);
            }
            made(*file, number, bit / 16, 0, u8::try_from(bit % 16).ok(), octal)
        }
        Some(('/', _)) => {
            let what =
                format!("only bit files count their bits from their beginning; `{text}` has no element");
            fault("F10", 0..text.len(), what, vec![format!("{name}{number}:0/0")])
        }
        Some((_, behind)) => element(text, *file, number, behind, octal),
    }
}

/// `10`, `0.ACC`, `1/5`, `0.PRE/3`, behind the colon.
fn element(
    text: &str,
    file: File,
    number: u32,
    behind: Part<'_>,
    octal: bool,
) -> Result<Address, AddressFault> {
    let (own, rest) = behind.split(&['.', '/']);
    let in_octal = octal && file.is_io();
    let element = own.number(in_octal, "an element")?;
    let most = match (octal, file.is_io()) {
        (true, true) => 0o277,
        (true, false) => 999,
        (false, _) => 255,
    };
    if element > most {
        let shown = if in_octal { format!("{most:03o} (octal)") } else { most.to_string() };
        let what = format!("element {}: elements of this file end at {shown}", own.text);
        return fault("M17", own.range(), what, vec![]);
    }
    let (mut sub, mut bit) = (0, None);
    let mut rest = rest;
    if let Some(('.', part)) = rest {
        let (word, tail) = part.split(&['/']);
        rest = tail;
        let known = PARTS.iter().find(|(letter, name, _)| *letter == file.letter && *name == word.text);
        let named = BITS.iter().find(|(letter, name, _)| *letter == file.letter && *name == word.text);
        match (known, named) {
            (Some((.., at)), _) => sub = *at,
            (None, Some((.., at))) if rest.is_none() => bit = Some(*at),
            _ if file.is_io() && !octal => {
                let at = word.number(false, "a word in the slot")?;
                if at > 255 {
                    return fault("M17", word.range(), format!("word {at} of a slot"), vec![]);
                }
                sub = u16::try_from(at).unwrap_or(0);
            }
            _ => {
                let parts =
                    PARTS.iter().filter(|(letter, ..)| *letter == file.letter).map(|(_, name, _)| *name);
                let bits =
                    BITS.iter().filter(|(letter, ..)| *letter == file.letter).map(|(_, name, _)| *name);
                let all: Vec<&str> = parts.chain(bits).collect();
                let what = match all.as_slice() {
                    [] => format!("an element of a {} file has no parts", file.letter),
                    all => format!("`{}` is not a part of it ({})", word.text, all.join(", ")),
                };
                return fault("F10", word.range(), what, vec![]);
            }
        }
    }
    // A string has its length as a part, in the place of its first word.
    let is_length = file.letter == "ST" && text.to_ascii_uppercase().contains(".LEN");
    if let Some((_, part)) = rest {
        if bit.is_some() || !file.has_bits() && !is_length {
            let what = format!("{} has no bits", file.a());
            return fault("F10", part.range(), what, vec![]);
        }
        let named =
            BITS.iter().find(|(letter, name, _)| *letter == file.letter && *name == part.text && sub == 0);
        bit = Some(match named {
            Some((.., at)) => *at,
            None => {
                let at = part.number(in_octal, "a bit")?;
                let most = if file.bytes == 4 { 31 } else { 15 };
                if at > most {
                    let shown = if in_octal { format!("{most:o} (octal)") } else { most.to_string() };
                    let what = format!("bit {}: bits count 0 to {shown}, 0 the least significant", part.text);
                    return fault("F10", part.range(), what, vec![]);
                }
                u8::try_from(at).unwrap_or(0)
            }
        });
    }
    let mut address = made(file, number, element, sub, bit, octal)?;
    if is_length {
        address.space = length_space(number);
        address.brings = ImpliedType::Type(crate::form::Type::I16);
        address.first = element;
    }
    Ok(address)
}

fn made(
    file: File,
    number: u32,
    element: u32,
    sub: u16,
    bit: Option<u8>,
    octal: bool,
) -> Result<Address, AddressFault> {
    let space = space_of(file, number, sub, octal);
    let brings = if bit.is_some() { ImpliedType::Nothing } else { file.brings(sub) };
    Ok(Address { space, first: element * file.grains(), bit, brings })
}

fn no_file(text: &str, name: &str, begin: usize) -> Result<Address, AddressFault> {
    let known: Vec<&str> = FILES.iter().map(|file| file.letter).collect();
    if !text.contains(':') && !text.contains('/') || text.contains('[') {
        let what = format!(
            "`{text}` is not a numbered element such as N7:0, B3:1/5 or T4:0.ACC; names of a controller's own program cannot be \
             asked for"
        );
        return fault("M45", 0..text.len(), what, vec![]);
    }
    let what = format!("`{name}` is not a kind of file ({})", known.join(", "));
    fault("F10", begin..begin + name.len().max(1), what, vec![])
}

/// Grains from one element to the next.
fn grains(space: &Space) -> u32 {
    Spot::of(space).map_or(1, |spot| spot.grains.max(1))
}

pub(super) fn show(space: &Space, first: u32, bit: Option<u8>, octal: bool) -> ShownAddress {
    let Some((file, number, part)) = named(space) else {
        return ShownAddress { canonical: first.to_string(), offset: first.to_string(), hex: String::new() };
    };
    let element = first / grains(space);
    let head = match file.fixed {
        Some(_) => file.letter.to_string(),
        None => format!("{}{number}", file.letter),
    };
    let in_octal = octal && file.is_io();
    let mut canonical = if in_octal { format!("{head}:{element:03o}") } else { format!("{head}:{element}") };
    if let Some(part) = part {
        canonical += &format!(".{part}");
    }
    if let Some(bit) = bit {
        let named =
            BITS.iter().find(|(letter, _, at)| *letter == file.letter && *at == bit && part.is_none());
        canonical += &match named {
            Some((_, name, _)) => format!("/{name}"),
            None if in_octal => format!("/{bit:02o}"),
            None => format!("/{bit}"),
        };
    }
    ShownAddress {
        canonical,
        offset: format!("file {number} element {element}"),
        hex: format!("0x{element:04X}"),
    }
}

/// The same address as others write it.
pub(super) fn all(space: &Space, first: u32, bit: Option<u8>, octal: bool) -> Vec<(&'static str, String)> {
    let Some((file, number, part)) = named(space) else { return vec![] };
    let own = show(space, first, bit, octal).canonical;
    let mut found = vec![("data table", own.clone()), ("with a dollar sign", format!("${own}"))];
    if let (Some(bit), "B") = (bit, file.letter) {
        found.push(("bit of the file", format!("B{number}/{}", first * 16 + u32::from(bit))));
    }
    if let (Some(bit), None) = (bit, part) {
        let named = BITS.iter().find(|(letter, _, at)| *letter == file.letter && *at == bit);
        let element = first / grains(space);
        found.extend(
            named.map(|(letter, name, _)| ("bit by name", format!("{letter}{number}:{element}.{name}"))),
        );
        found
            .extend(named.map(|(letter, ..)| ("bit by number", format!("{letter}{number}:{element}/{bit}"))));
    }
    if file.is_io() && part.is_none() {
        let other = show(space, first, bit, !octal).canonical;
        found.push((if octal { "in decimal" } else { "in octal" }, other));
    }
    found
}
