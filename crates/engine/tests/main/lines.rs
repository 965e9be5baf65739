//! The simulated line as a wire: when bytes arrive, what faults do to them, what devices hold.

use crate::site::{DEVICE, HEAD, RULES, checked};
use woodrush_core::project::{CUT, FaultValue, NOISE, SLOW};
use woodrush_core::protocol::{Extent, SpaceId};
use woodrush_engine::Moment;
use woodrush_engine::rig::{Bus, BusAct, Change, Opener, bus_of};
use woodrush_wire::modbus::rtu;

const OXYGEN: Extent = Extent { space: SpaceId(2), first: 0, count: 1 };

fn bus(rig: &str) -> Bus {
    let checked = checked(&[HEAD, DEVICE, RULES, rig].concat());
    bus_of(&checked, 0, &|_| Err("no files".into()), true).unwrap().unwrap()
}

fn request(unit: u8, pdu: &[u8]) -> Vec<u8> {
    let mut frame = vec![];
    rtu::emit(unit, pdu, &mut frame);
    frame
}

/// Sends at a moment and returns what comes back until nothing more is awaited, with the moment of its last byte.
fn exchange(bus: &mut Bus, at: Moment, bytes: &[u8]) -> (Vec<u8>, Moment) {
    bus.handle(Opener::FIRST, at, bytes);
    let (mut came, mut now, mut last) = (vec![], at, at);
    loop {
        match bus.poll(Opener::FIRST, now) {
            BusAct::Deliver(bytes) => {
                came.extend(bytes);
                last = now;
            }
            BusAct::WaitUntil(moment) if moment.since(at) < 2_000_000 => now = moment.max(now),
            BusAct::WaitUntil(_) | BusAct::Rest => return (came, last),
        }
    }
}

fn read_oxygen(bus: &mut Bus, at: Moment) -> Option<u16> {
    let (came, _) = exchange(bus, at, &request(23, &[4, 0, 0, 0, 1]));
    let frame = rtu::parse(&came).ok()?;
    (frame.unit == 23 && frame.pdu[..2] == [4, 2]).then(|| u16::from_be_bytes([frame.pdu[2], frame.pdu[3]]))
}

#[test]
fn an_exchange_takes_the_time_of_its_characters_and_one_silence() {
    let mut bus = bus("");
    let (came, last) = exchange(&mut bus, Moment(1000), &request(23, &[4, 0, 0, 0, 1]));
    assert_eq!(came.len(), 7);
    // 8 characters of 286.458 µs, 1750 µs, 7 characters.
    assert_eq!(last, Moment(1000 + 2292 + 1750 + 2006));
    bus.change(Change::begin(&SLOW, 0, FaultValue::Micros(200_000)));
    let (_, late) = exchange(&mut bus, Moment(100_000), &request(23, &[4, 0, 0, 0, 1]));
    assert_eq!(late.since(Moment(100_000)), 2292 + 1750 + 2006 + 200_000);
}

#[test]
fn a_cut_line_carries_nothing_either_way_and_a_mended_one_all() {
    let mut bus = bus("");
    assert!(read_oxygen(&mut bus, Moment(0)).is_some());
    bus.handle(Opener::FIRST, Moment(50_000), &request(23, &[4, 0, 0, 0, 1]));
    bus.change(Change::begin(&CUT, 0, FaultValue::On));
    assert_eq!(bus.poll(Opener::FIRST, Moment(90_000)), BusAct::Rest, "what was on the wire is gone");
    assert_eq!(read_oxygen(&mut bus, Moment(100_000)), None);
    assert!(bus.faults().cut);
    bus.change(Change::end(&CUT, 0));
    assert!(read_oxygen(&mut bus, Moment(200_000)).is_some());
}

#[test]
fn faults_of_the_project_begin_and_end_at_their_times() {
    let rig = "[rig]\nseed = 3\n[[rig.faults]]\nat = \"5s\"\nfor = \"3s\"\nmute = \"do-1\"\n[[rig.faults]]\nat = \"20s\"\nrefuse = \"do-1 4\"\n";
    let mut bus = bus(rig);
    let mut at = |seconds: f64| {
        let now = Moment((seconds * 1e6) as u64);
        let _ = bus.poll(Opener::FIRST, now);
        let (came, _) = exchange(&mut bus, now, &request(23, &[4, 0, 0, 0, 1]));
        came.get(1).copied()
    };
    assert_eq!(at(4.9), Some(4));
    assert_eq!(at(5.1), None);
    assert_eq!(at(8.1), Some(4));
    assert_eq!(at(20.1), Some(0x84), "until it is mended");
    assert_eq!(at(60.0), Some(0x84));
}

#[test]
fn noise_damages_its_share_of_the_bytes_and_the_same_seed_the_same_ones() {
    let run = |seed: u32| {
        let mut bus = bus(&format!("[rig]\nseed = {seed}\n"));
        bus.change(Change::begin(&NOISE, 0, FaultValue::Share(0.02)));
        (0..500u64).map(|n| read_oxygen(&mut bus, Moment(n * 100_000)).is_some()).collect::<Vec<_>>()
    };
    let good = run(1).iter().filter(|good| **good).count();
    // 15 bytes an exchange: 0.98 to the 15th is 74 %.
    assert!((330..410).contains(&good), "{good}");
    assert_eq!(run(1), run(1));
    assert_ne!(run(1), run(2));
}

#[test]
fn signals_move_until_somebody_writes_and_stand_still_when_told() {
    let rig = "[rig.devices.do-1]\noxygen = \"ramp 0..20 period 20s\"\n\"400050 x3\" = \"count 0..99 every 1s\"\n\"400060 as f32 CDAB\" = \"steady 17.46\"\n";
    let mut bus = bus(rig);
    assert_eq!(read_oxygen(&mut bus, Moment(5_000_000)), Some(500), "5 mg/L at a scale of 0.01");
    assert_eq!(read_oxygen(&mut bus, Moment(15_000_000)), Some(1500));
    let (came, _) = exchange(&mut bus, Moment(16_000_000), &request(23, &[3, 0, 49, 0, 3]));
    let words: Vec<u16> = came[3..9].chunks(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]])).collect();
    assert!(words[0] != words[1] && words[1] != words[2], "{words:?}");
    let (came, _) = exchange(&mut bus, Moment(16_100_000), &request(23, &[3, 0, 59, 0, 2]));
    assert_eq!(came[3..7], [0xAE, 0x14, 0x41, 0x8B]);
    let written = request(23, &[16, 0, 59, 0, 2, 4, 0, 0, 0x42, 0x2A]);
    exchange(&mut bus, Moment(17_000_000), &written);
    let (came, _) = exchange(&mut bus, Moment(18_000_000), &request(23, &[3, 0, 59, 0, 2]));
    assert_eq!(came[3..7], [0, 0, 0x42, 0x2A], "what was written stays");
    bus.devices[0].still = true;
    bus.devices[0].poke(OXYGEN, &[0, 42]);
    assert_eq!(read_oxygen(&mut bus, Moment(19_000_000)), Some(42));
}

#[test]
fn a_device_has_what_is_described_and_nothing_else() {
    let sizes = "[devices.big]\nport = \"raceway\"\nunit = 9\ntables = { holding = 400, coil = 8 }\n";
    let checked = checked(&[HEAD, DEVICE, RULES, sizes].concat());
    let mut bus = bus_of(&checked, 0, &|_| Err(String::new()), true).unwrap().unwrap();
    for (unit, pdu, answer) in [
        (9, vec![3, 1, 0x8F, 0, 1], 3),
        (9, vec![3, 1, 0x90, 0, 1], 0x83),
        (9, vec![1, 0, 0, 0, 8], 1),
        (9, vec![1, 0, 0, 0, 9], 0x81),
        (23, vec![4, 0, 0, 0, 1], 4),
        (23, vec![4, 0, 1, 0, 1], 0x84),
        (23, vec![6, 0, 20, 0, 1], 0x86),
        (23, vec![7], 0x87),
    ] {
        let (came, _) = exchange(&mut bus, Moment(0), &request(unit, &pdu));
        assert_eq!(came.get(1), Some(&answer), "{unit} {pdu:?}");
    }
}

#[test]
fn a_signal_that_does_not_fit_is_told_in_words() {
    for (rig, words) in [
        ("\"oxigen\" = \"steady 4\"", "has no point `oxigen`"),
        ("\"400050 as u8\" = \"steady 4\"", "does not fit"),
        ("oxygen = \"replay lost.csv\"", "no files"),
    ] {
        let checked = checked(&[HEAD, DEVICE, RULES, "[rig.devices.do-1]\n", rig].concat());
        let fault = bus_of(&checked, 0, &|_| Err("no files".into()), true).err().unwrap();
        assert!(fault.contains(words), "{rig}: {fault}");
    }
}
