//! Tag paths as they are written in a controller: parts with dots between, indices, a bit, a program's scope.

use crate::protocol::AddressFault;
use std::ops::Range;

/// The most characters of one part of a path.
pub const PART_MAX: usize = 40;
/// The most parts of a path, and the most indices of one part.
const PARTS_MAX: usize = 16;
const INDICES_MAX: usize = 3;
/// What stands before the name of a program whose tag is meant.
const PROGRAM: &str = "program:";

/// A path, read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TagPath {
    /// The path without its last index, as it was written; where it had one, its brackets are there.
    pub shown: String,
    /// The last index of the last part; 0 where there is none.
    pub first: u32,
    /// Whether the last part has an index.
    pub is_indexed: bool,
    /// A bit of the integer there.
    pub bit: Option<u8>,
}

fn fault<T>(at: Range<usize>, what: impl Into<String>, likely: Vec<String>) -> Result<T, AddressFault> {
    Err(AddressFault { code: "F10", at, what: what.into(), likely })
}

/// Reads a path.
///
/// # Errors
/// Which part no controller can have.
pub(super) fn parse(text: &str) -> Result<TagPath, AddressFault> {
    let mut shown = String::with_capacity(text.len());
    let mut at = 0;
    let mut path = TagPath { shown: String::new(), first: 0, is_indexed: false, bit: None };
    if text.is_empty() {
        return fault(0..0, "the name of a tag is missing", vec![]);
    }
    let pieces: Vec<&str> = text.split('.').collect();
    if pieces.len() > PARTS_MAX {
        return fault(0..text.len(), format!("a path has at most {PARTS_MAX} parts"), vec![]);
    }
    for (number, piece) in pieces.iter().enumerate() {
        let here = at..at + piece.len();
        at += piece.len() + 1;
        let is_last = number + 1 == pieces.len();
        if is_last && number > 0 && !piece.is_empty() && piece.bytes().all(|byte| byte.is_ascii_digit()) {
            let Some(bit) = piece.parse().ok().filter(|bit| *bit < 64) else {
                return fault(here, format!("an integer has bits 0 to 63, and this is `{piece}`"), vec![]);
            };
            path.bit = Some(bit);
            continue;
        }
        let scope =
            number == 0 && piece.get(..PROGRAM.len()).is_some_and(|head| head.eq_ignore_ascii_case(PROGRAM));
        let name_from = if scope { PROGRAM.len() } else { 0 };
        let (head, indices) = match piece.split_once('[') {
            Some((head, rest)) => (head, Some(rest)),
            None => (*piece, None),
        };
        let name = head.get(name_from..).unwrap_or_default();
        name_fault(name, here.start + name_from)?;
        if scope && (is_last || indices.is_some()) {
            return fault(here, "a program is not a tag: add a dot and one of its tags", vec![]);
        }
        if number > 0 {
            shown.push('.');
        }
        shown.push_str(head);
        (path.first, path.is_indexed) = (0, indices.is_some());
        let Some(indices) = indices else { continue };
        let begin = here.start + head.len() + 1;
        let Some(inner) = indices.strip_suffix(']') else {
            return fault(begin - 1..here.end, "the bracket of the index is not closed", vec![]);
        };
        let numbers = indices_of(inner, begin)?;
        let (last, before) = numbers.split_last().map_or((0, &[][..]), |(last, before)| (*last, before));
        shown.push('[');
        before.iter().for_each(|index| shown.push_str(&format!("{index},")));
        if !is_last && !ends_in_a_bit(&pieces, number) {
            shown.push_str(&last.to_string());
        }
        path.first = last;
        shown.push(']');
    }
    path.shown = shown;
    Ok(path)
}

/// Whether only a bit follows behind a part.
fn ends_in_a_bit(pieces: &[&str], number: usize) -> bool {
    let next = pieces.get(number + 1);
    number + 2 == pieces.len()
        && next.is_some_and(|piece| !piece.is_empty() && piece.bytes().all(|byte| byte.is_ascii_digit()))
}

/// Why a controller can have nothing of that name.
fn name_fault(name: &str, begin: usize) -> Result<(), AddressFault> {
    let here = begin..begin + name.len();
    let is_letter = |letter: char| letter.is_ascii_alphanumeric() || letter == '_';
    if name.is_empty() {
        return fault(here, "a part of the path has no name", vec![]);
    }
    if name.len() > PART_MAX {
        let what = format!("`{name}` has {} characters, and a name has at most {PART_MAX}", name.len());
        return fault(here, what, vec![]);
    }
    if let Some((at, wrong)) = name.char_indices().find(|(_, letter)| !is_letter(*letter)) {
        let place = begin + at..begin + at + wrong.len_utf8();
        let what = format!("`{wrong}` cannot be in a tag's name: use letters, digits and `_`");
        return fault(place, what, vec![]);
    }
    if name.starts_with(|letter: char| letter.is_ascii_digit()) {
        return fault(here, format!("`{name}` begins with a digit, and a tag's name cannot"), vec![]);
    }
    Ok(())
}

fn indices_of(inner: &str, begin: usize) -> Result<Vec<u32>, AddressFault> {
    let mut at = begin;
    let mut numbers = vec![];
    for text in inner.split(',') {
        let here = at..at + text.len();
        at += text.len() + 1;
        let trimmed = text.trim();
        let number = Some(trimmed).filter(|text| text.bytes().all(|byte| byte.is_ascii_digit()));
        match number.and_then(|text| text.parse().ok()).filter(|index| *index < INDEX_MAX) {
            Some(number) => numbers.push(number),
            None => {
                return fault(
                    here,
                    format!("`{trimmed}` is not a valid index (0 to {})", INDEX_MAX - 1),
                    vec![],
                );
            }
        }
    }
    if numbers.len() > INDICES_MAX {
        return fault(begin..at - 1, format!("an array has at most {INDICES_MAX} dimensions"), vec![]);
    }
    Ok(numbers)
}

/// One past the greatest index that is taken: far more than a controller holds, and low enough to count on from.
const INDEX_MAX: u32 = 1 << 26;

impl TagPath {
    /// The path for comparing: without regard to case.
    #[must_use]
    pub fn key(&self) -> String {
        self.shown.strip_suffix("[]").unwrap_or(&self.shown).to_ascii_lowercase()
    }
}

/// A path with its last index, out of what [`TagPath::shown`] says.
#[must_use]
pub(super) fn show(shown: &str, first: u32) -> String {
    match shown.strip_suffix(']') {
        Some(head) => format!("{head}{first}]"),
        None if first == 0 => shown.to_string(),
        None => format!("{shown}[{first}]"),
    }
}

/// The path once its last part has another name; `None` where that is too long for one more character.
pub(super) fn renamed(path: &TagPath) -> Option<TagPath> {
    let (head, indices) = match path.shown.rfind('[') {
        Some(at) if path.is_indexed => path.shown.split_at(at),
        _ => (path.shown.as_str(), ""),
    };
    parse(&show(&format!("{head}X{indices}"), path.first)).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_read_as_controllers_write_them() {
        let read = |text: &str| {
            let path = parse(text).unwrap_or_else(|fault| panic!("{text}: {}", fault.what));
            (path.shown.clone(), path.key(), path.first, path.bit)
        };
        let told = |shown: &str, key: &str, first, bit| (shown.to_string(), key.to_string(), first, bit);
        assert_eq!(read("Tank.Level"), told("Tank.Level", "tank.level", 0, None));
        assert_eq!(read("Hall.Temps[4]"), told("Hall.Temps[]", "hall.temps", 4, None));
        assert_eq!(read("Hall.Temps[0]"), told("Hall.Temps[]", "hall.temps", 0, None));
        assert_eq!(read("Grid[2,3,4]"), told("Grid[2,3,]", "grid[2,3,]", 4, None));
        assert_eq!(
            read("Line[2].Motor.Amps[300]"),
            told("Line[2].Motor.Amps[]", "line[2].motor.amps", 300, None)
        );
        assert_eq!(read("Program:Feed.Oxygen"), told("Program:Feed.Oxygen", "program:feed.oxygen", 0, None));
        assert_eq!(read("Flags.3"), told("Flags", "flags", 0, Some(3)));
        assert_eq!(read("Flags[7].31"), told("Flags[]", "flags", 7, Some(31)));
        for (shown, first, text) in [
            ("Temps[]", 4, "Temps[4]"),
            ("Temps", 0, "Temps"),
            ("Temps", 2, "Temps[2]"),
            ("G[1,]", 0, "G[1,0]"),
        ] {
            assert_eq!(show(shown, first), text);
        }
    }

    #[test]
    fn what_no_controller_can_have_is_refused_where_it_stands() {
        let told = |text: &str| parse(text).map_err(|fault| (fault.at, fault.what)).unwrap_err();
        let long = "x".repeat(41);
        for (text, at, what) in [
            ("", 0..0, "missing"),
            ("a..b", 2..2, "no name"),
            ("9tank", 0..5, "digit"),
            ("Tank Level", 4..5, "` ` cannot be in a tag"),
            ("Töpf", 1..3, "`ö`"),
            (long.as_str(), 0..41, "41 characters"),
            ("Temps[4", 5..7, "not closed"),
            ("Temps[-1]", 6..8, "`-1`"),
            ("Temps[]", 6..6, "not a valid index"),
            ("G[1,2,3,4]", 2..9, "3 dimensions"),
            ("Flags.64", 6..8, "0 to 63"),
            ("Program:Feed", 0..12, "a program is not a tag"),
            ("Temps[99999999]", 6..14, "not a valid index"),
        ] {
            let (place, said) = told(text);
            assert!(said.contains(what), "{text}: {said}");
            assert_eq!(place, at, "{text}: {said}");
        }
    }
}
