//! Listening to DF1, in full and half duplex.

use super::refusal;
use super::split::{FilePart, pieces, word};
use crate::Moment;
use crate::speak::observer::{
    AnswerMeaning, Asked, Heard, Observer, ObserverSetup, Pending, Says, Side, Touch,
};
use std::borrow::Cow;
use std::collections::VecDeque;
use woodrush_core::protocol::df1::{Spot, check, from_wire, octal, spaces_of};
use woodrush_core::protocol::{Space, SpaceId, StationId, Verb};
use woodrush_wire::df1::{Command, Heard as Found, Logical, Message, Scanner, Symbol, Table, sets};

pub(super) struct TableObserver {
    octal: bool,
    /// Tables of those who may be asked: the word-range commands do not tell what kind a file is of.
    known: Vec<Space>,
    sides: [(Scanner, Pending); 3],
    heard: VecDeque<Heard>,
}

impl TableObserver {
    pub(super) fn new(half: bool, setup: &ObserverSetup<'_>) -> Self {
        let scanner = || (Scanner::new(check(setup.port), half), Pending::default());
        Self {
            octal: setup.stations.iter().any(|station| octal(&station.setup)),
            known: setup.stations.iter().flat_map(|station| station.spaces.iter().cloned()).collect(),
            sides: [scanner(), scanner(), scanner()],
            heard: VecDeque::new(),
        }
    }

    /// The spaces of a file, its type code told or not.
    fn file(&self, number: u16, kind: Option<u8>) -> Vec<Space> {
        let of = |space: &&Space| Spot::of(space).is_some_and(|spot| spot.file == number);
        let kind = kind.or_else(|| Spot::of(self.known.iter().find(of)?).map(|spot| spot.kind));
        spaces_of(number, kind, self.octal)
    }

    /// Where so many bytes from an element on lie.
    fn places(
        &self,
        number: u16,
        kind: Option<u8>,
        element: u16,
        sub: Option<u16>,
        size: usize,
    ) -> Vec<(Space, FilePart)> {
        let spaces = self.file(number, kind);
        let spots = (0..).zip(&spaces).filter_map(|(at, space)| Some((SpaceId(at), Spot::of(space)?)));
        let file: Vec<(SpaceId, Spot)> = spots.collect();
        let found = pieces(&file, word(&file, element, sub), size).unwrap_or_default();
        let space = |piece: FilePart| Some((spaces.get(piece.extent.space.index())?.clone(), piece));
        found.into_iter().filter_map(space).collect()
    }

    fn command(&self, command: &Command<'_>) -> Option<(Verb, Vec<(Space, FilePart)>)> {
        let logical = |at: Logical, size| self.places(at.file, Some(at.kind), at.element, at.sub, size);
        let ranged = |at: Table<'_>, offset: u16, size| match at {
            Table::Levels { file, element, sub, .. } => {
                self.places(file, None, element.saturating_add(offset), sub, size)
            }
            Table::Text(_) => vec![],
        };
        Some(match *command {
            Command::Read { size, at } => (Verb::Read, logical(at, usize::from(size))),
            Command::Write { at, data } | Command::MaskedWrite { at, data, .. } => {
                (Verb::Write, logical(at, data.len()))
            }
            Command::RangeRead { offset, at, size, .. } => {
                (Verb::Read, ranged(at, offset, usize::from(size)))
            }
            Command::RangeWrite { offset, at, data, .. } => (Verb::Write, ranged(at, offset, data.len())),
            Command::Change(bytes) => {
                let sets = sets(bytes).unwrap_or_default();
                (Verb::Write, sets.iter().flat_map(|set| ranged(set.at, 0, 2)).collect())
            }
            _ => return None,
        })
    }

    fn request(&self, message: &Message<'_>, to: Option<u8>) -> Asked {
        let command = Command::parse(message.cmd, message.body);
        let (words, code) = match &command {
            Ok(command) => words(command),
            Err(error) => (Cow::Owned(format!("malformed command: {error}")), message.cmd.into()),
        };
        let place = command.as_ref().ok().and_then(|command| self.command(command));
        let written = match &command {
            Ok(Command::Write { data, .. } | Command::RangeWrite { data, .. }) => Some(*data),
            _ => None,
        };
        let touch = |verb: Verb, (space, piece): (Space, FilePart)| Touch {
            verb,
            first: piece.extent.first,
            count: piece.extent.count,
            cells: written.and_then(|data| part(&piece, data)),
            space,
        };
        let touches = place.map_or_else(Vec::new, |(verb, places)| {
            places.into_iter().map(|place| touch(verb, place)).collect()
        });
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

/// The cells of a piece out of the bytes of a reply or of a write.
fn part(piece: &FilePart, data: &[u8]) -> Option<Vec<u8>> {
    let (spot, count) = (&piece.spot, piece.extent.count);
    if piece.stride == 0 {
        return from_wire(spot, count, data);
    }
    let at = usize::from(spot.sub.unwrap_or(0)) * 2;
    let cells = data.chunks(piece.stride * 2).filter_map(|element| {
        let word = element.get(at..at + 2)?;
        Some(word.iter().rev().copied())
    });
    Some(cells.flatten().collect())
}

fn words(command: &Command<'_>) -> (Cow<'static, str>, u32) {
    let (words, code) = match command {
        Command::Echo(_) => ("echo", 0x00),
        Command::Counters { .. } => ("read link counters", 0x01),
        Command::DiagnosticStatus => ("read diagnostic status", 0x03),
        Command::ResetCounters => ("reset link counters", 0x07),
        Command::Read { at, .. } => ("typed logical read", if at.sub.is_some() { 0xA2 } else { 0xA1 }),
        Command::Write { at, .. } => ("typed logical write", if at.sub.is_some() { 0xAA } else { 0xA9 }),
        Command::MaskedWrite { .. } => ("masked write", 0xAB),
        Command::RangeRead { .. } => ("word-range read", 0x01),
        Command::RangeWrite { .. } => ("word-range write", 0x00),
        Command::TypedRead { .. } => ("typed read", 0x68),
        Command::TypedWrite { .. } => ("typed write", 0x67),
        Command::Change(_) => ("read-modify-write", 0x26),
        Command::Other { cmd, body } => {
            let function = body.first().copied().unwrap_or_default();
            return (Cow::Owned(format!("command {cmd:02X}/{function:02X}")), function.into());
        }
    };
    (Cow::Borrowed(words), code)
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
        let message = Message { dst: 0, src: 0, cmd: 0x4F, sts: *sts, tns: 0, body: data };
        let data = match message.outcome() {
            Ok(data) => data,
            Err(status) => {
                return refusal(status)
                    .native
                    .map_or_else(|| AnswerMeaning::Words(String::new()), AnswerMeaning::Refused);
            }
        };
        let command = request.body.split_first().and_then(|(cmd, body)| Command::parse(*cmd, body).ok());
        let Some((verb, places)) = command.and_then(|command| self.command(&command)) else {
            return AnswerMeaning::Words(format!("{} bytes", data.len()));
        };
        if verb == Verb::Write {
            return AnswerMeaning::Good(vec![]);
        }
        if places.is_empty() {
            return AnswerMeaning::Words(format!("{} bytes", data.len()));
        }
        let cells: Option<Vec<Vec<u8>>> = places.iter().map(|(_, piece)| part(piece, data)).collect();
        match cells {
            Some(cells) => AnswerMeaning::Good(cells),
            None => AnswerMeaning::Unfitting(format!(
                "it brings {} bytes, another number than asked for",
                data.len()
            )),
        }
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
