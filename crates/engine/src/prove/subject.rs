//! One rule as the proof sees it: both ends read from the file again, apart from the plan.

use super::oracle::{Layout, Repr, expected, is_approximate, nearly};
use super::patterns::{patterns, spread};
use crate::speak::answers;
use woodrush_core::check::Checked;
use woodrush_core::form::{Form, Order, Overflow, Type};
use woodrush_core::plan::Station;
use woodrush_core::project::{HealthItem, Map, OnLoss, Owner, Point, Target};
use woodrush_core::protocol::{Address, AddressContext, Dialect, Extent, Grain, ImpliedType, Space, SpaceId};
use woodrush_core::{Kind, Refusal, Spanned};

/// What feeds a rule.
pub(super) enum Feed {
    /// Cells of a device.
    Cells(End),
    /// Cells of an image that a client writes.
    Written(usize, End),
    /// What the converter tells.
    Health(HealthItem),
}

/// One end of a rule.
pub(super) struct End {
    pub(super) space: SpaceId,
    pub(super) first: u32,
    /// Grains of one value.
    pub(super) width: u32,
    /// Bytes of one grain in cells.
    pub(super) each: usize,
    /// Its grains are bits.
    pub(super) bits: bool,
    pub(super) bit: Option<u8>,
    pub(super) lay: Layout,
    /// The space, and who knows it.
    pub(super) table: Space,
    pub(super) dialect: Option<&'static dyn Dialect>,
}

impl End {
    /// The cell that says whether its value is one, where there is one.
    pub(super) fn judge(&self) -> Option<Extent> {
        let first = self.dialect?.notation().meanings().judge_of(&self.table, self.first)?;
        Some(Extent { space: self.space, first, count: 1 })
    }

    /// What such a cell says, round by round.
    pub(super) fn judge_patterns(&self) -> &'static [u8] {
        self.dialect.map_or(&[], |dialect| dialect.notation().meanings().judge_patterns())
    }

    /// Whether it is such a cell itself.
    fn judges(&self) -> bool {
        let len = self.table.len.unwrap_or(0);
        let judged =
            |first| self.dialect.and_then(|own| own.notation().meanings().judge_of(&self.table, first));
        (0..len).any(|first| judged(first) == Some(self.first))
    }

    /// Whether it takes not every value that fits.
    fn is_particular(&self) -> bool {
        !self.takes(&vec![0; self.bytes()]) || !self.takes(&vec![0xFF; self.bytes()])
    }

    /// Whether such cells may be written there.
    fn takes(&self, cells: &[u8]) -> bool {
        self.taking(cells) != Some(false)
    }

    /// The same; `None` where only the device knows.
    fn taking(&self, cells: &[u8]) -> Option<bool> {
        let Some(dialect) = self.dialect else { return Some(true) };
        dialect.notation().meanings().takes(&self.table, self.first, cells)
    }

    /// The grains of one value.
    pub(super) fn item(&self, index: u32) -> Extent {
        Extent { space: self.space, first: self.first + index * self.width, count: self.width }
    }

    /// Bytes of one value in cells.
    pub(super) fn bytes(&self) -> usize {
        self.width as usize * self.each
    }

    /// Bytes of its own part of cells.
    pub(super) fn own_bytes(&self) -> usize {
        if self.bit.is_some() { 1 } else { self.bytes() }
    }

    /// Its own part of cells: one bit of a register, or all.
    pub(super) fn own(&self, cells: &[u8]) -> Vec<u8> {
        match self.bit {
            Some(bit) if cells.len() == self.each => {
                let word = cells.iter().fold(0u64, |sum, byte| sum << 8 | u64::from(*byte));
                vec![u8::from(word >> bit & 1 == 1)]
            }
            _ => cells.to_vec(),
        }
    }
}

/// One rule under test.
pub(super) struct Subject {
    pub(super) map: usize,
    /// The device that it depends on.
    pub(super) device: Option<usize>,
    /// Whose cells it fills.
    pub(super) to: Owner,
    pub(super) feed: Feed,
    pub(super) target: End,
    pub(super) count: u32,
    pub(super) writable: bool,
    pub(super) after_device: bool,
    pub(super) clamp: bool,
    pub(super) on_loss: OnLoss,
    /// It is sent again and again; else only when it changes or is written.
    pub(super) again: bool,
    /// Raw words that mean "no value".
    invalid: Vec<u64>,
    /// Cells for the source, in the source's own order.
    pub(super) patterns: Vec<Vec<u8>>,
    /// The same that turn a slot bad, and its other values with them.
    pub(super) unfit: Vec<Vec<u8>>,
    /// Cells that a client writes, in the target's own order.
    pub(super) writes: Vec<Vec<u8>>,
}

/// Splits `X as FORM`.
fn split(text: &str) -> (&str, Option<&str>) {
    text.split_once(" as ").map_or((text.trim(), None), |(plain, form)| (plain.trim(), Some(form)))
}

fn address(station: &Station, text: &str, context: &AddressContext<'_>) -> Option<(Address, SpaceId)> {
    let address = station.dialect?.notation().parse(text, context).ok()?;
    let space = station.spaces.id(&address.space.key)?;
    Some((address, space))
}

fn end(own: &WrittenEnd<'_>, lay: Layout) -> End {
    let (address, space) = (&own.address, own.space);
    let each = address.space.grain.cell_bytes();
    let single = address.bit.is_some() || address.space.grain == Grain::Bit || lay.bytes() == 0;
    let width = if single { 1 } else { u32::try_from(lay.bytes().div_ceil(each)).unwrap_or(1) };
    let bits = address.space.grain == Grain::Bit;
    let (table, dialect) = (address.space.clone(), own.dialect);
    End { space, first: address.first, width, each, bits, bit: address.bit, lay, table, dialect }
}

/// One end as it is written: whose, what, in which form.
struct WrittenEnd<'p> {
    owner: Owner,
    address: Address,
    space: SpaceId,
    form: Option<String>,
    point: Option<&'p Point>,
    /// The order that its protocol has by itself.
    order: Option<Order>,
    dialect: Option<&'static dyn Dialect>,
}

impl WrittenEnd<'_> {
    fn is_bit(&self) -> bool {
        self.address.bit.is_some() || self.address.space.grain == Grain::Bit
    }

    /// What is written there.
    fn own(&self) -> Option<Layout> {
        Some(self.ordered(Layout::read(self.form.as_deref()?)?))
    }

    /// In the protocol's own order, unless one was written.
    fn ordered(&self, lay: Layout) -> Layout {
        let letters = self.order.map(|order| order.letters(u32::try_from(lay.bytes()).unwrap_or(0)));
        match (lay.kind, letters) {
            (Repr::Whole { .. } | Repr::Float { .. } | Repr::Digits { .. }, Some(letters))
                if lay.bytes() > self.address.space.grain.cell_bytes().max(self.same_in_all_orders()) =>
            {
                lay.or_order(letters)
            }
            _ => lay,
        }
    }

    /// So many bytes lie the same way in whatever order the protocol has: two, but where the less significant one comes first.
    fn same_in_all_orders(&self) -> usize {
        if self.order.is_some_and(|order| order.low_byte_first) { 1 } else { 2 }
    }

    /// A byte where addresses are words is the same number in a word.
    fn in_words(&self, lay: Layout) -> Layout {
        match (lay.kind, self.address.space.grain) {
            (Repr::Whole { bytes: 1, signed }, Grain::Bytes(2..)) => {
                lay.of_kind(Repr::Whole { bytes: 2, signed })
            }
            _ => lay,
        }
    }

    /// What its address says by itself, where nothing is written: a type; or how wide, and the other end says the type
    /// if it is as wide. A scale that is written at the other end holds here too.
    fn brought(&self, other: &Self) -> Option<Layout> {
        let plain = |ty: Type| Layout::read(&ty.to_string());
        let written = other.form.as_deref().and_then(Layout::read);
        let lay = match (self.address.brings, other.address.brings) {
            (ImpliedType::Nothing, _) => return None,
            (ImpliedType::Type(ty), _) => plain(ty)?,
            (ImpliedType::Width(wide), theirs) => {
                let wide = plain(wide)?;
                let theirs = match theirs {
                    ImpliedType::Type(ty) => plain(ty),
                    _ => None,
                };
                let other = written.clone().or(theirs).filter(|lay| lay.bytes() == wide.bytes());
                other.map_or(wide, |lay| lay.unordered())
            }
        };
        Some(self.ordered(written.map_or(lay.clone(), |written| lay.scaled_as(&written))))
    }
}

fn read_end<'p>(checked: &'p Checked, text: &str) -> Option<WrittenEnd<'p>> {
    let project = &checked.project;
    let (plain, form) = split(text);
    let (name, rest) = plain.split_at(plain.find([':', '.'])?);
    let owner = match (project.image(name), project.device(name)) {
        (Some(image), _) => Owner::Image(image),
        (None, Some(device)) => Owner::Device(device),
        (None, None) => return None,
    };
    let station = checked.plan.board(checked.plan.board_of(owner)?)?;
    let order = |address: &Address| station.dialect?.notation().order(&address.space);
    if let (Owner::Device(device), Some(name)) = (owner, rest.strip_prefix('.')) {
        let point = project.profile_of(device)?.points.iter().find(|point| point.name.value == name)?;
        // Where a point lies is a matter of the file: its own address, its place in a row, the device's shift.
        let address = project.point_address(device, point).ok()?;
        let space = station.spaces.id(&address.space.key)?;
        let form = point.form.map(|form| project.sources.text(form.span).to_string());
        let (order, dialect) = (order(&address), station.dialect);
        return Some(WrittenEnd { owner, order, address, space, form, point: Some(point), dialect });
    }
    let context = match owner {
        Owner::Image(_) => AddressContext::of_image(&station.setup),
        _ => AddressContext::of_device(&station.setup),
    };
    let context = context.with_form(form.and_then(|form| Form::parse(form).ok()));
    let (address, space) = address(station, rest.strip_prefix(':')?, &context)?;
    let order = order(&address);
    let (form, dialect) = (form.map(str::to_string), station.dialect);
    Some(WrittenEnd { owner, address, space, form, point: None, order, dialect })
}

/// Bits of one register.
const REGISTER_BITS: u32 = 16;

impl Subject {
    /// Reads the rule at `map`; `None` where it is not one that a proof can be made of.
    pub(super) fn of(checked: &Checked, map: usize) -> Option<Self> {
        let project = &checked.project;
        let rule = project.maps.get(map).filter(|rule| rule.enabled)?;
        let target = read_end(checked, &rule.to.value)?;
        if rule.from.value.contains("health.")
            && let Ok(woodrush_core::project::Endpoint { target: Target::Health(told), .. }) =
                project.endpoint(&rule.from)
        {
            let bits = match told.ty().bytes() {
                None => Repr::Bit,
                Some(bytes) => Repr::Whole { bytes: bytes as usize, signed: false },
            };
            let lay = target.form.as_deref().map_or(Some(Layout::plain(bits)), Layout::read)?;
            let own = end(&target, lay);
            return Some(Self::new(
                checked,
                rule,
                map,
                told.device(),
                target.owner,
                (Feed::Health(told), own),
                1,
            ));
        }
        let source = read_end(checked, &rule.from.value)?;
        // A read-write rule from an image to a device is polled there.
        let turned = rule.read_write.is_some()
            && matches!((source.owner, target.owner), (Owner::Image(_), Owner::Device(_)));
        let (source, target) = if turned { (target, source) } else { (source, target) };
        let count = rule.count.as_ref().map_or(1, |count: &Spanned<u32>| count.value);
        let bit = source.is_bit() && (target.is_bit() || count == 1);
        let default = Layout::plain(if bit { Repr::Bit } else { Repr::Raw });
        // What one end leaves open, the other says, but for the order.
        let by_address = source.form.is_some() || target.form.is_some() || source.is_bit() == target.is_bit();
        let said = |end: &WrittenEnd<'_>, other: &WrittenEnd<'_>| {
            end.own().or_else(|| end.brought(other).filter(|_| by_address))
        };
        let (from_lay, to_lay) = match (said(&source, &target), said(&target, &source)) {
            (Some(from), Some(to)) => (from, to),
            (Some(from), None) => (from.clone(), target.ordered(target.in_words(from.unordered()))),
            (None, Some(to)) => (source.ordered(source.in_words(to.unordered())), to),
            (None, None) => (default.clone(), default),
        };
        let raw = from_lay.kind == Repr::Raw;
        let mut from = end(&source, from_lay);
        let mut to = end(&target, to_lay);
        let mut values = count;
        match (raw, source.is_bit(), target.is_bit()) {
            (true, false, true) => to.width = REGISTER_BITS,
            (true, true, false) => {
                from.width = REGISTER_BITS;
                values /= REGISTER_BITS;
            }
            _ => {}
        }
        let (feed, device) = match source.owner {
            Owner::Device(device) => (Feed::Cells(from), Some(device)),
            Owner::Image(image) => (Feed::Written(image, from), None),
            Owner::Converter => return None,
        };
        let mut subject = Self::new(checked, rule, map, device, target.owner, (feed, to), values);
        subject.invalid = source.point.map(|point| point.invalid.clone()).unwrap_or_default();
        subject.make_patterns(source.point.or(target.point), map);
        Some(subject)
    }

    fn new(
        checked: &Checked,
        rule: &Map,
        map: usize,
        device: Option<usize>,
        to: Owner,
        (feed, target): (Feed, End),
        count: u32,
    ) -> Self {
        let shown = match to {
            Owner::Image(image) => {
                checked.project.images.get(image).map(|image| image.on_loss).unwrap_or_default()
            }
            _ => OnLoss::Stop,
        };
        Self {
            map,
            device,
            to,
            feed,
            target,
            count,
            writable: rule.read_write.is_some(),
            after_device: rule.after_device,
            clamp: rule.overflow == Overflow::Clamp,
            on_loss: rule.on_loss.map_or(shown, |on_loss| on_loss.value),
            again: rule.send.as_ref().is_some_and(|send| send.value.every.is_some()),
            invalid: vec![],
            patterns: vec![],
            unfit: vec![],
            writes: vec![],
        }
    }

    /// The image that shows it.
    pub(super) fn image(&self) -> Option<usize> {
        if let Owner::Image(image) = self.to { Some(image) } else { None }
    }

    /// The cells at the source.
    pub(super) fn source(&self) -> Option<&End> {
        match &self.feed {
            Feed::Cells(end) | Feed::Written(_, end) => Some(end),
            Feed::Health(_) => None,
        }
    }

    /// `own`, the number of its rule, tells it from others of its kind: at one time no two neighbours have the same
    /// pattern, so that a value that comes from another device is seen.
    fn make_patterns(&mut self, point: Option<&Point>, own: usize) {
        let Some(source) = self.source() else { return };
        let bytes = |end: &End| if end.bit.is_some() { 1 } else { end.bytes() };
        let number = Layout::plain(Repr::Float { bytes: 8 });
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
            if end.width == REGISTER_BITS && end.bits {
                // Sixteen bits that stand for a register: each pattern of one, bit by bit.
                let registers = patterns(&Layout::plain(Repr::Raw), 2, &[]);
                return registers.iter().map(|register| spread(register)).collect();
            }
            let plain = patterns(&end.lay, bytes(end), &ends(end));
            let same = end.lay.unordered();
            plain
                .into_iter()
                .filter_map(|cells| expected(&same, &end.lay, false, &cells, bytes(end)).or(Some(cells)))
                .collect()
        };
        let mut patterns: Vec<Vec<u8>> = ordered(source);
        // What says of others whether they are values has patterns of its own, and those that it judges as many.
        if source.judges() {
            patterns = source.judge_patterns().iter().map(|judge| vec![*judge]).collect();
        } else if source.judge().is_some() {
            patterns = patterns.iter().cycle().take(source.judge_patterns().len()).cloned().collect();
        }
        // The order of what judges is that in which its values look for it.
        let is_read = matches!(self.feed, Feed::Cells(_)) && !source.judges();
        if is_read && !patterns.is_empty() {
            let shift = own % patterns.len();
            patterns.rotate_left(shift);
        }
        self.patterns = patterns;
        if self.writable {
            self.writes = ordered(&self.target);
        }
    }

    /// What a reader must see of one value whose source holds these cells; `None` where it must be refused.
    pub(super) fn shown(&self, cells: &[u8]) -> Option<Vec<u8>> {
        let source = self.source()?;
        if let Some(bit) = source.bit {
            let word = cells.iter().take(8).fold(0u64, |sum, byte| sum << 8 | u64::from(*byte));
            return self.carried(&[u8::from(word >> bit & 1 == 1)]);
        }
        self.carried(cells)
    }

    /// The same of a pattern: of a bit of a register it is the bit alone, which is as wide as a whole byte of a block.
    pub(super) fn carried(&self, cells: &[u8]) -> Option<Vec<u8>> {
        let source = self.source()?;
        if source.bit.is_some() {
            return expected(&source.lay, &self.target.lay, self.clamp, cells, self.room());
        }
        if !self.invalid.is_empty() && cells.len() <= 8 && self.invalid.contains(&source.lay.raw(cells)) {
            return None;
        }
        if source.lay.kind == Repr::Raw && cells.len() != self.room() {
            return Some(spread(cells));
        }
        let shown = expected(&source.lay, &self.target.lay, self.clamp, cells, self.room());
        shown.filter(|cells| self.target.takes(cells))
    }

    /// Bytes of one value at the target; one for a bit of a register.
    fn room(&self) -> usize {
        if self.target.bit.is_some() { 1 } else { self.target.bytes() }
    }

    /// What the device must hold after a client wrote these cells; `None` where the write must be refused.
    pub(super) fn taken(&self, cells: &[u8]) -> Option<Vec<u8>> {
        let source = self.source()?;
        let bytes = if source.bit.is_some() { 1 } else { source.bytes() };
        if source.lay.kind == Repr::Raw && cells.len() != bytes {
            return Some(spread(cells));
        }
        let taken = expected(&self.target.lay, &source.lay, false, cells, bytes);
        taken.filter(|cells| source.takes(cells))
    }

    /// Whether only the device knows if it takes what these cells come to.
    pub(super) fn is_open(&self, cells: &[u8]) -> bool {
        let at = |end: &End, came: Option<Vec<u8>>| came.is_some_and(|cells| end.taking(&cells).is_none());
        let there = self.source().is_some_and(|source| at(source, self.taken(cells)));
        there || at(&self.target, self.carried(cells))
    }

    /// Whether a refusal is that of cells that do not fit where they go; where the device itself takes no such value,
    /// it says so in its own words.
    pub(super) fn is_unfit(&self, refusal: &Refusal) -> bool {
        let particular = [Some(&self.target), self.source()].into_iter().flatten().any(End::is_particular);
        answers(refusal, Kind::DoesNotFit) || particular && answers(refusal, Kind::WrongMode)
    }

    /// Whether what is seen at the target is what was wanted.
    pub(super) fn agrees(&self, seen: &[u8], wanted: &[u8]) -> bool {
        let own = self.target.own(seen);
        let Some(source) = self.source() else { return own == wanted };
        own == wanted
            || is_approximate(&source.lay, &self.target.lay) && nearly(&self.target.lay, &own, wanted)
    }

    /// Whether what the source's device holds is what was wanted.
    pub(super) fn arrived(&self, seen: &[u8], wanted: &[u8]) -> bool {
        let Some(source) = self.source() else { return false };
        let own = source.own(seen);
        own == wanted || is_approximate(&self.target.lay, &source.lay) && nearly(&source.lay, &own, wanted)
    }
}
