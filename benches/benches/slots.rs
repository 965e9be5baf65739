//! Slots in cycles of 8 ms over a pair of interfaces: frames leave no later than twice the lateness of a bare sender with the
//! same wait. It runs itself again in namespaces of its own, where it may make that pair. The program is that which
//! `cargo build --release` makes.
#![allow(missing_docs, clippy::unwrap_used, clippy::disallowed_methods)]

use std::process::Command;
use std::time::Duration;
use woodrush_benches::cycling::{AtWork, Bare, p99};
use woodrush_benches::{Limits, median};

const PERIOD_US: u64 = 8000;
/// How long each part is looked at.
const WINDOW: Duration = Duration::from_secs(8);
const ROUNDS: usize = 7;
/// Says that the interfaces are there.
const INSIDE: &str = "WOODRUSH_BENCH_WIRES";

const SITE: &str = "[project]
name = \"Slots\"
[ports.office]
listen = \"0.0.0.0:502\"
protocol = \"modbus-tcp\"
allow = [\"127.0.0.0/8\"]
[images.scada]
port = \"office\"
[ports.machine]
ethernet = \"wr-a\"
protocol = \"profinet\"
[images.io]
port = \"machine\"
station-name = \"raceway-box\"
address = \"192.0.2.30/24\"
slots = [{ slot = 1, in = 8 }, { slot = 2, out = 4 }]
[[map]]
from = \"io.health.age\"
to = \"io:1:%IW0\"
[[map]]
from = \"io:2:%QW0\"
to = \"scada:400001\"
[clients.plc]
image = \"io\"
address = \"192.0.2.10\"
period = \"8ms\"
watchdog = 200
";

fn main() {
    if std::env::var_os(INSIDE).is_none() {
        let script = "ip link set lo up && ip link add wr-a type veth peer name wr-b && ip link set wr-a up && ip link set wr-b up && exec \"$0\"";
        let own = std::env::current_exe().unwrap();
        let status = Command::new("unshare")
            .args(["--user", "--map-root-user", "--net", "sh", "-c", script])
            .arg(own)
            .env(INSIDE, "1")
            .status()
            .expect("unshare and ip are there (util-linux, iproute2)");
        std::process::exit(status.code().unwrap_or(1));
    }
    let mut limits = Limits::default();
    let (mut ratios, mut control) = (vec![], vec![]);
    for round in 0..ROUNDS {
        let site = AtWork::begin(SITE, 1, &["--wire", "machine=wr-b"]);
        let bare = Bare::pair(1, PERIOD_US);
        std::thread::sleep(WINDOW);
        let ((mut first, _), (mut second, _)) = (bare.0.end(), bare.1.end());
        let own = site.late("\"late_median_us\"");
        let (first_median, second_median) = (median(&mut first), median(&mut second));
        println!(
            "       round {round}: median {own:.0} us, bare {first_median:.0} and {second_median:.0} us; p99 {:.0} us, bare {:.0} us",
            site.late("\"late_p99_us\""),
            p99(&mut first),
        );
        ratios.push(own / first_median);
        control.push(second_median / first_median);
    }
    limits.at_most(
        "median lateness at 8 ms over a pair of interfaces, against a bare sender",
        median(&mut ratios),
        2.0,
        "times",
    );
    println!("       the bare sender against its like: {:.2} times", median(&mut control));
    limits.end();
}
