//! `woodrush map --assign`: addresses of areas are given out, and the ledger is written.

use crate::args::{Format, MapArgs};
use crate::console::{Console, Table, Tone, counted};
use crate::{Failure, Verdict};
use std::fs::{File, OpenOptions};
use std::io::Write;
use std::path::{Path, PathBuf};
use woodrush_core::assign::{Assignment, NewAddress, assign};
use woodrush_core::check::Finding;
use woodrush_core::ledger::Ledger;

pub(crate) fn run(console: &mut Console, path: &Path, args: &MapArgs) -> Result<Verdict, Failure> {
    let own = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let place = path.with_file_name(Ledger::name(&own));
    // Held from before the project is read until the ledger is written: two at once would give out the same.
    let held = if args.dry_run { None } else { Some(Held::take(&place)?) };
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
    let before = read(&place)?;
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

/// The ledger as it is; one that is not there is empty.
fn read(place: &Path) -> Result<Ledger, Failure> {
    if !place.exists() {
        return Ok(Ledger::default());
    }
    let text = woodrush_engine::read_plain(place).map_err(|why| {
        Failure::Usage(format!("the ledger cannot be read, and nothing was given out: {why}"))
    })?;
    Ledger::read(&text, 0).map_err(|found| {
        let what = found.first().map_or("", |finding| finding.what.as_str());
        Failure::Usage(format!("{}: {what}; nothing was given out", place.display()))
    })
}

/// The new ledger beside the old one, which nobody else may make meanwhile.
struct Held {
    place: PathBuf,
    beside: PathBuf,
    file: File,
    is_written: bool,
}

impl Held {
    fn take(place: &Path) -> Result<Self, Failure> {
        let beside = place.with_extension("ledger.new");
        let file = OpenOptions::new().write(true).create_new(true).open(&beside).map_err(|error| {
            let shown = beside.display();
            Failure::Outside(match error.kind() {
                std::io::ErrorKind::AlreadyExists => format!(
                    "{shown} exists: another `woodrush map --assign` is at work, or one was stopped; if none is, remove that file"
                ),
                _ => format!("{shown} cannot be written: {error}; nothing was given out"),
            })
        })?;
        Ok(Self { place: place.to_path_buf(), beside, file, is_written: false })
    }

    /// Puts a whole ledger in the place of the old one.
    fn write(mut self, text: &str) -> Result<(), Failure> {
        let done = self.file.write_all(text.as_bytes()).and_then(|()| self.file.sync_all());
        done.and_then(|()| std::fs::rename(&self.beside, &self.place)).map_err(|error| {
            Failure::Outside(format!(
                "{} cannot be written: {error}; nothing was given out",
                self.place.display()
            ))
        })?;
        self.is_written = true;
        Ok(())
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        if !self.is_written {
            let _ = std::fs::remove_file(&self.beside);
        }
    }
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
    let given = counted(done.given.len(), "address");
    let given = given.replace("addresss", "addresses");
    console.note(&match (written, done.given.is_empty() && done.retired.is_empty()) {
        (true, _) => format!("{} {}: {given} given out", console.paint(Tone::Good, "wrote"), place.display()),
        (false, true) => "every value of an area has its address".into(),
        (false, false) => format!("{given} would be given out; nothing was written"),
    });
}
