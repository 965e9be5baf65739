//! Blocks of one direction of frames (IOCR): what a controller asks for, and the device's answer.

use super::block::{self, Block, kind};
use super::connect::ether_type;
use super::{ETHERTYPE, TAG};
use crate::{Reader, WireError, WireFault};

pub(super) const IOCR_FIELDS: [&str; 25] = [
    "IOCR type",
    "reference",
    "EtherType",
    "properties",
    "data length",
    "FrameID",
    "send clock",
    "reduction ratio",
    "phase",
    "sequence",
    "send offset",
    "watchdog factor",
    "data hold factor",
    "tag",
    "multicast address",
    "number of APIs",
    "API",
    "number of objects",
    "object slot",
    "object subslot",
    "object offset",
    "number of IOCS",
    "IOCS slot",
    "IOCS subslot",
    "IOCS offset",
];

/// The output's FrameID, which the device is to choose.
pub const FRAME_ID_OPEN: u16 = 0xFFFF;
/// A frame is sent when there is time.
pub const BEST_EFFORT: u32 = 0xFFFF_FFFF;
/// The greatest watchdog factor.
pub const WATCHDOG_MAX: u16 = 0x1E00;

/// Which way frames go.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Direction {
    /// The device sends.
    Input,
    /// The controller sends.
    Output,
}

impl Direction {
    const fn of(code: u16) -> Option<Self> {
        match code {
            1 => Some(Self::Input),
            2 => Some(Self::Output),
            _ => None,
        }
    }

    const fn code(self) -> u16 {
        match self {
            Self::Input => 1,
            Self::Output => 2,
        }
    }
}

/// Where something of a submodule lies in the data of a frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Placed {
    /// Profile of the application; 0 for what belongs to none.
    pub api: u32,
    /// Which slot.
    pub slot: u16,
    /// Which subslot.
    pub subslot: u16,
    /// Its first byte in the data.
    pub offset: u16,
}

/// One direction of frames.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct IocrRequest<'a> {
    /// Which way.
    pub direction: Direction,
    /// Names it in the relation.
    pub reference: u16,
    /// Bits 3 to 0: the class, 1 or 2.
    pub properties: u32,
    /// Bytes of data of each frame.
    pub data_length: u16,
    /// Of its frames; [`FRAME_ID_OPEN`] where the receiver chooses.
    pub frame_id: u16,
    /// In units of 31.25 us.
    pub send_clock: u16,
    /// A frame goes each so many send clocks.
    pub ratio: u16,
    /// In which of them.
    pub phase: u16,
    /// In which order with others.
    pub sequence: u16,
    /// When in the send clock, or [`BEST_EFFORT`].
    pub send_offset: u32,
    /// Cycles without a frame after which it is lost.
    pub watchdog: u16,
    /// Cycles after which data are held no longer; equal to it.
    pub hold: u16,
    /// Priority and VLAN.
    pub tag: u16,
    /// Where frames to several go.
    pub multicast: [u8; 6],
    apis: &'a [u8],
    /// How many profiles there are.
    pub api_count: u16,
}

/// One object or status of `IOCR`, with whether it is a consumer's status.
fn placed(reader: &mut Reader<'_>, api: u32, fields: [&'static str; 3]) -> Result<Placed, WireError> {
    let [slot, subslot, offset] = fields;
    Ok(Placed { api, slot: reader.u16(slot)?, subslot: reader.u16(subslot)?, offset: reader.u16(offset)? })
}

impl<'a> IocrRequest<'a> {
    /// Reads the block.
    ///
    /// # Errors
    /// It is cut or goes on, or a field is out of its range.
    pub fn parse(block: &Block<'a>) -> Result<Self, WireError> {
        let mut reader = block.reader();
        let direction = reader.choice("IOCR type", "1 input and 2 output", Direction::of)?;
        let reference = reader.u16("reference")?;
        ether_type(&mut reader)?;
        let at = reader.at;
        let properties = reader.u32("properties")?;
        if !matches!(properties & 0x0F, 1 | 2) {
            let got = properties & 0x0F;
            return reader.fault(at, WireFault::Range { field: "properties", got, low: 1, high: 2 });
        }
        let data_length = reader.u16_in("data length", *super::rt::DATA.start(), *super::rt::DATA.end())?;
        let frame_id = reader.u16("FrameID")?;
        let send_clock = reader.u16_in("send clock", 1, 128)?;
        let ratio = reader.choice("reduction ratio", "a power of two up to 512", |own| {
            (own.is_power_of_two() && own <= 512).then_some(own)
        })?;
        let phase = reader.u16_in("phase", 1, ratio)?;
        let sequence = reader.u16("sequence")?;
        let send_offset = reader.u32("send offset")?;
        let watchdog = reader.u16_in("watchdog factor", 1, WATCHDOG_MAX)?;
        let hold = reader.u16_in("data hold factor", watchdog, WATCHDOG_MAX)?;
        let (tag, multicast) = (reader.u16("tag")?, reader.array("multicast address")?);
        let api_count = reader.u16_in("number of APIs", 1, 64)?;
        let mut inner = reader.clone();
        for _ in 0..api_count {
            read_api(&mut inner, &mut |_, _| {})?;
        }
        inner.end()?;
        Ok(Self {
            direction,
            reference,
            properties,
            data_length,
            frame_id,
            send_clock,
            ratio,
            phase,
            sequence,
            send_offset,
            watchdog,
            hold,
            tag,
            multicast,
            apis: reader.rest(),
            api_count,
        })
    }

    /// Each object with its data, or with `iocs` each consumer's status.
    pub fn each(&self, mut take: impl FnMut(Placed, bool)) {
        let mut reader = Reader::new(block::layer(kind::IOCR), self.apis);
        for _ in 0..self.api_count {
            // It was read before.
            if read_api(&mut reader, &mut take).is_err() {
                return;
            }
        }
    }

    /// From one frame to the next, in nanoseconds.
    #[must_use]
    pub const fn period_ns(&self) -> u64 {
        self.send_clock as u64 * self.ratio as u64 * super::rt::TICK_NS as u64
    }

    /// Appends the block.
    pub fn emit(&self, out: &mut Vec<u8>) {
        self.emit_with(out, |out| out.extend_from_slice(self.apis));
    }

    fn emit_with(&self, out: &mut Vec<u8>, apis: impl FnOnce(&mut Vec<u8>)) {
        block::emit_with(out, kind::IOCR, 0, |out| {
            let half = |out: &mut Vec<u8>, own: u16| out.extend_from_slice(&own.to_be_bytes());
            half(out, self.direction.code());
            half(out, self.reference);
            half(out, ETHERTYPE);
            out.extend_from_slice(&self.properties.to_be_bytes());
            for own in
                [self.data_length, self.frame_id, self.send_clock, self.ratio, self.phase, self.sequence]
            {
                half(out, own);
            }
            out.extend_from_slice(&self.send_offset.to_be_bytes());
            for own in [self.watchdog, self.hold, self.tag] {
                half(out, own);
            }
            out.extend_from_slice(&self.multicast);
            half(out, self.api_count);
            apis(out);
        });
    }
}

/// One profile of an IOCR block.
fn read_api(reader: &mut Reader<'_>, take: &mut dyn FnMut(Placed, bool)) -> Result<(), WireError> {
    let api = reader.u32("API")?;
    for _ in 0..reader.u16("number of objects")? {
        take(placed(reader, api, ["object slot", "object subslot", "object offset"])?, false);
    }
    for _ in 0..reader.u16("number of IOCS")? {
        take(placed(reader, api, ["IOCS slot", "IOCS subslot", "IOCS offset"])?, true);
    }
    Ok(())
}

/// What a direction of frames is to be, for one who opens it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewIocr<'a> {
    /// Which way.
    pub direction: Direction,
    /// Names it in the relation.
    pub reference: u16,
    /// The class: 1 or 2.
    pub class: u32,
    /// Bytes of data of each frame.
    pub data_length: u16,
    /// Of its frames; [`FRAME_ID_OPEN`] where the receiver chooses.
    pub frame_id: u16,
    /// In units of 31.25 us.
    pub send_clock: u16,
    /// A frame goes each so many send clocks.
    pub ratio: u16,
    /// Cycles without a frame after which it is lost.
    pub watchdog: u16,
    /// Data with their provider's status.
    pub objects: &'a [Placed],
    /// Consumer's statuses of the other direction.
    pub iocs: &'a [Placed],
}

impl NewIocr<'_> {
    /// Appends the block; all of it belongs to profile 0.
    pub fn emit(&self, out: &mut Vec<u8>) {
        let own = IocrRequest {
            direction: self.direction,
            reference: self.reference,
            properties: self.class,
            data_length: self.data_length,
            frame_id: self.frame_id,
            send_clock: self.send_clock,
            ratio: self.ratio,
            phase: 1,
            sequence: 0,
            send_offset: BEST_EFFORT,
            watchdog: self.watchdog,
            hold: self.watchdog,
            tag: TAG,
            multicast: [0; 6],
            apis: &[],
            api_count: 1,
        };
        own.emit_with(out, |out| {
            out.extend_from_slice(&[0; 4]);
            for list in [self.objects, self.iocs] {
                out.extend_from_slice(&u16::try_from(list.len()).unwrap_or(u16::MAX).to_be_bytes());
                for own in list {
                    for field in [own.slot, own.subslot, own.offset] {
                        out.extend_from_slice(&field.to_be_bytes());
                    }
                }
            }
        });
    }
}

/// The answer to one direction of frames.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct IocrAnswer {
    /// Which way.
    pub direction: Direction,
    /// As asked.
    pub reference: u16,
    /// Of its frames.
    pub frame_id: u16,
}

impl IocrAnswer {
    /// Reads the block.
    ///
    /// # Errors
    /// It is cut or goes on, or says a direction that there is not.
    pub fn parse(block: &Block<'_>) -> Result<Self, WireError> {
        let mut reader = block.reader();
        let direction = reader.choice("IOCR type", "1 input and 2 output", Direction::of)?;
        let (reference, frame_id) = (reader.u16("reference")?, reader.u16("FrameID")?);
        reader.end()?;
        Ok(Self { direction, reference, frame_id })
    }

    /// Appends the block.
    pub fn emit(&self, out: &mut Vec<u8>) {
        block::emit_with(out, kind::IOCR_ANSWER, 0, |out| {
            for field in [self.direction.code(), self.reference, self.frame_id] {
                out.extend_from_slice(&field.to_be_bytes());
            }
        });
    }
}
