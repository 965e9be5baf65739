//! `woodrush read`: values of any device, image or bare address, once or again and again.

use crate::args::{Format, Global, ReadArgs};
use crate::connections::{Connections, Failed};
use crate::console::{Console, Table, Tone};
use crate::render;
use crate::{Failure, Verdict};
use serde::Serialize;
use std::time::{Duration, Instant};
use woodrush_core::project::{micros, show_micros};
use woodrush_core::protocol::Verb;
use woodrush_core::wanted::Wanted;
use woodrush_engine::direct::Diagnosis;
use woodrush_engine::monitor::Status;
use woodrush_engine::stop::Stop;

/// One value.
#[derive(Debug, Clone, Serialize)]
pub(crate) struct ReadRow {
    what: String,
    address: String,
    offset: String,
    raw: String,
    #[serde(serialize_with = "woodrush_core::shown::maybe")]
    value: Option<String>,
    /// What the number means, where it has words.
    words: Option<String>,
    eu: Option<String>,
    /// In seconds; of a device it is that of the exchange.
    age_s: Option<f64>,
    took_us: u64,
}

#[derive(Debug, Clone, Serialize)]
struct Missed {
    what: String,
    #[serde(flatten)]
    diagnosis: Diagnosis,
}

/// What came of one round.
#[derive(Default)]
struct Round {
    rows: Vec<ReadRow>,
    missed: Vec<Missed>,
    took: Vec<u64>,
    refused: bool,
}

pub(crate) fn run(console: &mut Console, global: &Global, args: &ReadArgs) -> Result<Verdict, Failure> {
    let (mut connections, texts) = Connections::of_station(global, &args.way, &args.targets)?;
    let wanted = connections.wanted(texts)?;
    let time = |name: &str, text: &Option<String>| match text {
        Some(text) => micros(text).filter(|time| *time > 0).map(Some).ok_or_else(|| {
            Failure::Usage(format!("`--{name} {text}` is not a time (write it as 500ms or 1m)"))
        }),
        None => Ok(None),
    };
    let every = time("every", &args.every)?.or(wanted.iter().find_map(|wanted| wanted.every));
    let lasting = time("for", &args.lasting)?;
    match every {
        Some(every) => again(console, &mut connections, &wanted, every, lasting),
        None if lasting.is_some() => {
            Err(Failure::Usage("`--for` goes with `--every`, such as `--every 500ms`".into()))
        }
        None => once(console, &mut connections, &wanted),
    }
}

fn once(console: &mut Console, connections: &mut Connections, wanted: &[Wanted]) -> Result<Verdict, Failure> {
    let round = round(connections, wanted);
    match console.format {
        Format::Json => console.json(&json(&round))?,
        _ if round.rows.is_empty() => {}
        Format::Csv => console.table(&csv(&round.rows))?,
        Format::Text => console.table(&table(&round.rows))?,
    }
    for alike in round.missed.chunk_by(|one, other| one.diagnosis == other.diagnosis) {
        let Some(first) = alike.first() else { continue };
        let what = match alike.len() {
            1 => first.what.clone(),
            count => format!("{} and {} more", first.what, count - 1),
        };
        let text = render::diagnosis::text(console, &what, &first.diagnosis);
        console.complain(&text);
    }
    ended(&round)
}

fn json(round: &Round) -> serde_json::Value {
    serde_json::json!({ "format": 1, "values": round.rows, "failed": round.missed })
}

/// A refusal is an answer, and the answer is "no"; silence is the outside world's.
fn ended(round: &Round) -> Result<Verdict, Failure> {
    if round.missed.is_empty() {
        return Ok(Verdict::Yes);
    }
    if round.refused { Ok(Verdict::No) } else { Ok(Verdict::Outside) }
}

fn csv(rows: &[ReadRow]) -> Table {
    let row = |row: &ReadRow| {
        vec![
            row.what.clone(),
            row.address.clone(),
            row.offset.clone(),
            row.raw.clone(),
            row.value.clone().unwrap_or_default(),
            row.eu.clone().unwrap_or_default(),
            row.age_s.map(|age| age.to_string()).unwrap_or_default(),
            row.took_us.to_string(),
            row.words.clone().unwrap_or_default(),
        ]
    };
    let head = vec!["what", "address", "offset", "raw", "value", "eu", "age_s", "took_us", "words"];
    Table { head, rows: rows.iter().map(row).collect(), whole: &[] }
}

/// The value with its unit, or with what it means.
fn shown(row: &ReadRow) -> String {
    let value = row.value.clone().unwrap_or_else(|| "no value".into());
    let words = row.words.as_ref().map(|words| format!("({words})"));
    [Some(value), row.eu.clone(), words].into_iter().flatten().collect::<Vec<_>>().join(" ")
}

fn table(rows: &[ReadRow]) -> Table {
    let row = |row: &ReadRow| {
        let value = shown(row);
        let address = if row.offset.is_empty() {
            row.address.clone()
        } else {
            format!("{} ({})", row.address, row.offset)
        };
        let age = row.age_s.map_or_else(
            || "unknown".into(),
            |age| if age == 0.0 { "now".into() } else { format!("{age:.1} s") },
        );
        vec![row.what.clone(), address, row.raw.clone(), value, age, show_took(row.took_us)]
    };
    Table {
        head: vec!["what", "address", "raw", "value", "age", "took"],
        rows: rows.iter().map(row).collect(),
        whole: &[0, 3],
    }
}

/// To a tenth of a millisecond.
pub(crate) fn show_took(took: u64) -> String {
    format!("{:.1} ms", took as f64 / 1000.0)
}

/// Reads everything once.
fn round(connections: &mut Connections, wanted: &[Wanted]) -> Round {
    let mut round = Round::default();
    let images = wanted.iter().any(|wanted| wanted.rule.is_some());
    let status = if images { connections.status() } else { None };
    let mut silent: Vec<(&str, Diagnosis)> = vec![];
    for one in wanted {
        // Who did not answer a moment ago is not waited for once more in this round.
        if let Some((_, diagnosis)) = silent.iter().find(|(station, _)| *station == one.station.name) {
            round.missed.push(Missed { what: name(one), diagnosis: diagnosis.clone() });
            continue;
        }
        match value(connections, one) {
            Ok((cells, took)) => {
                round.took.push(took);
                let age = age(connections, status.as_ref(), one);
                round.rows.extend(rows(one, &cells, age, took));
            }
            Err(failed) => {
                round.refused |= failed.answered;
                if !failed.answered {
                    silent.push((&one.station.name, failed.diagnosis.clone()));
                }
                round.missed.push(Missed { what: name(one), diagnosis: failed.diagnosis });
            }
        }
    }
    round
}

/// All cells of what is wanted, and how long that took.
pub(crate) fn value(connections: &mut Connections, wanted: &Wanted) -> Result<(Vec<u8>, u64), Failed> {
    if wanted.goes_in_frames() && connections.is_running() {
        return connections.next_frame(wanted);
    }
    let (mut cells, mut took) = (vec![], 0);
    let parts = wanted
        .requests(Verb::Read)
        .map_err(|why| Failed { diagnosis: Diagnosis { seen: why, causes: vec![] }, answered: false })?;
    for extent in parts {
        let answer = connections.ask(wanted, |reach, station| reach.read(station, extent))?;
        cells.extend(answer.cells);
        took += answer.took;
    }
    Ok((cells, took))
}

fn rows(wanted: &Wanted, cells: &[u8], age: Option<f64>, took: u64) -> Vec<ReadRow> {
    let row = |shown: woodrush_core::wanted::ShownValue| ReadRow {
        what: name(wanted),
        address: shown.address.canonical,
        offset: shown.address.offset,
        raw: shown.raw,
        value: shown.value,
        words: shown.words,
        eu: wanted.eu.clone(),
        age_s: age,
        took_us: took,
    };
    wanted.values(cells).into_iter().map(row).collect()
}

/// As it was named, with the form where the address alone does not say it.
pub(crate) fn name(wanted: &Wanted) -> String {
    wanted.written.clone()
}

/// Of an image's value as the converter knows it; what a device itself answers is of now.
pub(crate) fn age(connections: &Connections, status: Option<&Status>, wanted: &Wanted) -> Option<f64> {
    let Some(woodrush_core::project::Owner::Image(_)) = wanted.owner else { return Some(0.0) };
    let checked = connections.checked()?;
    let rule = checked.plan.rules.get(wanted.rule?)?;
    let map = checked.project.maps.get(rule.map)?;
    let known =
        status?.rules.iter().find(|known| known.from == map.from.value && known.to == map.to.value)?;
    known.age_s
}

/// Reads again and again until the time is over or the user ends it.
fn again(
    console: &mut Console,
    connections: &mut Connections,
    wanted: &[Wanted],
    every: u64,
    lasting: Option<u64>,
) -> Result<Verdict, Failure> {
    let stop = Stop::with_terminal()
        .map_err(|error| Failure::Outside(format!("signals cannot be heard: {error}")))?;
    #[allow(clippy::disallowed_methods, reason = "a command that keeps time for a person")]
    let began = Instant::now();
    let since = || u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX);
    let (mut due, mut all) = (0, Round::default());
    let (mut good, mut failed) = (0u64, 0u64);
    let mut last: Vec<String> = vec![];
    let end = lasting.unwrap_or(u64::MAX);
    while !stop.is_asked() && due < end {
        let now = since();
        if now < due {
            super::rig::nap(Duration::from_micros((due - now).min(50_000)));
            continue;
        }
        let round = round(connections, wanted);
        // What it could not keep up with is left out, and the phase is kept.
        due += (since().saturating_sub(due) / every + 1) * every;
        good += (wanted.len() - round.missed.len()) as u64;
        failed += round.missed.len() as u64;
        all.took.extend(&round.took);
        all.refused |= round.refused;
        match console.format {
            Format::Json => {
                let mut line = json(&round);
                line.as_object_mut().map(|entries| entries.insert("at_s".into(), (now as f64 / 1e6).into()));
                console.say(&line.to_string())?;
            }
            Format::Csv => lines_csv(console, &round.rows, now, last.is_empty())?,
            Format::Text => lines(console, &round, now, &last)?,
        }
        last = round.rows.iter().map(|row| format!("{} {}", row.address, row.raw)).collect();
        if last.is_empty() {
            last.push(String::new());
        }
    }
    if console.format == Format::Text {
        console.note(&summary(good, failed, &mut all.took));
    }
    Ok(match (failed, all.refused) {
        (0, _) => Verdict::Yes,
        (_, true) => Verdict::No,
        _ => Verdict::Outside,
    })
}

fn summary(good: u64, failed: u64, took: &mut [u64]) -> String {
    took.sort_unstable();
    let at = |share: usize| took.get((took.len().saturating_sub(1)) * share / 100).copied().unwrap_or(0);
    let times = if took.is_empty() {
        String::new()
    } else {
        format!(
            "; took {} at least, {} in the middle, {} at most",
            show_took(at(0)),
            show_took(at(50)),
            show_took(at(100))
        )
    };
    format!("{} asked, {good} answered, {failed} failed{times}", good + failed)
}

/// One line a value: the time since the beginning, and a mark where it has changed.
fn lines(console: &mut Console, round: &Round, now: u64, last: &[String]) -> Result<(), Failure> {
    let time = console.paint(Tone::Faint, &format!("{:>9}", show_micros(now / 1000 * 1000)));
    for row in &round.rows {
        let changed = !last.is_empty() && !last.contains(&format!("{} {}", row.address, row.raw));
        let value = shown(row);
        let mark = if changed { console.paint(Tone::Accent, "*") } else { " ".into() };
        let took = show_took(row.took_us);
        console.say(&format!("{time}  {:<28} {:<12} {mark} {:<24} {took:>9}", row.what, row.raw, value))?;
    }
    for missed in &round.missed {
        let text = console.paint(Tone::Bad, &missed.diagnosis.seen);
        console.say(&format!("{time}  {:<28} failed: {text}", missed.what))?;
    }
    Ok(())
}

fn lines_csv(console: &mut Console, rows: &[ReadRow], now: u64, first: bool) -> Result<(), Failure> {
    let mut made = csv(rows);
    made.head.insert(0, "at_s");
    for row in &mut made.rows {
        row.insert(0, format!("{:.3}", now as f64 / 1e6));
    }
    console.csv_rows(&made, first)
}
