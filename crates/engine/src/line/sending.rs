//! What devices are sent without a client waiting for it: changes, and values that are sent again and again.

use super::turns::DeviceState;
use super::{PROBE_PAUSE, Schedule};
use crate::Moment;
use crate::health::failure_code;
use crate::image::Outgoing;
use crate::shared::Event;
use std::sync::Arc;
use woodrush_core::cells::{all_but, filled, set_bit};
use woodrush_core::plan::{Plan, Push, Source};
use woodrush_core::project::OnLoss;
use woodrush_core::protocol::{Extent, Grain};
use woodrush_core::{Blame, Refusal};

/// How often something is looked at that can change without a value landing.
const LOOK: u64 = 100_000;
/// The wait after a value was not taken, at first; it doubles up to the device's longest. Also the least wait between two
/// values of a number that grows by itself.
const AGAIN: u64 = 1_000_000;

/// The state of one push.
pub(super) struct Sent {
    /// Index in the plan.
    pub(super) push: usize,
    due: Moment,
    /// Not before then: it was not taken, or it changes all the time.
    not_before: Moment,
    wait: u64,
    /// The word for a loss was sent.
    filled: bool,
    /// It is a number that grows by itself.
    grows: bool,
    /// The bits that stay, where only one is sent.
    pub(super) keep: Option<Vec<u8>>,
    /// The refusal that was told last.
    told: Option<u16>,
}

impl Sent {
    pub(super) fn new(push: usize, entry: &Push, plan: &Plan, each: usize) -> Self {
        let keep = entry.bit.map(|bit| all_but(each, bit));
        let (due, not_before) = (Moment(0), Moment(0));
        let source = plan.rules.get(entry.rule as usize).map(|rule| rule.source);
        let grows = matches!(source, Some(Source::Health(told)) if told.grows());
        Self { push, due, not_before, wait: AGAIN, filled: false, grows, keep, told: None }
    }

    /// What was known of the same push in another project.
    fn adopt(&mut self, old: &Self) {
        (self.due, self.not_before, self.wait) = (old.due, old.not_before, old.wait);
        (self.filled, self.told) = (old.filled, old.told);
    }

    /// The cells that go out now; `value` is what the rule shows, `held` says whether the device is known to hold cells.
    fn wanted(
        &self,
        now: Moment,
        entry: &Push,
        value: Outgoing,
        grain: Grain,
        held: impl Fn(&[u8]) -> bool,
    ) -> Option<Vec<u8>> {
        if now < self.not_before {
            return None;
        }
        let again = entry.every.is_some() && self.due <= now;
        match value {
            Outgoing::Never => None,
            Outgoing::Fresh(cells) => {
                let changed = !held(&cells);
                (entry.on_change && changed || again || self.filled && changed).then_some(cells)
            }
            Outgoing::Stale(cells) => match entry.on_loss {
                OnLoss::Hold if again => cells,
                OnLoss::Fill(word) if !self.filled => Some(fill_of(entry, word, grain)),
                _ => None,
            },
        }
    }

    /// What was sent has been taken: whether it was the word for a loss. A value that was under way when its source was lost
    /// is none, and the word must still follow.
    fn is_fill(entry: &Push, value: &Outgoing, grain: Grain, cells: &[u8]) -> bool {
        let OnLoss::Fill(word) = entry.on_loss else { return false };
        matches!(value, Outgoing::Stale(_)) && fill_of(entry, word, grain) == cells
    }

    /// The cells as the request carries them: one bit stands at its place in its register.
    pub(super) fn placed(&self, entry: &Push, cells: &[u8]) -> Vec<u8> {
        let (Some(bit), Some(keep)) = (entry.bit, &self.keep) else { return cells.to_vec() };
        let mut placed = vec![0; keep.len()];
        set_bit(&mut placed, bit, cells.first().is_some_and(|cell| *cell != 0));
        placed
    }
}

/// The cells of a push that carry the word for a loss.
fn fill_of(entry: &Push, word: u16, grain: Grain) -> Vec<u8> {
    match entry.bit {
        Some(_) => vec![u8::from(word != 0)],
        None => filled(word, grain, entry.extent.first, entry.extent.count),
    }
}

impl DeviceState {
    /// What was known in another plan of what the device is sent; `rule` says which of the rules here each of that one is.
    pub(super) fn adopt_sent(
        &mut self,
        old: &Self,
        plan: &Plan,
        old_plan: &Plan,
        rule: impl Fn(u32) -> Option<u32>,
    ) {
        for sent in &mut self.pushes {
            let Some(own) = plan.pushes.get(sent.push) else { continue };
            let same = |old: &&Sent| {
                let entry = old_plan.pushes.get(old.push);
                entry.is_some_and(|entry| {
                    rule(entry.rule) == Some(own.rule)
                        && (entry.extent.first, entry.extent.count, entry.bit)
                            == (own.extent.first, own.extent.count, own.bit)
                })
            };
            if let Some(old) = old.pushes.iter().find(same) {
                sent.adopt(old);
            }
        }
    }
}

impl Schedule {
    /// A value that must go out now; or the moment to look again.
    pub(super) fn due_push(&mut self, now: Moment) -> Result<(usize, usize, Vec<u8>), Option<Moment>> {
        let kept = Arc::clone(&self.shared.kept);
        let mut next: Option<Moment> = None;
        let mut sooner = |moment: Moment| next = Some(next.map_or(moment, |next| next.min(moment)));
        let (plan, port) = (&self.shared.plan, self.lane.port);
        let is_sent =
            |polled: &DeviceState| !polled.pushes.is_empty() && plan.write_port(polled.index) == Some(port);
        for (at, polled) in self.devices.iter_mut().enumerate().filter(|(_, polled)| is_sent(polled)) {
            if let Some(lost) = polled.lost {
                let when =
                    if !polled.is_read() { lost.next_try.max(self.lane.probe_from) } else { Moment::NEVER };
                if when > now {
                    sooner(when);
                    continue;
                }
            }
            let changes = self.shared.outgoing_changes(polled.index);
            if changes == polled.looked && polled.look_at > now {
                sooner(polled.look_at);
                continue;
            }
            let mut look_at = Moment::NEVER;
            for (number, sent) in polled.pushes.iter().enumerate() {
                let Some(entry) = self.shared.plan.pushes.get(sent.push) else { continue };
                // A client's own write goes first; how it ended is seen then.
                if entry.carried && kept.is_under_way(polled.index, entry.rule) {
                    continue;
                }
                let value = self.shared.outgoing(now, entry);
                let fresh = matches!(value, Outgoing::Fresh(_));
                let held = |cells: &[u8]| kept.holds(polled.index, entry.rule, entry.extent, cells);
                let grain = self
                    .shared
                    .plan
                    .devices
                    .get(polled.index)
                    .and_then(|device| device.space_at(entry.extent.space));
                let grain = grain.map_or(Grain::Bytes(2), |space| space.grain);
                if let Some(cells) = sent.wanted(now, entry, value, grain, held) {
                    return Ok((at, number, cells));
                }
                if sent.not_before > now {
                    look_at = look_at.min(sent.not_before);
                }
                if entry.every.is_some() && sent.due > now {
                    look_at = look_at.min(sent.due);
                }
                // It may grow old without anything landing.
                if fresh && matches!(entry.on_loss, OnLoss::Fill(_)) {
                    look_at = look_at.min(now + LOOK);
                }
            }
            if self.shared.hears_health(polled.index) {
                look_at = look_at.min(now + LOOK);
            }
            (polled.looked, polled.look_at) = (changes, look_at);
            sooner(look_at);
        }
        Err(next.filter(|next| *next != Moment::NEVER))
    }

    pub(super) fn pushed(
        &mut self,
        now: Moment,
        began: Moment,
        device: usize,
        push: usize,
        cells: Vec<u8>,
        result: Result<(), Refusal>,
    ) {
        let Some(polled) = self.devices.get_mut(device) else { return };
        let (index, retry) = (polled.index, polled.retry);
        // Whatever came of it, the others are looked at again.
        polled.look_at = now;
        let Some(sent) = polled.pushes.get_mut(push) else { return };
        let Some(entry) = self.shared.plan.pushes.get(sent.push) else { return };
        let (rule, extent) = (entry.rule, entry.extent);
        self.shared.health.count_write(now, index, rule, result.as_ref().copied());
        let mut told = None;
        match &result {
            Ok(()) => {
                let station = self.shared.plan.devices.get(index);
                let grain = station.and_then(|own| own.space_at(extent.space)).map(|space| space.grain);
                let value = self.shared.outgoing(now, entry);
                sent.filled = Sent::is_fill(entry, &value, grain.unwrap_or(Grain::Bytes(2)), &cells);
                let pause = if sent.grows { now + AGAIN } else { Moment(0) };
                (sent.not_before, sent.wait, sent.told) = (pause, AGAIN, None);
                // From this request on, whatever it was sent for: a device that counts the time must never wait for longer.
                sent.due = entry.every.map_or(sent.due, |every| began + every.max(1));
            }
            Err(refusal) => {
                let most = retry.most.max(AGAIN).min(entry.every.unwrap_or(u64::MAX));
                sent.not_before = now + sent.wait.min(most);
                sent.wait = sent.wait.saturating_mul(2).min(most);
                let code = failure_code(refusal);
                if sent.told.replace(code) != Some(code) {
                    told = Some(Event::NotTaken { device: index, rule, refusal: *refusal });
                }
            }
        }
        told.into_iter().for_each(|event| self.shared.tell(event));
        if result.is_err() && self.lost_device(index).is_some() {
            self.lane.probe_from = now + now.since(began) * PROBE_PAUSE;
        }
        if let Err(refusal) = &result {
            self.unconfirmed(index, rule, extent, refusal);
        }
        let good = result.is_ok();
        self.judge_write(now, index, result);
        if good {
            // Behind the judgement: a device that was away has forgotten what was before this.
            self.shared.kept.confirm(index, rule, extent, &cells);
        }
    }

    /// A write that a device has not confirmed: where that is not known, it may hold the new value or the old one.
    pub(super) fn unconfirmed(&self, device: usize, rule: u32, extent: Extent, refusal: &Refusal) {
        if refusal.outcome_unknown {
            self.shared.kept.doubt(device, rule, extent);
        }
    }

    /// What a write tells of a device that is not polled: it is there, or it counts towards its loss.
    pub(super) fn judge_write(&mut self, now: Moment, device: usize, result: Result<(), Refusal>) {
        let Some((at, polled)) =
            self.devices.iter_mut().enumerate().find(|(_, polled)| polled.index == device)
        else {
            return;
        };
        if polled.is_read() || polled.polled_elsewhere {
            return;
        }
        let Some(health) = self.shared.health.devices.get(device) else { return };
        let answered = match &result {
            Ok(()) => true,
            Err(refusal) => refusal.native.is_some() && refusal.blame == Blame::Device,
        };
        match result {
            Ok(()) => health.good(None),
            Err(refusal) => health.bad(failure_code(&refusal)),
        }
        if answered {
            polled.failed = 0;
            let was_lost = polled.lost.take().is_some();
            health.answers();
            if was_lost {
                self.shared.was_away(device);
                self.shared.tell(Event::DeviceBack { device });
            }
        } else if let Err(refusal) = result {
            polled.failed = polled.failed.saturating_add(1);
            self.count_failure(now, at, refusal.kind);
        }
    }
}
