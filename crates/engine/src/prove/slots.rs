//! Slots that say of all their values at once whether they are any. One that does not fit turns the others bad with it, so
//! such patterns have rounds of their own; and a slot is good once each of its values has come.

use super::Progress;
use super::rounds::is_sound_as;
use super::runner::{Runner, count_of};
use super::subject::{Feed, Subject};
use std::collections::BTreeSet;
use woodrush_core::project::OnLoss;
use woodrush_core::protocol::{Extent, SpaceId};
use woodrush_core::{Kind, Refusal};

/// An image, and one of its slots.
type SlotKey = (usize, SpaceId);

/// What makes a value none.
enum Spoils {
    /// Cells that do not fit.
    Cells(Vec<u8>),
    /// What the device says of it.
    Judge(u8),
}

impl Runner<'_> {
    /// The slot that a rule's values lie in, where it can say that they are bad.
    pub(super) fn slot_of(&self, subject: &Subject) -> Option<SlotKey> {
        let image = subject.image().filter(|image| self.has_slots(*image))?;
        Some((image, subject.target.space))
    }

    /// Whether a rule turns its slot bad where it has no value.
    pub(super) fn turns_bad(&self, subject: &Subject) -> bool {
        subject.on_loss == OnLoss::Refuse && self.slot_of(subject).is_some()
    }

    /// Waits until the slot of a rule is bad for what a controller sent; then it sends what fits, for all of the slot.
    pub(super) fn turns_bad_and_good(
        &mut self,
        at: usize,
        (image, place): (usize, Extent),
    ) -> Option<String> {
        let why = self.wait_for(at, self.clock.now(), 0, |_, seen| is_bad(seen));
        let (cells, _) = self.plain_pattern(at, 0)?;
        let _ = self.enter(at, (image, place), &cells);
        why.or_else(|| self.wait_for(at, self.clock.now(), 0, |_, seen| seen.is_ok()))
    }

    /// Why a value that should be held or filled is not there: another one of its slot may have turned it bad.
    pub(super) fn with_its_slot(&self, at: usize, why: String) -> String {
        let beside = self.subjects.get(at).filter(|subject| subject.on_loss != OnLoss::Refuse);
        match beside.and_then(|subject| self.slot_of(subject)) {
            Some(_) => format!("{why}: another value of its slot is refused, and all of it is bad (M50)"),
            None => why,
        }
    }

    /// Patterns that turn a slot bad are set aside for rounds of their own.
    pub(super) fn part_patterns(&mut self) {
        for at in 0..self.subjects.len() {
            let read = |subject: &&Subject| matches!(subject.feed, Feed::Cells(_));
            let turns = self.subjects.get(at).filter(read).is_some_and(|subject| self.turns_bad(subject));
            let Some(subject) = self.subjects.get_mut(at).filter(|_| turns) else { continue };
            let all = std::mem::take(&mut subject.patterns);
            let (fit, unfit) = all.into_iter().partition(|cells| subject.carried(cells).is_some());
            (subject.patterns, subject.unfit) = (fit, unfit);
        }
    }

    /// Writes what clients write into slots: before that these have no value, and are bad.
    pub(super) fn fill_slots(&mut self) {
        for at in 0..self.subjects.len() {
            let Some(subject) = self.subjects.get(at) else { continue };
            let (Feed::Written(image, source), Some(_)) = (&subject.feed, self.slot_of(subject)) else {
                continue;
            };
            let Some(cells) = subject.patterns.iter().find(|cells| subject.carried(cells).is_some()) else {
                continue;
            };
            let (image, cells) = (*image, cells.clone());
            let places: Vec<_> = (0..subject.count).map(|item| source.item(item)).collect();
            for place in places {
                // How it is answered, and what comes of it, is looked at in the rounds.
                let _ = self.enter(at, (image, place), &cells);
            }
        }
    }

    /// What makes a rule's value none, one after the other.
    fn spoils(&self, subject: &Subject) -> Vec<Spoils> {
        let (Feed::Cells(source), Some(device), true) =
            (&subject.feed, subject.device, self.turns_bad(subject))
        else {
            return vec![];
        };
        let cells = subject.unfit.iter().cloned().map(Spoils::Cells);
        let says = source.judge().map_or(&[][..], |_| source.judge_patterns()).iter().copied();
        let says = says.filter(|says| !is_sound_as(self.checked, device, source, *says)).map(Spoils::Judge);
        cells.chain(says).collect()
    }

    /// Values that do not fit, and those that their device calls none: the controller must be told that the slot is bad, and get
    /// all of its values again afterwards.
    pub(super) fn bad_slots(&mut self, progress: &mut dyn FnMut(Progress)) {
        let all: Vec<Vec<Spoils>> = self.subjects.iter().map(|subject| self.spoils(subject)).collect();
        let rounds = all.iter().map(Vec::len).max().unwrap_or(0);
        for round in 0..rounds {
            progress(Progress {
                doing: "values that do not fit",
                done: count_of(round),
                of: count_of(rounds),
            });
            let (mut bad, mut spoilt) = (BTreeSet::new(), vec![]);
            for (at, spoils) in all.iter().enumerate() {
                let (Some(subject), Some(spoils)) = (self.subjects.get(at), spoils.get(round)) else {
                    continue;
                };
                let (Feed::Cells(source), Some(device)) = (&subject.feed, subject.device) else { continue };
                match spoils {
                    Spoils::Cells(cells) => self.poke(device, source, 0, cells),
                    Spoils::Judge(says) => {
                        source.judge().into_iter().for_each(|judge| self.rig.poke(device, judge, &[*says]));
                    }
                }
                bad.extend(self.slot_of(subject));
                spoilt.push(at);
            }
            let hit: Vec<usize> = (0..self.subjects.len())
                .filter(|at| {
                    let slot = self.subjects.get(*at).and_then(|subject| self.slot_of(subject));
                    slot.is_some_and(|slot| bad.contains(&slot)) && !self.is_wrong(*at)
                })
                .collect();
            let since = self.clock.now();
            for at in &hit {
                let why = self.wait_for(*at, since, 0, |_, seen| is_bad(seen));
                self.note(*at, why, "once a value of its slot did not fit");
            }
            self.subjects.iter().for_each(|subject| self.put(subject, 0));
            let since = self.clock.now();
            for at in hit {
                let why = self.wait_for(at, since, 0, |_, seen| seen.is_ok());
                self.note(at, why, "once all values of its slot fitted again");
            }
            for at in spoilt {
                let stands = !self.is_wrong(at);
                self.results.get_mut(at).filter(|_| stands).into_iter().for_each(|result| result.read += 1);
            }
        }
    }
}

/// Whether the other end was told that it is bad.
fn is_bad(seen: &Result<Vec<u8>, Refusal>) -> bool {
    matches!(seen, Err(refusal) if refusal.kind == Kind::Unsound)
}
