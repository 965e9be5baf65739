//! Questions that were given up, whose answers may still come: neither RTU nor ASCII has a number that tells them from the
//! answers to later questions.
//!
//! A unit answers in the order in which it was asked. So an answer that can belong to one question only says that all
//! before it are answered or dropped; where the next question looks like one that was given up, another one is asked
//! first that looks like none: a part of the same place.

use super::question::{Likeness, Question};
use crate::Moment;
use std::collections::BTreeSet;

/// An answer may come so many timeouts late.
const LATEST: u64 = 8;
/// So many answers of one likeness may be under way.
const UNDER_WAY: usize = 3;

/// What was given up, by unit and by what its answer looks like.
#[derive(Default)]
pub(super) struct Unsettled {
    given_up: Vec<GivenUp>,
    /// Units that do not answer what is asked only to settle this.
    deaf: BTreeSet<u8>,
}

struct GivenUp {
    unit: u8,
    likeness: Likeness,
    count: usize,
    since: Moment,
    /// Later than that its answer does not come.
    until: Moment,
}

impl Unsettled {
    /// A question was not answered in time.
    pub(super) fn give_up(&mut self, now: Moment, question: &Question, timeout: u64) {
        self.given_up.retain(|old| old.until > now);
        let until = now + LATEST * timeout;
        let (unit, likeness) = (question.unit, question.likeness());
        match self.given_up.iter_mut().find(|old| (old.unit, &old.likeness) == (unit, &likeness)) {
            Some(old) => {
                (old.since, old.until) = (now, until);
                old.count = (old.count + 1).min(UNDER_WAY);
            }
            None => self.given_up.push(GivenUp { unit, likeness, count: 1, since: now, until }),
        }
    }

    /// How many answers may come that cannot be told from that of this question.
    pub(super) fn alike(&mut self, now: Moment, question: &Question) -> usize {
        if self.given_up.is_empty() {
            return 0;
        }
        self.given_up.retain(|old| old.until > now);
        let likeness = question.likeness();
        let alike = self.given_up.iter().find(|old| old.unit == question.unit && old.likeness == likeness);
        alike.map_or(0, |old| old.count)
    }

    /// A question that settles what came before it, by an answer that looks like none of those; `None` where there is no
    /// such question, or the unit does not answer it.
    pub(super) fn question(&self, before: &Question) -> Option<Question> {
        let free = |likeness: &Likeness| {
            !self.given_up.iter().any(|old| old.unit == before.unit && old.likeness == *likeness)
        };
        before.within(free).filter(|_| !self.deaf.contains(&before.unit))
    }

    /// The unit has answered a question that looks like no other one: what came before it is answered or dropped.
    pub(super) fn settle(&mut self, unit: u8) {
        self.given_up.retain(|old| old.unit != unit);
        self.deaf.remove(&unit);
    }

    /// The unit did not answer the question that was to settle it.
    pub(super) fn mark_deaf(&mut self, unit: u8) {
        self.deaf.insert(unit);
    }

    /// It did not answer an ordinary question either, so it is not that.
    pub(super) fn unmark_deaf(&mut self, unit: u8) {
        self.deaf.remove(&unit);
    }

    /// Whether a refusal of this question may be one of another question: it tells the function only.
    pub(super) fn refuses_alike(&self, question: &Question) -> bool {
        let function = question.function();
        self.given_up.iter().any(|old| old.unit == question.unit && old.likeness.function() == function)
    }

    /// When the last question to a unit was given up, of those that may still be answered.
    pub(super) fn given_up(&self, unit: u8) -> Option<Moment> {
        self.given_up.iter().filter(|old| old.unit == unit).map(|old| old.since).max()
    }

    /// The connection is a new one: nothing comes over it that was asked before.
    pub(super) fn forget(&mut self) {
        *self = Self::default();
    }
}
