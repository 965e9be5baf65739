//! Controllers with data tables over DF1, asked and played.

use crate::site::checked;
use std::sync::Arc;
use woodrush_engine::bench::Bench;

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
fn an_hour_of_polling_in_half_duplex_loses_nothing() {
    let checked = checked(FEEDERS);
    assert!(!checked.has_errors(), "{:?}", checked.findings);
    let mut bench = Bench::new(&checked, Arc::new(checked.plan.clone())).unwrap();
    bench.run(3_600_000_000);
    for device in 0..2 {
        let counts = bench.counts(device);
        println!("{counts:?}");
        assert!(counts.answers > 7000 && counts.answers == counts.requests, "{counts:?}");
    }
}

#[test]
fn every_write_in_half_duplex_arrives() {
    let checked = checked(FEEDERS);
    let mut bench = Bench::new(&checked, Arc::new(checked.plan.clone())).unwrap();
    let mut client = bench.connect(1).unwrap();
    bench.run(5_000_000);
    for turn in 0..400u16 {
        let [high, low] = turn.wrapping_mul(257).to_be_bytes();
        let offset = u8::try_from(turn % 20).unwrap();
        let request = [0, 9, 0, 0, 0, 6, 1, 6, 0, offset, high, low];
        let answer = bench.exchange(&mut client, &request).unwrap();
        assert_eq!(answer[7..], request[7..], "{turn}: {:?} {:?}", bench.counts(0), bench.counts(1));
        bench.run(u64::from(turn) * 517);
    }
}
