//! Intervals and waits at two ends that do not suit each other.

use super::clients::Interval;
use crate::finding::{Finding, Severity};
use crate::plan::{Plan, PlannedRule, Source};
use crate::project::{Owner, Project, Wires, show_micros};
use std::collections::{BTreeMap, HashMap};

/// A poll this many times faster than any client reads is worth a remark.
const FAR_FASTER: u64 = 10;
/// The least wait for an answer over a network, in microseconds: a switch, a router and a gateway take some of it each.
const NETWORK: u64 = 50_000;
/// What an adapter adds to each byte that comes, in microseconds.
const ADAPTER: u64 = 20_000;

pub(super) fn check(
    project: &Project,
    plan: &Plan,
    read: &HashMap<usize, Interval>,
    findings: &mut Vec<Finding>,
) {
    shorter_than_the_poll(project, plan, findings);
    faster_than_read(project, plan, read, findings);
    waits(project, plan, findings);
}

/// An image whose values are lost before the next poll brings them again. Once for each image and device.
fn shorter_than_the_poll(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let mut slowest: BTreeMap<(usize, usize), &PlannedRule> = BTreeMap::new();
    for rule in &plan.rules {
        let Source::Values { owner: Owner::Device(device), .. } = rule.source else { continue };
        let own = project.images.get(rule.board).and_then(|image| image.max_age);
        if own.is_some_and(|own| own < rule.every) {
            let known = slowest.entry((rule.board, device)).or_insert(rule);
            if rule.every > known.every {
                *known = rule;
            }
        }
    }
    for ((image, device), rule) in slowest {
        let (Some(image), Some(device)) = (project.images.get(image), project.devices.get(device)) else {
            continue;
        };
        let Some(map) = project.maps.get(rule.map) else { continue };
        let what = format!(
            "`{}` is polled every {}, and `{}` calls its values lost after {}",
            device.name.value,
            show_micros(rule.every),
            image.name.value,
            show_micros(image.max_age.unwrap_or(0))
        );
        findings.push(
            Finding::new("M22", map.to.span, what)
                .severity(Severity::Warning)
                .note(device.poll.span, "the poll")
                .note(image.name.span, "the image, with its `max-age`")
                .fix("poll more often, or write a `max-age` of at least two polls"),
        );
    }
}

/// Devices that are polled far more often than any described client reads them.
fn faster_than_read(
    project: &Project,
    plan: &Plan,
    read: &HashMap<usize, Interval>,
    findings: &mut Vec<Finding>,
) {
    // By device: its fastest poll, and the shortest interval at which anything of it is read; nothing where that is open.
    let mut known: BTreeMap<usize, (u64, Option<u64>)> = BTreeMap::new();
    for rule in &plan.rules {
        let Source::Values { owner: Owner::Device(device), .. } = rule.source else { continue };
        let interval = match read.get(&rule.map) {
            Some(Interval::Every(every)) if plan.sink(rule).is_none() => Some(*every),
            _ => None,
        };
        let entry = known.entry(device).or_insert((rule.every, interval));
        entry.0 = entry.0.min(rule.every);
        entry.1 = entry.1.zip(interval).map(|(one, other)| one.min(other));
    }
    for (device, (poll, interval)) in known {
        let Some(interval) = interval.filter(|interval| poll.saturating_mul(FAR_FASTER) < *interval) else {
            continue;
        };
        let Some(device) = project.devices.get(device) else { continue };
        let what = format!(
            "`{}` is polled every {}, and no client reads it more often than every {}",
            device.name.value,
            show_micros(poll),
            show_micros(interval)
        );
        findings.push(
            Finding::new("M23", device.poll.span, what)
                .severity(Severity::Remark)
                .fix("poll less often, and leave the line to others"),
        );
    }
}

/// Waits below what a network or an acknowledgement takes, and an acknowledgement that is waited for longer than the
/// answer.
fn waits(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    for (at, port) in project.ports.iter().enumerate() {
        let asks = (0..plan.devices.len()).any(|device| plan.is_on(device, at));
        let (true, Some(protocol), Some(line)) = (asks, port.protocol, plan.lines.get(at)) else { continue };
        let warn = |span, what: String, fix: &str| {
            Finding::new("M22", span, what).severity(Severity::Warning).fix(fix)
        };
        if matches!(port.wires, Some(Wires::Connect { .. })) && port.timeout.value < NETWORK {
            let what = format!(
                "a timeout of {} is less than a network and a busy device may take",
                show_micros(port.timeout.value)
            );
            findings.push(warn(
                port.timeout.span,
                what,
                "write 200ms or more; a device that answers at once loses nothing by it",
            ));
        }
        let wait = protocol.value.requests().and_then(|requests| requests.first_wait(&port.setup));
        let Some(wait) = wait else { continue };
        let written = port.settings.iter().find(|(key, _)| *key == "ack-timeout").map(|(_, span)| *span);
        let span = written.unwrap_or(port.name.span);
        // The acknowledgement itself is two characters.
        let least = line.bytes(2) + ADAPTER;
        if wait < least {
            let what = format!(
                "an acknowledgement is waited for {}, and takes up to {} through an adapter",
                show_micros(wait),
                show_micros(least)
            );
            findings.push(warn(span, what, "write an `ack-timeout` of 100ms or more"));
        }
        if let (Some(span), true) = (written, wait > port.timeout.value) {
            let what = format!(
                "an acknowledgement is waited for {}, longer than the answer to which it belongs, {}",
                show_micros(wait),
                show_micros(port.timeout.value)
            );
            findings.push(
                warn(span, what, "write an `ack-timeout` below `timeout`: the link acknowledges before anything is worked out")
                    .note(port.timeout.span, "the timeout"),
            );
        }
    }
}
