//! Rounds of patterns from the devices to the reader: all rules at once, and what did not come as it should.

use super::Progress;
use super::refusals::whole_word;
use super::runner::{LOST, Runner, count_of, told};
use super::subject::{End, Feed, Subject};
use crate::moment::nap;
use crate::speak::answers;
use woodrush_core::Kind;
use woodrush_core::check::Checked;
use woodrush_core::form::hex_words;
use woodrush_core::project::OnLoss;
use woodrush_core::protocol::{Extent, Verb};

/// One value that a round waits for.
struct Awaited {
    item: u32,
    wanted: Wanted,
}

/// What the reader must get.
enum Wanted {
    Cells(Vec<u8>),
    /// The word of a `fill`, because the value does not fit.
    Fill(u16),
    /// A refusal as lost, because the value does not fit.
    Refused,
}

impl Wanted {
    fn shown(&self) -> String {
        match self {
            Self::Cells(cells) => hex_words(cells),
            Self::Fill(word) => format!("{word:04X} over and over"),
            Self::Refused => "a refusal as lost".into(),
        }
    }
}

impl Runner<'_> {
    /// Rounds of patterns from the devices to the reader.
    pub(super) fn read_rounds(&mut self, progress: &mut dyn FnMut(Progress)) {
        let rounds = self.subjects.iter().map(|subject| subject.patterns.len()).max().unwrap_or(0);
        for round in 0..rounds {
            progress(Progress {
                doing: "values from the devices",
                done: count_of(round),
                of: count_of(rounds),
            });
            self.read_round(round);
        }
    }

    pub(super) fn read_round(&mut self, round: usize) {
        for subject in &self.subjects {
            self.put(subject, round);
        }
        let changed = self.clock.now();
        let mut open: Vec<(usize, Vec<Awaited>)> = vec![];
        for (at, subject) in self.subjects.iter().enumerate() {
            let done = round >= subject.patterns.len().max(1)
                || self.results.get(at).is_none_or(|result| result.why.is_some());
            if let (false, Feed::Cells(source), Some(device)) = (done, &subject.feed, subject.device) {
                let to_image = subject.image().is_some();
                let awaited = (0..subject.count).filter_map(|item| {
                    let cells = self.rig.peek(device, source.item(item)).unwrap_or_default();
                    let shown = subject.shown(&cells).filter(|_| self.is_sound(device, source));
                    let wanted = match (shown, subject.on_loss) {
                        (Some(cells), _) => Wanted::Cells(cells),
                        // What does not fit is not sent to a device, where it would not be seen.
                        (None, _) if !to_image => return None,
                        (None, OnLoss::Fill(word)) => Wanted::Fill(word),
                        (None, OnLoss::Hold) if self.in_cycles(subject) => {
                            // Before the first value there is nothing to hold, and a block has room for it.
                            let none = vec![0; subject.target.own_bytes()];
                            Wanted::Cells(self.last.get(&(at, item)).cloned().unwrap_or(none))
                        }
                        (None, OnLoss::Hold) => {
                            self.last.get(&(at, item)).cloned().map_or(Wanted::Refused, Wanted::Cells)
                        }
                        (None, _) => Wanted::Refused,
                    };
                    Some(Awaited { item, wanted })
                });
                open.push((at, awaited.collect()));
            }
        }
        let deadline = open
            .iter()
            .filter_map(|(at, _)| self.subjects.get(*at))
            .map(|subject| self.patience(subject))
            .max();
        let patience = deadline.unwrap_or(0);
        let deadline = changed + patience;
        while !open.is_empty() {
            let now = self.clock.now();
            // A device that was not heard in time is asked again a little later.
            let late = now > deadline && (now > deadline + LOST || !self.is_one_lost());
            let mut still = vec![];
            for (at, awaited) in open {
                match self.missing(at, &awaited) {
                    None => {
                        for value in awaited {
                            if let Wanted::Cells(cells) = value.wanted {
                                self.last.insert((at, value.item), cells);
                            }
                        }
                        let took = self.clock.now().since(changed);
                        if let Some(result) = self.results.get_mut(at) {
                            result.read += 1;
                            result.micros.push(took);
                        }
                    }
                    Some(why) if late => {
                        if let Some(result) = self.results.get_mut(at) {
                            result.fail(why);
                        }
                    }
                    Some(_) => still.push((at, awaited)),
                }
            }
            open = still;
            if !open.is_empty() {
                nap(1000);
            }
        }
    }

    /// Puts a round's pattern into the source of a rule, another one into each value.
    pub(super) fn put(&self, subject: &Subject, round: usize) {
        let (Feed::Cells(source), Some(device)) = (&subject.feed, subject.device) else { return };
        let mut judges = source.judge_patterns().iter();
        // One that its device calls none turns a slot bad: that has a round of its own.
        let says = match self.turns_bad(subject) {
            true => judges.find(|says| is_sound_as(self.checked, device, source, **says)),
            false => judges.nth(round),
        };
        if let Some((judge, says)) = source.judge().zip(says) {
            self.rig.poke(device, judge, &[*says]);
        }
        for item in 0..subject.count {
            let Some(cells) = subject.patterns.get((round + item as usize) % subject.patterns.len().max(1))
            else {
                continue;
            };
            self.poke(device, source, item, cells);
        }
    }

    /// Whether a device itself calls its value one.
    fn is_sound(&self, device: usize, source: &End) -> bool {
        let Some(judge) = source.judge().and_then(|judge| self.rig.peek(device, judge)) else { return true };
        is_sound_as(self.checked, device, source, judge.first().copied().unwrap_or_default())
    }

    pub(super) fn poke(&self, device: usize, source: &End, item: u32, cells: &[u8]) {
        let extent = source.item(item);
        match source.bit {
            None => self.rig.poke(device, extent, cells),
            Some(bit) => {
                let word = self.rig.peek(device, extent).unwrap_or_default();
                let word = word.iter().fold(0u64, |sum, byte| sum << 8 | u64::from(*byte));
                let on = u64::from(cells.first().is_some_and(|cell| *cell != 0));
                let word = word & !(1 << bit) | on << bit;
                let bytes = word.to_be_bytes();
                self.rig.poke(device, extent, bytes.get(8 - source.each..).unwrap_or_default());
            }
        }
    }

    /// What is not as it should be at the reader, in words; `None` when all of it is.
    fn missing(&mut self, at: usize, awaited: &[Awaited]) -> Option<String> {
        let (space, each) = {
            let subject = self.subjects.get(at)?;
            (subject.target.space, subject.target.bytes())
        };
        // Runs of values that must be there are read in as few requests as the protocol allows.
        let most = self.most_items(at);
        let mut index = 0;
        while index < awaited.len() {
            let run = awaited
                .get(index..)?
                .iter()
                .take(most)
                .take_while(|value| matches!(value.wanted, Wanted::Cells(_)))
                .count()
                .max(1);
            let values = awaited.get(index..index + run)?;
            let subject = self.subjects.get(at)?;
            let first = subject.target.item(values.first()?.item);
            let extent = Extent { space, first: first.first, count: first.count * count_of(run) };
            let result = self.see(at, extent);
            let subject = self.subjects.get(at)?;
            match (&result, values) {
                (Ok(cells), values) => {
                    for (value, seen) in values.iter().zip(cells.chunks(each)) {
                        let good = match &value.wanted {
                            Wanted::Cells(wanted) => subject.agrees(seen, wanted),
                            Wanted::Fill(word) => whole_word(subject, seen, *word),
                            Wanted::Refused => false,
                        };
                        if !good {
                            let why = match value.wanted {
                                Wanted::Cells(_) => "",
                                Wanted::Fill(_) | Wanted::Refused => ": the value does not fit",
                            };
                            return Some(format!(
                                "{} shows {}, and {} was expected{why}",
                                self.show(subject, value.item),
                                hex_words(seen),
                                value.wanted.shown()
                            ));
                        }
                    }
                }
                (Err(refusal), [Awaited { wanted: Wanted::Refused, .. }]) if answers(refusal, Kind::Lost) => {
                }
                (Err(_), [value, ..]) => {
                    return Some(format!(
                        "{} answers {}, and {} was expected",
                        self.show(subject, value.item),
                        told(&result),
                        value.wanted.shown()
                    ));
                }
                (Err(_), []) => {}
            }
            index += run;
        }
        None
    }

    /// Values of a rule that one request of the reader takes.
    fn most_items(&self, at: usize) -> usize {
        let Some(subject) = self.subjects.get(at) else { return 1 };
        let station = subject.image().and_then(|image| self.checked.plan.images.get(image));
        let space = station.and_then(|station| station.space_at(subject.target.space));
        let Some(((station, dialect), space)) = station.and_then(|s| Some((s, s.dialect?))).zip(space) else {
            return 1;
        };
        let fits = |items: u32| {
            dialect.cost(Verb::Read, space, items * subject.target.width, &station.setup).is_ok()
        };
        let mut most = 1;
        while most < subject.count && fits(most + 1) {
            most += 1;
        }
        most as usize
    }
}

/// Whether what a device says of a value in its source means that it is one.
pub(super) fn is_sound_as(checked: &Checked, device: usize, source: &End, says: u8) -> bool {
    let station = checked.plan.devices.get(device);
    let setup = station.map(|station| station.setup.clone()).unwrap_or_default();
    source.dialect.is_none_or(|own| own.notation().meanings().is_sound(says, &setup))
}
