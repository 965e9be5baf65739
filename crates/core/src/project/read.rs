//! From the texts of the files to a [`Project`], with every fault that reading alone can see.

use super::areas::{self, Area};
use super::caps;
use super::client_lists;
use super::declared::read_lists;
use super::fields::Fields;
use super::read_clients::read_client;
use super::read_ports::{networks, own_port, places_of, read_port, setup};
use super::read_profiles::read_profiles;
use super::read_rig::read_rig;
use super::reader::Reader;
use super::scalars::{duration, ipv4, network, retry, whole_word};
use super::{
    Converter, Device, Image, Limits, Map, OnLoss, Owner, Polling, Project, Retry, Sending, forward,
};
use crate::finding::Finding;
use crate::form::Overflow;
use crate::ledger::Ledger;
use crate::nearest::nearest;
use crate::source::{Sources, Span, Spanned};
use std::collections::HashMap;
use std::ops::ControlFlow;

/// What reading gives: as much of the project as is sound, and what is not.
#[derive(Debug, Default)]
pub struct Read {
    /// As much as is sound.
    pub project: Project,
    /// What is not, in no order yet.
    pub findings: Vec<Finding>,
}

/// Reads the project file and the profiles that it names. `load` brings a profile's text by the path that the
/// project writes, or the reason why it cannot be read.
pub fn read(name: &str, text: String, load: &mut dyn FnMut(&str) -> Result<String, String>) -> Read {
    let mut project = Project::default();
    let mut sources = Sources::default();
    let file = sources.add(name, text);
    let mut r = Reader::new(file, sources.whole(file));
    let document = r.document();
    let top = Fields::top(&mut r, "file", "this file", &document);
    if let Some(fields) = top.table(&mut r, "project", "project", "`[project]`") {
        project.name = fields.text(&r, "name").unwrap_or_default();
    }
    if let Some(fields) = top.table(&mut r, "converter", "converter", "`[converter]`") {
        project.converter = Converter {
            address: fields.parsed(&mut r, "address", "M29", network),
            router: fields.parsed(&mut r, "router", "M29", ipv4),
            write_log: fields.text(&r, "write-log"),
            write_log_mb: fields.whole(&r, "write-log-mb").map_or(100, |most| most.value),
            write_log_files: fields.whole(&r, "write-log-files").map_or(10, |most| most.value),
            limits: Limits::default(),
        };
        if let Some(limits) = fields.table(&mut r, "limits", "limits", "`[converter.limits]`") {
            project.converter.limits = Limits {
                clients: limits.whole(&r, "clients"),
                devices_per_line: limits.whole(&r, "devices-per-line"),
                lines: limits.whole(&r, "lines"),
                values: limits.whole(&r, "values"),
            };
        }
    }
    for (name, fields) in entries(&mut r, &top, "ports", "port") {
        let port = read_port(&mut r, name, &fields);
        project.ports.push(port);
    }
    let mut wanted: Vec<Spanned<String>> = vec![];
    let mut lists: Vec<(usize, Spanned<String>)> = vec![];
    for (name, fields) in top.named(&mut r, "devices", "device") {
        let room = caps::DEVICES - project.devices.len().min(caps::DEVICES);
        let several = repeated(&mut r, &name, fields, "devices");
        let count = project.devices.len() + several.len();
        if several.len() > room {
            r.find(caps::too_many(name.span, "devices and more", count as u64, caps::DEVICES as u64));
            break;
        }
        for (name, fields, n) in several {
            lists.extend(fields.text(&r, "tags").map(|path| (project.devices.len(), path)));
            let device = read_device(&mut r, &mut project, name, &fields, n, &mut wanted);
            project.devices.push(device);
        }
    }
    for (name, fields) in entries(&mut r, &top, "images", "image") {
        let image = read_image(&mut r, &project, name, &fields);
        project.images.push(image);
    }
    let images =
        project.images.iter().enumerate().map(|(at, image)| (image.name.value.clone(), Owner::Image(at)));
    let devices =
        project.devices.iter().enumerate().map(|(at, device)| (device.name.value.clone(), Owner::Device(at)));
    project.owners = images.chain(devices).collect();
    for (name, fields) in entries(&mut r, &top, "areas", "area") {
        project.areas.extend(read_area(&mut r, &project, name, &fields));
    }
    read_maps(&mut r, &top, &mut project.maps);
    for (at, map) in project.maps.iter().enumerate() {
        let Some(name) = &map.name else { continue };
        if let Some(other) = project.rule_names.insert(name.value.clone(), at) {
            let finding = Finding::new("F06", name.span, format!("two rules are called `{}`", name.value));
            let other =
                project.maps.get(other).and_then(|map| map.name.as_ref()).map_or(name.span, |name| name.span);
            r.find(finding.note(other, "the other").fix("rename one of them"));
        }
    }
    let mut forwards = top.listed(&mut r, "forward", "forward", "this forward");
    let span = forwards.get(caps::ENTRIES).map_or(Span::default(), |fields| fields.span);
    let kept = caps::capped(&mut r, span, "forwards", forwards.len(), caps::ENTRIES);
    forwards.truncate(kept);
    for fields in forwards {
        let ports = &project.ports;
        let port = |r: &mut Reader<'_>, key: &str, noun: &str| {
            refer(r, &fields, key, noun, ports.iter().map(|port| &port.name))
        };
        let forward = forward::read(&mut r, &fields, port);
        project.forwards.push(forward);
    }
    for (name, fields) in entries(&mut r, &top, "clients", "client") {
        let client = read_client(&mut r, &project, name, &fields);
        project.clients.push(client);
    }
    if let Some(fields) = top.table(&mut r, "rig", "rig", "`[rig]`") {
        project.rig = read_rig(&mut r, &project, &fields);
    }
    names_are_unique(&mut r, &project);
    let mut findings = std::mem::take(&mut r.findings);
    drop(top);
    drop(document);
    project.sources = sources;
    read_profiles(&mut project, &wanted, load, &mut findings);
    read_lists(&mut project, &lists, load, &mut findings);
    let mut ledger = read_ledger(&mut project, name, load, &mut findings);
    project.issues = std::mem::take(&mut ledger.issues);
    // A large site without areas is not asked rule by rule.
    let text = project.sources.whole(file);
    if !project.areas.is_empty() || text.contains('@') {
        areas::resolve(&mut project, &ledger, &mut findings);
    }
    client_lists::read_all(&mut project, load, &mut findings);
    Read { project, findings }
}

/// The tables below a key, no more than there may be.
fn entries<'a, 'i>(
    r: &mut Reader<'_>,
    top: &Fields<'a, 'i>,
    key: &'static str,
    noun: &'static str,
) -> Vec<(Spanned<String>, Fields<'a, 'i>)> {
    let mut found = top.named(r, key, noun);
    let span = found.get(caps::ENTRIES).map_or(Span::default(), |(name, _)| name.span);
    let kept = caps::capped(r, span, key, found.len(), caps::ENTRIES);
    found.truncate(kept);
    found
}

/// An entry as often as it says: with its names, fields and numbers.
fn repeated<'a, 'i>(
    r: &mut Reader<'_>,
    name: &Spanned<String>,
    fields: Fields<'a, 'i>,
    group: &'static str,
) -> Vec<(Spanned<String>, Fields<'a, 'i>, Option<u32>)> {
    let Some(range) = fields.repetitions(r) else { return vec![(name.clone(), fields, None)] };
    fields.check_expressions(r, group, *range.start());
    let nth = |n| (Spanned { value: format!("{}-{n}", name.value), span: name.span }, fields.nth(n), Some(n));
    range.map(nth).collect()
}

/// The index of the name that `key` gives, in `names`.
pub(super) fn refer<'a>(
    r: &mut Reader<'_>,
    fields: &Fields<'_, '_>,
    key: &str,
    noun: &str,
    names: impl Iterator<Item = &'a Spanned<String>> + Clone,
) -> Option<Spanned<usize>> {
    let text = fields.required(r, key, &format!("the name of {noun}"))?;
    if let Some(value) = names.clone().position(|name| name.value == text.value) {
        return Some(Spanned { value, span: text.span });
    }
    let kind = if matches!(key, "from" | "to") { "port" } else { key };
    let mut finding = Finding::new("F05", text.span, format!("there is no {kind} `{}`", text.value));
    if let Some(near) = nearest(&text.value, names.clone().map(|name| name.value.as_str())) {
        finding = finding.fix(format!("write `{near}`"));
    } else {
        let names: Vec<String> = names.map(|name| name.value.clone()).collect();
        finding = finding.fix(match names.as_slice() {
            [] => format!("add `[{kind}s.{}]`", text.value),
            _ => format!("write {}", super::asked::list_or(&names)),
        });
    }
    r.find(finding);
    None
}

fn read_device(
    r: &mut Reader<'_>,
    project: &mut Project,
    name: Spanned<String>,
    fields: &Fields<'_, '_>,
    n: Option<u32>,
    wanted: &mut Vec<Spanned<String>>,
) -> Device {
    let port = if fields.has("connect") || fields.has("serial") {
        own_port(r, project, &name, fields)
    } else {
        refer(r, fields, "port", "a port", project.ports.iter().map(|port| &port.name))
    };
    let write_port = fields
        .has("write-port")
        .then(|| refer(r, fields, "write-port", "a port", project.ports.iter().map(|port| &port.name)))
        .flatten();
    let profile = fields.text(r, "profile").map(|path| {
        let value = wanted.iter().position(|known| known.value == path.value).unwrap_or(wanted.len());
        let at = Spanned { value, span: path.span };
        if value == wanted.len() {
            wanted.push(path);
        }
        at
    });
    let speaks = port.and_then(|port| project.ports.get(port.value)?.protocol).map(|protocol| protocol.value);
    let mut setup = setup(r, fields, "devices", speaks);
    for key in ["max-read", "max-write"] {
        setup.numbers.extend(fields.whole(r, key).map(|limit| (key, limit.value)));
    }
    let station = speaks
        .and_then(|protocol| protocol.stations().station_key(crate::protocol::Transport::Serial))
        .and_then(|(key, _)| fields.value_span(r, key));
    let retry = fields.parsed(r, "retry-lost", "F03", |text| {
        retry(text).ok_or_else(|| format!("`{text}` is not a time or a range of times such as 1s..30s"))
    });
    let settings = places_of(r, fields, &setup);
    Device {
        settings,
        port,
        write_port,
        profile,
        setup,
        station_at: station.unwrap_or(name.span),
        station_written: station.is_some(),
        line: fields.line(r, "line"),
        must_map: fields.texts(r, "must-map"),
        poll: fields.poll(r).unwrap_or(Spanned { value: Polling::Every(1_000_000), span: name.span }),
        read_gap: fields.whole(r, "read-gap").map_or(0, |gap| gap.value),
        lost_after: fields.whole(r, "lost-after").map_or(3, |after| after.value),
        retry: retry.map_or_else(Retry::default, |retry| retry.value),
        tables: fields.sizes(r, "tables"),
        shift: if fields.has("shift") { fields.signed(r, "shift") } else { None }.unwrap_or_default(),
        set_up: super::read_blocks::set_up(r, fields),
        n,
        name,
    }
}

fn on_loss(r: &mut Reader<'_>, fields: &Fields<'_, '_>) -> Option<Spanned<OnLoss>> {
    let parse = |text: &str| match text.split_once(' ') {
        None if text == "refuse" => Ok(OnLoss::Refuse),
        None if text == "hold" => Ok(OnLoss::Hold),
        None if text == "stop" => Ok(OnLoss::Stop),
        Some(("fill", word)) => {
            let word = word.trim();
            whole_word(word)
                .map(OnLoss::Fill)
                .ok_or_else(|| format!("`{word}` is not a 16-bit word (0 to 65535, or 0x0000 to 0xFFFF)"))
        }
        _ => Err(format!("`{text}` is not a valid `on-loss` (refuse, hold, or fill 0x8000)")),
    };
    fields.parsed(r, "on-loss", "F03", parse)
}

/// `on-write`, `on-change`, `every 10s`, or several of them.
fn sending(r: &mut Reader<'_>, fields: &Fields<'_, '_>) -> Option<Spanned<Sending>> {
    let mut found: Option<Spanned<Sending>> = None;
    for text in fields.one_or_more(r, "send") {
        let entry = found.get_or_insert(Spanned { value: Sending::default(), span: text.span });
        match text.value.split_once(' ') {
            None if text.value == "on-write" => entry.value.on_write = true,
            None if text.value == "on-change" => entry.value.on_change = true,
            Some(("every", time)) if duration(time.trim()).is_some_and(|every| every > 0) => {
                entry.value.every = duration(time.trim());
            }
            _ => {
                let what =
                    format!("`{}` is not a valid `send` (on-write, on-change or every 10s)", text.value);
                r.find(Finding::new("F03", text.span, what));
            }
        }
    }
    found
}

fn read_image(
    r: &mut Reader<'_>,
    project: &Project,
    name: Spanned<String>,
    fields: &Fields<'_, '_>,
) -> Image {
    let port = refer(r, fields, "port", "a port", project.ports.iter().map(|port| &port.name));
    let speaks = port.and_then(|port| project.ports.get(port.value)?.protocol).map(|protocol| protocol.value);
    let station = speaks
        .and_then(|protocol| protocol.stations().station_key(crate::protocol::Transport::Listen))
        .and_then(|(key, _)| fields.value_span(r, key));
    let setup = setup(r, fields, "images", speaks);
    Image {
        port,
        settings: places_of(r, fields, &setup),
        setup,
        station_at: station.unwrap_or(name.span),
        on_loss: on_loss(r, fields).map(|on_loss| on_loss.value).unwrap_or_default(),
        writers: networks(r, fields, "writers"),
        max_age: fields.duration(r, "max-age").map(|age| age.value),
        unmapped_zero: fields.text(r, "unmapped").is_some_and(|word| word.value == "zero"),
        name,
    }
}

fn read_map(r: &mut Reader<'_>, fields: &Fields<'_, '_>) -> Option<Map> {
    let from = fields.required(r, "from", "where the value comes from");
    let to = fields.required(r, "to", "where it is shown");
    let plain = Map::plain(fields.span, from?, to?);
    // Most rules of a large project say nothing else, and looking up what is not there is what takes the time.
    if fields.len() == 2 {
        return Some(plain);
    }
    let access = fields.text(r, "access");
    Some(Map {
        name: fields.text(r, "name"),
        count: fields.whole(r, "count"),
        enabled: fields.switch(r, "enabled").unwrap_or(true),
        read_write: access.filter(|access| access.value == "read-write").map(|access| access.span),
        poll: fields.poll(r),
        on_loss: on_loss(r, fields),
        overflow: match fields.text(r, "overflow") {
            Some(word) if word.value == "clamp" => Overflow::Clamp,
            _ => Overflow::Refuse,
        },
        after_device: fields.text(r, "answer").is_none_or(|when| when.value == "after-device"),
        send: sending(r, fields).map(Box::new),
        together: fields.text(r, "together").map(Box::new),
        note: fields.text(r, "note").map(|note| note.value.into()),
        ..plain
    })
}

/// Every `[[map]]`, as often as it says, no more than there may be.
fn read_maps(r: &mut Reader<'_>, top: &Fields<'_, '_>, maps: &mut Vec<Map>) {
    maps.reserve(top.listed_len("map").min(caps::RULES));
    top.each_listed(r, "map", ("map", "this rule"), |r, fields| {
        let range = fields.repetitions(r);
        let count = maps.len() + range.as_ref().map_or(1, |range| range.clone().count());
        if count > caps::RULES {
            r.find(caps::too_many(fields.span, "rules and more", count as u64, caps::RULES as u64));
            return ControlFlow::Break(());
        }
        let Some(range) = range else {
            maps.extend(read_map(r, &fields));
            return ControlFlow::Continue(());
        };
        fields.check_expressions(r, "map", *range.start());
        maps.extend(range.filter_map(|n| read_map(r, &fields.nth(n))));
        ControlFlow::Continue(())
    });
}

fn read_area(
    r: &mut Reader<'_>,
    project: &Project,
    name: Spanned<String>,
    fields: &Fields<'_, '_>,
) -> Option<Area> {
    let image = refer(r, fields, "image", "an image", project.images.iter().map(|image| &image.name));
    let range = fields.required(r, "range", "the first and the last address, such as `300001-300999`");
    Some(Area { name, image: image?, range: range?, slots: None })
}

/// The ledger beside the project; none is an empty one.
fn read_ledger(
    project: &mut Project,
    name: &str,
    load: &mut dyn FnMut(&str) -> Result<String, String>,
    findings: &mut Vec<Finding>,
) -> Ledger {
    let path = Ledger::name(name);
    // Without one nothing was given out yet, and a value without an address is told.
    let Ok(text) = load(&path) else { return Ledger::default() };
    let file = project.sources.add(path, text.clone());
    Ledger::read(&text, file).unwrap_or_else(|found| {
        findings.extend(found);
        Ledger::default()
    })
}

/// Words that stand before the dot of what the converter tells about itself.
const RESERVED: [&str; 3] = ["rules", "ports", "converter"];

/// TOML itself refuses a name twice in one kind; devices and images share the place before the colon, repeated devices
/// may meet others.
fn names_are_unique(r: &mut Reader<'_>, project: &Project) {
    let names = project.devices.iter().map(|d| &d.name).chain(project.images.iter().map(|i| &i.name));
    for name in names.filter(|name| RESERVED.contains(&name.value.as_str())) {
        let what = format!("`{}` is reserved for health of the converter", name.value);
        r.find(Finding::new("F06", name.span, what).fix("rename it"));
    }
    let mut seen: HashMap<&str, &Spanned<String>> = HashMap::new();
    for name in project.devices.iter().map(|device| &device.name) {
        if let Some(other) = seen.insert(&name.value, name) {
            let finding = Finding::new("F06", name.span, format!("two devices are called `{}`", name.value));
            r.find(finding.note(other.span, "the other").fix("rename one of them"));
        }
    }
    for image in &project.images {
        if let Some(device) = seen.get(image.name.value.as_str()) {
            let what = format!("`{}` is the name of a device and of an image", image.name.value);
            let finding = Finding::new("F06", image.name.span, what).note(device.span, "the device");
            r.find(finding.fix("rename one of them: both stand before a colon in rules"));
        }
    }
}
