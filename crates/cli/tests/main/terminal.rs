//! A terminal of a given size in which a command runs: what is typed, and what stands on the screen.

use crate::tool::{PATIENCE, Tool};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{Winsize, tcsetwinsize};
use std::fs::{File, OpenOptions};
use std::num::NonZero;
use std::os::fd::OwnedFd;
use std::process::Child;
use std::time::{Duration, Instant};

pub(crate) struct Terminal {
    /// Nothing once it was closed.
    master: Option<OwnedFd>,
    child: Child,
    screen: vt100::Parser,
}

impl Terminal {
    pub(crate) fn open(tool: &Tool, args: &[&str], (columns, rows): (u16, u16)) -> Self {
        let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC).unwrap();
        grantpt(&master).unwrap();
        unlockpt(&master).unwrap();
        let path = ptsname(&master, Vec::new()).unwrap().to_string_lossy().into_owned();
        size(&master, columns, rows);
        let own = || -> File { OpenOptions::new().read(true).write(true).open(&path).unwrap() };
        let mut command = tool.command(args);
        command.env_remove("WOODRUSH_WIDTH").env("TERM", "xterm-256color");
        let child = command.stdin(own()).stdout(own()).stderr(own()).spawn().unwrap();
        Self { master: Some(master), child, screen: vt100::Parser::new(some(rows), some(columns), 0) }
    }

    pub(crate) fn resize(&mut self, (columns, rows): (u16, u16)) {
        self.screen.screen_mut().set_size(some(rows), some(columns));
        size(self.master.as_ref().unwrap(), columns, rows);
        let number = self.child.id().to_string();
        assert!(std::process::Command::new("kill").args(["-WINCH", &number]).status().unwrap().success());
    }

    pub(crate) fn keys(&mut self, keys: &str) {
        rustix::io::write(self.master.as_ref().unwrap(), keys.as_bytes()).unwrap();
    }

    /// What stands on the screen now.
    pub(crate) fn text(&mut self) -> String {
        self.take(Duration::from_millis(30));
        self.screen.screen().contents()
    }

    fn take(&mut self, patience: Duration) {
        let master = self.master.as_ref().unwrap();
        let wait = Timespec { tv_sec: 0, tv_nsec: i64::from(patience.subsec_nanos()) };
        let mut fds = [PollFd::new(master, PollFlags::IN)];
        poll(&mut fds, Some(&wait)).unwrap();
        if fds[0].revents().contains(PollFlags::IN) {
            let mut chunk = [0; 65_536];
            // The other end may just have been shut.
            let count = rustix::io::read(master, &mut chunk).unwrap_or(0);
            self.screen.process(&chunk[..count]);
        }
    }

    /// Waits until the screen is so.
    pub(crate) fn until(&mut self, what: &str, is_so: impl Fn(&str) -> bool) -> String {
        let begun = Instant::now();
        while begun.elapsed() < PATIENCE {
            let text = self.text();
            if is_so(&text) {
                return text;
            }
        }
        panic!("{what} never came about:\n{}", self.text());
    }

    pub(crate) fn shows(&mut self, words: &str) -> String {
        self.until(words, |text| text.contains(words))
    }

    /// Takes the terminal away.
    pub(crate) fn close(&mut self) {
        self.master = None;
    }

    /// Waits for the end of the command; its status, and whether the full screen was left.
    pub(crate) fn end(&mut self) -> (i32, bool) {
        let begun = Instant::now();
        while begun.elapsed() < PATIENCE {
            if self.master.is_some() {
                self.take(Duration::from_millis(20));
            } else {
                std::thread::sleep(Duration::from_millis(20));
            }
            if let Some(status) = self.child.try_wait().unwrap() {
                if self.master.is_some() {
                    self.take(Duration::from_millis(100));
                }
                return (status.code().unwrap_or(-1), !self.screen.screen().alternate_screen());
            }
        }
        panic!("it did not end");
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn some(count: u16) -> NonZero<u16> {
    NonZero::new(count).unwrap()
}

fn size(terminal: &OwnedFd, columns: u16, rows: u16) {
    let size = Winsize { ws_row: rows, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 };
    tcsetwinsize(terminal, size).unwrap();
}
