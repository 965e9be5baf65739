//! A scan of all 247 units of a line of 19200 baud, of which three answer: at most 5 % longer than its requests, its answers
//! and the set timeout of each silent unit.
#![allow(missing_docs, clippy::unwrap_used, clippy::disallowed_methods)]

use std::sync::Arc;
use std::time::Instant;
use woodrush_benches::{Limits, checked};
use woodrush_core::budget::LineTime;
use woodrush_core::plan::Station;
use woodrush_core::project::{Line, Parity};
use woodrush_core::protocol::{Setup, dialect};
use woodrush_engine::direct::{Direct, Link};
use woodrush_engine::rig::Rig;
use woodrush_engine::scan::{Depth, look, numbered};

const SITE: &str = r#"
[ports.line]
serial = "/dev/ttyS0"
line = "19200 8E1"
protocol = "modbus-rtu"
[devices.one]
port = "line"
unit = 3
tables = { holding = 4 }
[devices.two]
port = "line"
unit = 100
tables = { holding = 4 }
[devices.three]
port = "line"
unit = 247
tables = { holding = 4 }
"#;
const LINE: Line = Line { baud: 19_200, data: 8, parity: Parity::Even, stop: 1 };
const TIMEOUT: u64 = 50_000;

fn main() {
    let mut limits = Limits::default();
    let rig = Rig::up(Arc::clone(&checked(SITE.to_string())), &|_| Err(String::new())).unwrap();
    let rtu = dialect("modbus-rtu").unwrap();
    let base = Station::bare("line", rtu, Setup::default());
    let line = LineTime { hurry: true, ..LineTime::bare(rtu, Some(LINE), TIMEOUT) };
    let path = rig.paths()[0].1.clone();
    let link = Link::Serial { path, line: LINE, two_wires: false, echo: false };
    let mut reach = Direct::open(&link, line, &base).unwrap();
    let began = Instant::now();
    let mut ideal = 0;
    let mut found = 0;
    for unit in 1..=247 {
        let depth = Depth::quick();
        let one = look(&mut reach, &numbered(&base, "unit", unit), Some(unit), depth).unwrap();
        found += u32::from(one.is_some());
        // A request of 8 bytes and the silence before it; an answer of 7 after the silence that ends the request, or the
        // timeout.
        ideal += line.bytes(8) + line.frame_gap;
        ideal += if one.is_some() { line.bytes(7) + line.frame_gap } else { TIMEOUT };
    }
    let took = began.elapsed().as_micros() as f64;
    assert_eq!(found, 3);
    println!(
        "       247 units in {:.2} s, {:.2} s by bytes, silences and timeouts",
        took / 1e6,
        ideal as f64 / 1e6
    );
    limits.at_most(
        "scan of 247 units, against requests, answers and timeouts",
        took / ideal as f64,
        1.05,
        "times",
    );
    limits.end();
}
