//! The proof: every rule tested end to end over real ptys and sockets, both ways where it allows both, and failing
//! right. What must arrive comes from an oracle of its own.

mod alone;
mod clients;
mod controllers;
mod field;
mod forwards;
mod live;
mod oracle;
mod patterns;
mod refusals;
mod rounds;
mod runner;
mod slots;
mod steady;
mod subject;
mod together;
mod writing;

pub use live::{Judged, Pair, pairs};
pub use runner::{BenchParts, prove, prove_on};

use serde::Serialize;

/// What came of one rule.
#[derive(Debug, Clone, Serialize)]
pub struct RuleProof {
    /// Its name, or both its ends.
    pub rule: String,
    /// Whether it has a name.
    #[serde(skip)]
    pub named: bool,
    /// File and line.
    pub at: String,
    /// Its source, as written.
    pub from: String,
    /// Its target, as written.
    pub to: String,
    /// Values in it.
    pub values: u32,
    /// Patterns that arrived right from the device.
    pub patterns_read: u32,
    /// Patterns that arrived right at the device; nothing for a read-only rule.
    pub patterns_written: Option<u32>,
    /// Whether the reader got what the rule says after a cut, and a fresh value after the repair.
    pub on_loss_right: bool,
    /// Milliseconds from a change in the device to the reader: the median.
    pub median_ms: Option<f64>,
    /// The same, at most.
    pub max_ms: Option<f64>,
    /// Whether all of it is as it should be.
    pub proven: bool,
    /// The first thing that was not, in words.
    pub why: Option<String>,
}

/// What came of a project.
#[derive(Debug, Clone, Serialize)]
pub struct Proof {
    /// Version of this shape.
    pub format: u32,
    /// The site.
    pub site: String,
    /// What the map says, as a number: two projects that carry the same have the same one; `status` shows it too.
    pub project_id: String,
    /// When it began, in Unix seconds.
    pub began_unix_s: u64,
    /// The machine on which it was done.
    pub machine: String,
    /// Version of the tool.
    pub version: String,
    /// A row a rule, in file order.
    pub rules: Vec<RuleProof>,
    /// How many forwards there are, and how many of them are as they should be.
    pub forwards: Share,
    /// What concerns no single rule: addresses that no rule feeds, and the like; each with whether it was right.
    pub others: Vec<(String, bool)>,
    /// How long it took, in seconds.
    pub took_s: f64,
}

/// Some out of all.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
pub struct Share {
    /// Those that are as they should be.
    pub proven: u32,
    /// All.
    pub of: u32,
}

impl Proof {
    /// All that is not as it should be, in words.
    #[must_use]
    pub fn faults(&self) -> String {
        let rules = self.rules.iter().filter(|rule| !rule.proven);
        let rules =
            rules.map(|rule| format!("rule {}: {}", rule.rule, rule.why.as_deref().unwrap_or_default()));
        let others = self.others.iter().filter(|(_, right)| !right).map(|(what, _)| what.clone());
        rules.chain(others).collect::<Vec<_>>().join("; ")
    }

    /// Whether everything is as it should be.
    #[must_use]
    pub fn holds(&self) -> bool {
        (!self.rules.is_empty() || self.forwards.of > 0)
            && self.rules.iter().all(|rule| rule.proven)
            && self.others.iter().all(|(_, right)| *right)
    }
}

/// How far a proof is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Progress {
    /// What is being done, in words.
    pub doing: &'static str,
    /// Steps done of it.
    pub done: u32,
    /// Steps in all.
    pub of: u32,
}
