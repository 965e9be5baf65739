//! `woodrush import`: a maker's or programmer's register list becomes a profile.

mod document;
mod shown;
mod tried;

use crate::args::{Format, Global, ImportArgs};
use crate::console::Console;
use crate::{Failure, Verdict};
use std::io::Write;
use std::path::Path;
use tried::Tried;
use woodrush_core::form::Order;
use woodrush_core::import::{Import, ImportOptions, import, profile_text};
use woodrush_core::protocol::{dialect, notations};
use woodrush_core::sheet::ColumnChoice;

pub(crate) fn run(console: &mut Console, global: &Global, args: &ImportArgs) -> Result<Verdict, Failure> {
    let options = options(args)?;
    if let Some(path) = args.profile.as_deref().filter(|path| !args.dry_run && path.exists()) {
        return Err(Failure::Usage(format!(
            "{} exists already, and is not overwritten: name another file, or remove it",
            path.display()
        )));
    }
    let bytes = woodrush_engine::read_plain_bytes(&args.file, woodrush_engine::PLAIN_MAX)
        .map_err(|why| Failure::Usage(format!("the list cannot be read: {why}")))?;
    let shown = args.file.display().to_string();
    let found = import(&bytes, &options).map_err(|why| Failure::Usage(format!("{shown}: {why}")))?;
    let name = args.file.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let tried = match &args.target {
        Some(target) if found.questions.is_empty() => {
            Some(tried::try_points(console, global, &args.way, target, &found)?)
        }
        _ => None,
    };
    let written = write(args, &found, &name)?;
    match console.format {
        Format::Json => console.json(&document::json(&shown, &found, tried.as_deref(), written))?,
        Format::Csv => console.table(&document::csv(&found, tried.as_deref()))?,
        Format::Text => shown::table(console, args, &found, tried.as_deref())?,
    }
    shown::said(console, &shown, &found, tried.as_deref(), args.profile.as_deref().filter(|_| written));
    let is_whole = found.questions.is_empty() && found.unread.is_empty() && !found.points.is_empty();
    if tried.iter().flatten().any(Tried::is_silent) {
        return Ok(Verdict::Outside);
    }
    let is_sound = tried.iter().flatten().all(Tried::is_good);
    Ok(if is_whole && is_sound { Verdict::Yes } else { Verdict::No })
}

fn options(args: &ImportArgs) -> Result<ImportOptions, Failure> {
    let columns = ColumnChoice::parse(args.columns.as_deref().unwrap_or_default())
        .map_err(|why| Failure::Usage(format!("`--columns`: {why}")))?;
    let order = match args.order.as_deref() {
        None => None,
        Some(letters) => {
            let known = Order::ALL.into_iter().find(|order| {
                [4, 8].into_iter().any(|bytes| order.letters(bytes).eq_ignore_ascii_case(letters))
            });
            let wrong = || {
                let all = Order::ALL.map(|order| order.letters(4)).join(", ");
                Failure::Usage(format!("`{letters}` is not an order ({all})"))
            };
            Some(known.ok_or_else(wrong)?)
        }
    };
    let dialect = args.way.protocol.as_deref().and_then(dialect);
    let table = args.table.clone();
    if let Some(word) = &table {
        let dialects: Vec<_> = dialect.map_or_else(|| notations().collect(), |own| vec![own]);
        if !dialects.iter().any(|own| own.notation().lists().table(word).is_some()) {
            let known = dialects.iter().flat_map(|own| own.notation().lists().tables());
            let known = known.copied().collect::<Vec<_>>().join(", ");
            return Err(Failure::Usage(format!("`{word}` is not a table of bare numbers ({known})")));
        }
    }
    Ok(ImportOptions { columns, counts_from: args.counts_from, table, order, dialect })
}

/// Writes the profile where all is answered; says whether it did.
fn write(args: &ImportArgs, found: &Import, name: &str) -> Result<bool, Failure> {
    let Some(path) = args.profile.as_deref().filter(|_| !args.dry_run) else { return Ok(false) };
    if !found.questions.is_empty() || found.points.is_empty() {
        return Ok(false);
    }
    write_new(path, &profile_text(found, name)).map_err(|error| {
        Failure::Outside(format!("{} cannot be written: {error}; nothing was written", path.display()))
    })?;
    Ok(true)
}

/// Writes a file that does not exist yet, whole or not at all.
fn write_new(path: &Path, text: &str) -> std::io::Result<()> {
    if let Some(folder) = path.parent().filter(|folder| !folder.as_os_str().is_empty()) {
        std::fs::create_dir_all(folder)?;
    }
    let mut file = std::fs::OpenOptions::new().write(true).create_new(true).open(path)?;
    let done = file.write_all(text.as_bytes()).and_then(|()| file.sync_all());
    if done.is_err() {
        // Half a profile is none.
        let _ = std::fs::remove_file(path);
    }
    done
}
