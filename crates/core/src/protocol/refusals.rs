//! A device's own numbers of refusals, in words and as `health.last-error` shows them.

use super::DIALECTS;

/// The numbers by which the devices of one family of protocols refuse.
#[derive(Debug)]
pub struct Refusals {
    /// What such a number is called: `Modbus exception`. No two families share one.
    pub name: &'static str,
    /// A number as it is shown: `Modbus exception 2 (0x02)`.
    pub shown: fn(u32) -> String,
    /// The meaning in the standard's words, and the likely cause.
    pub words: fn(u32) -> (&'static str, &'static str),
    /// What else `explain` has to say of a number.
    pub more: fn(u32) -> Option<&'static str>,
    /// Reads a number as people write it, in small letters.
    pub parse: fn(&str) -> Option<u32>,
    /// The numbers that have words.
    pub codes: &'static [u32],
    /// The numbers by which a device may refuse a read that was too long for it: half as much is tried then.
    pub too_long: &'static [u32],
    /// The numbers by which `health.last-error` shows them.
    pub health: LastErrors,
    /// The answer to a reader once a value's source is lost.
    pub lost: &'static str,
}

/// How the numbers of a family stand in `health.last-error`, where no two families share one.
#[derive(Debug)]
pub struct LastErrors {
    /// The least of them.
    pub from: u32,
    /// A device's own number as it is shown there.
    pub shown: fn(u32) -> u32,
    /// The device's own number that one stands for; `None` where it is none of these.
    pub code: fn(u32) -> Option<u32>,
}

impl Refusals {
    /// The number that such words, in small letters, mean; `None` where it has no meaning.
    #[must_use]
    pub fn code(&self, words: &str) -> Option<u32> {
        (self.parse)(words).filter(|code| self.codes.contains(code))
    }
}

/// A number in decimal, or in hex after `0x`.
pub(super) fn number(digits: &str) -> Option<u32> {
    match digits.strip_prefix("0x") {
        Some(hex) => u32::from_str_radix(hex, 16).ok(),
        None => digits.parse().ok(),
    }
}

/// The refusals with that name.
#[must_use]
pub fn refusals(name: &str) -> Option<&'static Refusals> {
    all().find(|refusals| refusals.name == name)
}

fn all() -> impl Iterator<Item = &'static Refusals> {
    DIALECTS.into_iter().map(|dialect| dialect.refusals())
}

/// A device's own number of a refusal: `Modbus exception 2 (0x02)`.
#[must_use]
pub fn refusal_number((name, code): (&'static str, u32)) -> String {
    refusals(name).map_or_else(|| format!("{name} {code}"), |own| (own.shown)(code))
}

/// The same with what it means: `Modbus exception 2 (0x02), illegal data address`.
#[must_use]
pub fn refusal_shown(native: (&'static str, u32)) -> String {
    let number = refusal_number(native);
    match refusals(native.0) {
        Some(own) => format!("{number}, {}", (own.words)(native.1).0),
        None => number,
    }
}

/// The likeliest cause of a device's own refusal.
#[must_use]
pub fn refusal_cause((name, code): (&'static str, u32)) -> &'static str {
    refusals(name).map_or("", |own| (own.words)(code).1)
}

/// A device's own number of a refusal as `health.last-error` shows it.
#[must_use]
pub fn refusal_health((name, code): (&'static str, u32)) -> u32 {
    refusals(name).map_or(code, |own| (own.health.shown)(code))
}

/// What such a number stands for: `Modbus exception 2 (0x02), illegal data address`.
#[must_use]
pub fn health_shown(code: u32) -> String {
    let own = all().find_map(|own| Some((own.name, (own.health.code)(code)?)));
    own.map_or_else(|| code.to_string(), refusal_shown)
}
