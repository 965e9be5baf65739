//! The points that one row of a list gives.

use super::codes::{ListedCodes, codes_of};
use super::place::ListedPlace;
use super::reading::{ListReading, ListedAddress, NoPoint};
use super::{ImportedPoint, SHOWN_MAX};
use crate::form::{Decimal, Form, Linear, Order, Type};
use crate::grain::Grain;
use crate::project::caps;
use crate::protocol::{ImpliedType, Setup};
use crate::sheet::{Column, ListedType, SheetRow, count_of, decimal_of, order_of, range_of};

/// A row whose address is known.
pub(super) struct PointReading<'r, 'l, 'a> {
    list: &'l mut ListReading<'a>,
    row: &'r SheetRow,
    place: &'r ListedPlace,
    found: ListedAddress,
    remarks: Vec<String>,
}

/// Whether a cell says that there is nothing to say.
fn is_blank(text: &str) -> bool {
    matches!(
        text.to_lowercase().as_str(),
        "" | "-" | "--" | "\u{2013}" | "\u{2014}" | "n/a" | "na" | "none" | "/"
    )
}

/// Reading, writing, or both, as people write it.
fn access_of(text: &str) -> Option<(bool, bool)> {
    let word = text.split(['(', ';', '\n']).next().unwrap_or_default().to_lowercase();
    let word: String = word.chars().filter(char::is_ascii_alphabetic).collect();
    match word.as_str() {
        "rw" | "wr" | "readwrite" | "readandwrite" | "full" => Some((true, true)),
        "r" | "ro" | "read" | "readonly" => Some((true, false)),
        "w" | "wo" | "write" | "writeonly" => Some((false, true)),
        _ => None,
    }
}

/// A number at the beginning of a cell, and what stands behind it: `0.1 °C`.
fn number_and_rest(text: &str) -> Option<(Decimal, &str)> {
    if let Some(number) = decimal_of(text) {
        return Some((number, ""));
    }
    let (number, rest) = text.trim().split_once(char::is_whitespace)?;
    Some((decimal_of(number)?, rest.trim()))
}

impl<'r, 'l, 'a> PointReading<'r, 'l, 'a> {
    pub(super) fn new(
        list: &'l mut ListReading<'a>,
        row: &'r SheetRow,
        place: &'r ListedPlace,
        mut found: ListedAddress,
    ) -> Self {
        let remarks = found.remark.take().into_iter().collect();
        Self { list, row, place, found, remarks }
    }

    fn cell(&self, column: Column) -> &'r str {
        let text = self.list.cell(self.row, column);
        if is_blank(text) { "" } else { text }
    }

    fn grain(&self) -> Grain {
        self.found.address.space.grain
    }

    /// How many addresses the value takes, as another cell says.
    fn words(&self) -> Option<u32> {
        self.place.count.or_else(|| count_of(self.cell(Column::Words))).filter(|words| *words > 0)
    }

    /// What the row says of the type.
    fn listed_type(&mut self) -> Result<ListedType, NoPoint> {
        let cell = self.cell(Column::Type);
        let words = self.words();
        let is_table = self.list.dialect.notation().lists().table(cell).is_some();
        let unknown = |word: String| NoPoint::Unread(format!("`{word}` is not a type that is known"));
        let behind = ListedType::read(&self.place.words, words).unwrap_or_else(|word| {
            self.remarks.push(format!("`{word}` behind the address is not understood"));
            ListedType::default()
        });
        let own = match self.list.dialect.notation().lists().type_of(cell) {
            Some(ty) => ListedType { ty: Some(ty), ..ListedType::default() },
            None if is_table => ListedType::default(),
            None => ListedType::read(cell, words).map_err(unknown)?,
        };
        let order = [own.order, behind.order].into_iter().flatten().next();
        let texts = [Column::Order, Column::Remark, Column::Description, Column::Values];
        let order = order.or_else(|| texts.into_iter().find_map(|column| order_of(self.cell(column))));
        let elements = count_of(self.cell(Column::Elements)).filter(|count| *count > 1);
        Ok(ListedType {
            ty: own.ty.or(behind.ty),
            order,
            elements: own.elements.or(elements),
            form: own.form,
        })
    }

    /// The type, where the list says none: what the address brings, or what fits.
    fn assumed_type(&mut self) -> Result<Option<Type>, NoPoint> {
        match (self.found.address.brings, self.grain(), self.words()) {
            (ImpliedType::Type(_), ..) => Ok(None),
            (ImpliedType::Width(ty), ..) => Ok(Some(ty)),
            _ if self.found.address.bit.is_some() => Ok(Some(Type::Bool)),
            (_, Grain::Bit, _) => Ok(Some(Type::Bool)),
            (_, Grain::Bytes(2), None | Some(1)) => {
                self.list.assumed_type.push(self.row.line);
                let raw = (decimal_of(self.cell(Column::RawLow)), decimal_of(self.cell(Column::RawHigh)));
                // What is a part of the signed range goes below its least value too.
                let is_signed = raw.1.is_some_and(|high| high.as_f64() <= 32_767.0)
                    || [raw.0, decimal_of(self.cell(Column::Low))]
                        .into_iter()
                        .flatten()
                        .any(|low| low.as_f64() < 0.0);
                Ok(Some(if is_signed { Type::I16 } else { Type::U16 }))
            }
            (_, _, Some(words)) => {
                Err(NoPoint::Unread(format!("it takes {words} addresses, and nothing says its type")))
            }
            _ => Err(NoPoint::Unread("nothing says its type".into())),
        }
    }

    /// How many stand in a row, and how far apart: by a range or a length that the type fills more than once.
    fn repeat(&mut self, ty: Option<Type>, elements: Option<u32>) -> Result<Option<(u32, u32)>, NoPoint> {
        let grain = self.grain();
        let brought = match self.found.address.brings {
            ImpliedType::Type(ty) => Some(ty),
            _ => None,
        };
        let Some(ty) = ty.or(brought) else { return Ok(elements.map(|count| (count, 1))) };
        let noun = self.found.address.space.noun;
        let width = ty.width(grain).map_err(|why| NoPoint::Unread(format!("`{ty}` {why}")))?;
        let Some(words) = self.words().filter(|_| self.found.address.bit.is_none()) else {
            return Ok(elements.map(|count| (count, width)));
        };
        if words == width || elements.is_some_and(|count| count * width == words || count == words) {
            return Ok(elements.map(|count| (count, width)));
        }
        if self.place.count.is_some() && words.is_multiple_of(width) {
            return Ok(Some((words / width, width)));
        }
        // Some count bytes, some bits.
        let bytes = ty.bytes().unwrap_or(0);
        if self.place.count.is_none() && bytes > 0 && (words == bytes || words == bytes * 8) {
            let what = if words == bytes { "bytes" } else { "bits" };
            self.remarks.push(format!("`{}` counts {what}", self.list.head_of(Column::Words)));
            return Ok(elements.map(|count| (count, width)));
        }
        Err(NoPoint::Unread(format!(
            "`{ty}` takes {width} {noun}{}, and the list says {words}",
            if width == 1 { "" } else { "s" }
        )))
    }

    /// The order of a value that is wider than an address.
    fn order(&mut self, ty: Type, said: Option<Order>) -> Option<Order> {
        let Grain::Bytes(each) = self.grain() else { return None };
        if ty.bytes().is_none_or(|bytes| bytes <= u32::from(each)) || ty.is_text() {
            return said.filter(|order| order.low_byte_first && ty != Type::Bool);
        }
        if self.list.dialect.notation().order(&self.found.address.space).is_some() {
            return said;
        }
        let others = self.list.orders.first().map(|(order, _)| *order);
        let others = others.filter(|order| self.list.orders.iter().all(|(own, _)| own == order));
        let order = said.or(self.list.options.order).or_else(|| {
            self.list.assumed_order.extend(others.map(|_| self.row.line));
            others
        });
        if order.is_none() {
            self.list.unordered.push(self.row.line);
        }
        order
    }

    /// What makes an engineering value of a raw one.
    fn scale(&mut self, form: &mut Form, eu: &mut Option<String>) {
        if form.ty.is_text() || form.ty == Type::Bool {
            return;
        }
        let number = |column| decimal_of(self.cell(column));
        let raw = number(Column::RawLow).zip(number(Column::RawHigh));
        let value =
            number(Column::Low).zip(number(Column::High)).or_else(|| range_of(self.cell(Column::Range)));
        if let (Some(raw), Some(value)) = (raw, value)
            && raw.0 != raw.1
            && value.0 != value.1
        {
            form.linear = Some(Linear { raw, value }).filter(|_| raw != value);
            return;
        }
        for column in [Column::Factor, Column::Divisor] {
            let text = self.cell(column);
            if text.is_empty() {
                continue;
            }
            let found = number_and_rest(text).filter(|(number, _)| *number != Decimal::ZERO);
            let scale = found.and_then(|(number, rest)| {
                let scale = if column == Column::Divisor { number.inverse()? } else { number };
                Some((scale, rest))
            });
            match scale {
                Some((scale, rest)) => {
                    form.scale = scale;
                    if eu.is_none() && !rest.is_empty() {
                        *eu = Some(rest.to_string());
                    }
                    return;
                }
                None => {
                    self.remarks.push(format!("`{}` is not a factor: `{text}`", self.list.head_of(column)))
                }
            }
        }
    }

    fn range(&mut self) -> Option<(Decimal, Decimal)> {
        let cell = self.cell(Column::Range);
        let range = decimal_of(self.cell(Column::Low))
            .zip(decimal_of(self.cell(Column::High)))
            .or_else(|| range_of(cell));
        if range.is_none() && !cell.is_empty() && codes_of(cell, false).is_none() {
            self.remarks.push(format!("`{}` is not a range: `{cell}`", self.list.head_of(Column::Range)));
        }
        range.filter(|(low, high)| low.as_f64() < high.as_f64())
    }

    fn read_write(&mut self) -> bool {
        let text = self.cell(Column::Access);
        let (reads, writes) = match access_of(text) {
            Some(found) => found,
            None => {
                if !text.is_empty() {
                    self.remarks.push(format!("`{text}` is not an access: taken as read-only"));
                }
                (true, self.list.function_writes(self.row))
            }
        };
        if writes && !self.found.address.space.writable {
            let noun = self.found.address.space.noun;
            self.remarks.push(format!("the list says that it may be written, and no {noun} can be"));
            return false;
        }
        if writes && !reads {
            self.remarks.push("the list says that it may be written only: it may not be readable".into());
        }
        writes
    }

    /// Its name, and what stands beside it.
    fn name(&self) -> (String, Vec<String>) {
        let columns = [Column::Name, Column::Description, Column::Id];
        let own = columns.into_iter().find(|column| !self.cell(*column).is_empty());
        let name = own.map_or("", |column| self.cell(column)).to_string();
        let beside = [Column::Description, Column::Remark].into_iter().filter(|column| Some(*column) != own);
        let mut notes: Vec<String> =
            beside.map(|column| self.cell(column).to_string()).filter(|text| !text.is_empty()).collect();
        // What stands in brackets behind the access is a condition.
        if let Some((_, condition)) = self.cell(Column::Access).split_once('(') {
            notes.push(condition.trim_end_matches(')').trim().to_string());
        }
        (name, notes)
    }

    fn codes(&self) -> Option<ListedCodes> {
        let is_bits = self.list.head_of(Column::Values).to_lowercase().starts_with("bit");
        let columns = [Column::Values, Column::Range, Column::Description, Column::Remark, Column::Unit];
        columns
            .into_iter()
            .find_map(|column| codes_of(self.cell(column), is_bits && column == Column::Values))
    }

    /// The points of the row.
    pub(super) fn points(mut self) -> Result<Vec<ImportedPoint>, NoPoint> {
        if matches!(
            self.list.cell(self.row, Column::Access).to_lowercase().as_str(),
            "none" | "no" | "hidden"
        ) {
            return Err(NoPoint::Unread("the list says that others have no access to it".into()));
        }
        let head = self.list.columns();
        if self.row.cells().skip(head).any(|cell| !cell.is_empty()) {
            self.remarks.push(format!("the row has more cells than the header, which has {head}"));
        }
        let listed = self.listed_type()?;
        let is_raw = listed.form.is_some() && listed.ty.is_none();
        let ty = match listed.ty {
            _ if self.place.bits.is_some() => Some(Type::Bool),
            Some(ty) => Some(ty),
            None if is_raw => None,
            None => self.assumed_type()?,
        };
        let repeat = self.repeat(ty, listed.elements)?.filter(|(count, _)| *count > 1);
        if let Some((count, _)) = repeat.filter(|(count, _)| *count > caps::REPEATS) {
            return Err(NoPoint::Unread(format!(
                "it has {count} values, and a point has at most {}",
                caps::REPEATS
            )));
        }
        let codes = self.codes();
        let mut eu = Some(self.cell(Column::Unit)).filter(|text| !text.is_empty()).map(str::to_string);
        if matches!(&codes, Some(ListedCodes::Values(_)))
            && codes_of(self.cell(Column::Unit), false).is_some()
        {
            eu = None;
        }
        let mut form = None;
        if let Some(ty) = ty {
            let mut own = Form { order: self.order(ty, listed.order), ..Form::plain(ty) };
            match listed.form {
                // Written as the project file does: nothing is missing.
                Some(written) => own = Form { order: own.order, ..written },
                None => self.scale(&mut own, &mut eu),
            }
            form = Some(own);
        }
        let range = self.range().filter(|_| ty.is_none_or(|ty| ty != Type::Bool && !ty.is_text()));
        let read_write = self.read_write();
        let (name, notes) = self.name();
        let fallback = format!("line-{}", self.row.line);
        let note = Some(notes.join("; ")).filter(|note| !note.is_empty());
        let address = self.found.address.clone();
        let notation = self.list.dialect.notation();
        let (line, source) = (self.row.line, self.row.shown(self.list.sheet.delimiter, SHOWN_MAX));
        let width = ty.and_then(|ty| ty.width(address.space.grain).ok()).unwrap_or(1);
        let shown = |bit| notation.show(&address.space, address.first, width, bit, &Setup::default());
        let bits: Vec<(u8, String)> = match &codes {
            Some(ListedCodes::Bits(bits)) => bits.clone(),
            _ => vec![],
        };
        let mut found = vec![];
        if self.place.bits.is_none() {
            let own = self.list.given.name(&name, &fallback);
            let values = match codes {
                Some(ListedCodes::Values(values)) => values,
                _ => vec![],
            };
            let at = shown(address.bit);
            let remarks = std::mem::take(&mut self.remarks);
            found.push(ImportedPoint {
                line,
                name: own,
                at: at.canonical,
                offset: at.offset,
                form,
                eu,
                range,
                read_write,
                repeat,
                values,
                note,
                source: source.clone(),
                remarks,
            });
        }
        // Bits of one word: those of the range, and those that have a name.
        let wide = self.grain().cell_bytes() * 8;
        let is_word = address.bit.is_none()
            && wide > 8
            && ty.is_none_or(|ty| ty.bytes() == Some(2) || ty == Type::Bool);
        let range = self.place.bits.clone().into_iter().flatten();
        let mut all: Vec<(u8, Option<&str>)> =
            bits.iter().map(|(bit, word)| (*bit, Some(word.as_str()))).filter(|_| is_word).collect();
        all.extend(range.filter(|bit| bits.iter().all(|(own, _)| own != bit)).map(|bit| (bit, None)));
        all.sort_unstable();
        for (bit, word) in all.into_iter().filter(|(bit, _)| usize::from(*bit) < wide) {
            let own = word.map_or_else(|| format!("{name} {bit}"), |word| format!("{name} {word}"));
            let at = shown(Some(bit));
            let remarks = std::mem::take(&mut self.remarks);
            found.push(ImportedPoint {
                line,
                name: self.list.given.name(&own, &format!("{fallback}-{bit}")),
                at: at.canonical,
                offset: at.offset,
                form: Some(Form::plain(Type::Bool)),
                eu: None,
                range: None,
                read_write,
                repeat: None,
                values: vec![],
                note: None,
                source: source.clone(),
                remarks,
            });
        }
        Ok(found)
    }
}
