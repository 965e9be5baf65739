//! Tables that other programs and people write: CSV in its usual variants, with a header somewhere near the top.

mod columns;
mod heads;
mod numbers;
mod text;
mod types;

pub use columns::Column;
pub use heads::{ColumnChoice, Heads};
pub use numbers::{count_of, decimal_of, range_of};
pub use text::{Encoding, decode};
pub(crate) use types::{ListedType, order_of};

use std::ops::Range;

/// The header is one of the first rows: a title may stand above.
const TITLE_MAX: usize = 20;
/// Most rows of a table: what one profile or one list may hold, twice over for notes and empty rows.
pub const ROWS_MAX: usize = 250_000;
/// Most bytes of a cell that is looked at: a description of a page; what is longer is a quote that never ends.
pub const CELL_MAX: usize = 2_000;

/// A table as it stands in a file.
#[derive(Debug, Default)]
pub struct Sheet {
    /// What stands between two cells.
    pub delimiter: char,
    /// Rows that have something in them, the header among them.
    pub rows: Vec<SheetRow>,
    /// There were more rows than are read.
    pub is_cut: bool,
}

/// A row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SheetRow {
    /// The line where it begins, from 1.
    pub line: u64,
    /// Its bytes in the text.
    pub at: Range<usize>,
    /// Its cells, without the blanks around them.
    record: csv::StringRecord,
    /// A quote in it is not closed: what follows it in the file is in its last cell.
    pub is_open: bool,
}

impl SheetRow {
    /// A cell; empty where the row is shorter.
    #[must_use]
    pub fn cell(&self, at: usize) -> &str {
        self.record.get(at).unwrap_or_default().trim()
    }

    /// Its cells, without the blanks around them.
    pub fn cells(&self) -> impl Iterator<Item = &str> {
        self.record.iter().map(str::trim)
    }

    /// How many cells it has.
    #[must_use]
    pub fn len(&self) -> usize {
        self.record.len()
    }

    /// Whether it has none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.record.is_empty()
    }

    /// The bytes of its first line, without its end.
    #[must_use]
    pub fn first_line(&self, text: &str) -> Range<usize> {
        let whole = text.get(self.at.clone()).unwrap_or_default();
        self.at.start..self.at.start + whole.lines().next().unwrap_or_default().trim_end().len()
    }

    /// The row as one line for people, at most `most` characters.
    #[must_use]
    pub fn shown(&self, delimiter: char, most: usize) -> String {
        let mut shown = String::new();
        for (at, cell) in self.cells().enumerate() {
            if at > 0 {
                shown.push(if delimiter == '\t' { '|' } else { delimiter });
            }
            shown
                .extend(cell.chars().take(most).map(|letter| if letter.is_control() { ' ' } else { letter }));
        }
        match shown.char_indices().nth(most) {
            Some((end, _)) => format!("{}…", shown.get(..end).unwrap_or_default()),
            None => shown,
        }
    }
}

impl Sheet {
    /// Reads the rows of a text whose cells are separated by this character.
    #[must_use]
    pub fn read(text: &str, delimiter: char) -> Self {
        let mut reader = csv::ReaderBuilder::new()
            .delimiter(u8::try_from(delimiter).unwrap_or(b','))
            .has_headers(false)
            .flexible(true)
            .from_reader(text.as_bytes());
        let mut sheet = Self { delimiter, ..Self::default() };
        let mut record = csv::StringRecord::new();
        loop {
            let before = reader.position().clone();
            match reader.read_record(&mut record) {
                Ok(true) => {}
                Ok(false) => break,
                // The text is one already: nothing else can go wrong.
                Err(_) => continue,
            }
            if record.iter().all(|cell| cell.trim().is_empty()) {
                continue;
            }
            if sheet.rows.len() == ROWS_MAX {
                sheet.is_cut = true;
                break;
            }
            let byte = |position: &csv::Position| usize::try_from(position.byte()).unwrap_or(usize::MAX);
            let at = byte(&before)..byte(reader.position());
            let blank = text.get(at.clone()).unwrap_or_default();
            let blank = blank.len() - blank.trim_start_matches(['\r', '\n']).len();
            let skipped = text.get(at.start..at.start + blank).unwrap_or_default().matches('\n').count();
            let at = at.start + blank..at.end;
            let is_open = text.get(at.clone()).is_some_and(|own| own.matches('"').count() % 2 == 1)
                && record.iter().any(|cell| cell.contains(['\n', delimiter]));
            // The next row is mostly as long as this one: room for it is taken at once.
            let room = csv::StringRecord::with_capacity(record.as_slice().len() + 16, record.len() + 1);
            sheet.rows.push(SheetRow {
                line: before.line() + skipped as u64,
                is_open,
                at,
                record: std::mem::replace(&mut record, room),
            });
        }
        sheet
    }

    /// The table that a text holds, and its header: under which delimiter one of the first rows is one, and the one that
    /// most of its cells are known of.
    #[must_use]
    pub fn find(text: &str, choice: &ColumnChoice) -> Option<(Self, usize, Heads)> {
        Self::find_by(text, &|row| {
            let heads = Heads::of(row.cells(), choice);
            heads.is_header().then(|| (heads.known(), heads))
        })
    }

    /// The same for a header of another kind: `heads` gives what a row is as a header, and how many of its cells are known.
    #[must_use]
    pub fn find_by<H>(
        text: &str,
        heads: &dyn Fn(&SheetRow) -> Option<(usize, H)>,
    ) -> Option<(Self, usize, H)> {
        let mut best: Option<(usize, char, usize, H)> = None;
        for delimiter in [',', ';', '\t', '|'] {
            // Only the top is read for the choice: a table may be long.
            let top: usize = text.split_inclusive('\n').take(4 * TITLE_MAX).map(str::len).sum();
            let sheet = Self::read(text.get(..top).unwrap_or(text), delimiter);
            for (at, row) in sheet.rows.iter().take(TITLE_MAX).enumerate() {
                if let Some((known, heads)) = heads(row)
                    && best.as_ref().is_none_or(|(most, ..)| known > *most)
                {
                    best = Some((known, delimiter, at, heads));
                }
            }
        }
        best.map(|(_, delimiter, at, heads)| (Self::read(text, delimiter), at, heads))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_keep_their_lines_and_bytes_through_quotes_and_empty_lines() {
        let text = "Title\r\n\r\nName;Address\r\n\"two\nlines\";400001\r\n\r\n ;\r\nlast;400003";
        let sheet = Sheet::read(text, ';');
        let rows: Vec<(u64, &str)> = sheet.rows.iter().map(|row| (row.line, row.cell(0))).collect();
        assert_eq!(rows, [(1, "Title"), (3, "Name"), (4, "two\nlines"), (8, "last")]);
        assert!(text[sheet.rows[1].at.clone()].starts_with("Name;Address"));
        assert_eq!(sheet.rows[2].shown(';', 40), "two lines;400001");
        assert_eq!(sheet.rows[2].shown(';', 6), "two li…");
        assert_eq!(sheet.rows[0].cell(7), "");
        assert!(!sheet.rows[2].is_open);
        let open = Sheet::read("a,b\n\"c,d\ne,f\n", ',');
        assert!(open.rows[1].is_open, "{open:?}");
    }

    #[test]
    fn the_header_is_found_under_a_title_with_its_own_delimiter() {
        for (mark, shown) in [(",", ','), (";", ';'), ("\t", '\t'), ("|", '|')] {
            let head = ["Register", "Name, long", "Type"].map(|head| format!("\"{head}\"")).join(mark);
            let text = format!("Meter, model 3; issue 2\n\n{head}\n30001{mark}Level{mark}FLOAT\n");
            let (sheet, at, heads) = Sheet::find(&text, &ColumnChoice::default()).unwrap();
            assert_eq!((sheet.delimiter, at), (shown, 1), "{mark:?}");
            assert_eq!(heads.at(Column::Address), Some(0));
            assert_eq!(sheet.rows[at + 1].cell(2), "FLOAT");
        }
        assert!(Sheet::find("no,header\n1,2\n", &ColumnChoice::default()).is_none());
        assert!(Sheet::find("", &ColumnChoice::default()).is_none());
    }
}
