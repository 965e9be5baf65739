//! Commands by CMD and FNC with their parameters.

use super::place::{Logical, Table};
use crate::{Reader, WireError};

const LAYER: &str = "data table command";

/// What a message asks for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Command<'a> {
    /// 06/00: the same bytes back.
    Echo(&'a [u8]),
    /// 06/01: counters of the link.
    Counters {
        /// Where they begin.
        address: u16,
        /// How many bytes.
        size: u8,
    },
    /// 06/03: what the controller is.
    DiagnosticStatus,
    /// 06/07: counters of the link from 0 on.
    ResetCounters,
    /// 0F/A1 with two fields, 0F/A2 with three: so many bytes.
    Read {
        /// Bytes, 1 to 236.
        size: u8,
        /// From where on.
        at: Logical,
    },
    /// 0F/A9 with two fields, 0F/AA with three.
    Write {
        /// From where on.
        at: Logical,
        /// As many bytes as the size says.
        data: &'a [u8],
    },
    /// 0F/AB: new = (old AND NOT mask) OR (data AND mask), for each word.
    MaskedWrite {
        /// From where on; three fields.
        at: Logical,
        /// Which bits change.
        mask: u16,
        /// As many bytes as the size says.
        data: &'a [u8],
    },
    /// 0F/01: words in a row.
    RangeRead {
        /// Words of the transfer before this packet.
        offset: u16,
        /// Words of the whole transfer.
        total: u16,
        /// Where the transfer begins.
        at: Table<'a>,
        /// Bytes in this packet.
        size: u8,
    },
    /// 0F/00: words in a row.
    RangeWrite {
        /// Words of the transfer before this packet.
        offset: u16,
        /// Words of the whole transfer.
        total: u16,
        /// Where the transfer begins.
        at: Table<'a>,
        /// Words of this packet, the low byte first.
        data: &'a [u8],
    },
    /// 0F/68: elements in a row, with a descriptor.
    TypedRead {
        /// Elements of the transfer before this packet.
        offset: u16,
        /// Elements of the whole transfer.
        total: u16,
        /// Where the transfer begins.
        at: Table<'a>,
        /// Elements in this packet.
        count: u16,
    },
    /// 0F/67: elements in a row, with a descriptor.
    TypedWrite {
        /// Elements of the transfer before this packet.
        offset: u16,
        /// Elements of the whole transfer.
        total: u16,
        /// Where the transfer begins.
        at: Table<'a>,
        /// Descriptor and elements.
        data: &'a [u8],
    },
    /// 0F/26: bits of words, one set after the other; [`sets`] takes them apart.
    Change(&'a [u8]),
    /// Anything else: CMD, and FNC where it has one.
    Other {
        /// CMD.
        cmd: u8,
        /// Everything behind the header.
        body: &'a [u8],
    },
}

/// One set of a read-modify-write: new = (old AND `and`) OR `or`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Set<'a> {
    /// Which word.
    pub at: Table<'a>,
    /// Ones keep the old bit.
    pub and: u16,
    /// Ones set the bit.
    pub or: u16,
}

impl Set<'_> {
    /// Appends the set.
    pub fn emit(&self, out: &mut Vec<u8>) {
        self.at.emit(out);
        out.extend_from_slice(&self.and.to_le_bytes());
        out.extend_from_slice(&self.or.to_le_bytes());
    }
}

/// The sets of a read-modify-write, in their order.
///
/// # Errors
/// One of them is cut short or names no place.
pub fn sets(bytes: &[u8]) -> Result<Vec<Set<'_>>, WireError> {
    let mut reader = Reader::new(LAYER, bytes);
    let mut found = vec![];
    while !reader.is_at_end() {
        let at = Table::parse(&mut reader)?;
        let (and, or) = (word(&mut reader, "AND mask")?, word(&mut reader, "OR mask")?);
        found.push(Set { at, and, or });
    }
    Ok(found)
}

fn word(reader: &mut Reader<'_>, field: &'static str) -> Result<u16, WireError> {
    reader.u16(field).map(u16::swap_bytes)
}

impl<'a> Command<'a> {
    /// Reads what stands behind the header of a command.
    ///
    /// # Errors
    /// Parameters are missing, or too many.
    pub fn parse(cmd: u8, body: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, body);
        // The priority bit changes nothing.
        let command = cmd & 0x0F;
        if !matches!(command, 0x06 | 0x0F) {
            return Ok(Self::Other { cmd, body });
        }
        let function = reader.u8("FNC")?;
        let parsed = match (command, function) {
            (0x06, 0x00) => return Ok(Self::Echo(reader.rest())),
            (0x06, 0x01) => {
                Self::Counters { address: word(&mut reader, "address")?, size: reader.u8("size")? }
            }
            (0x06, 0x03) => Self::DiagnosticStatus,
            (0x06, 0x07) => Self::ResetCounters,
            (0x0F, 0xA1 | 0xA2) => {
                Self::Read { size: reader.u8("size")?, at: Logical::parse(&mut reader, function == 0xA2)? }
            }
            (0x0F, 0xA9 | 0xAA) => {
                let size = usize::from(reader.u8("size")?);
                let at = Logical::parse(&mut reader, function == 0xAA)?;
                Self::Write { at, data: reader.bytes("data", size)? }
            }
            (0x0F, 0xAB) => {
                let size = usize::from(reader.u8("size")?);
                let (at, mask) = (Logical::parse(&mut reader, true)?, word(&mut reader, "mask")?);
                Self::MaskedWrite { at, mask, data: reader.bytes("data", size)? }
            }
            (0x0F, 0x00 | 0x01 | 0x67 | 0x68) => {
                let (offset, total) = (word(&mut reader, "packet offset")?, word(&mut reader, "total")?);
                let at = Table::parse(&mut reader)?;
                match function {
                    0x00 => Self::RangeWrite { offset, total, at, data: reader.rest() },
                    0x01 => Self::RangeRead { offset, total, at, size: reader.u8("size")? },
                    0x67 => Self::TypedWrite { offset, total, at, data: reader.rest() },
                    _ => Self::TypedRead { offset, total, at, count: word(&mut reader, "count")? },
                }
            }
            (0x0F, 0x26) => {
                let bytes = reader.rest();
                sets(bytes)?;
                Self::Change(bytes)
            }
            _ => return Ok(Self::Other { cmd, body }),
        };
        reader.end()?;
        Ok(parsed)
    }

    /// Its CMD.
    #[must_use]
    pub const fn cmd(&self) -> u8 {
        match self {
            Self::Echo(_) | Self::Counters { .. } | Self::DiagnosticStatus | Self::ResetCounters => 0x06,
            Self::Other { cmd, .. } => *cmd,
            _ => 0x0F,
        }
    }

    /// Appends what stands behind the header.
    pub fn emit(&self, out: &mut Vec<u8>) {
        let size = |data: &[u8]| u8::try_from(data.len()).unwrap_or(u8::MAX);
        let packet = |function: u8, offset: u16, total: u16, at: &Table<'_>, out: &mut Vec<u8>| {
            out.push(function);
            out.extend_from_slice(&offset.to_le_bytes());
            out.extend_from_slice(&total.to_le_bytes());
            at.emit(out);
        };
        match self {
            Self::Echo(data) => {
                out.push(0x00);
                out.extend_from_slice(data);
            }
            Self::Counters { address, size } => {
                out.push(0x01);
                out.extend_from_slice(&address.to_le_bytes());
                out.push(*size);
            }
            Self::DiagnosticStatus => out.push(0x03),
            Self::ResetCounters => out.push(0x07),
            Self::Read { size, at } => {
                out.extend_from_slice(&[if at.sub.is_some() { 0xA2 } else { 0xA1 }, *size]);
                at.emit(out);
            }
            Self::Write { at, data } => {
                out.extend_from_slice(&[if at.sub.is_some() { 0xAA } else { 0xA9 }, size(data)]);
                at.emit(out);
                out.extend_from_slice(data);
            }
            Self::MaskedWrite { at, mask, data } => {
                out.extend_from_slice(&[0xAB, size(data)]);
                at.emit(out);
                out.extend_from_slice(&mask.to_le_bytes());
                out.extend_from_slice(data);
            }
            Self::RangeRead { offset, total, at, size } => {
                packet(0x01, *offset, *total, at, out);
                out.push(*size);
            }
            Self::RangeWrite { offset, total, at, data } => {
                packet(0x00, *offset, *total, at, out);
                out.extend_from_slice(data);
            }
            Self::TypedRead { offset, total, at, count } => {
                packet(0x68, *offset, *total, at, out);
                out.extend_from_slice(&count.to_le_bytes());
            }
            Self::TypedWrite { offset, total, at, data } => {
                packet(0x67, *offset, *total, at, out);
                out.extend_from_slice(data);
            }
            Self::Change(sets) => {
                out.push(0x26);
                out.extend_from_slice(sets);
            }
            Self::Other { body, .. } => out.extend_from_slice(body),
        }
    }
}
