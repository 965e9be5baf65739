//! Time as a plain number, so that a machine can be asked about any moment.

use std::ops::{Add, Sub};

/// Microseconds since the program began; never goes backwards.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub struct Moment(pub u64);

impl Moment {
    /// Farther away than anything that is waited for.
    pub const NEVER: Self = Self(u64::MAX);

    /// Microseconds from `earlier` to here; 0 if it is later.
    #[must_use]
    pub const fn since(self, earlier: Self) -> u64 {
        self.0.saturating_sub(earlier.0)
    }
}

impl Add<u64> for Moment {
    type Output = Self;

    fn add(self, micros: u64) -> Self {
        Self(self.0.saturating_add(micros))
    }
}

impl Sub<u64> for Moment {
    type Output = Self;

    fn sub(self, micros: u64) -> Self {
        Self(self.0.saturating_sub(micros))
    }
}

/// Waits so many microseconds: for those who look again a little later, as a person would.
pub(crate) fn nap(micros: u64) {
    #[allow(clippy::disallowed_methods, reason = "what is waited for gives no sign")]
    std::thread::sleep(std::time::Duration::from_micros(micros));
}

/// The clock of the drivers; all others take `now`.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Clock(std::time::Instant);

impl Clock {
    #[allow(clippy::disallowed_methods, reason = "the one place where the drivers' clock begins")]
    pub(crate) fn start() -> Self {
        Self(std::time::Instant::now())
    }

    pub(crate) fn now(&self) -> Moment {
        Moment(u64::try_from(self.0.elapsed().as_micros()).unwrap_or(u64::MAX))
    }
}
