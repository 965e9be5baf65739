//! On real ptys and sockets: the proof, and that it fails where it must.

use crate::proven::{proof, whys, wrong};
use crate::site::{DEVICE, HEAD, PROBE};
use std::sync::Arc;
use woodrush_core::check::{Checked, check};
use woodrush_core::form::{Order, Type};
use woodrush_core::plan::Plan;
use woodrush_core::project::read;
use woodrush_engine::converter::{Event, start};
use woodrush_engine::rig::Rig;

const RULES: &str = r#"
[[map]]
from = "do-1.oxygen"
to = "scada:400001"
[[map]]
from = "do-1.setpoint"
to = "scada:400101 as f32 ABCD"
access = "read-write"
[[map]]
from = "do-1:400050 as i32 DCBA scale 0.1"
to = "scada:400110 as i16 scale 1"
count = 3
[[map]]
from = "do-1:400060.3"
to = "scada:100001"
on-loss = "fill 1"
[[map]]
from = "do-1:000001"
to = "scada:000001"
count = 20
access = "read-write"
[[map]]
from = "do-1:400070 as text(6) BA"
to = "scada:400200"
on-loss = "hold"
[[map]]
from = "do-1.health.online"
to = "scada:100101"
"#;

fn site() -> Arc<Checked> {
    let device = DEVICE.replace("500ms", "100ms") + "retry-lost = \"200ms..1s\"\n";
    let text =
        format!("{HEAD}{device}{RULES}").replace("\"200ms\"\n[ports.office]", "\"400ms\"\n[ports.office]");
    let checked = check(read("woodrush.toml", text, &mut |path| {
        if path.ends_with(".ledger") { Err(String::new()) } else { Ok(PROBE.into()) }
    }));
    assert!(!checked.has_errors());
    Arc::new(checked)
}

#[test]
fn a_sound_site_is_proven_whole() {
    let proof = proof(&site(), |_| {});
    assert!(proof.holds(), "{:#?} {:?}", whys(&proof), proof.others);
    assert_eq!(proof.rules.len(), 7);
    assert!(proof.rules.iter().all(|rule| rule.on_loss_right));
    assert!(proof.rules[1].patterns_written.is_some_and(|written| written > 10));
}

/// Each way to break the converter's own forms must be seen, at the broken rule and at no other.
fn is_seen(rule: usize, spoil: impl Fn(&mut Plan)) {
    let checked = site();
    let proof = proof(&checked, spoil);
    assert_eq!(wrong(&proof).0, [rule], "{:?}", whys(&proof));
}

#[test]
fn a_converter_that_reads_words_the_wrong_way_round_is_not_proven() {
    is_seen(1, |plan| Arc::make_mut(&mut plan.rules[1].conversion).from.order = Some(Order::HIGH_FIRST));
}

#[test]
fn a_converter_that_forgets_a_scale_is_not_proven() {
    is_seen(2, |plan| Arc::make_mut(&mut plan.rules[2].conversion).from.scale.exponent = 0);
}

#[test]
fn a_converter_that_forgets_a_sign_is_not_proven() {
    is_seen(2, |plan| Arc::make_mut(&mut plan.rules[2].conversion).from.ty = Type::U32);
}

#[test]
fn a_converter_that_shows_words_the_wrong_way_round_is_not_proven() {
    is_seen(5, |plan| {
        let order = Order { low_byte_first: true, low_word_first: false };
        Arc::make_mut(&mut plan.rules[5].conversion).to.order = Some(order);
    });
}

/// An adapter that is pulled and plugged in again: told once each way, and everything goes on by itself.
#[test]
fn a_line_that_goes_away_and_comes_back_is_opened_again() {
    let checked = site();
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("adapter");
    let plug = || {
        let rig = Rig::up(Arc::clone(&checked), &|_| Err(String::new())).unwrap();
        std::os::unix::fs::symlink(&rig.paths()[0].1, &path).unwrap();
        rig
    };
    let rig = plug();
    let mut bindings = rig.bindings();
    bindings.serial.insert(0, path.clone());
    let (teller, told) = std::sync::mpsc::channel();
    let plan = Arc::new(Plan::build(&checked.project, &mut vec![]));
    let _running = start(&checked, plan, &bindings, move |event| drop(teller.send(event))).unwrap();
    let hear = |wanted: fn(&Event) -> bool| {
        let mut others = vec![];
        loop {
            let event = told
                .recv_timeout(std::time::Duration::from_secs(60))
                .unwrap_or_else(|_| panic!("{others:?}"));
            if wanted(&event) {
                return others;
            }
            others.push(event);
        }
    };
    hear(|event| matches!(event, Event::DeviceBack { .. }));
    std::fs::remove_file(&path).unwrap();
    drop(rig);
    hear(|event| matches!(event, Event::PortDown { .. }));
    hear(|event| matches!(event, Event::DeviceLost { .. }));
    let _rig = plug();
    let meanwhile = hear(|event| matches!(event, Event::PortUp { .. }));
    assert!(
        !meanwhile.iter().any(|event| matches!(event, Event::PortDown { .. })),
        "told once: {meanwhile:?}"
    );
    hear(|event| matches!(event, Event::DeviceBack { .. }));
}
