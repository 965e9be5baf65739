//! Where on the health board what the line does is counted.

use super::{InFlight, Schedule};
use crate::Moment;
use crate::health::Tally;
use crate::shared::{LineRequest, Queued};
use woodrush_core::Refusal;

impl Schedule {
    /// Where it counts: at the device, and at the poll or the rule that it is for.
    pub(super) fn tallies(&self, doing: &InFlight) -> impl Iterator<Item = &Tally> {
        let health = &self.shared.health;
        let polled = |device: &usize| self.devices.get(*device);
        let (device, tally) = match doing {
            InFlight::Poll { device, turn, .. } => (
                polled(device).map(|polled| polled.index),
                polled(device)
                    .and_then(|polled| polled.turns.get(*turn))
                    .and_then(|turn| Some(&health.transfers.get(turn.transfer)?.whole)),
            ),
            InFlight::Push { device, push, .. } => (
                polled(device).map(|polled| polled.index),
                polled(device)
                    .and_then(|polled| polled.pushes.get(*push))
                    .and_then(|sent| self.shared.plan.pushes.get(sent.push))
                    .and_then(|entry| health.sends.get(&entry.rule)),
            ),
            InFlight::LineRequest(Queued { line_request: LineRequest::Write(write), .. }) => {
                (Some(write.device), health.sends.get(&write.rule))
            }
            InFlight::LineRequest(_) | InFlight::Owed(_) => (None, None),
        };
        device
            .and_then(|device| health.devices.get(device))
            .map(|device| &device.tally)
            .into_iter()
            .chain(tally)
    }

    /// Counts how a write of a client ended.
    pub(super) fn count_errand(&self, now: Moment, line_request: &LineRequest, result: Result<(), &Refusal>) {
        let LineRequest::Write(write) = line_request else { return };
        self.shared.health.count_write(now, write.device, write.rule, result);
    }
}
