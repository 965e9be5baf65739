//! What becomes of writes that nobody waits for, and of what a device was sent before it was away.

use crate::site::{DEVICE, HEAD, Site, checked};
use std::sync::Arc;
use woodrush_core::project::{CUT, FaultValue, MUTE};
use woodrush_core::protocol::{Extent, SpaceId};
use woodrush_engine::converter::Event;
use woodrush_engine::rig::Change;

const SECOND: u64 = 1_000_000;
const FIRST: Extent = Extent { space: SpaceId(3), first: 10, count: 1 };

/// A register that a client writes, carried on to the device.
fn rule(keys: &str) -> String {
    format!(
        "[[map]]\nname = \"setpoint\"\nfrom = \"scada:400101 as u16\"\nto = \"do-1:400011 as u16\"\n{keys}\n"
    )
}

fn site(keys: &str) -> Site {
    let polled = "[[map]]\nfrom = \"do-1.oxygen\"\nto = \"scada:400001\"\n";
    let mut site = Site::new(&[HEAD, DEVICE, polled, &rule(keys)]);
    for device in &mut site.bus().devices {
        device.still = true;
    }
    site
}

fn held(site: &mut Site) -> Vec<u8> {
    site.bus().devices[0].peek(FIRST).unwrap()
}

#[test]
fn a_value_written_while_the_device_is_away_arrives_when_it_is_back_though_nobody_waits_for_it() {
    let mut site = site("send = \"on-change\"\nanswer = \"at-once\"");
    site.bench.run(SECOND);
    assert_eq!(site.write(101, &[5]), Ok(()));
    site.bench.run(SECOND);
    assert_eq!(held(&mut site), [0, 5]);
    site.bus().change(Change::begin(&CUT, 0, FaultValue::On));
    assert_eq!(site.write(101, &[6]), Ok(()), "answered at once");
    site.bench.run(30 * SECOND);
    assert_eq!(held(&mut site), [0, 5]);
    site.bus().change(Change::end(&CUT, 0));
    // The same value again is no change for the image, and one for the device.
    assert_eq!(site.write(101, &[6]), Ok(()));
    site.bench.run(40 * SECOND);
    assert_eq!((site.read(101, 1), held(&mut site)), (Ok(vec![6]), vec![0, 6]));
}

#[test]
fn the_same_value_is_not_sent_twice_to_a_device_that_has_confirmed_it() {
    let mut site = site("send = \"on-change\"");
    site.bench.run(SECOND);
    let writes = |site: &mut Site| site.bus().devices[0].written();
    assert_eq!(site.write(101, &[5]), Ok(()));
    let once = writes(&mut site);
    for _ in 0..5 {
        assert_eq!(site.write(101, &[5]), Ok(()));
        site.bench.run(SECOND);
    }
    assert_eq!(writes(&mut site), once);
    assert_eq!(site.write(101, &[6]), Ok(()));
    assert_eq!(writes(&mut site), once + 1);
}

/// A controller that was restarted begins with zeros: what a rule keeps in it is sent again.
#[test]
fn a_device_that_was_away_gets_again_what_rules_keep_in_it() {
    for keys in ["send = \"on-change\"", "send = [\"on-change\", \"every 1h\"]"] {
        let mut site = site(keys);
        site.bench.run(SECOND);
        assert_eq!(site.write(101, &[77]), Ok(()));
        site.bench.run(SECOND);
        assert_eq!(held(&mut site), [0, 77], "{keys}");
        site.bus().change(Change::begin(&MUTE, 0, FaultValue::On));
        site.bench.run(20 * SECOND);
        assert!(!site.bench.is_online(0));
        site.bus().devices[0].poke(FIRST, &[0, 0]);
        site.bus().change(Change::end(&MUTE, 0));
        site.bench.run(40 * SECOND);
        assert!(site.bench.is_online(0));
        assert_eq!(held(&mut site), [0, 77], "{keys}");
    }
    // What is sent only when a client writes is a command, and not repeated.
    let mut site = site("send = \"on-write\"");
    site.bench.run(SECOND);
    assert_eq!(site.write(101, &[77]), Ok(()));
    site.bus().change(Change::begin(&MUTE, 0, FaultValue::On));
    site.bench.run(20 * SECOND);
    site.bus().devices[0].poke(FIRST, &[0, 0]);
    site.bus().change(Change::end(&MUTE, 0));
    site.bench.run(40 * SECOND);
    assert_eq!(held(&mut site), [0, 0]);
}

#[test]
fn of_two_devices_the_one_that_was_away_gets_the_others_value_again() {
    let two = "[devices.do-2]\nport = \"raceway\"\nunit = 24\nprofile = \"probe.toml\"\npoll = \"500ms\"\n[[map]]\nfrom = \"do-1:400021 as u16\"\nto = \"do-2:400011 as u16\"\n[[map]]\nfrom = \"do-2.oxygen\"\nto = \"scada:400002\"\n";
    let mut site = Site::new(&[HEAD, DEVICE, two]);
    for device in &mut site.bus().devices {
        device.still = true;
    }
    site.bus().devices[0].poke(Extent { first: 20, ..FIRST }, &[0, 42]);
    site.bench.run(3 * SECOND);
    assert_eq!(site.bus().devices[1].peek(FIRST).unwrap(), [0, 42]);
    site.bus().change(Change::begin(&MUTE, 1, FaultValue::On));
    site.bench.run(20 * SECOND);
    site.bus().devices[1].poke(FIRST, &[0, 0]);
    site.bus().change(Change::end(&MUTE, 1));
    site.bench.run(40 * SECOND);
    assert_eq!(site.bus().devices[1].peek(FIRST).unwrap(), [0, 42]);
}

/// At 9600 baud a client can write far faster than the line takes it: each write arrives, or is told.
#[test]
fn each_of_three_hundred_unconfirmed_writes_arrives_or_is_told() {
    let text = format!(
        "[converter]\nwrite-log = \"writes.csv\"\n{}{DEVICE}{}",
        HEAD.replace("38400 8E1", "9600 8E1"),
        rule("send = \"on-write\"\nanswer = \"at-once\""),
    );
    let text = text.replace("profile = \"probe.toml\"\n", "line = \"9600 8E1\"\nprofile = \"probe.toml\"\n");
    let mut checked = checked(&text);
    let mut site = Site::of(&mut checked);
    for device in &mut site.bus().devices {
        device.still = true;
    }
    site.bench.run(SECOND);
    let before = site.bus().devices[0].written();
    let mut refused = 0;
    for value in 1..=300u16 {
        match site.write(101, &[value]) {
            Ok(()) => {}
            Err(code) => {
                assert_eq!(code, 6, "busy");
                refused += 1;
            }
        }
    }
    assert!(refused > 0, "a line of 9600 baud does not take 300 at once");
    site.bench.run(60 * SECOND);
    let arrived = site.bus().devices[0].written() - before;
    assert_eq!(arrived + refused, 300);
    let logged: Vec<String> = site
        .bench
        .events()
        .into_iter()
        .filter_map(|(_, event)| match event {
            Event::Written(record) => Some(record.outcome),
            _ => None,
        })
        .collect();
    assert_eq!(logged.len(), 300, "each has its row");
    let done = logged.iter().filter(|outcome| *outcome == "done").count();
    assert_eq!(done as u64, arrived);
    let counts = site.bench.counts(0);
    assert!(counts.unreachable >= refused, "and they are counted: {counts:?}");
}

#[test]
fn an_unconfirmed_write_that_fails_is_counted_and_its_row_says_how_it_ended() {
    let text =
        format!("[converter]\nwrite-log = \"writes.csv\"\n{HEAD}{DEVICE}{}", rule("answer = \"at-once\""));
    let mut site = Site::of(&mut checked(&text));
    site.bench.run(SECOND);
    let before = site.bench.counts(0).no_answer;
    site.bus().change(Change::begin(&CUT, 0, FaultValue::On));
    assert_eq!(site.write(101, &[6]), Ok(()));
    site.bench.run(5 * SECOND);
    assert!(site.bench.counts(0).no_answer > before);
    let row = site.bench.events().into_iter().find_map(|(_, event)| match event {
        Event::Written(record) => Some(record),
        _ => None,
    });
    assert_eq!(row.unwrap().outcome, "not known whether it was done: no answer came");
}

/// An age that is sent on change changes all the time: once a second is enough.
#[test]
fn an_age_is_sent_once_a_second_at_most() {
    let rules = "[[map]]\nfrom = \"do-1.oxygen\"\nto = \"scada:400001\"\n[[map]]\nfrom = \"do-1.health.age\"\nto = \"do-2:400011\"\n[devices.do-2]\nport = \"raceway\"\nunit = 24\nprofile = \"probe.toml\"\n";
    let mut site = Site::new(&[HEAD, DEVICE, rules]);
    site.bench.run(2 * SECOND);
    let before = site.bus().devices[1].written();
    site.bench.run(60 * SECOND);
    let sent = site.bus().devices[1].written() - before;
    assert!((30..=61).contains(&sent), "{sent} writes in a minute");
}

#[test]
fn a_word_for_a_loss_is_that_word_in_a_data_block_and_in_wide_elements() {
    for (protocol, keys, target, wanted) in [
        (
            "fetch-write",
            "local-tsap = \"01.00\"\nremote-tsap = \"01.00\"\n",
            "%DB10.W20 as u16",
            vec![0u8, 77],
        ),
        ("df1", "", "F8:3 as f32", vec![0, 77, 0, 77]),
        ("df1", "", "N7:3", vec![0, 77]),
    ] {
        let text = format!(
            "[ports.raceway]\nserial = \"/dev/ttyUSB0\"\nline = \"38400 8E1\"\nprotocol = \"modbus-rtu\"\ntimeout = \"200ms\"\n[devices.do-1]\nport = \"raceway\"\nunit = 23\npoll = \"500ms\"\n[ports.plc]\nconnect = \"192.0.2.50:{}\"\nprotocol = \"{protocol}\"\n{keys}[devices.plc]\nport = \"plc\"\n{node}[[map]]\nfrom = \"do-1:400001 as u16\"\nto = \"plc:{target}\"\non-loss = \"fill 77\"\n",
            if protocol == "df1" { 2222 } else { 102 },
            node = if protocol == "df1" { "node = 1\n" } else { "" },
        );
        let checked = Arc::new(checked(&text));
        let plan = Arc::new(woodrush_core::plan::Plan::build(&checked.project, &mut vec![]));
        let push = plan.pushes[0].clone();
        let mut bench = woodrush_engine::bench::Bench::new(&checked, Arc::clone(&plan)).unwrap();
        bench.run(3 * SECOND);
        bench.bus(0).unwrap().change(Change::begin(&CUT, 0, FaultValue::On));
        bench.run(20 * SECOND);
        let got = bench.bus(1).unwrap().devices[0].peek(push.extent).unwrap();
        assert_eq!(got, wanted, "{protocol} {target}");
    }
}
