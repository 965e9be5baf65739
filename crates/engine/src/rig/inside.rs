//! What a simulated device holds, whichever of its connections is used: cells, what moves them, and what goes wrong.

use super::signal::Generator;
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use woodrush_core::form::Form;
use woodrush_core::project::DeviceFaults;
use woodrush_core::protocol::{Extent, SpaceId};

/// Values in a row that one signal moves.
pub(super) struct MovedValues {
    pub(super) space: SpaceId,
    pub(super) first: u32,
    pub(super) width: u32,
    pub(super) count: u32,
    pub(super) bit: Option<u8>,
    pub(super) form: Form,
    pub(super) generator: Generator,
}

impl MovedValues {
    pub(super) fn overlaps(&self, extent: Extent) -> bool {
        self.space == extent.space
            && self.first < extent.end()
            && extent.first < self.first + self.width * self.count
    }
}

/// A place in a device that a person names, with its form.
#[derive(Debug, Clone)]
pub struct Spot {
    /// Where.
    pub extent: Extent,
    /// One bit of it.
    pub bit: Option<u8>,
    /// In which form.
    pub form: Form,
}

/// What all connections of one device share.
pub(super) type Body = Arc<Mutex<Inside>>;

#[derive(Default)]
pub(super) struct Inside {
    pub(super) ailment: DeviceFaults,
    /// By space: the grains that exist, with their cells as one number.
    pub(super) memory: Vec<BTreeMap<u32, u64>>,
    pub(super) driven: Vec<MovedValues>,
    /// Writes that it took.
    pub(super) written: u64,
}

impl Inside {
    pub(super) fn poke(&mut self, each: usize, extent: Extent, cells: &[u8]) {
        let Some(memory) = self.memory.get_mut(extent.space.index()) else { return };
        for (grain, cell) in (extent.first..extent.end()).zip(cells.chunks(each)) {
            memory.insert(grain, cell.iter().fold(0, |sum, byte| sum << 8 | u64::from(*byte)));
        }
    }

    pub(super) fn peek(&self, each: usize, extent: Extent) -> Option<Vec<u8>> {
        let memory = self.memory.get(extent.space.index())?;
        let mut cells = Vec::with_capacity(extent.count as usize * each);
        for grain in extent.first..extent.end() {
            let value = memory.get(&grain)?.to_be_bytes();
            cells.extend_from_slice(value.get(8 - each..)?);
        }
        Some(cells)
    }

    /// Puts a value, or one bit, where it belongs.
    pub(super) fn store(&mut self, each: usize, spot: &Spot, cells: &[u8]) {
        match spot.bit {
            None => self.poke(each, spot.extent, cells),
            Some(bit) => {
                let Some(memory) = self.memory.get_mut(spot.extent.space.index()) else { return };
                let word = memory.entry(spot.extent.first).or_insert(0);
                let on = cells.first().is_some_and(|cell| *cell != 0);
                *word = *word & !(1 << bit) | u64::from(on) << bit;
            }
        }
    }
}
