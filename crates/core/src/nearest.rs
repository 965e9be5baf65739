//! What a mistyped word most likely meant.

/// Most candidates that are compared: a project with more names than that is not read by eye either, and a file full of
/// mistyped names must not take minutes.
const COMPARED: usize = 1000;
/// Longest word that is compared, in bytes: nobody mistypes a longer one by a letter.
const LONGEST: usize = 64;

/// The candidate that a mistyped word most likely meant.
#[must_use]
pub fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    if word.len() > LONGEST {
        return None;
    }
    let most = 1 + word.chars().count() / 4;
    // A word of another length is at least so far away as the lengths differ.
    let near = candidates.into_iter().take(COMPARED).filter(|own| own.len().abs_diff(word.len()) <= 4 * most);
    let distance = |candidate: &str| strsim::damerau_levenshtein(word, candidate);
    let best = near.map(|candidate| (distance(candidate), candidate)).min()?;
    (best.0 <= most).then_some(best.1)
}
