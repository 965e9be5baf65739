//! Rules against the sizes of the files and blocks that they carry.

use crate::finding::Finding;
use crate::plan::{Plan, Source};
use crate::project::{Owner, Project};
use std::collections::HashSet;

/// So much of a file, in per cent, is meant to be all of it.
const NEARLY: u64 = 90;

pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    left_out(project, plan, findings);
    missing(project, plan, findings);
}

/// A file or block that a rule uses and that the list of those that there are does not have. Others of its kind must be
/// there: who gives the size of one file of integers has not said anything about timers.
fn missing(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let mut said = HashSet::new();
    for rule in &plan.rules {
        let polled = match rule.source {
            Source::Values { owner: Owner::Device(device), place, .. } => Some((device, place.space, true)),
            _ => None,
        };
        let sent = plan.sink(rule).map(|device| (device, rule.target.space, false));
        for (device, space, from) in polled.into_iter().chain(sent) {
            let (Some(station), Some(own)) = (plan.devices.get(device), project.devices.get(device)) else {
                continue;
            };
            if own.tables.is_empty() {
                continue;
            }
            let (Some(space), Some(dialect)) = (station.space_at(space), station.dialect) else { continue };
            let table = dialect.notation().table(space);
            let alike = own.tables.iter().filter(|(name, _)| kind(&name.value) == kind(table));
            let names: Vec<&str> = alike.clone().map(|(name, _)| name.value.as_str()).collect();
            let Some((first, _)) = alike.into_iter().next() else { continue };
            let known = own.tables.iter().any(|(name, _)| dialect.notation().is_table(space, &name.value));
            if kind(table) == table || known || !said.insert((device, table.to_owned())) {
                continue;
            }
            let Some(map) = project.maps.get(rule.map) else { continue };
            let at = if from { map.from.span } else { map.to.span };
            let what =
                format!("`{}` has {} by its `tables`, and no {table}", own.name.value, names.join(", "));
            let fix = format!("correct the address, or add `{table}` with its size");
            findings.push(Finding::new("M34", at, what).note(first.span, "what there is").fix(fix));
        }
    }
}

/// The letters of a name that ends in a number: `DB` of `DB10`.
fn kind(table: &str) -> &str {
    table.trim_end_matches(|digit: char| digit.is_ascii_digit())
}

/// A rule that begins at the first element and ends a few before the last.
fn left_out(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    for rule in &plan.rules {
        let Source::Values { owner: Owner::Device(device), place, .. } = rule.source else { continue };
        let (Some(station), Some(own)) = (plan.devices.get(device), project.devices.get(device)) else {
            continue;
        };
        let (Some(space), Some(dialect)) = (station.space_at(place.space), station.dialect) else { continue };
        let Some((name, size)) =
            own.tables.iter().find(|(name, _)| dialect.notation().is_table(space, &name.value))
        else {
            continue;
        };
        let (len, end) = (dialect.notation().grains_of(space, *size), place.extent().end());
        let nearly = u64::from(end) * 100 >= u64::from(len) * NEARLY;
        if place.first > 0 || place.count < 2 || end >= len || !nearly {
            continue;
        }
        // Another rule may carry the rest.
        let goes_on = plan.rules.iter().any(|other| {
            matches!(other.source, Source::Values { owner: Owner::Device(of), place: further, .. }
                if of == device && further.space == place.space && further.first >= end)
        });
        let Some(map) = project.maps.get(rule.map).filter(|_| !goes_on) else { continue };
        let at = map.count.map_or(map.from.span, |count| count.span);
        let what = format!(
            "it ends before {}, and `{}` has {size}: the last {} are left out",
            station.show_wide(place.space, end, place.width, None),
            name.value,
            (len - end) / place.width.max(1)
        );
        findings.push(Finding::new("M13", at, what).note(name.span, "its size"));
    }
}
