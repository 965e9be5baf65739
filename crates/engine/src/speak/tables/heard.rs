//! Commands of data tables that are listened to: in words, with the places that they touch, and what their replies say.

use super::refusal;
use super::split::{FilePart, pieces, word};
use crate::speak::observer::{AnswerMeaning, ObserverSetup, Touch};
use std::borrow::Cow;
use woodrush_core::protocol::tables::{Spot, from_wire, octal, spaces_of};
use woodrush_core::protocol::{Space, SpaceId, Verb};
use woodrush_wire::tables::{Command, Logical, Table, outcome, sets};

/// Understands commands.
pub(in crate::speak) struct TableEar {
    octal: bool,
    /// Tables of those who may be asked: the word-range commands do not tell what kind a file is of.
    known: Vec<Space>,
}

impl TableEar {
    pub(in crate::speak) fn new(setup: &ObserverSetup<'_>) -> Self {
        Self {
            octal: setup.stations.iter().any(|station| octal(&station.setup)),
            known: setup.stations.iter().flat_map(|station| station.spaces.iter().cloned()).collect(),
        }
    }

    /// The spaces of a file, its type code told or not.
    fn file(&self, number: u16, kind: Option<u8>) -> Vec<Space> {
        let of = |space: &&Space| Spot::of(space).is_some_and(|spot| spot.file == number);
        let kind = kind.or_else(|| Spot::of(self.known.iter().find(of)?).map(|spot| spot.kind));
        spaces_of(number, kind, self.octal)
    }

    /// Where so many bytes from an element on lie.
    fn places(
        &self,
        number: u16,
        kind: Option<u8>,
        element: u16,
        sub: Option<u16>,
        size: usize,
    ) -> Vec<(Space, FilePart)> {
        let spaces = self.file(number, kind);
        let spots = (0..).zip(&spaces).filter_map(|(at, space)| Some((SpaceId(at), Spot::of(space)?)));
        let file: Vec<(SpaceId, Spot)> = spots.collect();
        let found = pieces(&file, word(&file, element, sub), size).unwrap_or_default();
        let space = |piece: FilePart| Some((spaces.get(piece.extent.space.index())?.clone(), piece));
        found.into_iter().filter_map(space).collect()
    }

    fn command(&self, command: &Command<'_>) -> Option<(Verb, Vec<(Space, FilePart)>)> {
        let logical = |at: Logical, size| self.places(at.file, Some(at.kind), at.element, at.sub, size);
        let ranged = |at: Table<'_>, offset: u16, size| match at {
            Table::Levels { file, element, sub, .. } => {
                self.places(file, None, element.saturating_add(offset), sub, size)
            }
            Table::Text(_) => vec![],
        };
        Some(match *command {
            Command::Read { size, at } => (Verb::Read, logical(at, usize::from(size))),
            Command::Write { at, data } | Command::MaskedWrite { at, data, .. } => {
                (Verb::Write, logical(at, data.len()))
            }
            Command::RangeRead { offset, at, size, .. } => {
                (Verb::Read, ranged(at, offset, usize::from(size)))
            }
            Command::RangeWrite { offset, at, data, .. } => (Verb::Write, ranged(at, offset, data.len())),
            Command::Change(bytes) => {
                let sets = sets(bytes).unwrap_or_default();
                (Verb::Write, sets.iter().flat_map(|set| ranged(set.at, 0, 2)).collect())
            }
            _ => return None,
        })
    }

    /// A command in words, its code, and the places that it touches.
    pub(in crate::speak) fn asked(&self, cmd: u8, body: &[u8]) -> (Cow<'static, str>, u32, Vec<Touch>) {
        let command = Command::parse(cmd, body);
        let (words, code) = match &command {
            Ok(command) => words(command),
            Err(error) => (Cow::Owned(format!("malformed command: {error}")), cmd.into()),
        };
        let place = command.as_ref().ok().and_then(|command| self.command(command));
        let written = match &command {
            Ok(Command::Write { data, .. } | Command::RangeWrite { data, .. }) => Some(*data),
            _ => None,
        };
        let touch = |verb: Verb, (space, piece): (Space, FilePart)| Touch {
            verb,
            first: piece.extent.first,
            count: piece.extent.count,
            cells: written.and_then(|data| part(&piece, data)),
            space,
        };
        let touches = place.map_or_else(Vec::new, |(verb, places)| {
            places.into_iter().map(|place| touch(verb, place)).collect()
        });
        (words, code, touches)
    }

    /// What the reply to a command says: its STS, and what stands behind it.
    pub(in crate::speak) fn answer(&self, (cmd, body): (u8, &[u8]), sts: u8, data: &[u8]) -> AnswerMeaning {
        let data = match outcome(sts, data) {
            Ok(data) => data,
            Err(status) => {
                return refusal(status)
                    .native
                    .map_or_else(|| AnswerMeaning::Words(String::new()), AnswerMeaning::Refused);
            }
        };
        let command = Command::parse(cmd, body).ok();
        let Some((verb, places)) = command.and_then(|command| self.command(&command)) else {
            return AnswerMeaning::Words(format!("{} bytes", data.len()));
        };
        if verb == Verb::Write {
            return AnswerMeaning::Good(vec![]);
        }
        if places.is_empty() {
            return AnswerMeaning::Words(format!("{} bytes", data.len()));
        }
        let cells: Option<Vec<Vec<u8>>> = places.iter().map(|(_, piece)| part(piece, data)).collect();
        match cells {
            Some(cells) => AnswerMeaning::Good(cells),
            None => AnswerMeaning::Unfitting(format!(
                "it brings {} bytes, another number than asked for",
                data.len()
            )),
        }
    }
}

/// The cells of a piece out of the bytes of a reply or of a write.
fn part(piece: &FilePart, data: &[u8]) -> Option<Vec<u8>> {
    let (spot, count) = (&piece.spot, piece.extent.count);
    if piece.stride == 0 {
        return from_wire(spot, count, data);
    }
    let at = usize::from(spot.sub.unwrap_or(0)) * 2;
    let cells = data.chunks(piece.stride * 2).filter_map(|element| {
        let word = element.get(at..at + 2)?;
        Some(word.iter().rev().copied())
    });
    Some(cells.flatten().collect())
}

fn words(command: &Command<'_>) -> (Cow<'static, str>, u32) {
    let (words, code) = match command {
        Command::Echo(_) => ("echo", 0x00),
        Command::Counters { .. } => ("read link counters", 0x01),
        Command::DiagnosticStatus => ("read diagnostic status", 0x03),
        Command::ResetCounters => ("reset link counters", 0x07),
        Command::Read { at, .. } => ("typed logical read", if at.sub.is_some() { 0xA2 } else { 0xA1 }),
        Command::Write { at, .. } => ("typed logical write", if at.sub.is_some() { 0xAA } else { 0xA9 }),
        Command::MaskedWrite { .. } => ("masked write", 0xAB),
        Command::RangeRead { .. } => ("word-range read", 0x01),
        Command::RangeWrite { .. } => ("word-range write", 0x00),
        Command::TypedRead { .. } => ("typed read", 0x68),
        Command::TypedWrite { .. } => ("typed write", 0x67),
        Command::Change(_) => ("read-modify-write", 0x26),
        Command::Other { cmd, body } => {
            let function = body.first().copied().unwrap_or_default();
            return (Cow::Owned(format!("command {cmd:02X}/{function:02X}")), function.into());
        }
    };
    (Cow::Borrowed(words), code)
}
