//! A poll in smaller requests, for a device that refuses one as too long: half as much is tried, what works is
//! remembered, and the values land together with the age of the first.

use super::parts::ChangeStage;
use super::{InFlight, Schedule};
use crate::Moment;
use crate::shared::{Event, LineRequest, Queued};
use crate::speak::{Ask, Delivered, Ticket, Unsound};
use std::ops::Range;
use std::sync::Arc;
use woodrush_core::protocol::Extent;
use woodrush_core::{Blame, Kind, Refusal};

/// What is known of how much a device gives in one request.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) enum Size {
    /// As much as the plan asks for, as far as is known.
    #[default]
    Planned,
    /// It gave so many grains and refused more.
    Most(u32),
    /// It refuses the least there is: length is not why.
    OfNoMatter,
}

/// How far a poll is.
pub(super) struct Pieces {
    /// What is still to be read, the next request last.
    todo: Vec<Vec<Extent>>,
    /// All of it, as far as it came; empty while one request is enough.
    cells: Vec<u8>,
    /// What of all of it was refused while the rest came, and why.
    refused: Vec<Missing>,
    /// When the first request left.
    left: Option<Moment>,
    /// Grains of a request that were tried last, where fewer than before.
    tried: Option<u32>,
}

/// A part of a poll that was refused, and why.
pub(super) struct Missing {
    /// Its bytes in the answer to all of it.
    pub(super) place: Range<usize>,
    /// Where it lies in the device.
    pub(super) extent: Extent,
    pub(super) refusal: Refusal,
}

impl Pieces {
    /// What was refused while the rest came.
    pub(super) fn refused(self) -> Vec<Missing> {
        self.refused
    }

    /// What is read next.
    pub(super) fn next(&self) -> Option<Arc<[Extent]>> {
        self.todo.last().map(|parts| parts.as_slice().into())
    }
}

impl Schedule {
    /// A poll from its beginning.
    pub(super) fn whole_poll(&self, device: usize, turn: usize, probe: bool) -> InFlight {
        let entry = self.devices.get(device).and_then(|polled| polled.turns.get(turn));
        let mut todo = entry.map_or_else(Vec::new, |entry| {
            let most = if let Size::Most(most) = entry.size { most } else { u32::MAX };
            self.shared.plan.pieces(entry.transfer, most)
        });
        todo.reverse();
        InFlight::Poll {
            device,
            turn,
            probe,
            pieces: Pieces { todo, cells: vec![], refused: vec![], left: None, tried: None },
        }
    }

    /// The cells of an answer; of a poll, what of them is no value is noted for its end.
    pub(super) fn of_use(&mut self, ticket: Ticket, values: Delivered) -> Result<Vec<u8>, Refusal> {
        let current = self.lane.current.as_mut().filter(|current| current.ticket == ticket);
        let (device, turn, pieces) = match current.map(|current| &mut current.doing) {
            Some(InFlight::Poll { device, turn, pieces, .. }) => (*device, *turn, pieces),
            Some(InFlight::LineRequest(Queued { line_request: LineRequest::ByHand { ask, .. }, .. })) => {
                return match ask.as_ref() {
                    Ask::Read { parts, .. } => values.of_use(parts),
                    _ => values.of_use(&[]),
                };
            }
            _ => return values.of_use(&[]),
        };
        let entry = self.devices.get(device).and_then(|polled| polled.turns.get(turn));
        let transfer = entry.and_then(|entry| self.shared.plan.transfers.get(entry.transfer));
        for Unsound { extent, refusal, .. } in values.unsound {
            let place = transfer.and_then(|own| self.shared.plan.place_in_answer(own, extent));
            pieces.refused.extend(place.map(|place| Missing { place, extent, refusal }));
        }
        Ok(values.cells)
    }

    /// Goes on with a poll that takes several requests; gives back what is at its end, with the moment that counts as
    /// its beginning.
    pub(super) fn next_piece(
        &mut self,
        now: Moment,
        began: Moment,
        mut doing: InFlight,
        left: Moment,
        result: Result<Vec<u8>, Refusal>,
    ) -> Option<(InFlight, Moment, Result<Vec<u8>, Refusal>)> {
        let InFlight::Poll { device, turn, pieces, .. } = &mut doing else {
            return Some((doing, left, result));
        };
        let (device, turn) = (*device, *turn);
        let first_left = *pieces.left.get_or_insert(left);
        let ended = match result {
            Ok(cells) => self.piece_came(device, turn, pieces, cells),
            Err(refusal) => self.piece_refused(device, turn, pieces, refusal),
        };
        if let Some(result) = ended {
            return Some((doing, first_left, result));
        }
        let polled = self.devices.get(device)?;
        let (station, parts) = (polled.index, pieces.next()?);
        self.go_on(now, began, doing, Ask::Read { station, parts }, ChangeStage::Only);
        None
    }

    /// Puts a piece where it belongs; gives back all of it once it is there.
    fn piece_came(
        &mut self,
        device: usize,
        turn: usize,
        pieces: &mut Pieces,
        cells: Vec<u8>,
    ) -> Option<Result<Vec<u8>, Refusal>> {
        let polled = self.devices.get_mut(device)?;
        let (device, entry) = (polled.index, polled.turns.get_mut(turn)?);
        let transfer = self.shared.plan.transfers.get(entry.transfer)?;
        let came = pieces.todo.pop()?;
        if came[..] == transfer.parts[..] {
            entry.size = Size::Planned;
            return Some(Ok(cells));
        }
        let places: Vec<_> =
            came.iter().filter_map(|piece| self.shared.plan.place_in_answer(transfer, *piece)).collect();
        let bytes = self.shared.plan.station(transfer.from).map_or(0, |own| own.bytes_of(&transfer.parts));
        pieces.cells.resize(bytes as usize, 0);
        let mut rest = cells.as_slice();
        for place in places {
            match (rest.split_at_checked(place.len()), pieces.cells.get_mut(place)) {
                (Some((own, behind)), Some(room)) => {
                    room.copy_from_slice(own);
                    rest = behind;
                }
                _ => return Some(Err(Refusal::new(Kind::Mismatch, Blame::Us))),
            }
        }
        if !pieces.todo.is_empty() {
            return None;
        }
        if let Some(most) = pieces.tried.take() {
            entry.size = Size::Most(most);
            let (index, transfer, each) = (device, entry.transfer, bytes / transfer.grains().max(1));
            let bytes = most.saturating_mul(each);
            self.shared.tell(Event::TakesLess { device: index, transfer, most, bytes });
        }
        Some(Ok(std::mem::take(&mut pieces.cells)))
    }

    /// Splits what is left, where a device may have refused it for its length; gives back the refusal where that is not
    /// so or there is nothing to split.
    fn piece_refused(
        &mut self,
        device: usize,
        turn: usize,
        pieces: &mut Pieces,
        refusal: Refusal,
    ) -> Option<Result<Vec<u8>, Refusal>> {
        let polled = self.devices.get_mut(device)?;
        let station = self.shared.plan.devices.get(polled.index)?;
        let entry = polled.turns.get_mut(turn)?;
        let refused = pieces.next()?;
        let code = refusal.native.filter(|_| refusal.blame == Blame::Device).map(|(_, code)| code);
        let by_length = code.is_some_and(|code| {
            entry.size != Size::OfNoMatter
                && station.dialect.is_some_and(|dialect| dialect.refusals().too_long.contains(&code))
        });
        if !by_length {
            return Some(Err(refusal));
        }
        let plan = &self.shared.plan;
        let transfer = plan.transfers.get(entry.transfer)?;
        let grains = |parts: &[Extent]| parts.iter().map(|part| part.count).sum::<u32>();
        let begins = |parts: &[Extent]| Some(plan.place_in_answer(transfer, *parts.first()?)?.start);
        let most = grains(&refused) / 2;
        let mut smaller = plan.pieces(entry.transfer, most);
        smaller.retain(|parts| begins(parts) >= begins(&refused));
        if smaller.first().is_none_or(|parts| grains(parts) >= grains(&refused)) {
            entry.size = Size::OfNoMatter;
            return Some(Err(refusal));
        }
        smaller.reverse();
        pieces.todo = smaller;
        pieces.tried = Some(most);
        None
    }
}
