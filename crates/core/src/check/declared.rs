//! Rules against what the programmers of controllers have declared: who may write, how long an array is, how a name is
//! written.

use crate::finding::{Finding, Severity};
use crate::plan::{Plan, PlannedRule, Source};
use crate::project::{Map, Owner, Project};
use crate::protocol::{Access, DeclaredSpace, Place};
use crate::source::Span;

pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    if project.devices.iter().all(|device| device.setup.declared.is_none()) {
        return;
    }
    for rule in &plan.rules {
        let Some(map) = project.maps.get(rule.map) else { continue };
        for end in ends(plan, rule, map) {
            findings.extend(end.faults(project, plan, map).unwrap_or_default());
        }
    }
}

/// The end of a rule that lies in a device.
struct DeviceEnd {
    device: usize,
    place: Place,
    is_written: bool,
    /// Where the file names it.
    span: Span,
}

fn ends(plan: &Plan, rule: &PlannedRule, map: &Map) -> Vec<DeviceEnd> {
    let mut found = vec![];
    if let Source::Values { owner: Owner::Device(device), place, .. } = rule.source {
        found.push(DeviceEnd { device, place, is_written: rule.writable, span: map.from.span });
    }
    let sink = |device| DeviceEnd { device, place: rule.target, is_written: true, span: map.to.span };
    found.extend(plan.sink(rule).map(sink));
    found
}

impl DeviceEnd {
    /// What is wrong with it; `None` where no list says anything of it.
    fn faults(&self, project: &Project, plan: &Plan, map: &Map) -> Option<Vec<Finding>> {
        let (place, span) = (self.place, self.span);
        let list = project.devices.get(self.device)?.setup.declared.as_deref()?;
        let station = plan.devices.get(self.device)?;
        let DeclaredSpace { row, written, elements } =
            station.dialect?.notation().lists().declared(list, station.space_at(place.space)?)?;
        let finding = |span, what: String| Finding::new("M33", span, what).note(row.span, "declared here");
        let mut found = vec![];
        if self.is_written && row.access == Access::ReadOnly {
            let what =
                format!("`{}` is written here, but `{}` declares it as read-only", row.name, list.path);
            let span = map.read_write.filter(|_| span == map.from.span).unwrap_or(span);
            found.push(
                finding(span, what).fix("have its external access made read-write, or write another tag"),
            );
        }
        if written != row.name {
            let what = format!("the tag is declared as `{}` but written as `{written}` here", row.name);
            found.push(finding(span, what).severity(Severity::Remark).fix("write it as it is declared"));
        }
        if let Some(elements) = elements.filter(|elements| place.extent().end() > *elements) {
            let what = if row.dimensions.is_empty() {
                format!(
                    "`{}` is not an array in `{}`, but {} elements are mapped",
                    row.name, list.path, place.count
                )
            } else {
                let (end, last) = (elements.saturating_sub(1), place.extent().end() - 1);
                format!(
                    "`{}` ends at element {end} in `{}`, but this rule goes on to {last}",
                    row.name, list.path
                )
            };
            let at = map.count.map_or(span, |count| count.span);
            found.push(finding(at, what).fix("lower `count`, or have the array declared longer"));
        }
        Some(found)
    }
}
