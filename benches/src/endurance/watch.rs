//! Looks at what devices are sent, at every step of the virtual clock.

use super::client::{Spot, spot};
use super::site::{DEVICES, STEP, next, on_loss};
use super::{SECOND, told};
use woodrush_core::check::Checked;
use woodrush_core::plan::Plan;
use woodrush_engine::Moment;
use woodrush_engine::bench::Bench;

/// Longest from when a value is taken to be sent until the device has it: every try of a request.
const UNDER_WAY: u64 = 2 * SECOND;
/// What `fill 0x0505` writes into a value of two words.
const FILLED: u32 = 0x0505_0505;

/// What one device is sent of another one's time.
struct Sent {
    from: usize,
    port: usize,
    place: usize,
    spot: Spot,
    last: Vec<u8>,
    /// Writes that the device had taken then.
    writes: u64,
    /// Most microseconds that a value may be old when it comes; `None` where the last one is sent on for ever.
    most: Option<u64>,
    fills: bool,
}

/// All that devices are sent.
pub(super) struct Watch {
    all: Vec<Sent>,
    /// Values that were right.
    pub(super) sent: u64,
    /// Values that are nobody's, or another one's.
    pub(super) wrong: u64,
    /// Values that were older than they may be.
    pub(super) old: u64,
}

/// Says where in a run something was not as it should be: the same seed comes there again.
pub(super) fn report(now: Moment, what: &str) {
    eprintln!("at {:.6} s: {what}", now.0 as f64 / 1e6);
}

impl Watch {
    pub(super) fn new(checked: &Checked, plan: &Plan) -> Self {
        let all = (0..DEVICES.len()).map(|from| {
            let to = next(from);
            let (address, form) = DEVICES[to].told_time();
            let spot = spot(&plan.devices[to], address, Some(form));
            let rule = plan.rules.iter().find(|rule| {
                plan.sink(rule) == Some(to)
                    && (rule.target.space, rule.target.first) == (spot.extent.space, spot.extent.first)
            });
            let rule = rule.expect("the site sends it");
            let here = (0..plan.devices.len()).filter(|device| plan.is_on(*device, plan.devices[to].port));
            let place = here.take_while(|device| *device != to).count();
            debug_assert!(checked.project.devices.len() == DEVICES.len());
            let most = (on_loss(from) != "hold").then_some(rule.max_age + UNDER_WAY + STEP);
            Sent {
                from,
                port: plan.devices[to].port,
                place,
                spot,
                last: vec![],
                writes: 0,
                most,
                fills: on_loss(from).starts_with("fill"),
            }
        });
        Self { all: all.collect(), sent: 0, wrong: 0, old: 0 }
    }

    /// Looks at what has changed.
    pub(super) fn look(&mut self, bench: &Bench) {
        let now = bench.now();
        for sent in &mut self.all {
            let Some(device) = bench.device(sent.port, sent.place) else { continue };
            if device.written() == sent.writes && !sent.last.is_empty() {
                continue;
            }
            sent.writes = device.written();
            let Some(cells) = device.peek(sent.spot.extent).filter(|cells| *cells != sent.last) else {
                continue;
            };
            let first = std::mem::replace(&mut sent.last, cells).is_empty();
            let number = sent.spot.number(&sent.last);
            if first || sent.fills && number == FILLED {
                continue;
            }
            match told(number, now) {
                Some((of, old)) if of == sent.from && sent.most.is_none_or(|most| old <= most) => {
                    self.sent += 1
                }
                Some((of, old)) if of == sent.from => {
                    let most = sent.most.unwrap_or_default();
                    report(
                        now,
                        &format!("{} is sent its time, {old} us old (at most {most})", DEVICES[of].name),
                    );
                    self.old += 1;
                }
                _ => {
                    report(now, &format!("{number:08X} is sent as the time of {}", DEVICES[sent.from].name));
                    self.wrong += 1;
                }
            }
        }
    }

    /// A device has restarted, and holds nothing of what it was sent.
    pub(super) fn restarted(&mut self, bench: &mut Bench, device: usize) {
        let there = DEVICES[device].told_setpoint();
        for sent in self.all.iter_mut().filter(|sent| next(sent.from) == device) {
            let Some(own) = bench.bus(sent.port).and_then(|bus| bus.devices.get_mut(sent.place)) else {
                continue;
            };
            let setpoint = spot(&own.station, there, None);
            let bits = spot(&own.station, DEVICES[device].bits(), None);
            for place in [setpoint, bits, sent.spot] {
                let held = own.peek(place.extent).unwrap_or_default();
                // Like a write, so that the simulation puts nothing else there.
                own.write(place.extent, &vec![0; held.len()]).expect("it takes a write of its own");
            }
            sent.last = own.peek(sent.spot.extent).unwrap_or_default();
        }
    }

    /// How many of them are not fresh although nothing is wrong.
    pub(super) fn stale(&self, bench: &Bench) -> u64 {
        let now = bench.now();
        let is_stale = |sent: &&Sent| {
            let number = peek(bench, sent).map(|cells| sent.spot.number(&cells));
            // A poll of one second, and what is sent every two.
            number.and_then(|number| told(number, now)).is_none_or(|(_, old)| old > 6 * SECOND)
        };
        self.all.iter().filter(is_stale).count() as u64
    }
}

fn peek(bench: &Bench, sent: &Sent) -> Option<Vec<u8>> {
    bench.device(sent.port, sent.place)?.peek(sent.spot.extent)
}
