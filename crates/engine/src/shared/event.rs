//! What is worth a line in the log.

use super::WriteRecord;
use crate::speak::{LinkLoss, LinkNews, StationNews};
use woodrush_core::protocol::Extent;
use woodrush_core::{Kind, Refusal};

/// Something worth a line in the log, told once when it happens.
#[derive(Debug, Clone)]
pub enum Event {
    /// A port is open.
    PortUp {
        /// Index of the port.
        port: usize,
        /// What was opened, such as a path or a socket address.
        what: String,
    },
    /// A port is gone.
    PortDown {
        /// Index of the port.
        port: usize,
        /// Why, in words.
        why: String,
    },
    /// A device answers, for the first time or again.
    DeviceBack {
        /// Index of the device.
        device: usize,
    },
    /// A device counts as lost.
    DeviceLost {
        /// Index of the device.
        device: usize,
        /// What was seen last.
        kind: Kind,
    },
    /// A device answered a poll with a refusal.
    Refused {
        /// Index of the device.
        device: usize,
        /// Index of the transfer.
        transfer: usize,
        /// What it said.
        refusal: Refusal,
    },
    /// A device answered a poll and refused a part of it.
    PartRefused {
        /// Index of the device.
        device: usize,
        /// What it refused.
        extent: Extent,
        /// What it said.
        refusal: Refusal,
    },
    /// What a device refused or called bad before is good again.
    PartGood {
        /// Index of the device.
        device: usize,
        /// What.
        extent: Extent,
    },
    /// What came of a device by itself comes no more, while the device is there.
    Stopped {
        /// Index of the device.
        device: usize,
        /// Index of the transfer.
        transfer: usize,
        /// Why.
        refusal: Refusal,
    },
    /// Something became of an exchange in cycles.
    Link {
        /// Index of the link.
        link: usize,
        /// What.
        news: LinkNews,
    },
    /// A controller that exchanges with an image is in run.
    LinkRuns {
        /// Index of the link.
        link: usize,
    },
    /// Nothing comes from a controller any more.
    LinkStopped {
        /// Index of the link.
        link: usize,
        /// Why.
        why: LinkLoss,
    },
    /// The other end of a link says that a slot is bad.
    SlotBad {
        /// Index of the link.
        link: usize,
        /// Which slot, in the order of the frame.
        slot: usize,
    },
    /// It says that the slot is good again.
    SlotGood {
        /// Index of the link.
        link: usize,
        /// Which slot, in the order of the frame.
        slot: usize,
    },
    /// Others have named or addressed a station, or asked it to show itself.
    Station {
        /// Index of the link.
        link: usize,
        /// What.
        news: StationNews,
    },
    /// A port has something to say that the people of the site should know.
    PortSays {
        /// Index of the port.
        port: usize,
        /// What, in words.
        words: String,
    },
    /// A device refused a poll as too long, and gave the same in smaller requests, which are sent from now on.
    TakesLess {
        /// Index of the device.
        device: usize,
        /// Index of the transfer.
        transfer: usize,
        /// Grains of one request.
        most: u32,
        /// The same in bytes.
        bytes: u32,
    },
    /// What a device was sent without a client waiting for it was not taken; told again only when that changes.
    NotTaken {
        /// Index of the device.
        device: usize,
        /// Index of the rule.
        rule: u32,
        /// Why.
        refusal: Refusal,
    },
    /// A connection was closed or turned away.
    Client {
        /// Index of the port.
        port: usize,
        /// Who.
        who: String,
        /// Why, in words.
        why: String,
    },
    /// A listening port takes no new connections, because the system gives it no descriptor; or it does again.
    Accepting {
        /// Index of the port.
        port: usize,
        /// Why not; `None` once it does again.
        trouble: Option<String>,
    },
    /// A client wrote something; told only where writes are logged.
    Written(Box<WriteRecord>),
    /// The project was reloaded.
    Reloaded {
        /// What changed, in words.
        what: String,
    },
}
