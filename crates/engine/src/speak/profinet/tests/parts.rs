//! Calls that are longer than a datagram: stations of very many slots, opened by the one end and by one who waits for each part
//! to be acknowledged.

use super::openings::opening;
use super::switch::Switch;
use super::{CONTROLLER, controller_setup, device_setup, row};
use crate::Moment;
use crate::speak::profinet::device::Device;
use crate::speak::profinet::ether::EtherFrame;
use crate::speak::profinet::ip::{IPV4, datagram_of};
use crate::speak::profinet::observer::EthernetObserver;
use crate::speak::{Heard, NodeSetup, Observer, ObserverSetup, Says, Side};
use std::net::SocketAddrV4;
use woodrush_core::protocol::Setup;
use woodrush_core::protocol::profinet::{HEAD, IoIdentity, SUBMODULES_MAX, StationLayout};
use woodrush_wire::profinet::Uuid;
use woodrush_wire::profinet::parts::{BODY_MAX, Gathered, Gathering, in_parts};
use woodrush_wire::profinet::rpc::{self, Arguments, Header, emit_arguments, kind, operation};
use woodrush_wire::profinet::status::PnioStatus;

/// As many slots as a station may have, each with so many bytes in.
const SLOTS: u32 = (SUBMODULES_MAX - HEAD.len()) as u32;

fn many(setup: NodeSetup, bytes: u32) -> NodeSetup {
    let mut setup = setup;
    setup.links[0].setup.rows = (1..=SLOTS).map(|slot| ("slots", row(slot, bytes, 0))).collect();
    setup
}

/// Datagrams of calls that passed: who sent them, and their headers.
fn calls(seen: &[(Moment, usize, Vec<u8>)]) -> Vec<(usize, Header)> {
    let own = |(_, from, bytes): &(Moment, usize, Vec<u8>)| {
        assert!(bytes.len() <= 1514, "a frame has {} bytes", bytes.len());
        let ether = EtherFrame::parse(bytes).filter(|own| own.kind == IPV4)?;
        Some((*from, Header::parse(datagram_of(&ether)?.1.bytes).unwrap().0))
    };
    seen.iter().filter_map(own).collect()
}

#[test]
fn a_station_of_as_many_slots_as_there_may_be_is_opened_in_parts() {
    let mut switch = Switch::new(31);
    let cells = (1..=SLOTS).map(|slot| vec![slot as u8]).collect();
    switch.plug(&many(device_setup(), 1), cells);
    switch.plug(&many(controller_setup(8000, 3), 1), vec![vec![]; SLOTS as usize]);
    switch.seen = Some(vec![]);
    switch.run(1_000_000);
    let calls = calls(&switch.seen.take().unwrap());
    let connect = |own: &&(usize, Header)| own.1.operation == operation::CONNECT && own.0 == 1;
    let parts: Vec<u16> = calls.iter().filter(connect).map(|(_, own)| own.fragment).collect();
    assert!(parts.len() > 8 && parts == (0..parts.len() as u16).collect::<Vec<_>>(), "{parts:?}");
    let controller = &switch.hosts[1];
    let wrong = (0..SLOTS as usize).find(|slot| controller.last(*slot) != Some(&[*slot as u8 + 1]));
    assert_eq!((wrong, controller.refusals()), (None, vec![]));
}

#[test]
fn an_answer_that_names_very_many_slots_comes_in_parts_and_names_all() {
    let mut switch = Switch::new(32);
    switch.plug(&many(device_setup(), 1), vec![vec![1]; SLOTS as usize]);
    switch.plug(&many(controller_setup(8000, 3), 2), vec![vec![]; SLOTS as usize]);
    switch.seen = Some(vec![]);
    switch.run(1_000_000);
    let seen = switch.seen.take().unwrap();
    let answers = calls(&seen).into_iter().filter(|(from, own)| (*from, own.kind) == (0, kind::RESPONSE));
    assert!(answers.filter(|(_, own)| own.is_part()).count() > 2);
    let told = switch.hosts[1].refusals().join("; ");
    assert_eq!(told.matches("another module is there").count(), SLOTS as usize, "{told}");
    // One who listens is told of it as a whole, once.
    let mut ear =
        EthernetObserver::new(&ObserverSetup { port: &Setup::default(), stations: &[], published: &[] });
    let mut words = vec![];
    for (_, from, bytes) in &seen {
        ear.handle(Moment(1), Moment(1), if *from == 0 { Side::Answers } else { Side::Asks }, bytes);
        words.extend(std::iter::from_fn(|| ear.poll(Moment(1))).filter_map(
            |Heard { says, .. }| match says {
                Says::Sign { words, bad } => Some((words, bad)),
                Says::Noise(why) => panic!("{why}"),
                _ => None,
            },
        ));
    }
    let count = |begin: &str| words.iter().filter(|(own, _)| own.starts_with(begin)).count();
    assert_eq!(
        (count("connect by `"), count("connect: done, but slot 1: another module")),
        (1, 1),
        "{words:?}"
    );
    assert!(count("connect: part 1, and more to come") == 1 && count("connect, answered: part 1, and") == 1);
    assert!(words.iter().any(|(own, _)| own.ends_with(&format!(", {SLOTS}"))), "{words:?}");
}

/// A device of many slots, and the parts of the call that opens it as a caller sends them that waits for each.
fn opened() -> (Device, Vec<Vec<u8>>) {
    let setup = many(device_setup(), 1).links.remove(0).setup;
    let layout = StationLayout::of(&setup).unwrap();
    let identity = IoIdentity::of(&Setup::default());
    let object = Uuid::object(1, identity.product, identity.vendor);
    let header = Header::call(object, rpc::DEVICE, Uuid([5; 16]), 4, operation::CONNECT);
    let mut whole = vec![];
    header.emit_with(&mut whole, |out| {
        emit_arguments(out, true, (rpc::ARGS_MAX, rpc::ARGS_MAX), |out| {
            out.extend_from_slice(&opening(&layout));
        });
    });
    let mut parts = vec![];
    in_parts(whole, |part| parts.push(part));
    // Without "need not be acknowledged".
    parts.iter_mut().for_each(|part| part[2] &= !0x08);
    (Device::new(0, layout, identity, [2, 0x57, 0x52, 0, 0, 1], 7), parts)
}

const FROM: SocketAddrV4 = SocketAddrV4::new(CONTROLLER, 40_000);
const VIA: [u8; 6] = [2, 0x57, 0x52, 0, 0, 2];

#[test]
fn a_caller_that_waits_for_each_part_is_told_up_to_which_one_all_came() {
    let (mut device, parts) = opened();
    let last = parts.len() - 1;
    assert!(last > 7);
    let says = |device: &mut Device, at: usize| {
        device.take_call(Moment(at as u64), (FROM, VIA), &parts[at]).map(|own| Header::parse(&own).unwrap().0)
    };
    let ack = |own: Option<Header>| own.map(|own| (own.kind, own.fragment));
    assert_eq!(ack(says(&mut device, 1)), None, "the first is missing: nothing is in order");
    assert_eq!(ack(says(&mut device, 0)), Some((kind::ACK_OF_PART, 1)));
    assert_eq!(ack(says(&mut device, 0)), Some((kind::ACK_OF_PART, 1)), "twice is no harm");
    for at in 3..=last {
        assert_eq!(ack(says(&mut device, at)), Some((kind::ACK_OF_PART, 1)));
    }
    let answer = says(&mut device, 2).unwrap();
    assert_eq!((answer.kind, answer.fragment, answer.is_part()), (kind::RESPONSE, 0, false));
    assert!(device.is_connected());
    // It did not get the answer: at its parts it is told to go on, and at the last one it has it.
    assert_eq!(ack(says(&mut device, 0)), Some((kind::ACK_OF_PART, 0)));
    assert_eq!(says(&mut device, last).map(|own| own.kind), Some(kind::RESPONSE));
}

#[test]
fn parts_that_make_no_call_are_rejected_and_open_nothing() {
    let (mut device, parts) = opened();
    let mut two = parts.clone();
    let last = two.len() - 1;
    // Two parts that are the last; and one that says that it is none, with a number.
    two[1][2] |= 0x02;
    assert_eq!(device.take_call(Moment(0), (FROM, VIA), &two[1]), None, "the first is missing");
    let said = device.take_call(Moment(0), (FROM, VIA), &two[last]).unwrap();
    assert_eq!(said[1], kind::REJECT);
    let mut alone = parts[1].clone();
    alone[2] &= !0x06;
    assert_eq!(device.take_call(Moment(0), (FROM, VIA), &alone).unwrap()[1], kind::REJECT);
    // The parts of a call, of which one is of another: its blocks are none.
    let mut garbled = parts.clone();
    garbled[3][rpc::HEADER..].fill(0xFF);
    let said: Vec<Vec<u8>> =
        garbled.iter().filter_map(|own| device.take_call(Moment(0), (FROM, VIA), own)).collect();
    let (header, body) = Header::parse(said.last().unwrap()).unwrap();
    let status = Arguments::of_answer(body, header.little).unwrap().status();
    assert!(header.kind == kind::RESPONSE && status != PnioStatus::OK && !device.is_connected(), "{status}");
}

#[test]
fn an_answer_in_parts_is_one_message() {
    let header =
        Header { kind: kind::RESPONSE, ..Header::call(Uuid([1; 16]), rpc::DEVICE, Uuid([2; 16]), 1, 0) };
    let mut whole = vec![];
    header.emit_with(&mut whole, |out| out.resize(out.len() + 3 * BODY_MAX, 7));
    let mut gathered = Gathered::default();
    let mut got = vec![];
    in_parts(whole, |part| {
        let (header, body) = Header::parse(&part).unwrap();
        got.push(gathered.take(&header, body));
    });
    assert_eq!(got.pop(), Some(Gathering::Whole(vec![7; 3 * BODY_MAX])));
    assert!(got.iter().all(|own| matches!(own, Gathering::More(Some(_)))));
}

/// What a stranger writes into its call proves nothing: who sent it does.
#[test]
fn a_stranger_that_names_the_controller_in_its_call_takes_no_connection() {
    let setup = device_setup().links.remove(0).setup;
    let layout = StationLayout::of(&setup).unwrap();
    let identity = IoIdentity::of(&Setup::default());
    let object = Uuid::object(1, identity.product, identity.vendor);
    let call = |activity: u8| {
        let header = Header::call(object, rpc::DEVICE, Uuid([activity; 16]), 4, operation::CONNECT);
        let mut bytes = vec![];
        header.emit_with(&mut bytes, |out| {
            emit_arguments(out, true, (rpc::ARGS_MAX, rpc::ARGS_MAX), |out| {
                out.extend_from_slice(&opening(&layout));
            });
        });
        bytes
    };
    let mut device = Device::new(0, layout.clone(), identity.clone(), [2, 0x57, 0x52, 0, 0, 1], 7);
    let mut status = |from, via, activity| {
        let said = device.take_call(Moment(0), (from, via), &call(activity)).unwrap();
        let (header, body) = Header::parse(&said).unwrap();
        Arguments::of_answer(body, header.little).unwrap().status()
    };
    assert_eq!(status(FROM, VIA, 1), PnioStatus::OK);
    let stranger = SocketAddrV4::new(std::net::Ipv4Addr::new(192, 0, 2, 66), 40_000);
    let elsewhere = [2, 0x66, 0x66, 0, 0, 6];
    for (from, via, activity) in [(stranger, elsewhere, 2), (stranger, VIA, 3), (FROM, elsewhere, 4)] {
        let words = status(from, via, activity).words().unwrap();
        assert_eq!(words, "another controller is connected");
    }
    assert_eq!(status(FROM, VIA, 5), PnioStatus::OK, "the same one may begin anew");
}
