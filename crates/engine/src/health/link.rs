//! What is known of a link that runs in cycles: its state in one word, its age, what was sent and came, and how late.

use super::device::tenths;
use crate::Moment;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::net::Ipv4Addr;
use std::sync::atomic::{AtomicU8, AtomicU64, Ordering::Relaxed};
use std::sync::{Mutex, MutexGuard, PoisonError};
use woodrush_core::project::ImageHealth;

/// The state of a link.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LinkState {
    /// Nobody has opened it, or it was closed.
    Closed,
    /// The other end does not take it, or we do not.
    Refused,
    /// It is open, and nothing has come yet.
    Waiting,
    /// The other end runs.
    Run,
    /// It is open, and the other end says that it is idle.
    Idle,
    /// Nothing came in time.
    Watchdog,
    /// Nothing came in time but frames whose sender says that their data mean nothing.
    Invalid,
    /// The other end runs, and says of a slot that it is bad.
    #[serde(rename = "bad slot")]
    BadSlot,
}

impl LinkState {
    const ALL: [Self; 8] = [
        Self::Closed,
        Self::Refused,
        Self::Waiting,
        Self::Run,
        Self::Idle,
        Self::Watchdog,
        Self::Invalid,
        Self::BadSlot,
    ];

    /// In the one word that every output uses.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Closed => "closed",
            Self::Refused => "refused",
            Self::Waiting => "waiting",
            Self::Run => "run",
            Self::Idle => "idle",
            Self::Watchdog => "watchdog",
            Self::Invalid => "invalid",
            Self::BadSlot => "bad slot",
        }
    }
}

/// Delays are counted in steps of a quarter of an octave.
const STEPS: usize = 96;

/// How late frames left.
#[derive(Debug)]
struct Lateness {
    counts: [u64; STEPS],
    most: u64,
}

impl Default for Lateness {
    fn default() -> Self {
        Self { counts: [0; STEPS], most: 0 }
    }
}

/// The step of a delay in microseconds.
fn step(micros: u64) -> usize {
    let micros = micros.max(1);
    let octave = micros.ilog2();
    // The two bits behind the first one.
    let quarter = if octave >= 2 { micros >> (octave - 2) & 3 } else { micros << (2 - octave) & 3 };
    (octave as usize * 4 + usize::try_from(quarter).unwrap_or(0)).min(STEPS - 1)
}

/// Where a step begins.
fn lower_end(step: usize) -> u64 {
    let (octave, quarter) = (step / 4, step as u64 % 4);
    ((1u64 << octave) * (4 + quarter)).div_ceil(4)
}

impl Lateness {
    fn add(&mut self, micros: u64) {
        self.most = self.most.max(micros);
        if let Some(count) = self.counts.get_mut(step(micros)) {
            *count += 1;
        }
    }

    /// What so many per cent of them were no later than; within a step they count as spread evenly.
    fn percentile(&self, percent: u64) -> Option<u64> {
        let all: u64 = self.counts.iter().sum();
        let mut rank = (all * percent).div_ceil(100).max(1);
        for (at, count) in self.counts.iter().enumerate() {
            if *count >= rank {
                let (from, to) = (lower_end(at), lower_end(at + 1));
                return Some((from + (to - from) * rank / count).min(self.most));
            }
            rank -= count;
        }
        None
    }
}

/// One link.
#[derive(Debug, Default)]
pub struct LinkHealth {
    state: AtomicU8,
    /// When the last frame came, plus 1; 0 for never.
    heard: AtomicU64,
    /// Without a frame for so long, it is lost, in microseconds.
    lost_after: AtomicU64,
    period: AtomicU64,
    sent: AtomicU64,
    came: AtomicU64,
    skipped: AtomicU64,
    opened: AtomicU64,
    lateness: Mutex<Lateness>,
    peer: Mutex<Option<Ipv4Addr>>,
    /// Slots that the other end calls bad.
    bad: Mutex<BTreeSet<usize>>,
    /// What the station is called and addressed by now, where others may say that.
    station: Mutex<BTreeMap<String, String>>,
}

/// The same in numbers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LinkCounts {
    /// Its state.
    pub state: LinkState,
    /// The other end; nothing where nobody has opened it.
    pub peer: Option<Ipv4Addr>,
    /// From frame to frame, in microseconds.
    pub period_us: u64,
    /// Without a frame for so long, it is lost, in microseconds.
    pub watchdog_us: u64,
    /// Frames that were sent.
    pub sent: u64,
    /// Frames that came and were taken.
    pub came: u64,
    /// Frames that were not sent, because their time had passed.
    pub skipped: u64,
    /// How often it was opened.
    pub opened: u64,
    /// Half of the frames left no later than so long after they were due, in microseconds; nothing while none was sent.
    #[serde(default)]
    pub late_median_us: Option<u64>,
    /// 99 of 100 frames left no later than so long after they were due, in microseconds; nothing while none was sent.
    pub late_p99_us: Option<u64>,
    /// The latest of all, in microseconds.
    pub late_max_us: u64,
    /// What the station is called and addressed by now, by key, where others may say that.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub station: BTreeMap<String, String>,
}

impl LinkHealth {
    /// The state.
    #[must_use]
    pub fn state(&self) -> LinkState {
        LinkState::ALL.get(usize::from(self.state.load(Relaxed))).copied().unwrap_or(LinkState::Closed)
    }

    pub(crate) fn set_state(&self, state: LinkState) {
        if state != LinkState::Run {
            self.bad_slots().clear();
        }
        let at = LinkState::ALL.iter().position(|own| *own == state).unwrap_or(0);
        self.state.store(u8::try_from(at).unwrap_or(0), Relaxed);
    }

    pub(crate) fn open(&self, peer: Ipv4Addr, period: u64, lost_after: u64) {
        self.set_state(LinkState::Waiting);
        self.period.store(period, Relaxed);
        self.lost_after.store(lost_after, Relaxed);
        self.opened.fetch_add(1, Relaxed);
        *self.peer.lock().unwrap_or_else(PoisonError::into_inner) = Some(peer);
    }

    fn bad_slots(&self) -> MutexGuard<'_, BTreeSet<usize>> {
        self.bad.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The other end calls a slot bad, or good again; whether that is new.
    pub(crate) fn judge_slot(&self, slot: usize, good: bool) -> bool {
        let mut bad = self.bad_slots();
        if good { bad.remove(&slot) } else { bad.insert(slot) }
    }

    /// What the station is now, by that key.
    pub(crate) fn station_is(&self, key: &str, value: &str) {
        let mut station = self.station.lock().unwrap_or_else(PoisonError::into_inner);
        station.insert(key.to_string(), value.to_string());
    }

    pub(crate) fn name_peer(&self, peer: Ipv4Addr) {
        *self.peer.lock().unwrap_or_else(PoisonError::into_inner) = Some(peer);
    }

    /// A frame came in which the other end says that it runs.
    pub(crate) fn heard(&self, now: Moment) {
        self.came.fetch_add(1, Relaxed);
        self.heard.store(now.0.saturating_add(1), Relaxed);
    }

    /// A frame came in which it says that it does not.
    pub(crate) fn heard_idle(&self) {
        self.came.fetch_add(1, Relaxed);
    }

    /// Whether what came last is still so.
    #[must_use]
    pub fn is_fresh(&self, now: Moment) -> bool {
        self.state() == LinkState::Run
            && self.age(now).is_some_and(|age| age <= self.lost_after.load(Relaxed))
    }

    /// How long ago the last frame came, in microseconds.
    #[must_use]
    pub fn age(&self, now: Moment) -> Option<u64> {
        Some(now.since(Moment(self.heard.load(Relaxed).checked_sub(1)?)))
    }

    pub(crate) fn sent(&self, late: u64) {
        self.sent.fetch_add(1, Relaxed);
        self.lateness.lock().unwrap_or_else(PoisonError::into_inner).add(late);
    }

    pub(crate) fn skipped(&self, frames: u64) {
        self.skipped.fetch_add(frames, Relaxed);
    }

    /// Counters from 0 on.
    pub(crate) fn reset(&self) {
        for count in [&self.sent, &self.came, &self.skipped, &self.opened] {
            count.store(0, Relaxed);
        }
        *self.lateness.lock().unwrap_or_else(PoisonError::into_inner) = Lateness::default();
    }

    /// All of it in numbers.
    #[must_use]
    pub fn counts(&self) -> LinkCounts {
        let lateness = self.lateness.lock().unwrap_or_else(PoisonError::into_inner);
        let state = match self.state() {
            LinkState::Run if !self.bad_slots().is_empty() => LinkState::BadSlot,
            state => state,
        };
        LinkCounts {
            state,
            station: self.station.lock().unwrap_or_else(PoisonError::into_inner).clone(),
            peer: *self.peer.lock().unwrap_or_else(PoisonError::into_inner),
            period_us: self.period.load(Relaxed),
            watchdog_us: self.lost_after.load(Relaxed),
            sent: self.sent.load(Relaxed),
            came: self.came.load(Relaxed),
            skipped: self.skipped.load(Relaxed),
            opened: self.opened.load(Relaxed),
            late_median_us: lateness.percentile(50),
            late_p99_us: lateness.percentile(99),
            late_max_us: lateness.most,
        }
    }

    /// One item as cells: a bit, or 16 bits high byte first.
    pub(crate) fn cells(&self, item: ImageHealth, now: Moment) -> Vec<u8> {
        let state = self.state();
        match item {
            ImageHealth::Online => {
                vec![u8::from(matches!(state, LinkState::Run | LinkState::Idle))]
            }
            ImageHealth::Run => vec![u8::from(state == LinkState::Run)],
            ImageHealth::Age => tenths(self.age(now)).to_be_bytes().to_vec(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_percentile_is_right_to_its_step_and_no_more_than_the_worst() {
        let mut late = Lateness::default();
        assert_eq!(late.percentile(99), None);
        late.add(7);
        assert_eq!((late.percentile(50), late.percentile(99)), (Some(7), Some(7)));
        let mut late = Lateness::default();
        (1..=1000).for_each(|micros| late.add(micros));
        for percent in [10, 50, 90, 99] {
            let found = late.percentile(percent).unwrap();
            assert!(found.abs_diff(percent * 10) <= 12, "{percent} %: {found}");
        }
        for micros in [1, 2, 3, 5, 8, 1000, 65_535, 10_000_000] {
            let own = step(micros);
            assert!(lower_end(own) <= micros && micros < lower_end(own + 1).max(micros + 1), "{micros}");
            assert!(lower_end(own + 1) <= micros * 5 / 4 + 1, "{micros}: a quarter of an octave wide");
        }
    }

    #[test]
    fn what_came_is_fresh_until_the_watchdog_and_never_while_idle() {
        let link = LinkHealth::default();
        link.open(Ipv4Addr::LOCALHOST, 10_000, 40_000);
        assert!(!link.is_fresh(Moment(5)) && link.cells(ImageHealth::Online, Moment(5)) == [0]);
        link.heard(Moment(100));
        link.set_state(LinkState::Run);
        assert!(link.is_fresh(Moment(40_100)) && !link.is_fresh(Moment(40_101)));
        link.set_state(LinkState::Idle);
        assert!(!link.is_fresh(Moment(200)));
        let told = |item| link.cells(item, Moment(200));
        assert_eq!((told(ImageHealth::Online), told(ImageHealth::Run)), (vec![1], vec![0]));
    }
}
