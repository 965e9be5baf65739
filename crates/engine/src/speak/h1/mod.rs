//! The link that stands in for a linking device: a client of the devices of a segment, the link itself for the rig, and
//! blocks that compute.

mod blocks;
mod client;
mod finder;
mod job;
mod observer;
mod outputs;
mod publisher;
mod segment;
mod server;
mod subscribed;
#[cfg(test)]
mod tests;
mod writing;

use super::Speaker;
use woodrush_core::protocol::h1::link_code;
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::h1::error;
use woodrush_wire::h1::frame::{self, Kind as FrameKind};
use woodrush_wire::h1::{LinkError, Request};

/// `h1-link`.
pub(super) const LINK: Speaker = Speaker {
    name: "h1-link",
    client: Some(|setup| Box::new(client::LinkClient::new(setup))),
    server: Some(|setup| Box::new(server::LinkServer::new(setup))),
    observer: |setup| Box::new(observer::LinkObserver::new(setup)),
    behaviour: Some(blocks::BlockBehaviour::of),
    node: None,
    finder: Some(|setup| Box::new(finder::SegmentFinder::new(setup))),
    roll_call: None,
    discovery: None,
    frames: None,
};

/// The name under which refusals carry a status byte or an error of the link.
const NATIVE: &str = "H1 status";

/// An error of the link as a refusal.
fn refusal(class: u8, code: u8) -> Refusal {
    let kind = match (class, code) {
        error::BAD_SUB_INDEX | error::NO_OBJECT => Kind::NoSuchAddress,
        error::TYPE_CONFLICT => Kind::TypeDiffers,
        error::DENIED | error::MODE_NOT_PERMITTED | error::REVISION_CHANGED => Kind::WrongMode,
        error::OUT_OF_RANGE | error::MALFORMED => Kind::BadValue,
        error::UNKNOWN_OPERATION => Kind::NoSuchCommand,
        error::TOO_MANY => Kind::Busy,
        error::NO_NODE => Kind::NoAnswer,
        _ => Kind::Fault,
    };
    // That no such node is there is said by the link, not by the device.
    let native = Some((NATIVE, link_code(class, code))).filter(|_| kind != Kind::NoAnswer);
    Refusal { native, ..Refusal::new(kind, Blame::Device) }
}

/// What is known of a device, and why it is of no use.
fn unfit(code: u32) -> Refusal {
    Refusal::new(Kind::WrongMode, Blame::Device).with_native(NATIVE, code)
}

/// The error of the link that answers a refusal.
fn link_error(refusal: Refusal) -> (u8, u8) {
    if let Some((NATIVE, code)) = refusal.native
        && let Some(own) = code.checked_sub(256)
    {
        let byte = |number: u32| u8::try_from(number).unwrap_or(u8::MAX);
        return (byte(own >> 5), byte(own & 0x1F));
    }
    match refusal.kind {
        Kind::NoSuchAddress => error::NO_OBJECT,
        Kind::BadValue | Kind::DoesNotFit | Kind::TooMuch => error::OUT_OF_RANGE,
        Kind::TypeDiffers => error::TYPE_CONFLICT,
        Kind::NoSuchCommand => error::UNKNOWN_OPERATION,
        Kind::Busy => error::TOO_MANY,
        Kind::ReadOnly | Kind::WrongMode | Kind::Fault => error::DENIED,
        _ => error::NO_NODE,
    }
}

/// A request as a frame.
fn asked(request: &Request<'_>, invoke: u16) -> Vec<u8> {
    let mut out = vec![];
    frame::emit_with(FrameKind::Request, request.op(), invoke, &mut out, |out| request.emit(out));
    out
}

/// A refusal as a frame.
fn refused(op: u16, invoke: u16, (class, code): (u8, u8), detail: u16, out: &mut Vec<u8>) {
    let text = error::words(class, code).unwrap_or("refused");
    let error = LinkError { class, code, detail, text };
    frame::emit_with(FrameKind::Error, op, invoke, out, |out| error.emit(out));
}
