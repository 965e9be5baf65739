//! Frames on the link's TCP stream: twelve bytes of header, then as many as its length says.
//!
//! ```text
//! magic "H1" 2  version 1  kind 1  operation 2  invoke id 2  length 4  payload
//! ```

use crate::{Reader, WireError, WireFault};

const LAYER: &str = "H1 link header";
/// Bytes of a header.
pub const HEADER: usize = 12;
/// The longest payload.
pub const PAYLOAD_MAX: u32 = 8192;
/// The only version there is.
pub const VERSION: u8 = 1;
const MAGIC: u16 = 0x4831;

/// What a frame is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A client asks.
    Request,
    /// The link answers.
    Response,
    /// The link refuses.
    Error,
    /// The link says something that nobody asked for.
    Publication,
}

impl Kind {
    const fn of(byte: u8) -> Option<Self> {
        Some(match byte {
            0 => Self::Request,
            1 => Self::Response,
            2 => Self::Error,
            3 => Self::Publication,
            _ => return None,
        })
    }

    const fn byte(self) -> u8 {
        match self {
            Self::Request => 0,
            Self::Response => 1,
            Self::Error => 2,
            Self::Publication => 3,
        }
    }
}

/// What is asked for.
pub mod op {
    /// Who is there; before all others.
    pub const HELLO: u16 = 0x01;
    /// Which devices answer on the segment.
    pub const LIVE_LIST: u16 = 0x02;
    /// What a device is.
    pub const IDENTIFY: u16 = 0x03;
    /// Where a tag is.
    pub const FIND_TAG: u16 = 0x04;
    /// Which blocks a device has.
    pub const BLOCKS: u16 = 0x05;
    /// How the segment is set.
    pub const LINK: u16 = 0x06;
    /// A value.
    pub const READ: u16 = 0x10;
    /// Take a value.
    pub const WRITE: u16 = 0x11;
    /// Let a value come by itself.
    pub const SUBSCRIBE: u16 = 0x20;
    /// No more.
    pub const UNSUBSCRIBE: u16 = 0x21;
    /// A value that comes by itself.
    pub const DATA: u16 = 0x22;
    /// A device came or went.
    pub const LIVE_CHANGE: u16 = 0x23;
    /// Nothing; answered with nothing.
    pub const PING: u16 = 0x7F;

    /// What it is called in outputs; `None` where there is no such operation.
    #[must_use]
    pub const fn name(code: u16) -> Option<&'static str> {
        Some(match code {
            HELLO => "hello",
            LIVE_LIST => "live list",
            IDENTIFY => "identify",
            FIND_TAG => "find tag",
            BLOCKS => "blocks",
            LINK => "link state",
            READ => "read",
            WRITE => "write",
            SUBSCRIBE => "subscribe",
            UNSUBSCRIBE => "unsubscribe",
            DATA => "publication",
            LIVE_CHANGE => "live change",
            PING => "ping",
            _ => return None,
        })
    }
}

/// One frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Frame<'a> {
    /// What it is.
    pub kind: Kind,
    /// One of [`op`], or one that does not exist: that is answered.
    pub op: u16,
    /// The client's number of the question, which comes back with the answer; 0 in publications.
    pub invoke: u16,
    /// What the operation carries.
    pub payload: &'a [u8],
}

/// Cuts the first frame out of a stream: the frame and how many bytes it took, or `None` while more are needed.
///
/// # Errors
/// Magic, version, kind or length are none of this protocol's: the stream is closed. Another version is told before.
pub fn parse(bytes: &[u8]) -> Result<Option<(Frame<'_>, usize)>, WireError> {
    let mut r = Reader::new(LAYER, bytes);
    // What is wrong in the first bytes is said before the others are there.
    if bytes.len() >= 2 {
        r.choice("magic", "0x4831 (`H1`)", |magic| (magic == MAGIC).then_some(()))?;
    }
    if bytes.len() >= 3 {
        r.u8_in("version", VERSION, VERSION)?;
    }
    let kind = match bytes.len() {
        0..4 => return Ok(None),
        _ => Kind::of(r.u8_in("kind", 0, 3)?),
    };
    if bytes.len() < HEADER {
        return Ok(None);
    }
    let (op, invoke) = (r.u16("operation")?, r.u16("invoke id")?);
    let length = r.u32_le("length")?.swap_bytes();
    if length > PAYLOAD_MAX {
        let fault = WireFault::Range { field: "length", got: length, low: 0, high: PAYLOAD_MAX };
        return Err(WireError { layer: LAYER, at: 8, fault });
    }
    let end = HEADER + length as usize;
    let (Some(payload), Some(kind)) = (bytes.get(HEADER..end), kind) else { return Ok(None) };
    Ok(Some((Frame { kind, op, invoke, payload }, end)))
}

/// Whether a stream broke because it is of another version of this protocol.
#[must_use]
pub fn is_other_version(error: &WireError) -> bool {
    error.layer == LAYER && error.at == 2
}

/// Appends a frame whose payload, of at most [`PAYLOAD_MAX`] bytes, is appended by `payload`.
pub fn emit_with(kind: Kind, op: u16, invoke: u16, out: &mut Vec<u8>, payload: impl FnOnce(&mut Vec<u8>)) {
    let begin = out.len();
    out.extend_from_slice(&MAGIC.to_be_bytes());
    out.extend_from_slice(&[VERSION, kind.byte()]);
    out.extend_from_slice(&op.to_be_bytes());
    out.extend_from_slice(&invoke.to_be_bytes());
    out.extend_from_slice(&[0; 4]);
    payload(out);
    let length = u32::try_from(out.len() - begin - HEADER).unwrap_or(u32::MAX);
    if let Some(field) = out.get_mut(begin + 8..begin + HEADER) {
        field.copy_from_slice(&length.to_be_bytes());
    }
}
