//! Looking on at a serial line: nothing is ever sent there.

use super::remote::Dated;
use super::{Chunk, Taken};
use crate::Moment;
use crate::direct::Closed;
use crate::moment::Clock;
use crate::port::tty::open_line;
use crate::port::wait::readable;
use crate::speak::Side;
use rustix::fd::OwnedFd;
use rustix::io::Errno;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;
use woodrush_core::project::Line;

/// A line that is listened to.
pub struct LineListener {
    tty: OwnedFd,
    port: Arc<str>,
    line: Line,
    clock: Clock,
    /// What its moments are in people's time.
    pub dated: Dated,
}

impl LineListener {
    /// Opens a line with its settings; `port` is what its pieces are told under.
    ///
    /// # Errors
    /// It cannot be opened, with the fix.
    pub fn open(path: &Path, line: Line, port: &str) -> Result<Self, Closed> {
        let tty = open_line(path, line).map_err(|fault| Closed { what: fault.what, fix: fault.fix })?;
        let clock = Clock::start();
        Ok(Self { tty, port: port.into(), line, clock, dated: Dated::now(&clock) })
    }

    /// What has passed since the last look, and the moment; nothing where nothing came within that time.
    ///
    /// # Errors
    /// The line has gone.
    pub fn fetch(&mut self, patience: Duration) -> std::io::Result<(Moment, Taken)> {
        let mut taken = Taken::default();
        if readable(&self.tty, u64::try_from(patience.as_micros()).unwrap_or(u64::MAX)) {
            let mut chunk = [0; 1024];
            match rustix::io::read(&self.tty, &mut chunk) {
                Ok(0) => return Err(std::io::ErrorKind::UnexpectedEof.into()),
                Ok(count) => {
                    let now = self.clock.now();
                    let chars = u64::try_from(count.saturating_sub(1)).unwrap_or(0);
                    let began = now - chars * self.line.char_nanos() / 1000;
                    let bytes = chunk.get(..count).unwrap_or_default().to_vec();
                    let (port, side) = (Arc::clone(&self.port), Side::Either);
                    taken.pieces.push(Chunk { port, who: None, side, began, ended: now, bytes });
                }
                Err(Errno::AGAIN | Errno::INTR) => {}
                Err(errno) => return Err(errno.into()),
            }
        }
        Ok((self.clock.now(), taken))
    }
}
