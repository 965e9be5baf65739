//! What is due when: polls by how overdue they are relative to their interval, probes of lost devices.

use super::Schedule;
use super::published::PublishedState;
use super::sending::Sent;
use super::split::{Missing, Size};
use crate::Moment;
use crate::shared::Shared;
use woodrush_core::plan::Transfer;
use woodrush_core::project::Retry;
use woodrush_core::protocol::Extent;

/// One request that is due again and again.
pub(super) struct PollState {
    pub(super) transfer: usize,
    /// The devices whose values it brings: several where they are nodes of one box.
    pub(super) nodes: Vec<usize>,
    pub(super) every: u64,
    pub(super) due: Moment,
    /// When its last request left.
    pub(super) left: Moment,
    /// When it was last answered: the moment its request had left.
    pub(super) good: Option<Moment>,
    /// The device's own number of the refusal that was told last; told again only when it changes.
    pub(super) refused: Option<u32>,
    /// Where parts of it were refused last while the rest came, and by which number; likewise.
    pub(super) missing: Vec<(Extent, Option<u32>)>,
    /// How much of it goes into one request.
    pub(super) size: Size,
}

impl PollState {
    /// Turns that it missed until its request left are dropped, and the phase is kept. One that came while it was under
    /// way is due at once, so that a line with too little time is never idle.
    pub(super) fn asked(&mut self, left: Moment) {
        let missed = left.since(self.due) / self.every;
        self.due = self.due + (missed + 1) * self.every;
        self.left = left;
    }
}

/// Remembers which parts are refused now; gives back those that were not, or otherwise.
pub(super) fn missing_now<'m>(
    known: &mut Vec<(Extent, Option<u32>)>,
    missing: &'m [Missing],
) -> Vec<&'m Missing> {
    let told = |own: &Missing| (own.extent, own.refusal.native.map(|(_, code)| code));
    let new = missing.iter().filter(|own| !known.contains(&told(own))).collect();
    *known = missing.iter().map(told).collect();
    new
}

/// One device of the ports.
pub(super) struct DeviceState {
    /// Index in the plan.
    pub(super) index: usize,
    pub(super) turns: Vec<PollState>,
    /// What comes of it by itself.
    pub(super) published: Vec<PublishedState>,
    pub(super) pushes: Vec<Sent>,
    pub(super) lost_after: u32,
    pub(super) retry: Retry,
    pub(super) failed: u32,
    pub(super) lost: Option<Lost>,
    /// The box that it is a node of is polled, and judged by that whether it is there.
    pub(super) polled_elsewhere: bool,
    /// It has no request that changes some bits of a register.
    pub(super) no_change: bool,
    /// What it shall be sent was looked at, at this count of changes.
    pub(super) looked: u64,
    /// It is looked at again then, changed or not.
    pub(super) look_at: Moment,
}

#[derive(Clone, Copy)]
pub(super) struct Lost {
    pub(super) next_try: Moment,
    pub(super) wait: u64,
}

impl DeviceState {
    /// Whether what it is read tells if it is there.
    pub(super) fn is_read(&self) -> bool {
        !self.turns.is_empty() || !self.published.is_empty()
    }
}

/// The devices of ports that are asked or sent anything, or may be written by clients.
pub(super) fn of_ports(shared: &Shared, ports: &[usize]) -> Vec<DeviceState> {
    let plan = &shared.plan;
    let is_here = |device: usize| ports.iter().any(|port| plan.is_on(device, *port));
    let here = plan.devices.iter().enumerate().filter(|(at, _)| is_here(*at));
    let mut devices: Vec<DeviceState> = here
        .filter_map(|(index, _)| {
            let settings = shared.devices.get(index)?;
            Some(DeviceState {
                index,
                turns: vec![],
                published: vec![],
                pushes: vec![],
                lost_after: settings.lost_after,
                retry: settings.retry,
                failed: 0,
                lost: None,
                polled_elsewhere: plan.host(index) != index
                    && plan.transfers.iter().any(|transfer| transfer.device() == Some(plan.host(index))),
                no_change: false,
                looked: 0,
                look_at: Moment(0),
            })
        })
        .collect();
    let asked = |entry: &Transfer| entry.asked_device().is_some_and(is_here);
    for (transfer, entry) in plan.transfers.iter().enumerate().filter(|(_, entry)| asked(entry)) {
        if let Some(device) = devices.iter_mut().find(|device| Some(device.index) == entry.device()) {
            let turn = PollState {
                transfer,
                nodes: plan.brought_by(entry),
                every: entry.cadence.interval().max(1),
                due: Moment(0),
                left: Moment(0),
                good: None,
                refused: None,
                missing: vec![],
                size: Size::default(),
            };
            device.turns.push(turn);
        }
    }
    for (transfer, entry) in plan.transfers.iter().enumerate().filter(|(_, own)| !own.cadence.is_asked()) {
        if let Some(device) = devices.iter_mut().find(|device| Some(device.index) == entry.device()) {
            device.published.push(PublishedState::new(transfer));
        }
    }
    for (push, entry) in plan.pushes.iter().enumerate().filter(|(_, entry)| is_here(entry.device)) {
        if let Some(device) = devices.iter_mut().find(|device| device.index == entry.device) {
            let each =
                plan.devices.get(entry.device).and_then(|station| station.space_at(entry.extent.space));
            device.pushes.push(Sent::new(
                push,
                entry,
                plan,
                each.map_or(2, |space| space.grain.cell_bytes()),
            ));
        }
    }
    devices
}

impl Schedule {
    /// The poll that is most overdue relative to its own interval, of devices that are not lost; of equal ones that which
    /// was asked longest ago.
    pub(super) fn most_overdue(&self, now: Moment) -> Result<(usize, usize), Option<Moment>> {
        let mut best: Option<(f64, Moment, (usize, usize))> = None;
        let mut next: Option<Moment> = None;
        let is_due = |polled: &DeviceState| polled.lost.is_none() && !self.reads_elsewhere(polled.index);
        for (device, polled) in self.devices.iter().enumerate().filter(|(_, polled)| is_due(polled)) {
            for (at, turn) in polled.turns.iter().enumerate() {
                if turn.due > now {
                    next = Some(next.map_or(turn.due, |next| next.min(turn.due)));
                    continue;
                }
                let overdue = now.since(turn.due) as f64 / turn.every as f64;
                if best.is_none_or(|(most, left, _)| overdue > most || (overdue == most && turn.left < left))
                {
                    best = Some((overdue, turn.left, (device, at)));
                }
            }
        }
        best.map(|(.., found)| found).ok_or(next)
    }

    /// The lost device that has waited longest for its next try, with its shortest read.
    pub(super) fn due_probe(&self, now: Moment) -> Result<(usize, usize), Option<Moment>> {
        let is_asked = |polled: &DeviceState| !polled.turns.is_empty() && !self.reads_elsewhere(polled.index);
        let lost = self.devices.iter().enumerate().filter(|(_, polled)| is_asked(polled));
        let lost = lost.filter_map(|(at, polled)| Some((at, polled, polled.lost?)));
        let Some((device, polled, state)) = lost.min_by_key(|(_, _, lost)| lost.next_try) else {
            return Err(None);
        };
        let when = state.next_try.max(self.lane.probe_from);
        if when > now {
            return Err(Some(when));
        }
        let takes =
            |turn: &PollState| self.shared.plan.transfers.get(turn.transfer).map_or(u64::MAX, |t| t.takes);
        let shortest = polled.turns.iter().enumerate().min_by_key(|(_, turn)| takes(turn));
        shortest.map(|(turn, _)| (device, turn)).ok_or(None)
    }
}
