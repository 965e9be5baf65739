//! Blocks that are exchanged in cycles: both ends held against each other, and what a block cannot say.

use super::slots;
use crate::budget::PROMISED_US;
use crate::finding::{Finding, Severity};
use crate::plan::{CyclicLink, Plan, PlannedRule, Source};
use crate::project::{Client, Network, OnLoss, Owner, Port, Project, Wires, show_micros};
use crate::protocol::{Cyclic, StationId, Transport};
use crate::source::Span;
use std::collections::{BTreeMap, BTreeSet};
use std::net::Ipv4Addr;

pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let networks: Vec<usize> = (0..project.ports.len()).filter(|at| is_network(project, *at)).collect();
    if networks.is_empty() && plan.links.is_empty() {
        return;
    }
    two_on_one_address(project, &networks, findings);
    for port in &networks {
        on_other_wires(project, *port, findings);
    }
    wrong_wires(project, findings);
    for link in &plan.links {
        periods(project, plan, link, findings);
        losses(project, plan, link, findings);
        unexplained(project, plan, link, findings);
        slots::check(project, plan, link, findings);
        addresses(project, plan, link, findings);
        controllers(project, plan, link, findings);
    }
    alike(project, plan, findings);
    for client in &project.clients {
        ends(project, plan, client, findings);
    }
}

fn is_network(project: &Project, port: usize) -> bool {
    project.ports.get(port).and_then(Port::transport).is_some_and(Transport::is_cyclic)
}

fn cyclic_of(plan: &Plan, owner: Owner) -> Option<&'static dyn Cyclic> {
    plan.station(owner)?.dialect?.cyclic()
}

/// Where a key of a link's station stands; its name where it is not written.
pub(super) fn span_of(project: &Project, owner: Owner, key: &str) -> Span {
    let (name, settings) = match owner {
        Owner::Image(at) => match project.images.get(at) {
            Some(image) => (image.name.span, &image.settings),
            None => return Span::default(),
        },
        Owner::Device(at) => match project.devices.get(at) {
            Some(device) => (device.name.span, &device.settings),
            None => return Span::default(),
        },
        Owner::Converter => return Span::default(),
    };
    settings.iter().find(|(known, _)| *known == key).map_or(name, |(_, span)| *span)
}

/// Two ports that would bind the same sockets.
fn two_on_one_address(project: &Project, networks: &[usize], findings: &mut Vec<Finding>) {
    let at = |port: &Port| match &port.wires {
        Some(Wires::Network { at }) => Some(*at),
        _ => None,
    };
    let ports: Vec<&Port> = networks.iter().filter_map(|port| project.ports.get(*port)).collect();
    for (number, port) in ports.iter().enumerate() {
        let Some(here) = at(port) else { continue };
        for other in ports.iter().take(number) {
            let Some(before) = at(other) else { continue };
            let same =
                here.value == before.value || here.value.is_unspecified() || before.value.is_unspecified();
            let spoken = |port: &Port| port.protocol.map(|protocol| protocol.value.name());
            if same && spoken(port) == spoken(other) {
                let what = format!(
                    "`{}` and `{}` both have all sockets of {}",
                    other.name.value, port.name.value, here.value
                );
                findings.push(
                    Finding::new("M27", here.span, what)
                        .note(before.span, "the other")
                        .fix("make one port of the two: it has room for any number of images and devices"),
                );
                break;
            }
        }
        for other in &project.ports {
            let Some(Wires::Listen { at: socket }) = &other.wires else { continue };
            let usual = port.protocol.and_then(|protocol| protocol.value.framing().usual_tcp_port());
            let host = socket.value.host;
            let same = host == here.value || host.is_unspecified() || here.value.is_unspecified();
            if same && Some(socket.value.port) == usual {
                let what = format!(
                    "`{}` listens on port {}, which `{}` has too, as it has all sockets of {}",
                    other.name.value, socket.value.port, port.name.value, here.value
                );
                findings.push(
                    Finding::new("M27", socket.span, what)
                        .note(here.span, "the other")
                        .fix("put that image on the network port: it answers there as well"),
                );
            }
        }
    }
}

/// Devices of a network port exchange blocks and have an address; what is asked goes over a connection.
fn on_other_wires(project: &Project, port: usize, findings: &mut Vec<Finding>) {
    for (at, device) in project.devices.iter().enumerate().filter(|(_, device)| device.is_on(port)) {
        let Some(dialect) = project.device_dialect(at) else { continue };
        let name = &device.name.value;
        if project.ports.get(port).and_then(Port::transport) == Some(Transport::Ethernet) {
            let what = format!("`{name}` is on an Ethernet port, where the converter is an IO device itself");
            let fix = "put images there, which a controller exchanges; devices are asked over other ports";
            findings.push(Finding::new("F11", device.name.span, what).fix(fix));
        } else if dialect.cyclic().is_none() {
            let what = format!("`{name}` is on a network port and exchanges nothing in cycles");
            findings.push(Finding::new("F11", device.name.span, what).fix(
                "add `inputs = { assembly = 101 }` where it is an I/O device; ask it through a port with `connect` \
                 where it is a controller",
            ));
        } else if !matches!(dialect.stations().station(&device.setup), Some(StationId::Name(_))) {
            let what = format!("`{name}` has no `address`");
            findings.push(
                Finding::new("F04", device.name.span, what)
                    .fix("add its own, such as `address = \"192.0.2.70\"`"),
            );
        }
    }
}

/// What is exchanged in cycles on wires that carry questions and answers.
fn wrong_wires(project: &Project, findings: &mut Vec<Finding>) {
    let devices = (0..project.devices.len()).filter_map(|at| {
        let device = project.devices.get(at)?;
        Some((project.device_dialect(at)?, project.port_of(device)?, Owner::Device(at), &device.setup))
    });
    let images = (0..project.images.len()).filter_map(|at| {
        let image = project.images.get(at)?;
        let port = project.ports.get(image.port?.value)?;
        Some((project.image_dialect(at)?, port, Owner::Image(at), &image.setup))
    });
    for (dialect, port, owner, setup) in devices.chain(images) {
        if let (Some(cyclic), Some(transport)) = (dialect.cyclic(), port.transport())
            && let Err(why) = dialect.runs_on(transport)
        {
            let key = cyclic.numbers(setup).first().map_or("", |(key, _)| *key);
            let span = span_of(project, owner, key);
            let what = format!("`{}` cannot carry this: {why}", port.name.value);
            let fix = "correct the wires of the port, or its protocol";
            findings.push(Finding::new("M28", span, what).note(port.name.span, "the port").fix(fix));
        }
    }
}

fn periods(project: &Project, plan: &Plan, link: &CyclicLink, findings: &mut Vec<Finding>) {
    let Some(cyclic) = cyclic_of(plan, link.with) else { return };
    let span = span_of(project, link.with, "period");
    let range = cyclic.periods();
    if !range.contains(&link.period) {
        let what = format!("a period of {} is not possible here", show_micros(link.period));
        let fix = format!("write {} to {}", show_micros(*range.start()), show_micros(*range.end()));
        findings.push(Finding::new("F03", span, what).fix(fix));
    } else if link.period < PROMISED_US {
        let what = format!(
            "no program can promise a frame every {}: now and then one goes late, and `woodrush status` says how late",
            show_micros(link.period)
        );
        findings.push(
            Finding::new("M22", span, what)
                .severity(Severity::Remark)
                .fix("write 8ms or more, or be sure that the other end waits for several frames"),
        );
    }
}

/// A value into a block that cannot say that it is lost.
fn losses(project: &Project, plan: &Plan, link: &CyclicLink, findings: &mut Vec<Finding>) {
    let Owner::Image(image) = link.with else { return };
    let Some(own) = project.images.get(image) else { return };
    if cyclic_of(plan, link.with).is_none_or(|cyclic| cyclic.tells_loss()) {
        return;
    }
    let refuses = |rule: &&PlannedRule| {
        rule.board == image && rule.on_loss == OnLoss::Refuse && matches!(rule.source, Source::Values { .. })
    };
    if let Some(map) = plan.rules.iter().find(refuses).and_then(|rule| project.maps.get(rule.map)) {
        let what = format!(
            "nothing says what the controller of `{}` gets for a lost value: it cannot be refused one of a block",
            own.name.value
        );
        findings.push(Finding::new("F04", own.name.span, what).note(map.to.span, "such a value").fix(
            "add `on-loss = \"hold\"` or `on-loss = \"fill 0\"`, and map `DEVICE.health.online` beside it",
        ));
    }
}

/// Values that can be lost, with nothing of their device's health in the same block: once for each source.
fn unexplained(project: &Project, plan: &Plan, link: &CyclicLink, findings: &mut Vec<Finding>) {
    if !matches!(link.with, Owner::Image(_))
        || cyclic_of(plan, link.with).is_none_or(|cyclic| cyclic.tells_loss())
    {
        return;
    }
    let mut told: BTreeSet<usize> = BTreeSet::new();
    let mut shown: BTreeMap<usize, &PlannedRule> = BTreeMap::new();
    for rule in plan.rules.iter().filter(|rule| rule.board == link.board) {
        let Some(device) = rule.source.device() else { continue };
        match rule.source {
            Source::Health(_) => drop(told.insert(device)),
            _ => drop(shown.entry(device).or_insert(rule)),
        }
    }
    for (device, rule) in shown.into_iter().filter(|(device, _)| !told.contains(device)) {
        let (Some(map), Some(station)) = (project.maps.get(rule.map), plan.devices.get(device)) else {
            continue;
        };
        let name = &station.name;
        let what = format!(
            "a lost value of `{name}` looks like any other in the block of `{}`",
            plan.board(link.board).map_or("", |image| image.name.as_str())
        );
        let fix = format!("map `{name}.health.online` to a bit of the same block");
        findings.push(Finding::new("M67", map.to.span, what).severity(Severity::Warning).fix(fix));
    }
}

/// Two links of a port that the other end could not tell apart.
fn alike(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let mut seen: BTreeMap<(usize, bool, Option<Ipv4Addr>, u32), Span> = BTreeMap::new();
    for link in &plan.links {
        let Some(station) = plan.station(link.with) else { continue };
        let Some(cyclic) = station.dialect.and_then(|dialect| dialect.cyclic()) else { continue };
        let device = matches!(link.with, Owner::Device(_));
        for (key, number) in cyclic.numbers(&station.setup) {
            let span = span_of(project, link.with, key);
            if let Some(other) = seen.insert((link.port, device, station.network_address(), number), span) {
                if other == span {
                    continue;
                }
                let what = format!("number {number} is that of two blocks on this port");
                findings.push(
                    Finding::new("M25", span, what)
                        .note(other, "the other")
                        .fix("give one of them another number"),
                );
            }
        }
    }
}

/// What a controller is set to, against what we are.
fn ends(project: &Project, plan: &Plan, client: &Client, findings: &mut Vec<Finding>) {
    let Some(image) = client.image else { return };
    let owner = Owner::Image(image.value);
    let (Some(station), Some(cyclic)) = (plan.station(owner), cyclic_of(plan, owner)) else { return };
    if let Some(asked) = client.reads.first().or(client.writes.first()) {
        let what = format!(
            "`{}` exchanges whole blocks with `{}`: what it reads and writes of them is not held against the rules",
            client.name.value, station.name
        );
        let fix = "leave `reads`, `writes` and `list` out; `inputs` and `outputs` are held, and `woodrush map` shows each byte";
        findings.push(Finding::new("F02", asked.span, what).fix(fix));
    }
    for fault in cyclic.differences(&station.setup, &client.setup) {
        let at = client.settings.iter().find(|(key, _)| *key == fault.key).map(|(_, span)| *span);
        let what = format!("`{}`: {}", client.name.value, fault.what);
        findings.push(
            Finding::new(fault.code, at.unwrap_or(client.name.span), what)
                .note(span_of(project, owner, fault.key), "the image")
                .fix(fault.fix),
        );
    }
}

/// The address that a station has for itself, against the machine's own and that of its controller.
fn addresses(project: &Project, plan: &Plan, link: &CyclicLink, findings: &mut Vec<Finding>) {
    let Owner::Image(image) = link.with else { return };
    let (Some(station), Some(cyclic)) = (plan.station(link.with), cyclic_of(plan, link.with)) else { return };
    let Some((address, prefix)) = cyclic.own_address(&station.setup) else { return };
    let (own, name) = (Network { address, prefix }, &station.name);
    let at = span_of(project, link.with, "address");
    let machine = project.converter.address.filter(|machine| machine.value.address == address);
    if let Some(machine) = machine {
        let what = format!("{address} is the address of the converter and of its station `{name}`");
        let fix = "give the station an address of its own: the machine's is not used for it";
        findings.push(Finding::new("M29", at, what).note(machine.span, "the converter").fix(fix));
    }
    for client in project.clients_of(image) {
        let Some(theirs) = client.address else { continue };
        let (what, severity, fix) = if theirs.value == address {
            let what = format!("{address} is the address of `{name}` and of `{}`", client.name.value);
            (what, Severity::Error, "give each its own address")
        } else if !own.holds(theirs.value) {
            let what = format!(
                "`{}` at {} is not in the network of `{name}`, {own}: what it calls does not get there without a router",
                client.name.value, theirs.value
            );
            (what, Severity::Warning, "correct one of the addresses, or the bits of the network")
        } else {
            continue;
        };
        findings
            .push(Finding::new("M29", theirs.span, what).severity(severity).note(at, "the station").fix(fix));
    }
}

/// Controllers beside the one that a station takes.
fn controllers(project: &Project, plan: &Plan, link: &CyclicLink, findings: &mut Vec<Finding>) {
    let Owner::Image(image) = link.with else { return };
    if !cyclic_of(plan, link.with).is_some_and(Cyclic::takes_one) {
        return;
    }
    let mut clients = project.clients_of(image);
    let (Some(station), Some(first)) = (plan.station(link.with), clients.next()) else { return };
    for client in clients {
        let what = format!(
            "`{}` takes one controller, and `{}` is it: `{}` is refused while it is there",
            station.name, first.name.value, client.name.value
        );
        findings.push(
            Finding::new("M31", client.name.span, what)
                .note(first.name.span, "the first")
                .fix("give it a station of its own: another image on a port of its own"),
        );
    }
}

/// Whether a client exchanges blocks with its image, and so gets all of it without a list of what it reads.
pub(super) fn exchanges(plan: &Plan, client: &Client) -> bool {
    let image = client.image.map(|image| Owner::Image(image.value));
    image.is_some_and(|image| {
        plan.link_of(image).is_some_and(|link| link.slots.iter().any(|slot| slot.goes.is_some()))
    })
}
