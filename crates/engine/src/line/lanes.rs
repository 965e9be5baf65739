//! The ports of a schedule: one, or those that have a device in common.

use super::turns::{self, DeviceState};
use super::{Current, Schedule};
use crate::Moment;
use crate::shared::{LineQueue, PortSettings, Shared, Site};
use crate::speak::{Client, ClientSetup, speaker, subscriptions};
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use woodrush_core::plan::Station;

/// Requests on a connection of ours that brought nothing back: a firewall may have forgotten it, or the socket at its
/// other end may hang, and neither says so.
#[derive(Debug, Default, Clone, Copy)]
pub(super) struct Unheard {
    /// In a row, since anything was answered.
    pub(super) requests: u32,
    /// Times that it was made again for that, since anything was answered: each next time takes twice as many requests,
    /// since then it is the device that says nothing.
    pub(super) again: u32,
}

/// One port of a schedule.
pub(super) struct Lane {
    /// Index of the port in the project that the schedule follows.
    pub(super) port: usize,
    /// Its name, by which others know it.
    pub(super) name: Arc<str>,
    pub(super) client: Box<dyn Client>,
    pub(super) queue: Arc<LineQueue>,
    pub(super) current: Option<Current>,
    /// The last request was not a poll: a poll that is due goes next.
    pub(super) errand_last: bool,
    pub(super) probe_from: Moment,
    /// Units of others' requests that did not answer, and how often in a row.
    pub(super) silent: HashMap<u16, u32>,
    /// What is known of the connection, where we make it.
    pub(super) unheard: Unheard,
    pub(super) up: bool,
}

impl Lane {
    /// `None` where the port has no protocol that can be spoken.
    fn new(shared: &Shared, port: usize) -> Option<Self> {
        let mut client = (speaker(shared.ports.get(port)?.protocol)?.client?)(&setup(shared, port)?);
        client.keep(subscriptions(&shared.plan, port));
        Some(Self {
            port,
            name: shared.ports.get(port)?.name.as_str().into(),
            client,
            queue: Arc::clone(shared.queues.get(port)?),
            current: None,
            errand_last: false,
            probe_from: Moment(0),
            silent: HashMap::new(),
            unheard: Unheard::default(),
            up: true,
        })
    }

    /// What is known of the line or connection of a port goes on with it.
    fn go_on_from(&mut self, old: &mut Self, shared: &Shared) -> Option<()> {
        std::mem::swap(&mut self.client, &mut old.client);
        self.client.set_up(&setup(shared, self.port)?);
        self.client.keep(subscriptions(&shared.plan, self.port));
        self.up = old.up;
        (self.probe_from, self.unheard) = (old.probe_from, old.unheard);
        Some(())
    }
}

/// What the machine of a port needs to know.
pub(super) fn setup(shared: &Shared, port: usize) -> Option<ClientSetup<'_>> {
    let settings = shared.ports.get(port)?;
    Some(ClientSetup {
        stations: &shared.plan.devices,
        line: *shared.plan.lines.get(port)?,
        retries: settings.retries,
        port: &settings.setup,
        first: settings.first,
    })
}

impl Schedule {
    /// Of a port, and of those that have a device in common with it; `None` where it has no protocol that can be spoken.
    #[must_use]
    pub fn new(site: &Arc<Site>, port: usize) -> Option<Self> {
        let _step = site.step();
        Self::of(site, site.current(), port)
    }

    /// The same in that project, which is the one that runs while nobody else takes a step.
    fn of(site: &Arc<Site>, shared: Arc<Shared>, port: usize) -> Option<Self> {
        let lane = Lane::new(&shared, port)?;
        let ports = shared.plan.ports_together(port);
        let others = ports.iter().filter(|own| **own != port).filter_map(|own| Lane::new(&shared, *own));
        let (others, devices) = (others.collect(), turns::of_ports(&shared, &ports));
        Some(Self {
            site: Arc::clone(site),
            generation: site.generation(),
            busy: site.busy(&lane.name),
            shared,
            devices,
            next_ticket: 0,
            lane,
            others,
            owed: VecDeque::new(),
            stirred: false,
            ended: false,
        })
    }

    /// Its ports.
    #[must_use]
    pub fn ports(&self) -> Vec<usize> {
        std::iter::once(&self.lane).chain(&self.others).map(|lane| lane.port).collect()
    }

    /// Whether the port of that name, one of these, is the same one as `other` of the project that runs now.
    #[must_use]
    pub fn stays(&self, name: &str, other: &PortSettings) -> bool {
        self.shared.ports.iter().any(|own| own.name == *name && other.is_same(own))
    }

    /// Looks at the lane of that port; whether there is one.
    pub(super) fn turn_to(&mut self, port: usize) -> bool {
        if self.lane.port != port {
            let Some(other) = self.others.iter_mut().find(|lane| lane.port == port) else { return false };
            std::mem::swap(&mut self.lane, other);
        }
        true
    }

    /// Looks at the lane of the port of that name; whether there is one.
    pub(super) fn turn_to_named(&mut self, name: &str) -> bool {
        let lane = std::iter::once(&self.lane).chain(&self.others).find(|lane| *lane.name == *name);
        lane.map(|lane| lane.port).is_some_and(|port| self.turn_to(port))
    }

    /// Takes the project that runs now, if that has changed; `false` where its ports are no longer there as they were. A
    /// project changes only while nothing is under way.
    pub(super) fn follow(&mut self) -> bool {
        if self.ended || self.site.generation() == self.generation {
            return !self.ended;
        }
        match self.renewed() {
            Some(next) => *self = next,
            None => self.ended = true,
        }
        !self.ended
    }

    /// The same ports in the project that runs now: what is known of their devices stays.
    fn renewed(&mut self) -> Option<Self> {
        let shared = self.site.current();
        let (port, own) = shared.ports.iter().enumerate().find(|(_, own)| own.name == *self.lane.name)?;
        if !self.shared.ports.get(self.lane.port)?.is_same(own) {
            return None;
        }
        let mut next = Self::of(&self.site, Arc::clone(&shared), port)?;
        // What was begun before must not be taken for what begins now.
        next.next_ticket = self.next_ticket;
        let change = self.site.change_from(self.generation);
        for polled in &mut next.devices {
            // One at another unit is another device: what was known of the old one says nothing of it.
            let same = |station: &Station| (station.name.clone(), station.setup.clone());
            let own = next.shared.plan.devices.get(polled.index).map(same);
            let known =
                self.devices.iter().find(|old| self.shared.plan.devices.get(old.index).map(same) == own);
            let Some(known) = known else { continue };
            (polled.failed, polled.lost, polled.no_change) = (known.failed, known.lost, known.no_change);
            if let Some(change) = &change {
                polled.adopt_sent(known, &shared.plan, &self.shared.plan, |rule| change.rule(rule));
            }
        }
        for lane in std::iter::once(&mut next.lane).chain(&mut next.others) {
            let same = |old: &&mut Lane| old.name == lane.name;
            if let Some(old) = std::iter::once(&mut self.lane).chain(&mut self.others).find(same) {
                lane.go_on_from(old, &next.shared)?;
            }
        }
        Some(next)
    }

    /// Whether nothing is under way.
    #[must_use]
    pub fn is_idle(&self) -> bool {
        std::iter::once(&self.lane).chain(&self.others).all(|lane| lane.current.is_none())
    }

    /// Whether a device is written by this lane.
    pub(super) fn writes_here(&self, device: usize) -> bool {
        self.shared.plan.write_port(device) == Some(self.lane.port)
    }

    /// The devices of this lane.
    pub(super) fn here(&self) -> impl Iterator<Item = &DeviceState> {
        self.devices.iter().filter(|polled| self.shared.plan.is_on(polled.index, self.lane.port))
    }
}
