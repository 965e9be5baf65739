//! Forwards resolved: which unit of which port becomes which unit of which other.

use crate::project::Project;

/// Requests of one port that go to another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlannedForward {
    /// Index of its `[[forward]]`.
    pub forward: usize,
    /// Index of the port on which others ask.
    pub from: usize,
    /// Index of the port on which we ask.
    pub to: usize,
    /// Each unit with what it is called there, ascending.
    pub units: Vec<(u16, u16)>,
    /// Function codes that may pass; empty for all.
    pub functions: Vec<u8>,
    /// Writes go before reads that wait.
    pub writes_first: bool,
    /// Bytes pass unread.
    pub raw: bool,
}

/// Where a request goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Route {
    /// Index of the planned forward.
    pub forward: usize,
    /// Index of the port on which we ask.
    pub to: usize,
    /// The unit there.
    pub unit: u16,
}

pub(super) fn all(project: &Project) -> Vec<PlannedForward> {
    let planned = |(forward, entry): (usize, &crate::project::Forward)| {
        let (from, to) = (entry.from?.value, entry.to?.value);
        let opaque = |port: usize| {
            project.ports.get(port).and_then(|port| port.protocol).is_some_and(|p| p.value.is_opaque())
        };
        Some(PlannedForward {
            forward,
            from,
            to,
            units: entry.units.as_ref().map(|units| units.value.clone()).unwrap_or_default(),
            functions: entry.functions.as_ref().map(|codes| codes.value.clone()).unwrap_or_default(),
            writes_first: entry.writes_first,
            raw: opaque(from) && opaque(to),
        })
    };
    project.forwards.iter().enumerate().filter_map(planned).collect()
}

impl super::Plan {
    /// Where a request for a unit of a port goes; `None` where no forward takes it.
    #[must_use]
    pub fn route(&self, port: usize, unit: u16) -> Option<Route> {
        self.forwards.iter().enumerate().filter(|(_, forward)| forward.from == port).find_map(
            |(at, forward)| {
                let found = forward.units.binary_search_by_key(&unit, |(here, _)| *here).ok()?;
                let (_, there) = *forward.units.get(found)?;
                Some(Route { forward: at, to: forward.to, unit: there })
            },
        )
    }
}
