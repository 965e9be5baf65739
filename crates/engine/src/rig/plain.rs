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

    /// Takes what comes until there are so many bytes, or so many microseconds have passed; fewer where the other end
    /// has gone.
    #[must_use]
    pub fn take(&self, count: usize, micros: u64) -> Vec<u8> {
        let (clock, mut all) = (Clock::start(), vec![]);
        let mut chunk = [0; 512];
        loop {
            let left = micros.saturating_sub(clock.now().0);
            if all.len() >= count || left == 0 || !readable(&self.0, left) {
                return all;
            }
            match rustix::io::read(&self.0, &mut chunk) {
                Ok(0) => return all,
                Ok(more) => all.extend_from_slice(chunk.get(..more).unwrap_or_default()),
                Err(Errno::AGAIN | Errno::INTR) => {}
                Err(_) => return all,
            }
        }
    }

    /// Whether the other end has hung up, within so many microseconds; bytes that come meanwhile are left out.
    #[must_use]
    pub fn is_hung_up(&self, micros: u64) -> bool {
        let clock = Clock::start();
        let mut chunk = [0; 512];
        loop {
            let left = micros.saturating_sub(clock.now().0);
            if left == 0 || !readable(&self.0, left) {
                return false;
            }
            match rustix::io::read(&self.0, &mut chunk) {
                Ok(more) if more > 0 => {}
                Err(Errno::AGAIN | Errno::INTR) => {}
                _ => return true,
            }
        }
    }
}
