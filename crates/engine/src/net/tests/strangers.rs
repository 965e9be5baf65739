//! Strangers on the network: an exchange that runs goes on, whatever they send, and what they hold has a bound.

use super::{ADAPTER, SCANNER, STRANGER, pair, stops};
use proptest::prelude::*;
use std::net::{Ipv4Addr, SocketAddrV4};
use woodrush_wire::enip::cip::Reply;
use woodrush_wire::enip::cpf::Unconnected;
use woodrush_wire::enip::encap::{self, Header, Registration, command};

const OTHER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 66);

fn registration() -> Vec<u8> {
    let mut out = vec![];
    let header = Header { command: command::REGISTER_SESSION, ..Header::default() };
    header.emit_with(&mut out, |out| Registration::OURS.emit(out));
    out
}

/// The scanner's own opening, as it went over the wire, by a session of that number.
fn opening(session: u32) -> Vec<u8> {
    let (mut net, ..) = pair(30);
    net.said = Some(vec![]);
    net.run(1_000_000);
    let said = net.said.take().unwrap();
    let mut found = said
        .into_iter()
        .map(|(.., bytes)| bytes)
        .find(|bytes| bytes[0] == 0x6F && bytes.get(40) == Some(&0x54))
        .expect("a Forward Open behind the items of 16 bytes");
    found[4..8].copy_from_slice(&session.to_le_bytes());
    found
}

fn session_of(answer: &[u8]) -> u32 {
    encap::parse(answer, 8192).unwrap().unwrap().0.header.session
}

/// General status and the first word behind it.
fn status(answer: &[u8]) -> (u8, Option<u16>) {
    let (message, _) = encap::parse(answer, 8192).unwrap().unwrap();
    let reply = Unconnected::parse(message.data).unwrap().message.to_vec();
    let reply = Reply::parse(&reply).unwrap();
    let word = reply.additional.get(..2).map(|own| u16::from_le_bytes(own.try_into().unwrap()));
    (reply.status, word)
}

/// Frames of the adapter in so many microseconds, and whether they are 10 ms apart.
fn steady(net: &mut super::VirtualNet, micros: u64) -> bool {
    net.seen = Some(vec![]);
    net.run(micros);
    let frames = net.seen.take().unwrap();
    let ours: Vec<u64> = frames
        .iter()
        .filter(|(_, host, bytes)| *host == 0 && bytes.len() == 32)
        .map(|(at, ..)| at.0)
        .collect();
    ours.len() as u64 + 1 >= micros / 10_000 && ours.windows(2).all(|pair| pair[1] - pair[0] == 10_000)
}

#[test]
fn an_opening_that_comes_byte_by_byte_is_an_opening() {
    let (mut net, adapter, _scanner) = pair(31);
    net.cut = true;
    let stranger = net.knock(ADAPTER, OTHER);
    let mut answer = vec![];
    for byte in registration() {
        answer.extend(net.say(&stranger, &[byte]));
    }
    let request = opening(session_of(&answer));
    let mut answer = vec![];
    for byte in request {
        assert!(answer.is_empty(), "not before it is whole");
        answer.extend(net.say(&stranger, &[byte]));
    }
    assert_eq!(status(&answer), (0, None));
    net.run(50_000);
    assert!(stops(&adapter).is_empty());
}

#[test]
fn a_running_exchange_is_neither_doubled_nor_taken_over() {
    let (mut net, adapter, scanner) = pair(32);
    net.said = Some(vec![]);
    net.run(200_000);
    let said = net.said.take().unwrap();
    let theirs = said.iter().map(|(.., bytes)| bytes).find(|bytes| bytes.get(40) == Some(&0x54)).unwrap();
    let stranger = net.knock(ADAPTER, OTHER);
    let session = session_of(&net.say(&stranger, &registration()));
    let mut same = theirs.clone();
    same[4..8].copy_from_slice(&session.to_le_bytes());
    // The very same connection once more, and another of an own serial number.
    assert_eq!(status(&net.say(&stranger, &same)), (1, Some(0x0100)));
    let mut rival = same.clone();
    // Behind service, path, two bytes of time and two ids of four bytes.
    rival[56..58].copy_from_slice(&0x7777u16.to_le_bytes());
    assert_eq!(status(&net.say(&stranger, &rival)), (1, Some(0x0106)));
    assert!(steady(&mut net, 200_000));
    assert!(stops(&adapter).is_empty() && stops(&scanner).is_empty());
}

#[test]
fn half_open_peers_take_no_frame_from_anybody() {
    let (mut net, adapter, scanner) = pair(33);
    net.run(200_000);
    let request = opening(0);
    let mut strangers = vec![];
    for at in 0..300usize {
        let stranger = net.knock(ADAPTER, OTHER);
        // Nothing, half a header, a session without more, or a session and half an opening.
        match at % 4 {
            0 => {}
            1 => drop(net.say(&stranger, &registration()[..11])),
            2 => drop(net.say(&stranger, &registration())),
            _ => {
                net.say(&stranger, &registration());
                net.say(&stranger, &request[..request.len() / 2]);
            }
        }
        strangers.push(stranger);
    }
    assert!(steady(&mut net, 500_000));
    strangers.iter().for_each(|stranger| net.leave(stranger));
    assert!(steady(&mut net, 100_000));
    assert!(stops(&adapter).is_empty() && stops(&scanner).is_empty());
}

#[test]
fn noise_ends_its_own_connection_and_no_other() {
    for noise in [vec![0xFF; 24], vec![0x65; 4096], b"GET / HTTP/1.1\r\nHost: 192.0.2.10\r\n\r\n".to_vec()] {
        let (mut net, adapter, scanner) = pair(34);
        net.run(200_000);
        let stranger = net.knock(ADAPTER, OTHER);
        net.say(&stranger, &noise);
        for _ in 0..64 {
            if net.is_gone(&stranger) {
                break;
            }
            net.say(&stranger, &[0; 1024]);
        }
        assert!(net.is_gone(&stranger), "{noise:?}");
        assert!(steady(&mut net, 100_000));
        assert!(stops(&adapter).is_empty() && stops(&scanner).is_empty());
    }
}

/// What a stranger does.
#[derive(Debug, Clone)]
enum Deed {
    Knock,
    /// One of them leaves.
    Leave(usize),
    /// Noise over TCP, by one of them.
    Noise(usize, Vec<u8>),
    /// The scanner's opening with one byte changed, cut off after so many.
    Opening {
        by: usize,
        at: usize,
        byte: u8,
        length: usize,
    },
    /// The last frame with one byte changed, from the scanner's address or another.
    Frame {
        to_adapter: bool,
        forged: bool,
        at: usize,
        byte: u8,
    },
    Datagram(u16, Vec<u8>),
    Time(u64),
}

fn deed() -> impl Strategy<Value = Deed> {
    let bytes = || prop::collection::vec(any::<u8>(), 0..60);
    prop_oneof![
        2 => Just(Deed::Knock),
        1 => any::<usize>().prop_map(Deed::Leave),
        2 => (any::<usize>(), bytes()).prop_map(|(by, bytes)| Deed::Noise(by, bytes)),
        4 => (any::<usize>(), 0..140usize, any::<u8>(), 20..140usize)
            .prop_map(|(by, at, byte, length)| Deed::Opening { by, at, byte, length }),
        4 => (any::<bool>(), any::<bool>(), 0..18usize, any::<u8>())
            .prop_map(|(to_adapter, forged, at, byte)| Deed::Frame { to_adapter, forged, at, byte }),
        2 => (prop_oneof![Just(2222u16), Just(44_818)], bytes()).prop_map(|(port, bytes)| Deed::Datagram(port, bytes)),
        3 => (1..30_000u64).prop_map(Deed::Time),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    /// A forged frame with the right id and a later number is the scanner's as far as anybody can see: those are left out,
    /// and of everything else nothing comes through.
    #[test]
    fn no_deed_of_strangers_changes_an_exchange(deeds in prop::collection::vec(deed(), 1..60)) {
        let (mut net, adapter, scanner) = pair(35);
        net.said = Some(vec![]);
        net.seen = Some(vec![]);
        net.run(200_000);
        let said = net.said.take().unwrap();
        let open = said.iter().map(|(.., bytes)| bytes.clone()).find(|bytes| bytes.get(40) == Some(&0x54)).unwrap();
        let frames = net.seen.take().unwrap();
        let last = |host| frames.iter().rev().find(|(_, of, _)| *of == host).unwrap().2.clone();
        let (ours, theirs) = (last(0), last(1));
        let mut strangers = vec![];
        for deed in deeds {
            match deed {
                Deed::Knock if strangers.len() < 16 => {
                    let stranger = net.knock(ADAPTER, OTHER);
                    net.say(&stranger, &registration());
                    strangers.push(stranger);
                }
                Deed::Knock => {}
                Deed::Leave(by) if !strangers.is_empty() => {
                    let gone = strangers.swap_remove(by % strangers.len());
                    net.leave(&gone);
                }
                Deed::Noise(by, bytes) if !strangers.is_empty() => {
                    net.say(&strangers[by % strangers.len()], &bytes);
                }
                Deed::Opening { by, at, byte, length } if !strangers.is_empty() => {
                    let mut request = open.clone();
                    if let Some(own) = request.get_mut(at) {
                        *own = byte;
                    }
                    request.truncate(length);
                    net.say(&strangers[by % strangers.len()], &request);
                }
                Deed::Frame { to_adapter, forged, at, byte } => {
                    let (to, from, mut bytes) = match to_adapter {
                        true => (ADAPTER, SCANNER, theirs.clone()),
                        false => (SCANNER, ADAPTER, ours.clone()),
                    };
                    // Of a forged one the number is left as it was: it is old by now.
                    if !(forged && (10..14).contains(&at)) {
                        bytes[at] = byte;
                    }
                    let from = if forged { SocketAddrV4::new(from, 2222) } else { STRANGER };
                    net.run(10_000);
                    net.inject(to, 2222, from, &bytes);
                }
                Deed::Datagram(port, bytes) => net.inject(ADAPTER, port, STRANGER, &bytes),
                Deed::Time(micros) => net.run(micros),
                Deed::Leave(_) | Deed::Noise(..) | Deed::Opening { .. } => {}
            }
        }
        prop_assert!(steady(&mut net, 100_000), "the grid stands");
        prop_assert_eq!(stops(&adapter), vec![]);
        prop_assert_eq!(stops(&scanner), vec![]);
        prop_assert_eq!(super::last_came(&adapter), Some(vec![2; 4]));
        prop_assert_eq!(super::last_came(&scanner), Some(vec![1; 12]));
        prop_assert_eq!((super::came(&adapter), super::came(&scanner)), (1, 1), "nothing else ever came");
    }
}
