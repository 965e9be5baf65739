//! Waiting for a key, and seeing that their terminal has gone: some readers of keys never come back from that.

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use std::time::Duration;

/// What the keyboard does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Keyboard {
    /// Nothing was typed.
    Quiet,
    /// Something was typed.
    Typed,
    /// The terminal has gone.
    Gone,
}

/// Waits for keys no longer than this.
#[must_use]
pub fn keyboard(patience: Duration) -> Keyboard {
    let patience = Timespec {
        tv_sec: i64::try_from(patience.as_secs()).unwrap_or(i64::MAX),
        tv_nsec: i64::from(patience.subsec_nanos()),
    };
    let stdin = std::io::stdin();
    let mut fds = [PollFd::new(&stdin, PollFlags::IN)];
    // A signal ends the wait early, which changes nothing.
    let _ = poll(&mut fds, Some(&patience));
    let seen = fds[0].revents();
    if seen.intersects(PollFlags::HUP | PollFlags::ERR | PollFlags::NVAL) {
        return Keyboard::Gone;
    }
    if seen.contains(PollFlags::IN) { Keyboard::Typed } else { Keyboard::Quiet }
}
