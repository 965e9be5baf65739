//! `[rig]`: signals of simulated devices, and faults at their times.

use super::fault_kinds::FAULTS;
use super::faults::{Fault, RigFault};
use super::fields::Fields;
use super::reader::Reader;
use super::signal::Signal;
use super::{Project, Rig};
use crate::finding::Finding;
use crate::nearest::nearest;
use crate::source::Spanned;

pub(super) fn read_rig(r: &mut Reader<'_>, project: &Project, fields: &Fields<'_, '_>) -> Rig {
    let mut rig =
        Rig { seed: fields.whole(r, "seed").map_or(1, |seed| u64::from(seed.value)), ..Rig::default() };
    for (name, entries) in fields.entries(r, "devices") {
        let Some(device) = project.device(&name.value) else {
            let near = nearest(&name.value, project.devices.iter().map(|device| device.name.value.as_str()));
            let finding = Finding::new("F05", name.span, format!("there is no device `{}`", name.value));
            r.find(match near {
                Some(near) => finding.fix(format!("write `{near}`")),
                None => finding,
            });
            continue;
        };
        for (target, text) in entries {
            match Signal::parse(&text.value) {
                Ok(signal) => rig.signals.push((device, target, signal)),
                Err(why) => r.find(Finding::new("F03", text.span, why)),
            }
        }
    }
    for (name, entries) in fields.entries(r, "clients") {
        let client = project.client(&name.value);
        let cyclic = client
            .and_then(|client| project.clients.get(client)?.image)
            .and_then(|image| project.image_dialect(image.value)?.cyclic().map(|_| ()));
        let (Some(client), Some(())) = (client, cyclic) else {
            let what = format!("`{}` is not a client that exchanges with an image in cycles", name.value);
            r.find(
                Finding::new("F05", name.span, what).fix("name one of `[clients]` whose image has `inputs`"),
            );
            continue;
        };
        for (target, text) in entries {
            match Signal::parse(&text.value) {
                Ok(signal) => rig.client_signals.push((client, target, signal)),
                Err(why) => r.find(Finding::new("F03", text.span, why)),
            }
        }
    }
    for fault in fields.listed(r, "faults", "faults", "this fault") {
        let known = FAULTS.iter().filter_map(|kind| Some((*kind, fault.text(r, kind.word())?)));
        let mut found: Vec<_> = known.collect();
        let (Some((kind, text)), true) = (found.pop(), found.is_empty()) else {
            let words: Vec<&str> = FAULTS.iter().map(|kind| kind.word()).collect();
            let what = format!("a fault is exactly one of {}", words.join(", "));
            r.find(Finding::new("F04", fault.span, what));
            continue;
        };
        let (noun, names): (&str, Vec<&str>) = if kind.is_of_line() {
            ("port", project.ports.iter().map(|port| port.name.value.as_str()).collect())
        } else {
            let clients = project.clients.iter().filter(|_| kind.of_cycles).map(|client| &client.name);
            let names = project.devices.iter().map(|device| &device.name).chain(clients);
            ("device", names.map(|name| name.value.as_str()).collect())
        };
        match Fault::parse(kind.word(), &text.value) {
            Err(why) => r.find(Finding::new("F03", text.span, why)),
            Ok(what) if !names.contains(&what.place.as_str()) => {
                let name = &what.place;
                let finding = Finding::new("F05", text.span, format!("there is no {noun} `{name}`"));
                r.find(match nearest(name, names) {
                    Some(near) => finding.fix(format!("write `{near}`")),
                    None => finding,
                });
            }
            Ok(what) if let Some(why) = what.unfit(project) => r.find(Finding::new("F03", text.span, why)),
            Ok(what) => rig.faults.push(RigFault {
                at: fault.duration(r, "at").map_or(0, |at| at.value),
                lasts: fault.duration(r, "for").map(|lasts| lasts.value),
                what: Spanned { value: what, span: text.span },
            }),
        }
    }
    rig
}
