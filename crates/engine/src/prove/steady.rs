//! Steps of the proof on a sound bench, tried again where the bench was not heard in time. A machine that stood still
//! for a moment is no fault of the converter's; what is wrong in it stays wrong however often it is tried.

use super::runner::Runner;
use crate::moment::{Clock, nap};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};

/// How often a step is tried.
const TRIES: u32 = 3;
/// How long is waited before the next, in microseconds; and how long lost devices are waited for.
const PAUSE: u64 = 200_000;
const BACK: u64 = 5_000_000;

/// How long a watch sleeps, and how much longer tells that the machine stood still, in microseconds. The shortest age
/// that values are held against is some polls.
const WATCH: u64 = 10_000;
const STILL: u64 = 50_000;
/// How often what the host has taken is looked at, in microseconds.
const LOOK: u64 = 100_000;

/// A tick of the system's counters of time, in microseconds.
const TICK: u64 = 10_000;

/// A thread that sleeps and adds up how late it was woken, in microseconds.
#[derive(Default)]
pub(super) struct Watch(Arc<AtomicU64>);

impl Watch {
    /// How long the machine was not there when it should have been, in microseconds since some moment: what woke late,
    /// and what the host of a virtual machine gave to others for long enough to be felt.
    pub(super) fn away(&self) -> u64 {
        self.0.load(Relaxed)
    }

    pub(super) fn begin() -> Self {
        let watch = Self::default();
        let noted = Arc::downgrade(&watch.0);
        std::thread::spawn(move || {
            let clock = Clock::start();
            let (mut before, mut looked, mut gone) = (clock.now(), clock.now(), stolen());
            while let Some(noted) = noted.upgrade() {
                nap(WATCH);
                let now = clock.now();
                let late = now.since(before).saturating_sub(WATCH);
                if late > STILL {
                    noted.fetch_add(late, Relaxed);
                }
                before = now;
                if now.since(looked) < LOOK {
                    continue;
                }
                // A host that takes a little all the time makes everything a little slower, and nothing late.
                let all = stolen();
                let taken = all.saturating_sub(gone);
                if taken > STILL {
                    noted.fetch_add(taken, Relaxed);
                }
                (looked, gone) = (now, all);
            }
        });
        watch
    }
}

/// What the host of this virtual machine gave to others, in microseconds; 0 where nothing is known of it.
fn stolen() -> u64 {
    let text = std::fs::read_to_string("/proc/stat").unwrap_or_default();
    // The first line: user, nice, system, idle, waiting, interrupts, soft ones, and what was stolen.
    let first = text.lines().next().unwrap_or_default();
    first.split_whitespace().nth(8).and_then(|ticks| ticks.parse().ok()).unwrap_or(0) * TICK
}

impl Runner<'_> {
    /// Takes a step; again, where it went wrong while a request of the converter's went without a sound answer or the
    /// machine stood still.
    pub(super) fn steadily<T>(
        &mut self,
        mut step: impl FnMut(&mut Self) -> Result<T, String>,
    ) -> Result<T, String> {
        let mut tries = 1;
        loop {
            let result = step(self);
            let disturbed = self.was_disturbed();
            if result.is_ok() || !disturbed || tries == TRIES {
                return result;
            }
            tries += 1;
            self.again += 1;
            let begun = self.clock.now();
            nap(PAUSE);
            while self.is_one_lost() && self.clock.now().since(begun) < BACK {
                nap(5000);
            }
        }
    }

    /// Whether a request of the converter's went without a sound answer, or the machine stood still, since this was asked
    /// before: what disturbed the step before this one can still be felt.
    fn was_disturbed(&mut self) -> bool {
        let noted = (self.unheard(), self.watch.away());
        let before = std::mem::replace(&mut self.noted, noted);
        noted.0 != before.0 || noted.1.saturating_sub(before.1) > STILL || self.is_one_lost()
    }

    /// Tells how many steps were taken again; nothing where none was.
    pub(super) fn tell_of_tries(&mut self) {
        if self.again > 0 {
            let times = if self.again == 1 { "once".into() } else { format!("{} times", self.again) };
            self.others.push((
                format!("a step was repeated {times}: this computer stalled, or the rig was not heard within `timeout`"),
                true,
            ));
        }
    }

    /// Requests of the converter's that have gone without a sound answer so far, on all ports.
    fn unheard(&self) -> u64 {
        let counts = self.health.ports.iter().map(|port| port.tally.counts());
        // A connection that was given up over one is opened again, and what is asked meanwhile does not get out.
        counts.map(|counts| counts.no_answer + counts.damaged + counts.mismatched + counts.unreachable).sum()
    }

    /// Whether a device that is polled counts as lost.
    pub(super) fn is_one_lost(&self) -> bool {
        let polled =
            |device: usize| self.checked.plan.transfers.iter().any(|own| own.device() == Some(device));
        (0..).zip(&self.health.devices).any(|(at, device)| polled(at) && !device.is_online())
    }
}
