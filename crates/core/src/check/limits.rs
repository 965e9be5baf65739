//! The project against what the box takes, and repeated entries against each other.

use crate::finding::{Finding, Severity};
use crate::plan::{Plan, Source, to_u32};
use crate::project::{Port, Project, Wires};
use crate::protocol::{Place, SpaceId};
use crate::source::At;
use std::collections::HashMap;

pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let limits = &project.converter.limits;
    let mut over = |limit: Option<At<u32>>, count: u32, what: &str| {
        if let Some(limit) = limit.filter(|limit| count > limit.value) {
            let what = format!("the project has {count} {what}, and the box takes {}", limit.value);
            findings.push(Finding::new("M31", limit.span, what));
        }
    };
    over(limits.clients, to_u32(project.clients.len()), "clients");
    let serial: Vec<usize> = (0..project.ports.len())
        .filter(|at| {
            matches!(project.ports.get(*at).and_then(|p| p.wires.as_ref()), Some(Wires::Serial { .. }))
        })
        .collect();
    over(limits.lines, to_u32(serial.len()), "serial lines");
    for at in serial {
        let here = project.devices.iter().filter(|device| device.is_on(at)).count();
        let name = project.ports.get(at).map_or("", |port| port.name.value.as_str());
        over(limits.devices_per_line, to_u32(here), &format!("devices on `{name}`"));
    }
    let points: u64 = plan
        .rules
        .iter()
        .filter(|rule| !matches!(rule.source, Source::Client))
        .map(|rule| u64::from(rule.target.count))
        .sum();
    over(limits.points, u32::try_from(points).unwrap_or(u32::MAX), "values in its rules");
    rows(project, findings);
    siblings(project, plan, findings);
}

/// Places of the project's own that need a descriptor beside its ports: the log, the control socket and their like.
const BESIDE: u64 = 32;

/// The connections that the project allows, against the descriptors that the machine lets this program have.
#[must_use]
pub fn descriptors(project: &Project, most: u64) -> Option<Finding> {
    let listens = |port: &&Port| matches!(port.wires, Some(Wires::Listen { .. }));
    let clients = |port: &Port| if port.is_opaque() { 1 } else { u64::from(port.max_clients) };
    let places: u64 = project.ports.iter().filter(listens).map(clients).sum();
    let ports = u64::try_from(project.ports.len()).unwrap_or(u64::MAX);
    // A listening port has two: its socket, and a second one for a changed project.
    let needed = places.saturating_add(ports.saturating_mul(4)).saturating_add(BESIDE);
    let widest = project.ports.iter().filter(listens).max_by_key(|port| port.max_clients)?;
    (needed > most).then(|| {
        let what = format!(
            "the ports may have {places} clients at once, which takes {needed} descriptors, and this user may have {most} here"
        );
        Finding::new("M31", widest.name.span, what)
            .severity(Severity::Warning)
            .mend("raise the limit (`ulimit -Hn`, or `LimitNOFILE` of the service), or lower `max-clients`")
    })
}

/// Points in a row that are wider than the way to the next one.
fn rows(project: &Project, findings: &mut Vec<Finding>) {
    for profile in &project.profiles {
        for point in &profile.points {
            let Some((1, stride)) = point.row else { continue };
            let width = point.form.and_then(|form| form.value.ty.bytes()).unwrap_or(2).div_ceil(2);
            if width > stride.value {
                let what = format!(
                    "a value of `{}` takes {width} registers, and the next one begins {} later",
                    point.name.value.trim_end_matches("-1"),
                    stride.value
                );
                let finding = Finding::new("M12", stride.span, what).note(point.at.span, "the point");
                findings.push(finding.mend(format!("write a stride of {width} or more")));
            }
        }
    }
}

/// Repeated devices that share a station and are told apart by `shift`: each must stay within its own addresses.
fn siblings(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let mut taken: HashMap<(usize, Option<u32>, SpaceId, u32), usize> = HashMap::new();
    let mut said: Vec<u32> = vec![];
    let mut polled: Vec<Vec<Place>> = vec![vec![]; plan.devices.len()];
    for rule in &plan.rules {
        if let Source::Poll { device, place, .. } = rule.source {
            polled.get_mut(device).into_iter().for_each(|own| own.push(place));
        }
    }
    for (at, device) in project.devices.iter().enumerate().filter(|(_, device)| device.n.is_some()) {
        let (Some(port), Some(dialect)) = (device.port, project.device_dialect(at)) else { continue };
        let station = dialect.station(&device.setup);
        for place in polled.get(at).into_iter().flatten() {
            if said.contains(&device.name.span.start) {
                break;
            }
            for grain in place.first..place.extent().end() {
                let before = *taken.entry((port.value, station, place.space, grain)).or_insert(at);
                let Some(other) = project.devices.get(before).filter(|_| before != at) else { continue };
                if other.name.span != device.name.span {
                    continue;
                }
                said.push(device.name.span.start);
                let what = format!(
                    "{} belongs to `{}` and to `{}`",
                    plan.devices.get(at).map(|own| own.show(place.space, grain, None)).unwrap_or_default(),
                    other.name.value,
                    device.name.value
                );
                let finding =
                    Finding::new("M12", device.shift.span, what).note(device.name.span, "the device");
                findings.push(finding.mend("let `shift` step by as many addresses as one device has"));
                break;
            }
        }
    }
}
