//! Spaces and what lies in them: linear tables of equal grains, grains in a row, and what one end of a rule names.

use super::Grain;
use crate::form::Type;
use std::borrow::Cow;

/// How one bit is written where the grain is wider.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum BitWrite {
    /// The grain is the bit.
    Whole,
    /// With one request that changes some bits of a grain and leaves the others; where a device does not serve it, by
    /// reading the grain and writing it back.
    Masked,
    /// By reading the grain and writing it back changed: the protocol has no request for it.
    ReadBack,
    /// Not at all.
    Never,
}

/// A linear table of equal grains.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Space {
    /// The dialect's own name for it, such as `holding`.
    pub key: Cow<'static, str>,
    /// In words, for messages: `holding register`.
    pub noun: &'static str,
    /// What one address steps over.
    pub grain: Grain,
    /// Addresses come in multiples of this.
    pub align: u8,
    /// How many grains there are, where that is known.
    pub len: Option<u32>,
    /// Whether the protocol has a command that writes here.
    pub writable: bool,
    /// How one bit of a wider grain is written.
    pub bits: BitWrite,
    /// The only types that its cells can hold; empty for any.
    pub only: &'static [Type],
    /// Whether the controller's own program writes here all the time.
    pub rewritten: bool,
}

impl Space {
    /// Its noun with the article: `a coil`, `an input register`.
    #[must_use]
    pub fn a(&self) -> String {
        let article = if self.noun.starts_with(['a', 'e', 'i', 'o', 'u']) { "an" } else { "a" };
        format!("{article} {}", self.noun)
    }

    /// What it counts, shortly: `registers`, `bytes`.
    #[must_use]
    pub fn grains(&self) -> String {
        format!(
            "{}s",
            self.noun.rsplit(' ').next().and_then(|word| word.rsplit('-').next()).unwrap_or_default()
        )
    }
}

/// Index of a space in the list of its device or image.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SpaceId(pub u16);

/// Grains in a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Extent {
    /// In which space.
    pub space: SpaceId,
    /// Zero-based address of the first grain.
    pub first: u32,
    /// How many; at least 1.
    pub count: u32,
}

impl Extent {
    /// One past the last grain.
    #[must_use]
    pub const fn end(&self) -> u32 {
        self.first + self.count
    }
}

/// What one endpoint of a rule names: `count` items of `width` grains, one after the other, perhaps one bit of each.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Place {
    /// In which space.
    pub space: SpaceId,
    /// Zero-based address of the first grain.
    pub first: u32,
    /// Grains of one item.
    pub width: u32,
    /// Items.
    pub count: u32,
    /// One bit of each grain, 0 the least significant.
    pub bit: Option<u8>,
}

impl Place {
    /// All grains of all items.
    #[must_use]
    pub const fn extent(&self) -> Extent {
        Extent { space: self.space, first: self.first, count: self.width * self.count }
    }

    /// The grains of one item, from 0.
    #[must_use]
    pub const fn item(&self, index: u32) -> Extent {
        Extent { space: self.space, first: self.first + index * self.width, count: self.width }
    }
}
