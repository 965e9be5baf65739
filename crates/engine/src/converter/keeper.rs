//! Looking for connections of clients that have gone silent.

use super::serve::Serving;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

/// How often silent connections are looked for.
const SWEEP: Duration = Duration::from_millis(500);

/// The thread that looks for silent connections. A timer in the runtime would cost every exchange a little, for
/// something that is looked at twice a second.
pub(super) struct Keeper {
    stop: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

impl Keeper {
    pub(super) fn spawn(served: &Arc<Mutex<Vec<Arc<Serving>>>>) -> Self {
        let stop = Arc::new(AtomicBool::new(false));
        let (asked, served) = (Arc::clone(&stop), Arc::clone(served));
        let look = move || {
            while !asked.load(Relaxed) {
                std::thread::park_timeout(SWEEP);
                let served = served.lock().unwrap_or_else(PoisonError::into_inner).clone();
                served.iter().for_each(|serving| serving.sweep());
            }
        };
        // Without the thread silent connections stay, which the limit of clients bounds.
        let thread = std::thread::Builder::new().name("keeper".into()).spawn(look).ok();
        Self { stop, thread }
    }
}

impl Drop for Keeper {
    fn drop(&mut self) {
        self.stop.store(true, Relaxed);
        if let Some(thread) = self.thread.take() {
            thread.thread().unpark();
            // A panic there has been printed already.
            let _ = thread.join();
        }
    }
}
