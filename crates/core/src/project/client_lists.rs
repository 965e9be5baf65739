//! The list that the programmer of a client has typed in: a table, row by row what the client asks for.

use super::asked::Asked;
use super::fields::Fields;
use super::reader::{Reader, load_text};
use super::scalars::duration;
use super::{Client, Project};
use crate::finding::Finding;
use crate::form::{Decimal, Form};
use crate::protocol::{Dialect, Notation};
use crate::sheet::{
    Column, ColumnChoice, Heads, ListedType, Sheet, SheetRow, count_of, decimal_of, order_of,
};
use crate::source::{Span, Spanned};
use std::cell::RefCell;

/// How a list writes addresses.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum ListedAs {
    /// `400001`.
    #[default]
    SixDigit,
    /// `40001`.
    FiveDigit,
    /// `0`, counted from 0, with the table beside it.
    Offset,
    /// `0x0000`, the same.
    Hex,
}

impl ListedAs {
    fn of_word(word: &str) -> Self {
        match word {
            "five-digit" => Self::FiveDigit,
            "offset" => Self::Offset,
            "hex" => Self::Hex,
            _ => Self::SixDigit,
        }
    }
}

/// A list of what a client asks for.
#[derive(Debug, Clone)]
pub struct ClientList {
    /// Its path as the project writes it.
    pub path: Spanned<String>,
    /// How it writes addresses.
    pub notation: ListedAs,
    /// Columns whose heads are not understood.
    pub columns: ColumnChoice,
    /// Its heads, and which column each is of.
    pub heads: Vec<(Option<Column>, String)>,
    /// What stands between two cells.
    pub delimiter: char,
    /// Rows that ask for something.
    pub rows: usize,
}

/// The list that a client names.
pub(super) fn named(r: &mut Reader<'_>, fields: &Fields<'_, '_>) -> Option<ClientList> {
    let path = fields.text(r, "list")?;
    let notation = fields.text(r, "notation").map(|word| ListedAs::of_word(&word.value)).unwrap_or_default();
    let mut columns = ColumnChoice::default();
    if let Some(own) = fields.table(r, "columns", "columns", "`columns`") {
        for word in Column::words() {
            if let Some(head) = own.text(r, word) {
                // Each key stands once in a table, and each is a column.
                let _ = columns.add(word, &head.value);
            }
        }
    }
    Some(ClientList { path, notation, columns, heads: vec![], delimiter: ',', rows: 0 })
}

/// Reads the lists that clients name: what their rows ask for stands behind what the project says itself.
pub(super) fn read_all(
    project: &mut Project,
    load: &mut dyn FnMut(&str) -> Result<String, String>,
    findings: &mut Vec<Finding>,
) {
    for at in 0..project.clients.len() {
        let Some((list, image)) =
            project.clients.get(at).and_then(|client| Some((client.list.clone()?, client.image?)))
        else {
            continue;
        };
        let Some(dialect) = project.image_dialect(image.value) else { continue };
        let text = match load_text("list", &list.path, load) {
            Ok(text) => text,
            Err(finding) => {
                findings.push(finding);
                continue;
            }
        };
        let text = text.strip_prefix('\u{feff}').map(str::to_string).unwrap_or(text);
        let file = project.sources.add(list.path.value.clone(), text.clone());
        let found = Sheet::find(&text, &list.columns);
        let Some((sheet, head, heads)) = found.filter(|(.., heads)| heads.at(Column::Address).is_some())
        else {
            project.sources.forget(file);
            let what = format!(
                "`{}` is not a list: none of its first lines has a head for addresses",
                list.path.value
            );
            findings.push(
                Finding::new("F07", list.path.span, what)
                    .fix("write a header such as `address,name,type,order,scale,access,interval,source`, or say `columns`"),
            );
            continue;
        };
        if let Some(missing) = sheet.rows.get(head).and_then(|row| {
            list.columns.missing(row.cells().collect::<Vec<_>>().into_iter()).first().copied()
        }) {
            let what = format!("`{}` has no column with the head `{missing}`", list.path.value);
            findings.push(
                Finding::new("F05", list.path.span, what).fix("write the head as it stands in the list"),
            );
        }
        let reading = ListRows {
            dialect,
            notation: list.notation,
            text: &text,
            file,
            heads: &heads,
            last: RefCell::default(),
        };
        let Some(client) = project.clients.get_mut(at) else { continue };
        if let (Some(own), Some(row)) = (&mut client.list, sheet.rows.get(head)) {
            let column =
                |at: usize| heads.columns().find(|(_, place)| *place == at).map(|(column, _)| column);
            own.heads = row.cells().enumerate().map(|(at, head)| (column(at), head.to_string())).collect();
            own.delimiter = sheet.delimiter;
        }
        for row in sheet.rows.iter().skip(head + 1) {
            reading.row(row, client, findings);
        }
    }
}

/// Where the cells of a row stand.
struct CellSpans {
    cells: Vec<Option<Span>>,
    line: Span,
}

impl CellSpans {
    /// A column's; the line where it has no cell.
    fn of(&self, heads: &Heads, column: Column) -> Span {
        let own = heads.at(column).and_then(|at| self.cells.get(at).copied().flatten());
        own.unwrap_or(self.line)
    }
}

/// Rows of a list.
struct ListRows<'a> {
    dialect: &'static dyn Dialect,
    notation: ListedAs,
    text: &'a str,
    file: u16,
    heads: &'a Heads,
    /// What the row before said of its values, and what that is.
    last: RefCell<Option<([String; 7], ListedShape)>>,
}

/// What a row says of its values, besides where they are.
#[derive(Debug, Clone, Copy)]
struct ListedShape {
    form: Option<Form>,
    count: u32,
    every: Option<u64>,
}

/// The columns that say it.
const SHAPE: [Column; 7] = [
    Column::Type,
    Column::Words,
    Column::Elements,
    Column::Order,
    Column::Factor,
    Column::Offset,
    Column::Interval,
];

impl ListRows<'_> {
    fn cell<'r>(&self, row: &'r SheetRow, column: Column) -> &'r str {
        self.heads.at(column).map_or("", |at| row.cell(at))
    }

    fn span(&self, from: usize, to: usize) -> Span {
        let at = |offset: usize| u32::try_from(offset).unwrap_or(u32::MAX);
        Span { file: self.file, start: at(from), end: at(to) }
    }

    /// Where the cells of a row stand, one after another: the same words before one are not taken for it.
    fn cell_spans(&self, row: &SheetRow) -> CellSpans {
        let whole = self.text.get(row.at.clone()).unwrap_or_default();
        let mut from = 0;
        let cells = row.cells().map(|cell| {
            let rest = whole.get(from..)?;
            // Behind what separates it: at once, or after blanks and a quote.
            let near = rest.trim_start_matches([',', ';', '\t', '|', ' ', '"']);
            let begin = match near.starts_with(cell) && !cell.is_empty() {
                true => from + rest.len() - near.len(),
                false => from + rest.find(cell)?,
            };
            from = begin + cell.len();
            (!cell.is_empty()).then(|| self.span(row.at.start + begin, row.at.start + from))
        });
        let line = row.first_line(self.text);
        CellSpans { cells: cells.collect(), line: self.span(line.start, line.end) }
    }

    fn row(&self, row: &SheetRow, client: &mut Client, findings: &mut Vec<Finding>) {
        let text = self.cell(row, Column::Address);
        // A title, or a line of its own for people.
        if text.is_empty() || !text.contains(|letter: char| letter.is_ascii_digit()) {
            return;
        }
        let spans = self.cell_spans(row);
        let at = |column| spans.of(self.heads, column);
        let address = match self.address(row, text) {
            Ok(address) => Spanned { value: address, span: at(Column::Address) },
            Err(what) => {
                let span = at(Column::Address);
                findings.push(
                    Finding::new("M01", span, what).fix("write it as `notation` says, or correct `notation`"),
                );
                return;
            }
        };
        let shape = match self.shape(row) {
            Ok(found) => found,
            Err((column, what)) => {
                let (code, fix) = match column {
                    Column::Type => ("F08", "write a type such as u16, INT or REAL"),
                    _ => ("F03", "write a number such as 0.01, or leave the cell empty"),
                };
                findings.push(Finding::new(code, at(column), what).fix(fix));
                return;
            }
        };
        let source = self.cell(row, Column::Source);
        let has = |column| self.heads.at(column).is_some();
        let asked = Asked {
            span: spans.line,
            address,
            form: shape.form.map(|value| Spanned { value, span: at(Column::Type) }),
            count: shape.count,
            every: shape.every,
            is: Some(source)
                .filter(|text| !text.is_empty())
                .map(|text| Spanned { value: text.to_string(), span: at(Column::Source) }),
            scale_at: (has(Column::Factor) || has(Column::Offset)).then(|| {
                // An empty cell states a scale of 1.
                let stated = [Column::Factor, Column::Offset, Column::Type];
                at(stated
                    .into_iter()
                    .find(|column| !self.cell(row, *column).is_empty())
                    .unwrap_or(Column::Type))
            }),
            is_listed: true,
        };
        let access: String =
            self.cell(row, Column::Access).to_lowercase().chars().filter(char::is_ascii_alphabetic).collect();
        let (reads, writes) = match access.as_str() {
            "w" | "wo" | "write" | "writeonly" => (false, true),
            "rw" | "wr" | "readwrite" => (true, true),
            _ => (true, false),
        };
        match (reads, writes) {
            (true, true) => {
                client.writes.push(asked.clone());
                client.reads.push(asked);
            }
            (_, true) => client.writes.push(asked),
            _ => client.reads.push(asked),
        }
        if let Some(list) = &mut client.list {
            list.rows += 1;
        }
    }

    /// The address as the project file writes it.
    fn address(&self, row: &SheetRow, text: &str) -> Result<String, String> {
        let notation: &dyn Notation = self.dialect.notation();
        let lists = notation.lists();
        let digits = text.split('.').next().unwrap_or_default();
        let is_number = !digits.is_empty() && digits.bytes().all(|byte| byte.is_ascii_digit());
        let number = match self.notation {
            ListedAs::SixDigit | ListedAs::FiveDigit => {
                let wanted = if self.notation == ListedAs::SixDigit { 6 } else { 5 };
                if is_number && digits.len() != wanted {
                    return Err(format!(
                        "`{text}` has {} digits, and this list writes {wanted}",
                        digits.len()
                    ));
                }
                return Ok(text.to_string());
            }
            ListedAs::Offset if is_number => text.parse().ok(),
            ListedAs::Offset => return Ok(text.to_string()),
            ListedAs::Hex => {
                count_of(text).filter(|_| !is_number).or_else(|| u32::from_str_radix(text, 16).ok())
            }
        };
        let number =
            number.ok_or_else(|| format!("`{text}` is not an offset in hexadecimal, such as 0x0010"))?;
        let words = [Column::Table, Column::Function].map(|column| self.cell(row, column));
        let mut said = words.into_iter().filter(|word| !word.is_empty());
        let table = said.find_map(|word| lists.table(word)).map(|table| table.key).or(lists.usual());
        let address = table.and_then(|table| lists.numbered(table, number, 0));
        address.ok_or_else(|| format!("`{text}` is not in the table"))
    }

    /// What the row says of its values, as the row before it if that says the same: most rows of a list do.
    fn shape(&self, row: &SheetRow) -> Result<ListedShape, (Column, String)> {
        let said = SHAPE.map(|column| self.cell(row, column));
        if let Some((known, shape)) = &*self.last.borrow()
            && known.iter().zip(said).all(|(known, said)| known == said)
        {
            return Ok(*shape);
        }
        let shape = self.read_shape(row)?;
        self.last.replace(Some((said.map(str::to_string), shape)));
        Ok(shape)
    }

    fn read_shape(&self, row: &SheetRow) -> Result<ListedShape, (Column, String)> {
        let words = count_of(self.cell(row, Column::Words));
        let listed = ListedType::read(self.cell(row, Column::Type), words)
            .map_err(|word| (Column::Type, format!("`{word}` is not a type that is known")))?;
        let count = count_of(self.cell(row, Column::Elements)).or(listed.elements).unwrap_or(1).max(1);
        let every = self.every(row);
        let Some(ty) = listed.ty.filter(|_| listed.form.is_none()) else {
            return Ok(ListedShape { form: listed.form, count, every });
        };
        let order = listed.order.or_else(|| order_of(self.cell(row, Column::Order)));
        let number = |column, otherwise| match self.cell(row, column) {
            "" => Ok(otherwise),
            text => decimal_of(text).ok_or_else(|| (column, format!("`{text}` is not a number"))),
        };
        let scale = number(Column::Factor, Decimal::ONE)?;
        let plus = number(Column::Offset, Decimal::ZERO)?;
        Ok(ListedShape { form: Some(Form { order, scale, plus, ..Form::plain(ty) }), count, every })
    }

    fn every(&self, row: &SheetRow) -> Option<u64> {
        let text = self.cell(row, Column::Interval).replace(' ', "");
        // A number alone is seconds.
        let seconds =
            decimal_of(&text).map(|own| (own.as_f64() * 1e6).round()).filter(|micros| *micros >= 1.0);
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "above 1, and saturating")]
        seconds.map(|micros| micros as u64).or_else(|| duration(&text).filter(|micros| *micros > 0))
    }
}
