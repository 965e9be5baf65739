//! What is handed over: the values of an image as the programmers of its clients need them.

mod drawing;
mod issued;
mod list;
mod papers;
mod settings;

pub use issued::issued_values;
pub use list::{HandoverList, handover_list};
pub use papers::{
    PaperClient, PaperDemand, PaperDevice, PaperFinding, PaperForward, PaperHealth, PaperImage, PaperLine,
    PaperValue, Papers, papers,
};
pub use settings::{device_settings, image_settings};

use crate::form::{Form, Type};
use crate::plan::{Plan, PlannedRule, Source, Station};
use crate::project::{OnLoss, Owner, Project};
use crate::protocol::Space;

/// One value of an image.
#[derive(Debug, Clone, PartialEq)]
pub struct HandedValue {
    /// Index of its rule's `[[map]]`.
    pub map: usize,
    /// The table that it is in.
    pub space: Space,
    /// Zero-based address of its first register, bit or element.
    pub first: u32,
    /// How many it takes.
    pub width: u32,
    /// One bit of the register.
    pub bit: Option<u8>,
    /// What it is called: the rule's name, or the value itself.
    pub name: String,
    /// The endpoint that it comes from; empty where clients write it.
    pub source: String,
    /// In words, where the project says some.
    pub description: String,
    /// How it lies there.
    pub form: Form,
    /// Engineering unit.
    pub eu: String,
    /// Whether clients may read it, and write it.
    pub access: (bool, bool),
    /// How often it is renewed, in microseconds; `None` where it does not come by polling.
    pub every: Option<u64>,
    /// How old it may become, in microseconds; `None` where it does not age.
    pub max_age: Option<u64>,
    /// What a reader gets when it is lost; `None` where it is never lost.
    pub on_loss: Option<OnLoss>,
}

impl HandedValue {
    /// `R`, `W` or `RW`.
    #[must_use]
    pub const fn access_word(&self) -> &'static str {
        match self.access {
            (true, true) => "RW",
            (false, true) => "W",
            _ => "R",
        }
    }
}

/// The values of an image, in the order of its addresses.
#[must_use]
pub fn values_of(project: &Project, plan: &Plan, image: usize) -> Vec<HandedValue> {
    let Some(station) = plan.images.get(image) else { return vec![] };
    let rules = plan.rules.iter().filter(|rule| rule.board == image);
    let mut found: Vec<HandedValue> = rules.flat_map(|rule| values(project, plan, station, rule)).collect();
    let goes = |rule: &&PlannedRule| matches!(rule.source, Source::Values { owner, .. } if owner == Owner::Image(image));
    found.extend(plan.rules.iter().filter(goes).flat_map(|rule| given_on(project, plan, station, rule)));
    // Tables in the order of the station's spaces, as every other output shows them.
    let place = |space: &Space| station.spaces.id(&space.key);
    found.sort_by(|one, other| {
        (place(&one.space), one.first, one.bit).cmp(&(place(&other.space), other.first, other.bit))
    });
    found
}

fn values(project: &Project, plan: &Plan, station: &Station, rule: &PlannedRule) -> Vec<HandedValue> {
    let (Some(map), Some(space)) = (project.maps.get(rule.map), station.space_at(rule.target.space)) else {
        return vec![];
    };
    let point = match rule.source {
        Source::Values { owner: Owner::Device(device), point, .. } => {
            project.profile_of(device).and_then(|profile| profile.points.get(point?))
        }
        _ => None,
    };
    let is_told = matches!(rule.source, Source::Health(_));
    // A register that stands as sixteen bits is read bit by bit.
    let parts = if rule.spreads() { rule.target.width } else { 1 };
    let values = rule.target.count * parts;
    let value = |at: u32| {
        let (item, part) = (at / parts, rule.spreads().then_some(at % parts));
        let several = if values > 1 { format!("[{at}]") } else { String::new() };
        let called = map.name.as_ref().map_or(map.from.value.as_str(), |name| name.value.as_str());
        let note = map.note.as_deref().or(point.and_then(|point| point.note.as_deref()));
        HandedValue {
            map: rule.map,
            space: space.clone(),
            first: rule.target.item(item).first + part.unwrap_or(0),
            width: if part.is_some() { 1 } else { rule.target.width },
            bit: rule.target.bit,
            name: format!("{called}{several}"),
            source: source(plan, rule, (item, part), &map.from.value),
            description: note.unwrap_or_default().to_string(),
            form: if part.is_some() { Form::plain(Type::Bool) } else { rule.conversion.to },
            eu: point.and_then(|point| point.eu.clone()).unwrap_or_default(),
            access: match rule.source {
                Source::Client => (false, true),
                _ => (true, rule.writable),
            },
            every: matches!(rule.source, Source::Values { .. }).then_some(rule.every),
            max_age: (rule.max_age != u64::MAX && !is_told).then_some(rule.max_age),
            on_loss: (!is_told).then_some(rule.on_loss),
        }
    };
    (0..values).map(value).collect()
}

/// What a controller writes into its block, and what it becomes.
fn given_on(project: &Project, plan: &Plan, station: &Station, rule: &PlannedRule) -> Vec<HandedValue> {
    let (Some(map), Source::Values { place, .. }) = (project.maps.get(rule.map), rule.source) else {
        return vec![];
    };
    let (Some(space), Some(sink)) = (station.space_at(place.space), plan.board(rule.board)) else {
        return vec![];
    };
    let value = |item: u32| {
        let several = if place.count > 1 { format!("[{item}]") } else { String::new() };
        let written = map.to.value.split(" as ").next().unwrap_or_default().trim();
        let becomes = match place.count {
            1 => written.to_string(),
            _ => sink.show(rule.target.space, rule.target.item(item).first, rule.target.bit).to_string(),
        };
        let called = map.name.as_ref().map_or(written, |name| name.value.as_str());
        HandedValue {
            map: rule.map,
            space: space.clone(),
            first: place.item(item).first,
            width: place.width,
            bit: place.bit,
            name: format!("{called}{several}"),
            source: format!("to {becomes}"),
            description: map.note.as_deref().unwrap_or_default().to_string(),
            form: rule.conversion.from,
            eu: String::new(),
            access: (false, true),
            every: None,
            max_age: None,
            on_loss: None,
        }
    };
    (0..place.count).map(value).collect()
}

/// The endpoint of one item of a rule, or of one bit of it.
fn source(plan: &Plan, rule: &PlannedRule, (item, part): (u32, Option<u32>), written: &str) -> String {
    match rule.source {
        Source::Client => String::new(),
        Source::Values { owner, place, .. } if place.count > 1 || part.is_some() => {
            let Some(station) = plan.station(owner) else { return String::new() };
            let at = place.item(item);
            let bit = place.bit.or(part.and_then(|part| u8::try_from(part).ok()));
            let shown = station.dialect.zip(station.space_at(at.space)).map(|(dialect, space)| {
                dialect.notation().show(space, at.first, at.count, bit, &station.setup).canonical
            });
            shown.map_or_else(String::new, |shown| format!("{}:{shown}", station.name))
        }
        // One value is called as the rule calls it.
        _ => written.split(" as ").next().unwrap_or_default().trim().to_string(),
    }
}
