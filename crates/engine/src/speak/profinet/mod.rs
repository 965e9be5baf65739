//! PROFINET IO: an IO device on an interface, and for the rig the controller at its other end.

mod calls;
mod controller;
mod cyclic;
mod device;
mod discovery;
mod ether;
mod ip;
mod judging;
mod naming;
mod node;
mod observer;
mod opening;

#[cfg(test)]
mod tests;

use super::Speaker;
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::profinet::status::{PnioStatus, calls as refused, place, record};

/// `profinet`.
pub(super) const DEVICE: Speaker = Speaker {
    name: "profinet",
    client: None,
    server: None,
    node: Some(|setup| Box::new(node::EthernetNode::new(setup))),
    observer: |setup| Box::new(observer::EthernetObserver::new(setup)),
    behaviour: None,
    finder: None,
    roll_call: None,
    discovery: Some(&discovery::STATIONS),
    frames: None,
};

/// The name under which refusals carry a status.
const NATIVE: &str = "PNIO status";

/// How a connection has ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Ended {
    /// Nothing came in time.
    Silent,
    /// One of the two has closed it.
    Closed,
}

/// A status as a refusal.
fn refusal_of(status: PnioStatus) -> Refusal {
    let (first, second) = status.numbers();
    let kind = match (first, second) {
        (place::CALLS, refused::OUT_OF_RELATIONS) => Kind::Busy,
        (place::CALLS, refused::STATE) => Kind::WrongMode,
        (record::INVALID_INDEX | record::INVALID_SLOT, _) => Kind::NoSuchAddress,
        _ => Kind::Mismatch,
    };
    Refusal::new(kind, Blame::ClientIdentity).with_native(NATIVE, status.0)
}
