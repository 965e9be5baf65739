//! What the converter knows of its devices, rules, ports and of those who ask: for readers of images, for `status` and
//! for the monitor.

mod device;
mod link;
mod polls;
mod tally;

pub use device::{DeviceHealth, failure_code};
pub use link::{LinkCounts, LinkHealth, LinkState};
pub use polls::PollTally;
pub use tally::{ClientTally, Counts, PortTally, Tally};

use crate::Moment;
use device::tenths;
use std::collections::HashMap;
use std::sync::atomic::Ordering::Relaxed;
use std::sync::{Arc, Mutex, PoisonError};
use woodrush_core::Refusal;
use woodrush_core::plan::{Plan, Source};
use woodrush_core::project::{BoxHealth, Health, HealthItem, Owner, PortHealth};
use woodrush_core::protocol::Flow;

/// Everything that is counted, by the indices of the plan.
#[derive(Debug, Default)]
pub struct HealthCounters {
    /// By device.
    pub devices: Vec<Arc<DeviceHealth>>,
    /// By port.
    pub ports: Vec<Arc<PortTally>>,
    /// By link that runs in cycles.
    pub links: Vec<Arc<LinkHealth>>,
    /// By transfer: the polls.
    pub transfers: Vec<PollTally>,
    /// By image: its link, where it has one.
    images: Vec<Option<usize>>,
    /// By rule that writes to a device.
    pub sends: HashMap<u32, Tally>,
    /// Those who are connected now, whatever project runs.
    clients: Arc<Mutex<Vec<Arc<ClientTally>>>>,
    /// What the rules are fed by whose health some rule carries, by `[[map]]`.
    fed: HashMap<usize, Fed>,
}

/// What a rule's health is made of.
#[derive(Debug, Default)]
struct Fed {
    /// The polls, each with the rule.
    transfers: Vec<(usize, u32)>,
    sends: Vec<u32>,
    max_age: u64,
}

impl HealthCounters {
    /// For a plan; `devices` and `ports` are those of the board before where they stand for the same ones, and the
    /// clients that are connected are those of `old`.
    #[must_use]
    pub fn new(
        plan: &Plan,
        devices: Vec<Arc<DeviceHealth>>,
        ports: Vec<Arc<PortTally>>,
        links: Vec<Arc<LinkHealth>>,
        old: Option<&Self>,
    ) -> Self {
        let asked = plan.rules.iter().filter_map(|rule| match rule.source {
            Source::Health(HealthItem::Rule(map, _)) => Some(map),
            _ => None,
        });
        let asked: Vec<usize> = asked.collect();
        let mut fed: HashMap<usize, Fed> = HashMap::new();
        for (at, rule) in (0u32..).zip(&plan.rules).filter(|(_, rule)| asked.contains(&rule.map)) {
            let entry = fed.entry(rule.map).or_default();
            entry.transfers.extend(plan.feeding_transfers(at).map(|transfer| (transfer, at)));
            entry.sends.extend(plan.sink(rule).map(|_| at));
            entry.max_age = entry.max_age.max(rule.max_age);
        }
        // What goes in cycles is no request: how it fares, its link says.
        let sends = (0u32..).zip(&plan.rules).filter(|(_, rule)| {
            plan.sink(rule).is_some_and(|to| plan.flow(Owner::Device(to), rule.target.space) == Flow::Asked)
        });
        Self {
            devices,
            ports,
            images: plan
                .images
                .iter()
                .enumerate()
                .map(|(at, _)| plan.link_number(Owner::Image(at)))
                .collect(),
            links,
            transfers: plan.transfers.iter().map(|transfer| PollTally::new(plan, transfer)).collect(),
            sends: sends.map(|(at, _)| (at, Tally::default())).collect(),
            clients: old.map(|old| Arc::clone(&old.clients)).unwrap_or_default(),
            fed,
        }
    }

    fn lock_askers(&self) -> std::sync::MutexGuard<'_, Vec<Arc<ClientTally>>> {
        self.clients.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A client that has connected to a port; it is in the list until it has left.
    pub fn client(&self, port: usize, who: String) -> Arc<ClientTally> {
        let port = self.ports.get(port).cloned().unwrap_or_default();
        let client = Arc::new(ClientTally { tally: Tally::default(), port, who });
        self.lock_askers().push(Arc::clone(&client));
        client
    }

    /// A client has gone: its port goes on counting what it asked.
    pub(crate) fn left(&self, client: &Arc<ClientTally>) {
        self.lock_askers().retain(|other| !Arc::ptr_eq(other, client));
        client.port.adopt(client.tally.counts());
    }

    /// The clients that are connected.
    #[must_use]
    pub fn clients(&self) -> Vec<Arc<ClientTally>> {
        self.lock_askers().clone()
    }

    /// Counts how a write to a device ended: at the device, and at the rule that it is for.
    pub(crate) fn count_write(&self, now: Moment, device: usize, rule: u32, result: Result<(), &Refusal>) {
        let device = self.devices.get(device).map(|device| &device.tally);
        for tally in device.into_iter().chain(self.sends.get(&rule)) {
            tally.count(now, result);
        }
    }

    /// Counters from 0 on.
    pub fn reset(&self) {
        self.devices.iter().for_each(|device| device.reset());
        self.ports.iter().for_each(|port| port.reset());
        self.links.iter().for_each(|link| link.reset());
        self.transfers.iter().for_each(PollTally::reset);
        self.sends.values().for_each(Tally::reset);
        for client in self.clients() {
            client.tally.reset();
        }
    }

    /// One item as cells: a bit, or 16 or 32 bits, the high byte first.
    #[must_use]
    pub fn cells(&self, told: HealthItem, now: Moment) -> Option<Vec<u8>> {
        let low = |number: u64| u16::try_from(number & 0xFFFF).unwrap_or(0).to_be_bytes().to_vec();
        Some(match told {
            HealthItem::Device(device, item) => self.devices.get(device)?.cells(item, now),
            HealthItem::Rule(map, item) => self.fed.get(&map)?.cells(self, item, now),
            HealthItem::Port(port, item) => {
                let port = self.ports.get(port)?;
                let counts = port.tally.counts();
                low(match item {
                    PortHealth::Timeouts => counts.no_answer,
                    PortHealth::Damaged => counts.damaged + port.noise.load(Relaxed),
                    PortHealth::Clients => port.clients.load(Relaxed),
                    PortHealth::Load => port.load(now),
                })
            }
            HealthItem::Image(image, item) => {
                let link = (*self.images.get(image)?)?;
                self.links.get(link)?.cells(item, now)
            }
            HealthItem::Converter(BoxHealth::Heartbeat) => low(now.0 / 1_000_000),
            HealthItem::Converter(BoxHealth::Uptime) => {
                u32::try_from(now.0 / 1_000_000).unwrap_or(u32::MAX).to_be_bytes().to_vec()
            }
        })
    }
}

/// How fresh what these carry is: the age of the oldest value, and whether all is good. A value that stands still is not
/// sent again, so its sends age while it is as fresh as its polls; without polls it is as old as what was sent last.
pub(crate) fn freshness(
    polls: &[&Tally],
    sends: &[&Tally],
    max_age: u64,
    now: Moment,
) -> (Option<u64>, bool) {
    let by = if polls.is_empty() { sends } else { polls };
    let ages: Option<Vec<u64>> = by.iter().map(|tally| tally.age(now)).collect();
    let age = ages.and_then(|ages| ages.into_iter().max());
    let good = |tally: &&Tally| tally.counts().last_error == 0;
    let polled = polls.iter().all(|tally| good(tally) && tally.age(now).is_some_and(|age| age <= max_age));
    let sent = sends.iter().all(|tally| good(tally) && tally.age(now).is_some());
    (age, !(polls.is_empty() && sends.is_empty()) && polled && sent)
}

impl Fed {
    fn cells(&self, board: &HealthCounters, item: Health, now: Moment) -> Vec<u8> {
        let polls = self.transfers.iter().filter_map(|(at, rule)| Some(board.transfers.get(*at)?.of(*rule)));
        let polls: Vec<&Tally> = polls.collect();
        let sends: Vec<&Tally> = self.sends.iter().filter_map(|rule| board.sends.get(rule)).collect();
        let (age, fresh) = freshness(&polls, &sends, self.max_age, now);
        let counts = polls.iter().chain(&sends).map(|tally| tally.counts());
        let number = match item {
            Health::Online => return vec![u8::from(fresh)],
            // The oldest of them; one that never came is older than all.
            Health::Age => tenths(age),
            Health::Polls => {
                u16::try_from(counts.map(|c| c.answers).min().unwrap_or(0) & 0xFFFF).unwrap_or(0)
            }
            Health::Errors => {
                let errors: u64 =
                    counts.map(|counts| counts.requests - counts.answers.min(counts.requests)).sum();
                u16::try_from(errors & 0xFFFF).unwrap_or(0)
            }
            Health::LastError => counts.map(|counts| counts.last_error).find(|code| *code != 0).unwrap_or(0),
        };
        number.to_be_bytes().to_vec()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use woodrush_core::{Blame, Kind};

    #[test]
    fn a_value_that_stands_still_is_as_fresh_as_its_polls() {
        let (poll, send) = (Tally::default(), Tally::default());
        assert_eq!(freshness(&[&poll], &[&send], 1000, Moment(0)), (None, false));
        poll.count(Moment(10), Ok(()));
        assert!(!freshness(&[&poll], &[&send], 1000, Moment(20)).1, "it was never sent");
        send.count(Moment(20), Ok(()));
        poll.count(Moment(900_000), Ok(()));
        assert_eq!(freshness(&[&poll], &[&send], 1000, Moment(900_500)), (Some(500), true));
        assert_eq!(freshness(&[], &[&send], u64::MAX, Moment(900_500)), (Some(900_480), true));
        assert!(!freshness(&[&poll], &[&send], 1000, Moment(902_000)).1, "the polls have stopped");
        send.count(Moment(900_000), Err(&Refusal::new(Kind::NoAnswer, Blame::Device)));
        assert!(!freshness(&[&poll], &[&send], 1000, Moment(900_500)).1, "the last send failed");
    }
}
