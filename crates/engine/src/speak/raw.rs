//! Raw bytes: nobody asks and nobody answers in them; forwarding pipes them through without a machine.

use super::Speaker;
use super::observer::{AnswerMeaning, Asked, Heard, Observer, Says, Side};
use crate::Moment;
use std::collections::VecDeque;

/// `raw`.
pub(super) const RAW: Speaker = Speaker {
    name: "raw",
    client: None,
    server: None,
    observer: |_| Box::new(RawEar::default()),
    behaviour: None,
    node: None,
    finder: None,
    roll_call: None,
    discovery: None,
    frames: None,
};

/// Listening to bytes that are not understood here: each piece as it comes.
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
