//! What simulated devices do, as written: signals of `[rig]`.

use super::scalars::duration;
use crate::form::Decimal;

/// A value over time.
#[derive(Debug, Clone, PartialEq)]
pub enum Signal {
    /// Always the same.
    Steady(f64),
    /// Between two values, again and again, with a period in microseconds.
    Wave {
        /// How it goes from one to the other.
        shape: Shape,
        /// The least value.
        low: f64,
        /// The greatest value.
        high: f64,
        /// Microseconds of one round.
        period: u64,
    },
    /// Whole numbers upwards, from `low` to `high` and again.
    Count {
        /// The first number.
        low: i64,
        /// The last number.
        high: i64,
        /// Microseconds a step.
        every: u64,
    },
    /// A random step up or down each second.
    Walk {
        /// The least value.
        low: f64,
        /// The greatest value.
        high: f64,
        /// How far one step goes at most.
        step: f64,
    },
    /// Values of a CSV file: seconds, value.
    Replay(String),
}

/// How a wave goes between its two values.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Shape {
    /// Straight up, then back at once.
    Ramp,
    /// As a sine.
    Sine,
    /// Half a period each.
    Square,
}

impl Signal {
    /// Reads a signal such as `sine 7.8..9.4 period 60s`.
    ///
    /// # Errors
    /// What is wrong, in words.
    pub fn parse(text: &str) -> Result<Self, String> {
        let words: Vec<&str> = text.split_whitespace().collect();
        let usage = |form: &str| format!("`{text}` is not a signal of the form `{form}`");
        let shape = match words.first().copied().unwrap_or_default() {
            "steady" => {
                let value = words.get(1).filter(|_| words.len() == 2).and_then(|word| number(word));
                return value.map(Self::Steady).ok_or_else(|| usage("steady V"));
            }
            "count" => {
                let usage = || usage("count A..B every T");
                let &[_, range, "every", every] = words.as_slice() else { return Err(usage()) };
                let (low, high) = range.split_once("..").ok_or_else(usage)?;
                let (low, high) = (low.parse().map_err(|_| usage())?, high.parse().map_err(|_| usage())?);
                let every = duration(every).filter(|every| *every > 0).ok_or_else(usage)?;
                return if low <= high { Ok(Self::Count { low, high, every }) } else { Err(usage()) };
            }
            "walk" => {
                let usage = || usage("walk A..B step S");
                let &[_, range, "step", step] = words.as_slice() else { return Err(usage()) };
                let (low, high) = span(range).ok_or_else(usage)?;
                return Ok(Self::Walk { low, high, step: number(step).ok_or_else(usage)? });
            }
            "replay" => {
                let path = words.get(1).filter(|_| words.len() == 2);
                return path.map(|path| Self::Replay((*path).into())).ok_or_else(|| usage("replay FILE.csv"));
            }
            "ramp" => Shape::Ramp,
            "sine" => Shape::Sine,
            "square" => Shape::Square,
            other => {
                let known = ["steady", "ramp", "sine", "square", "count", "walk", "replay"];
                let near = crate::nearest::nearest(other, known);
                let offer = near.map_or_else(|| known.join(", "), |word| format!("perhaps `{word}`"));
                return Err(format!("`{other}` is not a signal ({offer})"));
            }
        };
        let form = format!("{} A..B period T", words.first().copied().unwrap_or_default());
        let &[_, range, "period", period] = words.as_slice() else { return Err(usage(&form)) };
        let (low, high) = span(range).ok_or_else(|| usage(&form))?;
        let period = duration(period).filter(|period| *period > 0).ok_or_else(|| usage(&form))?;
        Ok(Self::Wave { shape, low, high, period })
    }
}

fn number(text: &str) -> Option<f64> {
    text.parse::<Decimal>().ok().map(Decimal::as_f64)
}

fn span(text: &str) -> Option<(f64, f64)> {
    let (low, high) = text.split_once("..")?;
    let (low, high) = (number(low)?, number(high)?);
    (low <= high).then_some((low, high))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn signals_are_read() {
        let wave = Signal::Wave { shape: Shape::Sine, low: 7.8, high: 9.4, period: 60_000_000 };
        assert_eq!(Signal::parse("sine 7.8..9.4 period 60s"), Ok(wave));
        assert_eq!(
            Signal::parse("count 0..9999 every 1s"),
            Ok(Signal::Count { low: 0, high: 9999, every: 1_000_000 })
        );
        assert_eq!(
            Signal::parse("walk -5..5 step 0.5"),
            Ok(Signal::Walk { low: -5.0, high: 5.0, step: 0.5 })
        );
        assert_eq!(Signal::parse("stedy 3"), Err("`stedy` is not a signal (perhaps `steady`)".into()));
        for text in
            ["", "steady", "steady x", "sine 9..1 period 1s", "sine 1..2 period 0s", "count 1..2", "replay"]
        {
            assert!(Signal::parse(text).is_err(), "{text}");
        }
    }
}
