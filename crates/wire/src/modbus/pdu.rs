//! The meaning of a Modbus message: function code and data (APP section 6), apart from any frame.
//!
//! Functions 1 to 6, 15 and 16 are known; every other is kept as `Other`, so that it can be shown, carried or
//! refused with exception 1 by whoever reads it.

use super::Table;
use crate::{Reader, WireError};

const REQUEST: &str = "Modbus request";
const RESPONSE: &str = "Modbus response";
/// Set in the function code of an exception (APP section 7).
const EXCEPTION_BIT: u8 = 0x80;

/// One request, with every rule of its function already checked except whether the address exists.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Request<'a> {
    /// Read `count` items of `table` from `offset` on (functions 1 to 4).
    Read {
        /// Which table.
        table: Table,
        /// Zero-based offset of the first item.
        offset: u16,
        /// 1 to 2000 bits or 1 to 125 registers.
        count: u16,
    },
    /// Write one coil (function 5).
    WriteCoil {
        /// Zero-based offset.
        offset: u16,
        /// On or off.
        on: bool,
    },
    /// Write one holding register (function 6).
    WriteRegister {
        /// Zero-based offset.
        offset: u16,
        /// The register's new 16 bits.
        value: u16,
    },
    /// Write coils (function 15).
    WriteCoils {
        /// Zero-based offset of the first coil.
        offset: u16,
        /// 1 to 1968.
        count: u16,
        /// `count` bits, the first one bit 0 of the first byte.
        bits: &'a [u8],
    },
    /// Write holding registers (function 16).
    WriteRegisters {
        /// Zero-based offset of the first register.
        offset: u16,
        /// Registers, each high byte first; 2 to 246 bytes.
        words: &'a [u8],
    },
    /// A function that this codec does not know; kept whole.
    Other {
        /// The function code, 0 to 255.
        function: u8,
        /// What follows it.
        data: &'a [u8],
    },
}

impl<'a> Request<'a> {
    /// Reads a request. Whether `offset + count` stays within the table is the server's question (exception 2),
    /// not one of form.
    ///
    /// # Errors
    /// The structure breaks a rule of its function: a server answers exception 3.
    pub fn parse(pdu: &'a [u8]) -> Result<Self, WireError> {
        let mut r = Reader::new(REQUEST, pdu);
        let table = match r.u8("function code")? {
            1 => Table::Coil,
            2 => Table::DiscreteInput,
            3 => Table::HoldingRegister,
            4 => Table::InputRegister,
            5 => {
                let offset = r.u16("offset")?;
                let on = r.choice("coil value", "0xFF00 (on) or 0x0000 (off)", coil_value)?;
                r.end()?;
                return Ok(Self::WriteCoil { offset, on });
            }
            6 => {
                let (offset, value) = (r.u16("offset")?, r.u16("value")?);
                r.end()?;
                return Ok(Self::WriteRegister { offset, value });
            }
            15 => {
                let offset = r.u16("offset")?;
                let count = r.u16_in("count", 1, Table::Coil.write_max())?;
                let bits = r.counted("coils", "count", Table::Coil.bytes(count))?;
                r.end()?;
                return Ok(Self::WriteCoils { offset, count, bits });
            }
            16 => {
                let offset = r.u16("offset")?;
                let count = r.u16_in("count", 1, Table::HoldingRegister.write_max())?;
                let words = r.counted("registers", "count", Table::HoldingRegister.bytes(count))?;
                r.end()?;
                return Ok(Self::WriteRegisters { offset, words });
            }
            function => return Ok(Self::Other { function, data: r.rest() }),
        };
        let offset = r.u16("offset")?;
        let count = r.u16_in("count", 1, table.read_max())?;
        r.end()?;
        Ok(Self::Read { table, offset, count })
    }

    /// Appends the request to `out`.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.push(self.function());
        match *self {
            Self::Read { offset, count, .. } => put_words(out, &[offset, count]),
            Self::WriteCoil { offset, on } => put_words(out, &[offset, if on { 0xFF00 } else { 0 }]),
            Self::WriteRegister { offset, value } => put_words(out, &[offset, value]),
            Self::WriteCoils { offset, count, bits } => {
                put_words(out, &[offset, count]);
                put_counted(out, bits);
            }
            Self::WriteRegisters { offset, words } => {
                put_words(out, &[offset, u16::try_from(words.len() / 2).unwrap_or(u16::MAX)]);
                put_counted(out, words);
            }
            Self::Other { data, .. } => out.extend_from_slice(data),
        }
    }

    /// The function code, decimal as users see it.
    #[must_use]
    pub const fn function(&self) -> u8 {
        match self {
            Self::Read { table, .. } => table.read_function(),
            Self::WriteCoil { .. } => 5,
            Self::WriteRegister { .. } => 6,
            Self::WriteCoils { .. } => 15,
            Self::WriteRegisters { .. } => 16,
            Self::Other { function, .. } => *function,
        }
    }

    /// Bytes of the normal response's PDU, where the request tells; `None` for functions that this codec does not
    /// know. RTU has no other way to know where an answer ends before silence.
    #[must_use]
    pub const fn response_len(&self) -> Option<usize> {
        match self {
            Self::Read { table, count, .. } => Some(2 + table.bytes(*count)),
            Self::Other { .. } => None,
            _ => Some(5),
        }
    }
}

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
    /// What functions 15 and 16 say that they wrote.
    Wrote {
        /// Coils or holding registers.
        table: Table,
        /// Zero-based offset of the first.
        offset: u16,
        /// How many.
        count: u16,
    },
    /// The device refused; see [`Exception`].
    Refused {
        /// The function of the request.
        function: u8,
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
        let mut r = Reader::new(RESPONSE, pdu);
        let function = r.u8("function code")?;
        let response = match function {
            1..=4 => {
                let table = match function {
                    1 => Table::Coil,
                    2 => Table::DiscreteInput,
                    3 => Table::HoldingRegister,
                    _ => Table::InputRegister,
                };
                let said = pdu.get(1).copied().map_or(0, usize::from);
                let most = table.bytes(table.read_max());
                let whole = if table.is_bits() { said } else { said / 2 * 2 };
                // An odd count of register bytes, none at all, or more than a request can ask for.
                let fits = whole.clamp(if table.is_bits() { 1 } else { 2 }, most);
                Self::Read { table, data: r.counted("data", "the table", fits)? }
            }
            5 => {
                let offset = r.u16("offset")?;
                let on = r.choice("coil value", "0xFF00 (on) or 0x0000 (off)", coil_value)?;
                Self::WroteCoil { offset, on }
            }
            6 => Self::WroteRegister { offset: r.u16("offset")?, value: r.u16("value")? },
            15 | 16 => {
                let table = if function == 15 { Table::Coil } else { Table::HoldingRegister };
                let offset = r.u16("offset")?;
                Self::Wrote { table, offset, count: r.u16_in("count", 1, table.write_max())? }
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
            Self::Refused { function, .. } => function | EXCEPTION_BIT,
            _ => self.function(),
        });
        match *self {
            Self::Read { data, .. } => put_counted(out, data),
            Self::WroteCoil { offset, on } => put_words(out, &[offset, if on { 0xFF00 } else { 0 }]),
            Self::WroteRegister { offset, value } => put_words(out, &[offset, value]),
            Self::Wrote { offset, count, .. } => put_words(out, &[offset, count]),
            Self::Refused { exception, .. } => out.push(exception.0),
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
            Self::Wrote { table: Table::Coil, .. } => 15,
            Self::Wrote { .. } => 16,
            Self::Refused { function, .. } | Self::Other { function, .. } => *function,
        }
    }
}

/// The code of a refusal (APP section 7), 1 to 255; codes that the standard does not name are kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Exception(pub u8);

impl Exception {
    /// The function is unknown or not allowed now.
    pub const ILLEGAL_FUNCTION: Self = Self(1);
    /// Some part of offset and count does not exist.
    pub const ILLEGAL_DATA_ADDRESS: Self = Self(2);
    /// The request's structure is wrong: count, byte count, length, coil value.
    pub const ILLEGAL_DATA_VALUE: Self = Self(3);
    /// An unrecoverable fault while doing it.
    pub const SERVER_DEVICE_FAILURE: Self = Self(4);
    /// Accepted, takes long.
    pub const ACKNOWLEDGE: Self = Self(5);
    /// Busy with a long command.
    pub const SERVER_DEVICE_BUSY: Self = Self(6);
    /// A gateway could not get the request onto a path to the target.
    pub const GATEWAY_PATH_UNAVAILABLE: Self = Self(0x0A);
    /// The request went out and no sound answer came back.
    pub const GATEWAY_TARGET_FAILED: Self = Self(0x0B);

    /// The standard's name, in small letters; `unknown exception` for codes that it does not name.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self.0 {
            1 => "illegal function",
            2 => "illegal data address",
            3 => "illegal data value",
            4 => "server device failure",
            5 => "acknowledge",
            6 => "server device busy",
            7 => "negative acknowledge",
            8 => "memory parity error",
            0x0A => "gateway path unavailable",
            0x0B => "gateway target device failed to respond",
            _ => "unknown exception",
        }
    }
}

const fn coil_value(word: u16) -> Option<bool> {
    match word {
        0xFF00 => Some(true),
        0 => Some(false),
        _ => None,
    }
}

fn put_words(out: &mut Vec<u8>, words: &[u16]) {
    for word in words {
        out.extend_from_slice(&word.to_be_bytes());
    }
}

fn put_counted(out: &mut Vec<u8>, data: &[u8]) {
    out.push(u8::try_from(data.len()).unwrap_or(u8::MAX));
    out.extend_from_slice(data);
}
