//! Signals over time: what a simulated device's values do.

use crate::Moment;
use crate::dice::Dice;
use std::f64::consts::TAU;
use woodrush_core::project::{Shape, Signal};

/// A signal at work.
#[derive(Debug, Clone)]
pub(crate) struct Generator {
    signal: Signal,
    dice: Dice,
    /// Of a walk: where it is, and after how many steps.
    walked: (f64, u64),
    /// Of a replay: seconds and values.
    samples: Vec<(f64, f64)>,
}

impl Generator {
    /// `samples` is what a replay's file holds.
    pub(crate) fn new(signal: Signal, seed: u64, samples: Vec<(f64, f64)>) -> Self {
        let start = match signal {
            Signal::Walk { low, high, .. } => f64::midpoint(low, high),
            _ => 0.0,
        };
        Self { signal, dice: Dice::new(seed), walked: (start, 0), samples }
    }

    /// The value at a moment; moments must not go backwards. `shift` moves the phase, 0 to 1, so that values in a row
    /// differ.
    pub(crate) fn value(&mut self, now: Moment, shift: f64) -> f64 {
        match self.signal {
            Signal::Steady(value) => value,
            Signal::Wave { shape, low, high, period } => {
                let phase = (now.0 as f64 / period as f64 + shift).fract();
                let part = match shape {
                    Shape::Ramp => phase,
                    Shape::Sine => 0.5 + 0.5 * (phase * TAU).sin(),
                    Shape::Square => f64::from(u8::from(phase >= 0.5)),
                };
                low + (high - low) * part
            }
            Signal::Count { low, high, every } => {
                let steps = i64::try_from(now.0 / every).unwrap_or(0);
                let rounds = (high - low).saturating_add(1).max(1);
                let moved = (rounds as f64 * shift) as i64;
                (low + steps.wrapping_add(moved).rem_euclid(rounds)) as f64
            }
            Signal::Walk { low, high, step } => {
                let steps = now.0 / 1_000_000;
                while self.walked.1 < steps {
                    let next = self.walked.0 + (self.dice.share() * 2.0 - 1.0) * step;
                    self.walked = (next.clamp(low, high), self.walked.1 + 1);
                }
                (self.walked.0 + (high - low) * shift).min(high)
            }
            Signal::Replay(_) => {
                let at = now.0 as f64 / 1e6;
                let passed = self.samples.partition_point(|(seconds, _)| *seconds <= at);
                self.samples.get(passed.saturating_sub(1)).map_or(0.0, |(_, value)| *value)
            }
        }
    }
}

/// Reads a replay's file: seconds and value a line; a first line of words is passed over.
pub(crate) fn samples(text: &str) -> Result<Vec<(f64, f64)>, String> {
    let mut reader = csv::ReaderBuilder::new()
        .has_headers(false)
        .flexible(true)
        .trim(csv::Trim::All)
        .from_reader(text.as_bytes());
    let mut found: Vec<(f64, f64)> = vec![];
    for (at, record) in reader.records().enumerate() {
        let record = record.map_err(|error| error.to_string())?;
        let number = |field: usize| record.get(field).and_then(|text| text.parse::<f64>().ok());
        match (number(0), number(1)) {
            (Some(seconds), Some(value)) if found.last().is_none_or(|(before, _)| *before <= seconds) => {
                found.push((seconds, value));
            }
            (Some(_), Some(_)) => return Err(format!("line {}: time goes backwards", at + 1)),
            _ if at == 0 => {}
            _ => return Err(format!("line {}: not `seconds,value`", at + 1)),
        }
    }
    if found.is_empty() { Err("no line `seconds,value`".into()) } else { Ok(found) }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(text: &str, seconds: f64) -> f64 {
        let signal = Signal::parse(text).unwrap();
        Generator::new(signal, 7, vec![]).value(Moment((seconds * 1e6) as u64), 0.0)
    }

    #[test]
    fn signals_do_what_they_say() {
        assert_eq!(at("steady 11.5", 99.0), 11.5);
        assert_eq!(at("ramp 0..500 period 20s", 5.0), 125.0);
        assert_eq!(at("sine 0..10 period 4s", 1.0), 10.0);
        assert_eq!(at("square 0..1 period 2s", 0.5), 0.0);
        assert_eq!(at("square 0..1 period 2s", 1.5), 1.0);
        assert_eq!(at("count 0..9 every 1s", 12.3), 2.0);
        let mut walk = Generator::new(Signal::parse("walk 0..100 step 5").unwrap(), 7, vec![]);
        let mut last = walk.value(Moment(0), 0.0);
        for second in 1..200u64 {
            let next = walk.value(Moment(second * 1_000_000), 0.0);
            assert!((next - last).abs() <= 5.0 && (0.0..=100.0).contains(&next));
            last = next;
        }
    }

    #[test]
    fn a_replay_follows_its_file() {
        let found = samples("seconds,value\n0,1.5\n2, 3\n").unwrap();
        let mut replay = Generator::new(Signal::Replay("x.csv".into()), 1, found);
        assert_eq!(replay.value(Moment(1_900_000), 0.0), 1.5);
        assert_eq!(replay.value(Moment(2_000_000), 0.0), 3.0);
        for text in ["", "a,b\n", "1,2\n0,1\n", "0,1\nx,y\n"] {
            assert!(samples(text).is_err(), "{text}");
        }
    }
}
