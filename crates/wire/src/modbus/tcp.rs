//! MBAP framing (TCP section 3.1): transaction, protocol 0, length, unit, PDU; no check sum.
//!
//! A length that cannot be right loses the stream: close the connection and do not hunt for the next header. A
//! protocol other than 0 is skipped by its length and not answered.

use super::{Addressed, PDU_MAX, rtu};
use crate::{WireError, WireFault};

const LAYER: &str = "MBAP header";
/// Transaction, protocol and length.
const PREFIX: usize = 6;
/// The longest length field: unit and the longest PDU.
const LENGTH_MAX: u16 = 254;
/// The longest message.
pub const FRAME_MAX: usize = PREFIX + PDU_MAX + 1;

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
    let Some(&[t1, t0, p1, p0, l1, l0]) = stream.first_chunk::<PREFIX>() else { return Ok(None) };
    let (transaction, protocol) = (u16::from_be_bytes([t1, t0]), u16::from_be_bytes([p1, p0]));
    let length = u16::from_be_bytes([l1, l0]);
    if !(2..=LENGTH_MAX).contains(&length) {
        let fault = WireFault::Range { field: "length", got: length.into(), low: 2, high: LENGTH_MAX.into() };
        return Err(WireError { layer: LAYER, at: 4, fault });
    }
    let length = usize::from(length);
    let Some(body) = stream.get(PREFIX..PREFIX + length) else { return Ok(None) };
    let Some((unit, pdu)) = body.split_first() else { return Ok(None) };
    let frame = Frame { transaction, protocol, body: Addressed { unit: *unit, pdu } };
    Ok(Some((frame, PREFIX + length)))
}

/// Appends a message for `unit` around `pdu` to `out`, with protocol 0.
pub fn emit(transaction: u16, unit: u8, pdu: &[u8], out: &mut Vec<u8>) {
    emit_with(transaction, unit, out, |out| out.extend_from_slice(pdu));
}

/// Appends a message whose PDU is appended by `body`: a server writes its answer once, where it belongs.
pub fn emit_with(transaction: u16, unit: u8, out: &mut Vec<u8>, body: impl FnOnce(&mut Vec<u8>)) {
    out.extend_from_slice(&transaction.to_be_bytes());
    out.extend_from_slice(&[0, 0, 0, 0, unit]);
    let begin = out.len();
    body(out);
    let length = u16::try_from(out.len() - begin + 1).unwrap_or(u16::MAX);
    if let Some(field) = out.get_mut(begin - 3..begin - 1) {
        field.copy_from_slice(&length.to_be_bytes());
    }
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
