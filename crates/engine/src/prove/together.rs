//! Values that lie side by side, written in one request as clients do; what does not come right so is looked at value by
//! value.

use super::runner::Runner;
use super::subject::Feed;
use crate::moment::nap;
use std::collections::{BTreeSet, HashMap};
use woodrush_core::protocol::{Extent, Verb};

/// The values of each rule that came right; by rule, and whether they go back to its source or on to its target.
pub(super) type Together = HashMap<(usize, bool), BTreeSet<u32>>;

/// One value that is written.
struct Unit {
    at: usize,
    item: u32,
    /// It goes back to the source of a rule that clients may write; else on to its target.
    back: bool,
    image: usize,
    place: Extent,
    cells: Vec<u8>,
    wanted: Vec<u8>,
}

impl Runner<'_> {
    /// Writes all values of a round that fit, neighbours in one request; gives those that came right.
    pub(super) fn write_together(&mut self, round: usize) -> Together {
        let mut units = self.units(round);
        units.sort_by_key(|unit| (unit.image, unit.place.space, unit.place.first));
        let mut right = Together::new();
        let (mut rest, mut waits) = (units.as_slice(), true);
        while let Some(first) = rest.first() {
            let run = 1 + rest.windows(2).take_while(|pair| pair[0].touches(&pair[1])).count();
            let run = self.fitting(rest.get(..run).unwrap_or_default());
            let (now, later) = rest.split_at(run.clamp(1, rest.len()));
            rest = later;
            let last = now.last().unwrap_or(first);
            let extent = Extent { count: last.place.end() - first.place.first, ..first.place };
            let cells = now.iter().flat_map(|unit| unit.cells.iter().copied()).collect();
            if now.len() < 2 || self.write(first.image, extent, cells).is_err() {
                continue;
            }
            for unit in now {
                if self.comes(unit, waits) {
                    right.entry((unit.at, unit.back)).or_default().insert(unit.item);
                } else {
                    // Where one does not come, all are looked at one by one, which waits for each.
                    waits = false;
                }
            }
        }
        right
    }

    fn units(&self, round: usize) -> Vec<Unit> {
        let mut units = vec![];
        for (at, subject) in self.subjects.iter().enumerate() {
            // A bit is written with the word around it.
            if self.results.get(at).is_none_or(|result| result.why.is_some()) || subject.target.bit.is_some()
            {
                continue;
            }
            for item in 0..subject.count {
                let pattern = |patterns: &[Vec<u8>]| {
                    (round < patterns.len())
                        .then(|| patterns.get((round + item as usize) % patterns.len()).cloned())
                        .flatten()
                };
                if let (Feed::Written(image, source), Some(cells)) =
                    (&subject.feed, pattern(&subject.patterns))
                    && source.bit.is_none()
                    && let Some(wanted) = subject.carried(&cells)
                {
                    let (image, place) = (*image, source.item(item));
                    units.push(Unit { at, item, back: false, image, place, cells, wanted });
                }
                if let (Some(image), Some(cells)) = (subject.image(), pattern(&subject.writes))
                    && let Some(wanted) = subject.taken(&cells)
                {
                    let place = subject.target.item(item);
                    units.push(Unit { at, item, back: true, image, place, cells, wanted });
                }
            }
        }
        units
    }

    /// How many of these one request takes.
    fn fitting(&self, units: &[Unit]) -> usize {
        let Some(first) = units.first() else { return 0 };
        let station = self.checked.plan.images.get(first.image);
        let space = station.and_then(|station| station.space_at(first.place.space));
        let Some(((station, dialect), space)) = station.and_then(|s| Some((s, s.dialect?))).zip(space) else {
            return 1;
        };
        let fits = |unit: &&Unit| {
            let count = unit.place.end() - first.place.first;
            dialect.cost(Verb::Write, space, count, &station.setup).is_ok()
        };
        units.iter().take_while(fits).count()
    }

    /// Whether a value is where it goes; `waits` until it is, or its time is up.
    fn comes(&mut self, unit: &Unit, waits: bool) -> bool {
        let Some(subject) = self.subjects.get(unit.at) else { return false };
        let begun = self.clock.now();
        // Who waits for the device's answer has the value in it when the write is answered.
        let patience = if !waits || unit.back && subject.after_device { 0 } else { self.patience(subject) };
        loop {
            let seen = if unit.back {
                self.held(unit.at, unit.item)
            } else {
                let place = self.subjects.get(unit.at).map(|subject| subject.target.item(unit.item));
                place.and_then(|place| self.see(unit.at, place).ok())
            };
            let Some(subject) = self.subjects.get(unit.at) else { return false };
            let seen = seen.unwrap_or_default();
            let right = if unit.back {
                subject.arrived(&seen, &unit.wanted)
            } else {
                subject.agrees(&seen, &unit.wanted)
            };
            if right || self.clock.now().since(begun) > patience {
                return right;
            }
            nap(1000);
        }
    }
}

impl Unit {
    fn touches(&self, next: &Self) -> bool {
        self.image == next.image
            && self.place.space == next.place.space
            && self.place.end() == next.place.first
    }
}
