//! What must be there at the other side before a rule can work, where it is not there by itself: connections that a
//! controller's programmer sets up, files and blocks of a size.

use super::{Plan, Source, Station};
use crate::project::{Owner, Project};
use crate::protocol::{Dialect, Extent, Link, Place, SpaceId};
use std::collections::BTreeMap;
use std::ops::Range;

/// What has to be set up at the other end.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Demand {
    /// Whose: a device, or an image for those who ask it.
    pub name: String,
    /// Whether it is an image.
    pub image: bool,
    /// Index of the port.
    pub port: usize,
    /// The connections or the place on the line, in words.
    pub links: Vec<String>,
    /// Tables with their least size and what is done with them, in words.
    pub tables: Vec<(String, String)>,
}

/// How far a space is read and written, in grains.
#[derive(Default)]
struct Used {
    read: Option<Range<u32>>,
    written: Option<Range<u32>>,
}

fn widen(range: &mut Option<Range<u32>>, by: Extent) {
    let old = range.clone().unwrap_or(by.first..by.end());
    *range = Some(old.start.min(by.first)..old.end.max(by.end()));
}

/// What each device and image of a project asks of its other side; nothing for protocols whose stations have their
/// tables by themselves.
#[must_use]
pub fn demands(project: &Project, plan: &Plan) -> Vec<Demand> {
    let devices = plan.devices.iter().enumerate().map(|(at, station)| (Owner::Device(at), station));
    let images = plan.images.iter().enumerate().map(|(at, station)| (Owner::Image(at), station));
    devices.chain(images).filter_map(|(owner, station)| demand(project, plan, owner, station)).collect()
}

fn demand(project: &Project, plan: &Plan, owner: Owner, station: &Station) -> Option<Demand> {
    let dialect = station.dialect?;
    let used = used(plan, owner);
    let image = matches!(owner, Owner::Image(_));
    let reads = used.values().any(|used| used.read.is_some());
    let writes = used.values().any(|used| used.written.is_some());
    if !reads && !writes {
        return None;
    }
    let line = |port: usize| {
        let line = project.ports.get(port).and_then(|port| port.line());
        line.map(|line| format!(", {}", line.value)).unwrap_or_default()
    };
    let other = match owner {
        Owner::Device(device) => plan.write_port(device).filter(|port| *port != station.port && writes),
        _ => None,
    };
    let reads = reads || fetches(plan, owner, station);
    let link = Link { setup: &station.setup, image, reads, writes: writes && other.is_none() };
    let mut links = vec![dialect.stations().to_set_up(&link)? + &line(station.port)];
    if let Some(port) = other.and_then(|at| project.ports.get(at)) {
        let setup = port.setup.with(Some(&station.setup));
        let link = Link { setup: &setup, image, reads: false, writes: true };
        let way = dialect.stations().to_set_up(&link).unwrap_or_default();
        links.push(format!("{way}, by port {}", port.name.value));
    }
    let mut tables: Vec<(String, Option<u32>, &str, Vec<String>)> = vec![];
    for (id, used) in &used {
        let Some(space) = station.space_at(*id) else { continue };
        let end = [&used.read, &used.written].into_iter().flatten().map(|range| range.end).max().unwrap_or(0);
        // What is always read as a whole has the size that it has.
        let least = (!space.whole).then(|| end.div_ceil(dialect.notation().grains_of(space, 1).max(1)));
        let shown = |range: &Range<u32>| span(dialect, station, *id, range);
        let alike = used.read == used.written;
        let read = used
            .read
            .as_ref()
            .map(|range| format!("{} read{}", shown(range), if alike { " and written" } else { "" }));
        let written = used.written.as_ref().filter(|_| !alike);
        let written = written.map(|range| format!("{} written", shown(range)));
        let name = dialect.notation().table(space);
        let words = read.into_iter().chain(written);
        // Parts of the elements of one table are spaces of their own.
        match tables.iter_mut().find(|(own, ..)| own == name) {
            Some((_, own, _, said)) => {
                *own = least.max(*own);
                said.extend(words);
            }
            None => {
                tables.push((name.to_string(), least, dialect.notation().table_unit(space), words.collect()))
            }
        }
    }
    let told = |(name, least, unit, said): (String, Option<u32>, &str, Vec<String>)| {
        let Some(least) = least else {
            let verbs = said.iter().filter_map(|words| words.rsplit(' ').next());
            return (name, verbs.collect::<Vec<_>>().join(" and "));
        };
        let plural = if least == 1 { "" } else { "s" };
        (name, format!("at least {least} {unit}{plural}: {}", said.join(", ")))
    };
    Some(Demand {
        name: station.name.clone(),
        image,
        port: station.port,
        links,
        tables: tables.into_iter().map(told).collect(),
    })
}

/// Whether something that is written is read first, because no request writes it alone.
fn fetches(plan: &Plan, owner: Owner, station: &Station) -> bool {
    let Owner::Device(device) = owner else { return false };
    plan.rules.iter().any(|rule| match &rule.source {
        Source::Values { owner: Owner::Device(of), place, .. } if *of == device && rule.writable => {
            station.reads_first(place)
        }
        _ => plan.sink(rule) == Some(device) && station.reads_first(&rule.target),
    })
}

fn span(dialect: &dyn Dialect, station: &Station, id: SpaceId, range: &Range<u32>) -> String {
    let Some(space) = station.space_at(id) else { return String::new() };
    let shown = |at: u32| dialect.notation().show(space, at, 1, None, &station.setup).canonical;
    match range.len() {
        1 => shown(range.start),
        _ => format!("{} to {}", shown(range.start), shown(range.end - 1)),
    }
}

/// By space: what is used of a station.
fn used(plan: &Plan, owner: Owner) -> BTreeMap<SpaceId, Used> {
    let mut found: BTreeMap<SpaceId, Used> = BTreeMap::new();
    let mut read = |extent: Extent| widen(&mut found.entry(extent.space).or_default().read, extent);
    let mut written: Vec<Extent> = vec![];
    let mut write = |place: &Place| written.push(place.extent());
    match owner {
        Owner::Device(device) => {
            plan.transfers
                .iter()
                .filter(|own| own.device() == Some(device))
                .flat_map(|own| own.parts.iter())
                .for_each(|part| read(*part));
            for rule in &plan.rules {
                match &rule.source {
                    Source::Values { owner: Owner::Device(of), place, .. }
                        if *of == device && rule.writable =>
                    {
                        write(place)
                    }
                    _ if plan.sink(rule) == Some(device) => write(&rule.target),
                    _ => {}
                }
            }
        }
        Owner::Image(image) => {
            for rule in plan.rules.iter().filter(|rule| rule.board == image) {
                read(rule.target.extent());
                if rule.writable {
                    write(&rule.target);
                }
            }
            // What a controller sends in its block.
            for rule in &plan.rules {
                if let Source::Values { owner, place, .. } = &rule.source
                    && *owner == Owner::Image(image)
                {
                    write(place);
                }
            }
        }
        Owner::Converter => {}
    }
    for extent in written {
        widen(&mut found.entry(extent.space).or_default().written, extent);
    }
    found
}
