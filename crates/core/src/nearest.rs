//! What a mistyped word most likely meant.

/// The candidate that a mistyped word most likely meant.
pub(crate) fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let distance = |candidate: &str| strsim::damerau_levenshtein(word, candidate);
    let best = candidates.into_iter().map(|candidate| (distance(candidate), candidate)).min()?;
    (best.0 <= 1 + word.chars().count() / 4).then_some(best.1)
}
