//! The bench's lines opened by a program that knows nothing of the bench: raw bytes on a pty.

use crate::site::{DEVICE, HEAD, RULES, checked};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fs::{Mode, OFlags, open};
use rustix::termios::{OptionalActions, tcgetattr, tcsetattr};
use std::os::fd::OwnedFd;
use std::path::Path;
use std::sync::Arc;
use std::time::Instant;
use woodrush_core::protocol::{Extent, SpaceId};
use woodrush_engine::rig::Rig;
use woodrush_wire::modbus::rtu;

fn line_at(path: &Path, baud: u32) -> OwnedFd {
    let tty = open(path, OFlags::RDWR | OFlags::NOCTTY | OFlags::CLOEXEC, Mode::empty()).unwrap();
    let mut termios = tcgetattr(&tty).unwrap();
    termios.make_raw();
    termios.set_speed(baud).unwrap();
    tcsetattr(&tty, OptionalActions::Now, &termios).unwrap();
    tty
}

/// What comes within so many milliseconds, or as soon as `enough` bytes are there.
fn hear(tty: &OwnedFd, enough: usize, millis: i64) -> Vec<u8> {
    let (mut came, mut chunk) = (vec![], [0; 256]);
    while came.len() < enough {
        let mut fds = [PollFd::new(tty, PollFlags::IN)];
        let patience = Timespec { tv_sec: millis / 1000, tv_nsec: millis % 1000 * 1_000_000 };
        if poll(&mut fds, Some(&patience)).unwrap() == 0 {
            break;
        }
        let count = rustix::io::read(tty, &mut chunk).unwrap();
        came.extend_from_slice(&chunk[..count]);
    }
    came
}

fn bench() -> (Rig, std::path::PathBuf) {
    let checked = Arc::new(checked(&[HEAD, DEVICE, RULES].concat()));
    let rig = Rig::up(checked, &|_| Err(String::new())).unwrap();
    rig.stand_still();
    rig.poke(0, Extent { space: SpaceId(2), first: 0, count: 1 }, &[0x06, 0xD2]);
    let path = rig.paths()[0].1.clone();
    (rig, path)
}

fn request(unit: u8, pdu: &[u8]) -> Vec<u8> {
    let mut frame = vec![];
    rtu::emit(unit, pdu, &mut frame);
    frame
}

#[test]
fn any_program_may_ask_and_gets_the_lines_own_time() {
    let (_rig, path) = bench();
    let tty = line_at(&path, 38_400);
    let begun = Instant::now();
    rustix::io::write(&tty, &request(23, &[4, 0, 0, 0, 1])).unwrap();
    assert_eq!(hear(&tty, 7, 5000), request(23, &[4, 2, 6, 0xD2]));
    // 8 and 7 characters of 286 µs and a silence between them.
    assert!(begun.elapsed().as_micros() >= 6_000, "{:?}", begun.elapsed());
    rustix::io::write(&tty, &request(23, &[4, 0, 50, 0, 1])).unwrap();
    assert_eq!(hear(&tty, 5, 5000), request(23, &[0x84, 2]), "an address that the device does not have");
    rustix::io::write(&tty, &request(23, &[6, 0, 9, 0x12, 0x34])).unwrap();
    assert_eq!(hear(&tty, 8, 5000), request(23, &[6, 0, 9, 0x12, 0x34]));
    rustix::io::write(&tty, &request(24, &[4, 0, 0, 0, 1])).unwrap();
    assert_eq!(hear(&tty, 1, 300), [0; 0], "there is no unit 24");
}

#[test]
fn the_wrong_speed_gets_nothing_that_makes_sense() {
    let (_rig, path) = bench();
    let tty = line_at(&path, 19_200);
    for _ in 0..5 {
        rustix::io::write(&tty, &request(23, &[4, 0, 0, 0, 1])).unwrap();
        let came = hear(&tty, 7, 200);
        assert!(rtu::parse(&came).is_err(), "{came:02X?}");
    }
}

#[test]
fn garbage_and_half_a_request_cost_only_themselves() {
    let (_rig, path) = bench();
    let tty = line_at(&path, 38_400);
    for junk in [vec![0xFF; 200], vec![23, 4, 0], request(23, &[4, 0, 0, 0, 126]), vec![0; 3]] {
        rustix::io::write(&tty, &junk).unwrap();
        hear(&tty, 256, 150);
        rustix::io::write(&tty, &request(23, &[4, 0, 0, 0, 1])).unwrap();
        assert_eq!(hear(&tty, 7, 5000), request(23, &[4, 2, 6, 0xD2]), "after {junk:02X?}");
    }
}

#[test]
fn what_waited_while_nobody_listened_is_not_read_as_new() {
    let (rig, path) = bench();
    {
        let tty = line_at(&path, 38_400);
        rustix::io::write(&tty, &request(23, &[4, 0, 0, 0, 1])).unwrap();
        // Gone before the answer comes.
    }
    // The answer takes a few milliseconds; a busy machine may take a hundred times as long.
    std::thread::sleep(std::time::Duration::from_secs(1));
    rig.poke(0, Extent { space: SpaceId(2), first: 0, count: 1 }, &[0, 9]);
    let tty = line_at(&path, 38_400);
    rustix::termios::tcflush(&tty, rustix::termios::QueueSelector::IOFlush).unwrap();
    rustix::io::write(&tty, &request(23, &[4, 0, 0, 0, 1])).unwrap();
    assert_eq!(hear(&tty, 7, 5000), request(23, &[4, 2, 0, 9]));
}
