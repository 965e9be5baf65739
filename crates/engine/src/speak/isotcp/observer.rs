//! Listening to FETCH and WRITE over ISO-on-TCP.

use super::{extent, refusal};
use crate::Moment;
use crate::speak::observer::{
    AnswerMeaning, Asked, Heard, Observer, ObserverSetup, Pending, Says, Side, Touch,
};
use std::collections::VecDeque;
use woodrush_core::protocol::isotcp::space_of;
use woodrush_core::protocol::{Extent, Space, SpaceId, Verb};
use woodrush_wire::isotcp::cotp::{self, Assembly, Opening, Tpdu};
use woodrush_wire::isotcp::fetch::{Answer, Area, Request};
use woodrush_wire::isotcp::tpkt;

/// Op codes, by which requests are told apart.
const WRITE: u32 = 3;
const FETCH: u32 = 5;

pub(super) struct BlockObserver {
    sides: [(Pending, Assembly); 3],
    heard: VecDeque<Heard>,
}

impl BlockObserver {
    pub(super) fn new(_setup: &ObserverSetup<'_>) -> Self {
        Self { sides: Default::default(), heard: VecDeque::new() }
    }

    fn look(&mut self, side: Side) {
        let Some((pending, assembly)) = self.sides.get_mut(side.index()) else { return };
        loop {
            let (used, says) = match tpkt::parse(&pending.bytes) {
                Ok(None) => return,
                Ok(Some((tpdu, used))) => match cotp::parse(tpdu) {
                    Ok(unit) => (used, says(assembly, side, unit)),
                    Err(error) => (used, Some(Says::Noise(error.to_string()))),
                },
                Err(error) => (pending.bytes.len(), Some(Says::Noise(error.to_string()))),
            };
            let from = match &says {
                Some(Says::Request(_)) => Side::Asks,
                Some(Says::Answer { .. }) => Side::Answers,
                _ => side,
            };
            let piece = Says::Sign { words: "a piece of a message".into(), bad: false };
            self.heard.push_back(pending.cut(from, used, says.unwrap_or(piece)));
        }
    }
}

fn says(assembly: &mut Assembly, side: Side, unit: Tpdu<'_>) -> Option<Says> {
    let sign = |words: String, bad| Some(Says::Sign { words: words.into(), bad });
    match unit {
        Tpdu::Request(opening) => sign(format!("connection request, {}", tsaps(&opening)), false),
        Tpdu::Confirm(opening) => sign(format!("connection confirm, {}", tsaps(&opening)), false),
        Tpdu::Refuse { reason, .. } => {
            sign(format!("disconnect request: {}", cotp::refusal_words(reason)), true)
        }
        Tpdu::Closed { .. } => sign("disconnect confirm".into(), false),
        Tpdu::Error { cause, .. } => sign(format!("error: cause {cause}"), true),
        Tpdu::Data { last, data } => match assembly.take(last, data) {
            Ok(None) => None,
            Ok(Some(message)) => Some(message_says(side, message)),
            Err(error) => Some(Says::Noise(error.to_string())),
        },
    }
}

fn tsaps(opening: &Opening<'_>) -> String {
    let hex = |bytes: Option<&[u8]>| {
        let pairs = bytes.unwrap_or_default().iter().map(|byte| format!("{byte:02X}"));
        pairs.collect::<Vec<_>>().join(".")
    };
    format!("calling TSAP {}, called {}", hex(opening.calling()), hex(opening.called()))
}

fn message_says(side: Side, message: Vec<u8>) -> Says {
    // Op codes 4 and 6 are answers, whichever side is heard.
    let answers = matches!(message.get(5), Some(4 | 6)) && side != Side::Asks;
    if answers {
        return Says::Answer { station: None, number: None, body: message };
    }
    let (code, words, touches) = match Request::parse(&message) {
        Ok(request) => {
            let fetch = matches!(request, Request::Fetch(_));
            let touch = place(&request).map(|(space, extent)| Touch {
                verb: if fetch { Verb::Read } else { Verb::Write },
                space,
                first: extent.first,
                count: extent.count,
                cells: request.data().filter(|_| !fetch).map(<[u8]>::to_vec),
            });
            let (code, words) = if fetch { (FETCH, "FETCH") } else { (WRITE, "WRITE") };
            (code, words, touch.into_iter().collect())
        }
        Err(error) => return Says::Noise(error.to_string()),
    };
    let words = words.into();
    Says::Request(Box::new(Asked {
        station: None,
        number: None,
        code,
        words,
        touches,
        all: false,
        body: message,
    }))
}

fn place(request: &Request<'_>) -> Option<(Space, Extent)> {
    let range = request.range();
    let area = Area::of(range.org)?;
    let space = space_of(area, range.block);
    let extent = extent(area, &space, SpaceId(0), range)?;
    Some((space, extent))
}

impl Observer for BlockObserver {
    fn handle(&mut self, began: Moment, now: Moment, side: Side, bytes: &[u8]) {
        if let Some((pending, _)) = self.sides.get_mut(side.index()) {
            pending.take(began, now, bytes);
        }
        self.look(side);
    }

    fn poll(&mut self, _now: Moment) -> Option<Heard> {
        self.heard.pop_front()
    }

    fn answer(&self, request: &Asked, answer: &[u8]) -> AnswerMeaning {
        let (asked, answer) = match (Request::parse(&request.body), Answer::parse(answer)) {
            (Ok(asked), Ok(answer)) => (asked, answer),
            (Err(error), _) | (_, Err(error)) => return AnswerMeaning::Unfitting(error.to_string()),
        };
        match answer.to(&asked) {
            Ok(Ok(data)) if matches!(asked, Request::Fetch(_)) => AnswerMeaning::Good(vec![data.to_vec()]),
            Ok(Ok(_)) => AnswerMeaning::Good(vec![]),
            Ok(Err(number)) => refusal(number)
                .native
                .map_or_else(|| AnswerMeaning::Words(String::new()), AnswerMeaning::Refused),
            Err(error) => AnswerMeaning::Unfitting(error.to_string()),
        }
    }

    fn reset(&mut self) {
        for (pending, assembly) in &mut self.sides {
            pending.clear();
            *assembly = Assembly::default();
        }
        self.heard.clear();
    }
}
