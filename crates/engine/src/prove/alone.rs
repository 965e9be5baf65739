//! One device alone falls silent, and what another one is sent then: with the whole line cut nobody could tell it.

use super::Progress;
use super::refusals::whole_word;
use super::runner::{Runner, count_of, told};
use super::subject::{Feed, Subject};
use crate::Moment;
use crate::moment::nap;
use std::collections::BTreeSet;
use woodrush_core::project::{Health, HealthItem, OnLoss, Owner};

/// How long after the age nothing may have been sent that the rule does not say, in microseconds.
const LONGER: u64 = 500_000;

impl Subject {
    /// The device that it depends on and the other one that it is sent to.
    fn between(&self) -> Option<(usize, usize)> {
        let Owner::Device(to) = self.to else { return None };
        let tells = match self.feed {
            Feed::Cells(_) => true,
            Feed::Health(told) => matches!(told, HealthItem::Device(_, Health::Online)),
            Feed::Written(..) => false,
        };
        self.device.filter(|from| tells && *from != to).map(|from| (from, to))
    }
}

impl Runner<'_> {
    /// Lets the sources of such rules fall silent, and speak again.
    pub(super) fn loss_of_one(&mut self, progress: &mut dyn FnMut(Progress)) {
        let ways = self.subjects.iter().filter_map(Subject::between);
        let ways: Vec<(usize, usize)> = ways.filter(|ends| self.are_apart(*ends)).collect();
        let sinks: BTreeSet<usize> = ways.iter().map(|(_, to)| *to).collect();
        // Those that nobody sends anything can fall silent together; who is sent something, alone.
        let (both, only): (BTreeSet<usize>, BTreeSet<usize>) =
            ways.iter().map(|(from, _)| *from).partition(|from| sinks.contains(from));
        let mut rounds: Vec<BTreeSet<usize>> =
            both.into_iter().map(|device| BTreeSet::from([device])).collect();
        rounds.extend(Some(only).filter(|only| !only.is_empty()));
        let of = count_of(rounds.len());
        for (at, devices) in rounds.iter().enumerate() {
            progress(Progress { doing: "devices that stop answering one by one", done: count_of(at), of });
            self.silence(devices);
        }
    }

    /// Whether one of them can fall silent without the other: nodes of one box cannot.
    fn are_apart(&self, (from, to): (usize, usize)) -> bool {
        self.checked.plan.host(from) != self.checked.plan.host(to)
    }

    fn silence(&mut self, devices: &BTreeSet<usize>) {
        let hit: Vec<usize> = (0..self.subjects.len())
            .filter(|at| {
                let between = self.subjects.get(*at).and_then(Subject::between);
                !self.is_wrong(*at)
                    && between.is_some_and(|ends| devices.contains(&ends.0) && self.are_apart(ends))
            })
            .collect();
        let before: Vec<Option<Vec<u8>>> = hit.iter().map(|at| self.look(*at).ok()).collect();
        devices.iter().for_each(|device| self.rig.mute(*device, true));
        let since = self.clock.now();
        for (at, before) in hit.iter().zip(&before) {
            let why = match self.subjects.get(*at).map(|subject| (&subject.feed, subject.on_loss)) {
                Some((Feed::Cells(_), OnLoss::Stop | OnLoss::Hold)) => {
                    self.stays(*at, since, before.as_ref())
                }
                _ => self.wait_for(*at, since, self.until_asked(*at, 0), |subject, seen| {
                    seen.as_ref().is_ok_and(|cells| match (&subject.feed, subject.on_loss) {
                        (Feed::Cells(_), OnLoss::Fill(word)) => whole_word(subject, cells, word),
                        _ => subject.target.own(cells).iter().all(|byte| *byte == 0),
                    })
                }),
            };
            self.note(*at, why, "after its source stopped answering");
        }
        devices.iter().for_each(|device| self.rig.mute(*device, false));
        let mended = self.clock.now();
        for at in hit {
            let wanted = self.subjects.get(at).and_then(|subject| match &subject.feed {
                Feed::Cells(source) => subject.shown(&self.rig.peek(subject.device?, source.item(0))?),
                Feed::Written(..) | Feed::Health(_) => None,
            });
            let until_asked = self.until_asked(at, mended.since(since));
            let why = self.wait_for(at, mended, until_asked, |subject, seen| {
                seen.as_ref().is_ok_and(|cells| match (&subject.feed, &wanted) {
                    (Feed::Cells(_), Some(wanted)) => subject.agrees(cells, wanted),
                    (Feed::Cells(_), None) => true,
                    _ => subject.target.own(cells).last() == Some(&1),
                })
            });
            self.note(at, why, "after its source spoke again");
        }
    }

    /// Waits until the value is too old, and says what was sent all the same.
    fn stays(&mut self, at: usize, since: Moment, before: Option<&Vec<u8>>) -> Option<String> {
        let map = self.subjects.get(at)?.map;
        let rule = self.checked.plan.rules.iter().find(|rule| rule.map == map)?;
        let until = since + rule.max_age.min(3_600_000_000) + LONGER;
        nap(until.since(self.clock.now()));
        let seen = self.look(at);
        let subject = self.subjects.get(at)?;
        (seen.as_ref().ok() != before).then(|| format!("{} answers {}", self.show(subject, 0), told(&seen)))
    }
}
