//! One conversation as exchanges: which answer belongs to which request, and how long it took.

use crate::Moment;
use crate::speak::{AnswerMeaning, Asked, Heard, Observer, Says, Side};
use std::collections::VecDeque;
use std::sync::Arc;
use woodrush_core::protocol::StationId;

/// Requests of one conversation that may be open at once; for one more the oldest counts as not answered.
const OPEN_MAX: usize = 256;

/// One message as it passed, with what it belongs to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Passed {
    /// Who said it; `Either` where that cannot be told.
    pub side: Side,
    /// When its first bytes passed.
    pub began: Moment,
    /// When its last bytes had passed.
    pub ended: Moment,
    /// All of it, framing with it; none where nothing came.
    pub bytes: Vec<u8>,
    /// Which request and answer belong together, counted from 1 within the conversation.
    pub exchange: Option<u64>,
    /// What it is.
    pub what: Meaning,
}

/// What a message is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Meaning {
    /// A request.
    Request {
        /// What is asked.
        asked: Arc<Asked>,
        /// The same was asked before and not answered.
        again: bool,
    },
    /// The answer to a request.
    Answer {
        /// What was asked.
        asked: Arc<Asked>,
        /// What is told.
        told: AnswerMeaning,
        /// From the last byte of the request to the first of the answer, in microseconds.
        took: u64,
    },
    /// Nobody answered a request.
    Silence {
        /// What was asked.
        asked: Arc<Asked>,
        /// For how long nothing came, in microseconds.
        waited: u64,
    },
    /// Values that nobody asked for.
    Published(Arc<Asked>),
    /// Bytes that are sent again and again.
    Cycle {
        /// What it carries.
        what: Arc<Asked>,
        /// Whether it differs from the one before.
        changed: bool,
        /// How many before it were alike.
        unchanged: u64,
    },
    /// An answer to nothing that is open, in words.
    Stray(String),
    /// A sign of the link; whether it tells of a failure.
    Sign(String, bool),
    /// Bytes that are no message, and why.
    Noise(String),
}

struct OpenExchange {
    exchange: u64,
    asked: Arc<Asked>,
    ended: Moment,
}

/// Pairs what an observer reads.
pub struct Conversation {
    observer: Box<dyn Observer>,
    open: VecDeque<OpenExchange>,
    next: u64,
    /// A request counts as not answered after so long, in microseconds.
    patience: u64,
    /// A request was heard: answers before the first one are to what nobody heard.
    begun: bool,
    ready: VecDeque<Passed>,
}

/// Whether bytes of this side may be the end of something that began before anybody listened.
fn heard_of(side: Side) -> bool {
    side != Side::Asks
}

impl Conversation {
    /// Nothing has been said yet.
    #[must_use]
    pub fn new(observer: Box<dyn Observer>, patience: u64) -> Self {
        Self { observer, open: VecDeque::new(), next: 1, patience, begun: false, ready: VecDeque::new() }
    }

    /// Takes bytes as they pass; none at all where the conversation ends.
    pub fn handle(&mut self, began: Moment, ended: Moment, side: Side, bytes: &[u8]) {
        self.look(began);
        if bytes.is_empty() {
            return self.end(ended);
        }
        self.observer.handle(began, ended, side, bytes);
        self.look(ended);
    }

    /// It is over: what is open gets no answer any more.
    fn end(&mut self, now: Moment) {
        while let Some(open) = self.open.pop_front() {
            self.unanswered(open, now);
        }
        self.observer.reset();
    }

    /// Something was missed: nothing that is open can be judged.
    pub fn forget(&mut self) {
        self.open.clear();
        self.begun = false;
        self.observer.reset();
    }

    /// The next message, or the next request that got no answer.
    pub fn poll(&mut self, now: Moment) -> Option<Passed> {
        self.look(now);
        self.ready.pop_front()
    }

    fn look(&mut self, now: Moment) {
        while let Some(heard) = self.observer.poll(now) {
            self.heard(heard);
        }
        while self.open.front().is_some_and(|open| now.since(open.ended) > self.patience) {
            if let Some(open) = self.open.pop_front() {
                let given_up = open.ended + self.patience;
                self.unanswered(open, given_up);
            }
        }
    }

    fn unanswered(&mut self, open: OpenExchange, now: Moment) {
        if open.asked.all {
            return;
        }
        let waited = now.since(open.ended);
        let what = Meaning::Silence { asked: open.asked, waited };
        let (exchange, bytes) = (Some(open.exchange), vec![]);
        self.ready.push_back(Passed { side: Side::Answers, began: now, ended: now, bytes, exchange, what });
    }

    fn heard(&mut self, heard: Heard) {
        let Heard { side, began, ended, bytes, says } = heard;
        match says {
            Says::Request(_) => self.begun = true,
            // We came in the middle.
            Says::Answer { .. } | Says::Noise(_) if !self.begun && heard_of(side) => return,
            _ => {}
        }
        let (exchange, what) = match says {
            Says::Request(asked) => self.asked(*asked, began, ended),
            Says::Answer { station, number, body } => self.answered(station.as_ref(), number, &body, began),
            Says::Published(what) => (None, Meaning::Published(Arc::new(*what))),
            Says::Cycle { what, changed, unchanged } => {
                (None, Meaning::Cycle { what: Arc::new(*what), changed, unchanged })
            }
            Says::Sign { words, bad } => (None, Meaning::Sign(words.into_owned(), bad)),
            Says::Noise(why) => (None, Meaning::Noise(why)),
        };
        self.ready.push_back(Passed { side, began, ended, bytes, exchange, what });
    }

    fn asked(&mut self, asked: Asked, began: Moment, ended: Moment) -> (Option<u64>, Meaning) {
        let same = |open: &OpenExchange| {
            open.asked.number.is_some()
                && (open.asked.number, &open.asked.station) == (asked.number, &asked.station)
        };
        let repeated = self.open.iter_mut().find(|open| same(open) && open.asked.body == asked.body);
        if let Some(open) = repeated {
            open.ended = ended;
            return (Some(open.exchange), Meaning::Request { asked: Arc::clone(&open.asked), again: true });
        }
        // Without numbers there is one question at a time: a client that asks again has given the last one up.
        let mut again = false;
        let given_up: Vec<OpenExchange> = if asked.number.is_none() {
            self.open.drain(..).collect()
        } else if self.open.len() >= OPEN_MAX || self.open.iter().any(same) {
            self.open.pop_front().into_iter().collect()
        } else {
            vec![]
        };
        for open in given_up {
            again |= open.asked.number.is_none() && *open.asked == asked && !asked.all;
            self.unanswered(open, began);
        }
        let (exchange, asked) = (self.next, Arc::new(asked));
        self.next += 1;
        self.open.push_back(OpenExchange { exchange, asked: Arc::clone(&asked), ended });
        (Some(exchange), Meaning::Request { asked, again })
    }

    fn answered(
        &mut self,
        station: Option<&StationId>,
        number: Option<u32>,
        body: &[u8],
        began: Moment,
    ) -> (Option<u64>, Meaning) {
        let fits = |open: &OpenExchange| {
            open.asked.number == number
                && open.asked.station.as_ref().zip(station).is_none_or(|(asked, own)| asked == own)
        };
        let Some(at) = self.open.iter().position(fits) else {
            let shown =
                |station: Option<&StationId>| station.map_or_else(String::new, |own| format!(" of {own}"));
            let words = match self.open.back() {
                Some(open) if open.asked.number == number => {
                    format!(
                        "an answer{}, where one{} is due",
                        shown(station),
                        shown(open.asked.station.as_ref())
                    )
                }
                _ => format!("an answer{} to nothing that is open: late, or sent twice", shown(station)),
            };
            return (None, Meaning::Stray(words));
        };
        let Some(open) = self.open.remove(at) else { return (None, Meaning::Stray(String::new())) };
        let told = self.observer.answer(&open.asked, body);
        let took = began.since(open.ended);
        (Some(open.exchange), Meaning::Answer { asked: open.asked, told, took })
    }
}
