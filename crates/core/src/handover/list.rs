//! The list of a client's programmer, in the notation and under the heads of that client.

use super::{HandedValue, values_of};
use crate::checked::Checked;
use crate::form::{Form, Type};
use crate::project::{Asked, Client, ListedAs, address as address_of, show_micros};
use crate::protocol::{AddressContext, Dialect, Notation, Setup};
use crate::sheet::{Column, Sheet, SheetRow};
use std::borrow::Cow;
use std::collections::HashMap;

/// A table that is ready to be taken into another system.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct HandoverList {
    /// What stands between two cells.
    pub delimiter: char,
    /// Its heads.
    pub head: Vec<String>,
    /// Its rows.
    pub rows: Vec<Vec<String>>,
    /// Values that its notation cannot say, and why.
    pub left_out: Vec<(String, String)>,
}

/// The columns of a list of which nothing else is known, with their heads.
const COLUMNS: [(Column, &str); 11] = [
    (Column::Address, "address"),
    (Column::Name, "name"),
    (Column::Description, "description"),
    (Column::Type, "type"),
    (Column::Order, "order"),
    (Column::Factor, "scale"),
    (Column::Offset, "offset"),
    (Column::Unit, "unit"),
    (Column::Access, "access"),
    (Column::Interval, "interval"),
    (Column::Source, "source"),
];

/// The list of a client: every value of its image. `None` where it asks no image.
#[must_use]
pub fn handover_list(checked: &Checked, client: &Client) -> Option<HandoverList> {
    let image = client.image?.value;
    let dialect = checked.project.image_dialect(image)?;
    let own = client.list.as_ref();
    let notation = own.map(|list| list.notation).unwrap_or_default();
    let known = own.map(|list| list.heads.as_slice()).filter(|heads| !heads.is_empty());
    let columns: Vec<(Option<Column>, String)> = match known {
        Some(heads) => heads.to_vec(),
        None => {
            let mut columns: Vec<(Option<Column>, String)> =
                COLUMNS.iter().map(|(column, head)| (Some(*column), (*head).to_string())).collect();
            // A bare number is nothing without its table.
            if matches!(notation, ListedAs::Offset | ListedAs::Hex) {
                columns.insert(1, (Some(Column::Table), "table".into()));
            }
            columns
        }
    };
    let mut list = HandoverList {
        delimiter: own.map_or(',', |list| list.delimiter),
        head: columns.iter().map(|(_, head)| head.clone()).collect(),
        ..HandoverList::default()
    };
    let rows = GivenRows::of(checked, client, dialect);
    for value in values_of(&checked.project, &checked.plan, image) {
        match address(dialect.notation(), &value, notation) {
            Ok(at) => {
                let given = rows.row(&value);
                let cell = |(number, (column, _)): (usize, &(Option<Column>, String))| {
                    let theirs = given.as_ref().map(|row| row.cell(number)).filter(|cell| !cell.is_empty());
                    match (column, theirs) {
                        // What they call it, how often they read it, and what only they know of stays theirs.
                        (Some(column), None) => cell(&value, *column, &at),
                        (Some(column), _) if is_ours(*column) => cell(&value, *column, &at),
                        (_, theirs) => theirs.unwrap_or_default().to_string(),
                    }
                };
                list.rows.push(columns.iter().enumerate().map(cell).collect());
            }
            Err(why) => list.left_out.push((value.name.clone(), why)),
        }
    }
    Some(list)
}

/// The rows of the list that a client has given back, by what each means.
struct GivenRows<'c> {
    checked: &'c Checked,
    delimiter: char,
    by_source: HashMap<&'c str, &'c Asked>,
    by_place: HashMap<(Cow<'static, str>, u32, Option<u8>), &'c Asked>,
}

impl<'c> GivenRows<'c> {
    fn of(checked: &'c Checked, client: &'c Client, dialect: &dyn Dialect) -> Self {
        let delimiter = client.list.as_ref().map_or(',', |list| list.delimiter);
        let mut rows = Self { checked, delimiter, by_source: HashMap::new(), by_place: HashMap::new() };
        let image = client.image.and_then(|image| checked.plan.images.get(image.value));
        let Some(station) = image else { return rows };
        for asked in client.reads.iter().chain(&client.writes).filter(|asked| asked.is_listed) {
            if let Some(is) = &asked.is {
                rows.by_source.entry(&is.value).or_insert(asked);
            }
            let context =
                AddressContext::of_image(&station.setup).with_form(asked.form.map(|form| form.value));
            if let Ok(at) = address_of(dialect, &asked.address.value, asked.address.span, &context) {
                rows.by_place.entry((at.space.key.clone(), at.first, at.bit)).or_insert(asked);
            }
        }
        rows
    }

    /// The row of a value: the one that names it, or else the one at its address that names no other.
    fn row(&self, value: &HandedValue) -> Option<SheetRow> {
        let named = self.by_source.get(value.source.as_str());
        let at_place = || {
            let place = (value.space.key.clone(), value.first, value.bit);
            self.by_place.get(&place).filter(|asked| asked.is.is_none())
        };
        let asked = named.or_else(at_place)?;
        let line = self.checked.project.sources.text(asked.span);
        Sheet::read(line, self.delimiter).rows.into_iter().next()
    }
}

/// The address as a client's list writes it.
fn address(notation: &dyn Notation, value: &HandedValue, listed: ListedAs) -> Result<String, String> {
    let setup = Setup::default();
    let shown = notation.show(&value.space, value.first, value.width, value.bit, &setup);
    let bit = value.bit.map(|bit| format!(".{bit}")).unwrap_or_default();
    match listed {
        ListedAs::SixDigit => Ok(shown.canonical),
        ListedAs::FiveDigit => {
            let all = notation.notations(&value.space, value.first, value.bit, &setup);
            let five = all.into_iter().map(|(_, text)| text).find(|text| {
                let digits = text.split('.').next().unwrap_or_default();
                digits.len() == 5 && digits.bytes().all(|byte| byte.is_ascii_digit())
            });
            five.ok_or_else(|| format!("{} cannot be written with five digits", shown.canonical))
        }
        ListedAs::Offset => Ok(format!("{}{bit}", value.first)),
        ListedAs::Hex => Ok(format!("0x{:04X}{bit}", value.first)),
    }
}

/// Whether the project says what stands in a column, and not its client.
fn is_ours(column: Column) -> bool {
    let is_theirs = matches!(column, Column::Name | Column::Interval);
    column == Column::Table || !is_theirs && COLUMNS.iter().any(|(own, _)| *own == column)
}

/// What stands in a column for a value.
fn cell(value: &HandedValue, column: Column, at: &str) -> String {
    let form = &value.form;
    match column {
        Column::Address => at.to_string(),
        Column::Table => value.space.key.to_string(),
        Column::Name => value.name.clone(),
        Column::Description => value.description.clone(),
        Column::Type => ty(form),
        Column::Order => match form.ty.bytes() {
            Some(bytes @ (4 | 8)) if !form.ty.is_text() => form.order().letters(bytes).to_string(),
            _ => String::new(),
        },
        Column::Factor if form.linear.is_none() && is_number(form.ty) => form.scale.to_string(),
        Column::Offset if form.linear.is_none() && is_number(form.ty) => form.plus.to_string(),
        Column::Unit => value.eu.clone(),
        Column::Access => value.access_word().to_string(),
        Column::Interval => value.every.map(show_micros).unwrap_or_default(),
        Column::Source => value.source.clone(),
        _ => String::new(),
    }
}

fn is_number(ty: Type) -> bool {
    !ty.is_text() && !matches!(ty, Type::Bool | Type::Raw)
}

/// The type by its name in IEC 61131-3, where it has one; a straight line through two points is written as we do.
fn ty(form: &Form) -> String {
    if form.linear.is_some() {
        return Form { order: None, ..*form }.to_string();
    }
    match (form.ty, form.ty.iec_names()) {
        // A register as it is.
        (Type::Raw, _) => String::new(),
        (Type::Text(length), _) => format!("STRING[{length}]"),
        (_, [name, ..]) => (*name).to_string(),
        (ty, []) => ty.to_string(),
    }
}
