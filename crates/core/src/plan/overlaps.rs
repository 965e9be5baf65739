//! Two rules on one cell.

use super::{Plan, PlannedRule, Source};
use crate::finding::{Finding, TWO_ON_ONE};
use crate::project::Project;
use crate::protocol::Flow;
use crate::source::Span;
use std::collections::{HashMap, HashSet};

/// Two rules on one cell: the later one is found and left out.
pub(super) fn drop_overlaps(project: &Project, plan: &mut Plan, findings: &mut Vec<Finding>) {
    let mut order: Vec<usize> = (0..plan.rules.len()).collect();
    let key = |rule: &PlannedRule| (rule.board, rule.target.space, rule.target.first, rule.target.bit);
    order.sort_by_key(|at| plan.rules.get(*at).map(key));
    let mut dropped = vec![];
    let mut told: HashMap<(Span, Span), usize> = HashMap::new();
    let mut reach: Option<usize> = None;
    for at in order {
        let (Some(rule), before) = (plan.rules.get(at), reach.and_then(|before| plan.rules.get(before)))
        else {
            continue;
        };
        if let (Some(before), Some(earlier)) = (before, reach) {
            let same = (before.board, before.target.space) == (rule.board, rule.target.space);
            let bits = before.target.bit.zip(rule.target.bit);
            let apart =
                before.target.first == rule.target.first && bits.is_some_and(|(one, other)| one != other);
            if same && rule.target.first < before.target.extent().end() && !apart {
                let (first, second) = if earlier < at { (earlier, at) } else { (at, earlier) };
                // Those of a `repeat` stand in one place, and so are one finding with its count.
                let places = (place(project, plan, first), place(project, plan, second));
                if let Some(known) = told.get(&places).and_then(|known| findings.get_mut(*known)) {
                    known.count += 1;
                } else if let Some(found) = overlap(project, plan, first, second, rule.target.first) {
                    told.insert(places, findings.len());
                    findings.push(found);
                }
                dropped.push(second);
                if second == at {
                    continue;
                }
            }
        }
        reach = Some(at);
    }
    let dropped: HashSet<usize> = dropped.into_iter().collect();
    if !dropped.is_empty() {
        let mut at = 0;
        let unresolved = &mut plan.unresolved;
        plan.rules.retain(|rule| {
            let stays = !dropped.contains(&at);
            at += 1;
            if !stays {
                unresolved.push((rule.board, rule.target.extent()));
            }
            stays
        });
    }
}

fn place(project: &Project, plan: &Plan, rule: usize) -> Span {
    let map = plan.rules.get(rule).and_then(|rule| project.maps.get(rule.map));
    map.map_or_else(Span::default, |map| map.span)
}

fn overlap(project: &Project, plan: &Plan, first: usize, second: usize, cell: u32) -> Option<Finding> {
    let (first, second) = (plan.rules.get(first)?, plan.rules.get(second)?);
    let board = plan.board(second.board)?;
    let (other, this) = (project.maps.get(first.map)?, project.maps.get(second.map)?);
    let shown = board.show(second.target.space, cell, None);
    let next = board.show(first.target.space, first.target.extent().end(), None);
    let written = |rule: &PlannedRule| matches!(rule.source, Source::Client);
    let move_it = format!("move one of them; the first free address after the other is {next}");
    Some(match (written(first), written(second)) {
        (true, true) => {
            Finding::new("M17", this.from.span, format!("two rules take {shown} apart in different ways"))
                .why(TWO_ON_ONE)
                .note(other.from.span, "the other rule")
                .fix("let both begin at the same address with the same form and count")
        }
        (_, true) => Finding::new(
            "F09",
            this.from.span,
            format!("{shown} is fed by a rule, so no client can write it"),
        )
        .note(other.to.span, "that rule")
        .fix("begin this rule where that one begins, or at another address"),
        _ => {
            let what = if plan.sink(second).is_some() {
                format!("two rules write {shown}")
            } else {
                format!("two rules feed {shown}")
            };
            // Where bytes are exchanged in cycles, an odd offset is what goes wrong first.
            let cyclic = board.space_at(second.target.space).is_some_and(|space| space.flow != Flow::Asked);
            Finding::new(if cyclic { "M08" } else { "M17" }, this.to.span, what)
                .why(TWO_ON_ONE)
                .note(other.to.span, "the other rule")
                .fix(move_it)
        }
    })
}
