//! ASCII framing (SER section 2.5.2): a colon, unit and PDU and LRC as pairs of hex digits, CR LF; at most 513
//! characters.
//!
//! A colon always starts afresh, so noise costs at most the frame that it falls into. Lower-case digits and the
//! parity bit of a line that is run with eight data bits are taken and never sent.

use super::{Addressed, PDU_MAX};
use crate::{WireError, WireFault};

const LAYER: &str = "ASCII frame";
/// Unit, function, LRC.
const BYTES_MIN: usize = 3;
/// Unit, the longest PDU, LRC.
const BYTES_MAX: usize = PDU_MAX + 2;
/// The longest frame in characters (SER 2.5.2.1).
pub const FRAME_MAX: usize = 1 + 2 * BYTES_MAX + 2;

/// Appends a frame for `unit` around `pdu` to `out`.
pub fn emit(unit: u8, pdu: &[u8], out: &mut Vec<u8>) {
    let check = lrc(unit, pdu);
    out.push(b':');
    for byte in [unit].iter().chain(pdu).chain(&[check]) {
        out.extend([byte >> 4, byte & 15].map(|digit| match digit {
            0..=9 => b'0' + digit,
            _ => b'A' + digit - 10,
        }));
    }
    out.extend_from_slice(b"\r\n");
}

/// Characters of a frame around a PDU of so many bytes.
#[must_use]
pub const fn length(pdu: usize) -> usize {
    1 + 2 * (pdu + 2) + 2
}

/// What a frame carried, as bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Frame {
    bytes: [u8; BYTES_MAX],
    length: usize,
}

impl Frame {
    /// Unit and PDU.
    #[must_use]
    pub fn addressed(&self) -> Addressed<'_> {
        // Decoding has made sure of unit, function and LRC.
        let body = self.bytes.get(..self.length - 1).unwrap_or_default();
        let (unit, pdu) = body.split_first().map_or((0, body), |(unit, pdu)| (*unit, pdu));
        Addressed { unit, pdu }
    }
}

/// What a receiver does with the characters that it has collected.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Found {
    /// Nothing to say before more characters come.
    More,
    /// A frame that ends after `used` characters; drop them.
    Frame {
        /// Characters up to its end.
        used: usize,
        /// What it carries.
        frame: Frame,
    },
    /// These characters are no frame; drop so many and look again.
    Noise {
        /// At least 1.
        skip: usize,
        /// What is wrong with them, where they looked like a frame.
        why: Option<WireError>,
    },
}

/// Looks for the first frame of a stream; `waited` says that nothing more is coming (1 s between two characters).
#[must_use]
pub fn find(stream: &[u8], waited: bool) -> Found {
    let plain = |byte: &u8| byte & 0x7F;
    let noise = |skip, why| Found::Noise { skip, why };
    match stream.iter().map(plain).position(|byte| byte == b':') {
        None if stream.is_empty() => return Found::More,
        None => return noise(stream.len(), None),
        Some(0) => {}
        Some(begin) => return noise(begin, None),
    }
    let end = stream.iter().map(plain).skip(1).position(|byte| matches!(byte, b'\n' | b':'));
    let Some(end) = end.map(|end| end + 1) else {
        let short = WireError { layer: LAYER, at: stream.len(), fault: missing("CR LF", 2, 0) };
        return match waited || stream.len() >= FRAME_MAX {
            true => noise(stream.len(), Some(short)),
            false => Found::More,
        };
    };
    if stream.get(end).map(plain) == Some(b':') {
        return noise(end, None);
    }
    match decode(stream.get(..=end).unwrap_or_default()) {
        Ok(frame) => Found::Frame { used: end + 1, frame },
        Err(why) => noise(end + 1, Some(why)),
    }
}

fn missing(field: &'static str, want: usize, have: usize) -> WireFault {
    WireFault::Short { field, want, have }
}

/// One frame, from its colon to its LF.
fn decode(text: &[u8]) -> Result<Frame, WireError> {
    let fault = |at, fault| Err(WireError { layer: LAYER, at, fault });
    let inner = text.get(1..text.len().saturating_sub(2)).unwrap_or_default();
    if text.iter().rev().nth(1).is_none_or(|byte| byte & 0x7F != b'\r') {
        return fault(text.len().saturating_sub(2), missing("CR", 1, 0));
    }
    if inner.len() % 2 == 1 {
        return fault(inner.len(), missing("pair of hex digits", 2, 1));
    }
    if inner.len() / 2 > BYTES_MAX {
        return fault(1 + 2 * BYTES_MAX, WireFault::Trailing { extra: inner.len() - 2 * BYTES_MAX });
    }
    if inner.len() / 2 < BYTES_MIN {
        return fault(1, missing("frame", 2 * BYTES_MIN, inner.len()));
    }
    let mut frame = Frame { bytes: [0; BYTES_MAX], length: inner.len() / 2 };
    for (at, (room, pair)) in frame.bytes.iter_mut().zip(inner.chunks(2)).enumerate() {
        for (half, character) in pair.iter().enumerate() {
            let Some(digit) = char::from(character & 0x7F).to_digit(16).and_then(|d| u8::try_from(d).ok())
            else {
                let got = u16::from(*character);
                let wrong = WireFault::Choice { field: "character", got, allowed: "0 to 9 and A to F" };
                return fault(1 + 2 * at + half, wrong);
            };
            *room = *room << 4 | digit;
        }
    }
    let Addressed { unit, pdu } = frame.addressed();
    let (want, got) = (lrc(unit, pdu), frame.bytes.get(frame.length - 1).copied().unwrap_or_default());
    if got != want {
        return fault(inner.len() - 1, WireFault::Checksum { got: got.into(), want: want.into() });
    }
    Ok(frame)
}

/// The LRC of SER 6.2.1: the two's complement of the sum of the bytes, unit to last data byte.
#[must_use]
pub fn lrc(unit: u8, pdu: &[u8]) -> u8 {
    pdu.iter().fold(unit, |sum, byte| sum.wrapping_add(*byte)).wrapping_neg()
}
