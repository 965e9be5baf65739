//! Areas of addresses, and the rules that take theirs out of one: `to = "scada:@values"`.

use super::asked::split_form;
use super::{Map, Project, caps};
use crate::finding::Finding;
use crate::grain::Grain;
use crate::ledger::{GivenAddress, Ledger};
use crate::nearest::nearest;
use crate::protocol::{Address, AddressContext, Space};
use crate::source::Spanned;
use std::collections::{HashMap, HashSet};

/// `[areas.NAME]`: addresses of an image that are given out one after another.
#[derive(Debug)]
pub struct Area {
    /// Its name and where that stands.
    pub name: Spanned<String>,
    /// The image.
    pub image: Spanned<usize>,
    /// From where to where, as it is written.
    pub range: Spanned<String>,
    /// The same, where it is understood.
    pub slots: Option<AreaSlots>,
}

/// The addresses of an area, one after another: registers, bits or elements.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AreaSlots {
    /// The table.
    pub space: Space,
    /// The first of them.
    pub first: u32,
    /// How many there are.
    pub count: u32,
    /// Bits of each word: slots are bits then, sixteen a word; 1 where slots are whole addresses.
    pub each: u32,
}

/// How a rule takes its address out of an area.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AreaUse {
    /// Index of the area.
    pub area: usize,
    /// What the value is called in the ledger.
    pub value: String,
    /// The ledger has an address for it.
    pub given: Option<GivenAddress>,
}

impl AreaSlots {
    /// Reads `300001-300999` or `304001.0-304010.15`.
    fn read(project: &Project, image: usize, range: &Spanned<String>) -> Result<Self, Finding> {
        let wrong = |what: String| {
            Finding::new("M02", range.span, what)
                .fix("write the first and the last address, such as 300001-300999")
        };
        let (Some(dialect), Some(own)) = (project.image_dialect(image), project.images.get(image)) else {
            return Err(Finding::quiet(range.span));
        };
        let context = AddressContext::of_image(&own.setup);
        let parse =
            |text: &str| dialect.notation().parse(text.trim(), &context).map_err(|fault| wrong(fault.what));
        let ends = range.value.split_once("..").or_else(|| range.value.split_once('-'));
        let (first, last) =
            ends.ok_or_else(|| wrong(format!("`{}` is not a range of addresses", range.value)))?;
        let (first, last) = (parse(first)?, parse(last)?);
        if first.space.key != last.space.key {
            return Err(wrong(format!("`{}` begins in one table and ends in another", range.value)));
        }
        let each = match (first.bit, last.bit, first.space.grain) {
            (None, None, _) => 1,
            (Some(low), Some(high), Grain::Bytes(bytes)) => {
                let each = u32::from(bytes) * 8;
                if low != 0 || u32::from(high) + 1 != each {
                    let what = format!("an area of bits begins with bit 0 and ends with bit {}", each - 1);
                    return Err(wrong(what));
                }
                each
            }
            _ => return Err(wrong(format!("`{}` has a bit at one end only", range.value))),
        };
        let count = last.first.checked_sub(first.first).and_then(|more| more.checked_add(1));
        let count = count.ok_or_else(|| wrong(format!("`{}` ends before it begins", range.value)))?;
        if first.space.len.is_some_and(|len| last.first >= len) {
            return Err(wrong(format!("`{}` runs past the end of its table", range.value)));
        }
        let ends = first.first.checked_mul(each).zip(count.checked_mul(each));
        let ends = ends.filter(|(_, count)| u64::from(*count) <= caps::CELLS);
        let (first, count) =
            ends.ok_or_else(|| wrong(format!("`{}` has more than {} addresses", range.value, caps::CELLS)))?;
        Ok(Self { space: last.space, first, count, each })
    }

    /// The slot of an address, if it is one of this kind of slots, in the area or not.
    #[must_use]
    pub fn slot(&self, address: &Address) -> Option<u32> {
        if address.space.key != self.space.key {
            return None;
        }
        match (self.each, address.bit) {
            (1, None) => Some(address.first),
            (1, Some(_)) => None,
            (each, bit) => address.first.checked_mul(each)?.checked_add(bit.map_or(0, u32::from)),
        }
    }

    /// Grain and bit of a slot.
    #[must_use]
    pub fn place(&self, slot: u32) -> (u32, Option<u8>) {
        match self.each {
            1 => (slot, None),
            each => (slot / each, u8::try_from(slot % each).ok()),
        }
    }

    /// One behind the last slot.
    #[must_use]
    pub fn end(&self) -> u32 {
        self.first.saturating_add(self.count)
    }
}

/// The area that a `to` names, if it names one: the image, the area, and the form behind.
fn named(to: &str) -> Option<(&str, &str)> {
    let (image, rest) = to.split_once(":@")?;
    Some((image, rest.split_whitespace().next().unwrap_or_default()))
}

/// Puts the addresses of the ledger where rules name an area; those that have none yet are left as they are.
pub(super) fn resolve(project: &mut Project, ledger: &Ledger, findings: &mut Vec<Finding>) {
    for at in 0..project.areas.len() {
        let Some(area) = project.areas.get(at) else { continue };
        match AreaSlots::read(project, area.image.value, &area.range) {
            Ok(slots) => {
                if let Some(area) = project.areas.get_mut(at) {
                    area.slots = Some(slots);
                }
            }
            Err(finding) => findings.push(finding),
        }
    }
    // What is called like another value goes by its rule's name.
    let mut seen: HashMap<(usize, String), usize> = HashMap::new();
    let mut uses: Vec<(usize, AreaUse)> = vec![];
    let mut taken: HashSet<(usize, String)> = HashSet::new();
    for (at, map) in project.maps.iter().enumerate() {
        let Some((image, area)) = named(&map.to.value) else { continue };
        match area_of(project, map, image, area) {
            Ok(area) => {
                let value = map.from.value.split_whitespace().collect::<Vec<_>>().join(" ");
                *seen.entry((area, value.clone())).or_default() += 1;
                uses.push((at, AreaUse { area, value, given: None }));
            }
            Err(finding) => findings.push(finding),
        }
    }
    for (at, own) in &mut uses {
        let Some(map) = project.maps.get(*at) else { continue };
        let is_shared = seen.get(&(own.area, own.value.clone())).is_some_and(|count| *count > 1);
        if let Some(name) = map.name.as_ref().filter(|_| is_shared) {
            own.value = name.value.clone();
        }
        if !taken.insert((own.area, own.value.clone())) {
            let what = format!("`{}` goes into the same area twice", own.value);
            findings.push(
                Finding::new("F06", map.to.span, what)
                    .fix("give the rules names (`name`): the ledger tells them apart by those"),
            );
            continue;
        }
        let Some(area) = project.areas.get(own.area) else { continue };
        let given = ledger.areas.get(&area.name.value).and_then(|values| values.get(&own.value));
        own.given = given.cloned();
    }
    for (at, own) in uses {
        let Some(map) = project.maps.get_mut(at) else { continue };
        if let Some(given) = &own.given {
            map.to.value = at_address(&map.to.value, &given.at);
        }
        map.area = Some(Box::new(own));
    }
}

/// A `to` that names an area, with an address instead: what stands behind the area stays.
pub(crate) fn at_address(to: &str, address: &str) -> String {
    let Some((image, rest)) = to.split_once(":@") else { return to.to_string() };
    let form = rest.split_once(char::is_whitespace).map_or("", |(_, form)| form.trim());
    format!("{image}:{address} {form}").trim_end().to_string()
}

fn area_of(project: &Project, map: &Map, image: &str, area: &str) -> Result<usize, Finding> {
    let at = image.len() + 1;
    let span = map.to.span.part(at, at + 1 + area.len());
    let Some(found) = project.areas.iter().position(|own| own.name.value == area) else {
        let near = nearest(area, project.areas.iter().map(|own| own.name.value.as_str()));
        let finding = Finding::new("F05", span, format!("there is no area `{area}`"));
        return Err(match near {
            Some(near) => finding.fix(format!("write `@{near}`")),
            None => finding.fix(format!("add `[areas.{area}]` with `image` and `range`")),
        });
    };
    let own = project.areas.get(found).and_then(|own| project.images.get(own.image.value));
    match own {
        Some(own) if own.name.value != image => {
            let what = format!("`{area}` is an area of `{}`, not of `{image}`", own.name.value);
            Err(Finding::new("F10", span, what).fix(format!("write `{}:@{area}`", own.name.value)))
        }
        _ => split_form(&map.to.value, map.to.span).map(|_| found),
    }
}

impl Project {
    /// The slot of an address that the ledger has given out of an area, in it or not; `None` where it is none of its
    /// table.
    #[must_use]
    pub fn slot_of(&self, area: &Area, at: &str) -> Option<u32> {
        let dialect = self.image_dialect(area.image.value)?;
        let context = AddressContext::of_image(&self.images.get(area.image.value)?.setup);
        area.slots.as_ref()?.slot(&dialect.notation().parse(at, &context).ok()?)
    }
}

/// Whether a rule has the address where it shows its value.
#[must_use]
pub fn has_address(map: &Map) -> bool {
    map.area.as_ref().is_none_or(|own| own.given.is_some())
}
