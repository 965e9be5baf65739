//! What must be refused, and what a reader gets while a cable is cut and after it is mended.

use super::Progress;
use super::runner::{GRACE, Runner, count_of, told};
use super::subject::{Feed, Subject};
use crate::Moment;
use crate::line::PROBE_PAUSE;
use crate::moment::nap;
use crate::speak::answers;
use woodrush_core::project::{Health, HealthItem, OnLoss};
use woodrush_core::protocol::Extent;
use woodrush_core::{Kind, Refusal};

impl Runner<'_> {
    /// What must be refused: writes to read-only cells, and addresses that no rule feeds.
    pub(super) fn guarded(&mut self, progress: &mut dyn FnMut(Progress)) {
        let of = count_of(self.subjects.len());
        for at in 0..self.subjects.len() {
            progress(Progress { doing: "what must be refused", done: count_of(at), of });
            self.read_only(at);
        }
        let mut beside: Vec<(usize, Extent)> = vec![];
        for subject in &self.subjects {
            let Some(image) = subject.image() else { continue };
            let end = subject.target.item(subject.count.saturating_sub(1));
            beside.push((image, Extent { space: end.space, first: end.end(), count: 1 }));
            let before = subject.target.first.checked_sub(1);
            beside.extend(before.map(|first| (image, Extent { space: end.space, first, count: 1 })));
        }
        // What can only be asked for together is one.
        for (image, extent) in &mut beside {
            let space = self.checked.plan.images.get(*image).and_then(|image| image.space_at(extent.space));
            let step = space.map_or(1, |space| u32::from(space.align.max(1)));
            (extent.first, extent.count) = (extent.first / step * step, step);
        }
        beside.sort_unstable();
        beside.dedup();
        beside.retain(|(image, extent)| {
            let covers = |subject: &Subject| {
                let (first, last) =
                    (subject.target.first, subject.target.item(subject.count.saturating_sub(1)).end());
                let shown = subject.image() == Some(*image)
                    && subject.target.space == extent.space
                    && first < extent.end()
                    && extent.first < last;
                // Cells that clients write exist too.
                let written = matches!(&subject.feed, Feed::Written(own, end) if own == image
                    && end.space == extent.space
                    && end.first < extent.end()
                    && extent.first < end.item(subject.count.saturating_sub(1)).end());
                shown || written
            };
            let station = self.checked.plan.images.get(*image);
            let len = station.and_then(|station| station.space_at(extent.space)).and_then(|space| space.len);
            !self.subjects.iter().any(covers) && len.is_none_or(|len| extent.end() <= len)
        });
        let mut right = 0;
        let (in_cycles, beside): (Vec<_>, Vec<_>) =
            beside.into_iter().partition(|(image, _)| self.exchanges(*image));
        self.zero_beside(&in_cycles);
        for (image, extent) in &beside {
            let zero = self.checked.project.images.get(*image).is_some_and(|image| image.unmapped_zero);
            let result = self.read(*image, *extent);
            let good = match &result {
                Ok(cells) => zero && cells.iter().all(|byte| *byte == 0),
                Err(refusal) => !zero && answers(refusal, Kind::NoSuchAddress),
            };
            if good {
                right += 1;
            } else if let Some(station) = self.checked.plan.images.get(*image) {
                let shown = station.show(extent.space, extent.first, None);
                self.others.push((format!("{shown}, which no rule feeds, answers {}", told(&result)), false));
            }
        }
        if !beside.is_empty() {
            self.others.push((
                format!("unmapped addresses next to mapped ones: {right} of {} refused", beside.len()),
                right == beside.len(),
            ));
        }
    }

    fn read_only(&mut self, at: usize) -> Option<()> {
        let subject = self.subjects.get(at)?;
        let (image, target) = (subject.image()?, subject.target.item(0));
        let space_writable = self.checked.plan.images.get(image)?.space_at(target.space)?.writable;
        if subject.writable || !space_writable || self.exchanges(image) {
            return Some(());
        }
        let place = match &subject.feed {
            Feed::Cells(source) => subject.device.map(|device| (device, source.item(0))),
            Feed::Written(..) | Feed::Health(_) => None,
        };
        let before = place.and_then(|(device, place)| self.rig.peek(device, place));
        let cells = vec![0; subject.target.bytes()];
        let result = self.write(image, target, cells);
        let after = place.and_then(|(device, place)| self.rig.peek(device, place));
        let good = matches!(&result, Err(refusal) if answers(refusal, Kind::ReadOnly)) && before == after;
        if !good {
            let shown = self.subjects.get(at).map(|subject| self.show(subject, 0))?;
            let told = result
                .err()
                .map_or_else(|| "is taken".into(), |refusal| format!("is answered {}", told(&Err(refusal))));
            self.results.get_mut(at)?.fail(format!("a write to {shown}, which is read-only, {told}"));
        }
        Some(())
    }

    /// Cuts every line, looks at what the reader gets, mends it, and waits for new values.
    pub(super) fn loss(&mut self, progress: &mut dyn FnMut(Progress)) {
        let doing = "a cut cable, and its repair";
        let of = count_of(2 * self.subjects.len());
        progress(Progress { doing, done: 0, of });
        // Sound values of the first pattern, so that what is held or refused is known.
        self.read_round(0);
        let before: Vec<Option<Vec<u8>>> = (0..self.subjects.len()).map(|at| self.look(at).ok()).collect();
        self.rig.cut_devices(true);
        let cut = self.clock.now();
        for at in 0..self.subjects.len() {
            progress(Progress { doing, done: count_of(at), of });
            if self.is_wrong(at) {
                continue;
            }
            let why = match self.written_while_cut(at) {
                Some(why) => why,
                None => self.wait_for(at, cut, self.until_asked(at, 0), |subject, seen| {
                    lost_rightly(subject, seen, before.get(at).and_then(Option::as_ref))
                }),
            };
            let why = why.map(|why| self.with_its_slot(at, why));
            self.note(at, why, "after the cut");
        }
        self.rig.cut_devices(false);
        for subject in &self.subjects {
            self.put(subject, 1);
        }
        let mended = self.clock.now();
        for at in 0..self.subjects.len() {
            progress(Progress { doing, done: count_of(self.subjects.len() + at), of });
            if self.is_wrong(at) {
                continue;
            }
            let wanted = self.subjects.get(at).and_then(|subject| match &subject.feed {
                Feed::Cells(source) => {
                    let cells = self.rig.peek(subject.device?, source.item(0))?;
                    Some(subject.shown(&cells))
                }
                Feed::Written(..) | Feed::Health(_) => None,
            });
            if self.subjects.get(at).is_some_and(|subject| matches!(subject.feed, Feed::Written(..))) {
                let why = self.written_after_the_mend(at, mended);
                self.note(at, why, "after the repair");
                continue;
            }
            let until_asked = self.until_asked(at, mended.since(cut));
            let why = self.wait_for(at, mended, until_asked, |subject, seen| {
                match (&subject.feed, &wanted, seen) {
                    (Feed::Health(HealthItem::Device(_, Health::Online)), _, Ok(cells)) => {
                        subject.target.own(cells).last() == Some(&1)
                    }
                    (Feed::Health(_), _, Ok(_)) => true,
                    (_, Some(Some(wanted)), Ok(cells)) => subject.agrees(cells, wanted),
                    (_, Some(None), seen) => seen.is_err() || subject.on_loss != OnLoss::Refuse,
                    _ => false,
                }
            });
            self.note(at, why, "after the repair");
        }
    }

    /// A client's write while the cable is cut: a device that must take it refuses it, and nothing else does. Nothing
    /// for rules that no client writes.
    fn written_while_cut(&mut self, at: usize) -> Option<Option<String>> {
        let subject = self.subjects.get(at)?;
        let Feed::Written(image, source) = &subject.feed else { return None };
        let (image, place, cells) = (*image, source.item(0), subject.patterns.get(1)?.clone());
        // A controller that exchanges is answered nothing.
        let waits = !self.exchanges(image)
            && subject.image().is_none()
            && subject.after_device
            && !subject.again
            && subject.carried(&cells).is_some();
        let result = self.enter(at, (image, place), &cells);
        // No answer on its line, or no connection to ask on.
        let lost = matches!(&result, Err(refusal)
            if answers(refusal, Kind::NoAnswer) || answers(refusal, Kind::NoPath));
        let shown = self.subjects.get(at).map(|subject| self.show(subject, 0))?;
        let right = if waits { lost } else { result.is_ok() || lost };
        let seen = result.map_or_else(|refusal| told(&Err(refusal)), |()| "taken".into());
        Some((!right).then(|| format!("a write on its way to {shown} is answered {seen}")))
    }

    /// The same once the cable is mended: it must be taken, and arrive.
    fn written_after_the_mend(&mut self, at: usize, mended: Moment) -> Option<String> {
        let subject = self.subjects.get(at)?;
        let Feed::Written(image, source) = &subject.feed else { return None };
        let (image, place, cells) = (*image, source.item(0), subject.patterns.get(1)?.clone());
        let (wanted, patience) = (subject.carried(&cells)?, self.patience(subject) + 10_000_000);
        loop {
            let result = self.enter(at, (image, place), &cells);
            let seen = self.look(at);
            let subject = self.subjects.get(at)?;
            if result.is_ok() && seen.as_ref().is_ok_and(|seen| subject.agrees(seen, &wanted)) {
                return None;
            }
            if self.clock.now().since(mended) > patience {
                let answer = result.map_or_else(|refusal| told(&Err(refusal)), |()| told(&seen));
                return Some(format!("a write on its way to {} is answered {answer}", self.show(subject, 0)));
            }
            nap(20_000);
        }
    }

    /// Whether a rule is known to be wrong: it is not waited for any more, and costs the others no time.
    pub(super) fn is_wrong(&self, at: usize) -> bool {
        self.results.get(at).is_some_and(|result| result.why.is_some())
    }

    pub(super) fn note(&mut self, at: usize, why: Option<String>, when: &str) {
        if let (Some(why), Some(result)) = (why, self.results.get_mut(at)) {
            result.fail(format!("{when} {why}"));
        }
    }

    /// The first value of a rule as the reader sees it.
    pub(super) fn look(&mut self, at: usize) -> Result<Vec<u8>, Refusal> {
        let gone = Refusal::new(Kind::NoPath, woodrush_core::Blame::Us);
        let extent = self.subjects.get(at).map(|subject| subject.target.item(0)).ok_or(gone)?;
        self.see(at, extent)
    }

    /// How long a device may wait for its next request after a cut of so long, in microseconds: waits double, so the
    /// last is at most as long as the cut was and the first wait more; and the line rests after each probe, the one under
    /// way at the repair among them.
    pub(super) fn until_asked(&self, at: usize, cut: u64) -> u64 {
        let device = self.subjects.get(at).and_then(|subject| subject.device);
        let Some(own) = device.and_then(|device| self.checked.project.devices.get(device)) else { return 0 };
        let wait = own.retry.most.min(cut + own.retry.first);
        let silent =
            own.port.and_then(|port| self.checked.plan.unanswered.get(port.value)).copied().unwrap_or(0);
        silent + wait.max(silent * PROBE_PAUSE)
    }

    /// Waits for what is right at a rule's reader, at most its patience and `more` microseconds. What was there instead,
    /// where it does not come.
    pub(super) fn wait_for(
        &mut self,
        at: usize,
        since: Moment,
        more: u64,
        right: impl Fn(&Subject, &Result<Vec<u8>, Refusal>) -> bool,
    ) -> Option<String> {
        let patience = self.subjects.get(at).map_or(0, |subject| self.patience(subject)) + more;
        // Others may have been waited for before.
        let until = (since + patience).max(self.clock.now() + GRACE);
        loop {
            let seen = self.look(at);
            let subject = self.subjects.get(at)?;
            if right(subject, &seen) {
                return None;
            }
            if self.clock.now() > until {
                return Some(format!("{} answers {}", self.show(subject, 0), told(&seen)));
            }
            nap(2000);
        }
    }
}

/// Whether a reader gets what the rule says once the source is lost.
fn lost_rightly(subject: &Subject, seen: &Result<Vec<u8>, Refusal>, before: Option<&Vec<u8>>) -> bool {
    match (&subject.feed, subject.on_loss, seen) {
        (Feed::Health(HealthItem::Device(_, Health::Online)), _, Ok(cells)) if subject.image().is_some() => {
            subject.target.own(cells).iter().all(|byte| *byte == 0)
        }
        // The line of the device that would be told is cut with the others.
        (_, OnLoss::Stop | OnLoss::Hold, seen) if subject.image().is_none() => seen.as_ref().ok() == before,
        (Feed::Cells(_), OnLoss::Fill(_), seen) if subject.image().is_none() => seen.as_ref().ok() == before,
        (Feed::Health(_), _, seen) => seen.is_ok(),
        (_, OnLoss::Refuse, Err(refusal)) => answers(refusal, Kind::Lost) || refusal.kind == Kind::Unsound,
        (_, OnLoss::Hold, seen) => seen.as_ref().ok() == before,
        (_, OnLoss::Fill(word), Ok(cells)) => whole_word(subject, cells, word),
        _ => false,
    }
}

/// Whether cells hold nothing but the word of a `fill`.
pub(super) fn whole_word(subject: &Subject, cells: &[u8], word: u16) -> bool {
    match subject.target.each {
        _ if subject.target.bits => cells.iter().all(|bit| *bit == u8::from(word != 0)),
        _ if subject.target.bit.is_some() => subject.target.own(cells) == [u8::from(word != 0)],
        // A value of one byte has room for the lower half.
        1 if subject.target.width == 1 => cells.iter().all(|byte| *byte == word.to_be_bytes()[1]),
        1 if subject.target.lay.low_byte_first() => cells.chunks(2).all(|cell| cell == word.to_le_bytes()),
        _ => cells.chunks(2).all(|cell| cell == word.to_be_bytes()),
    }
}
