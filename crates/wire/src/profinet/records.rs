//! Records: what is read and written of a submodule by number, each with a header of 64 bytes before it.

use super::Uuid;
use super::block::{self, Block, kind};
use crate::{WireError, WireFault};

pub(super) const FIELDS: [&str; 8] =
    ["sequence", "AR UUID", "API", "slot", "subslot", "padding", "index", "record length"];

/// The record of who a device is.
pub const IM0_INDEX: u16 = 0xAFF0;
/// Bytes of a header with its block's head.
pub const HEADER: usize = 64;
/// Bytes of the body up to the record's length.
const FIELDS_BYTES: usize = 2 + 16 + 4 + 2 + 2 + 2 + 2 + 4;

/// Which record.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Record {
    /// Number of the call among those of a relation.
    pub sequence: u16,
    /// The relation; nil where there is none.
    pub uuid: Uuid,
    /// Profile of the application.
    pub api: u32,
    /// Which slot.
    pub slot: u16,
    /// Which subslot.
    pub subslot: u16,
    /// Which record of it.
    pub index: u16,
    /// Its bytes; of a call that reads, the most that are wanted.
    pub length: u32,
}

/// The header of a record, which way and whether it answers, with what stands behind the record's length: nothing in most
/// calls, two numbers and a status in the answer to a write, two numbers in that to a read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RecordHeader<'a> {
    /// It is written, else read.
    pub writes: bool,
    /// It is an answer.
    pub answers: bool,
    /// Which record.
    pub record: Record,
    /// The last 24 bytes.
    pub rest: &'a [u8],
}

impl<'a> RecordHeader<'a> {
    /// Reads the block at the beginning of arguments, and the record behind it.
    ///
    /// # Errors
    /// It is cut, or not the block of a record, or says that the record has more or fewer bytes than there are.
    pub fn parse(arguments: &'a [u8]) -> Result<(Self, &'a [u8]), WireError> {
        let (block, data) = Block::parse(arguments)?;
        let mut reader = block.reader();
        let (writes, answers) = match block.kind {
            kind::WRITE => (true, false),
            kind::WRITE_ANSWER => (true, true),
            kind::READ => (false, false),
            kind::READ_ANSWER => (false, true),
            got => {
                let allowed = "0x0008, 0x0009 and their answers";
                return reader.fault(0, WireFault::Choice { field: "block type", got, allowed });
            }
        };
        let sequence = reader.u16("sequence")?;
        let uuid = Uuid(reader.array("AR UUID")?);
        let api = reader.u32("API")?;
        let (slot, subslot) = (reader.u16("slot")?, reader.u16("subslot")?);
        reader.u16_in("padding", 0, 0)?;
        let index = reader.u16("index")?;
        let at = reader.at;
        let length = reader.u32("record length")?;
        let rest = reader.bytes("padding", 24)?;
        // Only what carries the record must be as long as it says.
        let carries = writes != answers;
        if carries && usize::try_from(length).unwrap_or(usize::MAX) != data.len()
            || !carries && !data.is_empty()
        {
            let said = usize::try_from(length).unwrap_or(usize::MAX);
            let (field, other, asked) = ("record length", "what follows", data.len());
            return reader.fault(at, WireFault::Disagree { field, said, other, asked });
        }
        reader.end()?;
        let record = Record { sequence, uuid, api, slot, subslot, index, length };
        Ok((Self { writes, answers, record, rest }, data))
    }

    /// Appends the block, without the record.
    pub fn emit(&self, out: &mut Vec<u8>) {
        let own = match (self.writes, self.answers) {
            (true, false) => kind::WRITE,
            (true, true) => kind::WRITE_ANSWER,
            (false, false) => kind::READ,
            (false, true) => kind::READ_ANSWER,
        };
        block::emit_with(out, own, 0, |out| {
            let record = self.record;
            let begin = out.len();
            out.extend_from_slice(&record.sequence.to_be_bytes());
            out.extend_from_slice(&record.uuid.0);
            out.extend_from_slice(&record.api.to_be_bytes());
            for field in [record.slot, record.subslot, 0, record.index] {
                out.extend_from_slice(&field.to_be_bytes());
            }
            out.extend_from_slice(&record.length.to_be_bytes());
            out.extend_from_slice(self.rest);
            // A block of a record has one length, whatever stands behind.
            out.resize(begin + FIELDS_BYTES + 24, 0);
        });
    }
}

/// Who a device is (I&M0).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Identification {
    /// The vendor's number.
    pub vendor: u16,
    /// By what it is ordered, filled up with spaces.
    pub order: [u8; 20],
    /// Its serial number, filled up with spaces.
    pub serial: [u8; 16],
    /// Revision of its hardware.
    pub hardware: u16,
    /// Kind of its software's revision, such as `V`.
    pub prefix: u8,
    /// The three numbers of it.
    pub software: [u8; 3],
    /// How often its configuration has changed.
    pub changes: u16,
    /// Profile, and its type within.
    pub profile: [u16; 2],
    /// Version of the record.
    pub version: [u8; 2],
    /// Bits 1 to 4: I&M1 to I&M4 are there too.
    pub supported: u16,
}

impl Identification {
    /// Reads the record.
    ///
    /// # Errors
    /// It is another block, cut, or goes on.
    pub fn parse(record: &[u8]) -> Result<Self, WireError> {
        let (block, rest) = Block::parse(record)?;
        let mut reader = block.reader();
        if block.kind != kind::IM0 || !rest.is_empty() {
            let fault = WireFault::Choice { field: "block type", got: block.kind, allowed: "0x0020 alone" };
            return reader.fault(0, fault);
        }
        let own = Self {
            vendor: reader.u16("vendor")?,
            order: reader.array("order number")?,
            serial: reader.array("serial number")?,
            hardware: reader.u16("hardware revision")?,
            prefix: reader.u8("software revision")?,
            software: reader.array("software revision")?,
            changes: reader.u16("revision counter")?,
            profile: [reader.u16("profile")?, reader.u16("profile type")?],
            version: reader.array("version")?,
            supported: reader.u16("supported")?,
        };
        reader.end()?;
        Ok(own)
    }

    /// Appends the record.
    pub fn emit(&self, out: &mut Vec<u8>) {
        block::emit_with(out, kind::IM0, 0, |out| {
            out.extend_from_slice(&self.vendor.to_be_bytes());
            out.extend_from_slice(&self.order);
            out.extend_from_slice(&self.serial);
            out.extend_from_slice(&self.hardware.to_be_bytes());
            out.push(self.prefix);
            out.extend_from_slice(&self.software);
            for field in [self.changes, self.profile[0], self.profile[1]] {
                out.extend_from_slice(&field.to_be_bytes());
            }
            out.extend_from_slice(&self.version);
            out.extend_from_slice(&self.supported.to_be_bytes());
        });
    }

    /// A text filled up with spaces, cut where it is too long.
    #[must_use]
    pub fn padded<const N: usize>(text: &str) -> [u8; N] {
        let mut bytes = [b' '; N];
        for (place, byte) in bytes.iter_mut().zip(text.bytes()) {
            *place = byte;
        }
        bytes
    }
}
