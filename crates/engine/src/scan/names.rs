//! What a station has whose memory has names: it lists them, and how long its arrays are is found by reads.

use super::{Depth, Found, Presence, identity};
use crate::direct::Direct;
use crate::speak::Message;
use woodrush_core::form::Form;
use woodrush_core::plan::Station;
use woodrush_core::protocol::{AddressContext, Extent, FoundName};
use woodrush_core::{Blame, Kind, Refusal};

/// Most answers with names: of a controller that lists on and on the rest is left.
const ANSWERS_MAX: u32 = 2000;
/// One past the longest array that is measured.
const LONGEST: u32 = 1 << 20;

/// Asks whether a station is there, and which names it has. `None` where nothing answers.
pub(super) fn by_name(
    reach: &mut Direct,
    station: &Station,
    number: Option<u32>,
    depth: Depth<'_>,
) -> Result<Option<Found>, Refusal> {
    let identity = identity(reach, station, number);
    if identity.is_none() {
        return match reach.evidence().closed {
            true => Err(Refusal::new(Kind::NoPath, Blame::Line)),
            false => Ok(None),
        };
    }
    let mut found = Found {
        station: number,
        presence: Presence::Answers,
        took_us: reach.evidence().took,
        identity,
        tables: vec![],
        names: vec![],
        broken: None,
    };
    if depth.quick {
        return Ok(Some(found));
    }
    match listed(reach, station, depth) {
        Ok(names) => found.names = names,
        Err(why) => found.broken = Some(why),
    }
    let mut budget = depth.budget;
    let arrays = found.names.iter_mut().flat_map(|name| {
        let known = name.clone();
        (0..).zip(&mut name.dimensions).map(move |(at, size)| (known.clone(), at, size))
    });
    for (name, at, size) in arrays {
        if !(depth.go_on)() {
            found.broken = Some("the look was ended by hand".into());
            break;
        }
        if let Some(length) = length(reach, station, (&name, at), &mut budget) {
            *size = length;
        }
    }
    Ok(Some(found))
}

fn listed(reach: &mut Direct, station: &Station, depth: Depth<'_>) -> Result<Vec<FoundName>, String> {
    let Some(search) = station.dialect.and_then(|dialect| dialect.search()) else { return Ok(vec![]) };
    let (mut names, mut last) = (vec![], None::<Vec<u8>>);
    for _ in 0..ANSWERS_MAX {
        let Some(body) = search.names_request(last.as_deref()) else { return Ok(names) };
        if !(depth.go_on)() {
            return Err("the look was ended by hand".into());
        }
        let code = body.first().copied().unwrap_or_default();
        let message = Message { code, body, writes: false };
        let answer = reach.pass(station, 0, message).map_err(|refusal| refusal.kind.words().to_string())?;
        let found = search.names(&answer.cells);
        if found.is_empty() && last.is_some() {
            return Ok(names);
        }
        names.extend(found);
        last = Some(answer.cells);
    }
    Ok(names)
}

/// How many elements a dimension of an array has, by reads of one: twice as far until one is refused, then between the
/// two.
fn length(
    reach: &mut Direct,
    station: &Station,
    (name, dimension): (&FoundName, usize),
    budget: &mut u32,
) -> Option<u32> {
    let form = Form::parse(&name.type_name).ok()?;
    let mut there = |index: u32| {
        *budget = budget.checked_sub(1)?;
        let mut station = station.clone();
        let indices = (0..name.dimensions.len()).map(|at| if at == dimension { index } else { 0 });
        let text = format!(
            "{}[{}]",
            name.name,
            indices.map(|index| index.to_string()).collect::<Vec<_>>().join(",")
        );
        let context = AddressContext::of_device(&station.setup).with_form(Some(form));
        let address = station.dialect?.notation().parse(&text, &context).ok()?;
        let space = station.space(&address.space);
        match reach.read(&station, Extent { space, first: address.first, count: 1 }) {
            Ok(_) => Some(true),
            Err(Refusal { native: Some(_), .. }) => Some(false),
            Err(_) => None,
        }
    };
    let (mut low, mut high) = (0, 1);
    while there(high)? {
        low = high;
        high *= 2;
        if high > LONGEST {
            return None;
        }
    }
    while high - low > 1 {
        let middle = low + (high - low) / 2;
        if there(middle)? { low = middle } else { high = middle }
    }
    Some(high)
}
