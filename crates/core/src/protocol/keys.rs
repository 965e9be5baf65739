//! Keys of the project file that only one protocol understands, and what was written for them.

use super::{Declared, DeviceBlocks};
use std::sync::Arc;

/// What a key of the project file takes; feeds the reader's checks and the texts of its faults.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum KeyKind {
    /// Any text.
    Text,
    /// A whole number of a range.
    Whole(i64, i64),
    /// A duration such as `500ms`.
    Duration,
    /// A duration, or this word.
    DurationOr(&'static str),
    /// `true` or `false`.
    Switch,
    /// One of these words.
    Choice(&'static [&'static str]),
    /// A list of texts.
    Texts,
    /// A station on a line, from 0.
    Station {
        /// The highest station of any line.
        high: i64,
        /// Whether the word `any` stands for all.
        any: bool,
    },
    /// One small table whose keys are those of this table, such as `{ assembly = 100, bytes = 32 }`.
    Row(&'static str),
    /// A list of small tables with these keys, such as `[{ slot = 1, in = 8 }]`.
    Rows(&'static str),
    /// A table or value with a reader of its own, and what that takes.
    Own(Content),
}

/// What a key with a reader of its own takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Content {
    /// One table with these keys.
    Table(&'static str),
    /// Tables with these keys, by names of the user's own.
    Tables(&'static str),
    /// A list of tables with these keys.
    List(&'static str),
    /// Texts by place, in a table by device.
    Signals,
    /// Whole numbers by name.
    Numbers,
    /// A whole number, or an expression of n.
    Expression,
    /// A text, or a list of texts.
    OneOrMore,
    /// A list of whole numbers from 0.
    Wholes,
    /// Two numbers, the lesser first.
    Range,
    /// Units by number: a text, or a list of texts.
    Units,
    /// A text, or texts by number.
    TextOrNames,
    /// Values by the address of what shall have them, in the order of the file.
    Values,
}

impl KeyKind {
    /// Whether it is a whole number.
    #[must_use]
    pub const fn is_number(self) -> bool {
        matches!(self, Self::Whole(..) | Self::Station { .. })
    }
}

/// One key of the project file or a profile.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Key {
    /// Whose key it is: `ports`, `devices`, `images`, …
    pub table: &'static str,
    /// As it is written.
    pub name: &'static str,
    /// What it takes.
    pub kind: KeyKind,
    /// What it means, its unit and its default.
    pub doc: &'static str,
}

/// A row of a table of keys.
pub(crate) const fn key(table: &'static str, name: &'static str, kind: KeyKind, doc: &'static str) -> Key {
    Key { table, name, kind, doc }
}

/// A device's or image's keys as read that only its dialect understands.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash)]
pub struct Setup {
    /// Numbers by key, such as `unit`.
    pub numbers: Vec<(&'static str, u32)>,
    /// Words by key, such as `write-one`.
    pub words: Vec<(&'static str, String)>,
    /// Small tables by key, such as `inputs`; several of one key where that takes a list.
    pub rows: Vec<(&'static str, Self)>,
    /// What the device's programmer has declared, where there is a list.
    pub declared: Option<Arc<Declared>>,
    /// The blocks that it is made of, where its profile has some.
    pub blocks: Option<Arc<DeviceBlocks>>,
}

/// The keys of a port, as its file says them: where a station's own keys are judged, those of its port are not among them.
#[derive(Debug, Clone, Copy)]
pub struct PortKeys<'a>(pub &'a Setup);

impl Setup {
    /// The number of a key, if it was given.
    #[must_use]
    pub fn number(&self, key: &str) -> Option<u32> {
        self.numbers.iter().find(|(name, _)| *name == key).map(|(_, number)| *number)
    }

    /// These keys, and those of another table that are not among them.
    #[must_use]
    pub fn with(&self, other: Option<&Self>) -> Self {
        let mut all = self.clone();
        for (key, number) in other.iter().flat_map(|other| &other.numbers) {
            if all.number(key).is_none() {
                all.numbers.push((key, *number));
            }
        }
        for (key, word) in other.iter().flat_map(|other| &other.words) {
            if all.word(key).is_none() {
                all.words.push((key, word.clone()));
            }
        }
        for (key, row) in other.iter().flat_map(|other| &other.rows) {
            if self.row(key).is_none() {
                all.rows.push((key, row.clone()));
            }
        }
        all
    }

    /// All small tables of a key, in the order of the file.
    pub fn all_rows(&self, key: &str) -> impl Iterator<Item = &Self> {
        self.rows.iter().filter(move |(name, _)| *name == key).map(|(_, row)| row)
    }

    /// The small table of a key, if it was given.
    #[must_use]
    pub fn row(&self, key: &str) -> Option<&Self> {
        self.rows.iter().find(|(name, _)| *name == key).map(|(_, row)| row)
    }

    /// The word of a key, if it was given.
    #[must_use]
    pub fn word(&self, key: &str) -> Option<&str> {
        self.words.iter().find(|(name, _)| *name == key).map(|(_, word)| word.as_str())
    }
}
