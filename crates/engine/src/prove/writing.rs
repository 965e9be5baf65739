//! Rounds of writes: patterns that clients write, on their way back to the device or on to the devices that are carried them.

use super::Progress;
use super::runner::{Runner, count_of, told};
use super::subject::{Feed, Subject};
use super::together::Together;
use crate::moment::nap;
use woodrush_core::form::hex_words;

impl Runner<'_> {
    /// Patterns from the reader to the devices, for rules that can be written.
    pub(super) fn write_rounds(&mut self, progress: &mut dyn FnMut(Progress)) {
        let carried = |subject: &Subject| match subject.feed {
            Feed::Written(..) => subject.patterns.len(),
            _ => 0,
        };
        self.write_once();
        let rounds =
            self.subjects.iter().map(|subject| carried(subject).max(subject.writes.len())).max().unwrap_or(0);
        for round in 0..rounds {
            // Once each value alone, then neighbours together, as clients write them.
            let mut together = if round == 0 { Together::new() } else { self.write_together(round) };
            let (done, of) = (count_of(round * self.subjects.len()), count_of(rounds * self.subjects.len()));
            for at in 0..self.subjects.len() {
                progress(Progress { doing: "values to the devices", done: done + count_of(at), of });
                let Some(subject) = self.subjects.get(at) else { continue };
                let (carries, writes) = (round < carried(subject), round < subject.writes.len());
                let mut left = |back: bool| {
                    let right = together.remove(&(at, back)).unwrap_or_default();
                    (0..subject.count).filter(|item| !right.contains(item)).collect::<Vec<u32>>()
                };
                let (on, back) = (left(false), left(true));
                if carries && self.stands(at, |runner| runner.carry_pattern(at, round, &on)) {
                    self.results.get_mut(at).into_iter().for_each(|result| result.read += 1);
                }
                if writes && self.stands(at, |runner| runner.write_pattern(at, round, &back)) {
                    self.results.get_mut(at).into_iter().for_each(|result| result.written += 1);
                }
            }
        }
    }

    /// Bits that clients write and a register shows together can be read once all of them have been written.
    fn write_once(&mut self) {
        for at in 0..self.subjects.len() {
            let Some(subject) = self.subjects.get(at).filter(|subject| subject.target.bit.is_some()) else {
                continue;
            };
            if let (Feed::Written(image, source), Some(cells)) = (&subject.feed, subject.patterns.first()) {
                let (image, place, cells) = (*image, source.item(0), cells.clone());
                // How it is answered, and what comes of it, is looked at in the rounds.
                let _ = self.enter(at, (image, place), &cells);
            }
        }
    }

    /// Whether a rule that was sound so far still is after one more step.
    fn stands(&mut self, at: usize, mut step: impl FnMut(&mut Self) -> Option<String>) -> bool {
        if self.results.get(at).is_none_or(|result| result.why.is_some()) {
            return false;
        }
        let arrived = self.steadily(|runner| step(runner).map_or(Ok(()), Err));
        if let (Err(why), Some(result)) = (&arrived, self.results.get_mut(at)) {
            result.fail(why.clone());
        }
        arrived.is_ok()
    }

    /// What the source of a rule holds for one value: looked at in the device, or read by a client of the other image.
    pub(super) fn held(&mut self, at: usize, item: u32) -> Option<Vec<u8>> {
        let subject = self.subjects.get(at)?;
        match &subject.feed {
            Feed::Cells(source) => self.rig.peek(subject.device?, source.item(item)),
            Feed::Written(image, source) => {
                let (image, place) = (*image, source.item(item));
                self.read(image, place).ok()
            }
            Feed::Health(_) => None,
        }
    }

    /// Writes a pattern where clients write, and looks for it where the rule carries it.
    fn carry_pattern(&mut self, at: usize, round: usize, items: &[u32]) -> Option<String> {
        let subject = self.subjects.get(at)?;
        let (Feed::Written(image, _), patience) = (&subject.feed, self.patience(subject)) else {
            return None;
        };
        let image = *image;
        for item in items.iter().copied() {
            let subject = self.subjects.get(at)?;
            let cells = subject.patterns.get((round + item as usize) % subject.patterns.len())?.clone();
            if subject.is_open(&cells) {
                continue;
            }
            let (place, target) = (subject.source()?.item(item), subject.target.item(item));
            let wanted = subject.carried(&cells);
            let before = self.see(at, target).ok();
            let result = self.enter(at, (image, place), &cells);
            let written = hex_words(&cells);
            let cyclic = self.exchanges(image);
            let subject = self.subjects.get(at)?;
            let shown = self.show(subject, item);
            match (&wanted, &result) {
                (Some(wanted), Ok(())) => {
                    let begun = self.clock.now();
                    loop {
                        let seen = self.see(at, target);
                        let subject = self.subjects.get(at)?;
                        if seen.as_ref().is_ok_and(|seen| subject.agrees(seen, wanted)) {
                            break;
                        }
                        if self.clock.now().since(begun) > patience {
                            let seen = told(&seen);
                            return Some(format!(
                                "{written} comes to {shown} as {seen}, and {} was expected",
                                hex_words(wanted)
                            ));
                        }
                        nap(1000);
                    }
                    let took = self.clock.now().since(begun);
                    self.results.get_mut(at)?.micros.push(took);
                }
                (Some(_), Err(refusal)) => {
                    return Some(format!(
                        "{written} on its way to {shown} is answered {}",
                        told(&Err(*refusal))
                    ));
                }
                // Nobody is told that it does not fit: it must leave what is there, or show as lost.
                (None, Ok(())) if cyclic => {
                    let why = match self.turns_bad(subject) {
                        true => self.turns_bad_and_good(at, (image, place)),
                        false => self.left_alone(at, target, before.as_ref()),
                    };
                    if let Some(why) = why {
                        return Some(format!("{written} does not fit {shown}, and {why}"));
                    }
                }
                (None, Ok(())) => return Some(format!("{written} is taken, and does not fit {shown}")),
                (None, Err(refusal)) if !subject.is_unfit(refusal) => {
                    return Some(format!("{written} does not fit, and is answered {}", told(&Err(*refusal))));
                }
                (None, Err(_)) => {}
            }
        }
        None
    }

    fn write_pattern(&mut self, at: usize, round: usize, items: &[u32]) -> Option<String> {
        let subject = self.subjects.get(at)?;
        let image = subject.image()?;
        for item in items.iter().copied() {
            let subject = self.subjects.get(at)?;
            let cells = subject.writes.get((round + item as usize) % subject.writes.len())?.clone();
            if subject.is_open(&cells) {
                continue;
            }
            let (wanted, target) = (subject.taken(&cells), subject.target.item(item));
            let before = self.held(at, item);
            let whole = self.whole(at, item, &cells);
            let result = self.write(image, target, whole);
            let mut after = self.held(at, item);
            let subject = self.subjects.get(at)?;
            let shown = self.show(subject, item);
            // Without `confirm` the answer comes before the device has it.
            let until = self.clock.now() + if subject.after_device { 0 } else { self.patience(subject) };
            while let (Some(wanted), Ok(())) = (&wanted, &result)
                && self.clock.now() < until
                && !self.subjects.get(at)?.arrived(after.as_deref().unwrap_or_default(), wanted)
            {
                nap(1000);
                after = self.held(at, item);
            }
            let subject = self.subjects.get(at)?;
            match (&wanted, &result) {
                (Some(wanted), Ok(())) => {
                    let seen = after.unwrap_or_default();
                    if !subject.arrived(&seen, wanted) {
                        return Some(format!(
                            "{} written to {shown} arrives as {}, and {} was expected",
                            hex_words(&cells),
                            hex_words(&seen),
                            hex_words(wanted)
                        ));
                    }
                }
                (Some(_), Err(refusal)) => {
                    return Some(format!(
                        "{} written to {shown} is answered {}",
                        hex_words(&cells),
                        told(&Err(*refusal))
                    ));
                }
                (None, Ok(())) => {
                    return Some(format!(
                        "{} written to {shown} is taken, and does not fit where it goes",
                        hex_words(&cells)
                    ));
                }
                (None, Err(refusal)) if !subject.is_unfit(refusal) || before != after => {
                    return Some(format!(
                        "{} does not fit, and is answered {}",
                        hex_words(&cells),
                        told(&Err(*refusal))
                    ));
                }
                (None, Err(_)) => {}
            }
        }
        None
    }
}
