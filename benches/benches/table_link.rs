//! DF1 in full duplex on a paced line of 19200 baud, polled without pause: what we add to an exchange, from the last byte
//! of a reply to our acknowledgement of it, a median of at most 300 µs; the next command follows without another wait.
#![allow(missing_docs, clippy::unwrap_used, clippy::disallowed_methods)]

use std::sync::Arc;
use std::time::Duration;
use woodrush_benches::{Limits, checked, median};
use woodrush_core::plan::Plan;
use woodrush_engine::converter::start;
use woodrush_engine::rig::Rig;

const SITE: &str = r#"
[ports.feeder]
serial = "/dev/ttyS0"
line = "19200 8N1"
protocol = "df1"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.feeder-west]
port = "feeder"
node = 1
poll = "1ms"
[images.scada]
port = "office"
[[map]]
from = "feeder-west:N7:0"
to = "scada:400001"
count = 20
"#;

fn main() {
    let mut limits = Limits::default();
    let checked = checked(SITE.to_string());
    let rig = Rig::up(Arc::clone(&checked), &|_| Err(String::new())).unwrap();
    let plan = Arc::new(Plan::build(&checked.project, &mut vec![]));
    let predicted = plan.transfers[0].takes as f64;
    let running = start(&checked, plan, &rig.bindings(), |_| {}).unwrap();
    std::thread::sleep(Duration::from_millis(700));
    let _ = rig.gaps(0);
    std::thread::sleep(Duration::from_secs(10));
    let mut gaps: Vec<f64> = rig.gaps(0).into_iter().map(|gap| gap as f64).collect();
    let count = gaps.len();
    limits.at_most(
        &format!("DF1 at 19200 baud, {count} exchanges: added to each"),
        median(&mut gaps),
        300.0,
        "us",
    );
    // Everything together, the system's own lateness on the bench's side too, beside what the budget says.
    println!(
        "       one exchange takes {:.2} ms, {:.2} ms by the budget",
        10_000.0 / count as f64,
        predicted / 1000.0
    );
    drop(running);
    limits.end();
}
