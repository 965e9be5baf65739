//! Values that come by themselves: where they land, when they have stopped, and what both tell of their device.

use super::Schedule;
use super::polled::rules_in;
use super::split::Missing;
use super::turns::{Lost, missing_now};
use crate::Moment;
use crate::health::failure_code;
use crate::shared::Event;
use crate::speak::Delivered;
use woodrush_core::protocol::Extent;
use woodrush_core::{Blame, Kind, Refusal};

/// One transfer whose values come by themselves.
pub(super) struct PublishedState {
    pub(super) transfer: usize,
    /// When they came last, all of them sound: the moment that the device had them.
    good: Option<Moment>,
    /// They come no more.
    stopped: bool,
    /// Something has come.
    heard: bool,
    /// Where parts of it were bad last, and by which number; told again only when that changes.
    missing: Vec<(Extent, Option<u32>)>,
}

impl PublishedState {
    pub(super) const fn new(transfer: usize) -> Self {
        Self { transfer, good: None, stopped: false, heard: false, missing: vec![] }
    }

    /// Whether its values come.
    pub(super) const fn comes(&self) -> bool {
        self.heard && !self.stopped
    }
}

impl Schedule {
    fn published(&self, transfer: usize) -> Option<(usize, usize)> {
        let at = |published: &[PublishedState]| published.iter().position(|own| own.transfer == transfer);
        self.devices.iter().enumerate().find_map(|(device, own)| Some((device, at(&own.published)?)))
    }

    /// Values have come that the device had at that moment.
    pub(super) fn came(&mut self, now: Moment, transfer: usize, at: Moment, values: &Delivered) {
        let Some((device, published)) = self.published(transfer) else { return };
        let shared = std::sync::Arc::clone(&self.shared);
        let Some(entry) = shared.plan.transfers.get(transfer) else { return };
        let missing = values.unsound.iter().filter_map(|own| {
            let place = shared.plan.place_in_answer(entry, own.extent)?;
            Some(Missing { place, extent: own.extent, refusal: own.refusal })
        });
        let missing: Vec<Missing> = missing.collect();
        let Some(polled) = self.devices.get_mut(device) else { return };
        let index = polled.index;
        let Some(state) = polled.published.get_mut(published) else { return };
        // What comes in its place says that it does not come.
        let silent = values.unsound.iter().any(|own| own.refusal.kind == Kind::NoAnswer);
        (state.stopped, state.heard) = (silent, state.heard || !silent);
        let good = missing.is_empty();
        if good {
            state.good = Some(at);
        }
        let mut good_again: Vec<Extent> = state.missing.iter().map(|(extent, _)| *extent).collect();
        good_again.retain(|extent| missing.iter().all(|own| own.extent != *extent));
        let new = missing_now(&mut state.missing, &missing);
        if let Some(tally) = shared.health.transfers.get(transfer) {
            let refused = rules_in(&shared.plan, transfer, &missing);
            let why = |rule: u32| refused.iter().find(|(own, _)| *own == rule).map(|(_, refusal)| refusal);
            tally.came(now, Ok(()), why);
        }
        shared.land(transfer, at, &values.cells, missing.iter().map(|own| &own.place));
        if let Some(port) = shared.health.ports.get(self.lane.port) {
            port.tally.came(now, Ok(()));
        }
        let oldest = polled.published.iter().map(|own| own.good).min().flatten();
        let oldest = oldest.filter(|_| polled.published.iter().all(|own| own.good.is_some()));
        let was_lost = !silent && polled.lost.take().is_some();
        let Some(health) = shared.health.devices.get(index) else { return };
        health.tally.came(now, Ok(()));
        if was_lost || !silent && !health.is_online() {
            polled.failed = 0;
            health.answers();
            shared.was_away(index);
            shared.tell(Event::DeviceBack { device: index });
        }
        match missing.first() {
            None => health.good(oldest),
            Some(own) => health.bad(failure_code(&own.refusal)),
        }
        for extent in good_again {
            shared.tell(Event::PartGood { device: index, extent });
        }
        for own in new {
            let Missing { extent, refusal, .. } = *own;
            shared.tell(Event::PartRefused { device: index, extent, refusal });
        }
        if silent {
            self.look_whether_lost(now, device, Kind::NoAnswer);
        }
    }

    /// Values have stopped coming.
    pub(super) fn stopped(&mut self, now: Moment, transfer: usize, refusal: Refusal) {
        let Some((device, published)) = self.published(transfer) else { return };
        let shared = std::sync::Arc::clone(&self.shared);
        let Some(polled) = self.devices.get_mut(device) else { return };
        let Some(state) = polled.published.get_mut(published) else { return };
        (state.stopped, state.good) = (true, None);
        state.missing.clear();
        shared.lose_values(transfer);
        let index = polled.index;
        if let Some(tally) = shared.health.transfers.get(transfer) {
            tally.came(now, Err(&refusal), |_| None);
        }
        if let Some(health) = shared.health.devices.get(index) {
            health.tally.came(now, Err(&refusal));
            health.bad(failure_code(&refusal));
        }
        // What it refuses it answers: it is there.
        if refusal.native.is_some() && refusal.blame == Blame::Device && refusal.kind != Kind::NoAnswer {
            shared.tell(Event::Refused { device: index, transfer, refusal });
            return;
        }
        // Whether it still answers is asked at once.
        polled.turns.iter_mut().for_each(|turn| turn.due = turn.due.min(now));
        if !self.look_whether_lost(now, device, refusal.kind) {
            shared.tell(Event::Stopped { device: index, transfer, refusal });
        }
    }

    /// A device of which nothing comes and that answers nothing either is lost; whether it is.
    fn look_whether_lost(&mut self, now: Moment, device: usize, kind: Kind) -> bool {
        let Some(polled) = self.devices.get_mut(device) else { return false };
        let asked = !polled.turns.is_empty() && polled.failed == 0;
        if polled.lost.is_some() || asked || !polled.published.iter().all(|own| own.stopped) {
            return polled.lost.is_some();
        }
        let wait = polled.retry.first;
        polled.lost = Some(Lost { next_try: now + wait, wait });
        self.shared.lose(polled.index, polled.turns.iter().map(|turn| turn.transfer));
        self.shared.tell(Event::DeviceLost { device: polled.index, kind });
        true
    }
}
