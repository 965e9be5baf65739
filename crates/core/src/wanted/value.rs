//! Values as people read and write them.

use super::Wanted;
use crate::cells::{all_but, cells_of, set_bit};
use crate::form::{Conversion, Form, Overflow, Type, Value, hex_words};
use crate::protocol::{Meanings, ShownAddress as Address, ShownMember, Space};

/// One value that was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ShownValue {
    /// Where it lies.
    pub address: Address,
    /// Its cells as they came, as words in hex; a bit as 0 or 1.
    pub raw: String,
    /// The value; `None` where the bits mean none.
    pub value: Option<String>,
    /// What it says in words, where it is more than a number.
    pub words: Option<String>,
}

impl Wanted {
    /// Where one of the values lies, in canonical notation and as offset.
    #[must_use]
    pub fn address(&self, item: u32) -> Address {
        let extent = self.place.item(item);
        match (self.station.dialect, self.station.space_at(extent.space)) {
            (Some(dialect), Some(space)) => dialect.notation().show(
                space,
                extent.first,
                self.place.width,
                self.place.bit,
                &self.station.setup,
            ),
            _ => Address { canonical: self.written.clone(), offset: String::new(), hex: String::new() },
        }
    }

    /// All values out of all cells.
    #[must_use]
    pub fn values(&self, cells: &[u8]) -> Vec<ShownValue> {
        if let Some(members) = self.members(cells) {
            return members;
        }
        let bytes = self.place.width as usize * self.each();
        let items = (0..self.place.count).zip(cells.chunks(bytes.max(1)));
        items.map(|(item, cells)| self.value(item, cells)).collect()
    }

    fn value(&self, item: u32, cells: &[u8]) -> ShownValue {
        let own = cells_of(self.place.bit, cells);
        let bit = self.each() == 1 && self.form.ty == Type::Bool && self.place.bit.is_none();
        let raw = if bit { own.iter().map(ToString::to_string).collect() } else { hex_words(cells) };
        let value = Conversion::shown(&self.form, &own);
        ShownValue { address: self.address(item), raw, value, words: self.words(item, cells) }
    }

    fn meanings(&self) -> Option<(&dyn Meanings, &Space)> {
        Some((self.station.dialect?.notation().meanings(), self.station.space_at(self.place.space)?))
    }

    fn words(&self, item: u32, cells: &[u8]) -> Option<String> {
        let (meanings, space) = self.meanings().filter(|_| self.place.bit.is_none())?;
        meanings.words(space, self.place.item(item).first, cells)
    }

    /// The members of a whole, one after the other; `None` where it is a value.
    fn members(&self, cells: &[u8]) -> Option<Vec<ShownValue>> {
        let (meanings, space) = self.meanings().filter(|_| self.is_whole)?;
        let member = |own: ShownMember| {
            let each = space.grain.cell_bytes();
            let (first, end) = (own.first as usize * each, (own.first + own.count) as usize * each);
            let notation = self.station.dialect?.notation();
            Some(ShownValue {
                address: notation.show(space, own.first, own.count, None, &self.station.setup),
                raw: hex_words(cells.get(first..end)?),
                value: Some(own.shown),
                words: None,
            })
        };
        Some(meanings.members(space, cells).into_iter().filter_map(member).collect())
    }

    /// The number that cells mean, for comparing; `None` for text and what means none.
    #[must_use]
    pub fn number(&self, cells: &[u8]) -> Option<f64> {
        let mut out = [0; 8];
        let from = Conversion { from: self.form, to: Form::plain(Type::F64), overflow: Overflow::Refuse };
        let number = from.convert(cells, &mut out).ok().map(|()| f64::from_be_bytes(out))?;
        number.is_finite().then_some(number)
    }

    /// The cells of one value as a person writes it: a number, `on` or `off`, text, or `0x` and the raw value in hex.
    ///
    /// # Errors
    /// It is no such value, or does not fit, in words.
    pub fn cells(&self, text: &str) -> Result<Vec<u8>, String> {
        let in_words = self.meanings().filter(|_| self.place.bit.is_none() && !text.starts_with("0x"));
        if let Some((meanings, space)) = in_words
            && let Some(cells) = meanings.cells_of_words(space, self.place.first, text)
        {
            return cells;
        }
        let form = &self.form;
        let bit = self.place.bit.is_some();
        let bytes = if bit { 1 } else { self.place.width as usize * self.each() };
        let mut cells = vec![0; bytes];
        let no_fit = || format!("`{text}` does not fit `{form}`");
        if form.ty == Type::Bool {
            let last = cells.len() - 1;
            let on = match text.to_lowercase().as_str() {
                "1" | "on" | "true" => 1,
                "0" | "off" | "false" => 0,
                _ => return Err(format!("`{text}` is not a state of a bit (write 1 or 0)")),
            };
            cells.get_mut(last).into_iter().for_each(|cell| *cell = on);
            return Ok(cells);
        }
        let raw = match (text.strip_prefix("0x"), form.ty) {
            (_, Type::Text(_)) => Some(Value::Text(text.as_bytes().to_vec())),
            (Some(hex), _) => {
                let number = u64::from_str_radix(&hex.replace(['_', ' '], ""), 16);
                let number = number.map_err(|_| format!("`{text}` is not a number in hex"))?;
                return self.raw_cells(number, cells).ok_or_else(no_fit);
            }
            (None, Type::Raw) => {
                let number = text.parse::<u64>().map_err(|_| format!("`{text}` is not a raw word"))?;
                return self.raw_cells(number, cells).ok_or_else(no_fit);
            }
            // Whole numbers as they are: the way through a fraction would bend the largest.
            (None, _) if !form.is_scaled() => text.parse::<i128>().ok().map(Value::Whole),
            _ => None,
        };
        if let Some(raw) = raw {
            if !raw.write(form.ty, &mut cells) {
                return Err(no_fit());
            }
            form.order().apply(&mut cells);
            return Ok(cells);
        }
        let number: f64 = text.parse().map_err(|_| format!("`{text}` is not a number"))?;
        let plain = Form::plain(Type::F64);
        let way = Conversion { from: plain, to: *form, overflow: Overflow::Refuse };
        way.convert(&number.to_be_bytes(), &mut cells).map_err(|()| no_fit())?;
        Ok(cells)
    }

    /// The bits as they are, in the form's order.
    fn raw_cells(&self, number: u64, mut cells: Vec<u8>) -> Option<Vec<u8>> {
        let all = number.to_be_bytes();
        let used = cells.len().min(8);
        let (high, low) = all.split_at(8 - used);
        if high.iter().any(|byte| *byte != 0) {
            return None;
        }
        let from = cells.len() - used;
        cells.get_mut(from..)?.copy_from_slice(low);
        self.form.order().apply(&mut cells);
        Some(cells)
    }

    /// What changes one bit of a grain: the bits that stay, and the new ones. `None` where whole grains are written.
    #[must_use]
    pub fn bit_change(&self, on: bool) -> Option<(Vec<u8>, Vec<u8>)> {
        let bit = self.place.bit?;
        let each = self.each();
        let mut set = vec![0; each];
        set_bit(&mut set, bit, on);
        (usize::from(bit) < each * 8).then(|| (all_but(each, bit), set))
    }
}
