//! Slots of every kind of address are proven, and the proof fails where a slot is wrong.

use crate::proven::{proof, whys, wrong};
use crate::site::checked;
use std::sync::Arc;
use woodrush_core::project::OnLoss;

/// Two stations of a vendor of its own: values that do not always fit beside others, bits, strings, a slot in two parts, what
/// clients write into a slot, and what the one station's controller writes into the other's.
const SITE: &str = r#"
[ports.line]
serial = "/dev/ttyUSB0"
line = "115200 8N1"
protocol = "modbus-rtu"
timeout = "300ms"
[ports.machine]
ethernet = "eth1"
protocol = "profinet"
[ports.machine.identity]
vendor = 700
product = 12
[ports.press]
ethernet = "eth2"
protocol = "profinet"
[ports.press.identity]
vendor = 700
product = 13
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.gauge]
port = "line"
unit = 1
poll = "100ms"
retry-lost = "200ms..1s"
[images.scada]
port = "office"
unit = 1
[images.io]
port = "machine"
station-name = "box-a"
address = "192.0.2.40/24"
slots = [{ slot = 1, in = 16 }, { slot = 1, subslot = 2, in = 4, out = 4 }, { slot = 5, out = 12 }, { slot = 300, in = 200 }, { slot = 301, in = 8 }]
[images.press]
port = "press"
station-name = "box-b"
period = "64ms"
slots = [{ slot = 1, out = 8 }]
[[map]]
from = "gauge:400001 as f32 ABCD"
to = "io:1:%IW0 as i16 scale 0.1"
count = 3
[[map]]
from = "gauge:400011"
to = "io:1:%IW6"
count = 3
[[map]]
repeat = "0-3"
from = "gauge:{000001+n}"
to = "io:1/2:%IX0.{n}"
[[map]]
from = "gauge:400020 as f64 ABCDEFGH"
to = "io:300:%IL0 as f64"
[[map]]
from = "gauge:400030 as text(10)"
to = "io:300:%IB10 as text(10)"
[[map]]
repeat = "4-7"
from = "io:1/2:%QX0.{n}"
to = "gauge:{000021+n}"
[[map]]
from = "io:5:%QW0 as i16 scale 0.1"
to = "gauge:400041 as f32 ABCD"
on-loss = "hold"
[[map]]
from = "io:5:%QD4 as u32"
to = "scada:400101 as u32 ABCD"
on-loss = "fill 0xFFFF"
[[map]]
from = "press:1:%QD0 as f32"
to = "io:300:%IW100 as i16 scale 0.1"
[[map]]
from = "press:1:%QD4 as f32"
to = "gauge:400050 as f32 CDAB"
on-loss = "fill 0"
[[map]]
from = "scada:400201 as f32 ABCD"
to = "io:301:%ID0 as f32"
[[map]]
from = "gauge.health.online"
to = "press:1:%IX0.0"
"#;

#[test]
fn slots_of_every_kind_are_proven_both_ways() {
    let text = SITE.replace("slots = [{ slot = 1, out = 8 }]", "slots = [{ slot = 1, out = 8, in = 1 }]");
    let checked = Arc::new(checked(&text));
    let whole = proof(&checked, |_| {});
    assert!(whole.holds(), "{:#?} {:#?}", whys(&whole), whole.others);
    // Also those that turn the slot bad: every pattern that a scaled word has.
    let scaled = &whole.rules[0];
    assert!(scaled.patterns_read > 12, "{scaled:?}");
    let mut values = whole.rules.iter().filter(|rule| !rule.from.contains("health"));
    assert!(values.all(|rule| rule.patterns_read > 1), "{:#?}", whole.rules);
}

#[test]
fn a_slot_that_stays_good_where_it_should_turn_bad_is_seen() {
    let text = SITE.replace("[[map]]\nfrom = \"gauge.health.online\"\nto = \"press:1:%IX0.0\"\n", "");
    let checked = Arc::new(checked(&text));
    // The values of the scaled word are held instead of refused.
    let held = proof(&checked, |plan| plan.rules[0].on_loss = OnLoss::Hold);
    let why = held.rules[0].why.as_deref().unwrap_or_default();
    assert!(why.starts_with("once a value of its slot did not fit io:1:%IW0"), "{why}");
    let (rules, _) = wrong(&held);
    assert_eq!(rules, [0, 1], "and the other rule of the slot: {:#?}", whys(&held));
}
