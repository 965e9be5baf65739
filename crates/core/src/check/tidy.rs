//! Findings in the order of the files, each cause once: what many places have in common is one finding with its count.

use crate::finding::Finding;
use std::cmp::Ordering;
use std::collections::HashMap;

/// So many findings of one shape are told as one.
const MANY: usize = 4;
/// Places of them that are shown.
const SHOWN: usize = 3;

/// Puts findings into the order of the files, drops what another fault hides and what was found twice, and tells one
/// cause in many places once.
pub(super) fn tidy(findings: &mut Vec<Finding>) {
    findings.retain(|finding| finding.rule.code != "F00");
    findings.sort_by(|a, b| {
        (a.span, a.rule.code).cmp(&(b.span, b.rule.code)).then_with(|| natural(&a.what, &b.what))
    });
    findings.dedup_by(|a, b| (a.span, a.rule.code, &a.what) == (b.span, b.rule.code, &b.what));
    let mut groups: HashMap<(&str, String), Vec<usize>> = HashMap::new();
    for (at, finding) in findings.iter().enumerate() {
        groups.entry((finding.rule.code, shape(&finding.what))).or_default().push(at);
    }
    let mut gone = vec![false; findings.len()];
    let mut counted: Vec<(usize, usize, Vec<usize>)> = vec![];
    for members in groups.into_values() {
        let Some((first, rest)) = members.split_first() else { continue };
        let count = members.iter().filter_map(|at| findings.get(*at)).map(|finding| finding.count).sum();
        if count < MANY {
            continue;
        }
        rest.iter().for_each(|at| gone.get_mut(*at).into_iter().for_each(|gone| *gone = true));
        counted.push((*first, count, rest.iter().take(SHOWN - 1).copied().collect()));
    }
    for (first, count, others) in counted {
        let notes: Vec<(crate::source::Span, String)> = others
            .iter()
            .filter_map(|at| findings.get(*at))
            .map(|other| (other.span, other.what.clone()))
            .collect();
        let Some(finding) = findings.get_mut(first) else { continue };
        finding.count = count;
        finding.what += &format!(" ({count} times like this)");
        finding.notes.extend(notes);
    }
    let mut at = 0;
    findings.retain(|_| {
        at += 1;
        !gone.get(at - 1).copied().unwrap_or(false)
    });
}

/// A text without what tells one place from another: names in marks, and numbers.
fn shape(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut marked = false;
    for letter in text.chars() {
        match letter {
            '`' => {
                marked = !marked;
                out.push('`');
            }
            _ if marked => {}
            '0'..='9' => {
                if !out.ends_with('#') {
                    out.push('#');
                }
            }
            other => out.push(other),
        }
    }
    out
}

/// Texts in the order in which people count: `probe-2` before `probe-10`.
fn natural(one: &str, other: &str) -> Ordering {
    let (mut left, mut right) = (one.as_bytes(), other.as_bytes());
    loop {
        let digits = |text: &[u8]| text.iter().take_while(|byte| byte.is_ascii_digit()).count();
        let (here, there) = (digits(left), digits(right));
        if here > 0 && there > 0 {
            let number = |text: &[u8], count: usize| {
                let own = text.get(..count).unwrap_or_default();
                let zeros = own.iter().take_while(|byte| **byte == b'0').count();
                own.get(zeros..).unwrap_or_default().to_vec()
            };
            let (a, b) = (number(left, here), number(right, there));
            match a.len().cmp(&b.len()).then_with(|| a.cmp(&b)) {
                Ordering::Equal => {}
                order => return order,
            }
            (left, right) = (left.get(here..).unwrap_or_default(), right.get(there..).unwrap_or_default());
            continue;
        }
        match (left.split_first(), right.split_first()) {
            (None, None) => return Ordering::Equal,
            (None, _) => return Ordering::Less,
            (_, None) => return Ordering::Greater,
            (Some((a, rest)), Some((b, more))) => {
                if a != b {
                    return a.cmp(b);
                }
                (left, right) = (rest, more);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::source::Span;

    #[test]
    fn people_count_two_before_ten() {
        let mut names = ["probe-10", "probe-2", "probe-02", "probe-1 b", "probe-1 a", "probe"];
        names.sort_by(|a, b| natural(a, b));
        assert_eq!(names, ["probe", "probe-1 a", "probe-1 b", "probe-2", "probe-02", "probe-10"]);
    }

    #[test]
    fn one_cause_in_many_places_is_one_finding_with_its_count_and_first_places() {
        let at = |n: u32| Span { file: 0, start: n * 100, end: n * 100 + 5 };
        let found = |n: u32| Finding::new("M19", at(n), format!("`probe-{n}` is set to 9600 8N1"));
        let mut findings: Vec<Finding> = (1..=46).map(found).collect();
        findings.push(Finding::new("M19", at(50), "`probe-9` is something else"));
        tidy(&mut findings);
        assert_eq!(findings.len(), 2);
        assert_eq!((findings[0].count, findings[1].count), (46, 1));
        assert_eq!(findings[0].what, "`probe-1` is set to 9600 8N1 (46 times like this)");
        let notes: Vec<&str> = findings[0].notes.iter().map(|(_, note)| note.as_str()).collect();
        assert_eq!(notes, ["`probe-2` is set to 9600 8N1", "`probe-3` is set to 9600 8N1"]);
        let mut few: Vec<Finding> = (1..=3).map(found).collect();
        tidy(&mut few);
        assert_eq!(few.len(), 3, "a few are told one by one");
    }
}
