//! What a station says to its neighbour: its name, its port, its addresses (LLDP, EtherType 0x88CC).
//!
//! ```text
//! parts: { kind 7 bits, length 9 bits, value };  kind 0 of length 0 is the last
//! ```

use crate::{Reader, WireError, WireFault};
use std::net::Ipv4Addr;

const LAYER: &str = "LLDP";
/// The EtherType.
pub const ETHERTYPE: u16 = 0x88CC;
/// Where it goes: to the next station and no further.
pub const TO: [u8; 6] = [0x01, 0x80, 0xC2, 0, 0, 0x0E];
/// How often it is said, in microseconds.
pub const EVERY: u64 = 5_000_000;
/// For how many seconds it holds.
const HOLDS: u16 = 20;
/// The organisation of the parts that are PROFINET's own.
const ORGANISATION: [u8; 3] = [0x00, 0x0E, 0xCF];

/// One part.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Part<'a> {
    /// What it is.
    pub kind: u8,
    /// Its bytes.
    pub value: &'a [u8],
}

/// Reads all parts up to the last, and gives each.
///
/// # Errors
/// A part is cut, the last one is missing, or the chassis or the port is called nothing (IEEE 802.1AB, 8.5.2
/// and 8.5.3: a kind of name and at least one byte of it).
pub fn parse(data: &[u8], mut take: impl FnMut(Part<'_>)) -> Result<(), WireError> {
    let mut reader = Reader::new(LAYER, data);
    loop {
        let at = reader.at;
        let head = reader.u16("part")?;
        let kind = u8::try_from(head >> 9).unwrap_or(0);
        let value = reader.bytes("value", usize::from(head & 0x1FF))?;
        if kind == 0 {
            if !value.is_empty() {
                let got = u32::from(head & 0x1FF);
                return reader
                    .fault(at, WireFault::Range { field: "length of the last", got, low: 0, high: 0 });
            }
            return Ok(());
        }
        if matches!(kind, 1 | 2) && value.len() < 2 {
            let got = u32::from(head & 0x1FF);
            return reader.fault(at, WireFault::Range { field: "length of a name", got, low: 2, high: 256 });
        }
        take(Part { kind, value });
    }
}

/// What a station says of itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Neighbour<'a> {
    /// Its name of station; empty where it has none yet.
    pub name: &'a str,
    /// Its MAC address.
    pub mac: [u8; 6],
    /// Its address, where it has one.
    pub address: Option<Ipv4Addr>,
}

impl Neighbour<'_> {
    /// Appends all parts.
    pub fn emit(&self, out: &mut Vec<u8>) {
        // A chassis must be called something (IEEE 802.1AB, 8.5.2): a station without a name goes by its MAC.
        match self.name {
            "" => part(out, 1, &[&[4], &self.mac]),
            name => part(out, 1, &[&[7], name.as_bytes()]),
        }
        part(out, 2, &[&[7], b"port-001"]);
        part(out, 3, &[&HOLDS.to_be_bytes()]);
        part(out, 127, &[&ORGANISATION, &[5], &self.mac]);
        // The state of the port in the classes that we do not speak.
        part(out, 127, &[&ORGANISATION, &[2, 0, 0, 0, 0]]);
        if let Some(address) = self.address {
            // Address of five bytes of kind IPv4; interface by its number, 1; no object.
            part(out, 8, &[&[5, 1], &address.octets(), &[2, 0, 0, 0, 1, 0]]);
        }
        out.extend_from_slice(&[0, 0]);
    }
}

fn part(out: &mut Vec<u8>, kind: u8, values: &[&[u8]]) {
    let length: usize = values.iter().map(|own| own.len()).sum();
    let head = u16::from(kind) << 9 | u16::try_from(length).unwrap_or(0x1FF) & 0x1FF;
    out.extend_from_slice(&head.to_be_bytes());
    values.iter().for_each(|own| out.extend_from_slice(own));
}
