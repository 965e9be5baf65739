//! Rules resolved: which cells, which conversion, which requests, how old a value may get.

mod demands;
mod entries;
mod fingerprint;
mod forwards;
mod links;
mod overlaps;
mod pieces;
mod polls;
mod ports;
mod pushes;
mod requests;
mod resolve;
mod station;
mod times;

pub use demands::{Demand, demands};
pub use forwards::{PlannedForward, Route};
pub use links::{CyclicLink, PlannedSlot};
pub use pushes::Push;
pub use station::Station;
pub use times::Age;

use crate::cells::filled;
use crate::finding::Finding;
use crate::form::Conversion;
use crate::line_time::LineTime;
use crate::project::{HealthItem, Map, OnLoss, Owner, Project, Sending, caps, has_address};
use crate::protocol::{Extent, Grain, Holder, Place, SpaceId};
use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

/// What the converter does, ready to run. Indices of devices, images and ports are those of the project.
#[derive(Debug, Clone, Default)]
pub struct Plan {
    /// What is asked.
    pub devices: Vec<Station>,
    /// What is shown.
    pub images: Vec<Station>,
    /// Every sound rule, in file order; behind them the cells that clients write and rules carry on.
    pub rules: Vec<PlannedRule>,
    /// Every request that is sent again and again, by device.
    pub transfers: Vec<Transfer>,
    /// Where the values of transfers go; the steps that no transfer feeds come last: what the converter tells, and
    /// what clients write.
    pub steps: Vec<Landing>,
    /// The rules that no poll feeds, with the first of their steps: one a value, in order.
    pub fed_by_writes: Vec<(u32, u32)>,
    /// Which rules carry on what clients write: the entry's rule and the one that carries it, sorted.
    pub onward: Vec<(u32, u32)>,
    /// Every write that is sent without a client waiting for it.
    pub pushes: Vec<Push>,
    /// What is exchanged in cycles, one with each station that exchanges anything.
    pub links: Vec<CyclicLink>,
    /// Whole forwarded requests.
    pub forwards: Vec<PlannedForward>,
    /// Cells of images that rules left out would feed, as far as that is known.
    pub unresolved: Vec<(usize, Extent)>,
    /// By device: another port by which it is written.
    write_ports: Vec<Option<usize>>,
    /// By device: what must come in one request.
    held_together: Vec<(usize, Extent)>,
    /// Time on each port.
    pub lines: Vec<LineTime>,
    /// How long a request on each port takes that nobody answers, its bytes not counted, in microseconds.
    pub unanswered: Vec<u64>,
    /// By device: the node of its box by which all of them are asked; itself where it is a station of its own.
    pub hosts: Vec<usize>,
    /// Time of each port's polls if each is due once, in microseconds, a timeout not included.
    pub cycles: Vec<u64>,
}

/// Where a rule's values come from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Source {
    /// Values that a transfer brings.
    Values {
        /// Whose they are.
        owner: Owner,
        /// Where there.
        place: Place,
        /// Index of the point in its profile, where one was named.
        point: Option<usize>,
    },
    /// What the converter tells.
    Health(HealthItem),
    /// Clients write it; other rules carry it on.
    Client,
    /// What clients write into other cells of an image.
    ClientCells {
        /// Index of the image.
        image: usize,
        /// Where in it.
        place: Place,
        /// Index of the rule that stands for those cells.
        rule: u32,
    },
}

impl Source {
    /// The device that it depends on, or is about.
    #[must_use]
    pub const fn device(&self) -> Option<usize> {
        match self {
            Self::Values { owner, .. } => owner.device(),
            Self::Health(told) => told.device(),
            Self::Client | Self::ClientCells { .. } => None,
        }
    }
}

/// One rule, resolved.
#[derive(Debug, Clone)]
pub struct PlannedRule {
    /// Index of its `[[map]]`.
    pub map: usize,
    /// Where the values come from.
    pub source: Source,
    /// Whose cells they go to: images by their index, then for each device what it shall be sent.
    pub board: usize,
    /// Where there.
    pub target: Place,
    /// Index of the point in the target device's profile, where one was named.
    pub target_point: Option<usize>,
    /// From the one form to the other.
    pub conversion: Arc<Conversion>,
    /// A client's write goes back to the source.
    pub writable: bool,
    /// How often it is polled, or comes by itself, in microseconds.
    pub every: u64,
    /// It comes by itself.
    pub published: bool,
    /// Older than this counts as lost, in microseconds.
    pub max_age: u64,
    /// What a reader gets once the source is lost.
    pub on_loss: OnLoss,
    /// When a device is written.
    pub sending: Sending,
    /// A client's write is answered when the device has answered.
    pub after_device: bool,
    /// Raw words of the source that mean "no value".
    pub invalid: Box<[u64]>,
}

impl PlannedRule {
    /// One cell of the target where its value is filled with a word of 16 bits: a value of one byte gets the lower one, and
    /// in a block that is written the less significant byte first the word lies so as well.
    #[must_use]
    pub fn fill_cell(&self, word: u16, grain: Grain, at: u32) -> Vec<u8> {
        if grain != Grain::Bytes(1) {
            return filled(word, grain, at, 1);
        }
        let [high, low] = word.to_be_bytes();
        let width = self.target.width.max(1);
        let second = (at.saturating_sub(self.target.first) % width) % 2 == 1;
        let low_first = self.conversion.to.order().low_byte_first;
        vec![if width == 1 || second != low_first { low } else { high }]
    }

    /// Whether one register stands for sixteen bits at the other end, bit 0 first.
    #[must_use]
    pub const fn spreads(&self) -> bool {
        matches!(self.source, Source::Values { place: Place { width: 1, bit: None, .. }, .. } if self.target.width == 16)
    }
}

/// Values that come together, again and again.
#[derive(Debug, Clone)]
pub struct Transfer {
    /// Whose they are; of the nodes of one box, the first one's.
    pub from: Owner,
    /// What is read: one place after the other, in one request.
    pub parts: Arc<[Extent]>,
    /// When they come.
    pub cadence: Cadence,
    /// Its time on the line, in microseconds.
    pub takes: u64,
    /// The steps that its answer feeds.
    pub steps: Range<u32>,
}

/// When the values of a transfer come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Cadence {
    /// We ask for them so often, in microseconds.
    Every(u64),
    /// They come by themselves so often, in microseconds.
    Published(u64),
    /// They come in frames of an exchange in cycles, so often, in microseconds.
    Cyclic(u64),
}

impl Cadence {
    /// How long it is from one to the next, in microseconds.
    #[must_use]
    pub const fn interval(self) -> u64 {
        match self {
            Self::Every(interval) | Self::Published(interval) | Self::Cyclic(interval) => interval,
        }
    }

    /// Whether we ask for them.
    #[must_use]
    pub const fn is_asked(self) -> bool {
        matches!(self, Self::Every(_))
    }
}

impl Transfer {
    /// The device whose values they are.
    #[must_use]
    pub const fn device(&self) -> Option<usize> {
        self.from.device()
    }

    /// The device that is asked for them; `None` where they come by themselves.
    #[must_use]
    pub const fn asked_device(&self) -> Option<usize> {
        if self.cadence.is_asked() { self.from.device() } else { None }
    }

    /// Its first part.
    #[must_use]
    pub fn first(&self) -> Option<Extent> {
        self.parts.first().copied()
    }

    /// The grains of all its parts.
    #[must_use]
    pub fn grains(&self) -> u32 {
        self.parts.iter().map(|part| part.count).sum()
    }

    /// The part that holds all of an extent.
    #[must_use]
    pub fn part_over(&self, extent: Extent) -> Option<Extent> {
        let over = |part: &&Extent| {
            part.space == extent.space && part.first <= extent.first && extent.end() <= part.end()
        };
        self.parts.iter().find(over).copied()
    }
}

/// Values of one rule that one request brings: they change together and are of one age.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Landing {
    /// Index of the rule.
    pub rule: u32,
    /// Its first value.
    pub item: u32,
    /// How many values.
    pub items: u32,
    /// Where the first one begins in the answer's cells, in bytes.
    pub offset: u32,
    /// Its place among the steps of its board.
    pub slot: u32,
}

impl Plan {
    /// Resolves every rule of the project; what cannot be resolved is found and left out.
    #[must_use]
    pub fn build(project: &Project, findings: &mut Vec<Finding>) -> Self {
        let mut plan = Self::without_rules(project);
        plan.rules.reserve(project.maps.len());
        let mut values = 0u64;
        let takes_part = |rule: &Map| rule.enabled && has_address(rule);
        for (map, rule) in project.maps.iter().enumerate().filter(|(_, rule)| takes_part(rule)) {
            values += rule.count.map_or(1, |count| u64::from(count.value));
            if values > caps::VALUES {
                let at = rule.count.map_or(rule.span, |count| count.span);
                findings.push(caps::too_many(at, "values in its rules and more", values, caps::VALUES));
                break;
            }
            match resolve::rule(project, &mut plan, map, rule) {
                Ok(rule) => plan.rules.push(rule),
                Err(found) => {
                    findings.extend(found);
                    plan.unresolved.extend(resolve::landing(project, &plan, rule));
                }
            }
        }
        entries::add(&mut plan);
        overlaps::drop_overlaps(project, &mut plan, findings);
        entries::link(&mut plan);
        if let Some(finding) = plan.too_wide(project) {
            // Nothing of it is built: what is between the first and the last address would be.
            findings.push(finding);
            plan.rules.clear();
            plan.onward.clear();
        }
        plan.settle_blocks();
        plan.request_everything(project);
        plan.pushes = pushes::all(&plan);
        plan.forwards = forwards::all(project);
        plan.set_slots();
        plan.set_cycles();
        plan.set_ages(project);
        plan
    }

    /// Where one rule of the project would show its values: the board, and the place there; `self` has no rules.
    ///
    /// # Errors
    /// All that is wrong with it.
    pub(crate) fn place_of(
        &mut self,
        project: &Project,
        map: usize,
        rule: &Map,
    ) -> Result<(usize, Place), Vec<Finding>> {
        resolve::rule(project, self, map, rule).map(|rule| (rule.board, rule.target))
    }

    /// Devices, images and lines, before any rule.
    pub(crate) fn without_rules(project: &Project) -> Self {
        Self {
            devices: project
                .devices
                .iter()
                .enumerate()
                .map(|(at, d)| Station {
                    name: d.name.value.clone(),
                    port: d.port.map_or(usize::MAX, |port| port.value),
                    dialect: project.device_dialect(at),
                    setup: d
                        .setup
                        .with(d.port.and_then(|port| project.ports.get(port.value)).map(|p| &p.setup)),
                    spaces: links::spaces(project.device_dialect(at), &d.setup, Holder::Device),
                })
                .collect(),
            images: project
                .images
                .iter()
                .enumerate()
                .map(|(at, i)| Station {
                    name: i.name.value.clone(),
                    port: i.port.map_or(usize::MAX, |port| port.value),
                    dialect: project.image_dialect(at),
                    setup: i
                        .setup
                        .with(i.port.and_then(|port| project.ports.get(port.value)).map(|p| &p.setup)),
                    spaces: links::spaces(project.image_dialect(at), &i.setup, Holder::Image),
                })
                .collect(),
            write_ports: project.devices.iter().map(|d| d.write_port.map(|port| port.value)).collect(),
            lines: project.ports.iter().map(LineTime::of).collect(),
            hosts: project.hosts(),
            unanswered: project.ports.iter().map(times::unanswered).collect(),
            ..Self::default()
        }
    }

    /// The rule by which the cells of all boards, from the first address of each table to the last, become too many.
    fn too_wide(&self, project: &Project) -> Option<Finding> {
        let mut ends: BTreeMap<(usize, SpaceId), (u32, u32)> = BTreeMap::new();
        let mut all = 0u64;
        for rule in &self.rules {
            let extent = rule.target.extent();
            let known = ends.entry((rule.board, extent.space)).or_insert((extent.first, extent.first));
            let before = u64::from(known.1 - known.0);
            *known = (known.0.min(extent.first), known.1.max(extent.end()));
            all += u64::from(known.1 - known.0) - before;
            if all > caps::CELLS {
                let at = project.maps.get(rule.map)?.to.span;
                return Some(caps::too_many(
                    at,
                    "addresses from the first to the last of each table",
                    all,
                    caps::CELLS,
                ));
            }
        }
        None
    }

    /// Whose values they are, as its protocol sees it.
    #[must_use]
    pub fn station(&self, owner: Owner) -> Option<&Station> {
        match owner {
            Owner::Device(device) => self.devices.get(device),
            Owner::Image(image) => self.images.get(image),
            Owner::Converter => None,
        }
    }

    /// Whose cells a board holds.
    #[must_use]
    pub fn board(&self, board: usize) -> Option<&Station> {
        match board.checked_sub(self.images.len()) {
            None => self.images.get(board),
            Some(device) => self.devices.get(device),
        }
    }

    /// The board of an image, or of what is to be sent to a device.
    #[must_use]
    pub fn board_of(&self, owner: Owner) -> Option<usize> {
        match owner {
            Owner::Image(image) => Some(image),
            Owner::Device(device) => Some(self.images.len() + device),
            Owner::Converter => None,
        }
    }

    /// How many boards there are.
    #[must_use]
    pub fn boards(&self) -> usize {
        self.images.len() + self.devices.len()
    }

    /// The device that a rule writes to.
    #[must_use]
    pub fn sink(&self, rule: &PlannedRule) -> Option<usize> {
        rule.board.checked_sub(self.images.len())
    }

    /// The rules that carry on what clients write into the cells of `entry`.
    pub fn onward(&self, entry: u32) -> impl Iterator<Item = u32> {
        let begin = self.onward.partition_point(|(from, _)| *from < entry);
        let rest = self.onward.get(begin..).unwrap_or_default();
        rest.iter().take_while(move |(from, _)| *from == entry).map(|(_, to)| *to)
    }

    /// The transfers that feed a rule.
    pub fn feeding_transfers(&self, rule: u32) -> impl Iterator<Item = usize> {
        let feeds = move |transfer: &Transfer| {
            let steps = self.steps.get(transfer.steps.start as usize..transfer.steps.end as usize);
            steps.is_some_and(|steps| steps.iter().any(|step| step.rule == rule))
        };
        self.transfers.iter().enumerate().filter(move |(_, transfer)| feeds(transfer)).map(|(at, _)| at)
    }

    /// A conversion to keep; neighbours mostly have the same one, and share it.
    fn shared(&self, conversion: Conversion) -> Arc<Conversion> {
        match self.rules.last() {
            Some(rule) if *rule.conversion == conversion => rule.conversion.clone(),
            _ => Arc::new(conversion),
        }
    }

    fn set_slots(&mut self) {
        let mut used = vec![0; self.boards()];
        for step in &mut self.steps {
            let board = self.rules.get(step.rule as usize).map_or(0, |rule| rule.board);
            if let Some(used) = used.get_mut(board) {
                step.slot = *used;
                *used += 1;
            }
        }
    }

    /// The rule that a step belongs to.
    #[must_use]
    pub fn rule_of(&self, step: u32) -> Option<&PlannedRule> {
        self.rules.get(self.steps.get(step as usize)?.rule as usize)
    }

    /// The rule that feeds a cell of an image, with the index of the value there.
    #[must_use]
    pub fn feeding(&self, image: usize, space: SpaceId, grain: u32) -> Option<(usize, u32)> {
        self.rules.iter().enumerate().find_map(|(at, rule)| {
            let target = rule.target;
            let hit = rule.board == image
                && target.space == space
                && (target.first..target.extent().end()).contains(&grain);
            hit.then(|| (at, (grain - target.first) / target.width))
        })
    }
}

pub(crate) fn to_u32(number: usize) -> u32 {
    u32::try_from(number).unwrap_or(u32::MAX)
}
