//! Wires and numbers that do not go with what is spoken on them.

use crate::finding::{Finding, Severity};
use crate::plan::Plan;
use crate::project::{Project, Wires};
use crate::protocol::DIALECTS;
use std::collections::HashMap;

pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    for (at, port) in project.ports.iter().enumerate() {
        let Some(protocol) = port.protocol else { continue };
        let dialect = protocol.value;
        if let Some(line) = port.line()
            && let Some(why) = dialect.framing().line_fault(line.value)
        {
            findings.push(
                Finding::new("M18", line.span, why).fix("write 8 data bits, or the protocol that has 7"),
            );
        }
        let devices: Vec<usize> = (0..plan.devices.len()).filter(|device| plan.is_on(*device, at)).collect();
        if dialect.stations().joins_two_ends() {
            if let Some(Wires::Serial { wiring: Some(wiring), .. }) = &port.wires
                && wiring.value == "rs485"
            {
                let what = format!(
                    "`{}` sends both ways at once, and two wires carry one direction at a time",
                    dialect.name()
                );
                let fix = "wire it as `rs232` or `rs422`, or speak the half-duplex protocol";
                findings.push(Finding::new("M24", wiring.span, what).fix(fix));
            }
            let names: Vec<_> = devices.iter().filter_map(|device| project.devices.get(*device)).collect();
            if let [first, second, ..] = names.as_slice() {
                let what = format!(
                    "`{}` connects two ends, and {} devices are on `{}`",
                    dialect.name(),
                    names.len(),
                    port.name.value
                );
                findings.push(
                    Finding::new("M24", second.name.span, what)
                        .severity(Severity::Warning)
                        .note(first.name.span, "one of them")
                        .fix("give each device a port, or speak the half-duplex protocol; behind a router of nodes it is right"),
                );
            }
        }
        if let Some(own) = dialect.stations().own_station(&port.setup) {
            for device in devices.iter().filter_map(|device| project.devices.get(*device)) {
                if dialect.stations().number(&device.setup) != Some(own) {
                    continue;
                }
                let what = format!(
                    "`{}` is at {own} on `{}`, which is the converter's own number there",
                    device.name.value, port.name.value
                );
                let written = port.settings.iter().find(|(key, _)| *key == "own-node").map(|(_, span)| *span);
                findings.push(
                    Finding::new("M25", device.station_at, what)
                        .note(written.unwrap_or(port.name.span), "the port")
                        .fix("give the converter another `own-node`"),
                );
            }
        }
        if let Some(Wires::Connect { to }) = &port.wires {
            let expected = DIALECTS.iter().find(|other| {
                other.framing().usual_tcp_port() == Some(to.value.port) && other.family() != dialect.family()
            });
            let why = dialect.framing().odd_tcp_port(to.value.port).map(str::to_string).or_else(|| {
                let other = expected?;
                Some(format!("on port {} clients expect {}", to.value.port, other.name()))
            });
            if let Some(why) = why {
                findings.push(
                    Finding::new("M28", to.span, why)
                        .severity(Severity::Warning)
                        .fix("is the port number right, and the protocol?"),
                );
            }
        }
    }
    raw_twice(project, findings);
}

/// Two forwards of raw bytes that use one port.
fn raw_twice(project: &Project, findings: &mut Vec<Finding>) {
    let mut used: HashMap<usize, crate::source::Span> = HashMap::new();
    for forward in &project.forwards {
        let opaque = |at: usize| project.ports.get(at).is_some_and(crate::project::Port::is_opaque);
        for port in [forward.from, forward.to].into_iter().flatten().filter(|port| opaque(port.value)) {
            let Some(other) = used.insert(port.value, port.span) else { continue };
            let name = project.ports.get(port.value).map_or("", |port| port.name.value.as_str());
            let what = format!("`{name}` carries raw bytes of two forwards, and has one other end");
            findings.push(
                Finding::new("M24", port.span, what)
                    .note(other, "the other forward")
                    .fix("remove one of them, or give each its own ports"),
            );
        }
    }
}
