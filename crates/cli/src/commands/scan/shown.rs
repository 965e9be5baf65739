//! What a scan found, as text, JSON and CSV.

use super::Units;
use crate::Failure;
use crate::args::Format;
use crate::commands::read::show_took;
use crate::connections::Field;
use crate::console::{Console, Table, Tone};
use woodrush_core::project::Line;
use woodrush_core::protocol::FoundName;
use woodrush_engine::scan::{Found, FoundTable, LineEvidence, Presence};

/// Which settings were tried, with what came.
pub(super) fn lines(
    console: &mut Console,
    field: &Field,
    seen: &[(Line, LineEvidence)],
) -> Result<(), Failure> {
    let row = |(line, evidence): &(Line, LineEvidence)| {
        let mut said = vec![];
        if !evidence.answered.is_empty() {
            let units: Vec<String> = evidence.answered.iter().map(ToString::to_string).collect();
            said.push(format!("{} {} answered", word(field), units.join(", ")));
        }
        if evidence.refused > 0 {
            said.push(format!("{} of them with an exception", evidence.refused));
        }
        if evidence.damaged > 0 {
            said.push(format!("{} times bytes that make no frame", evidence.damaged));
        }
        let mark = if evidence.is_it() { "*" } else { "" };
        let said = if said.is_empty() { "nothing".to_string() } else { said.join(", ") };
        vec![mark.to_string(), line.to_string(), evidence.asked.to_string(), said]
    };
    let rows = seen.iter().map(row).collect();
    console.table(&Table { head: vec!["", "settings", "asked", "received"], rows, whole: &[1] })?;
    console.say("")
}

pub(super) fn lines_json(seen: &[(Line, LineEvidence)]) -> serde_json::Value {
    let one = |(line, evidence): &(Line, LineEvidence)| serde_json::json!({ "line": line.to_string(), "evidence": evidence });
    serde_json::json!({ "format": 1, "lines": seen.iter().map(one).collect::<Vec<_>>() })
}

fn presence(found: &Found) -> String {
    match found.presence {
        Presence::Answers => show_took(found.took_us),
        Presence::Damaged => "damaged each time".into(),
        Presence::Unsteady => format!("{}, damaged at times", show_took(found.took_us)),
    }
}

fn has(table: &FoundTable) -> Vec<String> {
    let spent = if table.spent { ", perhaps more" } else { "" };
    let range = |(first, last, count): &(String, String, u32)| match count {
        1 => format!("{first}{spent}"),
        _ => format!("{first} to {last} ({count}){spent}"),
    };
    table.ranges.iter().map(range).collect()
}

fn largest(found: &Found) -> String {
    let limited = found.tables.iter().filter(|table| table.limited).map(|table| table.largest).max();
    let seen = found.tables.iter().map(|table| table.largest).max();
    match (limited, seen) {
        (Some(most), _) => most.to_string(),
        // A few tell nothing of how many it could give.
        (None, Some(most)) if most >= 16 => format!("{most} or more"),
        (None, Some(_)) => "unknown".into(),
        (None, None) => String::new(),
    }
}

/// The type with the array's size; `?` where only the station knows.
fn type_shown(name: &FoundName) -> String {
    let size = |size: &u32| if *size == 0 { "?".to_string() } else { size.to_string() };
    let sizes: Vec<String> = name.dimensions.iter().map(size).collect();
    if sizes.is_empty() { name.type_name.clone() } else { format!("{}[{}]", name.type_name, sizes.join(",")) }
}

fn name(found: &Found) -> String {
    found.station.map_or_else(|| "any".into(), |number| number.to_string())
}

/// What a station is called there: `unit`, `node`.
fn word(field: &Field) -> &'static str {
    let key = field.station.dialect.and_then(|dialect| dialect.stations().station_key(field.transport));
    key.map_or("station", |(key, _)| key)
}

pub(super) fn units(console: &mut Console, place: &str, field: &Field, done: &Units) -> Result<(), Failure> {
    let protocol = field.station.dialect.map_or("", |dialect| dialect.name());
    match console.format {
        Format::Json => {
            return console.json(&serde_json::json!({
                "format": 1,
                "place": place,
                "protocol": protocol,
                "asked": done.asked,
                "found": done.found,
                "ended": done.ended,
            }));
        }
        Format::Csv if done.found.iter().any(|found| !found.names.is_empty()) => {
            // The list that `tags` of a device takes.
            let row =
                |name: &FoundName| vec![name.name.clone(), type_shown(name), String::new(), String::new()];
            let rows = done.found.iter().flat_map(|found| &found.names).map(row).collect();
            return console.table(&Table {
                head: vec!["name", "type", "elements", "access"],
                rows,
                whole: &[],
            });
        }
        Format::Csv => {
            let rows = done.found.iter().flat_map(|found| {
                let lead = vec![name(found), presence(found), found.identity.clone().unwrap_or_default()];
                let mut rows: Vec<Vec<String>> = vec![];
                for table in &found.tables {
                    for (first, last, count) in &table.ranges {
                        let range = [
                            table.table.clone(),
                            first.clone(),
                            last.clone(),
                            count.to_string(),
                            table.largest.to_string(),
                        ];
                        rows.push([lead.clone(), range.to_vec()].concat());
                    }
                }
                if rows.is_empty() {
                    rows.push([lead, vec![String::new(); 5]].concat());
                }
                rows
            });
            let head = vec![word(field), "answers", "identity", "table", "first", "last", "count", "largest"];
            return console.table(&Table { head, rows: rows.collect(), whole: &[] });
        }
        Format::Text => {}
    }
    let head = console.paint(Tone::Accent, place);
    console.say(&format!("{head}, {protocol}: {} asked, {} found", done.asked, done.found.len()))?;
    if done.found.is_empty() {
        return Ok(());
    }
    console.say("")?;
    let row = |found: &Found| {
        let ranges: Vec<String> = found.tables.iter().flat_map(has).collect();
        let mut what = ranges.join("\n");
        if let Some(why) = &found.broken {
            what += &format!("{}{why}", if what.is_empty() { "" } else { "\n" });
        }
        vec![name(found), presence(found), what, largest(found), found.identity.clone().unwrap_or_default()]
    };
    // Beside who it is, what it has is folded too, or nothing would be left for the other.
    let identified = done.found.iter().any(|found| found.identity.is_some());
    let mut table = Table {
        head: vec![word(field), "answers in", "has", "at once", "identifies as"],
        rows: done.found.iter().map(row).collect(),
        whole: if identified { &[] } else { &[2] },
    };
    // What nobody has is no column.
    for column in (2..5).rev() {
        if table.rows.iter().all(|row| row.get(column).is_none_or(String::is_empty)) {
            table.head.remove(column);
            table.rows.iter_mut().for_each(|row| drop(row.remove(column)));
        }
    }
    console.table(&table)?;
    for found in done.found.iter().filter(|found| !found.names.is_empty()) {
        console.say("")?;
        let row = |name: &FoundName| vec![name.name.clone(), type_shown(name)];
        let rows = found.names.iter().map(row).collect();
        console.table(&Table { head: vec!["name", "type"], rows, whole: &[0] })?;
        let count = found.names.len();
        let plural = if count == 1 { "" } else { "s" };
        console.note(&format!(
            "{count} name{plural}; `--format csv` gives the list that `tags` of a device takes"
        ));
    }
    for found in done.found.iter().filter(|found| found.presence == Presence::Damaged) {
        let mark = console.paint(Tone::Bad, "damaged");
        console.note(&format!(
            "\n{mark}  at {0} {1} bytes come each time and make no frame, while others answer correctly: two devices have this {0} and answer at once. Take one off the line and give the other its {0}",
            word(field),
            name(found)
        ));
    }
    Ok(())
}
