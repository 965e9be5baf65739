//! What is looked at where nothing is known of a station.

use super::Setup;
use serde::{Deserialize, Serialize};

/// How stations are looked for, and what they are asked.
pub trait Search {
    /// Where a station without a description is looked at, to find what it has.
    fn territories(&self) -> &'static [Territory] {
        &[]
    }
    /// Requests that ask a station what it is: the code, and the whole request.
    fn identity(&self) -> &'static [(u8, &'static [u8])] {
        &[]
    }
    /// What the answer to one of them says, as people read it.
    fn identity_shown(&self, _code: u8, _answer: &[u8]) -> Option<String> {
        None
    }
    /// The request for the names that a station has, or for those that follow on an answer; `None` where it has no names,
    /// or that answer has the last of them.
    fn names_request(&self, _after: Option<&[u8]>) -> Option<Vec<u8>> {
        None
    }
    /// The names in an answer to it.
    fn names(&self, _answer: &[u8]) -> Vec<FoundName> {
        vec![]
    }
    /// Keys by which a station that is not there costs no more than one timeout.
    fn in_a_hurry(&self, _setup: &mut Setup, _timeout: u64) {}
}

/// A name that a station has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FoundName {
    /// As the station writes it.
    pub name: String,
    /// As the protocol's standard calls it; what is no type of its own is told in words.
    pub type_name: String,
    /// Elements of each dimension; 0 where only the station knows. None where it is no array.
    pub dimensions: Vec<u32>,
}

/// A table to look at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Territory {
    /// Its first address, as it is written.
    pub begins: &'static str,
    /// Offsets at which people begin tables, ascending.
    pub anchors: &'static [u32],
}
