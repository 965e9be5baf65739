//! Listening to DF1, in full and half duplex.

use crate::Moment;
use crate::speak::observer::{AnswerMeaning, Asked, Heard, Observer, ObserverSetup, Pending, Says, Side};
use crate::speak::tables::TableEar;
use std::collections::VecDeque;
use woodrush_core::protocol::StationId;
use woodrush_core::protocol::df1::check;
use woodrush_wire::df1::{Heard as Found, Message, Scanner, Symbol};

pub(super) struct TableObserver {
    ear: TableEar,
    sides: [(Scanner, Pending); 3],
    heard: VecDeque<Heard>,
}

impl TableObserver {
    pub(super) fn new(half: bool, setup: &ObserverSetup<'_>) -> Self {
        let scanner = || (Scanner::new(check(setup.port), half), Pending::default());
        Self { ear: TableEar::new(setup), sides: [scanner(), scanner(), scanner()], heard: VecDeque::new() }
    }

    fn request(&self, message: &Message<'_>, to: Option<u8>) -> Asked {
        let (words, code, touches) = self.ear.asked(message.cmd, message.body);
        let body = [&[message.cmd][..], message.body].concat();
        let station = to.unwrap_or(message.dst);
        Asked {
            station: Some(StationId::Number(station.into())),
            number: Some(message.tns.into()),
            code,
            words,
            touches,
            all: to == Some(0xFF),
            body,
        }
    }

    fn message(&self, station: Option<u8>, data: &[u8]) -> Says {
        match Message::parse(data) {
            Ok(message) if message.is_reply() => Says::Answer {
                station: Some(StationId::Number(message.src.into())),
                number: Some(message.tns.into()),
                body: [&[message.sts][..], message.body].concat(),
            },
            Ok(message) => Says::Request(Box::new(self.request(&message, station))),
            Err(error) => Says::Noise(error.to_string()),
        }
    }

    fn take(&mut self, began: Moment, now: Moment, side: Side, byte: u8) {
        let Some((scanner, pending)) = self.sides.get_mut(side.index()) else { return };
        pending.take(began, now, &[byte]);
        // Who says it where both are heard on the same wires: only a master polls, and only a slave has nothing to send.
        let mut from = side;
        let mut told = |who: Side| from = if side == Side::Either { who } else { side };
        let sign = |words: &'static str, bad| Says::Sign { words: words.into(), bad };
        let says = match scanner.push(byte) {
            Found::Nothing => return,
            Found::Stray => Says::Noise("a symbol that has no business outside of a message".into()),
            Found::Damaged(_, why) => Says::Noise(why.into()),
            Found::Symbol(Symbol::Ack) => sign("ACK: the message is taken", false),
            Found::Symbol(Symbol::Nak) => sign("NAK: the message is refused", true),
            Found::Symbol(Symbol::Enq) => sign("ENQ: say your last response again", true),
            Found::Symbol(Symbol::Eot) => {
                told(Side::Answers);
                sign("EOT: nothing to send", false)
            }
            Found::Poll(node) => {
                told(Side::Asks);
                Says::Sign { words: format!("poll of node {node}").into(), bad: false }
            }
            Found::Message { station, data } => {
                let data = data.to_vec();
                let says = self.message(station, &data);
                told(if matches!(says, Says::Answer { .. }) { Side::Answers } else { Side::Asks });
                says
            }
        };
        if let Some((_, pending)) = self.sides.get_mut(side.index()) {
            let count = pending.bytes.len();
            self.heard.push_back(pending.cut(from, count, says));
        }
    }
}

impl Observer for TableObserver {
    fn handle(&mut self, began: Moment, now: Moment, side: Side, bytes: &[u8]) {
        self.silence(now);
        for byte in bytes {
            self.take(began, now, side, *byte);
        }
    }

    fn poll(&mut self, now: Moment) -> Option<Heard> {
        self.silence(now);
        self.heard.pop_front()
    }

    fn answer(&self, request: &Asked, answer: &[u8]) -> AnswerMeaning {
        let Some((sts, data)) = answer.split_first() else {
            return AnswerMeaning::Unfitting("it has no STS".into());
        };
        let Some((cmd, body)) = request.body.split_first() else {
            return AnswerMeaning::Words(format!("{} bytes", data.len()));
        };
        self.ear.answer((*cmd, body), *sts, data)
    }

    fn reset(&mut self) {
        for (scanner, pending) in &mut self.sides {
            scanner.reset();
            pending.clear();
        }
        self.heard.clear();
    }
}

impl TableObserver {
    /// What silence ends.
    fn silence(&mut self, now: Moment) {
        for (side, (scanner, pending)) in
            [Side::Asks, Side::Answers, Side::Either].into_iter().zip(&mut self.sides)
        {
            if pending.is_still(now) {
                let why = if scanner.is_inside() { "a message without its end" } else { "no message" };
                scanner.reset();
                let count = pending.bytes.len();
                self.heard.push_back(pending.cut(side, count, Says::Noise(why.into())));
            }
        }
    }
}
