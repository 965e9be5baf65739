//! Blocks of H1 devices, and the link that stands in for a linking device: frames on a TCP stream, requests and responses,
//! publications; values with their types; structures and status bytes.
//!
//! The link is a stand-in of our own design. What it carries (structures, indices, status) is that of H1; nothing here
//! is proof of how real H1 hardware frames it.

pub mod exercise;
pub mod frame;
mod request;
mod response;
pub mod status;
pub mod structure;
mod value;
#[cfg(test)]
mod vectors;

pub use request::{ANY_REVISION, Request};
pub use response::{
    BlockEntry, Identity, LinkError, LinkState, LiveEntry, Publication, Response, error, live,
};
pub use value::{Typed, kind, size as value_size};

use crate::{Reader, WireError, WireFault};

/// A parameter of a device, or one member of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Object {
    /// The device's node address.
    pub node: u8,
    /// Index in its object dictionary: that of the block's first object and the parameter's place in the block.
    pub index: u16,
    /// 0 for the whole parameter, else its member from 1.
    pub sub: u8,
}

impl Object {
    fn parse(r: &mut Reader<'_>) -> Result<Self, WireError> {
        Ok(Self { node: r.u8("node")?, index: r.u16("index")?, sub: r.u8("sub-index")? })
    }

    fn emit(&self, out: &mut Vec<u8>) {
        out.push(self.node);
        out.extend_from_slice(&self.index.to_be_bytes());
        out.push(self.sub);
    }
}

fn u32_be(r: &mut Reader<'_>, field: &'static str) -> Result<u32, WireError> {
    Ok(r.u32_le(field)?.swap_bytes())
}

/// A text: its length, then as many printable ASCII characters.
fn text<'a>(r: &mut Reader<'a>, layer: &'static str, field: &'static str) -> Result<&'a str, WireError> {
    let length = r.u8(field)?;
    let bytes = r.bytes(field, length.into())?;
    let stray = bytes.iter().position(|byte| !(0x20..0x7F).contains(byte));
    match (stray, std::str::from_utf8(bytes)) {
        (None, Ok(text)) => Ok(text),
        (stray, _) => {
            let at = stray.unwrap_or(0);
            let got = bytes.get(at).copied().unwrap_or_default().into();
            Err(WireError { layer, at, fault: WireFault::Choice { field, got, allowed: "printable ASCII" } })
        }
    }
}

/// The reverse; what is longer than its length can say is cut.
fn emit_text(text: &str, out: &mut Vec<u8>) {
    let bytes = text.as_bytes().get(..255).unwrap_or(text.as_bytes());
    out.push(u8::try_from(bytes.len()).unwrap_or(u8::MAX));
    out.extend_from_slice(bytes);
}
