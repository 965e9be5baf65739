//! A paragraph on every check, code of a refusal, type, order, key and term.

mod codes;
mod forms;
mod terms;

pub use crate::term::Term;

use crate::finding::RULES;
use crate::project::all_keys;
use crate::protocol::{DIALECTS, Dialect};
use std::borrow::Cow;
use std::collections::BTreeSet;

/// A paragraph that answers a question.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Paragraph {
    /// What is explained, as it is usually written.
    pub name: String,
    /// What kind of thing it is.
    pub kind: Cow<'static, str>,
    /// What there is to know.
    pub text: String,
}

impl Paragraph {
    fn new(name: impl Into<String>, kind: impl Into<Cow<'static, str>>, text: impl Into<String>) -> Self {
        Self { name: name.into(), kind: kind.into(), text: text.into() }
    }

    fn of(term: &Term) -> Self {
        Self::new(term.names.first().copied().unwrap_or_default(), term.kind, term.text)
    }
}

/// Everything that goes by such a name, the likeliest meaning first; nothing where nothing does.
#[must_use]
pub fn explain(asked: &str) -> Vec<Paragraph> {
    let word = normal(asked);
    let mut found: Vec<Paragraph> = vec![];
    found.extend(RULES.iter().filter(|rule| rule.code.eq_ignore_ascii_case(&word)).map(codes::check));
    found.extend(codes::refusals(&word));
    found.extend(forms::forms(asked.trim()));
    found.extend(
        all_terms()
            .filter(|term| term.names.iter().any(|name| name.eq_ignore_ascii_case(&word)))
            .map(Paragraph::of),
    );
    found.extend(codes::last_error(&word));
    found.extend(key(&word));
    found
}

/// The name that was most likely meant.
#[must_use]
pub fn likely(asked: &str) -> Option<String> {
    let word = normal(asked);
    let known: Vec<String> = subjects().into_iter().flat_map(|(_, names)| names).collect();
    let lower: Vec<String> = known.iter().map(|name| normal(name)).collect();
    let others = all_terms().flat_map(|term| term.names.iter().map(|name| normal(name)));
    let all: Vec<String> = lower.into_iter().chain(others).collect();
    crate::nearest::nearest(&word, all.iter().map(String::as_str)).map(str::to_string)
}

/// What can be explained, by kind.
#[must_use]
pub fn subjects() -> Vec<(&'static str, Vec<String>)> {
    let mut found: Vec<(&'static str, Vec<String>)> =
        vec![("check", RULES.iter().map(|rule| rule.code.to_string()).collect())];
    found.push(("exception or status", codes::known().collect()));
    found.push(("type", forms::types().map(|ty| ty.to_string()).collect()));
    found.push(("order", forms::orders().map(str::to_string).collect()));
    for term in all_terms() {
        let name = term.names.first().copied().unwrap_or_default().to_string();
        match found.iter_mut().find(|(kind, _)| *kind == term.kind) {
            Some((_, names)) => names.push(name),
            None => found.push((term.kind, vec![name])),
        }
    }
    let keys: BTreeSet<&str> = all_keys().map(|key| key.name).filter(|name| *name != "*").collect();
    found.push(("key of the project file", keys.into_iter().map(str::to_string).collect()));
    found
}

/// One dialect of each family: what they tell is the same for all of it.
fn families() -> impl Iterator<Item = &'static dyn Dialect> {
    let first = |at: usize, dialect: &&dyn Dialect| {
        DIALECTS.iter().take(at).all(|other| other.family() != dialect.family())
    };
    DIALECTS
        .iter()
        .copied()
        .enumerate()
        .filter(move |(at, dialect)| first(*at, dialect))
        .map(|(_, dialect)| dialect)
}

fn all_terms() -> impl Iterator<Item = &'static Term> {
    terms::TERMS
        .iter()
        .chain(families().flat_map(|dialect| dialect.terms().iter().chain(dialect.notation().terms())))
}

/// A question as names are kept: small letters, single spaces, numbers of codes in decimal.
fn normal(asked: &str) -> String {
    let lower = asked.trim().trim_end_matches(['.', '?', ':']).to_lowercase();
    lower.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// Keys of the files by that name: one paragraph for all tables that have it.
fn key(word: &str) -> Option<Paragraph> {
    let own = all_keys().filter(|key| key.name == word);
    let theirs = families().flat_map(|dialect| dialect.keys()).filter(|key| key.name == word);
    let lines: Vec<String> =
        own.chain(theirs).map(|key| format!("[{}] {}: {}", key.table, key.name, key.doc)).collect();
    (!lines.is_empty()).then(|| Paragraph::new(word, "key of the project file", lines.join(". ") + "."))
}

#[cfg(test)]
mod tests;
