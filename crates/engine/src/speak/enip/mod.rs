//! Explicit messages of EtherNet/IP: questions and refusals between spaces and tags.

mod assembly_job;
mod client;
mod frames;
mod io;
mod job;
mod judging;
mod link;
mod manager;
mod node;
mod objects;
mod observer;
mod originator;
mod requests;
mod roll_call;
mod server;
mod table_job;
mod table_work;
mod work;

#[cfg(test)]
mod tests;

use super::Speaker;
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::enip::status;

/// `ethernet-ip`.
pub(super) const TAGS: Speaker = Speaker {
    name: "ethernet-ip",
    client: Some(|setup| Box::new(client::TagClient::new(setup))),
    server: Some(|setup| Box::new(server::TagServer::new(setup))),
    observer: |setup| Box::new(observer::TagObserver::new(setup)),
    behaviour: None,
    node: Some(|setup| Box::new(node::IoNode::new(setup))),
    finder: None,
    roll_call: Some(&roll_call::IDENTITIES),
    discovery: None,
    frames: Some(|setup, peer| Box::new(frames::FrameObserver::new(setup, peer))),
};

/// The name under which refusals carry a status.
const NATIVE: &str = "CIP status";

/// Most bytes of one message that is taken: what the header can say.
const MESSAGE_MAX: u16 = woodrush_wire::enip::encap::LENGTH_MAX;

/// A status as a refusal; `word` is the first additional one.
fn refusal(general: u8, word: Option<u16>) -> Refusal {
    let kind = match (general, word) {
        (
            status::PATH_SEGMENT_ERROR | status::PATH_DESTINATION_UNKNOWN | status::OBJECT_DOES_NOT_EXIST,
            _,
        ) => Kind::NoSuchAddress,
        (status::TAG_ERROR, Some(status::tag::OFFSET_PAST_END | status::tag::ELEMENTS_PAST_END)) => {
            Kind::NoSuchAddress
        }
        (status::TAG_ERROR, Some(status::tag::TYPE_MISMATCH)) => Kind::TypeDiffers,
        (status::SERVICE_NOT_SUPPORTED, _) => Kind::NoSuchCommand,
        (status::PRIVILEGE_VIOLATION | status::ATTRIBUTE_NOT_SETTABLE, _) => Kind::ReadOnly,
        (status::DEVICE_STATE_CONFLICT | 0x0C, _) => Kind::WrongMode,
        (status::RESOURCE_UNAVAILABLE, _) => Kind::Busy,
        (status::REPLY_TOO_LARGE, _) => Kind::TooMuch,
        (
            status::CONNECTION_FAILURE,
            Some(
                status::connection::PORT_NOT_AVAILABLE
                | status::connection::LINK_NOT_AVAILABLE
                | status::connection::UNCONNECTED_TIMED_OUT,
            ),
        ) => Kind::NoPath,
        (status::NOT_ENOUGH_DATA | status::TOO_MUCH_DATA | status::INVALID_ATTRIBUTE_VALUE, _) => {
            Kind::BadValue
        }
        _ => Kind::Fault,
    };
    let code = u32::from(general) | u32::from(word.unwrap_or(0)) << 8;
    Refusal::new(kind, Blame::Device).with_native(NATIVE, code)
}

/// The status and the word that answer a refusal: the controller's own where there is one.
fn answer_to(refusal: Refusal) -> (u8, Option<u16>) {
    if let Some((NATIVE, code)) = refusal.native.filter(|(_, code)| *code < 1 << 24) {
        let word = u16::try_from(code >> 8 & 0xFFFF).unwrap_or(0);
        return (u8::try_from(code & 0xFF).unwrap_or(0), (word != 0).then_some(word));
    }
    match refusal.kind {
        // The tag is there: a name that is none is refused before anything is wanted.
        Kind::NoSuchAddress => (status::TAG_ERROR, Some(status::tag::ELEMENTS_PAST_END)),
        Kind::NoSuchCommand => (status::SERVICE_NOT_SUPPORTED, None),
        Kind::ReadOnly => (status::PRIVILEGE_VIOLATION, None),
        Kind::BadValue | Kind::DoesNotFit => (status::INVALID_ATTRIBUTE_VALUE, None),
        Kind::TooMuch => (status::REPLY_TOO_LARGE, None),
        Kind::Busy => (status::RESOURCE_UNAVAILABLE, None),
        Kind::TypeDiffers => (status::TAG_ERROR, Some(status::tag::TYPE_MISMATCH)),
        _ => (status::DEVICE_STATE_CONFLICT, None),
    }
}
