//! What is looked at where nothing is known of a station.

use super::Setup;

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
    /// Keys by which a station that is not there costs no more than one timeout.
    fn in_a_hurry(&self, _setup: &mut Setup, _timeout: u64) {}
}

/// A table to look at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Territory {
    /// Its first address, as it is written.
    pub begins: &'static str,
    /// Offsets at which people begin tables, ascending.
    pub anchors: &'static [u32],
}
