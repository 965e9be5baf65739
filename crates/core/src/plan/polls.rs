//! The requests of all polls: which values come together, and where each answer goes.

use super::{Cadence, Landing, Plan, PlannedRule, Source, Station, Transfer, requests, to_u32};
use crate::project::{Owner, Project};
use crate::protocol::{Extent, Flow, SpaceId, Verb};
use std::sync::Arc;

impl Plan {
    /// Finds the least-bus-time requests for each device, space and interval, and where their answers go.
    pub(super) fn request_everything(&mut self, project: &Project) {
        // Polled rules by what one set of requests serves.
        let mut polled: Vec<PolledRule> = vec![];
        for (at, rule) in self.rules.iter().enumerate() {
            if let Source::Values { owner: Owner::Device(device), place, .. } = rule.source
                && self.flow(Owner::Device(device), place.space) == Flow::Asked
            {
                let device = self.host(device);
                let gathered = if self.devices.get(device).is_some_and(gathers) { rule.every } else { 0 };
                let (space, first) = (place.space, place.first);
                let (every, published) = (rule.every, rule.published);
                polled.push(PolledRule { device, gathered, published, space, every, first, rule: at });
            }
        }
        polled.sort_unstable();
        for group in polled.chunk_by(|a, b| {
            let of = |rule: &PolledRule| (rule.device, rule.published, rule.space, rule.every);
            of(a) == of(b)
        }) {
            self.request_group(project, group);
        }
        self.gather();
        self.link_everything();
        for (at, rule) in self.rules.iter().enumerate() {
            // Each value that clients write has a moment of its own.
            if !matches!(rule.source, Source::Values { .. }) {
                let step = |item| Landing { rule: to_u32(at), item, items: 1, offset: 0, slot: 0 };
                self.fed_by_writes.push((to_u32(at), to_u32(self.steps.len())));
                self.steps.extend((0..rule.target.count).map(step));
            }
        }
    }

    fn request_group(&mut self, project: &Project, group: &[PolledRule]) -> Option<()> {
        let &PolledRule { device, space: id, every, published, .. } = group.first()?;
        let station = self.devices.get(device)?;
        let (dialect, space) = (station.dialect?, station.space_at(id)?);
        let line = *self.lines.get(station.port)?;
        let place_of = |rule: &PlannedRule| match rule.source {
            Source::Values { place, .. } => Some(place),
            _ => None,
        };
        let gap = project.devices.get(device)?.read_gap;
        let mut items = vec![];
        let mut together: Vec<(&str, u32, u32)> = vec![];
        let mut held = vec![];
        for PolledRule { rule, .. } in group {
            let rule = self.rules.get(*rule)?;
            let place = place_of(rule)?;
            items.extend((0..place.count).map(|item| (place.item(item).first, place.width)));
            if let Some(name) = project.maps.get(rule.map).and_then(|map| map.together.as_ref()) {
                together.push((&name.value, place.first, place.extent().end()));
            }
        }
        // The rules of a group are one item where one request takes them all; where not, a check says so.
        together.sort_unstable();
        for one in together.chunk_by(|a, b| a.0 == b.0) {
            let first = one.iter().map(|(_, first, _)| *first).min()?;
            let count = one.iter().map(|(.., end)| *end).max()? - first;
            if dialect.cost(Verb::Read, space, count, &station.setup).is_ok() {
                items.push((first, count));
                held.push((device, Extent { space: id, first, count }));
            }
        }
        let requests = match space.len.filter(|_| space.whole) {
            Some(len) => vec![Extent { space: id, first: 0, count: len }],
            None => {
                requests::cover(dialect, space, id, &items, gap, &station.setup, &|cost| line.weight(cost))?
            }
        };
        let each = to_u32(space.grain.cell_bytes());
        // Steps by request; a rule's values may be spread over several.
        let mut landing: Vec<(usize, Landing)> = vec![];
        for PolledRule { rule, .. } in group {
            let place = place_of(self.rules.get(*rule)?)?;
            let mut item = 0;
            while item < place.count {
                let first = place.item(item);
                let at = requests.partition_point(|request| request.first <= first.first).checked_sub(1)?;
                let request =
                    (0..=at).rev().find(|at| requests.get(*at).is_some_and(|r| r.end() >= first.end()))?;
                let end = requests.get(request)?.end();
                let items = ((end - first.first) / place.width).min(place.count - item);
                let offset = (first.first - requests.get(request)?.first) * each;
                landing.push((request, Landing { rule: to_u32(*rule), item, items, offset, slot: 0 }));
                item += items;
            }
        }
        // All steps of one board in a row: they land under one lock.
        let board = |step: &Landing| self.rules.get(step.rule as usize).map_or(0, |rule| rule.board);
        landing.sort_by_key(|(request, step)| (*request, board(step)));
        self.held_together.extend(held);
        let mut landing = landing.into_iter().peekable();
        for (at, extent) in requests.iter().enumerate() {
            let begin = to_u32(self.steps.len());
            while let Some((_, step)) = landing.next_if(|(request, _)| *request == at) {
                self.steps.push(step);
            }
            let takes = dialect
                .cost(Verb::Read, space, extent.count, &station.setup)
                .map_or(0, |cost| line.exchange(cost));
            let steps = begin..to_u32(self.steps.len());
            let from = Owner::Device(device);
            let (cadence, takes) =
                if published { (Cadence::Published(every), 0) } else { (Cadence::Every(every), takes) };
            self.transfers.push(Transfer { from, parts: Arc::new([*extent]), cadence, takes, steps });
        }
        Some(())
    }

    /// Where one request takes several places: as many of those that are read together as it takes, in their order.
    fn gather(&mut self) {
        let all = std::mem::take(&mut self.transfers);
        let mut last = 1;
        for alike in all.chunk_by(|one, next| (one.from, one.cadence) == (next.from, next.cadence)) {
            let mut rest = alike;
            while !rest.is_empty() {
                last = self.most_in_one(rest, last);
                let (own, behind) = rest.split_at(last);
                if let Some(one) = self.as_one(own) {
                    self.transfers.push(one);
                }
                rest = behind;
            }
        }
    }

    /// How many of these, from the first on, one request takes; at least that one. More never cost less, and it is mostly
    /// as many as the request before took: so that many are tried first, then further and further from there, and in the
    /// end between.
    fn most_in_one(&self, alike: &[Transfer], before: usize) -> usize {
        let station = alike.first().and_then(|first| self.station(first.from)).filter(|own| gathers(own));
        let Some(station) = station else { return 1 };
        let takes = |count: usize| {
            let own = alike.get(..count)?.iter().flat_map(|transfer| transfer.parts.iter().copied());
            station.cost(Verb::Read, &own.collect::<Vec<Extent>>())
        };
        let (mut low, mut high, mut step) = (before.min(alike.len()).max(1), alike.len() + 1, 1);
        while low > 1 && takes(low).is_none() {
            high = low;
            low = low.saturating_sub(step).max(1);
            step *= 2;
        }
        // What was too much bounds it from above; else the search goes on upwards.
        while low + step < high && takes(low + step).is_some() {
            low += step;
            step *= 2;
        }
        high = high.min(low + step);
        while high - low > 1 {
            let middle = low + (high - low) / 2;
            if takes(middle).is_some() { low = middle } else { high = middle }
        }
        low
    }

    /// Several transfers as one; `None` where there are none.
    fn as_one(&mut self, own: &[Transfer]) -> Option<Transfer> {
        let (first, last) = (own.first()?, own.last()?);
        if own.len() == 1 {
            return Some(first.clone());
        }
        let station = self.station(first.from)?;
        let line = self.lines.get(station.port)?;
        let parts: Arc<[Extent]> = own.iter().flat_map(|transfer| transfer.parts.iter().copied()).collect();
        let takes = line.exchange(station.cost(Verb::Read, &parts)?);
        let bytes: Vec<u32> = own.iter().map(|transfer| station.bytes_of(&transfer.parts)).collect();
        let mut before = 0;
        for (transfer, bytes) in own.iter().zip(bytes) {
            let steps = transfer.steps.start as usize..transfer.steps.end as usize;
            self.steps.get_mut(steps).unwrap_or_default().iter_mut().for_each(|step| step.offset += before);
            before += bytes;
        }
        // All steps of one board in a row, as in one request for one place.
        let board = |step: &Landing| self.rules.get(step.rule as usize).map_or(0, |rule| rule.board);
        let steps = first.steps.start..last.steps.end;
        let all = self.steps.get_mut(steps.start as usize..steps.end as usize);
        all.unwrap_or_default().sort_by_key(board);
        Some(Transfer { parts, takes, steps, ..first.clone() })
    }
}

/// A rule that is polled, in the order in which requests are found.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct PolledRule {
    device: usize,
    /// The interval, where one request takes several places; those of one interval stand together then.
    gathered: u64,
    /// It comes by itself.
    published: bool,
    space: SpaceId,
    every: u64,
    first: u32,
    /// Its index in the plan.
    rule: usize,
}

fn gathers(station: &Station) -> bool {
    station.dialect.and_then(|dialect| dialect.requests()).is_some_and(|requests| requests.gathers())
}
