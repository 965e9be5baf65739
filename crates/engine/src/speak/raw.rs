//! Raw bytes: nobody asks and nobody answers in them; forwarding pipes them through without a machine.

use super::observer::{AnswerMeaning, Asked, Heard, Observer, Says, Side};
use super::{Act, Ask, Client, ClientSetup, News, Serve, Server, ServerSetup, Speaker, Ticket};
use crate::Moment;
use std::collections::VecDeque;
use woodrush_core::{Blame, Kind, Refusal};

/// `raw`.
pub(super) const RAW: Speaker = Speaker {
    name: "raw",
    client: |_| Box::new(Mute::default()),
    server: |_| Box::new(Mute::default()),
    observer: |_| Box::new(RawEar::default()),
};

/// Listening to bytes that nobody here understands: each piece as it comes.
#[derive(Default)]
struct RawEar(VecDeque<Heard>);

impl Observer for RawEar {
    fn handle(&mut self, began: Moment, now: Moment, side: Side, bytes: &[u8]) {
        let words = format!("{} bytes", bytes.len()).into();
        let says = Says::Sign { words, bad: false };
        self.0.push_back(Heard { side, began, ended: now, bytes: bytes.to_vec(), says });
    }

    fn poll(&mut self, _now: Moment) -> Option<Heard> {
        self.0.pop_front()
    }

    fn answer(&self, _request: &Asked, _answer: &[u8]) -> AnswerMeaning {
        AnswerMeaning::Good(vec![])
    }

    fn reset(&mut self) {
        self.0.clear();
    }
}

#[derive(Default)]
struct Mute {
    asked: Option<Ticket>,
}

impl Client for Mute {
    fn is_free(&self) -> bool {
        self.asked.is_none()
    }

    fn ask(&mut self, ticket: Ticket, _ask: Ask) {
        self.asked = Some(ticket);
    }

    fn set_up(&mut self, _setup: &ClientSetup<'_>) {}

    fn handle(&mut self, _now: Moment, _news: News<'_>) {}

    fn poll(&mut self, _now: Moment) -> Act {
        match self.asked.take() {
            Some(ticket) => Act::Done(ticket, Err(Refusal::new(Kind::NoSuchCommand, Blame::File))),
            None => Act::Rest,
        }
    }
}

impl Server for Mute {
    fn held(&self) -> usize {
        0
    }

    fn set_up(&mut self, _setup: &ServerSetup) {}

    fn handle(&mut self, _now: Moment, _news: News<'_>) {}

    fn give(&mut self, _result: Result<&[u8], Refusal>) {}

    fn poll(&mut self, _now: Moment) -> Serve {
        Serve::Rest
    }

    fn native(&self, _refusal: Refusal) -> (u32, &'static str) {
        (0, "raw bytes are not answered")
    }
}
