//! Who is on a link that knows its stations itself: its list, and what each of them is made of.

use super::{ScanArgs, only_names, unreachable};
use crate::args::Format;
use crate::connections::{Connections, Field};
use crate::console::{Console, Table, Tone};
use crate::{Failure, Verdict};
use indicatif::{ProgressBar, ProgressDrawTarget};
use woodrush_core::plan::Station;
use woodrush_core::protocol::Dialect;
use woodrush_engine::scan::{ListedPort, listed};
use woodrush_engine::speak::{FinderSetup, FoundPart, FoundStation};
use woodrush_engine::stop::Stop;

pub(super) fn run(
    console: &mut Console,
    connections: &Connections,
    (port, dialect): (Option<usize>, &'static dyn Dialect),
    field: &Field,
    args: &ScanArgs,
) -> Result<Verdict, Failure> {
    only_names(args, "the link lists its devices itself")?;
    let to = match connections.socket(port) {
        Ok(to) => to,
        Err(failed) => return Ok(unreachable(console, &failed)),
    };
    let stop = Stop::with_terminal()
        .map_err(|error| Failure::Outside(format!("signals cannot be caught: {error}")))?;
    let here = |station: &&Station| Some(station.port) == port;
    let stations: Vec<Station> = connections
        .checked()
        .map(|checked| checked.plan.devices.iter().filter(here).cloned().collect())
        .unwrap_or_default();
    let setup = FinderSetup {
        port: &field.station.setup,
        stations: &stations,
        timeout: connections.timeout().unwrap_or(field.line.timeout),
        pause: field.line.own_frame_gap,
    };
    let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::hidden());
    if console.is_watched() {
        bar.set_draw_target(ProgressDrawTarget::stderr());
    }
    bar.set_message("asking the link");
    let found = listed(dialect.name(), to, &setup, &|| !stop.is_asked(), &mut || bar.tick());
    bar.finish_and_clear();
    let found = match found {
        Ok(found) => found,
        Err(why) => {
            let fix = format!(
                "look at its power, its cable and its address; `ping {}` tells whether the way is there",
                to.ip()
            );
            return Ok(unreachable(console, &connections.unreached(format!("{to}: {why}"), fix)));
        }
    };
    say(console, &to.to_string(), &found)?;
    Ok(if found.stations.is_empty() { Verdict::No } else { Verdict::Yes })
}

fn also<'s>(station: &'s FoundStation, what: &str) -> &'s str {
    station.also.iter().find(|(own, _)| *own == what).map_or("", |(_, value)| value.as_str())
}

pub(super) fn say(console: &mut Console, to: &str, found: &ListedPort) -> Result<(), Failure> {
    match console.format {
        Format::Json => return console.json(&json(to, found)),
        Format::Csv => return console.table(&rows(found)),
        Format::Text => {}
    }
    let words = found.words;
    let head = console.paint(Tone::Accent, &format!("{} at {to}", words.link));
    console.say(&format!("{head}: {}", crate::console::counted(found.stations.len(), words.station)))?;
    let head =
        [words.station, words.name, "device"].into_iter().chain(words.also.iter().map(|(_, head)| *head));
    let named = |mut row: Vec<String>| {
        row.get_mut(1)
            .filter(|name| name.is_empty())
            .into_iter()
            .for_each(|name| "none yet".clone_into(name));
        row
    };
    let rows = found.stations.iter().map(|own| named(identity(found, own))).collect();
    console.table(&Table { head: head.collect(), rows, whole: &[0, 1, 2, 3, 4] })?;
    let parts: Vec<Vec<String>> = found
        .stations
        .iter()
        .flat_map(|own| own.parts.iter().map(|part| row(part, part.remark.clone())))
        .collect();
    if !parts.is_empty() {
        console.say("")?;
        let [place, state] = words.of_part;
        let head = vec![words.part, "type", place, state, "remark"];
        console.table(&Table { head, rows: parts, whole: &[0] })?;
    }
    let remarks: Vec<String> = found
        .stations
        .iter()
        .flat_map(|own| {
            let who = format!("{} {}", own.address, own.name);
            own.remarks.iter().map(move |remark| format!("{}: {remark}", who.trim_end()))
        })
        .chain(found.remarks.iter().cloned())
        .collect();
    if !remarks.is_empty() {
        console.say("")?;
    }
    for remark in remarks {
        let mark = console.paint(Tone::Doubt, "note");
        let options = textwrap::Options::new(console.width().saturating_sub(6))
            .word_splitter(textwrap::WordSplitter::NoHyphenation);
        let text = textwrap::fill(&remark, options).replace('\n', "\n      ");
        console.say(&format!("{mark}  {text}"))?;
    }
    Ok(())
}

/// Who a station is, in the columns of a table.
fn identity(found: &ListedPort, own: &FoundStation) -> Vec<String> {
    let first = [own.address.clone(), own.name.clone(), own.device.clone().unwrap_or_default()];
    first.into_iter().chain(found.words.also.iter().map(|(what, _)| also(own, what).to_string())).collect()
}

fn row(part: &FoundPart, remark: Option<String>) -> Vec<String> {
    let (place, state) = (part.place.to_string(), part.state.clone());
    vec![part.name.clone(), part.kind.clone(), place, state, remark.unwrap_or_default()]
}

fn rows(found: &ListedPort) -> Table {
    let words = found.words;
    let [place, state] = words.of_part;
    let also = words.also.iter().map(|(what, _)| *what);
    let head = [words.station, words.name, "device"].into_iter().chain(also);
    let has_parts = !words.part.is_empty();
    let of_part = [words.part, "type", place, state].into_iter().filter(|_| has_parts);
    let head = head.chain(of_part).chain(["remark"]).collect();
    let one = |own: &FoundStation| {
        let first = identity(found, own);
        let whole = |part: Vec<String>| first.iter().cloned().chain(part).collect::<Vec<_>>();
        if own.parts.is_empty() {
            let none = [const { String::new() }; 4].into_iter().filter(|_| has_parts);
            let rest = none.chain([own.remarks.join("; ")]);
            return vec![whole(rest.collect())];
        }
        let remarks =
            |part: &FoundPart| own.remarks.iter().chain(&part.remark).cloned().collect::<Vec<_>>().join("; ");
        own.parts.iter().map(|part| whole(row(part, Some(remarks(part))))).collect()
    };
    Table { head, rows: found.stations.iter().flat_map(one).collect(), whole: &[] }
}

fn json(to: &str, found: &ListedPort) -> serde_json::Value {
    let words = found.words;
    let [place, state] = words.of_part;
    let many = |what: &str| format!("{what}s");
    let part = |part: &FoundPart| {
        serde_json::json!({
            "name": part.name, "type": part.kind, place: part.place, state: part.state, "remark": part.remark,
        })
    };
    let station = |own: &FoundStation| {
        let parts: Vec<_> = own.parts.iter().map(part).collect();
        let mut told = serde_json::json!({
            words.station: own.address, words.name: own.name, "device": own.device, "remarks": own.remarks,
        });
        if !words.part.is_empty() {
            told[many(words.part)] = parts.into();
        }
        for (what, value) in &own.also {
            told[*what] = value.as_str().into();
        }
        told
    };
    let stations: Vec<_> = found.stations.iter().map(station).collect();
    serde_json::json!({
        "format": 1, "link": to, many(words.station): stations, "remarks": found.remarks,
    })
}
