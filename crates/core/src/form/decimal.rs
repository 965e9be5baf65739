//! A number exactly as it was written: `0.01` is one hundredth and not the nearest binary fraction.

use std::fmt;
use std::str::FromStr;

/// `mantissa × 10^exponent`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Decimal {
    /// The digits as one whole number.
    pub mantissa: i64,
    /// The power of ten, -18 to 18.
    pub exponent: i8,
}

impl Decimal {
    /// 0.
    pub const ZERO: Self = Self { mantissa: 0, exponent: 0 };
    /// 1.
    pub const ONE: Self = Self { mantissa: 1, exponent: 0 };

    /// The nearest binary fraction.
    #[must_use]
    pub fn as_f64(self) -> f64 {
        let power = 10f64.powi(i32::from(self.exponent).abs());
        if self.exponent < 0 { self.mantissa as f64 / power } else { self.mantissa as f64 * power }
    }

    /// One over it, where that is a decimal number: of 8 or 2.5, and not of 3.
    #[must_use]
    pub fn inverse(self) -> Option<Self> {
        let (places, power) = (0..=18i8)
            .map(|places| (places, 10i64.pow(u32::from(places.unsigned_abs()))))
            .find(|(_, power)| self.mantissa != 0 && power % self.mantissa == 0)?;
        let exponent = places.checked_neg()?.checked_sub(self.exponent)?;
        let found = Self { mantissa: power / self.mantissa, exponent };
        (-18..=18).contains(&exponent).then(|| found.reduced())
    }

    /// The same number with the least mantissa.
    fn reduced(mut self) -> Self {
        if self.mantissa == 0 {
            return Self::ZERO;
        }
        while self.mantissa % 10 == 0 && self.exponent < 18 {
            self.mantissa /= 10;
            self.exponent += 1;
        }
        self
    }
}

/// The text is not a decimal number of at most 18 digits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("not a decimal number of at most 18 digits, such as 0.01 or -40")]
pub struct NotDecimal;

impl FromStr for Decimal {
    type Err = NotDecimal;

    fn from_str(text: &str) -> Result<Self, NotDecimal> {
        let (digits, power) = match text.split_once(['e', 'E']) {
            Some((digits, power)) => (digits, power.parse::<i8>().map_err(|_| NotDecimal)?),
            None => (text, 0),
        };
        let (whole, part) = digits.split_once('.').unwrap_or((digits, ""));
        let unsigned = whole.trim_start_matches(['-', '+']);
        let plain = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
        if unsigned.len() + 1 < whole.len() || unsigned.is_empty() || !plain(unsigned) || !plain(part) {
            return Err(NotDecimal);
        }
        if digits.contains('.') && part.is_empty() || unsigned.len() + part.len() > 18 {
            return Err(NotDecimal);
        }
        let mantissa: i64 = format!("{whole}{part}").parse().map_err(|_| NotDecimal)?;
        let places = i8::try_from(part.len()).map_err(|_| NotDecimal)?;
        let exponent = power.checked_sub(places).filter(|e| (-18..=18).contains(e)).ok_or(NotDecimal)?;
        Ok(Self { mantissa, exponent }.reduced())
    }
}

impl fmt::Display for Decimal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.exponent >= 0 {
            let zeros = usize::from(self.exponent.unsigned_abs());
            return write!(f, "{}{}", self.mantissa, "0".repeat(zeros));
        }
        let places = usize::from(self.exponent.unsigned_abs());
        let digits = format!("{:0>width$}", self.mantissa.unsigned_abs(), width = places + 1);
        let (whole, part) = digits.split_at(digits.len() - places);
        write!(f, "{}{whole}.{part}", if self.mantissa < 0 { "-" } else { "" })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn decimals_are_kept_as_written() {
        for (text, shown) in [
            ("0.01", "0.01"),
            ("1", "1"),
            ("-40", "-40"),
            ("100", "100"),
            ("2.50", "2.5"),
            ("1e-3", "0.001"),
            ("-0.5", "-0.5"),
            ("0", "0"),
            ("12.5e2", "1250"),
        ] {
            assert_eq!(text.parse::<Decimal>().map(|d| d.to_string()).as_deref(), Ok(shown), "{text}");
        }
        for text in ["", ".", "1.", "x", "1e99", "--1", "+-1", "1 2", "0x10", "1234567890123456789"] {
            assert_eq!(text.parse::<Decimal>(), Err(NotDecimal), "{text}");
        }
        assert!((Decimal { mantissa: 1, exponent: -2 }.as_f64() - 0.01).abs() < f64::EPSILON);
    }
}
