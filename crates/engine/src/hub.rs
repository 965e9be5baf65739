//! Where the converter's ports leave the bytes that pass, for each client that taps; no work while none does.

use crate::Moment;
use crate::speak::Side;
use std::net::SocketAddrV4;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError, Weak};
use std::time::Duration;

/// The time that one piece uses up for a watcher, in microseconds: 2,000 a second, what six serial lines at 115200 carry
/// without a pause. What a flood on a socket has beyond that is counted and left out, so that looking on costs those who
/// ask next to nothing.
const PIECE: u64 = 500;
/// The time that may be used up at once: a machine that stood still brings what passed meanwhile in a moment.
const BURST: u64 = 500_000;
/// For how long pieces are only counted once there is no room, in microseconds.
const PAUSE: u64 = 100_000;
/// Pieces that wait for a watcher that does not fetch them.
const WAITING_MAX: usize = 20_000;

/// Bytes of one side of a conversation, as they passed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Chunk {
    /// The port's name.
    pub port: Arc<str>,
    /// Who talks with us there, where several may.
    pub who: Option<Arc<str>>,
    /// Whose bytes they are.
    pub side: Side,
    /// When they began to pass.
    pub began: Moment,
    /// When the last of them had passed.
    pub ended: Moment,
    /// None where the conversation ends.
    pub bytes: Vec<u8>,
}

/// Who sends us datagrams, or gets ours, in the words in which [`Chunk::who`] says it: `udp/2222 192.0.2.70:2222`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DatagramPeer {
    /// Our own UDP port.
    pub local: u16,
    /// The other end.
    pub address: SocketAddrV4,
}

impl DatagramPeer {
    /// Reads it; `None` for who talks on a connection.
    #[must_use]
    pub fn of(who: &str) -> Option<Self> {
        let (local, address) = who.strip_prefix("udp/")?.split_once(' ')?;
        Some(Self { local: local.parse().ok()?, address: address.parse().ok()? })
    }
}

impl std::fmt::Display for DatagramPeer {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "udp/{} {}", self.local, self.address)
    }
}

/// All who look on.
#[derive(Default)]
pub struct Tap {
    /// Whether there is a watcher.
    on: AtomicBool,
    watchers: Mutex<Vec<Weak<Watcher>>>,
    /// Until then nobody has room: what passes is only counted, which costs those who answer next to nothing.
    full_until: AtomicU64,
    /// Pieces that were only counted.
    missed: AtomicU64,
}

/// One who looks on; dropping it ends that.
pub struct Watcher {
    /// The ports that are looked at; `None` for all.
    ports: Option<Vec<String>>,
    inner: Mutex<Inner>,
    more: Condvar,
    /// The converter has ended.
    over: AtomicBool,
}

#[derive(Default)]
struct Inner {
    waiting: Vec<Chunk>,
    /// Up to when time is used up, in microseconds.
    used: u64,
    /// Pieces that were left out since the last look.
    lost: u64,
    /// How many had been missed by all at the last look.
    missed: u64,
}

/// What a watcher gets at once.
#[derive(Debug, Default)]
pub struct Taken {
    /// In the order in which they passed.
    pub pieces: Vec<Chunk>,
    /// How many were left out before them.
    pub lost: u64,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Tap {
    /// Looks on from now on, at these ports or at all.
    #[must_use]
    pub fn watch(&self, ports: Option<Vec<String>>) -> Arc<Watcher> {
        let watcher = Arc::new(Watcher {
            ports,
            inner: Mutex::new(Inner { missed: self.missed.load(Relaxed), ..Inner::default() }),
            more: Condvar::new(),
            over: AtomicBool::new(false),
        });
        let mut watchers = lock(&self.watchers);
        watchers.retain(|known| known.strong_count() > 0);
        watchers.push(Arc::downgrade(&watcher));
        self.full_until.store(0, Relaxed);
        self.on.store(true, Relaxed);
        watcher
    }

    /// Whether there is a watcher: looked at before anything is made for them.
    #[must_use]
    pub fn is_on(&self) -> bool {
        self.on.load(Relaxed)
    }

    /// Something passed; `make` is called for those who have room for it.
    pub(crate) fn passed(&self, port: &str, now: Moment, make: impl Fn() -> Chunk) {
        if !self.is_on() {
            return;
        }
        if now.0 < self.full_until.load(Relaxed) {
            self.missed.fetch_add(1, Relaxed);
            return;
        }
        let mut gone = false;
        let mut full_until = u64::MAX;
        let mut watchers = lock(&self.watchers);
        let missed = self.missed.load(Relaxed);
        for watcher in watchers.iter() {
            match watcher.upgrade() {
                Some(watcher) => full_until = full_until.min(watcher.take(port, now, missed, &make)),
                None => gone = true,
            }
        }
        if gone {
            watchers.retain(|known| known.strong_count() > 0);
            self.on.store(!watchers.is_empty(), Relaxed);
        }
        self.full_until.store(if watchers.is_empty() { 0 } else { full_until }, Relaxed);
    }
}

impl Drop for Tap {
    fn drop(&mut self) {
        for watcher in lock(&self.watchers).iter().filter_map(Weak::upgrade) {
            watcher.over.store(true, Relaxed);
            watcher.more.notify_all();
        }
    }
}

impl Watcher {
    /// Takes a piece if it is wanted and there is room; gives the moment until which there is none.
    fn take(&self, port: &str, now: Moment, missed: u64, make: &impl Fn() -> Chunk) -> u64 {
        let mut inner = lock(&self.inner);
        // A client that taps some ports only cannot tell how many of the missed chunks were theirs: all of them count.
        inner.lost += missed - inner.missed;
        inner.missed = missed;
        if self.ports.as_ref().is_some_and(|ports| ports.iter().all(|own| own != port)) {
            return 0;
        }
        let used = inner.used.max(now.0) + PIECE;
        if used > now.0 + BURST || inner.waiting.len() >= WAITING_MAX {
            inner.lost += 1;
            return now.0 + PAUSE;
        }
        inner.used = used;
        inner.waiting.push(make());
        if inner.waiting.len() == 1 {
            self.more.notify_all();
        }
        0
    }

    /// What has passed since the last look; waits for something no longer than this. `None` once the converter has
    /// ended.
    #[must_use]
    pub fn fetch(&self, patience: Duration) -> Option<Taken> {
        let inner = lock(&self.inner);
        let waits = |inner: &mut Inner| inner.waiting.is_empty() && !self.over.load(Relaxed);
        let waited = self.more.wait_timeout_while(inner, patience, waits);
        let (mut inner, _) = waited.unwrap_or_else(PoisonError::into_inner);
        if inner.waiting.is_empty() && self.over.load(Relaxed) {
            return None;
        }
        let lost = std::mem::take(&mut inner.lost);
        Some(Taken { pieces: std::mem::take(&mut inner.waiting), lost })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn piece(port: &str, at: u64) -> Chunk {
        let moment = Moment(at);
        Chunk {
            port: port.into(),
            who: None,
            side: Side::Asks,
            began: moment,
            ended: moment,
            bytes: vec![1, 2, 3],
        }
    }

    #[test]
    fn only_those_who_look_on_get_anything_and_only_of_their_ports() {
        let tap = Tap::default();
        tap.passed("a", Moment(1), || unreachable!("nobody looks on"));
        let (all, one) = (tap.watch(None), tap.watch(Some(vec!["b".into()])));
        for (port, at) in [("a", 2), ("b", 3), ("a", 4)] {
            tap.passed(port, Moment(at), || piece(port, at));
        }
        let now = Duration::ZERO;
        assert_eq!(all.fetch(now).map(|taken| taken.pieces.len()), Some(3));
        assert_eq!(one.fetch(now).map(|taken| taken.pieces), Some(vec![piece("b", 3)]));
        drop((all, one));
        tap.passed("a", Moment(5), || piece("a", 5));
        assert!(!tap.is_on(), "nobody is left");
    }

    #[test]
    fn what_is_more_than_may_come_at_once_is_counted_and_left_out() {
        let most = BURST / PIECE;
        let tap = Tap::default();
        let watcher = tap.watch(None);
        for _ in 0..3 * most {
            tap.passed("a", Moment(7), || piece("a", 7));
        }
        // After a pause there is room for as much as has its time since.
        for _ in 0..most {
            tap.passed("a", Moment(7 + PAUSE), || piece("a", 7 + PAUSE));
        }
        let taken = watcher.fetch(Duration::ZERO).expect("the converter runs");
        let room = most + PAUSE / PIECE;
        // The last of what was missed is told with the next piece that passes.
        tap.passed("a", Moment(7 + 2 * PAUSE), || piece("a", 7 + 2 * PAUSE));
        let lost = taken.lost + watcher.fetch(Duration::ZERO).expect("the converter runs").lost;
        assert_eq!((taken.pieces.len() as u64, lost), (room, 4 * most - room));
        drop(tap);
        assert!(watcher.fetch(Duration::from_secs(5)).is_none(), "the converter has ended");
    }

    #[test]
    fn a_machine_that_stands_still_costs_no_piece_of_a_busy_site() {
        let tap = Tap::default();
        let watcher = tap.watch(None);
        // 1,000 pieces a second; every second all of them come 400 ms late and at once.
        for second in 0..10 {
            for at in 0..1000 {
                let late = if at < 400 { 400 } else { at };
                tap.passed("a", Moment(second * 1_000_000 + late * 1000), || piece("a", at));
            }
        }
        let taken = watcher.fetch(Duration::ZERO).expect("the converter runs");
        assert_eq!((taken.pieces.len(), taken.lost), (10_000, 0));
    }
}
