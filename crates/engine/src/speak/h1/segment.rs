//! Who is on a simulated segment: the live list, as devices come, go, move and are replaced.

use crate::speak::ServedDevice;
use std::collections::HashMap;
use woodrush_core::protocol::PortKeys;
use woodrush_core::protocol::h1::{Located, tag, unpolled};
use woodrush_core::protocol::{DeviceBlock, Extent, Setup, SpaceId};
use woodrush_wire::h1::live;

/// The node of the link itself, which is the segment's scheduler.
pub(super) const LINK_NODE: u8 = 0x10;
/// The first node that devices without one of their own are given.
const FIRST_NODE: u8 = 0x14;

/// One node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct SegmentNode {
    pub(super) node: u8,
    pub(super) flags: u8,
    pub(super) tag: String,
    pub(super) device_id: String,
    /// Its place among the devices; `None` for the link itself.
    pub(super) device: Option<usize>,
}

/// Who is there.
#[derive(Default)]
pub(super) struct Segment {
    pub(super) nodes: Vec<SegmentNode>,
    pub(super) version: u32,
    devices: Vec<ServedDevice>,
    /// By device: its spaces by index.
    spaces: Vec<HashMap<u16, SpaceId>>,
}

/// A change of the live list: the node, and its flags now.
pub(super) type LiveChanged = (u8, u8);

impl Segment {
    /// Takes how devices and the link are now; says what has changed.
    pub(super) fn set_up(
        &mut self,
        devices: &[ServedDevice],
        port: &Setup,
        no_master: bool,
    ) -> Vec<LiveChanged> {
        self.devices = devices.to_vec();
        self.spaces = devices
            .iter()
            .map(|own| {
                own.spaces
                    .with_ids()
                    .filter_map(|(id, space)| Some((Located::of(space)?.index, id)))
                    .collect()
            })
            .collect();
        let before = std::mem::take(&mut self.nodes);
        let scheduler = if no_master { 0 } else { live::SCHEDULER };
        self.nodes.push(SegmentNode {
            node: LINK_NODE,
            flags: live::LIVE | live::LINK_MASTER | scheduler,
            tag: "SIM-LINK".into(),
            device_id: "FFF1010001-LINK".into(),
            device: None,
        });
        let hidden = unpolled(PortKeys(port)).ok().flatten().unwrap_or(0..0);
        for (at, own) in devices.iter().enumerate() {
            let given = FIRST_NODE.saturating_add(u8::try_from(at).unwrap_or(u8::MAX));
            let set = own.setup.number("node").and_then(|node| u8::try_from(node).ok());
            let node = own.faults.moved_to.or(set).unwrap_or(given);
            if own.faults.mute || hidden.contains(&node.into()) {
                continue;
            }
            let is_default = (0xF8..=0xFB).contains(&node);
            let id =
                own.setup.word("device-id").map_or_else(|| format!("FFF1010203-SIM-{at:06}"), str::to_string);
            self.nodes.push(SegmentNode {
                node,
                flags: live::LIVE | if is_default { live::DEFAULT_ADDRESS } else { 0 },
                tag: if is_default { String::new() } else { tag(&own.setup).unwrap_or_default().to_string() },
                device_id: if own.faults.swapped { "FFF1010203-SIM-OTHER".into() } else { id },
                device: Some(at),
            });
        }
        let gone = before.iter().filter(|old| self.nodes.iter().all(|new| new.node != old.node));
        let mut changed: Vec<LiveChanged> = gone.map(|old| (old.node, 0)).collect();
        changed
            .extend(self.nodes.iter().filter(|new| !before.contains(new)).map(|new| (new.node, new.flags)));
        if before.is_empty() {
            changed.clear();
        }
        self.version = self.version.wrapping_add(u32::try_from(changed.len()).unwrap_or(0));
        changed
    }

    /// The device at a node.
    pub(super) fn device(&self, node: u8) -> Option<usize> {
        self.nodes.iter().find(|own| own.node == node)?.device
    }

    /// How a device is.
    pub(super) fn served(&self, device: usize) -> Option<&ServedDevice> {
        self.devices.get(device)
    }

    /// The cells of an object, and their type on the link; `None` where there is no such parameter.
    pub(super) fn cells(&self, device: usize, index: u16, sub: u8) -> Option<Result<(Extent, u8), ()>> {
        let space = *self.spaces.get(device)?.get(&index)?;
        let located = Located::of(self.devices.get(device)?.spaces.get(space)?)?;
        Some(
            located
                .bytes_of(sub)
                .map(|(first, count, code)| (Extent { space, first, count }, code))
                .ok_or(()),
        )
    }

    /// The block that an index lies in.
    pub(super) fn block(&self, device: usize, index: u16) -> Option<&DeviceBlock> {
        let blocks = &self.devices.get(device)?.setup.blocks.as_deref()?.blocks;
        blocks.iter().filter(|own| own.start < u32::from(index)).max_by_key(|own| own.start)
    }
}
