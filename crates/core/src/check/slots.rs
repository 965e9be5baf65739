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

/// Whose a rule's values are: a device's, or those that clients or a controller write to an image.
const fn origin(rule: &PlannedRule) -> Option<Owner> {
    match rule.source {
        Source::Values { owner, .. } => Some(owner),
        Source::ClientCells { image, .. } => Some(Owner::Image(image)),
        Source::Health(_) | Source::Client => None,
    }
}

/// The same in words, of one or more of them.
fn origin_shown(plan: &Plan, origin: Owner, values: &str) -> String {
    let name = plan.station(origin).map_or("", |own| own.name.as_str());
    match origin {
        Owner::Image(_) => format!("what others write to `{name}`"),
        _ => format!("{values} of `{name}`"),
    }
}

/// A lost value that is refused makes its whole block bad: health beside it goes with it, and so do the values of others.
fn goes_with(
    project: &Project,
    plan: &Plan,
    station: &Station,
    rules: &[&PlannedRule],
    findings: &mut Vec<Finding>,
) {
    let refused = rules
        .iter()
        .filter(|rule| rule.on_loss == OnLoss::Refuse)
        .find_map(|rule| Some((rule, origin(rule)?)));
    let Some((refused, whose)) = refused else { return };
    let block = station.space_at(refused.target.space).map_or("", |space| space.name());
    let health = |rule: &&&PlannedRule| matches!(rule.source, Source::Health(_));
    let other = |rule: &&&PlannedRule| origin(rule).is_some_and(|own| own != whose);
    let Some(beside) = rules.iter().find(health).or_else(|| rules.iter().find(other)) else { return };
    let (Some(here), Some(there)) = (project.maps.get(beside.map), project.maps.get(refused.map)) else {
        return;
    };
    let name = &station.name;
    let (what, fix) = match origin(beside) {
        None => (
            format!(
                "once {} is lost, all {block} of `{name}` are bad, and the health among them is not seen",
                origin_shown(plan, whose, "a value"),
            ),
            "give health a slot of its own, such as `{ slot = 3, in = 1 }`, or write `on-loss = \"hold\"` at the values",
        ),
        Some(own) => (
            format!(
                "{block} of `{name}` hold {} and {}: while one of them is lost, or has not come yet, all of them are bad",
                origin_shown(plan, whose, "values"),
                origin_shown(plan, own, "values"),
            ),
            "give each a slot of its own, or write `on-loss = \"hold\"` or `fill` with health in another slot",
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
