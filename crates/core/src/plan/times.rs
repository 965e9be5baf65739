//! How long things take and how old they may get: cycles, loads, ages.

use super::{Plan, Push, Source, Transfer};
use crate::budget::LineTime;
use crate::project::{Port, Project};

impl Plan {
    pub(super) fn set_cycles(&mut self) {
        let on = |device: usize, port: usize| self.devices.get(device).is_some_and(|d| d.port == port);
        let by = |device: usize, port: usize| self.write_port(device) == Some(port);
        self.cycles = (0..self.lines.len())
            .map(|port| {
                let polls = self.transfers.iter().filter(|transfer| on(transfer.device, port));
                let sent = self.pushes.iter().filter(|push| push.every.is_some() && by(push.device, port));
                polls.map(|transfer| transfer.takes).chain(sent.map(|push| push.takes)).sum()
            })
            .collect();
    }

    /// The default age: three times the longer of the poll and the line's cycle with one timeout in it.
    pub(super) fn set_ages(&mut self, project: &Project) {
        for rule in &mut self.rules {
            let own = project.images.get(rule.board).and_then(|image| image.max_age);
            let Source::Poll { device, .. } = rule.source else {
                // What a client wrote stays true until somebody writes again, unless the image says otherwise.
                rule.max_age = own.unwrap_or(u64::MAX);
                continue;
            };
            let port = self.devices.get(device).map_or(usize::MAX, |station| station.port);
            let timeout = self.lines.get(port).map_or(0, |line| line.timeout);
            let own_way =
                project.ports.get(port).and_then(|port| port.protocol?.value.unanswered(&port.setup));
            let silent = own_way.map_or(0, |(wait, _)| wait);
            let cycle = self.cycles.get(port).copied().unwrap_or(0) + timeout.max(silent);
            rule.max_age = own.unwrap_or(3 * rule.every.max(cycle));
        }
    }

    /// The share of a port's time that its polls take; above 1 the line cannot keep them.
    #[must_use]
    pub fn load(&self, port: usize) -> f64 {
        let on_port =
            |transfer: &&Transfer| self.devices.get(transfer.device).is_some_and(|d| d.port == port);
        let polls = self.transfers.iter().filter(on_port).map(|t| t.takes as f64 / t.every.max(1) as f64);
        let here = |push: &&Push| self.write_port(push.device) == Some(port);
        let sent =
            self.pushes.iter().filter(here).filter_map(|p| Some(p.takes as f64 / p.every?.max(1) as f64));
        polls.chain(sent).sum()
    }
}

/// How long a request to somebody who says nothing takes, all its tries together, in microseconds.
pub(super) fn unanswered(port: &Port) -> u64 {
    let own = port.protocol.and_then(|protocol| protocol.value.unanswered(&port.setup));
    let time = LineTime::of(port);
    let once = own.map_or(time.timeout + time.rest(), |(wait, _)| wait);
    (u64::from(port.retries) + 1) * once
}
