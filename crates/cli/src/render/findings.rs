//! Findings: a snippet of the file with the place underlined, why it hurts, and the fix.

use crate::console::{Console, Table, Tone};
use serde::Serialize;
use woodrush_core::check::{Checked, Finding, Severity};
use woodrush_core::project::show_micros;
use woodrush_core::{Sources, Span};

/// Findings that are shown as text without being asked for more.
pub(crate) const MOST: usize = 200;

/// Findings as text, no more than so many; only errors where `errors_only`.
pub(crate) fn text(console: &Console, checked: &Checked, errors_only: bool, most: usize) -> String {
    let wanted = |finding: &&Finding| !errors_only || finding.severity == Severity::Error;
    let sources = &checked.project.sources;
    let all = checked.findings.iter().filter(wanted);
    let left_out = all.clone().count().saturating_sub(most);
    let mut blocks: Vec<String> = all.take(most).map(|finding| block(console, sources, finding)).collect();
    if left_out > 0 {
        blocks.push(format!("{left_out} more findings are not shown (`woodrush check --all` shows them)"));
    }
    blocks.join("\n\n")
}

fn tone(severity: Severity) -> Tone {
    match severity {
        Severity::Error => Tone::Bad,
        Severity::Warning => Tone::Doubt,
        Severity::Remark => Tone::Accent,
    }
}

fn block(console: &Console, sources: &Sources, finding: &Finding) -> String {
    let severity = console.paint(tone(finding.severity), finding.severity.word());
    let mut lines = vec![format!(
        "{severity} {}  {}",
        console.paint(Tone::Accent, finding.rule.code),
        finding.rule.title
    )];
    lines.extend(snippet(console, sources, finding.span, '^', tone(finding.severity)));
    let width = console.width();
    lines.extend(labelled("what", &finding.what, width));
    for (span, note) in &finding.notes {
        let at = sources.position(*span);
        lines.extend(labelled("see", &format!("{note}: {}:{}  {}", at.file, at.line, at.text.trim()), width));
    }
    lines.extend(labelled("why", finding.why, width));
    lines.extend(labelled("fix", &finding.fix, width));
    lines.join("\n")
}

/// The line of the file, its place, and the marks below it.
fn snippet(console: &Console, sources: &Sources, span: Span, mark: char, tone: Tone) -> Vec<String> {
    let at = sources.position(span);
    let number = at.line.to_string();
    let gutter = " ".repeat(number.len());
    // A tab would move the marks; a long line is cut around the place.
    let text: Vec<char> = at.text.replace('\t', " ").chars().collect();
    let room = console.width().saturating_sub(number.len() + 5).max(20);
    let begin = if at.column + at.width > room { (at.column - 1).saturating_sub(room / 3) } else { 0 };
    let shown: String = text.iter().skip(begin).take(room).collect();
    let lead = if begin > 0 { "…" } else { "" };
    let indent = (at.column - 1).saturating_sub(begin) + lead.chars().count();
    let marks = at.width.min(room.saturating_sub(indent).max(1));
    let underline = console.paint(tone, &mark.to_string().repeat(marks));
    vec![
        format!(
            "  {gutter}  {}",
            console.paint(Tone::Faint, &format!("{}:{}:{}", at.file, at.line, at.column))
        ),
        format!("  {} {lead}{shown}", console.paint(Tone::Faint, &format!("{number} |"))),
        format!("  {} {}{underline}", console.paint(Tone::Faint, &format!("{gutter} |")), " ".repeat(indent)),
    ]
}

/// A label and text wrapped beside it.
pub(crate) fn labelled(label: &str, text: &str, width: usize) -> Vec<String> {
    let room = width.saturating_sub(8).max(30);
    let mut lines: Vec<String> = vec![];
    let mut line = String::new();
    for word in text.split(' ') {
        if !line.is_empty() && line.chars().count() + 1 + word.chars().count() > room {
            lines.push(std::mem::take(&mut line));
        }
        if !line.is_empty() {
            line.push(' ');
        }
        line.push_str(word);
    }
    lines.push(line);
    let head = |at: usize| if at == 0 { label } else { "" };
    lines.into_iter().enumerate().map(|(at, line)| format!("  {:<5} {line}", head(at))).collect()
}

/// What each line will carry: one line a device and interval, then the line's round and load.
pub(crate) fn polls(checked: &Checked) -> Vec<String> {
    let plan = &checked.plan;
    let mut lines = vec![];
    for (at, port) in checked.project.ports.iter().enumerate() {
        let here: Vec<_> = plan
            .transfers
            .iter()
            .filter(|t| plan.station(t.from).is_some_and(|station| station.port == at))
            .collect();
        if here.is_empty() {
            continue;
        }
        let round = show_micros(plan.cycles.get(at).copied().unwrap_or(0));
        lines.push(format!(
            "{}: {} requests, one cycle takes {round}, load {:.0} %",
            port.name.value,
            here.len(),
            plan.load(at) * 100.0
        ));
        for transfer in here {
            let (Some(device), Some(extent)) = (plan.station(transfer.from), transfer.first()) else {
                continue;
            };
            let place = device.show_wide(extent.space, extent.first, 1, None);
            lines.push(format!(
                "  {place} x{} every {}, {}",
                transfer.grains(),
                show_micros(transfer.cadence.interval()),
                show_micros(transfer.takes)
            ));
        }
    }
    lines
}

#[derive(Serialize)]
struct JsonFinding<'a> {
    code: &'a str,
    severity: Severity,
    title: &'a str,
    at: woodrush_core::Position<'a>,
    what: &'a str,
    why: &'a str,
    fix: &'a str,
    notes: Vec<JsonNote<'a>>,
    /// How many places have it in common.
    count: usize,
}

#[derive(Serialize)]
struct JsonNote<'a> {
    at: woodrush_core::Position<'a>,
    what: &'a str,
}

/// Findings as JSON, format 1.
pub(crate) fn json(checked: &Checked) -> serde_json::Value {
    let sources = &checked.project.sources;
    let findings: Vec<JsonFinding<'_>> = checked
        .findings
        .iter()
        .map(|finding| JsonFinding {
            code: finding.rule.code,
            severity: finding.severity,
            title: finding.rule.title,
            at: sources.position(finding.span),
            what: &finding.what,
            why: finding.why,
            fix: &finding.fix,
            notes: finding
                .notes
                .iter()
                .map(|(span, what)| JsonNote { at: sources.position(*span), what })
                .collect(),
            count: finding.count,
        })
        .collect();
    serde_json::json!({ "format": 1, "good": !checked.has_errors(), "findings": findings })
}

/// Findings as a table.
pub(crate) fn table(checked: &Checked) -> Table {
    let sources = &checked.project.sources;
    let row = |finding: &Finding| {
        let at = sources.position(finding.span);
        let place = [at.file.to_string(), at.line.to_string(), at.column.to_string()];
        let mut row = vec![finding.rule.code.to_string(), finding.severity.word().to_string()];
        row.extend(place);
        row.extend([finding.what.clone(), finding.why.to_string(), finding.fix.clone()]);
        row
    };
    let head = vec!["code", "severity", "file", "line", "column", "what", "why", "fix"];
    Table { head, rows: checked.findings.iter().map(row).collect(), whole: &[] }
}
