//! What looking on costs: `watch` and `tap` of 2,000 points that change ten times a second take at most 25 % of one core
//! between them, and a converter that answers as fast as it can serves at least 97 % of its reads while it is tapped.
//! The programs are those that `cargo build --release` makes.
#![allow(missing_docs, clippy::unwrap_used, clippy::disallowed_methods)]

use rustix::fs::{Mode, OFlags};
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{Winsize, tcsetwinsize};
use std::fmt::Write as _;
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::Path;
use std::time::{Duration, Instant};
use woodrush_benches::programs::{Ended, Site, until, window};
use woodrush_benches::{Limits, median};

const POINTS: usize = 2_000;
/// How long the two are looked at, once all is under way.
const LOOKED: Duration = Duration::from_secs(10);
const ROUNDS: usize = 30;
const CLIENTS: usize = 8;
/// A read of 16 registers, and how long its answer is.
const ASKS: [u8; 12] = [0, 1, 0, 0, 0, 6, 1, 3, 0, 0, 0, 16];
const ANSWER: usize = 41;

/// Time that a process has had of the processors, in seconds.
fn used(process: u32) -> f64 {
    let text = std::fs::read_to_string(Path::new("/proc").join(process.to_string()).join("stat")).unwrap();
    // Behind the name, which may hold blanks: the 12th and 13th are user and system time, in hundredths.
    let rest: Vec<&str> = text.rsplit_once(") ").unwrap().1.split(' ').collect();
    (rest[11].parse::<f64>().unwrap() + rest[12].parse::<f64>().unwrap()) / 100.0
}

/// A device and a client on sockets, one rule a point, every point another value with every poll.
fn changing() -> String {
    let mut text = String::from(
        r#"
[project]
name = "Looked at"
[ports.field]
connect = "192.0.2.30:502"
protocol = "modbus-tcp"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.meter]
port = "field"
unit = 1
poll = "100ms"
[images.scada]
port = "office"
[rig.devices.meter]
"#,
    );
    writeln!(text, "\"400001 x{POINTS}\" = \"count 0..9999 every 100ms\"").unwrap();
    let reads = (0..POINTS).step_by(125).map(|at| {
        let count = 125.min(POINTS - at);
        format!("\"{} x{count} every 100ms\"", 400_001 + at)
    });
    let reads = reads.collect::<Vec<_>>().join(", ");
    writeln!(text, "[clients.room]\nimage = \"scada\"\naddress = \"192.0.2.20\"\nreads = [{reads}]").unwrap();
    for point in 0..POINTS {
        let address = 400_001 + point;
        writeln!(
            text,
            "[[map]]\nfrom = \"meter:{address} as i16 scale 0.1\"\nto = \"scada:{address} as i16 scale 0.1\""
        )
        .unwrap();
    }
    text
}

/// `watch` on a terminal whose screen somebody reads.
fn watch(site: &Site) -> Ended {
    let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC).unwrap();
    grantpt(&master).unwrap();
    unlockpt(&master).unwrap();
    tcsetwinsize(&master, Winsize { ws_row: 50, ws_col: 140, ws_xpixel: 0, ws_ypixel: 0 }).unwrap();
    let path = ptsname(&master, Vec::new()).unwrap();
    let open = || {
        let flags = OFlags::RDWR | OFlags::NOCTTY | OFlags::CLOEXEC;
        rustix::fs::open(path.as_c_str(), flags, Mode::empty()).unwrap()
    };
    let mut command = site.command(&["watch"]);
    command.stdin(open()).stdout(open()).stderr(open()).env("TERM", "xterm-256color");
    let child = command.spawn().unwrap();
    std::thread::spawn(move || {
        let mut chunk = [0; 65_536];
        while rustix::io::read(&master, &mut chunk).is_ok_and(|count| count > 0) {}
    });
    Ended(child)
}

fn both(limits: &mut Limits) {
    let site = Site::new(&changing());
    let _rig = site.begin(&["rig", "up"]);
    until("the rig", || site.answers(&["rig", "status"]));
    let _run = site.begin(&["run", "--rig"]);
    until("the converter", || site.answers(&["status"]));
    let (watch, tap) = (watch(&site), site.begin(&["tap"]));
    std::thread::sleep(Duration::from_secs(2));
    let processes = [watch.0.id(), tap.0.id()];
    let before = processes.map(used);
    let begun = Instant::now();
    std::thread::sleep(LOOKED);
    let elapsed = begun.elapsed().as_secs_f64();
    let share = |at: usize| (used(processes[at]) - before[at]) / elapsed * 100.0;
    let (watched, tapped) = (share(0), share(1));
    println!("       watch {watched:.2} %, tap {tapped:.2} % of one core");
    let what = format!("watch and tap of {POINTS} points that change ten times a second, of one core");
    limits.at_most(&what, watched + tapped, 25.0, "%");
}

fn served(limits: &mut Limits) {
    let at: SocketAddr = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let text = format!(
        "[project]\nname = \"Served\"\n[ports.field]\nconnect = \"127.0.0.1:9\"\nprotocol = \"modbus-tcp\"\n[ports.office]\nlisten = \"{at}\"\nprotocol = \"modbus-tcp\"\nallow = [\"127.0.0.0/8\"]\n[devices.meter]\nport = \"field\"\nunit = 1\n[images.scada]\nport = \"office\"\non-loss = \"fill 0x8000\"\n[[map]]\nfrom = \"meter:400001\"\nto = \"scada:400001\"\ncount = 16\n"
    );
    let site = Site::new(&text);
    let _run = site.begin(&["run"]);
    until("the converter", || site.answers(&["status"]) && TcpStream::connect(at).is_ok());
    let connect = || {
        let stream = TcpStream::connect(at).unwrap();
        stream.set_nodelay(true).unwrap();
        stream
    };
    let mut streams: Vec<TcpStream> = (0..CLIENTS).map(|_| connect()).collect();
    let (mut ratios, mut control) = (vec![], vec![]);
    for round in 0..ROUNDS {
        let mut alone = || {
            std::thread::sleep(Duration::from_millis(150));
            window(&mut streams, &ASKS, ANSWER)
        };
        let (one, other) = (alone(), alone());
        let tap = site.begin(&["tap"]);
        // Its start is no part of it.
        std::thread::sleep(Duration::from_millis(400));
        let tapped = window(&mut streams, &ASKS, ANSWER);
        drop(tap);
        let (alone, again) = if round % 2 == 0 { (one, other) } else { (other, one) };
        ratios.push(tapped / alone * 100.0);
        control.push(again / alone * 100.0);
    }
    limits.at_least("served reads while tapped, against those while not", median(&mut ratios), 97.0, "%");
    println!("       untapped against itself: {:.2} %", median(&mut control));
}

fn main() {
    let mut limits = Limits::default();
    both(&mut limits);
    served(&mut limits);
    limits.end();
}
