//! IP addresses and TCP ports, held against each other at both ends.

use crate::finding::{Finding, Severity};
use crate::plan::{CyclicLink, Plan};
use crate::project::{Client, Network, Owner, Port, Project, Wires};
use crate::source::Spanned;
use std::net::Ipv4Addr;

pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    converter(project, findings);
    for (at, port) in project.ports.iter().enumerate() {
        let open = match &port.wires {
            Some(Wires::Listen { at }) => Some(at.span),
            Some(Wires::Network { at }) => Some(at.span),
            _ => None,
        };
        if let (Some(span), None) = (open, &port.allow) {
            let what = format!("anyone who reaches `{}` may connect", port.name.value);
            let mut finding = Finding::new("M43", span, what);
            // What a controller writes there in cycles, anybody may write who opens the connection first.
            let takes = |link: &CyclicLink| {
                let image = matches!(link.with, Owner::Image(_));
                let station = plan.station(link.with).is_some_and(|station| station.port == at);
                image && station && link.slots.iter().any(|slot| slot.comes.is_some())
            };
            if plan.links.iter().any(takes) {
                finding = finding.severity(Severity::Warning);
            }
            if let Some(own) = project.converter.address {
                let mask = u32::MAX.checked_shl(32 - u32::from(own.value.prefix)).unwrap_or(0);
                let network = Ipv4Addr::from(u32::from(own.value.address) & mask);
                finding = finding.fix(format!("add `allow = [\"{network}/{}\"]`", own.value.prefix));
            }
            findings.push(finding);
        }
    }
    for client in &project.clients {
        if let (Some(address), Some(own)) = (client.address, project.converter.address)
            && address.value == own.value.address
        {
            let what =
                format!("{} is the address of the converter and of `{}`", address.value, client.name.value);
            findings.push(
                Finding::new("M29", address.span, what)
                    .note(own.span, "the converter")
                    .fix("give each its own address"),
            );
        }
        let asked = client.image.and_then(|image| project.images.get(image.value)?.port).or(client.port);
        if let Some(port) = asked.and_then(|port| project.ports.get(port.value)) {
            ends(project, client, port, findings);
        }
    }
    places(project, findings);
}

/// Where ports are, against where the converter and the other ends are.
fn places(project: &Project, findings: &mut Vec<Finding>) {
    for port in &project.ports {
        if let (Some(Wires::Listen { at }), Some(own)) = (&port.wires, project.converter.address)
            && !at.value.host.is_unspecified()
            && !at.value.host.is_loopback()
            && at.value.host != own.value.address
        {
            let what = format!(
                "`{}` listens at {}, and the converter has {}",
                port.name.value, at.value.host, own.value.address
            );
            findings.push(
                Finding::new("M29", at.span, what)
                    .note(own.span, "the converter")
                    .fix("write 0.0.0.0 for all addresses, or the converter's own"),
            );
        }
    }
    for device in &project.devices {
        let to = |port: Option<Spanned<usize>>| match project.ports.get(port?.value)?.wires.as_ref()? {
            Wires::Connect { to } => Some(to.clone()),
            _ => None,
        };
        if let (Some(reads), Some(writes)) = (to(device.port), to(device.write_port))
            && reads.value.host != writes.value.host
        {
            let what = format!(
                "`{}` is read at {} and written at {}",
                device.name.value, reads.value.host, writes.value.host
            );
            findings.push(
                Finding::new("M29", writes.span, what)
                    .severity(Severity::Warning)
                    .note(reads.span, "where it is read")
                    .fix("both ports lead to one device: correct one of the two"),
            );
        }
    }
}

fn converter(project: &Project, findings: &mut Vec<Finding>) {
    let Some(own) = project.converter.address else { return };
    let Network { address, prefix } = own.value;
    if (1..31).contains(&prefix) {
        let host = u32::from(address) & (u32::MAX >> prefix);
        if host == 0 || host == u32::MAX >> prefix {
            let kind = if host == 0 { "the network itself" } else { "everyone in the network" };
            let what = format!("{address} with /{prefix} means {kind}, not one box");
            findings.push(
                Finding::new("M29", own.span, what).fix("write the box's own address; is the prefix right?"),
            );
        }
    }
    if let Some(router) = project.converter.router.filter(|router| !own.value.holds(router.value)) {
        let what = format!("the router {} is not in the converter's own subnet {}", router.value, own.value);
        findings.push(
            Finding::new("M29", router.span, what)
                .note(own.span, "the converter")
                .fix("correct the router, or the prefix length"),
        );
    }
}

/// A client and the port that it dials.
fn ends(project: &Project, client: &Client, port: &Port, findings: &mut Vec<Finding>) {
    if let (Some(theirs), Some(ours)) = (client.protocol, port.protocol)
        && theirs.value.name() != ours.value.name()
    {
        let what = format!(
            "`{}` speaks {}, and `{}` answers in {}",
            client.name.value,
            theirs.value.name(),
            port.name.value,
            ours.value.name()
        );
        findings.push(Finding::new("M28", theirs.span, what).note(ours.span, "the port"));
    }
    if let (Some(theirs), Some(ours)) = (client.line, port.line())
        && theirs.value != ours.value
    {
        let what = format!(
            "`{}` is set to {}, and `{}` to {}",
            client.name.value, theirs.value, port.name.value, ours.value
        );
        let fix = format!("set the client to {}, or the port's `line` to it", ours.value);
        findings.push(Finding::new("M19", theirs.span, what).note(ours.span, "the port's line").fix(fix));
    }
    let Some(Wires::Listen { at }) = &port.wires else { return };
    if let Some(dials) = &client.dials {
        if dials.value.port != at.value.port {
            let what = format!(
                "`{}` dials port {}, and `{}` listens on {}",
                client.name.value, dials.value.port, port.name.value, at.value.port
            );
            let finding = Finding::new("M27", dials.span, what).note(at.span, "the port");
            findings.push(finding.fix(format!(
                "set the client to {}:{}, or the port to {}",
                dials.value.host, at.value.port, dials.value.port
            )));
        }
        if let Some(own) = project.converter.address.filter(|own| own.value.address != dials.value.host) {
            let what = format!(
                "`{}` dials {}, and the converter is {}",
                client.name.value, dials.value.host, own.value.address
            );
            findings.push(
                Finding::new("M29", dials.span, what)
                    .note(own.span, "the converter")
                    .fix("write the converter's address at the client"),
            );
        }
    }
    let Some(address) = client.address else { return };
    if let Some(allow) = &port.allow {
        let lets_in = |network: &Spanned<Network>| network.value.holds(address.value);
        if !allow.value.iter().any(lets_in) {
            let what = format!(
                "`{}` has {}, which `allow` of `{}` shuts out",
                client.name.value, address.value, port.name.value
            );
            findings.push(
                Finding::new("M29", address.span, what)
                    .note(allow.span, "who may connect")
                    .fix("add its address or network to `allow`"),
            );
        }
    }
    if let Some(own) = project.converter.address.filter(|own| !own.value.holds(address.value))
        && project.converter.router.is_none()
    {
        let what = format!(
            "`{}` has {}, outside of the converter's subnet {}, and there is no router",
            client.name.value, address.value, own.value
        );
        let finding = Finding::new("M29", address.span, what).note(own.span, "the converter");
        findings
            .push(finding.fix("add `router` to `[converter]`, or correct the address or the prefix length"));
    }
}
