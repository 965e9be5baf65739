//! The cells that an image shows, and how fresh they are. An image never tears and never lies.
//!
//! Flat memory: one stretch of cells a space, and for each cell the step of the plan that feeds it. All values of a
//! step land together, with the moment at which their request had left.

mod health;

pub use health::{DeviceHealth, failure_code};

use crate::Moment;
use std::sync::Arc;
use woodrush_core::plan::{Plan, PlannedRule, Source};
use woodrush_core::project::OnLoss;
use woodrush_core::protocol::Extent;
use woodrush_core::{Blame, Kind, Refusal};

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

/// What to do with one cell of a read.
enum Verdict {
    Show,
    Fill(u16),
    Refuse(Kind),
}

#[derive(Debug, Default)]
struct Stretch {
    first: u32,
    /// Bytes of a cell.
    each: usize,
    cells: Vec<u8>,
    /// The step that feeds each cell, counted from 1; 0 for none.
    feeds: Vec<u32>,
    /// The last value of this cell did not fit.
    misfit: Vec<bool>,
}

impl Stretch {
    fn index(&self, grain: u32) -> Option<usize> {
        let at = grain.checked_sub(self.first)? as usize;
        (at < self.feeds.len()).then_some(at)
    }
}

/// One image at work.
#[derive(Debug)]
pub struct Image {
    index: usize,
    plan: Arc<Plan>,
    health: Arc<Vec<DeviceHealth>>,
    unmapped_zero: bool,
    stretches: Vec<Stretch>,
    /// By step; only those of this image's rules are used.
    seen: Vec<Seen>,
}

/// A client's write, taken apart into what devices must take.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeviceWrite {
    /// Index of the device.
    pub device: usize,
    /// Where in it.
    pub extent: Extent,
    /// In the device's form.
    pub cells: Vec<u8>,
    /// Where the image shows it once the device has confirmed.
    pub shown: (usize, Extent, Vec<u8>),
}

fn refused(kind: Kind, blame: Blame) -> Refusal {
    Refusal::new(kind, blame)
}

impl Image {
    /// The image of that index, with nothing read yet.
    #[must_use]
    pub fn new(index: usize, plan: Arc<Plan>, health: Arc<Vec<DeviceHealth>>, unmapped_zero: bool) -> Self {
        let spaces = plan.images.get(index).map_or(&[][..], |station| station.spaces.as_slice());
        let mut stretches: Vec<Stretch> = spaces
            .iter()
            .map(|space| Stretch { each: space.grain.cell_bytes(), ..Stretch::default() })
            .collect();
        let targets = |space: usize| {
            let here =
                move |rule: &&PlannedRule| rule.image == index && usize::from(rule.target.space.0) == space;
            plan.rules.iter().filter(here).map(|rule| rule.target.extent())
        };
        for (space, stretch) in stretches.iter_mut().enumerate() {
            let first = targets(space).map(|extent| extent.first).min().unwrap_or(0);
            let count = targets(space).map(|extent| extent.end()).max().unwrap_or(first) - first;
            stretch.first = first;
            stretch.cells = vec![0; count as usize * stretch.each];
            stretch.feeds = vec![0; count as usize];
            stretch.misfit = vec![false; count as usize];
        }
        for (step, number) in plan.steps.iter().zip(1..) {
            let Some(rule) = plan.rules.get(step.rule as usize).filter(|rule| rule.image == index) else {
                continue;
            };
            let Some(stretch) = stretches.get_mut(usize::from(rule.target.space.0)) else { continue };
            let first = rule.target.item(step.item).first;
            for grain in first..first + step.items * rule.target.width {
                if let Some(feed) = stretch.index(grain).and_then(|at| stretch.feeds.get_mut(at)) {
                    *feed = number;
                }
            }
        }
        let seen = vec![Seen::Never; plan.steps.len()];
        Self { index, plan, health, unmapped_zero, stretches, seen }
    }

    /// Lets the values of a step land: all at once, the only way in. `answer` is the cells of its request.
    pub fn land(&mut self, step: u32, at: Moment, answer: &[u8]) {
        let plan = Arc::clone(&self.plan);
        let (Some(entry), Some(rule)) = (plan.steps.get(step as usize), plan.rule_of(step)) else { return };
        let Source::Poll { device, place, .. } = rule.source else { return };
        let Some(stretch) = self.stretches.get_mut(usize::from(rule.target.space.0)) else { return };
        let space = plan.devices.get(device).and_then(|station| station.space_at(place.space));
        let source_each = space.map_or(1, |space| space.grain.cell_bytes());
        let (from_width, to_width) =
            (place.width as usize * source_each, rule.target.width as usize * stretch.each);
        let copy = rule.conversion.is_copy() && place.bit.is_none() && from_width == to_width;
        for item in 0..entry.items {
            let from = entry.offset as usize + item as usize * from_width;
            let Some(cells) = answer.get(from..from + from_width) else { return };
            let target = rule.target.item(entry.item + item);
            let Some(index) = stretch.index(target.first) else { return };
            let Some(room) = stretch.cells.get_mut(index * stretch.each..index * stretch.each + to_width)
            else {
                return;
            };
            let fits = if copy {
                room.copy_from_slice(cells);
                true
            } else if let Some(bit) = place.bit {
                rule.conversion.convert(&[bit_of(cells, bit)], room).is_ok()
            } else {
                rule.conversion.convert(cells, room).is_ok()
            };
            for misfit in stretch.misfit.iter_mut().skip(index).take(target.count as usize) {
                *misfit = !fits;
            }
        }
        if let Some(seen) = self.seen.get_mut(step as usize) {
            *seen = Seen::At(at);
        }
    }

    /// The source of a step is lost.
    pub fn lose(&mut self, step: u32) {
        if let Some(seen) = self.seen.get_mut(step as usize) {
            *seen = match *seen {
                Seen::Never => Seen::Never,
                Seen::At(last) => Seen::Lost(Some(last)),
                lost @ Seen::Lost(_) => lost,
            };
        }
    }

    /// Shows what a device has confirmed to have taken, until the next poll. What is not fresh stays so.
    pub fn show_written(&mut self, extent: Extent, cells: &[u8]) {
        let Some(stretch) = self.stretches.get_mut(usize::from(extent.space.0)) else { return };
        let Some(index) = stretch.index(extent.first) else { return };
        let each = stretch.each;
        if let Some(room) = stretch.cells.get_mut(index * each..index * each + cells.len()) {
            room.copy_from_slice(cells);
        }
        for misfit in stretch.misfit.iter_mut().skip(index).take(extent.count as usize) {
            *misfit = false;
        }
    }

    /// All cells of a range, or a refusal; never a mixture of two landings of one step. A cell that no rule feeds
    /// comes before one that is lost.
    ///
    /// # Errors
    /// Some address is fed by no rule, or some value is lost.
    pub fn read(&self, now: Moment, extent: Extent, out: &mut Vec<u8>) -> Result<(), Refusal> {
        let bare = || refused(Kind::NoSuchAddress, Blame::Asker);
        let stretch = self.stretches.get(usize::from(extent.space.0)).ok_or_else(bare)?;
        let each = stretch.each;
        // The common case in one go: every cell is fed, and every step it comes from is fresh.
        if let Some(first) = stretch.index(extent.first)
            && let (Some(feeds), Some(cells), Some(misfit)) = (
                stretch.feeds.get(first..first + extent.count as usize),
                stretch.cells.get(first * each..(first + extent.count as usize) * each),
                stretch.misfit.get(first..first + extent.count as usize),
            )
        {
            let mut last = 0;
            let fresh = feeds.iter().all(|feed| {
                let good = *feed != 0 && (*feed == last || self.is_fresh(now, *feed - 1));
                last = *feed;
                good
            });
            if fresh && !misfit.contains(&true) {
                out.extend_from_slice(cells);
                return Ok(());
            }
        }
        self.read_carefully(now, stretch, extent, out)
    }

    fn is_fresh(&self, now: Moment, step: u32) -> bool {
        match (self.seen.get(step as usize), self.plan.rule_of(step)) {
            (Some(Seen::At(at)), Some(rule)) => now.since(*at) <= rule.max_age,
            _ => false,
        }
    }

    fn read_carefully(
        &self,
        now: Moment,
        stretch: &Stretch,
        extent: Extent,
        out: &mut Vec<u8>,
    ) -> Result<(), Refusal> {
        let begin = out.len();
        let mut lost: Option<Kind> = None;
        for grain in extent.first..extent.end() {
            let index = stretch.index(grain);
            let feed = index.and_then(|at| stretch.feeds.get(at)).copied().unwrap_or(0);
            let Some(step) = feed.checked_sub(1) else {
                if self.unmapped_zero {
                    out.resize(out.len() + stretch.each, 0);
                    continue;
                }
                out.truncate(begin);
                return Err(refused(Kind::NoSuchAddress, Blame::Asker));
            };
            let index = index.unwrap_or_default();
            let misfit = stretch.misfit.get(index).copied().unwrap_or(false);
            let cell =
                stretch.cells.get(index * stretch.each..(index + 1) * stretch.each).unwrap_or_default();
            match self.verdict(now, step, misfit) {
                Verdict::Show => match self.health_cell(now, step, grain, stretch.each) {
                    Some(cell) => out.extend_from_slice(&cell),
                    None => out.extend_from_slice(cell),
                },
                Verdict::Fill(word) if stretch.each == 1 => out.push(u8::from(word != 0)),
                Verdict::Fill(word) => out.extend_from_slice(&word.to_be_bytes()),
                Verdict::Refuse(kind) => {
                    out.resize(out.len() + stretch.each, 0);
                    lost = lost.or(Some(kind));
                }
            }
        }
        match lost {
            None => Ok(()),
            Some(kind) => {
                out.truncate(begin);
                Err(refused(kind, Blame::Device))
            }
        }
    }

    fn verdict(&self, now: Moment, step: u32, misfit: bool) -> Verdict {
        let Some(rule) = self.plan.rule_of(step) else { return Verdict::Refuse(Kind::Lost) };
        if matches!(rule.source, Source::Health { .. }) {
            return Verdict::Show;
        }
        if self.is_fresh(now, step) && !misfit {
            return Verdict::Show;
        }
        let seen = self.seen.get(step as usize).copied().unwrap_or(Seen::Never);
        match (rule.on_loss, seen) {
            (OnLoss::Fill(word), _) => Verdict::Fill(word),
            (OnLoss::Hold, Seen::At(_) | Seen::Lost(Some(_))) => Verdict::Show,
            (_, Seen::Never) => Verdict::Refuse(Kind::NeverSeen),
            _ => Verdict::Refuse(Kind::Lost),
        }
    }

    /// One cell of what a device tells about itself; `None` for polled values.
    fn health_cell(&self, now: Moment, step: u32, grain: u32, each: usize) -> Option<Vec<u8>> {
        let rule = self.plan.rule_of(step)?;
        let Source::Health { device, item } = rule.source else { return None };
        let source = self.health.get(device)?.cells(item, now);
        let mut value = vec![0; rule.target.width as usize * each];
        rule.conversion.convert(&source, &mut value).ok()?;
        let at = (grain - rule.target.first) as usize * each;
        value.get(at..at + each).map(<[u8]>::to_vec)
    }

    /// The devices' writes that a client's write becomes, in address order.
    ///
    /// # Errors
    /// Some cell is not writable, is a part of a value, or a value does not fit its device.
    pub fn route(&self, extent: Extent, cells: &[u8]) -> Result<Vec<DeviceWrite>, Refusal> {
        let no = |kind| refused(kind, Blame::Asker);
        let stretch = self.stretches.get(usize::from(extent.space.0)).ok_or(no(Kind::NoSuchAddress))?;
        let each = stretch.each;
        let mut writes: Vec<DeviceWrite> = vec![];
        let mut grain = extent.first;
        while grain < extent.end() {
            let feed = stretch.index(grain).and_then(|at| stretch.feeds.get(at)).copied().unwrap_or(0);
            let rule = feed
                .checked_sub(1)
                .and_then(|step| self.plan.rule_of(step))
                .ok_or(no(Kind::NoSuchAddress))?;
            let (Source::Poll { device, place, .. }, true) = (rule.source, rule.writable) else {
                return Err(no(Kind::ReadOnly));
            };
            let item = (grain - rule.target.first) / rule.target.width;
            let target = rule.target.item(item);
            if target.first != grain || target.end() > extent.end() {
                return Err(no(Kind::ReadOnly));
            }
            let from = (grain - extent.first) as usize * each;
            let value = cells.get(from..from + target.count as usize * each).ok_or(no(Kind::BadValue))?;
            let source = place.item(item);
            let station = self.plan.devices.get(device);
            let source_each =
                station.and_then(|s| s.space_at(place.space)).map_or(1, |space| space.grain.cell_bytes());
            let mut raw = vec![0; source.count as usize * source_each];
            rule.conversion.back().convert(value, &mut raw).map_err(|()| no(Kind::DoesNotFit))?;
            self.append(
                &mut writes,
                DeviceWrite {
                    device,
                    extent: source,
                    cells: raw,
                    shown: (self.index, target, value.to_vec()),
                },
            );
            grain = target.end();
        }
        Ok(writes)
    }

    /// Joins a write to the one before where both are neighbours in device and image and one request takes them.
    fn append(&self, writes: &mut Vec<DeviceWrite>, next: DeviceWrite) {
        if let Some(last) = writes.last_mut() {
            let neighbours = last.device == next.device
                && last.extent.space == next.extent.space
                && last.extent.end() == next.extent.first
                && last.shown.1.end() == next.shown.1.first;
            let count = last.extent.count + next.extent.count;
            let station = self.plan.devices.get(next.device);
            let fits = station.is_some_and(|station| {
                let space = station.space_at(next.extent.space);
                let verb = woodrush_core::protocol::Verb::Write;
                space
                    .zip(station.dialect)
                    .is_some_and(|(space, dialect)| dialect.cost(verb, space, count, &station.setup).is_ok())
            });
            if neighbours && fits {
                last.extent.count = count;
                last.cells.extend_from_slice(&next.cells);
                last.shown.1.count += next.shown.1.count;
                last.shown.2.extend_from_slice(&next.shown.2);
                return;
            }
        }
        writes.push(next);
    }
}

/// Bit `bit` of a big-endian cell, 0 the least significant.
fn bit_of(cells: &[u8], bit: u8) -> u8 {
    let byte = cells.len().checked_sub(1 + usize::from(bit / 8)).and_then(|at| cells.get(at));
    byte.map_or(0, |byte| byte >> (bit % 8) & 1)
}

#[cfg(test)]
mod tests;
