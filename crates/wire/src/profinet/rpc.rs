//! Calls over UDP (connectionless RPC): a header, and arguments with their lengths in front.
//!
//! ```text
//! version 4  type 1  flags 1, 1  representation 3  serial 1  object 16  interface 16  activity 16  boot 4
//! interface version 4  sequence 4  operation 2  hints 2, 2  length 2  fragment 2  authentication 1  serial 1
//! body of a request:  most 4, length 4, most 4, 0 4, length 4, arguments;  of an answer: status 4 in place of the first
//! ```
//!
//! The numbers of the header and of the words before the arguments follow the sender's representation; an answer is in
//! that of its request.

use super::Uuid;
use super::status::PnioStatus;
use crate::{Reader, WireError, WireFault};

const LAYER: &str = "RPC header";
const ARGS: &str = "arguments";
/// Bytes of the header.
pub const HEADER: usize = 80;
/// Bytes of the words before the arguments.
pub const NDR: usize = 20;
/// The most bytes of arguments that are taken and asked for, in as many datagrams as they need (see [`super::parts`]): what it
/// takes to expect 256 submodules that have data both ways.
pub const ARGS_MAX: u32 = 18 * 1024;

/// What a message is.
pub mod kind {
    /// A call.
    pub const REQUEST: u8 = 0;
    /// Whether a call is still under way.
    pub const PING: u8 = 1;
    /// The answer to a call.
    pub const RESPONSE: u8 = 2;
    /// A call failed.
    pub const FAULT: u8 = 3;
    /// A call is under way.
    pub const WORKING: u8 = 4;
    /// There is no such call.
    pub const NO_CALL: u8 = 5;
    /// A call is not taken.
    pub const REJECT: u8 = 6;
    /// An answer came.
    pub const ACK: u8 = 7;
    /// Parts of a message came.
    pub const ACK_OF_PART: u8 = 9;
}

/// Operations.
pub mod operation {
    /// Open a connection.
    pub const CONNECT: u16 = 0;
    /// Close it.
    pub const RELEASE: u16 = 1;
    /// Read a record.
    pub const READ: u16 = 2;
    /// Write one.
    pub const WRITE: u16 = 3;
    /// A step of the opening.
    pub const CONTROL: u16 = 4;
    /// Read a record without a connection.
    pub const READ_IMPLICIT: u16 = 5;
}

/// Numbers of interfaces, see [`Uuid::interface`].
pub const DEVICE: u8 = 1;
/// The interface of a controller.
pub const CONTROLLER: u8 = 2;
const REQUEST_FLAGS: u8 = 0x20;
const RESPONSE_FLAGS: u8 = 0x0A;
/// Why a call to an interface that is not there is rejected.
pub const UNKNOWN_INTERFACE: u32 = 0x1C01_0003;
/// Why a call of an operation that is not there is rejected.
pub const UNKNOWN_OPERATION: u32 = 0x1C01_0002;

/// The header of a message.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Header {
    /// What it is, see [`kind`].
    pub kind: u8,
    /// Bits of the sender.
    pub flags: [u8; 2],
    /// Its numbers are little-endian.
    pub little: bool,
    /// Whom it is for, see [`Uuid::object`].
    pub object: Uuid,
    /// What of it, see [`Uuid::interface`].
    pub interface: Uuid,
    /// The caller's name for calls that follow each other.
    pub activity: Uuid,
    /// When the one who answers began; 0 in calls.
    pub boot: u32,
    /// Version of the interface.
    pub version: u32,
    /// Number of the call in its activity.
    pub sequence: u32,
    /// What is to be done, see [`operation`].
    pub operation: u16,
    /// For the callee's own use.
    pub hints: [u16; 2],
    /// Number of the part.
    pub fragment: u16,
    /// High and low byte of a serial number, and between them what authenticates, which is nothing.
    pub serial: [u8; 3],
}

impl Header {
    /// The header of a call.
    #[must_use]
    pub const fn call(object: Uuid, interface: u8, activity: Uuid, sequence: u32, operation: u16) -> Self {
        Self {
            kind: kind::REQUEST,
            flags: [REQUEST_FLAGS, 0],
            little: true,
            object,
            interface: Uuid::interface(interface),
            activity,
            boot: 0,
            version: 1,
            sequence,
            operation,
            hints: [0xFFFF; 2],
            fragment: 0,
            serial: [0; 3],
        }
    }

    /// The header of the answer to this call.
    #[must_use]
    pub const fn answer(self, kind: u8, boot: u32) -> Self {
        let flags = if kind == kind::RESPONSE { [RESPONSE_FLAGS, 0] } else { [0, 0] };
        Self { kind, flags, boot, hints: [0xFFFF; 2], fragment: 0, serial: [0; 3], ..self }
    }

    /// Reads a datagram: the header, and what follows it.
    ///
    /// # Errors
    /// It is cut or goes on, is of another version, or has a representation that there is not.
    pub fn parse(datagram: &[u8]) -> Result<(Self, &[u8]), WireError> {
        let mut reader = Reader::new(LAYER, datagram);
        reader.u8_in("version", 4, 4)?;
        let kind = reader.u8("type")?;
        let flags = [reader.u8("flags")?, reader.u8("flags")?];
        let at = reader.at;
        let representation = reader.u8("representation")?;
        let little = match representation {
            0x10 => true,
            0x00 => false,
            got => {
                let allowed = "0x10 little-endian and 0x00 big-endian";
                return reader
                    .fault(at, WireFault::Choice { field: "representation", got: got.into(), allowed });
            }
        };
        reader.u8_in("representation", 0, 0)?;
        reader.u8_in("representation", 0, 0)?;
        let serial_high = reader.u8("serial")?;
        let object = uuid(&mut reader, "object", little)?;
        let interface = uuid(&mut reader, "interface", little)?;
        let activity = uuid(&mut reader, "activity", little)?;
        let boot = word(&mut reader, "boot time", little)?;
        let version = word(&mut reader, "interface version", little)?;
        let sequence = word(&mut reader, "sequence", little)?;
        let operation = half(&mut reader, "operation", little)?;
        let hints = [half(&mut reader, "hint", little)?, half(&mut reader, "hint", little)?];
        let length = half(&mut reader, "length", little)?;
        let fragment = half(&mut reader, "fragment", little)?;
        let serial = [serial_high, reader.u8("authentication")?, reader.u8("serial")?];
        let body = reader.bytes("body", length.into())?;
        reader.end()?;
        let header = Self {
            kind,
            flags,
            little,
            object,
            interface,
            activity,
            boot,
            version,
            sequence,
            operation,
            hints,
            fragment,
            serial,
        };
        Ok((header, body))
    }

    /// Appends the datagram with a body that is appended by `body`.
    pub fn emit_with(&self, out: &mut Vec<u8>, body: impl FnOnce(&mut Vec<u8>)) {
        let begin = out.len();
        let representation = if self.little { 0x10 } else { 0 };
        let [serial_high, authentication, serial_low] = self.serial;
        out.extend_from_slice(&[4, self.kind]);
        out.extend_from_slice(&self.flags);
        out.extend_from_slice(&[representation, 0, 0, serial_high]);
        for own in [self.object, self.interface, self.activity] {
            out.extend_from_slice(&(if self.little { own.turned() } else { own }).0);
        }
        for own in [self.boot, self.version, self.sequence] {
            emit_word(out, own, self.little);
        }
        for own in [self.operation, self.hints[0], self.hints[1], 0, self.fragment] {
            emit_half(out, own, self.little);
        }
        out.extend_from_slice(&[authentication, serial_low]);
        body(out);
        let length = u16::try_from(out.len().saturating_sub(begin + HEADER)).unwrap_or(u16::MAX);
        if let Some(field) = out.get_mut(begin + 74..begin + 76) {
            field.copy_from_slice(&if self.little { length.to_le_bytes() } else { length.to_be_bytes() });
        }
    }

    /// Appends the rejection or failure of a call, with its reason.
    pub fn emit_reason(&self, out: &mut Vec<u8>, reason: u32) {
        self.emit_with(out, |out| emit_word(out, reason, self.little));
    }

    /// The reason in the body of a rejection or failure.
    ///
    /// # Errors
    /// It is cut.
    pub fn reason(&self, body: &[u8]) -> Result<u32, WireError> {
        word(&mut Reader::new(LAYER, body), "reason", self.little)
    }
}

/// The arguments of a call or of its answer, with what stands before them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Arguments<'a> {
    /// Of a call: the most bytes that its answer may have; of an answer: its status.
    pub first: u32,
    /// The most bytes that there might be.
    pub most: u32,
    /// Blocks.
    pub bytes: &'a [u8],
}

impl<'a> Arguments<'a> {
    /// Reads the body of a call.
    ///
    /// # Errors
    /// It is cut or goes on, or its lengths contradict each other: status 81 40 00.
    pub fn of_call(body: &'a [u8], little: bool) -> Result<Self, WireError> {
        let own = Self::parse(body, little)?;
        if own.most != own.first {
            let [said, asked] =
                [own.most, own.first].map(|number| usize::try_from(number).unwrap_or(usize::MAX));
            let (field, other) = ("most", "most at the beginning");
            return Reader::new(ARGS, body).fault(8, WireFault::Disagree { field, said, other, asked });
        }
        Ok(own)
    }

    /// Reads the body of an answer.
    ///
    /// # Errors
    /// As those of a call.
    pub fn of_answer(body: &'a [u8], little: bool) -> Result<Self, WireError> {
        Self::parse(body, little)
    }

    fn parse(body: &'a [u8], little: bool) -> Result<Self, WireError> {
        let mut reader = Reader::new(ARGS, body);
        let first = word(&mut reader, "first", little)?;
        let length = word(&mut reader, "length", little)?;
        let most = word(&mut reader, "most", little)?;
        let at = reader.at;
        let offset = word(&mut reader, "offset", little)?;
        if offset != 0 {
            return reader.fault(at, WireFault::Range { field: "offset", got: offset, low: 0, high: 0 });
        }
        let again = word(&mut reader, "length", little)?;
        let number = |number: u32| usize::try_from(number).unwrap_or(usize::MAX);
        if again != length {
            let (said, asked) = (number(again), number(length));
            let (field, other) = ("length", "length at the beginning");
            return reader.fault(at + 4, WireFault::Disagree { field, said, other, asked });
        }
        if length > most {
            return reader.fault(4, WireFault::Range { field: "length", got: length, low: 0, high: most });
        }
        let bytes = reader.bytes("blocks", number(length))?;
        reader.end()?;
        Ok(Self { first, most, bytes })
    }

    /// The status of an answer.
    #[must_use]
    pub const fn status(&self) -> PnioStatus {
        PnioStatus(self.first)
    }

    /// Appends the body.
    pub fn emit(&self, out: &mut Vec<u8>, little: bool) {
        emit_arguments(out, little, (self.first, self.most), |out| out.extend_from_slice(self.bytes));
    }
}

/// Appends the body of a call or an answer with blocks that are appended by `blocks`; before them the first word and the
/// most bytes that there might be.
pub fn emit_arguments(
    out: &mut Vec<u8>,
    little: bool,
    (first, most): (u32, u32),
    blocks: impl FnOnce(&mut Vec<u8>),
) {
    let begin = out.len();
    for own in [first, 0, most, 0, 0] {
        emit_word(out, own, little);
    }
    blocks(out);
    let length = u32::try_from(out.len().saturating_sub(begin + NDR)).unwrap_or(u32::MAX);
    let bytes = if little { length.to_le_bytes() } else { length.to_be_bytes() };
    for at in [begin + 4, begin + 16] {
        if let Some(field) = out.get_mut(at..at + 4) {
            field.copy_from_slice(&bytes);
        }
    }
}

fn uuid(reader: &mut Reader<'_>, field: &'static str, little: bool) -> Result<Uuid, WireError> {
    let own = Uuid(reader.array(field)?);
    Ok(if little { own.turned() } else { own })
}

fn word(reader: &mut Reader<'_>, field: &'static str, little: bool) -> Result<u32, WireError> {
    if little { reader.u32_le(field) } else { reader.u32(field) }
}

fn half(reader: &mut Reader<'_>, field: &'static str, little: bool) -> Result<u16, WireError> {
    if little { reader.u16_le(field) } else { reader.u16(field) }
}

pub(super) fn emit_word(out: &mut Vec<u8>, word: u32, little: bool) {
    out.extend_from_slice(&if little { word.to_le_bytes() } else { word.to_be_bytes() });
}

pub(super) fn emit_half(out: &mut Vec<u8>, half: u16, little: bool) {
    out.extend_from_slice(&if little { half.to_le_bytes() } else { half.to_be_bytes() });
}
