//! Spaces and what lies in them: linear tables of equal grains, grains in a row, and what one end of a rule names.

use super::{Dialect, Grain};
use crate::form::Type;
use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::Arc;

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
    /// As people write it, where that is not its key: names may be written in capitals or not.
    pub shown: Option<Arc<str>>,
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
    /// Whether it is always read as a whole, so that all that is in it is of one moment.
    pub whole: bool,
    /// Whether its values can come by themselves.
    pub publishes: bool,
    /// Which way they go, as its owner sees them.
    pub flow: Flow,
}

/// Which way the values of a space go.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum Flow {
    /// Each way, whenever one end asks the other.
    #[default]
    Asked,
    /// They come to us in cycles: a rule may begin here, and never end here.
    Comes,
    /// We send them in cycles: a rule may end here, and never begin here.
    Goes,
}

impl Space {
    /// As people write it.
    #[must_use]
    pub fn name(&self) -> &str {
        self.shown.as_deref().unwrap_or(&self.key)
    }

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

/// Index of a space in the [`Spaces`] of its device or image.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SpaceId(pub u32);

impl SpaceId {
    /// Its place in a list that has one entry a space.
    #[must_use]
    pub const fn index(self) -> usize {
        self.0 as usize
    }
}

/// The spaces of one station, each key once: by index, and by key where there are thousands of names.
#[derive(Debug, Clone, Default)]
pub struct Spaces {
    list: Vec<Space>,
    by_key: HashMap<Cow<'static, str>, SpaceId>,
}

/// So many keys are compared sooner than one is hashed.
const FEW: usize = 8;

impl Spaces {
    /// Those that every station of a protocol has, mapped or not.
    #[must_use]
    pub fn standing(dialect: &dyn Dialect) -> Arc<Self> {
        Arc::new(dialect.notation().standing().iter().collect())
    }

    /// The index of the space with that key.
    #[must_use]
    pub fn id(&self, key: &str) -> Option<SpaceId> {
        if self.list.len() > FEW {
            return self.by_key.get(key).copied();
        }
        self.with_ids().find(|(_, space)| space.key == key).map(|(id, _)| id)
    }

    /// The space of that index.
    #[must_use]
    pub fn get(&self, id: SpaceId) -> Option<&Space> {
        self.list.get(id.index())
    }

    /// The index of a space, added where its key is new.
    pub fn add(&mut self, space: &Space) -> SpaceId {
        if let Some(known) = self.id(&space.key) {
            return known;
        }
        let id = SpaceId(u32::try_from(self.list.len()).unwrap_or(u32::MAX));
        self.by_key.insert(space.key.clone(), id);
        self.list.push(space.clone());
        id
    }

    /// Says how long one is whose length was open.
    pub(crate) fn settle(&mut self, id: SpaceId, len: u32) {
        if let Some(space) = self.list.get_mut(id.index()) {
            space.len = Some(len);
        }
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.list.len()
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.list.is_empty()
    }

    /// All of them, in the order of their indices.
    pub fn iter(&self) -> impl DoubleEndedIterator<Item = &Space> {
        self.list.iter()
    }

    /// The same with their indices.
    pub fn with_ids(&self) -> impl Iterator<Item = (SpaceId, &Space)> {
        (0..).map(SpaceId).zip(&self.list)
    }
}

impl<'s> FromIterator<&'s Space> for Spaces {
    fn from_iter<I: IntoIterator<Item = &'s Space>>(spaces: I) -> Self {
        let mut all = Self::default();
        for space in spaces {
            all.add(space);
        }
        all
    }
}

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
