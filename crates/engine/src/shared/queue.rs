//! Clients' writes on their way to a port: bounded, handed over between threads.

use crate::image::DeviceWrite;
use std::collections::VecDeque;
use std::sync::{Mutex, MutexGuard, PoisonError};
use woodrush_core::{Blame, Kind, Refusal};

/// Most writes that wait for one port; beyond, the client is told that the path is not available.
const WAITING_MAX: usize = 256;

/// Called with how it ended, once.
pub type Reply = Box<dyn FnOnce(Result<(), Refusal>) + Send>;

/// One write for a device, and who waits for its end.
pub struct WriteJob {
    /// What is written where.
    pub write: DeviceWrite,
    /// Told how it ended.
    pub reply: Reply,
}

/// The queue of one port.
pub struct LineQueue {
    jobs: Mutex<VecDeque<WriteJob>>,
    wake: Mutex<Option<Box<dyn Fn() + Send + Sync>>>,
}

impl Default for LineQueue {
    fn default() -> Self {
        Self { jobs: Mutex::new(VecDeque::new()), wake: Mutex::new(None) }
    }
}

impl LineQueue {
    fn jobs(&self) -> MutexGuard<'_, VecDeque<WriteJob>> {
        self.jobs.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Sets what wakes the port's driver.
    pub fn set_wake(&self, wake: impl Fn() + Send + Sync + 'static) {
        *self.wake.lock().unwrap_or_else(PoisonError::into_inner) = Some(Box::new(wake));
    }

    /// Adds a write; when the queue is full its client is refused at once.
    pub fn push(&self, job: WriteJob) {
        let mut jobs = self.jobs();
        if jobs.len() >= WAITING_MAX {
            drop(jobs);
            return (job.reply)(Err(Refusal::new(Kind::NoPath, Blame::Us)));
        }
        jobs.push_back(job);
        drop(jobs);
        if let Some(wake) = &*self.wake.lock().unwrap_or_else(PoisonError::into_inner) {
            wake();
        }
    }

    /// The write that has waited longest.
    pub fn take(&self) -> Option<WriteJob> {
        self.jobs().pop_front()
    }
}
