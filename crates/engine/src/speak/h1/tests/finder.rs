//! Who is found on a segment, and what is said of each that is not as the project has it.

use super::ends::device;
use crate::Moment;
use crate::exercise::any_keys;
use crate::speak::h1::finder::SegmentFinder;
use crate::speak::h1::server::LinkServer;
use crate::speak::{
    FindAct, Finder, FinderSetup, FoundStation, News, Serve, ServedDevice, Server, ServerSetup, Want,
};
use woodrush_core::plan::Station;
use woodrush_core::project::{DeviceFaults, LineFaults};
use woodrush_core::protocol::{Setup, dialect};

const PAUSE: u64 = 200_000;

/// What was found, what was remarked, and when each request of a device left.
struct Search {
    stations: Vec<FoundStation>,
    remarks: Vec<String>,
    left: Vec<Moment>,
}

impl Search {
    fn at(&self, address: &str) -> &FoundStation {
        self.stations
            .iter()
            .find(|own| own.address == address)
            .unwrap_or_else(|| panic!("{:?}", self.stations))
    }

    fn remarks(&self, words: &str) -> bool {
        self.remarks.iter().any(|own| own.contains(words))
    }
}

fn keys(tag: &str, node: u32) -> Setup {
    let words = vec![("tag", tag.to_string()), ("device-id", format!("FFF1010203-WR-0001{node:02}"))];
    Setup { words, ..any_keys(node) }
}

/// Looks at a segment with these devices; its cells are all the same.
fn find(devices: &[ServedDevice], expected: &[Setup], port: &Setup, no_master: bool, cell: u8) -> Search {
    let line = LineFaults { no_master, ..LineFaults::default() };
    let setup = ServerSetup { devices: devices.to_vec(), own: port.clone(), line, ..ServerSetup::default() };
    let mut server = LinkServer::new(&setup);
    let station = |keys: &Setup| {
        let tag = keys.word("tag").unwrap().to_lowercase();
        Station::bare(&tag, dialect("h1-link").unwrap(), keys.clone())
    };
    let stations: Vec<Station> = expected.iter().map(station).collect();
    let mut finder =
        SegmentFinder::new(&FinderSetup { port, stations: &stations, timeout: 400_000, pause: PAUSE });
    let mut now = Moment(0);
    finder.handle(now, News::Up);
    server.handle(now, News::Up);
    let mut found = Search { stations: vec![], remarks: vec![], left: vec![] };
    for _ in 0..10_000 {
        match finder.poll(now) {
            FindAct::Send(bytes) => {
                // A device is asked by a read or an identification; what the link knows costs the segment nothing.
                if bytes[5] == 0x10 {
                    found.left.push(now);
                }
                server.handle(now, News::Bytes(&bytes));
                loop {
                    match server.poll(now) {
                        Serve::Send(bytes) => finder.handle(now, News::Bytes(&bytes)),
                        Serve::Want { want: Want::Read(extent), .. } => {
                            server.give(Ok(&vec![cell; extent.count as usize]));
                        }
                        Serve::Want { want, .. } => panic!("a finder only reads: {want:?}"),
                        Serve::HangUp(why) => panic!("{why}"),
                        Serve::WaitUntil(_) | Serve::Rest => break,
                    }
                }
            }
            FindAct::Found(station) => found.stations.push(*station),
            FindAct::Remark(words) => found.remarks.push(words),
            FindAct::Failed(why) => panic!("{why}"),
            FindAct::Done => return found,
            FindAct::WaitUntil(moment) => now = moment.max(now + 1),
        }
    }
    panic!("it has no end");
}

fn served(tag: &str, node: u32) -> ServedDevice {
    device(keys(tag, node))
}

#[test]
fn each_device_is_found_with_its_blocks_and_known_by_its_tag() {
    let (one, other) = (keys("TT-101", 0x14), keys("TT-102", 0x15));
    let devices = [served("TT-101", 0x14), served("TT-102", 0x15)];
    // All cells are 0x08: AUTO everywhere.
    let found = find(&devices, &[one, other], &Setup::default(), false, 0x08);
    let addresses: Vec<&str> = found.stations.iter().map(|own| own.address.as_str()).collect();
    assert_eq!(addresses, ["0x10", "0x14", "0x15"]);
    for (address, tag) in [("0x14", "TT-101"), ("0x15", "TT-102")] {
        let own = found.at(address);
        assert_eq!((own.name.as_str(), own.device.as_deref()), (tag, Some(tag.to_lowercase().as_str())));
        assert_eq!(own.remarks, Vec::<String>::new());
        assert_eq!(own.parts.len(), 1);
        assert_eq!(
            (own.parts[0].kind.as_str(), own.parts[0].place, own.parts[0].state.as_str()),
            ("AI", 500, "AUTO")
        );
    }
    assert!(found.at("0x10").parts.is_empty(), "the link itself has no blocks");
    let pauses = found.left.windows(2).map(|pair| pair[1].since(pair[0]));
    assert!(found.left.len() >= 4 && pauses.min().unwrap() >= PAUSE, "{:?}", found.left);
}

#[test]
fn who_is_missing_is_said_with_the_likeliest_reason() {
    let port = Setup { words: vec![("unpolled", "0x30-0xE9".into())], ..Setup::default() };
    let expected = [keys("TT-101", 0x14), keys("TT-102", 0x40), keys("TT-103", 0x16)];
    let devices = [served("TT-101", 0x14), served("TT-102", 0x40)];
    let found = find(&devices, &expected, &port, false, 0x08);
    assert!(
        found.remarks("tt-102 (TT-102) is not in the live list: its node is in the unpolled range 0x30-0xE9")
    );
    assert!(found.remarks("tt-103 (TT-103) is not in the live list: it is off"), "{:?}", found.remarks);
    assert!(found.remarks("the link never looks at nodes 0x30 to 0xE9"));
    assert!(!found.remarks("TT-101"));
}

#[test]
fn a_device_that_is_not_as_the_project_has_it_is_remarked() {
    let well = DeviceFaults::default();
    let expected = [keys("TT-101", 0x14)];
    let with = |faults: DeviceFaults| {
        let devices = [ServedDevice { faults, ..served("TT-101", 0x14) }];
        find(&devices, &expected, &Setup::default(), false, 0x08)
    };
    assert!(with(well).at("0x14").remarks.is_empty());
    let moved = with(DeviceFaults { moved_to: Some(0x19), ..well });
    assert_eq!(moved.at("0x19").device.as_deref(), Some("tt-101"));
    assert!(!moved.at("0x19").remarks.is_empty(), "at another node");
    let swapped = with(DeviceFaults { swapped: true, ..well });
    assert!(!swapped.at("0x14").remarks.is_empty(), "another device id");
    let lost = with(DeviceFaults { moved_to: Some(0xF8), ..well });
    assert_eq!(lost.at("0xF8").device, None);
    assert!(lost.remarks("a device without an address is given one"), "{:?}", lost.remarks);
    assert!(lost.remarks("is not in the live list"));
}

#[test]
fn two_devices_with_one_tag_are_both_remarked_and_reserved_nodes_too() {
    let expected = [keys("TT-101", 0x14)];
    let devices = [served("TT-101", 0x14), served("TT-101", 0x15), served("TT-103", 0x0C)];
    let found = find(&devices, &expected, &Setup::default(), false, 0x08);
    for address in ["0x14", "0x15"] {
        let remarks = &found.at(address).remarks;
        assert!(remarks.iter().any(|own| own.contains("another device has the same tag")), "{remarks:?}");
    }
    let remarks = &found.at("0x0C").remarks;
    assert!(remarks.iter().any(|own| own.contains("its node is reserved")), "{remarks:?}");
}

#[test]
fn a_segment_without_a_scheduler_and_blocks_out_of_service_are_remarked() {
    let expected = [keys("TT-101", 0x14)];
    let devices = [served("TT-101", 0x14)];
    // All cells are 0x80: out of service, and by their target.
    let found = find(&devices, &expected, &Setup::default(), true, 0x80);
    assert!(found.remarks("there is no link active scheduler"), "{:?}", found.remarks);
    let block = &found.at("0x14").parts[0];
    assert_eq!(block.state, "OOS");
    assert!(block.remark.as_deref().unwrap().contains("its target is OOS"), "{block:?}");
}

#[test]
fn a_link_that_falls_silent_ends_the_search_with_words() {
    let port = Setup::default();
    let mut finder =
        SegmentFinder::new(&FinderSetup { port: &port, stations: &[], timeout: 400_000, pause: PAUSE });
    finder.handle(Moment(0), News::Up);
    let mut now = Moment(0);
    for _ in 0..1000 {
        match finder.poll(now) {
            FindAct::Send(_) => {}
            FindAct::WaitUntil(moment) => now = moment.max(now + 1),
            FindAct::Failed(why) => return assert!(!why.is_empty()),
            other => panic!("{other:?}"),
        }
    }
    panic!("it waits for ever");
}
