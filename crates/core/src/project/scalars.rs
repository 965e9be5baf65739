//! The small values of the project file: durations, line settings, networks, hosts with ports.

use std::fmt;
use std::net::Ipv4Addr;
use std::str::FromStr;

/// Reads a duration such as `15ms`, `1s`, `5m`, in microseconds.
pub(crate) fn duration(text: &str) -> Option<u64> {
    let digits = text.find(|c: char| !c.is_ascii_digit() && c != '.')?;
    let (number, unit) = text.split_at(digits);
    let each: u64 = match unit.trim() {
        "us" | "µs" => 1,
        "ms" => 1000,
        "s" => 1_000_000,
        "m" | "min" => 60_000_000,
        "h" => 3_600_000_000,
        _ => return None,
    };
    if let Ok(whole) = number.parse::<u64>() {
        return whole.checked_mul(each);
    }
    let fraction: f64 = number.parse().ok().filter(|n: &f64| n.is_finite() && *n < 1e9)?;
    Some((fraction * each as f64).round() as u64)
}

/// A duration in the largest unit that shows it whole, or with one decimal.
#[must_use]
pub fn show_micros(micros: u64) -> String {
    match micros {
        0 => "0".into(),
        m if m % 60_000_000 == 0 => format!("{}m", m / 60_000_000),
        m if m % 1_000_000 == 0 => format!("{}s", m / 1_000_000),
        m if m % 1000 == 0 && m < 1_000_000 => format!("{}ms", m / 1000),
        m if m % 1_000_000 == 0 || m % 100_000 == 0 || m >= 10_000_000 => format!("{:.1}s", m as f64 / 1e6),
        m if m >= 1_000_000 => format!("{:.2}s", m as f64 / 1e6),
        m if m >= 1000 => format!("{:.1}ms", m as f64 / 1e3),
        m => format!("{m}us"),
    }
}

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
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum LineFault {
    /// The words are not `BAUD DATA PARITY STOP`.
    Shape,
    /// No device has that speed; the likeliest one that devices have.
    Speed(String, u32),
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

/// An IPv4 address with a prefix length; a bare address is a network of one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Network {
    /// The address as written, host part included.
    pub address: Ipv4Addr,
    /// Prefix length, 0 to 32.
    pub prefix: u8,
}

impl Network {
    /// Whether an address lies in the network.
    #[must_use]
    pub fn holds(self, address: Ipv4Addr) -> bool {
        let mask = u32::MAX.checked_shl(32 - u32::from(self.prefix)).unwrap_or(0);
        u32::from(self.address) & mask == u32::from(address) & mask
    }
}

impl fmt::Display for Network {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.address, self.prefix)
    }
}

/// What is wrong with an IPv4 address, in words.
pub(crate) fn ipv4(text: &str) -> Result<Ipv4Addr, String> {
    let parts: Vec<&str> = text.split('.').collect();
    if parts.len() != 4 {
        return Err(format!(
            "`{text}` has {} part{}, an IPv4 address has four",
            parts.len(),
            if parts.len() == 1 { "" } else { "s" }
        ));
    }
    for part in &parts {
        match part.parse::<u16>() {
            Ok(0..=255) if part.len() == 1 || !part.starts_with('0') => {}
            Ok(0..=255) => {
                return Err(format!("`{part}` in `{text}` begins with 0, which some programs read as octal"));
            }
            _ => return Err(format!("`{part}` in `{text}` is not a number of 0 to 255")),
        }
    }
    Ipv4Addr::from_str(text).map_err(|_| format!("`{text}` is no IPv4 address"))
}

pub(crate) fn network(text: &str) -> Result<Network, String> {
    let (host, prefix) = match text.split_once('/') {
        Some((host, prefix)) => (host, Some(prefix)),
        None => (text, None),
    };
    let address = ipv4(host)?;
    let prefix = match prefix {
        None => 32,
        Some(digits) => match digits.parse::<u8>() {
            Ok(prefix) if prefix <= 32 => prefix,
            _ => {
                return Err(format!(
                    "`/{digits}` is no prefix length, 0 to 32 (255.255.255.0 is written /24)"
                ));
            }
        },
    };
    Ok(Network { address, prefix })
}

/// Host and TCP port, written `HOST:PORT`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostPort {
    /// An IPv4 address.
    pub host: Ipv4Addr,
    /// The TCP port.
    pub port: u16,
}

impl fmt::Display for HostPort {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.host, self.port)
    }
}

pub(crate) fn host_port(text: &str) -> Result<HostPort, String> {
    let Some((host, port)) = text.rsplit_once(':') else {
        return Err(format!("`{text}` names no port (HOST:PORT, such as 0.0.0.0:502)"));
    };
    let host = ipv4(host)?;
    match port.parse::<u16>() {
        Ok(port) if port > 0 => Ok(HostPort { host, port }),
        _ => Err(format!("`{port}` is no TCP port, 1 to 65535")),
    }
}

/// How often a lost device is tried: from `first` on, doubling up to `most`, in microseconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Retry {
    /// Wait before the first try.
    pub first: u64,
    /// The longest wait.
    pub most: u64,
}

impl Default for Retry {
    fn default() -> Self {
        Self { first: 1_000_000, most: 30_000_000 }
    }
}

pub(crate) fn retry(text: &str) -> Option<Retry> {
    let (first, most) = text.split_once("..").unwrap_or((text, text));
    let (first, most) = (duration(first)?, duration(most)?);
    (first > 0 && first <= most).then_some(Retry { first, most })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn durations_are_read_and_shown() {
        for (text, micros, shown) in [
            ("15ms", 15_000, "15ms"),
            ("1s", 1_000_000, "1s"),
            ("5m", 300_000_000, "5m"),
            ("1.75ms", 1750, "1.8ms"),
            ("0s", 0, "0"),
        ] {
            assert_eq!(duration(text), Some(micros), "{text}");
            assert_eq!(show_micros(micros), shown);
        }
        for text in ["", "5", "ms", "5 parsecs", "-1s", "1e9s", "99999999999999999999s"] {
            assert_eq!(duration(text), None, "{text}");
        }
    }

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

    #[test]
    fn networks_hold_their_addresses() {
        let network = network("192.0.2.10/24").unwrap();
        assert!(network.holds(Ipv4Addr::new(192, 0, 2, 200)) && !network.holds(Ipv4Addr::new(192, 0, 3, 1)));
        assert!(super::network("0.0.0.0/0").unwrap().holds(Ipv4Addr::new(9, 9, 9, 9)));
        assert!(!super::network("192.0.2.1").unwrap().holds(Ipv4Addr::new(192, 0, 2, 2)));
        for text in
            ["192.0.2/24", "192.0.2.256", "192.0.2.1/33", "192.0.2.01", "a.b.c.d", "192.0.2.1/255.255.255.0"]
        {
            assert!(super::network(text).is_err(), "{text}");
        }
        assert_eq!(host_port("0.0.0.0:502").unwrap().to_string(), "0.0.0.0:502");
        for text in ["0.0.0.0", "502", "0.0.0.0:0", "0.0.0.0:70000", "192.0.2:502"] {
            assert!(host_port(text).is_err(), "{text}");
        }
    }

    #[test]
    fn retries_double_within_their_bounds() {
        assert_eq!(retry("1s..30s"), Some(Retry::default()));
        assert_eq!(retry("5s"), Some(Retry { first: 5_000_000, most: 5_000_000 }));
        for text in ["", "0s..1s", "30s..1s", "1..2"] {
            assert_eq!(retry(text), None, "{text}");
        }
    }
}
