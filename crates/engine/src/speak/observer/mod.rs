//! Listening to two others: what each message says, without asking or answering anything.

use super::Subscription;
use crate::Moment;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::collections::VecDeque;
use woodrush_core::plan::Station;
use woodrush_core::protocol::{Setup, Space, StationId, Verb};

/// Whose bytes they are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum Side {
    /// Of the client.
    Asks,
    /// Of the server.
    Answers,
    /// Of one of them: both are heard on the same wires.
    Either,
}

impl Side {
    /// Its place in a row of the three.
    pub(super) const fn index(self) -> usize {
        match self {
            Self::Asks => 0,
            Self::Answers => 1,
            Self::Either => 2,
        }
    }
}

/// What is known of a conversation before anything is heard.
pub struct ObserverSetup<'a> {
    /// Keys of the protocol at the port.
    pub port: &'a Setup,
    /// Who may be asked there, as far as that is known: their tables tell what addresses mean.
    pub stations: &'a [Station],
    /// What our converter lets come by itself there.
    pub published: &'a [Subscription],
}

/// One thing that was heard.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Heard {
    /// Who said it; `Either` where that cannot be told.
    pub side: Side,
    /// When its first bytes passed.
    pub began: Moment,
    /// When its last bytes had passed.
    pub ended: Moment,
    /// All of it as it passed, framing with it.
    pub bytes: Vec<u8>,
    /// What it says.
    pub says: Says,
}

/// What something says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Says {
    /// A station is asked.
    Request(Box<Asked>),
    /// A station answers; [`Observer::answer`] says what, together with the request.
    Answer {
        /// Who answers, where the protocol says it.
        station: Option<StationId>,
        /// The number by which it finds its request, where there is one.
        number: Option<u32>,
        /// Without framing, station and number.
        body: Vec<u8>,
    },
    /// Values that nobody asked for; what they are of is told as a request tells it, with the cells.
    Published(Box<Asked>),
    /// Bytes that are sent again and again, asked or not; told like what is published.
    Cycle {
        /// What it carries.
        what: Box<Asked>,
        /// Whether it differs from the one before.
        changed: bool,
        /// How many before it were alike.
        unchanged: u64,
    },
    /// A sign of the link, which carries nothing.
    Sign {
        /// In words.
        words: Cow<'static, str>,
        /// Whether it tells of a failure.
        bad: bool,
    },
    /// Bytes that are no message, and why, in words.
    Noise(String),
}

/// A request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Asked {
    /// Who is asked, where the protocol says it.
    pub station: Option<StationId>,
    /// The number by which the answer finds it, where there is one.
    pub number: Option<u32>,
    /// What the protocol chooses its commands by.
    pub code: u32,
    /// The command in words: `read holding registers`.
    pub words: Cow<'static, str>,
    /// Where it reads and writes; empty where it has no addresses.
    pub touches: Vec<Touch>,
    /// It is for all, and nobody answers.
    pub all: bool,
    /// Without framing, station and number.
    pub body: Vec<u8>,
}

/// Grains in a row that a request reads or writes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Touch {
    /// Whether it reads or writes them.
    pub verb: Verb,
    /// In which table.
    pub space: Space,
    /// Zero-based address of the first grain.
    pub first: u32,
    /// How many.
    pub count: u32,
    /// What is written, in canonical order; nothing for a read, where only some bits change, and where what comes by
    /// itself is called bad by who sends it.
    pub cells: Option<Vec<u8>>,
}

/// What an answer says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AnswerMeaning {
    /// Cells of what was to be read, in canonical order, in the order of the request's reads; none for a write.
    Good(Vec<Vec<u8>>),
    /// Good, and no cells: in words.
    Words(String),
    /// A refusal by the station's own number.
    Refused((&'static str, u32)),
    /// Some of what was asked for came and some was refused: by the request's touches, in their order; of a write no cells.
    Partly(Vec<Result<Vec<u8>, (&'static str, u32)>>),
    /// It is no answer to this request, and why, in words.
    Unfitting(String),
}

/// Listens to one conversation in one protocol. It never says anything, and nothing that it hears makes it stop.
///
/// After each piece call `poll` until it has nothing more; call it now and then without news too, for what only silence
/// ends.
pub trait Observer: Send {
    /// Takes bytes as they pass: from `began` on, and the last of them at `now`.
    fn handle(&mut self, began: Moment, now: Moment, side: Side, bytes: &[u8]);
    /// The next thing that was heard, in the order of its end.
    fn poll(&mut self, now: Moment) -> Option<Heard>;
    /// What an answer says to a request.
    fn answer(&self, request: &Asked, answer: &[u8]) -> AnswerMeaning;
    /// Forgets what is unfinished: the connection is a new one, or something was missed.
    fn reset(&mut self);
}

/// Bytes of one side that are no whole message yet, and when they passed.
#[derive(Debug, Default)]
pub(super) struct Pending {
    pub(super) bytes: Vec<u8>,
    /// What they came in: how many of each piece are left, and when it passed.
    pieces: VecDeque<Arrival>,
    last: Moment,
}

#[derive(Debug, Clone, Copy)]
struct Arrival {
    left: usize,
    began: Moment,
    ended: Moment,
}

/// Bytes came, no whole message, and then nothing for so long: it is not coming any more. Longer than the bursts of
/// adapters, shorter than any timeout.
const STILL: u64 = 60_000;
/// Most bytes that wait for their end; more than the longest message of any protocol.
const PENDING_MAX: usize = 128 * 1024;

impl Pending {
    pub(super) fn take(&mut self, began: Moment, now: Moment, bytes: &[u8]) {
        self.last = now;
        let left = PENDING_MAX.saturating_sub(self.bytes.len()).min(bytes.len());
        self.bytes.extend(bytes.iter().take(left));
        if left > 0 {
            self.pieces.push_back(Arrival { left, began, ended: now });
        }
    }

    /// Where pieces begin behind the first one: where messages are most likely to begin.
    pub(super) fn seams(&self) -> impl Iterator<Item = usize> {
        let ends = self.pieces.iter().scan(0, |end, piece| {
            *end += piece.left;
            Some(*end)
        });
        ends.take(self.pieces.len().saturating_sub(1))
    }

    /// Whether nothing more is coming.
    pub(super) fn is_still(&self, now: Moment) -> bool {
        !self.bytes.is_empty() && now.since(self.last) >= STILL
    }

    /// Cuts the first bytes off as something that was heard.
    pub(super) fn cut(&mut self, side: Side, count: usize, says: Says) -> Heard {
        let rest = self.bytes.split_off(count.min(self.bytes.len()));
        let bytes = std::mem::replace(&mut self.bytes, rest);
        let began = self.pieces.front().map_or(self.last, |piece| piece.began);
        let (mut ended, mut cut) = (self.last, bytes.len());
        while let Some(piece) = self.pieces.front_mut().filter(|_| cut > 0) {
            // Where a piece goes on into the next message, its own end is as near as can be told.
            ended = piece.ended;
            let own = cut.min(piece.left);
            (piece.left, cut) = (piece.left - own, cut - own);
            if piece.left == 0 {
                self.pieces.pop_front();
            } else {
                piece.began = piece.ended;
            }
        }
        Heard { side, began, ended, bytes, says }
    }

    pub(super) fn clear(&mut self) {
        self.bytes.clear();
        self.pieces.clear();
    }
}

#[cfg(test)]
mod tests;
