//! Rules against each other and against what was promised.

use crate::finding::Finding;
use crate::plan::{Plan, Source, to_u32};
use crate::project::{Endpoint, Owner, Project, Target};
use crate::protocol::SpaceId;
use crate::source::Span;

pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    two_addresses(project, plan, findings);
    promised(project, plan, findings);
    rings(project, findings);
}

/// One point shown twice in the same image.
fn two_addresses(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let key = |at: u32| {
        let rule = plan.rules.get(at as usize)?;
        let Source::Poll { device, place, .. } = rule.source else { return None };
        Some((rule.image, device, place.space, place.first, place.width, place.bit, at))
    };
    let mut places: Vec<_> = (0..to_u32(plan.rules.len())).filter_map(key).collect();
    places.sort_unstable();
    for pair in places.windows(2) {
        let [first, second] = pair else { continue };
        if (first.0, first.1, first.2, first.3, first.4, first.5)
            == (second.0, second.1, second.2, second.3, second.4, second.5)
        {
            findings.extend(shown_twice(project, plan, first.6 as usize, second.6 as usize));
        }
    }
}

fn shown_twice(project: &Project, plan: &Plan, first: usize, second: usize) -> Option<Finding> {
    let (first, second) = (plan.rules.get(first)?, plan.rules.get(second)?);
    let (other, this) = (project.maps.get(first.map)?, project.maps.get(second.map)?);
    let image = plan.images.get(second.image)?;
    let both = [first, second].map(|rule| image.show(rule.target.space, rule.target.first, None));
    let what = format!("`{}` is shown twice, at {} and at {}", this.from.value, both[0], both[1]);
    Some(Finding::new("M10", this.to.span, what).note(other.to.span, "the other"))
}

/// `needs` of devices: the point must be carried by some rule.
fn promised(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let mut carried: Vec<(usize, usize)> = vec![];
    for rule in &plan.rules {
        if let Source::Poll { device, point: Some(point), .. } = rule.source {
            carried.push((device, point));
        }
    }
    carried.sort_unstable();
    // A rule that was left out for another fault would carry it all the same.
    let meant = |name: &str| project.maps.iter().any(|map| map.enabled && map.from.value == name);
    for (at, device) in project.devices.iter().enumerate() {
        for need in &device.needs {
            let profile = project.profile_of(at);
            let point =
                profile.and_then(|profile| profile.points.iter().position(|p| p.name.value == need.value));
            match point {
                Some(point) if carried.binary_search(&(at, point)).is_ok() => {}
                Some(_) if meant(&format!("{}.{}", device.name.value, need.value)) => {}
                Some(_) => {
                    let what = format!(
                        "`{}.{}` was promised, and no rule carries it",
                        device.name.value, need.value
                    );
                    let mend =
                        format!("add a `[[map]]` with `from = \"{}.{}\"`", device.name.value, need.value);
                    findings.push(Finding::new("M11", need.span, what).mend(mend));
                }
                None if profile.is_some_and(|profile| profile.points.is_empty()) => {}
                None => {
                    let what = format!("`{}` has no point `{}`", device.name.value, need.value);
                    findings.push(
                        Finding::new("F05", need.span, what).mend("write the name of a point of its profile"),
                    );
                }
            }
        }
    }
}

/// Two rules that feed each other directly: each begins where the other ends.
fn rings(project: &Project, findings: &mut Vec<Finding>) {
    // Only a rule that begins at an image can close a ring; there are few, so the rest is looked up.
    let backwards: Vec<(usize, Endpoint, Endpoint)> = project
        .maps
        .iter()
        .enumerate()
        .filter(|(_, map)| map.enabled && begins_at_image(project, &map.from.value))
        .filter_map(|(at, map)| {
            Some((at, project.endpoint(&map.from).ok()?, project.endpoint(&map.to).ok()?))
        })
        .collect();
    if backwards.is_empty() {
        return;
    }
    for (at, from, to) in &backwards {
        for (other, map) in project.maps.iter().enumerate().filter(|(other, map)| other != at && map.enabled)
        {
            let (Ok(other_from), Ok(other_to)) = (project.endpoint(&map.from), project.endpoint(&map.to))
            else {
                continue;
            };
            let already = begins_at_image(project, &map.from.value) && other > *at;
            if !already && same(from, &other_to) && same(to, &other_from) {
                // That this direction cannot be carried yet follows from the ring and would only hide it.
                let span: Span = from.span;
                findings.retain(|finding| !(finding.rule.code == "F09" && finding.span == span));
                let what = "this rule carries the value back to where the other one fetched it".to_string();
                findings.push(Finding::new("M46", span, what).note(map.from.span, "the other rule"));
            }
        }
    }
}

fn begins_at_image(project: &Project, from: &str) -> bool {
    let name = from.split([':', '.']).next().unwrap_or_default();
    project.image(name).is_some()
}

fn same(a: &Endpoint, b: &Endpoint) -> bool {
    let cells = |end: &Endpoint| match &end.target {
        Target::Cells(address, _) => Some((address.space.key.clone(), address.first, address.bit)),
        Target::Health(_) => None,
    };
    a.owner == b.owner && cells(a).is_some() && cells(a) == cells(b)
}

/// The place that an endpoint of somebody's `needs` names, for holding against what is carried.
pub(super) fn carries(plan: &Plan, endpoint: &Endpoint) -> Vec<usize> {
    let matches = |rule: &crate::plan::PlannedRule| match (&endpoint.target, endpoint.owner, rule.source) {
        (Target::Health(item), Owner::Device(at), Source::Health { device, item: shown }) => {
            at == device && *item == shown
        }
        (Target::Cells(address, _), Owner::Device(at), Source::Poll { device, place, .. }) => {
            let id = plan
                .devices
                .get(device)
                .and_then(|d| d.spaces.iter().position(|s| s.key == address.space.key));
            let same_space =
                id.is_some_and(|id| place.space == SpaceId(u16::try_from(id).unwrap_or(u16::MAX)));
            at == device && same_space && (place.first..place.extent().end()).contains(&address.first)
        }
        (Target::Cells(address, _), Owner::Image(at), _) => {
            let id =
                plan.images.get(at).and_then(|i| i.spaces.iter().position(|s| s.key == address.space.key));
            let same_space =
                id.is_some_and(|id| rule.target.space == SpaceId(u16::try_from(id).unwrap_or(u16::MAX)));
            at == rule.image
                && same_space
                && (rule.target.first..rule.target.extent().end()).contains(&address.first)
        }
        _ => false,
    };
    plan.rules.iter().enumerate().filter(|(_, rule)| matches(rule)).map(|(at, _)| at).collect()
}
