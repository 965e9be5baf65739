//! Controllers with data tables over DF1, asked and played.

use crate::proven::{proof, whys, wrong};
use crate::site::{checked, checked_with};
use std::sync::Arc;
use woodrush_core::project::{DROP_ACK, FaultValue, NOISE};
use woodrush_core::protocol::Extent;
use woodrush_engine::bench::Bench;
use woodrush_engine::rig::Change;

const FEEDERS: &str = r#"
[ports.feeders]
serial = "/dev/ttyUSB1"
line = "19200 8N1"
protocol = "df1-half"
ack-timeout = "100ms"
timeout = "1s"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.feeder-west]
port = "feeders"
node = 4
poll = "500ms"
tables = { N7 = 256, F8 = 32 }
[devices.feeder-east]
port = "feeders"
node = 5
poll = "500ms"
[images.scada]
port = "office"
[[map]]
from = "feeder-west:N7:0"
to = "scada:400001"
count = 20
access = "read-write"
[[map]]
from = "feeder-west:F8:10"
to = "scada:400101 as f32 CDAB"
count = 6
access = "read-write"
[[map]]
from = "feeder-east:T4:0.ACC"
to = "scada:400201"
count = 5
"#;

#[test]
fn minutes_of_polling_in_half_duplex_lose_nothing() {
    let checked = checked(FEEDERS);
    assert!(!checked.has_errors(), "{:?}", checked.findings);
    let mut bench = Bench::new(&checked, Arc::new(checked.plan.clone())).unwrap();
    bench.run(600_000_000);
    for device in 0..2 {
        let counts = bench.counts(device);
        assert!(counts.answers > 1100 && counts.answers == counts.requests, "{counts:?}");
    }
}

#[test]
fn every_write_in_half_duplex_arrives() {
    let checked = checked(FEEDERS);
    let mut bench = Bench::new(&checked, Arc::new(checked.plan.clone())).unwrap();
    let mut client = bench.connect(1).unwrap();
    bench.run(5_000_000);
    for turn in 0..200u16 {
        let [high, low] = turn.wrapping_mul(257).to_be_bytes();
        let offset = u8::try_from(turn % 20).unwrap();
        let request = [0, 9, 0, 0, 0, 6, 1, 6, 0, offset, high, low];
        let answer = bench.exchange(&mut client, &request).unwrap();
        assert_eq!(answer[7..], request[7..], "{turn}: {:?} {:?}", bench.counts(0), bench.counts(1));
        bench.run(u64::from(turn) * 517);
    }
}

/// Both families onto registers, each kind of file.
const ONTO_REGISTERS: &str = r#"
[ports.feeders]
serial = "/dev/ttyUSB1"
line = "115200 8N1"
protocol = "df1-half"
ack-timeout = "400ms"
timeout = "1s"
[ports.grader]
serial = "/dev/ttyUSB2"
line = "115200 8N1"
protocol = "df1"
check-field = "bcc"
ack-timeout = "400ms"
timeout = "1s"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.feeder-west]
port = "feeders"
node = 4
poll = "200ms"
retry-lost = "200ms..1s"
tables = { N7 = 256, F8 = 32 }
[devices.feeder-east]
port = "feeders"
node = 16
poll = "200ms"
retry-lost = "200ms..1s"
[devices.grader]
port = "grader"
node = 1
poll = "200ms"
retry-lost = "200ms..1s"
io-addresses = "octal"
[images.scada]
port = "office"
[[map]]
from = "feeder-west:N7:0"
to = "scada:400001"
count = 20
access = "read-write"
[[map]]
from = "feeder-west:F8:10"
to = "scada:400101 as f32 CDAB"
count = 6
access = "read-write"
[[map]]
from = "feeder-west:B3/21"
to = "scada:000001"
access = "read-write"
[[map]]
from = "feeder-west:B3:4"
to = "scada:100101"
count = 2
[[map]]
from = "feeder-east:T4:0.ACC"
to = "scada:400201"
count = 5
[[map]]
from = "feeder-east:T4:3/DN"
to = "scada:100001"
[[map]]
from = "feeder-east:C5:1.PRE"
to = "scada:400211"
access = "read-write"
[[map]]
from = "feeder-east:L10:1"
to = "scada:400221 as i32"
access = "read-write"
[[map]]
from = "feeder-east:ST9:0 as text(20)"
to = "scada:400231"
[[map]]
from = "grader:I:017/12"
to = "scada:100011"
[[map]]
from = "grader:N10:3"
to = "scada:400301"
count = 10
access = "read-write"
[[map]]
from = "grader:B3:2/5"
to = "scada:000011"
access = "read-write"
[[map]]
from = "grader:N11:0 as f32"
to = "scada:400321 as f32"
[[map]]
from = "feeder-west.health.online"
to = "scada:100201"
"#;

/// Two older controllers behind EtherNet/IP, one of them of the octal family behind a rack's other module, and an image
/// that looks like one.
const IN_MESSAGES: &str = r#"
[ports.packing]
connect = "192.0.2.40:44818"
protocol = "ethernet-ip"
timeout = "500ms"
[ports.boiler]
connect = "192.0.2.41:44818"
protocol = "ethernet-ip"
timeout = "500ms"
[ports.panel]
listen = "0.0.0.0:44818"
protocol = "ethernet-ip"
allow = ["192.0.2.0/24"]
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.packer]
port = "packing"
memory = "tables"
poll = "100ms"
retry-lost = "100ms..500ms"
[devices.boiler]
port = "boiler"
memory = "tables"
slot = 2
connected = false
io-addresses = "octal"
poll = "100ms"
retry-lost = "100ms..500ms"
[images.scada]
port = "office"
[images.old]
port = "panel"
memory = "tables"
[[map]]
from = "packer:N7:3"
to = "scada:400001"
count = 10
access = "read-write"
[[map]]
from = "packer:F8:250"
to = "scada:400021 as f32"
count = 6
access = "read-write"
[[map]]
from = "packer:B3/21"
to = "scada:000001"
access = "read-write"
[[map]]
from = "packer:L10:1"
to = "scada:400041 as i32"
access = "read-write"
[[map]]
from = "packer:T4:3/DN"
to = "scada:100001"
[[map]]
from = "packer:C5:1.ACC"
to = "old:N9:4"
[[map]]
from = "boiler:I:017/12"
to = "scada:100011"
[[map]]
from = "boiler:N10:3"
to = "old:N7:0"
count = 6
access = "read-write"
[[map]]
from = "boiler:B3:2/5"
to = "scada:000011"
access = "read-write"
[[map]]
from = "old:F8:3"
to = "packer:F8:20"
"#;

#[test]
fn data_tables_in_messages_are_proven_both_ways() {
    let proof = proof(&Arc::new(checked(IN_MESSAGES)), |_| {});
    assert!(proof.holds(), "{:#?} {:?}", whys(&proof), proof.others);
}

/// A data table of ours, filled by registers; and one controller's table into another's blocks, and back.
const ONTO_TABLES: &str = r#"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "115200 8E1"
protocol = "modbus-rtu"
timeout = "400ms"
[ports.grader]
serial = "/dev/ttyUSB2"
line = "115200 8N1"
protocol = "df1"
ack-timeout = "400ms"
timeout = "1s"
[ports.pump-house]
connect = "192.0.2.30:102"
protocol = "fetch-write"
local-tsap = "01.00"
remote-tsap = "01.02"
timeout = "800ms"
[ports.panel]
serial = "/dev/ttyUSB3"
line = "115200 8N1"
protocol = "df1"
ack-timeout = "400ms"
timeout = "1s"
[devices.gauge]
port = "raceway"
unit = 7
poll = "100ms"
retry-lost = "100ms..500ms"
[devices.grader]
port = "grader"
node = 1
poll = "100ms"
retry-lost = "100ms..500ms"
[devices.pumps]
port = "pump-house"
poll = "100ms"
retry-lost = "100ms..500ms"
[images.table]
port = "panel"
node = 3
[[map]]
from = "gauge:400001 as f32 CDAB"
to = "table:F8:0"
[[map]]
from = "gauge:400011"
to = "table:N7:10"
count = 8
access = "read-write"
[[map]]
from = "gauge:000001"
to = "table:B3:1/5"
access = "read-write"
[[map]]
from = "grader:N7:0"
to = "pumps:%DB20.W0"
count = 3
[[map]]
from = "grader:F8:0"
to = "pumps:%DB20.D10"
on-loss = "fill 0"
[[map]]
from = "grader.health.online"
to = "pumps:%DB20.X20.0"
[[map]]
from = "pumps:%DB10.D100 as f32"
to = "grader:F8:20"
"#;

#[test]
fn every_kind_of_file_is_proven_onto_registers() {
    let proof = proof(&Arc::new(checked(ONTO_REGISTERS)), |_| {});
    assert!(proof.holds(), "{:#?} {:?}", whys(&proof), proof.others);
}

/// A point whose address says its type moves in that type on the bench.
#[test]
fn a_simulated_float_of_a_table_is_one() {
    let profile = "[profile]\nname = \"Feeder\"\n[points.ration]\nat = \"F8:10\"\nrange = [0, 40]\naccess = \"read-write\"\n";
    let text = FEEDERS
        .replace("node = 4", "node = 4\nprofile = \"feeder.toml\"")
        .replace("from = \"feeder-west:F8:10\"", "from = \"feeder-west.ration\"")
        .replace("count = 6", "count = 1");
    let checked = checked_with(&text, profile);
    let mut bench = Bench::new(&checked, Arc::new(checked.plan.clone())).unwrap();
    let station = &checked.plan.devices[0];
    let space = station.spaces.id("F8").unwrap();
    let extent = Extent { space, first: 10, count: 1 };
    let held = bench.bus(0).unwrap().devices[0].peek(extent);
    assert_eq!(held, Some(20f32.to_be_bytes().to_vec()));
}

/// The converter as two slaves of one line: each node has its own table, and answers for itself alone.
#[test]
fn two_tables_on_one_line_are_two_slaves() {
    let text = ONTO_TABLES.split("[ports.grader]").next().unwrap().to_owned()
        + r#"
[ports.panel]
serial = "/dev/ttyUSB3"
line = "115200 8N1"
protocol = "df1-half"
ack-timeout = "400ms"
timeout = "1s"
[devices.gauge]
port = "raceway"
unit = 7
poll = "100ms"
retry-lost = "100ms..500ms"
[images.west]
port = "panel"
node = 11
[images.east]
port = "panel"
node = 12
[[map]]
from = "gauge:400001 as f32 CDAB"
to = "west:F8:0"
[[map]]
from = "gauge:400011"
to = "west:N7:10"
count = 8
access = "read-write"
[[map]]
from = "gauge:400021"
to = "east:N7:10"
count = 8
access = "read-write"
"#;
    let checked = Arc::new(checked(&text));
    let whole = proof(&checked, |_| {});
    assert!(whole.holds(), "{:#?} {:?}", whys(&whole), whole.others);
    // With the two tables exchanged, both are seen to be wrong.
    let crossed = proof(&checked, |plan| {
        for rule in &mut plan.rules[1..] {
            rule.board = 1 - rule.board;
        }
    });
    assert!(wrong(&crossed).0.contains(&1) && wrong(&crossed).0.contains(&2), "{:#?}", whys(&crossed));
}

#[test]
fn registers_are_proven_onto_a_table_and_tables_onto_blocks() {
    let proof = proof(&Arc::new(checked(ONTO_TABLES)), |_| {});
    assert!(proof.holds(), "{:#?} {:?}", whys(&proof), proof.others);
}

/// Through a serial server that is dialled, onto a slave of a line of ours.
const THROUGH_A_SERVER: &str = r#"
[ports.feeder]
connect = "192.0.2.31:4001"
protocol = "df1"
ack-timeout = "400ms"
timeout = "1s"
[ports.panel]
serial = "/dev/ttyUSB3"
line = "115200 8N1"
protocol = "df1-half"
ack-timeout = "400ms"
timeout = "1s"
[devices.feeder]
port = "feeder"
node = 1
poll = "100ms"
retry-lost = "100ms..500ms"
[images.table]
port = "panel"
node = 3
[[map]]
from = "feeder:N7:0"
to = "table:N7:10"
count = 4
access = "read-write"
[[map]]
from = "feeder:F8:3"
to = "table:F8:0"
[[map]]
from = "feeder.health.online"
to = "table:B3:0/0"
"#;

#[test]
fn a_table_behind_a_serial_server_is_proven_onto_a_slave_of_a_line() {
    let proof = proof(&Arc::new(checked(THROUGH_A_SERVER)), |_| {});
    assert!(proof.holds(), "{:#?} {:?}", whys(&proof), proof.others);
}

#[test]
fn an_element_beside_the_right_one_is_seen() {
    let spoilt = proof(&Arc::new(checked(ONTO_REGISTERS)), |plan| {
        let accumulators = plan.transfers.iter_mut().find(|transfer| transfer.grains() == 5).unwrap();
        let part = accumulators.parts[0];
        accumulators.parts = Arc::new([Extent { first: part.first + 1, ..part }]);
    });
    assert_eq!(wrong(&spoilt).0, [4], "{:#?}", whys(&spoilt));
}

#[test]
fn lost_acknowledgements_slow_a_write_and_never_make_two_of_it() {
    let checked = checked(FEEDERS);
    let mut bench = Bench::new(&checked, Arc::new(checked.plan.clone())).unwrap();
    let mut client = bench.connect(1).unwrap();
    bench.run(5_000_000);
    bench.bus(0).unwrap().change(Change::begin(&DROP_ACK, 0, FaultValue::On));
    bench.reset_counts();
    let write = [0, 9, 0, 0, 0, 6, 1, 6, 0, 5, 0x12, 0x34];
    assert_eq!(bench.exchange(&mut client, &write).unwrap()[7..], write[7..]);
    bench.run(20_000_000);
    let counts = bench.counts(0);
    // The line sends each message again once; nobody above it notices.
    assert!(counts.answers > 10 && counts.answers == counts.requests, "{counts:?}");
    let element =
        woodrush_core::protocol::Extent { space: woodrush_core::protocol::SpaceId(0), first: 5, count: 1 };
    assert_eq!(bench.bus(0).unwrap().devices[0].peek(element), Some(vec![0x12, 0x34]));
}

#[test]
fn noise_on_a_line_of_tables_never_shows_a_value_that_was_never_there() {
    let checked = checked(FEEDERS);
    let mut bench = Bench::new(&checked, Arc::new(checked.plan.clone())).unwrap();
    let mut client = bench.connect(1).unwrap();
    let bus = bench.bus(0).unwrap();
    bus.devices.iter_mut().for_each(|device| device.still = true);
    bus.devices[0].poke(
        woodrush_core::protocol::Extent { space: woodrush_core::protocol::SpaceId(0), first: 0, count: 2 },
        &[0x12, 0x34, 0x10, 0x03],
    );
    bus.change(Change::begin(&NOISE, 0, FaultValue::Share(0.003)));
    let (mut good, mut refused) = (0, 0);
    for _ in 0..400 {
        bench.run(500_000);
        let answer = bench.exchange(&mut client, &[0, 9, 0, 0, 0, 6, 1, 3, 0, 0, 0, 2]).unwrap();
        match answer[7] {
            3 => {
                assert_eq!(answer[9..], [0x12, 0x34, 0x10, 0x03]);
                good += 1;
            }
            _ => refused += 1,
        }
    }
    assert!(good > 200, "{good} {refused}");
}
