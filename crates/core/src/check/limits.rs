//! The project against what the box takes, and repeated entries against each other.

use crate::finding::{Finding, Severity};
use crate::plan::{Plan, Source, to_u32};
use crate::project::{Owner, Point, Port, Project, Wires};
use crate::protocol::{Place, SpaceId, StationId};
use crate::source::Spanned;
use crate::wanted::form_at;
use std::collections::{BTreeMap, HashMap};

pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let limits = &project.converter.limits;
    let mut over = |limit: Option<Spanned<u32>>, count: u32, what: &str| {
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
    over(limits.values, u32::try_from(points).unwrap_or(u32::MAX), "values in its rules");
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
            .fix("raise the limit (`ulimit -Hn`, or `LimitNOFILE` of the service), or lower `max-clients`")
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
                findings.push(finding.fix(format!("write a stride of {width} or more")));
            }
        }
    }
}

/// Repeated devices that share a station and are told apart by `shift`: each must stay within its own addresses.
fn siblings(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let mut taken: HashMap<(usize, Option<StationId>, SpaceId, u32), usize> = HashMap::new();
    let mut said: Vec<u32> = vec![];
    if project.devices.iter().all(|device| device.n.is_none()) {
        return beyond(project, plan, findings, &mut said);
    }
    let mut polled: Vec<Vec<Place>> = vec![vec![]; plan.devices.len()];
    for rule in &plan.rules {
        if let Source::Values { owner: Owner::Device(device), place, .. } = rule.source {
            polled.get_mut(device).into_iter().for_each(|own| own.push(place));
        }
    }
    beyond(project, plan, findings, &mut said);
    for (at, device) in project.devices.iter().enumerate().filter(|(_, device)| device.n.is_some()) {
        let (Some(port), Some(dialect)) = (device.port, project.device_dialect(at)) else { continue };
        let station = dialect.stations().station(&device.setup);
        for place in polled.get(at).into_iter().flatten() {
            if said.contains(&device.name.span.start) {
                break;
            }
            for grain in place.first..place.extent().end() {
                let before = *taken.entry((port.value, station.clone(), place.space, grain)).or_insert(at);
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
                findings.push(finding.fix("let `shift` step by as many addresses as one device has"));
                break;
            }
        }
    }
}

/// Points that lie where the next node of a box begins, whether a rule carries them or not.
fn beyond(project: &Project, plan: &Plan, findings: &mut Vec<Finding>, said: &mut Vec<u32>) {
    let mut boxes: BTreeMap<usize, Vec<i64>> = BTreeMap::new();
    for (at, device) in project.devices.iter().enumerate() {
        boxes.entry(plan.host(at)).or_default().push(device.shift.value);
    }
    for (host, mut shifts) in boxes.into_iter().filter(|(_, shifts)| shifts.len() > 1) {
        shifts.sort_unstable();
        let Some(step) = shifts.windows(2).filter_map(|pair| u32::try_from(pair[1] - pair[0]).ok()).min()
        else {
            continue;
        };
        let (Some(device), Some(profile)) = (project.devices.get(host), project.profile_of(host)) else {
            continue;
        };
        let mut lowest: HashMap<SpaceId, u32> = HashMap::new();
        let placed = |point: &Point| {
            let address = project.point_address(host, point).ok()?;
            let station = plan.devices.get(host)?;
            let at = station.spaces.id(&address.space.key)?;
            let form = form_at(station.dialect, &address, point.form.map(|form| form.value));
            let width = if address.bit.is_some() { 1 } else { form.ty.width(address.space.grain).ok()? };
            Some((at, address.first, width))
        };
        for (space, first, _) in profile.points.iter().filter_map(placed) {
            let lowest = lowest.entry(space).or_insert(first);
            *lowest = first.min(*lowest);
        }
        for point in &profile.points {
            let Some((space, first, width)) = placed(point) else { continue };
            let reaches = first + width - lowest.get(&space).copied().unwrap_or(first);
            if reaches > step {
                let what = format!(
                    "`{}` ends {reaches} addresses behind the beginning of its node, and the next node of `{}` begins {step} behind it",
                    point.name.value, device.name.value
                );
                let finding = Finding::new("M12", device.shift.span, what).note(point.at.span, "the point");
                findings.push(finding.fix("let `shift` step by as many addresses as one device has"));
                said.push(device.name.span.start);
                break;
            }
        }
    }
}
