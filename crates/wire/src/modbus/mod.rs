//! Modbus, after *Modbus Application Protocol Specification V1.1b3* (APP below), *Modbus over Serial Line V1.02*
//! (SER) and *Modbus Messaging on TCP/IP Implementation Guide V1.0b* (TCP).
//!
//! `pdu` is the meaning, the same on every line; `rtu`, `ascii` and `tcp` are framings, which know a unit and a PDU and
//! no function codes beyond what predicting a length needs. File records (functions 20 and 21), functions 43/13 and all
//! that the specification leaves to devices pass through whole as [`pdu::Request::Other`].

pub mod ascii;
#[cfg(any(test, feature = "exercise"))]
pub mod exercise;
pub mod pdu;
pub mod rtu;
pub mod tcp;
#[cfg(test)]
mod vectors;

pub use pdu::{Exception, Request, Response};

/// The longest PDU, function code included (APP 4.1: 256 bytes of a serial frame less unit and CRC).
pub const PDU_MAX: usize = 253;
/// The unit to which all listen and nobody answers (SER 2.2).
pub const BROADCAST: u8 = 0;

/// The four tables (APP 4.3), each of 65536 items counted from offset 0.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Table {
    /// One bit, read and written (functions 1, 5, 15).
    Coil,
    /// One bit, read only (function 2).
    DiscreteInput,
    /// 16 bits, read only (function 4).
    InputRegister,
    /// 16 bits, read and written (functions 3, 6, 16).
    HoldingRegister,
}

impl Table {
    /// Every table, in the order of the digits that reference numbers begin with: 0, 1, 3, 4.
    pub const ALL: [Self; 4] = [Self::Coil, Self::DiscreteInput, Self::InputRegister, Self::HoldingRegister];

    /// Whether an item is one bit; else it is a register of 16.
    #[must_use]
    pub const fn is_bits(self) -> bool {
        matches!(self, Self::Coil | Self::DiscreteInput)
    }

    /// Whether a client may write here.
    #[must_use]
    pub const fn is_writable(self) -> bool {
        matches!(self, Self::Coil | Self::HoldingRegister)
    }

    /// The function that reads it (APP 6.1 to 6.4).
    #[must_use]
    pub const fn read_function(self) -> u8 {
        match self {
            Self::Coil => 1,
            Self::DiscreteInput => 2,
            Self::HoldingRegister => 3,
            Self::InputRegister => 4,
        }
    }

    /// The most items that one read takes: 2000 bits or 125 registers (APP 6.1, 6.3).
    #[must_use]
    pub const fn read_max(self) -> u16 {
        if self.is_bits() { 2000 } else { 125 }
    }

    /// The most items that one write takes: 1968 coils or 123 registers (APP 6.11, 6.12).
    #[must_use]
    pub const fn write_max(self) -> u16 {
        if self.is_bits() { 1968 } else { 123 }
    }

    /// Bytes that `count` items take in a message.
    #[must_use]
    pub const fn bytes(self, count: u16) -> usize {
        if self.is_bits() { (count as usize).div_ceil(8) } else { count as usize * 2 }
    }
}

/// A PDU and the unit that it is for, out of whatever frame carried it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Addressed<'a> {
    /// The unit: 0 for all, 1 to 247 on a serial line, 0 to 255 in MBAP.
    pub unit: u8,
    /// Function code and data, 1 to 253 bytes.
    pub pdu: &'a [u8],
}

/// Cells as a message carries them: registers as they are, bits (one byte 0 or 1 each) eight to a byte from bit 0 on,
/// the rest of the last byte 0.
#[must_use]
pub fn pack(table: Table, cells: &[u8]) -> Vec<u8> {
    if !table.is_bits() {
        return cells.to_vec();
    }
    let byte = |eight: &[u8]| eight.iter().rev().fold(0, |sum, bit| sum << 1 | u8::from(*bit != 0));
    cells.chunks(8).map(byte).collect()
}

/// A message's data as `count` cells, the reverse of [`pack`].
#[must_use]
pub fn unpack(table: Table, data: &[u8], count: u16) -> Vec<u8> {
    if !table.is_bits() {
        return data.to_vec();
    }
    let bits = data.iter().flat_map(|byte| (0..8).map(move |bit| byte >> bit & 1));
    bits.take(usize::from(count)).collect()
}
