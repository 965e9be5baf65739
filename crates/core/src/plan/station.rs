//! A device or an image as its protocol sees it.

use super::to_u32;
use crate::protocol::{
    BitWrite, Cost, Dialect, Extent, Flow, Place, Setup, Space, SpaceId, Spaces, StationId, Transport, Verb,
};
use std::net::Ipv4Addr;
use std::sync::Arc;

/// A device or an image as its protocol sees it.
#[derive(Debug, Clone)]
pub struct Station {
    /// Its name.
    pub name: String,
    /// Index of its port.
    pub port: usize,
    /// Its protocol; `None` where the project does not say one that exists.
    pub dialect: Option<&'static dyn Dialect>,
    /// Keys of its protocol.
    pub setup: Setup,
    /// Its spaces, by [`SpaceId`].
    pub spaces: Arc<Spaces>,
}

impl Station {
    /// The index of a space, added where it is new.
    pub fn space(&mut self, space: &Space) -> SpaceId {
        match self.spaces.id(&space.key) {
            Some(known) => known,
            None => Arc::make_mut(&mut self.spaces).add(space),
        }
    }

    /// Whether the protocol has no request that writes it, so that what lies around is read and written back with it.
    #[must_use]
    pub fn reads_first(&self, place: &Place) -> bool {
        let Some(space) = self.space_at(place.space) else { return false };
        // What is sent in cycles is whole: what lies around a part of it is here.
        if space.flow == Flow::Goes {
            return false;
        }
        let step = u32::from(space.align.max(1));
        let apart = |grain: u32| !grain.is_multiple_of(step);
        let whole = place.bit.is_some() && space.bits == BitWrite::ReadBack;
        let masked = space.bits == BitWrite::Masked;
        whole || !masked && place.bit.is_none() && (apart(place.first) || apart(place.width))
    }

    /// Who it is on its line; `None` where that is open.
    #[must_use]
    pub fn id(&self) -> Option<StationId> {
        self.dialect?.stations().station(&self.setup)
    }

    /// Its address of its own, where stations are known by that: on a network.
    #[must_use]
    pub fn network_address(&self) -> Option<Ipv4Addr> {
        self.dialect?.cyclic()?;
        match self.id()? {
            StationId::Name(address) => address.parse().ok(),
            StationId::Number(_) => None,
        }
    }

    /// The address that its own keys say, with or without its network.
    #[must_use]
    pub fn own_address(&self) -> Option<Ipv4Addr> {
        let text = self.setup.word("address")?;
        text.split('/').next()?.parse().ok()
    }

    /// Its number on its line; `None` where that is open, or it has a name.
    #[must_use]
    pub fn number(&self) -> Option<u32> {
        self.id()?.number()
    }

    /// The station on its line: `unit 23`; its name where it has no number there.
    #[must_use]
    pub fn station_shown(&self) -> String {
        let number = self.dialect.and_then(|dialect| {
            let (key, _) = dialect.stations().station_key(Transport::Connect)?;
            Some((key, self.id()?))
        });
        number.map_or_else(|| self.name.clone(), |(key, number)| format!("{key} {number}"))
    }

    /// Bytes of the cells of these parts, one after the other.
    #[must_use]
    pub fn bytes_of(&self, parts: &[Extent]) -> u32 {
        let bytes = |part: &Extent| self.space_at(part.space).map_or(2, |space| space.grain.cell_bytes());
        parts.iter().map(|part| part.count.saturating_mul(to_u32(bytes(part)))).sum()
    }

    /// What one request over these parts costs; `None` where it cannot be one.
    #[must_use]
    pub fn cost(&self, verb: Verb, parts: &[Extent]) -> Option<Cost> {
        let parts = parts.iter().map(|part| Some((self.space_at(part.space)?, *part)));
        self.dialect?.cost_of(verb, &parts.collect::<Option<Vec<_>>>()?, &self.setup).ok()
    }

    /// The space of that index.
    #[must_use]
    pub fn space_at(&self, id: SpaceId) -> Option<&Space> {
        self.spaces.get(id)
    }

    /// An address with its owner's name, in canonical notation and as offset.
    #[must_use]
    pub fn show(&self, space: SpaceId, first: u32, bit: Option<u8>) -> String {
        self.show_wide(space, first, 0, bit)
    }

    /// Grains of a request with their owner's name: what is always read as a whole has its name alone.
    #[must_use]
    pub fn show_part(&self, part: Extent) -> String {
        match self.space_at(part.space).filter(|space| space.whole) {
            Some(space) => format!("{}:{}", self.name, space.name()),
            None => self.show(part.space, part.first, None),
        }
    }

    /// The same for a value that takes so many grains.
    #[must_use]
    pub fn show_wide(&self, space: SpaceId, first: u32, width: u32, bit: Option<u8>) -> String {
        match (self.dialect, self.space_at(space)) {
            (Some(dialect), Some(space)) => {
                format!("{}:{}", self.name, dialect.notation().show(space, first, width, bit, &self.setup))
            }
            _ => self.name.clone(),
        }
    }

    /// The canonical address alone, without the station's name.
    #[must_use]
    pub fn address(&self, space: SpaceId, first: u32, width: u32, bit: Option<u8>) -> String {
        let found = self.dialect.zip(self.space_at(space));
        let shown =
            found.map(|(dialect, space)| dialect.notation().show(space, first, width, bit, &self.setup));
        shown.map_or_else(String::new, |shown| shown.canonical)
    }
}
