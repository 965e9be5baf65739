//! Ctrl-C and SIGTERM: asked for, so that ptys and sockets are closed in order. SIGHUP: whatever its hearer makes of it.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use tokio::signal::unix::{SignalKind, signal};

/// Hears that the program shall end.
pub struct Stop {
    asked: Arc<AtomicBool>,
    hung_up: Arc<AtomicBool>,
    _runtime: tokio::runtime::Runtime,
}

impl Stop {
    /// Listens from now on; the default end of the program by a signal is off.
    ///
    /// # Errors
    /// The system gives no signals.
    pub fn listen() -> std::io::Result<Self> {
        Self::hear(false)
    }

    /// The same for a command that ends with its terminal: SIGHUP asks for the end too.
    ///
    /// # Errors
    /// The system gives no signals.
    pub fn with_terminal() -> std::io::Result<Self> {
        Self::hear(true)
    }

    fn hear(with_terminal: bool) -> std::io::Result<Self> {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_io().build()?;
        let (asked, hung_up) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicBool::new(false)));
        let _inside = runtime.enter();
        for (kind, flag) in [
            (SignalKind::interrupt(), &asked),
            (SignalKind::terminate(), &asked),
            (SignalKind::hangup(), if with_terminal { &asked } else { &hung_up }),
        ] {
            let mut heard = signal(kind)?;
            let asked = Arc::clone(flag);
            runtime.spawn(async move {
                while heard.recv().await.is_some() {
                    asked.store(true, Relaxed);
                }
            });
        }
        drop(_inside);
        Ok(Self { asked, hung_up, _runtime: runtime })
    }

    /// Whether the end was asked for.
    #[must_use]
    pub fn is_asked(&self) -> bool {
        self.asked.load(Relaxed)
    }

    /// Whether there was a SIGHUP since the last look.
    #[must_use]
    pub fn hung_up(&self) -> bool {
        self.hung_up.swap(false, Relaxed)
    }
}
