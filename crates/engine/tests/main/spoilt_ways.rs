//! The proof must fail where the converter's ways are wrong, at the wrong way and at no other.

use crate::proven::{proof, whys, wrong};
use crate::site::checked;
use std::sync::Arc;
use woodrush_core::plan::{Plan, Source};
use woodrush_core::project::OnLoss;

const SITE: &str = r#"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "115200 8E1"
protocol = "modbus-rtu"
timeout = "400ms"
[ports.panel]
serial = "/dev/ttyUSB1"
line = "115200 8E1"
protocol = "modbus-rtu"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.gauge]
port = "raceway"
unit = 23
poll = "100ms"
retry-lost = "200ms..1s"
[devices.blower]
port = "raceway"
unit = 24
poll = "100ms"
retry-lost = "200ms..1s"
[images.scada]
port = "office"
unit = 1
[images.left]
port = "panel"
unit = 11
[[map]]
from = "gauge:400001 as i16 scale 0.1"
to = "left:400001 as f32"
[[map]]
from = "gauge:400002"
to = "blower:400012"
on-loss = "fill 0x8000"
[[map]]
from = "scada:400101 as u16"
to = "blower:400020 as u16"
[[map]]
from = "blower:400030"
to = "scada:400030"
access = "read-write"
[[map]]
from = "gauge.health.online"
to = "left:000009"
[[map]]
from = "scada:400111 as i16 scale 0.1"
to = "left:400011 as f32"
access = "read-write"
[[forward]]
from = "office"
units = "123-124"
to = "raceway"
as-units = "23-24"
functions = [3]
[[forward]]
from = "panel"
units = "60"
to = "raceway"
as-units = "24"
"#;

#[test]
fn a_forward_to_the_wrong_unit_is_seen() {
    let checked = Arc::new(checked(SITE));
    let crossed = proof(&checked, |plan| plan.forwards[0].units = vec![(123, 24), (124, 23)]);
    let (rules, others) = wrong(&crossed);
    assert!(rules.is_empty(), "{rules:?}");
    assert!(others.len() == 1 && others[0].starts_with("forward office -> raceway"), "{others:?}");
    assert!(!crossed.holds());
}

#[test]
fn a_forward_that_lets_more_pass_than_it_may_is_seen() {
    let checked = Arc::new(checked(SITE));
    let open = proof(&checked, |plan| plan.forwards[0].functions.clear());
    let (rules, others) = wrong(&open);
    assert!(rules.is_empty() && others.len() == 1, "{rules:?} {others:?}");
    assert!(others[0].contains("written is answered") && others[0].ends_with("may not pass"), "{others:?}");
}

#[test]
fn a_forward_that_lets_nothing_pass_is_seen() {
    let checked = Arc::new(checked(SITE));
    let shut = proof(&checked, |plan| plan.forwards[1].functions = vec![7]);
    let (rules, others) = wrong(&shut);
    assert!(rules.is_empty() && others.len() == 1, "{rules:?} {others:?}");
    assert!(others[0].starts_with("forward panel -> raceway: unit 60"), "{others:?}");
}

#[test]
fn bytes_that_pass_unread_are_proven_each_way_and_a_line_without_devices_is_silent() {
    let text = r#"
[ports.desk]
listen = "0.0.0.0:4001"
protocol = "raw"
allow = ["192.0.2.0/24"]
[ports.printer]
serial = "/dev/ttyUSB5"
line = "9600 8N1"
protocol = "raw"
[ports.program]
pty = "scale"
protocol = "raw"
[ports.scale]
connect = "192.0.2.44:4001"
protocol = "raw"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[ports.yard]
serial = "/dev/ttyUSB6"
line = "9600 8N1"
protocol = "modbus-rtu"
timeout = "100ms"
[[forward]]
from = "desk"
to = "printer"
[[forward]]
from = "program"
to = "scale"
[[forward]]
from = "office"
units = "1-5"
to = "yard"
"#;
    let checked = Arc::new(checked(text));
    let whole = proof(&checked, |_| {});
    assert!(whole.holds() && whole.rules.is_empty(), "{:?}", whole.others);
    let all = whole.others.iter().map(|(what, _)| what.as_str());
    let told: Vec<&str> = all.filter(|what| what.starts_with("forward")).collect();
    let bytes = "all 256 bytes pass unchanged each way";
    assert_eq!(
        told,
        [
            format!("forward desk -> printer: {bytes}, one client at a time"),
            format!("forward program -> scale: {bytes}"),
            "forward office -> yard: nothing known to ask, unit 1 that does not answer gives exception 11, unit 6 without a route gives exception 10".into(),
        ]
    );
    let cut = proof(&checked, |plan| drop(plan.forwards.remove(0)));
    let (_, others) = wrong(&cut);
    assert!(
        others.len() == 1 && others[0].starts_with("forward desk -> printer: no end there"),
        "{others:?}"
    );
    assert_eq!((cut.forwards.proven, cut.forwards.of, cut.holds()), (2, 3, false));
}

#[test]
fn a_value_that_is_sent_beside_its_place_is_seen() {
    let checked = Arc::new(checked(SITE));
    let beside = proof(&checked, |plan| plan.pushes[0].extent.first += 1);
    assert_eq!(wrong(&beside).0, [1], "{:?}", beside.rules[1].why);
}

#[test]
fn a_value_that_is_not_sent_at_all_is_seen() {
    let checked = Arc::new(checked(SITE));
    let never = proof(&checked, |plan| plan.pushes.clear());
    assert_eq!(wrong(&never).0, [1], "{:?}", never.rules[1].why);
}

#[test]
fn a_loss_that_a_device_is_not_told_as_agreed_is_seen() {
    let checked = Arc::new(checked(SITE));
    let stopped = proof(&checked, |plan| plan.pushes[0].on_loss = OnLoss::Stop);
    assert_eq!(wrong(&stopped).0, [1], "{:?}", stopped.rules[1].why);
}

#[test]
fn a_loss_that_is_not_shown_as_agreed_is_seen() {
    let checked = Arc::new(checked(SITE));
    let held = proof(&checked, |plan| plan.rules[0].on_loss = OnLoss::Hold);
    assert_eq!(wrong(&held).0, [0], "{:?}", held.rules[0].why);
}

#[test]
fn a_write_that_is_refused_is_seen() {
    let checked = Arc::new(checked(SITE));
    let shut = proof(&checked, |plan| plan.rules[3].writable = false);
    assert_eq!(wrong(&shut).0, [3], "{:?}", shut.rules[3].why);
}

#[test]
fn a_write_that_no_rule_carries_on_is_seen() {
    let checked = Arc::new(checked(SITE));
    let cut_off = proof(&checked, |plan| plan.onward.clear());
    assert_eq!(wrong(&cut_off).0, [2, 5], "{:?}", cut_off.rules[2].why);
}

#[test]
fn writes_between_images_are_proven_both_ways() {
    let checked = Arc::new(checked(SITE));
    let whole = proof(&checked, |_| {});
    assert!(whole.holds(), "{:?} {:?}", whys(&whole), whole.others);
    let both = &whole.rules[5];
    assert!(both.patterns_read > 10 && both.patterns_written.is_some_and(|written| written > 10), "{both:?}");
}

#[test]
fn a_write_between_images_that_goes_one_way_only_is_seen() {
    let checked = Arc::new(checked(SITE));
    let shut = proof(&checked, |plan| plan.rules[5].writable = false);
    assert_eq!(wrong(&shut).0, [5], "{:?}", shut.rules[5].why);
}

#[test]
fn a_write_between_images_that_goes_astray_is_seen() {
    let checked = Arc::new(checked(SITE));
    let other = |plan: &mut Plan| {
        let Source::ClientCells { image, place, .. } = plan.rules[5].source else {
            panic!("clients write it")
        };
        let entries = (0u32..).zip(&plan.rules).filter(|(_, rule)| rule.source == Source::Client);
        let beside = entries.map(|(at, _)| at).min().unwrap();
        plan.rules[5].source = Source::ClientCells { image, place, rule: beside };
    };
    let astray = proof(&checked, other);
    assert_eq!(wrong(&astray).0, [5], "{:?}", whys(&astray));
}

#[test]
fn values_of_two_devices_that_change_places_are_seen() {
    let text =
        SITE.replace("from = \"gauge:400001 as i16 scale 0.1\"", "from = \"gauge:400030 as i16\"").replace(
            "from = \"blower:400030\"\nto = \"scada:400030\"\naccess = \"read-write\"",
            "from = \"blower:400030 as i16\"\nto = \"scada:400030\"",
        );
    let checked = Arc::new(checked(&text));
    let crossed = proof(&checked, |plan| {
        let numbers = plan.devices[0].setup.numbers.clone();
        plan.devices[0].setup.numbers = std::mem::replace(&mut plan.devices[1].setup.numbers, numbers);
    });
    let (rules, _) = wrong(&crossed);
    assert!(rules.contains(&0) && rules.contains(&3), "{rules:?} {:?}", whys(&crossed));
}
