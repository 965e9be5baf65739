//! Cyclic frames of real-time class 1.
//!
//! ```text
//! FrameID 2  data 40..1440 { of each submodule: its bytes, IOPS 1; for the other way: IOCS 1; zeros }
//! cycle counter 2  data status 1  transfer status 1
//! ```
//!
//! Where what lies in the data is said at the opening of the connection, and so is their length.

use crate::{Reader, WireError, WireFault};
use std::ops::RangeInclusive;

const LAYER: &str = "cyclic frame";
/// The least and the most bytes of data in a frame.
pub const DATA: RangeInclusive<u16> = 40..=1440;
/// Bytes around the data.
pub const AROUND: usize = 2 + 2 + 1 + 1;
/// The unit of the cycle counter and of send clocks, in nanoseconds.
pub const TICK_NS: u32 = 31_250;

/// Provider and consumer status of one submodule.
pub mod iox {
    /// The data are good.
    pub const GOOD: u8 = 0x80;
    /// They are bad, as the submodule itself says.
    pub const BAD: u8 = 0x00;
    /// They are bad because the controller does not run.
    pub const BAD_BY_CONTROLLER: u8 = 0x60;

    /// Whether a status says good.
    #[must_use]
    pub const fn is_good(status: u8) -> bool {
        status & 0x80 != 0
    }

    /// Who says that they are bad, in words.
    #[must_use]
    pub const fn origin(status: u8) -> &'static str {
        match status >> 5 & 3 {
            0 => "the subslot",
            1 => "the slot",
            2 => "the device",
            _ => "the controller",
        }
    }
}

/// What the sender says of all data of a frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct DataStatus(pub u8);

impl DataStatus {
    /// Primary, valid, running, no problem.
    pub const RUN: Self = Self(0x35);
    /// The same of one that does not run.
    pub const STOP: Self = Self(0x25);
    /// The same of one that has a problem of its own.
    pub const PROBLEM: Self = Self(0x15);

    /// Bit 2: the data mean something; without it a frame is as good as none.
    #[must_use]
    pub const fn is_valid(self) -> bool {
        self.0 & 0x04 != 0
    }

    /// Bit 4: the sender runs.
    #[must_use]
    pub const fn runs(self) -> bool {
        self.0 & 0x10 != 0
    }

    /// Bit 5, turned round: the sender has a problem.
    #[must_use]
    pub const fn has_problem(self) -> bool {
        self.0 & 0x20 == 0
    }

    /// Bit 7: this frame is not for the receiver's use.
    #[must_use]
    pub const fn is_to_be_ignored(self) -> bool {
        self.0 & 0x80 != 0
    }
}

/// Whether a FrameID is one of a cyclic frame between two ends, of either range of real-time class 1.
#[must_use]
pub const fn is_cyclic(frame_id: u16) -> bool {
    matches!(frame_id, 0x8000..=0xBBFF | 0xC000..=0xF7FF)
}

/// One frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RtFrame<'a> {
    /// Whose it is, as its receiver or the controller has chosen.
    pub frame_id: u16,
    /// Data and status bytes.
    pub data: &'a [u8],
    /// When it was sent, in units of [`TICK_NS`]; wraps.
    pub counter: u16,
    /// What its sender says.
    pub status: DataStatus,
}

impl<'a> RtFrame<'a> {
    /// Reads a frame, from its FrameID on, that must have so many bytes of data; what Ethernet has filled it up with is
    /// passed over.
    ///
    /// # Errors
    /// It is shorter, its FrameID is none of a cyclic frame, or its transfer status says that it was spoilt on its way.
    pub fn parse(frame: &'a [u8], length: u16) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, frame);
        let frame_id = reader.u16("FrameID")?;
        if !is_cyclic(frame_id) {
            let allowed = "0x8000 to 0xBBFF and 0xC000 to 0xF7FF";
            return reader.fault(0, WireFault::Choice { field: "FrameID", got: frame_id, allowed });
        }
        let data = reader.bytes("data", length.into())?;
        let counter = reader.u16("cycle counter")?;
        let status = DataStatus(reader.u8("data status")?);
        reader.u8_in("transfer status", 0, 0)?;
        Ok(Self { frame_id, data, counter, status })
    }

    /// Appends the frame.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.reserve(self.data.len() + AROUND);
        out.extend_from_slice(&self.frame_id.to_be_bytes());
        out.extend_from_slice(self.data);
        out.extend_from_slice(&self.counter.to_be_bytes());
        out.extend_from_slice(&[self.status.0, 0]);
    }

    /// Whether a frame of this counter is later than the last one that was taken; repeats and older ones are not.
    #[must_use]
    pub const fn is_later(last: u16, counter: u16) -> bool {
        // The standard looks 61440 units ahead, which is all of the counter's range but 128 ms.
        matches!(counter.wrapping_sub(last), 1..=61_440)
    }
}
