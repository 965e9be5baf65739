//! Writes of a part of what a request writes: by a request that changes some bits, else by reading what lies around it
//! first; by another lane where the device is read there. The lane that writes waits for it, so that its own changes of one
//! place follow each other.

use super::{InFlight, Schedule};
use crate::Moment;
use crate::image::DeviceWrite;
use crate::shared::{LineRequest, Queued};
use crate::speak::{Ask, Ticket};
use woodrush_core::protocol::{BitWrite, Extent};
use woodrush_core::{Blame, Kind, Refusal};

/// How far a change of some bits is, where the device has no request for it.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum ChangeStage {
    /// One request does it.
    Only,
    /// All that it touches is being read, here or by another lane, to be written back changed.
    Reading(Extent),
    /// It is being written back.
    WritingBack,
}

/// A write, or a part of one.
struct Part {
    device: usize,
    extent: Extent,
    set: Vec<u8>,
    /// The bits that stay, where it changes only some.
    keep: Option<Vec<u8>>,
}

/// What a lane must know before it can write, for that request of it.
pub(super) struct OwedRead {
    port: usize,
    ticket: Ticket,
    pub(super) device: usize,
    pub(super) extent: Extent,
}

impl Schedule {
    /// A write; one of some bits in the way that the device takes.
    pub(super) fn write(
        &self,
        station: usize,
        extent: Extent,
        cells: &[u8],
        keep: Option<&[u8]>,
    ) -> (Ask, ChangeStage) {
        let cells = cells.to_vec();
        if let Some(whole) = self.to_read_elsewhere(station, extent, keep.is_some()) {
            return (Ask::read(station, whole), ChangeStage::Reading(whole));
        }
        match keep {
            None => (Ask::Write { station, extent, cells }, ChangeStage::Only),
            Some(_) if self.reads_to_change(station) => {
                (Ask::read(station, extent), ChangeStage::Reading(extent))
            }
            Some(keep) => {
                (Ask::Change { station, extent, keep: keep.to_vec(), set: cells }, ChangeStage::Only)
            }
        }
    }

    /// Whether a device has said that it has no request that changes some bits.
    fn reads_to_change(&self, device: usize) -> bool {
        self.devices.iter().any(|polled| polled.index == device && polled.no_change)
    }

    /// Whether a device is read by another lane.
    pub(super) fn reads_elsewhere(&self, device: usize) -> bool {
        self.shared.plan.devices.get(device).is_some_and(|station| station.port != self.lane.port)
    }

    /// Whether another lane reads for what is under way.
    pub(super) fn waits_elsewhere(&self, stage: ChangeStage, doing: &InFlight) -> bool {
        matches!(stage, ChangeStage::Reading(_))
            && self.part_of(doing).is_some_and(|part| self.reads_elsewhere(part.device))
    }

    /// The whole of what a write touches in requests that cannot be smaller, where the rest of it must be read first.
    fn to_read_elsewhere(&self, device: usize, extent: Extent, bits: bool) -> Option<Extent> {
        let space = self.shared.plan.devices.get(device)?.space_at(extent.space)?;
        let step = u32::from(space.align.max(1));
        let first = extent.first / step * step;
        let whole = Extent { first, count: extent.end().next_multiple_of(step) - first, ..extent };
        let needed = whole != extent || bits && space.bits == BitWrite::ReadBack;
        (needed && self.reads_elsewhere(device)).then_some(whole)
    }

    /// Lets the lane by which the device is read read something of it.
    pub(super) fn ask_elsewhere(&mut self, ticket: Ticket, device: usize, extent: Extent) {
        self.owed.push_back(OwedRead { port: self.lane.port, ticket, device, extent });
        self.stirred = true;
    }

    /// What this lane owes another one. What a lost device is to be asked is refused between two probes of it.
    pub(super) fn next_owed(&mut self, now: Moment) -> Option<OwedRead> {
        loop {
            let at = self.owed.iter().position(|owed| !self.reads_elsewhere(owed.device))?;
            let owed = self.owed.remove(at)?;
            if self.lost_device(owed.device).is_none() || now >= self.lane.probe_from {
                return Some(owed);
            }
            self.pay(now, owed, Err(Refusal::new(Kind::NoAnswer, Blame::Device)));
        }
    }

    /// Gives the lane that waits for it what was read.
    pub(super) fn pay(&mut self, now: Moment, owed: OwedRead, result: Result<Vec<u8>, Refusal>) {
        let name = self.shared.plan.devices.get(owed.device).map(|station| station.name.clone());
        self.heard(now, &result, |station| Some(&station.name) == name.as_ref());
        let own = self.lane.port;
        if self.turn_to(owed.port) {
            self.finish(now, owed.ticket, result);
            self.stirred = true;
            self.turn_to(own);
        }
    }

    /// What was read with the new part in it, to be written whole.
    fn with_part(&self, part: &Part, whole: Extent, old: &[u8]) -> Option<Vec<u8>> {
        let Part { device, extent, set, keep } = part;
        let each = self.shared.plan.devices.get(*device)?.space_at(extent.space)?.grain.cell_bytes();
        let mut new = old.to_vec();
        let room = new.get_mut((extent.first - whole.first) as usize * each..)?.get_mut(..set.len())?;
        for (at, (byte, set)) in room.iter_mut().zip(set).enumerate() {
            let keep = keep.as_ref().and_then(|keep| keep.get(at)).copied().unwrap_or(0);
            *byte = *byte & keep | set & !keep;
        }
        Some(new)
    }

    /// Goes on with a change of some bits that takes two requests; gives back what is at its end.
    pub(super) fn changed_bits(
        &mut self,
        now: Moment,
        doing: InFlight,
        stage: ChangeStage,
        began: Moment,
        result: Result<Vec<u8>, Refusal>,
    ) -> Option<(InFlight, Result<Vec<u8>, Refusal>)> {
        let Some(part) = self.part_of(&doing) else { return Some((doing, result)) };
        let (station, extent) = (part.device, part.extent);
        let no_such = matches!(&result, Err(Refusal { kind: Kind::NoSuchCommand, blame: Blame::Device, .. }));
        let (ask, stage) = match (stage, &result) {
            (ChangeStage::Only, Err(_)) if no_such && part.keep.is_some() => {
                self.devices
                    .iter_mut()
                    .filter(|p| p.index == station)
                    .for_each(|polled| polled.no_change = true);
                (Ask::read(station, extent), ChangeStage::Reading(extent))
            }
            (ChangeStage::Reading(whole), Ok(old)) => {
                let Some(cells) = self.with_part(&part, whole, old) else {
                    return Some((doing, Err(Refusal::new(Kind::Mismatch, Blame::Device))));
                };
                (Ask::Write { station, extent: whole, cells }, ChangeStage::WritingBack)
            }
            _ => return Some((doing, result)),
        };
        self.go_on(now, began, doing, ask, stage);
        None
    }

    /// The next request of something that began earlier.
    pub(super) fn go_on(
        &mut self,
        now: Moment,
        began: Moment,
        doing: InFlight,
        ask: Ask,
        stage: ChangeStage,
    ) {
        self.begin(now, doing, ask, stage);
        if let Some(current) = &mut self.lane.current {
            current.began = began;
        }
    }

    /// What a write wants.
    fn part_of(&self, doing: &InFlight) -> Option<Part> {
        match doing {
            InFlight::LineRequest(Queued {
                line_request: LineRequest::Write(DeviceWrite { device, extent, cells, keep, .. }),
                ..
            }) => Some(Part { device: *device, extent: *extent, set: cells.clone(), keep: keep.clone() }),
            InFlight::Push { device, push, cells } => {
                let entry = self.devices.get(*device)?.pushes.get(*push)?;
                let push = self.shared.plan.pushes.get(entry.push)?;
                let (set, keep) = (entry.placed(push, cells), entry.keep.clone());
                Some(Part { device: push.device, extent: push.extent, set, keep })
            }
            _ => None,
        }
    }
}
