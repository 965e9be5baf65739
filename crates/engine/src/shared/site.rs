//! The project that runs now, and how a changed one takes its place while ports and connections stay.
//!
//! A change is a drained swap. Whoever changes values does so in a [`Step`], with the project of the present generation.
//! While the site is held, lines begin nothing new. Once nothing is under way on any of them, the changed project takes
//! over what is known, in one moment in which nobody takes a step.

use super::{ProjectChange, Queued, Shared};
use std::sync::atomic::{
    AtomicBool, AtomicU64,
    Ordering::{AcqRel, Acquire, Release},
};
use std::sync::{
    Arc, Condvar, Mutex, MutexGuard, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard, Weak,
};
use std::time::Duration;

/// What runs now. A holder of an older [`Shared`] sees by the generation that there is a newer one.
pub struct Site {
    current: RwLock<Arc<Shared>>,
    generation: AtomicU64,
    /// Held shared by whoever takes a step, alone while a project is replaced.
    gate: RwLock<()>,
    /// A changed project waits: nothing more begins at a line.
    held: AtomicBool,
    /// Whether something is under way, of each schedule, with the name of its first port.
    lines: Mutex<Vec<(Arc<str>, Weak<AtomicBool>)>>,
    /// Told whenever a schedule has come to an end with what was under way.
    idle: Condvar,
    /// How the project of the generation before became this one.
    last: RwLock<Option<Arc<ProjectChange>>>,
}

/// One step of a machine, in which the project does not change. Nobody waits in one, and nobody takes one inside another.
pub(crate) struct Step<'a>(#[allow(dead_code, reason = "it is there to be dropped")] RwLockReadGuard<'a, ()>);

/// Whether something is under way on the lines of a schedule.
pub(crate) struct BusyFlag {
    site: Arc<Site>,
    flag: Arc<AtomicBool>,
}

impl BusyFlag {
    /// Says how it is now.
    pub(crate) fn set(&self, busy: bool) {
        if self.flag.swap(busy, AcqRel) && !busy && self.site.is_held() {
            drop(self.site.lines());
            self.site.idle.notify_all();
        }
    }
}

impl Drop for BusyFlag {
    fn drop(&mut self) {
        self.set(false);
    }
}

fn is_busy(line: &Weak<AtomicBool>) -> bool {
    line.upgrade().is_some_and(|busy| busy.load(Acquire))
}

impl Site {
    /// With the first project.
    #[must_use]
    pub fn new(shared: Arc<Shared>) -> Arc<Self> {
        Arc::new(Self {
            current: RwLock::new(shared),
            generation: AtomicU64::new(0),
            gate: RwLock::default(),
            held: AtomicBool::new(false),
            lines: Mutex::default(),
            idle: Condvar::new(),
            last: RwLock::default(),
        })
    }

    /// What runs now.
    #[must_use]
    pub fn current(&self) -> Arc<Shared> {
        Arc::clone(&self.current.read().unwrap_or_else(PoisonError::into_inner))
    }

    /// Counts up with each change; cheap enough to be looked at before every answer.
    #[must_use]
    pub fn generation(&self) -> u64 {
        self.generation.load(Acquire)
    }

    /// Begins a step of a machine.
    pub(crate) fn step(&self) -> Step<'_> {
        Step(self.gate.read().unwrap_or_else(PoisonError::into_inner))
    }

    /// How the project before became this one, if `generation` was the one before.
    pub(crate) fn change_from(&self, generation: u64) -> Option<Arc<ProjectChange>> {
        let last = self.last.read().unwrap_or_else(PoisonError::into_inner);
        last.clone().filter(|_| generation + 1 == self.generation())
    }

    /// A place for a schedule to say whether something is under way.
    pub(crate) fn busy(self: &Arc<Self>, port: &Arc<str>) -> BusyFlag {
        let flag = Arc::new(AtomicBool::new(false));
        let mut lines = self.lines();
        lines.retain(|(_, line)| line.strong_count() > 0);
        lines.push((Arc::clone(port), Arc::downgrade(&flag)));
        drop(lines);
        BusyFlag { site: Arc::clone(self), flag }
    }

    fn lines(&self) -> MutexGuard<'_, Vec<(Arc<str>, Weak<AtomicBool>)>> {
        self.lines.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether a changed project waits.
    pub(crate) fn is_held(&self) -> bool {
        self.held.load(Acquire)
    }

    /// Lets nothing more begin at the lines, or lets them go on.
    pub(crate) fn hold(&self, held: bool) {
        self.held.store(held, Release);
    }

    /// The ports on which something is under way.
    pub(crate) fn busy_ports(&self) -> Vec<String> {
        let lines = self.lines();
        lines.iter().filter(|(_, line)| is_busy(line)).map(|(port, _)| port.to_string()).collect()
    }

    /// Waits until nothing is under way, so long at the most.
    pub(crate) fn wait_until_idle(&self, most: Duration) {
        // Whether it has come about is seen by the attempt to replace.
        let _ = self
            .idle
            .wait_timeout_while(self.lines(), most, |lines| lines.iter().any(|(_, line)| is_busy(line)));
    }

    /// Puts a changed project in place of the one that runs, unless something is under way on a line: whether it did. What
    /// waits for things that the change does not touch goes on waiting; what waits for others is refused.
    pub(crate) fn try_replace(&self, change: &Arc<ProjectChange>) -> bool {
        let Some((gate, refused)) = self.replace(change) else { return false };
        drop(gate);
        // Whoever is told may take a step of its own.
        refused.into_iter().for_each(|job| job.end(Err(super::change::changed())));
        true
    }

    fn replace(&self, change: &Arc<ProjectChange>) -> Option<(RwLockWriteGuard<'_, ()>, Vec<Queued>)> {
        let gate = self.gate.write().unwrap_or_else(PoisonError::into_inner);
        if self.lines().iter().any(|(_, line)| is_busy(line)) {
            return None;
        }
        let refused = change.take_over(&self.current());
        *self.last.write().unwrap_or_else(PoisonError::into_inner) = Some(Arc::clone(change));
        *self.current.write().unwrap_or_else(PoisonError::into_inner) = Arc::clone(change.next());
        self.generation.fetch_add(1, AcqRel);
        self.hold(false);
        Some((gate, refused))
    }
}
