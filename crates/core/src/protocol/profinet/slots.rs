//! Slots in cyclic frames: what comes and goes, how long frames are, and one of them as bytes.

use super::layout::{PERIOD_MAX, PERIOD_MIN, StationLayout, Submodule, period};
use super::{ends, gsdml};
use crate::protocol::direct::Block;
use crate::protocol::{
    Cyclic, CyclicTimes, DeviceFile, FrameExample, Holder, SettingFault, Setup, Slot, Space,
};
use std::ops::RangeInclusive;
use woodrush_wire::profinet::rt::{AROUND, DATA, DataStatus, RtFrame, iox};

/// Bytes of Ethernet around a frame: pause, preamble, addresses, tag, EtherType and check sum.
const ETHERNET: u32 = 12 + 8 + 12 + 4 + 2 + 4;
/// FrameIDs of frames that show how one looks.
const SHOWN_IDS: [u16; 2] = [0xC000, 0xC001];

/// The key of a space: where it is, and which way it goes.
#[must_use]
pub fn key_of(slot: u16, subslot: u16, to_controller: bool) -> String {
    let letter = if to_controller { Block::Inputs } else { Block::Outputs }.letter();
    if subslot == 1 { format!("{slot}:{letter}") } else { format!("{slot}/{subslot}:{letter}") }
}

/// The same in words: `slot 1 inputs`.
pub(super) fn words_of(slot: u16, subslot: u16, block: Block) -> String {
    let word = if block == Block::Inputs { "inputs" } else { "outputs" };
    if subslot == 1 { format!("slot {slot} {word}") } else { format!("slot {slot}/{subslot} {word}") }
}

/// What a space's key says.
pub(super) fn of_key(key: &str) -> Option<(u16, u16, Block)> {
    let (place, letter) = key.split_once(':')?;
    let (slot, subslot) = place.split_once('/').unwrap_or((place, "1"));
    let block = if letter == "Q" { Block::Outputs } else { Block::Inputs };
    Some((slot.parse().ok()?, subslot.parse().ok()?, block))
}

/// The space of one direction of a submodule, as `holder` sees it.
pub(super) fn space(slot: u16, subslot: u16, block: Block, len: Option<u16>, holder: Holder) -> Space {
    let key = key_of(slot, subslot, block == Block::Inputs);
    block.space(holder, key.into(), Some(words_of(slot, subslot, block).into()), len.map(u32::from))
}

impl Cyclic for super::IoDevice {
    fn slots(&self, setup: &Setup, holder: Holder) -> Vec<Slot> {
        let layout = StationLayout::of(setup).map(|own| own.submodules).unwrap_or_default();
        let slot = |own: &Submodule| {
            let one = |block, bytes: u16| {
                (bytes > 0).then(|| space(own.slot, own.subslot, block, Some(bytes), holder))
            };
            let (inputs, outputs) = (one(Block::Inputs, own.input), one(Block::Outputs, own.output));
            match holder {
                Holder::Image => Slot { comes: outputs, goes: inputs },
                Holder::Device => Slot { comes: inputs, goes: outputs },
            }
        };
        layout.iter().map(slot).collect()
    }

    fn times(&self, setup: &Setup) -> CyclicTimes {
        let period = period(setup);
        let cycles = StationLayout::of(setup).map_or(3, |own| own.watchdog);
        CyclicTimes { period: period.into(), lost_after: u64::from(period) * u64::from(cycles) }
    }

    fn frame_bytes(&self, setup: &Setup, to_controller: bool) -> u32 {
        let data =
            StationLayout::of(setup).map_or_else(|| (*DATA.start()).into(), |own| own.frame(to_controller).1);
        ETHERNET + u32::try_from(AROUND).unwrap_or(0) + data
    }

    fn tells_loss(&self) -> bool {
        true
    }

    fn periods(&self) -> RangeInclusive<u64> {
        PERIOD_MIN.into()..=PERIOD_MAX.into()
    }

    fn most_bytes(&self, _space: &Space) -> u32 {
        u32::from(*DATA.end()) - 1
    }

    fn example(&self, space: &Space, bytes: &[u8], setup: &Setup) -> FrameExample {
        let (slot, subslot, block) = of_key(&space.key).unwrap_or((0, 1, Block::Inputs));
        let layout = StationLayout::of(setup);
        let to_controller = block == Block::Inputs;
        let (parts, length) = layout.map(|own| own.frame(to_controller)).unwrap_or_default();
        let mut data = vec![0; length as usize];
        let mut begins = 0;
        for part in parts {
            let at = usize::from(part.placed.offset);
            let mine = part.data.is_some() && (part.placed.slot, part.placed.subslot) == (slot, subslot);
            if mine {
                begins = at;
                if let Some(place) = data.get_mut(at..at + bytes.len()) {
                    place.copy_from_slice(bytes);
                }
            }
            if let Some(status) = data.get_mut(at + usize::from(part.data.unwrap_or(0))) {
                *status = iox::GOOD;
            }
        }
        let frame_id = SHOWN_IDS[usize::from(!to_controller)];
        let mut frame = vec![];
        RtFrame { frame_id, data: &data, counter: 0, status: DataStatus::RUN }.emit(&mut frame);
        let words = format!("{}: {} bytes of slot {slot}", block.seen(), bytes.len());
        FrameExample { words, bytes: frame, begins: begins + 2 }
    }

    fn device_file(
        &self,
        images: &[(&str, &Setup)],
        port: &Setup,
        date: (i16, i8, i8),
    ) -> Option<DeviceFile> {
        // An interface is one station.
        let (image, setup) = images.first()?;
        let name = Some(gsdml::file_name(image, port, date));
        Some(DeviceFile { format: "gsdml", suffix: "xml", name, text: gsdml::text(image, setup, port)? })
    }

    fn numbers(&self, _setup: &Setup) -> Vec<(&'static str, u32)> {
        // Slots are numbered within their station, and a port has one.
        vec![]
    }

    fn own_address(&self, setup: &Setup) -> Option<(std::net::Ipv4Addr, u8)> {
        let own = super::suite(setup.word("address")?).ok()?;
        Some((own.address, u8::try_from(u32::from(own.mask).count_ones()).unwrap_or(32)))
    }

    fn takes_one(&self) -> bool {
        true
    }

    fn differences(&self, ours: &Setup, theirs: &Setup) -> Vec<SettingFault> {
        ends::differences(ours, theirs)
    }

    fn has(&self, theirs: &Setup, space: &Space) -> bool {
        let Some(layout) = StationLayout::of(theirs) else { return true };
        let at = of_key(&space.key);
        layout
            .submodules
            .iter()
            .any(|own| at.is_some_and(|(slot, subslot, _)| (own.slot, own.subslot) == (slot, subslot)))
    }

    fn settle(&self, _setup: &mut Setup, _space: &Space, _bytes: u32) {
        // A slot always says its bytes: the module that is plugged at the controller depends on them.
    }
}
