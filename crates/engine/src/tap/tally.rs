//! What passed, counted: by station and by kind, and how long answers took.

use super::{Meaning, Passed};
use crate::speak::AnswerMeaning;
use serde::Serialize;
use std::collections::BTreeMap;
use woodrush_core::protocol::{refusal_health, refusal_shown};

/// Upper ends of the classes of answer times, in microseconds; one more class has the rest.
pub const CLASSES: [u64; 15] = [
    100, 200, 500, 1_000, 2_000, 5_000, 10_000, 20_000, 50_000, 100_000, 200_000, 500_000, 1_000_000,
    2_000_000, 5_000_000,
];

/// How long answers took.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Times {
    /// Answers by class of [`CLASSES`].
    pub classes: [u64; CLASSES.len() + 1],
    /// The fastest, in microseconds.
    pub min_us: Option<u64>,
    /// The slowest.
    pub max_us: u64,
}

impl Times {
    fn count(&mut self, took: u64) {
        let at = CLASSES.partition_point(|end| *end < took);
        self.classes.get_mut(at).into_iter().for_each(|count| *count += 1);
        self.min_us = Some(self.min_us.map_or(took, |least| least.min(took)));
        self.max_us = self.max_us.max(took);
    }

    /// The time within which such a share of the answers came, to the end of its class.
    #[must_use]
    pub fn within(&self, percent: u64) -> Option<u64> {
        let all: u64 = self.classes.iter().sum();
        let mut sum = 0;
        let at = self.classes.iter().position(|count| {
            sum += count;
            sum > 0 && sum * 100 >= all * percent
        })?;
        Some(CLASSES.get(at).copied().unwrap_or(self.max_us).min(self.max_us))
    }

    fn plus(&mut self, other: &Self) {
        for (own, more) in self.classes.iter_mut().zip(&other.classes) {
            *own += more;
        }
        self.min_us = self.min_us.into_iter().chain(other.min_us).min();
        self.max_us = self.max_us.max(other.max_us);
    }
}

/// What passed, of one station or of a whole port.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Counted {
    /// Requests, those that were sent again with them.
    pub requests: u64,
    /// Of those, the ones that were asked before and not answered.
    pub again: u64,
    /// Good answers.
    pub answers: u64,
    /// Values that came by themselves.
    pub published: u64,
    /// Refusals, by the station's own number as `health.last-error` shows it, with the words.
    pub refusals: BTreeMap<u32, (u64, String)>,
    /// Requests that nobody answered.
    pub no_answer: u64,
    /// Answers that do not fit their request, or answer nothing that is open.
    pub mismatched: u64,
    /// Bytes that are no message.
    pub damaged: u64,
    /// Signs of the link that tell of a failure.
    pub signs: u64,
    /// All bytes, framing with them.
    pub bytes: u64,
    /// How long answers took.
    pub times: Times,
}

impl Counted {
    /// Counts one message.
    pub fn count(&mut self, passed: &Passed) {
        self.bytes += passed.bytes.len() as u64;
        match &passed.what {
            Meaning::Request { again, .. } => {
                self.requests += 1;
                self.again += u64::from(*again);
            }
            Meaning::Answer { told, took, .. } => {
                match told {
                    AnswerMeaning::Good(_) | AnswerMeaning::Words(_) => self.answers += 1,
                    AnswerMeaning::Refused(native) => self.refused(*native),
                    // Each message counts once: as what went wrong first in it.
                    AnswerMeaning::Partly(told) => {
                        told.iter()
                            .find_map(|told| told.as_ref().err())
                            .into_iter()
                            .for_each(|native| self.refused(*native));
                    }
                    AnswerMeaning::Unfitting(_) => self.mismatched += 1,
                }
                self.times.count(*took);
            }
            Meaning::Published(_) | Meaning::Cycle { .. } => self.published += 1,
            Meaning::Silence { .. } => self.no_answer += 1,
            Meaning::Stray(_) => self.mismatched += 1,
            Meaning::Noise(_) => self.damaged += 1,
            Meaning::Sign(_, bad) => self.signs += u64::from(*bad),
        }
    }

    fn refused(&mut self, native: (&'static str, u32)) {
        let words = || (0, refusal_shown(native));
        self.refusals.entry(refusal_health(native)).or_insert_with(words).0 += 1;
    }

    /// Two of them together.
    pub fn plus(&mut self, other: &Self) {
        for (code, (count, words)) in &other.refusals {
            self.refusals.entry(*code).or_insert_with(|| (0, words.clone())).0 += count;
        }
        self.requests += other.requests;
        self.again += other.again;
        self.answers += other.answers;
        self.published += other.published;
        self.no_answer += other.no_answer;
        self.mismatched += other.mismatched;
        self.damaged += other.damaged;
        self.signs += other.signs;
        self.bytes += other.bytes;
        self.times.plus(&other.times);
    }

    /// Failures of every kind.
    #[must_use]
    pub fn failures(&self) -> u64 {
        let refused: u64 = self.refusals.values().map(|(count, _)| count).sum();
        refused + self.no_answer + self.mismatched + self.damaged + self.signs
    }
}
