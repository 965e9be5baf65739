//! What was handed over, held against what the project says now: an address that clients know has moved, has another
//! value behind it, or is gone; a device or an image is set otherwise than those outside know it.

use crate::compare::{ChangeKind, Comparison, KnownSite, ValueChange, asked_by_old_number, has_setting};
use crate::finding::Finding;
use crate::plan::Plan;
use crate::project::{Client, Project};

/// Runs the checks against the last issue.
pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let Some(issue) = project.issues.last() else { return };
    let now = KnownSite::of_plan(project, plan);
    let comparison = Comparison::of(&KnownSite::of_issue(issue), &now);
    let number = issue.number;
    let fix = format!(
        "put it back as it was, or tell the clients of issue {number} and close a new one: `woodrush handover DIR --issue \"…\"`"
    );
    let told = |code, map: Option<usize>, what: String, old: &ValueChange| {
        let rule = map.and_then(|map| project.maps.get(map));
        // What is gone has no rule: its line in the ledger is the place.
        let span = rule.map_or(old.old_span, |map| map.to.span);
        let finding = Finding::new(code, span, what).fix(fix.clone());
        if rule.is_some() { finding.note(old.old_span, format!("issue {number}")) } else { finding }
    };
    for change in &comparison.values {
        let (Some(was_at), (was, is)) = (&change.was_at, &change.texts) else { continue };
        match (change.kind, &change.is_at) {
            (ChangeKind::Moved, Some(there)) => {
                let what = format!("`{}` was handed over at {was_at}, and is at {there} now", change.source);
                findings.push(told("M59", change.map, what, change));
                if let Some(taken_by) = &change.taken_by {
                    let what = format!("{was_at} was handed over as `{was}`, and is `{taken_by}` now");
                    let map = now.values.get(was_at).and_then(|value| value.map);
                    findings.push(told("M60", map, what, change));
                }
            }
            (ChangeKind::Changed, _) => {
                let what = format!("{was_at} was handed over as `{was}`, and is `{is}` now");
                findings.push(told("M60", change.map, what, change));
            }
            // What a faulty rule would show is not gone: its own fault is told.
            (ChangeKind::Gone, _) if !is_hidden(project, plan, change.image()) => {
                let what = format!("{was_at} was handed over as `{was}`, and nothing is there now");
                findings.push(told("M61", None, what, change));
            }
            _ => {}
        }
    }
    settings(project, plan, &comparison, number, findings);
}

/// Images and devices that are set differently: clients or devices may still have the old setting.
fn settings(
    project: &Project,
    plan: &Plan,
    comparison: &Comparison,
    number: u32,
    findings: &mut Vec<Finding>,
) {
    let ends = comparison.images.iter().map(|end| (end, true));
    for (end, is_image) in ends.chain(comparison.devices.iter().map(|end| (end, false))) {
        // A device or image that is new, or gone, is no setting that changed.
        let differs: Vec<String> = end
            .differs
            .iter()
            .filter(|own| !own.what.is_empty())
            .map(|own| match (own.was.as_str(), own.is.as_str()) {
                ("", is) => format!("{} {is}, and none before", own.what),
                (was, "") => format!("no {} any more, and {was} before", own.what),
                (was, is) => format!("{} {is}, and {was} before", own.what),
            })
            .collect();
        if differs.is_empty() {
            continue;
        }
        let mut on_the_old: Vec<String> = vec![];
        if is_image {
            let clients: Vec<&Client> =
                project.image(&end.name).into_iter().flat_map(|image| project.clients_of(image)).collect();
            let (follow, asks): (Vec<&Client>, Vec<&Client>) = clients
                .into_iter()
                .partition(|client| end.differs.iter().all(|own| has_setting(client, own)));
            if asks.is_empty() && !follow.is_empty() {
                continue;
            }
            on_the_old.extend(asks.iter().map(|client| format!("client {}", client.name.value)));
        } else {
            on_the_old.push("the device itself".into());
            let behind = asked_by_old_number(project, plan, end);
            on_the_old.extend(behind.into_iter().map(|follower| follower.who));
        }
        let who = if on_the_old.is_empty() {
            "clients that are not described".to_string()
        } else {
            on_the_old.join(", ")
        };
        let what =
            format!("`{}` has {}; still on the old one, unless changed: {who}", end.name, differs.join("; "));
        let fix = format!(
            "see that each has the new one (`woodrush compare issue:{number}`), then close a new issue: `woodrush handover DIR --issue \"…\"`"
        );
        findings
            .push(Finding::new("M26", end.span, what).note(end.old_span, format!("issue {number}")).fix(fix));
    }
}

/// Whether some rule of the image could not be resolved.
fn is_hidden(project: &Project, plan: &Plan, image: &str) -> bool {
    let image = project.images.iter().position(|own| own.name.value == image);
    image.is_some_and(|image| plan.unresolved.iter().any(|(board, _)| *board == image))
}
