//! An opening judged: whether its blocks are complete and within bounds, whether all that is expected has its place in the
//! frames, and how what is plugged differs.

use super::cyclic::{FrameFlow, FramePiece};
use std::collections::BTreeMap;
use std::ops::RangeInclusive;
use woodrush_core::protocol::profinet::{SEND_CLOCK, SUBMODULES_MAX, StationLayout, WATCHDOG_MAX_US};
use woodrush_wire::profinet::block::{Block, Blocks, kind};
use woodrush_wire::profinet::connect::{
    AR_ACTIVE, AR_CONTROLLER, AR_DEVICE_ACCESS, AR_TAKEOVER, AlarmRequest, ArRequest,
};
use woodrush_wire::profinet::iocr::{Direction, FRAME_ID_OPEN, IocrRequest, Placed};
use woodrush_wire::profinet::name;
use woodrush_wire::profinet::status::{self, PnioStatus, calls, place, service};
use woodrush_wire::profinet::submodules::{
    self, Difference, Expected, ModuleState, SUBMODULE_MISSING, SUBMODULE_WRONG,
};

/// Numbers of fields by which openings are refused.
const AR_TYPE: u8 = 0x04;
const AR_UUID: u8 = 0x05;
const AR_MAC: u8 = 0x07;
const AR_PROPERTIES: u8 = 0x09;
const AR_NAME: u8 = 0x0D;
const FRAME_ID: u8 = 0x09;
const SEND_CLOCK_FIELD: u8 = 0x0A;
const RATIO: u8 = 0x0B;
const WATCHDOG: u8 = 0x0F;
const OBJECTS: u8 = 0x15;
const OBJECT_OFFSET: u8 = 0x18;
const IOCS_OFFSET: u8 = 0x1C;

/// An opening that can be taken.
#[derive(Debug)]
pub(super) struct Opening<'a> {
    pub(super) ar: ArRequest<'a>,
    pub(super) alarm: AlarmRequest,
    pub(super) input: Half,
    pub(super) output: Half,
    pub(super) differences: Vec<Difference>,
}

/// One direction of it.
#[derive(Debug)]
pub(super) struct Half {
    pub(super) reference: u16,
    pub(super) flow: FrameFlow,
    /// Without a frame for so long it is lost, in microseconds.
    pub(super) watchdog: u64,
}

fn refused<T>(place: u8, number: u8) -> Result<T, PnioStatus> {
    Err(PnioStatus::protocol(service::CONNECT, place, number))
}

/// The blocks of an opening, each kind as often as it may be there.
struct Parts<'a> {
    ar: ArRequest<'a>,
    input: IocrRequest<'a>,
    output: IocrRequest<'a>,
    alarm: AlarmRequest,
    expected: Vec<Expected>,
}

fn parts(arguments: &[u8]) -> Result<Parts<'_>, PnioStatus> {
    let unread = |error| status::of(service::CONNECT, &error);
    let (mut ar, mut input, mut output, mut alarm, mut expected) = (None, None, None, None, vec![]);
    for block in Blocks(arguments) {
        let block: Block<'_> = block.map_err(unread)?;
        match block.kind {
            kind::AR if ar.is_none() => ar = Some(ArRequest::parse(&block).map_err(unread)?),
            kind::IOCR => {
                let own = IocrRequest::parse(&block).map_err(unread)?;
                let place = if own.direction == Direction::Input { &mut input } else { &mut output };
                if place.replace(own).is_some() {
                    return refused(place::CALLS, calls::UNKNOWN_BLOCKS);
                }
            }
            kind::ALARM_CR => {
                if alarm.replace(AlarmRequest::parse(&block).map_err(unread)?).is_some() {
                    return refused(place::CALLS, calls::ALARM_CR_COUNT);
                }
            }
            kind::EXPECTED => submodules::parse(&block, |own| expected.push(own)).map_err(unread)?,
            _ => return refused(place::CALLS, calls::UNKNOWN_BLOCKS),
        }
        if expected.len() > SUBMODULES_MAX {
            return refused(place::EXPECTED, 0x09);
        }
    }
    let Some(ar) = ar else { return refused(place::CALLS, calls::UNKNOWN_BLOCKS) };
    let (Some(input), Some(output)) = (input, output) else {
        return refused(place::CALLS, calls::IOCR_MISSING);
    };
    let Some(alarm) = alarm else { return refused(place::CALLS, calls::ALARM_CR_COUNT) };
    Ok(Parts { ar, input, output, alarm, expected })
}

fn judge_relation(ar: &ArRequest<'_>) -> Result<(), PnioStatus> {
    if ar.ar_type != AR_CONTROLLER {
        return refused(place::AR, AR_TYPE);
    }
    if ar.uuid.is_nil() {
        return refused(place::AR, AR_UUID);
    }
    if ar.mac[0] & 1 == 1 || ar.mac == [0; 6] {
        return refused(place::AR, AR_MAC);
    }
    if ar.properties & 7 != AR_ACTIVE || ar.properties & (AR_TAKEOVER | AR_DEVICE_ACCESS) != 0 {
        return refused(place::AR, AR_PROPERTIES);
    }
    match std::str::from_utf8(ar.name).map(name::check) {
        Ok(Ok(())) => Ok(()),
        _ => refused(place::AR, AR_NAME),
    }
}

/// The FrameIDs of the class that is wanted.
const fn class(properties: u32) -> RangeInclusive<u16> {
    match properties & 0x0F {
        2 => 0x8000..=0xBBFF,
        _ => 0xC000..=0xF7FF,
    }
}

/// Period and watchdog of a direction, in microseconds; `shortest` is what is accepted at least.
fn judge_times(own: &IocrRequest<'_>, shortest: u64) -> Result<(u64, u64), PnioStatus> {
    if own.send_clock != SEND_CLOCK {
        return refused(place::IOCR, SEND_CLOCK_FIELD);
    }
    let period = own.period_ns() / 1000;
    if period < shortest {
        return refused(place::IOCR, RATIO);
    }
    let watchdog = period * u64::from(own.watchdog);
    if watchdog > WATCHDOG_MAX_US {
        return refused(place::IOCR, WATCHDOG);
    }
    Ok((period, watchdog))
}

/// Profile, slot and subslot of something in a frame, and whether it is a consumer's status.
type ObjectKey = (u32, u16, u16, bool);
/// What is plugged where something is expected: nothing that fits, the head's, or the slot of that index.
type Plugged = Option<Option<usize>>;

/// The parts of a direction: all that is expected there has its place, nothing has two, and none lies on another.
fn judge_places(
    own: &IocrRequest<'_>,
    expected: &[(Expected, Plugged)],
) -> Result<Vec<FramePiece>, PnioStatus> {
    let input = own.direction == Direction::Input;
    let mut taken = vec![false; own.data_length.into()];
    let mut wanted: BTreeMap<ObjectKey, (usize, Plugged)> = BTreeMap::new();
    for (one, slot) in expected {
        let (data, other) = if input { (one.input, one.output) } else { (one.output, one.input) };
        let key = |iocs| (one.api, one.slot, one.subslot, iocs);
        if let Some(bytes) = data {
            wanted.insert(key(false), (bytes.into(), *slot));
        }
        if other.is_some() {
            wanted.insert(key(true), (0, *slot));
        }
    }
    let (mut parts, mut fault) = (vec![], None);
    own.each(|at: Placed, iocs| {
        let key = (at.api, at.slot, at.subslot, iocs);
        let Some((bytes, slot)) = wanted.remove(&key) else {
            // It is there twice, or nothing of the kind is expected.
            fault = fault.or(Some(if iocs { 0x19 } else { OBJECTS }));
            return;
        };
        let begin = usize::from(at.offset);
        let place = taken.get_mut(begin..begin + bytes + 1);
        let Some(place) = place.filter(|place| !place.contains(&true)) else {
            fault = fault.or(Some(if iocs { IOCS_OFFSET } else { OBJECT_OFFSET }));
            return;
        };
        place.fill(true);
        let data = (!iocs).then_some(bytes);
        parts.push(FramePiece { offset: begin, data, slot: slot.flatten(), plugged: slot.is_some() });
    });
    match (fault, wanted.keys().next()) {
        (Some(field), _) => refused(place::IOCR, field),
        (None, Some((.., iocs))) => refused(place::IOCR, if *iocs { 0x19 } else { OBJECTS }),
        (None, None) => Ok(parts),
    }
}

/// What is plugged where something is expected: nothing, the head's, or the slot of that index.
fn plugged(layout: &StationLayout, expected: &Expected) -> Result<Option<usize>, Difference> {
    let real = layout.expected();
    let here = || real.iter().filter(|own| (own.api, own.slot) == (expected.api, expected.slot));
    let differs = |module, state, submodule| Difference {
        api: expected.api,
        slot: expected.slot,
        module,
        state,
        submodule,
    };
    let Some(module) = here().next().map(|own| own.module) else {
        return Err(differs(0, ModuleState::Missing, None));
    };
    let found = here().find(|own| own.subslot == expected.subslot);
    let state = if module == expected.module { ModuleState::Proper } else { ModuleState::Wrong };
    match found {
        None => Err(differs(module, state, Some((expected.subslot, 0, SUBMODULE_MISSING)))),
        Some(own)
            if state == ModuleState::Wrong
                || (own.ident, own.input, own.output)
                    != (expected.ident, expected.input, expected.output) =>
        {
            Err(differs(module, state, Some((expected.subslot, own.ident, SUBMODULE_WRONG))))
        }
        Some(_) => {
            let own = |own: &woodrush_core::protocol::profinet::Submodule| {
                (own.slot, own.subslot) == (expected.slot, expected.subslot)
            };
            Ok(layout.submodules.iter().position(own))
        }
    }
}

/// Judges an opening: what it comes to, or the number by which it is refused.
pub(super) fn judge<'a>(arguments: &'a [u8], layout: &StationLayout) -> Result<Opening<'a>, PnioStatus> {
    let Parts { ar, input, output, alarm, expected } = parts(arguments)?;
    judge_relation(&ar)?;
    let shortest = u64::from(layout.period);
    let (input_times, output_times) = (judge_times(&input, shortest)?, judge_times(&output, shortest)?);
    if !class(input.properties).contains(&input.frame_id) {
        return refused(place::IOCR, FRAME_ID);
    }
    if output.frame_id != FRAME_ID_OPEN && !class(output.properties).contains(&output.frame_id) {
        return refused(place::IOCR, FRAME_ID);
    }
    let mut differences = vec![];
    let mut judged = vec![];
    for own in expected {
        if judged.iter().any(|(other, _): &(Expected, _)| {
            (other.api, other.slot, other.subslot) == (own.api, own.slot, own.subslot)
        }) {
            return refused(place::EXPECTED, 0x0A);
        }
        match plugged(layout, &own) {
            Ok(slot) => judged.push((own, Some(slot))),
            Err(difference) => {
                differences.push(difference);
                judged.push((own, None));
            }
        }
    }
    let half = |own: &IocrRequest<'_>, (period, watchdog): (u64, u64), frame_id| {
        let parts = judge_places(own, &judged)?;
        let flow = FrameFlow { frame_id, length: own.data_length, period, parts };
        Ok::<_, PnioStatus>(Half { reference: own.reference, flow, watchdog })
    };
    // The device chooses: the next one of the class, so that no two directions have one.
    let class = class(output.properties);
    let next = input.frame_id.wrapping_add(1);
    let chosen = if class.contains(&next) { next } else { *class.start() };
    let input = half(&input, input_times, input.frame_id)?;
    let output = half(&output, output_times, chosen)?;
    Ok(Opening { ar, alarm, input, output, differences })
}
