//! Every static fault of a project, all at once: what, where, why it hurts in the field, and the mend.

mod cells;
mod clients;
mod files;
mod forwards;
mod limits;
mod mapping;
mod network;
mod ports;
mod profiles;
mod rings;
mod timing;
mod writes;

pub use crate::finding::{Finding, RULES, Rule, Severity, rule};

use crate::plan::Plan;
use crate::project::{Project, Read};

/// A project that has been looked at.
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

/// Resolves the rules and runs every check.
#[must_use]
pub fn check(read: Read) -> Checked {
    let Read { project, mut findings } = read;
    let plan = Plan::build(&project, &mut findings);
    profiles::check(&project, &mut findings);
    ports::check(&project, &plan, &mut findings);
    network::check(&project, &mut findings);
    mapping::check(&project, &plan, &mut findings);
    writes::check(&project, &plan, &mut findings);
    files::check(&project, &plan, &mut findings);
    forwards::check(&project, &mut findings);
    timing::check(&project, &plan, &mut findings);
    limits::check(&project, &plan, &mut findings);
    clients::check(&project, &plan, &mut findings);
    tidy(&mut findings);
    Checked { project, plan, findings }
}

/// Puts findings into the order of the files, drops what another fault hides and what was found twice.
fn tidy(findings: &mut Vec<Finding>) {
    findings.retain(|finding| finding.rule.code != "F00");
    findings.sort_by(|a, b| (a.span, a.rule.code, &a.what).cmp(&(b.span, b.rule.code, &b.what)));
    findings.dedup_by(|a, b| (a.span, a.rule.code, &a.what) == (b.span, b.rule.code, &b.what));
}
