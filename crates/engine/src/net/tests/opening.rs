//! How a link is opened, again and again where it has to be: pauses, serial numbers, and what is told of it.

use super::{
    ADAPTER, LinkLoss, LinkNews, SCANNER, Setup, SharedHeard, Told, VirtualNet, keys, link, make, pair, row,
};
use woodrush_wire::enip::cip::{self, service};
use woodrush_wire::enip::connection::{ForwardClose, ForwardOpen};
use woodrush_wire::enip::cpf::Unconnected;
use woodrush_wire::enip::encap::{self, command};

/// When a host has sent a request of that service, and its serial number.
fn requests(net: &mut VirtualNet, of: usize, wanted: u8) -> Vec<(u64, u16)> {
    let said = net.said.replace(vec![]).unwrap();
    let one = |(at, host, bytes): &(crate::Moment, usize, Vec<u8>)| {
        let (message, _) = encap::parse(bytes, 8192).ok()??;
        if *host != of || message.header.command != command::SEND_RR_DATA {
            return None;
        }
        let inner = Unconnected::parse(message.data).ok()?;
        let request = cip::Request::parse(inner.message).ok()?;
        if request.service != wanted {
            return None;
        }
        let triad = if wanted == service::FORWARD_CLOSE {
            ForwardClose::parse(request.data).ok()?.triad
        } else {
            ForwardOpen::parse(request.data, false).ok()?.triad
        };
        Some((at.0, triad.serial))
    };
    said.iter().filter_map(one).collect()
}

fn refusals(heard: &SharedHeard) -> Vec<String> {
    let heard = heard.lock().unwrap();
    let told = heard.told.iter().filter_map(|(_, told)| match told {
        Told::News(LinkNews::Refused { why, .. }) => Some(why.clone()),
        _ => None,
    });
    told.collect()
}

fn opened(heard: &SharedHeard) -> usize {
    let heard = heard.lock().unwrap();
    heard.told.iter().filter(|(_, told)| matches!(told, Told::News(LinkNews::Opened { .. }))).count()
}

#[test]
fn a_refusal_is_told_once_and_asked_again_after_ever_longer_pauses() {
    let mut net = VirtualNet::new(21);
    let adapter = net.host(make(), ADAPTER, link(keys(10_000), None), 7);
    // It believes that there are 14 bytes of inputs.
    let mut theirs = keys(10_000);
    theirs.rows[0] = ("inputs", row(100, 14));
    let scanner = net.host(make(), SCANNER, link(theirs, Some(ADAPTER)), 9);
    net.said = Some(vec![]);
    net.run(300_000_000);
    let tries = requests(&mut net, 1, service::FORWARD_OPEN);
    let pauses: Vec<u64> = tries.windows(2).map(|pair| pair[1].0 - pair[0].0).collect();
    assert!((12..=20).contains(&tries.len()), "{tries:?}");
    assert!(pauses.is_sorted_by(|one, other| one <= &(other + 2000)), "{pauses:?}");
    assert!(pauses[0] >= 250_000 && pauses[0] < 600_000, "{pauses:?}");
    let longest = *pauses.last().unwrap();
    assert!((30_000_000..=30_100_000).contains(&longest), "{longest}");
    let mut serials: Vec<u16> = tries.iter().map(|(_, serial)| *serial).collect();
    serials.dedup();
    assert_eq!(serials.len(), tries.len(), "another number each time");
    let why = refusals(&scanner);
    assert_eq!(why.len(), 1, "{why:?}");
    assert!(why[0].contains("14 is right"), "12 bytes of inputs and a count of 2: {why:?}");
    assert_eq!(refusals(&adapter).len(), 1);
    assert_eq!((opened(&scanner), opened(&adapter)), (0, 0));
}

#[test]
fn a_device_that_comes_late_is_found_when_it_is_there() {
    let mut net = VirtualNet::new(22);
    let scanner = net.host(make(), SCANNER, link(keys(10_000), Some(ADAPTER)), 9);
    scanner.lock().unwrap().sends = vec![2; 4];
    net.run(3_000_000);
    let why = refusals(&scanner);
    assert_eq!(why.len(), 1, "told once, however often it is tried: {why:?}");
    assert!(why[0].contains("no connection at its TCP port 44818"), "{why:?}");
    let adapter = net.host(make(), ADAPTER, link(keys(10_000), None), 7);
    adapter.lock().unwrap().sends = vec![1; 12];
    net.run(31_000_000);
    assert_eq!((opened(&scanner), opened(&adapter)), (1, 1));
    assert_eq!(super::last_came(&scanner), Some(vec![1; 12]));
    assert_eq!(super::last_came(&adapter), Some(vec![2; 4]));
}

#[test]
fn after_a_cut_it_is_opened_anew_with_another_number_and_nothing_old_is_taken() {
    let (mut net, adapter, scanner) = pair(23);
    net.said = Some(vec![]);
    net.seen = Some(vec![]);
    net.run(200_000);
    let first = requests(&mut net, 1, service::FORWARD_OPEN);
    assert_eq!(first.len(), 1);
    let old = net.seen.take().unwrap();
    let old = old.iter().rev().find(|(_, host, bytes)| *host == 0 && bytes.len() > 24).unwrap().2.clone();
    net.cut = true;
    net.run(1_000_000);
    assert_eq!(super::stops(&scanner).len(), 1);
    assert_eq!(super::stops(&scanner)[0].1, LinkLoss::Watchdog);
    net.cut = false;
    adapter.lock().unwrap().sends = vec![9; 12];
    net.run(10_000_000);
    let again = requests(&mut net, 1, service::FORWARD_OPEN);
    assert!(again.iter().all(|(_, serial)| *serial != first[0].1), "{first:?} {again:?}");
    assert_eq!(super::last_came(&scanner), Some(vec![9; 12]));
    // A frame of the connection before, however late it comes.
    let count = super::came(&scanner);
    let mut late = old;
    late[10..14].copy_from_slice(&u32::MAX.wrapping_div(3).to_le_bytes());
    net.inject(SCANNER, 2222, std::net::SocketAddrV4::new(ADAPTER, 2222), &late);
    net.run(50_000);
    assert_eq!(super::came(&scanner), count, "no link takes it");
    assert_eq!(super::stops(&scanner).len(), 1, "and ends nothing");
}

#[test]
fn a_scanner_that_only_reads_needs_no_outputs() {
    let mut net = VirtualNet::new(24);
    let adapter = net.host(make(), ADAPTER, link(keys(10_000), None), 7);
    let reads = Setup {
        numbers: vec![("period", 10_000), ("multiplier", 4)],
        rows: vec![("inputs", row(100, 12))],
        ..Setup::default()
    };
    let reader = net.host(make(), SCANNER, link(reads, Some(ADAPTER)), 9);
    adapter.lock().unwrap().sends = vec![7; 12];
    net.run(1_000_000);
    assert_eq!(super::last_came(&reader), Some(vec![7; 12]));
    assert_eq!(super::came(&adapter), 0, "a heartbeat brings nothing");
    assert!(super::stops(&adapter).is_empty() && super::stops(&reader).is_empty());
    // The heartbeat keeps it open; without it the reader is forgotten, and the adapter goes on for others.
    net.cut = true;
    net.run(1_000_000);
    net.seen = Some(vec![]);
    net.run(100_000);
    assert!(net.seen.take().unwrap().iter().all(|(_, host, _)| *host != 0), "no reader is left");
}

#[test]
fn a_scanner_that_is_stopped_closes_what_it_has_opened() {
    let (mut net, adapter, _scanner) = pair(25);
    net.run(200_000);
    net.said = Some(vec![]);
    net.shut(1);
    net.run(50_000);
    assert_eq!(requests(&mut net, 1, service::FORWARD_CLOSE).len(), 1);
    let stops = super::stops(&adapter);
    assert_eq!(stops.len(), 1);
    assert_eq!(stops[0].1, LinkLoss::Closed, "a close is no watchdog");
    net.seen = Some(vec![]);
    net.run(1_000_000);
    assert!(net.seen.take().unwrap().is_empty(), "neither end sends any more");
}

#[test]
fn an_adapter_that_is_stopped_is_noticed_by_its_silence() {
    let (mut net, _adapter, scanner) = pair(26);
    net.run(200_000);
    net.shut(0);
    net.run(200_000);
    let stops = super::stops(&scanner);
    assert_eq!(stops.len(), 1, "{stops:?}");
    let last = scanner.lock().unwrap().heard.unwrap();
    assert_eq!(stops[0], (last.0 + 40_000, LinkLoss::Watchdog));
}

#[test]
fn a_controller_may_ask_for_another_period_and_gets_it() {
    let mut net = VirtualNet::new(27);
    let adapter = net.host(make(), ADAPTER, link(keys(10_000), None), 7);
    let _scanner = net.host(make(), SCANNER, link(keys(25_000), Some(ADAPTER)), 9);
    adapter.lock().unwrap().sends = vec![1; 12];
    net.run(500_000);
    net.seen = Some(vec![]);
    net.run(1_000_000);
    let count = net.seen.take().unwrap().iter().filter(|(_, host, _)| *host == 0).count();
    assert_eq!(count, 40, "one every 25 ms");
    let told = adapter.lock().unwrap();
    let opened = told.told.iter().find_map(|(_, told)| match told {
        Told::News(LinkNews::Opened { period, lost_after, .. }) => Some((*period, *lost_after)),
        _ => None,
    });
    assert_eq!(opened, Some((25_000, 100_000)), "four times what it asked for");
}
