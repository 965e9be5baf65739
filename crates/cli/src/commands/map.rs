//! `woodrush map`: the resolved address table, both sides, one row a value.

use crate::args::Format;
use crate::console::{Console, Table, Tone};
use crate::{Failure, Verdict};
use serde::Serialize;
use std::path::Path;
use woodrush_core::blocks::{BlockRow, blocks};
use woodrush_core::check::Checked;
use woodrush_core::plan::{Demand, PlannedForward, PlannedRule, Source, Station, demands};
use woodrush_core::project::{OnLoss, Owner, Wires, show_micros};
use woodrush_core::protocol::Extent;

#[derive(Serialize)]
struct MapRow {
    rule: String,
    image: String,
    /// The station as which the image answers, or at which the device is; empty where there is none.
    unit: String,
    sent_to: String,
    address: String,
    offset: String,
    form: String,
    value: String,
    device: String,
    device_address: String,
    device_offset: String,
    device_form: String,
    eu: String,
    poll_s: Option<f64>,
    max_age_s: Option<f64>,
    on_loss: String,
    access: &'static str,
    sent: String,
    note: String,
}

/// A unit that is passed on; without units, all bytes of a port are.
#[derive(Serialize)]
struct Passed {
    from: String,
    unit: Option<u16>,
    to: String,
    as_unit: Option<u16>,
    /// Empty for all.
    functions: Vec<u8>,
}

/// What has to be set up at the other side of a device or an image.
#[derive(Serialize)]
struct Setup<'d> {
    name: &'d str,
    image: bool,
    links: &'d [String],
    tables: Vec<Needed<'d>>,
}

#[derive(Serialize)]
struct Needed<'d> {
    table: &'d str,
    needed: &'d str,
}

impl<'d> Setup<'d> {
    fn of(demand: &'d Demand) -> Self {
        let tables = demand.tables.iter().map(|(table, needed)| Needed { table, needed });
        Self { name: &demand.name, image: demand.image, links: &demand.links, tables: tables.collect() }
    }
}

pub(crate) fn run(console: &mut Console, path: &Path) -> Result<Verdict, Failure> {
    let Some(checked) = crate::project::load_sound(console, path)? else { return Ok(Verdict::No) };
    let numbered = (0u32..).zip(&checked.plan.rules);
    let rows: Vec<MapRow> = numbered.flat_map(|(at, rule)| rows(&checked, at, rule)).collect();
    let passed = passed(&checked);
    match console.format {
        Format::Json => {
            let demands = demands(&checked.project, &checked.plan);
            let to_set_up: Vec<Setup<'_>> = demands.iter().map(Setup::of).collect();
            console.json(&serde_json::json!({
                "format": 1, "values": rows, "forwards": passed, "to_set_up": to_set_up,
                "blocks": blocks(&checked.project, &checked.plan),
            }))?
        }
        Format::Csv => {
            let head = vec![
                "rule",
                "image",
                "address",
                "offset",
                "form",
                "value",
                "device",
                "device_address",
                "device_offset",
                "device_form",
                "eu",
                "poll_s",
                "max_age_s",
                "on_loss",
                "access",
                "sent",
                "sent_to",
                "unit",
                "note",
            ];
            let row = |r: MapRow| {
                vec![
                    r.rule,
                    r.image,
                    r.address,
                    r.offset,
                    r.form,
                    r.value,
                    r.device,
                    r.device_address,
                    r.device_offset,
                    r.device_form,
                    r.eu,
                    r.poll_s.map(|time| time.to_string()).unwrap_or_default(),
                    r.max_age_s.map(|time| time.to_string()).unwrap_or_default(),
                    r.on_loss,
                    r.access.to_string(),
                    r.sent,
                    r.sent_to,
                    r.unit,
                    r.note,
                ]
            };
            console.table(&Table { head, rows: rows.into_iter().map(row).collect(), whole: &[] })?;
        }
        Format::Text if rows.is_empty() && passed.is_empty() => {
            console.note("no rules yet: add a `[[map]]`; docs/project-file.md shows how");
        }
        Format::Text => text(console, &checked, &rows, &passed)?,
    }
    Ok(Verdict::Yes)
}

/// One table an image, so that its name need not stand in every row.
fn text(console: &mut Console, checked: &Checked, rows: &[MapRow], passed: &[Passed]) -> Result<(), Failure> {
    let row = |r: &MapRow| {
        let other = !r.device_form.is_empty() && r.device_form != r.form;
        let there = if other { format!("\nas {}", r.device_form) } else { String::new() };
        let note = if r.note.is_empty() { String::new() } else { format!("\n{}", r.note) };
        let offset =
            if r.device_offset.is_empty() { String::new() } else { format!(" ({})", r.device_offset) };
        vec![
            r.address.clone(),
            r.offset.clone(),
            r.form.clone(),
            r.eu.clone(),
            r.value.clone(),
            format!("{}{offset}{there}{note}", r.device_address),
            match r.access {
                "read-write" => "rw".into(),
                "written by clients" => "w".into(),
                _ => "r".into(),
            },
        ]
    };
    let mut first = true;
    for (image, station) in checked.project.images.iter().zip(&checked.plan.images) {
        let here: Vec<Vec<String>> = rows.iter().filter(|r| r.image == station.name).map(row).collect();
        if here.is_empty() {
            continue;
        }
        if !std::mem::take(&mut first) {
            console.say("")?;
        }
        let place = image.port.map(|port| place(checked, port.value)).unwrap_or_default();
        let name = console.paint(Tone::Accent, &format!("image {}", station.name));
        let unit = station.id().map(|_| format!(", {}", station.station_shown())).unwrap_or_default();
        console.say(&format!("{name}{place}{unit}, {}", counted(here.len())))?;
        let head = vec!["address", "offset", "as", "eu", "value", "in the device", "r/w"];
        console.table(&Table { head, rows: here, whole: &[0, 1, 3, 4] })?;
    }
    sent(console, checked, rows, &mut first)?;
    in_blocks(console, checked, &mut first)?;
    forwards(console, passed, first)?;
    to_set_up(console, checked)
}

/// What lies at which byte of each block, as the programmer of the other end sees it.
fn in_blocks(console: &mut Console, checked: &Checked, first: &mut bool) -> Result<(), Failure> {
    for view in blocks(&checked.project, &checked.plan) {
        if !std::mem::take(first) {
            console.say("")?;
        }
        console.say(&console.paint(Tone::Accent, &view.title()))?;
        let row = |own: &BlockRow| {
            let last = own.byte + own.bytes - 1;
            let bytes = if own.bytes > 1 { format!("{} to {last}", own.byte) } else { own.byte.to_string() };
            vec![bytes, own.address.clone(), own.form.clone(), own.other.clone()]
        };
        let head = vec!["byte", "address", "as", if view.sent { "from" } else { "goes to" }];
        if !view.rows.is_empty() {
            console.table(&Table { head, rows: view.rows.iter().map(row).collect(), whole: &[0, 1, 2] })?;
        }
        let unused = view.unused().into_iter().map(|own| match own.len() {
            1 => own.start.to_string(),
            _ => format!("{} to {}", own.start, own.end - 1),
        });
        let unused: Vec<String> = unused.collect();
        if !unused.is_empty() {
            let what = if view.sent { "always 0" } else { "not looked at" };
            console.say(&format!("{}: {what}", unused.join(", ")))?;
        }
    }
    Ok(())
}

/// Where a port is: ` at 192.0.2.10:502`.
fn place(checked: &Checked, port: usize) -> String {
    match checked.project.ports.get(port).and_then(|port| port.wires.as_ref()) {
        Some(Wires::Listen { at }) => format!(" at {}", at.value),
        Some(Wires::Serial { path, .. } | Wires::Pty { path }) => format!(" at {}", path.value),
        Some(Wires::Connect { to }) => format!(" at {}", to.value),
        Some(Wires::Network { at }) => format!(" at {}", at.value),
        Some(Wires::Ethernet { interface }) => format!(" on {}", interface.value),
        None => String::new(),
    }
}

/// What has to be set up in controllers and other clients.
fn to_set_up(console: &mut Console, checked: &Checked) -> Result<(), Failure> {
    for demand in demands(&checked.project, &checked.plan) {
        let whose = if demand.image {
            format!("to set up in the clients of {}", demand.name)
        } else {
            format!("to set up in {}", demand.name)
        };
        console.say("")?;
        let head = console.paint(Tone::Accent, &whose);
        // On a network a device is where it is, and not where we are.
        let device = checked.plan.devices.iter().find(|own| !demand.image && own.name == demand.name);
        let own = device.and_then(Station::network_address).map(|own| format!(" at {own}"));
        console.say(&format!("{head}{}", own.unwrap_or_else(|| place(checked, demand.port))))?;
        for link in &demand.links {
            let options = textwrap::Options::new(console.width())
                .initial_indent("  ")
                .subsequent_indent("    ")
                .word_splitter(textwrap::WordSplitter::NoHyphenation);
            console.say(&textwrap::fill(link, options))?;
        }
        let column = demand.tables.iter().map(|(table, _)| table.len()).max().unwrap_or(0);
        for (table, words) in &demand.tables {
            console.say(&format!("  {table:<column$}  {words}"))?;
        }
    }
    Ok(())
}

/// One table a device that is sent values.
fn sent(console: &mut Console, checked: &Checked, rows: &[MapRow], first: &mut bool) -> Result<(), Failure> {
    let row = |r: &MapRow| {
        let from = if r.device_address.is_empty() {
            r.value.clone()
        } else {
            format!("{}, {}", r.value, r.device_address)
        };
        vec![
            r.address.clone(),
            r.offset.clone(),
            r.form.clone(),
            r.eu.clone(),
            from,
            r.sent.clone(),
            r.on_loss.clone(),
        ]
    };
    for station in &checked.plan.devices {
        let here: Vec<Vec<String>> = rows.iter().filter(|r| r.sent_to == station.name).map(row).collect();
        if here.is_empty() {
            continue;
        }
        if !std::mem::take(first) {
            console.say("")?;
        }
        let name = console.paint(Tone::Accent, &format!("device {}", station.name));
        console.say(&format!("{name} is sent {}", counted(here.len())))?;
        let head = vec!["address", "offset", "as", "eu", "from", "sent", "on loss"];
        console.table(&Table { head, rows: here, whole: &[0, 1, 3] })?;
    }
    Ok(())
}

/// What is passed on, a row a unit.
fn passed(checked: &Checked) -> Vec<Passed> {
    let port =
        |at: usize| checked.project.ports.get(at).map_or("", |port| port.name.value.as_str()).to_string();
    let of = |forward: &PlannedForward| {
        let one = |units: Option<(u16, u16)>| Passed {
            from: port(forward.from),
            unit: units.map(|(here, _)| here),
            to: port(forward.to),
            as_unit: units.map(|(_, there)| there),
            functions: forward.functions.clone(),
        };
        let raw = forward.raw.then(|| one(None));
        raw.into_iter().chain(forward.units.iter().map(|units| one(Some(*units)))).collect::<Vec<_>>()
    };
    checked.plan.forwards.iter().flat_map(of).collect()
}

fn forwards(console: &mut Console, passed: &[Passed], first: bool) -> Result<(), Failure> {
    if passed.is_empty() {
        return Ok(());
    }
    if !first {
        console.say("")?;
    }
    console.say(&console.paint(Tone::Accent, "passed on"))?;
    let row = |one: &Passed| {
        let functions: Vec<String> = one.functions.iter().map(ToString::to_string).collect();
        let all = if one.unit.is_some() { "all" } else { "" };
        let number = |unit: Option<u16>| unit.map(|unit| unit.to_string());
        vec![
            one.from.clone(),
            number(one.unit).unwrap_or_else(|| "all bytes".into()),
            one.to.clone(),
            number(one.as_unit).unwrap_or_default(),
            if functions.is_empty() { all.into() } else { functions.join(", ") },
        ]
    };
    let head = vec!["from", "unit", "to", "as unit", "functions"];
    console.table(&Table { head, rows: passed.iter().map(row).collect(), whole: &[0, 1] })
}

/// An address with its offset.
fn shown(station: &Station, extent: Extent, bit: Option<u8>) -> (String, String) {
    let shown = station.dialect.zip(station.space_at(extent.space)).map(|(dialect, space)| {
        dialect.notation().show(space, extent.first, extent.count, bit, &station.setup)
    });
    shown.map_or_else(Default::default, |shown| (shown.canonical, shown.offset))
}

fn rows(checked: &Checked, number: u32, rule: &PlannedRule) -> Vec<MapRow> {
    let (project, plan) = (&checked.project, &checked.plan);
    let Some((board, map)) = plan.board(rule.board).zip(project.maps.get(rule.map)) else { return vec![] };
    let sink = plan.sink(rule);
    let point = |device: usize, point: Option<usize>| project.profile_of(device)?.points.get(point?);
    let own_point = match (rule.source, sink) {
        (_, Some(device)) => point(device, rule.target_point),
        (Source::Values { owner: Owner::Device(device), point: at, .. }, _) => point(device, at),
        _ => None,
    };
    let note = map.note.as_deref().or(own_point.and_then(|point| point.note.as_deref())).unwrap_or_default();
    let station = |station: &Station| station.id().map(|id| id.to_string()).unwrap_or_default();
    // A register that stands as sixteen bits is read bit by bit, and so each of them has a row.
    let spread = rule.spreads();
    let each = if spread { rule.target.width } else { 1 };
    let row = |value: u32| {
        let (item, part) = (value / each, value % each);
        let mut target = rule.target.item(item);
        if spread {
            (target.first, target.count) = (target.first + part, 1);
        }
        let (address, offset) = shown(board, target, rule.target.bit);
        let far = far_end(checked, number, rule, item, spread.then(|| u8::try_from(part).unwrap_or(0)));
        let ages = rule.max_age != u64::MAX && !matches!(rule.source, Source::Health(_));
        let seconds = |micros: u64| micros as f64 / 1e6;
        let polled = matches!(rule.source, Source::Values { .. });
        MapRow {
            rule: map.name.as_ref().map_or_else(|| (rule.map + 1).to_string(), |name| name.value.clone()),
            image: if sink.is_some() { String::new() } else { board.name.clone() },
            sent_to: if sink.is_some() { board.name.clone() } else { String::new() },
            address,
            offset,
            form: if spread { "bool".into() } else { rule.conversion.to.to_string() },
            value: far.value,
            device: far.owner,
            device_address: far.address,
            device_offset: far.offset,
            device_form: if spread { "bool".into() } else { far.form },
            eu: own_point.and_then(|point| point.eu.clone()).unwrap_or_default(),
            poll_s: polled.then(|| seconds(rule.every)),
            max_age_s: ages.then(|| seconds(rule.max_age)),
            on_loss: match (rule.source, rule.on_loss) {
                (Source::Health(_), _) => "never lost".into(),
                (_, OnLoss::Refuse) => "refuse".into(),
                (_, OnLoss::Hold) => "hold".into(),
                (_, OnLoss::Stop) => "stop".into(),
                (_, fill @ OnLoss::Fill(_)) => fill.to_string(),
            },
            access: match rule.source {
                Source::Client => "written by clients",
                _ if rule.writable => "read-write",
                _ => "read-only",
            },
            sent: sending(rule),
            unit: station(board),
            note: note.to_string(),
        }
    };
    (0..rule.target.count * each).map(row).collect()
}

/// Where a value comes from; for cells that clients write, where it goes.
#[derive(Default)]
struct Far {
    value: String,
    owner: String,
    address: String,
    offset: String,
    form: String,
}

fn far_end(checked: &Checked, number: u32, rule: &PlannedRule, item: u32, part: Option<u8>) -> Far {
    let (project, plan) = (&checked.project, &checked.plan);
    let named = |station: &Station, name: Option<&str>| match name {
        Some(name) => format!("{}.{name}", station.name),
        None => station.name.clone(),
    };
    let point = |device: usize, point: Option<usize>| {
        project.profile_of(device)?.points.get(point?).map(|point| point.name.value.as_str())
    };
    match rule.source {
        Source::Health(told) => Far { value: told.show(project), ..Far::default() },
        Source::Values { owner, place, point: at } => {
            let Some(station) = plan.station(owner) else { return Far::default() };
            let (address, offset) = shown(station, place.item(item), place.bit.or(part));
            let form = rule.conversion.from.to_string();
            Far {
                value: named(station, owner.device().and_then(|device| point(device, at))),
                owner: station.name.clone(),
                address,
                offset,
                form,
            }
        }
        Source::ClientCells { image, place, .. } => {
            let Some(station) = plan.images.get(image) else { return Far::default() };
            let (address, offset) = shown(station, place.item(item), None);
            let form = rule.conversion.from.to_string();
            Far { value: station.name.clone(), owner: String::new(), address, offset, form }
        }
        Source::Client => {
            let targets: Vec<_> = plan.onward(number).filter_map(|at| plan.rules.get(at as usize)).collect();
            let Some(first) = targets.first() else { return Far::default() };
            let Some(station) = plan.board(first.board) else { return Far::default() };
            let (address, offset) = shown(station, first.target.item(item), first.target.bit);
            let name = plan.sink(first).and_then(|device| point(device, first.target_point));
            let more =
                if targets.len() > 1 { format!(" and {} more", targets.len() - 1) } else { String::new() };
            Far {
                value: format!("to {}{more}", named(station, name)),
                owner: plan.sink(first).map(|_| station.name.clone()).unwrap_or_default(),
                address,
                offset,
                form: first.conversion.to.to_string(),
            }
        }
    }
}

/// When a device is sent the value.
fn sending(rule: &PlannedRule) -> String {
    let sending = rule.sending;
    let mut when = vec![];
    when.extend(sending.on_write.then(|| "on write".to_string()));
    when.extend(sending.on_change.then(|| "on change".to_string()));
    when.extend(sending.every.map(|every| format!("every {}", show_micros(every))));
    when.join(", ")
}

fn counted(values: usize) -> String {
    if values == 1 { "1 value".into() } else { format!("{values} values") }
}
