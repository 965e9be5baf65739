//! How long things take and how old they may get: cycles, loads, ages.

use super::{Plan, Push, Source, Transfer};
use crate::line_time::LineTime;
use crate::project::{Owner, Port, Project};
use crate::protocol::{Flow, Publishing};

impl Plan {
    pub(super) fn set_cycles(&mut self) {
        let on = |device: usize, port: usize| self.devices.get(device).is_some_and(|d| d.port == port);
        let by = |device: usize, port: usize| self.write_port(device) == Some(port);
        self.cycles = (0..self.lines.len())
            .map(|port| {
                let polls = self
                    .transfers
                    .iter()
                    .filter(|transfer| transfer.asked_device().is_some_and(|device| on(device, port)));
                let sent = self.pushes.iter().filter(|push| push.every.is_some() && by(push.device, port));
                polls.map(|transfer| transfer.takes).chain(sent.map(|push| push.takes)).sum()
            })
            .collect();
    }

    /// How old values may get before they count as lost, where the project does not say.
    pub(super) fn set_ages(&mut self, project: &Project) {
        let mut polled: Vec<Vec<usize>> = vec![vec![]; self.lines.len()];
        for transfer in &self.transfers {
            let Some(device) = transfer.asked_device() else { continue };
            let port = self.devices.get(device).map_or(usize::MAX, |device| device.port);
            if let Some(here) = polled.get_mut(port).filter(|here| here.last() != Some(&device)) {
                here.push(device);
            }
        }
        for at in 0..self.rules.len() {
            let Some(rule) = self.rules.get(at) else { continue };
            let own = project.images.get(rule.board).and_then(|image| image.max_age);
            let age = match rule.source {
                Source::Values { owner, place, .. } if self.flow(owner, place.space) == Flow::Comes => {
                    // How long it is from frame to frame is a controller's own choice: there the link itself says it.
                    let lost = self.link_of(owner).map(|link| link.lost_after);
                    let lost = lost.filter(|_| matches!(owner, Owner::Device(_)));
                    own.or(lost).unwrap_or(u64::MAX)
                }
                // What a client wrote stays true until a client writes again, unless the image says otherwise.
                Source::Health(_)
                | Source::Client
                | Source::ClientCells { .. }
                | Source::Values { owner: Owner::Image(_) | Owner::Converter, .. } => own.unwrap_or(u64::MAX),
                Source::Values { owner: Owner::Device(device), .. } if rule.published => {
                    own.or_else(|| Some(self.publishing(device)?.max_age())).unwrap_or(u64::MAX)
                }
                Source::Values { owner: Owner::Device(device), .. } => own.unwrap_or_else(|| {
                    let port = self.devices.get(device).map_or(usize::MAX, |station| station.port);
                    let alone = polled.get(port).is_none_or(|here| here.len() < 2);
                    self.age_of(project, port, rule.every, alone).sum()
                }),
            };
            if let Some(rule) = self.rules.get_mut(at) {
                rule.max_age = age;
            }
        }
    }

    /// How values of a device come by themselves; `None` where all must be asked for.
    #[must_use]
    pub fn publishing(&self, device: usize) -> Option<Publishing> {
        let station = self.devices.get(device)?;
        station.dialect?.requests()?.publishing(&station.setup)
    }

    /// What the default age of a value is made of, that is polled so often by that port.
    #[must_use]
    pub fn age_of(&self, project: &Project, port: usize, every: u64, alone: bool) -> Age {
        let settings = project.ports.get(port);
        let own = settings.and_then(|port| port.protocol?.value.requests()?.first_wait(&port.setup));
        Age {
            turns: every.max(self.cycles.get(port).copied().unwrap_or(0)),
            wait: own.or(self.lines.get(port).map(|line| line.timeout)).unwrap_or(0),
            other: if alone { 0 } else { self.unanswered.get(port).copied().unwrap_or(0) },
        }
    }

    /// The share of a port's time that its polls take; above 1 the line cannot keep them.
    #[must_use]
    pub fn load(&self, port: usize) -> f64 {
        let on_port =
            |transfer: &&Transfer| self.station(transfer.from).is_some_and(|station| station.port == port);
        let polls = self
            .transfers
            .iter()
            .filter(on_port)
            .filter(|transfer| transfer.cadence.is_asked())
            .map(|t| t.takes as f64 / t.cadence.interval().max(1) as f64);
        let here = |push: &&Push| self.write_port(push.device) == Some(port);
        let sent =
            self.pushes.iter().filter(here).filter_map(|p| Some(p.takes as f64 / p.every?.max(1) as f64));
        polls.chain(sent).sum()
    }
}

/// What the default age of a value is made of: three polls may be missed, the next one waits for its answer, and on a
/// line with several devices one of the others may not answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Age {
    /// The longer of the poll and the port's cycle, in microseconds; it counts three times.
    pub turns: u64,
    /// One wait for an answer, in microseconds.
    pub wait: u64,
    /// A request to another device that does not answer, all its tries together, in microseconds.
    pub other: u64,
}

impl Age {
    /// All of it together, in microseconds.
    #[must_use]
    pub const fn sum(self) -> u64 {
        self.turns.saturating_mul(3).saturating_add(self.wait).saturating_add(self.other)
    }
}

/// How long a request to a silent station takes, all its tries together, in microseconds.
pub(super) fn unanswered(port: &Port) -> u64 {
    let own = port.protocol.and_then(|protocol| protocol.value.requests()?.unanswered(&port.setup));
    let time = LineTime::of(port);
    let once = own.map_or(time.timeout + time.rest(), |(wait, _)| wait);
    (u64::from(port.retries) + 1) * once
}
