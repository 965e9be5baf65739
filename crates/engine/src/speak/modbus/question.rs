//! One question on its way: the request's PDU, and what its answer must agree with.

use super::{refusal, table, unit};
use crate::speak::{Ask, one_place};
use woodrush_core::Refusal;
use woodrush_core::plan::Station;
use woodrush_core::protocol::{Extent, Setup};
use woodrush_wire::modbus::{Request, Response, Table, ascii, pack, rtu, unpack};

/// A question: a late answer looks like the next one, so everything that an answer repeats is held against it.
pub(super) struct Question {
    pub(super) unit: u8,
    pub(super) pdu: Vec<u8>,
    expect: Expect,
}

/// What an answer shows of its question.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Likeness {
    /// The function, and how long the answer is where the question tells.
    Values(u8, Option<usize>),
    /// It repeats this.
    Echo(Vec<u8>),
}

impl Likeness {
    pub(super) fn function(&self) -> u8 {
        match self {
            Self::Values(function, _) => *function,
            Self::Echo(echo) => echo.first().copied().unwrap_or_default(),
        }
    }
}

enum Expect {
    Values(Table, u16),
    /// An echo of the request, or of its address and quantity.
    Taken,
    /// A forwarded one: it comes back whole.
    Whole,
}

impl Question {
    pub(super) fn of(stations: &[Station], ask: &Ask) -> Self {
        let empty = Setup::default();
        let setup = |station: &usize| stations.get(*station).map_or(&empty, |station| &station.setup);
        let place = |extent: &Extent| {
            let narrow = |number: u32| u16::try_from(number).unwrap_or(u16::MAX);
            (table(extent.space), narrow(extent.first), narrow(extent.count))
        };
        let question = |station: &usize, request: Request<'_>, expect| {
            let mut pdu = vec![];
            request.emit(&mut pdu);
            Self { unit: unit(setup(station)), pdu, expect }
        };
        let word = |cells: &[u8]| cells.iter().fold(0, |word, byte| word << 8 | u16::from(*byte));
        match ask {
            Ask::Read { station, parts } => {
                let (table, offset, count) =
                    one_place(parts).map_or((Table::HoldingRegister, 0, 0), |own| place(&own));
                question(station, Request::Read { table, offset, count }, Expect::Values(table, count))
            }
            Ask::Write { station, extent, cells } => {
                let (table, offset, count) = place(extent);
                let single = count == 1 && setup(station).word("write-one") == Some("single");
                let packed = pack(table, cells);
                let on = cells.first().is_some_and(|bit| *bit != 0);
                let request = match (single, table.is_bits()) {
                    (true, true) => Request::WriteCoil { offset, on },
                    (true, false) => Request::WriteRegister { offset, value: word(cells) },
                    (false, true) => Request::WriteCoils { offset, count, bits: &packed },
                    (false, false) => Request::WriteRegisters { offset, words: &packed },
                };
                question(station, request, Expect::Taken)
            }
            Ask::Change { station, extent, keep, set } => {
                let (_, offset, _) = place(extent);
                question(
                    station,
                    Request::MaskWrite { offset, and: word(keep), or: word(set) },
                    Expect::Taken,
                )
            }
            Ask::Pass { unit, message } => Self {
                unit: u8::try_from(*unit).unwrap_or_default(),
                pdu: message.body.clone(),
                expect: Expect::Whole,
            },
        }
    }

    pub(super) fn function(&self) -> u8 {
        self.pdu.first().copied().unwrap_or_default()
    }

    /// Reads an answer; `None` where it is an answer to something else.
    pub(super) fn answer(&self, pdu: &[u8]) -> Option<Result<Vec<u8>, Refusal>> {
        let response = Response::parse(pdu).ok()?;
        if response.function() != self.function() {
            return None;
        }
        if let Some(exception) = response.exception() {
            // What the device itself says reaches the client unchanged.
            return Some(if matches!(self.expect, Expect::Whole) {
                Ok(pdu.to_vec())
            } else {
                Err(refusal(exception))
            });
        }
        let fits = match Request::parse(&self.pdu) {
            Ok(request) => belongs(&request, &response),
            // A request that breaks a rule of its function is the device's to refuse or to answer.
            Err(_) => true,
        };
        match (&self.expect, response) {
            _ if !fits => None,
            (Expect::Whole, _) => Some(Ok(pdu.to_vec())),
            (Expect::Values(table, count), Response::Read { data, .. }) => {
                Some(Ok(unpack(*table, data, *count)))
            }
            (Expect::Taken, _) => Some(Ok(vec![])),
            (Expect::Values(..), _) => None,
        }
    }

    /// Whether the unit refuses it; what is passed on comes back whole.
    pub(super) fn is_refused(&self, answer: &Result<Vec<u8>, Refusal>) -> bool {
        match (&self.expect, answer) {
            (Expect::Whole, Ok(pdu)) => pdu.first() == Some(&(self.function() | 0x80)),
            (_, answer) => answer.is_err(),
        }
    }

    /// What its answer cannot be told from.
    pub(super) fn likeness(&self) -> Likeness {
        let repeated = match Request::parse(&self.pdu) {
            // Address and quantity, not the values.
            Ok(Request::WriteCoils { .. } | Request::WriteRegisters { .. }) => self.pdu.get(..5),
            Ok(Request::WriteCoil { .. } | Request::WriteRegister { .. } | Request::MaskWrite { .. }) => {
                Some(self.pdu.as_slice())
            }
            _ => None,
        };
        match repeated {
            Some(echo) => Likeness::Echo(echo.to_vec()),
            None => Likeness::Values(self.function(), self.answer_len()),
        }
    }

    /// A read within the same place, or within what this writes, whose answer looks like none of those that are not
    /// `free`. Nothing around it is read: the project may have a reason not to name that.
    pub(super) fn within(&self, free: impl Fn(&Likeness) -> bool) -> Option<Self> {
        let (table, offset, most) = match Request::parse(&self.pdu).ok()? {
            Request::Read { table, offset, count } => (table, offset, count.checked_sub(1)?),
            Request::WriteCoil { offset, .. } => (Table::Coil, offset, 1),
            Request::WriteCoils { offset, count, .. } => (Table::Coil, offset, count),
            Request::WriteRegister { offset, .. } | Request::MaskWrite { offset, .. } => {
                (Table::HoldingRegister, offset, 1)
            }
            Request::WriteRegisters { offset, words } => {
                (Table::HoldingRegister, offset, u16::try_from(words.len() / 2).ok()?)
            }
            _ => return None,
        };
        let question = |count| {
            let mut pdu = vec![];
            Request::Read { table, offset, count }.emit(&mut pdu);
            Self { unit: self.unit, pdu, expect: Expect::Values(table, count) }
        };
        // What is too long for a read is the device's to refuse, and so is no question here.
        let counts = (1..=most.min(table.read_max())).rev();
        counts
            .map(question)
            .find(|question| question.likeness() != self.likeness() && free(&question.likeness()))
    }

    /// Bytes of the answer's PDU, where the request tells.
    fn answer_len(&self) -> Option<usize> {
        Request::parse(&self.pdu).ok().and_then(|request| request.response_len())
    }

    /// Looks for the answer in what came on an RTU line: the result and where the frame ends. A place that could be
    /// the beginning of the answer is waited for unless the line is `still`.
    pub(super) fn in_rtu(&self, came: &[u8], still: bool) -> Option<(Result<Vec<u8>, Refusal>, usize)> {
        for begin in 0..came.len() {
            let rest = came.get(begin..)?;
            let told = match rest {
                [unit, ..] if *unit != self.unit => continue,
                [_, function, ..] if *function == self.function() => {
                    self.answer_len().map(|length| length + 3)
                }
                [_, function, ..] if *function == self.function() | 0x80 => (*function != 0xAB).then_some(5),
                [_, _, ..] => continue,
                _ => Some(2),
            };
            let length = match told {
                Some(length) => length,
                // The answer itself tells its length, or only silence does.
                None => match rtu::find(rtu::Way::Response, rest, still) {
                    rtu::Found::Frame { skip: 0, length, .. } => length,
                    rtu::Found::More => return None,
                    _ => continue,
                },
            };
            match rest.get(..length) {
                None if still => continue,
                None => return None,
                Some(bytes) => {
                    let frame = rtu::parse(bytes).ok();
                    if let Some(answer) = frame.and_then(|frame| self.answer(frame.pdu)) {
                        return Some((answer, begin + length));
                    }
                }
            }
        }
        None
    }

    /// The same on an ASCII line.
    pub(super) fn in_ascii(&self, came: &[u8], still: bool) -> Option<(Result<Vec<u8>, Refusal>, usize)> {
        let mut at = 0;
        loop {
            match ascii::find(came.get(at..)?, still) {
                ascii::Found::More => return None,
                ascii::Found::Noise { skip, .. } => at += skip,
                ascii::Found::Frame { used, frame } => {
                    at += used;
                    let body = frame.addressed();
                    if body.unit == self.unit
                        && let Some(answer) = self.answer(body.pdu)
                    {
                        return Some((answer, at));
                    }
                }
            }
        }
    }
}

/// Whether everything that a response repeats of its request is as it was asked.
fn belongs(request: &Request<'_>, response: &Response<'_>) -> bool {
    match (*request, *response) {
        (Request::Read { table, count, .. }, Response::Read { table: said, data }) => {
            table == said && data.len() == table.bytes(count)
        }
        (Request::WriteCoil { offset, on }, Response::WroteCoil { offset: at, on: said }) => {
            (offset, on) == (at, said)
        }
        (Request::WriteRegister { offset, value }, Response::WroteRegister { offset: at, value: said }) => {
            (offset, value) == (at, said)
        }
        (Request::WriteCoils { offset, count, .. }, Response::Wrote { table, offset: at, count: said }) => {
            (Table::Coil, offset, count) == (table, at, said)
        }
        (Request::WriteRegisters { offset, words }, Response::Wrote { table, offset: at, count }) => {
            (Table::HoldingRegister, offset, words.len()) == (table, at, usize::from(count) * 2)
        }
        (Request::MaskWrite { offset, and, or }, Response::MaskWrote { offset: at, and: a, or: o }) => {
            (offset, and, or) == (at, a, o)
        }
        (Request::Exchange { count, .. }, Response::Exchanged(data)) => data.len() == usize::from(count) * 2,
        (Request::Diagnostics { sub, data }, Response::Diagnostics { sub: said, data: back }) => {
            // Sub-function 0 is an echo; the others carry a counter.
            sub == said && (sub != 0 || data == back)
        }
        (Request::Identification { code, .. }, Response::Identification { code: said, .. }) => code == said,
        (one, other) => one.function() == other.function(),
    }
}
