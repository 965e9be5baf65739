//! Areas and what the ledger gave out of them.

use crate::finding::{Finding, Severity};
use crate::plan::Plan;
use crate::project::{AreaSlots, AreaUse, Map, Project};

/// Runs the checks on areas.
pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    if project.areas.is_empty() {
        return;
    }
    overlaps(project, findings);
    let uses = project.maps.iter().filter_map(|map| map.area.as_deref().map(|own| (map, own)));
    for (map, own) in uses.filter(|(map, _)| map.enabled) {
        match &own.given {
            None => {
                let area = project.areas.get(own.area).map_or("", |area| area.name.value.as_str());
                let what = format!("`{}` has no address in area `{area}` yet", own.value);
                findings.push(Finding::new("F12", map.to.span, what));
            }
            Some(_) => given(project, map, own, findings),
        }
    }
    wider(project, plan, findings);
    twice(project, findings);
}

fn overlaps(project: &Project, findings: &mut Vec<Finding>) {
    for (at, area) in project.areas.iter().enumerate() {
        let Some(own) = &area.slots else { continue };
        for other in project.areas.iter().take(at).filter(|other| other.image.value == area.image.value) {
            let Some(slots) = &other.slots else { continue };
            // In words, where one of them is made of bits.
            let words = |slots: &AreaSlots| (slots.first / slots.each, slots.end().div_ceil(slots.each));
            let ((first, end), (begin, stop)) = (words(own), words(slots));
            if slots.space.key == own.space.key && first < stop && begin < end {
                let what = format!("area `{}` overlaps area `{}`", area.name.value, other.name.value);
                findings.push(Finding::new("M02", area.range.span, what).note(other.range.span, "the other"));
            }
        }
    }
}

/// The address of the ledger lies in its area.
fn given(project: &Project, map: &Map, own: &AreaUse, findings: &mut Vec<Finding>) {
    let (Some(given), Some(area)) = (&own.given, project.areas.get(own.area)) else { return };
    let Some(slots) = &area.slots else { return };
    if let Some(slot) = project.slot_of(area, &given.at)
        && !(slots.first..slots.end()).contains(&slot)
    {
        let what = format!(
            "`{}` was given {}, which is not in area `{}` ({})",
            own.value, given.at, area.name.value, area.range.value
        );
        findings.push(
            Finding::new("M02", map.to.span, what)
                .severity(Severity::Warning)
                .note(given.span, "its line in the ledger")
                .fix("widen the area again: clients know that address; or delete the line and run `woodrush map --assign`"),
        );
    }
}

/// A value that takes more than it was given would lie on its neighbour.
fn wider(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    for rule in &plan.rules {
        let Some(map) = project.maps.get(rule.map) else { continue };
        let Some((own, given)) = map.area.as_deref().and_then(|own| Some((own, own.given.as_ref()?))) else {
            continue;
        };
        let takes = rule.target.width * rule.target.count;
        if takes > given.takes {
            let what = format!(
                "`{}` was given {} for {} addresses, and takes {takes} now",
                own.value, given.at, given.takes
            );
            findings.push(
                Finding::new("M02", map.to.span, what)
                    .note(given.span, "its line in the ledger")
                    .fix("delete that line and run `woodrush map --assign`: it gets another address, which its clients must be told"),
            );
        }
    }
}

/// Two values with one address: what a merge without a conflict leaves.
fn twice(project: &Project, findings: &mut Vec<Finding>) {
    let mut all: Vec<(usize, u32, u32, &Map, &AreaUse)> = vec![];
    for map in &project.maps {
        let Some(own) = map.area.as_deref() else { continue };
        let (Some(area), Some(given)) = (project.areas.get(own.area), &own.given) else { continue };
        let Some(slot) = project.slot_of(area, &given.at) else { continue };
        all.push((own.area, slot, slot.saturating_add(given.takes), map, own));
    }
    all.sort_by_key(|(area, slot, ..)| (*area, *slot));
    for pair in all.windows(2) {
        let [(area, _, end, _, first), (other, slot, _, map, second)] = pair else { continue };
        if area == other && slot < end {
            let what = format!("`{}` and `{}` were given the same address", first.value, second.value);
            let mut finding = Finding::new("M02", map.to.span, what)
                .fix("delete the line of the one that no client knows yet, and run `woodrush map --assign`");
            for own in [first, second] {
                if let Some(given) = &own.given {
                    finding = finding.note(given.span, format!("`{}`", own.value));
                }
            }
            findings.push(finding);
        }
    }
}
