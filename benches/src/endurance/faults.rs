//! What goes wrong at the site: one thing after the other, several at once, each for a while.

use super::site::{ASKED, DEVICES};
use super::{Dice, SECOND};
use woodrush_core::check::Checked;
use woodrush_core::project::{
    AS_UNIT, CUT, DROP_ACK, FaultValue, LATE, MUTE, NOISE, REFUSE, SHORT, SLOW, TWICE,
};
use woodrush_engine::Moment;
use woodrush_engine::bench::Bench;
use woodrush_engine::rig::Change;

/// The faults that are not mended yet.
pub(super) struct Faults {
    mends: Vec<(Moment, usize, Change)>,
    /// By device: its port, and its place there.
    pub(super) places: Vec<(usize, usize)>,
    /// By port: whether noise is told from good bytes so surely that none of it passes in thousands of hours: a checksum
    /// of eight bits is not, and a socket has no noise.
    noisy: Vec<bool>,
}

impl Faults {
    pub(super) fn new(checked: &Checked) -> Self {
        let places = DEVICES.iter().enumerate().map(|(at, device)| {
            let before = DEVICES[..at].iter().filter(|other| other.port == device.port).count();
            (device.port, before)
        });
        let noisy = (0..ASKED).map(|port| {
            let port = &checked.project.ports[port];
            let ascii = port.protocol.is_some_and(|protocol| protocol.value.name() == "modbus-ascii");
            port.line().is_some() && !ascii
        });
        Self { mends: vec![], places: places.collect(), noisy: noisy.collect() }
    }

    /// Begins a fault; says which device restarts by it, if one does.
    pub(super) fn spoil(&mut self, bench: &mut Bench, dice: &mut Dice) -> Option<usize> {
        let device = dice.pick(DEVICES.len());
        let (port, place) = self.places[device];
        let mut restarts = false;
        let (begin, end) = match dice.roll(11) {
            0 => (Change::begin(&CUT, 0, FaultValue::On), Change::end(&CUT, 0)),
            1 if self.noisy[port] => {
                (Change::begin(&NOISE, 0, FaultValue::Share(0.002)), Change::end(&NOISE, 0))
            }
            2 => (
                Change::begin(&SLOW, place, FaultValue::Micros(30_000 + dice.roll(300_000))),
                Change::end(&SLOW, place),
            ),
            3 => (Change::begin(&LATE, place, FaultValue::On), Change::end(&LATE, place)),
            4 => (Change::begin(&TWICE, place, FaultValue::On), Change::end(&TWICE, place)),
            5 => (Change::begin(&SHORT, place, FaultValue::On), Change::end(&SHORT, place)),
            6 => (Change::begin(&AS_UNIT, place, FaultValue::Number(9)), Change::end(&AS_UNIT, place)),
            7 => (Change::begin(&REFUSE, place, FaultValue::Number(4)), Change::end(&REFUSE, place)),
            8 => (Change::begin(&DROP_ACK, place, FaultValue::On), Change::end(&DROP_ACK, place)),
            9 => {
                restarts = true;
                (Change::begin(&MUTE, place, FaultValue::On), Change::end(&MUTE, place))
            }
            _ => (Change::begin(&MUTE, place, FaultValue::On), Change::end(&MUTE, place)),
        };
        // The end of one must not end another one of its kind early.
        if self.mends.iter().any(|(_, at, other)| *at == port && *other == end) {
            return None;
        }
        // A restart takes long enough to be noticed.
        let least = if restarts { 15 * SECOND } else { SECOND };
        let until = bench.now() + least + dice.roll(20 * SECOND);
        self.mends.push((until, port, end));
        bench.bus(port).into_iter().for_each(|bus| bus.change(begin));
        restarts.then_some(device)
    }

    /// Ends what has lasted its time; says whether something is left.
    pub(super) fn mend(&mut self, bench: &mut Bench) -> bool {
        let now = bench.now();
        let (due, later): (Vec<_>, Vec<_>) =
            std::mem::take(&mut self.mends).into_iter().partition(|(at, ..)| *at <= now);
        self.mends = later;
        for (_, port, change) in due {
            bench.bus(port).into_iter().for_each(|bus| bus.change(change));
        }
        !self.mends.is_empty()
    }
}
