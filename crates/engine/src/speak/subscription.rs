//! Values that come by themselves.

use woodrush_core::plan::{Plan, Station};
use woodrush_core::protocol::Extent;

/// A transfer whose values come by themselves, and whose they are.
#[derive(Debug, Clone)]
pub struct Subscription {
    /// Index of the transfer in the plan.
    pub transfer: usize,
    /// The station, as it is in that plan.
    pub station: Station,
    /// What comes.
    pub extent: Extent,
}

/// What comes by itself on a port, as a plan has it.
#[must_use]
pub fn subscriptions(plan: &Plan, port: usize) -> Vec<Subscription> {
    let published = plan.transfers.iter().enumerate().filter(|(_, transfer)| !transfer.cadence.is_asked());
    let here = published.filter_map(|(at, transfer)| {
        let station = plan.station(transfer.from).filter(|station| station.port == port)?;
        Some(Subscription { transfer: at, station: station.clone(), extent: transfer.first()? })
    });
    here.collect()
}
