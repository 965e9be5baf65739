//! Speed and character of a serial line.

use std::fmt;

/// The parity bit of a character.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Parity {
    /// No such bit.
    None,
    /// The ones, it included, are even.
    Even,
    /// The ones, it included, are odd.
    Odd,
}

/// Speed and character of a serial line, written `38400 8E1`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Line {
    /// Bits a second.
    pub baud: u32,
    /// Data bits, 7 or 8.
    pub data: u8,
    /// The parity bit.
    pub parity: Parity,
    /// Stop bits, 1 or 2.
    pub stop: u8,
}

/// Speeds that serial devices really have.
const SPEEDS: [u32; 19] = [
    300, 600, 1200, 1800, 2400, 4800, 7200, 9600, 14_400, 19_200, 28_800, 38_400, 57_600, 76_800, 115_200,
    187_500, 230_400, 460_800, 921_600,
];

/// Why line settings are not understood.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum LineFault {
    /// The words are not `BAUD DATA PARITY STOP`.
    #[error("line settings are BAUD, data bits, parity and stop bits, such as `38400 8E1`")]
    Shape,
    /// No device has that speed; the likeliest one that devices have.
    #[error("no device has {0} baud, perhaps {1}")]
    Speed(String, u32),
}

impl std::str::FromStr for Line {
    type Err = LineFault;

    fn from_str(text: &str) -> Result<Self, LineFault> {
        Self::parse(text)
    }
}

impl Line {
    /// Bits of one character on the wire: start, data, parity, stop.
    #[must_use]
    pub const fn bits_per_char(self) -> u32 {
        let parity = if matches!(self.parity, Parity::None) { 0 } else { 1 };
        1 + self.data as u32 + parity + self.stop as u32
    }

    /// Nanoseconds of one character on the wire.
    #[must_use]
    pub const fn char_nanos(self) -> u64 {
        let baud = if self.baud == 0 { 1 } else { self.baud };
        self.bits_per_char() as u64 * 1_000_000_000 / baud as u64
    }

    pub(crate) fn parse(text: &str) -> Result<Self, LineFault> {
        let mut words = text.split_whitespace();
        let (Some(baud), Some(frame), None) = (words.next(), words.next(), words.next()) else {
            return Err(LineFault::Shape);
        };
        let number: u32 = baud.parse().map_err(|_| LineFault::Shape)?;
        let mut letters = frame.chars();
        let data = match letters.next() {
            Some('7') => 7,
            Some('8') => 8,
            _ => return Err(LineFault::Shape),
        };
        let parity = match letters.next() {
            Some('N' | 'n') => Parity::None,
            Some('E' | 'e') => Parity::Even,
            Some('O' | 'o') => Parity::Odd,
            _ => return Err(LineFault::Shape),
        };
        let stop = match (letters.next(), letters.next()) {
            (Some('1'), None) => 1,
            (Some('2'), None) => 2,
            _ => return Err(LineFault::Shape),
        };
        if !SPEEDS.contains(&number) {
            return Err(LineFault::Speed(baud.into(), likely_speed(number)));
        }
        Ok(Self { baud: number, data, parity, stop })
    }
}

/// Zeros left out are the likeliest slip, then a wrong digit.
fn likely_speed(number: u32) -> u32 {
    let longer =
        [10, 100].into_iter().filter_map(|by| number.checked_mul(by)).find(|speed| SPEEDS.contains(speed));
    let near = SPEEDS.into_iter().min_by_key(|speed| speed.abs_diff(number));
    longer.or(near).unwrap_or(19_200)
}

impl fmt::Display for Line {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let parity = match self.parity {
            Parity::None => 'N',
            Parity::Even => 'E',
            Parity::Odd => 'O',
        };
        write!(f, "{} {}{parity}{}", self.baud, self.data, self.stop)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn line_settings_are_read_and_unreal_speeds_offered_a_real_one() {
        let line = Line::parse("38400 8E1").unwrap();
        assert_eq!(
            (line.to_string().as_str(), line.bits_per_char(), line.char_nanos()),
            ("38400 8E1", 11, 286_458)
        );
        assert_eq!(Line::parse("9600 8N1").unwrap().bits_per_char(), 10);
        for (text, likely) in
            [("384 8N1", 38_400), ("5760 8N1", 57_600), ("9601 8N1", 9600), ("1920 8N1", 19_200)]
        {
            assert!(
                matches!(Line::parse(text), Err(LineFault::Speed(_, speed)) if speed == likely),
                "{text}"
            );
        }
        for text in ["", "9600", "8N1", "9600 9N1", "9600 8X1", "9600 8N3", "9600 8N1 x", "9600,8N1"] {
            assert_eq!(Line::parse(text), Err(LineFault::Shape), "{text}");
        }
    }
}
