//! A proof as a table, as JSON, as a page, and as JUnit XML.

use crate::Failure;
use crate::console::{Table, counted};
use std::path::Path;
use std::time::{Duration, UNIX_EPOCH};
use woodrush_engine::prove::{Proof, RuleProof, Share};

/// What a report's name asks for.
#[derive(Debug, Clone, Copy)]
pub(crate) enum ReportKind {
    Html,
    Json,
    Junit,
}

/// The kind of a report by the end of its name.
pub(crate) fn kind_of(path: &Path) -> Result<ReportKind, Failure> {
    match path.extension().and_then(|end| end.to_str()) {
        Some("html") => Ok(ReportKind::Html),
        Some("json") => Ok(ReportKind::Json),
        Some("xml") => Ok(ReportKind::Junit),
        _ => Err(Failure::Usage(format!("{}: a report's name ends in .html, .json or .xml", path.display()))),
    }
}

/// Writes a report.
pub(crate) fn write(path: &Path, proof: &Proof) -> Result<(), Failure> {
    let text = match kind_of(path)? {
        ReportKind::Html => html(proof)?,
        ReportKind::Json => {
            serde_json::to_string_pretty(proof).map_err(|error| Failure::Outside(error.to_string()))?
        }
        ReportKind::Junit => junit(proof)?,
    };
    crate::kept::put(path, text.as_bytes())
}

fn times(rule: &RuleProof) -> String {
    rule.median_ms.zip(rule.max_ms).map_or_else(String::new, |(median, max)| format!("{median:.0}/{max:.0}"))
}

/// What fits a terminal.
pub(crate) fn table(proof: &Proof) -> Table {
    let plain = |end: &str| end.split(" as ").next().unwrap_or_default().to_string();
    let row = |rule: &RuleProof| {
        let count = if rule.values > 1 { format!(" x{}", rule.values) } else { String::new() };
        vec![
            if rule.named { rule.rule.clone() } else { "-".into() },
            // Without their forms, which `map` shows: the columns must fit.
            plain(&rule.from),
            format!("{}{count}", plain(&rule.to)),
            match (rule.median_ms, rule.patterns_written) {
                (None, _) => "-".into(),
                (Some(_), None) => rule.patterns_read.to_string(),
                (Some(_), Some(written)) => format!("{} + {written}", rule.patterns_read),
            },
            if rule.on_loss_right { "right".into() } else { "WRONG".into() },
            times(rule),
            if rule.proven { "proven".into() } else { "WRONG".into() },
        ]
    };
    Table {
        head: vec!["rule", "from", "to", "patterns", "on loss", "ms", "verdict"],
        rows: proof.rules.iter().map(row).collect(),
        whole: &[0, 1, 2, 3, 5, 6],
    }
}

/// Everything, for spreadsheets.
pub(crate) fn full_table(proof: &Proof) -> Table {
    let row = |rule: &RuleProof| {
        let shown = |ms: Option<f64>| ms.map(|ms| format!("{ms:.1}")).unwrap_or_default();
        vec![
            rule.rule.clone(),
            rule.at.clone(),
            rule.from.clone(),
            rule.to.clone(),
            rule.values.to_string(),
            rule.patterns_read.to_string(),
            rule.patterns_written.map(|written| written.to_string()).unwrap_or_default(),
            rule.on_loss_right.to_string(),
            shown(rule.median_ms),
            shown(rule.max_ms),
            rule.proven.to_string(),
            rule.why.clone().unwrap_or_default(),
        ]
    };
    let head = vec![
        "rule",
        "at",
        "from",
        "to",
        "values",
        "patterns_read",
        "patterns_written",
        "on_loss_right",
        "median_ms",
        "max_ms",
        "proven",
        "why",
    ];
    Table { head, rows: proof.rules.iter().map(row).collect(), whole: &[] }
}

/// How many of what is proven, in words.
pub(crate) fn summary(proof: &Proof) -> String {
    let good = proof.rules.iter().filter(|rule| rule.proven).count();
    let rules = format!("{good} of {}", counted(proof.rules.len(), "rule"));
    let Share { proven, of } = proof.forwards;
    let forwards = format!("{proven} of {}", counted(of as usize, "forward"));
    match (proof.rules.is_empty(), of) {
        (_, 0) => rules,
        (true, _) => forwards,
        (false, _) => format!("{rules} and {forwards}"),
    }
}

fn render(template: &str, name: &str, proof: &Proof) -> Result<String, Failure> {
    let mut environment = super::environment();
    environment.add_template(name, template).map_err(|error| Failure::Outside(error.to_string()))?;
    let good = proof.rules.iter().filter(|rule| rule.proven).count();
    let values = minijinja::context! {
        proof => minijinja::value::Serde(proof),
        holds => proof.holds(),
        summary => summary(proof),
        failed => proof.rules.len() - good + proof.others.iter().filter(|(_, right)| !right).count(),
        tests => proof.rules.len() + proof.others.len(),
        began => humantime::format_rfc3339_seconds(UNIX_EPOCH + Duration::from_secs(proof.began_unix_s)).to_string(),
    };
    let made = environment.get_template(name).and_then(|template| template.render(values));
    made.map_err(|error| Failure::Outside(error.to_string()))
}

fn html(proof: &Proof) -> Result<String, Failure> {
    render(include_str!("proof.html"), "proof.html", proof)
}

fn junit(proof: &Proof) -> Result<String, Failure> {
    render(include_str!("proof.xml"), "proof.xml", proof)
}
