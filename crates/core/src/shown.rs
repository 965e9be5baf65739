//! Values that are kept as the text that people read, in JSON: a number stands there as a number, a text without quotes.

use serde::{Serialize, Serializer};

/// A duration in the largest unit that shows it whole, or with one decimal.
#[must_use]
pub fn show_micros(micros: u64) -> String {
    match micros {
        0 => "0".into(),
        m if m % 60_000_000 == 0 => format!("{} min", m / 60_000_000),
        m if m % 1_000_000 == 0 => format!("{} s", m / 1_000_000),
        m if m % 1000 == 0 && m < 1_000_000 => format!("{} ms", m / 1000),
        m if m % 1_000_000 == 0 || m % 100_000 == 0 || m >= 10_000_000 => format!("{:.1} s", m as f64 / 1e6),
        m if m >= 1_000_000 => format!("{:.2} s", m as f64 / 1e6),
        m if m >= 1000 => format!("{:.1} ms", m as f64 / 1e3),
        m => format!("{m} us"),
    }
}

/// One value as JSON has it.
struct JsonValue<'t>(&'t str);

impl Serialize for JsonValue<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let text = self.0;
        if let Ok(whole) = text.parse::<i64>() {
            return serializer.serialize_i64(whole);
        }
        if let Ok(whole) = text.parse::<u64>() {
            return serializer.serialize_u64(whole);
        }
        match text.parse::<f64>() {
            Ok(number) if number.is_finite() => serializer.serialize_f64(number),
            _ => {
                let inner = text.strip_prefix('"').and_then(|text| text.strip_suffix('"'));
                serializer.serialize_str(inner.unwrap_or(text))
            }
        }
    }
}

/// For `#[serde(serialize_with)]` on a value.
///
/// # Errors
/// Those of the serializer.
pub fn one<S: Serializer>(text: &str, serializer: S) -> Result<S::Ok, S::Error> {
    JsonValue(text).serialize(serializer)
}

/// The same on a value that may be missing: `null`.
///
/// # Errors
/// Those of the serializer.
pub fn maybe<S: Serializer>(text: &Option<String>, serializer: S) -> Result<S::Ok, S::Error> {
    text.as_deref().map(JsonValue).serialize(serializer)
}

/// The same on a list of values.
///
/// # Errors
/// Those of the serializer.
pub fn many<S: Serializer>(texts: &[String], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_seq(texts.iter().map(|text| JsonValue(text)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_numbers_and_texts_are_texts() {
        let shown = |text: &str| serde_json::to_string(&JsonValue(text)).unwrap();
        for (text, json) in [
            ("9.06", "9.06"),
            ("-12", "-12"),
            ("18446744073709551615", "18446744073709551615"),
            ("1e-9", "1e-9"),
            ("\"S1742\"", "\"S1742\""),
            ("NaN", "\"NaN\""),
            ("inf", "\"inf\""),
            ("no value", "\"no value\""),
        ] {
            assert_eq!(shown(text), json);
        }
    }
}
