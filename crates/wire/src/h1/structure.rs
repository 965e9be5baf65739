//! Structures of parameters, as their bytes lie: value with status, scaling, mode. The most significant byte comes first,
//! and the status before the value.

use super::status::Status;
use crate::{Reader, WireError};

/// A float with its status (DS-65).
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Analog {
    /// What the device says of the value.
    pub status: Status,
    /// The value, which may be any float where the status is bad.
    pub value: f32,
}

impl Analog {
    /// Reads it.
    ///
    /// # Errors
    /// It does not have five bytes.
    pub fn parse(bytes: &[u8]) -> Result<Self, WireError> {
        let mut r = Reader::new("DS-65", bytes);
        let status = Status(r.u8("status")?);
        let value = float(&mut r, "value")?;
        r.end().map(|()| Self { status, value })
    }

    /// Appends it.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.push(self.status.0);
        out.extend_from_slice(&self.value.to_be_bytes());
    }
}

/// A discrete value with its status (DS-66).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Discrete {
    /// What the device says of the value.
    pub status: Status,
    /// The value.
    pub value: u8,
}

impl Discrete {
    /// Reads it.
    ///
    /// # Errors
    /// It does not have two bytes.
    pub fn parse(bytes: &[u8]) -> Result<Self, WireError> {
        let mut r = Reader::new("DS-66", bytes);
        let (status, value) = (Status(r.u8("status")?), r.u8("value")?);
        r.end().map(|()| Self { status, value })
    }

    /// Appends it.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&[self.status.0, self.value]);
    }
}

/// A scale (DS-68): the values at 100 % and at 0 %, the code of their unit, and how many decimals a display shows.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Scaling {
    /// At 100 %.
    pub eu_100: f32,
    /// At 0 %.
    pub eu_0: f32,
    /// Code of the unit.
    pub unit: u16,
    /// Decimals, negative for whole tens and more.
    pub decimal: i8,
}

impl Scaling {
    /// Reads it.
    ///
    /// # Errors
    /// It does not have eleven bytes.
    pub fn parse(bytes: &[u8]) -> Result<Self, WireError> {
        let mut r = Reader::new("DS-68", bytes);
        let (eu_100, eu_0) = (float(&mut r, "EU_100")?, float(&mut r, "EU_0")?);
        let (unit, decimal) = (r.u16("UNITS_INDEX")?, r.u8("DECIMAL")?.cast_signed());
        r.end().map(|()| Self { eu_100, eu_0, unit, decimal })
    }

    /// Appends it.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.eu_100.to_be_bytes());
        out.extend_from_slice(&self.eu_0.to_be_bytes());
        out.extend_from_slice(&self.unit.to_be_bytes());
        out.push(self.decimal.cast_unsigned());
    }
}

/// A block's mode (DS-69): a bit for each mode.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Mode {
    /// What is wanted.
    pub target: u8,
    /// What the block is in.
    pub actual: u8,
    /// What may be wanted.
    pub permitted: u8,
    /// What it is meant to be in.
    pub normal: u8,
}

impl Mode {
    /// Reads it.
    ///
    /// # Errors
    /// It does not have four bytes.
    pub fn parse(bytes: &[u8]) -> Result<Self, WireError> {
        let mut r = Reader::new("DS-69", bytes);
        let mode = Self {
            target: r.u8("target")?,
            actual: r.u8("actual")?,
            permitted: r.u8("permitted")?,
            normal: r.u8("normal")?,
        };
        r.end().map(|()| mode)
    }

    /// Appends it.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&[self.target, self.actual, self.permitted, self.normal]);
    }
}

/// A simulated value (DS-82).
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Simulate {
    /// What the block takes while it is on.
    pub simulated: Analog,
    /// What the transducer says.
    pub transducer: Analog,
    /// 1 off, 2 on.
    pub enable: u8,
}

impl Simulate {
    /// Reads it.
    ///
    /// # Errors
    /// It does not have eleven bytes.
    pub fn parse(bytes: &[u8]) -> Result<Self, WireError> {
        let mut r = Reader::new("DS-82", bytes);
        let simulated = Analog::parse(r.bytes("simulated", 5)?)?;
        let transducer = Analog::parse(r.bytes("transducer", 5)?)?;
        let enable = r.u8("enable")?;
        r.end().map(|()| Self { simulated, transducer, enable })
    }

    /// Appends it.
    pub fn emit(&self, out: &mut Vec<u8>) {
        self.simulated.emit(out);
        self.transducer.emit(out);
        out.push(self.enable);
    }
}

fn float(r: &mut Reader<'_>, field: &'static str) -> Result<f32, WireError> {
    Ok(f32::from_bits(r.u32_le(field)?.swap_bytes()))
}
