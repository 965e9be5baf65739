//! What simulated devices do, as written: signals and faults of `[rig]`.

use super::Project;
use super::scalars::duration;
use crate::form::Decimal;
use crate::source::Spanned;

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

/// One entry of `[[rig.faults]]`, or of `rig cut …` on a running rig.
#[derive(Debug, Clone, PartialEq)]
pub struct RigFault {
    /// When, in microseconds after the start.
    pub at: u64,
    /// For how long, in microseconds; `None` until mended.
    pub lasts: Option<u64>,
    /// What goes wrong, and where.
    pub what: Spanned<Trouble>,
}

/// What goes wrong on the bench.
#[derive(Debug, Clone, PartialEq)]
pub enum Trouble {
    /// Bytes of a port stop both ways; nothing closes.
    Cut(String),
    /// A device does not answer.
    Mute(String),
    /// A device answers so much later, in microseconds.
    Slow(String, u64),
    /// A device answers every request with this exception code.
    Refuse(String, u8),
    /// So many of a port's bytes are damaged, 0 to 1.
    Noise(String, f64),
    /// A port's adapter or connection goes away.
    Unplug(String),
    /// A device answers after the timeout.
    Late(String),
    /// A device says every answer twice.
    Twice(String),
    /// A device's answers end too early.
    Short(String),
    /// A device answers as another unit.
    AsUnit(String, u8),
    /// A device's acknowledgements get lost, the first of each message.
    DropAck(String),
}

/// What a fault is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Noun {
    /// A port.
    Port,
    /// A device.
    Device,
}

impl Trouble {
    /// The words that begin a fault, with what follows them.
    pub const KINDS: [(&'static str, Noun, &'static str); 11] = [
        ("cut", Noun::Port, "PORT"),
        ("mute", Noun::Device, "DEVICE"),
        ("slow", Noun::Device, "DEVICE DURATION"),
        ("refuse", Noun::Device, "DEVICE EXCEPTION"),
        ("noise", Noun::Port, "PORT SHARE"),
        ("unplug", Noun::Port, "PORT"),
        ("late", Noun::Device, "DEVICE"),
        ("twice", Noun::Device, "DEVICE"),
        ("short", Noun::Device, "DEVICE"),
        ("as-unit", Noun::Device, "DEVICE UNIT"),
        ("drop-ack", Noun::Device, "DEVICE"),
    ];

    /// Reads the value of a fault's key, such as `do-1 200ms` for `slow`.
    ///
    /// # Errors
    /// What is wrong, in words.
    pub fn parse(kind: &str, text: &str) -> Result<Self, String> {
        let mut words = text.split_whitespace();
        let name = words.next().unwrap_or_default().to_string();
        let value = words.next();
        let known = Self::KINDS.iter().find(|(word, ..)| *word == kind);
        let usage = || {
            let form = known.map_or("", |(.., form)| form);
            format!("`{kind} {text}` is not of the form `{kind} {form}`")
        };
        if words.next().is_some() || name.is_empty() {
            return Err(usage());
        }
        match (kind, value) {
            ("cut", None) => Ok(Self::Cut(name)),
            ("unplug", None) => Ok(Self::Unplug(name)),
            ("late", None) => Ok(Self::Late(name)),
            ("twice", None) => Ok(Self::Twice(name)),
            ("short", None) => Ok(Self::Short(name)),
            ("drop-ack", None) => Ok(Self::DropAck(name)),
            ("as-unit", Some(value)) => {
                value.parse().map(|unit| Self::AsUnit(name, unit)).map_err(|_| usage())
            }
            ("mute", None) => Ok(Self::Mute(name)),
            ("slow", Some(value)) => duration(value).map(|by| Self::Slow(name, by)).ok_or_else(usage),
            // Some codes are known by their hex.
            ("refuse", Some(value)) => value
                .strip_prefix("0x")
                .map_or_else(|| value.parse().ok(), |hex| u8::from_str_radix(hex, 16).ok())
                .filter(|code| *code > 0)
                .map(|code| Self::Refuse(name, code))
                .ok_or_else(usage),
            ("noise", Some(value)) => {
                let share = match value.strip_suffix('%') {
                    Some(percent) => number(percent).map(|percent| percent / 100.0),
                    None => number(value),
                };
                match share.ok_or_else(usage)? {
                    share if (0.0..=1.0).contains(&share) => Ok(Self::Noise(name, share)),
                    _ => Err(format!(
                        "`{value}` is more than all bytes: write a share, such as `{kind} {name} 0.05` or `{kind} {name} 5%`"
                    )),
                }
            }
            _ => Err(usage()),
        }
    }

    /// Why it cannot happen to what it names, in words.
    #[must_use]
    pub fn unfit(&self, project: &Project) -> Option<String> {
        let Self::DropAck(name) = self else { return None };
        let dialect = project.device(name).and_then(|device| project.device_dialect(device))?;
        let what =
            format!("`{name}` speaks {}, whose messages are not acknowledged by the link", dialect.name());
        (!dialect.acknowledges()).then_some(what)
    }

    /// The port or device that it is about.
    #[must_use]
    pub fn place(&self) -> (Noun, &str) {
        match self {
            Self::Cut(name) | Self::Noise(name, _) | Self::Unplug(name) => (Noun::Port, name),
            Self::Mute(name)
            | Self::Slow(name, _)
            | Self::Refuse(name, _)
            | Self::Late(name)
            | Self::Twice(name)
            | Self::Short(name)
            | Self::DropAck(name)
            | Self::AsUnit(name, _) => (Noun::Device, name),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn signals_and_faults_are_read() {
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
        assert_eq!(Trouble::parse("slow", "do-1 200ms"), Ok(Trouble::Slow("do-1".into(), 200_000)));
        assert_eq!(Trouble::parse("noise", "raceway 0.001"), Ok(Trouble::Noise("raceway".into(), 0.001)));
        assert_eq!(Trouble::parse("noise", "raceway 5%"), Ok(Trouble::Noise("raceway".into(), 0.05)));
        for (kind, text) in
            [("cut", ""), ("cut", "a b"), ("refuse", "do-1 0"), ("noise", "raceway 2"), ("burn", "x")]
        {
            assert!(Trouble::parse(kind, text).is_err(), "{kind} {text}");
        }
    }
}
