//! A register list of a maker or a programmer becomes a profile: each row a point, or a reason why it is none. Nothing
//! is dropped in silence, and what the list does not say is asked.

mod codes;
mod counting;
mod names;
mod place;
mod point;
mod profile_text;
mod reading;

pub use profile_text::profile_text;

use crate::form::{Decimal, Form, Order};
use crate::protocol::{Dialect, notations};
use crate::sheet::{Column, ColumnChoice, Encoding, Sheet, decode};
use reading::ListReading;

/// Most characters of a row that are shown.
const SHOWN_MAX: usize = 160;

/// What the person says besides the list.
#[derive(Clone, Default)]
pub struct ImportOptions {
    /// Columns whose heads are not understood.
    pub columns: ColumnChoice,
    /// From which number bare numbers count.
    pub counts_from: Option<u32>,
    /// The table of bare numbers where the list says none.
    pub table: Option<String>,
    /// The order of wider values where the list says none.
    pub order: Option<Order>,
    /// The protocol; `None` is the one in which most addresses can be read.
    pub dialect: Option<&'static dyn Dialect>,
}

/// A list as it was understood.
pub struct Import {
    /// The protocol in whose notation its addresses are.
    pub dialect: &'static dyn Dialect,
    /// How its characters are coded.
    pub encoding: Encoding,
    /// What stands between two cells.
    pub delimiter: char,
    /// The line of its header.
    pub head_line: u64,
    /// Its columns with their heads.
    pub columns: Vec<(Column, String)>,
    /// Heads of columns that are not used.
    pub unused: Vec<String>,
    /// Points, in the order of the list.
    pub points: Vec<ImportedPoint>,
    /// Rows that are not understood.
    pub unread: Vec<ListedRow>,
    /// Titles and notes between the rows.
    pub notes: Vec<ListedRow>,
    /// What was assumed or noticed of the list as a whole.
    pub remarks: Vec<String>,
    /// What must be answered before a profile can be made.
    pub questions: Vec<Question>,
}

/// A point of the profile.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ImportedPoint {
    /// The line of the list.
    pub line: u64,
    /// Its name.
    pub name: String,
    /// Its address as the project file writes it.
    pub at: String,
    /// The same as an offset.
    pub offset: String,
    /// Its form; `None` where the address says it.
    pub form: Option<Form>,
    /// Engineering unit.
    pub eu: Option<String>,
    /// Least and greatest engineering value.
    pub range: Option<(Decimal, Decimal)>,
    /// Whether it may be written.
    pub read_write: bool,
    /// How many of them stand in a row, and how far apart.
    pub repeat: Option<(u32, u32)>,
    /// How its values are coded.
    pub values: Vec<(String, u32)>,
    /// A remark for people.
    pub note: Option<String>,
    /// The row of the list.
    pub source: String,
    /// What was assumed or noticed.
    pub remarks: Vec<String>,
}

/// A row that is no point.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ListedRow {
    /// Its line.
    pub line: u64,
    /// The row.
    pub source: String,
    /// Why it is none.
    pub why: String,
}

/// What a list does not say.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Question {
    /// What is open.
    pub what: String,
    /// What each answer would give: as it is written on the command line, and the consequence.
    pub readings: Vec<(String, String)>,
}

/// Reads a list.
///
/// # Errors
/// It is no list at all, or the person says something of it that it does not have, in words.
pub fn import(bytes: &[u8], options: &ImportOptions) -> Result<Import, String> {
    let (text, encoding) = decode(bytes);
    let Some((sheet, head, heads)) = Sheet::find(&text, &options.columns) else {
        return Err("none of its first lines is a header: heads such as address, name, type, unit are looked for (`--columns address=HEAD,name=HEAD` says what others mean)".into());
    };
    let Some(head_row) = sheet.rows.get(head) else { return Err("it has no header".into()) };
    if let Some(missing) = options.columns.missing(head_row.cells().collect::<Vec<_>>().into_iter()).first() {
        return Err(format!(
            "no column has the head `{missing}`: its heads are {}",
            head_row.cells().filter(|cell| !cell.is_empty()).collect::<Vec<_>>().join(", ")
        ));
    }
    let dialects = options.dialect.map_or_else(|| notations().collect(), |own| vec![own]);
    let mut best: Option<Import> = None;
    for dialect in dialects {
        let found = ListReading::new(dialect, (&sheet, head, &heads), options, encoding).read();
        // As many as another: the first of the protocols, which more lists are about.
        let is_whole = found.unread.is_empty();
        if best.as_ref().is_none_or(|best| found.lost() < best.lost()) {
            best = Some(found);
        }
        if is_whole {
            break;
        }
    }
    best.ok_or_else(|| "there is no protocol to read it in".into())
}

impl Import {
    /// Rows that neither are points nor would be.
    fn lost(&self) -> usize {
        self.unread.len() + self.notes.len()
    }
}
