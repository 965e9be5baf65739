//! A project that has been read and checked, with its plan and its findings.

use crate::finding::{Finding, Severity};
use crate::plan::Plan;
use crate::project::Project;

/// A checked project.
#[derive(Debug, Default)]
pub struct Checked {
    /// As much as is sound.
    pub project: Project,
    /// Its rules, resolved.
    pub plan: Plan,
    /// Everything found, in the order of the files.
    pub findings: Vec<Finding>,
}

impl Checked {
    /// Whether anything found keeps the project from working.
    #[must_use]
    pub fn has_errors(&self) -> bool {
        self.findings.iter().any(|finding| finding.severity == Severity::Error)
    }
}
