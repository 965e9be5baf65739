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

/// What must be set alike at the other end of an image or a device: names and values in words, in their order.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct EndSettings {
    /// `("unit", "33")` and the like.
    pub items: Vec<(String, String)>,
    /// Its line, where it was read.
    pub span: Span,
}

impl fmt::Display for EndSettings {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, (name, value)) in self.items.iter().enumerate() {
            write!(f, "{}{name} {value}", if at > 0 { " | " } else { "" })?;
        }
        Ok(())
    }
}

impl EndSettings {
    /// Reads what [`fmt::Display`] writes.
    pub(super) fn read(text: &str, span: Span) -> Option<Self> {
        let one = |item: &str| {
            let (name, value) = item.trim().split_once(' ')?;
            Some((name.to_string(), value.trim().to_string()))
        };
        let items = text.split('|').map(one).collect::<Option<_>>()?;
        Some(Self { items, span })
    }

    /// The value of a setting.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<&str> {
        self.items.iter().find(|(own, _)| own == name).map(|(_, value)| value.as_str())
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
    /// How images are asked, by name; empty in an issue that does not say it.
    pub images: BTreeMap<String, EndSettings>,
    /// How devices are set, by name; likewise.
    pub devices: BTreeMap<String, EndSettings>,
    /// What was handed over, by image and address: `scada:300001`.
    pub values: BTreeMap<String, IssuedValue>,
}
