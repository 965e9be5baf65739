//! Finds who is on a line or behind a socket, and what each of them has: by reads alone.

mod called;
mod frames;
mod lines;
mod listed;
mod names;

use names::by_name;

pub use called::{called, is_called};
pub use frames::{FramesAt, FramesFault, Naming, is_found_by_frames, stations_on};
pub use lines::{LINES, LineEvidence, try_line};
pub use listed::{ListedPort, is_listed, listed};

use crate::direct::Direct;
use crate::speak::Message;
use serde::{Deserialize, Serialize};
use woodrush_core::plan::Station;
use woodrush_core::protocol::{AddressContext, Extent, FoundName, Search, Setup, Transport, Verb};
use woodrush_core::survey::{ReadOutcome, Survey};
use woodrush_core::{Blame, Kind, Refusal};

/// How often something odd is asked again, to tell a slip from a pattern.
const AGAIN: usize = 2;

/// What is looked for.
#[derive(Clone, Copy)]
pub struct Depth<'a> {
    /// Only who is there.
    pub quick: bool,
    /// Most requests for what one station has.
    pub budget: u32,
    /// Asked before each request; `false` ends the look.
    pub go_on: &'a dyn Fn() -> bool,
}

impl Depth<'static> {
    /// Only whether a station is there.
    #[must_use]
    pub fn quick() -> Self {
        Self { quick: true, budget: 0, go_on: &|| true }
    }
}

/// What was seen of one station.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Found {
    /// Its number on the line; `None` where a way has one station only.
    pub station: Option<u32>,
    /// How it answers.
    pub presence: Presence,
    /// Time of its first answer, in microseconds.
    pub took_us: u64,
    /// What it says of itself.
    pub identity: Option<String>,
    /// What it has.
    pub tables: Vec<FoundTable>,
    /// The names that it has.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub names: Vec<FoundName>,
    /// Something went wrong while it was looked at, in words; what was found before is kept.
    pub broken: Option<String>,
}

/// How a station answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Presence {
    /// Soundly.
    Answers,
    /// With bytes that make no frame, again and again: two stations of one number, or other line settings.
    Damaged,
    /// Now and then damaged, and now and then soundly.
    Unsteady,
}

/// One table of a station.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FoundTable {
    /// As its addresses name it, such as `holding`.
    pub table: String,
    /// First and last address of what exists, in canonical notation, with the count of addresses.
    pub ranges: Vec<(String, String, u32)>,
    /// Most addresses in one answer.
    pub largest: u32,
    /// More was refused where it exists.
    pub limited: bool,
    /// Not all was looked at: the requests were spent.
    pub spent: bool,
}

/// How one question ended.
enum Reaction {
    Answer(u64),
    Nothing,
    Noise,
    /// The way itself is gone.
    Gone(Refusal),
}

/// The numbers that stations can have on such a way; none where it has one station only, or they have names.
#[must_use]
pub fn stations(base: &Station, transport: Transport) -> Option<(&'static str, std::ops::Range<u32>)> {
    base.dialect?.stations().station_key(transport).filter(|(_, numbers)| !numbers.is_empty())
}

/// The same station with another number.
#[must_use]
pub fn numbered(base: &Station, key: &'static str, number: u32) -> Station {
    let mut setup =
        Setup { numbers: base.setup.numbers.clone(), words: base.setup.words.clone(), ..Setup::default() };
    setup.numbers.retain(|(known, _)| *known != key);
    setup.numbers.push((key, number));
    Station { setup, name: format!("{key} {number}"), ..base.clone() }
}

/// Asks whether a station is there, and what it has. `None` where nothing answers.
///
/// # Errors
/// The way is gone.
pub fn look(
    reach: &mut Direct,
    station: &Station,
    number: Option<u32>,
    depth: Depth<'_>,
) -> Result<Option<Found>, Refusal> {
    let Some(first) = first_read(station) else { return by_name(reach, station, number, depth) };
    let mut noise = 0;
    let mut took = None;
    for _ in 0..=AGAIN {
        match hear(reach, &first.0, first.1) {
            Reaction::Answer(time) => {
                took = Some(time);
                break;
            }
            Reaction::Noise => noise += 1,
            Reaction::Nothing if noise == 0 => return Ok(None),
            Reaction::Nothing => {}
            Reaction::Gone(refusal) => return Err(refusal),
        }
    }
    let presence = match (took, noise) {
        (Some(_), 0) => Presence::Answers,
        (Some(_), _) => Presence::Unsteady,
        (None, 0 | 1) => return Ok(None),
        (None, _) => Presence::Damaged,
    };
    let mut found = Found {
        station: number,
        presence,
        took_us: took.unwrap_or(0),
        identity: None,
        tables: vec![],
        names: vec![],
        broken: None,
    };
    if presence == Presence::Damaged || depth.quick {
        return Ok(Some(found));
    }
    found.identity = identity(reach, station, number);
    let mut budget = depth.budget;
    let search = station.dialect.and_then(|dialect| dialect.search());
    for territory in search.map_or(&[][..], Search::territories) {
        match table(reach, station, territory, &mut budget, depth.go_on) {
            Ok(Some(table)) => found.tables.push(table),
            Ok(None) => {}
            Err(why) => {
                found.broken = Some(why);
                break;
            }
        }
    }
    Ok(Some(found))
}

/// The first read of a station: any answer says that it is there.
fn first_read(station: &Station) -> Option<(Station, Extent)> {
    let dialect = station.dialect?;
    let territory = dialect.search()?.territories().first()?;
    place(station, territory.begins)
        .map(|(station, space, first)| (station, Extent { space, first, count: 1 }))
}

fn place(station: &Station, begins: &str) -> Option<(Station, woodrush_core::protocol::SpaceId, u32)> {
    let mut station = station.clone();
    let address =
        station.dialect?.notation().parse(begins, &AddressContext::of_device(&station.setup)).ok()?;
    let space = station.space(&address.space);
    Some((station, space, address.first))
}

fn hear(reach: &mut Direct, station: &Station, extent: Extent) -> Reaction {
    match reach.read(station, extent) {
        Ok(answer) => Reaction::Answer(answer.took),
        // A gateway says of itself that nobody is behind it.
        Err(Refusal { kind: Kind::NoPath | Kind::NoAnswer, native: Some(_), .. }) => Reaction::Nothing,
        Err(Refusal { native: Some(_), .. }) => Reaction::Answer(reach.evidence().took),
        Err(refusal @ Refusal { kind: Kind::NoPath, .. }) => Reaction::Gone(refusal),
        Err(_) if reach.evidence().closed => Reaction::Gone(Refusal::new(Kind::NoPath, Blame::Line)),
        Err(Refusal { kind: Kind::NoAnswer, .. }) if reach.evidence().came.is_empty() => Reaction::Nothing,
        Err(_) => Reaction::Noise,
    }
}

/// Whether stations that are far apart and unlikely all answer: then the way leads to one that takes any number.
///
/// # Errors
/// The way is gone.
pub fn takes_any(reach: &mut Direct, base: &Station, key: &'static str) -> Result<bool, Refusal> {
    for number in [245, 246, 247] {
        let Some((station, extent)) = first_read(&numbered(base, key, number)) else { return Ok(false) };
        match hear(reach, &station, extent) {
            Reaction::Answer(_) => {}
            Reaction::Nothing | Reaction::Noise => return Ok(false),
            Reaction::Gone(refusal) => return Err(refusal),
        }
    }
    Ok(true)
}

fn identity(reach: &mut Direct, station: &Station, number: Option<u32>) -> Option<String> {
    let dialect = station.dialect?;
    let unit = u16::try_from(number.or_else(|| station.number()).unwrap_or(1)).ok()?;
    let search = dialect.search()?;
    for (code, request) in search.identity() {
        let message = Message { code: *code, body: request.to_vec(), writes: false };
        match reach.pass(station, unit, message) {
            Ok(answer) => {
                if let Some(text) = search.identity_shown(*code, &answer.cells) {
                    return Some(text);
                }
            }
            // Some are silent to what they do not know.
            Err(_) => continue,
        }
    }
    None
}

/// What a station has of one table; `None` where nothing.
fn table(
    reach: &mut Direct,
    station: &Station,
    territory: &woodrush_core::protocol::Territory,
    budget: &mut u32,
    go_on: &dyn Fn() -> bool,
) -> Result<Option<FoundTable>, String> {
    let Some((station, id, _)) = place(station, territory.begins) else { return Ok(None) };
    let (Some(dialect), Some(space)) = (station.dialect, station.space_at(id).cloned()) else {
        return Ok(None);
    };
    let len = space.len.unwrap_or(65_536);
    let mut most = 1;
    while dialect.cost(Verb::Read, &space, most + 1, &station.setup).is_ok() && most < len {
        most += 1;
    }
    let mut survey = Survey::new(territory.anchors, len, most, *budget);
    while let Some((first, count)) = survey.to_read() {
        if !go_on() {
            return Err("the look was ended by hand".into());
        }
        let told = match reach.read(&station, Extent { space: id, first, count }) {
            Ok(_) => ReadOutcome::Good,
            Err(Refusal { kind: Kind::NoSuchCommand, native: Some(_), .. }) => ReadOutcome::NoTable,
            Err(Refusal { native: Some(_), .. }) => ReadOutcome::Refused,
            Err(Refusal { kind: Kind::NoPath, .. }) => return Err("the way is gone".into()),
            Err(_) => ReadOutcome::Silent,
        };
        survey.told(told);
    }
    *budget = survey.left();
    let shown = |first: u32| dialect.notation().show(&space, first, 0, None, &station.setup).canonical;
    let ranges =
        survey.ranges.iter().map(|range| (shown(range.start), shown(range.end - 1), range.end - range.start));
    let found = FoundTable {
        table: dialect.notation().table(&space).to_string(),
        ranges: ranges.collect(),
        largest: survey.largest,
        limited: survey.limited,
        spent: survey.spent,
    };
    if survey.lost {
        return Err(format!("it stopped answering while its {} was read", space.noun));
    }
    Ok((!found.ranges.is_empty()).then_some(found))
}
