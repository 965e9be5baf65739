//! What the link answers, how it refuses, and what it says by itself.

use super::frame::op;
use super::{Object, Typed, emit_text, text, u32_be};
use crate::{Reader, WireError};

const LAYER: &str = "H1 link response";

/// Flags of a device in the live list.
pub mod live {
    /// It answers.
    pub const LIVE: u8 = 0x01;
    /// It can become the link active scheduler.
    pub const LINK_MASTER: u8 = 0x02;
    /// It is the link active scheduler.
    pub const SCHEDULER: u8 = 0x04;
    /// It has a default address: it is seen and does not work.
    pub const DEFAULT_ADDRESS: u8 = 0x08;
    /// A host that is there for a while.
    pub const VISITOR: u8 = 0x10;
}

/// Classes and codes of refusals, as pairs.
pub mod error {
    /// The parameter has no such member.
    pub const BAD_SUB_INDEX: (u8, u8) = (6, 1);
    /// Not allowed, by access, mode or write lock.
    pub const DENIED: (u8, u8) = (6, 3);
    /// There is no such object.
    pub const NO_OBJECT: (u8, u8) = (6, 7);
    /// The value is of another type.
    pub const TYPE_CONFLICT: (u8, u8) = (6, 8);
    /// The block was changed since: the detail is its static revision now.
    pub const REVISION_CHANGED: (u8, u8) = (6, 16);
    /// The block does not permit that mode.
    pub const MODE_NOT_PERMITTED: (u8, u8) = (6, 17);
    /// The value is out of range.
    pub const OUT_OF_RANGE: (u8, u8) = (6, 18);
    /// No such node answers on the segment.
    pub const NO_NODE: (u8, u8) = (8, 1);
    /// There is no such operation.
    pub const UNKNOWN_OPERATION: (u8, u8) = (9, 1);
    /// The payload is malformed.
    pub const MALFORMED: (u8, u8) = (9, 2);
    /// A hello comes first.
    pub const HELLO_FIRST: (u8, u8) = (9, 3);
    /// More is open at once than the link takes.
    pub const TOO_MANY: (u8, u8) = (4, 1);
    /// Another version of the protocol.
    pub const VERSION: (u8, u8) = (9, 4);

    /// What it says, in words; `None` where it is not known.
    #[must_use]
    pub const fn words(class: u8, code: u8) -> Option<&'static str> {
        Some(match (class, code) {
            BAD_SUB_INDEX => "the parameter has no such member",
            DENIED => "access or mode denied",
            NO_OBJECT => "no such object",
            TYPE_CONFLICT => "type conflict",
            REVISION_CHANGED => "the static revision has changed",
            MODE_NOT_PERMITTED => "mode not permitted",
            OUT_OF_RANGE => "value out of range",
            NO_NODE => "no such node",
            UNKNOWN_OPERATION => "unknown operation",
            MALFORMED => "malformed payload",
            HELLO_FIRST => "hello comes first",
            TOO_MANY => "too many open at once",
            VERSION => "another version",
            _ => return None,
        })
    }
}

/// How the link refuses.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LinkError<'a> {
    /// Which kind: 4 resource, 6 access, 8 other, 9 reject.
    pub class: u8,
    /// Which of them.
    pub code: u8,
    /// More of it: the static revision now, where that has changed.
    pub detail: u16,
    /// In words.
    pub text: &'a str,
}

impl<'a> LinkError<'a> {
    /// Reads it, whatever operation it is for.
    ///
    /// # Errors
    /// It is cut, or goes on.
    pub fn parse(payload: &'a [u8]) -> Result<Self, WireError> {
        let mut r = Reader::new("H1 link error", payload);
        let error = Self {
            class: r.u8("class")?,
            code: r.u8("code")?,
            detail: r.u16("detail")?,
            text: text(&mut r, "H1 link error", "text")?,
        };
        r.end().map(|()| error)
    }

    /// Appends it.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&[self.class, self.code]);
        out.extend_from_slice(&self.detail.to_be_bytes());
        emit_text(self.text, out);
    }
}

/// A device in the live list.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LiveEntry<'a> {
    /// Its node address.
    pub node: u8,
    /// Of [`live`].
    pub flags: u8,
    /// Its tag; empty where it has none.
    pub tag: &'a str,
    /// What never changes of it.
    pub device_id: &'a str,
}

/// What a device is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Identity<'a> {
    /// Its node address.
    pub node: u8,
    /// Its tag.
    pub tag: &'a str,
    /// What never changes of it.
    pub device_id: &'a str,
    /// Its maker's number.
    pub manufacturer: u32,
    /// Its type, of that maker.
    pub device_type: u16,
    /// The revision of that type: indices hold for one.
    pub revision: u8,
    /// The revision of its description.
    pub dd_revision: u8,
}

/// A block of a device.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BlockEntry<'a> {
    /// Index of its block object.
    pub start: u16,
    /// Its kind, by numbers of our own.
    pub kind: u16,
    /// How many parameters it has.
    pub parameters: u16,
    /// Its tag.
    pub tag: &'a str,
}

/// How the segment is set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LinkState {
    /// 1 active: there is a scheduler.
    pub state: u8,
    /// The scheduler's node; 0 where there is none.
    pub scheduler: u8,
    /// The first node that is never polled.
    pub first_unpolled: u8,
    /// How many there are.
    pub unpolled: u8,
    /// The macrocycle, in milliseconds.
    pub macrocycle_ms: u32,
    /// Of the live list.
    pub version: u32,
}

/// A response.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Response<'a> {
    /// Who is there.
    Hello {
        /// Of the protocol.
        version: u16,
        /// The longest payload that it takes.
        payload_max: u32,
        /// Subscriptions that it keeps for one client.
        subscriptions_max: u16,
        /// The server's name.
        server: &'a str,
        /// The link's name.
        link: &'a str,
    },
    /// Which devices answer.
    LiveList {
        /// Counts changes.
        version: u32,
        /// All of them.
        entries: Vec<LiveEntry<'a>>,
    },
    /// What a device is.
    Identify(Identity<'a>),
    /// Where a tag is.
    FindTag {
        /// 1 a device, 2 a block.
        kind: u8,
        /// Its node.
        node: u8,
        /// Index of its object; 0 of a device.
        index: u16,
    },
    /// Which blocks a device has.
    Blocks {
        /// The device's node.
        node: u8,
        /// All of them.
        blocks: Vec<BlockEntry<'a>>,
    },
    /// How the segment is set.
    Link(LinkState),
    /// A value.
    Read {
        /// Of what.
        at: Object,
        /// Which.
        value: Typed<'a>,
    },
    /// A value was taken.
    Write {
        /// Of what.
        at: Object,
        /// The block's static revision now.
        revision: u16,
    },
    /// A value comes by itself.
    Subscribe {
        /// The client's number.
        id: u16,
        /// How often, in milliseconds.
        granted_ms: u32,
    },
    /// It comes no more.
    Unsubscribe(u16),
    /// Nothing.
    Ping,
}

impl<'a> Response<'a> {
    /// Reads what the response to an operation carries; `None` where there is none to it.
    ///
    /// # Errors
    /// The payload is not that operation's.
    pub fn parse(code: u16, payload: &'a [u8]) -> Result<Option<Self>, WireError> {
        let mut r = Reader::new(LAYER, payload);
        let r = &mut r;
        let response = match code {
            op::HELLO => Self::Hello {
                version: r.u16("version")?,
                payload_max: u32_be(r, "max payload")?,
                subscriptions_max: r.u16("max subscriptions")?,
                server: text(r, LAYER, "server name")?,
                link: text(r, LAYER, "link name")?,
            },
            op::LIVE_LIST => {
                let version = u32_be(r, "list version")?;
                let count = r.u8("count")?;
                let mut entry = || {
                    Ok(LiveEntry {
                        node: r.u8("node")?,
                        flags: r.u8("flags")?,
                        tag: text(r, LAYER, "tag")?,
                        device_id: text(r, LAYER, "device id")?,
                    })
                };
                let entries = (0..count).map(|_| entry()).collect::<Result<_, WireError>>()?;
                Self::LiveList { version, entries }
            }
            op::IDENTIFY => Self::Identify(Identity {
                node: r.u8("node")?,
                tag: text(r, LAYER, "tag")?,
                device_id: text(r, LAYER, "device id")?,
                manufacturer: u32_be(r, "manufacturer")?,
                device_type: r.u16("device type")?,
                revision: r.u8("device revision")?,
                dd_revision: r.u8("DD revision")?,
            }),
            op::FIND_TAG => {
                Self::FindTag { kind: r.u8_in("kind", 1, 2)?, node: r.u8("node")?, index: r.u16("index")? }
            }
            op::BLOCKS => {
                let (node, count) = (r.u8("node")?, r.u8("count")?);
                let mut entry = || {
                    Ok(BlockEntry {
                        start: r.u16("start index")?,
                        kind: r.u16("block type")?,
                        parameters: r.u16("parameters")?,
                        tag: text(r, LAYER, "block tag")?,
                    })
                };
                let blocks = (0..count).map(|_| entry()).collect::<Result<_, WireError>>()?;
                Self::Blocks { node, blocks }
            }
            op::LINK => Self::Link(LinkState {
                state: r.u8("state")?,
                scheduler: r.u8("LAS")?,
                first_unpolled: r.u8("FUN")?,
                unpolled: r.u8("NUN")?,
                macrocycle_ms: u32_be(r, "macrocycle")?,
                version: u32_be(r, "list version")?,
            }),
            op::READ => Self::Read { at: Object::parse(r)?, value: Typed::parse(r)? },
            op::WRITE => Self::Write { at: Object::parse(r)?, revision: r.u16("ST_REV")? },
            op::SUBSCRIBE => Self::Subscribe { id: r.u16("id")?, granted_ms: u32_be(r, "granted period")? },
            op::UNSUBSCRIBE => Self::Unsubscribe(r.u16("id")?),
            op::PING => Self::Ping,
            _ => return Ok(None),
        };
        r.clone().end().map(|()| Some(response))
    }

    /// Its operation.
    #[must_use]
    pub const fn op(&self) -> u16 {
        match self {
            Self::Hello { .. } => op::HELLO,
            Self::LiveList { .. } => op::LIVE_LIST,
            Self::Identify(_) => op::IDENTIFY,
            Self::FindTag { .. } => op::FIND_TAG,
            Self::Blocks { .. } => op::BLOCKS,
            Self::Link(_) => op::LINK,
            Self::Read { .. } => op::READ,
            Self::Write { .. } => op::WRITE,
            Self::Subscribe { .. } => op::SUBSCRIBE,
            Self::Unsubscribe(_) => op::UNSUBSCRIBE,
            Self::Ping => op::PING,
        }
    }

    /// Appends what its operation carries.
    pub fn emit(&self, out: &mut Vec<u8>) {
        match self {
            Self::Hello { version, payload_max, subscriptions_max, server, link } => {
                out.extend_from_slice(&version.to_be_bytes());
                out.extend_from_slice(&payload_max.to_be_bytes());
                out.extend_from_slice(&subscriptions_max.to_be_bytes());
                emit_text(server, out);
                emit_text(link, out);
            }
            Self::LiveList { version, entries } => {
                out.extend_from_slice(&version.to_be_bytes());
                out.push(u8::try_from(entries.len()).unwrap_or(u8::MAX));
                for entry in entries.iter().take(u8::MAX.into()) {
                    out.extend_from_slice(&[entry.node, entry.flags]);
                    emit_text(entry.tag, out);
                    emit_text(entry.device_id, out);
                }
            }
            Self::Identify(identity) => {
                out.push(identity.node);
                emit_text(identity.tag, out);
                emit_text(identity.device_id, out);
                out.extend_from_slice(&identity.manufacturer.to_be_bytes());
                out.extend_from_slice(&identity.device_type.to_be_bytes());
                out.extend_from_slice(&[identity.revision, identity.dd_revision]);
            }
            Self::FindTag { kind, node, index } => {
                out.extend_from_slice(&[*kind, *node]);
                out.extend_from_slice(&index.to_be_bytes());
            }
            Self::Blocks { node, blocks } => {
                out.extend_from_slice(&[*node, u8::try_from(blocks.len()).unwrap_or(u8::MAX)]);
                for block in blocks.iter().take(u8::MAX.into()) {
                    out.extend_from_slice(&block.start.to_be_bytes());
                    out.extend_from_slice(&block.kind.to_be_bytes());
                    out.extend_from_slice(&block.parameters.to_be_bytes());
                    emit_text(block.tag, out);
                }
            }
            Self::Link(link) => {
                out.extend_from_slice(&[link.state, link.scheduler, link.first_unpolled, link.unpolled]);
                out.extend_from_slice(&link.macrocycle_ms.to_be_bytes());
                out.extend_from_slice(&link.version.to_be_bytes());
            }
            Self::Read { at, value } => {
                at.emit(out);
                value.emit(out);
            }
            Self::Write { at, revision } => {
                at.emit(out);
                out.extend_from_slice(&revision.to_be_bytes());
            }
            Self::Subscribe { id, granted_ms } => {
                out.extend_from_slice(&id.to_be_bytes());
                out.extend_from_slice(&granted_ms.to_be_bytes());
            }
            Self::Unsubscribe(id) => out.extend_from_slice(&id.to_be_bytes()),
            Self::Ping => {}
        }
    }
}

/// What the link says by itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Publication<'a> {
    /// A value.
    Data {
        /// The client's number of the subscription.
        id: u16,
        /// One more each time, from 65535 to 0.
        sequence: u16,
        /// The publisher has been silent for too long.
        stale: bool,
        /// Other bits of the flags, passed on as they are.
        more_flags: u8,
        /// How long ago the device had it, in milliseconds.
        age_ms: u16,
        /// The value.
        value: Typed<'a>,
    },
    /// A device came or went.
    LiveChange {
        /// Of the live list, now.
        version: u32,
        /// Its node.
        node: u8,
        /// Of [`live`]; 0 gone.
        flags: u8,
    },
}

impl<'a> Publication<'a> {
    /// Reads what an operation carries; `None` where nothing of it comes by itself.
    ///
    /// # Errors
    /// The payload is not that operation's.
    pub fn parse(code: u16, payload: &'a [u8]) -> Result<Option<Self>, WireError> {
        let mut r = Reader::new("H1 link publication", payload);
        let publication = match code {
            op::DATA => {
                let (id, sequence, flags) = (r.u16("id")?, r.u16("sequence")?, r.u8("flags")?);
                Self::Data {
                    id,
                    sequence,
                    stale: flags & 1 != 0,
                    more_flags: flags & !1,
                    age_ms: r.u16("age")?,
                    value: Typed::parse(&mut r)?,
                }
            }
            op::LIVE_CHANGE => Self::LiveChange {
                version: u32_be(&mut r, "list version")?,
                node: r.u8("node")?,
                flags: r.u8("flags")?,
            },
            _ => return Ok(None),
        };
        r.end().map(|()| Some(publication))
    }

    /// Its operation.
    #[must_use]
    pub const fn op(&self) -> u16 {
        match self {
            Self::Data { .. } => op::DATA,
            Self::LiveChange { .. } => op::LIVE_CHANGE,
        }
    }

    /// Appends what its operation carries.
    pub fn emit(&self, out: &mut Vec<u8>) {
        match self {
            Self::Data { id, sequence, stale, more_flags, age_ms, value } => {
                out.extend_from_slice(&id.to_be_bytes());
                out.extend_from_slice(&sequence.to_be_bytes());
                out.push(more_flags | u8::from(*stale));
                out.extend_from_slice(&age_ms.to_be_bytes());
                value.emit(out);
            }
            Self::LiveChange { version, node, flags } => {
                out.extend_from_slice(&version.to_be_bytes());
                out.extend_from_slice(&[*node, *flags]);
            }
        }
    }
}
