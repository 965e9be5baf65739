//! Transport data units of class 0 (ISO 8073 section 13): opening, refusing, data in pieces.
//!
//! Byte 0 is the length of the header without itself, the high nibble of byte 1 the type. What the standard tells a
//! receiver to ignore (credit, TPDU number, parameters of other classes, data behind an opening) is neither looked at nor
//! given back.

use super::tpkt;
use crate::{Reader, WireError, WireFault};

const LAYER: &str = "COTP";
/// Bytes of a data unit before its data.
const DATA_HEADER: usize = 3;
/// The TPDU size that is proposed: 1024 bytes, as a power of two.
pub const SIZE: u8 = 0x0A;
/// TPDU sizes that exist, as powers of two: 128 to 8192 bytes.
const SIZES: std::ops::RangeInclusive<u8> = 7..=13;
/// The longest message that is put together: 64 KB of data and a header.
pub const MESSAGE_MAX: usize = 65_536 + 16;
/// Data units that carry nothing and end nothing, one after the other, before the peer is taken for broken.
const EMPTY_MAX: u32 = 64;

/// One transport data unit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tpdu<'a> {
    /// CR: please open.
    Request(Opening<'a>),
    /// CC: it is open.
    Confirm(Opening<'a>),
    /// DR: it is not opened.
    Refuse {
        /// The reference of the side that sent the CR.
        dst: u16,
        /// The refuser's own.
        src: u16,
        /// Why; [`refusal_words`] has the words.
        reason: u8,
    },
    /// DC; class 0 has no use for it.
    Closed {
        /// The peer's reference.
        dst: u16,
        /// The sender's own.
        src: u16,
    },
    /// DT: a piece of a message.
    Data {
        /// The message ends with it.
        last: bool,
        /// The piece.
        data: &'a [u8],
    },
    /// ER: the peer did not understand.
    Error {
        /// The peer's reference.
        dst: u16,
        /// 0 none told, 1 parameter code, 2 TPDU type, 3 parameter value.
        cause: u8,
    },
}

/// What opens a connection: CR, or CC.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Opening<'a> {
    /// The receiver's reference; 0 in a CR.
    pub dst: u16,
    /// The sender's own reference.
    pub src: u16,
    /// Class in the high nibble, options in the low.
    pub class: u8,
    /// Each a code, a length and so many bytes; sound as far as lengths go.
    parameters: &'a [u8],
}

impl<'a> Opening<'a> {
    /// An opening in class 0 with parameters as [`parameters`] writes them.
    #[must_use]
    pub const fn new(dst: u16, src: u16, parameters: &'a [u8]) -> Self {
        Self { dst, src, class: 0, parameters }
    }

    fn parameter(&self, wanted: u8) -> Option<&'a [u8]> {
        let mut rest = self.parameters;
        while let [code, length, behind @ ..] = rest {
            let value = behind.get(..usize::from(*length))?;
            if *code == wanted {
                return Some(value);
            }
            rest = behind.get(usize::from(*length)..)?;
        }
        None
    }

    /// The TPDU size as a power of two, where it is told and exists.
    #[must_use]
    pub fn size(&self) -> Option<u8> {
        self.parameter(0xC0)?.first().copied().filter(|size| SIZES.contains(size))
    }

    /// The TSAP of the side that sent the CR.
    #[must_use]
    pub fn calling(&self) -> Option<&'a [u8]> {
        self.parameter(0xC1)
    }

    /// The TSAP that is called.
    #[must_use]
    pub fn called(&self) -> Option<&'a [u8]> {
        self.parameter(0xC2)
    }

    /// Whether class 0 is asked for, or would do.
    #[must_use]
    pub fn takes_class_0(&self) -> bool {
        let alternatives = self.parameter(0xC7).unwrap_or_default();
        self.class >> 4 == 0 || alternatives.iter().any(|class| class >> 4 == 0)
    }
}

impl Opening<'_> {
    /// The TPDU size that holds after this CC, which answers a CR with the reference `own` and the size `proposed`.
    ///
    /// # Errors
    /// It answers somebody else, in another class, or takes more than was proposed: close the connection.
    pub fn agreed(&self, own: u16, proposed: u8) -> Result<u8, WireError> {
        let wrong = |at, field, got: u32, low: u32, high: u32| {
            Err(WireError { layer: LAYER, at, fault: WireFault::Range { field, got, low, high } })
        };
        if self.dst != own {
            return wrong(2, "DST-REF", self.dst.into(), own.into(), own.into());
        }
        if self.class >> 4 != 0 {
            return wrong(6, "class", (self.class >> 4).into(), 0, 0);
        }
        match self.size() {
            None => Ok(proposed),
            Some(size) if size <= proposed => Ok(size),
            Some(size) => wrong(7, "TPDU size", size.into(), (*SIZES.start()).into(), proposed.into()),
        }
    }
}

/// Appends the parameters of an opening: TPDU size, calling and called TSAP of at most 32 bytes each.
pub fn parameters(size: u8, calling: &[u8], called: &[u8], out: &mut Vec<u8>) {
    out.extend_from_slice(&[0xC0, 1, size]);
    for (code, tsap) in [(0xC1, calling), (0xC2, called)] {
        out.extend_from_slice(&[code, u8::try_from(tsap.len()).unwrap_or(u8::MAX)]);
        out.extend_from_slice(tsap);
    }
}

/// Reads one unit: all of a packet.
///
/// # Errors
/// It is none of class 0, or lengths contradict each other: close the connection.
pub fn parse(tpdu: &[u8]) -> Result<Tpdu<'_>, WireError> {
    let mut reader = Reader::new(LAYER, tpdu);
    let length = usize::from(reader.u8_in("header length", 2, 254)?);
    let mut header = Reader::new(LAYER, tpdu.get(1..).unwrap_or_default());
    let header_bytes = header.bytes("header", length)?;
    let data = header.rest();
    let mut header = Reader::new(LAYER, header_bytes);
    let code = header.u8("type")?;
    let tpdu = match code & 0xF0 {
        0xE0 => Tpdu::Request(opening(&mut header)?),
        0xD0 => Tpdu::Confirm(opening(&mut header)?),
        0x80 => Tpdu::Refuse {
            dst: header.u16("DST-REF")?,
            src: header.u16("SRC-REF")?,
            reason: header.u8("reason")?,
        },
        0xC0 => Tpdu::Closed { dst: header.u16("DST-REF")?, src: header.u16("SRC-REF")? },
        0xF0 => Tpdu::Data { last: header.u8("TPDU number")? & 0x80 != 0, data },
        0x70 => Tpdu::Error { dst: header.u16("DST-REF")?, cause: header.u8("cause")? },
        _ => {
            let allowed = "E0, D0, 80, C0, F0 or 70 in class 0";
            let fault = WireFault::Choice { field: "type", got: code.into(), allowed };
            return Err(WireError { layer: LAYER, at: 1, fault });
        }
    };
    Ok(tpdu)
}

fn opening<'a>(header: &mut Reader<'a>) -> Result<Opening<'a>, WireError> {
    let (dst, src, class) = (header.u16("DST-REF")?, header.u16("SRC-REF")?, header.u8("class")?);
    let parameters = header.rest();
    let mut each = Reader::new("COTP parameters", parameters);
    while !each.is_at_end() {
        each.u8("parameter code")?;
        let length = usize::from(each.u8("parameter length")?);
        each.bytes("parameter value", length)?;
    }
    Ok(Opening { dst, src, class, parameters })
}

impl Tpdu<'_> {
    /// Appends the unit in its packet.
    pub fn emit(&self, out: &mut Vec<u8>) {
        tpkt::emit_with(out, |out| {
            let begin = out.len();
            out.push(0);
            let opening = |code: u8, opening: &Opening<'_>, out: &mut Vec<u8>| {
                out.push(code);
                out.extend_from_slice(&opening.dst.to_be_bytes());
                out.extend_from_slice(&opening.src.to_be_bytes());
                out.push(opening.class);
                out.extend_from_slice(opening.parameters);
            };
            let mut behind: &[u8] = &[];
            match self {
                Self::Request(open) => opening(0xE0, open, out),
                Self::Confirm(open) => opening(0xD0, open, out),
                Self::Refuse { dst, src, reason } => {
                    out.push(0x80);
                    out.extend_from_slice(&dst.to_be_bytes());
                    out.extend_from_slice(&src.to_be_bytes());
                    out.push(*reason);
                }
                Self::Closed { dst, src } => {
                    out.push(0xC0);
                    out.extend_from_slice(&dst.to_be_bytes());
                    out.extend_from_slice(&src.to_be_bytes());
                }
                Self::Data { last, data } => {
                    out.extend_from_slice(&[0xF0, u8::from(*last) << 7]);
                    behind = data;
                }
                Self::Error { dst, cause } => {
                    out.push(0x70);
                    out.extend_from_slice(&dst.to_be_bytes());
                    out.push(*cause);
                }
            }
            let length = u8::try_from(out.len() - begin - 1).unwrap_or(254);
            if let Some(field) = out.get_mut(begin) {
                *field = length;
            }
            out.extend_from_slice(behind);
        });
    }
}

/// Appends a message in as many data units as a TPDU size, a power of two, makes of it, each of them full.
pub fn emit_message(message: &[u8], size: u8, out: &mut Vec<u8>) {
    let room = (1usize << size.clamp(*SIZES.start(), *SIZES.end())) - DATA_HEADER;
    let mut rest = message;
    loop {
        let (piece, behind) = rest.split_at(room.min(rest.len()));
        Tpdu::Data { last: behind.is_empty(), data: piece }.emit(out);
        if behind.is_empty() {
            return;
        }
        rest = behind;
    }
}

/// Puts messages together again out of their pieces.
#[derive(Debug, Default)]
pub struct Assembly {
    message: Vec<u8>,
    empty: u32,
}

impl Assembly {
    /// Takes a piece; gives the message that ends with it. A message without any byte is nobody's: some send it to be
    /// heard.
    ///
    /// # Errors
    /// The message is longer than any that is right, or the peer sends pieces of nothing: close the connection.
    pub fn take(&mut self, last: bool, data: &[u8]) -> Result<Option<Vec<u8>>, WireError> {
        let broken = |fault| Err(WireError { layer: "COTP data", at: 0, fault });
        let length = self.message.len() + data.len();
        if length > MESSAGE_MAX {
            self.message.clear();
            let as_u32 = |number: usize| u32::try_from(number).unwrap_or(u32::MAX);
            let (field, low) = ("message length", 0);
            return broken(WireFault::Range { field, got: as_u32(length), low, high: as_u32(MESSAGE_MAX) });
        }
        self.empty = if data.is_empty() && !last { self.empty + 1 } else { 0 };
        if self.empty >= EMPTY_MAX {
            return broken(WireFault::Short { field: "data", want: 1, have: 0 });
        }
        self.message.extend_from_slice(data);
        let whole = last && !self.message.is_empty();
        Ok(whole.then(|| std::mem::take(&mut self.message)))
    }
}

/// Why a connection was refused (ISO 8073 section 13.5), in words.
#[must_use]
pub const fn refusal_words(reason: u8) -> &'static str {
    match reason {
        0x00 => "no reason given",
        0x01 => "congestion at the TSAP",
        0x02 => "no one listens at that TSAP",
        0x03 => "address unknown",
        0x80 => "normal disconnect",
        0x81 => "remote congestion",
        0x82 => "negotiation failed",
        0x83 => "reference in use",
        0x84 => "references do not match",
        0x85 => "protocol error",
        0x87 => "reference overflow",
        0x88 => "refused on this connection",
        0x8A => "header or parameter length",
        _ => "unknown reason",
    }
}
