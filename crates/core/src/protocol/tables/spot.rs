//! What a space of a data table is on the wire: which file, and how its cells lie in the bytes of commands.

use super::files::{STRING_WORDS, named};
use crate::protocol::Space;
use woodrush_wire::tables::{Logical, Table};

/// What a space of this protocol stands for, for the engine.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Spot {
    /// Number of the file.
    pub file: u16,
    /// Its type code in the logical commands.
    pub kind: u8,
    /// Bytes of an element on the wire.
    pub bytes: usize,
    /// Grains from one element to the next.
    pub grains: u32,
    /// The word of each element that the space is of; `None` where it is of whole elements.
    pub sub: Option<u16>,
}

impl Spot {
    /// Of a space.
    #[must_use]
    pub fn of(space: &Space) -> Option<Self> {
        let (file, number, part) = named(space)?;
        let sub = match (file.letter, part) {
            ("T" | "C" | "R", None) | ("ST", Some("LEN")) => Some(0),
            ("T" | "C" | "R", Some("PRE" | "LEN")) => Some(1),
            ("T" | "C" | "R", Some("ACC" | "POS")) => Some(2),
            (_, None) => None,
            (_, Some(word)) => Some(word.parse().ok()?),
        };
        let whole = file.letter == "ST" && part.is_none();
        Some(Self {
            file: u16::try_from(number).ok()?,
            kind: file.kind,
            bytes: file.bytes as usize,
            grains: if whole { STRING_WORDS } else { 1 },
            sub,
        })
    }

    /// Whether it is of strings.
    #[must_use]
    pub const fn is_text(&self) -> bool {
        self.kind == 0x8D && self.sub.is_none()
    }

    /// Whether a command changes some bits of its elements and leaves the others: no mask is wider than a word.
    #[must_use]
    pub const fn has_masks(&self) -> bool {
        self.bytes == 2 || self.sub.is_some()
    }

    /// Whether it is of inputs or outputs, whose slots have as many words as they have.
    #[must_use]
    pub const fn is_io(&self) -> bool {
        matches!(self.kind, 0x8B | 0x8C)
    }

    /// Where element `element` is, for the logical commands.
    #[must_use]
    pub fn logical(&self, element: u16) -> Logical {
        Logical { file: self.file, kind: self.kind, element, sub: Some(self.sub.unwrap_or(0)) }
    }

    /// Where it is, for the word-range and read-modify-write commands.
    #[must_use]
    pub const fn table(&self, element: u16) -> Table<'static> {
        Table::of(self.file, element, self.sub)
    }

    /// Bytes on the wire of so many grains: a part alone, or whole elements where several of them are asked for.
    #[must_use]
    pub fn wire_bytes(&self, count: u32) -> usize {
        match self.sub {
            Some(_) if count == 1 => 2,
            _ => (count / self.grains.max(1)) as usize * self.bytes,
        }
    }
}

/// Cells as the bytes of a command: words the low byte first, longs and floats too; a string with its length. The parts of
/// elements that `cells` have nothing of are 0.
#[must_use]
pub fn to_wire(spot: &Spot, count: u32, cells: &[u8]) -> Vec<u8> {
    if spot.is_text() {
        let mut out = vec![];
        for string in cells.chunks(2 * STRING_WORDS as usize) {
            let length = string.iter().rposition(|byte| *byte != 0).map_or(0, |at| at + 1);
            out.extend_from_slice(&u16::try_from(length).unwrap_or(0).to_le_bytes());
            out.extend(string.chunks(2).flat_map(|pair| pair.iter().rev().copied()));
        }
        return out;
    }
    let grain = if spot.bytes == 4 { 4 } else { 2 };
    let turned = |cell: &[u8]| cell.iter().rev().copied().collect::<Vec<u8>>();
    match spot.sub {
        Some(sub) if count > 1 => {
            let mut out = vec![0; count as usize * spot.bytes];
            for (element, cell) in out.chunks_mut(spot.bytes).zip(cells.chunks(grain)) {
                let at = usize::from(sub) * 2;
                element.get_mut(at..at + 2).into_iter().for_each(|room| room.copy_from_slice(&turned(cell)));
            }
            out
        }
        _ => cells.chunks(grain).flat_map(turned).collect(),
    }
}

/// The way back; `None` where there are too few bytes.
#[must_use]
pub fn from_wire(spot: &Spot, count: u32, data: &[u8]) -> Option<Vec<u8>> {
    if data.len() != spot.wire_bytes(count) {
        return None;
    }
    if spot.is_text() {
        let mut cells = vec![];
        for string in data.chunks(spot.bytes) {
            let length = string.first_chunk::<2>().map_or(0, |pair| usize::from(u16::from_le_bytes(*pair)));
            let characters = string.get(2..)?.chunks(2).flat_map(|pair| pair.iter().rev().copied());
            // What stands behind the length is left over from a longer string.
            cells.extend(characters.enumerate().map(|(at, byte)| if at < length { byte } else { 0 }));
        }
        return Some(cells);
    }
    let grain = if spot.bytes == 4 { 4 } else { 2 };
    let turned = |cell: &[u8]| cell.iter().rev().copied().collect::<Vec<u8>>();
    Some(match spot.sub {
        Some(sub) if count > 1 => {
            let at = usize::from(sub) * 2;
            data.chunks(spot.bytes).filter_map(|element| element.get(at..at + 2)).flat_map(turned).collect()
        }
        _ => data.chunks(grain).flat_map(turned).collect(),
    })
}
