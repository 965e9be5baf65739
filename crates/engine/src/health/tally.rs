//! Counters of requests and what became of them; each stands alone, so relaxed atomics suffice.

use crate::Moment;
use serde::{Deserialize, Serialize};
use std::sync::atomic::{AtomicU16, AtomicU64, Ordering::Relaxed};
use std::sync::{Arc, Mutex, PoisonError};
use woodrush_core::protocol::refusal_health;
use woodrush_core::{Kind, Refusal};

/// What became of requests.
///
/// What every good answer touches stands in one line of the cache.
#[derive(Debug, Default)]
#[repr(C, align(64))]
pub struct Tally {
    requests: AtomicU64,
    answers: AtomicU64,
    published: AtomicU64,
    /// The moment of the last good answer, plus 1.
    good: AtomicU64,
    last_error: AtomicU16,
    sent: AtomicU64,
    received: AtomicU64,
    timeouts: AtomicU64,
    damaged: AtomicU64,
    mismatched: AtomicU64,
    unreachable: AtomicU64,
    exceptions: Mutex<Vec<(u16, u64)>>,
}

/// A tally at one moment.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Counts {
    /// Requests that ended, however they did.
    pub requests: u64,
    /// Good answers.
    pub answers: u64,
    /// Values that came by themselves.
    #[serde(default)]
    pub published: u64,
    /// Refusals by the device's own code, as `health.last-error` shows it; ascending.
    pub exceptions: Vec<(u16, u64)>,
    /// Requests without any answer.
    pub no_answer: u64,
    /// Damaged answers.
    pub damaged: u64,
    /// Mismatched answers.
    pub mismatched: u64,
    /// Requests that could not be sent.
    pub unreachable: u64,
    /// The last failure, as `health.last-error` shows it.
    pub last_error: u16,
    /// Bytes that went out, checksums and framing with them.
    pub sent: u64,
    /// Bytes that came, damaged ones too.
    pub received: u64,
}

impl Counts {
    /// Two tallies together.
    #[must_use]
    pub fn plus(mut self, other: Self) -> Self {
        for (code, count) in other.exceptions {
            match self.exceptions.iter_mut().find(|(own, _)| *own == code) {
                Some((_, own)) => *own += count,
                None => self.exceptions.push((code, count)),
            }
        }
        Self {
            requests: self.requests + other.requests,
            answers: self.answers + other.answers,
            published: self.published + other.published,
            no_answer: self.no_answer + other.no_answer,
            damaged: self.damaged + other.damaged,
            mismatched: self.mismatched + other.mismatched,
            unreachable: self.unreachable + other.unreachable,
            last_error: if self.last_error == 0 { other.last_error } else { self.last_error },
            sent: self.sent + other.sent,
            received: self.received + other.received,
            exceptions: self.exceptions,
        }
    }
}

impl Tally {
    /// Counts how a request ended.
    pub fn count(&self, now: Moment, result: Result<(), &Refusal>) {
        self.requests.fetch_add(1, Relaxed);
        if result.is_ok() {
            self.answers.fetch_add(1, Relaxed);
        }
        self.ended(now, result);
    }

    /// Counts values that came by themselves, or have stopped coming.
    pub fn came(&self, now: Moment, result: Result<(), &Refusal>) {
        self.published.fetch_add(u64::from(result.is_ok()), Relaxed);
        self.ended(now, result);
    }

    fn ended(&self, now: Moment, result: Result<(), &Refusal>) {
        let add = |counter: &AtomicU64| counter.fetch_add(1, Relaxed);
        let Err(refusal) = result else {
            self.last_error.store(0, Relaxed);
            return self.good.store(now.0.saturating_add(1), Relaxed);
        };
        self.last_error.store(super::failure_code(refusal), Relaxed);
        match (refusal.native, refusal.kind) {
            (Some(native), _) => {
                let code = u16::try_from(refusal_health(native)).unwrap_or(u16::MAX);
                let mut known = self.exceptions.lock().unwrap_or_else(PoisonError::into_inner);
                match known.binary_search_by_key(&code, |(own, _)| *own) {
                    Ok(at) => known.get_mut(at).into_iter().for_each(|(_, count)| *count += 1),
                    Err(at) => known.insert(at, (code, 1)),
                }
            }
            (None, Kind::Damaged) => {
                add(&self.damaged);
            }
            (None, Kind::Mismatch) => {
                add(&self.mismatched);
            }
            (None, Kind::NoPath | Kind::Busy) if !refusal.outcome_unknown => {
                add(&self.unreachable);
            }
            (None, _) => {
                add(&self.timeouts);
            }
        }
    }

    /// Counts so many good answers at once.
    pub fn count_good(&self, now: Moment, answers: u64) {
        self.requests.fetch_add(answers, Relaxed);
        self.answers.fetch_add(answers, Relaxed);
        self.last_error.store(0, Relaxed);
        self.good.store(now.0.saturating_add(1), Relaxed);
    }

    /// Counts bytes that went out and came.
    pub fn carried(&self, sent: u64, came: u64) {
        self.sent.fetch_add(sent, Relaxed);
        self.received.fetch_add(came, Relaxed);
    }

    /// When the last good answer was given.
    #[must_use]
    pub fn last_good(&self) -> Option<Moment> {
        self.good.load(Relaxed).checked_sub(1).map(Moment)
    }

    /// Age of the last good answer, in microseconds.
    #[must_use]
    pub fn age(&self, now: Moment) -> Option<u64> {
        self.last_good().map(|at| now.since(at))
    }

    /// All counters now.
    #[must_use]
    pub fn counts(&self) -> Counts {
        let get = |counter: &AtomicU64| counter.load(Relaxed);
        Counts {
            requests: get(&self.requests),
            answers: get(&self.answers),
            published: get(&self.published),
            exceptions: self.exceptions.lock().unwrap_or_else(PoisonError::into_inner).clone(),
            no_answer: get(&self.timeouts),
            damaged: get(&self.damaged),
            mismatched: get(&self.mismatched),
            unreachable: get(&self.unreachable),
            last_error: self.last_error.load(Relaxed),
            sent: get(&self.sent),
            received: get(&self.received),
        }
    }

    /// Counters from 0 on; ages stay.
    pub fn reset(&self) {
        let all = [
            &self.requests,
            &self.answers,
            &self.published,
            &self.timeouts,
            &self.damaged,
            &self.mismatched,
            &self.unreachable,
            &self.sent,
            &self.received,
        ];
        all.into_iter().for_each(|counter| counter.store(0, Relaxed));
        self.exceptions.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }
}

/// What a port has carried.
#[derive(Debug, Default)]
pub struct PortTally {
    /// Requests of ours, or of those who ask here.
    pub tally: Tally,
    /// Damaged frames of those who ask here.
    pub noise: AtomicU64,
    /// Connections now.
    pub clients: AtomicU64,
    /// Connections turned away.
    pub turned_away: AtomicU64,
    /// Answers of ours to a line that came too late for who asked, and were not sent.
    pub late_answers: AtomicU64,
    /// Whether it is open.
    pub up: std::sync::atomic::AtomicBool,
    /// What clients asked that have gone.
    past: Mutex<Counts>,
    window_began: AtomicU64,
    window_busy: AtomicU64,
    last_load: AtomicU64,
}

/// The stretch over which a load is told, in microseconds.
const WINDOW: u64 = 1_000_000;

impl PortTally {
    /// The port was busy for so long until now.
    pub fn busy(&self, now: Moment, micros: u64) {
        let busy = self.window_busy.fetch_add(micros, Relaxed) + micros;
        let began = self.window_began.load(Relaxed);
        let elapsed = now.0.saturating_sub(began);
        if elapsed >= WINDOW {
            self.last_load.store((busy * 100 / elapsed).min(100), Relaxed);
            self.window_began.store(now.0, Relaxed);
            self.window_busy.store(0, Relaxed);
        }
    }

    /// The share of its time that it was busy of late, in per cent.
    #[must_use]
    pub fn load(&self, now: Moment) -> u64 {
        let elapsed = now.0.saturating_sub(self.window_began.load(Relaxed));
        // Nothing has ended for two windows: what is known is old.
        if elapsed >= 2 * WINDOW {
            self.window_busy.load(Relaxed) * 100 / elapsed
        } else {
            self.last_load.load(Relaxed)
        }
    }

    /// Goes on counting what a client asked that has gone.
    pub(crate) fn adopt(&self, counts: Counts) {
        let mut past = self.past.lock().unwrap_or_else(PoisonError::into_inner);
        *past = std::mem::take(&mut *past).plus(counts);
    }

    /// What clients asked that have gone.
    #[must_use]
    pub fn past(&self) -> Counts {
        self.past.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Counters from 0 on.
    pub fn reset(&self) {
        self.tally.reset();
        *self.past.lock().unwrap_or_else(PoisonError::into_inner) = Counts::default();
        [&self.noise, &self.turned_away, &self.late_answers].into_iter().for_each(|c| c.store(0, Relaxed));
    }
}

/// What one of those who ask has asked.
#[derive(Debug)]
#[repr(C)]
pub struct ClientTally {
    /// What became of its requests.
    pub tally: Tally,
    /// The port.
    pub port: Arc<PortTally>,
    /// Who, as the port knows them.
    pub who: String,
}
