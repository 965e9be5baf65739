//! A thread around a machine: how it begins, how it is woken, and how it ends.

use crate::port::wait::{wake, waker};
use rustix::fd::OwnedFd;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::mpsc::{Sender, channel};
use std::thread::JoinHandle;

/// Wakes a thread, and asks it to end.
#[derive(Clone)]
pub(crate) struct Bell {
    stop: Arc<AtomicBool>,
    waker: Arc<OwnedFd>,
}

impl Bell {
    fn new() -> std::io::Result<Self> {
        Ok(Self { stop: Arc::default(), waker: waker()? })
    }

    /// Wakes the thread from its wait.
    pub(crate) fn ring(&self) {
        wake(&self.waker);
    }

    /// Whether the thread is to end.
    pub(crate) fn is_ending(&self) -> bool {
        self.stop.load(Relaxed)
    }

    /// Readable once it has been rung: what the thread waits for, beside its own descriptors.
    pub(crate) fn fd(&self) -> &OwnedFd {
        &self.waker
    }
}

/// A thread at work; dropping it asks the thread to end, and waits until it has.
pub(crate) struct Worker {
    bell: Bell,
    thread: Option<JoinHandle<()>>,
}

impl Worker {
    /// Wakes it.
    pub(crate) fn ring(&self) {
        self.bell.ring();
    }
}

impl Drop for Worker {
    fn drop(&mut self) {
        self.bell.stop.store(true, Relaxed);
        self.bell.ring();
        if let Some(thread) = self.thread.take() {
            // A panic there has been printed already.
            let _ = thread.join();
        }
    }
}

/// A thread that waits for its work. It is had before anything is changed, so that nothing can fail afterwards.
pub(crate) struct IdleWorker {
    // Dropped first: the thread ends when nobody can give it work any more.
    work: Sender<Box<dyn FnOnce() + Send>>,
    worker: Worker,
}

impl IdleWorker {
    /// A thread of that name.
    ///
    /// # Errors
    /// The system has no thread or descriptor left.
    pub(crate) fn new(name: &str) -> std::io::Result<Self> {
        let bell = Bell::new()?;
        let (work, given) = channel::<Box<dyn FnOnce() + Send>>();
        let wait = move || {
            if let Ok(work) = given.recv() {
                work();
            }
        };
        let thread = std::thread::Builder::new().name(name.into()).spawn(wait)?;
        Ok(Self { work, worker: Worker { bell, thread: Some(thread) } })
    }

    /// By which it will be woken.
    pub(crate) fn bell(&self) -> Bell {
        self.worker.bell.clone()
    }

    /// Gives it its work.
    pub(crate) fn begin(self, work: impl FnOnce() + Send + 'static) -> Worker {
        // It waits for nothing else.
        let _ = self.work.send(Box::new(work));
        self.worker
    }
}
