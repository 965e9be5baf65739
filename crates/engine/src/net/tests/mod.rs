//! Both ends of an exchange in cycles against each other on a virtual network: what comes is right, what is lost is said in
//! time, and nothing that strangers send changes either.

mod many;
mod opening;
mod strangers;
mod virtual_net;

use crate::Moment;
use crate::speak::{LinkFaults, LinkLoss, LinkNews, MakeNode, NodeLink, speaker};
use std::net::{Ipv4Addr, SocketAddrV4};
use virtual_net::{SharedHeard, Told, VirtualNet};
use woodrush_core::protocol::Setup;

const ADAPTER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 10);
const SCANNER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 20);
const STRANGER: SocketAddrV4 = SocketAddrV4::new(Ipv4Addr::new(192, 0, 2, 66), 2222);

fn make() -> MakeNode {
    speaker("ethernet-ip").unwrap().node.unwrap()
}

fn row(number: u32, bytes: u32) -> Setup {
    Setup { numbers: vec![("assembly", number), ("bytes", bytes)], ..Setup::default() }
}

fn keys(period: u32) -> Setup {
    Setup {
        numbers: vec![("period", period), ("multiplier", 4)],
        rows: vec![("inputs", row(100, 12)), ("outputs", row(150, 4)), ("config", row(151, 0))],
        ..Setup::default()
    }
}

fn link(setup: Setup, opens: Option<Ipv4Addr>) -> NodeLink {
    NodeLink { name: "plc".into(), setup, opens, writers: None, fault: LinkFaults::default() }
}

/// An adapter and a scanner that exchange every 10 ms.
fn pair(seed: u64) -> (VirtualNet, SharedHeard, SharedHeard) {
    let mut net = VirtualNet::new(seed);
    let adapter = net.host(make(), ADAPTER, link(keys(10_000), None), 7);
    let scanner = net.host(make(), SCANNER, link(keys(10_000), Some(ADAPTER)), 9);
    adapter.lock().unwrap().sends = vec![1; 12];
    scanner.lock().unwrap().sends = vec![2; 4];
    (net, adapter, scanner)
}

fn stops(cells: &SharedHeard) -> Vec<(u64, LinkLoss)> {
    let cells = cells.lock().unwrap();
    let stops = cells.told.iter().filter_map(|(at, told)| match told {
        Told::Stopped(why) => Some((at.0, why.clone())),
        _ => None,
    });
    stops.collect()
}

fn last_came(cells: &SharedHeard) -> Option<Vec<u8>> {
    let cells = cells.lock().unwrap();
    cells.told.iter().rev().find_map(|(_, told)| match told {
        Told::Came(bytes) => Some(bytes.clone()),
        _ => None,
    })
}

fn came(cells: &SharedHeard) -> usize {
    cells.lock().unwrap().told.iter().filter(|(_, told)| matches!(told, Told::Came(_))).count()
}

#[test]
fn both_ways_come_what_was_sent_and_only_changes_are_told() {
    let (mut net, adapter, scanner) = pair(1);
    net.run(100_000);
    assert_eq!((last_came(&adapter), last_came(&scanner)), (Some(vec![2; 4]), Some(vec![1; 12])));
    assert_eq!((came(&adapter), came(&scanner)), (1, 1), "the same bytes come once");
    let stills = adapter.lock().unwrap().stills;
    assert!((8..=10).contains(&stills), "each frame says that it is still so: {stills}");
    scanner.lock().unwrap().sends = vec![9, 8, 7, 6];
    net.run(20_000);
    assert_eq!(last_came(&adapter), Some(vec![9, 8, 7, 6]));
    let told = scanner.lock().unwrap().told.clone();
    let opened = told.iter().find_map(|(_, told)| match told {
        Told::News(LinkNews::Opened { peer, period, lost_after, only_reads }) => {
            Some((*peer, *period, *lost_after, *only_reads))
        }
        _ => None,
    });
    assert_eq!(opened, Some((ADAPTER, 10_000, 40_000, false)));
}

#[test]
fn idle_is_told_once_and_what_comes_after_it_is_new_even_where_it_is_the_same() {
    let (mut net, adapter, scanner) = pair(2);
    net.run(50_000);
    scanner.lock().unwrap().lost = true;
    net.run(50_000);
    assert_eq!(stops(&adapter).iter().map(|(_, why)| why.clone()).collect::<Vec<_>>(), [LinkLoss::Idle]);
    scanner.lock().unwrap().lost = false;
    net.run(50_000);
    assert_eq!(came(&adapter), 2, "the bytes of before count as new");
    assert_eq!(stops(&adapter).len(), 1);
}

#[test]
fn a_watchdog_runs_out_to_the_microsecond_at_both_ends() {
    let (mut net, adapter, scanner) = pair(3);
    adapter.lock().unwrap().verbose = true;
    scanner.lock().unwrap().verbose = true;
    net.run(100_000);
    net.cut = true;
    net.run(200_000);
    for cells in [&adapter, &scanner] {
        let heard = cells.lock().unwrap().heard.unwrap();
        assert_eq!(stops(cells), [(heard.0 + 40_000, LinkLoss::Watchdog)]);
    }
    // The scanner opens anew, with another serial number, and everything is as before.
    net.cut = false;
    net.run(3_000_000);
    assert_eq!((last_came(&adapter), last_came(&scanner)), (Some(vec![2; 4]), Some(vec![1; 12])));
    let opened = |cells: &SharedHeard| {
        let cells = cells.lock().unwrap();
        cells.told.iter().filter(|(_, told)| matches!(told, Told::News(LinkNews::Opened { .. }))).count()
    };
    assert_eq!((opened(&adapter), opened(&scanner)), (2, 2));
}

#[test]
fn a_close_is_told_at_once() {
    let (mut net, adapter, _) = pair(4);
    net.run(100_000);
    let at = net.now;
    net.shut(1);
    net.run(1000);
    let [(when, LinkLoss::Closed)] = stops(&adapter)[..] else { panic!("{:?}", stops(&adapter)) };
    assert!(when - at.0 <= 300, "{when}");
    net.run(1_000_000);
    assert_eq!(stops(&adapter).len(), 1, "and the watchdog has nothing to say any more");
}

/// An hour at 10 ms: what comes is always whole and never older than what came before, nothing that is not said to be lost
/// is older than the watchdog, and after each cut both ends find each other again.
#[test]
fn an_hour_of_loss_doubling_reordering_and_cuts_brings_no_wrong_byte() {
    let (mut net, adapter, scanner) = pair(5);
    (net.loss, net.doubled, net.jitter) = (0.01, 0.01, 12_000);
    let mut value = 0u32;
    let (mut told, mut last) = ([0; 2], [0u32; 2]);
    let mut fresh: [Option<u64>; 2] = [None, None];
    let mut wrong = 0;
    for second in 0..3600u32 {
        net.cut = second % 300 == 299;
        for _ in 0..10 {
            value += 1;
            let bytes = value.to_be_bytes();
            scanner.lock().unwrap().sends = bytes.to_vec();
            adapter.lock().unwrap().sends = bytes.repeat(3);
            net.run(100_000);
            for (at, cells) in [&adapter, &scanner].into_iter().enumerate() {
                let mut cells = cells.lock().unwrap();
                for (when, event) in cells.told.drain(..) {
                    told[at] += 1;
                    match event {
                        Told::Came(bytes) => {
                            let words: Vec<u32> = bytes
                                .chunks(4)
                                .map(|word| u32::from_be_bytes(word.try_into().unwrap()))
                                .collect();
                            let alike = words.iter().all(|word| *word == words[0]);
                            wrong += u32::from(!alike || words[0] < last[at] || words[0] > value);
                            last[at] = words[0];
                            fresh[at] = Some(when.0);
                        }
                        Told::Stopped(_) => fresh[at] = None,
                        _ => {}
                    }
                }
                // What is not said to be lost was heard of within the watchdog.
                if fresh[at].is_some() {
                    let heard = cells.heard.unwrap_or(Moment(0));
                    wrong += u32::from(net.now.since(heard) > 40_000);
                }
            }
        }
    }
    assert_eq!(wrong, 0);
    assert!(told.iter().all(|told| *told > 30_000), "nearly every value came: {told:?}");
    assert!(last.iter().all(|last| value - last <= 30), "and the last ones too: {last:?} of {value}");
}

#[test]
fn what_strangers_and_the_past_send_does_not_keep_a_connection_alive() {
    let (mut net, adapter, scanner) = pair(6);
    adapter.lock().unwrap().verbose = true;
    net.seen = Some(vec![]);
    net.run(100_000);
    let frames = net.seen.take().unwrap();
    let mut ours = frames.iter().filter(|(_, host, _)| *host == 1).map(|(.., bytes)| bytes.clone());
    let (old, peer) = (ours.next_back().unwrap(), SocketAddrV4::new(SCANNER, 2222));
    // The scanner is gone; its last frame comes again and again, and others like it.
    net.cut = true;
    let silent = net.now;
    let mut later = old.clone();
    later[10..14].copy_from_slice(&1000u32.to_le_bytes());
    let mut short = later.clone();
    short.pop();
    let mut other_id = later.clone();
    other_id[6] ^= 1;
    let mut other_item = later.clone();
    other_item[2] = 0xA1;
    for _ in 0..60 {
        for (from, bytes) in
            [(peer, &old), (STRANGER, &later), (peer, &short), (peer, &other_id), (peer, &other_item)]
        {
            net.inject(ADAPTER, 2222, from, bytes);
        }
        net.run(1000);
    }
    let stopped = stops(&adapter);
    assert_eq!(stopped.len(), 1, "{stopped:?}");
    let heard = adapter.lock().unwrap().heard.unwrap();
    assert!(heard <= silent, "nothing of it was taken");
    assert_eq!(stopped[0], (heard.0 + 40_000, LinkLoss::Watchdog));
    assert_eq!(last_came(&adapter), Some(vec![2; 4]));
    drop(scanner);
}

#[test]
fn a_flood_moves_no_frame() {
    let (mut net, _adapter, scanner) = pair(7);
    net.run(100_000);
    net.seen = Some(vec![]);
    let mut list = vec![0x63, 0];
    list.resize(24, 0);
    for step in 0..1000u32 {
        for port in [44_818, 2222] {
            net.inject(ADAPTER, port, STRANGER, &list);
            net.inject(ADAPTER, port, STRANGER, &step.to_le_bytes());
        }
        net.run(137);
    }
    let frames = net.seen.take().unwrap();
    let sent: Vec<u64> = frames
        .iter()
        .filter(|(_, host, bytes)| *host == 0 && bytes.len() == 32)
        .map(|(at, ..)| at.0)
        .collect();
    assert!(sent.len() >= 13, "{}", sent.len());
    assert!(sent.windows(2).all(|pair| pair[1] - pair[0] == 10_000), "the grid stands");
    assert!(stops(&scanner).is_empty());
}
