//! Whole requests through, on the virtual clock: renumbered, filtered, in turns, and refused as the standard says.

use crate::site::{HEAD, Site};
use woodrush_core::project::{AS_UNIT, FaultValue, LATE, SHORT, TWICE};
use woodrush_core::protocol::{Extent, SpaceId};
use woodrush_engine::rig::Change;
use woodrush_wire::modbus::{Request, Table};

const SECOND: u64 = 1_000_000;
const TWO: &str = r#"
[devices.gauge]
port = "raceway"
unit = 23
tables = { holding = 100, coil = 64 }
[devices.blower]
port = "raceway"
unit = 24
tables = { holding = 100, coil = 64 }
"#;
const FORWARD: &str =
    "[[forward]]\nfrom = \"office\"\nunits = \"101-103\"\nto = \"raceway\"\nas-units = \"23-25\"\n";

fn site(protocol: &str, more: &str) -> Site {
    let head = HEAD.replace("protocol = \"modbus-rtu\"", &format!("protocol = \"{protocol}\""));
    let mut site = Site::new(&[&head, TWO, FORWARD, more]);
    for (at, device) in (1u16..).zip(&mut site.bus().devices) {
        device.still = true;
        device.poke(Extent { space: SpaceId(3), first: 0, count: 1 }, &at.to_be_bytes());
    }
    site
}

fn read(site: &mut Site, unit: u8, offset: u16, count: u16) -> Vec<u8> {
    site.ask(unit, &Request::Read { table: Table::HoldingRegister, offset, count })
}

#[test]
fn requests_reach_the_unit_that_they_are_renumbered_to_and_answers_come_back_whole() {
    for protocol in ["modbus-rtu", "modbus-ascii"] {
        let mut site = site(protocol, "");
        assert_eq!(read(&mut site, 101, 0, 1), [3, 2, 0, 1], "{protocol}");
        assert_eq!(read(&mut site, 102, 0, 1), [3, 2, 0, 2]);
        assert_eq!(read(&mut site, 102, 99, 2), [0x83, 2], "the device's own refusal, unchanged");
        assert_eq!(
            site.ask(102, &Request::WriteRegister { offset: 5, value: 0xABCD }),
            [6, 0, 5, 0xAB, 0xCD]
        );
        assert_eq!(read(&mut site, 102, 5, 1), [3, 2, 0xAB, 0xCD]);
        assert_eq!(
            site.ask(102, &Request::MaskWrite { offset: 5, and: 0xFF00, or: 1 }),
            [22, 0, 5, 0xFF, 0, 0, 1]
        );
        assert_eq!(read(&mut site, 102, 5, 1), [3, 2, 0xAB, 1]);
        let exchange = Request::Exchange { offset: 5, count: 1, write_offset: 6, words: &[0, 9] };
        assert_eq!(site.ask(102, &exchange), [23, 2, 0xAB, 1]);
        // Functions that nobody here knows go through as they are.
        assert_eq!(site.ask(101, &Request::Other { function: 65, data: &[1, 2, 3] }), [0xC1, 1]);
        assert_eq!(read(&mut site, 101, 0, 126 - 1).len(), 2, "100 registers there are");
    }
}

#[test]
fn a_unit_without_a_way_gets_10_and_a_silent_one_11() {
    let mut site = site("modbus-rtu", "");
    let begun = site.bench.now();
    assert_eq!(read(&mut site, 103, 0, 1), [0x83, 11], "nobody is unit 25");
    let waited = site.bench.now().since(begun);
    assert!((200_000..300_000).contains(&waited), "{waited} µs");
    let image_gone = HEAD.replace("[images.scada]\nport = \"office\"\n", "");
    let mut bare = Site::new(&[&image_gone, TWO, FORWARD]);
    assert_eq!(read(&mut bare, 50, 0, 1), [0x83, 10]);
    assert_eq!(read(&mut site, 50, 0, 1), [0x83, 2], "all other units are the image's");
}

#[test]
fn only_the_functions_that_may_pass_do() {
    let mut site = site("modbus-rtu", "functions = [3, 4]\n");
    assert_eq!(read(&mut site, 101, 0, 1), [3, 2, 0, 1]);
    assert_eq!(site.ask(101, &Request::WriteRegister { offset: 0, value: 1 }), [0x86, 1]);
    assert_eq!(read(&mut site, 101, 0, 1), [3, 2, 0, 1], "nothing reached the device");
}

#[test]
fn an_answer_that_comes_late_twice_short_or_from_another_unit_reaches_nobody() {
    let mut site = site("modbus-rtu", "");
    for fault in [
        Change::begin(&LATE, 0, FaultValue::On),
        Change::begin(&SHORT, 0, FaultValue::On),
        Change::begin(&AS_UNIT, 0, FaultValue::Number(77)),
    ] {
        let mend = Change::end(fault.kind(), 0);
        site.bus().change(fault);
        assert_eq!(read(&mut site, 101, 0, 1), [0x83, 11], "{fault:?}");
        for _ in 0..3 {
            assert_eq!(read(&mut site, 102, 0, 1), [3, 2, 0, 2], "{fault:?} costs the others nothing");
        }
        site.bus().change(mend);
        site.bench.run(SECOND);
        assert_eq!(read(&mut site, 101, 0, 1), [3, 2, 0, 1], "{fault:?}");
    }
    site.bus().change(Change::begin(&TWICE, 0, FaultValue::On));
    for _ in 0..5 {
        assert_eq!(read(&mut site, 101, 0, 1), [3, 2, 0, 1]);
        assert_eq!(read(&mut site, 102, 0, 1), [3, 2, 0, 2]);
    }
}

#[test]
fn polls_and_forwarded_requests_share_the_line() {
    let rules = "[[map]]\nfrom = \"gauge:400001\"\nto = \"scada:400001\"\npoll = \"20ms\"\n[[map]]\nfrom = \"gauge.health.polls\"\nto = \"scada:400002\"\n";
    let mut site = site("modbus-rtu", rules);
    site.bench.run(SECOND);
    let before = site.read(2, 1).unwrap()[0];
    let (begun, mut passed) = (site.bench.now(), 0u32);
    while site.bench.now().since(begun) < 10 * SECOND {
        assert_eq!(read(&mut site, 102, 0, 1), [3, 2, 0, 2]);
        passed += 1;
    }
    let polls = u32::from(site.read(2, 1).unwrap()[0].wrapping_sub(before));
    assert!(polls > 400 && passed > 400, "{polls} polls beside {passed} requests");
}

#[test]
fn a_broadcast_is_sent_where_it_may_pass_and_nobody_answers() {
    let mut site = site("modbus-rtu", "[[forward]]\nfrom = \"office\"\nunits = \"0\"\nto = \"raceway\"\n");
    let mut frame = vec![];
    woodrush_wire::modbus::tcp::emit(9, 0, &[6, 0, 7, 0x55, 0xAA], &mut frame);
    let back = site.bench.exchange(&mut site.client, &frame).unwrap();
    assert!(back.len() <= 12, "{back:?}");
    for device in &site.bus().devices {
        assert_eq!(device.peek(Extent { space: SpaceId(3), first: 7, count: 1 }), Some(vec![0x55, 0xAA]));
    }
}
