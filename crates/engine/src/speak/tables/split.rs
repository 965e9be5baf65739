//! Where the bytes of a command lie: from files, elements and words to extents of spaces.

use super::{ILLEGAL, NOTHING_THERE, Sts};
use woodrush_core::protocol::tables::Spot;
use woodrush_core::protocol::{Extent, SpaceId};

/// The spaces of a file with their indices, and a word in it, counted from its beginning.
pub(super) type File = (Vec<(SpaceId, Spot)>, u32);

/// Grains of one space, and where they go in the bytes of a reply.
#[derive(Debug, Clone, Copy)]
pub(super) struct FilePart {
    pub(super) extent: Extent,
    pub(super) spot: Spot,
    /// Words from one to the next in the reply; 0 where the piece is all of it.
    pub(super) stride: usize,
}

/// The first word that is meant, counted from the beginning of the file.
pub(super) fn word(file: &[(SpaceId, Spot)], element: u16, sub: Option<u16>) -> u32 {
    let words = file.first().map_or(1, |(_, spot)| spot.bytes / 2);
    // Words of slots are no part of a row.
    let io = file.first().is_some_and(|(_, spot)| spot.is_io());
    let sub = u32::from(sub.unwrap_or(0));
    if io {
        sub << 16 | u32::from(element)
    } else {
        u32::from(element) * u32::try_from(words).unwrap_or(1) + sub
    }
}

/// The spaces that so many bytes from a word on are of.
pub(super) fn pieces(file: &[(SpaceId, Spot)], word: u32, size: usize) -> Result<Vec<FilePart>, Sts> {
    let (_, kind) = file.first().copied().ok_or(NOTHING_THERE)?;
    let words = u32::try_from(size / 2).unwrap_or(0);
    if size == 0 || !size.is_multiple_of(2) {
        return Err(ILLEGAL);
    }
    let of = |sub: Option<u16>| file.iter().copied().find(|(_, spot)| spot.sub == sub).ok_or(NOTHING_THERE);
    let piece = |(space, spot): (SpaceId, Spot), first, count, stride| FilePart {
        extent: Extent { space, first, count },
        spot,
        stride,
    };
    if kind.is_io() {
        let sub = u16::try_from(word >> 16).ok().filter(|sub| *sub > 0);
        return Ok(vec![piece(of(sub)?, word & 0xFFFF, words, 0)]);
    }
    let per = u32::try_from(kind.bytes / 2).unwrap_or(1);
    let whole = word.is_multiple_of(per) && words.is_multiple_of(per);
    let (element, sub) = (word / per, u16::try_from(word % per).unwrap_or(0));
    match per {
        1 => Ok(vec![piece(of(None)?, word, words, 0)]),
        // A part alone, and else whole elements with all of their parts; those that nobody has are 0.
        3 if words == 1 => Ok(vec![piece(of(Some(sub))?, element, 1, 0)]),
        3 if whole => {
            let parts = file.iter().filter(|(_, spot)| spot.sub.is_some());
            Ok(parts.map(|part| piece(*part, element, words / 3, 3)).collect())
        }
        42 if words == 1 && sub == 0 => Ok(vec![piece(of(Some(0))?, element, 1, 0)]),
        _ if whole => {
            let (space, spot) = of(None)?;
            Ok(vec![piece((space, spot), element * spot.grains, words / per * spot.grains, 0)])
        }
        _ => Err(ILLEGAL),
    }
}
