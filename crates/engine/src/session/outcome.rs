//! What became of a client's write, for the log.

use crate::shared::{Event, Shared, WriteRecord};
use std::sync::{Arc, Mutex, PoisonError};
use woodrush_core::Refusal;
use woodrush_core::protocol::refusal_shown;

/// What became of a client's write, for the log: told once, when the last part of it has ended.
pub(super) struct WriteOutcome {
    pub(super) shared: Arc<Shared>,
    pub(super) state: Mutex<(WriteRecord, Option<Refusal>, bool)>,
}

impl WriteOutcome {
    /// Some part of it was refused; the first refusal counts.
    pub(super) fn refused(&self, refusal: Refusal) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.1.get_or_insert(refusal);
    }

    /// All parts of it were begun, or its end is known.
    pub(super) fn complete(&self) {
        self.state.lock().unwrap_or_else(PoisonError::into_inner).2 = true;
    }
}

impl Drop for WriteOutcome {
    fn drop(&mut self) {
        let (record, refusal, complete) =
            self.state.get_mut().map_or_else(|poisoned| poisoned.into_inner().clone(), |state| state.clone());
        let outcome = match refusal {
            Some(Refusal { native: Some(native), .. }) => {
                format!("refused by the device: {}", refusal_shown(native))
            }
            Some(refusal) => format!("refused: {}", refusal.kind.words()),
            None if complete => "done".into(),
            None => "not known: the client went before it was done".into(),
        };
        self.shared.tell(Event::Written(Box::new(WriteRecord { outcome, ..record })));
    }
}
