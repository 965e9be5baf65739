//! Several services in one message (Multiple Service Packet), to the message router, and their replies.
//!
//! ```text
//! count 2  offset 2 each, from the count on  services
//! ```

use crate::{Reader, WireError, WireFault};

pub(super) const LAYER: &str = "several services";
/// The most services that are taken in one message.
pub const SERVICES_MAX: u16 = 64;

/// Requests or replies, one after the other.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Parts<'a> {
    data: &'a [u8],
    count: u16,
}

impl<'a> Parts<'a> {
    /// Reads the data of the service or of its reply.
    ///
    /// # Errors
    /// There is none or too many, or an offset leads outside or backwards: general status 0x13.
    pub fn parse(data: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, data);
        let count = reader.u16_le("services")?;
        if count == 0 || count > SERVICES_MAX {
            let (low, high) = (1, SERVICES_MAX.into());
            return reader.fault(0, WireFault::Range { field: "services", got: count.into(), low, high });
        }
        let mut low = 2 + usize::from(count) * 2;
        for at in 0..count {
            let place = reader.at;
            let offset = usize::from(reader.u16_le("offset")?);
            // The first one lies behind the offsets, each other one behind the one before.
            let right = if at == 0 { offset == low } else { offset > low };
            if !right || offset >= data.len() {
                let number = |number: usize| u32::try_from(number).unwrap_or(u32::MAX);
                let low = number(if at == 0 { low } else { low + 1 });
                let high = number(if at == 0 { low as usize } else { data.len().saturating_sub(1) });
                let got = number(offset);
                return reader.fault(place, WireFault::Range { field: "offset", got, low, high });
            }
            low = offset;
        }
        Ok(Self { data, count })
    }

    fn offset(&self, at: u16) -> usize {
        let at = 2 + usize::from(at) * 2;
        let field = self.data.get(at..).and_then(<[u8]>::first_chunk);
        field.map_or(0, |field| u16::from_le_bytes(*field).into())
    }

    /// How many there are.
    #[must_use]
    pub const fn count(&self) -> u16 {
        self.count
    }

    /// One after the other.
    pub fn iter(&self) -> impl ExactSizeIterator<Item = &'a [u8]> {
        let parts = *self;
        (0..usize::from(self.count)).map(move |at| {
            let at = u16::try_from(at).unwrap_or(u16::MAX);
            let end = if at + 1 < parts.count { parts.offset(at + 1) } else { parts.data.len() };
            parts.data.get(parts.offset(at)..end).unwrap_or_default()
        })
    }

    /// Appends the data.
    pub fn emit(&self, out: &mut Vec<u8>) {
        let mut parts = self.iter();
        emit_with(out, self.count, |_, out| out.extend_from_slice(parts.next().unwrap_or_default()));
    }
}

/// Appends the data for so many services, each appended by `part`.
pub fn emit_with(out: &mut Vec<u8>, count: u16, mut part: impl FnMut(u16, &mut Vec<u8>)) {
    let begin = out.len();
    out.extend_from_slice(&count.to_le_bytes());
    out.resize(out.len() + usize::from(count) * 2, 0);
    for at in 0..count {
        let offset = u16::try_from(out.len() - begin).unwrap_or(u16::MAX);
        let field = begin + 2 + usize::from(at) * 2;
        if let Some(field) = out.get_mut(field..field + 2) {
            field.copy_from_slice(&offset.to_le_bytes());
        }
        part(at, out);
    }
}

/// Bytes that a message with so many services takes beyond them.
#[must_use]
pub const fn overhead(count: usize) -> usize {
    2 + 2 * count
}
