//! Every static fault of a project, all at once: what, where, why it hurts in the field, and the mend.

mod cells;
mod clients;
mod mapping;
mod network;
mod ports;
mod profiles;
mod rules;

pub use rules::{RULES, Rule, Severity, rule};

use crate::plan::Plan;
use crate::project::{Project, Read};
use crate::source::Span;

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

/// One fault found.
#[derive(Debug, Clone)]
pub struct Finding {
    /// The check that found it: code, severity, title, why.
    pub rule: &'static Rule,
    /// How bad this one is, where it is not what the check usually is.
    pub severity: Severity,
    /// Where.
    pub span: Span,
    /// What is there, in words.
    pub what: String,
    /// What to write instead; the check's general advice where nothing better is known.
    pub mend: String,
    /// Other places that belong to it, with what they are.
    pub notes: Vec<(Span, String)>,
}

impl Finding {
    /// A finding of the check `code`.
    #[must_use]
    pub fn new(code: &str, span: Span, what: impl Into<String>) -> Self {
        let rule = rule(code).unwrap_or(&RULES[0]);
        Self { rule, severity: rule.severity, span, what: what.into(), mend: rule.mend.into(), notes: vec![] }
    }

    /// Something that cannot be decided because of a fault found elsewhere; [`tidy`] drops it.
    #[must_use]
    pub(crate) fn quiet(span: Span) -> Self {
        let mut finding = Self::new("F00", span, "");
        finding.severity = Severity::Remark;
        finding
    }

    /// With advice for this case.
    #[must_use]
    pub fn mend(mut self, mend: impl Into<String>) -> Self {
        self.mend = mend.into();
        self
    }

    /// With another place that belongs to it.
    #[must_use]
    pub fn note(mut self, span: Span, what: impl Into<String>) -> Self {
        self.notes.push((span, what.into()));
        self
    }

    /// With another severity than the check usually has.
    #[must_use]
    pub const fn severity(mut self, severity: Severity) -> Self {
        self.severity = severity;
        self
    }
}
