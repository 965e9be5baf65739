//! A profile as text, with the lines of the list that it was made of.

use super::{Import, ImportedPoint, ListedRow};
use crate::one_line::spaced;
use crate::quoted::quoted;
use std::fmt::Write;

/// A text as it may stand in a comment.
fn comment(text: &str) -> String {
    spaced(text).into_owned()
}

fn point(out: &mut String, point: &ImportedPoint) {
    let mut lines: Vec<(&str, String)> = vec![("at", quoted(&point.at))];
    lines.extend(point.form.map(|form| ("as", quoted(&form.to_string()))));
    lines.extend(point.eu.as_ref().map(|eu| ("eu", quoted(eu))));
    lines.extend(point.range.map(|(low, high)| ("range", format!("[{low}, {high}]"))));
    if point.read_write {
        lines.push(("access", quoted("read-write")));
    }
    if let Some((count, stride)) = point.repeat {
        lines.push(("repeat", count.to_string()));
        lines.push(("stride", stride.to_string()));
    }
    if !point.values.is_empty() {
        let values: Vec<String> =
            point.values.iter().map(|(word, number)| format!("{} = {number}", quoted(word))).collect();
        lines.push(("values", format!("{{ {} }}", values.join(", "))));
    }
    lines.extend(point.note.as_ref().map(|note| ("note", quoted(note))));
    let width = lines.iter().map(|(key, _)| key.len()).max().unwrap_or(0);
    let _ = writeln!(out, "[points.{}]", point.name);
    for (key, value) in lines {
        let _ = writeln!(out, "{key:width$} = {value}");
    }
}

fn rows(out: &mut String, title: &str, rows: &[ListedRow]) {
    if rows.is_empty() {
        return;
    }
    let _ = writeln!(out, "\n# {title}");
    for row in rows {
        let _ = writeln!(out, "# line {}: {} ({})", row.line, comment(&row.source), comment(&row.why));
    }
}

/// The profile that a list gives: `file` is the list's name.
#[must_use]
pub fn profile_text(import: &Import, file: &str) -> String {
    let title = file.rsplit_once('.').map_or(file, |(stem, _)| stem);
    let mut out = format!(
        "# Made of `{}` by `woodrush import`. Above each point stands the line of the list that it is from.\n",
        comment(file)
    );
    for remark in &import.remarks {
        let _ = writeln!(out, "# {}", comment(remark));
    }
    let _ = writeln!(out, "[profile]\nname = {}", quoted(title));
    let mut line = 0;
    for own in &import.points {
        out.push('\n');
        if own.line != line {
            let _ = writeln!(out, "# line {}: {}", own.line, comment(&own.source));
            line = own.line;
        }
        for remark in &own.remarks {
            let _ = writeln!(out, "# {}", comment(remark));
        }
        point(&mut out, own);
    }
    rows(&mut out, "Notes between the rows:", &import.notes);
    rows(&mut out, "Rows that were not understood:", &import.unread);
    out
}
