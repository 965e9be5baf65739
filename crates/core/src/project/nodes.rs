//! Nodes of one box: repeated devices that answer as one station and are told apart by `shift` alone.

use super::Project;
use std::collections::HashMap;

impl Project {
    /// By device, the first node of its box; itself where it is a station of its own.
    ///
    /// They share one station, so the protocol must be one whose tables are the same for all of them.
    #[must_use]
    pub fn hosts(&self) -> Vec<usize> {
        let mut hosts: Vec<usize> = (0..self.devices.len()).collect();
        let mut boxes: HashMap<_, Vec<usize>> = HashMap::new();
        for (at, device) in self.devices.iter().enumerate() {
            let (Some(port), Some(dialect), true) =
                (device.port, self.device_dialect(at), device.n.is_some())
            else {
                continue;
            };
            if dialect.notation().standing().is_empty() || device.write_port.is_some() {
                continue;
            }
            if let Some(station) = dialect.stations().station(&device.setup) {
                boxes.entry((device.name.span, port.value, station)).or_default().push(at);
            }
        }
        for nodes in boxes.into_values().filter(|nodes| nodes.len() > 1) {
            let mut shifts: Vec<i64> =
                nodes.iter().filter_map(|at| Some(self.devices.get(*at)?.shift.value)).collect();
            shifts.sort_unstable();
            shifts.dedup();
            // Two at one place are one device twice.
            if shifts.len() < nodes.len() {
                continue;
            }
            for node in &nodes {
                if let (Some(own), Some(first)) = (hosts.get_mut(*node), nodes.first()) {
                    *own = *first;
                }
            }
        }
        hosts
    }
}
