//! What addresses are called in the project, for those who see them pass by: points, rules, and the devices behind an
//! image's cells.

use crate::cells::cells_of;
use crate::checked::Checked;
use crate::form::{Conversion, Form, Type};
use crate::plan::{PlannedRule, Source, Station};
use crate::project::Owner;
use crate::protocol::{Flow, Place, Space, StationId};
use std::collections::HashMap;

/// One value that has a name.
#[derive(Debug, Clone, PartialEq)]
pub struct Name {
    /// As the project calls it: `do-1.oxygen`, or `feeder-west:N11:40` where no point is described.
    pub text: String,
    /// Zero-based address of its first grain.
    pub first: u32,
    /// Grains.
    pub width: u32,
    /// One bit of the grain.
    pub bit: Option<u8>,
    /// In which form it lies there.
    pub form: Form,
    /// Engineering unit.
    pub eu: Option<String>,
}

impl Name {
    /// The value out of its cells; `None` where the bits mean none.
    #[must_use]
    pub fn shown(&self, cells: &[u8]) -> Option<String> {
        value_of(&self.form, self.bit, cells)
    }
}

/// A value out of its cells, or out of one bit of them; `None` where the bits mean none.
#[must_use]
pub fn value_of(form: &Form, bit: Option<u8>, cells: &[u8]) -> Option<String> {
    Conversion::shown(form, &cells_of(bit, cells))
}

/// Every value of the project that has a name, by station and table.
#[derive(Debug, Default)]
pub struct Names {
    /// Sorted by address.
    known: HashMap<(Owner, String), Vec<Name>>,
    /// Who answers to which number on which port, where we ask.
    devices: HashMap<(usize, Option<StationId>), usize>,
    /// Who answers to which number on which port of ours.
    images: HashMap<(usize, Option<StationId>), usize>,
}

impl Names {
    /// Of a project.
    #[must_use]
    pub fn of(checked: &Checked) -> Self {
        let plan = &checked.plan;
        let mut names = Self::default();
        for (at, device) in plan.devices.iter().enumerate() {
            // The nodes of a box answer as one, and what passes there may be any node's.
            names.devices.insert((device.port, device.id()), plan.host(at));
            if let Some(port) = plan.write_port(at) {
                names.devices.insert((port, device.id()), plan.host(at));
            }
            names.points(checked, at, device);
        }
        for (at, image) in plan.images.iter().enumerate() {
            names.images.insert((image.port, image.id()), at);
        }
        for rule in &plan.rules {
            names.rule(checked, rule);
        }
        for known in names.known.values_mut() {
            known.sort_by_key(|name| (name.first, name.bit));
            // A point is called by its own name, whatever rules say of it too.
            known.dedup_by_key(|name| (name.first, name.bit));
        }
        names
    }

    /// Whom a station of a port stands for: a device where we ask there, an image where others do.
    #[must_use]
    pub fn owner(&self, port: usize, station: Option<&StationId>) -> Option<Owner> {
        let alone = |known: &HashMap<(usize, Option<StationId>), usize>| {
            // One who answers to every number, or a number that the protocol does not carry.
            let own = known.get(&(port, station.cloned())).or_else(|| known.get(&(port, None)));
            let only = || {
                let mut here = known.iter().filter(|((at, _), _)| *at == port).map(|(_, own)| own);
                here.next().filter(|_| here.next().is_none())
            };
            own.or_else(|| station.is_none().then(only).flatten()).copied()
        };
        alone(&self.devices).map(Owner::Device).or_else(|| alone(&self.images).map(Owner::Image))
    }

    /// The names of values that lie wholly within such grains, by address.
    pub fn within(&self, owner: Owner, space: &Space, first: u32, count: u32) -> impl Iterator<Item = &Name> {
        let known = self.known.get(&(owner, space.key.to_string())).map_or(&[][..], Vec::as_slice);
        let begin = known.partition_point(|name| name.first < first);
        let end = first.saturating_add(count);
        let rest = known.get(begin..).unwrap_or_default().iter();
        rest.take_while(move |name| name.first < end).filter(move |name| name.first + name.width <= end)
    }

    fn add(&mut self, owner: Owner, space: &Space, name: Name) {
        self.known.entry((owner, space.key.to_string())).or_default().push(name);
    }

    fn points(&mut self, checked: &Checked, at: usize, device: &Station) {
        let profile = checked.project.profile_of(at);
        for point in profile.map_or(&[][..], |profile| profile.points.as_slice()) {
            let Ok(address) = checked.project.point_address(at, point) else { continue };
            let form = crate::wanted::form_at(device.dialect, &address, point.form.map(|form| form.value));
            let Ok(width) = form.ty.width(address.space.grain) else { continue };
            let name = Name {
                text: format!("{}.{}", device.name, point.name.value),
                first: address.first,
                width,
                bit: address.bit,
                form,
                eu: point.eu.clone(),
            };
            self.add(Owner::Device(checked.plan.host(at)), &address.space, name);
        }
    }

    fn rule(&mut self, checked: &Checked, rule: &PlannedRule) {
        let plan = &checked.plan;
        if let Source::Values { owner: Owner::Device(device), place, point: None } = rule.source {
            let owner = Owner::Device(plan.host(device));
            self.items(plan.devices.get(device), owner, place, rule.conversion.from);
        }
        // What a controller sends in its block.
        if let Source::Values { owner: Owner::Image(image), place, .. } = rule.source
            && plan.flow(Owner::Image(image), place.space) == Flow::Comes
        {
            self.items(plan.images.get(image), Owner::Image(image), place, rule.conversion.from);
        }
        if let Some(device) = plan.sink(rule) {
            if rule.target_point.is_none() {
                let owner = Owner::Device(plan.host(device));
                self.items(plan.devices.get(device), owner, rule.target, rule.conversion.to);
            }
            return;
        }
        let Some(image) = plan.images.get(rule.board) else { return };
        let Some(space) = image.space_at(rule.target.space) else { return };
        let owner = Owner::Image(rule.board);
        let spread = rule.spreads();
        let (width, form) =
            if spread { (1, Form::plain(Type::Bool)) } else { (rule.target.width, rule.conversion.to) };
        let items = if spread { rule.target.extent().count } else { rule.target.count };
        for item in 0..items {
            let (text, eu) = source(checked, rule, item, spread);
            let first = rule.target.first + item * width;
            let text = text.unwrap_or_else(|| image.show(rule.target.space, first, rule.target.bit));
            self.add(owner, space, Name { text, first, width, bit: rule.target.bit, form, eu });
        }
    }

    fn items(&mut self, station: Option<&Station>, owner: Owner, place: Place, form: Form) {
        let Some((station, space)) = station.and_then(|own| Some((own, own.space_at(place.space)?))) else {
            return;
        };
        for item in 0..place.count {
            let first = place.item(item).first;
            let text = called(station, place, first, place.bit);
            self.add(owner, space, Name { text, first, width: place.width, bit: place.bit, form, eu: None });
        }
    }
}

/// An address with its owner's name, without the offset: `feeder-west:N11:40`.
fn called(station: &Station, place: Place, first: u32, bit: Option<u8>) -> String {
    let shown = station.dialect.zip(station.space_at(place.space)).map(|(dialect, space)| {
        dialect.notation().show(space, first, place.width, bit, &station.setup).canonical
    });
    format!("{}:{}", station.name, shown.unwrap_or_default())
}

/// What a value of a rule is called at its source, and its engineering unit there if the image has the same scale.
fn source(
    checked: &Checked,
    rule: &PlannedRule,
    item: u32,
    spread: bool,
) -> (Option<String>, Option<String>) {
    let plan = &checked.plan;
    match rule.source {
        Source::Values { owner, place, point } => {
            let Some(station) = plan.station(owner) else { return (None, None) };
            let described = point.and_then(|at| checked.project.profile_of(owner.device()?)?.points.get(at));
            if let Some(point) = described.filter(|_| rule.target.count == 1 && !spread) {
                let (from, to) = (rule.conversion.from, rule.conversion.to);
                let same = from.scaling() == to.scaling();
                let name = format!("{}.{}", station.name, point.name.value);
                return (Some(name), point.eu.clone().filter(|_| same));
            }
            if spread {
                let bit = u8::try_from(item % 16).ok();
                return (Some(called(station, place, place.item(item / 16).first, bit)), None);
            }
            (Some(called(station, place, place.item(item).first, place.bit)), None)
        }
        Source::Health(_) => (checked.project.maps.get(rule.map).map(|map| map.from.value.clone()), None),
        Source::ClientCells { image, place, .. } => {
            let station = plan.images.get(image);
            (station.map(|station| called(station, place, place.item(item).first, place.bit)), None)
        }
        Source::Client => (None, None),
    }
}
