//! What must be set alike at the other end of an image or a device.

use crate::ledger::EndSettings;
use crate::plan::{Plan, Station};
use crate::project::{Port, Project, Wires, show_micros};
use crate::protocol::{KeyKind, Setup, StationId};
use crate::source::Span;
use std::collections::BTreeMap;
use std::net::Ipv4Addr;

/// How images are asked: the address and port, or the line, the protocol, and the station.
#[must_use]
pub fn image_settings(project: &Project, plan: &Plan) -> BTreeMap<String, EndSettings> {
    let own = project.converter.address.map(|own| own.value.address);
    let ends = plan.images.iter().zip(&project.images);
    ends.map(|(station, image)| (station.name.clone(), settings(project, station, own, image.name.span)))
        .collect()
}

/// How devices are set: the line or the address, the protocol, and the station.
#[must_use]
pub fn device_settings(project: &Project, plan: &Plan) -> BTreeMap<String, EndSettings> {
    let ends = plan.devices.iter().zip(&project.devices);
    ends.map(|(station, device)| (station.name.clone(), settings(project, station, None, device.station_at)))
        .collect()
}

fn settings(project: &Project, station: &Station, own: Option<Ipv4Addr>, span: Span) -> EndSettings {
    let mut items: Vec<(String, String)> = vec![];
    let port = project.ports.get(station.port);
    let stands_at = port.filter(|port| matches!(port.wires, Some(Wires::Network { .. })) && own.is_none());
    match stands_at.and_then(|_| station.dialect?.stations().station(&station.setup)) {
        // On a network a device has an address of its own.
        Some(StationId::Name(address)) => items.push(("address".into(), address.to_string())),
        _ => items.extend(port.into_iter().flat_map(|port| wires(port, own))),
    }
    if let Some(dialect) = station.dialect {
        items.push(("protocol".into(), dialect.name().to_string()));
        let there = dialect.stations().other_end(&station.setup);
        for key in dialect.stations().shared_keys() {
            let is_time = dialect.keys().iter().any(|own| own.name == *key && own.kind == KeyKind::Duration);
            let shown = |number: u32| if is_time { show_micros(number.into()) } else { number.to_string() };
            let number = there.number(key).map(shown);
            // A bar stands between two settings.
            let word = || Some(there.word(key)?.replace('|', "/"));
            let one = |row: &Setup| {
                let numbers = row.numbers.iter().map(|(key, number)| format!("{key} {number}"));
                let words = row.words.iter().map(|(key, word)| format!("{key} {}", word.replace('|', "/")));
                numbers.chain(words).collect::<Vec<_>>().join(", ")
            };
            let row = || Some(there.all_rows(key).map(one).collect::<Vec<_>>().join("; "));
            let value = number.or_else(word).or_else(row);
            items.extend(value.filter(|value| !value.is_empty()).map(|value| ((*key).to_string(), value)));
        }
    }
    EndSettings { items, span }
}

/// What of a port's wires must be alike at the other end. Paths are the converter's own affair.
fn wires(port: &Port, own: Option<Ipv4Addr>) -> Vec<(String, String)> {
    let item = |name: &str, value: String| (name.to_string(), value);
    match &port.wires {
        None => vec![],
        Some(Wires::Serial { line, wiring, .. }) => {
            let line = line.map(|line| item("line", line.value.to_string()));
            let wiring = wiring.as_ref().map(|wiring| item("wiring", wiring.value.clone()));
            line.into_iter().chain(wiring).collect()
        }
        Some(Wires::Listen { at }) => {
            // Clients dial the converter's own address where it listens on all.
            let host = own.filter(|_| at.value.host.is_unspecified()).unwrap_or(at.value.host);
            vec![item("address", host.to_string()), item("port", at.value.port.to_string())]
        }
        Some(Wires::Connect { to }) => {
            vec![item("address", to.value.host.to_string()), item("port", to.value.port.to_string())]
        }
        Some(Wires::Pty { path }) => vec![item("path", path.value.clone())],
        Some(Wires::Network { at }) => {
            let host = own.filter(|_| at.value.is_unspecified()).unwrap_or(at.value);
            vec![item("address", host.to_string())]
        }
        // An interface of ours is nothing to the other end.
        Some(Wires::Ethernet { .. }) => vec![],
    }
}
