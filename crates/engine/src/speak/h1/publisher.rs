//! What a simulated link publishes to one client: each subscription at its time, in step with the macrocycle.

use crate::Moment;
use std::collections::VecDeque;
use woodrush_wire::h1::frame::{self, Kind};
use woodrush_wire::h1::status::Status;
use woodrush_wire::h1::{Object, Publication, Typed};

/// Subscriptions of one client.
pub(super) const SUBSCRIPTIONS_MAX: usize = 256;
/// Publications that are held back at once, where they are late.
const LATE_MAX: usize = 4096;

/// One subscription.
pub(super) struct Subscribed {
    pub(super) id: u16,
    pub(super) at: Object,
    period: u64,
    stale: u8,
    next: Moment,
    sequence: u16,
    /// Periods in a row without a value.
    missed: u32,
    last: Option<(u8, Vec<u8>)>,
    /// Thousandths of a publication that is dropped next.
    drops: u32,
}

/// All subscriptions of one client.
#[derive(Default)]
pub(super) struct Publisher {
    pub(super) all: Vec<Subscribed>,
    late: VecDeque<(Moment, Vec<u8>)>,
}

/// What becomes of a publication.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Disturbed {
    /// It comes so much later, in microseconds.
    pub(super) late: u64,
    /// Of a thousand so many do not come.
    pub(super) dropped: u16,
    /// None comes: there is no device, it is in no schedule, or there is no scheduler.
    pub(super) silent: bool,
}

impl Publisher {
    /// Adds one, or puts it in the place of one with that number; the period that it gets, in microseconds. `None` where
    /// there are too many.
    pub(super) fn subscribe(
        &mut self,
        now: Moment,
        (id, at): (u16, Object),
        period: u64,
        stale: u8,
        macrocycle: u64,
    ) -> Option<u64> {
        self.unsubscribe(id);
        if self.all.len() >= SUBSCRIPTIONS_MAX {
            return None;
        }
        let period = period.max(1).div_ceil(macrocycle.max(1)) * macrocycle.max(1);
        self.all.push(Subscribed {
            id,
            at,
            period,
            stale,
            next: now,
            sequence: 0,
            missed: 0,
            last: None,
            drops: 0,
        });
        Some(period)
    }

    pub(super) fn unsubscribe(&mut self, id: u16) {
        self.all.retain(|own| own.id != id);
    }

    /// The subscription that is due, if one is.
    pub(super) fn due(&self, now: Moment) -> Option<usize> {
        self.all.iter().position(|own| own.next <= now)
    }

    /// When the next one is.
    pub(super) fn next(&self) -> Option<Moment> {
        let late = self.late.front().map(|(at, _)| *at);
        self.all.iter().map(|own| own.next).chain(late).min()
    }

    /// What was held back and is due.
    pub(super) fn held_back(&mut self, now: Moment) -> Option<Vec<u8>> {
        self.late.pop_front_if(|(at, _)| *at <= now).map(|(_, bytes)| bytes)
    }

    /// The time of one has come: `value` is what the device says, if it says anything.
    pub(super) fn publish(
        &mut self,
        now: Moment,
        at: usize,
        value: Option<(u8, Vec<u8>)>,
        disturbed: Disturbed,
        out: &mut Vec<u8>,
    ) {
        let Some(own) = self.all.get_mut(at) else { return };
        // Periods that were missed are not made good for.
        own.next = own.next + (now.since(own.next) / own.period + 1) * own.period;
        own.drops += u32::from(disturbed.dropped);
        let dropped = own.drops >= 1000;
        if dropped {
            own.drops -= 1000;
        }
        let mut emit = |value: &(u8, Vec<u8>), stale: bool, age: u64, out: &mut Vec<u8>| {
            own.sequence = own.sequence.wrapping_add(1);
            let age_ms = u16::try_from(age / 1000).unwrap_or(u16::MAX);
            let (id, sequence) = (own.id, own.sequence);
            let value = Typed { kind: value.0, data: &value.1 };
            let data = Publication::Data { id, sequence, stale, more_flags: 0, age_ms, value };
            frame::emit_with(Kind::Publication, data.op(), 0, out, |out| data.emit(out));
        };
        match value.filter(|_| !dropped && !disturbed.silent) {
            Some(value) => {
                own.missed = 0;
                let mut bytes = vec![];
                emit(&value, false, disturbed.late, &mut bytes);
                own.last = Some(value);
                match disturbed.late {
                    0 => out.append(&mut bytes),
                    late if self.late.len() < LATE_MAX => self.late.push_back((now + late, bytes)),
                    _ => {}
                }
            }
            None => {
                own.missed += 1;
                let last = own.last.clone().filter(|_| own.missed >= u32::from(own.stale.max(1)));
                if let Some((code, mut data)) = last {
                    // The last value, with a status that says that it is old.
                    if let Some(status) = data.first_mut() {
                        *status = Status::NO_COMMUNICATION.0;
                    }
                    let age = u64::from(own.missed) * own.period;
                    emit(&(code, data), true, age, out);
                }
            }
        }
    }
}
