//! An H1 segment: blocks of every kind proven both ways, values that come by themselves on the virtual clock, a link that is
//! never asked more often than it bears.

use crate::proven::{proof, whys, wrong};
use crate::site::{Site, checked_with};
use std::sync::Arc;
use woodrush_core::project::{FAULTS, FaultKind, FaultValue};
use woodrush_core::protocol::Extent;
use woodrush_engine::Moment;
use woodrush_engine::rig::Change;

const SECOND: u64 = 1_000_000;
/// The macrocycle below, and after how long without a publication a value is lost.
const CYCLE: u64 = 250_000;
const STALE: u64 = 3 * CYCLE + CYCLE / 2;

const PORTS: &str = r#"
[ports.inlet]
connect = "192.0.2.80:10900"
protocol = "h1-link"
macrocycle = "250ms"
timeout = "400ms"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[images.scada]
port = "office"
"#;

const BLOCKS: &str = r#"
[profile]
name = "Field device on H1"
[blocks.RB]
type = "RESOURCE"
start = 300
[blocks.TB]
type = "TRANSDUCER"
start = 400
parameters = { PRIMARY_VALUE = { place = 14, type = "DS-65" } }
[blocks.AI1]
type = "AI"
start = 500
channels = { 1 = "degC" }
[blocks.DI1]
type = "DI"
start = 600
[blocks.AO1]
type = "AO"
start = 700
[blocks.PID1]
type = "PID"
start = 800
"#;

fn device(name: &str, node: u32, poll: &str) -> String {
    format!(
        "[devices.{name}]\nport = \"inlet\"\ntag = \"{}\"\ndevice-id = \"FFF1010203-WR-0001{node}\"\nnode = {node}\nprofile = \"h1.toml\"\npoll = \"{poll}\"\nretry-lost = \"100ms..500ms\"\n",
        name.to_uppercase()
    )
}

const TRANSMITTER: &str = r#"
[[map]]
from = "tt-101:AI1.OUT"
to = "scada:400001 as f32 ABCD"
[[map]]
from = "tt-101:AI1.OUT.STATUS"
to = "scada:404001"
"#;

fn site(rules: &str) -> Site {
    let devices = device("tt-101", 20, "published");
    let mut site = Site::of(&mut checked_with(&[PORTS, &devices, rules].concat(), BLOCKS));
    for device in &mut site.bus().devices {
        device.still = true;
    }
    site
}

fn kind(name: &str) -> &'static FaultKind {
    FAULTS.iter().find(|kind| kind.key.name == name).unwrap()
}

/// Puts a value with its status where the block has it.
fn put(site: &mut Site, status: u8, value: f32) {
    let device = &mut site.bus().devices[0];
    let at = device.station.spaces.with_ids().find(|(_, space)| space.name() == "AI1.OUT").unwrap().0;
    let cells = [[status].as_slice(), &value.to_be_bytes()].concat();
    device.poke(Extent { space: at, first: 0, count: 5 }, &cells);
}

fn value(site: &mut Site) -> Result<f32, u8> {
    site.read(1, 2).map(|words| f32::from_bits(u32::from(words[0]) << 16 | u32::from(words[1])))
}

#[test]
fn blocks_of_every_kind_are_proven_both_ways() {
    let rules = r#"
[[map]]
from = "tt-101:AI1.OUT"
to = "scada:400001 as f32 ABCD"
[[map]]
from = "tt-101:AI1.OUT.STATUS"
to = "scada:404001"
[[map]]
from = "ls-101:DI1.OUT_D"
to = "scada:400003"
[[map]]
from = "ls-101:DI1.OUT_D.STATUS"
to = "scada:404003"
[[map]]
from = "fv-101:AO1.READBACK"
to = "scada:400011 as f32 ABCD"
[[map]]
from = "fv-101:AO1.SP"
to = "scada:400021 as f32 ABCD"
access = "read-write"
[[map]]
from = "fv-101:PID1.OUT"
to = "scada:400031 as f32 ABCD"
[[map]]
from = "scada:400041 as f32 ABCD"
to = "fv-101:PID1.SP"
send = "on-write"
[[map]]
from = "fv-101:PID1.MODE_BLK.TARGET"
to = "scada:400051"
access = "read-write"
[[map]]
from = "fv-101:PID1.MODE_BLK.ACTUAL"
to = "scada:400052"
[[map]]
from = "fv-101:AO1.BLOCK_ERR"
to = "scada:400053"
"#;
    let devices =
        [device("tt-101", 20, "published"), device("ls-101", 21, "published"), device("fv-101", 22, "500ms")];
    // The proof reads and writes one value after the other.
    let ports = PORTS.replace("timeout", "requests-per-second = 50\ntimeout");
    let text = [ports.as_str(), &devices.concat(), rules].concat();
    let proof = proof(&Arc::new(checked_with(&text, BLOCKS)), |_| {});
    assert_eq!(wrong(&proof), (vec![], vec![]), "{:?}", whys(&proof));
}

#[test]
fn a_publication_is_readable_within_5_ms_of_the_moment_that_the_block_had_its_value() {
    let mut site = site(TRANSMITTER);
    site.bench.run(SECOND);
    let begun = site.bench.now();
    let mut last = value(&mut site);
    let mut seen = 0;
    for step in 0..5000u16 {
        put(&mut site, 0x80, f32::from(step));
        let at = site.bench.now();
        site.bench.run(1000);
        let now = value(&mut site);
        if now != last {
            // The value is that of the step in which it was published; a read takes a moment itself.
            let old = site
                .bench
                .now()
                .since(begun + (at.since(begun) / u64::from(step.max(1))) * now.unwrap() as u64);
            assert!(old <= 5_000, "step {step}: {now:?} is {old} us old");
            (last, seen) = (now, seen + 1);
        }
    }
    assert!(seen >= 18, "{seen} publications in {} us", site.bench.now().since(begun));
}

#[test]
fn in_an_hour_of_publications_with_drops_and_swaps_none_is_shown_too_old_or_good_where_it_is_bad() {
    let mut site = site(&[TRANSMITTER, "[rig]\nseed = 7\n"].concat());
    let (swap, drop, bad) = (kind("swap"), kind("drop-publications"), [0x10, 0x1C, 0x04]);
    /// What the block had, and since when.
    struct Had {
        since: Moment,
        status: u8,
        value: f32,
    }
    let mut had: Vec<Had> = vec![];
    let (mut good, mut refused) = (0, 0);
    for step in 0..36_000u32 {
        if step % 7 == 0 {
            // A third of all values are bad, and look like any other.
            let status = if step % 21 == 0 { bad[step as usize % 3] } else { 0x80 };
            let value = step as f32;
            put(&mut site, status, value);
            had.push(Had { since: site.bench.now(), status, value });
        }
        match step % 1000 {
            100 => site.bus().change(Change::begin(drop, 0, FaultValue::Share(0.4))),
            300 => site.bus().change(Change::begin(drop, 0, FaultValue::Share(1.0))),
            400 => site.bus().change(Change::end(drop, 0)),
            500 => site.bus().change(Change::begin(swap, 0, FaultValue::On)),
            800 => site.bus().change(Change::end(swap, 0)),
            _ => {}
        }
        site.bench.run(SECOND / 10);
        match value(&mut site) {
            Ok(shown) => {
                let at = had.iter().position(|own| own.value.to_bits() == shown.to_bits()).unwrap();
                assert_eq!(had[at].status, 0x80, "step {step}: {shown} was bad");
                // It was the block's until the next one came.
                let until = had.get(at + 1).map_or(site.bench.now(), |next| next.since);
                let old = site.bench.now().since(until);
                assert!(old <= STALE + CYCLE, "step {step}: {shown} is {old} us old");
                good += 1;
            }
            Err(code) => {
                assert_eq!(code, 11);
                refused += 1;
            }
        }
    }
    assert!(good > 15_000 && refused > 5_000, "{good} good, {refused} refused");
}

#[test]
fn a_status_is_shown_while_its_value_is_refused() {
    let mut site = site(TRANSMITTER);
    put(&mut site, 0x80, 12.5);
    site.bench.run(SECOND);
    assert_eq!((value(&mut site), site.read(4001, 1)), (Ok(12.5), Ok(vec![0x80])));
    put(&mut site, 0x10, 13.0);
    site.bench.run(SECOND);
    assert_eq!((value(&mut site), site.read(4001, 1)), (Err(11), Ok(vec![0x10])));
    // Uncertain is taken, unless the device says otherwise.
    put(&mut site, 0x48, 14.0);
    site.bench.run(SECOND);
    assert_eq!((value(&mut site), site.read(4001, 1)), (Ok(14.0), Ok(vec![0x48])));
    assert!(site.bench.is_online(0));
}

#[test]
fn a_segment_without_a_scheduler_publishes_nothing_and_says_so() {
    let mut site = site(TRANSMITTER);
    put(&mut site, 0x80, 12.5);
    site.bench.run(SECOND);
    site.bus().change(Change::begin(kind("no-master"), 0, FaultValue::On));
    site.bench.run(STALE + CYCLE);
    assert_eq!(value(&mut site), Err(11));
    site.bench.run(10 * SECOND);
    let told: Vec<String> = site.bench.events().iter().map(|(_, event)| format!("{event:?}")).collect();
    assert_eq!(
        told.iter().filter(|words| words.contains("no link active scheduler")).count(),
        1,
        "{told:#?}"
    );
    site.bus().change(Change::end(kind("no-master"), 0));
    site.bench.run(2 * SECOND);
    assert_eq!(value(&mut site), Ok(12.5));
}

#[test]
fn a_device_that_moves_is_followed_and_told_once() {
    let mut site = site(TRANSMITTER);
    put(&mut site, 0x80, 12.5);
    site.bench.run(SECOND);
    site.bus().change(Change::begin(kind("move"), 0, FaultValue::Number(0x19)));
    site.bench.run(2 * SECOND);
    assert_eq!(value(&mut site), Ok(12.5));
    let told: Vec<String> = site.bench.events().iter().map(|(_, event)| format!("{event:?}")).collect();
    assert_eq!(told.iter().filter(|words| words.contains("answers at node 0x19")).count(), 1, "{told:#?}");
}

#[test]
fn a_link_is_asked_no_more_often_than_it_bears_whatever_the_rules_ask() {
    let parameters = [
        "MODE_BLK.ACTUAL",
        "MODE_BLK.TARGET",
        "BLOCK_ERR",
        "CHANNEL",
        "L_TYPE",
        "ST_REV",
        "STRATEGY",
        "IO_OPTS",
        "STATUS_OPTS",
        "XD_SCALE.DECIMAL",
    ];
    let mut rules = String::from("[[map]]\nfrom = \"tt-101.health.polls\"\nto = \"scada:400501\"\n");
    for (at, parameter) in parameters.iter().enumerate() {
        rules += &format!(
            "[[map]]\nfrom = \"tt-101:AI1.{parameter}\"\nto = \"scada:{}\"\npoll = \"100ms\"\n",
            400_101 + at
        );
    }
    let mut site = site(&rules);
    site.bench.run(2 * SECOND);
    let before = site.read(501, 1).unwrap()[0];
    site.bench.run(60 * SECOND);
    let asked = site.read(501, 1).unwrap()[0] - before;
    assert!((290..=301).contains(&asked), "{asked} in 60 s");
}

#[test]
fn two_devices_that_have_each_others_tags_are_seen() {
    let rules = r#"
[[map]]
from = "tt-101:AI1.OUT"
to = "scada:400001 as f32 ABCD"
[[map]]
from = "tt-101:AI1.OUT.STATUS"
to = "scada:404001"
[[map]]
from = "tt-102:AI1.OUT"
to = "scada:400003 as f32 ABCD"
[[map]]
from = "tt-102:AI1.OUT.STATUS"
to = "scada:404002"
"#;
    let devices = [device("tt-101", 20, "published"), device("tt-102", 21, "published")];
    let checked = Arc::new(checked_with(&[PORTS, &devices.concat(), rules].concat(), BLOCKS));
    // Two devices change places: both values are the other's.
    let crossed = proof(&checked, |plan| {
        let (one, other) = (plan.devices[0].setup.words.clone(), plan.devices[1].setup.words.clone());
        (plan.devices[0].setup.words, plan.devices[1].setup.words) = (other, one);
    });
    let (rules, _) = wrong(&crossed);
    assert!(rules.contains(&0) && rules.contains(&2), "{:?}", whys(&crossed));
}

#[test]
fn what_a_client_writes_comes_to_the_block_and_is_refused_as_the_block_refuses_it() {
    let rules = r#"
[[map]]
from = "tt-101:AO1.SP"
to = "scada:400021 as f32 ABCD"
access = "read-write"
[[map]]
from = "tt-101:AO1.MODE_BLK.TARGET"
to = "scada:400031"
access = "read-write"
[[map]]
from = "tt-101:AO1.CHANNEL"
to = "scada:400032"
access = "read-write"
"#;
    let devices = device("tt-101", 20, "500ms");
    let mut site = Site::of(&mut checked_with(&[PORTS, &devices, rules].concat(), BLOCKS));
    site.bench.run(5 * SECOND);
    assert_eq!(site.read(31, 1), Ok(vec![0x08]), "AUTO");
    let bits = 42.5f32.to_bits();
    let words = [(bits >> 16) as u16, (bits & 0xFFFF) as u16];
    assert_eq!(site.write(21, &words), Ok(()));
    site.bench.run(3 * SECOND);
    assert_eq!(site.read(21, 2), Ok(words.to_vec()));
    // A channel is written out of service only, and then it is.
    assert!(site.write(32, &[1]).is_err());
    assert_eq!(site.write(31, &[0x80]), Ok(()));
    site.bench.run(3 * SECOND);
    assert_eq!(site.write(32, &[1]), Ok(()));
    site.bench.run(3 * SECOND);
    assert_eq!(site.read(32, 1), Ok(vec![1]));
    // No block is in a mode that it does not permit, nor in two.
    assert!(site.write(31, &[0x88]).is_err());
    assert!(site.write(31, &[0]).is_err());
    // Another device with its tag is not written.
    site.bus().change(Change::begin(kind("swap"), 0, FaultValue::On));
    site.bench.run(3 * SECOND);
    assert!(site.write(21, &words).is_err());
    site.bus().change(Change::end(kind("swap"), 0));
    site.bench.run(3 * SECOND);
    assert_eq!(site.write(21, &words), Ok(()));
}

#[test]
fn publications_that_come_late_are_as_old_as_they_say() {
    let mut site = site(TRANSMITTER);
    put(&mut site, 0x80, 12.5);
    site.bench.run(SECOND);
    site.bus().change(Change::begin(kind("late-publications"), 0, FaultValue::Micros(400_000)));
    site.bench.run(3 * SECOND);
    assert_eq!(value(&mut site), Ok(12.5), "late, and young enough");
    // Older than its greatest age when it comes is too old.
    site.bus().change(Change::begin(kind("late-publications"), 0, FaultValue::Micros(2_000_000)));
    site.bench.run(5 * SECOND);
    assert_eq!(value(&mut site), Err(11));
    site.bus().change(Change::end(kind("late-publications"), 0));
    site.bench.run(3 * SECOND);
    assert_eq!(value(&mut site), Ok(12.5));
}

#[test]
fn a_device_that_falls_silent_is_lost_and_back_with_its_next_publication() {
    let mut site = site(TRANSMITTER);
    put(&mut site, 0x80, 12.5);
    site.bench.run(SECOND);
    assert!(site.bench.is_online(0));
    for _ in 0..3 {
        site.bus().change(Change::begin(kind("mute"), 0, FaultValue::On));
        site.bench.run(STALE + 2 * CYCLE);
        assert_eq!((value(&mut site), site.bench.is_online(0)), (Err(11), false));
        site.bus().change(Change::end(kind("mute"), 0));
        site.bench.run(4 * CYCLE);
        assert_eq!((value(&mut site), site.bench.is_online(0)), (Ok(12.5), true));
    }
    let told: Vec<String> = site.bench.events().iter().map(|(_, event)| format!("{event:?}")).collect();
    assert_eq!(told.iter().filter(|words| words.starts_with("DeviceLost")).count(), 3, "{told:#?}");
}
