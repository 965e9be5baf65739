//! One poll in several smaller requests, for a device that takes less in one than the plan supposed.

use super::{Plan, Source, Transfer};
use crate::protocol::Extent;
use std::ops::Range;

impl Plan {
    /// The requests that bring all values of a transfer, each of at most `most` grains; what must not come from two of
    /// them (a value, a group of rules) stays whole, however long it is.
    #[must_use]
    pub fn pieces(&self, transfer: usize, most: u32) -> Vec<Vec<Extent>> {
        let Some(transfer) = self.transfers.get(transfer) else { return vec![] };
        let mut requests: Vec<Vec<Extent>> = vec![];
        let mut room = 0;
        for part in transfer.parts.iter() {
            match requests.last_mut().filter(|_| part.count <= room) {
                Some(last) => last.push(*part),
                None if part.count <= most => requests.push(vec![*part]),
                None => {
                    requests.extend(self.split(transfer, *part, most).into_iter().map(|piece| vec![piece]))
                }
            }
            room = requests
                .last()
                .map_or(0, |last| most.saturating_sub(last.iter().map(|part| part.count).sum()));
        }
        requests
    }

    /// Where the cells of a piece lie in the cells of a whole transfer, in bytes.
    #[must_use]
    pub fn place_in_answer(&self, transfer: &Transfer, piece: Extent) -> Option<Range<usize>> {
        let station = self.station(transfer.from)?;
        let over = transfer.part_over(piece)?;
        let before = transfer.parts.iter().take_while(|part| **part != over).copied();
        let ahead = Extent { count: piece.first - over.first, ..over };
        let first = station.bytes_of(&before.chain([ahead]).collect::<Vec<_>>()) as usize;
        Some(first..first + station.bytes_of(&[piece]) as usize)
    }

    /// One part in several requests.
    fn split(&self, transfer: &Transfer, whole: Extent, most: u32) -> Vec<Extent> {
        let mut wanted: Vec<(u32, u32)> = vec![];
        for step in self.steps.get(transfer.steps.start as usize..transfer.steps.end as usize).unwrap_or(&[])
        {
            let source = self.rules.get(step.rule as usize).map(|rule| rule.source);
            if let Some(Source::Values { place, .. }) = source
                && place.space == whole.space
            {
                let items = (step.item..step.item + step.items).map(|item| place.item(item));
                wanted.extend(
                    items
                        .map(|item| (item.first, item.end()))
                        .filter(|(first, end)| whole.first <= *first && *end <= whole.end()),
                );
            }
        }
        let inside = |held: &&(usize, Extent)| {
            Some(held.0) == transfer.device()
                && held.1.space == whole.space
                && held.1.first >= whole.first
                && held.1.end() <= whole.end()
        };
        wanted.extend(self.held_together.iter().filter(inside).map(|(_, held)| (held.first, held.end())));
        wanted.sort_unstable();
        let station = self.station(transfer.from);
        let step = station.and_then(|station| station.space_at(whole.space)).map_or(1, |space| space.align);
        let step = u32::from(step.max(1));
        // What overlaps is one; what does not may come from two requests.
        let mut atoms: Vec<(u32, u32)> = vec![];
        for (first, end) in wanted {
            match atoms.last_mut().filter(|last| first < last.1) {
                Some(last) => last.1 = last.1.max(end),
                None => atoms.push((first, end)),
            }
        }
        let mut pieces: Vec<(u32, u32)> = vec![];
        for (first, end) in atoms {
            let (first, end) = (first / step * step, end.next_multiple_of(step));
            match pieces.last_mut().filter(|last| end - last.0 <= most) {
                Some(last) => last.1 = last.1.max(end),
                None => pieces.push((first, end)),
            }
        }
        pieces.iter().map(|(first, end)| Extent { first: *first, count: end - first, ..whole }).collect()
    }
}
