//! The cells that an image shows, and how fresh they are. An image never tears and never lies. What a device shall be
//! sent lies in such cells too.
//!
//! Flat memory: one stretch of cells a space, and for each cell the step of the plan that feeds it. All values of a
//! step land together, with the moment at which their request had left.

mod kept;
mod reads;
mod writes;

pub(crate) use kept::Kept;
pub use writes::{ClientCells, DeviceWrite, Shown, Task};

use crate::Moment;
use crate::health::{HealthCounters, LinkHealth};
use std::sync::Arc;
use woodrush_core::cells::{bit_of, set_bit};
use woodrush_core::plan::{Landing, Plan, PlannedRule, Push, Source};
use woodrush_core::protocol::{Extent, Grain};
use woodrush_core::{Blame, Kind, Refusal};

/// Set in a feed whose cell holds bits of several rules; the rest is the index of those.
const SHARED: u32 = 1 << 31;

/// When the values of a step were last good.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Seen {
    /// Not yet.
    Never,
    /// Asked for at this moment.
    At(Moment),
    /// The source is lost; the last good moment, if there was one.
    Lost(Option<Moment>),
}

/// What a device shall be sent now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outgoing {
    /// There was no value yet.
    Never,
    /// These cells.
    Fresh(Vec<u8>),
    /// The source is lost; the cells are the last ones, nothing where none has ever fitted.
    Stale(Option<Vec<u8>>),
}

/// Whether what came last for a cell stands in it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
enum Fit {
    /// Nothing that fits has come yet.
    #[default]
    Blank,
    /// It does.
    Good,
    /// It did not fit; the one before stands there.
    Odd,
}

impl Fit {
    /// Once a value has come that fits, or does not.
    const fn after(self, fits: bool) -> Self {
        match (self, fits) {
            (_, true) => Self::Good,
            (Self::Blank, false) => Self::Blank,
            (_, false) => Self::Odd,
        }
    }
}

#[derive(Debug)]
struct Stretch {
    first: u32,
    /// Bytes of a cell.
    each: usize,
    grain: Grain,
    /// Requests take whole groups of so many.
    align: u32,
    cells: Vec<u8>,
    /// The step that feeds each cell, counted from 1; 0 for none.
    feeds: Vec<u32>,
    /// What came of the last value of each cell.
    fits: Vec<Fit>,
}

impl Stretch {
    fn index(&self, grain: u32) -> Option<usize> {
        let at = grain.checked_sub(self.first)? as usize;
        (at < self.feeds.len()).then_some(at)
    }

    /// Whether some cell is fed that can only be asked for together with this one.
    fn is_beside(&self, grain: u32) -> bool {
        let first = grain / self.align.max(1) * self.align;
        self.align > 1 && (first..first + self.align).any(|other| self.feed(other) != 0)
    }

    fn feed(&self, grain: u32) -> u32 {
        self.index(grain).and_then(|at| self.feeds.get(at)).copied().unwrap_or(0)
    }
}

/// One bit of a cell that several rules share.
#[derive(Debug, Clone, Copy)]
struct BitFeed {
    bit: u8,
    step: u32,
    fit: Fit,
}

/// What is known of the values of one step.
#[derive(Debug, Clone)]
struct Freshness {
    seen: Seen,
    /// Its values come by this link, and are as fresh as that: a frame that changes nothing touches no board.
    link: Option<Arc<LinkHealth>>,
    /// Older than this they count as lost, in microseconds.
    max_age: u64,
    /// Index of the first cell behind those of the step, which stand side by side.
    end: usize,
    /// Some value may not have fitted when it landed last.
    odd: bool,
}

impl Freshness {
    fn is_fresh(&self, now: Moment) -> bool {
        let Seen::At(at) = self.seen else { return false };
        match &self.link {
            None => now.since(at) <= self.max_age,
            Some(link) => link.is_fresh(now) && link.age(now).is_some_and(|age| age <= self.max_age),
        }
    }
}

/// The cells of one image, or of what one device shall be sent.
#[derive(Debug)]
pub struct Board {
    board: usize,
    plan: Arc<Plan>,
    health: Arc<HealthCounters>,
    unmapped_zero: bool,
    stretches: Vec<Stretch>,
    bits: Vec<Vec<BitFeed>>,
    slots: Vec<Freshness>,
}

fn refused(kind: Kind, blame: Blame) -> Refusal {
    Refusal::new(kind, blame)
}

impl Board {
    /// The cells of that board, with nothing read yet.
    #[must_use]
    pub fn new(board: usize, plan: Arc<Plan>, health: Arc<HealthCounters>, unmapped_zero: bool) -> Self {
        let spaces = plan.board(board).map(|station| Arc::clone(&station.spaces)).unwrap_or_default();
        let mut stretches: Vec<Stretch> = spaces
            .iter()
            .map(|space| Stretch {
                each: space.grain.cell_bytes(),
                grain: space.grain,
                align: u32::from(space.align.max(1)),
                first: 0,
                cells: vec![],
                feeds: vec![],
                fits: vec![],
            })
            .collect();
        let mut ends: Vec<Option<(u32, u32)>> = vec![None; stretches.len()];
        for rule in plan.rules.iter().filter(|rule| rule.board == board) {
            let extent = rule.target.extent();
            if let Some(end) = ends.get_mut(extent.space.index()) {
                let (first, last) = end.unwrap_or((extent.first, extent.end()));
                *end = Some((first.min(extent.first), last.max(extent.end())));
            }
        }
        for (stretch, end) in stretches.iter_mut().zip(ends) {
            let (first, last) = end.unwrap_or((0, 0));
            let count = (last - first) as usize;
            stretch.first = first;
            stretch.cells = vec![0; count * stretch.each];
            stretch.feeds = vec![0; count];
            stretch.fits = vec![Fit::default(); count];
        }
        let mut image = Self { board, plan, health, unmapped_zero, stretches, bits: vec![], slots: vec![] };
        image.feed_cells();
        image
    }

    fn feed_cells(&mut self) {
        let plan = Arc::clone(&self.plan);
        let links = plan.links.iter().zip(&self.health.links).flat_map(|(link, health)| {
            let comes = link.slots.iter().filter_map(|slot| slot.comes);
            let steps = comes.filter_map(|(_, transfer)| Some(plan.transfers.get(transfer)?.steps.clone()));
            steps.map(move |steps| (steps, Arc::clone(health)))
        });
        let links: Vec<_> = links.collect();
        for (step, number) in plan.steps.iter().zip(1u32..) {
            let Some(rule) = plan.rules.get(step.rule as usize).filter(|rule| rule.board == self.board)
            else {
                continue;
            };
            let stretch = self.stretches.get_mut(rule.target.space.index());
            let first = rule.target.item(step.item).first;
            let last = first + step.items * rule.target.width;
            let end = stretch.as_ref().map_or(0, |stretch| (last - stretch.first) as usize);
            let link = links.iter().find(|(steps, _)| steps.contains(&(number - 1)));
            let link = link.map(|(_, health)| Arc::clone(health));
            self.slots.push(Freshness { seen: Seen::Never, link, max_age: rule.max_age, end, odd: false });
            let Some(stretch) = stretch else { continue };
            for grain in first..last {
                let Some(feed) = stretch.index(grain).and_then(|at| stretch.feeds.get_mut(at)) else {
                    continue;
                };
                let Some(bit) = rule.target.bit else {
                    *feed = number;
                    continue;
                };
                if *feed & SHARED == 0 {
                    *feed = SHARED | u32::try_from(self.bits.len()).unwrap_or(0);
                    self.bits.push(vec![]);
                }
                let own = BitFeed { bit, step: number - 1, fit: Fit::default() };
                self.bits.get_mut((*feed & !SHARED) as usize).into_iter().for_each(|bits| bits.push(own));
            }
        }
    }

    fn slot(&self, step: u32) -> Option<&Freshness> {
        self.slots.get(self.plan.steps.get(step as usize)?.slot as usize)
    }

    fn slot_mut(&mut self, step: u32) -> Option<&mut Freshness> {
        self.slots.get_mut(self.plan.steps.get(step as usize)?.slot as usize)
    }

    fn seen(&self, step: u32) -> Seen {
        self.slot(step).map_or(Seen::Never, |slot| slot.seen)
    }

    /// Lets the values of a step land: all at once, the only way in. `answer` is the cells of its request.
    pub fn land(&mut self, step: u32, at: Moment, answer: &[u8]) {
        let plan = Arc::clone(&self.plan);
        let (Some(entry), Some(rule)) = (plan.steps.get(step as usize), plan.rule_of(step)) else { return };
        let Source::Values { owner, place, .. } = rule.source else { return };
        let space = plan.station(owner).and_then(|station| station.space_at(place.space));
        let from_width = place.width as usize * space.map_or(1, |space| space.grain.cell_bytes());
        let mut all_fit = true;
        for item in 0..entry.items {
            let from = entry.offset as usize + item as usize * from_width;
            let Some(cells) = answer.get(from..from + from_width) else { return };
            all_fit &= match place.bit {
                Some(bit) => self.put_value(step, rule, entry, item, &[u8::from(bit_of(cells, bit))]),
                None => self.put_value(step, rule, entry, item, cells),
            };
        }
        self.landed(step, Seen::At(at), all_fit);
    }

    /// Lets a value land that a client wrote elsewhere; `cells` are those that it wrote.
    pub fn put(&mut self, step: u32, at: Moment, cells: &[u8]) {
        let plan = Arc::clone(&self.plan);
        let (Some(entry), Some(rule)) = (plan.steps.get(step as usize), plan.rule_of(step)) else { return };
        let fits = self.put_value(step, rule, entry, 0, cells);
        self.landed(step, Seen::At(at), fits);
    }

    /// Puts one value into its cells; `false` where it does not fit.
    fn put_value(&mut self, step: u32, rule: &PlannedRule, entry: &Landing, item: u32, cells: &[u8]) -> bool {
        let target = rule.target.item(entry.item + item);
        let Some(stretch) = self.stretches.get_mut(rule.target.space.index()) else { return false };
        let Some(index) = stretch.index(target.first) else { return false };
        let width = rule.target.width as usize * stretch.each;
        let Some(room) = stretch.cells.get_mut(index * stretch.each..index * stretch.each + width) else {
            return false;
        };
        let valid = !is_invalid(rule, cells);
        if let Some(bit) = rule.target.bit {
            let mut on = [0];
            let fits = valid && rule.conversion.convert(cells, &mut on).is_ok();
            if fits {
                set_bit(room, bit, on != [0]);
            }
            let shared = stretch.feeds.get(index).map(|feed| (*feed & !SHARED) as usize);
            let bits = shared.and_then(|at| self.bits.get_mut(at));
            bits.into_iter()
                .flatten()
                .filter(|own| own.step == step)
                .for_each(|own| own.fit = own.fit.after(fits));
            return fits;
        }
        let copy = rule.conversion.is_copy() && cells.len() == room.len();
        let fits = valid
            && if copy {
                room.copy_from_slice(cells);
                true
            } else {
                rule.conversion.convert(cells, room).is_ok()
            };
        for fit in stretch.fits.iter_mut().skip(index).take(target.count as usize) {
            *fit = fit.after(fits);
        }
        fits
    }

    fn landed(&mut self, step: u32, seen: Seen, all_fit: bool) {
        if let Some(slot) = self.slot_mut(step) {
            (slot.seen, slot.odd) = (seen, !all_fit);
        }
    }

    /// The source of a step is lost.
    pub fn lose(&mut self, step: u32) {
        if let Some(slot) = self.slot_mut(step) {
            slot.seen = match slot.seen {
                Seen::Never => Seen::Never,
                Seen::At(last) => Seen::Lost(Some(last)),
                lost @ Seen::Lost(_) => lost,
            };
        }
    }

    /// Shows what a device has confirmed to have taken, until the next poll. What is not fresh stays so.
    pub fn show_written(&mut self, extent: Extent, cells: &[u8]) {
        let Some(stretch) = self.stretches.get_mut(extent.space.index()) else { return };
        let Some(index) = stretch.index(extent.first) else { return };
        let each = stretch.each;
        if let Some(room) = stretch.cells.get_mut(index * each..index * each + cells.len()) {
            room.copy_from_slice(cells);
        }
        stretch.fits.iter_mut().skip(index).take(extent.count as usize).for_each(|fit| *fit = Fit::Good);
    }

    /// Takes over the values of one rule from its steps in another image.
    pub(crate) fn adopt(&mut self, own: &[u32], other: &Self, steps: &[u32]) {
        let plan = Arc::clone(&self.plan);
        for step in own {
            let (Some(entry), Some(rule)) = (plan.steps.get(*step as usize), plan.rule_of(*step)) else {
                continue;
            };
            let mut seen: Option<Seen> = None;
            for item in entry.item..entry.item + entry.items {
                let holds = |step: &&u32| {
                    let entry = other.plan.steps.get(**step as usize);
                    entry.is_some_and(|entry| (entry.item..entry.item + entry.items).contains(&item))
                };
                let Some((before, there)) =
                    steps.iter().find(holds).and_then(|step| Some((*step, other.plan.rule_of(*step)?)))
                else {
                    continue;
                };
                let then = other.seen(before);
                // Values of several moments are as old as the oldest.
                seen = Some(seen.map_or(then, |seen| older(seen, then)));
                let (from, to) = (there.target.item(item), rule.target.item(item));
                let cells = other.peek(from).map(<[u8]>::to_vec).unwrap_or_default();
                let fit = other.fit(from, there.target.bit);
                self.place(to, rule.target.bit, &cells, fit, *step);
            }
            // Whether all of them fitted is seen cell by cell until the next poll.
            self.landed(*step, seen.unwrap_or(Seen::Never), false);
        }
    }

    fn fit(&self, extent: Extent, bit: Option<u8>) -> Fit {
        let stretch = self.stretches.get(extent.space.index());
        stretch
            .and_then(|stretch| self.feeding(stretch, extent.first, bit))
            .map_or(Fit::Blank, |(_, fit)| fit)
    }

    fn place(&mut self, extent: Extent, bit: Option<u8>, cells: &[u8], fit: Fit, step: u32) {
        let Some(stretch) = self.stretches.get_mut(extent.space.index()) else { return };
        let Some(index) = stretch.index(extent.first) else { return };
        let feed = stretch.feeds.get(index).copied().unwrap_or(0);
        let range = index * stretch.each..index * stretch.each + cells.len();
        let Some(room) = stretch.cells.get_mut(range) else { return };
        match bit {
            Some(bit) => {
                set_bit(room, bit, bit_of(cells, bit));
                let bits = self.bits.get_mut((feed & !SHARED) as usize);
                bits.into_iter().flatten().filter(|own| own.step == step).for_each(|own| own.fit = fit);
            }
            None => {
                room.copy_from_slice(cells);
                stretch.fits.iter_mut().skip(index).take(extent.count as usize).for_each(|own| *own = fit);
            }
        }
    }

    /// Cells as they stand, fresh or not; nothing where some do not exist.
    #[must_use]
    pub fn peek(&self, extent: Extent) -> Option<&[u8]> {
        let stretch = self.stretches.get(extent.space.index())?;
        let first = stretch.index(extent.first)?;
        stretch.cells.get(first * stretch.each..(first + extent.count as usize) * stretch.each)
    }

    /// What a push has to send.
    #[must_use]
    pub fn outgoing(&self, now: Moment, push: &Push) -> Outgoing {
        let Some(rule) = self.plan.rules.get(push.rule as usize) else { return Outgoing::Never };
        if let Source::Health(told) = rule.source {
            let source = self.health.cells(told, now);
            let each = self.stretches.get(push.extent.space.index()).map_or(2, |stretch| stretch.each);
            let mut cells = vec![0; if push.bit.is_some() { 1 } else { push.extent.count as usize * each }];
            let fits = source.is_some_and(|source| rule.conversion.convert(&source, &mut cells).is_ok());
            return if fits { Outgoing::Fresh(cells) } else { Outgoing::Never };
        }
        let Some(stored) = self.peek(push.extent) else { return Outgoing::Never };
        let cells = match push.bit {
            Some(bit) => vec![u8::from(bit_of(stored, bit))],
            None => stored.to_vec(),
        };
        let (mut stale, mut blank) = (false, false);
        for grain in push.extent.first..push.extent.end() {
            let Some(stretch) = self.stretches.get(push.extent.space.index()) else {
                return Outgoing::Never;
            };
            let Some((step, fit)) = self.feeding(stretch, grain, push.bit) else { return Outgoing::Never };
            blank |= fit == Fit::Blank;
            match self.seen(step) {
                Seen::Never | Seen::Lost(None) => return Outgoing::Never,
                _ => stale |= fit != Fit::Good || !self.is_fresh(now, step),
            }
        }
        if stale { Outgoing::Stale((!blank).then_some(cells)) } else { Outgoing::Fresh(cells) }
    }

    /// The step that feeds a grain, or one bit of it, and what came of its last value.
    fn feeding(&self, stretch: &Stretch, grain: u32, bit: Option<u8>) -> Option<(u32, Fit)> {
        let feed = stretch.feed(grain);
        if feed & SHARED == 0 {
            let fit = stretch.index(grain).and_then(|at| stretch.fits.get(at)).copied();
            return Some((feed.checked_sub(1)?, fit.unwrap_or_default()));
        }
        let bits = self.bits.get((feed & !SHARED) as usize)?;
        bits.iter().find(|own| Some(own.bit) == bit).map(|own| (own.step, own.fit))
    }
}

/// Of two moments the one that is older, or never.
fn older(one: Seen, other: Seen) -> Seen {
    let rank = |seen: &Seen| match seen {
        Seen::Never | Seen::Lost(None) => (0, 0),
        Seen::Lost(Some(at)) => (1, at.0),
        Seen::At(at) => (2, at.0),
    };
    if rank(&other) < rank(&one) { other } else { one }
}

/// Whether the raw words are ones that mean "no value".
fn is_invalid(rule: &PlannedRule, cells: &[u8]) -> bool {
    if rule.invalid.is_empty() || cells.len() > 8 {
        return false;
    }
    let mut ordered = [0; 8];
    let Some(room) = ordered.get_mut(..cells.len()) else { return false };
    room.copy_from_slice(cells);
    rule.conversion.from.order().apply(room);
    let raw = room.iter().fold(0u64, |raw, byte| raw << 8 | u64::from(*byte));
    rule.invalid.contains(&raw)
}

#[cfg(test)]
mod tests;
