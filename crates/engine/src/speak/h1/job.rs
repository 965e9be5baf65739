//! One question to a device of a segment: what is asked of the link for it, one request after the other.

use super::{NATIVE, refusal, unfit};
use crate::speak::{Ask, Delivered, Ticket, Unsound, one_place};
use woodrush_core::plan::Station;
use woodrush_core::protocol::h1::{
    self, Located, OTHER_REVISION, ParameterAccess, REPLACED, WRONG_SIZE, keeps_uncertain, parameters,
};
use woodrush_core::protocol::{DeviceBlocks, Extent};
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::h1::status::{Quality, Status};
use woodrush_wire::h1::{ANY_REVISION, Identity, Object, Request, Typed, kind};

/// What is known of a device by the live list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct LiveDevice {
    pub(super) node: u8,
    pub(super) tag: String,
    pub(super) device_id: String,
    pub(super) flags: u8,
    /// Whether it is of the revision that the profile describes; `None` while that was not asked.
    pub(super) revision_fits: Option<bool>,
}

/// What is asked next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum JobStep {
    /// A value.
    Read,
    /// What the device is, before it is written for the first time.
    Identify,
    /// How often the block was changed, before a parameter is written that is kept.
    Revision,
    /// The value goes.
    Write(u16),
}

/// A question.
pub(super) struct LinkJob {
    pub(super) ticket: Ticket,
    pub(super) station: Station,
    pub(super) step: JobStep,
    pub(super) extent: Extent,
    located: Located,
    /// What is written.
    cells: Vec<u8>,
    sub: u8,
    code: u8,
}

/// What came of a step.
pub(super) enum JobNext {
    Step(JobStep),
    Done(Result<Delivered, Refusal>),
}

fn file_fault(kind: Kind) -> Refusal {
    Refusal::new(kind, Blame::File)
}

impl LinkJob {
    /// Of a question.
    ///
    /// # Errors
    /// This protocol has no request for it.
    pub(super) fn new(ticket: Ticket, stations: &[Station], ask: Ask) -> Result<Self, Refusal> {
        let (station, extent, cells) = match ask {
            Ask::Read { station, parts } => {
                (station, one_place(&parts).ok_or(file_fault(Kind::TooMuch))?, None)
            }
            Ask::Write { station, extent, cells } => (station, extent, Some(cells)),
            Ask::Change { .. } | Ask::Pass { .. } => return Err(file_fault(Kind::NoSuchCommand)),
        };
        let station = stations.get(station).ok_or(file_fault(Kind::NoPath))?.clone();
        let space = station.space_at(extent.space).ok_or(file_fault(Kind::NoSuchAddress))?;
        let located = Located::of(space).ok_or(file_fault(Kind::NoSuchAddress))?;
        let Some(cells) = cells else {
            let step = JobStep::Read;
            return Ok(Self { ticket, station, step, extent, located, cells: vec![], sub: 0, code: 0 });
        };
        let sub = located.sub_index(extent.first, extent.count).ok_or(file_fault(Kind::NoSuchAddress))?;
        let (_, _, code) = located.bytes_of(sub).ok_or(file_fault(Kind::NoSuchAddress))?;
        let floats = code == kind::FLOAT && cells.chunks(4).any(|own| !float(own).is_finite());
        if floats {
            // A device takes anything for a number.
            return Err(file_fault(Kind::BadValue));
        }
        Ok(Self { ticket, station, step: JobStep::Identify, extent, located, cells, sub, code })
    }

    fn blocks(&self) -> Option<&DeviceBlocks> {
        self.station.setup.blocks.as_deref()
    }

    /// Whether the device may be written at all, and what is asked first.
    ///
    /// # Errors
    /// It is another device than the project means.
    pub(super) fn first_step(&self, device: &LiveDevice) -> Result<JobStep, Refusal> {
        if self.step == JobStep::Read {
            return Ok(JobStep::Read);
        }
        if is_replaced(&self.station, device) {
            return Err(unfit(REPLACED));
        }
        match device.revision_fits {
            Some(false) => Err(unfit(OTHER_REVISION)),
            None if self.blocks().is_some_and(|own| own.revision.is_some()) => Ok(JobStep::Identify),
            _ => Ok(self.after_identity()),
        }
    }

    fn after_identity(&self) -> JobStep {
        let block = self.blocks().and_then(|own| block_of(own, self.located.index));
        let access = block.and_then(|own| {
            parameters(own).find(|parameter| parameter.index() == self.located.index).map(|own| own.access)
        });
        match access {
            Some(ParameterAccess::Static | ParameterAccess::OutOfService) => JobStep::Revision,
            _ => JobStep::Write(ANY_REVISION),
        }
    }

    /// The request of the present step.
    pub(super) fn request(&self, node: u8) -> Request<'_> {
        let at = Object { node, index: self.located.index, sub: self.sub };
        match self.step {
            JobStep::Read => Request::Read(Object { sub: 0, ..at }),
            JobStep::Identify => Request::Identify(node),
            JobStep::Revision => {
                let start = self.blocks().and_then(|own| block_of(own, at.index)).map_or(0, |own| own.start);
                Request::Read(Object { index: u16::try_from(start).unwrap_or(0) + 1, sub: 0, ..at })
            }
            JobStep::Write(revision) => {
                Request::Write { at, revision, value: Typed { kind: self.code, data: &self.cells } }
            }
        }
    }

    /// What a device says of itself, before it is written.
    pub(super) fn identified(&self, identity: &Identity<'_>) -> (bool, JobNext) {
        let blocks = self.blocks();
        let is = |wanted: Option<u32>, found: u32| wanted.is_none_or(|wanted| wanted == found);
        let fits = blocks.is_none_or(|own| {
            is(own.revision, identity.revision.into())
                && is(own.device_type, identity.device_type.into())
                && is(own.manufacturer, identity.manufacturer)
        });
        let next = if fits {
            JobNext::Step(self.after_identity())
        } else {
            JobNext::Done(Err(unfit(OTHER_REVISION)))
        };
        (fits, next)
    }

    /// What a value that was read is for.
    pub(super) fn read(&self, value: Typed<'_>) -> JobNext {
        if self.step == JobStep::Revision {
            let revision = value.data.iter().fold(0u16, |sum, byte| sum << 8 | u16::from(*byte));
            return JobNext::Step(JobStep::Write(revision));
        }
        JobNext::Done(delivered(&self.station, self.extent, value))
    }

    /// It was taken.
    pub(super) fn written(&self) -> JobNext {
        JobNext::Done(Ok(Delivered::default()))
    }
}

/// Whether another device has the tag of the one that the project means.
pub(super) fn is_replaced(station: &Station, device: &LiveDevice) -> bool {
    station.setup.word("device-id").is_some_and(|own| own != device.device_id)
}

fn block_of(blocks: &DeviceBlocks, index: u16) -> Option<&woodrush_core::protocol::DeviceBlock> {
    let before = blocks.blocks.iter().filter(|own| own.start < u32::from(index));
    before.max_by_key(|own| own.start)
}

fn float(bytes: &[u8]) -> f32 {
    bytes.try_into().map_or(f32::NAN, f32::from_be_bytes)
}

/// The cells of an extent out of a whole parameter, with what its status says of them.
///
/// # Errors
/// The value has not the type or the size of the parameter.
pub(super) fn delivered(station: &Station, extent: Extent, value: Typed<'_>) -> Result<Delivered, Refusal> {
    let space = station.space_at(extent.space).ok_or(file_fault(Kind::NoSuchAddress))?;
    let located = Located::of(space).ok_or(file_fault(Kind::NoSuchAddress))?;
    if value.kind != located.ty.code {
        return Err(refusal(6, 8));
    }
    if value.data.len() != usize::from(located.ty.bytes) {
        let native = Some((NATIVE, WRONG_SIZE));
        return Err(Refusal { native, ..Refusal::new(Kind::Unsound, Blame::Device) });
    }
    let range = extent.first as usize..extent.end() as usize;
    let cells = value.data.get(range).ok_or(file_fault(Kind::NoSuchAddress))?.to_vec();
    let mut unsound = vec![];
    if let (Some((first, count)), Some(byte)) = (located.judged(), value.data.first()) {
        let (from, to) = (first.max(extent.first), (first + count).min(extent.end()));
        if let (true, Some(refusal)) = (from < to, judged(station, Status(*byte))) {
            unsound.push(Unsound {
                part: 0,
                extent: Extent { first: from, count: to - from, ..extent },
                refusal,
            });
        }
    }
    Ok(Delivered { cells, unsound })
}

/// Why a value with that status is none; `None` where it is one.
fn judged(station: &Station, status: Status) -> Option<Refusal> {
    let is_one = match status.quality() {
        Quality::Bad => false,
        Quality::Uncertain => keeps_uncertain(&station.setup),
        Quality::Good | Quality::GoodCascade => true,
    };
    // Limits are no reason of their own.
    let code = u32::from(status.0 & !3);
    (!is_one).then_some(Refusal::new(Kind::Unsound, Blame::Device).with_native(NATIVE, code))
}

/// How a device is called in messages: by its tag.
pub(super) fn tag_of(station: &Station) -> &str {
    h1::tag(&station.setup).unwrap_or_default()
}
