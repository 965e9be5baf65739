//! An opening of the one end judged by the other, and frames between what both have agreed on, for any layout.

use crate::Moment;
use crate::speak::profinet::cyclic::{Consumer, FrameFlow, Provider};
use crate::speak::profinet::ether::{EtherFrame, Mac};
use crate::speak::profinet::judging::{Opening, judge};
use crate::speak::profinet::opening::{INPUT_FRAME, NewRelation, OpenedRelation, emit_opening};
use crate::speak::{LinkLoss, NetAct, Produced};
use proptest::collection::{btree_map, vec};
use proptest::prelude::*;
use std::collections::VecDeque;
use woodrush_core::protocol::profinet::{StationLayout, Submodule, WATCHDOG_MAX_US};
use woodrush_wire::profinet::Uuid;
use woodrush_wire::profinet::connect::AlarmAnswer;
use woodrush_wire::profinet::iocr::{Direction, IocrAnswer};
use woodrush_wire::profinet::submodules;

const DEVICE: Mac = [2, 0x57, 0x52, 0, 0, 1];
const CONTROLLER: Mac = [2, 0x57, 0x52, 0, 0, 2];

/// Any station of a few slots, some of them in two parts.
fn layouts() -> impl Strategy<Value = StationLayout> {
    let slots = btree_map((1u16..40, 1u16..3), (0u16..60, 0u16..60), 1..8);
    (slots, 0u32..10, 3u32..200).prop_map(|(slots, power, cycles)| {
        let part = |((slot, subslot), (input, output))| Submodule { slot, subslot, input, output };
        let period = 1000 << power;
        let most = u32::try_from(WATCHDOG_MAX_US).unwrap() / period;
        StationLayout {
            name: "raceway-box".into(),
            address: None,
            submodules: slots.into_iter().map(part).collect(),
            period,
            watchdog: cycles.min(most),
        }
    })
}

/// The blocks of a call that opens a station, as one that is built so expects it.
pub(super) fn opening(layout: &StationLayout) -> Vec<u8> {
    let new = NewRelation {
        uuid: Uuid::object(7, 1, 2),
        mac: CONTROLLER,
        name: "line-plc".into(),
        layout: layout.clone(),
        expected: layout.expected(),
    };
    let mut out = vec![];
    emit_opening(&mut out, &new);
    out
}

/// What the device answers to an opening that it takes, as the controller reads it.
fn opened(judged: &Opening<'_>, layout: &StationLayout) -> OpenedRelation {
    let mut out = vec![];
    for (direction, half) in [(Direction::Input, &judged.input), (Direction::Output, &judged.output)] {
        IocrAnswer { direction, reference: half.reference, frame_id: half.flow.frame_id }.emit(&mut out);
    }
    AlarmAnswer { reference: 5, longest: 200 }.emit(&mut out);
    if !judged.differences.is_empty() {
        submodules::emit_differences(&mut out, &judged.differences);
    }
    OpenedRelation::of(&out, layout).unwrap()
}

/// Both directions as the device has them, and as the controller does.
fn agreed(layout: &StationLayout) -> [(FrameFlow, FrameFlow); 2] {
    let arguments = opening(layout);
    let judged = judge(&arguments, layout).unwrap();
    let own = opened(&judged, layout);
    let input = own.flow(layout, true, INPUT_FRAME);
    let output = own.flow(layout, false, own.output_id);
    [(judged.input.flow, input), (judged.output.flow, output)]
}

/// A frame sent by the one and taken by the other: what is told of it.
fn passed(provider: &mut Provider, consumer: &mut Consumer, now: Moment, cells: &Produced) -> Vec<NetAct> {
    let mut out = VecDeque::new();
    provider.produced(now, cells, 0, &mut out);
    let Some(NetAct::Frame { bytes, .. }) = out.pop_back() else { panic!("no frame") };
    let ether = EtherFrame::parse(&bytes).unwrap();
    consumer.heard(now, (ether.from, ether.payload), 0, &mut out);
    out.into()
}

fn came(acts: &[NetAct]) -> Vec<(usize, &[u8])> {
    let own = |act| match act {
        &NetAct::Came { slot, ref cells, .. } => Some((slot, &cells[..])),
        _ => None,
    };
    acts.iter().filter_map(own).collect()
}

/// Bytes of each slot in a direction, all different.
fn cells(flow: &FrameFlow, slots: usize, seed: u8) -> Vec<Vec<u8>> {
    let len = |slot| flow.parts.iter().find(|part| part.slot == Some(slot) && part.data.is_some());
    let bytes = |slot| len(slot).and_then(|part| part.data).unwrap_or(0);
    (0..slots)
        .map(|slot| (0..bytes(slot)).map(|at| seed.wrapping_add((slot * 31 + at) as u8) | 1).collect())
        .collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn both_ends_agree_on_every_layout(layout in layouts()) {
        let arguments = opening(&layout);
        let judged = judge(&arguments, &layout).unwrap();
        prop_assert!(judged.differences.is_empty(), "{:?}", judged.differences);
        let watchdog = u64::from(layout.period) * u64::from(layout.watchdog);
        prop_assert_eq!((judged.input.watchdog, judged.output.watchdog), (watchdog, watchdog));
        prop_assert_eq!(judged.ar.name, b"line-plc");
        for (device, controller) in agreed(&layout) {
            // The device has them in the order of the call; each has the same place.
            let sorted = |mut own: FrameFlow| {
                own.parts.sort_by_key(|part| part.offset);
                own
            };
            prop_assert_eq!(sorted(device), sorted(controller));
        }
    }

    #[test]
    fn what_the_one_sends_arrives_at_the_other_slot_by_slot(layout in layouts(), seed: u8, lost in vec(any::<bool>(), 8)) {
        let slots = layout.submodules.len();
        for (at, (sends, takes)) in agreed(&layout).into_iter().enumerate() {
            let ends = if at == 0 { (DEVICE, CONTROLLER) } else { (CONTROLLER, DEVICE) };
            let mut provider = Provider::new(sends.clone(), ends, Moment(0));
            let mut consumer = Consumer::new(takes, ends.0, 1_000_000, (Moment(0), 1_000_000));
            (provider.ready, consumer.lands) = (true, true);
            let mut produced = Produced { slots: cells(&sends, slots, seed), lost: vec![] };
            let told = passed(&mut provider, &mut consumer, Moment(0), &produced);
            let with_data = |slot: usize| sends.parts.iter().any(|part| part.slot == Some(slot) && part.data.is_some());
            let wanted: Vec<_> = (0..slots).filter(|slot| with_data(*slot)).map(|slot| (slot, &produced.slots[slot][..])).collect();
            let mut found = came(&told);
            found.sort_unstable();
            prop_assert_eq!(found, wanted);
            // Of the same bytes nothing is told but that they came; of what is lost, that it is bad, once.
            let told = passed(&mut provider, &mut consumer, Moment(sends.period), &produced);
            prop_assert_eq!(told, [NetAct::Still(0)]);
            produced.lost = (0..slots).filter(|slot| lost[*slot]).collect();
            let told = passed(&mut provider, &mut consumer, Moment(2 * sends.period), &produced);
            let mut bad: Vec<_> = told.iter().filter_map(|act| match act {
                NetAct::Unsound { slot, .. } => Some(*slot),
                _ => None,
            }).collect();
            bad.sort_unstable();
            prop_assert_eq!(bad, produced.lost.iter().copied().filter(|slot| with_data(*slot)).collect::<Vec<_>>());
            prop_assert!(came(&told).is_empty());
            // An end that stands still is told once, and says no values.
            provider.stopped = true;
            let told = passed(&mut provider, &mut consumer, Moment(3 * sends.period), &produced);
            prop_assert_eq!(told, [NetAct::Stopped(0, LinkLoss::Idle)]);
            prop_assert_eq!(passed(&mut provider, &mut consumer, Moment(4 * sends.period), &produced), []);
        }
    }

    #[test]
    fn an_opening_with_a_wrong_byte_is_refused_or_lies_within_its_frames(layout in layouts(), at: prop::sample::Index, with in 1u8..) {
        let mut arguments = opening(&layout);
        let at = at.index(arguments.len());
        arguments[at] ^= with;
        if let Ok(own) = judge(&arguments, &layout) {
            for half in [&own.input, &own.output] {
                let mut taken = vec![false; half.flow.length.into()];
                for part in &half.flow.parts {
                    for place in &mut taken[part.offset..=part.offset + part.data.unwrap_or(0)] {
                        prop_assert!(!std::mem::replace(place, true), "two have one place");
                    }
                }
                prop_assert!(half.watchdog <= WATCHDOG_MAX_US && half.flow.period >= u64::from(layout.period));
            }
            prop_assert_ne!(own.input.flow.frame_id, own.output.flow.frame_id);
        }
    }

    #[test]
    fn an_opening_that_is_cut_is_refused(layout in layouts(), at: prop::sample::Index) {
        let arguments = opening(&layout);
        prop_assert!(judge(&arguments[..at.index(arguments.len())], &layout).is_err());
    }
}

#[test]
fn the_frames_of_the_two_directions_never_have_one_number() {
    let layout = StationLayout {
        name: "raceway-box".into(),
        address: None,
        submodules: vec![Submodule { slot: 1, subslot: 1, input: 8, output: 4 }],
        period: 8000,
        watchdog: 3,
    };
    let arguments = opening(&layout);
    let at = arguments.windows(2).position(|two| two == INPUT_FRAME.to_be_bytes()).unwrap();
    for frame_id in [0xC000u16, 0xC001, 0xF7FE, 0xF7FF] {
        let mut own = arguments.clone();
        own[at..at + 2].copy_from_slice(&frame_id.to_be_bytes());
        let judged = judge(&own, &layout).unwrap();
        let (input, output) = (judged.input.flow.frame_id, judged.output.flow.frame_id);
        assert!(input == frame_id && output != input, "{input:04X} {output:04X}");
        assert!((0xC000..=0xF7FF).contains(&output), "{output:04X}");
    }
    // What lies outside of the class is refused with the number of the field.
    for frame_id in [0xBFFFu16, 0xF800, 0x0000] {
        let mut own = arguments.clone();
        own[at..at + 2].copy_from_slice(&frame_id.to_be_bytes());
        assert_eq!(
            judge(&own, &layout).map(drop).unwrap_err().to_string()[..11],
            *"DB 81 02 09",
            "{frame_id:04X}"
        );
    }
}
