//! That a client's write is on its way to a device: while it is, nothing is sent beside it.

use crate::image::Kept;
use std::sync::Arc;

/// Counts a write as under way at its device until it is dropped.
pub(crate) struct OnTheWay {
    kept: Arc<Kept>,
    device: usize,
    rule: u32,
}

impl OnTheWay {
    /// A write of this rule is on its way to that device.
    pub(crate) fn new(kept: &Arc<Kept>, device: usize, rule: u32) -> Self {
        kept.begin(device, rule);
        Self { kept: Arc::clone(kept), device, rule }
    }
}

impl Drop for OnTheWay {
    fn drop(&mut self) {
        self.kept.end(self.device, self.rule);
    }
}
