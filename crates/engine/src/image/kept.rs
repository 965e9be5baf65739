//! What devices are known to hold of that which rules keep in them: what they confirmed last, and nothing else. A device
//! that was away may have forgotten all of it.

use std::collections::HashMap;
use std::sync::{Mutex, MutexGuard, PoisonError};
use woodrush_core::protocol::Extent;

/// What all devices are known to hold, by the index of the plan.
#[derive(Debug, Default)]
pub(crate) struct Kept {
    devices: Vec<Mutex<Known>>,
}

#[derive(Debug, Default)]
struct Known {
    /// By rule and grain: the cell that the device confirmed; one bit of it as 0 or 1.
    cells: HashMap<(u32, u32), Box<[u8]>>,
    /// Writes of clients on their way, by rule: while there are any, nothing is sent beside them.
    under_way: HashMap<u32, u32>,
}

impl Kept {
    pub(crate) fn new(devices: usize) -> Self {
        Self { devices: (0..devices).map(|_| Mutex::default()).collect() }
    }

    fn of(&self, device: usize) -> Option<MutexGuard<'_, Known>> {
        Some(self.devices.get(device)?.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// The device has confirmed to hold these cells of a rule; of one bit, its 0 or 1.
    pub(crate) fn confirm(&self, device: usize, rule: u32, extent: Extent, cells: &[u8]) {
        let Some(mut known) = self.of(device) else { return };
        let each = (cells.len() / extent.count.max(1) as usize).max(1);
        for (grain, cell) in (extent.first..extent.end()).zip(cells.chunks(each)) {
            known.cells.insert((rule, grain), cell.into());
        }
    }

    /// What the device holds of these cells is not known any more: a write of them was not confirmed.
    pub(crate) fn doubt(&self, device: usize, rule: u32, extent: Extent) {
        let Some(mut known) = self.of(device) else { return };
        for grain in extent.first..extent.end() {
            known.cells.remove(&(rule, grain));
        }
    }

    /// Whether the device is known to hold these cells.
    pub(crate) fn holds(&self, device: usize, rule: u32, extent: Extent, cells: &[u8]) -> bool {
        let Some(known) = self.of(device) else { return false };
        let each = (cells.len() / extent.count.max(1) as usize).max(1);
        let mut pairs = (extent.first..extent.end()).zip(cells.chunks(each));
        pairs.all(|(grain, cell)| known.cells.get(&(rule, grain)).is_some_and(|own| **own == *cell))
    }

    /// The device was away: what it holds now is not known.
    pub(crate) fn forget(&self, device: usize) {
        if let Some(mut known) = self.of(device) {
            known.cells.clear();
        }
    }

    /// What is known of a device in another project, where it is number `other`; `rule` says which of the rules here each
    /// one is.
    pub(crate) fn adopt(&self, device: usize, old: &Self, other: usize, rule: impl Fn(u32) -> Option<u32>) {
        let (Some(mut own), Some(known)) = (self.of(device), old.of(other)) else { return };
        for ((before, grain), cell) in &known.cells {
            if let Some(rule) = rule(*before) {
                own.cells.insert((rule, *grain), cell.clone());
            }
        }
    }

    /// A client's write of a rule is on its way.
    pub(crate) fn begin(&self, device: usize, rule: u32) {
        if let Some(mut known) = self.of(device) {
            *known.under_way.entry(rule).or_default() += 1;
        }
    }

    /// A client's write of a rule has ended, however it did.
    pub(crate) fn end(&self, device: usize, rule: u32) {
        let Some(mut known) = self.of(device) else { return };
        if let Some(count) = known.under_way.get_mut(&rule) {
            *count = count.saturating_sub(1);
            if *count == 0 {
                known.under_way.remove(&rule);
            }
        }
    }

    /// Whether writes of clients are on their way for a rule.
    pub(crate) fn is_under_way(&self, device: usize, rule: u32) -> bool {
        self.of(device).is_some_and(|known| known.under_way.contains_key(&rule))
    }
}
