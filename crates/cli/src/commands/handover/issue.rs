//! Closing an issue: what is handed over, kept in the ledger.

use crate::Failure;
use crate::commands::ledger;
use std::collections::BTreeMap;
use std::path::Path;
use woodrush_core::check::Checked;
use woodrush_core::handover::{device_settings, image_settings, issued_values};
use woodrush_core::ledger::{EndSettings, Issue, IssuedValue, Ledger};

/// What is known of issues when papers are written.
pub(super) struct Issues {
    ledger: Ledger,
    /// The one that is closed now, where something changed; its place in the ledger is the last.
    is_new: bool,
}

impl Issues {
    /// The issues of a project; with `note` one that is to be closed, unless nothing has changed since the last.
    pub(super) fn of(
        checked: &Checked,
        place: &Path,
        note: Option<&str>,
        today: &str,
    ) -> Result<Self, Failure> {
        let mut ledger = ledger::read(place)?;
        let Some(note) = note else { return Ok(Self { ledger, is_new: false }) };
        let issue =
            now(checked, note, today, ledger.issues.iter().map(|own| own.number).max().unwrap_or(0) + 1);
        let is_new = ledger.issues.last().is_none_or(|last| !is_same(last, &issue));
        if is_new {
            ledger.issues.push(issue);
        }
        Ok(Self { ledger, is_new })
    }

    /// The issue that the papers are of.
    pub(super) fn last(&self) -> Option<&Issue> {
        self.ledger.issues.last()
    }

    /// Whether it is closed with these papers.
    pub(super) fn is_new(&self) -> bool {
        self.is_new
    }

    /// What changes are told against: the one before a new one, or the last.
    pub(super) fn since(&self) -> Option<&Issue> {
        let all = &self.ledger.issues;
        if self.is_new { all.len().checked_sub(2).and_then(|at| all.get(at)) } else { all.last() }
    }

    /// Writes the ledger, where an issue is new.
    pub(super) fn write(&self, held: ledger::Held) -> Result<(), Failure> {
        if self.is_new { held.write(&self.ledger.text()) } else { Ok(()) }
    }
}

fn now(checked: &Checked, note: &str, today: &str, number: u32) -> Issue {
    let values = issued_values(&checked.project, &checked.plan);
    Issue {
        number,
        date: today.to_string(),
        note: note.to_string(),
        project: format!("{:016x}", checked.plan.fingerprint(&checked.project)),
        images: image_settings(&checked.project, &checked.plan),
        devices: device_settings(&checked.project, &checked.plan),
        values: values.into_iter().map(|(address, (value, _))| (address, value)).collect(),
    }
}

/// Whether two issues say the same to those outside.
fn is_same(one: &Issue, other: &Issue) -> bool {
    let ends = |one: &BTreeMap<String, EndSettings>, other: &BTreeMap<String, EndSettings>| {
        one.len() == other.len()
            && one.iter().all(|(name, own)| other.get(name).is_some_and(|new| new.items == own.items))
    };
    let values = |one: &BTreeMap<String, IssuedValue>, other: &BTreeMap<String, IssuedValue>| {
        one.len() == other.len()
            && one.iter().all(|(address, own)| other.get(address).is_some_and(|new| new.is_as(own)))
    };
    ends(&one.images, &other.images)
        && ends(&one.devices, &other.devices)
        && values(&one.values, &other.values)
}
