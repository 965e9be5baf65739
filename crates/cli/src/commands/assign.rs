//! `woodrush map --assign`: addresses of areas are given out, and the ledger is written.

use super::ledger;
use crate::args::{Format, MapArgs};
use crate::console::{Console, Table, Tone};
use crate::{Failure, Verdict};
use std::path::Path;
use woodrush_core::assign::{Assignment, NewAddress, assign};
use woodrush_core::check::Finding;

pub(crate) fn run(console: &mut Console, path: &Path, args: &MapArgs) -> Result<Verdict, Failure> {
    let place = ledger::place(path);
    // Held from before the project is read until the ledger is written: two at once would give out the same.
    let held = if args.dry_run { None } else { Some(ledger::Held::take(&place)?) };
    // Clients that ask for an address which nothing has yet are what this mends; a slip in a rule's own text is not: it
    // would be another value.
    let passes = |finding: &Finding| !finding.rule.code.starts_with('F') && finding.rule.code != "M02";
    let checked = crate::project::load(path)?;
    let Some(checked) = crate::project::sound_but_for(console, checked, &passes)? else {
        return Ok(Verdict::No);
    };
    if checked.project.areas.is_empty() {
        return Err(Failure::Usage(
            "the project has no areas: add `[areas.NAME]` with `image` and `range`, and write `to = \"IMAGE:@NAME\"`".into(),
        ));
    }
    let before = ledger::read(&place)?;
    let done = assign(&checked, &before, args.reuse);
    let changes = done.ledger != before;
    if let Some(held) = held.filter(|_| changes) {
        held.write(&done.ledger.text())?;
    }
    let written = changes && !args.dry_run;
    match console.format {
        Format::Json => console.json(&document(&done, &place, written))?,
        _ if done.given.is_empty() => {}
        _ => console.table(&table(&done.given))?,
    }
    said(console, &done, &place, written);
    Ok(if done.without.is_empty() { Verdict::Yes } else { Verdict::No })
}

fn table(given: &[NewAddress]) -> Table {
    let row = |own: &NewAddress| {
        vec![
            own.area.clone(),
            own.at.clone(),
            own.takes.to_string(),
            own.value.clone(),
            if own.is_back { "its old one" } else { "new" }.to_string(),
        ]
    };
    let head = vec!["area", "address", "takes", "value", "given"];
    Table { head, rows: given.iter().map(row).collect(), whole: &[0, 1, 3] }
}

fn document(done: &Assignment, place: &Path, written: bool) -> serde_json::Value {
    let one = |own: &NewAddress| {
        serde_json::json!({
            "area": own.area, "value": own.value, "address": own.at, "takes": own.takes, "back": own.is_back,
        })
    };
    let without = done.without.iter().map(|(value, why)| serde_json::json!({ "value": value, "why": why }));
    serde_json::json!({
        "format": 1,
        "ledger": place.display().to_string(),
        "given": done.given.iter().map(one).collect::<Vec<_>>(),
        "retired": done.retired.iter().map(one).collect::<Vec<_>>(),
        "without": without.collect::<Vec<_>>(),
        "written": written,
    })
}

fn said(console: &mut Console, done: &Assignment, place: &Path, written: bool) {
    for own in &done.retired {
        console.note(&format!(
            "retired: {} {} of `{}`, which no rule shows any more",
            own.area, own.at, own.value
        ));
    }
    for (value, why) in &done.without {
        let head = console.paint(Tone::Bad, "no address");
        console.note(&format!("{head} for `{value}`: {why}"));
    }
    let given = match done.given.len() {
        1 => "1 address".to_string(),
        count => format!("{count} addresses"),
    };
    console.note(&match (written, done.given.is_empty() && done.retired.is_empty()) {
        (true, _) => format!("{} {}: {given} given out", console.paint(Tone::Good, "wrote"), place.display()),
        (false, true) => "every value of an area has its address".into(),
        (false, false) => format!("{given} would be given out; nothing was written"),
    });
}
