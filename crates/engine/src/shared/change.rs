//! From a project that runs to a changed one: what is the same in both, by names, places and settings, never by index; and
//! what the changed one takes over of it.

use super::{LineRequest, OnTheWay, Queued, Shared};
use crate::image::{ClientCells, DeviceWrite, Shown, Task};
use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::Arc;
use woodrush_core::plan::{Plan, PlannedRule, Source, Station, Transfer};
use woodrush_core::project::Owner;
use woodrush_core::protocol::{Extent, Place, Setup};
use woodrush_core::{Blame, Kind, Refusal};

/// Where what an older project has is in a newer one; `None` for what is not there, or is another one.
pub struct ProjectChange {
    next: Arc<Shared>,
    /// By port: those that stay open.
    ports: Vec<Option<usize>>,
    /// By device: the same station, asked and written by the same ports.
    devices: Vec<Option<usize>>,
    images: Vec<Option<usize>>,
    rules: Vec<Option<u32>>,
    transfers: Vec<Option<usize>>,
    moves: Vec<ValueMove>,
}

/// The values of one rule on their way into a newer project.
struct ValueMove {
    from: usize,
    theirs: Vec<u32>,
    to: usize,
    own: Vec<u32>,
}

/// What is answered to what has waited for something that a change of the project has taken away or altered.
pub(crate) const fn changed() -> Refusal {
    Refusal::new(Kind::Busy, Blame::File)
}

impl ProjectChange {
    /// From `old` to `next`. Nothing is taken over yet.
    #[must_use]
    pub fn between(old: &Shared, next: Arc<Shared>) -> Arc<Self> {
        let stays = |port: &super::PortSettings| {
            let at = next.ports.iter().position(|own| own.name == port.name)?;
            next.ports.get(at)?.is_same(port).then_some(at)
        };
        let ports: Vec<Option<usize>> = old.ports.iter().map(stays).collect();
        let port = |at: usize| ports.get(at).copied().flatten();
        let (before, after) = (&old.plan, &next.plan);
        let device = |(at, own): (usize, &Station)| {
            let there = after.devices.iter().position(|other| other.name == own.name)?;
            let other = after.devices.get(there)?;
            let stays = is_same(own, other)
                && port(own.port) == Some(other.port)
                && before.write_port(at).and_then(port) == after.write_port(there);
            stays.then_some(there)
        };
        let image = |own: &Station| after.images.iter().position(|other| other.name == own.name);
        let known = identities(after);
        let rules = identities_of(before).map(|own| known.get(&own).copied()).collect::<Vec<_>>();
        let polls: HashMap<u64, usize> =
            after.transfers.iter().enumerate().map(|(at, own)| (poll_identity(after, own), at)).collect();
        let transfers = before.transfers.iter().map(|own| polls.get(&poll_identity(before, own)).copied());
        let (mut theirs, mut own) = (steps(before), steps(after));
        let mut value = |(at, there): (u32, &Option<u32>)| {
            let there = (*there)?;
            Some(ValueMove {
                from: before.rules.get(at as usize)?.board,
                theirs: theirs.remove(&at)?,
                to: after.rules.get(there as usize)?.board,
                own: own.remove(&there)?,
            })
        };
        let moves = (0u32..).zip(&rules).filter_map(&mut value).collect();
        Arc::new(Self {
            devices: before.devices.iter().enumerate().map(device).collect(),
            images: before.images.iter().map(image).collect(),
            transfers: transfers.collect(),
            ports: ports.clone(),
            moves,
            rules,
            next,
        })
    }

    pub(super) const fn next(&self) -> &Arc<Shared> {
        &self.next
    }

    /// Where a rule of the older project is.
    pub(crate) fn rule(&self, rule: u32) -> Option<u32> {
        self.rules.get(rule as usize).copied().flatten()
    }

    fn device(&self, device: usize) -> Option<usize> {
        self.devices.get(device).copied().flatten()
    }

    /// Takes over all that is known. Gives back what has waited in vain. Nothing may be under way.
    pub(super) fn take_over(&self, old: &Shared) -> Vec<Queued> {
        for own in &self.moves {
            if let (Some(mut to), Some(from)) = (self.next.write_board(own.to), old.read_board(own.from)) {
                to.adopt(&own.own, &from, &own.theirs);
            }
        }
        for (before, after) in self.devices.iter().enumerate().filter_map(|(at, own)| Some((at, (*own)?))) {
            self.next.kept.adopt(after, &old.kept, before, |rule| self.rule(rule));
        }
        for (before, after) in self.transfers.iter().enumerate().filter_map(|(at, own)| Some((at, (*own)?))) {
            self.next.adopt_brought(after, old, before);
        }
        let mut refused = vec![];
        for (queue, stays) in old.queues.iter().zip(&self.ports) {
            for mut job in queue.take_all() {
                match self.waits_at(&old.plan, &mut job) {
                    Some(port) if Some(port) == *stays => queue.put_back(job),
                    _ => refused.push(job),
                }
            }
        }
        refused
    }

    /// Turns something that waits into the same for the changed project: the port where it waits from now on.
    fn waits_at(&self, old: &Plan, job: &mut Queued) -> Option<usize> {
        let plan = &self.next.plan;
        let moved = match &job.line_request {
            LineRequest::Write(write) => self.write(old, write).and_then(|write| {
                let port = plan.write_port(write.device)?;
                Some((port, LineRequest::Write(write)))
            }),
            LineRequest::ByHand { station, .. } => {
                self.ports.get(station.port).copied().flatten().map(|port| {
                    let mut request = job.line_request.clone();
                    if let LineRequest::ByHand { station, .. } = &mut request {
                        station.port = port;
                    }
                    (port, request)
                })
            }
            LineRequest::Pass { unit, message, asked, .. } => {
                let from = port_named(&self.next, &asked.port);
                let route = from.and_then(|from| plan.route(from, asked.unit));
                route.filter(|route| route.unit == *unit).and_then(|route| {
                    let forward = plan.forwards.get(route.forward)?;
                    let allowed = forward.functions.is_empty() || forward.functions.contains(&message.code);
                    let is_there = self.ports.contains(&Some(route.to));
                    let moved = LineRequest::Pass {
                        unit: route.unit,
                        message: message.clone(),
                        first: forward.writes_first,
                        asked: asked.clone(),
                    };
                    (allowed && is_there).then_some((route.to, moved))
                })
            }
        };
        let (port, line_request) = moved?;
        if let LineRequest::Write(write) = &line_request {
            job.carried = Some(OnTheWay::new(&self.next.kept, write.device, write.rule));
        }
        job.line_request = line_request;
        Some(port)
    }

    /// The same place at the same station.
    fn extent(&self, old: Option<&Station>, new: Option<&Station>, extent: Extent) -> Option<Extent> {
        let space = new?.spaces.id(&old?.space_at(extent.space)?.key)?;
        Some(Extent { space, ..extent })
    }

    /// A write for the same device by the same rule.
    fn write(&self, old: &Plan, write: &DeviceWrite) -> Option<DeviceWrite> {
        let plan = &self.next.plan;
        let (device, rule) = (self.device(write.device)?, self.rule(write.rule)?);
        let stations = (old.devices.get(write.device), plan.devices.get(device));
        let before = old.rules.get(write.rule as usize)?;
        let after = plan.rules.get(rule as usize)?;
        if before.writable && !after.writable {
            return None;
        }
        Some(DeviceWrite {
            device,
            rule,
            extent: self.extent(stations.0, stations.1, write.extent)?,
            shown: self.shown(old, &write.shown)?,
            ..write.clone()
        })
    }

    fn shown(&self, old: &Plan, shown: &Shown) -> Option<Shown> {
        Some(match shown {
            Shown::Nothing => Shown::Nothing,
            Shown::Cells { image, extent, cells } => {
                let (image, extent) = self.in_image(old, *image, *extent)?;
                Shown::Cells { image, extent, cells: cells.clone() }
            }
            Shown::ClientCells(entered) => Shown::ClientCells(self.entered(entered)?),
        })
    }

    fn entered(&self, entered: &ClientCells) -> Option<ClientCells> {
        Some(ClientCells { rule: self.rule(entered.rule)?, ..entered.clone() })
    }

    /// The same place in the same image.
    pub(crate) fn in_image(&self, old: &Plan, image: usize, extent: Extent) -> Option<(usize, Extent)> {
        let there = self.images.get(image).copied().flatten()?;
        let stations = (old.images.get(image), self.next.plan.images.get(there));
        Some((there, self.extent(stations.0, stations.1, extent)?))
    }

    /// The same part of a client's write.
    pub(crate) fn task(&self, old: &Plan, task: &Task) -> Option<Task> {
        Some(match task {
            Task::Send(write) => Task::Send(self.write(old, write)?),
            Task::Enter(entered) => Task::Enter(self.entered(entered)?),
        })
    }
}

fn port_named(shared: &Shared, name: &str) -> Option<usize> {
    shared.ports.iter().position(|port| port.name == name)
}

/// Whether a station of that name is the same one: it speaks the same protocol and has the same settings.
pub(super) fn is_same(one: &Station, other: &Station) -> bool {
    one.name == other.name
        && one.dialect.map(|dialect| dialect.name()) == other.dialect.map(|dialect| dialect.name())
        && one.setup == other.setup
}

/// The steps of each rule.
fn steps(plan: &Plan) -> HashMap<u32, Vec<u32>> {
    let mut steps: HashMap<u32, Vec<u32>> = HashMap::new();
    for (at, step) in (0u32..).zip(&plan.steps) {
        steps.entry(step.rule).or_default().push(at);
    }
    steps
}

/// What makes a rule the same one in a changed project: both ends, by name, settings and place, and the conversion. Two
/// hashes with different beginnings: one alone might meet another rule's in a large project.
type RuleIdentity = (u64, u64);

fn identities(plan: &Plan) -> HashMap<RuleIdentity, u32> {
    identities_of(plan).zip(0u32..).collect()
}

fn identities_of(plan: &Plan) -> impl Iterator<Item = RuleIdentity> + '_ {
    let named = |station: &Station| hash_of(&station.name);
    let devices: Vec<u64> = plan.devices.iter().map(known).collect();
    let images: Vec<u64> = plan.images.iter().map(named).collect();
    plan.rules.iter().map(move |rule| {
        let hash = |seed: u8| {
            let mut hasher = DefaultHasher::new();
            seed.hash(&mut hasher);
            hash_rule(plan, rule, (&devices, &images), &mut hasher);
            hasher.finish()
        };
        (hash(0), hash(1))
    })
}

fn hash_of(what: &impl Hash) -> u64 {
    let mut hasher = DefaultHasher::new();
    what.hash(&mut hasher);
    hasher.finish()
}

/// What a device is known by: its name, and as what it is asked. An image is known by its name alone.
fn known(station: &Station) -> u64 {
    let mut hasher = DefaultHasher::new();
    (&station.name, station.dialect.map(|dialect| dialect.name())).hash(&mut hasher);
    hash_setup(&station.setup, &mut hasher);
    hasher.finish()
}

fn hash_setup(setup: &Setup, hasher: &mut DefaultHasher) {
    (&setup.numbers, &setup.words).hash(hasher);
    for (key, row) in &setup.rows {
        key.hash(hasher);
        hash_setup(row, hasher);
    }
}

fn hash_rule(
    plan: &Plan,
    rule: &PlannedRule,
    (devices, images): (&[u64], &[u64]),
    hasher: &mut DefaultHasher,
) {
    let end = |owner: Owner, place: Place, hasher: &mut DefaultHasher| {
        let known = match owner {
            Owner::Device(device) => (0u8, devices.get(device)),
            Owner::Image(image) => (1, images.get(image)),
            Owner::Converter => (2, None),
        };
        let space = plan.station(owner).and_then(|station| station.space_at(place.space));
        let place = (place.first, place.width, place.count, place.bit);
        (known, space.map(|space| &space.key), place).hash(hasher);
    };
    match rule.source {
        Source::Values { owner, place, .. } => end(owner, place, hasher),
        Source::ClientCells { image, place, .. } => end(Owner::Image(image), place, hasher),
        // What is told is worked out at each look and has no value to keep.
        Source::Health(_) => rule.map.hash(hasher),
        Source::Client => {}
    }
    let target = plan.sink(rule).map_or(Owner::Image(rule.board), Owner::Device);
    end(target, rule.target, hasher);
    (std::mem::discriminant(&rule.source), rule.conversion.from, rule.conversion.to).hash(hasher);
}

/// What makes a poll the same one.
fn poll_identity(plan: &Plan, transfer: &Transfer) -> u64 {
    let mut hasher = DefaultHasher::new();
    let station = plan.station(transfer.from);
    station.map(known).hash(&mut hasher);
    for part in &*transfer.parts {
        let key = station.and_then(|station| station.space_at(part.space)).map_or("", |space| &space.key);
        (key, part.first, part.count).hash(&mut hasher);
    }
    hasher.finish()
}
