//! What is exchanged in cycles: the blocks of each station, how long they are, and the values that lie in them.

use super::{Cadence, Landing, Plan, Source, Transfer, to_u32};
use crate::project::Owner;
use crate::protocol::{Cyclic, CyclicTimes, Dialect, Extent, Flow, Holder, Setup, SpaceId, Spaces};
use std::sync::Arc;

/// Bytes that go both ways again and again between a station of ours and its other end.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CyclicLink {
    /// The image that a controller exchanges with, or the device that we do.
    pub with: Owner,
    /// Index of its port.
    pub port: usize,
    /// The board whose cells go.
    pub board: usize,
    /// Its blocks, in the order of the frame.
    pub slots: Vec<PlannedSlot>,
    /// From frame to frame, in microseconds: what we ask for, or the shortest that we accept.
    pub period: u64,
    /// Without a frame for so long, what came counts as lost, in microseconds; an image's controller may ask for another.
    pub lost_after: u64,
}

/// One block of a link.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PlannedSlot {
    /// All of what comes in it, and the transfer by which it lands.
    pub comes: Option<(Extent, usize)>,
    /// All of what goes in it.
    pub goes: Option<Extent>,
}

/// The spaces that a station has before any rule.
pub(super) fn spaces(dialect: Option<&'static dyn Dialect>, setup: &Setup, holder: Holder) -> Arc<Spaces> {
    let Some(dialect) = dialect else { return Arc::default() };
    let Some(cyclic) = dialect.cyclic() else { return Spaces::standing(dialect) };
    let slots = cyclic.slots(setup, holder);
    Arc::new(slots.iter().flat_map(|slot| [&slot.comes, &slot.goes]).flatten().collect())
}

impl Plan {
    /// Which way the values of a space go.
    #[must_use]
    pub fn flow(&self, owner: Owner, space: SpaceId) -> Flow {
        self.station(owner)
            .and_then(|station| station.space_at(space))
            .map_or(Flow::Asked, |space| space.flow)
    }

    /// What is exchanged with a station, if anything is.
    #[must_use]
    pub fn link_of(&self, owner: Owner) -> Option<&CyclicLink> {
        self.links.iter().find(|link| link.with == owner)
    }

    /// Index of what is exchanged with a station.
    #[must_use]
    pub fn link_number(&self, owner: Owner) -> Option<usize> {
        self.links.iter().position(|link| link.with == owner)
    }

    /// The link by which the values of a transfer come.
    #[must_use]
    pub fn link_of_transfer(&self, transfer: usize) -> Option<usize> {
        let brings = |link: &CyclicLink| {
            link.slots.iter().any(|slot| slot.comes.is_some_and(|(_, own)| own == transfer))
        };
        self.links.iter().position(brings)
    }

    /// What a station exchanges, by its protocol.
    fn cyclic(&self, owner: Owner) -> Option<(&'static dyn Cyclic, CyclicTimes)> {
        let station = self.station(owner)?;
        let cyclic = station.dialect?.cyclic()?;
        Some((cyclic, cyclic.times(&station.setup)))
    }

    /// All stations that exchange something.
    fn cyclic_stations(&self) -> Vec<Owner> {
        let images = (0..self.images.len()).map(Owner::Image);
        let all = images.chain((0..self.devices.len()).map(Owner::Device));
        all.filter(|owner| self.cyclic(*owner).is_some()).collect()
    }

    /// Blocks whose length is open are as long as the rules need.
    pub(super) fn settle_blocks(&mut self) {
        for owner in self.cyclic_stations() {
            let (Some(station), Some(board)) = (self.station(owner), self.board_of(owner)) else { continue };
            let open: Vec<SpaceId> = station
                .spaces
                .with_ids()
                .filter(|(_, space)| space.len.is_none())
                .map(|(id, _)| id)
                .collect();
            for id in open {
                let ends = self.rules.iter().filter_map(|rule| {
                    let source = match rule.source {
                        Source::Values { owner: of, place, .. } if of == owner => Some(place),
                        _ => None,
                    };
                    let target = (rule.board == board).then_some(rule.target);
                    let own = [source, target].into_iter().flatten().filter(|place| place.space == id);
                    own.map(|place| place.extent().end()).max()
                });
                let len = ends.max().unwrap_or(0);
                let station = match owner {
                    Owner::Device(device) => self.devices.get_mut(device),
                    _ => self.images.get_mut(board),
                };
                let Some(station) = station else { continue };
                if let (Some(cyclic), Some(space)) =
                    (station.dialect.and_then(|own| own.cyclic()), station.spaces.get(id))
                {
                    cyclic.settle(&mut station.setup, space, len);
                }
                Arc::make_mut(&mut station.spaces).settle(id, len);
            }
        }
    }

    /// One link for each station that exchanges something, and a transfer for each block that comes.
    pub(super) fn link_everything(&mut self) {
        for owner in self.cyclic_stations() {
            let (Some((cyclic, times)), Some(board)) = (self.cyclic(owner), self.board_of(owner)) else {
                continue;
            };
            let Some(station) = self.station(owner) else { continue };
            let (port, spaces) = (station.port, Arc::clone(&station.spaces));
            let holder = if matches!(owner, Owner::Image(_)) { Holder::Image } else { Holder::Device };
            let slots = cyclic.slots(&station.setup, holder);
            let whole = |space: &Option<crate::protocol::Space>| {
                let id = spaces.id(&space.as_ref()?.key)?;
                Some(Extent { space: id, first: 0, count: spaces.get(id)?.len? })
            };
            let mut planned = vec![];
            for slot in &slots {
                let comes =
                    whole(&slot.comes).map(|extent| (extent, self.transfer_in(owner, extent, times.period)));
                planned.push(PlannedSlot { comes, goes: whole(&slot.goes) });
            }
            let CyclicTimes { period, lost_after } = times;
            self.links.push(CyclicLink { with: owner, port, board, slots: planned, period, lost_after });
        }
    }

    /// The transfer by which a block lands, with the steps of the rules that begin in it.
    fn transfer_in(&mut self, from: Owner, extent: Extent, period: u64) -> usize {
        let begin = to_u32(self.steps.len());
        let mut steps: Vec<Landing> = vec![];
        for (at, rule) in self.rules.iter().enumerate() {
            if let Source::Values { owner, place, .. } = rule.source
                && (owner, place.space) == (from, extent.space)
            {
                let rule = to_u32(at);
                steps.push(Landing { rule, item: 0, items: place.count, offset: place.first, slot: 0 });
            }
        }
        // All steps of one board in a row: they land under one lock.
        steps.sort_by_key(|step| self.rules.get(step.rule as usize).map_or(0, |rule| rule.board));
        self.steps.extend(steps);
        let (parts, steps) = (Arc::new([extent]), begin..to_u32(self.steps.len()));
        self.transfers.push(Transfer { from, parts, cadence: Cadence::Cyclic(period), takes: 0, steps });
        self.transfers.len() - 1
    }
}
