//! Writes of a part of what a request writes: by a request that changes some bits, else by reading what lies around it
//! first; by the other port where the device is read there. The line that writes waits for it, so that its own changes
//! of one place follow each other.

use super::{InFlight, Schedule};
use crate::Moment;
use crate::image::DeviceWrite;
use crate::shared::{ClientId, LineQueue, LineRequest, Queued};
use crate::speak::{Ask, Ticket};
use std::sync::{Arc, Mutex, PoisonError};
use woodrush_core::protocol::{BitWrite, Extent};
use woodrush_core::{Blame, Kind, Refusal};

/// How far a change of some bits is, where the device has no request for it.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum ChangeStage {
    /// One request does it.
    Only,
    /// All that it touches is being read, here or by the device's other port, to be written back changed.
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

/// What came back from the other port, and to which request.
type PartAnswer = (Ticket, Result<Vec<u8>, Refusal>);

/// Where the other port puts it.
#[derive(Clone, Default)]
pub(super) struct Mailbox(Arc<Mutex<Option<PartAnswer>>>);

impl Mailbox {
    pub(super) fn take(&self) -> Option<PartAnswer> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).take()
    }

    fn put(&self, answer: PartAnswer) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(answer);
    }
}

/// The way back; dropped unused, it says that there was no way.
struct Back {
    mailbox: Mailbox,
    queue: Arc<LineQueue>,
    answer: Option<PartAnswer>,
}

impl Back {
    fn tell(mut self, result: Result<Vec<u8>, Refusal>) {
        if let Some((_, told)) = &mut self.answer {
            *told = result;
        }
    }
}

impl Drop for Back {
    fn drop(&mut self) {
        if let Some(answer) = self.answer.take() {
            self.mailbox.put(answer);
            self.queue.wake();
        }
    }
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

    /// Whether a device is read by another port.
    pub(super) fn reads_elsewhere(&self, device: usize) -> bool {
        self.shared.plan.devices.get(device).is_some_and(|station| station.port != self.port)
    }

    /// Whether another port reads for what is under way.
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

    /// Puts a read into the queue of the device's own port.
    pub(super) fn ask_elsewhere(&self, ticket: Ticket, device: usize, extent: Extent) {
        let nothing = Refusal::new(Kind::NoPath, Blame::File);
        let back = Back {
            mailbox: self.elsewhere.clone(),
            queue: Arc::clone(&self.queue),
            answer: Some((ticket, Err(nothing))),
        };
        let port = self.shared.plan.devices.get(device).map(|station| station.port);
        if let Some(queue) = port.and_then(|port| self.shared.queues.get(port)) {
            let reply = Box::new(move |result| back.tell(result));
            queue.push(Queued {
                client: ClientId::default(),
                line_request: LineRequest::Read { device, extent },
                reply,
            });
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
        if let Some(current) = &mut self.current {
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
