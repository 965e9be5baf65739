//! Commands for data tables in messages of the router: service 0x4B of class 0x67, and its reply.
//!
//! ```text
//! id length 1 (itself counted)  id  CMD 1  STS 1  TNS 2  body
//! ```
//! The id is the requester's: its vendor and its serial number, seven bytes with the length. A reply brings the same id.
//! What stands behind the header is [`crate::tables::Command`], or data and status of a reply.

use super::cip::{self, class, service};
use super::epath::Object;
use crate::tables::{self, REPLY};
use crate::{Reader, WireError};

const LAYER: &str = "PCCC";

/// One command or one reply.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Execute<'a> {
    /// Vendor (two bytes) and serial number (four) of the requester, and whatever it adds.
    pub requester: &'a [u8],
    /// CMD; bit 6 of a reply is 1.
    pub cmd: u8,
    /// STS of a reply; 0 in a command.
    pub sts: u8,
    /// Another number for each command; the reply has it too.
    pub tns: u16,
    /// Function and parameters of a command; data of a reply.
    pub body: &'a [u8],
}

impl<'a> Execute<'a> {
    /// Reads the data of the service, or of its reply.
    ///
    /// # Errors
    /// There is no id, or it is cut short.
    pub fn parse(data: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, data);
        let length = reader.u8_in("requester id length", 1, u8::MAX)?;
        let requester = reader.bytes("requester id", usize::from(length) - 1)?;
        let (cmd, sts) = (reader.u8("CMD")?, reader.u8("STS")?);
        let tns = reader.u16("TNS")?.swap_bytes();
        Ok(Self { requester, cmd, sts, tns, body: reader.rest() })
    }

    /// Appends it; of an id the first 254 bytes.
    pub fn emit(&self, out: &mut Vec<u8>) {
        let requester = self.requester.get(..254).unwrap_or(self.requester);
        out.push(u8::try_from(requester.len() + 1).unwrap_or(u8::MAX));
        out.extend_from_slice(requester);
        out.extend_from_slice(&[self.cmd, self.sts]);
        out.extend_from_slice(&self.tns.to_le_bytes());
        out.extend_from_slice(self.body);
    }

    /// Appends the request to the router that carries this command.
    pub fn emit_request(&self, out: &mut Vec<u8>) {
        let object = Object { class: class::PCCC, instance: 1, attribute: None };
        cip::emit_to(out, service::EXECUTE_PCCC, object);
        self.emit(out);
    }

    /// Appends the router's reply that carries this reply.
    pub fn emit_response(&self, out: &mut Vec<u8>) {
        cip::emit_reply_head(out, service::EXECUTE_PCCC, 0, &[]);
        self.emit(out);
    }

    /// The reply to this command, with a status and data.
    #[must_use]
    pub const fn reply<'b>(&'b self, sts: u8, body: &'b [u8]) -> Execute<'b> {
        Execute { requester: self.requester, cmd: self.cmd | REPLY, sts, tns: self.tns, body }
    }

    /// Whether this replies to a command of that requester with these numbers.
    #[must_use]
    pub fn replies_to(&self, requester: &[u8], cmd: u8, tns: u16) -> bool {
        self.requester == requester && self.cmd == cmd | REPLY && self.tns == tns
    }

    /// Data of a good reply; else its STS, and for F0 the EXT STS behind it.
    ///
    /// # Errors
    /// The status, with 0 where there is no second one.
    pub fn outcome(&self) -> Result<&'a [u8], (u8, u8)> {
        tables::outcome(self.sts, self.body)
    }
}
