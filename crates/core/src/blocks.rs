//! Blocks that are exchanged in cycles, as the programmer of the other end sees them: what lies at which byte.

use crate::plan::{CyclicLink, Plan, Source};
use crate::project::{Owner, Project};
use crate::protocol::{Extent, Flow};
use serde::Serialize;

/// One block of an exchange.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct BlockView {
    /// The image or the device.
    pub of: String,
    /// A controller exchanges it with us; else we are the controller.
    pub controller: bool,
    /// `inputs` or `outputs`, as the controller calls it.
    pub block: String,
    /// The converter sends it.
    pub sent: bool,
    /// How long it is.
    pub bytes: u32,
    /// What lies in it, in the order of the bytes.
    pub rows: Vec<BlockRow>,
}

/// One value in a block.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct BlockRow {
    /// Its first byte.
    pub byte: u32,
    /// How many bytes; 1 for a bit.
    pub bytes: u32,
    /// As the project writes it.
    pub address: String,
    /// How it lies there.
    pub form: String,
    /// Where it comes from, or where it goes.
    pub other: String,
}

impl BlockView {
    /// In words: `inputs of cell-plc, to its controller`.
    #[must_use]
    pub fn title(&self) -> String {
        let whose = if self.controller { "its controller" } else { "the converter" };
        // What the converter sends goes to a controller, and comes from the controller that it is itself.
        let way = if self.sent == self.controller { "to" } else { "from" };
        format!("{} of {}, {way} {whose}, {} bytes", self.block, self.of, self.bytes)
    }

    /// Runs of bytes that no value lies in.
    #[must_use]
    pub fn unused(&self) -> Vec<std::ops::Range<u32>> {
        let (mut found, mut end) = (vec![], 0);
        for row in &self.rows {
            if row.byte > end {
                found.push(end..row.byte);
            }
            end = end.max(row.byte + row.bytes);
        }
        if end < self.bytes {
            found.push(end..self.bytes);
        }
        found
    }
}

/// Every block of a project.
#[must_use]
pub fn blocks(project: &Project, plan: &Plan) -> Vec<BlockView> {
    plan.links.iter().flat_map(|link| of_link(project, plan, link)).collect()
}

fn of_link(project: &Project, plan: &Plan, link: &CyclicLink) -> Vec<BlockView> {
    let slots = link.slots.iter().flat_map(|slot| [slot.goes, slot.comes.map(|(extent, _)| extent)]);
    let mut found: Vec<BlockView> =
        slots.flatten().filter_map(|extent| view(project, plan, link, extent)).collect();
    found.sort_by(|one, other| one.block.cmp(&other.block));
    found
}

fn view(project: &Project, plan: &Plan, link: &CyclicLink, extent: Extent) -> Option<BlockView> {
    let station = plan.station(link.with)?;
    let space = station.space_at(extent.space)?;
    let mut rows = vec![];
    for rule in &plan.rules {
        let map = project.maps.get(rule.map)?;
        let (place, form, other) = match rule.source {
            _ if rule.board == link.board
                && rule.target.space == extent.space
                && space.flow == Flow::Goes =>
            {
                (rule.target, rule.conversion.to, map.from.value.clone())
            }
            Source::Values { owner, place, .. } if owner == link.with && place.space == extent.space => {
                (place, rule.conversion.from, map.to.value.clone())
            }
            _ => continue,
        };
        let plain = other.split(" as ").next().unwrap_or_default().trim().to_string();
        for item in 0..place.count {
            let own = place.item(item);
            let which = if place.count > 1 {
                format!("{plain}, value {} of {}", item + 1, place.count)
            } else {
                plain.clone()
            };
            rows.push(BlockRow {
                byte: own.first,
                bytes: own.count,
                address: station.address(extent.space, own.first, own.count, place.bit),
                form: form.to_string(),
                other: which,
            });
        }
    }
    rows.sort_by(|one, other| (one.byte, &one.address).cmp(&(other.byte, &other.address)));
    Some(BlockView {
        of: station.name.clone(),
        controller: matches!(link.with, Owner::Image(_)),
        block: space.name().to_string(),
        sent: space.flow == Flow::Goes,
        bytes: extent.count,
        rows,
    })
}
