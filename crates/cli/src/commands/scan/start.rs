//! What a scan found as the start of a project.

use crate::Failure;
use crate::commands::new::write_files;
use crate::connections::Field;
use crate::console::{Console, Tone};
use std::fmt::Write;
use std::path::Path;
use woodrush_core::protocol::{AddressContext, Transport, usual_protocol};
use woodrush_engine::direct::Link;
use woodrush_engine::scan::{Found, Presence};

pub(super) fn write(
    console: &mut Console,
    dir: &Path,
    field: &Field,
    found: &[Found],
) -> Result<(), Failure> {
    let text = project(field, found);
    write_files(dir, &[("woodrush.toml", &text)])?;
    let made = console.paint(Tone::Good, "made");
    console.note(&format!(
        "\n{made} {}: give the units names, profiles and rules",
        dir.join("woodrush.toml").display()
    ));
    Ok(())
}

fn project(field: &Field, found: &[Found]) -> String {
    let mut text = String::new();
    let protocol = field.station.dialect.map_or("", |dialect| dialect.name());
    let way = match &field.link {
        Link::Serial { path, line, echo, .. } => {
            let echo = if *echo { "echo     = true\n" } else { "" };
            format!("serial   = \"{}\"\nline     = \"{line}\"\n{echo}", path.display())
        }
        Link::Socket(to) => format!("connect  = \"{to}\"\n"),
    };
    // Writing into a string does not fail.
    let _ = write!(
        text,
        "# What `woodrush scan` found. Next: name the devices, write a profile for each kind, and map what is wanted.\n\n\
         [project]\nname = \"Scanned line\"\n\n[ports.field]\n{way}protocol = \"{protocol}\"\n"
    );
    for (key, word) in &field.station.setup.words {
        let _ = writeln!(text, "{key} = \"{word}\"");
    }
    for found in found.iter().filter(|found| found.presence != Presence::Damaged) {
        let _ = write!(text, "\n{}", device(field, found));
    }
    let usual = usual_protocol(Transport::Listen, None).map_or("", |dialect| dialect.name());
    text += &"\n# What others shall read, and the first rule:\n\
             #\n\
             # [ports.office]\n\
             # listen   = \"0.0.0.0:502\"\n\
             # protocol = \"USUAL\"\n\
             #\n\
             # [images.scada]\n\
             # port = \"office\"\n\
             #\n\
             # [[map]]\n\
             # from = \"DEVICE:ADDRESS as TYPE ORDER\"\n\
             # to   = \"scada:400001\"\n"
        .replace("USUAL", usual);
    text
}

fn device(field: &Field, found: &Found) -> String {
    let dialect = field.station.dialect;
    let key = dialect.and_then(|dialect| dialect.stations().station_key(field.transport)).map(|(key, _)| key);
    let number = found.station.unwrap_or(1);
    let name = key.map_or_else(|| "station".to_string(), |key| format!("{key}-{number}"));
    let mut text = format!("[devices.{name}]\nport = \"field\"\n");
    if let Some(key) = key {
        text += &format!("{key} = {number}\n");
    }
    let limited = found.tables.iter().filter(|table| table.limited).map(|table| table.largest).min();
    if let Some(most) = limited {
        text += &format!("max-read = {most}\n");
    }
    // Sizes count from the first address, so only what begins there has one.
    let sizes: Vec<String> = found
        .tables
        .iter()
        .filter(|table| !table.spent && table.ranges.len() == 1)
        .filter_map(|table| {
            let (first, _, count) = table.ranges.first()?;
            let begins = dialect?
                .notation()
                .parse(first, &AddressContext::of_device(&field.station.setup))
                .ok()?
                .first
                == 0;
            begins.then(|| format!("{} = {count}", table.table))
        })
        .collect();
    if !sizes.is_empty() {
        text += &format!("tables = {{ {} }}\n", sizes.join(", "));
    }
    if let Some(identity) = &found.identity {
        text += &format!("# it says of itself: {identity}\n");
    }
    for table in &found.tables {
        for (first, last, count) in &table.ranges {
            text += &format!("# {}: {first} to {last}, {count}\n", table.table);
        }
    }
    text
}
