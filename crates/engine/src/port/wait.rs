//! Waiting for bytes, writing all of them, and being woken: the system's side of a line thread.

use crate::Moment;
use rustix::event::{EventfdFlags, PollFd, PollFlags, Timespec, eventfd, poll};
use rustix::fd::OwnedFd;
use rustix::io::Errno;
use std::num::NonZero;
use std::sync::Arc;

/// Waits for bytes or the eventfd, at most until `until`; says whether bytes (or the line's end) are there.
pub(crate) fn wait(fd: Option<&OwnedFd>, wake: &OwnedFd, until: Moment, now: Moment) -> bool {
    wait_any(fd.as_slice(), wake, until, now).first() == Some(&true)
}

/// The same for several; says of each whether bytes (or its end) are there.
pub(crate) fn wait_any(others: &[&OwnedFd], wake: &OwnedFd, until: Moment, now: Moment) -> Vec<bool> {
    let micros = until.since(now);
    let timeout = (until != Moment::NEVER).then(|| Timespec {
        tv_sec: i64::try_from(micros / 1_000_000).unwrap_or(i64::MAX),
        tv_nsec: i64::try_from(micros % 1_000_000 * 1000).unwrap_or(0),
    });
    let mut fds = vec![PollFd::new(wake, PollFlags::IN)];
    fds.extend(others.iter().map(|fd| PollFd::new(*fd, PollFlags::IN)));
    // A signal ends the wait early, which changes nothing.
    let _ = poll(&mut fds, timeout.as_ref());
    if fds.first().is_some_and(|fd| fd.revents().contains(PollFlags::IN)) {
        let _ = rustix::io::read(wake, &mut [0u8; 8]);
    }
    fds.iter().skip(1).map(|fd| !fd.revents().is_empty()).collect()
}

/// A new eventfd for [`wait`].
pub(crate) fn waker() -> Result<Arc<OwnedFd>, Errno> {
    Ok(Arc::new(eventfd(0, EventfdFlags::NONBLOCK | EventfdFlags::CLOEXEC)?))
}

/// Ends a [`wait`] now.
pub(crate) fn wake(waker: &OwnedFd) {
    // A full counter wakes just as well.
    let _ = rustix::io::write(waker, &1u64.to_ne_bytes());
}

/// Takes the timer slack from this thread: it would add 50 µs to every silence.
pub(crate) fn be_punctual() {
    let _ = rustix::thread::set_current_timer_slack(NonZero::new(1));
}

/// Writes all bytes to a non-blocking descriptor.
///
/// # Errors
/// The other end is gone.
pub(crate) fn write_all(fd: &OwnedFd, mut bytes: &[u8]) -> Result<(), Errno> {
    while !bytes.is_empty() {
        match rustix::io::write(fd, bytes) {
            Ok(count) => bytes = bytes.get(count..).unwrap_or_default(),
            Err(Errno::AGAIN) => {
                let mut fds = [PollFd::new(fd, PollFlags::OUT)];
                let patience = Timespec { tv_sec: 1, tv_nsec: 0 };
                if poll(&mut fds, Some(&patience)).unwrap_or(0) == 0 {
                    return Err(Errno::TIMEDOUT);
                }
            }
            Err(Errno::INTR) => {}
            Err(errno) => return Err(errno),
        }
    }
    Ok(())
}

/// Waits for bytes, or the other end's going, for so many microseconds at most.
pub(crate) fn readable(fd: &OwnedFd, micros: u64) -> bool {
    let patience = Timespec {
        tv_sec: i64::try_from(micros / 1_000_000).unwrap_or(i64::MAX),
        tv_nsec: i64::try_from(micros % 1_000_000 * 1000).unwrap_or(0),
    };
    poll(&mut [PollFd::new(fd, PollFlags::IN)], Some(&patience)).unwrap_or(0) > 0
}
