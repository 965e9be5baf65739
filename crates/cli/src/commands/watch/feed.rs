//! Where values come from: a running converter here, or one elsewhere by its monitor.

use crate::Failure;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};
use woodrush_engine::control::Remote;
use woodrush_engine::monitor::{Values, fetch_values};

/// The message when the converter no longer answers.
pub(super) const ENDED: &str = "the converter has ended";

/// Who is asked.
#[derive(Clone)]
pub(super) enum Feed {
    Here(Remote),
    Elsewhere(SocketAddr),
}

impl Feed {
    /// Where it is, for people.
    pub(super) fn shown(&self) -> String {
        match self {
            Self::Here(_) => "running here".into(),
            Self::Elsewhere(at) => format!("running at {at}"),
        }
    }

    /// What rules carry now.
    pub(super) fn look(&self) -> Result<Values, String> {
        match self {
            Self::Elsewhere(at) => fetch_values(*at).map_err(|error| format!("no values from {at}: {error}")),
            Self::Here(remote) => {
                let answer = remote.say("values", &[]).map_err(|_| ENDED.to_string())?;
                let data = answer.data.ok_or(answer.said)?;
                serde_json::from_value(data)
                    .map_err(|_| "its values are not understood: is it another version?".into())
            }
        }
    }

    /// Looks at once; then again and again in a thread of its own, no more often than every `every`, and never busy for
    /// more than a fifth of the time.
    pub(super) fn follow(self, every: Duration) -> Result<(Values, Following), Failure> {
        let first = self.look().map_err(Failure::Outside)?;
        let (sender, looks) = channel();
        let stop = Arc::new(AtomicBool::new(false));
        let asked = Arc::clone(&stop);
        let thread = std::thread::Builder::new().name("feed".into()).spawn(move || {
            let mut pause = every;
            while !asked.load(Relaxed) {
                nap(pause, &asked);
                #[allow(clippy::disallowed_methods, reason = "a command that keeps time for a person")]
                let began = Instant::now();
                let look = self.look();
                pause = every.max(began.elapsed() * 4);
                if sender.send(look).is_err() {
                    return;
                }
            }
        });
        thread.map_err(|error| Failure::Outside(format!("no thread: {error}")))?;
        Ok((first, Following { looks, stop }))
    }
}

/// Naps in small pieces, so that the end is heard in time.
fn nap(time: Duration, stop: &AtomicBool) {
    let mut left = time;
    while !left.is_zero() && !stop.load(Relaxed) {
        let piece = left.min(Duration::from_millis(100));
        super::super::rig::nap(piece);
        left -= piece;
    }
}

/// Looks as they come; dropping it ends them.
pub(super) struct Following {
    looks: Receiver<Result<Values, String>>,
    stop: Arc<AtomicBool>,
}

impl Following {
    /// The latest look, where there is a new one.
    pub(super) fn latest(&self) -> Option<Result<Values, String>> {
        self.looks.try_iter().last()
    }
}

impl Drop for Following {
    fn drop(&mut self) {
        self.stop.store(true, Relaxed);
    }
}
