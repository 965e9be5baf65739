//! Bytes that are not understood here: they pass between two forwarding ports and nothing else.

use super::{
    Address, AddressContext, AddressFault, Dialect, Framing, LastErrors, Notation, Refusals, Setup,
    ShownAddress, Space, Stations, Transport,
};
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
    health: LastErrors { from: 0, shown: |code| code, code: |_| None },
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

    fn notation(&self) -> &dyn Notation {
        self
    }

    fn stations(&self) -> &dyn Stations {
        self
    }

    fn framing(&self) -> &dyn Framing {
        self
    }

    fn refusals(&self) -> &'static Refusals {
        &REFUSALS
    }

    fn runs_on(&self, transport: Transport) -> Result<(), &'static str> {
        if transport.is_cyclic() {
            return Err("datagrams are not passed on: write `listen`, `connect`, `serial` or `pty`");
        }
        Ok(())
    }
}

impl Notation for Raw {
    fn parse(&self, text: &str, _context: &AddressContext<'_>) -> Result<Address, AddressFault> {
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
}

impl Stations for Raw {
    fn station_key(&self, _transport: Transport) -> Option<(&'static str, Range<u32>)> {
        Some(("unit", 0..256))
    }
}

impl Framing for Raw {}
