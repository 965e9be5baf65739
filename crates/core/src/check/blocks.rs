//! Devices that are set up by their parameters, and values that say themselves whether they are any.

use crate::finding::{Finding, Severity};
use crate::plan::{Plan, PlannedRule, Source};
use crate::project::{Owner, Project, show_micros};
use crate::protocol::Extent;
use std::collections::{BTreeMap, BTreeSet};

pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    set_up(project, findings);
    unexplained(project, plan, findings);
    asked_in_vain(project, plan, findings);
}

/// What a `set-up` says that is no step, or that cannot bring its block into a mode in which it works.
fn set_up(project: &Project, findings: &mut Vec<Finding>) {
    for (at, device) in project.devices.iter().enumerate() {
        let (Some(first), Some(dialect)) = (device.set_up.first(), project.device_dialect(at)) else {
            continue;
        };
        let Some(how) = dialect.set_up() else {
            let what = format!("`set-up` does nothing here: devices of {} are not set up so", dialect.name());
            findings.push(Finding::new("F02", first.address.span, what).fix("leave it out"));
            continue;
        };
        let mut steps = vec![];
        for (number, entry) in device.set_up.iter().enumerate() {
            match how.step(&device.setup, &entry.address.value, &entry.value.value) {
                Ok(step) => steps.push((number, step)),
                Err(fault) => {
                    let span = if fault.of_value { entry.value.span } else { entry.address.span };
                    let finding = Finding::new(fault.code, span, fault.what);
                    findings.push(match fault.likely {
                        Some(likely) => finding.fix(format!("write `{likely}`")),
                        None if fault.of_value => finding.fix("write one that fits"),
                        None => finding.fix("leave it out: the block works it out"),
                    });
                }
            }
        }
        for fault in how.judge(&device.setup, &steps) {
            let span = device.set_up.get(fault.step).map_or(device.name.span, |entry| entry.value.span);
            findings.push(Finding::new("M68", span, fault.what).fix(fault.fix));
        }
    }
}

/// The space and the cell that say whether a rule's value is one.
fn judge(plan: &Plan, rule: &PlannedRule) -> Option<(usize, Extent)> {
    let Source::Values { owner: Owner::Device(device), place, .. } = rule.source else { return None };
    let station = plan.devices.get(device)?;
    let space = station.space_at(place.space)?;
    let first = station.dialect?.notation().meanings().judge_of(space, place.first)?;
    Some((device, Extent { space: place.space, first, count: 1 }))
}

/// Values that may be bad, with neither their status nor their device's health in the same image: once for each device.
fn unexplained(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    // Most sites have no value that judges itself: nothing is gathered for them.
    let shown = || plan.rules.iter().filter(|rule| plan.sink(rule).is_none());
    if shown().all(|rule| judge(plan, rule).is_none()) {
        return;
    }
    let mut told: BTreeSet<(usize, usize)> = BTreeSet::new();
    let mut statuses: BTreeSet<(usize, usize, u32, u32)> = BTreeSet::new();
    for rule in &plan.rules {
        match rule.source {
            Source::Health(item) => told.extend(item.device().map(|device| (rule.board, device))),
            Source::Values { owner: Owner::Device(device), place, .. } => {
                statuses.insert((rule.board, device, place.space.0, place.first));
            }
            _ => {}
        }
    }
    let mut found: BTreeMap<usize, &PlannedRule> = BTreeMap::new();
    for rule in shown() {
        if let Some((device, at)) = judge(plan, rule)
            && !told.contains(&(rule.board, device))
            && !statuses.contains(&(rule.board, device, at.space.0, at.first))
        {
            found.entry(device).or_insert(rule);
        }
    }
    for (device, rule) in found {
        let (Some(map), Some(station)) = (project.maps.get(rule.map), plan.devices.get(device)) else {
            continue;
        };
        let Some((_, at)) = judge(plan, rule) else { continue };
        let status = station.dialect.zip(station.space_at(at.space));
        let status = status.map(|(dialect, space)| {
            dialect.notation().show(space, at.first, 1, None, &station.setup).canonical
        });
        let name = &station.name;
        let what = format!("a value of `{name}` can be bad, and nothing beside it says why");
        let fix = format!(
            "map `{name}:{}` or `{name}.health.last-error` into the same image",
            status.unwrap_or_default()
        );
        findings.push(Finding::new("M67", map.from.span, what).fix(fix));
    }
}

/// Values that are asked for though they come by themselves: once for each device.
fn asked_in_vain(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let mut seen: BTreeSet<usize> = BTreeSet::new();
    for rule in plan.rules.iter().filter(|rule| !rule.published) {
        let Source::Values { owner: Owner::Device(device), place, .. } = rule.source else { continue };
        let Some(station) = plan.devices.get(device) else { continue };
        let publishes = station.space_at(place.space).is_some_and(|space| space.publishes);
        let Some(map) = project.maps.get(rule.map).filter(|_| publishes && seen.insert(device)) else {
            continue;
        };
        let what = format!(
            "`{}` is polled every {}, and its device publishes it every {}",
            map.from.value,
            show_micros(rule.every),
            show_micros(plan.publishing(device).map_or(0, |own| own.every))
        );
        let fix = "write `poll = \"published\"`: it costs no request then";
        findings.push(Finding::new("M23", map.from.span, what).severity(Severity::Remark).fix(fix));
    }
}
