//! Frames of connections that run: bytes of an assembly, sent again and again over UDP (transport class 1).
//!
//! ```text
//! count 2 (2)   8002  8 { connection id 4  frame number 4 }   00B1  length { sequence 2  [header 4]  data }
//! ```
//!
//! Whether the header of four bytes is there belongs to the connection and not to the frame: what a scanner sends to
//! an adapter that it owns has it, nothing else does. A frame that is refused is dropped, and does not restart the
//! watchdog of its connection.

use super::cpf::{emit_item, item};
use super::epath::{Key, Logical, Path, Segment};
use crate::{Reader, WireError, WireFault};
use std::net::{Ipv4Addr, SocketAddrV4};

const LAYER: &str = "cyclic frame";
/// The UDP port of frames, unless the opening says another.
pub const PORT: u16 = 2222;
/// Bytes of the sequence count, which count towards the size of a connection.
pub const SEQUENCE_BYTES: u16 = 2;
/// Bytes of the header with the run bit, which count too.
pub const HEADER_BYTES: u16 = 4;
/// Bytes of a frame around what counts towards the size of its connection.
pub const OVERHEAD: usize = 2 + 4 + 8 + 4;

/// A frame as it came: whose it is is found out by its connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CyclicFrame<'a> {
    /// The id of the connection, which its receiver chose.
    pub connection: u32,
    /// Counts the frames of the connection in one direction; wraps.
    pub number: u32,
    /// The sequence count and what follows it.
    pub body: &'a [u8],
}

impl<'a> CyclicFrame<'a> {
    /// Reads a datagram.
    ///
    /// # Errors
    /// It is cut, goes on, or has other items than a sequenced address and connected data.
    pub fn parse(datagram: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, datagram);
        let count = reader.u16_le("item count")?;
        if count != 2 {
            return reader
                .fault(0, WireFault::Range { field: "item count", got: count.into(), low: 2, high: 2 });
        }
        kind(&mut reader, item::SEQUENCED_ADDRESS, "0x8002, a sequenced address")?;
        let at = reader.at;
        let length = reader.u16_le("item length")?;
        if length != 8 {
            return reader
                .fault(at, WireFault::Range { field: "item length", got: length.into(), low: 8, high: 8 });
        }
        let connection = reader.u32_le("connection id")?;
        let number = reader.u32_le("frame number")?;
        kind(&mut reader, item::CONNECTED_DATA, "0x00B1, connected data")?;
        let length = reader.u16_le("item length")?;
        let body = reader.bytes("data", length.into())?;
        reader.end()?;
        Ok(Self { connection, number, body })
    }

    /// Appends the datagram.
    pub fn emit(&self, out: &mut Vec<u8>) {
        let body = |out: &mut Vec<u8>| out.extend_from_slice(self.body);
        Self::emit_with(out, self.connection, self.number, body);
    }

    /// Appends the datagram with a body that is appended by `body`.
    pub fn emit_with(out: &mut Vec<u8>, connection: u32, number: u32, body: impl FnOnce(&mut Vec<u8>)) {
        out.extend_from_slice(&2u16.to_le_bytes());
        emit_item(out, item::SEQUENCED_ADDRESS, |out| {
            out.extend_from_slice(&connection.to_le_bytes());
            out.extend_from_slice(&number.to_le_bytes());
        });
        emit_item(out, item::CONNECTED_DATA, body);
    }

    /// Whether a frame of this number is later than the last one that was taken: repeats and older ones are not.
    #[must_use]
    pub const fn is_later(last: u32, number: u32) -> bool {
        matches!(number.wrapping_sub(last), 1..=0x7FFF_FFFF)
    }
}

fn kind(reader: &mut Reader<'_>, wanted: u16, allowed: &'static str) -> Result<(), WireError> {
    let at = reader.at;
    match reader.u16_le("item type")? {
        got if got == wanted => Ok(()),
        got => reader.fault(at, WireFault::Choice { field: "item type", got, allowed }),
    }
}

/// What a frame carries, once its connection says how.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CyclicData<'a> {
    /// Another number than in the frame before says that the data are new; wraps.
    pub sequence: u16,
    /// The header: bit 0 says run (1) or idle (0); bits 1 to 3 belong to redundant owners, the others are 0. `None` where
    /// the connection has none.
    pub header: Option<u32>,
    /// The bytes of the assembly.
    pub data: &'a [u8],
}

impl<'a> CyclicData<'a> {
    /// Reads the body of a frame of a fixed size, sequence count and header with it.
    ///
    /// # Errors
    /// It has another size than the connection.
    pub fn parse(body: &'a [u8], size: u16, has_header: bool) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, body);
        if body.len() != usize::from(size) {
            let got = u32::try_from(body.len()).unwrap_or(u32::MAX);
            let (low, high) = (size.into(), size.into());
            return reader.fault(0, WireFault::Range { field: "data length", got, low, high });
        }
        let sequence = reader.u16_le("sequence count")?;
        let header = if has_header { Some(reader.u32_le("run/idle header")?) } else { None };
        Ok(Self { sequence, header, data: reader.rest() })
    }

    /// Whether the sender is in run: without a header it is.
    #[must_use]
    pub const fn runs(&self) -> bool {
        match self.header {
            Some(header) => header & 1 == 1,
            None => true,
        }
    }

    /// Appends the body.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.sequence.to_le_bytes());
        if let Some(header) = self.header {
            out.extend_from_slice(&header.to_le_bytes());
        }
        out.extend_from_slice(self.data);
    }
}

/// What a connection that runs is opened to: `20 04 24 CFG 2C OUT 2C IN`, with a key before it and data for the
/// configuration behind it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Points<'a> {
    /// Whom it is meant for.
    pub key: Option<Key>,
    /// The assembly that takes the configuration.
    pub configuration: Option<u32>,
    /// The assembly that takes what goes to the target, or a heartbeat.
    pub to_target: u32,
    /// The assembly that gives what goes to the originator.
    pub to_originator: u32,
    /// Configuration, whole words.
    pub data: &'a [u8],
    /// At most so often something is sent on change, in microseconds; 0 where nothing is said.
    pub inhibit_us: u32,
}

/// The class of assemblies.
const ASSEMBLY: u32 = 4;

impl<'a> Points<'a> {
    /// Reads a connection path; `None` where it leads to something else than assemblies.
    #[must_use]
    pub fn of(path: &Path<'a>) -> Option<Self> {
        let mut own = Self::default();
        let mut points = [None; 2];
        let mut class = None;
        for segment in path.segments() {
            match segment {
                Segment::Key(key) if class.is_none() && own.key.is_none() => own.key = Some(key),
                Segment::Number { kind: Logical::Class, value, .. } if class.is_none() => class = Some(value),
                Segment::Number { kind: Logical::Instance, value, .. }
                    if own.configuration.is_none() && points == [None; 2] =>
                {
                    own.configuration = Some(value);
                }
                Segment::Number { kind: Logical::Point, value, .. } => {
                    *points.iter_mut().find(|point| point.is_none())? = Some(value);
                }
                Segment::InhibitMs(time) => own.inhibit_us = u32::from(time) * 1000,
                Segment::InhibitUs(time) => own.inhibit_us = time,
                Segment::Data(data) if own.data.is_empty() => own.data = data,
                _ => return None,
            }
        }
        let [Some(to_target), Some(to_originator)] = points else { return None };
        (class == Some(ASSEMBLY)).then_some(Self { to_target, to_originator, ..own })
    }

    /// Appends the path.
    pub fn emit(&self, out: &mut Vec<u8>) {
        if let Some(key) = self.key {
            Segment::Key(key).emit(out);
        }
        Segment::number(Logical::Class, ASSEMBLY).emit(out);
        if let Some(configuration) = self.configuration {
            Segment::number(Logical::Instance, configuration).emit(out);
        }
        for point in [self.to_target, self.to_originator] {
            Segment::number(Logical::Point, point).emit(out);
        }
        if self.inhibit_us > 0 {
            Segment::InhibitUs(self.inhibit_us).emit(out);
        }
        if !self.data.is_empty() {
            Segment::Data(self.data).emit(out);
        }
    }
}

/// The address of a socket in an item of its own, whose fields are big-endian.
///
/// ```text
/// family 2 (2)  port 2  address 4  zero 8
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SocketItem(pub SocketAddrV4);

impl SocketItem {
    /// Reads the data of the item.
    ///
    /// # Errors
    /// They are cut or go on, or of another family than IPv4. The eight bytes behind the address mean nothing.
    pub fn of(data: &[u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new("socket address", data);
        let family = reader.u16("address family")?;
        if family != 2 {
            let range = WireFault::Range { field: "address family", got: family.into(), low: 2, high: 2 };
            return reader.fault(0, range);
        }
        let port = reader.u16("port")?;
        let address = u32::from(reader.u16("address")?) << 16 | u32::from(reader.u16("address")?);
        reader.bytes("zero", 8)?;
        reader.end()?;
        Ok(Self(SocketAddrV4::new(Ipv4Addr::from(address), port)))
    }

    /// Appends the item: to the target, or to the originator.
    pub fn emit(&self, out: &mut Vec<u8>, to_target: bool) {
        let kind = if to_target { item::SOCKET_TO_TARGET } else { item::SOCKET_TO_ORIGINATOR };
        emit_item(out, kind, |out| {
            out.extend_from_slice(&[0, 2]);
            out.extend_from_slice(&self.0.port().to_be_bytes());
            out.extend_from_slice(&self.0.ip().octets());
            out.extend_from_slice(&[0; 8]);
        });
    }
}
