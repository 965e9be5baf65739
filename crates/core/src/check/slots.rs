//! Blocks that can say of themselves that they are bad: what goes with a lost value, and what a controller never sees.

use super::cycles::span_of;
use crate::finding::Finding;
use crate::plan::{CyclicLink, Plan, PlannedRule, Source, Station};
use crate::project::{Client, OnLoss, Owner, Project};
use crate::protocol::{Cyclic, SpaceId};
use std::collections::BTreeSet;

pub(super) fn check(project: &Project, plan: &Plan, link: &CyclicLink, findings: &mut Vec<Finding>) {
    let Owner::Image(image) = link.with else { return };
    let Some(station) = plan.images.get(image) else { return };
    let Some(cyclic) = station.dialect.and_then(|own| own.cyclic()).filter(|own| own.tells_loss()) else {
        return;
    };
    let clients: Vec<&Client> = project.clients_of(image).collect();
    for extent in link.slots.iter().filter_map(|slot| slot.goes) {
        let rules: Vec<&PlannedRule> = plan
            .rules
            .iter()
            .filter(|rule| rule.board == link.board && rule.target.space == extent.space)
            .collect();
        goes_with(project, plan, station, &rules, findings);
        unseen(project, (station, extent.space), cyclic, (&clients, &rules), findings);
    }
}

/// A lost value that is refused makes its whole block bad: health beside it goes with it, and so do other devices' values.
fn goes_with(
    project: &Project,
    plan: &Plan,
    station: &Station,
    rules: &[&PlannedRule],
    findings: &mut Vec<Finding>,
) {
    let refuses = |rule: &&&PlannedRule| {
        rule.on_loss == OnLoss::Refuse
            && matches!(rule.source, Source::Values { .. })
            && rule.source.device().is_some()
    };
    let Some(refused) = rules.iter().find(refuses) else { return };
    let device = refused.source.device();
    let name = |device: Option<usize>| {
        device.and_then(|at| plan.devices.get(at)).map_or("", |own| own.name.as_str())
    };
    let block = station.space_at(refused.target.space).map_or("", |space| space.name());
    let other = |rule: &&&PlannedRule| match rule.source {
        Source::Health(_) => true,
        _ => rule.source.device().is_some_and(|own| Some(own) != device),
    };
    let Some(beside) = rules.iter().find(other) else { return };
    let (Some(here), Some(there)) = (project.maps.get(beside.map), project.maps.get(refused.map)) else {
        return;
    };
    let (what, fix) = match beside.source {
        Source::Health(_) => (
            format!(
                "once a value of `{}` is lost, all {block} of `{}` are bad, and the health among them is not seen",
                name(device),
                station.name
            ),
            "give health a slot of its own, such as `{ slot = 3, in = 1 }`, or write `on-loss = \"hold\"` at the values",
        ),
        _ => (
            format!(
                "{block} of `{}` hold values of `{}` and `{}`: one lost value makes all of them bad",
                station.name,
                name(device),
                name(beside.source.device())
            ),
            "give each device a slot of its own, or write `on-loss = \"hold\"` or `fill` with health in another slot",
        ),
    };
    findings.push(Finding::new("M50", here.to.span, what).note(there.to.span, "such a value").fix(fix));
}

/// Values in a block that no controller has of those that are described.
fn unseen(
    project: &Project,
    (station, space): (&Station, SpaceId),
    cyclic: &dyn Cyclic,
    (clients, rules): (&[&Client], &[&PlannedRule]),
    findings: &mut Vec<Finding>,
) {
    let Some(space) = station.space_at(space) else { return };
    if clients.is_empty() || clients.iter().any(|client| cyclic.has(&client.setup, space)) {
        return;
    }
    let Some(first) = rules.first().and_then(|rule| project.maps.get(rule.map)) else { return };
    let names: BTreeSet<&str> = clients.iter().map(|client| client.name.value.as_str()).collect();
    let names = names.into_iter().collect::<Vec<_>>().join("`, `");
    let what = format!(
        "`{names}` does not have {} of `{}`: the controller never sees what lies there",
        space.name(),
        station.name
    );
    findings.push(
        Finding::new("M07", first.to.span, what)
            .note(
                span_of(project, Owner::Image(rules.first().map_or(0, |rule| rule.board)), "slots"),
                "the slots",
            )
            .fix(
                "add the slot at the controller and to its `slots`, or map these values into one that it has",
            ),
    );
}
