//! Checks, and the numbers by which devices refuse.

use super::{Paragraph, families};
use crate::finding::Rule;
use crate::protocol::Dialect;

fn sentence(text: &str) -> String {
    let mut letters = text.chars();
    letters
        .next()
        .map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect::<String>() + ".")
}

pub(super) fn check(rule: &Rule) -> Paragraph {
    let text = format!(
        "{} Why it hurts: {}. What to do: {}. {}",
        sentence(rule.title),
        rule.why,
        rule.fix,
        match rule.told_by {
            "check" => "`woodrush check` reports it with the line of the file.".to_string(),
            other => format!("`woodrush {other}` reports it; the files cannot show it."),
        }
    );
    Paragraph::new(rule.code, format!("{}, {}", rule.told_by, rule.severity.word()), text)
}

fn refusal(dialect: &dyn Dialect, code: u32) -> Paragraph {
    let own = dialect.refusals();
    let (words, cause) = (own.words)(code);
    let more = (own.more)(code).map(|more| format!(" {more}")).unwrap_or_default();
    let text = format!("{} {}{more}", sentence(words), sentence(cause));
    Paragraph::new((own.shown)(code), format!("refusal, {}", dialect.family()), text)
}

/// Refusals that are written so.
pub(super) fn refusals(word: &str) -> Vec<Paragraph> {
    families().filter_map(|dialect| Some(refusal(dialect, dialect.refusals().code(word)?))).collect()
}

/// How the refusals that are explained are written.
pub(super) fn known() -> impl Iterator<Item = String> {
    families().flat_map(|dialect| {
        let own = dialect.refusals();
        own.codes.iter().map(|code| {
            let text = (own.shown)(*code);
            text.split(" (").next().unwrap_or_default().to_string()
        })
    })
}

/// A number as `health.last-error` shows it.
pub(super) fn last_error(word: &str) -> Option<Paragraph> {
    if matches!(word, "last-error" | "health.last-error") {
        let theirs = families().map(|dialect| dialect.refusals()).filter(|own| !own.codes.is_empty());
        let theirs = theirs.map(|own| format!("from {} on the {}", own.health.from, own.name));
        let text = format!(
            "What went wrong last, as a cell: 0 good; 256 no answer; 257 damaged; 258 another unit, function or length; 259 not connected; 260 the value does not fit; {}. `woodrush explain \"last-error 258\"` explains a number.",
            theirs.collect::<Vec<_>>().join("; ")
        );
        return Some(Paragraph::new("last-error", "word of this tool", text));
    }
    let number: u32 = word.strip_prefix("last-error ")?.trim_start_matches('=').trim().parse().ok()?;
    let own = match number {
        0 => "Good: nothing has failed.",
        256 => "No answer: the request went out, and nothing came back within the timeout.",
        257 => "Damaged: bytes came back and made no frame, or their check sum was wrong.",
        258 => "Mismatch: a sound answer came, of another unit, function or length than was asked.",
        259 => "Not connected: the line or the connection is not open.",
        260 => "Does not fit: the value does not fit the form at the other end.",
        _ => {
            let own = |dialect| Some(refusal(dialect, (dialect.refusals().health.code)(number)?));
            let of = families().find_map(own)?;
            return Some(Paragraph::new(
                format!("last-error {number}"),
                of.kind,
                format!("{}: {}", of.name, of.text),
            ));
        }
    };
    Some(Paragraph::new(format!("last-error {number}"), "health.last-error", own))
}
