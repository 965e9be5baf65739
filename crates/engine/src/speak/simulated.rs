//! What simulated devices work out by themselves, and what the other end of a link that answers for all of them must know.

use crate::Moment;
use std::sync::Arc;
use woodrush_core::Refusal;
use woodrush_core::project::{DeviceFaults, Line};
use woodrush_core::protocol::{Extent, Setup, Spaces};

/// The cells of a simulated device.
pub trait Memory {
    /// Cells as they are; `None` where some do not exist.
    fn get(&self, extent: Extent) -> Option<Vec<u8>>;
    /// Puts cells where they belong.
    fn put(&mut self, extent: Extent, cells: &[u8]);
}

/// What a simulated device measures: what moves there, moves it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Measured {
    /// Where.
    pub extent: Extent,
    /// Between which values it moves where nobody says otherwise.
    pub range: (f64, f64),
}

/// What a simulated device works out by itself.
pub trait Behaviour: Send {
    /// Lets the cells be as they are at its start.
    fn begin(&mut self, _memory: &mut dyn Memory) {}
    /// What it measures.
    fn measures(&self, _memory: &dyn Memory) -> Vec<Measured> {
        vec![]
    }
    /// Whether cells are worked out, so that nothing else moves them.
    fn computes(&self, _extent: Extent) -> bool {
        false
    }
    /// Works out what it works out, as it is at that moment.
    fn advance(&mut self, _now: Moment, _faults: &DeviceFaults, _memory: &mut dyn Memory) {}
    /// Whether it takes a write.
    ///
    /// # Errors
    /// It does not, and why.
    fn may_write(
        &self,
        extent: Extent,
        cells: &[u8],
        faults: &DeviceFaults,
        memory: &dyn Memory,
    ) -> Result<(), Refusal>;
    /// It was written there; what the device is on its line from now on, where that changes it.
    fn wrote(&mut self, extent: Extent, memory: &mut dyn Memory) -> Option<OnItsLine>;
}

/// How a device is reached on its line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct OnItsLine {
    /// The key of its number and the number; `None` where its protocol has none.
    pub number: Option<(&'static str, u32)>,
    /// What its line is set to; `None` is whatever the line is.
    pub line: Option<Line>,
}

/// A device that another end of its link answers for.
#[derive(Debug, Clone, Default)]
pub struct ServedDevice {
    /// Keys of its protocol.
    pub setup: Setup,
    /// Its tables, by the index that a want names.
    pub spaces: Arc<Spaces>,
    /// What goes wrong with it.
    pub faults: DeviceFaults,
}
