//! What a protocol's requests cost, how long they wait, and how they look.

use super::{Extent, Search, SetUp, Setup, Space};

/// How values are asked for and sent, one request and one answer at a time.
pub trait Requests {
    /// Whether its link acknowledges messages before they are answered.
    fn acknowledges(&self) -> bool {
        false
    }
    /// How long one try of a request to a station that does not answer takes, its bytes not counted, in microseconds, and
    /// the keys of the port that say so; `None` where that is its timeout and a rest of the line.
    fn unanswered(&self, _port: &Setup) -> Option<(u64, &'static str)> {
        None
    }
    /// How long one try of a request waits, in microseconds, where the link acknowledges it first; `None` where that is
    /// the port's timeout.
    fn first_wait(&self, _port: &Setup) -> Option<u64> {
        None
    }
    /// Why a request is never tried again; `None` where it is, as often as the port says.
    fn no_retries(&self) -> Option<&'static str> {
        None
    }
    /// One request over these parts, one after the other, or why it cannot be one. The only place where limits and overheads are known.
    ///
    /// # Errors
    /// The limit and who sets it.
    fn cost(&self, verb: Verb, parts: &[(&Space, Extent)], setup: &Setup) -> Result<Cost, TooMuch>;
    /// How values of a station come by themselves, where they can; `None` where all must be asked for.
    fn publishing(&self, _setup: &Setup) -> Option<Publishing> {
        None
    }
    /// How cells come by themselves, for `trace`: what is said once for it, and what comes then each time.
    fn published_example(&self, _space: &Space, _cells: &[u8], _setup: &Setup) -> Option<Example> {
        None
    }
    /// How long one run takes of what makes a value, in microseconds; `None` where that is not known.
    fn execution(&self, _space: &Space, _setup: &Setup) -> Option<u64> {
        None
    }
    /// Whether one request may ask for several places, as far as its cost lets it.
    fn gathers(&self) -> bool {
        false
    }
    /// What lets one request of such a station carry more, in words; `None` where nothing does.
    fn more_at_once(&self, _setup: &Setup) -> Option<&'static str> {
        None
    }
    /// What a request chooses its command by, out of its bytes; `None` where that is not told.
    fn request_code(&self, _request: &[u8]) -> Option<u8> {
        None
    }
    /// How its devices are set up by their parameters; `None` where they are not.
    fn set_up(&self) -> Option<&dyn SetUp> {
        None
    }
    /// How its stations are looked for; `None` where they are not.
    fn search(&self) -> Option<&dyn Search> {
        None
    }
    /// The request and the answer that carry such an extent, for `trace`: bytes as they go over the wire. `cells` are
    /// the values of the answer or of the write.
    fn example(&self, verb: Verb, space: &Space, first: u32, cells: &[u8], setup: &Setup) -> Example;
    /// The exchange that changes one bit of an element and leaves the others; nothing where the element has no bits that
    /// are changed so.
    fn example_bit(
        &self,
        _space: &Space,
        _first: u32,
        _bit: u8,
        _on: bool,
        _setup: &Setup,
    ) -> Option<Example> {
        None
    }
}

/// The one part of a request that is for one place, and how many grains it has.
///
/// # Errors
/// It is for several.
pub(super) fn one_part<'s>(parts: &[(&'s Space, Extent)]) -> Result<(&'s Space, u32), TooMuch> {
    match parts {
        [(space, extent)] => Ok((space, extent.count)),
        _ => Err(TooMuch { limit: 0, source: "the protocol, which asks for one place at a time" }),
    }
}

/// How values come by themselves.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Publishing {
    /// What its people call one turn, in which each value is published once, such as `macrocycle`.
    pub turn: &'static str,
    /// How often, in microseconds.
    pub every: u64,
    /// So many in a row are missing before the value counts as lost.
    pub missed: u32,
    /// What one takes of the link's time, about, in microseconds.
    pub takes: u64,
    /// What one request beside them takes of the time that they leave, about, in microseconds.
    pub request_takes: u64,
}

impl Publishing {
    /// How old a value may get before it counts as lost, in microseconds: half of an interval is left to the last one that
    /// may be late.
    #[must_use]
    pub const fn max_age(self) -> u64 {
        self.every.saturating_mul(self.missed as u64).saturating_add(self.every / 2)
    }
}

/// What a request does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Verb {
    /// Values come back.
    Read,
    /// Values go out.
    Write,
}

/// Bytes each way and line turn-rounds of one request, framing included; the budget multiplies them out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Cost {
    /// Bytes of the request.
    pub out: u32,
    /// Bytes of the answer.
    pub back: u32,
    /// Silences that must be kept.
    pub turns: u32,
}

/// Why it cannot be one request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TooMuch {
    /// Most grains of one request.
    pub limit: u32,
    /// Who sets that limit.
    pub source: &'static str,
}

/// One exchange as bytes, with the request in words.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Example {
    /// What is asked, in words: `function 3, offset 316, 2 registers`.
    pub words: String,
    /// The request.
    pub request: Vec<u8>,
    /// The answer.
    pub answer: Vec<u8>,
}
