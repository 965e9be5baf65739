//! Rules against the sizes of the files and blocks that they carry.

use crate::finding::Finding;
use crate::plan::{Plan, Source};
use crate::project::Project;

/// So much of a file, in per cent, is meant to be all of it.
const NEARLY: u64 = 90;

/// A rule that begins at the first element and ends a few before the last.
pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    for rule in &plan.rules {
        let Source::Poll { device, place, .. } = rule.source else { continue };
        let (Some(station), Some(own)) = (plan.devices.get(device), project.devices.get(device)) else {
            continue;
        };
        let (Some(space), Some(dialect)) = (station.space_at(place.space), station.dialect) else { continue };
        let Some((name, size)) = own.tables.iter().find(|(name, _)| name.value == dialect.table(space))
        else {
            continue;
        };
        let (len, end) = (dialect.grains_of(space, *size), place.extent().end());
        let nearly = u64::from(end) * 100 >= u64::from(len) * NEARLY;
        if place.first > 0 || place.count < 2 || end >= len || !nearly {
            continue;
        }
        // Another rule may carry the rest.
        let goes_on = plan.rules.iter().any(|other| {
            matches!(other.source, Source::Poll { device: of, place: further, .. }
                if of == device && further.space == place.space && further.first >= end)
        });
        let Some(map) = project.maps.get(rule.map).filter(|_| !goes_on) else { continue };
        let at = map.count.map_or(map.from.span, |count| count.span);
        let what = format!(
            "it ends before {}, and `{}` has {size}: the last {} are left out",
            station.show_wide(place.space, end, place.width, None),
            name.value,
            (len - end) / place.width.max(1)
        );
        findings.push(Finding::new("M13", at, what).note(name.span, "its size"));
    }
}
