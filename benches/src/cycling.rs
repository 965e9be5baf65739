//! A site that exchanges in cycles, and a bare sender of as many packets to hold it against.
#![allow(missing_docs, clippy::unwrap_used, clippy::disallowed_methods, clippy::cast_precision_loss)]

use crate::median;
use crate::programs::{Ended, Site, until};
use rustix::thread::{ClockId, clock_nanosleep_absolute};
use rustix::time::{Timespec, clock_gettime};
use std::net::UdpSocket;
use std::num::NonZero;
use std::process::Stdio;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::thread::JoinHandle;
use std::time::Duration;

/// Bytes of a packet: a frame with a block of 8 bytes and a header.
const PACKET: usize = 32;

/// A site at work: the bench and the converter, each a program of its own.
pub struct AtWork {
    pub site: Site,
    run: Ended,
    _rig: Ended,
}

impl AtWork {
    /// `wires` are options of the bench that join ends by real interfaces.
    pub fn begin(text: &str, links: usize, wires: &[&str]) -> Self {
        let site = Site::new(text);
        let rig = site.begin(&[&["rig", "up"], wires].concat());
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
    pub fn late(&self, key: &str) -> f64 {
        median(&mut self.told(key).iter().filter_map(|text| text.parse().ok()).collect::<Vec<f64>>())
    }

    /// Processor time so far, in seconds.
    pub fn cpu(&self) -> f64 {
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
pub struct Bare {
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
    pub fn pair(packets: u64, period_us: u64) -> (Self, Self) {
        let socket = || UdpSocket::bind("127.0.0.1:0").unwrap();
        let (one, other) = (socket(), socket());
        let (to_one, to_other) = (one.try_clone().unwrap(), other.try_clone().unwrap());
        let half = period_us * 500 / packets;
        let grid = (packets, period_us);
        (Self::begin(one, &to_other, 0, grid), Self::begin(other, &to_one, half, grid))
    }

    /// Lateness in microseconds, and processor seconds.
    pub fn end(self) -> (Vec<f64>, f64) {
        self.stop.store(true, Relaxed);
        let (late, cpu) = self.sender.join().unwrap();
        (late, cpu + self.receiver.join().unwrap())
    }
}

pub fn p99(values: &mut [f64]) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() * 99 / 100]
}
