//! Packets on the stream (RFC 1006 section 6): version 3, a reserved byte, the length of the whole packet, one TPDU.

use crate::{WireError, WireFault};

const LAYER: &str = "TPKT";
const VERSION: u8 = 3;
/// Version, reserved, length.
pub const HEADER: usize = 4;
/// The shortest packet: a header and the shortest TPDU.
const LENGTH_MIN: u16 = 7;

/// The first packet's TPDU and how many bytes the packet takes; `None` while it is incomplete.
///
/// # Errors
/// The version or the length cannot be right: the stream is lost.
pub fn parse(stream: &[u8]) -> Result<Option<(&[u8], usize)>, WireError> {
    // The version is looked at before the rest has come: somebody else's first bytes need not be many.
    if let Some(version) = stream.first().filter(|version| **version != VERSION) {
        let fault = WireFault::Range { field: "version", got: (*version).into(), low: 3, high: 3 };
        return Err(WireError { layer: LAYER, at: 0, fault });
    }
    let Some(&[_, _, high, low]) = stream.first_chunk::<HEADER>() else { return Ok(None) };
    let length = u16::from_be_bytes([high, low]);
    if length < LENGTH_MIN {
        let (low, high) = (LENGTH_MIN.into(), u16::MAX.into());
        let fault = WireFault::Range { field: "length", got: length.into(), low, high };
        return Err(WireError { layer: LAYER, at: 2, fault });
    }
    let length = usize::from(length);
    Ok(stream.get(HEADER..length).map(|tpdu| (tpdu, length)))
}

/// Appends a packet whose TPDU, of at most 65531 bytes, is appended by `tpdu`.
pub fn emit_with(out: &mut Vec<u8>, tpdu: impl FnOnce(&mut Vec<u8>)) {
    let begin = out.len();
    out.extend_from_slice(&[VERSION, 0, 0, 0]);
    tpdu(out);
    let length = u16::try_from(out.len() - begin).unwrap_or(u16::MAX);
    if let Some(field) = out.get_mut(begin + 2..begin + HEADER) {
        field.copy_from_slice(&length.to_be_bytes());
    }
}
