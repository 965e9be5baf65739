//! `woodrush map`: the resolved address table, both sides, one row a value.

use crate::args::Format;
use crate::console::{Console, Table, Tone};
use crate::{Failure, Verdict};
use serde::Serialize;
use std::path::Path;
use woodrush_core::check::Checked;
use woodrush_core::plan::{PlannedRule, Source, Station};
use woodrush_core::project::{OnLoss, Wires, show_micros};
use woodrush_core::protocol::SpaceId;

#[derive(Serialize)]
struct Row {
    rule: String,
    image: String,
    address: String,
    offset: String,
    form: String,
    value: String,
    device: String,
    device_address: String,
    device_offset: String,
    device_form: String,
    eu: String,
    poll: String,
    max_age: String,
    on_loss: String,
    access: &'static str,
}

pub(crate) fn run(console: &mut Console, path: &Path) -> Result<Verdict, Failure> {
    let Some(checked) = crate::project::load_sound(console, path)? else { return Ok(Verdict::No) };
    let rows: Vec<Row> = checked.plan.rules.iter().flat_map(|rule| rows(&checked, rule)).collect();
    match console.format {
        Format::Json => console.json(&serde_json::json!({ "format": 1, "values": rows }))?,
        Format::Csv => {
            let head = vec![
                "rule",
                "image",
                "address",
                "offset",
                "form",
                "value",
                "device",
                "device address",
                "device offset",
                "device form",
                "eu",
                "poll",
                "max age",
                "on loss",
                "access",
            ];
            let row = |r: Row| {
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
                    r.poll,
                    r.max_age,
                    r.on_loss,
                    r.access.to_string(),
                ]
            };
            console.table(&Table { head, rows: rows.into_iter().map(row).collect(), whole: &[] })?;
        }
        Format::Text if rows.is_empty() => {
            console.note("no rules yet: add a `[[map]]`; docs/project-file.md shows how");
        }
        Format::Text => text(console, &checked, &rows)?,
    }
    Ok(Verdict::Yes)
}

/// One table an image, so that its name need not stand in every row.
fn text(console: &mut Console, checked: &Checked, rows: &[Row]) -> Result<(), Failure> {
    let row = |r: &Row| {
        let other = !r.device_form.is_empty() && r.device_form != r.form;
        let there = if other { format!("\nas {}", r.device_form) } else { String::new() };
        let offset =
            if r.device_offset.is_empty() { String::new() } else { format!(" ({})", r.device_offset) };
        vec![
            r.address.clone(),
            r.offset.clone(),
            r.form.clone(),
            r.eu.clone(),
            r.value.clone(),
            format!("{}{offset}{there}", r.device_address),
            if r.access == "read-write" { "rw".into() } else { "r".into() },
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
        let port = image.port.and_then(|port| checked.project.ports.get(port.value));
        let place = match port.and_then(|port| port.wires.as_ref()) {
            Some(Wires::Listen { at }) => format!(" at {}", at.value),
            _ => String::new(),
        };
        let name = console.paint(Tone::Accent, &format!("image {}", station.name));
        console.say(&format!("{name}{place}, {} values", here.len()))?;
        let head = vec!["address", "offset", "as", "unit", "value", "in the device", "access"];
        console.table(&Table { head, rows: here, whole: &[0, 1, 3, 4] })?;
    }
    Ok(())
}

fn rows(checked: &Checked, rule: &PlannedRule) -> Vec<Row> {
    let (project, plan) = (&checked.project, &checked.plan);
    let Some((image, device)) = plan.images.get(rule.image).zip(plan.devices.get(rule.source.device()))
    else {
        return vec![];
    };
    let Some(map) = project.maps.get(rule.map) else { return vec![] };
    let shown = |station: &Station, space: SpaceId, first: u32, bit: Option<u8>| {
        let shown = station
            .dialect
            .zip(station.space_at(space))
            .map(|(dialect, space)| dialect.show(space, first, bit, &station.setup));
        shown.map_or_else(Default::default, |shown| (shown.canonical, shown.offset))
    };
    let point = match rule.source {
        Source::Poll { device, point: Some(point), .. } => {
            project.profile_of(device).and_then(|profile| profile.points.get(point))
        }
        _ => None,
    };
    let row = |item: u32| {
        let target = rule.target.item(item);
        let (address, offset) = shown(image, target.space, target.first, None);
        let (value, (device_address, device_offset), device_form) = match rule.source {
            Source::Poll { place, .. } => {
                let source = place.item(item);
                let name = point.map_or_else(
                    || device.name.clone(),
                    |point| format!("{}.{}", device.name, point.name.value),
                );
                (name, shown(device, place.space, source.first, place.bit), rule.conversion.from.to_string())
            }
            Source::Health { item, .. } => {
                (format!("{}.health.{}", device.name, item.word()), Default::default(), String::new())
            }
        };
        let polled = matches!(rule.source, Source::Poll { .. });
        Row {
            rule: map.name.as_ref().map_or_else(|| (rule.map + 1).to_string(), |name| name.value.clone()),
            image: image.name.clone(),
            address,
            offset,
            form: rule.conversion.to.to_string(),
            value,
            device: device.name.clone(),
            device_address,
            device_offset,
            device_form,
            eu: point.and_then(|point| point.eu.clone()).unwrap_or_default(),
            poll: if polled { show_micros(rule.every) } else { String::new() },
            max_age: if polled { show_micros(rule.max_age) } else { String::new() },
            on_loss: match rule.on_loss {
                _ if !polled => "never lost".into(),
                OnLoss::Refuse => "refuse".into(),
                OnLoss::Hold => "hold".into(),
                OnLoss::Fill(word) => format!("fill 0x{word:04X}"),
            },
            access: if rule.writable { "read-write" } else { "read-only" },
        }
    };
    (0..rule.target.count).map(row).collect()
}
