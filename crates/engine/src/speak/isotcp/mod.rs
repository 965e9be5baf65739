//! FETCH and WRITE over ISO-on-TCP: questions and refusals between spaces and messages.

mod client;
mod observer;
mod server;
#[cfg(test)]
mod tests;

use super::Speaker;
use woodrush_core::protocol::isotcp::memory;
use woodrush_core::protocol::{Extent, Space};
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::isotcp::fetch::{Area, Range};

/// `fetch-write`.
pub(super) const FETCH_WRITE: Speaker = Speaker {
    name: "fetch-write",
    client: Some(|setup| Box::new(client::BlockClient::new(setup))),
    server: Some(|setup| Box::new(server::BlockServer::new(setup))),
    observer: |setup| Box::new(observer::BlockObserver::new(setup)),
    behaviour: None,
    node: None,
    finder: None,
    roll_call: None,
    discovery: None,
    frames: None,
};

/// The name under which refusals carry an error number.
const NATIVE: &str = "block error";
/// The error numbers that mean something.
const NO_BLOCK: u8 = 2;
const TOO_SMALL: u8 = 3;
const FAILED: u8 = 0xFF;

/// The words or bytes around an extent: what is asked for, and where in its bytes the extent begins.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Window {
    range: Range,
    lead: usize,
    bytes: usize,
}

impl Window {
    /// `None` where the extent is past what a request can name.
    fn of(space: &Space, extent: Extent) -> Option<Self> {
        let (area, block) = memory(space);
        let each = space.grain.cell_bytes();
        // Grains of a block are bytes, and its units words; elsewhere a grain is a unit.
        let per_unit = u32::try_from(area.unit().div_ceil(each)).ok()?.max(1);
        let (start, end) = (extent.first / per_unit, extent.end().div_ceil(per_unit));
        let lead = (extent.first - start * per_unit) as usize * each;
        let (start, length) = (u16::try_from(start).ok()?, u16::try_from(end - start).ok()?);
        let range = Range { org: area.org(), block, start, length };
        Some(Self { range, lead, bytes: extent.count as usize * each })
    }

    /// Whether the extent is all of what is asked for.
    fn is_whole(&self) -> bool {
        self.lead == 0 && self.range.bytes() == Some(self.bytes)
    }

    fn cut<'b>(&self, data: &'b [u8]) -> Option<&'b [u8]> {
        data.get(self.lead..self.lead + self.bytes)
    }
}

/// The extent of a range in the space of that index.
fn extent(area: Area, space: &Space, id: woodrush_core::protocol::SpaceId, range: Range) -> Option<Extent> {
    let per_unit = u32::try_from(area.unit().div_ceil(space.grain.cell_bytes())).ok()?.max(1);
    let (first, count) = (u32::from(range.start) * per_unit, u32::from(range.length) * per_unit);
    (count > 0).then_some(Extent { space: id, first, count })
}

/// A controller's error number as a refusal.
fn refusal(error: u8) -> Refusal {
    let kind = match error {
        NO_BLOCK | TOO_SMALL => Kind::NoSuchAddress,
        _ => Kind::Fault,
    };
    Refusal::new(kind, Blame::Device).with_native(NATIVE, error.into())
}

/// The error number that answers a refusal: the controller's own where there is one.
fn error(refusal: Refusal) -> u8 {
    if let Some((NATIVE, code)) = refusal.native {
        return u8::try_from(code).unwrap_or(FAILED);
    }
    match refusal.kind {
        Kind::NoSuchAddress | Kind::TooMuch => TOO_SMALL,
        _ => FAILED,
    }
}
