//! The cell of a list that says where a value is: an address, a range, some bits, and words behind them.

use std::ops::RangeInclusive;

/// What such a cell says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct ListedPlace {
    /// The first address, as it is written.
    pub(super) first: String,
    /// How many addresses the range takes, where one is written.
    pub(super) count: Option<u32>,
    /// Bits of the one address.
    pub(super) bits: Option<RangeInclusive<u8>>,
    /// What stands behind: a type, an order.
    pub(super) words: String,
}

/// What stands between the ends of a range.
const MARKS: [&str; 7] = ["..", "\u{2026}", "\u{2013}", "-", ":to:", "~", "/"];

fn ends_in_digit(text: &str) -> bool {
    text.ends_with(|letter: char| letter.is_ascii_hexdigit())
}

/// The two ends of a range in one word; `None` where it is none.
fn ends(word: &str) -> Option<(&str, &str)> {
    for mark in MARKS {
        let Some((first, last)) = word.split_once(mark) else { continue };
        let last = last.trim_start_matches('.');
        let is_number = |text: &str| {
            let digits = text.trim_start_matches("0x").trim_start_matches("0X");
            !digits.is_empty() && digits.chars().all(|letter| letter.is_ascii_hexdigit())
        };
        // `4-00120` is one address with its table before a dash.
        let is_table = matches!(mark, "-" | "/") && first.len() == 1;
        // Behind a slash stands a bit where an element has a name before its number.
        let is_bit = mark == "/" && !is_number(first);
        // `40001-40008`, `N7:0-5`, `400110.0..15`.
        if !is_table && !is_bit && ends_in_digit(first) && is_number(last) {
            return Some((first, last));
        }
    }
    None
}

/// A whole number at the end of a text.
fn tail_number(text: &str) -> Option<u32> {
    let digits = text.len() - text.trim_end_matches(|letter: char| letter.is_ascii_digit()).len();
    text.get(text.len() - digits..)?.parse().ok()
}

/// How many addresses there are from one to another: the second may be written short, `400105-06`.
fn count(first: &str, last: &str) -> Option<u32> {
    let hex = |text: &str| u32::from_str_radix(text.strip_prefix("0x").or(text.strip_prefix("0X"))?, 16).ok();
    let (low, high) = match (hex(first), hex(last)) {
        (Some(low), Some(high)) => (low, high),
        _ => {
            let (low, high) = (tail_number(first)?, tail_number(last)?);
            let shown = low.to_string();
            match shown.get(..shown.len().saturating_sub(last.len())) {
                // The digits that are left out are those of the first.
                Some(lead) if high < low && !lead.is_empty() => (low, format!("{lead}{last}").parse().ok()?),
                _ => (low, high),
            }
        }
    };
    high.checked_sub(low)?.checked_add(1)
}

impl ListedPlace {
    /// Reads a cell.
    ///
    /// # Errors
    /// A range that does not ascend, or bits that a register does not have, in words.
    pub(super) fn read(text: &str) -> Result<Self, String> {
        let mut text = text.trim().replace(" to ", ":to:");
        for mark in ["..", "\u{2026}", "\u{2013}", "-"] {
            text = text.replace(&format!(" {mark} "), mark);
        }
        let (mut word, mut words) = text.split_once(char::is_whitespace).unwrap_or((&text, ""));
        // `HR 16`: the number is behind the word for its table.
        let joined = words.split_whitespace().next().map(|number| format!("{word} {number}"));
        let is_table = |word: &str| word.chars().all(char::is_alphabetic);
        if let Some(joined) =
            joined.as_deref().filter(|joined| is_table(word) && tail_number(joined).is_some())
        {
            words = words.split_once(char::is_whitespace).map_or("", |(_, rest)| rest);
            word = joined;
        }
        let words = words.trim().to_string();
        let Some((first, last)) = ends(word) else {
            return Ok(Self { first: word.to_string(), count: None, bits: None, words });
        };
        let wrong = || format!("`{word}` is not a range that ascends");
        // Bits of one address stand behind its point.
        if let Some((base, low)) = first.rsplit_once('.') {
            let (low, high) = low.parse::<u8>().ok().zip(last.parse::<u8>().ok()).ok_or_else(wrong)?;
            if low > high || high > 31 {
                return Err(wrong());
            }
            return Ok(Self { first: base.to_string(), count: None, bits: Some(low..=high), words });
        }
        let count = count(first, last).ok_or_else(wrong)?;
        Ok(Self { first: first.to_string(), count: Some(count), bits: None, words })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_bits_and_words_behind_are_told_apart() {
        for (text, first, count, words) in [
            ("400001", "400001", None, ""),
            ("400105-400106 float swapped", "400105", Some(2), "float swapped"),
            ("40001 - 40008", "40001", Some(8), ""),
            ("40001 to 40008", "40001", Some(8), ""),
            ("40001..40008", "40001", Some(8), ""),
            ("40009/40010", "40009", Some(2), ""),
            ("B3:1/5", "B3:1/5", None, ""),
            ("40001\u{2013}40002", "40001", Some(2), ""),
            ("400105-06", "400105", Some(2), ""),
            ("0x0207-0x0208", "0x0207", Some(2), ""),
            ("519-520", "519", Some(2), ""),
            ("N7:0-5", "N7:0", Some(6), ""),
            ("4-00120", "4-00120", None, ""),
            ("HR 16", "HR 16", None, ""),
            ("HR 16 u16", "HR 16", None, "u16"),
            ("Line.Counts", "Line.Counts", None, ""),
            ("DB10.DBD4", "DB10.DBD4", None, ""),
            ("400010.3", "400010.3", None, ""),
            ("", "", None, ""),
        ] {
            let place = ListedPlace::read(text).unwrap_or_else(|why| panic!("{text}: {why}"));
            assert_eq!(
                (place.first.as_str(), place.count, place.words.as_str()),
                (first, count, words),
                "{text}"
            );
            assert_eq!(place.bits, None, "{text}");
        }
        let bits = ListedPlace::read("400110.0..15").unwrap();
        assert_eq!((bits.first.as_str(), bits.bits), ("400110", Some(0..=15)));
        for text in ["40008-40001", "400110.7..3", "400110.0..40"] {
            assert!(ListedPlace::read(text).unwrap_err().contains("ascends"), "{text}");
        }
    }
}
