//! Who gets the line: polls by how overdue they are, writes between them, probes of lost devices apart.

use crate::site::{DEVICE, HEAD, RULES, Site};
use std::sync::{Arc, Mutex};
use woodrush_core::project::{CUT, FaultValue, MUTE, NOISE, REFUSE};
use woodrush_core::protocol::{Extent, SpaceId};
use woodrush_core::{Kind, Refusal};
use woodrush_engine::converter::Event;
use woodrush_engine::image::{DeviceWrite, Shown};
use woodrush_engine::rig::Change;
use woodrush_engine::shared::{ClientId, LineQueue, LineRequest, Queued, Reply, ReplyTicket};
use woodrush_wire::modbus::{Request, Table};

const SECOND: u64 = 1_000_000;

fn write() -> DeviceWrite {
    let extent = Extent { space: SpaceId(3), first: 9, count: 2 };
    DeviceWrite {
        device: 0,
        extent,
        cells: vec![0; 4],
        keep: None,
        shown: Shown::Cells { image: 0, extent, cells: vec![0; 4] },
        rule: 0,
        after_device: true,
    }
}

#[test]
fn a_full_queue_refuses_at_once_and_loses_nothing_that_waits() {
    let queue = LineQueue::default();
    let refused: Arc<Mutex<Vec<Refusal>>> = Arc::default();
    for _ in 0..300 {
        let refused = Arc::clone(&refused);
        let reply =
            Reply::new(ReplyTicket(0), move |_, outcome| refused.lock().unwrap().extend(outcome.err()));
        queue.push(Queued::new(ClientId(1), LineRequest::Write(write()), reply));
    }
    let told = refused.lock().unwrap().clone();
    assert_eq!(told.len(), 300 - 256);
    assert!(told.iter().all(|refusal| refusal.kind == Kind::Busy));
    let mut waiting = 0;
    while queue.take().is_some() {
        waiting += 1;
    }
    assert_eq!(waiting, 256);
}

#[test]
fn a_client_that_writes_without_pause_does_not_starve_the_polls() {
    let device = DEVICE.replace("500ms", "20ms");
    let rules = format!("{RULES}[[map]]\nfrom = \"do-1.health.polls\"\nto = \"scada:400201\"\n");
    let mut site = Site::new(&[HEAD, &device, &rules]);
    site.bench.run(SECOND);
    let begun = (site.bench.now(), site.read(201, 1).unwrap()[0]);
    let mut writes = 0u64;
    while site.bench.now().since(begun.0) < 10 * SECOND {
        assert_eq!(site.write(101, &[u16::try_from(writes % 1000).unwrap(), 0]), Ok(()));
        writes += 1;
    }
    let polls = u64::from(site.read(201, 1).unwrap()[0].wrapping_sub(begun.1));
    // Two requests of 20 ms each would be 1000 polls; writes and polls take the line in turn.
    assert!(polls > 400, "{polls} polls beside {writes} writes");
    assert!(writes > 400, "{writes} writes beside {polls} polls");
}

/// Lost for so long that its next try is up to half a minute away; and then it answers somebody else.
#[test]
fn a_lost_device_that_answers_anybody_is_polled_at_once() {
    let device = DEVICE.replace("poll", "retry-lost = \"30s..30s\"\npoll");
    let forward = "[[forward]]\nfrom = \"office\"\nunits = \"23\"\nto = \"raceway\"\n";
    let head = HEAD.replace("[images.scada]\n", "[images.scada]\nunit = 1\n");
    let mut site = Site::new(&[&head, &device, RULES, forward]);
    site.bench.run(SECOND);
    site.bus().change(Change::begin(&MUTE, 0, FaultValue::On));
    site.bench.run(100 * SECOND);
    assert!(!site.bench.is_online(0));
    // Somebody asks in vain, and it stays as it is.
    let request = Request::Read { table: Table::InputRegister, offset: 0, count: 1 };
    assert_eq!(site.ask(23, &request), [0x84, 11]);
    site.bus().change(Change::end(&MUTE, 0));
    // Not in a pause that a probe has just begun, in which requests are refused.
    let until_free = (0..10).find(|_| {
        site.bench.run(SECOND);
        site.ask(23, &request)[0] == 4
    });
    assert!(until_free.is_some());
    site.bench.run(SECOND);
    assert!(site.bench.is_online(0), "it was not waited for the next try");
    assert!(site.read(1, 1).is_ok());
}

#[test]
fn a_lost_device_is_tried_with_doubling_waits_up_to_the_most() {
    let device = DEVICE.replace("poll", "retry-lost = \"1s..8s\"\npoll");
    let rules = format!("{RULES}[[map]]\nfrom = \"do-1.health.errors\"\nto = \"scada:400201\"\n");
    let mut site = Site::new(&[HEAD, &device, &rules]);
    site.bench.run(SECOND);
    site.bus().change(Change::begin(&CUT, 0, FaultValue::On));
    let mut tries = vec![];
    let mut errors = site.read(201, 1).unwrap()[0];
    let cut = site.bench.now();
    while site.bench.now().since(cut) < 60 * SECOND {
        site.bench.run(10_000);
        let now = site.read(201, 1).unwrap()[0];
        if now != errors {
            tries.push(site.bench.now().since(cut) / 1000);
            errors = now;
        }
    }
    // Three failures lose it; then the waits double from one second to eight, each with a timeout and its rest.
    let waits: Vec<u64> = tries.windows(2).skip(2).map(|pair| pair[1] - pair[0]).collect();
    let wanted = [1, 2, 4, 8, 8, 8];
    for (wait, wanted) in waits.iter().zip(wanted) {
        assert!((wanted * 1000..wanted * 1000 + 300).contains(wait), "{waits:?}");
    }
    let lost =
        site.bench.events().iter().filter(|(_, event)| matches!(event, Event::DeviceLost { .. })).count();
    assert_eq!(lost, 1);
    site.bus().change(Change::end(&CUT, 0));
    site.bench.run(9 * SECOND);
    assert!(site.bench.is_online(0));
    assert!(site.read(1, 1).is_ok() && site.read(101, 2).is_ok(), "everything else of it is due at once");
}

/// A client that goes on writing to a dead device costs the living one no more than the probes may.
#[test]
fn writes_to_a_lost_device_do_not_slow_the_others() {
    let devices = DEVICE.to_string()
        + "[devices.do-2]\nport = \"raceway\"\nunit = 24\nprofile = \"probe.toml\"\npoll = \"50ms\"\n";
    let rules = format!(
        "{RULES}[[map]]\nfrom = \"do-2.oxygen\"\nto = \"scada:400003\"\n[[map]]\nfrom = \"do-2.health.polls\"\nto = \"scada:400201\"\n"
    );
    let mut site = Site::new(&[HEAD, &devices, &rules]);
    site.bench.run(SECOND);
    site.bus().change(Change::begin(&MUTE, 0, FaultValue::On));
    site.bench.run(10 * SECOND);
    assert!(!site.bench.is_online(0));
    let begun = (site.bench.now(), site.read(201, 1).unwrap()[0]);
    while site.bench.now().since(begun.0) < 20 * SECOND {
        assert_eq!(site.write(101, &[1, 2]), Err(11));
        site.bench.run(1000);
    }
    let polls = site.read(201, 1).unwrap()[0] - begun.1;
    // 400 in twenty seconds; the probes' share of the line is a quarter at most.
    assert!(polls > 280, "{polls}");
    site.bus().change(Change::end(&MUTE, 0));
    site.bench.run(SECOND);
    // The first write that gets through brings the device back before its own next try.
    assert!(site.bench.run_until(SECOND, |_| true));
    while site.write(101, &[0x418B, 0xAE14]).is_err() {
        site.bench.run(10_000);
    }
    site.bench.run(SECOND);
    assert!(site.bench.is_online(0));
}

#[test]
fn an_exception_is_an_answer_the_device_stays_and_its_value_ages() {
    let mut site = Site::new(&[HEAD, DEVICE, RULES]);
    site.bench.run(SECOND);
    site.bus().change(Change::begin(&REFUSE, 0, FaultValue::Number(6)));
    site.bench.run(SECOND);
    assert!(site.read(1, 1).is_ok(), "not too old yet");
    site.bench.run(10 * SECOND);
    assert!(site.bench.is_online(0));
    assert_eq!(site.read(1, 1), Err(11));
    let told =
        site.bench.events().into_iter().filter(|(_, event)| matches!(event, Event::Refused { .. })).count();
    assert_eq!(told, 2, "once for each of its two requests");
    site.bus().change(Change::end(&REFUSE, 0));
    site.bench.run(SECOND);
    assert!(site.read(1, 1).is_ok());
}

#[test]
fn retries_save_a_value_from_a_noisy_line() {
    let good = |retries: u32| {
        let head = HEAD.replace("timeout = \"200ms\"", &format!("timeout = \"200ms\"\nretries = {retries}"));
        let rules = format!(
            "{RULES}[[map]]\nfrom = \"do-1.health.polls\"\nto = \"scada:400201\"\n[[map]]\nfrom = \"do-1.health.errors\"\nto = \"scada:400202\"\n"
        );
        let mut site = Site::new(&[&head, DEVICE, &rules]);
        site.bench.run(SECOND);
        site.bus().change(Change::begin(&NOISE, 0, FaultValue::Share(0.01)));
        site.bench.run(300 * SECOND);
        let counts = site.read(201, 2).unwrap();
        f64::from(counts[0]) / f64::from(counts[0] + counts[1])
    };
    let (without, with) = (good(0), good(3));
    assert!(without < 0.9 && with > 0.98, "{without} and {with}");
}

#[test]
fn the_age_of_a_device_is_that_of_its_oldest_value() {
    let rules = format!("{RULES}[[map]]\nfrom = \"do-1.health.age\"\nto = \"scada:400201\"\n");
    let mut site = Site::new(&[HEAD, DEVICE, &rules]);
    assert_eq!(site.read(201, 1), Ok(vec![65_535]), "nothing was read yet");
    site.bench.run(SECOND);
    assert!(site.read(201, 1).unwrap()[0] <= 5);
    site.bus().change(Change::begin(&CUT, 0, FaultValue::On));
    site.bench.run(30 * SECOND);
    let age = site.read(201, 1).unwrap()[0];
    assert!((300..=305).contains(&age), "{age} tenths of a second");
    site.bench.run(10_000 * SECOND);
    assert_eq!(site.read(201, 1), Ok(vec![65_535]), "it stays there");
}

#[test]
fn the_cycle_on_paper_is_the_cycle_on_the_line() {
    for (line, silence, count) in [
        ("9600 8N1", "", 1),
        ("19200 8E1", "", 20),
        ("38400 8E1", "frame-gap = \"4ms\"\n", 60),
        ("115200 8N1", "", 125),
    ] {
        for protocol in ["modbus-rtu", "modbus-ascii"] {
            let head = HEAD
                .replace("line = \"38400 8E1\"", &format!("line = \"{line}\"\n{silence}"))
                .replace("modbus-rtu", protocol);
            let devices: String = (1..=4u32)
                .map(|n| {
                    format!(
                        "[devices.d{n}]\nport = \"raceway\"\nunit = {n}\npoll = \"1ms\"\n[[map]]\nfrom = \"d{n}:400001\"\ncount = {count}\nto = \"scada:{}\"\n",
                        400_001 + n * 200
                    )
                })
                .collect();
            let checked = crate::site::checked(&[head.as_str(), &devices].concat());
            let budget = woodrush_core::budget::report(&checked.project, &checked.plan);
            let mut site = Site::of(&mut { checked });
            site.bench.run(10 * SECOND);
            let before = site.bench.polls(0);
            site.bench.run(100 * SECOND);
            let measured = 100.0 * SECOND as f64 / (site.bench.polls(0) - before) as f64;
            let ratio = measured / budget[0].cycle_us as f64;
            assert!(
                (0.95..=1.05).contains(&ratio),
                "{protocol} {line} x{count}: {measured} us against {}",
                budget[0].cycle_us
            );
        }
    }
}
