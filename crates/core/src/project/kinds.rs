//! Values that are of their key's kind, and what is said of others.

use super::asked::list_or;
use super::reader::Reader;
use super::scalars::duration;
use crate::finding::Finding;
use crate::protocol::{Key, KeyKind};
use toml::Spanned as TomlSpanned;
use toml::de::DeValue;

/// Finds control characters in a text: they would reach terminals, pages and other programs. A note may have lines.
fn check_letters(r: &mut Reader<'_>, key: &Key, value: &TomlSpanned<DeValue<'_>>) {
    match value.get_ref() {
        // Nearly all of them, many bytes at once; letters beyond ASCII are looked at one by one.
        DeValue::String(text)
            if text.bytes().fold(true, |plain, byte| plain & matches!(byte, b' '..=b'~')) => {}
        DeValue::String(text) => {
            let wrong =
                |letter: &char| letter.is_control() && !(key.name == "note" && matches!(letter, '\n' | '\t'));
            if let Some(letter) = text.chars().find(wrong) {
                let span = r.span(value.span());
                let what = format!("`{}` holds the control character U+{:04X}", key.name, u32::from(letter));
                r.find(Finding::new("F03", span, what).fix("write the text without it"));
            }
        }
        DeValue::Array(list) => list.iter().for_each(|value| check_letters(r, key, value)),
        _ => {}
    }
}

/// Finds a value that is not of its key's kind.
pub(super) fn check_kind(r: &mut Reader<'_>, key: &Key, value: &TomlSpanned<DeValue<'_>>) {
    if !r.is_printed {
        check_letters(r, key, value);
    }
    let found = value.get_ref();
    let wanted = match key.kind {
        KeyKind::Own(_) => return,
        KeyKind::Row(_) if found.is_table() => return,
        KeyKind::Row(_) => "a table such as { assembly = 100, bytes = 32 }".to_string(),
        KeyKind::Rows(_) => {
            let tables = found
                .as_array()
                .is_some_and(|list| !list.is_empty() && list.iter().all(|own| own.get_ref().is_table()));
            if tables {
                return;
            }
            "a list of tables such as [{ slot = 1, in = 8 }]".to_string()
        }
        KeyKind::Text if found.is_str() => return,
        KeyKind::Text => "a text in quotes".to_string(),
        KeyKind::Switch if found.is_bool() => return,
        KeyKind::Switch => "true or false".to_string(),
        KeyKind::Duration if found.as_str().and_then(duration).is_some() => return,
        KeyKind::Duration => "a duration in quotes such as \"500ms\", \"1s\" or \"5m\"".to_string(),
        KeyKind::DurationOr(word)
            if found.as_str().is_some_and(|text| text == word || duration(text).is_some()) =>
        {
            return;
        }
        KeyKind::DurationOr(word) => {
            format!("a duration in quotes such as \"500ms\", \"1s\" or \"5m\", or \"{word}\"")
        }
        KeyKind::Whole(low, high) if whole_number(found).is_some_and(|n| (low..=high).contains(&n)) => return,
        KeyKind::Whole(low, i64::MAX) => format!("a whole number from {low} on"),
        KeyKind::Whole(low, high) => format!("a whole number of {low} to {high}"),
        KeyKind::Station { high, any } => {
            let number = whole_number(found).is_some_and(|n| (0..=high).contains(&n));
            if number || any && found.as_str() == Some("any") {
                return;
            }
            format!("a whole number of 0 to {high}{}", if any { ", or \"any\"" } else { "" })
        }
        KeyKind::Choice(words) => {
            if found.as_str().is_some_and(|text| words.contains(&text)) {
                return;
            }
            let words: Vec<String> = words.iter().map(ToString::to_string).collect();
            list_or(&words)
        }
        KeyKind::Texts => {
            let texts = found.as_array().is_some_and(|list| list.iter().all(|v| v.get_ref().is_str()));
            if texts {
                return;
            }
            "a list of texts such as [\"a\", \"b\"]".to_string()
        }
    };
    let span = r.span(value.span());
    let shown = r.text.get(value.span()).unwrap_or_default().lines().next().unwrap_or_default();
    let station = matches!(key.kind, KeyKind::Station { .. }) && whole_number(found).is_some();
    let code = if station { "M25" } else { "F03" };
    r.find(
        Finding::new(code, span, format!("`{}` cannot be {shown}", key.name)).fix(format!("write {wanted}")),
    );
}

pub(super) fn whole_number(value: &DeValue<'_>) -> Option<i64> {
    let integer = value.as_integer()?;
    i64::from_str_radix(&integer.as_str().replace('_', ""), integer.radix()).ok()
}

pub(super) fn float(value: &DeValue<'_>) -> Option<f64> {
    match value.as_float() {
        Some(number) => number.as_str().replace('_', "").parse().ok(),
        None => whole_number(value).map(|number| number as f64),
    }
}
