//! Where results and everything else go: results on stdout, the rest on stderr; colour is never the only sign.

use crate::Failure;
use crate::args::{Colour, Format, Global};
use anstyle::{AnsiColor, Style};
use comfy_table::{ColumnConstraint, ContentArrangement};
use serde::Serialize;
use std::borrow::Cow;
use std::io::{IsTerminal, Write};
use woodrush_core::one_line::{UNSHOWN, acts};

/// What a piece of text is, for its colour.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Tone {
    /// The one accent: names and headings.
    Accent,
    /// As it should be.
    Good,
    /// It cannot work, or it failed.
    Bad,
    /// It will likely not do what is meant.
    Doubt,
    /// Beside the point.
    Faint,
}

/// The two streams and how to write on them.
pub(crate) struct Console {
    pub(crate) format: Format,
    pub(crate) quiet: bool,
    pub(crate) verbose: bool,
    colour: bool,
    width: u16,
    /// The width was asked for.
    fixed: bool,
}

/// Characters up to which a column is never folded.
const NARROW: usize = 8;

/// A table as data; every format shows the same cells.
pub(crate) struct Table {
    pub(crate) head: Vec<&'static str>,
    pub(crate) rows: Vec<Vec<String>>,
    /// Columns whose words are never broken where there is room for 100 columns: names.
    pub(crate) whole: &'static [usize],
}

impl Console {
    pub(crate) fn new(global: &Global) -> Self {
        let colour = match global.color {
            Colour::Always => true,
            Colour::Never => false,
            Colour::Auto => {
                std::io::stdout().is_terminal()
                    && std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty())
                    && std::env::var_os("TERM").is_none_or(|term| term != "dumb")
            }
        };
        let own = std::env::var("WOODRUSH_WIDTH").ok().and_then(|width| width.parse().ok());
        let width = own.or_else(|| terminal_size::terminal_size().map(|(width, _)| width.0)).unwrap_or(100);
        let quiet = global.quiet;
        Self {
            format: global.format,
            quiet,
            verbose: false,
            colour,
            width: width.clamp(60, 100),
            fixed: own.is_some(),
        }
    }

    /// Columns to write in, 60 to 100.
    pub(crate) fn width(&self) -> usize {
        usize::from(self.width)
    }

    /// Columns for a line that is not broken: as many as it needs where the output is no terminal.
    pub(crate) fn line_width(&self) -> usize {
        if self.fixed || std::io::stdout().is_terminal() { self.width() } else { usize::MAX / 2 }
    }

    /// Whether text may be coloured.
    pub(crate) fn has_colour(&self) -> bool {
        self.colour
    }

    /// Whether progress is shown: standard error is a terminal.
    pub(crate) fn is_watched(&self) -> bool {
        !self.quiet && std::io::stderr().is_terminal()
    }

    /// Text in its tone.
    pub(crate) fn paint(&self, tone: Tone, text: &str) -> String {
        if !self.colour {
            return text.to_string();
        }
        let style = match tone {
            Tone::Accent => AnsiColor::Cyan.on_default(),
            Tone::Good => AnsiColor::Green.on_default(),
            Tone::Bad => AnsiColor::Red.on_default().bold(),
            Tone::Doubt => AnsiColor::Yellow.on_default(),
            Tone::Faint => Style::new().dimmed(),
        };
        format!("{style}{text}{style:#}")
    }

    /// A line of results.
    pub(crate) fn say(&mut self, text: &str) -> Result<(), Failure> {
        let mut out = std::io::stdout().lock();
        writeln!(out, "{}", harmless(text))?;
        out.flush()?;
        Ok(())
    }

    /// A line beside the results; left out when quiet.
    pub(crate) fn note(&self, text: &str) {
        if !self.quiet {
            // Nobody to tell if stderr is gone.
            let _ = writeln!(std::io::stderr().lock(), "{}", harmless(text));
        }
    }

    /// Why a command could not do its work.
    pub(crate) fn complain(&mut self, text: &str) {
        let head = self.paint(Tone::Bad, "woodrush:");
        // Nobody to tell if stderr is gone.
        let _ = writeln!(std::io::stderr().lock(), "{head} {}", harmless(text));
    }

    /// Results as JSON.
    pub(crate) fn json<T: Serialize>(&mut self, value: &T) -> Result<(), Failure> {
        let text =
            serde_json::to_string_pretty(value).map_err(|error| Failure::Outside(error.to_string()))?;
        self.say(&text)
    }

    /// A table in text or CSV.
    pub(crate) fn table(&mut self, table: &Table) -> Result<(), Failure> {
        if self.format == Format::Csv {
            return self.csv_rows(table, true);
        }
        let text = self.lay_out(table);
        self.say(&text)
    }

    /// Rows of a CSV table that grows; with its header where they are the first.
    pub(crate) fn csv_rows(&mut self, table: &Table, first: bool) -> Result<(), Failure> {
        let mut writer = csv::WriterBuilder::new().from_writer(std::io::stdout().lock());
        let closed = |error: csv::Error| match error.into_kind() {
            csv::ErrorKind::Io(error) => Failure::from(error),
            other => Failure::Outside(format!("{other:?}")),
        };
        if first {
            writer.write_record(&table.head).map_err(closed)?;
        }
        for row in &table.rows {
            writer.write_record(row.iter().map(|cell| no_formula(cell).into_owned())).map_err(closed)?;
        }
        writer.flush().map_err(Failure::from)
    }

    /// A table as aligned columns without lines.
    pub(crate) fn lay_out(&self, table: &Table) -> String {
        let mut made = comfy_table::Table::new();
        made.load_style(comfy_table::presets::NOTHING);
        made.set_content_arrangement(ContentArrangement::Dynamic);
        made.set_width(self.width);
        made.set_header(table.head.iter().map(|head| head.to_uppercase()));
        for row in &table.rows {
            // A line end in a cell would make lines that look like rows.
            made.add_row(row.iter().map(|cell| cell.replace(['\n', '\r', '\t'], " ")));
        }
        for (at, column) in made.column_iter_mut().enumerate() {
            column.set_padding((0, 2));
            let cells = table.rows.iter().filter_map(|row| row.get(at).map(String::len));
            let widest = cells.chain(table.head.get(at).map(|head| head.len())).max().unwrap_or(0);
            // Folding a column that is narrow anyway gains nothing and tears words.
            if widest <= NARROW || self.width >= 100 && table.whole.contains(&at) {
                column.set_constraint(ColumnConstraint::ContentWidth);
            }
        }
        let text: Vec<String> = made.lines().map(|line| line.trim_end().to_string()).collect();
        let mut lines = text.into_iter();
        let head = lines.next().map(|head| self.paint(Tone::Accent, &head));
        head.into_iter().chain(lines).collect::<Vec<_>>().join("\n")
    }
}

/// A text without letters that a terminal or a reader would obey: names, notes and remote texts may hold any. Only line
/// ends, tabs and our own colours stay.
pub(crate) fn harmless(text: &str) -> Cow<'_, str> {
    let is_control = |letter: char| acts(letter) && !matches!(letter, '\n' | '\t');
    if !text.contains(is_control) {
        return Cow::Borrowed(text);
    }
    let mut clean = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(letter) = rest.chars().next() {
        if let Some(colour) = COLOURS.iter().find(|colour| rest.starts_with(**colour)) {
            clean.push_str(colour);
            rest = rest.get(colour.len()..).unwrap_or_default();
            continue;
        }
        clean.push(if is_control(letter) { UNSHOWN } else { letter });
        rest = rest.get(letter.len_utf8()..).unwrap_or_default();
    }
    Cow::Owned(clean)
}

/// The sequences that [`Console::paint`] writes, and no others.
const COLOURS: [&str; 7] =
    ["\u{1b}[0m", "\u{1b}[36m", "\u{1b}[32m", "\u{1b}[1m", "\u{1b}[31m", "\u{1b}[33m", "\u{1b}[2m"];

/// A cell that no spreadsheet takes for a formula: what begins like one and is not a number gets an apostrophe, by which
/// spreadsheets know a text.
pub(crate) fn no_formula(cell: &str) -> Cow<'_, str> {
    let begins = cell.starts_with(['=', '+', '-', '@', '\t', '\r']);
    if begins && cell.parse::<f64>().is_err() && cell != "-" {
        return Cow::Owned(format!("'{cell}"));
    }
    Cow::Borrowed(cell)
}

/// So many of something: `1 rule`, `2 rules`.
pub(crate) fn counted(count: usize, noun: &str) -> String {
    format!("{count} {noun}{}", if count == 1 { "" } else { "s" })
}

/// A text that is no longer than this; a longer one ends with a mark.
pub(crate) fn cut(text: &str, room: usize) -> String {
    if text.chars().count() <= room {
        return text.to_string();
    }
    text.chars().take(room.saturating_sub(1)).chain(['…']).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_from_a_file_commands_the_terminal_and_our_colours_stay() {
        assert_eq!(harmless("plain\tand\nwhole"), "plain\tand\nwhole");
        assert_eq!(harmless("a\u{1b}]0;title\u{7}b"), "a\u{FFFD}]0;title\u{FFFD}b");
        assert_eq!(harmless("\u{1b}[2Jgone\r"), "\u{FFFD}[2Jgone\u{FFFD}");
        assert_eq!(harmless("\u{9b}31mred"), "\u{FFFD}31mred", "the one-byte form too");
        let console = Console {
            format: Format::Text,
            quiet: false,
            verbose: false,
            colour: true,
            width: 80,
            fixed: true,
        };
        for tone in [Tone::Accent, Tone::Good, Tone::Bad, Tone::Doubt, Tone::Faint] {
            let painted = console.paint(tone, "word");
            assert!(painted.len() > 4);
            assert_eq!(harmless(&painted), painted, "{tone:?}");
        }
    }

    #[test]
    fn no_cell_is_a_formula() {
        for (cell, written) in [
            ("=1+1", "'=1+1"),
            ("@SUM(A1)", "'@SUM(A1)"),
            ("-cmd", "'-cmd"),
            ("+1-800", "'+1-800"),
            ("-5.25", "-5.25"),
            ("+3", "+3"),
            ("-", "-"),
            ("scada:400001", "scada:400001"),
        ] {
            assert_eq!(no_formula(cell), written);
        }
    }
}
