//! Lines, stations and the speed of both: what keeps a port from carrying anything.

use crate::finding::{Finding, Severity};
use crate::plan::{Plan, Source, Station};
use crate::project::{Image, Line, Port, Project, Wires, show_micros};
use crate::protocol::PortKeys;
use crate::protocol::{StationId, Transport};
use crate::source::{Span, Spanned};
use std::collections::BTreeMap;
use std::ops::Range;

pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    for (at, port) in project.ports.iter().enumerate() {
        protocol(port, findings);
        who_is_there(project, at, port, findings);
        line_settings(project, at, port, findings);
        stations(project, at, port, findings);
        speed(project, plan, at, port, findings);
    }
    write_ports(project, findings);
    paths(project, findings);
}

/// Another port for writes leads to the same device: it speaks the same, and is another one.
fn write_ports(project: &Project, findings: &mut Vec<Finding>) {
    let ports = |at: Option<Spanned<usize>>| at.and_then(|at| Some((at, project.ports.get(at.value)?)));
    for device in &project.devices {
        let (Some((at, own)), Some((by, writes))) = (ports(device.port), ports(device.write_port)) else {
            continue;
        };
        let spoken = |port: &Port| port.protocol.map_or("nothing", |protocol| protocol.value.name());
        let (what, fix) = if at.value == by.value {
            (
                format!("`write-port` is `{}`, the port of the device itself", own.name.value),
                "leave it out: one connection does both",
            )
        } else if spoken(own) != spoken(writes) {
            let (here, there) = (spoken(own), spoken(writes));
            let name = &device.name.value;
            (
                format!("`{name}` is read in {here} and would be written in {there}"),
                "name a port of the same protocol",
            )
        } else {
            continue;
        };
        findings.push(Finding::new("F11", by.span, what).fix(fix));
    }
}

fn protocol(port: &Port, findings: &mut Vec<Finding>) {
    let (Some(protocol), Some(transport)) = (port.protocol, port.transport()) else { return };
    if let Err(why) = protocol.value.runs_on(transport) {
        let what = format!("`{}` cannot run on this port: {why}", protocol.value.name());
        findings.push(
            Finding::new("M28", protocol.span, what)
                .fix("write the protocol that the other end uses on such wires"),
        );
    }
    if let Some(Wires::Listen { at }) = &port.wires
        && let Some(why) = protocol.value.framing().odd_tcp_port(at.value.port)
    {
        findings.push(Finding::new("M28", at.span, why).severity(Severity::Warning));
    }
}

/// Devices hang on ports on which we ask, images on ports on which others ask.
fn who_is_there(project: &Project, at: usize, port: &Port, findings: &mut Vec<Finding>) {
    let devices: Vec<_> = project.devices.iter().filter(|d| d.is_on(at)).collect();
    let span = |named: Option<Spanned<usize>>| named.map_or_else(Span::default, |named| named.span);
    let is_here = |named: &Option<Spanned<usize>>| named.is_some_and(|port| port.value == at);
    let images = project.images.iter().filter(|image| is_here(&image.port));
    let answers: Vec<(Span, &str)> = images
        .map(|image| (span(image.port), "an image that answers there"))
        .chain(
            project
                .forwards
                .iter()
                .filter(|f| is_here(&f.from))
                .map(|f| (span(f.from), "a forward from there")),
        )
        .collect();
    // What is exchanged in cycles is not asked; that it cannot be here is told elsewhere.
    let cyclic = |at: usize| project.device_dialect(at).is_some_and(|dialect| dialect.cyclic().is_some());
    let asked = project.devices.iter().enumerate().filter(|(own, device)| device.is_on(at) && !cyclic(*own));
    let asks: Vec<(Span, &str)> = asked
        .map(|(_, device)| {
            let here = [device.port, device.write_port].into_iter().flatten().find(|own| own.value == at);
            (here.map_or(device.name.span, |port| port.span), "a device that it asks there")
        })
        .chain(project.forwards.iter().filter(|f| is_here(&f.to)).map(|f| (span(f.to), "a forward to there")))
        .collect();
    if port.transport().is_some_and(Transport::is_cyclic) {
        // Both go there at once.
    } else if let Some(Wires::Listen { .. }) = &port.wires {
        for (place, _) in &asks {
            let what =
                format!("`{}` is a listening port: it takes requests and cannot send any", port.name.value);
            let fix = "ask through a port with `serial`, `connect` or `pty`";
            findings.push(Finding::new("F11", *place, what).fix(fix));
        }
    } else if let (Some((answer, _)), Some((ask, what_asks))) = (answers.first(), asks.first()) {
        let what = format!("on `{}` the converter would both ask and answer", port.name.value);
        let finding = Finding::new("M24", *answer, what).note(*ask, *what_asks);
        findings.push(finding.fix("give what answers a port of its own"));
    }
    if port.protocol.is_some_and(|protocol| protocol.value.is_opaque()) {
        let here = devices.iter().map(|device| device.name.span);
        let here = here
            .chain(project.images.iter().filter(|image| is_here(&image.port)).map(|image| image.name.span));
        for place in here {
            let what =
                format!("`{}` carries raw bytes, in which nothing can be asked or shown", port.name.value);
            findings.push(Finding::new("F11", place, what).fix("write the protocol that is used there"));
        }
    }
    let Some(Wires::Serial { wiring, .. }) = &port.wires else { return };
    let point_to_point = wiring.as_ref().filter(|wiring| wiring.value == "rs232");
    if let (Some(wiring), [first, second, ..]) = (point_to_point, devices.as_slice()) {
        let what =
            format!("RS-232 connects two ends, and {} devices are on `{}`", devices.len(), port.name.value);
        let finding = Finding::new("M24", wiring.span, what)
            .note(first.name.span, "one of them")
            .note(second.name.span, "another");
        findings.push(finding.fix("wire it as `rs485`, or give each device a port"));
    }
}

fn line_settings(project: &Project, at: usize, port: &Port, findings: &mut Vec<Finding>) {
    let Some(line) = port.line() else { return };
    let mut different: Option<(Spanned<Line>, &Spanned<String>)> = None;
    for (index, device) in project.devices.iter().enumerate().filter(|(_, d)| d.is_on(at)) {
        let Some(own) = project.line_of(index) else { continue };
        if let Some((other, name)) = different.filter(|(other, _)| other.value != own.value) {
            let what = format!(
                "`{}` is set to {} and `{}` on the same line to {}",
                device.name.value, own.value, name.value, other.value
            );
            findings.push(
                Finding::new("M18", device.name.span, what)
                    .note(own.span, "this setting")
                    .note(other.span, "the other"),
            );
        }
        different = different.or(Some((own, &device.name)));
        if own.value == line.value {
            continue;
        }
        let shipped = if device.line.is_some() { "is set to" } else { "is shipped with" };
        let what =
            format!("`{}` {shipped} {}, and its port runs at {}", device.name.value, own.value, line.value);
        let fix = if device.line.is_some() {
            format!("set the device to {}, or the port's `line` to \"{}\"", line.value, own.value)
        } else {
            format!("set the device to {0} and say so with `line = \"{0}\"` in its entry", line.value)
        };
        let place = if device.line.is_some() { own.span } else { device.name.span };
        let mut finding = Finding::new("M19", place, what).note(line.span, "the port's line").fix(fix);
        if device.line.is_none() {
            finding = finding.note(own.span, "as shipped");
        }
        findings.push(finding);
    }
}

fn stations(project: &Project, at: usize, port: &Port, findings: &mut Vec<Finding>) {
    let (Some(protocol), Some(transport)) = (port.protocol, port.transport()) else { return };
    let asks = project.devices.iter().any(|device| device.is_on(at));
    for fault in protocol.value.port_faults(&port.setup, asks) {
        let written = port.settings.iter().find(|(key, _)| *key == fault.key).map(|(_, span)| *span);
        findings.push(Finding::new(fault.code, written.unwrap_or(port.name.span), fault.what).fix(fault.fix));
    }
    // A device has no place on an interface, whatever its keys: that is told elsewhere.
    let devices = project.devices.iter().enumerate().filter(|(_, device)| device.is_on(at));
    for (index, device) in devices.filter(|_| transport != Transport::Ethernet) {
        let faults =
            project.device_dialect(index).map(|own| own.station_faults(&device.setup, PortKeys(&port.setup)));
        for fault in faults.unwrap_or_default() {
            let at = device.settings.iter().find(|(key, _)| *key == fault.key).map(|(_, span)| *span);
            findings
                .push(Finding::new(fault.code, at.unwrap_or(device.name.span), fault.what).fix(fault.fix));
        }
    }
    let here = |image: &Image| image.port.is_some_and(|port| port.value == at);
    for (index, image) in project.images.iter().enumerate().filter(|(_, image)| here(image)) {
        let faults =
            project.image_dialect(index).map(|own| own.station_faults(&image.setup, PortKeys(&port.setup)));
        for fault in faults.unwrap_or_default() {
            let at = image.settings.iter().find(|(key, _)| *key == fault.key).map(|(_, span)| *span);
            findings.push(Finding::new(fault.code, at.unwrap_or(image.name.span), fault.what).fix(fault.fix));
        }
    }
    let Some((key, range)) = protocol.value.stations().station_key(transport) else {
        return alone(project, at, port, findings);
    };
    let limits = limits(&range);
    let mut seen: BTreeMap<StationId, (Span, &Spanned<String>, bool)> = BTreeMap::new();
    let hosts = project.hosts();
    for (index, device) in project.devices.iter().enumerate().filter(|(_, d)| d.is_on(at)) {
        // Written by a port that speaks something else: told there.
        let spoken = project.device_dialect(index).is_some_and(|own| own.name() == protocol.value.name());
        let Some(station) = protocol.value.stations().station(&device.setup) else {
            if device.station_written || !spoken {
                continue;
            }
            let what = format!("device `{}` has no `{key}`", device.name.value);
            findings.push(Finding::new("M25", device.name.span, what).fix(format!("add `{key}`, {limits}")));
            continue;
        };
        if station.number().is_some_and(|number| !range.contains(&number)) {
            let what = format!("`{}` has {key} {station}, and a device here has {limits}", device.name.value);
            findings.push(
                Finding::new("M25", device.station_at, what)
                    .fix(format!("write the {key} that the device is set to")),
            );
            continue;
        }
        // A node of a box that is known already.
        if hosts.get(index).is_some_and(|host| *host != index) {
            continue;
        }
        let shipped = project
            .profile_of(index)
            .and_then(|profile| profile.unit)
            .is_some_and(|unit| Some(unit.value) == station.number());
        if let Some((other_at, other, other_shipped)) = seen.get(&station) {
            let what = if shipped && *other_shipped {
                format!(
                    "`{}` and `{}` are both at {key} {station}, as they were shipped",
                    other.value, device.name.value
                )
            } else {
                format!(
                    "`{}` and `{}` are both {key} {station} on `{}`",
                    other.value, device.name.value, port.name.value
                )
            };
            let free = (range.start..range.end).find(|free| !seen.contains_key(&StationId::Number(*free)));
            let such = free.map(|free| format!(", such as {free},")).unwrap_or_default();
            let finding = Finding::new("M25", device.station_at, what).note(*other_at, "the other");
            findings
                .push(finding.fix(format!("give one of them another {key}{such} on the device and here")));
        }
        seen.entry(station).or_insert((device.station_at, &device.name, shipped));
    }
    images(project, at, port, key, &range, findings);
}

/// What a station may have, in words; where stations have names there are no numbers.
pub(super) fn limits(range: &Range<u32>) -> String {
    if range.is_empty() { "its name".into() } else { format!("{} to {}", range.start, range.end - 1) }
}

/// A connection without stations has one other end.
fn alone(project: &Project, at: usize, port: &Port, findings: &mut Vec<Finding>) {
    // On a network each has an address, or numbers of its own.
    if port.transport() == Some(Transport::Network) {
        return;
    }
    // What is exchanged in cycles cannot be on such a port at all, which is told.
    let devices = project.devices.iter().enumerate().filter(|(_, device)| device.is_on(at));
    let asked = |at: &usize| project.device_dialect(*at).is_none_or(|dialect| dialect.cyclic().is_none());
    let devices = devices.filter(|(at, _)| asked(at)).map(|(_, device)| &device.name);
    let images = project.images.iter().filter(|image| image.port.is_some_and(|own| own.value == at));
    let mut here = devices.chain(images.map(|image| &image.name));
    let Some(first) = here.next() else { return };
    for other in here {
        let why = match port.transport() {
            Some(Transport::Ethernet) => "and an interface is one station, by its MAC address",
            _ => "whose messages do not say whom they are for",
        };
        let what =
            format!("`{}` and `{}` are both on `{}`, {why}", first.value, other.value, port.name.value);
        findings.push(
            Finding::new("M25", other.span, what)
                .note(first.span, "the other")
                .fix("give each of them a port of its own"),
        );
    }
}

fn images(
    project: &Project,
    at: usize,
    port: &Port,
    key: &str,
    range: &Range<u32>,
    findings: &mut Vec<Finding>,
) {
    let Some(protocol) = port.protocol else { return };
    let here: Vec<_> = project.images.iter().filter(|i| i.port.is_some_and(|p| p.value == at)).collect();
    let mut seen: BTreeMap<StationId, Span> = BTreeMap::new();
    let on_a_line = port.transport().is_some_and(|transport| transport != Transport::Listen);
    for image in &here {
        match protocol.value.stations().station(&image.setup) {
            None if on_a_line && here.len() == 1 && !protocol.value.is_opaque() => {
                let what = format!("`{}` would answer to every {key} on its line", image.name.value);
                let fix = format!("write the {key} that the others ask, {}", limits(range));
                findings.push(Finding::new("M25", image.station_at, what).fix(fix));
            }
            Some(station) if station.number().is_some_and(|number| !range.contains(&number)) => {
                let what = format!(
                    "`{}` has {key} {station}, and on such a port it can have {}",
                    image.name.value,
                    limits(range)
                );
                findings.push(Finding::new("M25", image.station_at, what));
            }
            None if here.len() > 1 => {
                let what =
                    format!("`{}` shares its port with another image and has no `{key}`", image.name.value);
                findings.push(
                    Finding::new("M25", image.name.span, what)
                        .fix(format!("give each image on `{}` its `{key}`", port.name.value)),
                );
            }
            None => {}
            Some(station) => {
                if let Some(other) = seen.insert(station.clone(), image.station_at) {
                    let what = format!("two images on `{}` answer as {key} {station}", port.name.value);
                    findings.push(
                        Finding::new("M25", image.station_at, what)
                            .note(other, "the other")
                            .fix("give one of them another"),
                    );
                }
            }
        }
    }
}

#[allow(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "a proposal for people; a float cast saturates"
)]
fn speed(project: &Project, plan: &Plan, at: usize, port: &Port, findings: &mut Vec<Finding>) {
    let load = plan.load(at);
    if load <= 1.0 || !load.is_finite() {
        return;
    }
    let cycle = plan.cycles.get(at).copied().unwrap_or(0);
    let on_port = |rule: &&crate::plan::PlannedRule| {
        rule.source.device().and_then(|device| plan.devices.get(device)).is_some_and(|d| d.port == at)
    };
    let polled = plan
        .rules
        .iter()
        .filter(on_port)
        .filter(|rule| !rule.published && matches!(rule.source, Source::Values { .. }));
    let Some(fastest) = polled.min_by_key(|rule| rule.every) else { return };
    let own = project.maps.get(fastest.map).and_then(|map| map.poll);
    let device = fastest.source.device().and_then(|at| project.devices.get(at)).map(|device| device.poll);
    let place = own.or(device).map_or(port.name.span, |poll| poll.span);
    let shares = crate::budget::shares(plan, at);
    let most: Vec<String> = shares
        .iter()
        .take(3)
        .map(|share| format!("`{}` {:.0} %", share.device, share.load * 100.0))
        .collect();
    let gets = shares.iter().map(|share| share.gets_us).min().unwrap_or(cycle);
    let what = format!(
        "the polls of `{}` take {:.0} % of its time ({}{}): one cycle takes {}, the shortest poll wants one every {} and gets one every {}",
        port.name.value,
        load * 100.0,
        most.join(", "),
        if shares.len() > most.len() { ", and others" } else { "" },
        show_micros(cycle),
        show_micros(fastest.every),
        show_micros(gets),
    );
    let possible = (gets as f64 * 1.1 / 10_000.0).ceil() as u64 * 10_000;
    let less =
        format!("poll every {} or less often what is polled more often than that", show_micros(possible));
    let more = plan.devices.iter().filter(|station| station.port == at).find_map(more_at_once);
    let fix = match (more, port.line()) {
        (Some(more), _) => format!("{more}; or {less}"),
        (None, Some(_)) => format!("{less}, merge reads, or raise the speed"),
        (None, None) => format!("{less}, or merge reads"),
    };
    findings.push(Finding::new("M55", place, what).fix(fix));
}

/// What lets one request of a station carry more.
fn more_at_once(station: &Station) -> Option<&'static str> {
    station.dialect?.requests()?.more_at_once(&station.setup)
}

/// Two ports on one path or one socket: each is told once, beside the first that has it.
fn paths(project: &Project, findings: &mut Vec<Finding>) {
    for (at, port) in project.ports.iter().enumerate() {
        for other in project.ports.iter().take(at) {
            let told = findings.len();
            match (&port.wires, &other.wires) {
                (Some(Wires::Serial { path, .. }), Some(Wires::Serial { path: before, .. }))
                    if path.value == before.value =>
                {
                    let what = format!(
                        "`{}` and `{}` are both on {}",
                        other.name.value, port.name.value, path.value
                    );
                    findings.push(Finding::new("M32", path.span, what).note(before.span, "the other"));
                }
                (Some(Wires::Listen { at: here }), Some(Wires::Listen { at: before }))
                    if here.value.port == before.value.port =>
                {
                    let (a, b) = (here.value.host, before.value.host);
                    if a == b || a.is_unspecified() || b.is_unspecified() {
                        let what = format!(
                            "`{}` and `{}` both listen on port {}",
                            other.name.value, port.name.value, here.value.port
                        );
                        let finding = Finding::new("M27", here.span, what).note(before.span, "the other");
                        findings.push(finding.fix(
                            "give one of them another port, or put both images on one port with a unit each",
                        ));
                    }
                }
                (Some(Wires::Ethernet { interface: here }), Some(Wires::Ethernet { interface: before }))
                    if here.value == before.value =>
                {
                    let what = format!(
                        "`{}` and `{}` are both on {}, and an interface is one station",
                        other.name.value, port.name.value, here.value
                    );
                    findings.push(
                        Finding::new("M32", here.span, what)
                            .note(before.span, "the other")
                            .fix("give one of them another interface"),
                    );
                }
                (
                    Some(Wires::Pty { path }),
                    Some(Wires::Serial { path: before, .. } | Wires::Pty { path: before }),
                )
                | (Some(Wires::Serial { path, .. }), Some(Wires::Pty { path: before }))
                    if path.value == before.value =>
                {
                    let what = format!(
                        "`{}` makes a port at {}, and another port is there",
                        port.name.value, path.value
                    );
                    findings.push(Finding::new("M32", path.span, what).note(before.span, "the other"));
                }
                _ => {}
            }
            if findings.len() > told {
                break;
            }
        }
    }
}
