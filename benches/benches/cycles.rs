//! Blocks in cycles: sixteen links at 10 ms leave no later than twice the lateness of a bare sender of as many packets, at no
//! more than twice its processor time; a flood of requests on the same port moves the median by at most 100 µs; and a hundred
//! values that stand still at 2 ms take at most twice what a bare exchange of as many packets does. The program is that which `cargo build --release` makes.
#![allow(missing_docs, clippy::unwrap_used, clippy::disallowed_methods, clippy::cast_precision_loss)]

use rustix::thread::{ClockId, clock_nanosleep_absolute};
use rustix::time::{Timespec, clock_gettime};
use std::fmt::Write as _;
use std::io::{Read, Write};
use std::net::{TcpStream, UdpSocket};
use std::num::NonZero;
use std::process::Stdio;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::thread::JoinHandle;
use std::time::Duration;
use woodrush_benches::programs::{Ended, Site, until};
use woodrush_benches::{Limits, median};

const LINKS: u64 = 16;
const PERIOD_US: u64 = 10_000;
/// Bytes of a frame with a block of 8 bytes and a header.
const PACKET: usize = 32;
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

/// A site at work: the bench and the converter, each a program of its own.
struct AtWork {
    site: Site,
    run: Ended,
    _rig: Ended,
}

impl AtWork {
    fn begin(text: &str, links: usize) -> Self {
        let site = Site::new(text);
        let rig = site.begin(&["rig", "up"]);
        until("the bench", || site.answers(&["rig", "status"]));
        let run = site.begin(&["run", "--rig"]);
        let own = Self { site, run, _rig: rig };
        until("every link", || {
            own.told("\"state\"").iter().filter(|state| state.contains("run")).count() == links
        });
        own
    }

    fn status(&self) -> String {
        let done =
            self.site.command(&["status", "--format", "json"]).stdout(Stdio::piped()).output().unwrap();
        String::from_utf8_lossy(&done.stdout).into_owned()
    }

    /// What stands behind each such key.
    fn told(&self, key: &str) -> Vec<String> {
        let text = self.status();
        text.split(key)
            .skip(1)
            .map(|rest| rest.split([',', '\n']).next().unwrap().replace([':', ' '], ""))
            .collect()
    }

    /// Of all links the median of what stands there.
    fn late(&self, key: &str) -> f64 {
        median(&mut self.told(key).iter().filter_map(|text| text.parse().ok()).collect::<Vec<f64>>())
    }

    /// Processor time so far, in seconds.
    fn cpu(&self) -> f64 {
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", self.run.0.id())).unwrap();
        let rest = stat.rsplit(") ").next().unwrap();
        let ticks: Vec<f64> = rest.split(' ').skip(11).take(2).map(|ticks| ticks.parse().unwrap()).collect();
        ticks.iter().sum::<f64>() / rustix::param::clock_ticks_per_second() as f64
    }
}

fn nanos(clock: rustix::time::ClockId) -> u64 {
    let now = clock_gettime(clock);
    u64::try_from(now.tv_sec).unwrap() * 1_000_000_000 + u64::try_from(now.tv_nsec).unwrap()
}

/// A bare sender of so many packets in each period, spread evenly, and a thread that waits for what its like sends: each packet
/// wakes a receiver, as a frame does.
struct Bare {
    sender: JoinHandle<(Vec<f64>, f64)>,
    receiver: JoinHandle<f64>,
    stop: Arc<AtomicBool>,
}

fn own_cpu() -> f64 {
    nanos(rustix::time::ClockId::ThreadCPUTime) as f64 / 1e9
}

impl Bare {
    fn begin(own: UdpSocket, other: &UdpSocket, shift: u64, (packets, period_us): (u64, u64)) -> Self {
        let to = other.local_addr().unwrap();
        let stop = Arc::new(AtomicBool::new(false));
        own.set_read_timeout(Some(Duration::from_millis(100))).unwrap();
        let (takes, ends) = (own.try_clone().unwrap(), Arc::clone(&stop));
        let receiver = std::thread::spawn(move || {
            let mut came = [0; 64];
            while !ends.load(Relaxed) {
                let _ = takes.recv_from(&mut came);
            }
            own_cpu()
        });
        let ends = Arc::clone(&stop);
        let sender = std::thread::spawn(move || {
            let _ = rustix::thread::set_current_timer_slack(NonZero::new(1));
            let (packet, period) = ([0; PACKET], period_us * 1000);
            let mut late = vec![];
            let mut due = nanos(rustix::time::ClockId::Monotonic) + shift;
            while !ends.load(Relaxed) {
                let at = Timespec {
                    tv_sec: i64::try_from(due / 1_000_000_000).unwrap(),
                    tv_nsec: i64::try_from(due % 1_000_000_000).unwrap(),
                };
                clock_nanosleep_absolute(ClockId::Monotonic, &at).unwrap();
                own.send_to(&packet, to).unwrap();
                let passed = nanos(rustix::time::ClockId::Monotonic) - due;
                late.push(passed as f64 / 1e3);
                // Each of them has a grid; what is past on it is left out, as the converter does.
                due += period / packets + passed / period * period;
            }
            (late, own_cpu())
        });
        Self { sender, receiver, stop }
    }

    /// Two of them, the second half a step later.
    fn pair(packets: u64, period_us: u64) -> (Self, Self) {
        let socket = || UdpSocket::bind("127.0.0.1:0").unwrap();
        let (one, other) = (socket(), socket());
        let (to_one, to_other) = (one.try_clone().unwrap(), other.try_clone().unwrap());
        let half = period_us * 500 / packets;
        let grid = (packets, period_us);
        (Self::begin(one, &to_other, 0, grid), Self::begin(other, &to_one, half, grid))
    }

    /// Lateness in microseconds, and processor seconds.
    fn end(self) -> (Vec<f64>, f64) {
        self.stop.store(true, Relaxed);
        let (late, cpu) = self.sender.join().unwrap();
        (late, cpu + self.receiver.join().unwrap())
    }
}

fn p99(values: &mut [f64]) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() * 99 / 100]
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
        let alone = AtWork::begin(&sixteen, LINKS as usize);
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
        let flooded = AtWork::begin(&sixteen, LINKS as usize);
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
    let still = AtWork::begin(&project(1, "2ms", 200, 100), 1);
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
