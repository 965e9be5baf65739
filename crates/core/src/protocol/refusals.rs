//! A device's own numbers of refusals, in words and as `health.last-error` shows them.

use super::{DIALECTS, Dialect};

/// The protocol that has such numbers; those of one family have the same.
fn whose(name: &str) -> Option<&'static dyn Dialect> {
    DIALECTS.into_iter().find(|dialect| dialect.refusal_name() == name)
}

/// A device's own number of a refusal: `Modbus exception 2 (0x02)`.
#[must_use]
pub fn refusal_number((name, code): (&'static str, u32)) -> String {
    whose(name).map_or_else(|| format!("{name} {code}"), |dialect| dialect.refusal_text(code))
}

/// The same with what it means: `Modbus exception 2 (0x02), illegal data address`.
#[must_use]
pub fn refusal_shown(native: (&'static str, u32)) -> String {
    let number = refusal_number(native);
    match whose(native.0) {
        Some(dialect) => format!("{number}, {}", dialect.refusal_words(native.1).0),
        None => number,
    }
}

/// The likeliest cause of a device's own refusal.
#[must_use]
pub fn refusal_cause((name, code): (&'static str, u32)) -> &'static str {
    whose(name).map_or("", |dialect| dialect.refusal_words(code).1)
}

/// A device's own number of a refusal as `health.last-error` shows it.
#[must_use]
pub fn refusal_health((name, code): (&'static str, u32)) -> u32 {
    whose(name).map_or(code, |dialect| dialect.health_codes().start + code)
}

/// What such a number stands for: `Modbus exception 2 (0x02), illegal data address`.
#[must_use]
pub fn health_shown(code: u32) -> String {
    let dialect = DIALECTS.iter().find(|dialect| dialect.health_codes().contains(&code));
    match dialect {
        Some(dialect) => refusal_shown((dialect.refusal_name(), code - dialect.health_codes().start)),
        None => code.to_string(),
    }
}
