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

/// The converter as one of those who answer on a line.
pub struct LineSession {
    answering: Session,
    /// Kept between the last byte of a request and its answer, in microseconds.
    frame_gap: u64,
    last_byte: Moment,
    answer: Option<Vec<u8>>,
}

impl LineSession {
    /// With the frame_gap of its line.
    #[must_use]
    pub fn new(answering: Session, frame_gap: u64) -> Self {
        Self { answering, frame_gap, last_byte: Moment(0), answer: None }
    }

    /// Takes news of the line.
    pub fn handle(&mut self, now: Moment, news: News<'_>) {
        match news {
            News::Bytes(_) => self.last_byte = now,
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
        let free = self.last_byte + self.frame_gap;
        if let Some(bytes) = self.answer.take() {
            if now >= free {
                return LineStep::Act(LineAct::Send(bytes));
            }
            self.answer = Some(bytes);
            return LineStep::Act(LineAct::WaitUntil(free));
        }
        match self.answering.poll(now) {
            SessionAct::Send(bytes) => {
                self.answer = Some(bytes);
                self.poll(now)
            }
            SessionAct::Hand(ticket) => LineStep::Hand(ticket),
            SessionAct::WaitUntil(moment) => LineStep::Act(LineAct::WaitUntil(moment)),
            // A line is not closed: what made no sense has been dropped.
            SessionAct::HangUp(_) | SessionAct::Rest => LineStep::Act(LineAct::Rest),
        }
    }
}
