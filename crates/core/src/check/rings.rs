//! Rules that feed each other, directly or in a ring.

use crate::finding::Finding;
use crate::plan::{Plan, PlannedRule, Source};
use crate::project::{Endpoint, Owner, Project, Target};
use crate::protocol::{Place, SpaceId};
use crate::source::Span;
use std::collections::{HashMap, HashSet};

pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    back_and_forth(project, findings);
    around(project, plan, findings);
}

/// Where a rule takes its values, as a board of the plan: images first, then devices.
fn source(plan: &Plan, rule: &PlannedRule) -> Option<(usize, Place)> {
    match rule.source {
        Source::Values { owner, place, .. } => Some((plan.board_of(owner)?, place)),
        Source::ClientCells { image, place, .. } => Some((image, place)),
        Source::Health(_) | Source::Client => None,
    }
}

/// Rings over devices and images: each rule's target is where the next one begins.
fn around(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    // Only what goes into a device, or comes out of an image, can go on from there.
    let carries =
        |rule: &&PlannedRule| plan.sink(rule).is_some() || matches!(rule.source, Source::ClientCells { .. });
    let rules: Vec<&PlannedRule> = plan.rules.iter().filter(carries).collect();
    let mut sources: Vec<(usize, SpaceId, u32, u32, usize)> = rules
        .iter()
        .enumerate()
        .filter_map(|(at, rule)| {
            let (board, place) = source(plan, rule)?;
            Some((board, place.space, place.first, place.extent().end(), at))
        })
        .collect();
    sources.sort_unstable();
    // Sources may lie inside each other; none begins further before a target than the longest is long.
    let longest = sources.iter().map(|(_, _, first, end, _)| end - first).max().unwrap_or(0);
    let next = |at: usize| {
        let Some((board, place)) = rules.get(at).map(|rule| (rule.board, rule.target)) else { return vec![] };
        let (low, high) = (place.first.saturating_sub(longest), place.extent().end());
        let begin = sources.partition_point(|(b, s, first, ..)| (*b, *s, *first) < (board, place.space, low));
        let near = sources.get(begin..).unwrap_or_default().iter();
        near.take_while(|(b, s, first, ..)| (*b, *s) == (board, place.space) && *first < high)
            .filter(|(.., end, _)| *end > place.first)
            .map(|(.., at)| *at)
            .collect::<Vec<_>>()
    };
    let mut seen = vec![false; rules.len()];
    // Where on the path a rule stands.
    let mut stands: Vec<Option<usize>> = vec![None; rules.len()];
    for begin in 0..rules.len() {
        if seen.get(begin).copied().unwrap_or(true) {
            continue;
        }
        let mut path: Vec<(usize, Vec<usize>)> = vec![(begin, next(begin))];
        stands.get_mut(begin).into_iter().for_each(|stands| *stands = Some(0));
        while let Some((_, open)) = path.last_mut() {
            let Some(to) = open.pop() else {
                if let Some((done, _)) = path.pop() {
                    seen.get_mut(done).into_iter().for_each(|seen| *seen = true);
                    stands.get_mut(done).into_iter().for_each(|stands| *stands = None);
                }
                continue;
            };
            if let Some(at) = stands.get(to).copied().flatten() {
                let ring: Vec<&PlannedRule> = path
                    .get(at..)
                    .unwrap_or_default()
                    .iter()
                    .filter_map(|(rule, _)| rules.get(*rule).copied())
                    .collect();
                findings.extend(ring_found(project, &ring));
            } else if seen.get(to) == Some(&false) {
                stands.get_mut(to).into_iter().for_each(|stands| *stands = Some(path.len()));
                path.push((to, next(to)));
            }
        }
    }
}

fn ring_found(project: &Project, ring: &[&PlannedRule]) -> Option<Finding> {
    // Told once, at the rule that stands last in the file.
    let last = ring.iter().max_by_key(|rule| rule.map)?;
    let map = project.maps.get(last.map)?;
    let what = match ring.len() {
        1 => "this rule feeds itself".to_string(),
        2 => "this rule carries the value back to where the other one fetched it".to_string(),
        count => format!("{count} rules carry a value in a ring"),
    };
    let mut finding = Finding::new("M46", map.from.span, what);
    for other in ring.iter().filter(|rule| rule.map != last.map) {
        if let Some(other) = project.maps.get(other.map) {
            finding = finding.note(other.from.span, "the other rule");
        }
    }
    Some(finding)
}

/// A rule into an image and one out of the same cells into where the first one came from.
fn back_and_forth(project: &Project, findings: &mut Vec<Finding>) {
    // Only a rule that begins at an image can close such a ring; there are few, so the rest is looked up.
    let backwards: Vec<(Endpoint, Endpoint)> = project
        .maps
        .iter()
        .filter(|map| map.enabled && begins_at_image(project, &map.from.value))
        .filter_map(|map| Some((project.endpoint(&map.from).ok()?, project.endpoint(&map.to).ok()?)))
        .collect();
    if backwards.is_empty() {
        return;
    }
    let mut others: HashMap<(Cell, Cell), Span> = HashMap::new();
    for map in project.maps.iter().filter(|map| map.enabled && !begins_at_image(project, &map.from.value)) {
        let (Ok(from), Ok(to)) = (project.endpoint(&map.from), project.endpoint(&map.to)) else { continue };
        if let (Some(from), Some(to)) = (cell(&from), cell(&to)) {
            others.entry((from, to)).or_insert(map.from.span);
        }
    }
    let mut told: HashSet<Span> = HashSet::new();
    for (from, to) in &backwards {
        let (Some(begin), Some(end)) = (cell(from), cell(to)) else { continue };
        if let Some(other) = others.get(&(end, begin)) {
            told.insert(from.span);
            let what = "this rule carries the value back to where the other one fetched it".to_string();
            findings.push(Finding::new("M46", from.span, what).note(*other, "the other rule"));
        }
    }
    // That the cell is fed already follows from the ring and would only hide it.
    findings.retain(|finding| !(finding.rule.code == "F09" && told.contains(&finding.span)));
}

fn begins_at_image(project: &Project, from: &str) -> bool {
    let name = from.split([':', '.']).next().unwrap_or_default();
    matches!(project.owners.get(name), Some(Owner::Image(_)))
}

/// Owner, space, first grain and bit of one end.
type Cell = (Owner, String, u32, Option<u8>);

fn cell(end: &Endpoint) -> Option<Cell> {
    match &end.target {
        Target::Cells(address, _) => {
            Some((end.owner, address.space.key.to_string(), address.first, address.bit))
        }
        Target::Health(_) => None,
    }
}
