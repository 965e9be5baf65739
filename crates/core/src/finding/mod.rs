//! One fault found, and the table of all that can be: reading, planning and checking all find.

mod rules;

pub use rules::{RULES, Rule, Severity, rule};

use crate::source::Span;

/// Why a range that ends too late hurts.
pub(crate) const PAST_THE_END: &str =
    "a request that goes past the end of a table is refused whole, with what it would have brought";
/// Why two rules on one cell hurt.
pub(crate) const TWO_ON_ONE: &str = "which of the two values is shown depends on who was polled last";

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
    pub fix: String,
    /// Why it hurts; the check's general reason where this case has none of its own.
    pub why: &'static str,
    /// Other places that belong to it, with what they are.
    pub notes: Vec<(Span, String)>,
    /// How many places have this in common; the first ones are shown.
    pub count: usize,
}

impl Finding {
    /// A finding of the check `code`.
    #[must_use]
    pub fn new(code: &str, span: Span, what: impl Into<String>) -> Self {
        let rule = rule(code).unwrap_or(&RULES[0]);
        Self {
            rule,
            severity: rule.severity,
            span,
            what: what.into(),
            fix: rule.fix.into(),
            why: rule.why,
            notes: vec![],
            count: 1,
        }
    }

    /// Something that cannot be decided because of a fault found elsewhere; checking drops it.
    #[must_use]
    pub(crate) fn quiet(span: Span) -> Self {
        let mut finding = Self::new("F00", span, "");
        finding.severity = Severity::Remark;
        finding
    }

    /// With advice for this case.
    #[must_use]
    pub fn fix(mut self, fix: impl Into<String>) -> Self {
        self.fix = fix.into();
        self
    }

    /// With the reason of this case.
    #[must_use]
    pub const fn why(mut self, why: &'static str) -> Self {
        self.why = why;
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
