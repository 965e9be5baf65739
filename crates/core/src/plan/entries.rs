//! Cells of an image that clients write and rules carry on: each such range is a rule of its own, without a source.

use super::{Plan, PlannedRule, Source, to_u32};
use crate::form::{Conversion, Overflow};
use crate::project::{OnLoss, Sending};
use crate::protocol::Place;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// Adds one rule for each range of cells that some rule carries on.
pub(super) fn add(plan: &mut Plan) {
    let mut found: HashSet<(usize, Place)> = HashSet::new();
    for at in 0..plan.rules.len() {
        let Some((rule, (image, place))) = plan.rules.get(at).and_then(|rule| Some((rule, entry_of(rule)?)))
        else {
            continue;
        };
        if !found.insert((image, place)) {
            continue;
        }
        let form = rule.conversion.from;
        plan.rules.push(PlannedRule {
            map: rule.map,
            source: Source::Client,
            board: image,
            target: place,
            target_point: None,
            conversion: Arc::new(Conversion { from: form, to: form, overflow: Overflow::Refuse }),
            writable: true,
            every: rule.every,
            published: false,
            max_age: u64::MAX,
            on_loss: OnLoss::Refuse,
            sending: Sending::default(),
            after_device: true,
            invalid: Box::default(),
        });
    }
}

fn entry_of(rule: &PlannedRule) -> Option<(usize, Place)> {
    match rule.source {
        Source::ClientCells { image, place, .. } => Some((image, place)),
        _ => None,
    }
}

/// Ties each rule to the cells that it carries on, once it is certain which rules stay.
pub(super) fn link(plan: &mut Plan) {
    let entries: HashMap<(usize, Place), u32> = plan
        .rules
        .iter()
        .enumerate()
        .filter(|(_, rule)| matches!(rule.source, Source::Client))
        .map(|(at, rule)| ((rule.board, rule.target), to_u32(at)))
        .collect();
    for (at, rule) in plan.rules.iter_mut().enumerate() {
        if let Source::ClientCells { image, place, rule: entry } = &mut rule.source
            && let Some(number) = entries.get(&(*image, *place))
        {
            *entry = *number;
            plan.onward.push((*number, to_u32(at)));
        }
    }
    plan.onward.sort_unstable();
}
