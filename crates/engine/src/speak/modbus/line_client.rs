//! A client on an RTU or ASCII line, or on a stream that carries such frames: one question at a time, no transaction
//! number.
//!
//! ```text
//! Free ──ask──► Quiet ──silence over──► Waiting ──answer──► Free
//!                 ▲                        │
//!                 └──a try left── Resting ◄┘ nothing, damage, or an answer to something else
//! ```
//! An answer that comes after timeout and rest still may look like the next one: RTU has no number to tell them apart. So
//! for a while a question whose answer cannot be told from those of questions that were given up is asked once more for
//! each of these, and only the last answer is taken: it belongs to that question, whatever the others were.
//!
//! A broadcast has no answer: the line waits its turn-round delay and is free again.
//!
//! A late answer looks like the next one: an answer must agree in unit, function, length and echo with its question,
//! and after a failure the line rests while whatever comes is thrown away. A unit that answers later than that, into the
//! question to the next one, is waited for longer from then on.

use super::Question;
use crate::Moment;
use crate::speak::{Act, Ask, Client, ClientSetup, News, Ticket};
use std::collections::BTreeMap;
use woodrush_core::budget::LineTime;
use woodrush_core::plan::Station;
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::modbus::{BROADCAST, ascii, rtu};

/// Bytes came and then nothing for so long: the rest is not coming. Adapters deliver up to some 16 ms late.
const STALLED: u64 = 50_000;
/// The same between the characters of an ASCII frame (SER 2.5.2.1).
const ASCII_STALLED: u64 = 1_000_000;
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
    given_up: Vec<GivenUp>,
    /// Units whose answers came into the questions to others, and how long after they were given up, in microseconds:
    /// the line rests so long after them, until they answer in time.
    late: BTreeMap<u8, u64>,
}

/// A question that was given up.
struct GivenUp {
    unit: u8,
    /// Function and length of its answer.
    likeness: (u8, Option<usize>),
    /// Later than that its answer does not come.
    until: Moment,
}

/// An answer may come so many timeouts late.
const LATEST: u64 = 8;
/// So many answers of one likeness may be under way.
const UNDER_WAY: usize = 3;

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
    /// So many of its answers may be answers to older questions.
    doubtful: usize,
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
            given_up: vec![],
            late: BTreeMap::new(),
        }
    }

    /// Looks for the answer in what came; `still` says that no more is coming.
    fn look(&mut self, still: bool) {
        let LineState::Waiting { asked, .. } = &mut self.state else { return };
        let found = match self.ascii {
            true => asked.question.in_ascii(&self.came, still),
            false => asked.question.in_rtu(&self.came, still),
        };
        let Some((found, end)) = found else { return };
        self.came.drain(..end);
        let ticket = asked.ticket;
        if let Some(doubtful) = asked.doubtful.checked_sub(1) {
            asked.doubtful = doubtful;
            let (unit, likeness) = (asked.question.unit, asked.question.likeness());
            let known = |old: &GivenUp| (old.unit, old.likeness) == (unit, likeness);
            if let Some(at) = self.given_up.iter().position(known) {
                self.given_up.remove(at);
            }
            self.quiet_until = self.last_byte + self.line.own_frame_gap;
            if let LineState::Waiting { asked, .. } = std::mem::replace(&mut self.state, LineState::Free) {
                self.state = LineState::Quiet { asked };
            }
            return;
        }
        self.late.remove(&asked.question.unit);
        self.quiet_until = self.last_byte + self.line.own_frame_gap;
        self.state = LineState::Free;
        self.done = Some((ticket, found));
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
            if let Some(old) = self.given_up.iter().rev().find(|old| old.unit == *unit) {
                let given_up = old.until.0.saturating_sub(LATEST * self.line.timeout);
                let later = self.last_byte.0.saturating_sub(given_up) + self.line.own_frame_gap;
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
        if !asked.question.writes() {
            let until = now + LATEST * self.line.timeout;
            let (unit, likeness) = (asked.question.unit, asked.question.likeness());
            self.given_up.retain(|old| old.until > now);
            let alike = self.given_up.iter().filter(|old| (old.unit, old.likeness) == (unit, likeness));
            if alike.count() < UNDER_WAY {
                self.given_up.push(GivenUp { unit, likeness, until });
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
            doubtful: 0,
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
                self.given_up.clear();
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
            return Act::Done(ticket, result);
        }
        match &mut self.state {
            LineState::Free => Act::Rest,
            LineState::Quiet { .. } if now < self.quiet_until => Act::WaitUntil(self.quiet_until),
            LineState::Quiet { .. } => {
                let LineState::Quiet { mut asked } = std::mem::replace(&mut self.state, LineState::Free)
                else {
                    return Act::Rest;
                };
                if !self.given_up.is_empty() {
                    self.given_up.retain(|old| old.until > now);
                    let alike = (asked.question.unit, asked.question.likeness());
                    asked.doubtful =
                        self.given_up.iter().filter(|old| (old.unit, old.likeness) == alike).count();
                }
                let mut frame = vec![];
                match self.ascii {
                    true => ascii::emit(asked.question.unit, &asked.question.pdu, &mut frame),
                    false => rtu::emit(asked.question.unit, &asked.question.pdu, &mut frame),
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
                Act::Done(ticket, Ok(vec![]))
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
                    self.state = LineState::Quiet { asked };
                }
                self.poll(now)
            }
        }
    }
}
