//! By which ports a device is read and written, and as which device nodes of a box are asked.

use super::{Plan, Transfer};

impl Plan {
    /// The port by which a device is written: its own, or the other one that it has for writes.
    #[must_use]
    pub fn write_port(&self, device: usize) -> Option<usize> {
        let other = self.write_ports.get(device).copied().flatten();
        other.or_else(|| Some(self.devices.get(device)?.port))
    }

    /// The device as which a device is asked: the first node of its box, or itself.
    #[must_use]
    pub fn host(&self, device: usize) -> usize {
        self.hosts.get(device).copied().unwrap_or(device)
    }

    /// The name of a device, or of the first and the last node of the box that is asked as it.
    #[must_use]
    pub fn name_with_nodes(&self, host: usize) -> String {
        let name = |device: usize| self.devices.get(device).map_or("", |station| station.name.as_str());
        let last = self.hosts.iter().rposition(|own| *own == host).filter(|last| *last != host);
        last.map_or_else(|| name(host).to_string(), |last| format!("{} to {}", name(host), name(last)))
    }

    /// The devices whose values a transfer brings, in ascending order: several where they are nodes of one box.
    #[must_use]
    pub fn brought_by(&self, transfer: &Transfer) -> Vec<usize> {
        let rules = transfer.steps.clone().filter_map(|step| self.rule_of(step)?.source.device());
        let mut devices: Vec<usize> = rules.collect();
        devices.sort_unstable();
        devices.dedup();
        devices
    }

    /// The ports that have devices in common with a port, and it: a device may be read by one and written by another.
    #[must_use]
    pub fn ports_together(&self, port: usize) -> Vec<usize> {
        let mut all = vec![port];
        loop {
            let known = all.len();
            for (device, station) in self.devices.iter().enumerate() {
                let own = [Some(station.port), self.write_port(device)];
                if own.iter().flatten().any(|port| all.contains(port)) {
                    all.extend(own.into_iter().flatten());
                }
            }
            all.sort_unstable();
            all.dedup();
            if all.len() == known {
                return all;
            }
        }
    }

    /// Whether a device is asked or written by this port.
    #[must_use]
    pub fn is_on(&self, device: usize, port: usize) -> bool {
        self.devices.get(device).is_some_and(|d| d.port == port) || self.write_port(device) == Some(port)
    }
}
