//! What a simulated controller has by name: all that its list declares, and what its programmer changes while it runs.

use super::device::SimDevice;
use std::collections::BTreeSet;
use std::sync::Arc;
use woodrush_core::plan::Station;
use woodrush_core::project::DeviceFaults;
use woodrush_core::protocol::{Alteration, Space, SpaceId, Spaces};

/// What the list of a device's programmer, or its profile, says that it has.
pub(super) fn declared(station: &Station) -> Vec<(Space, u32)> {
    station.dialect.map(|dialect| dialect.notation().named(&station.setup)).unwrap_or_default()
}

/// A station with all that its programmer has declared: what the rules name first, by the same numbers as in the plan.
pub(super) fn with_declared(station: Station) -> Station {
    let declared = declared(&station);
    if declared.is_empty() {
        return station;
    }
    let read_only: BTreeSet<&str> =
        declared.iter().filter(|(space, _)| !space.writable).map(|(space, _)| space.key.as_ref()).collect();
    let known = station.spaces.iter().cloned().map(|space| {
        let writable = space.writable && !read_only.contains(space.key.as_ref());
        Space { writable, ..space }
    });
    let all: Vec<Space> = known.chain(declared.iter().map(|(space, _)| space.clone())).collect();
    Station { spaces: Arc::new(all.iter().collect()), ..station }
}

impl SimDevice {
    /// The space of a name that its programmer may change.
    pub(super) fn named(&self, name: &str, how: Alteration) -> Option<SpaceId> {
        let notation = self.station.dialect?.notation();
        let known = self.station.spaces.with_ids().find(|(_, space)| notation.is_table(space, name));
        known.filter(|(_, space)| notation.altered(space, how).is_some()).map(|(id, _)| id)
    }

    /// What those who ask find: its spaces, as its programmer has changed them.
    pub(super) fn spaces_now(&self) -> Arc<Spaces> {
        let DeviceFaults { renamed, retyped, .. } = self.ailment();
        let (Some(dialect), true) = (self.station.dialect, renamed.is_some() || retyped.is_some()) else {
            return self.station.spaces.clone();
        };
        let altered = |(id, space): (SpaceId, &Space)| {
            let mut space = space.clone();
            for (at, how) in [(renamed, Alteration::Renamed), (retyped, Alteration::Retyped)] {
                if at == Some(id) {
                    space = dialect.notation().altered(&space, how).unwrap_or(space);
                }
            }
            space
        };
        let all: Vec<Space> = self.station.spaces.with_ids().map(altered).collect();
        Arc::new(all.iter().collect())
    }
}
