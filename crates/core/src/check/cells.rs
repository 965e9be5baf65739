//! Which rule feeds which cell, looked up by address.

use crate::plan::{Plan, PlannedRule};
use crate::protocol::{Extent, SpaceId};

/// The rules' targets, sorted.
pub(super) struct Cells<'p> {
    plan: &'p Plan,
    /// Image, space, first grain, rule.
    starts: Vec<(usize, SpaceId, u32, usize)>,
}

/// A stretch of cells with one thing to say about it.
pub(super) enum Stretch<'p> {
    /// Fed by this rule.
    Fed(&'p PlannedRule, Extent),
    /// Fed by none.
    Bare(Extent),
}

impl<'p> Cells<'p> {
    pub(super) fn of(plan: &'p Plan) -> Self {
        let start =
            |(at, rule): (usize, &PlannedRule)| (rule.board, rule.target.space, rule.target.first, at);
        let mut starts: Vec<_> = plan.rules.iter().enumerate().map(start).collect();
        starts.sort_unstable();
        Self { plan, starts }
    }

    /// The rule that feeds a cell.
    pub(super) fn at(&self, image: usize, space: SpaceId, grain: u32) -> Option<(usize, &'p PlannedRule)> {
        let after = self.starts.partition_point(|(i, s, first, _)| (*i, *s, *first) <= (image, space, grain));
        let (.., at) = self.starts.get(after.checked_sub(1)?)?;
        let rule = self.plan.rules.get(*at)?;
        let holds = rule.board == image && rule.target.space == space && grain < rule.target.extent().end();
        holds.then_some((*at, rule))
    }

    /// The stretches of a range, in ascending order.
    pub(super) fn over(&self, image: usize, range: Extent) -> Vec<Stretch<'p>> {
        let mut found = vec![];
        let mut grain = range.first;
        while grain < range.end() {
            let next = match self.at(image, range.space, grain) {
                Some((_, rule)) => {
                    let end = rule.target.extent().end().min(range.end());
                    found.push(Stretch::Fed(
                        rule,
                        Extent { space: range.space, first: grain, count: end - grain },
                    ));
                    end
                }
                None => {
                    let after = self
                        .starts
                        .partition_point(|(i, s, first, _)| (*i, *s, *first) <= (image, range.space, grain));
                    let next = self.starts.get(after).filter(|(i, s, ..)| (*i, *s) == (image, range.space));
                    let end = next.map_or(range.end(), |(.., first, _)| (*first).min(range.end()));
                    found.push(Stretch::Bare(Extent {
                        space: range.space,
                        first: grain,
                        count: end - grain,
                    }));
                    end
                }
            };
            grain = next;
        }
        found
    }
}

/// Stretches of images that something is known of, found by address.
#[derive(Default)]
pub(super) struct Melted {
    /// Image, space, first grain and end; sorted, none touching the next.
    stretches: Vec<(usize, SpaceId, u32, u32)>,
}

impl Melted {
    /// Of stretches in any order, overlapping or not.
    pub(super) fn of(mut all: Vec<(usize, Extent)>) -> Self {
        all.sort_by_key(|(image, extent)| (*image, extent.space, extent.first));
        let mut stretches: Vec<(usize, SpaceId, u32, u32)> = vec![];
        for (image, extent) in all {
            match stretches.last_mut() {
                Some((i, s, _, end)) if *i == image && *s == extent.space && extent.first <= *end => {
                    *end = extent.end().max(*end);
                }
                _ => stretches.push((image, extent.space, extent.first, extent.end())),
            }
        }
        Self { stretches }
    }

    /// Whether some of these cells lie in one of them.
    pub(super) fn meets(&self, image: usize, cells: Extent) -> bool {
        let after = self
            .stretches
            .partition_point(|(i, s, first, _)| (*i, *s, *first) < (image, cells.space, cells.end()));
        let before = after.checked_sub(1).and_then(|at| self.stretches.get(at));
        before.is_some_and(|(i, s, _, end)| (*i, *s) == (image, cells.space) && *end > cells.first)
    }
}
