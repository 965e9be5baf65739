//! Responses: what a server answers (APP section 6), refusals among it (section 7).

use super::super::Table;
use super::request::pairs;
use super::{EXCEPTION_BIT, Exception, IDENTIFICATION, coil_value, put_counted, put_words};
use crate::{Reader, WireError, WireFault};

const LAYER: &str = "Modbus response";
/// Most values that a queue gives at once (APP 6.18).
const QUEUE_MAX: u16 = 31;
/// Most events that a log gives (APP 6.10).
const EVENTS_MAX: usize = 64;

/// One response to a request of the same function.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Response<'a> {
    /// Bits or registers (functions 1 to 4), as the request's count asked.
    Read {
        /// Which table.
        table: Table,
        /// Bits from bit 0 of the first byte on, or registers high byte first.
        data: &'a [u8],
    },
    /// Echo of function 5.
    WroteCoil {
        /// Zero-based offset.
        offset: u16,
        /// On or off.
        on: bool,
    },
    /// Echo of function 6.
    WroteRegister {
        /// Zero-based offset.
        offset: u16,
        /// The register's new 16 bits.
        value: u16,
    },
    /// Eight bits that the device defines (function 7).
    ExceptionStatus(u8),
    /// Echo or counter of function 8.
    Diagnostics {
        /// Sub-function.
        sub: u16,
        /// Pairs of bytes.
        data: &'a [u8],
    },
    /// How many messages were completed (function 11).
    EventCounter {
        /// 0xFFFF while an earlier program command is still busy, else 0.
        status: u16,
        /// Messages completed.
        count: u16,
    },
    /// The same with the last events (function 12).
    EventLog {
        /// As in `EventCounter`.
        status: u16,
        /// Messages completed.
        count: u16,
        /// Messages seen on the line.
        messages: u16,
        /// At most 64, the newest first.
        events: &'a [u8],
    },
    /// What functions 15 and 16 say that they wrote.
    Wrote {
        /// Coils or holding registers.
        table: Table,
        /// Zero-based offset of the first.
        offset: u16,
        /// How many.
        count: u16,
    },
    /// What the device says that it is (function 17); where its id ends is its own affair.
    ServerId(&'a [u8]),
    /// Echo of function 22.
    MaskWrote {
        /// Zero-based offset.
        offset: u16,
        /// Ones kept the old bit.
        and: u16,
        /// Where `and` is 0, the new bit.
        or: u16,
    },
    /// Registers read after the write of function 23, high byte first.
    Exchanged(&'a [u8]),
    /// Values of a queue (function 24), high byte first; at most 31.
    Queue(&'a [u8]),
    /// Objects of device identification (function 43, type 14).
    Identification {
        /// As in the request.
        code: u8,
        /// 1 basic, 2 regular, 3 extended; 0x80 more where single objects can be had.
        conformity: u8,
        /// More objects follow, from this one on.
        next: Option<u8>,
        /// How many are here.
        count: u8,
        /// Each with its number, its length and its bytes.
        objects: &'a [u8],
    },
    /// The device refused; see [`Exception`].
    Refused {
        /// The function of the request.
        function: u8,
        /// Why.
        exception: Exception,
    },
    /// A refusal of function 43 as older editions word it, with the type before the code.
    RefusedType {
        /// The type that was asked for.
        kind: u8,
        /// Why.
        exception: Exception,
    },
    /// A function that this codec does not know; kept whole.
    Other {
        /// The function code.
        function: u8,
        /// What follows it.
        data: &'a [u8],
    },
}

impl<'a> Response<'a> {
    /// Reads a response. That it fits its request (unit, function, count, echo) is the client's question.
    ///
    /// # Errors
    /// The structure breaks a rule of its function: the client treats the answer as damaged.
    pub fn parse(pdu: &'a [u8]) -> Result<Self, WireError> {
        let mut r = Reader::new(LAYER, pdu);
        let function = r.u8("function code")?;
        let said = pdu.get(1).copied().map_or(0, usize::from);
        // An odd count of register bytes, none at all, or more than a request can ask for.
        let words = |most: u16| (said / 2 * 2).clamp(2, Table::HoldingRegister.bytes(most));
        let response = match function {
            1..=4 => {
                let table = match function {
                    1 => Table::Coil,
                    2 => Table::DiscreteInput,
                    3 => Table::HoldingRegister,
                    _ => Table::InputRegister,
                };
                let most = table.read_max();
                let fits = if table.is_bits() { said.clamp(1, table.bytes(most)) } else { words(most) };
                Self::Read { table, data: r.counted("data", "the table", fits)? }
            }
            5 => {
                let offset = r.u16("offset")?;
                let on = r.choice("coil value", "0xFF00 (on) or 0x0000 (off)", coil_value)?;
                Self::WroteCoil { offset, on }
            }
            6 => Self::WroteRegister { offset: r.u16("offset")?, value: r.u16("value")? },
            7 => Self::ExceptionStatus(r.u8("status")?),
            8 => {
                let (sub, data) = (r.u16("sub-function")?, r.rest());
                pairs(sub, data)?;
                Self::Diagnostics { sub, data }
            }
            11 => Self::EventCounter { status: r.u16("status")?, count: r.u16("event count")? },
            12 => {
                let fits = said.clamp(6, 6 + EVENTS_MAX);
                let mut inner = Reader::new(LAYER, r.counted("log", "the log", fits)?);
                let (status, count) = (inner.u16("status")?, inner.u16("event count")?);
                Self::EventLog { status, count, messages: inner.u16("message count")?, events: inner.rest() }
            }
            15 | 16 => {
                let table = if function == 15 { Table::Coil } else { Table::HoldingRegister };
                let offset = r.u16("offset")?;
                Self::Wrote { table, offset, count: r.u16_in("count", 1, table.write_max())? }
            }
            17 => Self::ServerId(r.counted("server id", "the id", said.max(1))?),
            22 => {
                let offset = r.u16("offset")?;
                Self::MaskWrote { offset, and: r.u16("AND mask")?, or: r.u16("OR mask")? }
            }
            23 => {
                let fits = words(Table::HoldingRegister.read_max());
                Self::Exchanged(r.counted("registers", "the table", fits)?)
            }
            24 => {
                let bytes = r.u16("byte count")?;
                let count = r.u16_in("queue count", 0, QUEUE_MAX)?;
                if bytes != 2 + 2 * count {
                    let (said, asked) = (usize::from(bytes), 2 + 2 * usize::from(count));
                    let fault =
                        WireFault::Disagree { field: "byte count", said, other: "queue count", asked };
                    return Err(WireError { layer: LAYER, at: 1, fault });
                }
                Self::Queue(r.bytes("values", 2 * usize::from(count))?)
            }
            43 if pdu.get(1) == Some(&IDENTIFICATION) => identification(&mut r)?,
            0xAB if pdu.len() == 3 => {
                let kind = r.u8("type")?;
                Self::RefusedType { kind, exception: Exception(r.u8("exception code")?) }
            }
            _ if function & EXCEPTION_BIT != 0 => {
                let exception = Exception(r.u8("exception code")?);
                Self::Refused { function: function & !EXCEPTION_BIT, exception }
            }
            _ => Self::Other { function, data: r.rest() },
        };
        r.end()?;
        Ok(response)
    }

    /// Appends the response to `out`.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.push(match self {
            Self::Refused { .. } | Self::RefusedType { .. } => self.function() | EXCEPTION_BIT,
            _ => self.function(),
        });
        match *self {
            Self::Read { data, .. } | Self::ServerId(data) | Self::Exchanged(data) => put_counted(out, data),
            Self::WroteCoil { offset, on } => put_words(out, &[offset, if on { 0xFF00 } else { 0 }]),
            Self::WroteRegister { offset, value } => put_words(out, &[offset, value]),
            Self::ExceptionStatus(bits) => out.push(bits),
            Self::Diagnostics { sub, data } => {
                put_words(out, &[sub]);
                out.extend_from_slice(data);
            }
            Self::EventCounter { status, count } => put_words(out, &[status, count]),
            Self::EventLog { status, count, messages, events } => {
                out.push(u8::try_from(6 + events.len()).unwrap_or(u8::MAX));
                put_words(out, &[status, count, messages]);
                out.extend_from_slice(events);
            }
            Self::Wrote { offset, count, .. } => put_words(out, &[offset, count]),
            Self::MaskWrote { offset, and, or } => put_words(out, &[offset, and, or]),
            Self::Queue(values) => {
                let count = u16::try_from(values.len() / 2).unwrap_or(u16::MAX);
                put_words(out, &[count.saturating_mul(2).saturating_add(2), count]);
                out.extend_from_slice(values);
            }
            Self::Identification { code, conformity, next, count, objects } => {
                let (more, next) = next.map_or((0, 0), |next| (0xFF, next));
                out.extend_from_slice(&[IDENTIFICATION, code, conformity, more, next, count]);
                out.extend_from_slice(objects);
            }
            Self::Refused { exception, .. } => out.push(exception.0),
            Self::RefusedType { kind, exception } => out.extend_from_slice(&[kind, exception.0]),
            Self::Other { data, .. } => out.extend_from_slice(data),
        }
    }

    /// The function code of the request that this answers.
    #[must_use]
    pub const fn function(&self) -> u8 {
        match self {
            Self::Read { table, .. } => table.read_function(),
            Self::WroteCoil { .. } => 5,
            Self::WroteRegister { .. } => 6,
            Self::ExceptionStatus(_) => 7,
            Self::Diagnostics { .. } => 8,
            Self::EventCounter { .. } => 11,
            Self::EventLog { .. } => 12,
            Self::Wrote { table: Table::Coil, .. } => 15,
            Self::Wrote { .. } => 16,
            Self::ServerId(_) => 17,
            Self::MaskWrote { .. } => 22,
            Self::Exchanged(_) => 23,
            Self::Queue(_) => 24,
            Self::Identification { .. } | Self::RefusedType { .. } => 43,
            Self::Refused { function, .. } | Self::Other { function, .. } => *function,
        }
    }

    /// The refusal, in whichever wording.
    #[must_use]
    pub const fn exception(&self) -> Option<Exception> {
        match self {
            Self::Refused { exception, .. } | Self::RefusedType { exception, .. } => Some(*exception),
            _ => None,
        }
    }
}

fn identification<'a>(r: &mut Reader<'a>) -> Result<Response<'a>, WireError> {
    r.u8("type")?;
    let code = r.u8_in("code", 1, 4)?;
    let conformity = r.u8("conformity")?;
    // Two fields in one look: without more, the next object is 0.
    let allowed = "0xFF and an object, or 0x0000";
    let next = r.choice("more follows", allowed, |pair| match pair.to_be_bytes() {
        [0xFF, next] => Some(Some(next)),
        [0, 0] => Some(None),
        _ => None,
    })?;
    let count = r.u8("object count")?;
    let mut walk = r.clone();
    for _ in 0..count {
        walk.u8("object number")?;
        let length = usize::from(walk.u8("object length")?);
        walk.bytes("object", length)?;
    }
    walk.end()?;
    Ok(Response::Identification { code, conformity, next, count, objects: r.rest() })
}
