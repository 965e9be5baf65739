//! Many links of one end: each keeps a grid of its own, and a change of one is no change of the others.

use super::{ADAPTER, LinkLoss, NodeLink, Setup, SharedHeard, Told, VirtualNet, keys, link, make, row};
use crate::Moment;
use std::collections::BTreeMap;
use std::net::Ipv4Addr;
use woodrush_wire::enip::cyclic::CyclicFrame;

fn device(place: u8) -> Ipv4Addr {
    Ipv4Addr::new(192, 0, 2, 100 + place)
}

/// Links to so many devices; each device has 12 bytes for us and takes 4.
fn links(count: u8, period: impl Fn(u8) -> u32) -> Vec<NodeLink> {
    let one =
        |place| NodeLink { name: format!("io-{place}"), ..link(keys(period(place)), Some(device(place))) };
    (0..count).map(one).collect()
}

/// A scanner with these links, and the devices behind them.
fn scanner(net: &mut VirtualNet, links: Vec<NodeLink>) -> (Vec<SharedHeard>, Vec<SharedHeard>) {
    let own = net.host_of(make(), ADAPTER, links.clone(), 7);
    let devices = links.into_iter().zip(0u8..).map(|(own, place)| {
        let heard = net.host(make(), device(place), NodeLink { opens: None, ..own }, 30 + u16::from(place));
        heard.lock().unwrap().sends = vec![place; 12];
        heard
    });
    let devices = devices.collect();
    own.iter().zip(0u8..).for_each(|(own, place)| own.lock().unwrap().sends = vec![place ^ 0xFF; 4]);
    (own, devices)
}

/// When frames of each connection were sent by a host.
fn sent(net: &mut VirtualNet, of: usize) -> BTreeMap<u32, Vec<u64>> {
    let mut all: BTreeMap<u32, Vec<u64>> = BTreeMap::new();
    for (at, host, bytes) in net.seen.take().unwrap() {
        if let Ok(frame) = CyclicFrame::parse(&bytes)
            && host == of
        {
            all.entry(frame.connection).or_default().push(at.0);
        }
    }
    all
}

fn stopped(heard: &SharedHeard) -> bool {
    heard.lock().unwrap().told.iter().any(|(_, told)| matches!(told, Told::Stopped(_)))
}

fn last(heard: &SharedHeard) -> Option<Vec<u8>> {
    super::last_came(heard)
}

#[test]
fn each_of_many_keeps_its_grid_and_none_waits_for_the_others() {
    let mut net = VirtualNet::new(11);
    let (own, devices) = scanner(&mut net, links(30, |_| 10_000));
    net.run(500_000);
    net.seen = Some(vec![]);
    net.run(100_000);
    let sent = sent(&mut net, 0);
    assert_eq!(sent.len(), 30);
    let mut due = vec![];
    for (connection, at) in &sent {
        assert_eq!(at.len(), 10, "{connection:x}");
        assert!(at.windows(2).all(|pair| pair[1] - pair[0] == 10_000), "{connection:x}: {at:?}");
        due.push(at[0] % 10_000);
    }
    due.sort_unstable();
    assert!(due.windows(2).all(|pair| pair[1] - pair[0] >= 100), "spread over the period: {due:?}");
    for (place, (own, device)) in (0u8..).zip(own.iter().zip(&devices)) {
        assert_eq!(last(own), Some(vec![place; 12]));
        assert_eq!(last(device), Some(vec![place ^ 0xFF; 4]));
    }
}

#[test]
fn periods_of_their_own_go_side_by_side() {
    let period = |place: u8| [2_000, 5_000, 20_000, 100_000][usize::from(place % 4)];
    let mut net = VirtualNet::new(12);
    let (own, _devices) = scanner(&mut net, links(8, period));
    net.run(1_000_000);
    net.seen = Some(vec![]);
    net.run(1_000_000);
    let mut counts: Vec<usize> = sent(&mut net, 0).values().map(Vec::len).collect();
    counts.sort_unstable();
    assert_eq!(counts, [10, 10, 50, 50, 200, 200, 500, 500]);
    assert!(own.iter().all(|own| !stopped(own)));
}

#[test]
fn a_device_that_is_gone_takes_nothing_from_the_others() {
    let mut net = VirtualNet::new(13);
    let (own, devices) = scanner(&mut net, links(6, |_| 10_000));
    net.run(500_000);
    net.shut(3);
    net.seen = Some(vec![]);
    net.run(2_000_000);
    // Host 3 is device 2.
    for (place, heard) in own.iter().enumerate() {
        assert_eq!(stopped(heard), place == 2, "{place}");
    }
    assert!(stopped(&devices[2]) || !devices[2].lock().unwrap().told.is_empty());
    let sent = sent(&mut net, 0);
    let steady = sent.values().filter(|at| at.len() >= 199);
    assert_eq!(steady.count(), 5);
    assert!(
        sent.values()
            .filter(|at| at.len() >= 199)
            .all(|at| at.windows(2).all(|pair| pair[1] - pair[0] == 10_000)),
        "whatever is tried at the one that is gone"
    );
}

#[test]
fn a_changed_link_is_opened_anew_and_the_others_never_notice() {
    let mut net = VirtualNet::new(14);
    let mut all = links(4, |_| 10_000);
    let (own, devices) = scanner(&mut net, all.clone());
    net.run(500_000);
    let before: Vec<usize> = own.iter().map(super::came).collect();
    assert_eq!(before, [1; 4]);
    // The second shall come twice as seldom, and the third has the address of no device now.
    all[1].setup = keys(20_000);
    all[2].opens = Some(Ipv4Addr::new(192, 0, 2, 99));
    net.seen = Some(vec![]);
    net.renew(0, all);
    net.run(2_000_000);
    let frames = sent(&mut net, 0);
    let mut counts: Vec<usize> = frames.values().map(Vec::len).filter(|count| *count > 1).collect();
    counts.sort_unstable();
    assert!((80..=101).contains(&counts[0]) && counts[1..] == [200, 200], "{counts:?}");
    for place in [0, 3] {
        assert!(!stopped(&own[place]) && !stopped(&devices[place]), "{place} is as before");
    }
    let told = &devices[1].lock().unwrap().told;
    assert!(
        told.iter().any(|(_, told)| *told == Told::Stopped(LinkLoss::Closed)),
        "the device is told that its connection ends: {told:?}"
    );
    for place in [1, 2] {
        let told = &own[place].lock().unwrap().told;
        let stop = told.iter().find(|(_, told)| matches!(told, Told::Stopped(_)));
        assert_eq!(stop, Some(&(Moment(500_000), Told::Stopped(LinkLoss::Closed))), "{place}: at once");
    }
    let gone = &devices[2].lock().unwrap().told;
    assert!(gone.iter().any(|(_, told)| *told == Told::Stopped(LinkLoss::Closed)), "{gone:?}");
}

#[test]
fn images_and_devices_share_one_end() {
    // A controller opens the image; the same end opens a device: two roles, one socket.
    let mut net = VirtualNet::new(15);
    let controller = Ipv4Addr::new(192, 0, 2, 20);
    let image = link(keys(10_000), None);
    let blocks = vec![("inputs", row(101, 2)), ("outputs", row(102, 6))];
    let valves =
        Setup { rows: blocks, numbers: vec![("period", 5_000), ("multiplier", 8)], ..Setup::default() };
    let own = net.host_of(make(), ADAPTER, vec![image, link(valves.clone(), Some(device(0)))], 7);
    let (block, io) = (&own[0], &own[1]);
    let line = net.host(make(), controller, link(keys(10_000), Some(ADAPTER)), 9);
    let device = net.host(make(), device(0), link(valves, None), 10);
    for (heard, bytes) in [(block, vec![1; 12]), (io, vec![2; 6]), (&line, vec![3; 4]), (&device, vec![4; 2])]
    {
        heard.lock().unwrap().sends = bytes;
    }
    net.run(1_000_000);
    assert_eq!(last(&line), Some(vec![1; 12]));
    assert_eq!(last(&device), Some(vec![2; 6]));
    assert_eq!(last(block), Some(vec![3; 4]));
    assert_eq!(last(io), Some(vec![4; 2]));
    // Idle goes to the ones that it concerns.
    line.lock().unwrap().lost = true;
    net.run(100_000);
    let idle = |heard: &SharedHeard| {
        heard.lock().unwrap().told.iter().any(|(_, told)| *told == Told::Stopped(LinkLoss::Idle))
    };
    assert!(idle(block) && !idle(&device) && !idle(io));
}
