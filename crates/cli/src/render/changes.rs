//! What differs between two states of a site, a row each.

use serde::Serialize;
use woodrush_core::compare::{ChangeKind, Comparison, Difference, EndChange, ValueChange};

/// One thing that changed, as every output shows it.
#[derive(Serialize)]
pub(crate) struct ComparedRow {
    /// The image, or the device or image whose settings they are.
    pub(crate) of: String,
    /// The address as it was; of what is new, as it is. Empty for settings.
    pub(crate) address: String,
    pub(crate) change: String,
    pub(crate) value: String,
    pub(crate) was: String,
    pub(crate) is: String,
    pub(crate) must_follow: bool,
}

/// Everything that differs, a row each.
pub(crate) fn rows(comparison: &Comparison) -> Vec<ComparedRow> {
    let mut rows: Vec<ComparedRow> = comparison.values.iter().flat_map(of_value).collect();
    rows.extend(comparison.images.iter().chain(&comparison.devices).flat_map(of_end));
    rows
}

fn of_value(change: &ValueChange) -> Vec<ComparedRow> {
    let plain = |at: &Option<String>| {
        let at = at.as_deref().unwrap_or_default();
        at.split_once(':').map_or(at, |(_, at)| at).to_string()
    };
    let (was_at, is_at) = (plain(&change.was_at), plain(&change.is_at));
    let row = |word: &str, was: String, is: String, must_follow| ComparedRow {
        of: change.image().to_string(),
        address: if was_at.is_empty() { is_at.clone() } else { was_at.clone() },
        change: word.into(),
        value: change.source.clone(),
        was,
        is,
        must_follow,
    };
    let mut found = match change.kind {
        ChangeKind::Moved => vec![row("moved", was_at.clone(), is_at.clone(), true)],
        ChangeKind::Gone => vec![row("gone", change.form_was.clone(), String::new(), true)],
        ChangeKind::New => vec![row("new", String::new(), change.form_is.clone(), false)],
        ChangeKind::Changed => vec![],
    };
    found.extend(
        change.differs.iter().map(|own| row(&own.what, own.was.clone(), own.is.clone(), own.must_follow)),
    );
    found
}

fn of_end(end: &EndChange) -> Vec<ComparedRow> {
    let row = |own: &Difference| ComparedRow {
        of: end.name.clone(),
        address: String::new(),
        change: match (own.what.as_str(), own.is.is_empty()) {
            ("", true) => "gone".into(),
            ("", false) => "new".into(),
            (what, _) => what.to_string(),
        },
        value: String::new(),
        was: own.was.clone(),
        is: own.is.clone(),
        must_follow: own.must_follow,
    };
    end.differs.iter().map(row).collect()
}
