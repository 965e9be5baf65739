//! Reading a list in one protocol's notation: what each row is, and what the list as a whole says.

use super::counting::{Counting, CountingFacts, hex_number, plain_number};
use super::names::Given;
use super::place::ListedPlace;
use super::point::PointReading;
use super::{Import, ImportOptions, ImportedPoint, ListedRow, Question, SHOWN_MAX};
use crate::form::{Form, Order};
use crate::project::caps;
use crate::protocol::{Address, AddressContext, Dialect, Setup};
use crate::sheet::{CELL_MAX, Column, Encoding, Heads, ListedType, Sheet, SheetRow, count_of, order_of};
use std::collections::HashMap;

/// A list in one notation.
pub(super) struct ListReading<'a> {
    pub(super) dialect: &'static dyn Dialect,
    pub(super) sheet: &'a Sheet,
    head: usize,
    pub(super) heads: &'a Heads,
    pub(super) options: &'a ImportOptions,
    encoding: Encoding,
    pub(super) counting: Counting,
    /// The order that rows of the list say, and the lines that do.
    pub(super) orders: Vec<(Order, u64)>,
    pub(super) given: Given,
    /// Bare numbers of which nothing says where they count from.
    open: Vec<u32>,
    /// Lines with a wide value of which nothing says the order.
    pub(super) unordered: Vec<u64>,
    /// Lines whose table was assumed, and what things are called there.
    assumed_table: Vec<u64>,
    assumed_noun: &'static str,
    /// Lines whose type was assumed.
    pub(super) assumed_type: Vec<u64>,
    /// Lines whose order is that of others.
    pub(super) assumed_order: Vec<u64>,
}

/// An address out of a cell, and how it was understood where that is worth telling.
pub(super) struct ListedAddress {
    pub(super) address: Address,
    pub(super) remark: Option<String>,
}

/// Why a row is no point.
pub(super) enum NoPoint {
    /// A title or a note.
    Note(&'static str),
    /// It is not understood.
    Unread(String),
    /// Its number may be one of two addresses.
    Open(u32),
}

impl<'a> ListReading<'a> {
    pub(super) fn new(
        dialect: &'static dyn Dialect,
        (sheet, head, heads): (&'a Sheet, usize, &'a Heads),
        options: &'a ImportOptions,
        encoding: Encoding,
    ) -> Self {
        Self {
            dialect,
            sheet,
            head,
            heads,
            options,
            encoding,
            counting: Counting::default(),
            orders: vec![],
            given: Given::default(),
            open: vec![],
            unordered: vec![],
            assumed_table: vec![],
            assumed_noun: "",
            assumed_type: vec![],
            assumed_order: vec![],
        }
    }

    /// A cell of a row.
    pub(super) fn cell<'r>(&self, row: &'r SheetRow, column: Column) -> &'r str {
        self.heads.at(column).map_or("", |at| row.cell(at))
    }

    /// The head of a column.
    pub(super) fn head_of(&self, column: Column) -> &'a str {
        let row = self.sheet.rows.get(self.head);
        self.heads.at(column).zip(row).map_or("", |(at, row)| row.cell(at))
    }

    /// How many columns the header has.
    pub(super) fn columns(&self) -> usize {
        self.sheet.rows.get(self.head).map_or(usize::MAX, SheetRow::len)
    }

    /// The columns that may say where a value is, the likeliest first. Names do where nothing else does.
    fn place_columns(&self) -> Vec<Column> {
        let has = |column: &Column| self.heads.at(*column).is_some();
        let found: Vec<Column> =
            [Column::Address, Column::Offset, Column::Hex].into_iter().filter(has).collect();
        if found.is_empty() { vec![Column::Name] } else { found }
    }

    /// Where a row says that its value is.
    fn place_cell<'r>(&self, row: &'r SheetRow) -> (Column, &'r str) {
        let columns = self.place_columns();
        let first = columns.first().copied().unwrap_or(Column::Name);
        let found = columns.into_iter().map(|column| (column, self.cell(row, column)));
        found.into_iter().find(|(_, text)| !text.is_empty()).unwrap_or((first, ""))
    }

    /// Reads it all.
    pub(super) fn read(mut self) -> Import {
        let rows = self.sheet.rows.get(self.head + 1..).unwrap_or_default();
        let places: Vec<Result<ListedPlace, String>> =
            rows.iter().map(|row| ListedPlace::read(self.place_cell(row).1)).collect();
        self.count(rows, &places);
        for row in rows.iter().filter(|row| long_cell(row).is_none()) {
            let cells = [
                Column::Address,
                Column::Type,
                Column::Order,
                Column::Remark,
                Column::Description,
                Column::Values,
            ];
            let said = cells.into_iter().find_map(|column| order_of(self.cell(row, column)));
            self.orders.extend(said.map(|order| (order, row.line)));
        }
        let (mut points, mut unread, mut notes): (Vec<ImportedPoint>, _, _) = (vec![], vec![], vec![]);
        for (row, place) in rows.iter().zip(&places) {
            match self.row(row, place) {
                Ok(found) => points.extend(found),
                Err(NoPoint::Note(why)) => notes.push(self.listed(row, why.to_string())),
                Err(NoPoint::Unread(why)) => unread.push(self.listed(row, why)),
                Err(NoPoint::Open(number)) => self.open.push(number),
            }
            if points.len() > caps::POINTS {
                points.truncate(caps::POINTS);
                let why = format!(
                    "a profile has at most {} points: this row and all behind it are left out",
                    caps::POINTS
                );
                unread.push(self.listed(row, why));
                break;
            }
        }
        same_addresses(&mut points);
        self.finish(points, unread, notes)
    }

    fn count(&mut self, rows: &'a [SheetRow], places: &[Result<ListedPlace, String>]) {
        let column = self.place_columns().first().copied().unwrap_or(Column::Name);
        // The other column that says the same, in hexadecimal or as an offset.
        let others = [Column::Hex, Column::Offset].into_iter();
        let other = others.filter(|own| *own != column).find(|own| self.heads.at(*own).is_some());
        let beside = |row: &SheetRow| match other? {
            Column::Hex => hex_number(self.cell(row, Column::Hex)),
            other => count_of(self.cell(row, other)),
        };
        let head = match column {
            Column::Offset => Some(0),
            _ => self.heads.counts_from,
        };
        let known = rows.iter().zip(places);
        let facts = CountingFacts {
            dialect: self.dialect,
            said: self.options.counts_from,
            head: head.map(|from| (from, self.head_of(column))),
            places: known.filter_map(|(row, place)| Some((place.as_ref().ok()?, beside(row)))).collect(),
            beside: other.map_or("", |other| self.head_of(other)),
        };
        self.counting = Counting::of(&facts);
    }

    fn listed(&self, row: &SheetRow, why: String) -> ListedRow {
        ListedRow { line: row.line, source: row.shown(self.sheet.delimiter, SHOWN_MAX), why }
    }

    fn row(
        &mut self,
        row: &SheetRow,
        place: &Result<ListedPlace, String>,
    ) -> Result<Vec<ImportedPoint>, NoPoint> {
        if let Some(long) = long_cell(row) {
            return Err(NoPoint::Unread(format!(
                "a cell has {long} bytes: is there a quote that is not closed?"
            )));
        }
        if row.is_open {
            return Err(NoPoint::Unread(
                "a quote in it is not closed: what follows it is in one cell".into(),
            ));
        }
        let (column, text) = self.place_cell(row);
        let filled = row.cells().filter(|cell| !cell.is_empty()).count();
        if self.sheet.rows.get(self.head).is_some_and(|head| head.cells().eq(row.cells())) {
            return Err(NoPoint::Note("the header again"));
        }
        let says_nothing = text.is_empty() || !text.contains(|letter: char| letter.is_ascii_digit());
        if filled == 1 && says_nothing {
            return Err(NoPoint::Note("it stands alone in its row"));
        }
        if text.is_empty() {
            return Err(NoPoint::Unread(format!("its `{}` is empty", self.head_of(column))));
        }
        if filled == 1 && self.heads.known() > 1 {
            return Err(NoPoint::Unread("it has an address and nothing else".into()));
        }
        let place = place.as_ref().map_err(|why| NoPoint::Unread(why.clone()))?;
        let found = self.address(row, column, place)?;
        PointReading::new(self, row, place, found).points()
    }

    /// The table that a row says.
    fn table(&self, row: &SheetRow) -> Option<&'static str> {
        let lists = self.dialect.notation().lists();
        for column in [Column::Function, Column::Table, Column::Type] {
            let text = self.cell(row, column);
            if let Some(table) = lists.table(text) {
                return Some(table.key);
            }
            // `3/6/16`, `03, 16`: reading counts.
            let parts = text.split(|letter: char| !letter.is_ascii_alphanumeric());
            let mut tables: Vec<_> = parts.filter_map(|part| lists.table(part)).collect();
            tables.sort_by_key(|table| table.writes);
            if let Some(table) = tables.first().filter(|_| column == Column::Function) {
                return Some(table.key);
            }
        }
        None
    }

    /// Whether a row says that its value can be written, by a function code.
    pub(super) fn function_writes(&self, row: &SheetRow) -> bool {
        let lists = self.dialect.notation().lists();
        let parts = self.cell(row, Column::Function).split(|letter: char| !letter.is_ascii_alphanumeric());
        parts.filter_map(|part| lists.table(part)).any(|table| table.writes)
    }

    fn address(
        &mut self,
        row: &SheetRow,
        column: Column,
        place: &ListedPlace,
    ) -> Result<ListedAddress, NoPoint> {
        let notation = self.dialect.notation();
        let lists = notation.lists();
        let text = place.first.as_str();
        let plain = plain_number(text);
        // Where memory has names, the type says what an address steps over.
        let word = self.cell(row, Column::Type);
        let ty = lists.type_of(word).or_else(|| ListedType::read(word, None).ok()?.ty);
        let form = ty.map(Form::plain);
        let parse = |text: &str| {
            let setup = Setup::default();
            notation.parse(text, &AddressContext::of_device(&setup).with_form(form))
        };
        // Among reference numbers a short one is a bare number, and a long one a slip.
        let bare = plain.filter(|_| self.counting.all_bare || text.len() < 5 && parse(text).is_err());
        let hex = match column {
            Column::Hex => hex_number(text),
            _ => count_of(text).filter(|_| plain.is_none()),
        };
        if let Some(usual) = lists.usual().filter(|_| bare.is_some() || hex.is_some()) {
            let said = self.table(row);
            let named =
                said.or(self.options.table.as_deref().and_then(|word| lists.table(word)).map(|own| own.key));
            let table = named.unwrap_or(usual);
            let (number, from) = match (bare, hex) {
                // What is written in hexadecimal is what stands in the request.
                (None, Some(hex)) => (hex, Some(0)),
                (bare, _) => (bare.unwrap_or(0), self.counting.from),
            };
            let Some(from) = from else { return Err(NoPoint::Open(number)) };
            let address = lists.numbered(table, number, from).and_then(|text| parse(&text).ok());
            let address = address.ok_or_else(|| {
                NoPoint::Unread(format!("`{text}` counted from {from} is outside of the table"))
            })?;
            if named.is_none() {
                self.assumed_table.push(row.line);
                self.assumed_noun = address.space.noun;
            }
            return Ok(ListedAddress { address, remark: None });
        }
        let shown = |address: &Address| {
            notation.show(&address.space, address.first, 1, address.bit, &Setup::default()).canonical
        };
        match parse(text) {
            Ok(address) => Ok(ListedAddress { address, remark: None }),
            Err(fault) => {
                if let Some(own) = lists.prefixed(text) {
                    let Some(from) = own.from.or(self.counting.from).or(self.options.counts_from) else {
                        return Err(NoPoint::Open(own.number));
                    };
                    let address =
                        lists.numbered(own.table, own.number, from).and_then(|text| parse(&text).ok());
                    if let Some(address) = address {
                        let remark = Some(format!("`{text}` is read as {}", shown(&address)));
                        return Ok(ListedAddress { address, remark });
                    }
                }
                // What was likely meant is a guess: an address that is one beside reads like a right one.
                let likely = fault.likely.first().map(|own| format!("; perhaps {own}")).unwrap_or_default();
                Err(NoPoint::Unread(format!("{}{likely}", fault.what)))
            }
        }
    }

    fn finish(self, points: Vec<ImportedPoint>, unread: Vec<ListedRow>, notes: Vec<ListedRow>) -> Import {
        let head = self.sheet.rows.get(self.head);
        let head_cell = |at: usize| head.map_or("", |row| row.cell(at)).to_string();
        let unused = self.heads.unknown.iter().chain(&self.heads.doubled).map(|at| head_cell(*at)).collect();
        let mut remarks = self.counting.remarks.clone();
        let lines = |lines: &[u64]| {
            let shown: Vec<String> = lines.iter().take(6).map(u64::to_string).collect();
            let more = if lines.len() > shown.len() { ", …" } else { "" };
            let noun = if lines.len() == 1 { "line" } else { "lines" };
            format!("{noun} {}{more}", shown.join(", "))
        };
        if self.encoding == Encoding::Windows1252 {
            remarks.push(format!("it is not UTF-8: read as {}", self.encoding.word()));
        }
        if self.sheet.is_cut {
            remarks
                .push(format!("it has more than {} rows: the others are not read", crate::sheet::ROWS_MAX));
        }
        if !self.assumed_table.is_empty() {
            remarks.push(format!(
                "nothing says the table of {}: taken as {}s (`--table` says another)",
                lines(&self.assumed_table),
                self.assumed_noun
            ));
        }
        if !self.assumed_type.is_empty() {
            remarks.push(format!("nothing says the type of {}: taken as it fits", lines(&self.assumed_type)));
        }
        if let ([(order, line), ..], [_, ..]) = (self.orders.as_slice(), self.assumed_order.as_slice()) {
            remarks.push(format!(
                "line {line} says the order {}: taken for {} too (`--order` says another)",
                order.letters(4),
                lines(&self.assumed_order)
            ));
        }
        let has = |columns: &[Column]| columns.iter().any(|column| self.heads.at(*column).is_some());
        if !has(&[Column::Access, Column::Function]) && !points.is_empty() {
            remarks.push("no column says what may be written: all points are read-only".into());
        }
        let usual = self.dialect.notation().lists().usual().unwrap_or_default();
        let mut questions: Vec<Question> =
            Counting::question(self.dialect, usual, &self.open).into_iter().collect();
        if !self.unordered.is_empty() {
            let what = format!(
                "nothing in the list says the word order of {} ({})",
                if self.unordered.len() == 1 { "1 wider value" } else { "wider values" },
                lines(&self.unordered)
            );
            let readings = Order::ALL.into_iter().map(|order| {
                let words = match (order.low_word_first, order.low_byte_first) {
                    (false, false) => "the high word first",
                    (true, false) => "the low word first",
                    (false, true) => "the high word first, bytes swapped",
                    (true, true) => "the low word first, bytes swapped",
                };
                (format!("--order {}", order.letters(4)), words.to_string())
            });
            questions.push(Question { what, readings: readings.collect() });
        }
        Import {
            dialect: self.dialect,
            encoding: self.encoding,
            delimiter: self.sheet.delimiter,
            head_line: head.map_or(0, |row| row.line),
            columns: self.heads.columns().map(|(column, at)| (column, head_cell(at))).collect(),
            unused,
            points,
            unread,
            notes,
            remarks,
            questions,
        }
    }
}

/// The bytes of a cell that is longer than one that is looked at.
fn long_cell(row: &SheetRow) -> Option<usize> {
    row.cells().map(str::len).find(|length| *length > CELL_MAX)
}

/// Points of one address: a slip of the list, or two views of one register.
fn same_addresses(points: &mut [ImportedPoint]) {
    let mut first: HashMap<String, (u64, String)> = HashMap::new();
    for point in points {
        match first.get(&point.at) {
            Some((line, name)) => {
                point.remarks.push(format!("the same address as `{name}` of line {line}"));
            }
            None => {
                first.insert(point.at.clone(), (point.line, point.name.clone()));
            }
        }
    }
}
