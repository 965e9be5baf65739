//! RTU framing (SER section 2.5.1): unit, PDU, CRC with the low byte first; 4 to 256 bytes.
//!
//! A frame is known by its predicted length and its CRC. Silence ends one only where the length cannot be predicted:
//! a program in user space cannot see the silences of a line (bursts of drivers and adapters). The standard's
//! 1.5-character rule is therefore not enforced on reception.

use super::{Addressed, PDU_MAX};
use crate::{Reader, WireError, WireFault};
use std::ops::RangeInclusive;

const LAYER: &str = "RTU frame";
/// The shortest frame: unit, function, CRC.
pub const FRAME_MIN: usize = 4;
/// The longest frame (SER 2.5.1).
pub const FRAME_MAX: usize = PDU_MAX + 3;

/// Appends a frame for `unit` around `pdu` to `out`.
pub fn emit(unit: u8, pdu: &[u8], out: &mut Vec<u8>) {
    let start = out.len();
    out.push(unit);
    out.extend_from_slice(pdu);
    let check = crc(out.get(start..).unwrap_or_default());
    out.extend_from_slice(&check.to_le_bytes());
}

/// Reads one whole frame of known extent.
///
/// # Errors
/// Its length or CRC is wrong: noise, a collision, or other line settings. Nothing is answered to it.
pub fn parse(frame: &[u8]) -> Result<Addressed<'_>, WireError> {
    let fault = |at, fault| Err(WireError { layer: LAYER, at, fault });
    if frame.len() > FRAME_MAX {
        return fault(FRAME_MAX, WireFault::Trailing { extra: frame.len() - FRAME_MAX });
    }
    let Some((body, check)) = frame.split_last_chunk::<2>().filter(|(body, _)| body.len() >= 2) else {
        return fault(0, WireFault::Short { field: "frame", want: FRAME_MIN, have: frame.len() });
    };
    let (got, want) = (u16::from_le_bytes(*check), crc(body));
    if got != want {
        return fault(body.len(), WireFault::Checksum { got, want });
    }
    let mut r = Reader::new(LAYER, body);
    let unit = r.u8("unit")?;
    Ok(Addressed { unit, pdu: r.rest() })
}

/// Which way a frame goes; the same bytes have other lengths in the two directions.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Way {
    /// From the client to the server.
    Request,
    /// From the server to the client.
    Response,
}

/// What the first bytes of a frame say about its length, CRC included.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Length {
    /// More bytes are needed to tell.
    Unknown,
    /// So many bytes; never less than 4, perhaps more than [`FRAME_MAX`], which is noise.
    Known(usize),
    /// Only silence or a fitting CRC ends it (functions without a length, and 8 with sub-function 0).
    Unpredictable,
    /// No frame of this way begins so.
    Never,
}

/// Predicts a frame's length from its first bytes, for all public functions. Once told, a length never changes as
/// more bytes come.
#[must_use]
pub fn predict(way: Way, bytes: &[u8]) -> Length {
    let Some(&function) = bytes.get(1) else { return Length::Unknown };
    let fixed = Length::Known;
    let byte = |at: usize, base: usize, each: usize| match bytes.get(at) {
        Some(count) => Length::Known(base + each * usize::from(*count)),
        None => Length::Unknown,
    };
    match (way, function) {
        (Way::Request, 1..=6) | (Way::Response, 5 | 6 | 11 | 15 | 16) => fixed(8),
        (Way::Request, 7 | 11 | 12 | 17) => fixed(4),
        (Way::Response, 7) => fixed(5),
        (_, 8) => match (bytes.get(2), bytes.get(3)) {
            (Some(0), Some(0)) => Length::Unpredictable,
            (Some(_), Some(_)) => fixed(8),
            _ => Length::Unknown,
        },
        (Way::Request, 15 | 16) => byte(6, 9, 1),
        (_, 20 | 21) | (Way::Response, 1..=4 | 12 | 17 | 23) => byte(2, 5, 1),
        (_, 22) => fixed(10),
        (Way::Request, 23) => byte(10, 13, 1),
        (Way::Request, 24) => fixed(6),
        (Way::Response, 24) => match (bytes.get(2), bytes.get(3)) {
            (Some(high), Some(low)) => Length::Known(6 + (usize::from(*high) << 8 | usize::from(*low))),
            _ => Length::Unknown,
        },
        (_, 43) => identification(way, bytes),
        (Way::Request, 0x80..) => Length::Never,
        // Older editions put the type before the code (APP 7): 5 or 6 bytes.
        (Way::Response, 0xAB) => Length::Unpredictable,
        (Way::Response, 0x80..) => fixed(5),
        _ => Length::Unpredictable,
    }
}

/// Function 43/14 lists objects, each with a length of its own (APP 6.21).
fn identification(way: Way, bytes: &[u8]) -> Length {
    match (way, bytes.get(2)) {
        (_, None) => return Length::Unknown,
        (Way::Request, Some(14)) => return Length::Known(7),
        (Way::Response, Some(14)) => {}
        _ => return Length::Unpredictable,
    }
    let Some(objects) = bytes.get(7) else { return Length::Unknown };
    let mut at = 8;
    for _ in 0..*objects {
        let Some(length) = bytes.get(at + 1) else { return Length::Unknown };
        at += 2 + usize::from(*length);
    }
    Length::Known(at + 2)
}

/// What a receiver does with the bytes that it has collected.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Found<'a> {
    /// Nothing to say before more bytes come.
    More,
    /// `skip` bytes of noise, then a frame of `length` bytes; drop both.
    Frame {
        /// Bytes before the frame that belong to none.
        skip: usize,
        /// Bytes of the frame.
        length: usize,
        /// What it carries.
        frame: Addressed<'a>,
    },
    /// These bytes begin no frame; drop so many and look again.
    Noise {
        /// At least 1.
        skip: usize,
    },
}

/// Slides over a stream to its first frame (resynchronisation without timing).
///
/// At each index the length is predicted; a complete frame with a sound CRC is taken, anything else moves on by one.
/// An index whose frame would end beyond the data makes it wait, since that frame may still come; `waited` says
/// that the line has been still for long enough to give such candidates up. A false hit costs one frame and comes
/// once in 65536 indices of noise.
#[must_use]
pub fn find(way: Way, stream: &[u8], waited: bool) -> Found<'_> {
    for skip in 0..stream.len() {
        let rest = stream.get(skip..).unwrap_or_default();
        let complete = match predict(way, rest) {
            Length::Known(length) if length > FRAME_MAX => continue,
            Length::Never => continue,
            Length::Known(length) => rest.get(..length),
            Length::Unpredictable => ends_by_check(rest, waited),
            Length::Unknown => None,
        };
        match complete {
            Some(bytes) => {
                if let Ok(frame) = parse(bytes) {
                    return Found::Frame { skip, length: bytes.len(), frame };
                }
            }
            None if waited => {}
            None if skip == 0 => return Found::More,
            None => return Found::Noise { skip },
        }
    }
    if stream.is_empty() { Found::More } else { Found::Noise { skip: stream.len() } }
}

/// A frame whose length nothing announces. Function 8 with sub-function 0 carries any even number of bytes: the
/// shortest length with a sound CRC is taken. All others are ended by silence, or in a stream without timing by the
/// end of what came so far: the whole of it, or nothing; trying every length would take one index of noise in 260
/// for a frame.
fn ends_by_check(bytes: &[u8], still: bool) -> Option<&[u8]> {
    let most = bytes.len().min(FRAME_MAX);
    let shortest = |lengths: RangeInclusive<usize>, step| {
        lengths.step_by(step).filter_map(|length| bytes.get(..length)).find(|frame| parse(frame).is_ok())
    };
    match bytes.get(1) {
        Some(8) => shortest(8..=most, 2),
        Some(0xAB) => shortest(5..=most.min(6), 1),
        _ if bytes.len() > FRAME_MAX => None,
        _ => (still || parse(bytes).is_ok()).then_some(bytes),
    }
}

/// Slides over a stream in which both sides are heard, as a server on a line with others hears them: the first frame
/// of either way, and which. A frame that would be sound both ways (the echoes of writes) counts as a request.
#[must_use]
pub fn find_either(stream: &[u8], waited: bool) -> (Way, Found<'_>) {
    let request = find(Way::Request, stream, waited);
    let begin = |found: &Found<'_>| match found {
        Found::Frame { skip, .. } => Some(*skip),
        _ => None,
    };
    match (begin(&request), find(Way::Response, stream, waited)) {
        (Some(0), _) => (Way::Request, request),
        (first, response) if begin(&response).is_some_and(|at| first.is_none_or(|first| at < first)) => {
            (Way::Response, response)
        }
        (Some(_), _) => (Way::Request, request),
        // What one way gives up, the other may still wait for.
        (None, Found::More) => (Way::Response, Found::More),
        (None, Found::Noise { skip: other }) => match request {
            Found::Noise { skip } => (Way::Request, Found::Noise { skip: skip.min(other) }),
            waiting => (Way::Request, waiting),
        },
        (None, response) => (Way::Response, response),
    }
}

/// The least silence between two frames, in microseconds: 3.5 characters of `bits_per_char` bits, counted as at
/// least 11, up to 19200 bits a second; 1750 µs fixed above (SER 2.5.1.1).
#[must_use]
pub fn silence_us(baud: u32, bits_per_char: u32) -> u64 {
    if baud > 19_200 {
        return 1750;
    }
    let bits = u64::from(bits_per_char.max(11));
    (bits * 3_500_000).div_ceil(u64::from(baud.max(1)))
}

/// The CRC of SER 6.2.2: polynomial 0xA001 (reflected), start 0xFFFF, no final inversion.
#[must_use]
pub fn crc(bytes: &[u8]) -> u16 {
    bytes.iter().fold(0xFFFF, |crc: u16, byte| {
        let index = usize::from((crc ^ u16::from(*byte)) & 0xFF);
        crc >> 8 ^ CRC_TABLE.get(index).copied().unwrap_or_default()
    })
}

static CRC_TABLE: [u16; 256] = crc_table();

#[allow(clippy::cast_possible_truncation, reason = "the index ends at 255, and `try_from` is not const")]
const fn crc_table() -> [u16; 256] {
    let mut table = [0; 256];
    let mut index = 0;
    while index < 256 {
        let mut crc = index as u16;
        let mut bit = 0;
        while bit < 8 {
            crc = if crc & 1 == 1 { crc >> 1 ^ 0xA001 } else { crc >> 1 };
            bit += 1;
        }
        table[index] = crc;
        index += 1;
    }
    table
}
