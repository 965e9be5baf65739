//! Exchanges in cycles on paper: frames and bytes a second each way, watchdogs, and the share of the network.

use crate::plan::{CyclicLink, Plan, Station};
use crate::project::{Owner, Project, Wires};
use crate::protocol::{Cyclic, CyclicTimes};
use serde::Serialize;

/// What a network is taken for, in bits a second, to say a share of it.
pub const NETWORK_BITS: u64 = 100_000_000;
/// Below this no program can promise a cycle, in microseconds.
pub const PROMISED_US: u64 = 8000;

/// One port that exchanges blocks. Times are in microseconds.
#[derive(Debug, Clone, Serialize)]
pub struct NetworkBudget {
    /// The port's name.
    pub port: String,
    /// Our address there, or the interface.
    pub address: String,
    /// Each exchange.
    pub links: Vec<LinkBudget>,
    /// The share of 100 Mbit/s that all frames take both ways.
    pub share: f64,
    /// The shortest period of all.
    pub least_period_us: u64,
}

/// One exchange.
#[derive(Debug, Clone, Serialize)]
pub struct LinkBudget {
    /// The image or the device.
    pub with: String,
    /// A controller opens it; else we do.
    pub controller: bool,
    /// From frame to frame, each way.
    pub every_us: u64,
    /// A controller may ask for fewer: none is described.
    pub at_least: bool,
    /// Without a frame for so long, what came is lost: of a controller that is not described at its smallest multiplier.
    pub watchdog_us: u64,
    /// Bytes of the block that we send, and on the wire with all that is around them.
    pub sent: BlockBudget,
    /// The same of what comes.
    pub received: BlockBudget,
}

/// One direction of an exchange.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize)]
pub struct BlockBudget {
    /// Bytes of the block.
    pub bytes: u32,
    /// Bytes of a frame on the wire, all layers, preamble and pause.
    pub frame_bytes: u32,
    /// Frames a second.
    pub frames_per_second: f64,
}

impl BlockBudget {
    /// Bytes a second on the wire.
    #[must_use]
    pub fn bytes_per_second(&self) -> f64 {
        f64::from(self.frame_bytes) * self.frames_per_second
    }
}

/// The budget of every port that exchanges blocks.
#[must_use]
pub fn networks(project: &Project, plan: &Plan) -> Vec<NetworkBudget> {
    let budget = |(at, port): (usize, &crate::project::Port)| {
        let address = match &port.wires {
            Some(Wires::Network { at }) => at.value.to_string(),
            Some(Wires::Ethernet { interface }) => interface.value.clone(),
            _ => return None,
        };
        let links: Vec<LinkBudget> = plan
            .links
            .iter()
            .filter(|link| link.port == at)
            .filter_map(|own| link(project, plan, own))
            .collect();
        let sum: f64 =
            links.iter().map(|link| link.sent.bytes_per_second() + link.received.bytes_per_second()).sum();
        Some(NetworkBudget {
            port: port.name.value.clone(),
            address,
            share: sum * 8.0 / NETWORK_BITS as f64,
            least_period_us: links.iter().map(|link| link.every_us).min()?,
            links,
        })
    };
    project.ports.iter().enumerate().filter_map(budget).collect()
}

/// How often the quickest controller of an image sends that is described.
fn described(
    project: &Project,
    link: &CyclicLink,
    cyclic: &dyn Cyclic,
    station: &Station,
) -> Option<CyclicTimes> {
    let Owner::Image(image) = link.with else { return None };
    let usual = station.dialect?.stations().other_end(&station.setup);
    let all = project.clients_of(image).map(|client| cyclic.times(&client.setup.with(Some(&usual))));
    all.min_by_key(|times| (times.period, times.lost_after))
}

fn link(project: &Project, plan: &Plan, link: &CyclicLink) -> Option<LinkBudget> {
    let station = plan.station(link.with)?;
    let cyclic = station.dialect?.cyclic()?;
    let controller = matches!(link.with, Owner::Image(_));
    let described = described(project, link, cyclic, station);
    let times = described.unwrap_or(CyclicTimes { period: link.period, lost_after: link.lost_after });
    let frames_per_second = 1e6 / times.period.max(1) as f64;
    let block = |bytes, to_controller| {
        let frame_bytes = cyclic.frame_bytes(&station.setup, to_controller);
        BlockBudget { bytes, frame_bytes, frames_per_second }
    };
    let goes = link.slots.iter().filter_map(|slot| slot.goes).map(|extent| extent.count).sum();
    let comes = link.slots.iter().filter_map(|slot| slot.comes).map(|(extent, _)| extent.count).sum();
    Some(LinkBudget {
        with: station.name.clone(),
        controller,
        every_us: times.period,
        at_least: controller && described.is_none(),
        watchdog_us: times.lost_after,
        sent: block(goes, controller),
        received: block(comes, !controller),
    })
}
