//! Blocks: what calls carry, one after the other and without anything between.
//!
//! ```text
//! type 2  length 2 { from the version on }  version 1, 0  body
//! ```

use crate::{Reader, WireError, WireFault};

/// Types of blocks.
pub mod kind {
    /// An alarm is acknowledged.
    pub const ALARM_ACK: u16 = 0x8002;
    /// An alarm of low priority.
    pub const ALARM_LOW: u16 = 0x0002;
    /// A record is written.
    pub const WRITE: u16 = 0x0008;
    /// The answer to it.
    pub const WRITE_ANSWER: u16 = 0x8008;
    /// A record is read.
    pub const READ: u16 = 0x0009;
    /// The answer to it.
    pub const READ_ANSWER: u16 = 0x8009;
    /// I&M0: who a device is.
    pub const IM0: u16 = 0x0020;
    /// The application relation.
    pub const AR: u16 = 0x0101;
    /// The answer to it.
    pub const AR_ANSWER: u16 = 0x8101;
    /// One direction of cyclic frames.
    pub const IOCR: u16 = 0x0102;
    /// The answer to it.
    pub const IOCR_ANSWER: u16 = 0x8102;
    /// The alarm channel.
    pub const ALARM_CR: u16 = 0x0103;
    /// The answer to it.
    pub const ALARM_CR_ANSWER: u16 = 0x8103;
    /// Submodules that the controller expects.
    pub const EXPECTED: u16 = 0x0104;
    /// How what is plugged differs from them.
    pub const MODULE_DIFF: u16 = 0x8104;
    /// The parameters are complete.
    pub const PARAMETERS_END: u16 = 0x0110;
    /// The device is ready.
    pub const READY: u16 = 0x0112;
    /// The relation ends.
    pub const RELEASE: u16 = 0x0114;
    /// What is set in the type of an answer.
    pub const ANSWER: u16 = 0x8000;
}

/// Fields before the body; a length counts from the third.
pub(super) const HEAD: [&str; 4] = ["block type", "block length", "block version", "block version low"];

/// One block.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Block<'a> {
    /// What it is.
    pub kind: u16,
    /// The low number of its version; the high one is 1.
    pub minor: u8,
    /// What follows.
    pub body: &'a [u8],
}

/// What a refusal calls blocks of a type.
pub(super) const fn layer(kind: u16) -> &'static str {
    match kind {
        kind::AR => "AR block",
        kind::IOCR => "IOCR block",
        kind::EXPECTED => "expected submodule block",
        kind::ALARM_CR => "alarm CR block",
        kind::WRITE => "write block",
        kind::READ => "read block",
        kind::PARAMETERS_END | kind::READY | kind::RELEASE => "control block",
        _ => "block",
    }
}

impl<'a> Block<'a> {
    /// The first block of `bytes` and what follows it.
    ///
    /// # Errors
    /// It is cut, or of another version than 1.
    pub fn parse(bytes: &'a [u8]) -> Result<(Self, &'a [u8]), WireError> {
        let mut reader = Reader::new("block", bytes);
        let kind = reader.u16(HEAD[0])?;
        reader.layer = layer(kind);
        let at = reader.at;
        let length = reader.u16_in(HEAD[1], 2, u16::MAX)?;
        let rest = bytes.len().saturating_sub(reader.at);
        if usize::from(length) > rest {
            let fault = WireFault::Short { field: HEAD[1], want: length.into(), have: rest };
            return reader.fault(at, fault);
        }
        reader.u8_in(HEAD[2], 1, 1)?;
        let minor = reader.u8(HEAD[3])?;
        let body = reader.bytes("body", usize::from(length) - 2)?;
        Ok((Self { kind, minor, body }, reader.rest()))
    }

    /// Appends the block.
    pub fn emit(&self, out: &mut Vec<u8>) {
        let minor = self.minor;
        emit_with(out, self.kind, minor, |out| out.extend_from_slice(self.body));
    }

    /// A reader over its body that refuses in its name.
    pub(super) fn reader(&self) -> Reader<'a> {
        Reader::new(layer(self.kind), self.body)
    }
}

/// Appends a block of version 1 with a body that is appended by `body`.
pub fn emit_with(out: &mut Vec<u8>, kind: u16, minor: u8, body: impl FnOnce(&mut Vec<u8>)) {
    out.extend_from_slice(&kind.to_be_bytes());
    let length = out.len();
    out.extend_from_slice(&[0, 0, 1, minor]);
    body(out);
    let count = u16::try_from(out.len() - length - 2).unwrap_or(u16::MAX);
    if let Some(field) = out.get_mut(length..length + 2) {
        field.copy_from_slice(&count.to_be_bytes());
    }
}

/// Blocks one after the other, up to the first that is wrong.
#[derive(Debug, Clone, Copy)]
pub struct Blocks<'a>(pub &'a [u8]);

impl<'a> Iterator for Blocks<'a> {
    type Item = Result<Block<'a>, WireError>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.0.is_empty() {
            return None;
        }
        match Block::parse(self.0) {
            Ok((block, rest)) => {
                self.0 = rest;
                Some(Ok(block))
            }
            Err(error) => {
                self.0 = &[];
                Some(Err(error))
            }
        }
    }
}
