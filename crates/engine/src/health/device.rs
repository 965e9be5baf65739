//! What a device tells about itself: written by the thread of its line, read by all.

use super::Tally;
use crate::Moment;
use std::sync::atomic::{AtomicBool, AtomicU16, AtomicU64, Ordering::Relaxed};
use woodrush_core::project::Health;
use woodrush_core::protocol::refusal_health;
use woodrush_core::{Kind, Refusal};

/// One device's health. Each item stands alone, so relaxed atomics suffice.
#[derive(Debug, Default)]
pub struct DeviceHealth {
    online: AtomicBool,
    polls: AtomicU16,
    errors: AtomicU16,
    last_error: AtomicU16,
    /// The moment of the oldest value that it feeds, plus 1; 0 while one of them was never read.
    oldest: AtomicU64,
    /// Everything that it was asked, polls and writes.
    pub tally: Tally,
}

impl DeviceHealth {
    /// A poll was answered; `oldest` is the moment of the device's oldest value now, if all were read.
    pub fn good(&self, oldest: Option<Moment>) {
        self.online.store(true, Relaxed);
        self.polls.fetch_add(1, Relaxed);
        self.last_error.store(0, Relaxed);
        self.oldest.store(oldest.map_or(0, |at| at.0.saturating_add(1)), Relaxed);
    }

    /// A poll failed.
    pub fn bad(&self, code: u16) {
        self.errors.fetch_add(1, Relaxed);
        self.last_error.store(code, Relaxed);
    }

    /// It answers, if only with a refusal.
    pub fn answers(&self) {
        self.online.store(true, Relaxed);
    }

    /// It counts as lost.
    pub fn lost(&self) {
        self.online.store(false, Relaxed);
    }

    /// Counters from 0 on.
    pub fn reset(&self) {
        self.polls.store(0, Relaxed);
        self.errors.store(0, Relaxed);
        self.tally.reset();
    }

    /// Age of the oldest value, in microseconds; `None` while one was never read.
    #[must_use]
    pub fn age(&self, now: Moment) -> Option<u64> {
        Some(now.since(Moment(self.oldest.load(Relaxed).checked_sub(1)?)))
    }

    /// Whether it answers.
    #[must_use]
    pub fn is_online(&self) -> bool {
        self.online.load(Relaxed)
    }

    /// Good polls, failed polls, the last failure.
    #[must_use]
    pub fn counts(&self) -> (u16, u16, u16) {
        (self.polls.load(Relaxed), self.errors.load(Relaxed), self.last_error.load(Relaxed))
    }

    /// One item as cells: a bit, or 16 bits high byte first.
    #[must_use]
    pub fn cells(&self, item: Health, now: Moment) -> Vec<u8> {
        let word = match item {
            Health::Online => return vec![u8::from(self.is_online())],
            Health::Polls => self.polls.load(Relaxed),
            Health::Errors => self.errors.load(Relaxed),
            Health::LastError => self.last_error.load(Relaxed),
            Health::Age => tenths(self.age(now)),
        };
        word.to_be_bytes().to_vec()
    }
}

/// An age as health shows it: tenths of a second, 65535 for more and for never.
pub(super) fn tenths(age: Option<u64>) -> u16 {
    age.and_then(|age| u16::try_from(age / 100_000).ok()).unwrap_or(u16::MAX)
}

/// A failure as the number that `health.last-error` shows.
#[must_use]
pub fn failure_code(refusal: &Refusal) -> u16 {
    match (refusal.native, refusal.kind) {
        (Some(native), _) => u16::try_from(refusal_health(native)).unwrap_or(u16::MAX),
        (None, Kind::Damaged) => 257,
        (None, Kind::Mismatch) => 258,
        (None, Kind::NoPath) if !refusal.outcome_unknown => 259,
        (None, Kind::DoesNotFit) => 260,
        (None, _) => 256,
    }
}
