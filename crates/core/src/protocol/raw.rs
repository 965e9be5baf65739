//! Bytes that nobody here understands: they pass between two forwarding ports and nothing else.

use super::{
    Address, AddressFault, Cost, Dialect, Example, Key, Refusals, Setup, ShownAddress, Space, TooMuch,
    Transport, Verb,
};
use crate::form::Order;
use crate::line::Line;
use std::ops::Range;

/// Nothing is read, so nothing is refused.
static REFUSALS: Refusals = Refusals {
    name: "refusal",
    shown: |code| format!("refusal {code} (0x{code:02X})"),
    words: |_| ("unknown", "bytes are passed on unread"),
    more: |_| None,
    parse: |_| None,
    codes: &[],
    too_long: &[],
    health: 0..0,
    lost: "nothing",
};

/// `raw`.
#[derive(Debug)]
pub(super) struct Raw;

/// `raw`.
pub(super) static RAW: Raw = Raw;

impl Dialect for Raw {
    fn name(&self) -> &'static str {
        "raw"
    }

    fn family(&self) -> &'static str {
        "raw bytes"
    }

    fn is_opaque(&self) -> bool {
        true
    }

    fn refusals(&self) -> &'static Refusals {
        &REFUSALS
    }

    fn runs_on(&self, _transport: Transport) -> Result<(), &'static str> {
        Ok(())
    }

    fn odd_tcp_port(&self, _port: u16) -> Option<&'static str> {
        None
    }

    fn keys(&self) -> &'static [Key] {
        &[]
    }

    fn parse(&self, text: &str, _setup: &Setup) -> Result<Address, AddressFault> {
        let what = format!("`{text}` cannot be an address here: a port of `raw` bytes has none");
        Err(AddressFault { code: "F10", at: 0..text.len(), what, likely: vec![] })
    }

    fn show(
        &self,
        _space: &Space,
        first: u32,
        _width: u32,
        _bit: Option<u8>,
        _setup: &Setup,
    ) -> ShownAddress {
        ShownAddress {
            canonical: first.to_string(),
            offset: first.to_string(),
            hex: format!("0x{first:04X}"),
        }
    }

    fn notations(
        &self,
        _space: &Space,
        _first: u32,
        _bit: Option<u8>,
        _setup: &Setup,
    ) -> Vec<(&'static str, String)> {
        vec![]
    }

    fn standing(&self) -> &'static [Space] {
        &[]
    }

    fn frame_gap(&self, _line: Line) -> u64 {
        0
    }

    fn no_retries(&self) -> Option<&'static str> {
        Some("bytes are passed on unread")
    }

    fn order(&self) -> Option<Order> {
        None
    }

    fn cost(&self, _verb: Verb, _space: &Space, _count: u32, _setup: &Setup) -> Result<Cost, TooMuch> {
        Err(TooMuch { limit: 0, source: "the port, which carries raw bytes" })
    }

    fn station(&self, _setup: &Setup) -> Option<u32> {
        None
    }

    fn station_key(&self, _transport: Transport) -> Option<(&'static str, Range<u32>)> {
        Some(("unit", 0..256))
    }

    fn request_code(&self, _request: &[u8]) -> Option<u8> {
        None
    }

    fn example(&self, _verb: Verb, _space: &Space, _first: u32, _cells: &[u8], _setup: &Setup) -> Example {
        Example { words: "raw bytes".into(), request: vec![], answer: vec![] }
    }
}
