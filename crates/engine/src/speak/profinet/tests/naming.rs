//! Names and addresses between the one who gives them and the station that gets them, and what neither takes for an answer.

use crate::Moment;
use crate::speak::NewIdentity;
use crate::speak::profinet::discovery::{STATIONS, dcp_frame};
use crate::speak::profinet::ether::{EtherFrame, Mac};
use crate::speak::profinet::ip::IpStack;
use crate::speak::profinet::naming::{NamingChange, Permanence, Present, StationNaming};
use proptest::prelude::*;
use std::net::Ipv4Addr;
use woodrush_core::protocol::Setup;
use woodrush_core::protocol::profinet::IoIdentity;
use woodrush_wire::profinet::dcp::{self, Choice, Dcp, IpSuite, Kind, ROLE_CONTROLLER, ROLE_DEVICE, Service};

const STATION: Mac = [2, 0x57, 0x52, 0, 0, 1];
const LAPTOP: Mac = [2, 0, 0, 0, 9, 9];
const NONE: Present = Present { suite: IpSuite::NONE, rival: false, connected: false };

fn suite(last: u8) -> IpSuite {
    let mask = Ipv4Addr::new(255, 255, 255, 0);
    IpSuite { address: Ipv4Addr::new(192, 0, 2, last), mask, gateway: Ipv4Addr::UNSPECIFIED }
}

fn named(mac: Mac, name: &str) -> StationNaming {
    StationNaming::new(mac, name.into(), IoIdentity::of(&Setup::default()), ROLE_DEVICE)
}

/// What a station does with a frame: what it answers at once, and what has changed.
fn takes(own: &mut StationNaming, bytes: &[u8], present: Present) -> (Option<Vec<u8>>, Vec<NamingChange>) {
    let ether = EtherFrame::parse(bytes).unwrap();
    own.take(Moment(0), (ether.to, ether.from), ether.payload, present)
}

/// What a station says when it is asked who is there, and when.
fn found(own: &mut StationNaming, name: Option<&str>, present: Present) -> Option<(Moment, Vec<u8>)> {
    let (at_once, changes) = takes(own, &(STATIONS.question)(LAPTOP, 5, name), present);
    assert!(at_once.is_none() && changes.is_empty(), "all at once would be a storm");
    let at = own.wakes_at();
    own.poll(at).map(|frame| (at, frame))
}

#[test]
fn a_station_is_found_and_told_as_it_is() {
    let mut own = named(STATION, "raceway-box");
    let present = Present { suite: suite(30), ..NONE };
    let (_, frame) = found(&mut own, None, present).unwrap();
    let (mac, station) = (STATIONS.answer)(&frame, 5).unwrap();
    assert_eq!(
        (mac, station.name.as_str(), station.address.as_str()),
        (STATION, "raceway-box", "02:57:52:00:00:01")
    );
    let also = |what| station.also.iter().find(|own| own.0 == what).unwrap().1.as_str();
    assert_eq!((also("address"), also("role"), also("vendor")), ("192.0.2.30/24", "device", "0xFFF1"));
    assert!(station.remarks.is_empty(), "{:?}", station.remarks);
    assert_eq!((STATIONS.answer)(&frame, 6), None, "the answer to another question");
    assert_eq!((STATIONS.answer)(&(STATIONS.question)(LAPTOP, 5, None), 5), None, "no answer at all");
    // One by its name; no other by it.
    assert!(found(&mut own, Some("raceway-box"), present).is_some());
    assert!(found(&mut own, Some("raceway-bo"), present).is_none());
    // Without a name, with a rival, as a controller.
    let mut none = named(STATION, "");
    let (_, frame) = found(&mut none, None, Present { rival: true, ..present }).unwrap();
    let remarks = (STATIONS.answer)(&frame, 5).unwrap().1.remarks;
    assert!(
        remarks[0].starts_with("it has no name yet") && remarks[1] == "another station has its address too"
    );
    none.role = ROLE_CONTROLLER;
    let (_, frame) = found(&mut none, None, NONE).unwrap();
    let station = (STATIONS.answer)(&frame, 5).unwrap().1;
    assert!(
        station.also.contains(&("role", "controller".into()))
            && station.also.contains(&("address", String::new()))
    );
}

#[test]
fn a_name_that_none_may_have_is_shown_without_what_a_terminal_would_obey() {
    let mut own = named(STATION, "Pump\u{1b}[2J_7");
    let (_, frame) = found(&mut own, None, NONE).unwrap();
    let station = (STATIONS.answer)(&frame, 5).unwrap().1;
    assert_eq!(station.name, "Pump\u{FFFD}[2J_7");
    assert!(
        station.remarks[0].starts_with("its name is none that a station may have"),
        "{:?}",
        station.remarks
    );
}

#[test]
fn answers_are_spread_by_the_address_and_no_more_wait_than_there_is_room_for() {
    let asked = |own: &mut StationNaming, delay: u16| {
        let frame = EtherFrame::parse(&(STATIONS.question)(LAPTOP, 5, None)).unwrap().payload.to_vec();
        let mut bytes = frame;
        bytes[8..10].copy_from_slice(&delay.to_be_bytes());
        let _ = own.take(Moment(0), (dcp::IDENTIFY_TO, LAPTOP), &bytes, NONE);
    };
    // By the last two numbers of its address, in steps of ten milliseconds, within as many steps as were asked for.
    for (last, delay, step) in [
        (1u16, 1u16, 0u64),
        (1, 100, 1),
        (257, 100, 57),
        (0xFFFF, 6400, 65_535 % 6400),
        (9, 0xFFFF, 9),
        (9, 0, 0),
    ] {
        let [high, low] = last.to_be_bytes();
        let mut own = named([2, 0x57, 0x52, 0, high, low], "a");
        asked(&mut own, delay);
        assert_eq!(own.wakes_at(), Moment(step * 10_000), "{last} {delay}");
        assert!(step == 0 || own.poll(Moment(step * 10_000 - 1)).is_none());
        assert!(own.poll(Moment(step * 10_000)).is_some());
    }
    let mut own = named([2, 0x57, 0x52, 0, 0, 9], "a");
    (0..1000).for_each(|_| asked(&mut own, 100));
    let answers = std::iter::from_fn(|| own.poll(Moment(1_000_000))).count();
    assert_eq!(answers, 32);
    assert_eq!(own.wakes_at(), Moment::NEVER);
}

#[test]
fn an_order_gives_both_and_says_what_is_not_taken() {
    let mut own = named(STATION, "");
    let new =
        NewIdentity { name: Some("drum-2".into()), address: Some("192.0.2.31/24".into()), permanent: true };
    (STATIONS.check)(&new).unwrap();
    let order = (STATIONS.order)(LAPTOP, STATION, 8, &new);
    let (answer, changes) = takes(&mut own, &order, NONE);
    let given = IpSuite { gateway: suite(31).address, ..suite(31) };
    let both = [
        NamingChange::Name("drum-2".into(), Permanence::Permanent),
        NamingChange::Address(given, Permanence::Permanent),
    ];
    assert_eq!(changes, both);
    let answer = answer.unwrap();
    assert_eq!((STATIONS.outcome)(&answer, 8, STATION), Some(Ok(())));
    assert_eq!((STATIONS.outcome)(&answer, 9, STATION), None, "to another order");
    assert_eq!((STATIONS.outcome)(&answer, 8, LAPTOP), None, "of another station");
    // The same to another station, from itself, or to all, is nothing to it.
    for (to, from) in [(LAPTOP, STATION), (STATION, STATION), (dcp::IDENTIFY_TO, LAPTOP)] {
        let order = (STATIONS.order)(from, to, 8, &new);
        assert_eq!(takes(&mut own, &order, NONE), (None, vec![]));
    }
    // While a controller is connected it says which of both it does not take.
    let busy = Present { suite: suite(30), connected: true, rival: false };
    for (name, address, words) in [
        (Some("drum-3"), None, "it does not take the name: a controller is connected to it"),
        (None, Some("192.0.2.32/24"), "it does not take the address: a controller is connected to it"),
    ] {
        let new =
            NewIdentity { name: name.map(Into::into), address: address.map(Into::into), permanent: false };
        let (answer, changes) = takes(&mut own, &(STATIONS.order)(LAPTOP, STATION, 8, &new), busy);
        assert_eq!((STATIONS.outcome)(&answer.unwrap(), 8, STATION), Some(Err(words.into())));
        assert!(changes.is_empty());
    }
    // What cannot be given is said before anything is sent.
    for (name, address) in
        [(Some("Drum_2"), None), (Some(""), None), (None, Some("192.0.2.31")), (None, Some("192.0.2.255/24"))]
    {
        let new =
            NewIdentity { name: name.map(Into::into), address: address.map(Into::into), permanent: false };
        assert!((STATIONS.check)(&new).is_err(), "{new:?}");
    }
}

#[test]
fn several_orders_in_one_frame_are_answered_one_by_one() {
    let mut own = named(STATION, "raceway-box");
    let blocks: [(Choice, u16, &[u8]); 5] = [
        (Choice::BEGIN, 0, &[]),
        (Choice::NAME, 0, b"drum-2"),
        (Choice::DEVICE_ID, 0, &[0, 1, 0, 2]),
        (Choice(9, 9), 0, &[]),
        (Choice::SIGNAL, 0, &[0xFF, 0xFF]),
    ];
    let frame = dcp_frame((STATION, LAPTOP), 1, Service::Set, &blocks);
    let (answer, changes) = takes(&mut own, &frame, NONE);
    assert_eq!(changes, [NamingChange::Name("drum-2".into(), Permanence::Temporary)]);
    let answer = answer.unwrap();
    let answer = Dcp::parse(EtherFrame::parse(&answer).unwrap().payload).unwrap();
    assert_eq!(answer.kind, Kind::Success);
    let outcomes: Vec<u8> = answer.blocks().map(|own| own.value[2]).collect();
    let wanted = [
        dcp::outcome::OK,
        dcp::outcome::OK,
        dcp::outcome::SUBOPTION,
        dcp::outcome::OPTION,
        dcp::outcome::VALUE,
    ];
    assert_eq!(outcomes, wanted);
}

#[test]
fn who_has_an_address_is_asked_by_one_that_has_none() {
    let mut other = IpStack::new(STATION, suite(30));
    let question = (STATIONS.probe)(LAPTOP, suite(30).address);
    other.take_arp(Moment(0), EtherFrame::parse(&question).unwrap().payload);
    let answer = other.out.pop_front().unwrap();
    assert_eq!((STATIONS.holder)(&answer, suite(30).address), Some(STATION));
    assert_eq!((STATIONS.holder)(&answer, suite(31).address), None);
    assert_eq!((STATIONS.holder)(&question, suite(30).address), None, "the question itself is no answer");
    let free = (STATIONS.probe)(LAPTOP, suite(31).address);
    other.take_arp(Moment(0), EtherFrame::parse(&free).unwrap().payload);
    assert!(other.out.is_empty() && other.rival.is_none());
}

proptest! {
    #[test]
    fn no_bytes_change_a_station_but_by_an_order(bytes in proptest::collection::vec(any::<u8>(), 0..120)) {
        let mut own = named(STATION, "raceway-box");
        for to in [STATION, dcp::IDENTIFY_TO] {
            let (_, changes) = own.take(Moment(0), (to, LAPTOP), &bytes, NONE);
            let is_order = Dcp::parse(&bytes).is_ok_and(|own| own.service == Service::Set && own.kind == Kind::Request);
            prop_assert!(is_order || changes.is_empty());
        }
        let _ = (STATIONS.answer)(&bytes, 5);
        let _ = (STATIONS.outcome)(&bytes, 5, STATION);
        let _ = (STATIONS.holder)(&bytes, suite(30).address);
    }

    #[test]
    fn a_name_of_any_letters_is_given_or_refused_the_same_by_both(name in "[a-zA-Z0-9._-]{0,70}") {
        let mut own = named(STATION, "");
        let new = NewIdentity { name: Some(name.clone()), address: None, permanent: false };
        let (answer, changes) = takes(&mut own, &(STATIONS.order)(LAPTOP, STATION, 8, &new), NONE);
        let taken = (STATIONS.outcome)(&answer.unwrap(), 8, STATION).unwrap().is_ok();
        // No name at all is what a station is told to forget its own; a person gives one.
        prop_assert_eq!(taken, name.is_empty() || (STATIONS.check)(&new).is_ok());
        prop_assert_eq!(!changes.is_empty(), taken);
    }
}
