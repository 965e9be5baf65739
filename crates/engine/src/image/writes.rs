//! A client's write taken apart into what devices must take and what is only shown.

use super::kept::Kept;
use super::{Board, SHARED, refused};
use woodrush_core::cells::{bit_of, set_bit};
use woodrush_core::plan::{PlannedRule, Source};
use woodrush_core::project::Owner;
use woodrush_core::protocol::{Extent, Verb};
use woodrush_core::{Blame, Kind, Refusal};

/// One write for a device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeviceWrite {
    /// Index of the device.
    pub device: usize,
    /// Where in it.
    pub extent: Extent,
    /// In the device's form.
    pub cells: Vec<u8>,
    /// Only some bits of one grain change; ones keep the old bit.
    pub keep: Option<Vec<u8>>,
    /// What is shown once the device has confirmed.
    pub shown: Shown,
    /// The rule that carries it.
    pub rule: u32,
    /// The client is answered when the device has answered.
    pub after_device: bool,
}

/// What images show once a device has taken a write. The line that heard the device shows it, so that of two writes the
/// one that the device took last is the one that is seen.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum Shown {
    /// Nothing, or another part of the same write shows it.
    #[default]
    Nothing,
    /// The written value, until the next poll.
    Cells {
        /// Index of the image.
        image: usize,
        /// Where in it.
        extent: Extent,
        /// In the image's form.
        cells: Vec<u8>,
    },
    /// What clients wrote, in all images that show it.
    ClientCells(ClientCells),
}

/// Values for cells that clients write.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ClientCells {
    /// The rule that stands for the cells.
    pub rule: u32,
    /// The first value.
    pub item: u32,
    /// The values, in the cells' own form.
    pub cells: Vec<u8>,
}

/// One part of a client's write; parts are done in order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Task {
    /// A device must take it.
    Send(DeviceWrite),
    /// Cells that clients write hold it from now on, and rules carry it on.
    Enter(ClientCells),
}

fn no(kind: Kind) -> Refusal {
    refused(kind, Blame::ClientIdentity)
}

impl DeviceWrite {
    /// The rule's own cells: of one bit, its 0 or 1.
    pub(crate) fn own_cells(&self) -> Vec<u8> {
        match &self.keep {
            Some(_) => vec![u8::from(self.cells.iter().any(|byte| *byte != 0))],
            None => self.cells.clone(),
        }
    }
}

impl Board {
    /// What a client's write becomes, in address order. What is to be entered may be cells of another image, and
    /// becomes what must be done by the image of that one.
    ///
    /// # Errors
    /// Some cell is not writable, is a part of a value, or a value does not fit where it goes.
    pub fn route(&self, extent: Extent, cells: &[u8]) -> Result<Vec<Task>, Refusal> {
        let stretch = self.stretches.get(extent.space.index()).ok_or(no(Kind::NoSuchAddress))?;
        let each = stretch.each;
        let mut tasks: Vec<Task> = vec![];
        let mut grain = extent.first;
        while grain < extent.end() {
            let feed = stretch.feed(grain);
            let from = (grain - extent.first) as usize * each;
            let value = |count: u32| cells.get(from..from + count as usize * each).ok_or(no(Kind::BadValue));
            if feed & SHARED != 0 {
                self.write_bits(feed, value(1)?, &mut tasks)?;
                grain += 1;
                continue;
            }
            let step = feed.checked_sub(1).ok_or(no(Kind::NoSuchAddress))?;
            let number = self.plan.steps.get(step as usize).map_or(0, |step| step.rule);
            let rule = self.plan.rules.get(number as usize).ok_or(no(Kind::NoSuchAddress))?;
            if !rule.writable {
                return Err(no(Kind::ReadOnly));
            }
            let item = (grain - rule.target.first) / rule.target.width;
            let target = rule.target.item(item);
            if rule.spreads() && (target.first != grain || target.end() > extent.end()) {
                let end = target.end().min(extent.end());
                self.write_part(number, rule, item, grain - target.first, value(end - grain)?, &mut tasks);
                grain = end;
                continue;
            }
            if target.first != grain || target.end() > extent.end() {
                return Err(no(Kind::ReadOnly));
            }
            let (task, items) = match rule.source {
                // As many whole values as the write holds: they are carried on together.
                Source::Client | Source::ClientCells { .. } => {
                    let last = rule.target.extent().end().min(extent.end());
                    let items = (last - grain) / rule.target.width;
                    (self.entered(number, rule, item, items, value(items * rule.target.width)?)?, items)
                }
                _ => (Task::Send(self.write_back(number, rule, item, value(target.count)?)?), 1),
            };
            self.append(&mut tasks, task);
            grain += items * rule.target.width;
        }
        Ok(tasks)
    }

    /// Values for cells that clients write: those cells themselves, or ones that show them under another form.
    fn entered(
        &self,
        number: u32,
        rule: &PlannedRule,
        item: u32,
        items: u32,
        cells: &[u8],
    ) -> Result<Task, Refusal> {
        let Source::ClientCells { image, place, rule: entry } = rule.source else {
            return Ok(Task::Enter(ClientCells { rule: number, item, cells: cells.to_vec() }));
        };
        let space = self.plan.images.get(image).and_then(|image| image.space_at(place.space));
        let bytes = place.width as usize * space.map_or(2, |space| space.grain.cell_bytes());
        let mut back = vec![0; bytes * items as usize];
        let each = (cells.len() / items.max(1) as usize).max(1);
        for (value, room) in cells.chunks(each).zip(back.chunks_mut(bytes.max(1))) {
            rule.conversion.back().convert(value, room).map_err(|()| no(Kind::DoesNotFit))?;
        }
        Ok(Task::Enter(ClientCells { rule: entry, item, cells: back }))
    }

    /// A value of a polled rule on its way back to the device.
    fn write_back(
        &self,
        number: u32,
        rule: &PlannedRule,
        item: u32,
        value: &[u8],
    ) -> Result<DeviceWrite, Refusal> {
        let Source::Values { owner: Owner::Device(device), place, .. } = rule.source else {
            return Err(no(Kind::ReadOnly));
        };
        let source = place.item(item);
        let each = self.device_cell(device, source);
        let bytes = if place.bit.is_some() { 1 } else { source.count as usize * each };
        let mut raw = vec![0; bytes];
        rule.conversion.back().convert(value, &mut raw).map_err(|()| no(Kind::DoesNotFit))?;
        let mut write = DeviceWrite {
            device,
            extent: source,
            cells: raw,
            keep: None,
            shown: Shown::Cells { image: self.board, extent: rule.target.item(item), cells: value.to_vec() },
            rule: number,
            after_device: rule.after_device,
        };
        if let Some(bit) = place.bit {
            let on = write.cells.first().is_some_and(|cell| *cell != 0);
            change_bits(&mut write, each, &[(bit, on)]);
        }
        Ok(write)
    }

    /// Some of the coils that stand for one register.
    fn write_part(
        &self,
        number: u32,
        rule: &PlannedRule,
        item: u32,
        first_bit: u32,
        value: &[u8],
        tasks: &mut Vec<Task>,
    ) {
        let Source::Values { owner: Owner::Device(device), place, .. } = rule.source else { return };
        let extent = place.item(item);
        let shown = Extent {
            space: rule.target.space,
            first: rule.target.item(item).first + first_bit,
            count: u32::try_from(value.len()).unwrap_or(0),
        };
        let mut write = DeviceWrite {
            device,
            extent,
            cells: vec![],
            keep: None,
            shown: Shown::Cells { image: self.board, extent: shown, cells: value.to_vec() },
            rule: number,
            after_device: rule.after_device,
        };
        let bits: Vec<(u8, bool)> = (first_bit..)
            .zip(value)
            .filter_map(|(bit, on)| Some((u8::try_from(bit).ok()?, *on != 0)))
            .collect();
        change_bits(&mut write, self.device_cell(device, extent), &bits);
        tasks.push(Task::Send(write));
    }

    /// A register of the image whose bits belong to several rules: all of them must be writable.
    fn write_bits(&self, feed: u32, value: &[u8], tasks: &mut Vec<Task>) -> Result<(), Refusal> {
        let bits = self.bits.get((feed & !SHARED) as usize).ok_or(no(Kind::NoSuchAddress))?;
        for own in bits {
            let number = self.plan.steps.get(own.step as usize).map_or(0, |step| step.rule);
            let rule = self
                .plan
                .rules
                .get(number as usize)
                .filter(|rule| rule.writable)
                .ok_or(no(Kind::ReadOnly))?;
            let bit = [u8::from(bit_of(value, own.bit))];
            if matches!(rule.source, Source::ClientCells { .. }) {
                tasks.push(self.entered(number, rule, 0, 1, &bit)?);
                continue;
            }
            let mut write = self.write_back(number, rule, 0, &bit)?;
            // The register is shown as it was written; its other bits are those of the other rules.
            write.shown =
                Shown::Cells { image: self.board, extent: rule.target.item(0), cells: value.to_vec() };
            tasks.push(Task::Send(write));
        }
        Ok(())
    }

    /// What becomes of values for cells of this image that clients write: first the devices that must take them, then
    /// the cells, once the last of those has.
    ///
    /// # Errors
    /// A value does not fit where some rule carries it.
    pub(crate) fn carry_on(&self, kept: &Kept, entered: ClientCells) -> Result<Vec<Task>, Refusal> {
        let mut tasks: Vec<Task> = vec![];
        let ClientCells { rule: number, item, cells } = &entered;
        let entry = self.plan.rules.get(*number as usize).ok_or(no(Kind::NoSuchAddress))?;
        let stretch = self.stretches.get(entry.target.space.index());
        let bytes = entry.target.width as usize * stretch.map_or(1, |stretch| stretch.each);
        for onward in self.plan.onward(*number) {
            let rule = self.plan.rules.get(onward as usize).ok_or(no(Kind::NoSuchAddress))?;
            for (at, value) in (*item..).zip(cells.chunks(bytes.max(1))) {
                let target = rule.target.item(at);
                let Some(device) = self.plan.sink(rule) else {
                    self.must_fit(rule, value, target)?;
                    continue;
                };
                let each = self.device_cell(device, target);
                let room = if rule.target.bit.is_some() { 1 } else { target.count as usize * each };
                let mut raw = vec![0; room];
                rule.conversion.convert(value, &mut raw).map_err(|()| no(Kind::DoesNotFit))?;
                // What a device holds is what it has confirmed: what an image shows may not have arrived.
                let changed = !kept.holds(device, onward, target, &raw);
                if !(rule.sending.on_write || rule.sending.on_change && changed) {
                    continue;
                }
                let mut write = DeviceWrite {
                    device,
                    extent: target,
                    cells: raw,
                    keep: None,
                    shown: Shown::Nothing,
                    rule: onward,
                    after_device: rule.after_device,
                };
                if let Some(bit) = rule.target.bit {
                    let on = write.cells.first().is_some_and(|cell| *cell != 0);
                    change_bits(&mut write, each, &[(bit, on)]);
                }
                self.append(&mut tasks, Task::Send(write));
            }
        }
        match tasks.last_mut() {
            Some(Task::Send(last)) => last.shown = Shown::ClientCells(entered),
            _ => tasks.push(Task::Enter(entered)),
        }
        Ok(tasks)
    }

    fn must_fit(&self, rule: &PlannedRule, value: &[u8], target: Extent) -> Result<(), Refusal> {
        let space = self.plan.board(rule.board).and_then(|board| board.space_at(target.space));
        let each = space.map_or(2, |space| space.grain.cell_bytes());
        let mut room = vec![0; if rule.target.bit.is_some() { 1 } else { target.count as usize * each }];
        rule.conversion.convert(value, &mut room).map_err(|()| no(Kind::DoesNotFit))
    }

    fn device_cell(&self, device: usize, extent: Extent) -> usize {
        let space = self.plan.devices.get(device).and_then(|station| station.space_at(extent.space));
        space.map_or(1, |space| space.grain.cell_bytes())
    }

    /// Joins a write to the one before where both are neighbours in device and image and one request takes them.
    fn append(&self, tasks: &mut Vec<Task>, next: Task) {
        if let (Some(Task::Send(last)), Task::Send(next)) = (tasks.last_mut(), &next)
            && self.joins(last, next)
        {
            last.extent.count += next.extent.count;
            last.cells.extend_from_slice(&next.cells);
            if let (Shown::Cells { extent, cells, .. }, Shown::Cells { extent: more, cells: own, .. }) =
                (&mut last.shown, &next.shown)
            {
                extent.count += more.count;
                cells.extend_from_slice(own);
            }
            return;
        }
        tasks.push(next);
    }

    fn joins(&self, last: &DeviceWrite, next: &DeviceWrite) -> bool {
        let side_by_side = match (&last.shown, &next.shown) {
            (Shown::Cells { extent: before, .. }, Shown::Cells { extent: after, .. }) => {
                before.end() == after.first
            }
            (Shown::Nothing, Shown::Nothing) => true,
            _ => false,
        };
        // Of what a rule keeps in a device it is known by rule what arrived.
        let keeps = |write: &DeviceWrite| {
            let rule = self.plan.rules.get(write.rule as usize);
            rule.is_some_and(|rule| self.plan.sink(rule).is_some() && rule.sending.keeps())
        };
        if last.rule != next.rule && (keeps(last) || keeps(next)) {
            return false;
        }
        let neighbours = (last.device, last.extent.space, last.after_device, &last.keep, &next.keep)
            == (next.device, next.extent.space, next.after_device, &None, &None)
            && last.extent.end() == next.extent.first;
        let count = last.extent.count + next.extent.count;
        let station = self.plan.devices.get(next.device);
        let fits = station.is_some_and(|station| {
            let space = station.space_at(next.extent.space);
            space.zip(station.dialect).is_some_and(|(space, dialect)| {
                dialect.cost(Verb::Write, space, count, &station.setup).is_ok()
            })
        });
        neighbours && side_by_side && fits
    }
}

/// Makes a write one that changes some bits of its grain.
fn change_bits(write: &mut DeviceWrite, each: usize, bits: &[(u8, bool)]) {
    let (mut keep, mut set) = (vec![0xFF; each], vec![0; each]);
    for (bit, on) in bits {
        set_bit(&mut keep, *bit, false);
        set_bit(&mut set, *bit, *on);
    }
    write.keep = Some(keep);
    write.cells = set;
}
