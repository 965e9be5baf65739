//! A device that is read by one port and written by another: one schedule with two lanes.

use crate::blocks::{ONTO_REGISTERS, two_ways};
use crate::live::{Up, ask, until};
use crate::site::Site;
use std::io::{Read, Write};
use std::net::TcpStream;
use woodrush_core::project::{CUT, FaultValue, MUTE};
use woodrush_engine::converter::Event;
use woodrush_engine::rig::Change;
use woodrush_wire::modbus::Request;

/// Ports of the text: what reads, and what writes.
const READS: usize = 0;
const WRITES: usize = 2;

fn site() -> Site {
    let mut site = Site::new(&[&two_ways(ONTO_REGISTERS)]);
    site.bench.run(2_000_000);
    assert!(site.bench.is_online(0));
    site
}

/// Writes a register by the image; whether it was taken, and how long that took.
fn write(site: &mut Site, value: u16) -> (bool, u64) {
    let began = site.bench.now();
    let request = Request::WriteRegister { offset: 10, value };
    let answer = site.ask(1, &request);
    (answer[0] == 6, site.bench.now().since(began))
}

#[test]
fn a_write_connection_that_hangs_does_not_age_what_is_read() {
    let mut site = site();
    assert!(write(&mut site, 7).0);
    site.bench.bus(WRITES).unwrap().change(Change::begin(&CUT, 0, FaultValue::On));
    let polls = site.bench.polls(0);
    let (taken, took) = write(&mut site, 8);
    assert!(!taken && took >= 500_000, "its timeout is waited for: {took}");
    let asked = site.bench.polls(0) - polls;
    // Several requests go every 50 ms.
    assert!(asked >= took / 50_000 - 1, "{asked} polls in {took} us");
    assert!(site.read(11, 1).is_ok() && site.bench.is_online(0), "what is read is not touched by it");
    site.bench.bus(WRITES).unwrap().change(Change::end(&CUT, 0));
    site.bench.run(3_000_000);
    assert!(write(&mut site, 9).0, "and is written again");
    site.bench.run(200_000);
    assert_eq!(site.read(11, 1), Ok(vec![9]));
}

/// A device with two connections over which it may be asked anything.
const TWICE: &str = r#"
[ports.reads]
connect = "192.0.2.30:502"
protocol = "modbus-tcp"
timeout = "500ms"
retries = 0
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[ports.writes]
connect = "192.0.2.30:503"
protocol = "modbus-tcp"
timeout = "500ms"
retries = 0
[devices.drive]
port = "reads"
write-port = "writes"
unit = 1
poll = "50ms"
retry-lost = "1s..4s"
[images.scada]
port = "office"
[[map]]
from = "drive:400001"
to = "scada:400011"
access = "read-write"
"#;

#[test]
fn a_device_that_is_lost_by_its_reads_costs_a_write_no_timeout_each() {
    let mut site = Site::new(&[TWICE]);
    site.bench.run(2_000_000);
    assert!(write(&mut site, 3).0);
    for port in [READS, WRITES] {
        site.bench.bus(port).unwrap().change(Change::begin(&MUTE, 0, FaultValue::On));
    }
    site.bench.run(10_000_000);
    assert!(!site.bench.is_online(0));
    let tries: Vec<(bool, u64)> = (0..8).map(|value| write(&mut site, value)).collect();
    let all: u64 = tries.iter().map(|(_, took)| took).sum();
    assert!(tries.iter().all(|(taken, _)| !taken), "{tries:?}");
    assert!(all < 1_100_000, "eight timeouts would be 4 s: {tries:?}");
    for port in [READS, WRITES] {
        site.bench.bus(port).unwrap().change(Change::end(&MUTE, 0));
    }
    site.bench.run(6_000_000);
    assert!(site.bench.is_online(0) && write(&mut site, 5).0);
}

#[test]
fn a_write_connection_that_is_made_again_is_no_reason_to_probe_what_is_read() {
    let mut site = Site::new(&[TWICE]);
    site.bench.run(2_000_000);
    for port in [READS, WRITES] {
        site.bench.bus(port).unwrap().change(Change::begin(&MUTE, 0, FaultValue::On));
    }
    // Its probes have their longest pause by now.
    site.bench.run(20_000_000);
    let before = site.bench.port_counts(READS).requests;
    for value in 0..100 {
        write(&mut site, value);
        site.bench.run(1_000_000);
    }
    let probes = site.bench.port_counts(READS).requests - before;
    // Virtual time: three more where each of its reconnections were a reason.
    assert!((28..=32).contains(&probes), "one every 4 s: {probes}");
}

#[test]
fn a_part_of_a_word_is_read_by_the_one_and_written_by_the_other() {
    let mut site = site();
    let set = |site: &mut Site, on: bool| {
        let request = Request::WriteCoil { offset: 0, on };
        site.ask(1, &request)[0] == 5
    };
    assert!(set(&mut site, true) && set(&mut site, false) && set(&mut site, true));
    // The read of it fails: nothing is written on a guess, and the one who writes is told.
    site.bench.bus(READS).unwrap().change(Change::begin(&CUT, 0, FaultValue::On));
    let written = site.bench.port_counts(WRITES).requests;
    assert!(!set(&mut site, false));
    assert_eq!(site.bench.port_counts(WRITES).requests, written, "no byte is written that was not read");
    site.bench.bus(READS).unwrap().change(Change::end(&CUT, 0));
    site.bench.run(3_000_000);
    assert!(set(&mut site, false));
}

fn write_live(stream: &mut TcpStream, value: u8) -> bool {
    stream.write_all(&[0, 9, 0, 0, 0, 6, 1, 6, 0, 10, 0, value]).unwrap();
    let mut head = [0; 6];
    stream.read_exact(&mut head).unwrap();
    let mut body = vec![0; usize::from(head[5])];
    stream.read_exact(&mut body).unwrap();
    body[1] == 6
}

fn closed(up: &Up) -> usize {
    let told = up.told.lock().unwrap();
    told.iter().filter(|event| matches!(event, Event::PortDown { .. })).count()
}

#[test]
fn both_lanes_outlive_a_changed_project_and_end_together() {
    let text = two_ways(ONTO_REGISTERS);
    let mut up = Up::start(&text, true, |_| {});
    up.rig.as_ref().unwrap().stand_still();
    let mut stream = TcpStream::connect(up.at(1)).unwrap();
    until("the first value", || ask(&mut stream, 1, 10, 1).is_ok());
    assert!(write_live(&mut stream, 21));
    until("it is read back", || ask(&mut stream, 1, 10, 1) == Ok(vec![21]));
    let told = up.reload(&text.replace("poll = \"50ms\"", "poll = \"60ms\""));
    assert!(told.contains("3 ports stay open, 0 closed, 0 opened"), "{told}");
    until("a write of the changed project", || write_live(&mut stream, 22));
    until("it is read back", || ask(&mut stream, 1, 10, 1) == Ok(vec![22]));
    assert_eq!(closed(&up), 0, "no port was closed");
    // Without the second port it is another schedule: both are closed, and one is opened.
    let told = up.reload(&text.replace("write-port = \"pump-writes\"\n", ""));
    assert!(told.contains("1 ports stay open, 2 closed, 1 opened"), "{told}");
    until("a value by one port", || ask(&mut stream, 1, 10, 1).is_ok());
    let told = up.reload(&text);
    assert!(told.contains("1 ports stay open, 1 closed, 2 opened"), "{told}");
    until("a write by two again", || write_live(&mut stream, 23));
    until("it is read back", || ask(&mut stream, 1, 10, 1) == Ok(vec![23]));
}
