//! Requests: what a client asks (APP section 6).

use super::super::Table;
use super::{IDENTIFICATION, coil_value, put_counted, put_words};
use crate::{Reader, WireError, WireFault};

const LAYER: &str = "Modbus request";
/// Most registers that function 23 writes (APP 6.17).
const EXCHANGE_WRITE_MAX: u16 = 121;

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
    /// Eight bits that the device defines (function 7, serial line only).
    ExceptionStatus,
    /// Diagnostics of the line (function 8, serial line only; APP 6.8).
    Diagnostics {
        /// Sub-function.
        sub: u16,
        /// Pairs of bytes: any number for sub-function 0, one pair for all others.
        data: &'a [u8],
    },
    /// How many messages were completed (function 11, serial line only).
    EventCounter,
    /// The same with the last events (function 12, serial line only).
    EventLog,
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
    /// What the device is and whether it runs (function 17, serial line only).
    ServerId,
    /// Change some bits of one holding register (function 22): new = (old AND `and`) OR (`or` AND NOT `and`).
    MaskWrite {
        /// Zero-based offset.
        offset: u16,
        /// Ones keep the old bit.
        and: u16,
        /// Where `and` is 0, the new bit.
        or: u16,
    },
    /// Write holding registers, then read some (function 23).
    Exchange {
        /// Zero-based offset of the first register read.
        offset: u16,
        /// Registers read, 1 to 125.
        count: u16,
        /// Zero-based offset of the first register written.
        write_offset: u16,
        /// Registers written, each high byte first; 2 to 242 bytes.
        words: &'a [u8],
    },
    /// The values that wait in a queue (function 24).
    ReadQueue {
        /// Offset of the register that counts them.
        offset: u16,
    },
    /// Device identification (function 43, type 14).
    Identification {
        /// 1 basic, 2 regular, 3 extended, 4 one object.
        code: u8,
        /// The object to begin with, or the one asked for.
        object: u8,
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
        let mut r = Reader::new(LAYER, pdu);
        let read = |r: &mut Reader<'a>, table: Table| {
            let offset = r.u16("offset")?;
            Ok(Self::Read { table, offset, count: r.u16_in("count", 1, table.read_max())? })
        };
        let request = match r.u8("function code")? {
            1 => read(&mut r, Table::Coil)?,
            2 => read(&mut r, Table::DiscreteInput)?,
            3 => read(&mut r, Table::HoldingRegister)?,
            4 => read(&mut r, Table::InputRegister)?,
            5 => {
                let offset = r.u16("offset")?;
                let on = r.choice("coil value", "0xFF00 (on) or 0x0000 (off)", coil_value)?;
                Self::WriteCoil { offset, on }
            }
            6 => Self::WriteRegister { offset: r.u16("offset")?, value: r.u16("value")? },
            7 => Self::ExceptionStatus,
            8 => {
                let (sub, data) = (r.u16("sub-function")?, r.rest());
                pairs(sub, data)?;
                return Ok(Self::Diagnostics { sub, data });
            }
            11 => Self::EventCounter,
            12 => Self::EventLog,
            15 => {
                let offset = r.u16("offset")?;
                let count = r.u16_in("count", 1, Table::Coil.write_max())?;
                Self::WriteCoils {
                    offset,
                    count,
                    bits: r.counted("coils", "count", Table::Coil.bytes(count))?,
                }
            }
            16 => {
                let offset = r.u16("offset")?;
                let count = r.u16_in("count", 1, Table::HoldingRegister.write_max())?;
                let words = r.counted("registers", "count", Table::HoldingRegister.bytes(count))?;
                Self::WriteRegisters { offset, words }
            }
            17 => Self::ServerId,
            22 => {
                let offset = r.u16("offset")?;
                Self::MaskWrite { offset, and: r.u16("AND mask")?, or: r.u16("OR mask")? }
            }
            23 => {
                let offset = r.u16("offset read")?;
                let count = r.u16_in("count read", 1, Table::HoldingRegister.read_max())?;
                let write_offset = r.u16("offset written")?;
                let written = r.u16_in("count written", 1, EXCHANGE_WRITE_MAX)?;
                let bytes = Table::HoldingRegister.bytes(written);
                let words = r.counted("registers", "count written", bytes)?;
                Self::Exchange { offset, count, write_offset, words }
            }
            24 => Self::ReadQueue { offset: r.u16("offset")? },
            43 if pdu.get(1) == Some(&IDENTIFICATION) => {
                r.u8("type")?;
                let code = r.u8_in("code", 1, 4)?;
                Self::Identification { code, object: r.u8("object")? }
            }
            function => return Ok(Self::Other { function, data: r.rest() }),
        };
        r.end()?;
        Ok(request)
    }

    /// Appends the request to `out`.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.push(self.function());
        match *self {
            Self::ExceptionStatus | Self::EventCounter | Self::EventLog | Self::ServerId => {}
            Self::Read { offset, count, .. } => put_words(out, &[offset, count]),
            Self::WriteCoil { offset, on } => put_words(out, &[offset, if on { 0xFF00 } else { 0 }]),
            Self::WriteRegister { offset, value } => put_words(out, &[offset, value]),
            Self::Diagnostics { sub, data } => {
                put_words(out, &[sub]);
                out.extend_from_slice(data);
            }
            Self::WriteCoils { offset, count, bits } => {
                put_words(out, &[offset, count]);
                put_counted(out, bits);
            }
            Self::WriteRegisters { offset, words } => {
                put_words(out, &[offset, count_of(words)]);
                put_counted(out, words);
            }
            Self::MaskWrite { offset, and, or } => put_words(out, &[offset, and, or]),
            Self::Exchange { offset, count, write_offset, words } => {
                put_words(out, &[offset, count, write_offset, count_of(words)]);
                put_counted(out, words);
            }
            Self::ReadQueue { offset } => put_words(out, &[offset]),
            Self::Identification { code, object } => out.extend_from_slice(&[IDENTIFICATION, code, object]),
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
            Self::ExceptionStatus => 7,
            Self::Diagnostics { .. } => 8,
            Self::EventCounter => 11,
            Self::EventLog => 12,
            Self::WriteCoils { .. } => 15,
            Self::WriteRegisters { .. } => 16,
            Self::ServerId => 17,
            Self::MaskWrite { .. } => 22,
            Self::Exchange { .. } => 23,
            Self::ReadQueue { .. } => 24,
            Self::Identification { .. } => 43,
            Self::Other { function, .. } => *function,
        }
    }

    /// Whether it changes something in the device.
    #[must_use]
    pub const fn writes(&self) -> bool {
        // 21 writes file records.
        matches!(self.function(), 5 | 6 | 15 | 16 | 21 | 22 | 23)
    }

    /// Whether it is known to change nothing in the device (APP 6): reads of the tables, of file records and queues, and
    /// what a device tells of itself. Function 8 may silence a device; other codes are the makers' own.
    #[must_use]
    pub const fn only_reads(&self) -> bool {
        matches!(self.function(), 1..=4 | 7 | 11 | 12 | 17 | 20 | 24 | 43)
    }

    /// Whether it may go to all units at once, who then do not answer (SER 2.2): writes, and diagnostics that clear
    /// counters or silence a device.
    #[must_use]
    pub const fn may_broadcast(&self) -> bool {
        matches!(self.function(), 5 | 6 | 8 | 15 | 16 | 21 | 22)
    }

    /// Bytes of the normal response's PDU, where the request tells; `None` where the response has a length of its
    /// own, or the codec does not know the function.
    #[must_use]
    pub const fn response_len(&self) -> Option<usize> {
        match self {
            Self::Read { table, count, .. } => Some(2 + table.bytes(*count)),
            Self::Exchange { count, .. } => Some(2 + Table::HoldingRegister.bytes(*count)),
            Self::WriteCoil { .. }
            | Self::WriteRegister { .. }
            | Self::WriteCoils { .. }
            | Self::WriteRegisters { .. }
            | Self::EventCounter => Some(5),
            Self::ExceptionStatus => Some(2),
            Self::MaskWrite { .. } => Some(7),
            Self::Diagnostics { data, .. } => Some(3 + data.len()),
            Self::EventLog
            | Self::ServerId
            | Self::ReadQueue { .. }
            | Self::Identification { .. }
            | Self::Other { .. } => None,
        }
    }
}

fn count_of(words: &[u8]) -> u16 {
    u16::try_from(words.len() / 2).unwrap_or(u16::MAX)
}

/// The data of function 8 comes in pairs of bytes: one pair, or for sub-function 0 as many as fit.
pub(super) fn pairs(sub: u16, data: &[u8]) -> Result<(), WireError> {
    let fault = |fault| Err(WireError { layer: LAYER, at: 3, fault });
    match data.len() {
        0 | 1 => fault(WireFault::Short { field: "data", want: 2, have: data.len() }),
        count if count > 2 && (sub != 0 || count % 2 == 1) => {
            fault(WireFault::Trailing { extra: if sub == 0 { 1 } else { count - 2 } })
        }
        _ => Ok(()),
    }
}
