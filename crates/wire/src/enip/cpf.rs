//! The common packet format: a count, then items of a type, a length and data each.
//!
//! ```text
//! interface handle 4 (0)  timeout 2  count 2  { type 2  length 2  data } …
//! ```

use crate::{Reader, WireError, WireFault};

const LAYER: &str = "common packet format";

/// What an item is.
pub mod item {
    /// No address: a message outside connections follows.
    pub const NULL: u16 = 0x0000;
    /// Who this is.
    pub const IDENTITY: u16 = 0x000C;
    /// The connection that the message belongs to.
    pub const CONNECTED_ADDRESS: u16 = 0x00A1;
    /// A sequence count and a message of a connection.
    pub const CONNECTED_DATA: u16 = 0x00B1;
    /// A message outside connections.
    pub const UNCONNECTED_DATA: u16 = 0x00B2;
    /// Which services there are.
    pub const SERVICES: u16 = 0x0100;
    /// Where the target takes the frames of a connection.
    pub const SOCKET_TO_TARGET: u16 = 0x8000;
    /// Where the originator takes them.
    pub const SOCKET_TO_ORIGINATOR: u16 = 0x8001;
    /// The connection that a frame belongs to, and its number.
    pub const SEQUENCED_ADDRESS: u16 = 0x8002;
}

/// Items in a row; each is refused where it is cut.
#[derive(Debug, Clone)]
pub struct Items<'a> {
    reader: Reader<'a>,
    left: u16,
}

impl<'a> Items<'a> {
    /// Of data that begin with the count.
    ///
    /// # Errors
    /// The count is not there.
    pub fn new(data: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, data);
        let left = reader.u16_le("item count")?;
        Ok(Self { reader, left })
    }

    /// The next one's type and data; `None` behind the last.
    ///
    /// # Errors
    /// It is cut.
    pub fn next_item(&mut self) -> Result<Option<(u16, &'a [u8])>, WireError> {
        let Some(left) = self.left.checked_sub(1) else { return Ok(None) };
        self.left = left;
        let kind = self.reader.u16_le("item type")?;
        let length = self.reader.u16_le("item length")?;
        Ok(Some((kind, self.reader.bytes("item", length.into())?)))
    }
}

/// Items behind the two that matter, such as socket addresses: as they are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Extras<'a> {
    /// How many.
    pub count: u16,
    /// All of them.
    pub bytes: &'a [u8],
}

/// The data of SendRRData.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Unconnected<'a> {
    /// In seconds; 0 leaves it to the message.
    pub timeout: u16,
    /// A request or reply of the message router.
    pub message: &'a [u8],
    /// What else there is.
    pub extras: Extras<'a>,
}

/// The data of SendUnitData.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Connected<'a> {
    /// Means nothing here.
    pub timeout: u16,
    /// The receiver's id of the connection.
    pub connection: u32,
    /// The same in a request and its reply.
    pub sequence: u16,
    /// A request or reply of the message router.
    pub message: &'a [u8],
    /// What else there is.
    pub extras: Extras<'a>,
}

/// Interface, timeout and count; the reader behind them, at the first item.
fn begin(data: &[u8]) -> Result<(Reader<'_>, u16, u16), WireError> {
    let mut reader = Reader::new(LAYER, data);
    let interface = reader.u32_le("interface handle")?;
    if interface != 0 {
        return reader
            .fault(0, WireFault::Range { field: "interface handle", got: interface, low: 0, high: 0 });
    }
    let timeout = reader.u16_le("timeout")?;
    let at = reader.at;
    let count = reader.u16_le("item count")?;
    if count < 2 {
        let (low, high) = (2, u16::MAX.into());
        return reader.fault(at, WireFault::Range { field: "item count", got: count.into(), low, high });
    }
    Ok((reader, timeout, count - 2))
}

fn wanted<'a>(reader: &mut Reader<'a>, kind: u16, allowed: &'static str) -> Result<&'a [u8], WireError> {
    let at = reader.at;
    let got = reader.u16_le("item type")?;
    if got != kind {
        return reader.fault(at, WireFault::Choice { field: "item type", got, allowed });
    }
    let length = reader.u16_le("item length")?;
    reader.bytes("item", length.into())
}

fn extras<'a>(mut reader: Reader<'a>, count: u16) -> Result<Extras<'a>, WireError> {
    let bytes = reader.clone().rest();
    for _ in 0..count {
        reader.u16_le("item type")?;
        let length = reader.u16_le("item length")?;
        reader.bytes("item", length.into())?;
    }
    reader.end()?;
    Ok(Extras { count, bytes })
}

fn emit_head(out: &mut Vec<u8>, timeout: u16, extras: Extras<'_>) {
    out.extend_from_slice(&[0; 4]);
    out.extend_from_slice(&timeout.to_le_bytes());
    out.extend_from_slice(&(extras.count + 2).to_le_bytes());
}

/// Appends an item whose data are appended by `data`.
pub fn emit_item(out: &mut Vec<u8>, kind: u16, data: impl FnOnce(&mut Vec<u8>)) {
    out.extend_from_slice(&kind.to_le_bytes());
    let at = out.len();
    out.extend_from_slice(&[0, 0]);
    data(out);
    let length = u16::try_from(out.len() - at - 2).unwrap_or(u16::MAX);
    if let Some(field) = out.get_mut(at..at + 2) {
        field.copy_from_slice(&length.to_le_bytes());
    }
}

impl<'a> Unconnected<'a> {
    /// Reads the data of SendRRData.
    ///
    /// # Errors
    /// They are not a null address and unconnected data: encapsulation status 3.
    pub fn parse(data: &'a [u8]) -> Result<Self, WireError> {
        let (mut reader, timeout, more) = begin(data)?;
        let at = reader.at;
        let address = wanted(&mut reader, item::NULL, "0x0000, a null address")?;
        if !address.is_empty() {
            return reader.fault(at + 4, WireFault::Trailing { extra: address.len() });
        }
        let message = wanted(&mut reader, item::UNCONNECTED_DATA, "0x00B2, unconnected data")?;
        Ok(Self { timeout, message, extras: extras(reader, more)? })
    }

    /// Appends the data.
    pub fn emit(&self, out: &mut Vec<u8>) {
        emit_head(out, self.timeout, self.extras);
        emit_item(out, item::NULL, |_| {});
        emit_item(out, item::UNCONNECTED_DATA, |out| out.extend_from_slice(self.message));
        out.extend_from_slice(self.extras.bytes);
    }

    /// Appends the data with a message that is appended by `message`.
    pub fn emit_with(out: &mut Vec<u8>, message: impl FnOnce(&mut Vec<u8>)) {
        emit_head(out, 0, Extras::default());
        emit_item(out, item::NULL, |_| {});
        emit_item(out, item::UNCONNECTED_DATA, message);
    }
}

impl<'a> Connected<'a> {
    /// Reads the data of SendUnitData.
    ///
    /// # Errors
    /// They are not a connected address and connected data: encapsulation status 3.
    pub fn parse(data: &'a [u8]) -> Result<Self, WireError> {
        let (mut reader, timeout, more) = begin(data)?;
        let at = reader.at;
        let address = wanted(&mut reader, item::CONNECTED_ADDRESS, "0x00A1, a connected address")?;
        let mut address_reader = Reader::new(LAYER, address);
        let moved = |error: WireError| WireError { at: error.at + at + 4, ..error };
        let connection = address_reader.u32_le("connection id").map_err(moved)?;
        address_reader.end().map_err(moved)?;
        let at = reader.at;
        let payload = wanted(&mut reader, item::CONNECTED_DATA, "0x00B1, connected data")?;
        let mut payload = Reader::new(LAYER, payload);
        let sequence =
            payload.u16_le("sequence count").map_err(|error| WireError { at: error.at + at + 4, ..error })?;
        let message = payload.rest();
        Ok(Self { timeout, connection, sequence, message, extras: extras(reader, more)? })
    }

    /// Appends the data.
    pub fn emit(&self, out: &mut Vec<u8>) {
        emit_head(out, self.timeout, self.extras);
        emit_item(out, item::CONNECTED_ADDRESS, |out| out.extend_from_slice(&self.connection.to_le_bytes()));
        emit_item(out, item::CONNECTED_DATA, |out| {
            out.extend_from_slice(&self.sequence.to_le_bytes());
            out.extend_from_slice(self.message);
        });
        out.extend_from_slice(self.extras.bytes);
    }

    /// Appends the data with a message that is appended by `message`.
    pub fn emit_with(out: &mut Vec<u8>, connection: u32, sequence: u16, message: impl FnOnce(&mut Vec<u8>)) {
        emit_head(out, 0, Extras::default());
        emit_item(out, item::CONNECTED_ADDRESS, |out| out.extend_from_slice(&connection.to_le_bytes()));
        emit_item(out, item::CONNECTED_DATA, |out| {
            out.extend_from_slice(&sequence.to_le_bytes());
            message(out);
        });
    }
}
