//! Issues of the address table: what was handed over, value by value, and when.

use crate::source::Span;
use std::collections::BTreeMap;
use std::fmt;

/// What clients know of one address.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct IssuedValue {
    /// The endpoint that it comes from, or what clients write it for.
    pub source: String,
    /// How it lies there: type, order, scale.
    pub form: String,
    /// Engineering unit.
    pub eu: String,
    /// `R`, `W` or `RW`.
    pub access: String,
    /// Its line, where it was read.
    pub span: Span,
}

impl fmt::Display for IssuedValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} | {} | {} | {}", self.source, self.form, self.eu, self.access)
    }
}

impl IssuedValue {
    /// Reads what [`fmt::Display`] writes.
    pub(super) fn read(text: &str, span: Span) -> Option<Self> {
        let mut parts = text.rsplitn(4, '|').map(str::trim);
        let (access, eu, form, source) = (parts.next()?, parts.next()?, parts.next()?, parts.next()?);
        let own = |text: &str| text.to_string();
        Some(Self { source: own(source), form: own(form), eu: own(eu), access: own(access), span })
    }

    /// Whether it is the same to a client.
    #[must_use]
    pub fn is_as(&self, other: &Self) -> bool {
        (&self.source, &self.form, &self.eu, &self.access)
            == (&other.source, &other.form, &other.eu, &other.access)
    }
}

/// An issue.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Issue {
    /// Its number, from 1.
    pub number: u32,
    /// The day: `2026-11-30`.
    pub date: String,
    /// What changed, in words.
    pub note: String,
    /// The project id.
    pub project: String,
    /// What was handed over, by image and address: `scada:300001`.
    pub values: BTreeMap<String, IssuedValue>,
}
