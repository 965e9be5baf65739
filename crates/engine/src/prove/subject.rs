//! One rule as the proof sees it: both ends read from the file again, apart from the plan.

use super::oracle::{Lay, Lies, expected, is_approximate, nearly};
use super::patterns::patterns;
use woodrush_core::At;
use woodrush_core::check::Checked;
use woodrush_core::form::Overflow;
use woodrush_core::plan::Station;
use woodrush_core::project::{Map, OnLoss, Target, Told};
use woodrush_core::protocol::{Address, Extent, Grain, SpaceId};

/// What feeds a rule.
pub(super) enum Feed {
    /// Cells of a device.
    Cells(End),
    /// Its health.
    Health(Told),
}

/// One end of a rule.
pub(super) struct End {
    pub(super) space: SpaceId,
    pub(super) first: u32,
    /// Grains of one value.
    pub(super) width: u32,
    /// Bytes of one grain in cells.
    pub(super) each: usize,
    pub(super) bit: Option<u8>,
    pub(super) lay: Lay,
}

impl End {
    /// The grains of one value.
    pub(super) fn item(&self, index: u32) -> Extent {
        Extent { space: self.space, first: self.first + index * self.width, count: self.width }
    }

    /// Bytes of one value in cells.
    pub(super) fn bytes(&self) -> usize {
        self.width as usize * self.each
    }
}

/// One rule under test.
pub(super) struct Subject {
    pub(super) map: usize,
    pub(super) device: usize,
    pub(super) image: usize,
    pub(super) feed: Feed,
    pub(super) target: End,
    pub(super) count: u32,
    pub(super) writable: bool,
    pub(super) clamp: bool,
    pub(super) on_loss: OnLoss,
    /// Cells for the source, in the source's own order.
    pub(super) patterns: Vec<Vec<u8>>,
    /// Cells that a client writes, in the target's own order.
    pub(super) writes: Vec<Vec<u8>>,
}

/// Splits `X as FORM`.
fn split(text: &str) -> (&str, Option<&str>) {
    text.split_once(" as ").map_or((text.trim(), None), |(plain, form)| (plain.trim(), Some(form)))
}

fn address(station: &Station, text: &str) -> Option<(Address, SpaceId)> {
    let address = station.dialect?.parse(text, &station.setup).ok()?;
    let at = station.spaces.iter().position(|space| space.key == address.space.key)?;
    Some((address, SpaceId(u16::try_from(at).ok()?)))
}

fn end(address: &Address, space: SpaceId, lay: Lay) -> End {
    let each = address.space.grain.cell_bytes();
    let single = address.bit.is_some() || address.space.grain == Grain::Bit || lay.bytes() == 0;
    let width = if single { 1 } else { u32::try_from(lay.bytes().div_ceil(each)).unwrap_or(1) };
    End { space, first: address.first, width, each, bit: address.bit, lay }
}

impl Subject {
    /// Reads the rule at `map`; `None` where it is not one that a proof can be made of.
    pub(super) fn of(checked: &Checked, map: usize) -> Option<Self> {
        let project = &checked.project;
        let rule = project.maps.get(map).filter(|rule| rule.enabled)?;
        let (from, from_form) = split(&rule.from.value);
        let (to, to_form) = split(&rule.to.value);
        let (image_name, target) = to.split_once(':')?;
        let image = project.image(image_name)?;
        let (target, target_space) = address(checked.plan.images.get(image)?, target)?;
        let (device_name, rest) = from.split_at(from.find([':', '.'])?);
        let device = project.device(device_name)?;
        if let Some(item) = rest.strip_prefix(".health.") {
            let Target::Told(health) = project.endpoint(&rule.from).ok()?.target else { return None };
            let _ = item;
            let bits = match health.ty().bytes() {
                None => Lies::Bit,
                Some(bytes) => Lies::Whole { bytes: bytes as usize, signed: false },
            };
            let lay = to_form.map_or(Some(Lay::plain(bits)), Lay::read)?;
            let ends = (Feed::Health(health), end(&target, target_space, lay));
            return Some(Self::new(checked, rule, map, (device, image), ends));
        }
        let point = rest
            .strip_prefix('.')
            .and_then(|name| project.profile_of(device)?.points.iter().find(|p| p.name.value == name));
        let (source, source_form) = match point {
            Some(point) => (point.at.value.as_str(), point.form.map(|form| project.sources.text(form.span))),
            None => (rest.strip_prefix(':')?, from_form),
        };
        let (source, source_space) = address(checked.plan.devices.get(device)?, source)?;
        let is_bit = |address: &Address| address.bit.is_some() || address.space.grain == Grain::Bit;
        let default = Lay::plain(if is_bit(&source) { Lies::Bit } else { Lies::Raw });
        // What one end leaves open, the other says, but for the order.
        let (from_lay, to_lay) = match (source_form, to_form) {
            (Some(from), Some(to)) => (Lay::read(from)?, Lay::read(to)?),
            (Some(from), None) => (Lay::read(from)?, Lay::read(from)?.unordered()),
            (None, Some(to)) => (Lay::read(to)?.unordered(), Lay::read(to)?),
            (None, None) => (default.clone(), default),
        };
        let ends = (Feed::Cells(end(&source, source_space, from_lay)), end(&target, target_space, to_lay));
        let mut subject = Self::new(checked, rule, map, (device, image), ends);
        subject.make_patterns(point);
        Some(subject)
    }

    fn new(
        checked: &Checked,
        rule: &Map,
        map: usize,
        (device, image): (usize, usize),
        (feed, target): (Feed, End),
    ) -> Self {
        let shown = checked.project.images.get(image).map(|image| image.on_loss).unwrap_or_default();
        Self {
            map,
            device,
            image,
            feed,
            target,
            count: rule.count.as_ref().map_or(1, |count: &At<u32>| count.value),
            writable: rule.read_write.is_some(),
            clamp: rule.overflow == Overflow::Clamp,
            on_loss: rule.on_loss.map_or(shown, |on_loss| on_loss.value),
            patterns: vec![],
            writes: vec![],
        }
    }

    fn make_patterns(&mut self, point: Option<&woodrush_core::project::Point>) {
        let Feed::Cells(source) = &self.feed else { return };
        let bytes = |end: &End| if end.bit.is_some() { 1 } else { end.bytes() };
        let number = Lay::plain(Lies::Float { bytes: 8 });
        let range = point.and_then(|point| point.range).map(|range| range.value);
        let ends = |end: &End| {
            let ends = range.into_iter().flat_map(|(low, high)| [low, high]);
            // In ABCD order like the other patterns.
            let made = ends.filter_map(|value| {
                expected(&number, &end.lay.unordered(), true, &value.to_be_bytes(), bytes(end))
            });
            made.collect::<Vec<_>>()
        };
        let ordered = |end: &End| {
            let plain = patterns(&end.lay, bytes(end), &ends(end));
            let same = end.lay.unordered();
            plain
                .into_iter()
                .filter_map(|cells| expected(&same, &end.lay, false, &cells, bytes(end)).or(Some(cells)))
                .collect()
        };
        self.patterns = ordered(source);
        if self.writable {
            self.writes = ordered(&self.target);
        }
    }

    /// What a reader must see of one value whose source holds these cells; `None` where it must be refused.
    pub(super) fn shown(&self, cells: &[u8]) -> Option<Vec<u8>> {
        let Feed::Cells(source) = &self.feed else { return None };
        let own = match source.bit {
            Some(bit) => {
                let word = cells.iter().fold(0u64, |sum, byte| sum << 8 | u64::from(*byte));
                vec![u8::from(word >> bit & 1 == 1)]
            }
            None => cells.to_vec(),
        };
        expected(&source.lay, &self.target.lay, self.clamp, &own, self.target.bytes())
    }

    /// What the device must hold after a client wrote these cells; `None` where the write must be refused.
    pub(super) fn taken(&self, cells: &[u8]) -> Option<Vec<u8>> {
        let Feed::Cells(source) = &self.feed else { return None };
        expected(&self.target.lay, &source.lay, false, cells, source.bytes())
    }

    /// Whether what is seen at the reader is what was wanted.
    pub(super) fn agrees(&self, seen: &[u8], wanted: &[u8]) -> bool {
        let Feed::Cells(source) = &self.feed else { return seen == wanted };
        seen == wanted
            || is_approximate(&source.lay, &self.target.lay) && nearly(&self.target.lay, seen, wanted)
    }

    /// Whether what the device holds is what was wanted.
    pub(super) fn arrived(&self, seen: &[u8], wanted: &[u8]) -> bool {
        let Feed::Cells(source) = &self.feed else { return false };
        seen == wanted || is_approximate(&self.target.lay, &source.lay) && nearly(&source.lay, seen, wanted)
    }
}
