//! A controller with tags, asked and played, and the converter as one.

use crate::proven::{proof, whys, wrong};
use crate::site::checked;
use std::sync::Arc;

/// Tags of every type onto registers, registers onto tags, and a bit of an integer.
const ONTO_REGISTERS: &str = r#"
[ports.press-hall]
connect = "192.0.2.60:44818"
protocol = "ethernet-ip"
timeout = "500ms"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "115200 8E1"
protocol = "modbus-rtu"
timeout = "400ms"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.press]
port = "press-hall"
slot = 0
poll = "50ms"
retry-lost = "100ms..500ms"
[devices.gauge]
port = "raceway"
unit = 7
poll = "100ms"
retry-lost = "100ms..500ms"
[images.scada]
port = "office"
[[map]]
from = "press:Hall.Temps[4] as f32"
to = "scada:400001"
count = 8
[[map]]
from = "press:Speed as u16"
to = "scada:400021"
access = "read-write"
[[map]]
from = "press:Small as i8"
to = "scada:400023 as i16"
[[map]]
from = "press:Byte as u8"
to = "scada:400025 as u16"
[[map]]
from = "press:Setpoint as i16 scale 0.1"
to = "scada:400027 as f32"
access = "read-write"
[[map]]
from = "press:Program:Feed.Count as i32"
to = "scada:400029"
[[map]]
from = "press:Total as u32"
to = "scada:400031"
[[map]]
from = "press:Big as i64"
to = "scada:400033"
[[map]]
from = "press:Huge as u64"
to = "scada:400037"
[[map]]
from = "press:Exact as f64"
to = "scada:400041"
[[map]]
from = "press:Recipe as text(82)"
to = "scada:400051"
[[map]]
from = "press:Run as bool"
to = "scada:000001"
access = "read-write"
[[map]]
from = "press:Alarms[40] as bool"
to = "scada:000011"
count = 40
access = "read-write"
[[map]]
from = "press:Grid[2,3] as i16"
to = "scada:400101"
count = 4
[[map]]
from = "gauge:400001 as f32 CDAB"
to = "press:Program:Feed.Oxygen as f32"
on-loss = "fill 0"
[[map]]
from = "gauge.health.online"
to = "press:Program:Feed.Online as bool"
[[map]]
from = "scada:400201 as f32"
to = "press:Ramp[0] as f32"
count = 3
[[map]]
from = "press:Speed as u16"
to = "gauge:400101"
"#;

/// Registers onto tags that a controller reads and writes by messages of its own.
const ONTO_TAGS: &str = r#"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "115200 8E1"
protocol = "modbus-rtu"
timeout = "400ms"
[ports.cell]
listen = "0.0.0.0:44818"
protocol = "ethernet-ip"
allow = ["192.0.2.0/24"]
[devices.gauge]
port = "raceway"
unit = 7
poll = "100ms"
retry-lost = "100ms..500ms"
[images.line]
port = "cell"
[[map]]
from = "gauge:400001 as f32 CDAB"
to = "line:Raceway.Oxygen as f32"
[[map]]
from = "gauge:400011"
to = "line:Raceway.Levels[0] as i16"
count = 10
access = "read-write"
[[map]]
from = "gauge:000001"
to = "line:Alarms[0] as bool"
count = 40
[[map]]
from = "gauge:400031 as text(10)"
to = "line:Name as text(82)"
[[map]]
from = "line:Setpoint as i16"
to = "gauge:400101"
[[map]]
from = "gauge.health.online"
to = "line:Raceway.Online as bool"
"#;

/// Two tags of one message.
const ONTO_TAGS_BESIDE: &str = r#"
[ports.press-hall]
connect = "192.0.2.60:44818"
protocol = "ethernet-ip"
timeout = "500ms"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.press]
port = "press-hall"
poll = "50ms"
retry-lost = "100ms..500ms"
connected = false
[images.scada]
port = "office"
[[map]]
from = "press:Hall.Temps[4] as f32"
to = "scada:400001"
[[map]]
from = "press:Speed as u16"
to = "scada:400011"
"#;

#[test]
fn tags_of_every_type_are_proven_onto_registers_and_back() {
    let proof = proof(&Arc::new(checked(ONTO_REGISTERS)), |_| {});
    assert!(proof.holds(), "{:#?} {:?}", whys(&proof), proof.others);
}

#[test]
fn an_image_of_tags_is_proven() {
    let proof = proof(&Arc::new(checked(ONTO_TAGS)), |_| {});
    assert!(proof.holds(), "{:#?} {:?}", whys(&proof), proof.others);
}

#[test]
fn a_tag_that_is_asked_one_element_beside_is_seen() {
    let spoilt = proof(&Arc::new(checked(ONTO_TAGS_BESIDE)), |plan| {
        let transfer = plan.transfers.iter_mut().find(|transfer| transfer.parts.len() > 1).unwrap();
        let mut parts = transfer.parts.to_vec();
        parts[0].first += 1;
        transfer.parts = parts.into();
    });
    assert_eq!(wrong(&spoilt).0, [0], "{:#?}", whys(&spoilt));
}
