//! Listening to Modbus in each framing.

use super::server::Framing;
use super::{NATIVE, space};
use crate::Moment;
use crate::speak::observer::{
    AnswerMeaning, Asked, Heard, Observer, ObserverSetup, Pending, Says, Side, Touch,
};
use std::borrow::Cow;
use std::collections::VecDeque;
use woodrush_core::protocol::{StationId, Verb, dialect};
use woodrush_wire::modbus::{Addressed, BROADCAST, Request, Response, Table, ascii, rtu, tcp, unpack};

pub(super) struct ModbusObserver {
    framing: Framing,
    sides: [Pending; 3],
    /// Unit and function of the last request where both sides are heard on the same wires: some answers have the bytes of
    /// their request.
    open: Option<(u8, u8)>,
    /// Answers that the next request has ended.
    broken_off: VecDeque<Heard>,
}

/// One whole frame, or bytes that are none.
enum Piece {
    Frame { used: usize, side: Side, number: Option<u32>, unit: u8, pdu: Vec<u8> },
    Noise { used: usize, why: String },
}

impl ModbusObserver {
    pub(super) fn new(framing: Framing, _setup: &ObserverSetup<'_>) -> Self {
        Self { framing, sides: Default::default(), open: None, broken_off: VecDeque::new() }
    }

    fn next(&self, side: Side, now: Moment) -> Option<Piece> {
        let pending = self.sides.get(side.index())?;
        let (bytes, still) = (pending.bytes.as_slice(), pending.is_still(now));
        if bytes.is_empty() {
            return None;
        }
        match self.framing {
            Framing::Tcp => self.tcp(side, bytes),
            Framing::Ascii => self.ascii(side, bytes, still),
            Framing::Rtu => match self.rtu(side, bytes, still) {
                // What is no message ends at the latest where a whole one begins behind it.
                None => self.in_step_again(side, pending),
                found => found,
            },
        }
    }

    fn tcp(&self, side: Side, bytes: &[u8]) -> Option<Piece> {
        let all = |why: String| Some(Piece::Noise { used: bytes.len(), why });
        if tcp::looks_like_rtu(bytes) {
            return all("an RTU frame where MBAP is spoken: framing differs at the two ends".into());
        }
        match tcp::parse(bytes) {
            Ok(None) => None,
            Ok(Some((frame, used))) if frame.protocol != 0 => {
                Some(Piece::Noise { used, why: tcp::foreign(frame.protocol).to_string() })
            }
            Ok(Some((frame, used))) => Some(Piece::Frame {
                used,
                side: self.who(side, frame.body),
                number: Some(frame.transaction.into()),
                unit: frame.body.unit,
                pdu: frame.body.pdu.to_vec(),
            }),
            Err(error) => all(error.to_string()),
        }
    }

    fn ascii(&self, side: Side, bytes: &[u8], still: bool) -> Option<Piece> {
        match ascii::find(bytes, still) {
            ascii::Found::More => None,
            ascii::Found::Noise { skip, why } => {
                let why = why.map_or_else(|| "no ASCII frame".into(), |why| why.to_string());
                Some(Piece::Noise { used: skip, why })
            }
            ascii::Found::Frame { used, frame } => {
                let body = frame.addressed();
                let (unit, pdu) = (body.unit, body.pdu.to_vec());
                Some(Piece::Frame { used, side: self.who(side, body), number: None, unit, pdu })
            }
        }
    }

    fn rtu(&self, side: Side, bytes: &[u8], still: bool) -> Option<Piece> {
        let (way, found) = match side {
            Side::Asks => (rtu::Way::Request, rtu::find(rtu::Way::Request, bytes, still)),
            Side::Answers => (rtu::Way::Response, rtu::find(rtu::Way::Response, bytes, still)),
            Side::Either => self.either(bytes, still),
        };
        let noise = |used: usize| {
            let head = bytes.get(..used).unwrap_or_default();
            let why = match rtu::parse(head) {
                _ if tcp::looks_like_mbap(head) => {
                    "an MBAP frame where RTU is spoken: framing differs at the two ends".into()
                }
                Err(error) => error.to_string(),
                Ok(_) => "no frame of this direction".into(),
            };
            Some(Piece::Noise { used, why })
        };
        match found {
            // Until the line is still the rest of a damaged frame may be to come: the tap shows it as one message.
            rtu::Found::Noise { .. } if !still && !tcp::looks_like_mbap(bytes) => None,
            rtu::Found::Noise { .. } => noise(bytes.len()),
            rtu::Found::More => None,
            rtu::Found::Frame { skip: 0, length, frame } => Some(Piece::Frame {
                used: length,
                side: if way == rtu::Way::Request { Side::Asks } else { Side::Answers },
                number: None,
                unit: frame.unit,
                pdu: frame.pdu.to_vec(),
            }),
            rtu::Found::Frame { skip, .. } => noise(skip),
        }
    }

    /// Where pieces begin a sound frame may begin, behind bytes that make none.
    fn in_step_again(&self, side: Side, pending: &Pending) -> Option<Piece> {
        let bytes = pending.bytes.as_slice();
        let begins = |at: &usize| {
            let rest = bytes.get(*at..).unwrap_or_default();
            let sound = |way| matches!(rtu::find(way, rest, false), rtu::Found::Frame { skip: 0, .. });
            match side {
                Side::Asks => sound(rtu::Way::Request),
                Side::Answers => sound(rtu::Way::Response),
                Side::Either => sound(rtu::Way::Request) || sound(rtu::Way::Response),
            }
        };
        // Only the last seam is new.
        let seam = pending.seams().last().filter(begins);
        let most = (bytes.len() > 2 * rtu::FRAME_MAX).then_some(bytes.len());
        let used = seam.or(most)?;
        let head = bytes.get(..used).unwrap_or_default();
        let why = rtu::parse(head).err().map_or_else(|| "no frame".into(), |error| error.to_string());
        Some(Piece::Noise { used, why })
    }

    fn either<'b>(&self, bytes: &'b [u8], still: bool) -> (rtu::Way, rtu::Found<'b>) {
        if let Some(open) = self.open
            && let found @ rtu::Found::Frame { skip: 0, frame, .. } =
                rtu::find(rtu::Way::Response, bytes, still)
            && answers(open, frame)
        {
            return (rtu::Way::Response, found);
        }
        rtu::find_either(bytes, still)
    }

    /// Who has said it, where the framing does not tell.
    fn who(&self, side: Side, frame: Addressed<'_>) -> Side {
        match (side, self.open) {
            (Side::Either, Some(open)) if answers(open, frame) => Side::Answers,
            (Side::Either, _) => Side::Asks,
            (side, _) => side,
        }
    }

    fn says(&mut self, side: Side, number: Option<u32>, unit: u8, pdu: Vec<u8>) -> Says {
        let function = pdu.first().copied().unwrap_or_default();
        if side == Side::Answers {
            self.open = None;
            return Says::Answer { station: Some(StationId::Number(unit.into())), number, body: pdu };
        }
        let all = unit == BROADCAST && self.framing != Framing::Tcp;
        self.open = (!all).then_some((unit, function));
        let (words, touches) = match Request::parse(&pdu) {
            Ok(request) => (words(&request), touches(&request)),
            Err(error) => (Cow::Owned(format!("function {function}, malformed: {error}")), vec![]),
        };
        let (station, code) = (Some(StationId::Number(unit.into())), function.into());
        Says::Request(Box::new(Asked { station, number, code, words, touches, all, body: pdu }))
    }
}

fn answers((unit, function): (u8, u8), frame: Addressed<'_>) -> bool {
    frame.unit == unit
        && frame.pdu.first().is_some_and(|own| own & 0x7F == function & 0x7F)
        && Response::parse(frame.pdu).is_ok()
}

fn words(request: &Request<'_>) -> Cow<'static, str> {
    Cow::Borrowed(match request {
        Request::Read { table, .. } => match table {
            Table::Coil => "read coils",
            Table::DiscreteInput => "read discrete inputs",
            Table::InputRegister => "read input registers",
            Table::HoldingRegister => "read holding registers",
        },
        Request::WriteCoil { .. } => "write coil",
        Request::WriteRegister { .. } => "write register",
        Request::WriteCoils { .. } => "write coils",
        Request::WriteRegisters { .. } => "write registers",
        Request::MaskWrite { .. } => "mask write register",
        Request::Exchange { .. } => "write and read registers",
        Request::ReadQueue { .. } => "read queue",
        Request::ExceptionStatus => "read exception status",
        Request::EventCounter => "read event counter",
        Request::EventLog => "read event log",
        Request::ServerId => "report server id",
        Request::Identification { .. } => "read device identification",
        Request::Diagnostics { sub, .. } => return Cow::Owned(format!("diagnostics {sub}")),
        Request::Other { function, .. } => return Cow::Owned(format!("function {function}")),
    })
}

fn touches(request: &Request<'_>) -> Vec<Touch> {
    // The dialect's standing spaces, which all framings share.
    let spaces = dialect(super::TCP.name).map_or(&[][..], |dialect| dialect.notation().standing());
    let touch = |verb, table: Table, offset: u16, count: u16, cells: Option<Vec<u8>>| {
        let space = spaces.get(space(table).index())?.clone();
        Some(Touch { verb, space, first: offset.into(), count: count.into(), cells })
    };
    let holding = Table::HoldingRegister;
    let registers = |words: &[u8]| u16::try_from(words.len() / 2).unwrap_or(u16::MAX);
    let found = match *request {
        Request::Read { table, offset, count } => vec![touch(Verb::Read, table, offset, count, None)],
        Request::WriteCoil { offset, on } => {
            vec![touch(Verb::Write, Table::Coil, offset, 1, Some(vec![u8::from(on)]))]
        }
        Request::WriteRegister { offset, value } => {
            vec![touch(Verb::Write, holding, offset, 1, Some(value.to_be_bytes().to_vec()))]
        }
        Request::WriteCoils { offset, count, bits } => {
            vec![touch(Verb::Write, Table::Coil, offset, count, Some(unpack(Table::Coil, bits, count)))]
        }
        Request::WriteRegisters { offset, words } => {
            vec![touch(Verb::Write, holding, offset, registers(words), Some(words.to_vec()))]
        }
        Request::MaskWrite { offset, .. } => vec![touch(Verb::Write, holding, offset, 1, None)],
        Request::Exchange { offset, count, write_offset, words } => vec![
            touch(Verb::Write, holding, write_offset, registers(words), Some(words.to_vec())),
            touch(Verb::Read, holding, offset, count, None),
        ],
        _ => vec![],
    };
    found.into_iter().flatten().collect()
}

impl Observer for ModbusObserver {
    fn handle(&mut self, began: Moment, now: Moment, side: Side, bytes: &[u8]) {
        // On a line there is one question at a time: what is unfinished when the next one begins is no answer any more.
        if side == Side::Asks && self.framing != Framing::Tcp {
            let answers = self.sides.get_mut(Side::Answers.index()).filter(|rest| !rest.bytes.is_empty());
            self.broken_off.extend(answers.map(|rest| {
                let (count, why) = (rest.bytes.len(), "an answer without its end".to_string());
                rest.cut(Side::Answers, count, Says::Noise(why))
            }));
        }
        if let Some(pending) = self.sides.get_mut(side.index()) {
            pending.take(began, now, bytes);
        }
    }

    fn poll(&mut self, now: Moment) -> Option<Heard> {
        if let Some(heard) = self.broken_off.pop_front() {
            return Some(heard);
        }
        for side in [Side::Asks, Side::Answers, Side::Either] {
            let (used, side_of, says) = match self.next(side, now) {
                None => continue,
                Some(Piece::Noise { used, why }) => (used.max(1), side, Says::Noise(why)),
                Some(Piece::Frame { used, side, number, unit, pdu }) => {
                    (used, side, self.says(side, number, unit, pdu))
                }
            };
            return self.sides.get_mut(side.index()).map(|pending| pending.cut(side_of, used, says));
        }
        None
    }

    fn answer(&self, request: &Asked, answer: &[u8]) -> AnswerMeaning {
        let asked = Request::parse(&request.body);
        let response = match Response::parse(answer) {
            Ok(response) => response,
            Err(error) => return AnswerMeaning::Unfitting(error.to_string()),
        };
        if u32::from(response.function()) != request.code {
            return AnswerMeaning::Unfitting(format!("it answers function {}", response.function()));
        }
        let same = |bytes: bool| match bytes {
            true => AnswerMeaning::Good(vec![]),
            false => AnswerMeaning::Unfitting("it repeats something else than was asked".into()),
        };
        match (response, asked) {
            (Response::Refused { exception, .. } | Response::RefusedType { exception, .. }, _) => {
                AnswerMeaning::Refused((NATIVE, exception.0.into()))
            }
            (Response::Read { table, data }, Ok(Request::Read { count, .. })) => {
                match data.len() == table.bytes(count) {
                    true => AnswerMeaning::Good(vec![unpack(table, data, count)]),
                    false => AnswerMeaning::Unfitting(format!(
                        "it brings {} bytes where {} were asked for",
                        data.len(),
                        table.bytes(count)
                    )),
                }
            }
            (Response::Exchanged(data), Ok(Request::Exchange { count, .. })) => {
                match data.len() == Table::HoldingRegister.bytes(count) {
                    true => AnswerMeaning::Good(vec![data.to_vec()]),
                    false => AnswerMeaning::Unfitting(format!("it brings {} bytes", data.len())),
                }
            }
            (
                Response::WroteCoil { .. } | Response::WroteRegister { .. } | Response::MaskWrote { .. },
                Ok(_),
            ) => same(answer == request.body),
            (Response::Wrote { offset, count, .. }, Ok(_)) => {
                let asked = request.touches.first();
                same(asked.is_some_and(|touch| (touch.first, touch.count) == (offset.into(), count.into())))
            }
            (Response::ExceptionStatus(bits), _) => AnswerMeaning::Words(format!("status {bits:08b}")),
            (Response::EventCounter { status, count }, _) => {
                AnswerMeaning::Words(format!("{count} events, status 0x{status:04X}"))
            }
            (Response::EventLog { count, messages, .. }, _) => {
                AnswerMeaning::Words(format!("{count} events, {messages} messages"))
            }
            (Response::ServerId(id), _) => AnswerMeaning::Words(format!("id {}", readable(id))),
            (Response::Identification { objects, .. }, _) => AnswerMeaning::Words(readable(objects)),
            (Response::Queue(values), _) => AnswerMeaning::Words(format!("{} values", values.len() / 2)),
            (Response::Diagnostics { data, .. }, _) => {
                AnswerMeaning::Words(woodrush_core::form::hex_words(data))
            }
            (other, _) => AnswerMeaning::Words(format!("{} bytes", answer_len(&other))),
        }
    }

    fn reset(&mut self) {
        self.sides.iter_mut().for_each(Pending::clear);
        self.broken_off.clear();
        self.open = None;
    }
}

fn answer_len(response: &Response<'_>) -> usize {
    let mut pdu = vec![];
    response.emit(&mut pdu);
    pdu.len().saturating_sub(1)
}

/// Characters that can be read, the others as dots.
fn readable(bytes: &[u8]) -> String {
    let shown = |byte: &u8| if (0x20..0x7F).contains(byte) { char::from(*byte) } else { '.' };
    bytes.iter().map(shown).collect()
}
