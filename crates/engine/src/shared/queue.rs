//! What others want of a port on which we ask: bounded, handed over between threads, in fair turns.
//!
//! Each client has a queue of its own, and the queues take turns: a client with many requests waits for its own and not
//! before others. Nobody waits longer than one request of each other who asks, plus what is under way.

use super::reply::{Reply, ReplyOutcome};
use super::{Message, on_the_way::OnTheWay};
use crate::image::DeviceWrite;
use crate::speak::Ask;
use std::collections::VecDeque;
use std::sync::atomic::{
    AtomicU8,
    Ordering::{AcqRel, Acquire},
};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use woodrush_core::plan::Station;
use woodrush_core::{Blame, Kind, Refusal};

/// Most requests of one client that wait for one port: a few seconds of a fast line. Beyond, the client is told that the
/// port is busy.
const WAITING_EACH: usize = 256;
/// Most requests of all clients that wait for one port, some MB of memory. Beyond, only a client of which nothing waits
/// yet gets a place, so that those who flood keep nobody out; there are no more clients than connections.
const WAITING_ALL: usize = 64 * WAITING_EACH;

/// Who asks, for taking turns: the same number for all connections of one machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct ClientId(pub u64);

/// Whether a request that waits may still begin: its asker may give up before it does, and then it never goes out.
#[derive(Debug, Clone, Default)]
pub struct StillWanted(Arc<AtomicU8>);

impl StillWanted {
    const WAITS: u8 = 0;
    const BEGUN: u8 = 1;
    const GIVEN_UP: u8 = 2;

    fn change(&self, to: u8) -> bool {
        self.0.compare_exchange(Self::WAITS, to, AcqRel, Acquire).is_ok()
    }

    /// It begins; `false` where its asker has given up.
    #[must_use]
    pub(crate) fn begin(&self) -> bool {
        self.change(Self::BEGUN)
    }

    /// Its asker gives up; `false` where it has begun.
    #[must_use]
    pub(crate) fn give_up(&self) -> bool {
        self.change(Self::GIVEN_UP)
    }
}

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
        /// Whether that person still waits for it to begin.
        wanted: StillWanted,
    },
    /// A unit answers a forwarded request.
    Pass {
        /// The unit on this port.
        unit: u16,
        /// The request.
        message: Message,
        /// It goes before requests that only read.
        first: bool,
        /// Where it was asked.
        asked: AskedAt,
    },
}

/// Where a request was asked that is passed on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AskedAt {
    /// The port's name.
    pub port: String,
    /// The unit there.
    pub unit: u16,
}

impl LineRequest {
    /// Whether it may change something at the station that it goes to.
    #[must_use]
    pub fn changes_something(&self) -> bool {
        match self {
            Self::Write(_) => true,
            Self::ByHand { ask, .. } => ask.changes_something(),
            Self::Pass { message, .. } => message.writes,
        }
    }
}

/// One thing that is wanted, and who waits for its end.
pub struct Queued {
    /// Who wants it.
    pub client: ClientId,
    /// What.
    pub line_request: LineRequest,
    /// Told how it ended.
    pub reply: Reply,
    /// Of a write: it counts as under way at its device until this is dropped.
    pub(crate) carried: Option<OnTheWay>,
}

impl Queued {
    /// Something that is wanted.
    #[must_use]
    pub const fn new(client: ClientId, line_request: LineRequest, reply: Reply) -> Self {
        Self { client, line_request, reply, carried: None }
    }

    /// Tells how it ended.
    pub fn end(self, outcome: ReplyOutcome) {
        // Who waits may look at what the device holds.
        drop(self.carried);
        self.reply.answer(outcome);
    }
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

impl Turns {
    fn add(&mut self, job: Queued) {
        match self.clients.iter_mut().find(|(client, _)| *client == job.client) {
            Some((_, jobs)) => jobs.push_back(job),
            None => self.clients.push_back((job.client, VecDeque::from([job]))),
        }
        self.waiting += 1;
    }
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
        let own = turns.clients.iter().find(|(client, _)| *client == job.client);
        if own.is_some_and(|(_, jobs)| full || jobs.len() >= WAITING_EACH) {
            drop(turns);
            job.end(Err(Refusal::new(Kind::Busy, Blame::Us)));
            return false;
        }
        turns.add(job);
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

    /// Takes all that wait, each client's in its order.
    #[must_use]
    pub(crate) fn take_all(&self) -> Vec<Queued> {
        let mut turns = self.turns();
        turns.waiting = 0;
        turns.clients.drain(..).flat_map(|(_, jobs)| jobs).collect()
    }

    /// Puts back something that was taken by [`LineQueue::take_all`]: it has its place already.
    pub(crate) fn put_back(&self, job: Queued) {
        self.turns().add(job);
    }

    /// Refuses all that wait.
    pub fn refuse_all(&self) {
        self.take_all().into_iter().for_each(|job| job.end(Err(Refusal::new(Kind::NoPath, Blame::File))));
    }
}

#[cfg(test)]
mod tests {
    use super::super::reply::{Inbox, ReplyTicket};
    use super::*;

    fn job(client: u64, unit: u16, writes: bool, first: bool) -> Queued {
        let message = Message { code: 3, body: vec![], writes };
        let line_request =
            LineRequest::Pass { unit, message, first, asked: AskedAt { port: "office".into(), unit } };
        Queued::new(ClientId(client), line_request, Reply::new(ReplyTicket(0), |_, _| {}))
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
        let inbox = Inbox::default();
        for ticket in 0..WAITING_EACH as u64 + 5 {
            let job = Queued { reply: inbox.reply(ReplyTicket(ticket), || {}), ..job(1, 10, false, false) };
            queue.push(job);
        }
        let told: Vec<(ReplyTicket, ReplyOutcome)> = std::iter::from_fn(|| inbox.take()).collect();
        assert_eq!(told.len(), 5);
        assert!(told.iter().all(|(_, outcome)| *outcome == Err(Refusal::new(Kind::Busy, Blame::Us))));
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
