//! Both ends against each other over a switch in memory, and the device against the vectors.

mod addresses;
mod listening;
mod naming;
mod openings;
mod parts;
mod switch;

use super::ether::{BROADCAST, EtherFrame, frame};
use super::judging::judge;
use crate::Moment;
use crate::speak::{LinkFaults, LinkLoss, NodeLink, NodeSetup, StationNews};
use serde::Deserialize;
use std::net::Ipv4Addr;
use switch::{Switch, Told};
use woodrush_core::protocol::Setup;
use woodrush_core::protocol::profinet::StationLayout;
use woodrush_wire::profinet::dcp::{self, Choice, Dcp, Emit, IpSuite, Kind, Service};
use woodrush_wire::profinet::rpc::{Arguments, Header};
use woodrush_wire::profinet::rta;
use woodrush_wire::profinet::{ETHERTYPE, name};

const ADDRESS: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 30);
const CONTROLLER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 10);

fn row(slot: u32, input: u32, output: u32) -> Setup {
    Setup { numbers: vec![("slot", slot), ("in", input), ("out", output)], ..Setup::default() }
}

/// A station with eight bytes in, four out, and both in slot 3.
fn station(numbers: &[(&'static str, u32)]) -> Setup {
    Setup {
        rows: [row(1, 8, 0), row(2, 0, 4), row(3, 2, 2)].into_iter().map(|row| ("slots", row)).collect(),
        words: vec![("station-name", "raceway-box".into())],
        numbers: numbers.to_vec(),
        ..Setup::default()
    }
}

fn link(name: &str, setup: Setup, opens: Option<Ipv4Addr>) -> NodeLink {
    NodeLink { name: name.into(), setup, opens, writers: None, fault: LinkFaults::default() }
}

fn device_setup() -> NodeSetup {
    NodeSetup {
        links: vec![link("machine", station(&[("period", 1000)]), None)],
        first: 7,
        ..NodeSetup::default()
    }
}

fn controller_setup(period: u32, watchdog: u32) -> NodeSetup {
    let setup = station(&[("period", period), ("watchdog", watchdog)]);
    let links = vec![link("line PLC", setup, Some(ADDRESS))];
    NodeSetup { links, address: Some(CONTROLLER), first: 9, ..NodeSetup::default() }
}

const SENT: [u8; 8] = [0x41, 0x48, 0xF5, 0xC3, 0, 1, 2, 3];
const SET: [u8; 4] = [0x42, 0x0A, 0, 0];

/// A device and its controller, by their places.
fn pair(seed: u64, period: u32, watchdog: u32) -> Switch {
    let mut switch = Switch::new(seed);
    switch.plug(&device_setup(), vec![SENT.to_vec(), vec![], vec![9, 8]]);
    switch.plug(&controller_setup(period, watchdog), vec![vec![], SET.to_vec(), vec![7, 6]]);
    switch
}

#[test]
fn a_controller_finds_addresses_and_opens_the_device_and_both_have_the_others_bytes() {
    let mut switch = pair(1, 8000, 3);
    switch.seen = Some(vec![]);
    switch.run(1_000_000);
    let [device, controller] = [&switch.hosts[0], &switch.hosts[1]];
    assert!(device.has_opened() && controller.has_opened(), "{:?} {:?}", device.told, controller.told);
    assert_eq!((controller.last(0), controller.last(2)), (Some(&SENT[..]), Some(&[9, 8][..])));
    assert_eq!((device.last(1), device.last(2)), (Some(&SET[..]), Some(&[7, 6][..])));
    assert_eq!((device.skipped, controller.skipped), (0, 0));
    assert!(device.stills > 60 && controller.stills > 60, "{} {}", device.stills, controller.stills);
    // The address was given for the time being.
    let given = StationNews::Now { key: "address", value: "192.0.2.30/24".into(), permanent: false };
    assert!(device.told.iter().any(|(_, told)| *told == Told::Station(given.clone())));
    // From the first call to valid data: no more than ten cycles.
    let seen = switch.seen.take().unwrap();
    let first = |kind: u16| seen.iter().find(|(.., bytes)| EtherFrame::parse(bytes).unwrap().kind == kind);
    let begun = first(0x0800).unwrap().0;
    let came = |host: usize| {
        let told = &switch.hosts[host].told;
        told.iter().find(|(_, told)| matches!(told, Told::Came(..))).unwrap().0
    };
    for host in [0, 1] {
        assert!(came(host).since(begun) <= 10 * 8000, "{host}: {} us", came(host).since(begun));
    }
    assert!(seen.iter().all(|(.., bytes)| bytes.len() >= 60), "nothing is shorter than Ethernet allows");
}

/// So many seconds at 1 ms with one frame in a hundred lost: frames that count at the device, and how often it was opened
/// anew.
fn lossy(seconds: u64) -> (u64, usize) {
    let mut switch = pair(2, 1000, 3);
    switch.run(1_000_000);
    assert!(switch.hosts[0].has_opened());
    switch.loss = 0.01;
    let (before, mut gaps) = (switch.hosts[0].stills, 0);
    // A part at a time, so that what is told stays small.
    for _ in 0..10 {
        switch.run(seconds * 100_000);
        gaps += switch.hosts[0].losses().len();
        switch.hosts.iter_mut().for_each(|host| host.told.clear());
    }
    assert!(switch.hosts.iter().all(|host| host.skipped == 0), "no frame was late");
    (switch.hosts[0].stills - before, gaps)
}

#[test]
#[ignore = "an hour of frames takes most of a minute"]
fn an_hour_at_one_millisecond_with_loss_keeps_the_grid() {
    let (frames, gaps) = lossy(3600);
    // Three lost in a row are one in a million: each costs the pause of the controller and its opening.
    assert!(frames > 3_480_000 && (1..30).contains(&gaps), "{frames} frames, {gaps} gaps");
}

#[test]
fn frames_at_one_millisecond_keep_the_grid_under_loss_and_the_watchdog_is_exact() {
    let (frames, gaps) = lossy(180);
    assert!(frames > 170_000 && gaps < 4, "{frames} frames, {gaps} gaps");
    // To the microsecond: three cycles after the last frame.
    let mut switch = pair(3, 8000, 3);
    switch.run(1_000_000);
    switch.seen = Some(vec![]);
    switch.run(100_000);
    let last = switch.seen.take().unwrap().iter().rfind(|(_, from, _)| *from == 1).unwrap().0;
    switch.cut = Some(1);
    switch.run(100_000);
    let (at, told) = switch.hosts[0].told.last().unwrap();
    assert_eq!((*told == Told::Stopped(LinkLoss::Watchdog), at.since(last)), (true, 50 + 3 * 8000));
}

#[test]
fn what_is_lost_is_bad_for_its_slot_and_a_stop_is_told_once_and_never_an_old_value() {
    let mut switch = pair(4, 8000, 3);
    switch.run(1_000_000);
    switch.hosts[0].cells.lost = vec![0];
    switch.run(100_000);
    let controller = &switch.hosts[1];
    assert_eq!((controller.last(0), controller.last(2)), (None, Some(&[9, 8][..])), "the other slot is good");
    switch.hosts[0].cells.lost.clear();
    switch.run(100_000);
    assert_eq!(switch.hosts[1].last(0), Some(&SENT[..]), "the same bytes count as new after they were bad");
    // The controller stands still: once told, and its bytes are no values.
    let mut setup = controller_setup(8000, 3);
    setup.links[0].fault.idle = true;
    switch.set_up(1, &setup);
    switch.run(200_000);
    assert_eq!((switch.hosts[0].losses(), switch.hosts[0].last(1)), (vec![LinkLoss::Idle], None));
    switch.hosts[1].cells.slots[1] = vec![1, 2, 3, 4];
    switch.set_up(1, &controller_setup(8000, 3));
    switch.run(100_000);
    assert_eq!(switch.hosts[0].last(1), Some(&[1, 2, 3, 4][..]));
    assert_eq!(switch.hosts[0].losses().len(), 1, "and it never was away");
    // Frames that are too short are none.
    setup.links[0].fault = LinkFaults { wrong_size: true, ..LinkFaults::default() };
    switch.set_up(1, &setup);
    switch.run(100_000);
    assert_eq!(switch.hosts[0].losses().last(), Some(&LinkLoss::Watchdog));
}

#[test]
fn a_controller_that_releases_is_gone_at_once_and_comes_back() {
    let mut switch = pair(5, 8000, 3);
    switch.run(1_000_000);
    switch.shut(1);
    switch.run(10_000);
    assert_eq!(switch.hosts[0].losses(), [LinkLoss::Closed]);
    // The device that ends says so on the alarm channel.
    let mut switch = pair(6, 8000, 50);
    switch.run(1_000_000);
    switch.shut(0);
    switch.run(10_000);
    assert_eq!(switch.hosts[1].losses(), [LinkLoss::Closed]);
    switch.run(3_000_000);
    assert!(switch.hosts[1].last(0).is_some(), "it opens again after a while");
}

#[test]
fn a_second_controller_is_refused_and_the_first_is_not_disturbed() {
    let mut switch = pair(7, 8000, 3);
    switch.run(1_000_000);
    let mut second = controller_setup(8000, 3);
    (second.address, second.first) = (Some(Ipv4Addr::new(192, 0, 2, 11)), 77);
    let second = switch.plug(&second, vec![vec![], vec![0; 4], vec![0; 2]]);
    switch.run(3_000_000);
    let refused = switch.hosts[second].refusals();
    assert!(!refused.is_empty() && refused.iter().all(|why| why.contains("another controller is connected")));
    assert!(switch.hosts[0].losses().is_empty() && switch.hosts[0].last(1) == Some(&SET[..]));
    let told: Vec<_> = switch.hosts[0].refusals();
    assert!(told.iter().all(|why| *why == "another controller is connected") && !told.is_empty());
}

#[test]
fn the_same_controller_that_begins_anew_ends_its_old_connection() {
    let mut switch = pair(8, 8000, 200);
    switch.run(1_000_000);
    // It forgets all: the same place on the wire, another program.
    let fresh = controller_setup(8000, 200);
    let mac = switch.hosts[1].mac;
    switch.hosts.truncate(1);
    let again = switch.plug(&fresh, vec![vec![], SET.to_vec(), vec![7, 6]]);
    assert_eq!(switch.hosts[again].mac, mac);
    switch.run(1_000_000);
    assert_eq!(switch.hosts[0].losses(), [LinkLoss::Closed]);
    assert_eq!(switch.hosts[0].last(1), Some(&SET[..]));
}

#[test]
fn a_module_that_is_not_plugged_is_told_and_the_other_slots_run() {
    let mut switch = pair(9, 8000, 3);
    let mut setup = controller_setup(8000, 3);
    setup.links[0].fault.wrong_slot = true;
    switch.set_up(1, &setup);
    switch.run(1_500_000);
    assert_eq!(switch.hosts[1].refusals(), ["slot 3: another module is there"]);
    assert_eq!((switch.hosts[1].last(0), switch.hosts[1].last(2)), (Some(&SENT[..]), None));
    assert_eq!((switch.hosts[0].last(1), switch.hosts[0].last(2)), (Some(&SET[..]), None));
}

#[test]
fn a_station_that_is_set_up_otherwise_ends_its_connection_and_one_that_is_not_keeps_it() {
    let mut switch = pair(16, 8000, 3);
    switch.run(1_000_000);
    switch.set_up(0, &device_setup());
    switch.run(100_000);
    assert!(
        switch.hosts[0].losses().is_empty() && switch.hosts[1].losses().is_empty(),
        "nothing has changed"
    );
    // Slot 1 has other bytes now: the controller learns it by its end, and what is as it was goes on.
    let mut other = device_setup();
    other.links[0].setup.rows[0].1 = row(1, 4, 0);
    switch.hosts[0].cells.slots[0] = vec![1, 2, 3, 4];
    switch.set_up(0, &other);
    switch.run(10_000);
    assert_eq!(switch.hosts[0].losses(), [LinkLoss::Closed]);
    assert_eq!(switch.hosts[1].losses(), [LinkLoss::Closed]);
    switch.run(3_000_000);
    assert_eq!(
        switch.hosts[1].refusals(),
        [
            "it broke the connection off: CF 81 FD 0D (its own program ended it)",
            "slot 1: another module is there"
        ]
    );
    assert_eq!((switch.hosts[1].last(0), switch.hosts[1].last(2)), (None, Some(&[9, 8][..])));
    assert_eq!(switch.hosts[0].last(1), Some(&SET[..]));
    // Another name and address in the project: it has them, and says so.
    other.links[0].setup.words = vec![("station-name", "drum-2".into()), ("address", "192.0.2.40/24".into())];
    switch.set_up(0, &other);
    let read = asked(switch.hosts[0].mac, Service::Get, &[(Choice::IP, 0, &[]), (Choice::NAME, 0, &[])]);
    let got = answered(&mut switch, &read);
    assert_eq!((&got[0].1[..4], &got[1].1[..]), (&[192, 0, 2, 40][..], &b"drum-2"[..]));
    let begins =
        StationNews::Begins(vec![("station-name", "drum-2".into()), ("address", "192.0.2.40/24".into())]);
    assert!(switch.hosts[0].told.iter().any(|(_, told)| *told == Told::Station(begins.clone())));
    // Without any station nothing answers, and nothing stumbles.
    switch.set_up(0, &NodeSetup { links: vec![], ..device_setup() });
    switch.run(3_000_000);
    assert_eq!(switch.hosts[1].losses(), [LinkLoss::Closed, LinkLoss::Closed]);
}

#[test]
fn what_a_station_has_kept_it_has_again_and_a_name_taken_from_it_stays_away() {
    let mut setup = device_setup();
    setup.links[0].setup.words.push(("address", "192.0.2.40/24".into()));
    let begins = |kept: &[(&str, &str)]| {
        let mut switch = Switch::new(17);
        let kept = kept.iter().map(|(key, value)| ((*key).to_string(), (*value).to_string())).collect();
        switch.plug(&NodeSetup { kept, ..setup.clone() }, vec![vec![0; 8], vec![], vec![0; 2]]);
        switch.run(1000);
        switch.hosts.remove(0).told.into_iter().find_map(|(_, told)| match told {
            Told::Station(StationNews::Begins(is)) => {
                Some(is.into_iter().map(|(_, value)| value).collect::<Vec<_>>())
            }
            _ => None,
        })
    };
    let own = |name: &str, address: &str| Some(vec![name.to_string(), address.to_string()]);
    assert_eq!(begins(&[]), own("raceway-box", "192.0.2.40/24"), "as the project says");
    assert_eq!(
        begins(&[("station-name", "drum-2"), ("address", "192.0.2.31/24")]),
        own("drum-2", "192.0.2.31/24")
    );
    assert_eq!(begins(&[("station-name", ""), ("address", "")]), own("", ""), "it was reset");
    assert_eq!(begins(&[("address", "what is no address")]), own("raceway-box", ""));
}

#[test]
fn two_stations_of_one_name_keep_a_controller_from_both() {
    let mut switch = Switch::new(10);
    switch.plug(&device_setup(), vec![SENT.to_vec(), vec![], vec![9, 8]]);
    let mut setup = controller_setup(8000, 3);
    setup.links[0].fault.name_taken = true;
    let controller = switch.plug(&setup, vec![vec![], SET.to_vec(), vec![7, 6]]);
    switch.run(2_000_000);
    let why = switch.hosts[controller].refusals();
    assert!(why[0].starts_with("two stations have the name `raceway-box`: 02:57:52:"), "{why:?}");
    assert!(!switch.hosts[0].has_opened());
    switch.set_up(controller, &controller_setup(8000, 3));
    switch.run(3_000_000);
    assert!(switch.hosts[0].has_opened());
}

/// A frame about names and addresses, from another station.
fn asked(to: [u8; 6], service: Service, blocks: &[(Choice, u16, &[u8])]) -> Vec<u8> {
    frame(to, [2, 0, 0, 0, 9, 9], ETHERTYPE, None, |out| {
        let mut own = vec![];
        let begun = Emit::begin(&mut own, service, Kind::Request, 0x99, 1);
        blocks.iter().for_each(|(choice, word, value)| begun.block(&mut own, *choice, *word, value));
        begun.end(&mut own);
        out.extend_from_slice(&own);
    })
}

/// What the device answers to a frame about names and addresses: block by block.
fn answered(switch: &mut Switch, request: &[u8]) -> Vec<(Choice, Vec<u8>)> {
    switch.seen = Some(vec![]);
    switch.inject(request);
    switch.run(1000);
    let seen = switch.seen.take().unwrap();
    let own = |(_, from, bytes): &(Moment, usize, Vec<u8>)| {
        let ether = EtherFrame::parse(bytes).filter(|own| *from == 0 && own.kind == ETHERTYPE)?;
        let own = Dcp::parse(ether.payload).ok()?;
        Some(own.blocks().map(|block| (block.choice, block.value.to_vec())).collect::<Vec<_>>())
    };
    seen.iter().find_map(own).unwrap_or_default()
}

#[test]
fn a_station_is_named_and_addressed_and_refuses_while_it_is_connected() {
    let mut switch = Switch::new(11);
    switch.plug(&device_setup(), vec![vec![0; 8], vec![], vec![0; 2]]);
    switch.run(1000);
    let mac = switch.hosts[0].mac;
    let all = asked(dcp::IDENTIFY_TO, Service::Identify, &[(Choice::ALL, 0, &[])]);
    let found = answered(&mut switch, &all);
    let of = |found: &[(Choice, Vec<u8>)], choice| {
        found.iter().find(|own| own.0 == choice).map(|own| own.1.clone())
    };
    assert_eq!(of(&found, Choice::NAME).as_deref(), Some(&b"raceway-box"[..]));
    assert_eq!(of(&found, Choice::DEVICE_ID), Some(vec![0xFF, 0xF1, 0x02, 0x03]));
    for other in ["raceway", "Raceway-box"] {
        let request = asked(dcp::IDENTIFY_TO, Service::Identify, &[(Choice::NAME, 0, other.as_bytes())]);
        assert!(answered(&mut switch, &request).is_empty(), "{other}");
    }
    let set = |name: &[u8], word| asked(mac, Service::Set, &[(Choice::NAME, word, name)]);
    let outcome = |switch: &mut Switch, request: &[u8]| answered(switch, request)[0].1[2];
    for bad in ["Pump7", "pump_7", "-a", "a..b", "1.2.3.4", "port-001"] {
        assert!(name::check(bad).is_err());
        assert_eq!(outcome(&mut switch, &set(bad.as_bytes(), 1)), dcp::outcome::VALUE, "{bad}");
    }
    assert_eq!(outcome(&mut switch, &set(b"drum-2", 1)), dcp::outcome::OK);
    let now = StationNews::Now { key: "station-name", value: "drum-2".into(), permanent: true };
    assert_eq!(switch.hosts[0].told.last().map(|own| own.1.clone()), Some(Told::Station(now)));
    // Addresses that no station can have; then one that it has at once.
    let address = |text: &str, mask: &str| {
        let suite =
            IpSuite { address: text.parse().unwrap(), mask: mask.parse().unwrap(), gateway: [0; 4].into() };
        asked(mac, Service::Set, &[(Choice::IP, 0, &suite.bytes())])
    };
    for (text, mask) in
        [("224.0.0.1", "255.255.255.0"), ("192.0.2.0", "255.255.255.0"), ("192.0.2.7", "255.0.255.0")]
    {
        assert_eq!(outcome(&mut switch, &address(text, mask)), dcp::outcome::VALUE, "{text}");
    }
    assert_eq!(outcome(&mut switch, &address("192.0.2.30", "255.255.255.0")), dcp::outcome::OK);
    let read = asked(mac, Service::Get, &[(Choice::IP, 0, &[]), (Choice(9, 9), 0, &[])]);
    let got = answered(&mut switch, &read);
    assert_eq!(got[0].1[..4], [192, 0, 2, 30]);
    assert_eq!(got[1], (Choice::RESPONSE, vec![9, 9, dcp::outcome::OPTION]));
    // Blink, and back to what it was shipped as.
    let flash = asked(mac, Service::Set, &[(Choice::SIGNAL, 0, &dcp::FLASH.to_be_bytes())]);
    assert_eq!(outcome(&mut switch, &flash), dcp::outcome::OK);
    let reset = asked(mac, Service::Set, &[(Choice::RESET, dcp::RESET_COMMUNICATION, &[])]);
    assert_eq!(outcome(&mut switch, &reset), dcp::outcome::OK);
    assert_eq!(of(&answered(&mut switch, &all), Choice::NAME), Some(vec![]));
    // While a controller is connected it keeps both, and may be told what it is already.
    let mut switch = pair(12, 8000, 3);
    switch.run(1_000_000);
    assert_eq!(outcome(&mut switch, &set(b"drum-2", 0)), dcp::outcome::IN_OPERATION);
    assert_eq!(outcome(&mut switch, &set(b"raceway-box", 0)), dcp::outcome::OK);
    assert_eq!(outcome(&mut switch, &address("192.0.2.31", "255.255.255.0")), dcp::outcome::IN_OPERATION);
    assert_eq!(outcome(&mut switch, &address("0.0.0.0", "0.0.0.0")), dcp::outcome::IN_OPERATION);
    assert_eq!(outcome(&mut switch, &reset), dcp::outcome::IN_OPERATION);
    assert!(switch.hosts[0].losses().is_empty());
}

#[derive(Deserialize)]
struct Vector {
    name: String,
    layer: String,
    hex: String,
    valid: bool,
}

fn vectors() -> Vec<(Vector, Vec<u8>)> {
    let text = include_str!("../../../../../wire/testdata/vectors-profinet.json");
    let all: Vec<Vector> = serde_json::from_str(text).unwrap();
    let bytes = |hex: &str| {
        (0..hex.len()).step_by(2).map(|at| u8::from_str_radix(&hex[at..at + 2], 16).unwrap()).collect()
    };
    all.into_iter().map(|own| (bytes(&own.hex), own)).map(|(bytes, own)| (own, bytes)).collect()
}

#[test]
fn every_opening_of_the_vectors_is_judged_as_the_reference_says() {
    let layout = StationLayout::of(&station(&[("period", 1000)])).unwrap();
    let told = [
        ("pn_connect_req", "taken"),
        ("pn_connect_req_be", "taken"),
        ("bad_iocr_overrun", "DB 81 02 18"),
        ("bad_iocr_overlap", "DB 81 02 18"),
        ("bad_iocr_missing", "DB 81 02 15"),
        ("bad_iocr_datalen", "DB 81 02 08"),
        ("bad_block_len", "DB 81 01 01"),
        ("bad_block_version", "DB 81 01 02"),
    ];
    let all = vectors();
    for (name, wanted) in told {
        let (_, bytes) = all.iter().find(|(own, _)| own.name == name).unwrap();
        let (header, body) = Header::parse(bytes).unwrap();
        let arguments = Arguments::of_call(body, header.little).unwrap();
        let found = match judge(arguments.bytes, &layout) {
            // Its idents are others than ours: that is told, and no reason to refuse.
            Ok(own) if own.differences.is_empty() => "all is plugged".into(),
            Ok(_) => "taken".to_string(),
            Err(status) => status.to_string(),
        };
        let iocs = wanted == "DB 81 02 18" && found.starts_with("DB 81 02 1C");
        assert!(found.starts_with(wanted) || iocs, "{name}: {found}");
    }
}

#[test]
fn nothing_that_is_wrong_or_too_much_disturbs_what_runs() {
    let mut switch = pair(13, 8000, 3);
    switch.run(1_000_000);
    let mac = switch.hosts[0].mac;
    let stranger = [2, 0, 0, 0, 9, 9];
    let before = switch.hosts[0].told.len();
    let all = vectors();
    let identify = asked(dcp::IDENTIFY_TO, Service::Identify, &[(Choice::ALL, 0, &[])]);
    for round in 0..40 {
        for (own, bytes) in
            all.iter().filter(|(own, _)| !own.valid || own.layer == "rt" || own.layer == "rta")
        {
            let kind = if own.layer == "rpc" { 0x0800 } else { ETHERTYPE };
            let to = if own.layer == "dcp" { dcp::IDENTIFY_TO } else { mac };
            switch.inject(&frame(to, stranger, kind, None, |out| out.extend_from_slice(bytes)));
        }
        (0..50).for_each(|_| switch.inject(&identify));
        // ARP and alarms of another station, and cut frames.
        switch.inject(&frame(BROADCAST, stranger, 0x0806, None, |out| out.extend_from_slice(&[0; 28])));
        switch.inject(&frame(mac, stranger, ETHERTYPE, None, |out| {
            rta::Rta::emit_error(out, 1, 1, woodrush_wire::profinet::status::PnioStatus::ended(5));
        }));
        switch.inject(&[0; 5]);
        switch.run(8000 + round);
    }
    assert_eq!(switch.hosts[0].told.len(), before, "{:?}", switch.hosts[0].told.get(before..));
    assert_eq!((switch.hosts[0].skipped, switch.hosts[1].losses().len()), (0, 0));
    assert_eq!(switch.hosts[1].last(0), Some(&SENT[..]));
}

#[test]
fn a_controller_that_dies_in_any_state_leaves_a_device_that_can_be_opened() {
    // It falls silent at every millisecond of its opening, and another one opens the device afterwards.
    for millis in (95..260).step_by(2) {
        let mut switch = pair(14, 8000, 3);
        switch.run(millis * 1000);
        switch.cut = Some(1);
        switch.run(30_000_000);
        let mut second = controller_setup(8000, 3);
        (second.address, second.first) = (Some(Ipv4Addr::new(192, 0, 2, 12)), 78);
        let second = switch.plug(&second, vec![vec![], vec![5; 4], vec![5; 2]]);
        switch.run(2_000_000);
        assert!(
            switch.hosts[second].has_opened(),
            "after {millis} ms: {:?}",
            switch.hosts[second].refusals()
        );
        assert_eq!(switch.hosts[0].last(1), Some(&[5; 4][..]), "after {millis} ms");
    }
}

#[test]
fn an_address_that_another_station_has_is_told_and_not_given_out() {
    let mut switch = Switch::new(15);
    switch.plug(&device_setup(), vec![SENT.to_vec(), vec![], vec![9, 8]]);
    // A station of another name has the address that the controller would give.
    let mut other = device_setup();
    other.links[0].setup.words =
        vec![("station-name", "drum-2".into()), ("address", format!("{ADDRESS}/24"))];
    switch.plug(&other, vec![vec![0; 8], vec![], vec![0; 2]]);
    let controller = switch.plug(&controller_setup(8000, 3), vec![vec![], SET.to_vec(), vec![7, 6]]);
    switch.run(2_000_000);
    let why = switch.hosts[controller].refusals();
    assert_eq!(why.first(), Some(&"02:57:52:00:00:02 has the address 192.0.2.30 already"));
    // And one that is given all the same: both say so.
    let suite = IpSuite { address: ADDRESS, mask: [255, 255, 255, 0].into(), gateway: [0; 4].into() };
    let mac = switch.hosts[0].mac;
    switch.inject(&asked(mac, Service::Set, &[(Choice::IP, 0, &suite.bytes())]));
    switch.run(100_000);
    let rival = |host: usize| {
        switch.hosts[host]
            .told
            .iter()
            .any(|(_, told)| matches!(told, Told::Station(StationNews::Rival { .. })))
    };
    assert!(rival(1), "{:?}", switch.hosts[1].told);
}
