//! The other end of a port that carries bytes unread.

use crate::moment::Clock;
use crate::port::wait::{readable, write_all};
use rustix::fd::OwnedFd;
use rustix::io::Errno;

/// An end at which bytes are given and taken as they are.
pub struct PlainEnd(OwnedFd);

impl PlainEnd {
    pub(super) const fn new(wire: OwnedFd) -> Self {
        Self(wire)
    }

    /// Gives bytes.
    ///
    /// # Errors
    /// The other end is gone, or takes nothing for a second.
    pub fn give(&self, bytes: &[u8]) -> std::io::Result<()> {
        write_all(&self.0, bytes).map_err(std::io::Error::from)
    }

    /// Takes what comes until there are so many bytes, so many microseconds have passed, or the other end has gone.
    #[must_use]
    pub fn take(&self, count: usize, micros: u64) -> Vec<u8> {
        self.take_all(count, micros).0
    }

    /// Whether the other end hangs up within so many microseconds; bytes that come meanwhile are left out.
    #[must_use]
    pub fn is_hung_up(&self, micros: u64) -> bool {
        self.take_all(usize::MAX, micros).1
    }

    /// What came, and whether the other end has gone.
    fn take_all(&self, count: usize, micros: u64) -> (Vec<u8>, bool) {
        let (clock, mut all) = (Clock::start(), vec![]);
        let mut chunk = [0; 512];
        loop {
            let left = micros.saturating_sub(clock.now().0);
            if all.len() >= count || left == 0 || !readable(&self.0, left) {
                return (all, false);
            }
            match rustix::io::read(&self.0, &mut chunk) {
                Ok(more @ 1..) => all.extend_from_slice(chunk.get(..more).unwrap_or_default()),
                Err(Errno::AGAIN | Errno::INTR) => {}
                _ => return (all, true),
            }
        }
    }
}
