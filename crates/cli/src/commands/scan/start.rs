//! What a scan found as the start of a project.

use crate::Failure;
use crate::commands::new::write_files;
use crate::connections::Field;
use crate::console::{Console, Tone};
use std::path::Path;
use toml_edit::{DocumentMut, InlineTable, Item, Table, value};
use woodrush_core::one_line::spaced;
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

/// Words of others behind a number sign: one line, whatever they hold.
fn comment(text: &str) -> String {
    format!("# {}\n", spaced(text))
}

fn project(field: &Field, found: &[Found]) -> String {
    let mut document = DocumentMut::new();
    document.decor_mut().set_prefix(
        "# What `woodrush scan` found. Next: name the devices, write a profile for each kind, and map what is wanted.\n\n",
    );
    let mut site = Table::new();
    site["name"] = value("Scanned line");
    document["project"] = Item::Table(site);
    let mut port = Table::new();
    match &field.link {
        Link::Serial { path, line, echo, .. } => {
            port["serial"] = value(path.display().to_string());
            port["line"] = value(line.to_string());
            if *echo {
                port["echo"] = value(true);
            }
        }
        Link::Socket(to) => port["connect"] = value(to.to_string()),
    }
    port["protocol"] = value(field.station.dialect.map_or("", |dialect| dialect.name()));
    for (key, word) in &field.station.setup.words {
        port[*key] = value(word.as_str());
    }
    document["ports"] = parent();
    document["ports"]["field"] = Item::Table(port);
    document["devices"] = parent();
    let mut after = String::new();
    for found in found.iter().filter(|found| found.presence != Presence::Damaged) {
        let (name, mut table, about) = device(field, found);
        table.decor_mut().set_prefix(format!("{after}\n"));
        document["devices"][&name] = Item::Table(table);
        after = about;
    }
    let usual = usual_protocol(Transport::Listen, None).map_or("", |dialect| dialect.name());
    let rest = "\n# What others shall read, and the first rule:\n\
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
             # to   = \"scada:400001\"\n";
    format!("{document}{after}{}", rest.replace("USUAL", usual))
}

/// A table that is not written itself, only what is in it.
fn parent() -> Item {
    let mut table = Table::new();
    table.set_implicit(true);
    Item::Table(table)
}

/// A device's name and table, and what is known of it besides.
fn device(field: &Field, found: &Found) -> (String, Table, String) {
    let dialect = field.station.dialect;
    let key = dialect.and_then(|dialect| dialect.stations().station_key(field.transport)).map(|(key, _)| key);
    let number = found.station.unwrap_or(1);
    let name = key.map_or_else(|| "station".to_string(), |key| format!("{key}-{number}"));
    let mut table = Table::new();
    table["port"] = value("field");
    if let Some(key) = key {
        table[key] = value(i64::from(number));
    }
    let limited = found.tables.iter().filter(|table| table.limited).map(|table| table.largest).min();
    if let Some(most) = limited {
        table["max-read"] = value(i64::from(most));
    }
    // Sizes count from the first address, so only what begins there has one.
    let mut sizes = InlineTable::new();
    for own in found.tables.iter().filter(|table| !table.spent && table.ranges.len() == 1) {
        let Some((first, _, count)) = own.ranges.first() else { continue };
        let context = AddressContext::of_device(&field.station.setup);
        let parsed = dialect.and_then(|dialect| dialect.notation().parse(first, &context).ok());
        if parsed.is_some_and(|address| address.first == 0) {
            sizes.insert(own.table.as_str(), i64::from(*count).into());
        }
    }
    if !sizes.is_empty() {
        table["tables"] = value(sizes);
    }
    let mut about =
        found.identity.as_ref().map_or_else(String::new, |own| comment(&format!("it says of itself: {own}")));
    for table in &found.tables {
        for (first, last, count) in &table.ranges {
            about += &comment(&format!("{}: {first} to {last}, {count}", table.table));
        }
    }
    (name, table, about)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_device_says_of_itself_becomes_no_line_of_a_project() {
        for hostile in
            ["probe\n[ports.door]\nlisten = \"0.0.0.0:502\"", "a\r\n[[forward]]", "a\u{2028}[converter]"]
        {
            let text = comment(&format!("it says of itself: {hostile}"));
            assert_eq!(text.lines().count(), 1);
            assert!(text.parse::<DocumentMut>().unwrap().is_empty());
        }
    }
}
