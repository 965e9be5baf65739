//! Blocks in cycles: sixteen links at 10 ms leave no later than twice the lateness of a bare sender of as many packets, at no
//! more than twice its processor time; a flood of requests on the same port moves the median by at most 100 µs; and a hundred
//! values that stand still at 2 ms take at most twice what a bare exchange of as many packets does. The program is that which `cargo build --release` makes.
#![allow(missing_docs, clippy::unwrap_used, clippy::disallowed_methods, clippy::cast_precision_loss)]

use std::fmt::Write as _;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::process::Stdio;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::thread::JoinHandle;
use std::time::Duration;
use woodrush_benches::cycling::{AtWork, Bare, p99};
use woodrush_benches::{Limits, median};

const LINKS: u64 = 16;
const PERIOD_US: u64 = 10_000;
/// How long each part is looked at.
const WINDOW: Duration = Duration::from_secs(8);
const ROUNDS: usize = 5;

fn project(devices: u64, period: &str, bytes: u64, values: u64) -> String {
    let mut text = String::from(
        "[project]\nname = \"Cycles\"\n[converter]\naddress = \"192.0.2.10/24\"\n[ports.cell]\nnetwork = \"192.0.2.10\"\nprotocol = \"ethernet-ip\"\nallow = [\"192.0.2.0/24\", \"127.0.0.0/8\"]\n[ports.office]\nlisten = \"0.0.0.0:502\"\nprotocol = \"modbus-tcp\"\nallow = [\"127.0.0.0/8\"]\n[images.tags]\nport = \"cell\"\n[images.scada]\nport = \"office\"\n",
    );
    for device in 0..devices {
        writeln!(
            text,
            "[devices.io-{device}]\nport = \"cell\"\naddress = \"192.0.2.{}\"\ninputs = {{ assembly = 101, bytes = {bytes} }}\noutputs = {{ assembly = 102, bytes = 8 }}\nperiod = \"{period}\"\nmultiplier = 128\n[rig.devices.io-{device}]\n\"%IW0 x{values}\" = \"steady 7\"",
            100 + device
        )
        .unwrap();
        writeln!(
            text,
            "[[map]]\nfrom = \"io-{device}:%IW0\"\nto = \"scada:{}\"\ncount = {values}",
            400_001 + device * values
        )
        .unwrap();
    }
    writeln!(text, "[[map]]\nfrom = \"io-0.health.age\"\nto = \"tags:Age as u16\"").unwrap();
    text
}

/// Sessions that ask as fast as they are answered, until told to stop; gives how many answers came.
fn flood(to: &str, stop: &Arc<AtomicBool>) -> (Vec<JoinHandle<()>>, Arc<AtomicU64>) {
    let count = Arc::new(AtomicU64::new(0));
    let one = |_| {
        let (to, stop, count) = (to.to_string(), Arc::clone(stop), Arc::clone(&count));
        std::thread::spawn(move || {
            let mut stream = TcpStream::connect(to).unwrap();
            stream.set_nodelay(true).unwrap();
            let header = |command: u8, length: u8, session: &[u8]| {
                [&[command, 0, length, 0], session, &[0; 16]].concat()
            };
            let answer = |stream: &mut TcpStream| {
                let mut head = [0; 24];
                stream.read_exact(&mut head).unwrap();
                let mut body = vec![0; usize::from(u16::from_le_bytes([head[2], head[3]]))];
                stream.read_exact(&mut body).unwrap();
                head
            };
            stream.write_all(&[header(0x65, 4, &[0; 4]), vec![1, 0, 0, 0]].concat()).unwrap();
            let head = answer(&mut stream);
            // The identity, all of it.
            let ask = [0x01, 0x02, 0x20, 0x01, 0x24, 0x01];
            let items = [&[0, 0, 0, 0, 0, 0, 2, 0, 0, 0, 0, 0, 0xB2, 0, 6, 0][..], &ask].concat();
            let request = [header(0x6F, 22, &head[4..8]), items].concat();
            while !stop.load(Relaxed) {
                stream.write_all(&request).unwrap();
                answer(&mut stream);
                count.fetch_add(1, Relaxed);
            }
        })
    };
    ((0..4).map(one).collect(), count)
}

fn main() {
    let mut limits = Limits::default();
    let sixteen = project(LINKS, "10ms", 8, 4);
    let (mut medians, mut costs, mut control, mut moved) = (vec![], vec![], vec![], vec![]);
    for round in 0..ROUNDS {
        let alone = AtWork::begin(&sixteen, LINKS as usize, &[]);
        let before = alone.cpu();
        let bare = Bare::pair(LINKS, PERIOD_US);
        std::thread::sleep(WINDOW);
        let ((mut first, cpu), (mut second, _)) = (bare.0.end(), bare.1.end());
        let own_cpu = alone.cpu() - before;
        let own = alone.late("\"late_median_us\"");
        let (first_median, second_median) = (median(&mut first), median(&mut second));
        println!(
            "       round {round}: median {own:.0} us, bare {first_median:.0} and {second_median:.0} us; p99 {:.0} us, bare {:.0} us; processor {own_cpu:.2} s, bare {cpu:.2} s of {} s",
            alone.late("\"late_p99_us\""),
            p99(&mut first),
            WINDOW.as_secs(),
        );
        medians.push(own / first_median);
        control.push(second_median / first_median);
        costs.push(own_cpu / cpu);
        drop(alone);
        let flooded = AtWork::begin(&sixteen, LINKS as usize, &[]);
        let rows = flooded
            .site
            .command(&["rig", "status", "--format", "json"])
            .stdout(Stdio::piped())
            .output()
            .unwrap();
        let rows = String::from_utf8_lossy(&rows.stdout).into_owned();
        let at = rows.split("\"cell\"").nth(1).unwrap().split("\"value\": \"").nth(1).unwrap();
        let stop = Arc::new(AtomicBool::new(false));
        let (threads, count) = flood(&format!("{}:44818", at.split('"').next().unwrap()), &stop);
        std::thread::sleep(WINDOW);
        stop.store(true, Relaxed);
        threads.into_iter().for_each(|thread| thread.join().unwrap());
        let under = flooded.late("\"late_median_us\"");
        println!(
            "       round {round}: under {:.0} requests a second median {under:.0} us, p99 {:.0} us",
            count.load(Relaxed) as f64 / WINDOW.as_secs_f64(),
            flooded.late("\"late_p99_us\""),
        );
        moved.push(under - own);
    }
    limits.at_most(
        "median lateness of 16 links at 10 ms against a bare sender",
        median(&mut medians),
        2.0,
        "times",
    );
    println!("       the bare sender against its like: {:.2} times", median(&mut control));
    limits.at_most("processor time of the same, against the bare sender's", median(&mut costs), 2.0, "times");
    limits.at_most("a flood of requests moves the median by", median(&mut moved), 100.0, "us");
    let still = AtWork::begin(&project(1, "2ms", 200, 100), 1, &[]);
    let (mut shares, mut ratios) = (vec![], vec![]);
    for round in 0..ROUNDS {
        let before = still.cpu();
        let bare = Bare::pair(1, 2000);
        std::thread::sleep(WINDOW);
        let ((_, bare_cpu), _) = (bare.0.end(), bare.1.end());
        let own_cpu = still.cpu() - before;
        let share = |cpu: f64| cpu / WINDOW.as_secs_f64() * 100.0;
        println!(
            "       round {round}: 100 values at 2 ms {:.2} % of a core, a bare exchange {:.2} %",
            share(own_cpu),
            share(bare_cpu),
        );
        shares.push(share(own_cpu));
        ratios.push(own_cpu / bare_cpu);
    }
    // A machine that others share may take twice as long for the same; against the bare exchange that falls out.
    println!(
        "       100 values at 2 ms that stand still: {:.2} % of a core (wanted: 3)",
        median(&mut shares)
    );
    limits.at_most("the same, against a bare exchange of as many packets", median(&mut ratios), 2.0, "times");
    // Its programs end with it: the next line may end this one.
    drop(still);
    limits.end();
}
