//! One end of a rule: how its cells are read, and how they are shown.

use serde::Serialize;
use woodrush_core::form::{Form, hex_words};
use woodrush_core::names::value_of;
use woodrush_core::plan::Station;
use woodrush_core::protocol::{Dialect, Grain, Place, Space};

/// How the cells of one end are read.
#[derive(Debug, Clone)]
pub(super) struct End {
    form: Form,
    /// Bytes of one value's cells.
    width: usize,
    count: u32,
    bit: Option<u8>,
    /// Cells are bits, one byte each.
    bits: bool,
    eu: Option<String>,
    /// What says what its numbers mean in words, the space, and the first value's place there.
    meant: Option<(&'static dyn Dialect, Space, u32)>,
}

impl End {
    pub(super) fn new(station: &Station, place: Place, form: Form, eu: Option<String>) -> Option<Self> {
        let space = station.space_at(place.space)?;
        let grain = space.grain;
        let meant = station.dialect.map(|dialect| (dialect, space.clone(), place.first));
        let width = place.width as usize * grain.cell_bytes();
        let bits = grain == Grain::Bit;
        Some(Self { form, width, count: place.count, bit: place.bit, bits, eu, meant })
    }

    fn each<'c>(&self, cells: &'c [u8]) -> impl Iterator<Item = &'c [u8]> {
        cells.chunks(self.width.max(1)).take(self.count as usize)
    }

    fn raw(&self, cells: &[u8]) -> Vec<String> {
        let one = |cells: &[u8]| match self.bits {
            true => cells.iter().map(ToString::to_string).collect(),
            false => hex_words(cells),
        };
        self.each(cells).map(one).collect()
    }

    fn words(&self, cells: &[u8]) -> Option<String> {
        let (dialect, space, first) = self.meant.as_ref().filter(|_| self.bit.is_none())?;
        dialect.notation().meanings().words(space, *first, cells)
    }

    fn values(&self, cells: &[u8]) -> Vec<String> {
        let one = |cells: &[u8]| {
            let value = value_of(&self.form, self.bit, cells).unwrap_or_else(|| "no value".into());
            match self.words(cells) {
                Some(words) => format!("{value} ({words})"),
                None => value,
            }
        };
        self.each(cells).map(one).collect()
    }
}

/// One end of a rule as it is shown.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub(super) struct ShownEnd {
    pub(super) raw: Vec<String>,
    #[serde(serialize_with = "woodrush_core::shown::many")]
    pub(super) values: Vec<String>,
    pub(super) eu: Option<String>,
}

pub(super) fn shown(end: Option<&End>, cells: Option<&[u8]>) -> Option<ShownEnd> {
    let (end, cells) = (end?, cells?);
    Some(ShownEnd { raw: end.raw(cells), values: end.values(cells), eu: end.eu.clone() })
}
