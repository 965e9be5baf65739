//! What others want of a port on which we ask: bounded, handed over between threads, in fair turns.
//!
//! Each client has a queue of its own, and the queues take turns: a client with many requests waits for its own and not
//! before others. Nobody waits longer than one request of each other who asks, plus what is under way.

use super::Message;
use crate::image::DeviceWrite;
use crate::speak::Ask;
use std::collections::VecDeque;
use std::sync::{Mutex, MutexGuard, PoisonError};
use woodrush_core::plan::Station;
use woodrush_core::{Blame, Kind, Refusal};

/// Most requests of one client that wait for one port: a few seconds of a fast line. Beyond, the client is told that the
/// port is busy.
const WAITING_EACH: usize = 256;
/// Most requests of all clients that wait for one port, some MB of memory. Beyond, only a client of which nothing waits
/// yet gets a place, so that those who flood keep nobody out; there are no more clients than connections.
const WAITING_ALL: usize = 64 * WAITING_EACH;

/// Called with how it ended, once: nothing for a write, the body of the answer to what was passed on.
pub type Reply = Box<dyn FnOnce(Result<Vec<u8>, Refusal>) + Send>;

/// Who asks, for taking turns: the same number for all connections of one machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct ClientId(pub u64);

/// What is wanted.
#[derive(Debug, Clone)]
pub enum LineRequest {
    /// A device takes values.
    Write(DeviceWrite),
    /// A station, of the project or not, is asked by a person through the running converter.
    ByHand {
        /// Whom.
        station: Box<Station>,
        /// What; the station is number 0.
        ask: Box<Ask>,
    },
    /// A unit answers a forwarded request.
    Pass {
        /// The unit on this port.
        unit: u16,
        /// The request.
        message: Message,
        /// It goes before requests that only read.
        first: bool,
    },
}

/// One thing that is wanted, and who waits for its end.
pub struct Queued {
    /// Who wants it.
    pub client: ClientId,
    /// What.
    pub line_request: LineRequest,
    /// Told how it ended.
    pub reply: Reply,
}

/// The queue of one port.
#[derive(Default)]
pub struct LineQueue {
    turns: Mutex<Turns>,
    wake: Mutex<Option<Box<dyn Fn() + Send + Sync>>>,
}

#[derive(Default)]
struct Turns {
    /// Each client's jobs; the one whose turn is next stands first.
    clients: VecDeque<(ClientId, VecDeque<Queued>)>,
    waiting: usize,
}

impl LineQueue {
    fn turns(&self) -> MutexGuard<'_, Turns> {
        self.turns.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Sets what wakes the port's driver.
    pub fn set_wake(&self, wake: impl Fn() + Send + Sync + 'static) {
        *self.wake.lock().unwrap_or_else(PoisonError::into_inner) = Some(Box::new(wake));
    }

    /// Wakes the port's driver: something may be due.
    pub fn wake(&self) {
        if let Some(wake) = &*self.wake.lock().unwrap_or_else(PoisonError::into_inner) {
            wake();
        }
    }

    /// Adds a job; when its client has too many of them that is told at once, and `false` returned.
    pub fn push(&self, job: Queued) -> bool {
        let mut turns = self.turns();
        let full = turns.waiting >= WAITING_ALL;
        match turns.clients.iter_mut().find(|(client, _)| *client == job.client) {
            Some((_, jobs)) if full || jobs.len() >= WAITING_EACH => {
                drop(turns);
                (job.reply)(Err(Refusal::new(Kind::Busy, Blame::Us)));
                return false;
            }
            Some((_, jobs)) => jobs.push_back(job),
            None => turns.clients.push_back((job.client, VecDeque::from([job]))),
        }
        turns.waiting += 1;
        drop(turns);
        self.wake();
        true
    }

    /// The next job: a write that goes first, else one of the client whose turn it is.
    pub fn take(&self) -> Option<Queued> {
        let mut turns = self.turns();
        let first = |job: &Queued| matches!(&job.line_request, LineRequest::Pass { message, first: true, .. } if message.writes);
        let ahead = turns.clients.iter().position(|(_, jobs)| jobs.front().is_some_and(first)).unwrap_or(0);
        let (client, mut jobs) = turns.clients.remove(ahead)?;
        let job = jobs.pop_front();
        if !jobs.is_empty() {
            turns.clients.push_back((client, jobs));
        }
        turns.waiting -= usize::from(job.is_some());
        job
    }

    /// Whether a request waits.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.turns().waiting == 0
    }

    /// Refuses all that wait: the port is going away.
    pub fn refuse_all(&self) {
        while let Some(job) = self.take() {
            (job.reply)(Err(Refusal::new(Kind::NoPath, Blame::File)));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn job(client: u64, unit: u16, writes: bool, first: bool) -> Queued {
        let message = Message { code: 3, body: vec![], writes };
        Queued {
            client: ClientId(client),
            line_request: LineRequest::Pass { unit, message, first },
            reply: Box::new(|_| {}),
        }
    }

    fn units(queue: &LineQueue) -> Vec<u16> {
        let unit = |job: Queued| match job.line_request {
            LineRequest::Pass { unit, .. } => unit,
            LineRequest::Write(_) | LineRequest::ByHand { .. } => 0,
        };
        std::iter::from_fn(|| queue.take()).map(unit).collect()
    }

    #[test]
    fn those_who_ask_take_turns_however_much_one_of_them_wants() {
        let queue = LineQueue::default();
        for unit in 10..14 {
            queue.push(job(1, unit, false, false));
        }
        queue.push(job(2, 20, false, false));
        queue.push(job(3, 30, false, false));
        assert_eq!(units(&queue), [10, 20, 30, 11, 12, 13]);
        assert!(queue.is_empty());
    }

    #[test]
    fn writes_go_first_where_that_is_asked() {
        let queue = LineQueue::default();
        queue.push(job(1, 10, false, true));
        queue.push(job(2, 20, true, true));
        assert_eq!(units(&queue), [20, 10]);
        queue.push(job(1, 10, false, false));
        queue.push(job(2, 20, true, false));
        assert_eq!(units(&queue), [10, 20]);
    }

    #[test]
    fn who_floods_fills_only_its_own_queue_and_is_told_at_once() {
        let queue = LineQueue::default();
        let refused = std::sync::Arc::new(std::sync::atomic::AtomicUsize::new(0));
        for _ in 0..WAITING_EACH + 5 {
            let refused = std::sync::Arc::clone(&refused);
            let mut job = job(1, 10, false, false);
            job.reply = Box::new(move |result: Result<Vec<u8>, Refusal>| {
                assert_eq!(result, Err(Refusal::new(Kind::Busy, Blame::Us)));
                refused.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
            });
            queue.push(job);
        }
        assert_eq!(refused.load(std::sync::atomic::Ordering::Relaxed), 5);
        assert!(queue.push(job(2, 20, false, false)), "another client has a queue of its own");
        assert_eq!(units(&queue)[1], 20, "and its turn after one request of the first");
    }

    #[test]
    fn when_all_places_are_taken_a_newcomer_still_gets_one() {
        let queue = LineQueue::default();
        for client in 0..64 {
            for _ in 0..WAITING_EACH {
                assert!(queue.push(job(client, 10, false, false)));
            }
        }
        assert!(!queue.push(job(63, 10, false, false)));
        assert!(queue.push(job(64, 20, false, false)) && !queue.push(job(64, 20, false, false)));
    }
}
