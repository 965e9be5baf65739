//! Values with their type: a type number, a length, and that many bytes, the most significant first.

use crate::{Reader, WireError};

/// Type numbers, after those of H1's object dictionary.
pub mod kind {
    /// One byte, 0 or 1.
    pub const BOOLEAN: u8 = 1;
    /// One byte, signed.
    pub const INTEGER8: u8 = 2;
    /// Two bytes, signed.
    pub const INTEGER16: u8 = 3;
    /// Four bytes, signed.
    pub const INTEGER32: u8 = 4;
    /// One byte.
    pub const UNSIGNED8: u8 = 5;
    /// Two bytes.
    pub const UNSIGNED16: u8 = 6;
    /// Four bytes.
    pub const UNSIGNED32: u8 = 7;
    /// IEEE 754, four bytes.
    pub const FLOAT: u8 = 8;
    /// Characters.
    pub const VISIBLE_STRING: u8 = 9;
    /// Bytes.
    pub const OCTET_STRING: u8 = 10;
    /// Bits, the most significant byte first.
    pub const BIT_STRING: u8 = 14;
    /// A block object.
    pub const BLOCK: u8 = 64;
    /// Value and status, float: status, then value.
    pub const DS_65: u8 = 65;
    /// Value and status, discrete: status, then value.
    pub const DS_66: u8 = 66;
    /// Scaling.
    pub const DS_68: u8 = 68;
    /// Mode.
    pub const DS_69: u8 = 69;
    /// `BLOCK_ERR`, sixteen bits.
    pub const BLOCK_ERR: u8 = 70;
    /// Alarm summary.
    pub const DS_74: u8 = 74;
    /// Simulation of an analog value.
    pub const DS_82: u8 = 82;
}

/// A value as it is on the wire.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Typed<'a> {
    /// One of [`kind`], or one that is not known: it is passed on as it is.
    pub kind: u8,
    /// Its bytes.
    pub data: &'a [u8],
}

impl<'a> Typed<'a> {
    pub(super) fn parse(r: &mut Reader<'a>) -> Result<Self, WireError> {
        let kind = r.u8("type")?;
        let length = r.u16("value length")?;
        Ok(Self { kind, data: r.bytes("value", length.into())? })
    }

    pub(super) fn emit(&self, out: &mut Vec<u8>) {
        let data = self.data.get(..usize::from(u16::MAX)).unwrap_or(self.data);
        out.push(self.kind);
        out.extend_from_slice(&u16::try_from(data.len()).unwrap_or(u16::MAX).to_be_bytes());
        out.extend_from_slice(data);
    }

    /// Whether it has the size of its type: a value of another size is a bad value, whatever its bytes say.
    #[must_use]
    pub fn is_sized(&self) -> bool {
        size(self.kind).is_none_or(|size| size == self.data.len())
    }
}

/// Bytes of a type; `None` where it has any number of them, or is not known.
#[must_use]
pub const fn size(kind: u8) -> Option<usize> {
    Some(match kind {
        kind::BOOLEAN | kind::INTEGER8 | kind::UNSIGNED8 => 1,
        kind::INTEGER16 | kind::UNSIGNED16 | kind::BLOCK_ERR | kind::DS_66 => 2,
        kind::INTEGER32 | kind::UNSIGNED32 | kind::FLOAT | kind::DS_69 => 4,
        kind::DS_65 => 5,
        kind::DS_74 => 8,
        kind::DS_68 | kind::DS_82 => 11,
        kind::BLOCK => 62,
        _ => return None,
    })
}
