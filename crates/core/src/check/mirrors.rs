//! What stands at one end and has no counterpart at the other: cells that clients may write and none does, values that
//! are held or filled with no health beside them, writers that may not write.

use crate::finding::{Finding, Severity};
use crate::plan::{Plan, PlannedRule, Source};
use crate::project::{Map, OnLoss, Owner, Project};
use crate::protocol::{Flow, Transport};
use std::collections::{BTreeMap, BTreeSet};

pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    held_without_health(project, plan, findings);
    writers(project, findings);
}

/// Values that an image holds or fills, while nothing there tells that their source is lost. Once for each source.
fn held_without_health(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let mut told: BTreeSet<(usize, Option<usize>)> = BTreeSet::new();
    for rule in &plan.rules {
        if let Source::Health(item) = rule.source {
            told.insert((rule.board, item.device()));
        }
    }
    let mut found: BTreeMap<(usize, usize), (&PlannedRule, &Map, u32)> = BTreeMap::new();
    for rule in &plan.rules {
        let (Source::Values { owner: Owner::Device(device), .. }, None) = (rule.source, plan.sink(rule))
        else {
            continue;
        };
        let shows_on = matches!(rule.on_loss, OnLoss::Hold | OnLoss::Fill(_));
        // The health of a rule or of a port tells as much.
        let tells = told.contains(&(rule.board, Some(device))) || told.contains(&(rule.board, None));
        // A block that is exchanged in cycles has a check of its own.
        let block = plan.board(rule.board).and_then(|board| board.space_at(rule.target.space));
        let block = block.is_some_and(|space| space.flow != Flow::Asked);
        let (true, false, Some(map)) = (shows_on && !block, tells, project.maps.get(rule.map)) else {
            continue;
        };
        found.entry((rule.board, device)).or_insert((rule, map, 0)).2 += 1;
    }
    for ((board, device), (rule, map, count)) in found {
        let (Some(image), Some(source)) = (plan.images.get(board), plan.devices.get(device)) else {
            continue;
        };
        let does = if rule.on_loss == OnLoss::Hold { "holds the last value" } else { "shows a fill" };
        let more = if count > 1 { format!(" (and {} more)", count - 1) } else { String::new() };
        let what = format!(
            "`{}` {does} of `{}`{more} once it is lost, and nothing there shows that it is",
            image.name, source.name
        );
        let place = map.on_loss.map_or(map.to.span, |on_loss| on_loss.span);
        findings.push(
            Finding::new("M53", place, what)
                .fix(format!("show `{}.health.online` in the same image, or let it be refused", source.name)),
        );
    }
}

/// `writers` of images against the clients that write, and where it means nothing.
fn writers(project: &Project, findings: &mut Vec<Finding>) {
    for (at, image) in project.images.iter().enumerate() {
        let Some(writers) = &image.writers else { continue };
        let port = image.port.and_then(|port| project.ports.get(port.value));
        if let Some(port) = port.filter(|port| port.transport().is_some_and(|own| own != Transport::Listen)) {
            let what = format!(
                "`writers` does nothing here: `{}` is {}, and requests there come without an address",
                port.name.value,
                port.whereabouts()
            );
            findings.push(Finding::new("F02", writers.span, what).fix("remove it"));
            continue;
        }
        for client in project.clients.iter().filter(|client| client.image.is_some_and(|own| own.value == at))
        {
            let (Some(address), Some(write)) = (client.address, client.writes.first()) else { continue };
            if writers.value.iter().any(|network| network.value.holds(address.value)) {
                continue;
            }
            let what = format!(
                "`{}` writes, and `writers` of `{}` does not hold its address {}",
                client.name.value, image.name.value, address.value
            );
            findings.push(
                Finding::new("M47", write.span, what)
                    .severity(Severity::Error)
                    .note(writers.span, "who may write")
                    .fix("add its address to `writers`, or take it out of the client's `writes`"),
            );
        }
    }
}
