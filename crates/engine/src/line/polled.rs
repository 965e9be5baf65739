//! What a poll tells of its device, or of the nodes of a box: back, refused, failed, lost.

use super::Schedule;
use super::published::PublishedState;
use super::split::Missing;
use super::turns::{Lost, missing_now};
use crate::Moment;
use crate::health::failure_code;
use crate::shared::Event;
use woodrush_core::plan::Plan;
use woodrush_core::{Blame, Kind, Refusal};

impl Schedule {
    pub(super) fn polled(
        &mut self,
        now: Moment,
        (device, turn): (usize, usize),
        left: Moment,
        result: Result<Vec<u8>, Refusal>,
        missing: &[Missing],
    ) {
        let Some(polled) = self.devices.get_mut(device) else { return };
        let Some(entry) = polled.turns.get_mut(turn) else { return };
        entry.asked(left);
        let transfer = entry.transfer;
        let counted = result.as_ref().map(|_| ());
        for node in &entry.nodes {
            if let Some(health) = self.shared.health.devices.get(*node) {
                health.tally.count(now, counted);
            }
        }
        if let Some(tally) = self.shared.health.transfers.get(transfer) {
            let refused = rules_in(&self.shared.plan, transfer, missing);
            let why = |rule: u32| refused.iter().find(|(own, _)| *own == rule).map(|(_, refusal)| refusal);
            tally.count(left.min(now), counted, why);
        }
        match result {
            Ok(cells) => {
                entry.refused = None;
                if missing.is_empty() {
                    entry.good = Some(left);
                }
                self.shared.land(transfer, left, &cells, missing.iter().map(|own| &own.place));
                let new = missing_now(&mut entry.missing, missing);
                let index = entry.nodes.first().copied().unwrap_or(polled.index);
                if let Some(own) = missing.first() {
                    for node in &entry.nodes {
                        if let Some(health) = self.shared.health.devices.get(*node) {
                            health.bad(failure_code(&own.refusal));
                        }
                    }
                }
                for own in new {
                    let Missing { extent, refusal, .. } = *own;
                    self.shared.tell(Event::PartRefused { device: index, extent, refusal });
                }
                if self.answered(device, turn) {
                    // Everything else of it is due at once.
                    let turns = self.devices.get_mut(device).into_iter().flat_map(|polled| &mut polled.turns);
                    turns.enumerate().filter(|(at, _)| *at != turn).for_each(|(_, turn)| turn.due = now);
                }
            }
            Err(refusal) => {
                for node in &entry.nodes {
                    if let Some(health) = self.shared.health.devices.get(*node) {
                        health.bad(failure_code(&refusal));
                    }
                }
                // An exception is an answer: the device is there, and this value is not.
                if let (Some((_, code)), Blame::Device) = (refusal.native, refusal.blame) {
                    let is_new = entry.refused.replace(code) != Some(code);
                    let index = entry.nodes.first().copied().unwrap_or(polled.index);
                    self.answered(device, turn);
                    if is_new {
                        self.shared.tell(Event::Refused { device: index, transfer, refusal });
                    }
                    return;
                }
                polled.failed = polled.failed.saturating_add(1);
                self.count_failure(now, device, refusal.kind);
            }
        }
    }

    /// A device has answered a poll: whatever was lost of what the poll brings is back. Says whether something was.
    fn answered(&mut self, device: usize, turn: usize) -> bool {
        let Some(polled) = self.devices.get_mut(device) else { return false };
        polled.failed = 0;
        let was_lost = polled.lost.take().is_some();
        let Some(entry) = polled.turns.get(turn) else { return was_lost };
        let is_good = entry.refused.is_none() && entry.missing.is_empty();
        let mut back = was_lost;
        for node in &entry.nodes {
            let Some(health) = self.shared.health.devices.get(*node) else { continue };
            if was_lost || !health.is_online() {
                back = true;
                health.answers();
                self.shared.was_away(*node);
                self.shared.tell(Event::DeviceBack { device: *node });
            }
            if is_good {
                let mut own = polled.turns.iter().filter(|turn| turn.nodes.contains(node));
                let oldest = own.clone().map(|turn| turn.good).min().flatten();
                health.good(oldest.filter(|_| own.all(|turn| turn.good.is_some())));
            }
        }
        back
    }

    pub(super) fn count_failure(&mut self, now: Moment, device: usize, kind: Kind) {
        let Some(polled) = self.devices.get_mut(device) else { return };
        polled.lost = match polled.lost {
            Some(lost) => {
                let wait = lost.wait.saturating_mul(2).min(polled.retry.most);
                Some(Lost { next_try: now + wait, wait })
            }
            // What comes by itself shows that it is there.
            None if polled.published.iter().any(PublishedState::comes) => None,
            None if polled.failed >= polled.lost_after => {
                let wait = polled.retry.first;
                self.shared.lose(polled.index, polled.turns.iter().map(|turn| turn.transfer));
                // A box is lost with all of its nodes.
                let mut nodes: Vec<usize> = polled.turns.iter().flat_map(|turn| turn.nodes.clone()).collect();
                if nodes.is_empty() {
                    nodes.push(polled.index);
                }
                nodes.sort_unstable();
                nodes.dedup();
                for node in nodes {
                    self.shared.lose(node, std::iter::empty());
                    self.shared.tell(Event::DeviceLost { device: node, kind });
                }
                Some(Lost { next_try: now + wait, wait })
            }
            None => None,
        };
    }
}

/// The rules that get nothing of an answer in which these parts are missing, each with the reason.
pub(super) fn rules_in(plan: &Plan, transfer: usize, missing: &[Missing]) -> Vec<(u32, Refusal)> {
    let Some(transfer) = plan.transfers.get(transfer).filter(|_| !missing.is_empty()) else { return vec![] };
    let steps =
        plan.steps.get(transfer.steps.start as usize..transfer.steps.end as usize).unwrap_or_default();
    let why = |offset: u32| missing.iter().find(|own| own.place.contains(&(offset as usize)));
    steps.iter().filter_map(|step| Some((step.rule, why(step.offset)?.refusal))).collect()
}
