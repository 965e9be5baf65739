//! What a client asks the link.

use super::frame::op;
use super::{Object, Typed, emit_text, text, u32_be};
use crate::{Reader, WireError, WireFault};

const LAYER: &str = "H1 link request";
/// The static revision of a write that is taken whatever it is now.
pub const ANY_REVISION: u16 = 0xFFFF;

/// A request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Request<'a> {
    /// Who is there; before all others.
    Hello {
        /// Of the protocol.
        version: u16,
        /// The client's name.
        client: &'a str,
    },
    /// Which devices answer on the segment.
    LiveList,
    /// What the device at this node is.
    Identify(u8),
    /// Where a tag is.
    FindTag(&'a str),
    /// Which blocks the device at this node has.
    Blocks(u8),
    /// How the segment is set.
    Link,
    /// A value.
    Read(Object),
    /// Take a value.
    Write {
        /// Where.
        at: Object,
        /// The static revision of the block that it was meant for, or [`ANY_REVISION`].
        revision: u16,
        /// What.
        value: Typed<'a>,
    },
    /// Let a value come by itself.
    Subscribe {
        /// The client's number of it.
        id: u16,
        /// What.
        at: Object,
        /// How often, in milliseconds; 0 for each macrocycle.
        period_ms: u32,
        /// So many missing in a row make it stale.
        stale: u8,
    },
    /// No more.
    Unsubscribe(u16),
    /// Nothing.
    Ping,
}

impl<'a> Request<'a> {
    /// Reads what an operation carries; `None` where there is no such operation for a client.
    ///
    /// # Errors
    /// The payload is not that operation's.
    pub fn parse(code: u16, payload: &'a [u8]) -> Result<Option<Self>, WireError> {
        let mut r = Reader::new(LAYER, payload);
        let request = match code {
            op::HELLO => {
                Self::Hello { version: r.u16("version")?, client: text(&mut r, LAYER, "client name")? }
            }
            op::LIVE_LIST => Self::LiveList,
            op::IDENTIFY => Self::Identify(r.u8("node")?),
            op::FIND_TAG => Self::FindTag(text(&mut r, LAYER, "tag")?),
            op::BLOCKS => Self::Blocks(r.u8("node")?),
            op::LINK => Self::Link,
            op::READ => Self::Read(Object::parse(&mut r)?),
            op::WRITE => {
                let at = Object::parse(&mut r)?;
                let revision = r.u16("ST_REV")?;
                let value = Typed::parse(&mut r)?;
                if !value.is_sized() {
                    let fault =
                        WireFault::Range { field: "value length", got: len(value.data), low: 1, high: 62 };
                    return Err(WireError { layer: LAYER, at: 7, fault });
                }
                Self::Write { at, revision, value }
            }
            op::SUBSCRIBE => Self::Subscribe {
                id: r.u16("id")?,
                at: Object::parse(&mut r)?,
                period_ms: u32_be(&mut r, "period")?,
                stale: r.u8("stale")?,
            },
            op::UNSUBSCRIBE => Self::Unsubscribe(r.u16("id")?),
            op::PING => Self::Ping,
            _ => return Ok(None),
        };
        r.end().map(|()| Some(request))
    }

    /// Its operation.
    #[must_use]
    pub const fn op(&self) -> u16 {
        match self {
            Self::Hello { .. } => op::HELLO,
            Self::LiveList => op::LIVE_LIST,
            Self::Identify(_) => op::IDENTIFY,
            Self::FindTag(_) => op::FIND_TAG,
            Self::Blocks(_) => op::BLOCKS,
            Self::Link => op::LINK,
            Self::Read(_) => op::READ,
            Self::Write { .. } => op::WRITE,
            Self::Subscribe { .. } => op::SUBSCRIBE,
            Self::Unsubscribe(_) => op::UNSUBSCRIBE,
            Self::Ping => op::PING,
        }
    }

    /// Appends what its operation carries.
    pub fn emit(&self, out: &mut Vec<u8>) {
        match self {
            Self::Hello { version, client } => {
                out.extend_from_slice(&version.to_be_bytes());
                emit_text(client, out);
            }
            Self::LiveList | Self::Link | Self::Ping => {}
            Self::Identify(node) | Self::Blocks(node) => out.push(*node),
            Self::FindTag(tag) => emit_text(tag, out),
            Self::Read(at) => at.emit(out),
            Self::Write { at, revision, value } => {
                at.emit(out);
                out.extend_from_slice(&revision.to_be_bytes());
                value.emit(out);
            }
            Self::Subscribe { id, at, period_ms, stale } => {
                out.extend_from_slice(&id.to_be_bytes());
                at.emit(out);
                out.extend_from_slice(&period_ms.to_be_bytes());
                out.push(*stale);
            }
            Self::Unsubscribe(id) => out.extend_from_slice(&id.to_be_bytes()),
        }
    }
}

fn len(data: &[u8]) -> u32 {
    u32::try_from(data.len()).unwrap_or(u32::MAX)
}
