//! What bytes mean on field buses: one folder a protocol, no I/O, no clock, no project.
//!
//! # The contract of every codec
//! * `parse` never panics, whatever the bytes.
//! * What `parse` accepts, `emit` writes back byte for byte.
//! * `emit` appends to its buffer and never looks at what was in it before.
//! * Framing (unit and body out of a stream) is apart from meaning (function codes, counts).
//! * Every refusal says the layer, the byte, the field, what was there and what is allowed.
//!
//! A stream is answered in one of three ways: more bytes are needed, a frame and how many bytes to discard,
//! or broken. What "broken" costs is written beside each framing: a TCP stream is closed, a serial line throws
//! away until it is back in step.
#![forbid(unsafe_code)]
#![cfg_attr(
    not(test),
    warn(clippy::cast_possible_truncation, clippy::cast_sign_loss, clippy::cast_possible_wrap)
)]

#[cfg(test)]
mod checked;
pub mod df1;
pub mod enip;
pub mod h1;
pub mod isotcp;
pub mod modbus;
pub mod profinet;
pub mod tables;

/// Why bytes are not a message: in which layer, at which byte, and what is wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("{layer}, byte {at}: {fault}")]
pub struct WireError {
    /// The layer that refused, as the user knows it, such as `MBAP header`.
    pub layer: &'static str,
    /// Offset of the first offending byte from the start of the bytes given to `parse`.
    pub at: usize,
    /// What is wrong there.
    pub fault: WireFault,
}

/// What is wrong with the bytes, with what was wanted and what was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum WireFault {
    /// The message ends inside a field.
    #[error("{field} needs {want} bytes, {have} {} left", if *have == 1 { "is" } else { "are" })]
    Short {
        /// The field, as the standard names it.
        field: &'static str,
        /// Bytes that the field takes.
        want: usize,
        /// Bytes that are there.
        have: usize,
    },
    /// The message goes on after its last field.
    #[error("{extra} bytes too many")]
    Trailing {
        /// How many bytes are left over.
        extra: usize,
    },
    /// A number outside what the standard allows.
    #[error("{field} is {got}, allowed is {low} to {high}")]
    Range {
        /// The field, as the standard names it.
        field: &'static str,
        /// The number found.
        got: u32,
        /// The least that is allowed.
        low: u32,
        /// The most that is allowed.
        high: u32,
    },
    /// A value of a field that has only a few.
    #[error("{field} is 0x{got:04X}, allowed is {allowed}")]
    Choice {
        /// The field, as the standard names it.
        field: &'static str,
        /// The number found.
        got: u16,
        /// The values that are allowed, in words.
        allowed: &'static str,
    },
    /// Two fields contradict each other.
    #[error("{field} says {said}, but {other} asks for {asked}")]
    Disagree {
        /// The field that is wrong.
        field: &'static str,
        /// What it says.
        said: usize,
        /// The field that it must follow.
        other: &'static str,
        /// What that field makes of it.
        asked: usize,
    },
    /// The check sum is not that of the bytes.
    #[error("checksum is {got:04X}, computed {want:04X}")]
    Checksum {
        /// The check sum in the message.
        got: u16,
        /// The check sum of its bytes.
        want: u16,
    },
}

/// A cursor over one message; every method takes the name of the field that it reads, for the refusal.
#[derive(Debug, Clone)]
pub struct Reader<'a> {
    layer: &'static str,
    bytes: &'a [u8],
    at: usize,
}

impl<'a> Reader<'a> {
    /// Starts at the first byte; `layer` is what refusals will name.
    #[must_use]
    pub fn new(layer: &'static str, bytes: &'a [u8]) -> Self {
        Self { layer, bytes, at: 0 }
    }

    fn fault<T>(&self, at: usize, fault: WireFault) -> Result<T, WireError> {
        Err(WireError { layer: self.layer, at, fault })
    }

    /// The next `count` bytes.
    ///
    /// # Errors
    /// The message ends before them.
    pub fn bytes(&mut self, field: &'static str, count: usize) -> Result<&'a [u8], WireError> {
        let rest = self.bytes.get(self.at..).unwrap_or_default();
        let Some(found) = rest.get(..count) else {
            return self.fault(self.at, WireFault::Short { field, want: count, have: rest.len() });
        };
        self.at += count;
        Ok(found)
    }

    /// The next byte.
    ///
    /// # Errors
    /// The message ends before it.
    pub fn u8(&mut self, field: &'static str) -> Result<u8, WireError> {
        Ok(self.bytes(field, 1)?.first().copied().unwrap_or_default())
    }

    /// The next byte, a number of `low` to `high`.
    ///
    /// # Errors
    /// The message ends before it, or the number is outside.
    pub fn u8_in(&mut self, field: &'static str, low: u8, high: u8) -> Result<u8, WireError> {
        let at = self.at;
        let got = self.u8(field)?;
        if (low..=high).contains(&got) {
            return Ok(got);
        }
        self.fault(at, WireFault::Range { field, got: got.into(), low: low.into(), high: high.into() })
    }

    /// The next two bytes, the high one first.
    ///
    /// # Errors
    /// The message ends before them.
    pub fn u16(&mut self, field: &'static str) -> Result<u16, WireError> {
        let pair = self.bytes(field, 2)?;
        Ok(pair.iter().fold(0, |word, byte| word << 8 | u16::from(*byte)))
    }

    /// The next two bytes, the low one first.
    ///
    /// # Errors
    /// The message ends before them.
    pub fn u16_le(&mut self, field: &'static str) -> Result<u16, WireError> {
        Ok(self.u16(field)?.swap_bytes())
    }

    /// The next four bytes, the lowest one first.
    ///
    /// # Errors
    /// The message ends before them.
    pub fn u32_le(&mut self, field: &'static str) -> Result<u32, WireError> {
        let four = self.bytes(field, 4)?;
        Ok(four.iter().rev().fold(0, |number, byte| number << 8 | u32::from(*byte)))
    }

    /// The next four bytes, the highest one first.
    ///
    /// # Errors
    /// The message ends before them.
    pub fn u32(&mut self, field: &'static str) -> Result<u32, WireError> {
        Ok(self.u32_le(field)?.swap_bytes())
    }

    /// So many bytes, by value.
    ///
    /// # Errors
    /// The message ends before them.
    pub fn array<const N: usize>(&mut self, field: &'static str) -> Result<[u8; N], WireError> {
        Ok(self.bytes(field, N)?.first_chunk().copied().unwrap_or([0; N]))
    }

    /// The next two bytes, a number of `low` to `high`.
    ///
    /// # Errors
    /// The message ends before them, or the number is outside.
    pub fn u16_in(&mut self, field: &'static str, low: u16, high: u16) -> Result<u16, WireError> {
        let at = self.at;
        let got = self.u16(field)?;
        if (low..=high).contains(&got) {
            return Ok(got);
        }
        self.fault(at, WireFault::Range { field, got: got.into(), low: low.into(), high: high.into() })
    }

    /// A two-byte field that has only a few values: refused with `allowed` unless `known` takes it.
    ///
    /// # Errors
    /// The message ends before them, or `known` does not take the value.
    pub fn choice<T>(
        &mut self,
        field: &'static str,
        allowed: &'static str,
        known: impl FnOnce(u16) -> Option<T>,
    ) -> Result<T, WireError> {
        let at = self.at;
        let got = self.u16(field)?;
        match known(got) {
            Some(value) => Ok(value),
            None => self.fault(at, WireFault::Choice { field, got, allowed }),
        }
    }

    /// A byte count that must be what `other` makes of it, then as many bytes.
    ///
    /// # Errors
    /// The count says something else, or the message ends before its bytes.
    pub fn counted(
        &mut self,
        field: &'static str,
        other: &'static str,
        asked: usize,
    ) -> Result<&'a [u8], WireError> {
        let at = self.at;
        let said = usize::from(self.u8("byte count")?);
        if said != asked {
            return self.fault(at, WireFault::Disagree { field: "byte count", said, other, asked });
        }
        self.bytes(field, said)
    }

    /// Everything that is left; the cursor is at the end afterwards.
    pub fn rest(&mut self) -> &'a [u8] {
        let rest = self.bytes.get(self.at..).unwrap_or_default();
        self.at = self.bytes.len();
        rest
    }

    /// The bytes up to the next 00, which is passed over.
    ///
    /// # Errors
    /// There is none.
    pub fn text(&mut self, field: &'static str) -> Result<&'a [u8], WireError> {
        let rest = self.bytes.get(self.at..).unwrap_or_default();
        let Some(end) = rest.iter().position(|byte| *byte == 0) else {
            return self.fault(self.at, WireFault::Short { field, want: rest.len() + 1, have: rest.len() });
        };
        let text = self.bytes(field, end)?;
        self.at += 1;
        Ok(text)
    }

    /// Whether nothing is left.
    #[must_use]
    pub const fn is_at_end(&self) -> bool {
        self.at >= self.bytes.len()
    }

    /// The message must end here.
    ///
    /// # Errors
    /// Bytes are left over.
    pub fn end(self) -> Result<(), WireError> {
        match self.bytes.len().saturating_sub(self.at) {
            0 => Ok(()),
            extra => self.fault(self.at, WireFault::Trailing { extra }),
        }
    }
}
