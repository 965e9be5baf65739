//! Renderings of data: the same findings, tables and proofs as text, JSON, CSV, HTML or JUnit XML.

pub(crate) mod diagnosis;
pub(crate) mod findings;
pub(crate) mod live;
pub(crate) mod proof;

use crate::Failure;

/// A tolerance as it is written: `5%`, or `0.05`.
pub(crate) fn share(text: Option<&str>, default: f64) -> Result<f64, Failure> {
    let Some(text) = text else { return Ok(default) };
    let (digits, unit) = match text.trim().strip_suffix('%') {
        Some(digits) => (digits, 100.0),
        None => (text.trim(), 1.0),
    };
    let share = digits.trim().parse::<f64>().ok().map(|number| number / unit);
    share
        .filter(|share| (0.0..=1.0).contains(share))
        .ok_or_else(|| Failure::Usage(format!("`{text}` is no tolerance (a share of the value, such as 5%)")))
}

/// Opens a report's file before anything is proven: a path that cannot be written is told at once. What is there stays
/// until the report is ready.
pub(crate) fn can_be_written(path: &std::path::Path) -> Result<(), crate::Failure> {
    let opened = std::fs::OpenOptions::new().create(true).append(true).open(path);
    opened.map(drop).map_err(|error| {
        crate::Failure::Outside(format!(
            "{} cannot be written: {error}, so nothing was begun",
            path.display()
        ))
    })
}
