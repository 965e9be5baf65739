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
    let (words, cause) = dialect.refusal_words(code);
    let more = dialect.refusal_more(code).map(|more| format!(" {more}")).unwrap_or_default();
    let text = format!("{} {}{more}", sentence(words), sentence(cause));
    Paragraph::new(dialect.refusal_text(code), format!("refusal, {}", dialect.family()), text)
}

/// Refusals that are written so.
pub(super) fn refusals(word: &str) -> Vec<Paragraph> {
    families().filter_map(|dialect| Some(refusal(dialect, dialect.refusal_code(word)?))).collect()
}

/// How the refusals that are explained are written.
pub(super) fn known() -> impl Iterator<Item = String> {
    families().flat_map(|dialect| {
        dialect.refusal_codes().iter().map(move |code| {
            let text = dialect.refusal_text(*code);
            text.split(" (").next().unwrap_or_default().to_string()
        })
    })
}

/// A number as `health.last-error` shows it.
pub(super) fn last_error(word: &str) -> Option<Paragraph> {
    if matches!(word, "last-error" | "health.last-error") {
        let theirs = families().filter(|dialect| !dialect.refusal_codes().is_empty()).map(|dialect| {
            let codes = dialect.health_codes();
            format!("from {} on the {}", codes.start.max(1), dialect.refusal_name())
        });
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
            let dialect =
                families().find(|dialect| dialect.health_codes().contains(&number) && number > 0)?;
            let of = refusal(dialect, number - dialect.health_codes().start);
            return Some(Paragraph::new(
                format!("last-error {number}"),
                of.kind,
                format!("{}: {}", of.name, of.text),
            ));
        }
    };
    Some(Paragraph::new(format!("last-error {number}"), "health.last-error", own))
}
