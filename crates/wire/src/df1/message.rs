//! The message of a command or its reply: `DST SRC CMD STS TNSlo TNShi` and a body.

use crate::tables::{self, REPLY};
use crate::{Reader, WireError};

/// The shortest message: a header.
pub const MESSAGE_MIN: usize = 6;
/// The longest message.
pub const MESSAGE_MAX: usize = 250;
/// The longest body.
pub const BODY_MAX: usize = MESSAGE_MAX - MESSAGE_MIN;

/// One message without its link.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Message<'a> {
    /// The node that it goes to.
    pub dst: u8,
    /// The node that it comes from.
    pub src: u8,
    /// Command; bit 6 of a reply is 1.
    pub cmd: u8,
    /// Status of a reply; 0 in a command.
    pub sts: u8,
    /// Another number for each command; the reply has it too.
    pub tns: u16,
    /// Function and parameters of a command; data of a reply.
    pub body: &'a [u8],
}

impl<'a> Message<'a> {
    /// Reads a message of 6 to 250 bytes.
    ///
    /// # Errors
    /// It is shorter than its header.
    pub fn parse(data: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new("DF1 header", data);
        let (dst, src) = (reader.u8("DST")?, reader.u8("SRC")?);
        let (cmd, sts) = (reader.u8("CMD")?, reader.u8("STS")?);
        let tns = reader.u16("TNS")?.swap_bytes();
        Ok(Self { dst, src, cmd, sts, tns, body: reader.rest() })
    }

    /// Appends the message.
    pub fn emit(&self, out: &mut Vec<u8>) {
        let [low, high] = self.tns.to_le_bytes();
        out.extend_from_slice(&[self.dst, self.src, self.cmd, self.sts, low, high]);
        out.extend_from_slice(self.body);
    }

    /// Whether it is a reply.
    #[must_use]
    pub const fn is_reply(&self) -> bool {
        self.cmd & REPLY != 0
    }

    /// The reply to this command, with a status and data.
    #[must_use]
    pub const fn reply<'b>(&self, sts: u8, body: &'b [u8]) -> Message<'b> {
        Message { dst: self.src, src: self.dst, cmd: self.cmd | REPLY, sts, tns: self.tns, body }
    }

    /// Whether this replies to that command.
    #[must_use]
    pub const fn replies_to(&self, command: &Message<'_>) -> bool {
        self.cmd == command.cmd | REPLY
            && self.tns == command.tns
            && self.dst == command.src
            && self.src == command.dst
    }

    /// What tells a message from the one before it: the same twice is one that was sent twice.
    #[must_use]
    pub const fn identity(&self) -> (u8, u8, u16) {
        (self.src, self.cmd, self.tns)
    }

    /// Data of a good reply; else its STS, and for F0 the EXT STS behind it.
    ///
    /// # Errors
    /// The status, with 0 where there is no second one.
    pub fn outcome(&self) -> Result<&'a [u8], (u8, u8)> {
        tables::outcome(self.sts, self.body)
    }
}
