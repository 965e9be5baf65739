//! The project that runs now, and how a changed one takes its place while ports and connections stay.

use super::Shared;
use std::sync::atomic::{
    AtomicU64,
    Ordering::{Acquire, Release},
};
use std::sync::{Arc, PoisonError, RwLock};

/// What runs now. A holder of an older [`Shared`] sees by the generation that there is a newer one.
pub struct Site {
    current: RwLock<Arc<Shared>>,
    generation: AtomicU64,
}

impl Site {
    /// With the first project.
    #[must_use]
    pub fn new(shared: Arc<Shared>) -> Arc<Self> {
        Arc::new(Self { current: RwLock::new(shared), generation: AtomicU64::new(0) })
    }

    /// What runs now.
    #[must_use]
    pub fn current(&self) -> Arc<Shared> {
        Arc::clone(&self.current.read().unwrap_or_else(PoisonError::into_inner))
    }

    /// Counts up with each change; cheap enough to be looked at before every answer.
    #[must_use]
    pub fn generation(&self) -> u64 {
        self.generation.load(Acquire)
    }

    /// Puts a changed project in place of the one that runs.
    pub(crate) fn replace(&self, shared: Arc<Shared>) {
        *self.current.write().unwrap_or_else(PoisonError::into_inner) = shared;
        self.generation.fetch_add(1, Release);
    }
}
