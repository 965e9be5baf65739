//! Silences, timeouts and intervals: what waits too long, too short, or without need.

use crate::finding::{Finding, Severity};
use crate::plan::{Plan, PlannedRule, Source};
use crate::project::{Owner, Polling, Port, Project, show_micros};
use crate::protocol::Verb;
use std::collections::{BTreeMap, BTreeSet};

/// A silence of so many times the protocol's own is worth a remark.
const LONG: u64 = 3;
/// An age of so many times the poll is worth a remark.
const FAR_OLDER: u64 = 10;

pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    for (at, port) in project.ports.iter().enumerate() {
        frame_gap(plan, at, port, findings);
        timeout(plan, at, port, findings);
    }
    intervals(project, plan, findings);
    waiting(project, plan, findings);
    ages(project, plan, findings);
    forgotten(project, plan, findings);
}

fn frame_gap(plan: &Plan, at: usize, port: &Port, findings: &mut Vec<Finding>) {
    let (Some(own), Some(line)) = (port.frame_gap, plan.lines.get(at)) else { return };
    if own.value < line.frame_gap {
        let what = format!(
            "a frame gap of {} is shorter than the 3.5 characters of this line, {}",
            show_micros(own.value),
            show_micros(line.frame_gap)
        );
        let fix = format!("write {} or more, or leave it out", show_micros(line.frame_gap));
        findings.push(Finding::new("M21", own.span, what).fix(fix));
    } else if own.value > LONG * line.frame_gap && line.frame_gap > 0 {
        let on = |device: usize| plan.devices.get(device).is_some_and(|d| d.port == at);
        let requests =
            plan.transfers.iter().filter(|transfer| transfer.asked_device().is_some_and(on)).count();
        let extra = (own.value - line.frame_gap).saturating_mul(u64::try_from(requests).unwrap_or(u64::MAX));
        if requests == 0 {
            return;
        }
        let what = format!(
            "a frame gap of {} costs {} in each round of {requests} polls; the protocol asks for {}",
            show_micros(own.value),
            show_micros(extra),
            show_micros(line.frame_gap)
        );
        let finding = Finding::new("M21", own.span, what).severity(Severity::Remark);
        findings.push(finding.fix("keep it if a device needs it, and say which in a `note`"));
    }
}

/// The timeout against the longest answer.
fn timeout(plan: &Plan, at: usize, port: &Port, findings: &mut Vec<Finding>) {
    let Some(line) = plan.lines.get(at) else { return };
    let answer = |at_transfer: usize| {
        let transfer = plan.transfers.get(at_transfer)?;
        let station = plan.station(transfer.from).filter(|station| station.port == at)?;
        let cost = station.cost(Verb::Read, &transfer.parts)?;
        Some((line.bytes(cost.back) + line.frame_gap, transfer))
    };
    let Some((longest, transfer)) =
        (0..plan.transfers.len()).filter_map(answer).max_by_key(|(takes, _)| *takes)
    else {
        return;
    };
    if longest > port.timeout.value {
        let device = plan.station(transfer.from).map_or("", |station| station.name.as_str());
        let what = format!(
            "the longest answer, of `{device}`, takes {}, and after {} it is given up",
            show_micros(longest),
            show_micros(port.timeout.value)
        );
        let fix = format!("write {} or more, or lower `max-read`", show_micros(longest.saturating_mul(2)));
        findings.push(Finding::new("M22", port.timeout.span, what).fix(fix));
    }
}

/// Polls without a pause, and writes that nobody needs.
fn intervals(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let zero = |poll: &crate::source::Spanned<Polling>| poll.value == Polling::Every(0);
    let maps = project.maps.iter().filter_map(|map| map.poll);
    for poll in project.devices.iter().map(|device| device.poll).chain(maps).filter(zero) {
        let what = "a poll every 0 seconds asks without a pause".to_string();
        findings.push(Finding::new("M23", poll.span, what).fix("write how often the value is really needed"));
    }
    for rule in &plan.rules {
        let (Some(_), Some(map)) = (plan.sink(rule), project.maps.get(rule.map)) else { continue };
        let Some(send) = map.send.as_deref() else { continue };
        let polled = matches!(rule.source, Source::Values { .. });
        if let Some(every) = rule.sending.every.filter(|every| polled && *every < rule.every) {
            let what = format!(
                "the value is sent every {} and read only every {}",
                show_micros(every),
                show_micros(rule.every)
            );
            let fix = format!("send `on-change`, or every {} or less often", show_micros(rule.every));
            findings.push(Finding::new("M23", send.span, what).fix(fix));
        }
        if rule.sending.on_write && rule.sending.on_change {
            let what =
                "each write of a client is sent, changed or not, so `on-change` adds nothing".to_string();
            findings.push(Finding::new("M23", send.span, what).fix("keep one of the two"));
        }
    }
}

/// A default age that is far longer than the poll: once for each device, for its fastest poll.
fn ages(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let mut fastest: BTreeMap<usize, &PlannedRule> = BTreeMap::new();
    for rule in &plan.rules {
        let said = project.images.get(rule.board).is_some_and(|image| image.max_age.is_some());
        if let (Source::Values { owner: Owner::Device(device), .. }, false) = (rule.source, said) {
            let known = fastest.entry(device).or_insert(rule);
            if rule.every < known.every {
                *known = rule;
            }
        }
    }
    let mut asked: BTreeMap<usize, BTreeSet<usize>> = BTreeMap::new();
    for transfer in &plan.transfers {
        if let (Some(station), Some(device)) = (plan.station(transfer.from), transfer.asked_device()) {
            asked.entry(station.port).or_default().insert(device);
        }
    }
    for (device, rule) in fastest {
        if rule.max_age <= FAR_OLDER * rule.every.max(1) {
            continue;
        }
        let (Some(own), Some(station)) = (project.devices.get(device), plan.devices.get(device)) else {
            continue;
        };
        // Where blocks come in cycles, the watchdog says how old they may be.
        if plan.link_of(Owner::Device(device)).is_some() {
            continue;
        }
        // A line that cannot keep its polls is told as such.
        if own.poll.value == Polling::Every(0) || rule.published || plan.load(station.port) > 1.0 {
            continue;
        }
        let alone = asked.get(&station.port).is_none_or(|devices| devices.len() < 2);
        let age = plan.age_of(project, station.port, rule.every, alone);
        let turns = if age.turns > rule.every { "the cycle" } else { "the poll" };
        let other = match age.other {
            0 => String::new(),
            other => format!(" + {} for another device that does not answer", show_micros(other)),
        };
        let what = format!(
            "a value of `{}` may be {} old before it counts as lost, and is polled every {}: 3 x {} ({turns}) + {} for one answer{other}",
            own.name.value,
            show_micros(age.sum()),
            show_micros(rule.every),
            show_micros(age.turns),
            show_micros(age.wait),
        );
        let place = project.maps.get(rule.map).and_then(|map| map.poll).unwrap_or(own.poll).span;
        let fix =
            "shorten the port's waits (`timeout`, `ack-timeout`, retries), or write `max-age` at the image";
        findings.push(Finding::new("M65", place, what).fix(fix));
    }
}

/// Values that are sent on change only: a device that was restarted between two requests has forgotten them, and nothing
/// is sent before the next change. Once for each device.
fn forgotten(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let mut sent: BTreeMap<usize, Vec<&PlannedRule>> = BTreeMap::new();
    for rule in &plan.rules {
        let only_changes = rule.sending.on_change && rule.sending.every.is_none();
        let stands_still = !matches!(rule.source, Source::Health(told) if told.grows());
        if let (Some(device), true) = (plan.sink(rule), only_changes && stands_still) {
            sent.entry(device).or_default().push(rule);
        }
    }
    for (device, rules) in sent {
        let Some(map) = rules.first().and_then(|rule| project.maps.get(rule.map)) else { continue };
        let name = plan.devices.get(device).map_or("", |station| station.name.as_str());
        let gets = match rules.len() {
            1 => "this value".to_string(),
            count => format!("{count} values"),
        };
        let what = format!(
            "`{name}` is sent {gets} only on a change, and after the converter has seen it away: a restart that goes unnoticed leaves it without"
        );
        let fix = "write `send = [\"on-change\", \"every 1m\"]` where the device forgets at a restart";
        findings.push(Finding::new("M66", map.to.span, what).fix(fix));
    }
}

/// A client that gives up before the converter does.
fn waiting(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    for client in &project.clients {
        let Some(own) = client.timeout else { continue };
        // Where what it asks goes on to a device: writes of its image, or requests that are forwarded.
        let written = plan.rules.iter().filter(|rule| {
            client.image.is_some_and(|image| image.value == rule.board)
                && rule.writable
                && !client.writes.is_empty()
        });
        let devices = written.flat_map(|rule| match rule.source {
            Source::Values { owner: Owner::Device(device), .. } => vec![device],
            _ => vec![],
        });
        let ports = devices.filter_map(|device| plan.write_port(device));
        let forwarded =
            plan.forwards.iter().filter(|forward| client.port.is_some_and(|p| p.value == forward.from));
        let longest = ports
            .chain(forwarded.map(|forward| forward.to))
            .filter_map(|port| project.ports.get(port))
            .map(|port| (port.timeout.value.saturating_mul(u64::from(port.retries) + 1), port))
            .max_by_key(|(takes, _)| *takes);
        let Some((takes, port)) = longest.filter(|(takes, _)| *takes > own.value) else { continue };
        let what = format!(
            "`{}` gives up after {}, but on `{}` the converter waits {} for a device that does not answer",
            client.name.value,
            show_micros(own.value),
            port.name.value,
            show_micros(takes)
        );
        let finding = Finding::new("M22", own.span, what).note(port.timeout.span, "the port's timeout");
        findings.push(finding.fix("let the client wait longer than the port, retries included"));
    }
}
