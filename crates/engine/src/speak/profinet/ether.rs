//! Ethernet frames as they go over an interface: addresses, a tag that may be there, and what they carry.

/// A MAC address.
pub(super) type Mac = [u8; 6];
/// To all.
pub(super) const BROADCAST: Mac = [0xFF; 6];
/// EtherType of a tag of a virtual network.
const VLAN: u16 = 0x8100;
/// The shortest frame, without its check sum.
const LEAST: usize = 60;
/// Bytes of a tag.
const TAG_BYTES: usize = 4;

/// One frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct EtherFrame<'a> {
    pub(super) to: Mac,
    pub(super) from: Mac,
    pub(super) kind: u16,
    pub(super) payload: &'a [u8],
}

impl<'a> EtherFrame<'a> {
    /// Reads a frame; `None` where it is cut.
    pub(super) fn parse(frame: &'a [u8]) -> Option<Self> {
        let (to, rest) = frame.split_first_chunk::<6>()?;
        let (from, rest) = rest.split_first_chunk::<6>()?;
        let (kind, payload) = rest.split_first_chunk::<2>()?;
        let (to, from) = (*to, *from);
        match u16::from_be_bytes(*kind) {
            VLAN => {
                let (_, rest) = payload.split_first_chunk::<2>()?;
                let (kind, payload) = rest.split_first_chunk::<2>()?;
                Some(Self { to, from, kind: u16::from_be_bytes(*kind), payload })
            }
            kind => Some(Self { to, from, kind, payload }),
        }
    }
}

/// A frame with a payload that is appended by `payload`, filled up to the shortest; with `tag` as a frame of a cycle goes.
pub(super) fn frame(
    to: Mac,
    from: Mac,
    kind: u16,
    tag: Option<u16>,
    payload: impl FnOnce(&mut Vec<u8>),
) -> Vec<u8> {
    let mut out = Vec::with_capacity(128);
    out.extend_from_slice(&to);
    out.extend_from_slice(&from);
    if let Some(tag) = tag {
        out.extend_from_slice(&VLAN.to_be_bytes());
        out.extend_from_slice(&tag.to_be_bytes());
    }
    out.extend_from_slice(&kind.to_be_bytes());
    payload(&mut out);
    let least = LEAST + if tag.is_some() { TAG_BYTES } else { 0 };
    if out.len() < least {
        out.resize(least, 0);
    }
    out
}
