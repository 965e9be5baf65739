//! Requests to and replies of the message router.
//!
//! ```text
//! request  service 1  path words 1  path  data
//! reply    service|80 1  00 1  status 1  words 1  additional status 2 each  data
//! ```

use super::epath::{Object, Path};
use super::status;
use crate::{Reader, WireError, WireFault};

const LAYER: &str = "CIP request";
/// Set in the service of a reply.
pub const REPLY: u8 = 0x80;

/// Services by their numbers. From 0x32 up they mean different things on different classes.
pub mod service {
    /// All attributes of an object.
    pub const GET_ATTRIBUTES_ALL: u8 = 0x01;
    /// Some attributes, by a list.
    pub const GET_ATTRIBUTE_LIST: u8 = 0x03;
    /// Restarts the object.
    pub const RESET: u8 = 0x05;
    /// Several services in one message.
    pub const MULTIPLE_SERVICE_PACKET: u8 = 0x0A;
    /// One attribute.
    pub const GET_ATTRIBUTE_SINGLE: u8 = 0x0E;
    /// Sets one attribute.
    pub const SET_ATTRIBUTE_SINGLE: u8 = 0x10;
    /// On class 0x67: a command for data tables.
    pub const EXECUTE_PCCC: u8 = 0x4B;
    /// On a tag: reads elements.
    pub const READ_TAG: u8 = 0x4C;
    /// On a tag: writes elements.
    pub const WRITE_TAG: u8 = 0x4D;
    /// On a tag: sets and clears bits.
    pub const READ_MODIFY_WRITE: u8 = 0x4E;
    /// On class 6: closes a connection.
    pub const FORWARD_CLOSE: u8 = 0x4E;
    /// On a tag: reads a part of its bytes.
    pub const READ_TAG_FRAGMENTED: u8 = 0x52;
    /// On class 6: a request for a device behind a route.
    pub const UNCONNECTED_SEND: u8 = 0x52;
    /// On a tag: writes a part of its bytes.
    pub const WRITE_TAG_FRAGMENTED: u8 = 0x53;
    /// On class 6: opens a connection of at most 511 bytes.
    pub const FORWARD_OPEN: u8 = 0x54;
    /// On class 0x6B: lists symbols.
    pub const LIST_SYMBOLS: u8 = 0x55;
    /// On class 6: opens a connection of at most 65535 bytes.
    pub const LARGE_FORWARD_OPEN: u8 = 0x5B;
}

/// Classes of objects.
pub mod class {
    /// Who it is.
    pub const IDENTITY: u32 = 0x01;
    /// Takes every request.
    pub const MESSAGE_ROUTER: u32 = 0x02;
    /// Bytes of inputs, outputs and configuration.
    pub const ASSEMBLY: u32 = 0x04;
    /// Opens connections.
    pub const CONNECTION_MANAGER: u32 = 0x06;
    /// Takes commands for data tables.
    pub const PCCC: u32 = 0x67;
    /// Tags.
    pub const SYMBOL: u32 = 0x6B;
    /// Addresses.
    pub const TCP_IP: u32 = 0xF5;
    /// The link.
    pub const ETHERNET_LINK: u32 = 0xF6;
}

/// One request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Request<'a> {
    /// One of [`service`].
    pub service: u8,
    /// To whom.
    pub path: Path<'a>,
    /// What the service wants.
    pub data: &'a [u8],
}

impl<'a> Request<'a> {
    /// Reads all of a message.
    ///
    /// # Errors
    /// It is no request, or its path is unsound: see [`status_of`].
    pub fn parse(message: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, message);
        let service = reader.u8_in("service", 0, REPLY - 1)?;
        let words = reader.u8("path size")?;
        let path = reader.bytes("path", usize::from(words) * 2)?;
        let path = Path::parse(path).map_err(|error| WireError { at: error.at + 2, ..error })?;
        Ok(Self { service, path, data: reader.rest() })
    }

    /// Appends it.
    pub fn emit(&self, out: &mut Vec<u8>) {
        emit_with(out, self.service, |out| out.extend_from_slice(self.path.bytes()));
        out.extend_from_slice(self.data);
    }
}

/// Appends a request whose path, of at most 510 bytes, is appended by `path`; its data come behind it.
pub fn emit_with(out: &mut Vec<u8>, service: u8, path: impl FnOnce(&mut Vec<u8>)) {
    out.extend_from_slice(&[service, 0]);
    let begin = out.len();
    path(out);
    let words = u8::try_from((out.len() - begin) / 2).unwrap_or(u8::MAX);
    if let Some(field) = out.get_mut(begin - 1) {
        *field = words;
    }
}

/// Appends a request to an object; its data come behind it.
pub fn emit_to(out: &mut Vec<u8>, service: u8, object: Object) {
    emit_with(out, service, |out| object.emit(out));
}

/// One reply.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Reply<'a> {
    /// The service that is answered.
    pub service: u8,
    /// The general status; 0 is good.
    pub status: u8,
    /// The additional status, two bytes each.
    pub additional: &'a [u8],
    /// What the service gives.
    pub data: &'a [u8],
}

impl<'a> Reply<'a> {
    /// Reads all of a message. The byte behind the service is not looked at.
    ///
    /// # Errors
    /// It is no reply, or cut.
    pub fn parse(message: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new("CIP reply", message);
        let service = reader.u8_in("service", REPLY, u8::MAX)? & !REPLY;
        reader.u8("reserved byte")?;
        let status = reader.u8("general status")?;
        let words = reader.u8("size of additional status")?;
        let additional = reader.bytes("additional status", usize::from(words) * 2)?;
        Ok(Self { service, status, additional, data: reader.rest() })
    }

    /// A good one.
    #[must_use]
    pub const fn good(service: u8, data: &'a [u8]) -> Self {
        Self { service, status: 0, additional: &[], data }
    }

    /// A refusal without additional status.
    #[must_use]
    pub const fn refusal(service: u8, status: u8) -> Self {
        Self { service, status, additional: &[], data: &[] }
    }

    /// The first word of the additional status.
    #[must_use]
    pub fn word(&self) -> Option<u16> {
        self.additional.first_chunk().map(|word| u16::from_le_bytes(*word))
    }

    /// Appends it.
    pub fn emit(&self, out: &mut Vec<u8>) {
        emit_reply_head(out, self.service, self.status, self.additional);
        out.extend_from_slice(self.data);
    }
}

/// Appends a reply's head; its data come behind it.
pub fn emit_reply_head(out: &mut Vec<u8>, service: u8, status: u8, additional: &[u8]) {
    let words = u8::try_from(additional.len() / 2).unwrap_or(u8::MAX);
    out.extend_from_slice(&[service | REPLY, 0, status, words]);
    out.extend_from_slice(additional);
}

/// The general status by which a request is refused that cannot be read.
#[must_use]
pub fn status_of(error: &WireError) -> u8 {
    match (error.layer, error.fault) {
        ("EPATH", _) => status::PATH_SEGMENT_ERROR,
        (LAYER, WireFault::Range { .. }) => status::SERVICE_NOT_SUPPORTED,
        ("PCCC", WireFault::Range { .. }) => status::INVALID_PARAMETER,
        (_, WireFault::Trailing { .. }) => status::TOO_MUCH_DATA,
        (_, WireFault::Short { .. }) => status::NOT_ENOUGH_DATA,
        (super::packet::LAYER, _) => status::NOT_ENOUGH_DATA,
        _ => status::INVALID_ATTRIBUTE_VALUE,
    }
}
