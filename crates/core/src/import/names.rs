//! Names of points out of the names of a list: legal ones, each once.

use std::collections::HashMap;

/// Most characters of a name that is made: a line of a table for people.
const NAME_MAX: usize = 48;

/// Letters with a mark, and what is written without it.
const FOLDED: [(&str, char); 8] = [
    ("\u{e0}\u{e1}\u{e2}\u{e3}\u{e4}\u{e5}", 'a'),
    ("\u{e7}", 'c'),
    ("\u{e8}\u{e9}\u{ea}\u{eb}", 'e'),
    ("\u{ec}\u{ed}\u{ee}\u{ef}", 'i'),
    ("\u{f1}", 'n'),
    ("\u{f2}\u{f3}\u{f4}\u{f5}\u{f6}\u{f8}", 'o'),
    ("\u{f9}\u{fa}\u{fb}\u{fc}", 'u'),
    ("\u{fd}\u{ff}", 'y'),
];

/// A name of the project file out of a text: `[a-z][a-z0-9-]*`; empty where nothing of it can be kept.
pub(super) fn legal(text: &str) -> String {
    let mut name = String::new();
    for letter in text.chars().flat_map(char::to_lowercase) {
        let letter = FOLDED.iter().find(|(own, _)| own.contains(letter)).map_or(letter, |(_, plain)| *plain);
        match letter {
            'a'..='z' | '0'..='9' => name.push(letter),
            '\u{df}' => name.push_str("ss"),
            _ if name.is_empty() || name.ends_with('-') => {}
            _ => name.push('-'),
        }
    }
    let mut name: String = name.chars().take(NAME_MAX).collect();
    name.truncate(name.trim_end_matches('-').len());
    if name.starts_with(|letter: char| letter.is_ascii_digit()) {
        name.insert_str(0, "p-");
    }
    name
}

/// Names that are given out, with the number that stands behind the next one like it.
#[derive(Default)]
pub(super) struct Given(HashMap<String, u32>);

impl Given {
    /// The name for a text, with a number behind it where it has been given out before; `fallback` where nothing of the
    /// text can be kept.
    pub(super) fn name(&mut self, text: &str, fallback: &str) -> String {
        let own = match legal(text) {
            empty if empty.is_empty() => fallback.to_string(),
            own => own,
        };
        let mut number = self.0.get(&own).copied().unwrap_or(1);
        let mut name = own.clone();
        while self.0.contains_key(&name) {
            number += 1;
            name = format!("{own}-{number}");
        }
        self.0.insert(own, number);
        self.0.entry(name.clone()).or_insert(1);
        name
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_become_legal_and_stay_readable() {
        for (text, name) in [
            ("Speed reference", "speed-reference"),
            ("GATE_3_OPEN", "gate-3-open"),
            ("A1.00", "a1-00"),
            ("3-way valve", "p-3-way-valve"),
            ("Temp\u{e9}rature \u{b0}C", "temperature-c"),
            ("  (reserved)  ", "reserved"),
            ("\u{6e29}\u{5ea6}", ""),
            ("=HYPERLINK(1)", "hyperlink-1"),
        ] {
            assert_eq!(legal(text), name, "{text}");
        }
        assert_eq!(legal(&"longer ".repeat(40)).len(), 48);
    }

    #[test]
    fn a_name_is_given_once() {
        let mut given = Given::default();
        let all = ["Speed", "speed", "Speed-2", "speed", "\u{6e29}"].map(|text| given.name(text, "line-9"));
        assert_eq!(all, ["speed", "speed-2", "speed-2-2", "speed-3", "line-9"]);
    }
}
