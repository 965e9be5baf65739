//! Writes to devices that do something else than the rule seems to say.

use crate::finding::Finding;
use crate::plan::{Plan, PlannedRule, Source, Station};
use crate::project::{Owner, Project};
use crate::protocol::Place;

pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    for rule in &plan.rules {
        let Some((device, place)) = written(plan, rule) else { continue };
        let Some(map) = project.maps.get(rule.map) else { continue };
        let Some(space) = device.space_at(place.space) else { continue };
        let at = if plan.sink(rule).is_some() { map.to.span } else { map.read_write.unwrap_or(map.to.span) };
        let shown = device.show_wide(place.space, place.first, place.width, place.bit);
        if space.rewritten {
            let what =
                format!("{shown} is written, and the controller's own program writes it in every scan");
            findings.push(Finding::new("M15", at, what));
        }
        if device.reads_first(&place) {
            let part = if place.bit.is_some() { "one bit" } else { "a part of a word" };
            let what =
                format!("{shown} is {part}, and what lies around it is fetched, changed and written back");
            findings.push(Finding::new("M58", at, what));
        }
    }
}

/// Which cells of which device a rule writes, be it a client's write or a value that is sent.
fn written<'p>(plan: &'p Plan, rule: &PlannedRule) -> Option<(&'p Station, Place)> {
    if let Some(device) = plan.sink(rule) {
        return Some((plan.devices.get(device)?, rule.target));
    }
    match rule.source {
        Source::Values { owner: Owner::Device(device), place, .. } if rule.writable => {
            Some((plan.devices.get(device)?, place))
        }
        _ => None,
    }
}
