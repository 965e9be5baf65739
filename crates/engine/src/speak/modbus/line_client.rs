//! A client on an RTU or ASCII line, or on a stream that carries such frames: one question at a time, no transaction
//! number.
//!
//! ```text
//! Free ──ask──► Quiet ──silence over──► Waiting ──answer──► Free
//!                 ▲                        │
//!                 └──a try left── Resting ◄┘ nothing, damage, or an answer to something else
//! ```
//! An answer that comes after timeout and rest still may look like the next one: RTU has no number to tell them apart. So
//! a question that looks like one that was given up waits until the unit has answered another one that does not: see
//! [`Unsettled`]. Where a place has no parts, or the unit does not answer that, the question itself is asked once more
//! for each that was given up, and only the last answer is taken: it belongs to that question, whatever the others were.
//!
//! A broadcast has no answer: the line waits its turn-round delay and is free again.
//!
//! A late answer looks like the next one: an answer must agree in unit, function, length and echo with its question,
//! and after a failure the line rests while whatever comes is thrown away. A unit that answers later than that, into the
//! question to the next one, is waited for longer from then on.

use super::question::{Likeness, Question};
use super::unsettled::Unsettled;
use crate::Moment;
use crate::speak::{Act, Ask, Client, ClientSetup, Delivered, News, Ticket};
use std::collections::BTreeMap;
use woodrush_core::budget::LineTime;
use woodrush_core::plan::Station;
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::modbus::{BROADCAST, ascii, rtu};

/// Bytes came and then nothing for so long: the rest is not coming. Adapters deliver up to some 16 ms late.
const STALLED: u64 = 50_000;
/// The same between the characters of an ASCII frame (SER 2.5.2.1).
const ASCII_STALLED: u64 = 1_000_000;
/// An answer that is said twice has no more characters of silence between the two.
const ECHO: u32 = 4;
/// Most bytes kept of what came: twice the longest frame; what is older belongs to no answer.
const KEPT: usize = 2 * ascii::FRAME_MAX;

pub(super) struct LineClient {
    ascii: bool,
    stations: Vec<Station>,
    line: LineTime,
    retries: u32,
    state: LineState,
    /// The line must be silent until then.
    quiet_until: Moment,
    /// What came while waiting.
    came: Vec<u8>,
    last_byte: Moment,
    done: Option<(Ticket, Result<Vec<u8>, Refusal>)>,
    up: bool,
    /// Questions that were given up, whose answers may still come.
    unsettled: Unsettled,
    /// The unit that answered last, and what its answer looked like: an echo of it may follow.
    answered: Option<(u8, Likeness)>,
    /// Units whose answers came into the questions to others, and how long after they were given up, in microseconds:
    /// the line rests so long after them, until they answer in time.
    late: BTreeMap<u8, u64>,
}

enum LineState {
    Free,
    Quiet { asked: LineQuestion },
    Waiting { asked: LineQuestion, sent_by: Moment },
    Turning { asked: LineQuestion, until: Moment },
    Resting { asked: LineQuestion, until: Moment },
}

struct LineQuestion {
    ticket: Ticket,
    question: Question,
    tries_left: u32,
    /// What went wrong with the try before.
    trouble: Kind,
    /// What is asked before it, to settle which answers may still come.
    first: Option<Question>,
    /// So many of its answers may be answers to older questions.
    doubtful: usize,
    /// That was so when this try began.
    is_doubted: bool,
    /// Another unit spoke meanwhile.
    interrupted: bool,
}

impl LineClient {
    pub(super) fn rtu(setup: &ClientSetup<'_>) -> Self {
        Self::new(false, setup)
    }

    pub(super) fn ascii(setup: &ClientSetup<'_>) -> Self {
        Self::new(true, setup)
    }

    fn new(ascii: bool, setup: &ClientSetup<'_>) -> Self {
        Self {
            ascii,
            stations: setup.stations.to_vec(),
            line: setup.line,
            retries: setup.retries,
            state: LineState::Free,
            quiet_until: Moment(0),
            came: vec![],
            last_byte: Moment(0),
            done: None,
            up: true,
            unsettled: Unsettled::default(),
            answered: None,
            late: BTreeMap::new(),
        }
    }

    /// Looks for the answer in what came; `still` says that no more is coming.
    fn look(&mut self, still: bool) {
        let LineState::Waiting { asked, .. } = &mut self.state else { return };
        let question = asked.first.as_ref().unwrap_or(&asked.question);
        let found = match self.ascii {
            true => question.in_ascii(&self.came, still),
            false => question.in_rtu(&self.came, still),
        };
        let Some((found, end)) = found else { return };
        self.came.drain(..end);
        let LineState::Waiting { mut asked, .. } = std::mem::replace(&mut self.state, LineState::Free) else {
            return;
        };
        self.quiet_until = self.last_byte + self.line.own_frame_gap;
        let unit = asked.question.unit;
        if let Some(first) = asked.first.take() {
            // A place that is not there is an answer like any other; a unit that does not want to says nothing of it.
            let settles = match &found {
                Ok(_) => true,
                Err(refusal) => {
                    matches!(refusal.kind, Kind::NoSuchCommand | Kind::NoSuchAddress | Kind::BadValue)
                }
            };
            if settles {
                self.unsettled.settle(unit);
                if found.is_err() {
                    // A refusal tells its function only, and may be that of an older question: then this one's is to come.
                    self.unsettled.give_up(self.last_byte, &first, self.line.timeout);
                }
                asked.is_doubted = false;
                self.state = LineState::Quiet { asked };
            } else {
                self.done = Some((asked.ticket, found));
            }
            return;
        }
        if let Some(doubtful) = asked.doubtful.checked_sub(1) {
            asked.doubtful = doubtful;
            // An echo of it is over by then.
            self.quiet_until = self.last_byte + self.line.rest();
            self.state = LineState::Quiet { asked };
            return;
        }
        self.late.remove(&unit);
        if asked.question.is_refused(&found) && self.unsettled.refuses_alike(&asked.question) {
            self.unsettled.give_up(self.last_byte, &asked.question, self.line.timeout);
        } else if !asked.is_doubted {
            self.unsettled.settle(unit);
        }
        self.answered = Some((unit, asked.question.likeness()));
        self.done = Some((asked.ticket, found));
    }

    /// Until when the line is silent before the question that waits: where the last answer looked like the one that it will
    /// get, for as long as an echo of that takes to begin.
    fn quiet_until(&self) -> Moment {
        let echo = match (&self.state, &self.answered) {
            (LineState::Quiet { asked }, Some((unit, likeness))) => {
                asked.question.unit == *unit && asked.question.likeness() == *likeness
            }
            _ => false,
        };
        let echo = if echo { self.last_byte + self.line.bytes(ECHO) } else { Moment(0) };
        self.quiet_until.max(echo)
    }

    /// What the bytes that came were, if they were no answer.
    fn trouble(&self) -> Kind {
        if self.came.is_empty() {
            return Kind::NoAnswer;
        }
        let sound = match self.ascii {
            true => matches!(ascii::find(&self.came, true), ascii::Found::Frame { .. }),
            false => matches!(rtu::find(rtu::Way::Response, &self.came, true), rtu::Found::Frame { .. }),
        };
        if sound { Kind::Mismatch } else { Kind::Damaged }
    }

    /// Puts aside what other units said, who answer older questions or to the wrong number: the unit that was asked
    /// keeps its time (SER 2.4.1). Says whether that was all.
    fn put_aside(&mut self) -> bool {
        let LineState::Waiting { asked, .. } = &mut self.state else { return false };
        let (mut rest, mut others) = (self.came.as_slice(), vec![]);
        while !rest.is_empty() {
            let (unit, end) = match self.ascii {
                true => match ascii::find(rest, true) {
                    ascii::Found::Frame { used, frame } => (Some(frame.addressed().unit), used),
                    ascii::Found::Noise { skip, .. } => (None, skip),
                    ascii::Found::More => return false,
                },
                false => match rtu::find(rtu::Way::Response, rest, true) {
                    rtu::Found::Frame { skip, length, frame } => (Some(frame.unit), skip + length),
                    rtu::Found::Noise { skip } => (None, skip),
                    rtu::Found::More => return false,
                },
            };
            let Some(unit) = unit.filter(|unit| *unit != asked.question.unit) else { return false };
            others.push(unit);
            rest = rest.get(end..).unwrap_or_default();
        }
        asked.interrupted |= !others.is_empty();
        self.came.clear();
        for unit in &others {
            if let Some(given_up) = self.unsettled.given_up(*unit) {
                let later = self.last_byte.since(given_up) + self.line.own_frame_gap;
                self.late.insert(*unit, later.min(self.line.timeout));
            }
        }
        !others.is_empty()
    }

    fn fail(&mut self, now: Moment) {
        let kind = self.trouble();
        let LineState::Waiting { mut asked, .. } = std::mem::replace(&mut self.state, LineState::Free) else {
            return;
        };
        let kind = if asked.interrupted && kind == Kind::NoAnswer { Kind::Mismatch } else { kind };
        asked.interrupted = false;
        self.came.clear();
        asked.trouble = kind;
        match asked.first.take() {
            Some(first) => {
                self.unsettled.give_up(now, &first, self.line.timeout);
                self.unsettled.mark_deaf(first.unit);
            }
            None => {
                self.unsettled.give_up(now, &asked.question, self.line.timeout);
                self.unsettled.unmark_deaf(asked.question.unit);
            }
        }
        let late = self.late.get(&asked.question.unit).copied().unwrap_or(0);
        self.state = LineState::Resting { asked, until: now + self.line.rest().max(late) };
    }

    fn end(&mut self, ticket: Ticket, kind: Kind) {
        let blame = if kind == Kind::NoPath { Blame::Line } else { Blame::Device };
        self.done = Some((ticket, Err(Refusal::new(kind, blame))));
        self.state = LineState::Free;
    }
}

impl Client for LineClient {
    fn set_up(&mut self, setup: &ClientSetup<'_>) {
        (self.stations, self.line, self.retries) = (setup.stations.to_vec(), setup.line, setup.retries);
    }

    fn is_free(&self) -> bool {
        matches!(self.state, LineState::Free) && self.done.is_none()
    }

    fn ask(&mut self, ticket: Ticket, ask: Ask) {
        if !self.up {
            return self.end(ticket, Kind::NoPath);
        }
        let question = Question::of(&self.stations, &ask);
        let asked = LineQuestion {
            ticket,
            question,
            tries_left: self.retries,
            trouble: Kind::NoAnswer,
            first: None,
            doubtful: 0,
            is_doubted: false,
            interrupted: false,
        };
        self.state = LineState::Quiet { asked };
    }

    fn ask_once(&mut self, ticket: Ticket, ask: Ask) {
        self.ask(ticket, ask);
        if let LineState::Quiet { asked } = &mut self.state {
            asked.tries_left = 0;
        }
    }

    fn handle(&mut self, now: Moment, news: News<'_>) {
        match news {
            News::Up => self.up = true,
            News::Down => {
                self.up = false;
                self.came.clear();
                self.unsettled.forget();
                let ticket = match &self.state {
                    LineState::Free => return,
                    LineState::Quiet { asked }
                    | LineState::Waiting { asked, .. }
                    | LineState::Turning { asked, .. }
                    | LineState::Resting { asked, .. } => asked.ticket,
                };
                self.end(ticket, Kind::NoPath);
            }
            News::Bytes(bytes) => {
                self.last_byte = now;
                match &mut self.state {
                    LineState::Waiting { .. } => {
                        let excess = (self.came.len() + bytes.len()).saturating_sub(KEPT);
                        self.came.drain(..excess.min(self.came.len()));
                        let kept = bytes.get(bytes.len().saturating_sub(KEPT)..);
                        self.came.extend_from_slice(kept.unwrap_or_default());
                        self.look(false);
                    }
                    // What comes now answers an older request: let it finish.
                    LineState::Resting { until, .. } => *until = (*until).max(now + self.line.own_frame_gap),
                    LineState::Free | LineState::Quiet { .. } | LineState::Turning { .. } => {
                        self.quiet_until = self.quiet_until.max(now + self.line.own_frame_gap)
                    }
                }
            }
        }
    }

    fn poll(&mut self, now: Moment) -> Act {
        if let Some((ticket, result)) = self.done.take() {
            return Act::Done(ticket, result.map(Delivered::from));
        }
        let quiet_until = self.quiet_until();
        match &mut self.state {
            LineState::Free => Act::Rest,
            LineState::Quiet { .. } if now < quiet_until => Act::WaitUntil(quiet_until),
            LineState::Quiet { .. } => {
                let LineState::Quiet { mut asked } = std::mem::replace(&mut self.state, LineState::Free)
                else {
                    return Act::Rest;
                };
                if !asked.is_doubted {
                    let alike = self.unsettled.alike(now, &asked.question);
                    asked.is_doubted = alike > 0;
                    asked.first = self.unsettled.question(&asked.question).filter(|_| alike > 0);
                    asked.doubtful = if asked.first.is_some() { 0 } else { alike };
                }
                let question = asked.first.as_ref().unwrap_or(&asked.question);
                let mut frame = vec![];
                match self.ascii {
                    true => ascii::emit(question.unit, &question.pdu, &mut frame),
                    false => rtu::emit(question.unit, &question.pdu, &mut frame),
                }
                let sent_by = now + self.line.bytes(u32::try_from(frame.len()).unwrap_or(u32::MAX));
                self.came.clear();
                self.state = match asked.question.unit {
                    BROADCAST => LineState::Turning { asked, until: sent_by + self.line.turnaround },
                    _ => LineState::Waiting { asked, sent_by },
                };
                Act::Send(frame)
            }
            LineState::Turning { until, .. } if now < *until => Act::WaitUntil(*until),
            LineState::Turning { asked, .. } => {
                let ticket = asked.ticket;
                self.state = LineState::Free;
                Act::Done(ticket, Ok(Delivered::default()))
            }
            LineState::Waiting { sent_by, .. } => {
                let give_up = *sent_by + self.line.timeout;
                let stall = if self.ascii { ASCII_STALLED } else { STALLED };
                let stalled =
                    if self.came.is_empty() { Moment::NEVER } else { self.last_byte.max(*sent_by) + stall };
                let until = give_up.min(stalled);
                if now < until {
                    return Act::WaitUntil(until);
                }
                self.look(true);
                let still_asked = matches!(self.state, LineState::Waiting { .. });
                if still_asked && (now >= give_up || !self.put_aside()) {
                    self.fail(now);
                }
                self.poll(now)
            }
            LineState::Resting { until, .. } if now < *until => Act::WaitUntil(*until),
            LineState::Resting { .. } => {
                let LineState::Resting { mut asked, .. } =
                    std::mem::replace(&mut self.state, LineState::Free)
                else {
                    return Act::Rest;
                };
                if asked.tries_left == 0 {
                    self.end(asked.ticket, asked.trouble);
                } else {
                    asked.tries_left -= 1;
                    asked.is_doubted = false;
                    self.state = LineState::Quiet { asked };
                }
                self.poll(now)
            }
        }
    }
}
