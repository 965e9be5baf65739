//! What clients and installers know of a site: as a project says it now, or as it was handed over.

use crate::checked::Checked;
use crate::handover::{HandedValue, issued_values};
use crate::ledger::{EndSettings, Issue, IssuedValue};
use crate::plan::{Plan, Station};
use crate::project::{Port, Project, Wires, show_micros};
use crate::source::Span;
use std::collections::BTreeMap;
use std::net::Ipv4Addr;

/// One value, as whoever reads it knows it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KnownValue {
    /// What an issue holds of it.
    pub issued: IssuedValue,
    /// Index of the `[[map]]` that shows it; `None` in an issue.
    pub map: Option<usize>,
    /// How often it is renewed, in words; `None` where that is not known.
    pub every: Option<String>,
    /// What a reader gets once it is lost; likewise.
    pub on_loss: Option<String>,
}

/// All that somebody outside has set or typed in.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct KnownSite {
    /// How images are asked, by name.
    pub images: BTreeMap<String, EndSettings>,
    /// How devices are set, by name.
    pub devices: BTreeMap<String, EndSettings>,
    /// Values by image and address: `scada:300001`.
    pub values: BTreeMap<String, KnownValue>,
}

impl KnownSite {
    /// What an issue says.
    #[must_use]
    pub fn of_issue(issue: &Issue) -> Self {
        let known = |(address, value): (&String, &IssuedValue)| {
            let value = KnownValue { issued: value.clone(), map: None, every: None, on_loss: None };
            (address.clone(), value)
        };
        Self {
            images: issue.images.clone(),
            devices: issue.devices.clone(),
            values: issue.values.iter().map(known).collect(),
        }
    }

    /// What a project says.
    #[must_use]
    pub fn of_project(checked: &Checked) -> Self {
        Self::of_plan(&checked.project, &checked.plan)
    }

    /// The same, before all its faults are found.
    #[must_use]
    pub fn of_plan(project: &Project, plan: &Plan) -> Self {
        let known = |(address, (issued, value)): (String, (IssuedValue, HandedValue))| {
            let every = value.every.map(show_micros);
            let on_loss = value.on_loss.map(|on_loss| on_loss.to_string());
            (address, KnownValue { issued, map: Some(value.map), every, on_loss })
        };
        Self {
            images: image_settings(project, plan),
            devices: device_settings(project, plan),
            values: issued_values(project, plan).into_iter().map(known).collect(),
        }
    }
}

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
    items.extend(port.into_iter().flat_map(|port| wires(port, own)));
    if let Some(dialect) = station.dialect {
        items.push(("protocol".into(), dialect.name().to_string()));
        for key in dialect.stations().shared_keys() {
            let number = station.setup.number(key).map(|number| number.to_string());
            // A bar stands between two settings.
            let value = number.or_else(|| Some(station.setup.word(key)?.replace('|', "/")));
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
    }
}
