//! The simulated link by itself: when it publishes what, and who is in its live list.

use super::super::publisher::{Disturbed, Publisher, SUBSCRIPTIONS_MAX};
use super::super::segment::{LINK_NODE, Segment};
use crate::Moment;
use crate::speak::ServedDevice;
use woodrush_core::project::DeviceFaults;
use woodrush_core::protocol::Setup;
use woodrush_wire::h1::frame;
use woodrush_wire::h1::{Object, Publication, live};

const CYCLE: u64 = 250_000;
const OUT: Object = Object { node: 0x14, index: 508, sub: 0 };

/// What was published: number, whether it is stale, its age, and its status.
fn said(bytes: &[u8]) -> Vec<(u16, bool, u16, u8)> {
    let (mut rest, mut found) = (bytes, vec![]);
    while let Some((frame, used)) = frame::parse(rest).unwrap() {
        match Publication::parse(frame.op, frame.payload).unwrap().unwrap() {
            Publication::Data { id, stale, age_ms, value, .. } => {
                found.push((id, stale, age_ms, value.data[0]))
            }
            other => panic!("{other:?}"),
        }
        rest = &rest[used..];
    }
    found
}

/// Publishes for so many macrocycles, each with a value or none.
fn cycles(values: &[Option<u8>], stale: u8, disturbed: Disturbed) -> Vec<(u16, bool, u16, u8)> {
    let mut publisher = Publisher::default();
    publisher.subscribe(Moment(0), (7, OUT), 0, stale, CYCLE).unwrap();
    let mut out = vec![];
    for (cycle, status) in values.iter().enumerate() {
        let now = Moment(cycle as u64 * CYCLE);
        assert_eq!(publisher.due(now), Some(0), "cycle {cycle}");
        let value = status.map(|status| (65, vec![status, 0, 0, 0, 0]));
        publisher.publish(now, 0, value, disturbed, &mut out);
        assert_eq!(publisher.due(now), None);
        while let Some(late) = publisher.held_back(now) {
            out.extend(late);
        }
    }
    said(&out)
}

#[test]
fn a_value_is_published_once_a_macrocycle() {
    let all = cycles(&[Some(0x80); 5], 3, Disturbed::default());
    assert_eq!(all, vec![(7, false, 0, 0x80); 5]);
}

#[test]
fn one_that_is_not_there_any_more_is_said_to_be_stale_after_so_many_cycles() {
    let gone = [Some(0x80), None, None, None, None];
    let all = cycles(&gone, 3, Disturbed::default());
    assert_eq!(all[0], (7, false, 0, 0x80));
    // Not before, and from then on with each cycle: its last value, whose status says that it is old.
    assert_eq!(all[1..], [(7, true, 750, 0x14), (7, true, 1000, 0x14)]);
    assert_eq!(cycles(&[None; 5], 3, Disturbed::default()), [], "there was never one");
}

#[test]
fn publications_are_dropped_by_their_share_and_come_late_with_their_age() {
    let half = Disturbed { dropped: 500, ..Disturbed::default() };
    let all = cycles(&[Some(0x80); 20], 3, half);
    assert_eq!(all.iter().filter(|(_, stale, ..)| !stale).count(), 10);
    let late = Disturbed { late: CYCLE, ..Disturbed::default() };
    let all = cycles(&[Some(0x80); 5], 3, late);
    assert_eq!(all, vec![(7, false, 250, 0x80); 4], "the last one is still to come");
    let silent = Disturbed { silent: true, ..Disturbed::default() };
    assert_eq!(cycles(&[Some(0x80); 5], 3, silent), []);
}

#[test]
fn a_period_is_whole_macrocycles_and_missed_ones_are_not_made_good_for() {
    let mut publisher = Publisher::default();
    for (wanted, granted) in
        [(0, CYCLE), (1, CYCLE), (CYCLE, CYCLE), (CYCLE + 1, 2 * CYCLE), (600_000, 3 * CYCLE)]
    {
        assert_eq!(publisher.subscribe(Moment(0), (7, OUT), wanted, 3, CYCLE), Some(granted), "{wanted}");
    }
    assert_eq!(publisher.all.len(), 1, "one number, one subscription");
    let mut out = vec![];
    publisher.publish(Moment(10 * CYCLE), 0, None, Disturbed::default(), &mut out);
    assert_eq!(publisher.next(), Some(Moment(12 * CYCLE)), "in its own phase");
    publisher.unsubscribe(7);
    assert_eq!((publisher.next(), publisher.due(Moment(99 * CYCLE))), (None, None));
}

#[test]
fn a_client_gets_so_many_subscriptions_and_no_more() {
    let mut publisher = Publisher::default();
    for id in 0..u16::try_from(SUBSCRIPTIONS_MAX).unwrap() {
        assert!(publisher.subscribe(Moment(0), (id, OUT), 0, 3, CYCLE).is_some());
    }
    assert_eq!(publisher.subscribe(Moment(0), (9999, OUT), 0, 3, CYCLE), None);
}

fn device(tag: &str, node: Option<u32>) -> ServedDevice {
    let numbers = node.map(|node| ("node", node)).into_iter().collect();
    let setup = Setup { numbers, words: vec![("tag", tag.into())], ..Setup::default() };
    ServedDevice { setup, ..ServedDevice::default() }
}

fn nodes(segment: &Segment) -> Vec<(u8, u8, &str)> {
    segment.nodes.iter().map(|own| (own.node, own.flags, own.tag.as_str())).collect()
}

const LINK_FLAGS: u8 = live::LIVE | live::LINK_MASTER | live::SCHEDULER;

#[test]
fn the_live_list_has_who_is_there_and_not_who_is_never_looked_at() {
    let mut segment = Segment::default();
    let devices = [device("TT-101", Some(0x14)), device("TT-102", None), device("TT-103", Some(0x40))];
    let port = Setup { words: vec![("unpolled", "0x30-0xE9".into())], ..Setup::default() };
    assert_eq!(segment.set_up(&devices, &port, false), [], "nothing has changed yet");
    let list =
        [(LINK_NODE, LINK_FLAGS, "SIM-LINK"), (0x14, live::LIVE, "TT-101"), (0x15, live::LIVE, "TT-102")];
    assert_eq!(nodes(&segment), list);
    // Without a scheduler it still answers.
    assert_eq!(segment.set_up(&devices, &port, true), [(LINK_NODE, live::LIVE | live::LINK_MASTER)]);
}

#[test]
fn who_leaves_moves_comes_back_or_is_replaced_is_a_change() {
    let mut segment = Segment::default();
    let with = |faults: DeviceFaults| [ServedDevice { faults, ..device("TT-101", Some(0x14)) }];
    let port = Setup::default();
    let well = DeviceFaults::default();
    segment.set_up(&with(well), &port, false);
    let first = segment.version;
    assert_eq!(segment.set_up(&with(well), &port, false), []);
    assert_eq!(segment.version, first);
    let mute = DeviceFaults { mute: true, ..well };
    assert_eq!(segment.set_up(&with(mute), &port, false), [(0x14, 0)]);
    assert_eq!(segment.device(0x14), None);
    assert_eq!(segment.set_up(&with(well), &port, false), [(0x14, live::LIVE)]);
    let moved = DeviceFaults { moved_to: Some(0x19), ..well };
    assert_eq!(segment.set_up(&with(moved), &port, false), [(0x14, 0), (0x19, live::LIVE)]);
    assert_eq!((segment.device(0x14), segment.device(0x19)), (None, Some(0)));
    // At a default address it has no tag that it could be known by.
    let lost = DeviceFaults { moved_to: Some(0xF8), ..well };
    segment.set_up(&with(lost), &port, false);
    assert_eq!(nodes(&segment)[1], (0xF8, live::LIVE | live::DEFAULT_ADDRESS, ""));
    segment.set_up(&with(well), &port, false);
    let swapped = DeviceFaults { swapped: true, ..well };
    assert_eq!(segment.set_up(&with(swapped), &port, false), [(0x14, live::LIVE)]);
    assert_ne!(segment.nodes[1].device_id, "FFF1010203-SIM-000000");
    assert!(segment.version > first);
}
