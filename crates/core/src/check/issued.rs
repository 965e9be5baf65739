//! What was handed over, held against what the project says now: an address that clients know has moved, has another
//! value behind it, or is gone.

use crate::finding::Finding;
use crate::handover::issued_values;
use crate::ledger::IssuedValue;
use crate::plan::Plan;
use crate::project::Project;
use std::collections::{BTreeMap, HashMap};

/// Runs the checks against the last issue.
pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let Some(issue) = project.issues.last() else { return };
    let now = issued_values(project, plan);
    // Where each value is now; of one that is shown twice, the first.
    let mut places: HashMap<(&str, &str), &str> = HashMap::new();
    for (address, (value, _)) in now.iter().rev() {
        places.insert((image_of(address), &value.source), address);
    }
    let number = issue.number;
    let fix = format!(
        "put it back as it was, or tell the clients of issue {number} and close a new one: `woodrush handover DIR --issue \"…\"`"
    );
    let told = |code, at: &str, what: String, old: &IssuedValue| {
        let rule = now.get(at).and_then(|(_, map)| project.maps.get(*map));
        // What is gone has no rule: its line in the ledger is the place.
        let span = rule.map_or(old.span, |map| map.to.span);
        let finding = Finding::new(code, span, what).fix(fix.clone());
        if rule.is_some() { finding.note(old.span, format!("issue {number}")) } else { finding }
    };
    for (address, old) in &issue.values {
        let here = now.get(address).map(|(value, _)| value);
        if here.is_some_and(|here| here.is_as(old)) {
            continue;
        }
        let is_other = here.is_none_or(|here| here.source != old.source);
        let there = places.get(&(image_of(address), old.source.as_str())).copied();
        // Another address shows it that did not when it was handed over.
        let moved = there.filter(|there| is_other && !shows(&issue.values, there, &old.source));
        if let Some(there) = moved {
            let what = format!("`{}` was handed over at {address}, and is at {there} now", old.source);
            findings.push(told("M59", there, what, old));
        }
        match here {
            Some(here) => {
                let what = format!("{address} was handed over as `{old}`, and is `{here}` now");
                findings.push(told("M60", address, what, old));
            }
            // What a faulty rule would show is not gone: its own fault is told.
            None if moved.is_none() && !is_hidden(project, plan, address) => {
                let what = format!("{address} was handed over as `{}`, and nothing is there now", old.source);
                findings.push(told("M61", address, what, old));
            }
            None => {}
        }
    }
}

/// Whether some rule of the image could not be resolved.
fn is_hidden(project: &Project, plan: &Plan, address: &str) -> bool {
    let image = project.images.iter().position(|image| image.name.value == image_of(address));
    image.is_some_and(|image| plan.unresolved.iter().any(|(board, _)| *board == image))
}

fn image_of(address: &str) -> &str {
    address.split(':').next().unwrap_or_default()
}

fn shows(values: &BTreeMap<String, IssuedValue>, address: &str, source: &str) -> bool {
    values.get(address).is_some_and(|value| value.source == source)
}
