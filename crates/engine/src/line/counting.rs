//! Where on the health board what the line does is counted.

use super::{Asking, Doing};
use crate::Moment;
use crate::health::Tally;
use crate::shared::{Errand, Job};
use woodrush_core::Refusal;

impl Asking {
    /// Where it counts: at the device, and at the poll or the rule that it is for.
    pub(super) fn tallies(&self, doing: &Doing) -> impl Iterator<Item = &Tally> {
        let health = &self.shared.health;
        let polled = |device: &usize| self.devices.get(*device);
        let (device, tally) = match doing {
            Doing::Poll { device, turn, .. } => (
                polled(device).map(|polled| polled.index),
                polled(device)
                    .and_then(|polled| polled.turns.get(*turn))
                    .and_then(|turn| health.transfers.get(turn.transfer)),
            ),
            Doing::Push { device, push, .. } => (
                polled(device).map(|polled| polled.index),
                polled(device)
                    .and_then(|polled| polled.pushes.get(*push))
                    .and_then(|sent| self.shared.plan.pushes.get(sent.push))
                    .and_then(|entry| health.sends.get(&entry.rule)),
            ),
            Doing::Errand(Job { errand: Errand::Write(write), .. }) => {
                (Some(write.device), health.sends.get(&write.rule))
            }
            Doing::Errand(_) => (None, None),
        };
        device
            .and_then(|device| health.devices.get(device))
            .map(|device| &device.tally)
            .into_iter()
            .chain(tally)
    }

    /// Counts how a write of a client ended.
    pub(super) fn count_errand(&self, now: Moment, errand: &Errand, result: Result<(), &Refusal>) {
        let Errand::Write(write) = errand else { return };
        self.shared.health.count_write(now, write.device, write.rule, result);
    }
}
