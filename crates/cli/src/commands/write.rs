//! `woodrush write`: values into any device, image or bare address, with what was there before and what is there after.

use super::read::{name, value};
use crate::args::{Format, Global, WriteArgs};
use crate::connections::{Connections, Failed};
use crate::console::{Console, Table, Tone};
use crate::render;
use crate::{Failure, Verdict};
use serde::Serialize;
use std::io::{BufRead, IsTerminal, Write};
use woodrush_core::form::{Type, hex_words};
use woodrush_core::protocol::Verb;
use woodrush_core::wanted::Wanted;
use woodrush_engine::direct::Diagnosis;

/// One write as it is typed: what, and the values for it.
pub(crate) struct PlannedWrite {
    wanted: Wanted,
    /// Cells of each value.
    cells: Vec<Vec<u8>>,
    text: String,
}

impl PlannedWrite {
    /// What is written, in hex.
    pub(crate) fn raw(&self) -> String {
        hex_words(&self.cells.concat())
    }
}

#[derive(Serialize)]
struct Written {
    what: String,
    address: String,
    offset: String,
    #[serde(serialize_with = "woodrush_core::shown::maybe")]
    before: Option<String>,
    before_raw: Option<String>,
    #[serde(serialize_with = "woodrush_core::shown::one")]
    wrote: String,
    wrote_raw: String,
    #[serde(serialize_with = "woodrush_core::shown::maybe")]
    after: Option<String>,
    after_raw: Option<String>,
    eu: Option<String>,
    /// What is read back is what was written.
    holds: bool,
}

pub(crate) fn run(console: &mut Console, global: &Global, args: &WriteArgs) -> Result<Verdict, Failure> {
    let (mut connections, texts) = Connections::of_station(global, &args.way, &args.targets)?;
    let jobs =
        texts.iter().map(|text| job(&connections, text)).collect::<Result<Vec<PlannedWrite>, Failure>>()?;
    if jobs.is_empty() {
        return Err(Failure::Usage(
            "name what is written and its value, such as `DEVICE.POINT=17.46` or `IMAGE:400101=20`".into(),
        ));
    }
    // All of it is judged before any of it is written.
    for job in &jobs {
        guarded(job, args.force)?;
        if !args.yes && !std::io::stdin().is_terminal() {
            return Err(Failure::Usage(format!(
                "{} is not written: no terminal to ask for confirmation (add `--yes`)",
                name(&job.wanted)
            )));
        }
    }
    let mut done = vec![];
    let mut verdict = Verdict::Yes;
    for job in &jobs {
        match one(console, &mut connections, job, args.yes)? {
            WriteOutcome::Done(written) => {
                if written.iter().any(|one| !one.holds) {
                    verdict = Verdict::No;
                }
                done.extend(written);
            }
            WriteOutcome::NotWanted => {
                console.note(&format!("{} is left as it is", name(&job.wanted)));
                verdict = Verdict::No;
                break;
            }
            WriteOutcome::Failed(failed) => {
                let text = render::diagnosis::text(console, &name(&job.wanted), &failed.diagnosis);
                console.complain(&text);
                verdict = if failed.answered { Verdict::No } else { Verdict::Outside };
                // What comes behind may depend on it.
                break;
            }
        }
    }
    match console.format {
        Format::Json => console.json(&serde_json::json!({ "format": 1, "written": done }))?,
        _ if done.is_empty() => {}
        _ => console.table(&table(&done, console.format))?,
    }
    for one in done.iter().filter(|one| !one.holds) {
        console.complain(&format!(
            "{}: {} was taken, and {} is read back (does the device limit it, apply it later, or does something else write there?)",
            one.what,
            one.wrote,
            one.after.as_deref().unwrap_or("nothing")
        ));
    }
    let left = jobs.len()
        - done.iter().map(|one| &one.what).collect::<std::collections::BTreeSet<_>>().len().min(jobs.len());
    if left > 0 && jobs.len() > 1 {
        console.note(&format!("{left} of {} not written", jobs.len()));
    }
    Ok(verdict)
}

/// `TARGET=VALUE`, or several values separated by commas.
pub(crate) fn job(connections: &Connections, text: &str) -> Result<PlannedWrite, Failure> {
    let (target, values) = text
        .rsplit_once('=')
        .ok_or_else(|| Failure::Usage(format!("`{text}` has no value (write it as TARGET=VALUE)")))?;
    let mut wanted = connections.wanted(&[target.trim().to_string()])?;
    let (Some(wanted), true) = (wanted.pop(), wanted.is_empty()) else {
        return Err(Failure::Usage(format!("`{target}` is a whole device (name one point of it)")));
    };
    let values = values.trim();
    let parts: Vec<&str> =
        if wanted.place.count == 1 { vec![values] } else { values.split(',').map(str::trim).collect() };
    if parts.len() != wanted.place.count as usize {
        return Err(Failure::Usage(format!(
            "`{text}` has {} values for {} places (part them by commas)",
            parts.len(),
            wanted.place.count
        )));
    }
    let cells = parts.iter().map(|part| wanted.cells(part));
    let cells = cells
        .collect::<Result<Vec<_>, String>>()
        .map_err(|why| Failure::Usage(format!("{target}: {why}")))?;
    Ok(PlannedWrite { wanted, cells, text: values.to_string() })
}

/// What the project does not want written is not.
pub(crate) fn guarded(job: &PlannedWrite, force: bool) -> Result<(), Failure> {
    let wanted = &job.wanted;
    if let Some(why) = wanted.read_only.as_ref().filter(|_| !force) {
        return Err(Failure::Usage(format!(
            "{} is not written: {why} (`--force` writes anyway)",
            name(wanted)
        )));
    }
    if wanted.guarded && !force {
        return Err(Failure::Usage(format!(
            "{} is not written: its profile marks it `guarded`, because a wrong value there is hard to undo (`--force` writes anyway)",
            name(wanted)
        )));
    }
    let (Some((low, high)), Ok(number)) = (wanted.range, job.text.parse::<f64>()) else { return Ok(()) };
    if (low..=high).contains(&number) || force {
        return Ok(());
    }
    Err(Failure::Usage(format!(
        "{} is not written: {number} is outside of its range, {low} to {high} (`--force` writes anyway)",
        name(wanted)
    )))
}

enum WriteOutcome {
    Done(Vec<Written>),
    NotWanted,
    Failed(Failed),
}

fn one(
    console: &mut Console,
    connections: &mut Connections,
    job: &PlannedWrite,
    yes: bool,
) -> Result<WriteOutcome, Failure> {
    let wanted = &job.wanted;
    // Some can be written and not read.
    let before = value(connections, wanted).map(|(cells, _)| cells);
    if let Err(failed) = &before
        && !failed.answered
    {
        return Ok(WriteOutcome::Failed(failed.clone()));
    }
    let before = before.ok();
    if !yes && !asked(console, job, before.as_deref())? {
        return Ok(WriteOutcome::NotWanted);
    }
    if let Err(failed) = put(connections, job) {
        return Ok(WriteOutcome::Failed(failed));
    }
    let after = value(connections, wanted).ok().map(|(cells, _)| cells);
    Ok(WriteOutcome::Done(written(job, before.as_deref(), after.as_deref())))
}

/// Puts the values there, in requests as long as the station takes.
pub(crate) fn put(connections: &mut Connections, job: &PlannedWrite) -> Result<(), Failed> {
    let wanted = &job.wanted;
    if let Some(bit) = job.cells.first().filter(|_| wanted.place.bit.is_some()) {
        let on = bit.iter().any(|byte| *byte != 0);
        if let Some((keep, set)) = wanted.bit_change(on) {
            let extent = wanted.place.item(0);
            connections.ask(wanted, |reach, station| reach.change(station, extent, &keep, &set))?;
        }
        return Ok(());
    }
    let all = job.cells.concat();
    let parts = wanted
        .requests(Verb::Write)
        .map_err(|why| Failed { diagnosis: Diagnosis { seen: why, causes: vec![] }, answered: false })?;
    for extent in parts {
        let from = (extent.first - wanted.place.first) as usize * wanted.each();
        let cells = all.get(from..from + extent.count as usize * wanted.each()).unwrap_or_default().to_vec();
        connections.ask(wanted, |reach, station| reach.write(station, extent, cells))?;
    }
    Ok(())
}

fn with_eu(value: &str, wanted: &Wanted) -> String {
    wanted.eu.as_ref().map_or_else(|| value.to_string(), |eu| format!("{value} {eu}"))
}

/// Asks the person at the terminal.
fn asked(console: &mut Console, job: &PlannedWrite, before: Option<&[u8]>) -> Result<bool, Failure> {
    let wanted = &job.wanted;
    let holds = before.map_or_else(
        || "which cannot be read".to_string(),
        |cells| {
            let shown: Vec<String> = wanted
                .values(cells)
                .into_iter()
                .map(|one| one.value.unwrap_or_else(|| "no value".into()))
                .collect();
            format!("which holds {}", with_eu(&shown.join(", "), wanted))
        },
    );
    let address = wanted.address(0);
    let value = console.paint(Tone::Accent, &with_eu(&job.text, wanted));
    let question = format!(
        "write {value} (raw {}) to {}, {} ({}), {holds}? [y/N] ",
        hex_words(&job.cells.concat()),
        name(wanted),
        address.canonical,
        address.offset
    );
    let mut out = std::io::stderr().lock();
    write!(out, "{question}")?;
    out.flush()?;
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line)?;
    Ok(matches!(line.trim(), "y" | "Y" | "yes"))
}

fn written(job: &PlannedWrite, before: Option<&[u8]>, after: Option<&[u8]>) -> Vec<Written> {
    let wanted = &job.wanted;
    let shown = |cells: Option<&[u8]>| cells.map(|cells| wanted.values(cells));
    let (before, after) = (shown(before), shown(after));
    let bit = wanted.place.bit.is_some();
    let own = job.cells.iter().zip(0u32..);
    let new = own.map(|(cells, item)| {
        let at = item as usize;
        let whole = if bit { None } else { Some(wanted.values(&job.cells.concat())) };
        let wrote = whole.and_then(|all| all.into_iter().nth(at));
        let wrote_raw = if bit || wanted.form.ty == Type::Bool {
            u8::from(cells.iter().any(|byte| *byte != 0)).to_string()
        } else {
            hex_words(cells)
        };
        let wrote = wrote.and_then(|shown| shown.value).unwrap_or_else(|| wrote_raw.clone());
        let was = before.as_ref().and_then(|all| all.get(at));
        let is = after.as_ref().and_then(|all| all.get(at));
        let address = wanted.address(item);
        Written {
            what: name(wanted),
            address: address.canonical,
            offset: address.offset,
            before: was.and_then(|shown| shown.value.clone()),
            before_raw: was.map(|shown| shown.raw.clone()),
            // What cannot be read back cannot differ.
            holds: is
                .is_none_or(|is| if bit { is.value.as_deref() == Some(&wrote) } else { is.raw == wrote_raw }),
            wrote,
            wrote_raw,
            after: is.and_then(|shown| shown.value.clone()),
            after_raw: is.map(|shown| shown.raw.clone()),
            eu: wanted.eu.clone(),
        }
    });
    new.collect()
}

fn table(done: &[Written], format: Format) -> Table {
    if format == Format::Csv {
        let head = vec![
            "what",
            "address",
            "offset",
            "before",
            "before_raw",
            "wrote",
            "wrote_raw",
            "after",
            "after_raw",
            "eu",
        ];
        let text = |text: &Option<String>| text.clone().unwrap_or_default();
        let row = |one: &Written| {
            vec![
                one.what.clone(),
                one.address.clone(),
                one.offset.clone(),
                text(&one.before),
                text(&one.before_raw),
                one.wrote.clone(),
                one.wrote_raw.clone(),
                text(&one.after),
                text(&one.after_raw),
                text(&one.eu),
            ]
        };
        return Table { head, rows: done.iter().map(row).collect(), whole: &[] };
    }
    let cell = |value: &Option<String>, raw: &Option<String>, eu: &Option<String>| match (value, raw) {
        (None, None) => "not readable".to_string(),
        (value, raw) => {
            let value = value.clone().unwrap_or_else(|| "no value".into());
            let value = [Some(value), eu.clone()].into_iter().flatten().collect::<Vec<_>>().join(" ");
            format!("{value}  {}", raw.clone().unwrap_or_default())
        }
    };
    let row = |one: &Written| {
        let mark = if one.holds { "" } else { "differs" };
        vec![
            one.what.clone(),
            format!("{} ({})", one.address, one.offset),
            cell(&one.before, &one.before_raw, &one.eu),
            cell(&one.after, &one.after_raw, &one.eu),
            mark.to_string(),
        ]
    };
    Table {
        head: vec!["what", "address", "before", "after", ""],
        rows: done.iter().map(row).collect(),
        whole: &[0],
    }
}
