//! A Modbus server on a stream of MBAP messages, or on a line (or stream) of RTU or ASCII frames.

use super::diagnosis::{DiagnosticCounters, Own};
use super::plain_reads::{ROOM, Registers, answer_reads, registers};
use super::{Echo, Repeats, exception, respond, space, want, whole};
use crate::Moment;
use crate::speak::{FastReads, LINE_MAX, News, STREAM_MAX, Serve, Server, ServerSetup};
use std::ops::Range;
use woodrush_core::Refusal;
use woodrush_core::protocol::Extent;
use woodrush_wire::modbus::{BROADCAST, Exception, Request, ascii, rtu, tcp};

/// Messages with a foreign protocol number before the connection is closed.
const FOREIGN_MAX: u32 = 3;
/// A part of a frame and then nothing for so long: the rest is not coming.
const STALLED: u64 = 50_000;
/// The same between the characters of an ASCII frame (SER 2.5.2.1).
const ASCII_STALLED: u64 = 1_000_000;

#[repr(C)]
pub(super) struct ModbusServer {
    // What every request touches stands together, in two lines of the cache.
    came: Vec<u8>,
    /// How much of `came` is already answered; dropped when the buffer is looked at again.
    used: usize,
    out: Vec<u8>,
    framing: Framing,
    heard_any: bool,
    /// Some units are passed on.
    passes: bool,
    shared: bool,
    /// The request that was last handed out.
    open: Option<OpenRequest>,
    last_byte: Moment,
    lost: Option<String>,
    setup: ServerSetup,
    /// The PDU of an ASCII frame, which does not stand in `came`.
    decoded: Vec<u8>,
    foreign: u32,
    diagnosis: DiagnosticCounters,
}

#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Framing {
    Rtu,
    Ascii,
    Tcp,
}

/// A request that was taken off the stream.
struct TakenRequest {
    transaction: u16,
    unit: u8,
    /// Where in `came` its PDU stands; `None` where it was decoded.
    pdu: Option<Range<usize>>,
}

/// A request that is being worked on.
#[derive(Clone, Copy)]
struct OpenRequest {
    transaction: u16,
    unit: u8,
    echo: Echo,
}

impl ModbusServer {
    pub(super) fn new(framing: Framing, setup: &ServerSetup) -> Self {
        Self {
            framing,
            passes: !setup.passed.is_empty(),
            shared: setup.shared,
            setup: setup.clone(),
            came: vec![],
            used: 0,
            decoded: vec![],
            out: vec![],
            open: None,
            last_byte: Moment(0),
            foreign: 0,
            heard_any: false,
            lost: None,
            diagnosis: DiagnosticCounters::default(),
        }
    }

    /// Whether a frame for all units is one that nobody answers.
    fn is_for_all(&self, unit: u8) -> bool {
        self.framing != Framing::Tcp && unit == BROADCAST
    }

    /// Writes an answer behind those that wait to be sent; room for many at once is taken in one go.
    fn answer(&mut self, open: OpenRequest, result: Result<&[u8], Exception>) {
        let silent = self.is_for_all(open.unit) || self.diagnosis.listen_only;
        if self.framing != Framing::Tcp {
            self.diagnosis.ended(result.err(), !silent);
        }
        if silent {
            return;
        }
        if self.out.capacity() == 0 {
            self.out.reserve(ROOM);
        }
        let unit = self.setup.answer_as.and_then(|unit| u8::try_from(unit).ok()).unwrap_or(open.unit);
        if self.framing == Framing::Tcp {
            return tcp::emit_with(open.transaction, unit, &mut self.out, |out| {
                respond(open.echo, result, out);
            });
        }
        let mut pdu = vec![];
        respond(open.echo, result, &mut pdu);
        match self.framing {
            Framing::Ascii => ascii::emit(unit, &pdu, &mut self.out),
            _ => rtu::emit(unit, &pdu, &mut self.out),
        }
    }

    /// The next whole request; `Ok(None)` while more is needed.
    fn next_request(&mut self, now: Moment) -> Result<Option<TakenRequest>, String> {
        match self.framing {
            Framing::Tcp => self.next_tcp(),
            Framing::Rtu => self.next_rtu(now),
            Framing::Ascii => Ok(self.next_ascii(now)),
        }
    }

    fn next_tcp(&mut self) -> Result<Option<TakenRequest>, String> {
        loop {
            let stream = self.came.get(self.used..).unwrap_or_default();
            let parsed = tcp::parse(stream);
            // The first bytes of a connection that are no message, or not a whole one, may be a whole RTU frame.
            let whole = matches!(&parsed, Ok(Some((frame, _))) if frame.protocol == 0);
            if !self.heard_any && !whole && tcp::looks_like_rtu(stream) {
                return Err("RTU frames on an MBAP port: the other side is set to the wrong framing".into());
            }
            let (frame, length) = match parsed {
                Err(_) if stream.first() == Some(&b':') => {
                    return Err(
                        "ASCII frames on an MBAP port: the other side is set to the wrong framing".into()
                    );
                }
                Err(error) => return Err(error.to_string()),
                Ok(None) => return Ok(None),
                Ok(Some(found)) => found,
            };
            if frame.protocol != 0 {
                self.foreign += 1;
                if self.foreign >= FOREIGN_MAX {
                    return Err(tcp::foreign(frame.protocol).to_string());
                }
                self.used += length;
                continue;
            }
            // Transaction, protocol, length and unit stand before the PDU.
            let pdu = self.used + length - frame.body.pdu.len()..self.used + length;
            let taken =
                TakenRequest { transaction: frame.transaction, unit: frame.body.unit, pdu: Some(pdu) };
            self.used += length;
            self.heard_any = true;
            // Behind one connection there may be several who each answer for their own unit.
            if self.shared && !self.is_ours(taken.unit, &[]) {
                continue;
            }
            return Ok(Some(taken));
        }
    }

    /// Whether a frame of a line is for us: one of our units, one that is passed on, or all.
    fn is_ours(&self, unit: u8, pdu: &[u8]) -> bool {
        let number = u16::from(unit);
        if self.setup.passed.contains(&number) {
            return true;
        }
        if unit == BROADCAST {
            return Request::parse(pdu).is_ok_and(|request| request.may_broadcast());
        }
        // On a connection of one's own there is nobody else: an unknown unit gets its refusal.
        !self.setup.shared || self.setup.units.as_ref().is_none_or(|units| units.contains(&number))
    }

    fn next_rtu(&mut self, now: Moment) -> Result<Option<TakenRequest>, String> {
        loop {
            let still = now.since(self.last_byte) >= STALLED;
            let stream = self.came.get(self.used..).unwrap_or_default();
            let (way, found) = match self.setup.shared {
                true => rtu::find_either(stream, still),
                false => (rtu::Way::Request, rtu::find(rtu::Way::Request, stream, still)),
            };
            match found {
                rtu::Found::More => {
                    let mbap = !self.heard_any && !self.setup.shared && tcp::looks_like_mbap(stream);
                    return if mbap { Err(MBAP_HERE.into()) } else { Ok(None) };
                }
                rtu::Found::Noise { skip } => {
                    if !self.heard_any && !self.setup.shared && tcp::looks_like_mbap(stream) {
                        return Err(MBAP_HERE.into());
                    }
                    self.used += skip;
                    self.diagnosis.noise();
                }
                rtu::Found::Frame { skip, length, frame } => {
                    if skip > 0 {
                        self.diagnosis.noise();
                    }
                    self.diagnosis.heard();
                    self.heard_any = true;
                    // The unit stands before the PDU, two bytes of CRC behind it.
                    let pdu = self.used + skip + 1..self.used + skip + length - 2;
                    let unit = frame.unit;
                    let ours = way == rtu::Way::Request && self.is_ours(unit, frame.pdu);
                    self.used += skip + length;
                    if ours {
                        return Ok(Some(TakenRequest { transaction: 0, unit, pdu: Some(pdu) }));
                    }
                }
            }
        }
    }

    fn next_ascii(&mut self, now: Moment) -> Option<TakenRequest> {
        loop {
            let still = now.since(self.last_byte) >= ASCII_STALLED;
            match ascii::find(self.came.get(self.used..).unwrap_or_default(), still) {
                ascii::Found::More => return None,
                ascii::Found::Noise { skip, why } => {
                    self.used += skip;
                    if why.is_some() {
                        self.diagnosis.noise();
                    }
                }
                ascii::Found::Frame { used, frame } => {
                    self.used += used;
                    self.diagnosis.heard();
                    let body = frame.addressed();
                    // Another unit's answer may look like a request; it is not ours either way.
                    if self.is_ours(body.unit, body.pdu) {
                        self.decoded = body.pdu.to_vec();
                        return Some(TakenRequest { transaction: 0, unit: body.unit, pdu: None });
                    }
                }
            }
        }
    }

    /// What a request wants of the caller; `None` where it is answered here or not at all.
    fn work_on(&mut self, taken: TakenRequest) -> Option<Serve> {
        let TakenRequest { transaction, unit, pdu } = taken;
        let body = match &pdu {
            Some(range) => self.came.get(range.clone()).unwrap_or_default(),
            None => self.decoded.as_slice(),
        };
        let open = |echo| OpenRequest { transaction, unit, echo };
        if self.passes && self.setup.passed.contains(&u16::from(unit)) {
            let (echo, want) = whole(body);
            self.open = Some(open(echo));
            return Some(Serve::Want { unit: u16::from(unit), all: self.is_for_all(unit), want });
        }
        let line = self.framing != Framing::Tcp;
        let for_all = self.is_for_all(unit);
        if line {
            self.diagnosis.taken(for_all);
        }
        if self.diagnosis.listen_only && !body.starts_with(&[8, 0, 1]) {
            self.diagnosis.ended(None, false);
            return None;
        }
        let function = body.first().copied().unwrap_or_default() & 0x7F;
        if self.setup.tells_itself && matches!(function, 7 | 8 | 11 | 12 | 17 | 43) {
            let own = Echo { function, body: Repeats::Whole };
            match self.diagnosis.answer(body, line) {
                Own::NotMine => {}
                Own::Answer(answer) => {
                    self.answer(open(own), Ok(&answer));
                    return None;
                }
                Own::Refuse(exception) => {
                    self.answer(open(own), Err(exception));
                    return None;
                }
                Own::Silent => {
                    self.diagnosis.ended(None, false);
                    return None;
                }
            }
        }
        let (echo, wanted) = want(body);
        match wanted {
            Ok(want) => {
                self.open = Some(open(echo));
                Some(Serve::Want { unit: u16::from(unit), all: for_all, want })
            }
            Err(exception) => {
                self.answer(open(echo), Err(exception));
                None
            }
        }
    }
}

const MBAP_HERE: &str =
    "MBAP messages where RTU frames are expected: the other side is set to the wrong framing";

impl Server for ModbusServer {
    fn answers_expire(&self) -> bool {
        self.framing != Framing::Tcp
    }

    fn held(&self) -> usize {
        self.came.len() - self.used.min(self.came.len()) + self.out.len() + self.decoded.len()
    }

    fn set_up(&mut self, setup: &ServerSetup) {
        (self.passes, self.shared, self.setup) = (!setup.passed.is_empty(), setup.shared, setup.clone());
    }

    fn handle(&mut self, now: Moment, news: News<'_>) {
        match news {
            News::Bytes(bytes) => {
                // What stood unfinished for so long is not the beginning of this.
                let stalled = if self.framing == Framing::Ascii { ASCII_STALLED } else { STALLED };
                if self.framing != Framing::Tcp && now.since(self.last_byte) >= stalled {
                    self.used = self.came.len();
                }
                if self.used == self.came.len() {
                    // Fresh memory is at hand; that of a connection that was last heard long ago is not.
                    self.came = bytes.to_vec();
                } else {
                    self.came.drain(..self.used);
                    let most = if self.framing == Framing::Tcp { STREAM_MAX } else { LINE_MAX };
                    if self.came.len() + bytes.len() <= most {
                        self.came.extend_from_slice(bytes);
                    } else if self.framing == Framing::Tcp {
                        self.came.clear();
                        self.lost = Some("it asks on and on without taking its answers".into());
                    } else {
                        self.came.clear();
                        self.diagnosis.noise();
                    }
                }
                self.used = 0;
                self.last_byte = now;
            }
            News::Down => {
                self.came.clear();
                self.used = 0;
                self.open = None;
                self.out.clear();
            }
            News::Up => {}
        }
    }

    fn give(&mut self, result: Result<&[u8], Refusal>) {
        if let Some(open) = self.open.take() {
            self.answer(open, result.map_err(exception));
        }
    }

    fn plainly(&self) -> Option<FastReads> {
        let idle = self.open.is_none() && self.used == self.came.len() && self.out.is_empty();
        let plain = self.framing == Framing::Tcp && !self.passes && !self.shared;
        // The first message of a connection tells whether it is one.
        let sound = self.heard_any && self.lost.is_none() && self.setup.answer_as.is_none();
        (idle && plain && sound).then_some(answer_reads)
    }

    fn give_cells(&mut self, fill: &mut dyn FnMut(&mut Vec<u8>) -> Result<(), Refusal>) {
        match self.open {
            // Registers over MBAP, which most of the world asks for: written once, where they belong.
            Some(OpenRequest {
                transaction,
                unit,
                echo: Echo { function, body: Repeats::Values(table, count) },
            }) if self.framing == Framing::Tcp && !table.is_bits() && self.setup.answer_as.is_none() => {
                self.open = None;
                if self.out.capacity() == 0 {
                    self.out.reserve(ROOM);
                }
                let extent = Extent { space: space(table), first: 0, count: u32::from(count) };
                registers(Registers { transaction, unit, function, extent }, &mut self.out, fill);
            }
            _ => {
                let mut cells = vec![];
                let result = fill(&mut cells);
                self.give(result.map(|()| cells.as_slice()));
            }
        }
    }

    fn poll(&mut self, now: Moment) -> Serve {
        loop {
            if self.open.is_some() {
                // Answers go out in the order of their questions; this one is still being worked on.
                return if self.out.is_empty() {
                    Serve::Rest
                } else {
                    Serve::Send(std::mem::take(&mut self.out))
                };
            }
            let next = match self.lost.take() {
                Some(why) => Err(why),
                None => self.next_request(now),
            };
            match next {
                Ok(Some(taken)) => {
                    if let Some(wanted) = self.work_on(taken) {
                        return wanted;
                    }
                }
                _ if !self.out.is_empty() => {
                    if let Err(why) = next {
                        self.lost = Some(why);
                    }
                    return Serve::Send(std::mem::take(&mut self.out));
                }
                Ok(None) if self.framing != Framing::Tcp && self.used < self.came.len() => {
                    let stalled = if self.framing == Framing::Ascii { ASCII_STALLED } else { STALLED };
                    return Serve::WaitUntil(self.last_byte + stalled);
                }
                Ok(None) => return Serve::Rest,
                Err(why) => return Serve::HangUp(why),
            }
        }
    }

    fn damaged(&self) -> u64 {
        self.diagnosis.damaged()
    }

    fn native(&self, refusal: Refusal) -> (u32, &'static str) {
        let exception = exception(refusal);
        (u32::from(exception.0), exception.name())
    }
}
