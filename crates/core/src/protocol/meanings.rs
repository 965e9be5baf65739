//! What cells mean besides being values: wholes with members, cells that judge a value, words for numbers.

use super::{AddressContext, Setup, Space};

/// What a protocol knows of the values that lie in its spaces. What is left out is not so: a value is a number, and
/// sound.
pub trait Meanings {
    /// A whole that an address names, with all that is in it, and that is shown member by member; `None` where it names
    /// one value.
    fn whole(&self, _text: &str, _context: &AddressContext<'_>) -> Option<Space> {
        None
    }
    /// The members of such a whole, each in words.
    fn members(&self, _space: &Space, _cells: &[u8]) -> Vec<ShownMember> {
        vec![]
    }
    /// What the value that begins at `first` says in words; `None` where it is a number and nothing else.
    fn words(&self, _space: &Space, _first: u32, _cells: &[u8]) -> Option<String> {
        None
    }
    /// The cells of a value at `first` that is written in words; `None` where values there have none.
    ///
    /// # Errors
    /// Such words are not known there, and which are.
    fn cells_of_words(&self, _space: &Space, _first: u32, _text: &str) -> Option<Result<Vec<u8>, String>> {
        None
    }
    /// The cell of a space that says whether the value at `first` is one; `None` where nothing there says so.
    fn judge_of(&self, _space: &Space, _first: u32) -> Option<u32> {
        None
    }
    /// What that cell says in a proof, round by round: good, bad and what lies between, with every bit of its reasons, and
    /// good at the end.
    fn judge_patterns(&self) -> &'static [u8] {
        &[]
    }
    /// Whether a value is one by what that cell says.
    fn is_sound(&self, _judge: u8, _setup: &Setup) -> bool {
        true
    }
    /// Whether such cells may be written there; `None` where one device takes them and another does not.
    fn takes(&self, _space: &Space, _first: u32, _cells: &[u8]) -> Option<bool> {
        Some(true)
    }
}

/// One member of a whole.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ShownMember {
    /// Its name.
    pub name: &'static str,
    /// The first of its grains.
    pub first: u32,
    /// How many they are.
    pub count: u32,
    /// What it says.
    pub shown: String,
}

/// Numbers and nothing else.
#[derive(Debug)]
pub(super) struct PlainMeanings;

impl Meanings for PlainMeanings {}
