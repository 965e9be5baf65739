//! Numbers as people write them in tables: with a comma or a point, a factor as `x0.1`, `/10` or `10^-1`.

use crate::form::Decimal;

/// A decimal number; one comma counts as the point. `None` where it is none.
#[must_use]
pub fn decimal_of(text: &str) -> Option<Decimal> {
    // Most are nothing but digits.
    if text.len() < 18 && text.bytes().all(|byte| byte.is_ascii_digit()) {
        return text.parse().ok();
    }
    let text = text.trim().trim_start_matches(['x', 'X', '*', '\u{d7}']).trim_start();
    if let Some(divisor) = text.strip_prefix("1/").or_else(|| text.strip_prefix('/')) {
        return decimal_of(divisor)?.inverse();
    }
    if let Some(power) = text.strip_prefix("10^") {
        return format!("1e{}", power.trim().trim_matches(['(', ')'])).parse().ok();
    }
    let plain = text.replace('\u{2212}', "-");
    let plain = plain.trim_start_matches('+');
    let plain = match (plain.matches(',').count(), plain.contains('.')) {
        (1, false) => plain.replace(',', "."),
        (0, _) => plain.to_string(),
        _ => return None,
    };
    // `.5`, as some write it.
    let plain = if let Some(rest) = plain.strip_prefix('.') { format!("0.{rest}") } else { plain };
    plain.parse().ok()
}

/// Two numbers with something between them: `0..100`, `-50 to 150`, `0 - 20`, `0…5`.
#[must_use]
pub fn range_of(text: &str) -> Option<(Decimal, Decimal)> {
    let text = text.trim().trim_matches(['[', ']', '(', ')']);
    for mark in ["...", "..", "\u{2026}", " to ", "\u{2013}", " - ", "~", ";"] {
        if let Some((low, high)) = text.split_once(mark) {
            return Some((decimal_of(low)?, decimal_of(high)?));
        }
    }
    // `0-100`, `-50-150`: a dash that is not a sign.
    let dash = text.char_indices().skip(1).find(|(_, letter)| *letter == '-')?.0;
    let (low, high) = text.split_at(dash);
    Some((decimal_of(low)?, decimal_of(high.get(1..)?)?))
}

/// A whole number, decimal or hexadecimal with `0x`, `h` or `16#`.
#[must_use]
pub fn count_of(text: &str) -> Option<u32> {
    let text = text.trim();
    let hex = text
        .strip_prefix("0x")
        .or_else(|| text.strip_prefix("0X"))
        .or_else(|| text.strip_prefix("16#"))
        .or_else(|| text.strip_suffix(['h', 'H']))
        .or_else(|| text.strip_prefix('$'));
    match hex {
        Some(hex) => u32::from_str_radix(hex, 16).ok(),
        None => text.parse().ok(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_read_as_people_write_them() {
        for (text, value) in [
            ("0.1", "0.1"),
            ("0,1", "0.1"),
            (".5", "0.5"),
            ("x0.01", "0.01"),
            ("* 10", "10"),
            ("\u{d7}10", "10"),
            ("/10", "0.1"),
            ("1/8", "0.125"),
            ("10^-2", "0.01"),
            ("1E-3", "0.001"),
            ("\u{2212}40", "-40"),
            ("+5", "5"),
        ] {
            assert_eq!(decimal_of(text).map(|own| own.to_string()).as_deref(), Some(value), "{text}");
        }
        for text in ["", "kW", "1,000,000", "1.000,5", "/3", "/0", "10^x", "--5"] {
            assert_eq!(decimal_of(text), None, "{text}");
        }
    }

    #[test]
    fn ranges_and_counts_are_read_as_people_write_them() {
        for text in
            ["-50..150", "-50...150", "-50 to 150", "-50 - 150", "-50-150", "[-50;150]", "-50\u{2013}150"]
        {
            let (low, high) = range_of(text).unwrap_or_else(|| panic!("{text}"));
            assert_eq!((low.as_f64(), high.as_f64()), (-50.0, 150.0), "{text}");
        }
        assert_eq!(range_of("0, 5, 10"), None);
        assert_eq!(range_of("-40"), None);
        for (text, value) in
            [("16", Some(16)), ("0x0010", Some(16)), ("10h", Some(16)), ("16#10", Some(16)), ("1A", None)]
        {
            assert_eq!(count_of(text), value, "{text}");
        }
    }
}
