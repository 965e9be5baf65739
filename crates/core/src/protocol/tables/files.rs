//! The kinds of files of a data table, and the spaces that they and their parts are.

use crate::form::Type;
use crate::protocol::{BitWrite, Flow, Grain, ImpliedType, Space};
use std::borrow::Cow;

/// One kind of file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct File {
    pub(super) letter: &'static str,
    pub(super) noun: &'static str,
    /// Type code in the logical commands.
    pub(super) kind: u8,
    /// Bytes of an element on the wire.
    pub(super) bytes: u32,
    /// The file number, where there is only one.
    pub(super) fixed: Option<u32>,
    /// The file that a new program begins with.
    pub(super) default: Option<u32>,
}

const fn file(letter: &'static str, noun: &'static str, kind: u8, bytes: u32, default: Option<u32>) -> File {
    File { letter, noun, kind, bytes, fixed: None, default }
}

const fn single(letter: &'static str, noun: &'static str, kind: u8, number: u32) -> File {
    File { letter, noun, kind, bytes: 2, fixed: Some(number), default: Some(number) }
}

/// Characters of a string element.
pub(super) const CHARACTERS: u16 = 82;
/// Its characters in words, behind the word with its length.
pub(super) const STRING_WORDS: u32 = 41;

pub(super) static FILES: [File; 13] = [
    single("O", "output word", 0x8B, 0),
    single("I", "input word", 0x8C, 1),
    single("S", "status word", 0x84, 2),
    file("B", "bit word", 0x85, 2, Some(3)),
    file("T", "timer", 0x86, 6, Some(4)),
    file("C", "counter", 0x87, 6, Some(5)),
    file("R", "control element", 0x88, 6, Some(6)),
    file("N", "integer", 0x89, 2, Some(7)),
    file("F", "float", 0x8A, 4, Some(8)),
    file("ST", "string", 0x8D, 84, None),
    file("A", "character word", 0x8E, 2, None),
    file("D", "BCD word", 0x8F, 2, None),
    file("L", "long", 0x91, 4, None),
];

impl File {
    pub(super) fn is_io(self) -> bool {
        matches!(self.letter, "I" | "O")
    }

    pub(super) fn has_bits(self) -> bool {
        !matches!(self.letter, "F" | "ST")
    }

    pub(super) fn a(self) -> String {
        let article = if self.noun.starts_with(['a', 'e', 'i', 'o', 'u']) { "an" } else { "a" };
        format!("{article} {}", self.noun)
    }

    /// Why the family does not have it.
    pub(super) fn not_in(self, octal: bool) -> Option<&'static str> {
        match (self.letter, octal) {
            ("L", true) => Some("controllers with octal inputs and outputs have no files of longs"),
            ("D", false) => Some(
                "only controllers with octal inputs and outputs have BCD files: is `io-addresses` right?",
            ),
            _ => None,
        }
    }

    /// Grains from one element to the next.
    pub(super) fn grains(self) -> u32 {
        if self.letter == "ST" { STRING_WORDS } else { 1 }
    }

    pub(super) fn brings(self, sub: u16) -> ImpliedType {
        ImpliedType::Type(match self.letter {
            "N" => Type::I16,
            "F" => Type::F32,
            "L" => Type::I32,
            "ST" => Type::Text(CHARACTERS),
            "D" => Type::Bcd16,
            "T" | "C" | "R" if sub > 0 => Type::I16,
            "B" => Type::U16,
            _ => return ImpliedType::Width(Type::U16),
        })
    }
}

/// Elements of a file; of inputs and outputs in octal so many words.
const fn elements(io: bool, octal: bool) -> u32 {
    match (octal, io) {
        (true, true) => 0o300,
        (true, false) => 1000,
        (false, _) => 256,
    }
}

pub(super) fn space_of(file: File, number: u32, sub: u16, octal: bool) -> Space {
    let part = match (file.letter, sub) {
        ("T" | "C", 1) => ".PRE".to_string(),
        ("T" | "C", 2) => ".ACC".to_string(),
        ("R", 1) => ".LEN".to_string(),
        ("R", 2) => ".POS".to_string(),
        (_, 0) => String::new(),
        (_, word) => format!(".{word}"),
    };
    let wide = file.bytes == 4;
    Space {
        key: Cow::Owned(format!("{}{number}{part}", file.letter)),
        noun: file.noun,
        grain: Grain::Bytes(if wide { 4 } else { 2 }),
        align: if file.letter == "ST" { 41 } else { 1 },
        len: Some(elements(file.is_io(), octal) * file.grains()),
        writable: file.letter != "I",
        bits: if file.has_bits() { BitWrite::Masked } else { BitWrite::Never },
        only: match file.letter {
            "F" => &[Type::F32],
            "L" => &[Type::I32, Type::U32],
            "ST" => &[Type::Text(CHARACTERS)],
            _ => &[],
        },
        shown: None,
        rewritten: file.letter == "O",
        whole: false,
        publishes: false,
        flow: Flow::Asked,
    }
}

/// The lengths of the strings of a file.
pub(super) fn length_space(number: u32) -> Space {
    Space {
        key: Cow::Owned(format!("ST{number}.LEN")),
        noun: "string length",
        grain: Grain::Bytes(2),
        align: 1,
        len: Some(256),
        writable: true,
        bits: BitWrite::Masked,
        only: &[],
        shown: None,
        rewritten: false,
        whole: false,
        publishes: false,
        flow: Flow::Asked,
    }
}

/// The file of a space, its number, and the name of its part.
pub(super) fn named(space: &Space) -> Option<(File, u32, Option<&str>)> {
    let (whole, part) = match space.key.split_once('.') {
        Some((whole, part)) => (whole, Some(part)),
        None => (space.key.as_ref(), None),
    };
    let digits = whole.find(|c: char| c.is_ascii_digit())?;
    let (letter, number) = whole.split_at(digits);
    let file = FILES.iter().find(|file| file.letter == letter)?;
    Some((*file, number.parse().ok()?, part))
}

/// The spaces of a file and of the parts of its elements, for an observer that sees it named: by its type code, or where
/// that is missing by the number that every new program gives it.
#[must_use]
pub fn spaces_of(number: u16, kind: Option<u8>, octal: bool) -> Vec<Space> {
    let number = u32::from(number);
    let meant = |file: &&File| match kind {
        Some(kind) => file.kind == kind,
        None => file.fixed.or(file.default) == Some(number),
    };
    let Some(file) = FILES.iter().find(meant) else { return vec![] };
    match file.letter {
        "T" | "C" | "R" => (0..3).map(|part| space_of(*file, number, part, octal)).collect(),
        "ST" => vec![space_of(*file, number, 0, octal), length_space(number)],
        _ => vec![space_of(*file, number, 0, octal)],
    }
}
