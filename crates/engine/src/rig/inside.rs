//! What a simulated device holds, whichever of its connections is used: cells, what moves them, and what goes wrong.

use super::signal::Generator;
use crate::speak::{Behaviour, Memory};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use woodrush_core::form::Form;
use woodrush_core::plan::Station;
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

/// The cells of one grain.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Cell {
    /// Up to eight bytes as one number: nearly all of them.
    Number(u64),
    /// More: a text.
    Long(Box<[u8]>),
}

impl Cell {
    /// Nothing but zeros, of that many bytes.
    pub(super) fn zero(each: usize) -> Self {
        if each > 8 { Self::Long(vec![0; each].into()) } else { Self::Number(0) }
    }

    fn of(cells: &[u8]) -> Self {
        match cells.len() {
            0..=8 => Self::Number(cells.iter().fold(0, |sum, byte| sum << 8 | u64::from(*byte))),
            _ => Self::Long(cells.into()),
        }
    }

    fn put(&self, each: usize, out: &mut Vec<u8>) {
        match self {
            Self::Number(number) => {
                let bytes = number.to_be_bytes();
                out.extend_from_slice(bytes.get(bytes.len().saturating_sub(each)..).unwrap_or_default());
            }
            Self::Long(bytes) => out.extend_from_slice(bytes),
        }
    }

    fn set_bit(&mut self, bit: u8, on: bool) {
        if let Self::Number(number) = self {
            *number = *number & !(1 << bit) | u64::from(on) << bit;
        }
    }
}

#[derive(Default)]
pub(super) struct Inside {
    pub(super) ailment: DeviceFaults,
    /// By space: the grains that exist.
    pub(super) memory: Vec<BTreeMap<u32, Cell>>,
    pub(super) driven: Vec<MovedValues>,
    /// Writes that it took.
    pub(super) written: u64,
    /// What it works out by itself.
    pub(super) behaviour: Option<Box<dyn Behaviour>>,
}

/// The cells of a device, for what it works out by itself.
struct DeviceMemory<'a> {
    inside: &'a mut Inside,
    station: &'a Station,
}

impl DeviceMemory<'_> {
    fn each(&self, extent: Extent) -> usize {
        self.station.space_at(extent.space).map_or(1, |space| space.grain.cell_bytes())
    }
}

impl Memory for DeviceMemory<'_> {
    fn get(&self, extent: Extent) -> Option<Vec<u8>> {
        self.inside.peek(self.each(extent), extent)
    }

    fn put(&mut self, extent: Extent, cells: &[u8]) {
        self.inside.poke(self.each(extent), extent, cells);
    }
}

impl Inside {
    /// Its cells, for what works something out of them.
    pub(super) fn cells<'a>(&'a mut self, station: &'a Station) -> impl Memory + 'a {
        DeviceMemory { inside: self, station }
    }

    /// Lets what the device works out by itself do something with its cells; `None` where it works nothing out.
    pub(super) fn behave<T>(
        &mut self,
        station: &Station,
        act: impl FnOnce(&mut dyn Behaviour, &DeviceFaults, &mut dyn Memory) -> T,
    ) -> Option<T> {
        let mut behaviour = self.behaviour.take()?;
        let faults = self.ailment;
        let done = act(behaviour.as_mut(), &faults, &mut DeviceMemory { inside: self, station });
        self.behaviour = Some(behaviour);
        Some(done)
    }

    pub(super) fn poke(&mut self, each: usize, extent: Extent, cells: &[u8]) {
        let Some(memory) = self.memory.get_mut(extent.space.index()) else { return };
        for (grain, cell) in (extent.first..extent.end()).zip(cells.chunks(each)) {
            memory.insert(grain, Cell::of(cell));
        }
    }

    pub(super) fn peek(&self, each: usize, extent: Extent) -> Option<Vec<u8>> {
        let memory = self.memory.get(extent.space.index())?;
        let mut cells = Vec::with_capacity(extent.count as usize * each);
        for grain in extent.first..extent.end() {
            memory.get(&grain)?.put(each, &mut cells);
        }
        Some(cells)
    }

    /// Puts a value, or one bit, where it belongs.
    pub(super) fn store(&mut self, each: usize, spot: &Spot, cells: &[u8]) {
        match spot.bit {
            None => self.poke(each, spot.extent, cells),
            Some(bit) => {
                let Some(memory) = self.memory.get_mut(spot.extent.space.index()) else { return };
                let on = cells.first().is_some_and(|cell| *cell != 0);
                memory.entry(spot.extent.first).or_insert_with(|| Cell::zero(each)).set_bit(bit, on);
            }
        }
    }
}
