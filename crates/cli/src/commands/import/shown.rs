//! What an imported list gave, for people: its points, and what was not understood, noticed, or must be answered.

use super::tried::Tried;
use crate::Failure;
use crate::args::ImportArgs;
use crate::console::{Console, Table, Tone, counted};
use std::path::Path;
use woodrush_core::import::{Import, ImportedPoint, ListedRow};

/// Rows without a point that are shown; the profile holds all of them.
const ROWS_SHOWN: usize = 20;

fn row(point: &ImportedPoint) -> Vec<String> {
    let form = point.form.map(|form| form.to_string()).unwrap_or_default();
    vec![
        point.line.to_string(),
        point.name.clone(),
        if point.offset == point.at { point.at.clone() } else { format!("{} ({})", point.at, point.offset) },
        match point.repeat {
            Some((count, _)) => format!("{form} x{count}"),
            None => form,
        },
        point.eu.clone().unwrap_or_default(),
        point.range.map(|(low, high)| format!("{low}..{high}")).unwrap_or_default(),
        if point.read_write { "read-write" } else { "read" }.to_string(),
    ]
}

/// The points as a table, where they are asked for.
pub(super) fn table(
    console: &mut Console,
    args: &ImportArgs,
    found: &Import,
    tried: Option<&[Tried]>,
) -> Result<(), Failure> {
    if found.points.is_empty() || !args.dry_run && tried.is_none() {
        return Ok(());
    }
    let Some(tried) = tried else {
        let head = vec!["line", "name", "address", "form", "eu", "range", "access"];
        let rows = found.points.iter().map(row).collect();
        return console.table(&Table { head, rows, whole: &[1, 2, 3, 6] });
    };
    // What was read stands beside what must be read.
    let rows = found.points.iter().zip(tried).map(|(point, tried)| {
        let mut row = row(point);
        let eu = point.eu.as_deref().filter(|_| tried.is_good()).unwrap_or_default();
        row.truncate(4);
        let shown = if tried.is_silent() { "not read".into() } else { tried.shown() };
        row.push(format!("{shown} {eu}").trim_end().to_string());
        row
    });
    let head = vec!["line", "name", "address", "form", "tried"];
    console.table(&Table { head, rows: rows.collect(), whole: &[1, 2, 3] })
}

/// A line of the report, folded, further lines behind its beginning.
fn line(console: &mut Console, text: &str) {
    let lead = text.len() - text.trim_start().len();
    let (first, further) = (" ".repeat(lead), " ".repeat(lead + 2));
    let options = textwrap::Options::new(console.width())
        .initial_indent(&first)
        .subsequent_indent(&further)
        .word_splitter(textwrap::WordSplitter::NoHyphenation);
    let text = textwrap::fill(text.trim_start(), options);
    console.note(&text);
}

/// Lines under a title; of many the first.
fn under(console: &mut Console, title: &str, tone: Tone, lines: &[String]) {
    if lines.is_empty() {
        return;
    }
    let title = console.paint(tone, title);
    console.note(&format!("\n{title}"));
    for text in lines.iter().take(ROWS_SHOWN) {
        line(console, &format!("  {text}"));
    }
    if lines.len() > ROWS_SHOWN {
        line(console, &format!("  and {} more (`--format json` shows all)", lines.len() - ROWS_SHOWN));
    }
}

/// What was understood, what was not, and what is open.
pub(super) fn said(
    console: &mut Console,
    file: &str,
    found: &Import,
    tried: Option<&[Tried]>,
    written: Option<&Path>,
) {
    let heads: Vec<String> =
        found.columns.iter().map(|(column, head)| format!("{} `{head}`", column.word())).collect();
    let mut columns = vec![format!("header in line {}: {}", found.head_line, heads.join(", "))];
    if !found.unused.is_empty() {
        let heads: Vec<String> = found.unused.iter().map(|head| format!("`{head}`")).collect();
        columns.push(format!("not used: {} (`--columns` says what they are)", heads.join(", ")));
    }
    under(console, "columns", Tone::Accent, &columns);
    let mut noticed = found.remarks.clone();
    for point in &found.points {
        let remarks = point.remarks.iter();
        noticed.extend(remarks.map(|remark| format!("line {}, {}: {remark}", point.line, point.name)));
    }
    under(console, "noticed", Tone::Accent, &noticed);
    let shown = |row: &ListedRow| format!("line {}: {}", row.line, row.source);
    let notes: Vec<String> = found.notes.iter().map(shown).collect();
    under(console, "notes between the rows, kept as comments", Tone::Accent, &notes);
    let unread: Vec<String> =
        found.unread.iter().map(|row| format!("line {}: {}: {}", row.line, row.why, row.source)).collect();
    under(console, "not understood", Tone::Bad, &unread);
    for question in &found.questions {
        let answers = question.readings.iter().map(|(option, gives)| format!("{option:<17}{gives}"));
        let lines: Vec<String> = std::iter::once(question.what.clone()).chain(answers).collect();
        under(console, "open", Tone::Doubt, &lines);
    }
    console.note("");
    let points = format!("{} in {} notation", counted(found.points.len(), "point"), found.dialect.family());
    let lost = match found.unread.len() {
        0 => String::new(),
        count => format!(", {} not understood", counted(count, "row")),
    };
    if let Some(tried) = tried {
        let good = tried.iter().filter(|own| own.is_good()).count();
        let all = counted(tried.len(), "point");
        console.note(&format!("{good} of {all} read as the list says"));
    }
    let end = match written {
        Some(path) => format!("{} {}: {points}{lost}", console.paint(Tone::Good, "wrote"), path.display()),
        None if !found.questions.is_empty() => {
            let head = console.paint(Tone::Bad, "not written");
            format!("{head}: nothing is written before that is answered ({points}{lost} so far)")
        }
        None if found.points.is_empty() => format!("{file}: no point{lost}; nothing was written"),
        None => format!("{points}{lost}; nothing was written"),
    };
    console.note(&end);
}
