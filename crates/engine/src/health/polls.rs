//! What became of a poll: as a whole, and where one message asks for several places, for each rule that it feeds. Of those
//! one may be refused while the rest comes.

use super::tally::{Counts, Tally};
use crate::Moment;
use woodrush_core::Refusal;
use woodrush_core::plan::{Cadence, Plan, Transfer};
use woodrush_core::protocol::Extent;

/// Counters of one poll.
#[derive(Debug, Default)]
pub struct PollTally {
    /// The message.
    pub whole: Tally,
    /// By rule in ascending order; none where the message asks for one place, which comes or does not; but a value may be
    /// bad while its status beside it comes.
    by_rule: Vec<(u32, Tally)>,
}

impl PollTally {
    /// Of a transfer.
    #[must_use]
    pub fn new(plan: &Plan, transfer: &Transfer) -> Self {
        let is_whole = |part: &Extent| {
            plan.station(transfer.from)
                .is_some_and(|own| own.space_at(part.space).is_some_and(|space| space.whole))
        };
        if matches!(transfer.cadence, Cadence::Cyclic(_))
            || transfer.parts.len() < 2 && !transfer.parts.iter().any(is_whole)
        {
            return Self::default();
        }
        let steps = plan.steps.get(transfer.steps.start as usize..transfer.steps.end as usize);
        let mut rules: Vec<u32> = steps.unwrap_or_default().iter().map(|step| step.rule).collect();
        rules.sort_unstable();
        rules.dedup();
        let by_rule = rules.into_iter().map(|rule| (rule, Tally::default())).collect();
        Self { whole: Tally::default(), by_rule }
    }

    /// What became of what a rule is fed.
    #[must_use]
    pub fn of(&self, rule: u32) -> &Tally {
        let at = self.by_rule.binary_search_by_key(&rule, |(own, _)| *own);
        at.ok().and_then(|at| self.by_rule.get(at)).map_or(&self.whole, |(_, tally)| tally)
    }

    /// The same in numbers, with the bytes of the message.
    #[must_use]
    pub fn counts_of(&self, rule: u32) -> Counts {
        let whole = self.whole.counts();
        Counts { sent: whole.sent, received: whole.received, ..self.of(rule).counts() }
    }

    /// Counts how a poll ended whose request left at that moment; `missing` says why a rule got nothing of what came.
    pub(crate) fn count<'r>(
        &self,
        left: Moment,
        result: Result<(), &Refusal>,
        missing: impl Fn(u32) -> Option<&'r Refusal>,
    ) {
        self.whole.count(left, result);
        for (rule, tally) in &self.by_rule {
            tally.count(left, result.and(missing(*rule).map_or(Ok(()), Err)));
        }
    }

    /// Counts values that came by themselves, or have stopped coming; `missing` says why a rule got nothing of them.
    pub(crate) fn came<'r>(
        &self,
        now: Moment,
        result: Result<(), &Refusal>,
        missing: impl Fn(u32) -> Option<&'r Refusal>,
    ) {
        self.whole.came(now, result);
        for (rule, tally) in &self.by_rule {
            tally.came(now, result.and(missing(*rule).map_or(Ok(()), Err)));
        }
    }

    /// From 0 on.
    pub fn reset(&self) {
        self.whole.reset();
        self.by_rule.iter().for_each(|(_, tally)| tally.reset());
    }
}
