//! DF1, the link of controllers with a data table: keys, costs, and how long it waits.

mod requests;
mod terms;

use super::tables::{DEVICE_COMMANDS, DEVICE_NUMBERING, IMAGE_NUMBERING, TERRITORIES, Tables};
use super::{
    Dialect, Framing, Key, KeyKind, Link, Notation, Refusals, Requests, Search, Setup, StationId, Stations,
    Territory, Transport, tables,
};
use crate::term::Term;
use std::ops::Range;
use woodrush_wire::df1::Check;

/// DF1, in full or half duplex.
#[derive(Debug)]
pub(super) struct Df1 {
    half: bool,
}

/// `df1`.
pub(super) static FULL: Df1 = Df1 { half: false };
/// `df1-half`.
pub(super) static HALF: Df1 = Df1 { half: true };

/// How the link is checked.
#[must_use]
pub fn check(setup: &Setup) -> Check {
    if setup.word("check-field") == Some("bcc") { Check::Bcc } else { Check::Crc }
}

static KEYS: [Key; 9] = [
    Key {
        table: "ports",
        name: "check-field",
        kind: KeyKind::Choice(&["crc", "bcc"]),
        doc: "how messages are checked: `crc` (default) or `bcc`, the same at both ends",
    },
    Key { table: "ports", name: "own-node", kind: KeyKind::Whole(0, 254), doc: "our node number; default 0" },
    Key {
        table: "ports",
        name: "ack-timeout",
        kind: KeyKind::Duration,
        doc: "wait for the link's acknowledgement; default 1s",
    },
    Key {
        table: "ports",
        name: "link-retries",
        kind: KeyKind::Whole(0, 100),
        doc: "how often the link retries, after refusals and after missing answers each; default 3",
    },
    Key {
        table: "devices",
        name: "node",
        kind: KeyKind::Station { high: 254, any: false },
        doc: "DF1 node, 0 to 254",
    },
    DEVICE_NUMBERING,
    DEVICE_COMMANDS,
    Key {
        table: "images",
        name: "node",
        kind: KeyKind::Station { high: 254, any: true },
        doc: "the DF1 node that it answers as",
    },
    IMAGE_NUMBERING,
];

impl Dialect for Df1 {
    fn name(&self) -> &'static str {
        if self.half { "df1-half" } else { "df1" }
    }

    fn family(&self) -> &'static str {
        "data tables"
    }

    fn notation(&self) -> &dyn Notation {
        &Tables
    }

    fn stations(&self) -> &dyn Stations {
        self
    }

    fn framing(&self) -> &dyn Framing {
        self
    }

    fn runs_on(&self, transport: Transport) -> Result<(), &'static str> {
        match transport {
            Transport::Serial | Transport::Connect => Ok(()),
            Transport::Listen | Transport::Pty | Transport::Network | Transport::Ethernet => Err(
                "it is spoken on a serial line, or through a serial server that is dialled: write `serial` or `connect`",
            ),
        }
    }

    fn refusals(&self) -> &'static Refusals {
        &tables::REFUSALS
    }

    fn terms(&self) -> &'static [Term] {
        terms::TERMS
    }

    fn keys(&self) -> &'static [Key] {
        &KEYS
    }

    fn requests(&self) -> Option<&dyn Requests> {
        Some(self)
    }
}

impl Stations for Df1 {
    fn shared_keys(&self) -> &'static [&'static str] {
        &["node", "check-field"]
    }

    fn to_set_up(&self, link: &Link<'_>) -> Option<String> {
        let check = match check(link.setup) {
            Check::Crc => "CRC",
            Check::Bcc => "BCC",
        };
        Some(match (self.half, link.image, link.setup.number("node")) {
            (true, false, node) => format!("half-duplex slave, node {}, {check}", node.unwrap_or(0)),
            (true, true, node) => {
                format!("half-duplex master that polls node {}, {check}", node.unwrap_or(0))
            }
            (false, _, node) => {
                let node = node.map(|node| format!(", node {node}")).unwrap_or_default();
                format!("full duplex{node}, {check}")
            }
        })
    }

    fn joins_two_ends(&self) -> bool {
        !self.half
    }

    fn own_station(&self, port: &Setup) -> Option<u32> {
        Some(port.number("own-node").unwrap_or(0))
    }

    fn station(&self, setup: &Setup) -> Option<StationId> {
        setup.number("node").map(StationId::Number)
    }

    fn station_key(&self, _transport: Transport) -> Option<(&'static str, Range<u32>)> {
        Some(("node", 0..255))
    }
}

impl Framing for Df1 {
    fn odd_tcp_port(&self, port: u16) -> Option<&'static str> {
        (port == 502).then_some("port 502 is the usual port of Modbus TCP")
    }

    fn is_frame(&self, bytes: &[u8]) -> bool {
        // DLE, and one of STX, SOH, EOT, ENQ, ACK, NAK.
        matches!(bytes, [0x10, 0x01 | 0x02 | 0x04 | 0x05 | 0x06 | 0x15, ..])
    }
}

impl Search for Df1 {
    fn territories(&self) -> &'static [Territory] {
        &TERRITORIES
    }

    fn in_a_hurry(&self, setup: &mut Setup, timeout: u64) {
        setup.numbers.retain(|(key, _)| !matches!(*key, "link-retries" | "ack-timeout"));
        setup.numbers.push(("link-retries", 0));
        setup.numbers.push(("ack-timeout", u32::try_from(timeout).unwrap_or(u32::MAX)));
    }
}
