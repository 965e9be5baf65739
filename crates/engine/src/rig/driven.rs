//! Signals of a simulated device: what moves its cells, where none is described too.

use super::device::SimDevice;
use super::inside::{MovedValues, Spot};
use super::signal::{Generator, samples};
use crate::Moment;
use crate::dice::Dice;
use woodrush_core::form::Type;
use woodrush_core::project::{Shape, Signal};
use woodrush_core::protocol::{Extent, Flow};

impl SimDevice {
    /// Lets a signal move cells.
    pub(super) fn drive(&mut self, spot: Spot, count: u32, generator: Generator) {
        self.exist(Extent { count: spot.extent.count * count, ..spot.extent });
        let Extent { space, first, count: width } = spot.extent;
        self.body().driven.push(MovedValues {
            space,
            first,
            width,
            count,
            bit: spot.bit,
            form: spot.form,
            generator,
        });
    }

    /// Whether the converter sends that in its frames.
    pub(super) fn sent_to_it(&self, extent: Extent) -> bool {
        self.station.space_at(extent.space).is_some_and(|space| space.flow == Flow::Goes)
    }

    /// Where no signal is described: moving with the range of the point, each value different from its neighbours. What can
    /// be written stays where it is put.
    pub(super) fn drive_by_default(
        &mut self,
        spot: Spot,
        count: u32,
        range: Option<(f64, f64)>,
        writable: bool,
        number: usize,
        dice: &mut Dice,
    ) {
        let whole = Extent { count: spot.extent.count * count, ..spot.extent };
        if self.computes(whole) {
            return;
        }
        // What the other end sends in cycles is as it came.
        if self.sent_to_it(whole) {
            return self.exist(whole);
        }
        if self
            .body()
            .driven
            .iter()
            .any(|driven| driven.overlaps(whole) && (driven.bit.is_none() || driven.bit == spot.bit))
        {
            return;
        }
        let (low, high) = range.unwrap_or(match spot.form.ty {
            Type::Bool => (0.0, 1.0),
            Type::F32 | Type::F64 => (0.0, 100.0),
            _ => (100.0 + number as f64 * 7.0, 900.0 + number as f64 * 7.0),
        });
        let period = 20_000_000 + number as u64 * 1_700_000;
        let shape = if spot.form.ty == Type::Bool { Shape::Square } else { Shape::Sine };
        let signal = if writable {
            Signal::Steady(f64::midpoint(low, high))
        } else {
            Signal::Wave { shape, low, high, period }
        };
        self.drive(spot, count, Generator::new(signal, dice.roll(), vec![]));
    }

    /// Moves the signals on; all, or those that a request touches.
    pub(super) fn advance(&mut self, now: Moment, only: Option<Extent>) {
        if self.still {
            return;
        }
        let mut inside = self.body();
        let mut driven = std::mem::take(&mut inside.driven);
        for entry in driven.iter_mut().filter(|entry| only.is_none_or(|extent| entry.overlaps(extent))) {
            for item in 0..entry.count {
                let shift = f64::from(item) / f64::from(entry.count.max(1));
                let value = entry.generator.value(now, shift);
                let extent = Extent {
                    space: entry.space,
                    first: entry.first + item * entry.width,
                    count: entry.width,
                };
                let spot = Spot { extent, bit: entry.bit, form: entry.form };
                if let Some(cells) = self.encode(&spot, value) {
                    inside.store(self.each(extent), &spot, &cells);
                }
            }
        }
        inside.driven = driven;
        inside.behave(&self.station, |behaviour, faults, memory| behaviour.advance(now, faults, memory));
    }
}

/// What a signal replays; nothing where it works its values out.
pub(super) fn loaded(
    signal: &Signal,
    read_file: &dyn Fn(&str) -> Result<String, String>,
) -> Result<Vec<(f64, f64)>, String> {
    match signal {
        Signal::Replay(path) => samples(&read_file(path)?).map_err(|why| format!("{path}: {why}")),
        _ => Ok(vec![]),
    }
}

/// Why a signal cannot move something.
pub(super) fn sent_by_converter(target: &str) -> String {
    format!("`{target}` comes from the converter in its frames: a signal moves what this end sends")
}
