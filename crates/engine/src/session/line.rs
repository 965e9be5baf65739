//! A line on which others ask: the answers come no earlier than a silence after the request.

use super::{Session, SessionAct};
use crate::Moment;
use crate::line::LineAct;
use crate::shared::{Reply, ReplyOutcome, ReplyTicket};
use crate::speak::News;

/// What comes next on a line on which others ask.
#[must_use = "a step that is not carried out stalls the line"]
pub enum LineStep {
    /// For the driver.
    Act(LineAct),
    /// As [`SessionAct::Hand`].
    Hand(ReplyTicket),
}

/// The converter as one of those who answer on a line. Where messages have no number, an answer is good only until others are
/// heard, or the master's time for it is past: later it would stand in somebody else's exchange.
pub struct LineSession {
    answering: Session,
    /// When the last byte was heard.
    last_byte: Moment,
    answer: Option<Vec<u8>>,
}

impl LineSession {
    /// On the line of its port.
    #[must_use]
    pub const fn new(answering: Session) -> Self {
        Self { answering, last_byte: Moment(0), answer: None }
    }

    /// Kept between the last byte of a request and its answer, in microseconds.
    fn frame_gap(&self) -> u64 {
        self.answering.line().map_or(0, |line| line.frame_gap)
    }

    /// Takes news of the line.
    pub fn handle(&mut self, now: Moment, news: News<'_>) {
        match news {
            // What follows at once belongs to the request: adapters add a byte when they turn round.
            News::Bytes(_) => {
                let is_other = now > self.last_byte + self.frame_gap();
                if is_other && self.answering.answers_expire() {
                    if self.answering.is_waiting() {
                        self.answering.abandon(now);
                        self.answering.dropped_answer();
                    } else if self.answer.take().is_some() {
                        self.answering.dropped_answer();
                    }
                }
                self.last_byte = now;
            }
            News::Down => self.answer = None,
            News::Up => {}
        }
        self.answering.handle(now, news);
    }

    /// As [`Session::ended`].
    pub fn ended(&mut self, now: Moment, ticket: ReplyTicket, outcome: ReplyOutcome) {
        self.answering.ended(now, ticket, outcome);
    }

    /// Whether a request is in the hands of another port.
    #[must_use]
    pub fn is_waiting(&self) -> bool {
        self.answering.is_waiting()
    }

    /// As [`Session::submit`].
    pub fn submit(&mut self, reply: Reply) {
        self.answering.submit(reply);
    }

    /// What to do now.
    pub fn poll(&mut self, now: Moment) -> LineStep {
        loop {
            if let Some(bytes) = self.answer.take() {
                let free = self.last_byte + self.frame_gap();
                if now >= free {
                    return LineStep::Act(LineAct::Send(bytes));
                }
                self.answer = Some(bytes);
                return LineStep::Act(LineAct::WaitUntil(free));
            }
            match self.answering.poll(now) {
                SessionAct::Send(_) if self.is_too_late(now) => self.answering.dropped_answer(),
                SessionAct::Send(bytes) => self.answer = Some(bytes),
                SessionAct::Hand(ticket) => return LineStep::Hand(ticket),
                SessionAct::WaitUntil(moment) => return LineStep::Act(LineAct::WaitUntil(moment)),
                // A line is not closed: what made no sense has been dropped.
                SessionAct::HangUp(_) | SessionAct::Rest => return LineStep::Act(LineAct::Rest),
            }
        }
    }

    /// Whether the master has given up on what it asked last.
    fn is_too_late(&self, now: Moment) -> bool {
        let patience = self.answering.line().filter(|line| line.char_nanos > 0).map(|line| line.timeout);
        let patience = patience.filter(|_| self.answering.answers_expire());
        patience.is_some_and(|patience| now.since(self.last_byte) > patience)
    }
}
