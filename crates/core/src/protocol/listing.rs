//! Lists that makers and programmers write: what a list of declared names says, and how register lists write addresses
//! besides the notations of the project file.

use super::{Declared, DeclaredSpace, Space};
use crate::form::Type;

/// A table that a list names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ListTable {
    /// Its key.
    pub key: &'static str,
    /// What names it is a function that writes.
    pub writes: bool,
}

/// A number behind the name of its table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ListNumber {
    /// The table's key.
    pub table: &'static str,
    /// The number.
    pub number: u32,
    /// From which number it counts, where the notation says so.
    pub from: Option<u32>,
}

/// How a protocol is listed.
pub trait Lists {
    /// What a list of declared names says of a space; `None` where it says nothing.
    fn declared<'d>(&self, _list: &'d Declared, _space: &Space) -> Option<DeclaredSpace<'d>> {
        None
    }
    /// The type that a word of its programmers means.
    fn type_of(&self, _word: &str) -> Option<Type> {
        None
    }
    /// The table that a word or a function code means.
    fn table(&self, _word: &str) -> Option<ListTable> {
        None
    }
    /// The keys of the tables whose addresses lists number.
    fn tables(&self) -> &'static [&'static str] {
        &[]
    }
    /// The key of the table that lists without a word for it are about; `None` where tables are not numbered.
    fn usual(&self) -> Option<&'static str> {
        None
    }
    /// The address of a number in a table, counted from 0 or 1, as project files write it; `None` where it is outside.
    fn numbered(&self, _table: &str, _number: u32, _from: u32) -> Option<String> {
        None
    }
    /// An address with its table before the number: `%MW100`, `HR16`, `4x0120`.
    fn prefixed(&self, _text: &str) -> Option<ListNumber> {
        None
    }
}

/// Addresses as the project file writes them, and no list of names.
pub(super) struct PlainLists;

impl Lists for PlainLists {}
