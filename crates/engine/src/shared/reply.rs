//! The way back of an outcome to the one session, person or test that waits for it.

use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};
use woodrush_core::{Blame, Kind, Refusal};

/// How something that was handed over has ended: nothing for a write, the body of the answer to what was passed on.
pub type ReplyOutcome = Result<Vec<u8>, Refusal>;

/// The number of something that was handed over. Who waits never uses one twice, so that an outcome that arrives late is
/// known as that of an earlier request.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ReplyTicket(pub u64);

/// Tells one outcome to whoever waits for it, exactly once: a reply that is dropped unanswered tells that the request was
/// given up.
pub struct Reply {
    ticket: ReplyTicket,
    tell: Option<Box<dyn FnOnce(ReplyTicket, ReplyOutcome) + Send>>,
}

impl Reply {
    /// With the request's ticket; `tell` is called once, on whichever thread the outcome becomes known.
    #[must_use]
    pub fn new(ticket: ReplyTicket, tell: impl FnOnce(ReplyTicket, ReplyOutcome) + Send + 'static) -> Self {
        Self { ticket, tell: Some(Box::new(tell)) }
    }

    /// Of the request that it is for.
    #[must_use]
    pub const fn ticket(&self) -> ReplyTicket {
        self.ticket
    }

    /// Tells the outcome.
    pub fn answer(mut self, outcome: ReplyOutcome) {
        self.tell_once(outcome);
    }

    fn tell_once(&mut self, outcome: ReplyOutcome) {
        if let Some(tell) = self.tell.take() {
            tell(self.ticket, outcome);
        }
    }
}

impl Drop for Reply {
    fn drop(&mut self) {
        self.tell_once(Err(given_up()));
    }
}

/// The refusal of a request that nobody works on any longer. It may have gone out before.
#[must_use]
pub(crate) const fn given_up() -> Refusal {
    Refusal::new(Kind::NoAnswer, Blame::Us).with_unknown_outcome()
}

/// The outcomes for one session that have not been looked at, put there by other threads. There are never more than
/// requests that it has handed over, which the queues of ports bound.
#[derive(Clone, Default)]
pub struct Inbox(Arc<Mutex<VecDeque<(ReplyTicket, ReplyOutcome)>>>);

impl Inbox {
    /// A reply that arrives here; `wake` is called after it has.
    #[must_use]
    pub fn reply(&self, ticket: ReplyTicket, wake: impl FnOnce() + Send + 'static) -> Reply {
        let inbox = Arc::clone(&self.0);
        Reply::new(ticket, move |ticket, outcome| {
            inbox.lock().unwrap_or_else(PoisonError::into_inner).push_back((ticket, outcome));
            wake();
        })
    }

    /// Whether one waits.
    #[must_use]
    pub fn has_come(&self) -> bool {
        !self.0.lock().unwrap_or_else(PoisonError::into_inner).is_empty()
    }

    /// The outcome that has waited longest.
    #[must_use]
    pub fn take(&self) -> Option<(ReplyTicket, ReplyOutcome)> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).pop_front()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_reply_tells_exactly_once_also_when_it_is_dropped() {
        let inbox = Inbox::default();
        let woken: Arc<Mutex<u32>> = Arc::default();
        let reply = |ticket| {
            let woken = Arc::clone(&woken);
            inbox.reply(ReplyTicket(ticket), move || *woken.lock().unwrap() += 1)
        };
        let (first, second) = (reply(1), reply(2));
        drop(second);
        first.answer(Ok(vec![7]));
        assert_eq!(inbox.take(), Some((ReplyTicket(2), Err(given_up()))));
        assert_eq!(inbox.take(), Some((ReplyTicket(1), Ok(vec![7]))));
        assert_eq!((inbox.take(), *woken.lock().unwrap()), (None, 2));
    }
}
