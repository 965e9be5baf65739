//! What became of a client's write, for the log.

use crate::shared::{Event, Shared, WriteRecord};
use std::sync::{Arc, Mutex, PoisonError};
use woodrush_core::Refusal;
use woodrush_core::protocol::refusal_shown;

/// How a write has ended, as the write log has it.
#[must_use]
pub(crate) fn ended(refusal: Option<&Refusal>) -> String {
    let Some(refusal) = refusal else { return "done".into() };
    let why = refusal.native.map_or_else(|| refusal.words().to_string(), refusal_shown);
    match (refusal.outcome_unknown, refusal.native) {
        (true, _) => format!("not known whether it was done: {why}"),
        (false, Some(_)) => format!("refused by the device: {why}"),
        (false, None) => format!("refused: {why}"),
    }
}

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
            None if !complete => "not known: the client went before it was done".into(),
            refusal => ended(refusal.as_ref()),
        };
        self.shared.tell(Event::Written(Box::new(WriteRecord { outcome, ..record })));
    }
}
