//! 100,000 points running: at most 128 MiB resident once the converter runs. Bench and converter are the built program
//! in two processes of their own.
#![allow(missing_docs, clippy::unwrap_used, clippy::disallowed_methods)]

use std::io::{BufRead, BufReader};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use woodrush_benches::{Limits, large_site};

struct Ended(Child);

impl Drop for Ended {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn program() -> PathBuf {
    // target/release/deps/memory-… lies beside target/release/woodrush.
    let own = std::env::current_exe().unwrap();
    own.parent().unwrap().parent().unwrap().join("woodrush")
}

fn begin(folder: &std::path::Path, args: &[&str], word: &str) -> Ended {
    let mut command = Command::new(program());
    command.args(args).current_dir(folder).env("XDG_RUNTIME_DIR", folder);
    let mut child = command.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    let out = BufReader::new(child.stdout.take().unwrap());
    let ended = Ended(child);
    let mut lines = out.lines();
    assert!(lines.by_ref().map_while(Result::ok).any(|line| line.contains(word)), "no `{word}` came");
    std::thread::spawn(move || lines.for_each(drop));
    ended
}

fn resident(child: &Child) -> f64 {
    let status = std::fs::read_to_string(format!("/proc/{}/status", child.id())).unwrap();
    let line = status.lines().find(|line| line.starts_with("VmRSS:")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<f64>().unwrap() / 1024.0
}

fn main() {
    assert!(program().exists(), "build the program first: cargo build --release");
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("woodrush.toml"), large_site(100_000)).unwrap();
    let _rig = begin(folder.path(), &["rig", "up"], "bus-0");
    let running = begin(folder.path(), &["run", "--rig"], "d-99");
    // Until every device has been asked once, its memory may still grow.
    let begun = Instant::now();
    let (mut last, mut still) = (0.0, 0);
    while begun.elapsed() < Duration::from_secs(90) && still < 8 {
        std::thread::sleep(Duration::from_millis(500));
        let now = resident(&running.0);
        still = if (now - last).abs() < 0.2 { still + 1 } else { 0 };
        last = now;
    }
    let mut limits = Limits::default();
    limits.at_most("100,000 points running, resident", last, 128.0, "MiB");
    limits.end();
}
