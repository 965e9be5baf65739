//! Giving out the addresses of areas: the next free one for each value that has none, and never another one for a value
//! that has.

use crate::checked::Checked;
use crate::ledger::{GivenAddress, GivenAddresses, Ledger};
use crate::plan::Plan;
use crate::project::{Area, AreaSlots, Map, Project, at_address};
use crate::protocol::Setup;
use crate::source::Span;
use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// What was given out, and the ledger as it is to be written.
#[derive(Debug, Default)]
pub struct Assignment {
    /// The whole ledger.
    pub ledger: Ledger,
    /// New addresses, in the order of the rules.
    pub given: Vec<NewAddress>,
    /// Values that are gone: their addresses stay theirs.
    pub retired: Vec<NewAddress>,
    /// Values that have no address, and why.
    pub without: Vec<(String, String)>,
}

/// A value and its address.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewAddress {
    /// The area.
    pub area: String,
    /// What the value is called in the ledger.
    pub value: String,
    /// Its address.
    pub at: String,
    /// How many addresses it takes.
    pub takes: u32,
    /// It had that address before, and was gone meanwhile.
    pub is_back: bool,
}

/// What is free in an area.
struct Free<'a> {
    area: &'a Area,
    slots: &'a AreaSlots,
    taken: Vec<bool>,
    /// From where to look on, by how many slots are wanted and how they are aligned: what is before is taken.
    next: HashMap<(u32, u32), u32>,
}

impl<'a> Free<'a> {
    fn of(project: &Project, area: &'a Area, plan: &Plan, ledger: &Ledger) -> Option<Self> {
        let slots = area.slots.as_ref()?;
        let mut free = Self { area, slots, taken: vec![false; slots.count as usize], next: HashMap::new() };
        let name = &area.name.value;
        for given in [&ledger.areas, &ledger.retired].into_iter().filter_map(|all| all.get(name)) {
            for own in given.values() {
                if let Some(slot) = project.slot_of(area, &own.at) {
                    free.take(slot, own.takes);
                }
            }
        }
        // What rules say themselves is not given out.
        for rule in &plan.rules {
            let target = &rule.target;
            let space = plan.board(rule.board).and_then(|board| board.space_at(target.space));
            if rule.board == area.image.value && space.is_some_and(|space| space.key == slots.space.key) {
                let bit = target.bit.map_or(0, u32::from);
                let (first, count) = match (slots.each, target.bit) {
                    (each, Some(_)) if each > 1 => (target.first * each + bit, 1),
                    (each, _) => (target.first * each, target.width * target.count * each),
                };
                free.take(first, count);
            }
        }
        Some(free)
    }

    fn take(&mut self, slot: u32, count: u32) {
        let first = slot.max(self.slots.first);
        for slot in first..slot.saturating_add(count).min(self.slots.end()) {
            if let Some(taken) = self.taken.get_mut((slot - self.slots.first) as usize) {
                *taken = true;
            }
        }
    }

    /// The next free slots in a row, the first of them aligned.
    fn give(&mut self, count: u32, align: u32) -> Option<u32> {
        let mut slot = self.next.get(&(count, align)).copied().unwrap_or(self.slots.first);
        slot = slot.next_multiple_of(align);
        while slot.checked_add(count)? <= self.slots.end() {
            let at = (slot - self.slots.first) as usize;
            let run = self.taken.get(at..at + count as usize)?;
            match run.iter().rposition(|taken| *taken) {
                None => {
                    self.take(slot, count);
                    self.next.insert((count, align), slot + count);
                    return Some(slot);
                }
                Some(last) => {
                    let behind = slot + u32::try_from(last).ok()? + 1;
                    slot = behind.next_multiple_of(align);
                }
            }
        }
        None
    }

    /// The first slot as the project file writes it.
    fn shown(&self, project: &Project, slot: u32, width: u32) -> Option<String> {
        let dialect = project.image_dialect(self.area.image.value)?;
        let (first, bit) = self.slots.place(slot);
        Some(dialect.notation().show(&self.slots.space, first, width, bit, &Setup::default()).canonical)
    }
}

/// Gives each value of the project's areas that has no address the next free one. `reuse` gives out those of values that
/// are gone too.
#[must_use]
pub fn assign(checked: &Checked, ledger: &Ledger, reuse: bool) -> Assignment {
    let project = &checked.project;
    let mut done = Assignment { ledger: ledger.clone(), ..Assignment::default() };
    retire(project, &mut done);
    if reuse {
        done.ledger.retired.clear();
    }
    let mut free: BTreeMap<usize, Free<'_>> = BTreeMap::new();
    let mut scratch = Plan::without_rules(project);
    for (at, map) in project.maps.iter().enumerate() {
        let Some(own) = map.area.as_deref().filter(|own| own.given.is_none()) else { continue };
        let Some(area) = project.areas.get(own.area) else { continue };
        let name = &area.name.value;
        // A rule that is switched off keeps what it has, and gets nothing new.
        if !map.enabled || done.ledger.areas.get(name).is_some_and(|all| all.contains_key(&own.value)) {
            continue;
        }
        let free = match free.entry(own.area) {
            Entry::Occupied(known) => known.into_mut(),
            Entry::Vacant(unknown) => {
                let Some(found) = Free::of(project, area, &checked.plan, &done.ledger) else { continue };
                unknown.insert(found)
            }
        };
        let (width, count) = match takes(project, &mut scratch, (at, map), free) {
            Ok(found) => found,
            Err(why) => {
                done.without.push((own.value.clone(), why));
                continue;
            }
        };
        let takes = width * count;
        let before = done.ledger.retired.get(name).and_then(|all| all.get(&own.value)).cloned();
        let before = before.filter(|given| given.takes >= takes);
        let at = match &before {
            Some(given) => Some(given.at.clone()),
            None => {
                let align = if matches!(width, 1 | 2 | 4) { width } else { 1 };
                free.give(takes, align).and_then(|slot| free.shown(project, slot, width))
            }
        };
        let Some(at) = at else {
            done.without.push((own.value.clone(), full(free, takes, &done.ledger)));
            continue;
        };
        let takes = before.as_ref().map_or(takes, |given| given.takes);
        if before.is_some()
            && let Some(all) = done.ledger.retired.get_mut(name)
        {
            all.remove(&own.value);
        }
        let given = GivenAddress { at: at.clone(), takes, span: Span::default() };
        done.ledger.areas.entry(name.clone()).or_default().insert(own.value.clone(), given);
        let value = own.value.clone();
        done.given.push(NewAddress { area: name.clone(), value, at, takes, is_back: before.is_some() });
    }
    done
}

/// Puts aside what no rule of the project is any more.
fn retire(project: &Project, done: &mut Assignment) {
    let mut live: BTreeSet<(&str, &str)> = BTreeSet::new();
    for own in project.maps.iter().filter_map(|map| map.area.as_deref()) {
        live.extend(project.areas.get(own.area).map(|area| (area.name.value.as_str(), own.value.as_str())));
    }
    for (area, given) in std::mem::take(&mut done.ledger.areas) {
        let (kept, gone): (GivenAddresses, GivenAddresses) =
            given.into_iter().partition(|(value, _)| live.contains(&(area.as_str(), value.as_str())));
        for (value, own) in &gone {
            done.retired.push(NewAddress {
                area: area.clone(),
                value: value.clone(),
                at: own.at.clone(),
                takes: own.takes,
                is_back: false,
            });
        }
        if !gone.is_empty() {
            done.ledger.retired.entry(area.clone()).or_default().extend(gone);
        }
        if !kept.is_empty() {
            done.ledger.areas.insert(area, kept);
        }
    }
}

/// How many slots one value of a rule takes, and how many values it has.
fn takes(
    project: &Project,
    scratch: &mut Plan,
    (at, map): (usize, &Map),
    free: &Free<'_>,
) -> Result<(u32, u32), String> {
    // Looked at where the area begins: how wide it is does not depend on where.
    let first = free.shown(project, free.slots.first, 1).unwrap_or_default();
    let mut there = map.clone();
    there.to.value = at_address(&map.to.value, &first);
    let (_, place) = scratch.place_of(project, at, &there).map_err(|found| {
        let what = found.into_iter().map(|finding| finding.what).find(|what| !what.is_empty());
        what.unwrap_or_else(|| "the rule has faults (`woodrush check`)".into())
    })?;
    match (free.slots.each, place.bit) {
        (1, _) => Ok((place.width, place.count)),
        (_, Some(_)) => Ok((1, place.count)),
        (_, None) => {
            Err(format!("it is wider than one bit, and area `{}` is made of bits", free.area.name.value))
        }
    }
}

/// Why an area has no room.
fn full(free: &Free<'_>, takes: u32, ledger: &Ledger) -> String {
    let name = &free.area.name.value;
    let taken = free.taken.iter().filter(|taken| **taken).count();
    let retired: u32 =
        ledger.retired.get(name).iter().flat_map(|all| all.values()).map(|own| own.takes).sum();
    let offer = if retired > 0 {
        format!("; {retired} of them are of rules that are gone: `--reuse` gives those out again")
    } else {
        String::new()
    };
    format!(
        "area `{name}` ({}) has no {takes} free addresses in a row: {taken} of {} are taken{offer}",
        free.area.range.value, free.slots.count
    )
}
