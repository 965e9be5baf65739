//! What a station is asked of its data table: as commands, one after the other where no mask is as wide, and what they
//! bring.

use super::{Sts, refusal};
use crate::speak::{Ask, one_place};
use woodrush_core::Refusal;
use woodrush_core::plan::Station;
use woodrush_core::protocol::tables::{Spot, by_ranges, from_wire, to_wire};
use woodrush_core::protocol::{Extent, SpaceId};
use woodrush_wire::tables::{Command, Set};

/// A question that becomes commands.
pub(in crate::speak) struct TableAsk {
    spot: Option<Spot>,
    extent: Extent,
    ranges: bool,
    kind: TableVerb,
}

enum TableVerb {
    Read,
    Write(Vec<u8>),
    /// Ones of `keep` keep the old bit; `old` is the element where it must be known first.
    Change {
        keep: Vec<u8>,
        set: Vec<u8>,
        old: Option<Vec<u8>>,
    },
}

/// What a reply brought.
pub(in crate::speak) enum Replied {
    /// The question is at its end.
    Ended(Result<Vec<u8>, Refusal>),
    /// Another command goes out.
    More,
    /// It is no reply to that command.
    Unfitting,
}

impl TableAsk {
    /// Of a question, with the station that it is for.
    pub(in crate::speak) fn new(stations: &[Station], ask: Ask) -> (Option<&Station>, Self) {
        let nowhere = Extent { space: SpaceId(0), first: 0, count: 1 };
        let (station, extent, kind) = match ask {
            Ask::Read { station, parts } => match one_place(&parts) {
                Some(place) => (Some(station), place, TableVerb::Read),
                None => (None, nowhere, TableVerb::Read),
            },
            Ask::Write { station, extent, cells } => (Some(station), extent, TableVerb::Write(cells)),
            Ask::Change { station, extent, keep, set } => {
                (Some(station), extent, TableVerb::Change { keep, set, old: None })
            }
            Ask::Pass { .. } => (None, nowhere, TableVerb::Read),
        };
        let station = station.and_then(|station| stations.get(station));
        let spot = station.and_then(|station| Spot::of(station.space_at(extent.space)?));
        let ranges = station.is_some_and(|station| by_ranges(&station.setup));
        (station, Self { spot, extent, ranges, kind })
    }

    /// Whether it changes nothing.
    pub(in crate::speak) const fn is_read(&self) -> bool {
        matches!(self.kind, TableVerb::Read)
    }

    /// Appends what stands behind the header of its next command; `None` where there is no such place.
    pub(in crate::speak) fn emit(&self, body: &mut Vec<u8>) -> Option<()> {
        let spot = self.spot?;
        let element = u16::try_from(self.extent.first / spot.grains.max(1)).ok()?;
        let bytes = spot.wire_bytes(self.extent.count);
        let size = u8::try_from(bytes).ok()?;
        let total = u16::from(size / 2);
        let write = |data: &[u8], out: &mut Vec<u8>| match self.ranges {
            true => Command::RangeWrite { offset: 0, total, at: spot.table(element), data }.emit(out),
            false => Command::Write { at: spot.logical(element), data }.emit(out),
        };
        let read = |out: &mut Vec<u8>| {
            // Several parts of one kind come with the elements that they are parts of.
            let whole = Spot { sub: if self.extent.count > 1 { None } else { spot.sub }, ..spot };
            match self.ranges {
                true => Command::RangeRead { offset: 0, total, at: whole.table(element), size }.emit(out),
                false => Command::Read { size, at: whole.logical(element) }.emit(out),
            }
        };
        match &self.kind {
            TableVerb::Read => read(body),
            TableVerb::Write(cells) => write(&to_wire(&spot, self.extent.count, cells), body),
            TableVerb::Change { keep, set, .. } if spot.has_masks() => {
                let word = |cells: &[u8]| cells.iter().fold(0u16, |sum, byte| sum << 8 | u16::from(*byte));
                let (keep, set) = (word(keep), word(set));
                if self.ranges {
                    let mut sets = vec![];
                    Set { at: spot.table(element), and: keep | set, or: set & !keep }.emit(&mut sets);
                    Command::Change(&sets).emit(body);
                } else {
                    let data = set.to_le_bytes();
                    Command::MaskedWrite { at: spot.logical(element), mask: !keep, data: &data }.emit(body);
                }
            }
            // No mask is as wide: read, changed, written.
            TableVerb::Change { old: None, .. } => read(body),
            TableVerb::Change { keep, set, old: Some(old) } => {
                let bits = old.iter().zip(keep).zip(set).map(|((old, keep), set)| old & keep | set & !keep);
                write(&to_wire(&spot, self.extent.count, &bits.collect::<Vec<u8>>()), body);
            }
        }
        Some(())
    }

    /// Takes the outcome of that command.
    pub(in crate::speak) fn replied(&mut self, outcome: Result<&[u8], Sts>) -> Replied {
        let Some(spot) = self.spot else { return Replied::Unfitting };
        let data = match outcome {
            Err(status) => return Replied::Ended(Err(refusal(status))),
            Ok(data) => data,
        };
        match &mut self.kind {
            TableVerb::Write(_) | TableVerb::Change { old: Some(_), .. } => Replied::Ended(Ok(vec![])),
            TableVerb::Change { .. } if spot.has_masks() => Replied::Ended(Ok(vec![])),
            TableVerb::Read => match from_wire(&spot, self.extent.count, data) {
                None => Replied::Unfitting,
                Some(cells) => Replied::Ended(Ok(cells)),
            },
            TableVerb::Change { old, .. } => match from_wire(&spot, self.extent.count, data) {
                None => Replied::Unfitting,
                cells => {
                    *old = cells;
                    Replied::More
                }
            },
        }
    }
}
