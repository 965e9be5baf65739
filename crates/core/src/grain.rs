//! What an address counts.

/// What one address steps over. Bits inside a grain count from the least significant, whatever the wire does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Grain {
    /// One bit, one byte 0 or 1 in cells.
    Bit,
    /// So many bytes, the most significant first in cells.
    Bytes(u8),
}

impl Grain {
    /// Bytes that one grain takes in cells.
    #[must_use]
    pub const fn cell_bytes(self) -> usize {
        match self {
            Self::Bit => 1,
            Self::Bytes(count) => count as usize,
        }
    }
}
