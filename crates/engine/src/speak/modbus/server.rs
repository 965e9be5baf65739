//! A Modbus server on a stream of MBAP messages or on an RTU line.

use super::{Echo, exception, respond, want};
use crate::Moment;
use crate::speak::{News, Serve, Server};
use std::ops::Range;
use woodrush_core::Refusal;
use woodrush_wire::modbus::{BROADCAST, Exception, rtu, tcp};

/// Messages with a foreign protocol number before the connection is closed.
const FOREIGN_MAX: u32 = 3;
/// A part of a frame and then nothing for so long: the rest is not coming.
const STALLED: u64 = 50_000;

pub(super) struct ModbusServer {
    framing: Framing,
    units: Option<Vec<u16>>,
    came: Vec<u8>,
    /// How much of `came` is already answered; dropped when the buffer is looked at again.
    used: usize,
    out: Vec<u8>,
    /// The request that was last handed out.
    open: Option<Open>,
    last_byte: Moment,
    foreign: u32,
    heard_any: bool,
    lost: Option<String>,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Framing {
    Rtu,
    Tcp,
}

/// A request that was taken off the stream.
struct Request {
    transaction: u16,
    unit: u8,
    /// Where in `came` its PDU stands.
    pdu: Range<usize>,
}

/// A request that is being worked on.
#[derive(Clone, Copy)]
struct Open {
    transaction: u16,
    unit: u8,
    echo: Echo,
}

impl ModbusServer {
    pub(super) fn rtu(units: Option<Vec<u16>>) -> Self {
        Self::new(Framing::Rtu, units)
    }

    pub(super) fn tcp(units: Option<Vec<u16>>) -> Self {
        Self::new(Framing::Tcp, units)
    }

    fn new(framing: Framing, units: Option<Vec<u16>>) -> Self {
        Self {
            framing,
            units,
            came: vec![],
            used: 0,
            out: vec![],
            open: None,
            last_byte: Moment(0),
            foreign: 0,
            heard_any: false,
            lost: None,
        }
    }

    /// Writes an answer behind those that wait to be sent; room for many at once is taken in one go.
    fn answer(&mut self, open: Open, result: Result<&[u8], Exception>) {
        if self.framing == Framing::Rtu && open.unit == BROADCAST {
            return;
        }
        if self.out.capacity() == 0 {
            self.out.reserve(1024);
        }
        match self.framing {
            Framing::Tcp => {
                tcp::emit_with(open.transaction, open.unit, &mut self.out, |out| {
                    respond(open.echo, result, out)
                });
            }
            Framing::Rtu => {
                let mut pdu = vec![];
                respond(open.echo, result, &mut pdu);
                rtu::emit(open.unit, &pdu, &mut self.out);
            }
        }
    }

    /// The next whole request; `Ok(None)` while more is needed.
    fn next_request(&mut self, now: Moment) -> Result<Option<Request>, String> {
        match self.framing {
            Framing::Tcp => self.next_tcp(),
            Framing::Rtu => Ok(self.next_rtu(now)),
        }
    }

    fn next_tcp(&mut self) -> Result<Option<Request>, String> {
        loop {
            let stream = self.came.get(self.used..).unwrap_or_default();
            let parsed = tcp::parse(stream);
            // The first bytes of a connection that are no message, or not a whole one, may be a whole RTU frame.
            let whole = matches!(&parsed, Ok(Some((frame, _))) if frame.protocol == 0);
            if !self.heard_any && !whole && tcp::looks_like_rtu(stream) {
                return Err("RTU frames on an MBAP port: the other side is set to the wrong framing".into());
            }
            let (frame, length) = match parsed {
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
            let request = Request { transaction: frame.transaction, unit: frame.body.unit, pdu };
            self.used += length;
            self.heard_any = true;
            return Ok(Some(request));
        }
    }

    fn next_rtu(&mut self, now: Moment) -> Option<Request> {
        loop {
            let still = now.since(self.last_byte) >= STALLED;
            let stream = self.came.get(self.used..).unwrap_or_default();
            match rtu::find(rtu::Way::Request, stream, still) {
                rtu::Found::More => return None,
                rtu::Found::Noise { skip } => self.used += skip,
                rtu::Found::Frame { skip, length, frame } => {
                    // The unit stands before the PDU, two bytes of CRC behind it.
                    let pdu = self.used + skip + 1..self.used + skip + length - 2;
                    let function = frame.pdu.first().copied();
                    let request = Request { transaction: 0, unit: frame.unit, pdu };
                    self.used += skip + length;
                    let ours =
                        self.units.as_ref().is_none_or(|units| units.contains(&u16::from(request.unit)));
                    let broadcast = request.unit == BROADCAST && matches!(function, Some(5 | 6 | 15 | 16));
                    if (ours && request.unit != BROADCAST) || broadcast {
                        return Some(request);
                    }
                }
            }
        }
    }
}

impl Server for ModbusServer {
    fn handle(&mut self, now: Moment, news: News<'_>) {
        if let News::Bytes(bytes) = news {
            self.came.drain(..self.used);
            self.used = 0;
            self.came.extend_from_slice(bytes);
            self.last_byte = now;
        }
    }

    fn give(&mut self, result: Result<&[u8], Refusal>) {
        if let Some(open) = self.open.take() {
            self.answer(open, result.map_err(exception));
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
                Ok(Some(Request { transaction, unit, pdu })) => {
                    let (echo, wanted) = want(self.came.get(pdu).unwrap_or_default());
                    let open = Open { transaction, unit, echo };
                    match wanted {
                        Ok(want) => {
                            self.open = Some(open);
                            return Serve::Want { unit: u16::from(unit), want };
                        }
                        Err(exception) => self.answer(open, Err(exception)),
                    }
                }
                _ if !self.out.is_empty() => {
                    if let Err(why) = next {
                        self.lost = Some(why);
                    }
                    return Serve::Send(std::mem::take(&mut self.out));
                }
                Ok(None) if self.framing == Framing::Rtu && self.used < self.came.len() => {
                    return Serve::WaitUntil(self.last_byte + STALLED);
                }
                Ok(None) => return Serve::Rest,
                Err(why) => return Serve::HangUp(why),
            }
        }
    }

    fn native(&self, refusal: Refusal) -> (u32, &'static str) {
        let exception = exception(refusal);
        (u32::from(exception.0), exception.name())
    }
}
