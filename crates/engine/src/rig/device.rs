//! A simulated device: a memory of the addresses that its profile, its rules and its sizes name, moved by signals.

use super::driven::{loaded, sent_by_converter};
use super::inside::{Body, Cell, Inside, Spot};
use super::names::{declared, with_declared};
use super::signal::Generator;
use crate::Moment;
use crate::dice::Dice;
use crate::speak::Behaviour;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use woodrush_core::cells::bit_of;
use woodrush_core::check::Checked;
use woodrush_core::form::{Conversion, Form, Overflow, Type, Value, hex_words};
use woodrush_core::plan::{Source, Station};
use woodrush_core::project::{DeviceFaults, Line, Owner, parse_asked};
use woodrush_core::protocol::{Address, AddressContext, Extent, Grain, Verb};
use woodrush_core::wanted::form_at;
use woodrush_core::{Blame, Kind, Refusal, Spanned};

/// One simulated device.
pub struct SimDevice {
    /// Its name.
    pub name: String,
    /// Its protocol's keys and spaces.
    pub station: Station,
    /// What it is set to; `None` is whatever the line is.
    pub line: Option<Line>,
    /// Signals stand still: values are only what is put there.
    pub still: bool,
    /// The only thing that this connection is for, where the device has another one for the other.
    pub only: Option<Verb>,
    /// It is a node of the box at this place of its line, which answers for it.
    pub node_of: Option<usize>,
    /// What this connection of it makes of what is written to its settings: another one keeps its own number and line.
    pub(super) own: Option<Box<dyn Behaviour>>,
    /// It has another number than its server answers for.
    pub(super) moved: bool,
    body: Body,
}

impl SimDevice {
    /// One of whose cells none exists yet.
    pub(super) fn empty(station: Station) -> Self {
        let memory = station.spaces.iter().map(|_| BTreeMap::new()).collect();
        Self {
            name: station.name.clone(),
            body: Arc::new(Mutex::new(Inside { memory, ..Inside::default() })),
            station,
            line: None,
            still: false,
            only: None,
            node_of: None,
            own: None,
            moved: false,
        }
    }

    /// The device of that index as the project describes it. `read_file` brings the text of a replay.
    ///
    /// # Errors
    /// A signal of the project does not fit the device, in words.
    pub fn new(
        checked: &Checked,
        index: usize,
        read_file: &dyn Fn(&str) -> Result<String, String>,
    ) -> Result<Self, String> {
        let (project, plan) = (&checked.project, &checked.plan);
        let station = plan.devices.get(index).cloned().ok_or("no such device")?;
        let mut device = Self::empty(with_declared(station));
        device.line = project.line_of(index).map(|line| line.value);
        let sizes = project.devices.get(index).map_or(&[][..], |device| device.tables.as_slice());
        for (name, size) in sizes {
            let Some(dialect) = device.station.dialect else { continue };
            // One part of it brings the others.
            let spaces = &device.station.spaces;
            let found = spaces.with_ids().find(|(_, space)| dialect.notation().is_table(space, &name.value));
            if let Some((space, count)) =
                found.map(|(id, space)| (id, dialect.notation().grains_of(space, *size)))
            {
                device.exist(Extent { space, first: 0, count });
            }
        }
        for (space, count) in declared(&device.station) {
            if let Some(space) = device.station.spaces.id(&space.key) {
                device.exist(Extent { space, first: 0, count });
            }
        }
        device.learn_behaviour(checked, index);
        let mut dice = Dice::new(project.rig.seed ^ (index as u64) << 32);
        let own = project.rig.signals.iter().filter(|(device, ..)| *device == index);
        for (_, target, signal) in own {
            let loaded = loaded(signal, read_file)?;
            let (spot, count) = device.spot_of_signal(checked, index, target)?;
            if device.computes(spot.extent) {
                return Err(device.worked_out(&target.value));
            }
            if device.sent_to_it(spot.extent) {
                return Err(sent_by_converter(&target.value));
            }
            device.drive(spot, count, Generator::new(signal.clone(), dice.roll(), loaded));
        }
        for (number, point) in
            project.profile_of(index).map_or(&[][..], |profile| &profile.points).iter().enumerate()
        {
            let Ok(address) = project.point_address(index, point) else { continue };
            let form = device.form_at(&address, point.form.map(|form| form.value));
            let Some(spot) = device.spot(&address, form) else { continue };
            let range = point.range.map(|range| range.value);
            device.drive_by_default(spot, 1, range, point.read_write, number, &mut dice);
        }
        for (number, rule) in plan.rules.iter().enumerate() {
            let Source::Values { owner: Owner::Device(of), place, .. } = rule.source else { continue };
            if of == index {
                let spot = Spot { extent: place.item(0), bit: place.bit, form: rule.conversion.from };
                device.drive_by_default(spot, place.count, None, rule.writable, number, &mut dice);
            }
        }
        // What it is sent stays where it is put.
        for (number, rule) in plan.rules.iter().enumerate().filter(|(_, rule)| plan.sink(rule) == Some(index))
        {
            let spot = Spot { extent: rule.target.item(0), bit: rule.target.bit, form: rule.conversion.to };
            device.drive_by_default(spot, rule.target.count, None, true, number, &mut dice);
        }
        for transfer in plan.transfers.iter().filter(|transfer| transfer.device() == Some(index)) {
            transfer.parts.iter().for_each(|part| device.exist(*part));
        }
        device.drive_what_it_measures(&mut dice);
        device.learn_settings(checked, index);
        device.advance(Moment(0), None);
        Ok(device)
    }

    /// The bytes of a block as they are now; nothing where some do not exist.
    pub(super) fn block(&mut self, now: Moment, extent: Extent) -> Option<Vec<u8>> {
        self.advance(now, Some(extent));
        self.peek(extent)
    }

    fn form_at(&self, address: &Address, written: Option<Form>) -> Form {
        form_at(self.station.dialect, address, written)
    }

    pub(super) fn body(&self) -> MutexGuard<'_, Inside> {
        self.body.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Bytes of a grain there.
    pub(super) fn each(&self, extent: Extent) -> usize {
        self.station.space_at(extent.space).map_or(1, |space| space.grain.cell_bytes())
    }

    /// What goes wrong with it.
    #[must_use]
    pub fn ailment(&self) -> DeviceFaults {
        self.body().ailment
    }

    /// Changes what goes wrong with it, on all of its connections.
    pub fn set_fault(&mut self, change: impl FnOnce(&mut DeviceFaults)) {
        change(&mut self.body().ailment);
    }

    /// Becomes another connection of the same device, to be written by where it is read by the other one.
    pub(super) fn join(&mut self, other: &Self) {
        self.body = Arc::clone(&other.body);
    }

    /// Becomes a node of a box, which holds what it held from now on.
    pub(super) fn enter(&mut self, place: usize, host: &Self) {
        let own = std::mem::take(&mut *self.body());
        let mut inside = host.body();
        for (space, memory) in own.memory.into_iter().enumerate() {
            if let Some(all) = inside.memory.get_mut(space) {
                for (grain, value) in memory {
                    all.entry(grain).or_insert(value);
                }
            }
        }
        inside.driven.extend(own.driven);
        drop(inside);
        self.body = Arc::clone(&host.body);
        self.node_of = Some(place);
    }

    /// Another view of it, which shares all that it holds.
    pub(super) fn view(&self) -> Self {
        Self {
            name: self.name.clone(),
            station: self.station.clone(),
            line: self.line,
            still: true,
            only: self.only,
            node_of: self.node_of,
            own: None,
            moved: false,
            body: Arc::clone(&self.body),
        }
    }

    pub(super) fn spot(&self, address: &Address, form: Form) -> Option<Spot> {
        let space = self.station.spaces.id(&address.space.key)?;
        let count = if address.bit.is_some() { 1 } else { form.ty.width(address.space.grain).ok()? };
        Some(Spot { extent: Extent { space, first: address.first, count }, bit: address.bit, form })
    }

    /// A point's name, or an address with a form.
    ///
    /// # Errors
    /// No such point, or no address, in words.
    pub fn find(&self, checked: &Checked, index: usize, text: &str) -> Result<Spot, String> {
        let entry = Spanned { value: text.to_string(), span: woodrush_core::Span::default() };
        self.spot_of_signal(checked, index, &entry).map(|(spot, _)| spot)
    }

    pub(super) fn spot_of_signal(
        &self,
        checked: &Checked,
        index: usize,
        target: &Spanned<String>,
    ) -> Result<(Spot, u32), String> {
        let point = checked
            .project
            .profile_of(index)
            .and_then(|profile| profile.points.iter().find(|p| p.name.value == target.value));
        if let Some(point) = point {
            let address = checked
                .project
                .point_address(index, point)
                .map_err(|_| format!("`{}` has no sound address", target.value))?;
            let form = self.form_at(&address, point.form.map(|form| form.value));
            let spot = self
                .spot(&address, form)
                .ok_or_else(|| format!("`{}` does not fit its address", target.value))?;
            return Ok((spot, 1));
        }
        let asked = parse_asked(target).map_err(|finding| finding.what)?;
        let dialect = self.station.dialect.ok_or("the device has no protocol")?;
        let reading = AddressContext::of_device(&self.station.setup)
            .with_form(asked.form.map(|form| form.value))
            .with_spaces(&self.station.spaces);
        let address = dialect.notation().parse(&asked.address.value, &reading).map_err(|fault| {
            format!("`{}` has no point `{}`, and {}", self.name, asked.address.value, fault.what)
        })?;
        let form = self.form_at(&address, asked.form.map(|form| form.value));
        if self.station.spaces.id(&address.space.key).is_none() {
            let tables: BTreeSet<&str> =
                self.station.spaces.iter().map(|space| dialect.notation().table(space)).collect();
            let tables = tables.into_iter().collect::<Vec<_>>().join(", ");
            return Err(format!(
                "`{}` has no {}: its tables are {tables}",
                self.name,
                dialect.notation().table(&address.space)
            ));
        }
        let spot = self
            .spot(&address, form)
            .ok_or_else(|| format!("`{form}` does not fit {}", address.space.a()))?;
        Ok((spot, asked.count))
    }

    /// Lets grains exist, those around that no request can leave out, and the other parts of the same elements.
    pub(super) fn exist(&mut self, extent: Extent) {
        let (Some(dialect), Some(own)) = (self.station.dialect, self.station.space_at(extent.space).cloned())
        else {
            return self.exist_alone(extent);
        };
        let each = dialect.notation().grains_of(&own, 1).max(1);
        let elements = extent.first / each..extent.end().div_ceil(each);
        for (space_id, space) in Arc::clone(&self.station.spaces).with_ids() {
            if dialect.notation().table(space) == dialect.notation().table(&own) && space.key != own.key {
                let grains = dialect.notation().grains_of(space, 1);
                let count = (elements.end - elements.start) * grains;
                self.exist_alone(Extent { space: space_id, first: elements.start * grains, count });
            }
        }
        self.exist_alone(extent);
    }

    fn exist_alone(&mut self, extent: Extent) {
        let step = self.station.space_at(extent.space).map_or(1, |space| u32::from(space.align.max(1)));
        let first = extent.first / step * step;
        // What has a name is there from its first element on.
        let named = self.station.space_at(extent.space).is_some_and(|space| space.shown.is_some());
        let first = if named { 0 } else { first };
        let extent = Extent { first, count: extent.end().next_multiple_of(step) - first, ..extent };
        let each = self.each(extent);
        if let Some(memory) = self.body().memory.get_mut(extent.space.index()) {
            for grain in extent.first..extent.end() {
                memory.entry(grain).or_insert_with(|| Cell::zero(each));
            }
        }
    }

    /// An engineering value in the cells of a spot; the nearest one that fits.
    pub(super) fn encode(&self, spot: &Spot, value: f64) -> Option<Vec<u8>> {
        let grain = self.station.space_at(spot.extent.space)?.grain;
        let each = grain.cell_bytes();
        let bytes = if spot.bit.is_some() { 1 } else { spot.extent.count as usize * each };
        let mut cells = vec![0; bytes];
        match spot.form.ty {
            Type::Text(length) => {
                let text =
                    format!("S{value:.0}").into_bytes().into_iter().take(usize::from(length)).collect();
                Value::Text(text).write(spot.form.ty, &mut cells);
                spot.form.order().apply(&mut cells);
            }
            Type::Raw => {
                let word = value.round().clamp(0.0, if grain == Grain::Bit { 1.0 } else { 65_535.0 });
                Value::Whole(word as i128).write(spot.form.ty, &mut cells);
            }
            _ => {
                let plain = Form::plain(Type::F64);
                let from = Conversion { from: plain, to: spot.form, overflow: Overflow::Clamp };
                from.convert(&value.to_be_bytes(), &mut cells).ok()?;
            }
        }
        Some(cells)
    }

    /// Puts cells where they belong, whatever moves there.
    pub fn poke(&mut self, extent: Extent, cells: &[u8]) {
        self.body().poke(self.each(extent), extent, cells);
    }

    /// Cells as they are; `None` where some do not exist.
    #[must_use]
    pub fn peek(&self, extent: Extent) -> Option<Vec<u8>> {
        self.body().peek(self.each(extent), extent)
    }

    /// Sets a value as a person writes it, and stops the signal that moves it.
    ///
    /// # Errors
    /// The text is no value of that form, in words.
    pub fn set(&mut self, spot: &Spot, text: &str) -> Result<(), String> {
        if self.computes(spot.extent) && !self.still {
            return Err(self.worked_out(&self.station.show(spot.extent.space, spot.extent.first, spot.bit)));
        }
        self.body().driven.retain(|driven| !driven.overlaps(spot.extent) || driven.bit != spot.bit);
        let cells = if let Type::Text(length) = spot.form.ty {
            let each = self.station.space_at(spot.extent.space).map_or(2, |space| space.grain.cell_bytes());
            let mut cells = vec![0; spot.extent.count as usize * each];
            if !Value::Text(text.as_bytes().to_vec()).write(spot.form.ty, &mut cells) {
                return Err(format!("`{text}` is longer than {length} characters"));
            }
            spot.form.order().apply(&mut cells);
            cells
        } else {
            let hex = text
                .strip_prefix("0x")
                .and_then(|hex| u64::from_str_radix(hex, 16).ok())
                .map(|word| word as f64);
            let value =
                hex.or_else(|| text.parse().ok()).ok_or_else(|| format!("`{text}` is not a number"))?;
            self.encode(spot, value).ok_or_else(|| format!("`{text}` does not fit `{}`", spot.form))?
        };
        self.body().store(self.each(spot.extent), spot, &cells);
        Ok(())
    }

    /// A value as a person reads it, with its raw words in hex.
    #[must_use]
    pub fn get(&mut self, spot: &Spot, now: Moment) -> Option<(String, String)> {
        self.advance(now, Some(spot.extent));
        let cells = self.peek(spot.extent)?;
        let raw = hex_words(&cells);
        let own = match spot.bit {
            Some(bit) => vec![u8::from(bit_of(&cells, bit))],
            None => cells,
        };
        Some((Conversion::shown(&spot.form, &own)?, raw))
    }

    /// Answers a read of its own protocol's server.
    ///
    /// # Errors
    /// Some of the addresses do not exist.
    pub fn read(&mut self, now: Moment, extent: Extent) -> Result<Vec<u8>, Refusal> {
        self.takes(Verb::Read, extent)?;
        self.advance(now, Some(extent));
        self.peek(extent).ok_or(Refusal::new(Kind::NoSuchAddress, Blame::ClientIdentity))
    }

    /// Whether it takes so much in one request.
    fn takes(&self, verb: Verb, extent: Extent) -> Result<(), Refusal> {
        let (dialect, space) = (self.station.dialect, self.station.space_at(extent.space));
        let cost = dialect
            .zip(space)
            .map(|(dialect, space)| dialect.cost(verb, space, extent.count, &self.station.setup));
        match cost {
            Some(Err(_)) => Err(Refusal::new(Kind::TooMuch, Blame::ClientIdentity)),
            _ => Ok(()),
        }
    }

    /// Writes that it took since it was made.
    #[must_use]
    pub fn written(&self) -> u64 {
        self.body().written
    }

    /// Answers a write of its own protocol's server; what is written stays.
    ///
    /// # Errors
    /// Some of the addresses do not exist or cannot be written.
    pub fn write(&mut self, extent: Extent, cells: &[u8]) -> Result<(), Refusal> {
        self.takes(Verb::Write, extent)?;
        self.may_be_set(extent, cells)?;
        let space = self.station.space_at(extent.space);
        let is_named = space.is_some_and(|space| space.shown.is_some());
        let is_writable = space.is_some_and(|space| space.writable);
        if self.ailment().read_only || is_named && !is_writable {
            return Err(Refusal::new(Kind::ReadOnly, Blame::ClientIdentity));
        }
        if self.peek(extent).is_none() || !is_writable {
            return Err(Refusal::new(Kind::NoSuchAddress, Blame::ClientIdentity));
        }
        self.take_write(extent, cells)
    }
}
