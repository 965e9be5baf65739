//! The built program in a folder of its own, and clients that ask it as fast as they are answered.
#![allow(missing_docs, clippy::unwrap_used, clippy::disallowed_methods)]

use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// How long exchanges are counted at once.
const WINDOW: Duration = Duration::from_millis(250);

/// The program beside this benchmark.
fn program() -> PathBuf {
    let own = std::env::current_exe().unwrap();
    let found = own.ancestors().nth(2).unwrap().join("woodrush");
    assert!(found.is_file(), "{} is not there: run `cargo build --release` first", found.display());
    found
}

pub struct Site(tempfile::TempDir);

impl Site {
    pub fn new(text: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("woodrush.toml"), text).unwrap();
        Self(folder)
    }

    pub fn write(&self, name: &str, text: &str) {
        std::fs::write(self.0.path().join(name), text).unwrap();
    }

    pub fn command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(program());
        command.args(args).current_dir(self.0.path()).env("XDG_RUNTIME_DIR", self.0.path());
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        command
    }

    pub fn begin(&self, args: &[&str]) -> Ended {
        Ended(self.command(args).spawn().unwrap())
    }

    /// Whether a program that answers such a question is there.
    pub fn answers(&self, question: &[&str]) -> bool {
        self.command(question).status().unwrap().success()
    }
}

/// A program that ends with its owner.
pub struct Ended(pub Child);

impl Drop for Ended {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

pub fn until(what: &str, mut is_so: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !is_so() {
        assert!(begun.elapsed() < Duration::from_secs(60), "never came about: {what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// Exchanges a second of clients that ask as fast as they are answered.
pub fn window(streams: &mut [TcpStream], asks: &[u8], answer: usize) -> f64 {
    let begun = Instant::now();
    let one = |stream: &mut TcpStream| {
        let (mut came, mut count) = (vec![0; answer], 0u64);
        while begun.elapsed() < WINDOW {
            stream.write_all(asks).unwrap();
            stream.read_exact(&mut came).unwrap();
            count += 1;
        }
        count
    };
    let one = &one;
    let counts: Vec<u64> = std::thread::scope(|scope| {
        let threads: Vec<_> = streams.iter_mut().map(|stream| scope.spawn(move || one(stream))).collect();
        threads.into_iter().map(|thread| thread.join().unwrap()).collect()
    });
    counts.iter().sum::<u64>() as f64 / begun.elapsed().as_secs_f64()
}
