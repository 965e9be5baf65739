//! A command that others have sent us: what it wants of an image, and what it is answered.

use super::split::{File, FilePart, pieces, word};
use super::{ILLEGAL, NOTHING_THERE, OTHER_TYPE, PROTECTED, Sts, status};
use crate::speak::{BitChange, Want};
use std::collections::VecDeque;
use woodrush_core::Refusal;
use woodrush_core::protocol::tables::{Spot, from_wire, to_wire};
use woodrush_core::protocol::{SpaceId, Spaces};
use woodrush_wire::tables::{Command, Logical, Set, Table, sets};

/// A command that is being worked on.
pub(in crate::speak) struct TableWork {
    doing: Doing,
    refused: Option<Refusal>,
}

enum Doing {
    /// What is still to be read, what is being read, and what came.
    Read { pieces: VecDeque<FilePart>, current: Option<FilePart>, data: Vec<u8> },
    /// What is still to be changed.
    Write(VecDeque<Want>),
}

/// What becomes of a command.
pub(in crate::speak) enum Begun {
    /// It is answered at once.
    Said(Vec<u8>),
    /// Something is wanted first.
    Work(TableWork),
}

/// What it says of itself: no controller that there is.
const STATUS: [u8; 24] = *b"\x00\xEE\x34\x5B\x20FEEDER     \x00\x00\x06\x00\xD2\x04\x10\x3F";

impl TableWork {
    /// Looks at a command over these tables.
    ///
    /// # Errors
    /// The status that it is answered with.
    pub(in crate::speak) fn begin(spaces: Option<&Spaces>, cmd: u8, body: &[u8]) -> Result<Begun, Sts> {
        let doing = match Command::parse(cmd, body).map_err(|_| ILLEGAL)? {
            Command::Echo(data) => return Ok(Begun::Said(data.to_vec())),
            Command::DiagnosticStatus => return Ok(Begun::Said(STATUS.to_vec())),
            command => Files(spaces).work(&command)?,
        };
        Ok(Begun::Work(Self { doing, refused: None }))
    }

    /// What is wanted next; `None` once it can be answered.
    pub(in crate::speak) fn next(&mut self) -> Option<Want> {
        if self.refused.is_some() {
            return None;
        }
        match &mut self.doing {
            Doing::Read { pieces, current, .. } => pieces.pop_front().map(|piece| {
                *current = Some(piece);
                Want::Read(piece.extent)
            }),
            Doing::Write(wants) => wants.pop_front(),
        }
    }

    /// Takes what came of the last want.
    pub(in crate::speak) fn given(&mut self, result: Result<&[u8], Refusal>) {
        let cells = match result {
            Ok(cells) => cells,
            Err(refusal) => {
                self.refused = Some(refusal);
                return;
            }
        };
        let Doing::Read { current, data, .. } = &mut self.doing else { return };
        let Some(piece) = current.take() else { return };
        if piece.stride == 0 {
            data.extend(to_wire(&piece.spot, piece.extent.count, cells));
            return;
        }
        let at = usize::from(piece.spot.sub.unwrap_or(0)) * 2;
        for (element, cell) in data.chunks_mut(piece.stride * 2).zip(cells.chunks(2)) {
            let room = element.get_mut(at..at + 2).into_iter().flatten();
            room.zip(cell.iter().rev()).for_each(|(room, byte)| *room = *byte);
        }
    }

    /// The status and the data of the reply.
    pub(in crate::speak) fn end(self) -> (Sts, Vec<u8>) {
        match (self.refused, self.doing) {
            (Some(refusal), _) => (status(refusal), vec![]),
            (None, Doing::Read { data, .. }) => ((0, 0), data),
            (None, Doing::Write(_)) => ((0, 0), vec![]),
        }
    }
}

/// The files of a station.
#[derive(Clone, Copy)]
struct Files<'s>(Option<&'s Spaces>);

impl Files<'_> {
    fn work(self, command: &Command<'_>) -> Result<Doing, Sts> {
        match *command {
            Command::Read { size, at } => read(self.logical(at)?, usize::from(size)),
            Command::RangeRead { offset, at, size, .. } => read(self.ranged(at, offset)?, usize::from(size)),
            Command::Write { at, data } => write(self.logical(at)?, data),
            Command::RangeWrite { offset, at, data, .. } => write(self.ranged(at, offset)?, data),
            Command::MaskedWrite { at, mask, data } => {
                let (file, word) = self.logical(at)?;
                let words = data
                    .chunks(2)
                    .map(|pair| pair.iter().rev().fold(0, |sum, byte| sum << 8 | u16::from(*byte)));
                let changes = (word..).zip(words).map(|(word, new)| change(&file, word, !mask, new & mask));
                Ok(Doing::Write(changes.collect::<Result<_, _>>()?))
            }
            Command::Change(bytes) => {
                let sets = sets(bytes).map_err(|_| ILLEGAL)?;
                let change = |set: &Set<'_>| {
                    let (file, word) = self.ranged(set.at, 0)?;
                    change(&file, word, set.and & !set.or, set.or)
                };
                Ok(Doing::Write(sets.iter().map(change).collect::<Result<_, _>>()?))
            }
            _ => Err(ILLEGAL),
        }
    }

    fn logical(self, at: Logical) -> Result<File, Sts> {
        let file = self.file(at.file)?;
        if file.iter().any(|(_, spot)| spot.kind != at.kind) {
            return Err(OTHER_TYPE);
        }
        let word = word(&file, at.element, at.sub);
        Ok((file, word))
    }

    fn ranged(self, at: Table<'_>, offset: u16) -> Result<File, Sts> {
        let Table::Levels { file, element, sub, .. } = at else { return Err(ILLEGAL) };
        let file = self.file(file)?;
        let word = word(&file, element, sub) + u32::from(offset);
        Ok((file, word))
    }

    fn file(self, number: u16) -> Result<Vec<(SpaceId, Spot)>, Sts> {
        let own = self.0.map(Spaces::with_ids);
        let spot = |space| Spot::of(space).filter(|spot| spot.file == number);
        let file: Vec<_> =
            own.into_iter().flatten().filter_map(|(id, space)| Some((id, spot(space)?))).collect();
        if file.is_empty() { Err(NOTHING_THERE) } else { Ok(file) }
    }
}

fn read((file, word): File, size: usize) -> Result<Doing, Sts> {
    let pieces = pieces(&file, word, size)?;
    let data = if pieces.iter().any(|piece| piece.stride > 0) { vec![0; size] } else { vec![] };
    Ok(Doing::Read { pieces: pieces.into(), current: None, data })
}

fn write((file, word): File, data: &[u8]) -> Result<Doing, Sts> {
    let pieces = pieces(&file, word, data.len())?;
    let [piece] = pieces.as_slice() else { return Err(PROTECTED) };
    if piece.stride > 0 {
        return Err(PROTECTED);
    }
    let cells = from_wire(&piece.spot, piece.extent.count, data).ok_or(ILLEGAL)?;
    Ok(Doing::Write([Want::Write { extent: piece.extent, cells }].into()))
}

fn change(file: &[(SpaceId, Spot)], word: u32, keep: u16, set: u16) -> Result<Want, Sts> {
    let pieces = pieces(file, word, 2)?;
    let piece = pieces.first().filter(|piece| piece.spot.bytes != 4).ok_or(ILLEGAL)?;
    let (keep, set) = (keep.to_be_bytes().to_vec(), set.to_be_bytes().to_vec());
    Ok(Want::Change(Box::new(BitChange { extent: piece.extent, keep, set })))
}
