//! The whole of what is handed over, as data for a page: the site, its lines, the tables of its images, what others must
//! set up, health, bus time, what `check` remarks on, and what changed since the last issue.

use super::drawing::{Drawn, drawing};
use super::settings::{device_settings, image_settings};
use super::values_of;
use crate::budget::{LineBudget, report};
use crate::checked::Checked;
use crate::explain::explain;
use crate::finding::Severity;
use crate::form::{Form, Type};
use crate::plan::{Demand, PlannedForward, Station, demands};
use crate::project::{Client, HealthItem, OnLoss, Owner, Project, Target, Wires, show_micros};
use crate::protocol::Setup;
use serde::Serialize;
use std::collections::BTreeMap;

/// Everything that the page shows.
#[derive(Debug, Clone, Serialize)]
pub struct Papers {
    /// The site's name.
    pub site: String,
    /// The address of the converter, where it says one.
    pub address: String,
    /// The project id.
    pub project_id: String,
    /// Who asks whom, as an SVG image.
    pub drawing: String,
    /// Each port behind which devices are asked.
    pub lines: Vec<PaperLine>,
    /// Each image with its table.
    pub images: Vec<PaperImage>,
    /// What is passed on unread.
    pub forwards: Vec<PaperForward>,
    /// What must be set up in controllers, device by device.
    pub demands: Vec<PaperDemand>,
    /// Items of health that some rule carries, with what they say.
    pub health: Vec<PaperHealth>,
    /// What the numbers of `last-error` say, where some rule carries one.
    pub last_error: String,
    /// Bus time of each line.
    pub budget: Vec<LineBudget>,
    /// What `check` has found, but for what is not for these readers.
    pub findings: Vec<PaperFinding>,
}

/// A port and the devices behind it.
#[derive(Debug, Clone, Serialize)]
pub struct PaperLine {
    /// The port's name.
    pub port: String,
    /// Where it is, in words.
    pub whereabouts: String,
    /// What every device on it must be set to.
    pub settings: Vec<(String, String)>,
    /// Its devices.
    pub devices: Vec<PaperDevice>,
}

/// A device of a line.
#[derive(Debug, Clone, Serialize)]
pub struct PaperDevice {
    /// Its name.
    pub name: String,
    /// What it is, by its profile.
    pub kind: String,
    /// Its own settings, which others on the line do not have.
    pub settings: Vec<(String, String)>,
    /// Its line settings as shipped, where they are known and others than the line's.
    pub as_shipped: String,
    /// How often it is polled.
    pub poll: String,
    /// What its parameters shall be, in this order.
    pub set_up: Vec<(String, String)>,
}

/// An image and all of its values.
#[derive(Debug, Clone, Serialize)]
pub struct PaperImage {
    /// Its name.
    pub name: String,
    /// How it is asked.
    pub settings: Vec<(String, String)>,
    /// What a reader gets at an address that no rule feeds.
    pub unmapped: &'static str,
    /// How a refusal of a lost value looks there.
    pub refusal: &'static str,
    /// Who asks it.
    pub clients: Vec<PaperClient>,
    /// Its values, in the order of their addresses.
    pub values: Vec<PaperValue>,
}

/// A client of an image.
#[derive(Debug, Clone, Serialize)]
pub struct PaperClient {
    /// Its name.
    pub name: String,
    /// Its own address.
    pub address: String,
    /// Where it connects to, as set there.
    pub dials: String,
    /// How many entries it reads and writes.
    pub asks: (usize, usize),
    /// The list that it has given back.
    pub list: String,
}

/// A value of an image.
#[derive(Debug, Clone, Serialize)]
pub struct PaperValue {
    /// Reference number.
    pub address: String,
    /// Counted from 0, with the table.
    pub offset: String,
    /// What it is called.
    pub name: String,
    /// Where it comes from.
    pub source: String,
    /// In words.
    pub description: String,
    /// Type.
    pub ty: String,
    /// Order of its words and bytes.
    pub order: String,
    /// Scale, with what is added.
    pub scale: String,
    /// Engineering unit.
    pub unit: String,
    /// `R`, `W` or `RW`.
    pub access: &'static str,
    /// How often it is renewed.
    pub every: String,
    /// How old it may become.
    pub max_age: String,
    /// What a reader gets then.
    pub on_loss: String,
}

/// Units that are passed on.
#[derive(Debug, Clone, Serialize)]
pub struct PaperForward {
    /// The port on which others ask.
    pub from: String,
    /// The port on which the converter asks.
    pub to: String,
    /// Each unit with what it is there, and the device's name where one answers; none for raw bytes.
    pub units: Vec<(u16, u16, String)>,
    /// Function codes that pass; none for all.
    pub functions: Vec<u8>,
}

/// What must be set up at one device or in the clients of an image.
#[derive(Debug, Clone, Serialize)]
pub struct PaperDemand {
    /// Whose.
    pub name: String,
    /// Whether it is an image, whose clients it concerns.
    pub image: bool,
    /// Connections, in words.
    pub links: Vec<String>,
    /// Tables with their least sizes.
    pub tables: Vec<(String, String)>,
}

/// An item of health.
#[derive(Debug, Clone, Serialize)]
pub struct PaperHealth {
    /// `do-1.health.online`.
    pub item: String,
    /// Where it stands.
    pub at: Vec<String>,
    /// What it says.
    pub says: &'static str,
}

/// Something that `check` says.
#[derive(Debug, Clone, Serialize)]
pub struct PaperFinding {
    /// Its code.
    pub code: &'static str,
    /// `error`, `warning` or `remark`.
    pub severity: &'static str,
    /// Its place.
    pub at: String,
    /// What.
    pub what: String,
}

/// Gathers everything that is handed over.
#[must_use]
pub fn papers(checked: &Checked) -> Papers {
    let (project, plan) = (&checked.project, &checked.plan);
    let address = project.converter.address.map(|own| own.value.address.to_string());
    let finding = |own: &crate::finding::Finding| {
        let at = project.sources.position(own.span);
        let severity = match own.severity {
            Severity::Error => "error",
            Severity::Warning => "warning",
            Severity::Remark => "remark",
        };
        PaperFinding {
            code: own.rule.code,
            severity,
            at: format!("{}:{}", at.file, at.line),
            what: own.what.clone(),
        }
    };
    let health = health(checked);
    let has_last_error = health.iter().any(|own| own.item == "last-error");
    let last_error = if has_last_error { explain("last-error") } else { vec![] };
    let lines = lines(checked);
    let images = images(checked);
    let forwards = forwards(checked);
    let drawn = Drawn { site: &project.name.value, address: address.as_deref().unwrap_or_default() };
    Papers {
        site: project.name.value.clone(),
        drawing: drawing(&drawn, project, &lines, &images, &forwards),
        address: address.unwrap_or_default(),
        project_id: format!("{:016x}", plan.fingerprint(project)),
        lines,
        images,
        forwards,
        demands: demands(project, plan).into_iter().map(demand).collect(),
        health,
        last_error: last_error.into_iter().map(|own| own.text).next().unwrap_or_default(),
        budget: report(project, plan),
        findings: checked.findings.iter().map(finding).collect(),
    }
}

fn demand(own: Demand) -> PaperDemand {
    PaperDemand { name: own.name, image: own.image, links: own.links, tables: own.tables }
}

fn lines(checked: &Checked) -> Vec<PaperLine> {
    let (project, plan) = (&checked.project, &checked.plan);
    let all = device_settings(project, plan);
    let mut found = vec![];
    for (port, own) in project.ports.iter().enumerate() {
        let here: Vec<usize> = (0..project.devices.len())
            .filter(|at| plan.devices.get(*at).is_some_and(|station| station.port == port))
            .collect();
        let Some(first) = here.first().and_then(|at| all.get(&plan.devices.get(*at)?.name)) else { continue };
        // What all of them have alike is the line's.
        let settings_of = |at: usize| plan.devices.get(at).and_then(|own| all.get(&own.name));
        // On a network each device has an address of its own.
        let is_network = matches!(own.wires, Some(Wires::Network { .. }));
        let is_shared = |item: &(String, String)| {
            here.len() > 1
                && here.iter().all(|at| settings_of(*at).is_some_and(|own| own.items.contains(item)))
                || matches!(item.0.as_str(), "line" | "wiring" | "protocol")
                || !is_network && matches!(item.0.as_str(), "address" | "port")
        };
        let shared: Vec<(String, String)> =
            first.items.iter().filter(|item| is_shared(item)).cloned().collect();
        let device = |at: usize| {
            let device = project.devices.get(at)?;
            let settings = settings_of(at)
                .map(|own| own.items.iter().filter(|item| !shared.contains(item)).cloned().collect());
            let shipped = project.profile_of(at).and_then(|profile| profile.line).map(|line| line.value);
            let shipped = shipped.filter(|line| own.line().is_some_and(|port| port.value != *line));
            Some(PaperDevice {
                name: device.name.value.clone(),
                kind: project.profile_of(at).map(|profile| profile.name.clone()).unwrap_or_default(),
                settings: settings.unwrap_or_default(),
                as_shipped: shipped.map(|line| line.to_string()).unwrap_or_default(),
                poll: match device.poll.value {
                    _ if is_network => {
                        let link = plan.link_of(Owner::Device(at));
                        link.map(|link| show_micros(link.period)).unwrap_or_default()
                    }
                    crate::project::Polling::Every(micros) => show_micros(micros),
                    crate::project::Polling::Published => "published".into(),
                },
                set_up: device
                    .set_up
                    .iter()
                    .map(|own| (own.address.value.clone(), own.value.value.clone()))
                    .collect(),
            })
        };
        found.push(PaperLine {
            port: own.name.value.clone(),
            whereabouts: own.whereabouts(),
            devices: here.iter().filter_map(|at| device(*at)).collect(),
            // An address and its port are told with the whereabouts.
            settings: shared
                .into_iter()
                .filter(|(key, _)| !matches!(key.as_str(), "address" | "port"))
                .collect(),
        });
    }
    found
}

fn images(checked: &Checked) -> Vec<PaperImage> {
    let (project, plan) = (&checked.project, &checked.plan);
    let settings = image_settings(project, plan);
    let exchanged = |at: usize| plan.link_of(Owner::Image(at)).is_some();
    let tells_loss = |at: usize| {
        let cyclic = project.image_dialect(at).and_then(|dialect| dialect.cyclic());
        exchanged(at) && cyclic.is_some_and(|own| own.tells_loss())
    };
    let image = |(at, own): (usize, &crate::project::Image)| {
        let dialect = project.image_dialect(at);
        let values = values_of(project, plan, at);
        // A block goes whole: its client reads and writes all of it, where we are.
        let block = exchanged(at).then(|| {
            let count =
                |is_it: fn(&super::HandedValue) -> bool| values.iter().filter(|own| is_it(own)).count();
            let wires = own.port.and_then(|port| project.ports.get(port.value)?.wires.as_ref());
            let at = match wires {
                Some(Wires::Network { at }) => at.value.to_string(),
                // It is found by the name that it says.
                Some(Wires::Ethernet { .. }) => plan
                    .images
                    .get(at)
                    .and_then(|station| station.id())
                    .map(|id| id.to_string())
                    .unwrap_or_default(),
                _ => String::new(),
            };
            ((count(|own| own.access.0), count(|own| own.access.1)), at)
        });
        let client = |own: &Client| {
            let mut paper = client(own);
            if let Some((asks, at)) = block.clone() {
                paper.asks = asks;
                paper.dials = if paper.dials.is_empty() { at } else { paper.dials };
            }
            paper
        };
        PaperImage {
            name: own.name.value.clone(),
            settings: settings.get(&own.name.value).map(|own| own.items.clone()).unwrap_or_default(),
            // A block cannot refuse a part of it.
            unmapped: if own.unmapped_zero || exchanged(at) { "0" } else { "refused" },
            refusal: dialect
                .filter(|_| !exchanged(at) || tells_loss(at))
                .map_or("", |dialect| dialect.refusals().lost),
            clients: project.clients_of(at).map(client).collect(),
            values: dialect.map_or_else(Vec::new, |dialect| {
                let refused = if tells_loss(at) { "bad, with its slot" } else { "refused" };
                values.iter().map(|value| paper_value(dialect.notation(), value, refused)).collect()
            }),
        }
    };
    project.images.iter().enumerate().map(image).collect()
}

fn client(own: &Client) -> PaperClient {
    PaperClient {
        name: own.name.value.clone(),
        address: own.address.map(|own| own.value.to_string()).unwrap_or_default(),
        dials: own.dials.as_ref().map(|own| own.value.to_string()).unwrap_or_default(),
        asks: (own.reads.len(), own.writes.len()),
        list: own.list.as_ref().map(|own| own.path.value.clone()).unwrap_or_default(),
    }
}

/// `refused` is what a lost value is that is neither held nor filled.
fn paper_value(
    notation: &dyn crate::protocol::Notation,
    value: &super::HandedValue,
    refused: &str,
) -> PaperValue {
    let shown = notation.show(&value.space, value.first, value.width, value.bit, &Setup::default());
    let form = value.form;
    PaperValue {
        address: shown.canonical,
        offset: shown.offset,
        name: value.name.clone(),
        source: if value.source.is_empty() { "written by clients".into() } else { value.source.clone() },
        description: value.description.clone(),
        ty: if form.ty == Type::Raw { "register".into() } else { form.ty.to_string() },
        order: match form.ty.bytes() {
            Some(bytes @ (4 | 8)) if !form.ty.is_text() => form.order().letters(bytes).to_string(),
            _ => String::new(),
        },
        scale: {
            let plain = Form { order: None, ..form }.to_string();
            let scale = plain.strip_prefix(&form.ty.to_string()).unwrap_or_default().trim();
            scale.strip_prefix("scale ").unwrap_or(scale).to_string()
        },
        unit: value.eu.clone(),
        access: value.access_word(),
        every: value.every.map(show_micros).unwrap_or_default(),
        max_age: value.max_age.map(show_micros).unwrap_or_default(),
        on_loss: match value.on_loss {
            None if value.access == (false, true) => String::new(),
            None => "never lost".into(),
            Some(OnLoss::Refuse) => refused.into(),
            Some(OnLoss::Hold) => "the last value".into(),
            Some(OnLoss::Fill(word)) => format!("0x{word:04X}"),
            Some(OnLoss::Stop) => "nothing more".into(),
        },
    }
}

fn forwards(checked: &Checked) -> Vec<PaperForward> {
    let (project, plan) = (&checked.project, &checked.plan);
    let port = |at: usize| project.ports.get(at).map(|port| port.name.value.clone()).unwrap_or_default();
    let answers = |to: usize, unit: u16| {
        let is_it = |station: &&Station| station.port == to && station.number() == Some(unit.into());
        plan.devices.iter().find(is_it).map(|own| own.name.clone()).unwrap_or_default()
    };
    let one = |own: &PlannedForward| PaperForward {
        from: port(own.from),
        to: port(own.to),
        units: own.units.iter().map(|(here, there)| (*here, *there, answers(own.to, *there))).collect(),
        functions: own.functions.clone(),
    };
    plan.forwards.iter().map(one).collect()
}

/// The health that rules carry into images, item by item.
fn health(checked: &Checked) -> Vec<PaperHealth> {
    let project = &checked.project;
    let mut found: BTreeMap<&'static str, (HealthItem, Vec<String>, Vec<String>)> = BTreeMap::new();
    for map in project.maps.iter().filter(|map| map.enabled) {
        let Ok(end) = project.endpoint(&map.from) else { continue };
        let Target::Health(item) = end.target else { continue };
        let (_, items, at) = found.entry(item.word()).or_insert((item, vec![], vec![]));
        items.push(map.from.value.clone());
        at.push(map.to.value.clone());
    }
    let one = |(_, (item, items, at)): (&str, (HealthItem, Vec<String>, Vec<String>))| {
        let at = items.into_iter().zip(at).map(|(item, at)| format!("{item} at {at}")).collect();
        PaperHealth { item: item.word().to_string(), at, says: item.says() }
    };
    found.into_iter().map(one).collect()
}

/// Where a port is, for the drawing: `:502`, `/dev/ttyUSB0`.
pub(super) fn short_place(project: &Project, port: &str) -> String {
    let Some(own) = project.port(port).and_then(|at| project.ports.get(at)) else { return String::new() };
    match &own.wires {
        Some(Wires::Serial { path, line, .. }) => {
            let line = line.map(|line| format!(", {}", line.value)).unwrap_or_default();
            format!("{}{line}", path.value)
        }
        Some(Wires::Listen { at }) => format!("TCP port {}", at.value.port),
        Some(Wires::Connect { to }) => to.value.to_string(),
        Some(Wires::Pty { path }) => path.value.clone(),
        Some(Wires::Network { at }) => at.value.to_string(),
        Some(Wires::Ethernet { interface }) => interface.value.clone(),
        None => String::new(),
    }
}
