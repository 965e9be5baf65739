//! Controllers that give less in one request than their command allows: half as much is asked, and remembered.

use crate::site::checked;
use std::sync::Arc;
use woodrush_core::protocol::{Extent, SpaceId};
use woodrush_engine::bench::Bench;
use woodrush_engine::converter::Event;

/// The converter knows no limit; the controller has one.
const SITE: &str = r#"
[ports.feeders]
serial = "/dev/ttyUSB1"
line = "19200 8N1"
protocol = "df1"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.feeder-west]
port = "feeders"
node = 4
LIMIT
[images.scada]
port = "office"
[[map]]
from = "feeder-west:N7:0"
to = "scada:400001"
count = 90
"#;

fn bench(limit: &str) -> Bench {
    let ours = checked(&SITE.replace("LIMIT", ""));
    let theirs = checked(&SITE.replace("LIMIT", limit));
    assert_eq!(ours.plan.transfers.len(), 1, "one request brings all of a controller");
    Bench::new(&theirs, Arc::new(ours.plan.clone())).unwrap()
}

fn took_less(bench: &Bench) -> Vec<u32> {
    let told = bench.events();
    told.iter()
        .filter_map(|(_, event)| if let Event::TakesLess { bytes, .. } = event { Some(*bytes) } else { None })
        .collect()
}

/// Registers of the image, by Modbus TCP.
fn read(bench: &mut Bench, first: u8, count: u8) -> Vec<u8> {
    let mut client = bench.connect(1).unwrap();
    bench.exchange(&mut client, &[0, 1, 0, 0, 0, 6, 1, 3, 0, first, 0, count]).unwrap().split_off(7)
}

#[test]
fn what_is_refused_as_too_long_is_asked_in_halves_and_that_is_remembered() {
    let mut bench = bench("max-read = 70");
    let words: Vec<u8> = (1000..1090u16).flat_map(u16::to_be_bytes).collect();
    bench.bus(0).unwrap().devices[0].still = true;
    bench.bus(0).unwrap().devices[0].poke(Extent { space: SpaceId(0), first: 0, count: 90 }, &words);
    assert!(bench.run_until(5_000_000, |bench| bench.polls(0) == 1));
    // 180 bytes are refused and 90 too, 44 are taken.
    assert_eq!(took_less(&bench), [44]);
    assert_eq!(read(&mut bench, 0, 90)[2..], words);
    bench.run(10_000_000);
    assert_eq!(took_less(&bench), [44], "told once");
    let (device, line) = (bench.counts(0), bench.port_counts(0));
    assert!(device.answers >= 10 && device.answers == device.requests, "{device:?}");
    assert_eq!(line.requests - line.answers, 2, "too much was asked for twice");
}

#[test]
fn a_file_that_ends_too_early_is_refused_once_and_not_asked_in_pieces_for_ever() {
    let mut bench = bench("");
    bench.bus(0).unwrap().devices[0].set_fault(|ill| ill.refuse = Some(0x10));
    bench.run(4_500_000);
    let refusals = |bench: &Bench| {
        bench.events().iter().filter(|(_, event)| matches!(event, Event::Refused { .. })).count()
    };
    assert_eq!((refusals(&bench), took_less(&bench)), (1, vec![]));
    let port = |bench: &Bench| bench.port_counts(0).requests;
    // The first poll went down to one element; the others ask once.
    let before = port(&bench);
    bench.run(5_000_000);
    assert_eq!(port(&bench) - before, 5);
    // It recovers as it was.
    bench.bus(0).unwrap().devices[0].set_fault(|ill| ill.refuse = None);
    bench.run(2_000_000);
    assert!(bench.polls(0) >= 1);
    assert!(took_less(&bench).is_empty());
}
