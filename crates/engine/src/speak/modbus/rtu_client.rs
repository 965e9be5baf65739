//! A client on an RTU line: one question at a time, no transaction number.
//!
//! ```text
//! Free ──ask──► Quiet ──silence over──► Waiting ──answer──► Free
//!                 ▲                        │
//!                 └──a try left── Resting ◄┘ nothing, damage, or an answer to something else
//! ```
//! A late answer looks like the next one: an answer must agree in unit, function, length and echo with its question,
//! and after a failure the line rests while whatever comes is thrown away.

use super::{Question, rtu_answer};
use crate::Moment;
use crate::speak::{Act, Ask, Client, ClientSetup, News, Ticket};
use woodrush_core::budget::LineTime;
use woodrush_core::plan::Station;
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::modbus::rtu;

/// Bytes came and then nothing for so long: the rest is not coming. Adapters deliver up to some 16 ms late.
const STALLED: u64 = 50_000;
/// The longest rest after a failure.
const REST_MAX: u64 = 100_000;

pub(super) struct RtuClient {
    stations: Vec<Station>,
    line: LineTime,
    retries: u32,
    state: State,
    /// The line must be silent until then.
    quiet_until: Moment,
    /// What came while waiting.
    came: Vec<u8>,
    last_byte: Moment,
    done: Option<(Ticket, Result<Vec<u8>, Refusal>)>,
    up: bool,
}

enum State {
    Free,
    Quiet { asked: Asked },
    Waiting { asked: Asked, sent_by: Moment },
    Resting { asked: Asked, until: Moment },
}

struct Asked {
    ticket: Ticket,
    question: Question,
    tries_left: u32,
    /// What went wrong with the try before.
    trouble: Kind,
}

impl RtuClient {
    pub(super) fn new(setup: &ClientSetup<'_>) -> Self {
        Self {
            stations: setup.stations.to_vec(),
            line: setup.line,
            retries: setup.retries,
            state: State::Free,
            quiet_until: Moment(0),
            came: vec![],
            last_byte: Moment(0),
            done: None,
            up: true,
        }
    }

    /// Looks for the answer in what came; `still` says that no more is coming.
    fn look(&mut self, still: bool) {
        let State::Waiting { asked, .. } = &self.state else { return };
        let Some((found, end)) = rtu_answer(&asked.question, &self.came, still) else { return };
        self.came.drain(..end);
        let ticket = asked.ticket;
        self.quiet_until = self.last_byte + self.line.own_silence;
        self.state = State::Free;
        self.done = Some((ticket, found));
    }

    /// What the bytes that came were, if they were no answer.
    fn trouble(&self) -> Kind {
        if self.came.is_empty() {
            return Kind::NoAnswer;
        }
        match rtu::find(rtu::Way::Response, &self.came, true) {
            rtu::Found::Frame { .. } => Kind::Mismatch,
            _ => Kind::Damaged,
        }
    }

    fn fail(&mut self, now: Moment) {
        let kind = self.trouble();
        let State::Waiting { mut asked, .. } = std::mem::replace(&mut self.state, State::Free) else {
            return;
        };
        self.came.clear();
        asked.trouble = kind;
        let rest = (self.line.timeout / 4).min(REST_MAX).max(self.line.own_silence);
        self.state = State::Resting { asked, until: now + rest };
    }

    fn end(&mut self, ticket: Ticket, kind: Kind) {
        let blame = if kind == Kind::NoPath { Blame::Line } else { Blame::Device };
        self.done = Some((ticket, Err(Refusal::new(kind, blame))));
        self.state = State::Free;
    }
}

impl Client for RtuClient {
    fn is_free(&self) -> bool {
        matches!(self.state, State::Free) && self.done.is_none()
    }

    fn ask(&mut self, ticket: Ticket, ask: Ask) {
        if !self.up {
            return self.end(ticket, Kind::NoPath);
        }
        let question = Question::of(&self.stations, &ask);
        let asked = Asked { ticket, question, tries_left: self.retries, trouble: Kind::NoAnswer };
        self.state = State::Quiet { asked };
    }

    fn handle(&mut self, now: Moment, news: News<'_>) {
        match news {
            News::Up => self.up = true,
            News::Down => {
                self.up = false;
                self.came.clear();
                let ticket = match &self.state {
                    State::Free => return,
                    State::Quiet { asked } | State::Waiting { asked, .. } | State::Resting { asked, .. } => {
                        asked.ticket
                    }
                };
                self.end(ticket, Kind::NoPath);
            }
            News::Bytes(bytes) => {
                self.last_byte = now;
                match &mut self.state {
                    State::Waiting { .. } => {
                        // Twice the longest frame: what is older belongs to no answer.
                        let excess = (self.came.len() + bytes.len()).saturating_sub(2 * rtu::FRAME_MAX);
                        self.came.drain(..excess.min(self.came.len()));
                        self.came.extend_from_slice(
                            bytes.get(bytes.len().saturating_sub(2 * rtu::FRAME_MAX)..).unwrap_or_default(),
                        );
                        self.look(false);
                    }
                    // Whoever speaks now answers an older question: let him finish.
                    State::Resting { until, .. } => *until = (*until).max(now + self.line.own_silence),
                    State::Free | State::Quiet { .. } => {
                        self.quiet_until = self.quiet_until.max(now + self.line.own_silence)
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
            State::Free => Act::Rest,
            State::Quiet { .. } if now < self.quiet_until => Act::WaitUntil(self.quiet_until),
            State::Quiet { .. } => {
                let State::Quiet { asked } = std::mem::replace(&mut self.state, State::Free) else {
                    return Act::Rest;
                };
                let mut frame = vec![];
                rtu::emit(asked.question.unit, &asked.question.pdu, &mut frame);
                let sent_by = now + self.line.bytes(u32::try_from(frame.len()).unwrap_or(u32::MAX));
                self.came.clear();
                self.state = State::Waiting { asked, sent_by };
                Act::Send(frame)
            }
            State::Waiting { sent_by, .. } => {
                let give_up = *sent_by + self.line.timeout;
                let stalled =
                    if self.came.is_empty() { Moment::NEVER } else { self.last_byte.max(*sent_by) + STALLED };
                let until = give_up.min(stalled);
                if now < until {
                    return Act::WaitUntil(until);
                }
                self.look(true);
                if self.done.is_none() {
                    self.fail(now);
                }
                self.poll(now)
            }
            State::Resting { until, .. } if now < *until => Act::WaitUntil(*until),
            State::Resting { .. } => {
                let State::Resting { mut asked, .. } = std::mem::replace(&mut self.state, State::Free) else {
                    return Act::Rest;
                };
                if asked.tries_left == 0 {
                    self.end(asked.ticket, asked.trouble);
                } else {
                    asked.tries_left -= 1;
                    self.state = State::Quiet { asked };
                }
                self.poll(now)
            }
        }
    }
}
