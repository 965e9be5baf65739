//! What a controller says when it opens a connection, and what it learns from the answer.

use super::cyclic::{FrameFlow, FramePiece};
use super::ether::Mac;
use woodrush_core::protocol::profinet::{FramePart, SEND_CLOCK, StationLayout, TEST_VENDOR};
use woodrush_wire::profinet::Uuid;
use woodrush_wire::profinet::block::{Blocks, kind as block};
use woodrush_wire::profinet::connect::{
    AR_ACTIVE, AR_CONTROLLER, AR_PARAMETERS, AlarmAnswer, AlarmRequest, ArRequest,
};
use woodrush_wire::profinet::iocr::{Direction, FRAME_ID_OPEN, IocrAnswer, NewIocr, Placed};
use woodrush_wire::profinet::submodules::{self, Expected};

/// Within what each step of the opening must follow the one before, in units of 100 ms.
pub(super) const ACTIVITY: u16 = 10;
/// By what we name the alarm channel.
pub(super) const ALARM_REFERENCE: u16 = 1;
/// The FrameID of the frames that come to us.
pub(super) const INPUT_FRAME: u16 = 0xC010;

/// A connection that is to be opened.
pub(super) struct NewRelation {
    pub(super) uuid: Uuid,
    pub(super) mac: Mac,
    /// The controller's own name of station.
    pub(super) name: String,
    pub(super) layout: StationLayout,
    pub(super) expected: Vec<Expected>,
}

/// Appends the blocks of the call that opens it.
pub(super) fn emit_opening(out: &mut Vec<u8>, new: &NewRelation) {
    ArRequest {
        ar_type: AR_CONTROLLER,
        uuid: new.uuid,
        session: 1,
        mac: new.mac,
        object: Uuid::object(1, 1, TEST_VENDOR),
        properties: AR_ACTIVE | AR_PARAMETERS,
        activity_timeout: ACTIVITY,
        name: new.name.as_bytes(),
    }
    .emit(out);
    for (direction, reference) in [(Direction::Input, 1), (Direction::Output, 2)] {
        let input = direction == Direction::Input;
        let (parts, length) = new.layout.frame(input);
        let chosen = |data: bool| -> Vec<Placed> {
            let own = |part: &&FramePart| part.data.is_some() == data;
            parts.iter().filter(own).map(|part| part.placed).collect()
        };
        NewIocr {
            direction,
            reference,
            class: 1,
            data_length: u16::try_from(length).unwrap_or(u16::MAX),
            frame_id: if input { INPUT_FRAME } else { FRAME_ID_OPEN },
            send_clock: SEND_CLOCK,
            ratio: new.layout.ratio(),
            watchdog: u16::try_from(new.layout.watchdog).unwrap_or(u16::MAX),
            objects: &chosen(true),
            iocs: &chosen(false),
        }
        .emit(out);
    }
    AlarmRequest { properties: 0, timeout: 1, retries: 3, reference: ALARM_REFERENCE, longest: 200 }
        .emit(out);
    let slots = new.expected.chunk_by(|own, other| own.slot == other.slot);
    slots.for_each(|slot| submodules::emit(out, slot));
}

/// What the device says to that.
pub(super) struct OpenedRelation {
    /// The FrameID of the frames that we send.
    pub(super) output_id: u16,
    pub(super) alarm_reference: u16,
    /// Slots and subslots where another module is plugged, or none.
    differing: Vec<(u16, u16)>,
    /// The same in words.
    pub(super) words: Vec<String>,
}

impl OpenedRelation {
    /// Reads the blocks of its answer; `None` where they do not say how our frames are to be numbered.
    pub(super) fn of(arguments: &[u8], layout: &StationLayout) -> Option<Self> {
        let (mut output_id, mut alarm_reference, mut differing, mut words) = (None, 0, vec![], vec![]);
        for own in Blocks(arguments).flatten() {
            match own.kind {
                block::IOCR_ANSWER => {
                    let own = IocrAnswer::parse(&own).ok().filter(|own| own.direction == Direction::Output);
                    output_id = output_id.or(own.map(|own| own.frame_id));
                }
                block::ALARM_CR_ANSWER => {
                    alarm_reference = AlarmAnswer::parse(&own).map_or(0, |own| own.reference);
                }
                block::MODULE_DIFF => {
                    let _ = submodules::parse_differences(&own, |own| {
                        words.push(format!("slot {}: {}", own.slot, own.state.words()));
                        let here = layout.submodules.iter().filter(|other| other.slot == own.slot);
                        differing.extend(here.map(|other| (other.slot, other.subslot)));
                    });
                }
                _ => {}
            }
        }
        Some(Self { output_id: output_id?, alarm_reference, differing, words })
    }

    /// The frames of a direction as the layout has them, but for slots that differ at the device.
    pub(super) fn flow(&self, layout: &StationLayout, to_controller: bool, frame_id: u16) -> FrameFlow {
        let (parts, length) = layout.frame(to_controller);
        let part = |own: &FramePart| {
            let at = (own.placed.slot, own.placed.subslot);
            FramePiece {
                offset: own.placed.offset.into(),
                data: own.data.map(usize::from),
                slot: layout.submodules.iter().position(|own| (own.slot, own.subslot) == at),
                plugged: !self.differing.contains(&at),
            }
        };
        FrameFlow {
            frame_id,
            length: u16::try_from(length).unwrap_or(u16::MAX),
            period: layout.period.into(),
            parts: parts.iter().map(part).collect(),
        }
    }
}
