//! Rules against what the programmers of controllers have declared: who may write, how long an array is, how a name is
//! written.

use crate::finding::{Finding, Severity};
use crate::plan::{Plan, PlannedRule, Source};
use crate::project::{Map, Owner, Project};
use crate::protocol::{Access, Place};
use crate::source::Span;

pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    if project.devices.iter().all(|device| device.setup.declared.is_none()) {
        return;
    }
    for rule in &plan.rules {
        let Some(map) = project.maps.get(rule.map) else { continue };
        for (device, place, writes, at) in ends(plan, rule, map) {
            findings.extend(end(project, plan, map, device, place, writes.then_some(at).ok_or(at)));
        }
    }
}

/// The ends of a rule that lie in devices: where, whether it is written there, and the place in the file.
fn ends(plan: &Plan, rule: &PlannedRule, map: &Map) -> Vec<(usize, Place, bool, Span)> {
    let mut found = vec![];
    if let Source::Values { owner: Owner::Device(device), place, .. } = rule.source {
        found.push((device, place, rule.writable, map.from.span));
    }
    found.extend(plan.sink(rule).map(|device| (device, rule.target, true, map.to.span)));
    found
}

/// What is wrong with one end; `at` is `Ok` where it is written.
fn end(
    project: &Project,
    plan: &Plan,
    map: &Map,
    device: usize,
    place: Place,
    at: Result<Span, Span>,
) -> Vec<Finding> {
    let own = || {
        let station = plan.devices.get(device)?;
        let list = project.devices.get(device)?.setup.declared.as_deref()?;
        let (space, dialect) = (station.space_at(place.space)?, station.dialect?);
        Some((list, space, dialect, dialect.notation().declared(list, space)?))
    };
    let Some((list, space, dialect, row)) = own() else { return vec![] };
    let (Ok(span) | Err(span)) = at;
    let finding = |span, what: String| Finding::new("M33", span, what).note(row.span, "declared here");
    let mut found = vec![];
    if at.is_ok() && row.access == Access::ReadOnly {
        let what = format!("`{}` is written here, and others may only read it by `{}`", row.name, list.path);
        let span = map.read_write.filter(|_| span == map.from.span).unwrap_or(span);
        found.push(finding(span, what).fix("have its external access made read-write, or write another tag"));
    }
    let written = dialect.notation().table(space).split('[').next().unwrap_or_default();
    if written != row.name && written.eq_ignore_ascii_case(&row.name) {
        let what = format!("the tag is declared as `{}`, and is `{written}` here", row.name);
        found.push(finding(span, what).severity(Severity::Remark).fix("write it as it is declared"));
    }
    // An array's last dimension is the one that runs; what is no array has one element.
    let whole = row.name.len() == written.len();
    let size = row.dimensions.last().copied().unwrap_or(1);
    if whole && place.extent().end() > size {
        let what = match row.dimensions.is_empty() {
            true => format!(
                "`{}` is no array by `{}`, and {} elements are asked for",
                row.name, list.path, place.count
            ),
            false => {
                let last = place.extent().end() - 1;
                format!(
                    "`{}` ends at element {} by `{}`, and this goes on to {last}",
                    row.name,
                    size - 1,
                    list.path
                )
            }
        };
        let at = map.count.map_or(span, |count| count.span);
        found.push(finding(at, what).fix("lower `count`, or have the array declared longer"));
    }
    found
}
