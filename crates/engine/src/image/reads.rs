//! What a reader gets: all cells of a range as they are, or filled, or a refusal.

use super::{Board, Fit, SHARED, Seen, Stretch, refused};
use crate::Moment;
use woodrush_core::cells::{filled, set_bit};
use woodrush_core::plan::Source;
use woodrush_core::project::OnLoss;
use woodrush_core::protocol::Extent;
use woodrush_core::{Blame, Kind, Refusal};

/// What to do with one cell of a read.
enum Verdict {
    Show,
    Fill(u16),
    Refuse(Kind),
}

impl Board {
    /// All cells of a range, or a refusal; never a mixture of two landings of one step. A cell that no rule feeds
    /// comes before one that is lost.
    ///
    /// # Errors
    /// Some address is fed by no rule, or some value is lost.
    pub fn read(&self, now: Moment, extent: Extent, out: &mut Vec<u8>) -> Result<(), Refusal> {
        let bare = || refused(Kind::NoSuchAddress, Blame::ClientIdentity);
        let stretch = self.stretches.get(extent.space.index()).ok_or_else(bare)?;
        let each = stretch.each;
        // The common case in one go: every cell is fed, and every step it comes from is fresh and fitted.
        if let Some(first) = stretch.index(extent.first)
            && let Some(cells) = stretch.cells.get(first * each..(first + extent.count as usize) * each)
            && self.is_sound(now, stretch, first, first + extent.count as usize)
        {
            out.extend_from_slice(cells);
            return Ok(());
        }
        self.read_carefully(now, stretch, extent, out)
    }

    /// Whether all cells are fed by steps of which nothing more need be looked at; goes from step to step.
    fn is_sound(&self, now: Moment, stretch: &Stretch, first: usize, end: usize) -> bool {
        let mut at = first;
        while at < end {
            let step = stretch.feeds.get(at).and_then(|feed| feed.checked_sub(1));
            // What several rules share is no step's number.
            match step.and_then(|step| self.slot(step)) {
                Some(slot) if !slot.odd && slot.is_fresh(now) => at = slot.end.max(at + 1),
                _ => return false,
            }
        }
        true
    }

    pub(super) fn is_fresh(&self, now: Moment, step: u32) -> bool {
        self.slot(step).is_some_and(|slot| slot.is_fresh(now))
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
            let feed = stretch.feed(grain);
            if feed & SHARED != 0 {
                lost = lost.or(self.read_bits(now, stretch, feed, grain, out));
                continue;
            }
            let Some(step) = feed.checked_sub(1) else {
                // What no request can leave out is 0 beside what is fed.
                if self.unmapped_zero || stretch.is_beside(grain) {
                    out.resize(out.len() + stretch.each, 0);
                    continue;
                }
                out.truncate(begin);
                return Err(refused(Kind::NoSuchAddress, Blame::ClientIdentity));
            };
            let index = index.unwrap_or_default();
            let fit = stretch.fits.get(index).copied().unwrap_or_default();
            let cell =
                stretch.cells.get(index * stretch.each..(index + 1) * stretch.each).unwrap_or_default();
            match self.verdict(now, step, fit) {
                Verdict::Show => match self.health_cell(now, step, grain, stretch.each) {
                    Some(cell) => out.extend_from_slice(&cell),
                    None => out.extend_from_slice(cell),
                },
                Verdict::Fill(word) => out.extend(self.fill_cell(step, word, stretch, grain)),
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

    /// The bytes of a whole space as one frame carries them, all of one moment; never a refusal: a value that is lost shows
    /// as its rule says, and cells that no rule feeds are 0. Whether some value is lost, and that is to be said.
    pub fn produce(&self, now: Moment, extent: Extent, out: &mut Vec<u8>) -> bool {
        let Some(stretch) = self.stretches.get(extent.space.index()) else {
            out.resize(out.len() + extent.count as usize, 0);
            return false;
        };
        // What goes to a device follows the value; that it is lost is told beside it.
        let holds = self.board >= self.plan.images.len();
        let mut lost = false;
        for grain in extent.first..extent.end() {
            let feed = stretch.feed(grain);
            if feed & SHARED != 0 {
                lost |= self.read_bits(now, stretch, feed, grain, out).is_some();
                continue;
            }
            let index = stretch.index(grain).unwrap_or_default();
            let cell = stretch.cells.get(index * stretch.each..(index + 1) * stretch.each);
            let (Some(step), Some(cell)) = (feed.checked_sub(1), cell) else {
                out.resize(out.len() + stretch.each, 0);
                continue;
            };
            let fit = stretch.fits.get(index).copied().unwrap_or_default();
            match self.verdict(now, step, fit) {
                Verdict::Show => match self.health_cell(now, step, grain, stretch.each) {
                    Some(told) => out.extend_from_slice(&told),
                    None => out.extend_from_slice(cell),
                },
                Verdict::Fill(word) => out.extend(self.fill_cell(step, word, stretch, grain)),
                Verdict::Refuse(_) if holds => {
                    lost = true;
                    out.extend_from_slice(cell);
                }
                Verdict::Refuse(_) => {
                    lost = true;
                    out.resize(out.len() + stretch.each, 0);
                }
            }
        }
        lost
    }

    /// One cell of a value that is filled with a word.
    fn fill_cell(&self, step: u32, word: u16, stretch: &Stretch, grain: u32) -> Vec<u8> {
        match self.plan.rule_of(step) {
            Some(rule) => rule.fill_cell(word, stretch.grain, grain),
            None => filled(word, stretch.grain, grain, 1),
        }
    }

    fn verdict(&self, now: Moment, step: u32, fit: Fit) -> Verdict {
        let Some(rule) = self.plan.rule_of(step) else { return Verdict::Refuse(Kind::Lost) };
        if matches!(rule.source, Source::Health(_)) {
            return Verdict::Show;
        }
        if self.is_fresh(now, step) && fit == Fit::Good {
            return Verdict::Show;
        }
        let seen = self.seen(step);
        match (rule.on_loss, seen) {
            (OnLoss::Fill(word), _) => Verdict::Fill(word),
            (OnLoss::Hold, Seen::At(_) | Seen::Lost(Some(_))) if fit != Fit::Blank => Verdict::Show,
            (_, Seen::Never) => Verdict::Refuse(Kind::NeverSeen),
            _ => Verdict::Refuse(Kind::Lost),
        }
    }

    /// A cell that holds bits of several rules; it is lost when one of them is.
    fn read_bits(
        &self,
        now: Moment,
        stretch: &Stretch,
        feed: u32,
        grain: u32,
        out: &mut Vec<u8>,
    ) -> Option<Kind> {
        let begin = out.len();
        let cell =
            stretch.index(grain).and_then(|at| stretch.cells.get(at * stretch.each..(at + 1) * stretch.each));
        out.extend_from_slice(cell.unwrap_or_default());
        let mut lost = None;
        for own in self.bits.get((feed & !SHARED) as usize).into_iter().flatten() {
            let room = out.get_mut(begin..).unwrap_or_default();
            match self.verdict(now, own.step, own.fit) {
                Verdict::Show => {
                    if let Some(on) = self.told_bit(now, own.step) {
                        set_bit(room, own.bit, on);
                    }
                }
                Verdict::Fill(word) => set_bit(room, own.bit, word != 0),
                Verdict::Refuse(kind) => lost = lost.or(Some(kind)),
            }
        }
        lost
    }

    /// A bit that the converter tells; `None` for polled values.
    fn told_bit(&self, now: Moment, step: u32) -> Option<bool> {
        let rule = self.plan.rule_of(step)?;
        let Source::Health(told) = rule.source else { return None };
        let mut on = [0];
        rule.conversion.convert(&self.health.cells(told, now)?, &mut on).ok()?;
        Some(on != [0])
    }

    /// One cell of what the converter tells; `None` for polled values.
    fn health_cell(&self, now: Moment, step: u32, grain: u32, each: usize) -> Option<Vec<u8>> {
        let rule = self.plan.rule_of(step)?;
        let Source::Health(told) = rule.source else { return None };
        let source = self.health.cells(told, now)?;
        let mut value = vec![0; rule.target.width as usize * each];
        rule.conversion.convert(&source, &mut value).ok()?;
        let at = (grain - rule.target.first) as usize * each;
        value.get(at..at + each).map(<[u8]>::to_vec)
    }
}
