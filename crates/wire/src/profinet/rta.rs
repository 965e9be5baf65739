//! Messages of the alarm channel: what is told once and acknowledged, and how a connection is broken off.
//!
//! ```text
//! FrameID 2  to 2  from 2  kind 1 { version 1, type }  flags 1 { window 1, acknowledge at once }
//! own sequence 2  acknowledged sequence 2  length 2  data
//! ```

use super::status::PnioStatus;
use crate::{Reader, WireError, WireFault};

const LAYER: &str = "alarm channel";
/// FrameID of alarms of high priority, and of low.
pub const HIGH: u16 = 0xFC01;
/// FrameID of alarms of low priority, and of breaking off.
pub const LOW: u16 = 0xFE01;
/// The sequence number of the first message, and what it acknowledges.
pub const FIRST: u16 = 0xFFFF;
/// What is acknowledged before anything came.
pub const NOTHING_YET: u16 = 0xFFFE;

/// What a message is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum RtaKind {
    /// Something is told: a block.
    Data,
    /// What was told cannot be taken.
    Nack,
    /// What was told has been taken.
    Ack,
    /// The connection is broken off; a status says why.
    Error,
}

impl RtaKind {
    const fn of(code: u8) -> Option<Self> {
        match code {
            1 => Some(Self::Data),
            2 => Some(Self::Nack),
            3 => Some(Self::Ack),
            4 => Some(Self::Error),
            _ => None,
        }
    }

    const fn code(self) -> u8 {
        match self {
            Self::Data => 1,
            Self::Nack => 2,
            Self::Ack => 3,
            Self::Error => 4,
        }
    }
}

/// One message.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Rta<'a> {
    /// [`HIGH`] or [`LOW`].
    pub frame_id: u16,
    /// The reference that its receiver chose at the opening.
    pub to: u16,
    /// The reference that its sender chose.
    pub from: u16,
    /// What it is.
    pub kind: RtaKind,
    /// Bits 3 to 0: messages that may be under way, which is 1; bit 4: acknowledge at once.
    pub flags: u8,
    /// Its number among those of its sender.
    pub sequence: u16,
    /// The last number that its sender has taken.
    pub acknowledged: u16,
    /// A block, a status, or nothing.
    pub data: &'a [u8],
}

impl<'a> Rta<'a> {
    /// Reads a frame, from its FrameID on; what Ethernet has filled it up with is passed over.
    ///
    /// # Errors
    /// It is cut, of another version, or of a kind that there is not.
    pub fn parse(frame: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, frame);
        let frame_id =
            reader.choice("FrameID", "0xFC01 and 0xFE01", |own| matches!(own, HIGH | LOW).then_some(own))?;
        let (to, from) = (reader.u16("destination reference")?, reader.u16("source reference")?);
        let at = reader.at;
        let kind = reader.u8("kind")?;
        let Some(kind) = RtaKind::of(kind & 0x0F).filter(|_| kind >> 4 == 1) else {
            let allowed = "0x11, 0x12, 0x13 and 0x14: version 1";
            return reader.fault(at, WireFault::Choice { field: "kind", got: kind.into(), allowed });
        };
        let flags = reader.u8("flags")?;
        let (sequence, acknowledged) = (reader.u16("sequence")?, reader.u16("acknowledged sequence")?);
        let length = reader.u16("length")?;
        let data = reader.bytes("data", length.into())?;
        Ok(Self { frame_id, to, from, kind, flags, sequence, acknowledged, data })
    }

    /// Appends the frame.
    pub fn emit(&self, out: &mut Vec<u8>) {
        for field in [self.frame_id, self.to, self.from] {
            out.extend_from_slice(&field.to_be_bytes());
        }
        out.extend_from_slice(&[0x10 | self.kind.code(), self.flags]);
        let length = u16::try_from(self.data.len()).unwrap_or(u16::MAX);
        for field in [self.sequence, self.acknowledged, length] {
            out.extend_from_slice(&field.to_be_bytes());
        }
        out.extend_from_slice(self.data);
    }

    /// The status of one that breaks off.
    #[must_use]
    pub fn error(&self) -> Option<PnioStatus> {
        let status = self.data.first_chunk()?;
        (self.kind == RtaKind::Error).then(|| PnioStatus(u32::from_be_bytes(*status)))
    }

    /// Appends one that breaks off.
    pub fn emit_error(out: &mut Vec<u8>, to: u16, from: u16, status: PnioStatus) {
        let data = &status.0.to_be_bytes();
        let (sequence, acknowledged) = (FIRST, NOTHING_YET);
        Rta { frame_id: LOW, to, from, kind: RtaKind::Error, flags: 1, sequence, acknowledged, data }
            .emit(out);
    }
}
