//! `[clients.NAME]`: what is known of each client.

use super::asked::parse_asked;
use super::fields::Fields;
use super::read::refer;
use super::read_ports::{places_of, protocol, setup};
use super::reader::Reader;
use super::scalars::{host_port, ipv4, whole_word};
use super::{Client, OnLoss, Project, client_lists, forward};
use crate::finding::Finding;
use crate::source::Spanned;

pub(super) fn read_client(
    r: &mut Reader<'_>,
    project: &Project,
    name: Spanned<String>,
    fields: &Fields<'_, '_>,
) -> Client {
    let ports = project.ports.iter().map(|port| &port.name);
    let port = if fields.has("port") { refer(r, fields, "port", "a port", ports) } else { None };
    let image = if fields.has("port") && !fields.has("image") {
        None
    } else {
        refer(r, fields, "image", "the image that it asks", project.images.iter().map(|image| &image.name))
    };
    let mut asked = |key: &str| {
        let mut found = vec![];
        for entry in fields.texts(r, key) {
            match parse_asked(&entry) {
                Ok(asked) => found.push(asked),
                Err(finding) => r.find(finding),
            }
        }
        found
    };
    let (reads, writes) = (asked("reads"), asked("writes"));
    let (units, meant) = asked_units(r, fields);
    let speaks = image.and_then(|image| project.image_dialect(image.value));
    let setup = setup(r, fields, "clients", speaks);
    let settings = places_of(r, fields, &setup);
    Client {
        image,
        port,
        setup,
        settings,
        units,
        meant,
        unit: fields.whole(r, "unit"),
        lost: fields.parsed(r, "lost", "F03", |text| match text {
            "refused" => Ok(OnLoss::Refuse),
            "held" => Ok(OnLoss::Hold),
            word => whole_word(word).map(OnLoss::Fill).ok_or_else(|| {
                format!("`{word}` is not what a lost value may be (refused, held, or a word such as 0x8000)")
            }),
        }),
        list: client_lists::named(r, fields),
        line: if fields.has("line") { fields.line(r, "line") } else { None },
        address: fields.parsed(r, "address", "M29", ipv4),
        dials: fields.parsed(r, "dials", "M29", host_port),
        protocol: protocol(r, fields),
        reads,
        writes,
        must_read: fields.texts(r, "must-read"),
        max_read: fields.whole(r, "max-read").map(|most| most.value),
        timeout: fields.duration(r, "timeout"),
        name,
    }
}

/// The device that a client means behind each unit, by name.
type DevicesByUnit = Vec<(u16, Spanned<String>)>;

/// The units that a client asks through a forward, and the device that it means behind each: `"1-3"`, or
/// `{ 33 = "blower-1" }`.
fn asked_units(r: &mut Reader<'_>, fields: &Fields<'_, '_>) -> (Option<Spanned<Vec<u16>>>, DevicesByUnit) {
    let Some(span) = fields.value_span(r, "units") else { return (None, vec![]) };
    let fix = "write `\"31-33\"`, or whom it means behind each: `{ 31 = \"blower-1\" }`";
    let value = fields.get("units").map(|value| value.get_ref());
    if value.is_some_and(|value| value.is_str()) {
        return (fields.parsed(r, "units", "F03", forward::units), vec![]);
    }
    if !value.is_some_and(|value| value.is_table()) {
        r.find(Finding::new("F03", span, "`units` is neither a text nor a table".to_string()).fix(fix));
        return (None, vec![]);
    }
    let mut meant = vec![];
    for (unit, device) in fields.values(r, "units") {
        match (unit.value.parse::<u16>().ok().filter(|unit| *unit <= 255), device) {
            (Some(number), Some(device)) => meant.push((number, device)),
            (None, _) => {
                let what = format!("`{}` is not a valid unit (0 to 255)", unit.value);
                r.find(Finding::new("F03", unit.span, what).fix(fix));
            }
            (_, None) => {
                let what = format!("unit {} names no device", unit.value);
                r.find(Finding::new("F03", unit.span, what).fix(fix));
            }
        }
    }
    meant.sort_by_key(|(unit, _)| *unit);
    let units = meant.iter().map(|(unit, _)| *unit).collect();
    (Some(Spanned { value: units, span }), meant)
}
