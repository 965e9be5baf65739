//! Projects that are right in ways that a proof could take for wrong.

use crate::proven::{proof, whys, wrong};
use std::sync::Arc;
use woodrush_core::check::{Checked, check};
use woodrush_core::project::read;

fn checked(text: &str) -> Arc<Checked> {
    Arc::new(check(read("right.toml", text.into(), &mut |_| Err(String::new()))))
}

#[test]
fn values_that_do_not_fit_are_held_filled_or_refused_as_the_rule_says_and_unconfirmed_writes_come_later() {
    let site = checked(
        r#"
[ports.bus]
serial = "/dev/ttyUSB0"
line = "115200 8E1"
protocol = "modbus-rtu"
[ports.o]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
[ports.plc]
listen = "0.0.0.0:102"
protocol = "fetch-write"
[devices.m]
port = "bus"
unit = 3
poll = "50ms"
retry-lost = "100ms..200ms"
[images.i]
port = "o"
on-loss = "hold"
[images.blk]
port = "plc"
on-loss = "fill 7"
[[map]]
from = "m:400001 as f32 ABCD"
to = "i:400001 as i16"
[[map]]
from = "m:400003 as f32 ABCD"
to = "blk:%DB1.W0 as i16"
[[map]]
from = "m:400005 as i16"
to = "i:400005 as i16 scale 10"
access = "read-write"
answer = "at-once"
[[map]]
from = "m:400007.3"
to = "blk:%DB1.X4.1"
[[map]]
from = "m:400008 as i16 scale 0..27648 to -50..150"
to = "i:400008 as i16 scale 0.1"
access = "read-write"
[[map]]
from = "blk:%DB2.D0 as f32"
to = "m:400010 as i16"
"#,
    );
    let proof = proof(&site, |_| {});
    assert!(proof.holds(), "{:?} {:?}", wrong(&proof), whys(&proof));
    let names: Vec<&str> = proof.rules.iter().map(|rule| rule.rule.as_str()).collect();
    assert_eq!(
        names[0], "m:400001 as f32 ABCD -> i:400001 as i16",
        "a rule without a name is shown by its ends"
    );
}

#[test]
fn what_clients_write_into_data_blocks_is_proven_though_a_cut_connection_is_no_silent_line() {
    let site = checked(
        r#"
[ports.plc]
connect = "192.0.2.10:102"
protocol = "fetch-write"
local-tsap = "01.00"
remote-tsap = "01.00"
[ports.o]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
[devices.feeder]
port = "plc"
retry-lost = "100ms..200ms"
[images.i]
port = "o"
[[map]]
from = "i:400001 as f32"
to = "feeder:%DB10.W0 as i16"
send = ["on-write"]
[[map]]
from = "i:400011 as u32"
to = "feeder:%DB10.W4 as u16"
[[map]]
from = "i:400021 as bool"
to = "feeder:%DB10.X8.1"
[[map]]
from = "i:400031 as i16 scale 0.1"
to = "feeder:%DB10.W10 as i16"
count = 3
"#,
    );
    let proof = proof(&site, |_| {});
    assert!(proof.holds(), "{:?} {:?}", wrong(&proof), whys(&proof));
}
