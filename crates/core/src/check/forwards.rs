//! Forwards: where they lead, and who else claims their units.

use crate::finding::Finding;
use crate::project::{Forward, Project};
use std::collections::HashSet;

pub(super) fn check(project: &Project, findings: &mut Vec<Finding>) {
    for (at, forward) in project.forwards.iter().enumerate() {
        ends(project, forward, findings);
        claimed(project, at, forward, findings);
    }
}

fn ends(project: &Project, forward: &Forward, findings: &mut Vec<Finding>) {
    let (Some(from), Some(to)) = (forward.from, forward.to) else { return };
    let port = |at: usize| project.ports.get(at);
    let protocols =
        (port(from.value).and_then(|port| port.protocol), port(to.value).and_then(|port| port.protocol));
    let (Some(here), Some(there)) = protocols else { return };
    if here.value.family() != there.value.family() {
        let what = format!(
            "a request in `{}` cannot become one in `{}`: a forward changes the framing and nothing else",
            here.value.name(),
            there.value.name()
        );
        let finding =
            Finding::new("M28", to.span, what).note(here.span, "used here").note(there.span, "used there");
        findings.push(finding.fix("map the values through an image, or use one family on both ports"));
        return;
    }
    if here.value.is_opaque() {
        if let Some(units) = &forward.units {
            let what = "raw bytes pass unread, so there are no units to choose";
            findings.push(Finding::new("F03", units.span, what).fix("leave `units` out"));
        }
        return;
    }
    let Some(units) = &forward.units else {
        let finding = Finding::new("F04", forward.span, "this forward has no `units`");
        findings.push(finding.fix("add `units`, such as `units = \"10-20\"`"));
        return;
    };
    for (end, whose) in [(from, "asked"), (to, "known")] {
        let Some((port, protocol)) = port(end.value).and_then(|port| Some((port, port.protocol?))) else {
            continue;
        };
        let Some(transport) = port.transport() else { continue };
        let Some((key, range)) = protocol.value.stations().station_key(transport) else { continue };
        let unit = |(here, there): &(u16, u16)| u32::from(if whose == "asked" { *here } else { *there });
        // Unit 0 is a broadcast, which may pass.
        let wrong = units.value.iter().map(unit).find(|unit| *unit != 0 && !range.contains(unit));
        if let Some(wrong) = wrong {
            let limits = super::ports::limits(&range);
            let what =
                format!("{key} {wrong} cannot be {whose} on `{}`, which has {limits}", port.name.value);
            findings.push(Finding::new("M25", units.span, what).fix("correct `units` or `as-units`"));
        }
    }
}

/// A unit that an image or another forward answers for on the same port.
fn claimed(project: &Project, at: usize, forward: &Forward, findings: &mut Vec<Finding>) {
    let (Some(from), Some(units)) = (forward.from, &forward.units) else { return };
    let Some(protocol) = project.ports.get(from.value).and_then(|port| port.protocol) else { return };
    let own: HashSet<u32> = units.value.iter().map(|(here, _)| u32::from(*here)).collect();
    for image in project.images.iter().filter(|image| image.port.is_some_and(|port| port.value == from.value))
    {
        let Some(unit) = protocol.value.stations().number(&image.setup).filter(|unit| own.contains(unit))
        else {
            continue;
        };
        let what = format!("unit {unit} is forwarded, and the image `{}` answers as it", image.name.value);
        let finding = Finding::new("M25", units.span, what).note(image.station_at, "the image");
        findings.push(finding.fix("leave the unit out of the forward, or give the image another"));
        break;
    }
    for other in
        project.forwards.iter().take(at).filter(|other| other.from.is_some_and(|p| p.value == from.value))
    {
        let Some(theirs) = &other.units else { continue };
        if let Some((unit, _)) = theirs.value.iter().find(|(unit, _)| own.contains(&u32::from(*unit))) {
            let what = format!("unit {unit} is forwarded by two forwards");
            let finding = Finding::new("M25", units.span, what).note(theirs.span, "the other");
            findings.push(finding.fix("leave it out of one of them"));
            break;
        }
    }
}
