//! What forwarding adds. Over a pty that takes no time, against a proxy that copies bytes between the same kind of socket
//! and pty: at most twice its median, less the silences. On a paced line with four clients that ask without pause: the
//! gap between an answer and the next request, and how long a client waits at most. A line of thirty devices of which
//! three are dead, against the same line without them.
#![allow(missing_docs, clippy::unwrap_used, clippy::disallowed_methods)]

use rustix::event::{PollFd, PollFlags, poll};
use rustix::fd::OwnedFd;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::time::{Duration, Instant};
use woodrush_benches::{Limits, checked, median};
use woodrush_core::plan::Plan;
use woodrush_core::project::{FaultValue, MUTE};
use woodrush_engine::bench::Bench;
use woodrush_engine::converter::{Bindings, Running, start};
use woodrush_engine::rig::{Change, Rig};
use woodrush_wire::modbus::{rtu, tcp};

const ROUNDS: usize = 60;
const EXCHANGES: usize = 40;

fn site(baud: u32, frame_gap: &str) -> String {
    let devices: String = (1..=4)
        .map(|n| format!("[devices.d{n}]\nport = \"bus\"\nunit = {n}\ntables = {{ holding = 100 }}\n"))
        .collect();
    format!(
        "[ports.bus]\nserial = \"/dev/ttyS0\"\nline = \"{baud} 8E1\"\nprotocol = \"modbus-rtu\"\ntimeout = \"1s\"\n{frame_gap}\n[ports.office]\nlisten = \"0.0.0.0:502\"\nprotocol = \"modbus-tcp\"\nallow = [\"192.0.2.0/24\"]\n{devices}[[forward]]\nfrom = \"office\"\nunits = \"1-9\"\nto = \"bus\"\n"
    )
}

/// A device that answers each request of eight bytes at once: the far end of a pty.
fn answer_at_once(master: OwnedFd, stop: Arc<AtomicBool>) {
    let (mut chunk, mut held) = ([0; 256], vec![]);
    while !stop.load(Relaxed) {
        let patience = rustix::event::Timespec { tv_sec: 0, tv_nsec: 50_000_000 };
        let _ = poll(&mut [PollFd::new(&master, PollFlags::IN)], Some(&patience));
        match rustix::io::read(&master, &mut chunk) {
            Ok(count) => held.extend_from_slice(&chunk[..count]),
            Err(_) => std::thread::sleep(Duration::from_millis(1)),
        }
        while held.len() >= 8 {
            let request: Vec<u8> = held.drain(..8).collect();
            let mut answer = vec![];
            rtu::emit(1, &[request[1], 2, 0x12, 0x34], &mut answer);
            rustix::io::write(&master, &answer).unwrap();
        }
    }
}

fn pty() -> (OwnedFd, std::path::PathBuf) {
    use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
    let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC).unwrap();
    grantpt(&master).unwrap();
    unlockpt(&master).unwrap();
    let path = ptsname(&master, Vec::new()).unwrap().to_string_lossy().into_owned();
    let mut termios = rustix::termios::tcgetattr(&master).unwrap();
    termios.make_raw();
    rustix::termios::tcsetattr(&master, rustix::termios::OptionalActions::Now, &termios).unwrap();
    let flags = rustix::fs::fcntl_getfl(&master).unwrap() | rustix::fs::OFlags::NONBLOCK;
    rustix::fs::fcntl_setfl(&master, flags).unwrap();
    (master, path.into())
}

/// Copies bytes between one client and a pty, and does nothing else.
fn proxy(listener: TcpListener, path: &Path) {
    let flags = rustix::fs::OFlags::RDWR | rustix::fs::OFlags::NOCTTY;
    let tty = rustix::fs::open(path, flags, rustix::fs::Mode::empty()).unwrap();
    let mut termios = rustix::termios::tcgetattr(&tty).unwrap();
    termios.make_raw();
    rustix::termios::tcsetattr(&tty, rustix::termios::OptionalActions::Now, &termios).unwrap();
    let (mut stream, _) = listener.accept().unwrap();
    stream.set_nodelay(true).unwrap();
    let mut chunk = [0; 256];
    loop {
        let mut fds = [PollFd::new(&stream, PollFlags::IN), PollFd::new(&tty, PollFlags::IN)];
        poll(&mut fds, None).unwrap();
        let (near, far) = (fds[0].revents(), fds[1].revents());
        if !near.is_empty() {
            match stream.read(&mut chunk) {
                Ok(0) | Err(_) => return,
                Ok(count) => drop(rustix::io::write(&tty, &chunk[..count])),
            }
        }
        if !far.is_empty() {
            match rustix::io::read(&tty, &mut chunk) {
                Ok(0) | Err(_) => return,
                Ok(count) => stream.write_all(&chunk[..count]).unwrap(),
            }
        }
    }
}

/// The median time of an exchange, in microseconds. Two requests in turn: the same one twice in a row waits longer on a
/// line, lest an echo be taken for its answer.
fn exchanges(stream: &mut TcpStream, requests: &[Vec<u8>; 2], answer: usize) -> f64 {
    let mut back = vec![0; answer];
    let one = |at: usize| {
        let begun = Instant::now();
        stream.write_all(&requests[at % 2]).unwrap();
        stream.read_exact(&mut back).unwrap();
        begun.elapsed().as_secs_f64() * 1e6
    };
    median(&mut (0..EXCHANGES).map(one).collect::<Vec<f64>>())
}

fn begin(text: String, bindings: &Bindings) -> (Running, SocketAddr) {
    let checked = checked(text);
    let plan = Arc::new(Plan::build(&checked.project, &mut vec![]));
    let running = start(&checked, plan, bindings, |_| {}).unwrap();
    let at = running.listening()[0].1;
    (running, at)
}

fn against_a_proxy(limits: &mut Limits) {
    const SILENCE: f64 = 1.0;
    let stop = Arc::new(AtomicBool::new(false));
    let (near, near_path) = pty();
    let (far, far_path) = pty();
    for master in [near, far] {
        let stop = Arc::clone(&stop);
        std::thread::spawn(move || answer_at_once(master, stop));
    }
    let mut bindings = Bindings { bench: Some(Arc::default()), ..Bindings::default() };
    bindings.serial.insert(0, near_path);
    // The least silence that can be written; `check` would object, which nobody asks here.
    let text = site(115_200, "frame-gap = \"1us\"");
    let checked = {
        let load = |_: &str| Err(String::new());
        woodrush_core::check::check(woodrush_core::project::read("bench", text, &mut { load }))
    };
    let plan = Arc::new(Plan::build(&checked.project, &mut vec![]));
    let running = start(&checked, plan, &bindings, |_| {}).unwrap();
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let proxied_at = listener.local_addr().unwrap();
    std::thread::spawn(move || proxy(listener, &far_path));
    let connect = |at| {
        let stream = TcpStream::connect(at).unwrap();
        stream.set_nodelay(true).unwrap();
        stream
    };
    let (mut passed, mut proxied) = (connect(running.listening()[0].1), connect(proxied_at));
    let (mut mbap, mut framed) = ([vec![], vec![]], [vec![], vec![]]);
    for (at, function) in [3, 4].into_iter().enumerate() {
        tcp::emit(1, 1, &[function, 0, 0, 0, 1], &mut mbap[at]);
        rtu::emit(1, &[function, 0, 0, 0, 1], &mut framed[at]);
    }
    let (mut ratios, mut control) = (vec![], vec![]);
    for round in 0..ROUNDS {
        let mut own = || exchanges(&mut passed, &mbap, 11) - SILENCE;
        let mut copy = || exchanges(&mut proxied, &framed, 7);
        let (own, copy, again) = if round % 2 == 0 {
            let own = own();
            (own, copy(), copy())
        } else {
            let (copy_one, again) = (copy(), copy());
            (own(), copy_one, again)
        };
        ratios.push(own / copy);
        control.push(again / copy);
    }
    stop.store(true, Relaxed);
    limits.at_most("a forwarded request against a byte-copying proxy", median(&mut ratios), 2.0, " times");
    println!("       the proxy against itself: {:.2} times", median(&mut control));
}

fn four_clients(limits: &mut Limits) {
    let text = site(19_200, "");
    let project = checked(text.clone());
    let rig = Rig::up(Arc::clone(&project), &|_| Err(String::new())).unwrap();
    let (running, at) = begin(text, &rig.bindings());
    drop(rig.gaps(0));
    let stop = Arc::new(AtomicBool::new(false));
    let clients: Vec<_> = (1..=4u8)
        .map(|unit| {
            let stop = Arc::clone(&stop);
            std::thread::spawn(move || {
                let mut stream = TcpStream::connect(at).unwrap();
                stream.set_nodelay(true).unwrap();
                let mut request = vec![];
                // The fourth asks a unit that nobody is.
                tcp::emit(1, if unit == 4 { 9 } else { unit }, &[3, 0, 0, 0, 10], &mut request);
                let mut waits = vec![];
                while !stop.load(Relaxed) {
                    let begun = Instant::now();
                    stream.write_all(&request).unwrap();
                    let mut head = [0; 9];
                    stream.read_exact(&mut head).unwrap();
                    let rest = if head[7] == 3 { usize::from(head[8]) } else { 0 };
                    stream.read_exact(&mut vec![0; rest]).unwrap();
                    waits.push(begun.elapsed().as_secs_f64());
                }
                waits.into_iter().fold(0.0, f64::max)
            })
        })
        .collect();
    std::thread::sleep(Duration::from_secs(12));
    let mut gaps: Vec<f64> = rig.gaps(0).into_iter().map(|gap| gap as f64).collect();
    stop.store(true, Relaxed);
    let longest = clients.into_iter().map(|client| client.join().unwrap()).fold(0.0, f64::max);
    let frame_gap = project.plan.lines.first().map_or(0, |line| line.frame_gap) as f64;
    // The middle of all: those after a timeout are longer, and few.
    limits.at_most(
        "answer to next request beyond the silence, 4 clients",
        median(&mut gaps) - frame_gap,
        150.0,
        " us",
    );
    // The longest exchange is the one that times out: silence, eight bytes, the timeout, the rest after it.
    let bound = 4.0 * (1.0 + 0.1 + 0.0046 + 0.004);
    limits.at_most("the longest that a client waited", longest, bound, " s");
    drop(running);
}

fn dead_devices(limits: &mut Limits) {
    let polls = |dead: bool| {
        let devices: String = (1..=30)
            .filter(|n| dead || n % 10 != 0)
            .map(|n| {
                format!("[devices.d{n}]\nport = \"bus\"\nunit = {n}\npoll = \"1ms\"\n[[map]]\nfrom = \"d{n}:400001\"\nto = \"scada:{}\"\n", 400_000 + n)
            })
            .collect();
        let text = format!(
            "[ports.bus]\nserial = \"/dev/ttyS0\"\nline = \"38400 8E1\"\nprotocol = \"modbus-rtu\"\ntimeout = \"200ms\"\n[ports.office]\nlisten = \"0.0.0.0:502\"\nprotocol = \"modbus-tcp\"\nallow = [\"192.0.2.0/24\"]\n[images.scada]\nport = \"office\"\n{devices}"
        );
        let project = checked(text);
        let plan = Arc::new(Plan::build(&project.project, &mut vec![]));
        let mut bench = Bench::new(&project, Arc::clone(&plan)).unwrap();
        if dead {
            for at in [9, 19, 29] {
                bench.bus(0).unwrap().change(Change::begin(&MUTE, at, FaultValue::On));
            }
        }
        // Long enough for the dead ones to be known, and for their waits to have grown.
        bench.run(120_000_000);
        let count = |bench: &Bench| (0..plan.devices.len()).map(|at| bench.polls(at)).sum::<u64>();
        let before = count(&bench);
        bench.run(300_000_000);
        count(&bench).wrapping_sub(before)
    };
    let (with, without) = (polls(true) as f64, polls(false) as f64);
    limits.at_least("polls of 27 devices beside 3 dead ones", with / without * 100.0, 90.0, "%");
}

fn main() {
    let mut limits = Limits::default();
    against_a_proxy(&mut limits);
    four_clients(&mut limits);
    dead_devices(&mut limits);
    limits.end();
}
