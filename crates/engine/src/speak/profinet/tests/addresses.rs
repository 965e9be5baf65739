//! The small IP of a station: who is asked for an address, what waits for the answer, and what never counts as one.

use crate::Moment;
use crate::speak::profinet::ether::{BROADCAST, EtherFrame, Mac, frame};
use crate::speak::profinet::ip::{ARP, IPV4, IpStack, arp_frame};
use etherparse::{ArpOperation, ArpPacketSlice, PacketBuilder};
use proptest::prelude::*;
use std::net::{Ipv4Addr, SocketAddrV4};
use woodrush_wire::profinet::dcp::IpSuite;

const OWN: Mac = [2, 0x57, 0x52, 0, 0, 1];
const NEIGHBOUR: Mac = [2, 0x57, 0x52, 0, 0, 2];
const ROUTER: Mac = [2, 0x57, 0x52, 0, 0, 3];
const PORT: u16 = 34_964;

const fn near(last: u8) -> Ipv4Addr {
    Ipv4Addr::new(192, 0, 2, last)
}

fn suite(last: u8, gateway: Ipv4Addr) -> IpSuite {
    IpSuite { address: near(last), mask: Ipv4Addr::new(255, 255, 255, 0), gateway }
}

/// A station at 192.0.2.30 whose way out is 192.0.2.1.
fn station() -> IpStack {
    IpStack::new(OWN, suite(30, near(1)))
}

/// What it sends now: to whom, what kind of frame, and what that carries.
fn sent(own: &mut IpStack) -> Vec<(Mac, u16, Vec<u8>)> {
    let frames: Vec<Vec<u8>> = own.out.drain(..).collect();
    let parsed = frames.iter().map(|bytes| EtherFrame::parse(bytes).unwrap());
    parsed.map(|own| (own.to, own.kind, own.payload.to_vec())).collect()
}

/// Whom it asks for, of a frame that asks for an address.
fn asked_for((to, kind, payload): &(Mac, u16, Vec<u8>)) -> Ipv4Addr {
    assert_eq!((*to, *kind), (BROADCAST, ARP));
    let own = ArpPacketSlice::from_slice(payload).unwrap();
    assert_eq!(own.operation(), ArpOperation::REQUEST);
    Ipv4Addr::from(*own.target_protocol_addr().first_chunk::<4>().unwrap())
}

/// Tells a station that a neighbour has an address.
fn told(own: &mut IpStack, now: Moment, mac: Mac, address: Ipv4Addr, target: Ipv4Addr) {
    let bytes = arp_frame((mac, address), OWN, ArpOperation::REPLY, (OWN, target)).unwrap();
    own.take_arp(now, EtherFrame::parse(&bytes).unwrap().payload);
}

/// A datagram from a neighbour as it goes over the wire.
fn datagram(from: Ipv4Addr, to: Ipv4Addr, bytes: &[u8]) -> Vec<u8> {
    let builder =
        PacketBuilder::ethernet2(NEIGHBOUR, OWN).ipv4(from.octets(), to.octets(), 64).udp(1234, PORT);
    let mut packet = vec![];
    builder.write(&mut packet, bytes).unwrap();
    packet.resize(packet.len().max(60), 0);
    packet
}

/// The bytes that a station takes from a frame, if it takes it.
fn taken(own: &mut IpStack, bytes: &[u8]) -> Option<Vec<u8>> {
    own.take_ip(&EtherFrame::parse(bytes).unwrap()).map(|own| own.bytes.to_vec())
}

#[test]
fn a_datagram_waits_until_its_receiver_has_said_who_it_is() {
    let mut own = station();
    let to = SocketAddrV4::new(near(10), PORT);
    own.send(Moment(0), to, PORT, b"first".to_vec());
    own.send(Moment(10), to, PORT, b"second".to_vec());
    let questions = sent(&mut own);
    assert!(questions.iter().all(|own| asked_for(own) == near(10)), "{questions:?}");
    // An answer about another address releases nothing.
    told(&mut own, Moment(20), ROUTER, near(1), near(30));
    assert!(sent(&mut own).is_empty());
    told(&mut own, Moment(30), NEIGHBOUR, near(10), near(30));
    let released = sent(&mut own);
    assert!(released.iter().all(|(mac, kind, _)| (*mac, *kind) == (NEIGHBOUR, IPV4)), "{released:?}");
    assert_eq!(released.len(), 2);
    assert!(released[0].2[28..].starts_with(b"first") && released[1].2[28..].starts_with(b"second"));
    // From now on it goes at once.
    own.send(Moment(40), to, PORT, b"third".to_vec());
    assert_eq!(sent(&mut own).len(), 1);
}

#[test]
fn what_is_outside_of_the_network_goes_to_the_way_out() {
    let far = SocketAddrV4::new(Ipv4Addr::new(198, 51, 100, 7), PORT);
    let mut own = station();
    own.send(Moment(0), far, PORT, vec![1]);
    assert_eq!(asked_for(&sent(&mut own)[0]), near(1));
    told(&mut own, Moment(5), ROUTER, near(1), near(30));
    assert_eq!(sent(&mut own)[0].0, ROUTER);
    // Without a way out, or with itself as one, it looks for the receiver itself.
    for gateway in [Ipv4Addr::UNSPECIFIED, near(30)] {
        let mut own = IpStack::new(OWN, suite(30, gateway));
        own.send(Moment(0), far, PORT, vec![1]);
        assert_eq!(asked_for(&sent(&mut own)[0]), *far.ip());
    }
    // Without an address it sends nothing at all.
    let mut none = IpStack::new(OWN, IpSuite::NONE);
    none.send(Moment(0), far, PORT, vec![1]);
    none.announce();
    assert!(sent(&mut none).is_empty());
}

#[test]
fn what_waits_and_what_is_known_have_bounds() {
    let mut own = station();
    (0..100u8).for_each(|at| own.send(Moment(0), SocketAddrV4::new(near(10), PORT), PORT, vec![at]));
    sent(&mut own);
    told(&mut own, Moment(1), NEIGHBOUR, near(10), near(30));
    let last: Vec<u8> = sent(&mut own).iter().map(|(.., payload)| payload[28]).collect();
    assert_eq!(last, (76..100).collect::<Vec<_>>(), "the last ones");
    // One that waits for three seconds goes nowhere.
    own.send(Moment(0), SocketAddrV4::new(near(11), PORT), PORT, vec![1]);
    sent(&mut own);
    told(&mut own, Moment(3_000_000), ROUTER, near(1), near(30));
    told(&mut own, Moment(3_000_001), ROUTER, near(11), near(30));
    assert!(sent(&mut own).is_empty());
    // A crowd of askers pushes out the oldest, and is answered one and all.
    for last in 100..200 {
        let bytes = arp_frame((NEIGHBOUR, near(last)), BROADCAST, ArpOperation::REQUEST, ([0; 6], near(30)));
        own.take_arp(Moment(4_000_000), EtherFrame::parse(&bytes.unwrap()).unwrap().payload);
    }
    assert_eq!(sent(&mut own).len(), 100);
    assert_eq!((own.mac_of(near(100)), own.mac_of(near(199))), (None, Some(NEIGHBOUR)));
    let known = (0..=255).filter(|last| own.mac_of(near(*last)).is_some()).count();
    assert_eq!(known, 32);
}

#[test]
fn only_questions_about_its_own_address_are_answered_and_a_rival_is_seen() {
    let mut own = station();
    let asks = |own: &mut IpStack, from: Ipv4Addr, whom: Ipv4Addr| {
        let bytes = arp_frame((NEIGHBOUR, from), BROADCAST, ArpOperation::REQUEST, ([0; 6], whom)).unwrap();
        own.take_arp(Moment(0), EtherFrame::parse(&bytes).unwrap().payload);
        sent(own)
    };
    assert!(asks(&mut own, near(10), near(31)).is_empty());
    assert_eq!(own.mac_of(near(10)), None, "a stranger's question about another is not remembered");
    // One who has no address yet asks whether this one is free: it is told, and not remembered.
    let answers = asks(&mut own, Ipv4Addr::UNSPECIFIED, near(30));
    assert_eq!((answers.len(), answers[0].0), (1, NEIGHBOUR));
    assert_eq!(own.mac_of(Ipv4Addr::UNSPECIFIED), None);
    assert_eq!(own.rival, None);
    told(&mut own, Moment(0), NEIGHBOUR, near(30), near(30));
    assert_eq!(own.rival, Some(NEIGHBOUR));
    // With another address that is over, and all are told of it.
    own.set_suite(suite(31, near(1)));
    assert_eq!((own.rival, asked_for(&sent(&mut own)[0])), (None, near(31)));
    own.set_suite(suite(31, near(1)));
    assert!(sent(&mut own).is_empty(), "nothing has changed");
    // Its own frame that comes back is no rival's.
    let echo = arp_frame((OWN, near(31)), BROADCAST, ArpOperation::REQUEST, ([0; 6], near(31))).unwrap();
    own.take_arp(Moment(0), EtherFrame::parse(&echo).unwrap().payload);
    assert_eq!((own.rival, sent(&mut own).len()), (None, 0));
}

#[test]
fn a_datagram_counts_when_it_is_whole_sound_and_for_us() {
    let mut own = station();
    let good = datagram(near(10), near(30), b"a call");
    assert_eq!(
        taken(&mut own, &good).as_deref(),
        Some(&b"a call"[..]),
        "the filling of a short frame is none of it"
    );
    assert_eq!(own.mac_of(near(10)), Some(NEIGHBOUR));
    assert_eq!(taken(&mut own, &datagram(near(10), near(31), b"x")), None, "another's");
    for from in [Ipv4Addr::UNSPECIFIED, Ipv4Addr::BROADCAST, Ipv4Addr::new(224, 0, 0, 1)] {
        assert_eq!(taken(&mut own, &datagram(from, near(30), b"x")), None, "{from}");
    }
    // One bit of the header that fell over; a part of something longer; another protocol; too long by its own word.
    let spoilt = |at: usize, with: u8| {
        let mut bytes = good.clone();
        bytes[at] ^= with;
        bytes
    };
    assert_eq!(taken(&mut own, &spoilt(22, 0x01)), None, "a hop less and the sum of before");
    assert_eq!(taken(&mut own, &spoilt(20, 0x20)), None, "more parts follow");
    assert_eq!(taken(&mut own, &spoilt(23, 0x17)), None, "not UDP");
    assert_eq!(taken(&mut own, &spoilt(38, 0x40)), None, "longer than its packet");
    for length in 14..good.len() {
        // Cut anywhere it is none, or it is the whole of it.
        let cut = taken(&mut own, &good[..length]);
        assert!(cut.is_none_or(|own| own == b"a call"), "cut after {length}");
    }
}

proptest! {
    #[test]
    fn no_bytes_make_it_stumble(bytes in proptest::collection::vec(any::<u8>(), 0..200), kind in any::<bool>()) {
        let mut own = station();
        own.take_arp(Moment(0), &bytes);
        let whole = frame(OWN, NEIGHBOUR, if kind { IPV4 } else { ARP }, None, |out| out.extend_from_slice(&bytes));
        let ether = EtherFrame::parse(&whole).unwrap();
        own.take_arp(Moment(0), ether.payload);
        let _ = own.take_ip(&ether);
        prop_assert!(own.out.len() <= 2);
    }

    #[test]
    fn what_one_station_sends_another_takes(bytes in proptest::collection::vec(any::<u8>(), 0..1400)) {
        let mut one = station();
        let mut other = IpStack::new(NEIGHBOUR, suite(10, near(1)));
        one.send(Moment(0), SocketAddrV4::new(near(10), PORT), 1234, bytes.clone());
        let question = one.out.pop_front().unwrap();
        other.take_arp(Moment(0), EtherFrame::parse(&question).unwrap().payload);
        let answer = other.out.pop_front().unwrap();
        one.take_arp(Moment(0), EtherFrame::parse(&answer).unwrap().payload);
        let carried = one.out.pop_front().unwrap();
        let taken = other.take_ip(&EtherFrame::parse(&carried).unwrap()).unwrap();
        prop_assert_eq!((taken.bytes, taken.from), (&bytes[..], SocketAddrV4::new(near(30), 1234)));
    }
}
