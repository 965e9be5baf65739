//! Freshness, loss, retries and faults on the virtual clock.

use crate::site::{DEVICE, HEAD, RULES, Site};
use woodrush_core::project::{CUT, FaultValue, MUTE, NOISE, REFUSE, SLOW};
use woodrush_core::protocol::{Extent, SpaceId};
use woodrush_engine::Moment;
use woodrush_engine::converter::Event;
use woodrush_engine::rig::Change;
use woodrush_wire::modbus::{Request, Table};

const SECOND: u64 = 1_000_000;
const MAX_AGE: u64 = 1_500_000;
const OXYGEN: Extent = Extent { space: SpaceId(2), first: 0, count: 1 };
const SETPOINT: Extent = Extent { space: SpaceId(3), first: 9, count: 2 };

fn still(parts: &[&str]) -> Site {
    let mut site = Site::new(parts);
    for device in &mut site.bus().devices {
        device.still = true;
        device.poke(OXYGEN, &1746u16.to_be_bytes());
    }
    site
}

#[test]
fn before_its_first_poll_a_value_is_refused_and_then_it_is_there() {
    let mut site = still(&[HEAD, DEVICE, RULES]);
    assert_eq!(site.read(1, 1), Err(11));
    site.bench.run(SECOND);
    assert_eq!(site.read(1, 1), Ok(vec![1746]));
    assert_eq!(site.read(2, 1), Err(2), "no rule feeds it");
    assert_eq!(site.read(1, 2), Err(2), "part of it is fed by no rule");
}

#[test]
fn a_change_is_readable_within_the_interval_and_the_cycle() {
    let mut site = still(&[HEAD, DEVICE, RULES]);
    site.bench.run(3 * SECOND);
    let cycle = 2 * 10_000;
    for value in 0..40u16 {
        site.bench.run(u64::from(value) * 37_919 % 500_000);
        site.bus().devices[0].poke(OXYGEN, &value.to_be_bytes());
        let begun = site.bench.now();
        let mut seen = false;
        while site.bench.now().since(begun) <= 500_000 + cycle {
            site.bench.run(1000);
            seen |= site.read(1, 1) == Ok(vec![value]);
        }
        assert!(seen, "value {value}");
    }
}

#[test]
fn from_a_cut_to_the_first_refusal_passes_at_most_the_age_and_the_mend_brings_it_back() {
    let mut site = still(&[HEAD, DEVICE, RULES]);
    for round in 0..20u64 {
        site.bench.run(40 * SECOND + round * 77_777);
        assert_eq!(site.read(1, 1), Ok(vec![1746]));
        site.bus().change(Change::begin(&CUT, 0, FaultValue::On));
        let cut = site.bench.now();
        while site.read(1, 1).is_ok() {
            site.bench.run(5_000);
            assert!(site.bench.now().since(cut) <= MAX_AGE + 5_000, "round {round}");
        }
        assert_eq!(site.read(1, 1), Err(11));
        site.bench.run(10 * SECOND);
        assert!(!site.bench.is_online(0));
        site.bus().change(Change::end(&CUT, 0));
        site.bus().devices[0].poke(OXYGEN, &1747u16.to_be_bytes());
        site.bench.run(32 * SECOND);
        assert_eq!(site.read(1, 1), Ok(vec![1747]));
        site.bus().devices[0].poke(OXYGEN, &1746u16.to_be_bytes());
    }
}

#[test]
fn hold_and_fill_show_what_they_say_once_the_source_is_lost() {
    let rules = r#"
[[map]]
from = "do-1.oxygen"
to = "scada:400001"
on-loss = "hold"
[[map]]
from = "do-1.setpoint"
to = "scada:400101"
on-loss = "fill 0x8000"
[[map]]
from = "do-1.health.online"
to = "scada:400201"
[[map]]
from = "do-1.health.last-error"
to = "scada:400202"
"#;
    let mut site = still(&[HEAD, DEVICE, rules]);
    assert_eq!(site.read(1, 1), Err(11), "there has been no value to hold");
    assert_eq!(site.read(101, 2), Ok(vec![0x8000, 0x8000]));
    assert_eq!(site.read(201, 2), Ok(vec![0, 0]), "health is never refused");
    site.bench.run(SECOND);
    assert_eq!(site.read(201, 2), Ok(vec![1, 0]));
    assert_ne!(site.read(101, 2), Ok(vec![0x8000, 0x8000]));
    site.bus().change(Change::begin(&CUT, 0, FaultValue::On));
    site.bench.run(20 * SECOND);
    assert_eq!(site.read(1, 1), Ok(vec![1746]));
    assert_eq!(site.read(101, 2), Ok(vec![0x8000, 0x8000]));
    assert_eq!(site.read(201, 2), Ok(vec![0, 256]));
}

#[test]
fn a_write_goes_to_the_device_and_is_answered_when_the_device_has_answered() {
    let mut site = still(&[HEAD, DEVICE, RULES]);
    site.bench.run(SECOND);
    let asked = site.bench.now();
    assert_eq!(site.write(101, &[0x418B, 0xAE14]), Ok(()));
    assert!(site.bench.now().since(asked) > 5_000, "an exchange on the line takes its time");
    assert_eq!(
        site.bus().devices[0].peek(SETPOINT),
        Some(vec![0xAE, 0x14, 0x41, 0x8B]),
        "low word first there"
    );
    assert_eq!(site.read(101, 2), Ok(vec![0x418B, 0xAE14]), "shown until the next poll");
    site.bench.run(SECOND);
    assert_eq!(site.read(101, 2), Ok(vec![0x418B, 0xAE14]));
    assert_eq!(site.write(101, &[1]), Err(2), "a part of a value");
    assert_eq!(site.write(1, &[1]), Err(2), "no rule makes it writable");
    assert_eq!(site.write(100, &[1, 2, 3]), Err(2), "its first register is fed by no rule");
    site.bus().change(Change::begin(&REFUSE, 0, FaultValue::Number(4)));
    assert_eq!(site.write(101, &[1, 2]), Err(4), "the device's own exception");
    site.bus().change(Change::end(&REFUSE, 0));
    site.bus().change(Change::begin(&CUT, 0, FaultValue::On));
    assert_eq!(site.write(101, &[1, 2]), Err(11));
}

#[test]
fn values_that_do_not_fit_are_refused_on_the_way_in_and_count_as_lost_on_the_way_out() {
    let rules = r#"
[[map]]
from = "do-1:400010 as i16"
to = "scada:400001 as u16"
access = "read-write"
[[map]]
from = "do-1:400011"
to = "scada:400002"
"#;
    let mut site = still(&[HEAD, DEVICE, rules]);
    site.bus().devices[0].poke(SETPOINT, &[0xFF, 0xFF, 0, 7]);
    site.bench.run(SECOND);
    assert_eq!(site.read(1, 1), Err(11), "-1 does not fit");
    assert_eq!(site.read(2, 1), Ok(vec![7]), "its neighbour in the same request does");
    assert_eq!(site.write(1, &[40_000]), Err(3));
    assert_eq!(site.write(1, &[4000]), Ok(()));
    assert_eq!(site.read(1, 1), Ok(vec![4000]));
}

#[test]
fn a_dead_unit_does_not_slow_the_others() {
    let mut devices = String::new();
    let mut rules = String::new();
    for n in 1..=10 {
        devices += &format!(
            "[devices.do-{n}]\nport = \"raceway\"\nunit = {n}\nprofile = \"probe.toml\"\npoll = \"200ms\"\n"
        );
        rules += &format!("[[map]]\nfrom = \"do-{n}.oxygen\"\nto = \"scada:{}\"\n", 400_000 + n);
    }
    let mut site = still(&[HEAD, &devices, &rules]);
    site.bench.run(SECOND);
    for dead in 5..10 {
        site.bus().change(Change::begin(&MUTE, dead, FaultValue::On));
    }
    site.bench.run(60 * SECOND);
    // From here on each living unit is never older than its interval, a probe of a dead one and the cycle.
    for _ in 0..500 {
        site.bench.run(97_001);
        assert_eq!(site.read(1, 5), Ok(vec![1746; 5]));
        assert_eq!(site.read(6, 1), Err(11));
    }
    assert!((0..5).all(|at| site.bench.is_online(at)) && !(5..10).any(|at| site.bench.is_online(at)));
    let lost =
        site.bench.events().iter().filter(|(_, event)| matches!(event, Event::DeviceLost { .. })).count();
    assert_eq!(lost, 5, "each loss is told once");
}

#[test]
fn polls_of_different_intervals_keep_their_turns_and_missed_ones_are_dropped() {
    // 115 % of the line: everybody gets less, nobody nothing.
    let devices = "[devices.fast]\nport = \"raceway\"\nunit = 1\npoll = \"10ms\"\n[devices.slow]\nport = \"raceway\"\nunit = 2\npoll = \"100ms\"\n";
    let rules = r#"
[[map]]
from = "fast:400001"
to = "scada:400001"
[[map]]
from = "slow:400001"
to = "scada:400051"
count = 40
[[map]]
from = "fast.health.polls"
to = "scada:400201"
[[map]]
from = "slow.health.polls"
to = "scada:400202"
"#;
    let mut site = Site::new(&[HEAD, devices, rules]);
    site.bench.run(10 * SECOND);
    let counts = site.read(201, 2).unwrap();
    assert!(counts[0] > 600 && counts[0] < 1000, "{counts:?}");
    assert!(counts[1] > 60 && counts[1] <= 100, "{counts:?}");
}

#[test]
fn an_hour_of_noise_never_shows_a_wrong_value() {
    let mut site = still(&[HEAD, DEVICE, RULES, "[rig]\nseed = 11\n"]);
    site.bench.run(SECOND);
    site.bus().change(Change::begin(&NOISE, 0, FaultValue::Share(0.02)));
    let (mut good, mut refused) = (0, 0);
    for second in 0..3600u16 {
        let before = second % 3000;
        site.bus().devices[0].poke(OXYGEN, &before.to_be_bytes());
        site.bench.run(SECOND);
        match site.read(1, 1) {
            // One of the last values, never something else: the age allows a second and a half.
            Ok(words) => {
                let back = u16::try_from((u32::from(before) + 3000 - u32::from(words[0])) % 3000).unwrap();
                assert!(back <= 2, "second {second}: {words:?}");
                good += 1;
            }
            Err(code) => {
                assert_eq!(code, 11);
                refused += 1;
            }
        }
    }
    assert!(good > 2000 && refused > 10, "{good} good, {refused} refused");
    site.bus().change(Change::end(&NOISE, 0));
    site.bench.run(31 * SECOND);
    assert!(site.read(1, 1).is_ok());
}

#[test]
fn two_devices_on_one_unit_are_never_read_right() {
    let mut text = format!("{HEAD}{DEVICE}{RULES}");
    text += "[devices.do-2]\nport = \"raceway\"\nunit = 24\nprofile = \"probe.toml\"\n";
    let mut site = still(&[&text]);
    site.bench.run(SECOND);
    assert_eq!(site.read(1, 1), Ok(vec![1746]));
    // The second device is set to the first one's unit on site.
    let mut checked = crate::site::checked(&text);
    checked.plan.devices[1].setup.numbers = vec![("unit", 23)];
    let bus = woodrush_engine::rig::bus_of(&checked, 0, &|_| Err(String::new()), true).unwrap().unwrap();
    *site.bus() = bus;
    site.bench.run(20 * SECOND);
    assert_eq!(site.read(1, 1), Err(11));
    assert!(!site.bench.is_online(0));
}

#[test]
fn other_line_settings_are_silence_or_damage() {
    for line in ["19200 8E1", "38400 8O1", "38400 8N1", "115200 8N1"] {
        let device = DEVICE.replace("poll", &format!("line = \"{line}\"\npoll"));
        let text = format!("{HEAD}{device}{RULES}");
        let mut wrong = woodrush_core::check::check(woodrush_core::project::read("w", text, &mut |_| {
            Ok(crate::site::PROBE.into())
        }));
        let plan = std::sync::Arc::new(std::mem::take(&mut wrong.plan));
        wrong.plan = woodrush_core::plan::Plan::build(&wrong.project, &mut vec![]);
        let mut bench = woodrush_engine::bench::Bench::new(&wrong, plan).unwrap();
        bench.run(10 * SECOND);
        assert!(!bench.is_online(0), "{line}");
    }
}

#[test]
fn a_slow_device_is_waited_for_and_a_late_answer_is_never_taken_for_the_next() {
    let rules = r#"
[[map]]
from = "do-1:400001"
to = "scada:400001"
[[map]]
from = "do-1:400011"
to = "scada:400011"
"#;
    let mut site = Site::new(&[HEAD, DEVICE, rules]);
    let words = [(0, 0x1111u16), (10, 0x2222)];
    for (first, word) in words {
        site.bus().devices[0].still = true;
        site.bus().devices[0].poke(Extent { space: SpaceId(3), first, count: 1 }, &word.to_be_bytes());
    }
    site.bus().change(Change::begin(&SLOW, 0, FaultValue::Micros(150_000)));
    site.bench.run(5 * SECOND);
    assert_eq!((site.read(1, 1), site.read(11, 1)), (Ok(vec![0x1111]), Ok(vec![0x2222])));
    // Just beyond the timeout: answers arrive while the line rests.
    site.bus().change(Change::begin(&SLOW, 0, FaultValue::Micros(215_000)));
    for _ in 0..400 {
        site.bench.run(100_000);
        for (reference, word) in [(1, 0x1111), (11, 0x2222)] {
            let read = site.read(reference, 1);
            assert!(read == Ok(vec![word]) || read == Err(11), "{reference}: {read:04X?}");
        }
    }
}

#[test]
fn units_and_broken_requests_are_answered_as_the_standard_says() {
    let text = format!("{HEAD}unit = 5\n{DEVICE}{RULES}");
    let mut site = still(&[&text]);
    site.bench.run(SECOND);
    let read = Request::Read { table: Table::HoldingRegister, offset: 0, count: 1 };
    assert_eq!(site.ask(5, &read)[0], 3);
    assert_eq!(site.ask(6, &read), [0x83, 0x0A], "nothing serves unit 6");
    assert_eq!(site.ask(5, &Request::Other { function: 65, data: &[] }), [0xC1, 1]);
    assert_eq!(site.ask(5, &Request::Other { function: 3, data: &[0, 0, 0, 126] }), [0x83, 3]);
    assert_eq!(
        site.ask(5, &Request::Read { table: Table::HoldingRegister, offset: 65_535, count: 2 }),
        [0x83, 2]
    );
    // Three requests in one segment are answered in their order.
    let pipelined: Vec<u8> = (1..=3u8).flat_map(|n| [0, n, 0, 0, 0, 6, 5, 3, 0, 0, 0, 1]).collect();
    let back = site.bench.exchange(&mut site.client, &pipelined).unwrap();
    assert_eq!(back.chunks(11).map(|answer| answer[1]).collect::<Vec<_>>(), [1, 2, 3]);
    // RTU bytes first thing on a connection: closed.
    site.client = site.bench.connect(1).unwrap();
    assert_eq!(
        site.bench.exchange(&mut site.client, &[0x11, 3, 0, 0x6B, 0, 3, 0x76, 0x87, 0, 0, 0, 0]).as_deref(),
        None
    );
}

#[test]
fn asking_early_or_often_changes_nothing() {
    let run = |step: u64| {
        let mut site = still(&[HEAD, DEVICE, RULES]);
        let mut left = 3 * SECOND;
        while left > 0 {
            site.bench.run(step.min(left));
            left -= step.min(left);
        }
        (site.read(1, 1), site.bench.now())
    };
    assert_eq!(run(7), run(SECOND));
    assert_eq!(run(SECOND).1, Moment(3 * SECOND));
}
