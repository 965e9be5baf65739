//! MBAP framing (TCP section 3.1): transaction, protocol 0, length, unit, PDU; no check sum.
//!
//! A length that cannot be right loses the stream: close the connection and do not hunt for the next header. A
//! protocol other than 0 is skipped by its length and not answered.

use super::{Addressed, PDU_MAX, rtu};
use crate::{Reader, WireError, WireFault};

const LAYER: &str = "MBAP header";
/// Transaction, protocol and length.
const PREFIX: usize = 6;
/// The longest length field: unit and the longest PDU.
const LENGTH_MAX: usize = PDU_MAX + 1;
/// The longest message.
pub const FRAME_MAX: usize = PREFIX + LENGTH_MAX;

/// One message of the stream.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Frame<'a> {
    /// The client's number for the exchange; the server gives it back.
    pub transaction: u16,
    /// 0 for Modbus; others are skipped.
    pub protocol: u16,
    /// Unit and PDU.
    pub body: Addressed<'a>,
}

/// The first message of a stream and how many bytes it takes; `None` while it is incomplete.
///
/// # Errors
/// The length cannot be right: the stream is lost.
pub fn parse(stream: &[u8]) -> Result<Option<(Frame<'_>, usize)>, WireError> {
    let Some(header) = stream.get(..PREFIX) else { return Ok(None) };
    let mut r = Reader::new(LAYER, header);
    let (transaction, protocol) = (r.u16("transaction")?, r.u16("protocol")?);
    let length = usize::from(r.u16_in("length", 2, LENGTH_MAX as u16)?);
    let Some(body) = stream.get(PREFIX..PREFIX + length) else { return Ok(None) };
    let Some((unit, pdu)) = body.split_first() else { return Ok(None) };
    let frame = Frame { transaction, protocol, body: Addressed { unit: *unit, pdu } };
    Ok(Some((frame, PREFIX + length)))
}

/// Appends a message for `unit` around `pdu` to `out`, with protocol 0.
pub fn emit(transaction: u16, unit: u8, pdu: &[u8], out: &mut Vec<u8>) {
    out.extend_from_slice(&transaction.to_be_bytes());
    out.extend_from_slice(&[0, 0]);
    out.extend_from_slice(&u16::try_from(pdu.len() + 1).unwrap_or(u16::MAX).to_be_bytes());
    out.push(unit);
    out.extend_from_slice(pdu);
}

/// Whether a stream that makes no sense here begins with a sound RTU frame: the commonest mistake at this port.
#[must_use]
pub fn looks_like_rtu(stream: &[u8]) -> bool {
    [rtu::Way::Request, rtu::Way::Response].into_iter().any(|way| match rtu::predict(way, stream) {
        rtu::Length::Known(length) => stream.get(..length).is_some_and(|frame| rtu::parse(frame).is_ok()),
        _ => false,
    })
}

/// Whether bytes that make no sense on an RTU line begin with an MBAP header: a protocol of 0 and a length that
/// fits what follows.
#[must_use]
pub fn looks_like_mbap(bytes: &[u8]) -> bool {
    matches!(parse(bytes), Ok(Some((frame, used))) if frame.protocol == 0 && used == bytes.len())
}

/// The refusal of a protocol number other than 0, in words, for the log.
#[must_use]
pub fn foreign(protocol: u16) -> WireError {
    let fault = WireFault::Range { field: "protocol", got: protocol.into(), low: 0, high: 0 };
    WireError { layer: LAYER, at: 2, fault }
}
