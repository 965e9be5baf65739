//! The small values of the project file: durations, networks, hosts with ports.

use std::fmt;
use std::net::Ipv4Addr;
use std::str::FromStr;

/// Reads a duration such as `15ms`, `1s`, `5m`, in microseconds.
#[allow(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "bounded above and not negative; a float cast saturates"
)]
#[must_use]
pub fn duration(text: &str) -> Option<u64> {
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
    Ipv4Addr::from_str(text).map_err(|_| format!("`{text}` is not an IPv4 address"))
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
                    "`/{digits}` is not a valid prefix length (0 to 32; 255.255.255.0 is written /24)"
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
        _ => Err(format!("`{port}` is not a valid TCP port (1 to 65535)")),
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

/// A 16-bit word: decimal, or hexadecimal behind `0x`.
pub(super) fn whole_word(word: &str) -> Option<u16> {
    let hex = word.strip_prefix("0x").or_else(|| word.strip_prefix("0X"));
    hex.map_or_else(|| word.parse().ok(), |hex| u16::from_str_radix(hex, 16).ok())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::shown::show_micros;

    #[test]
    fn durations_are_read_and_shown() {
        for (text, micros, shown) in [
            ("15ms", 15_000, "15 ms"),
            ("1s", 1_000_000, "1 s"),
            ("5m", 300_000_000, "5 min"),
            ("1.75ms", 1750, "1.8 ms"),
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
