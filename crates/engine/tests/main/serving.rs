//! Listening ports over real sockets: who may come, how many, and what broken bytes cost.

use crate::live::until;
use crate::site::{DEVICE, HEAD, RULES, checked};
use std::io::{Read, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpStream};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use woodrush_core::plan::Plan;
use woodrush_engine::Dialer;
use woodrush_engine::converter::{Event, Running, start};
use woodrush_engine::rig::Rig;

const PATIENCE: Duration = Duration::from_secs(60);
const READ: [u8; 12] = [0, 7, 0, 0, 0, 6, 1, 3, 0, 0, 0, 1];

struct Live {
    running: Running,
    _rig: Rig,
    told: Arc<Mutex<Vec<String>>>,
}

impl Live {
    /// The small site with lines added to its listening port.
    fn new(port: &str) -> Self {
        // Nobody is lost here: a machine that stands still for a moment must not make it look so.
        let head = HEAD
            .replace("[images.scada]", &format!("{port}\n[images.scada]"))
            .replace("\"200ms\"", "\"10s\"");
        let device = DEVICE.replace("500ms", "50ms");
        let clients = "[clients.known]\nimage = \"scada\"\naddress = \"192.0.2.20\"\n[clients.other]\nimage = \"scada\"\naddress = \"192.0.2.21\"\n";
        let checked = Arc::new(checked(&[&head, &device, RULES, clients].concat()));
        let rig = Rig::up(Arc::clone(&checked), &|_| Err(String::new())).unwrap();
        let plan = Arc::new(Plan::build(&checked.project, &mut vec![]));
        let told = Arc::new(Mutex::new(vec![]));
        let sink = Arc::clone(&told);
        let running = start(&checked, plan, &rig.bindings(), move |event| {
            if let Event::Client { why, .. } = event {
                sink.lock().unwrap().push(why);
            }
        });
        Self { running: running.unwrap(), _rig: rig, told }
    }

    fn at(&self) -> SocketAddr {
        self.running.listening()[0].1
    }

    fn connect(&self) -> TcpStream {
        let stream = TcpStream::connect(self.at()).unwrap();
        stream.set_read_timeout(Some(PATIENCE)).unwrap();
        stream
    }

    fn was_told(&self, part: &str) {
        let begun = Instant::now();
        while !self.told.lock().unwrap().iter().any(|why| why.contains(part)) {
            assert!(begun.elapsed() < PATIENCE, "never told: {part}; {:?}", self.told.lock().unwrap());
            std::thread::sleep(Duration::from_millis(5));
        }
    }
}

/// One answer's PDU; `None` when the connection was closed.
fn answer(stream: &mut TcpStream) -> Option<Vec<u8>> {
    let mut head = [0; 7];
    stream.read_exact(&mut head).ok()?;
    let mut pdu = vec![0; usize::from(u16::from_be_bytes([head[4], head[5]])) - 1];
    stream.read_exact(&mut pdu).ok()?;
    Some(pdu)
}

fn ask(stream: &mut TcpStream, bytes: &[u8]) -> Option<Vec<u8>> {
    stream.write_all(bytes).ok()?;
    answer(stream)
}

/// Waits for the first poll.
fn ready(stream: &mut TcpStream) {
    let begun = Instant::now();
    while ask(stream, &READ).unwrap()[0] != 3 {
        assert!(begun.elapsed() < PATIENCE);
        std::thread::sleep(Duration::from_millis(10));
    }
}

#[test]
fn many_requests_in_one_segment_or_in_single_bytes_are_answered_in_order() {
    let live = Live::new("");
    let mut stream = live.connect();
    ready(&mut stream);
    let many: Vec<u8> = (0..200u8).flat_map(|n| [0, n, 0, 0, 0, 6, 1, 3, 0, 0, 0, 1]).collect();
    stream.write_all(&many).unwrap();
    for n in 0..200u8 {
        let mut back = [0; 11];
        stream.read_exact(&mut back).unwrap();
        assert_eq!(back[1], n);
    }
    stream.set_nodelay(true).unwrap();
    for byte in READ {
        stream.write_all(&[byte]).unwrap();
    }
    assert_eq!(answer(&mut stream).unwrap()[..2], [3, 2]);
    // A write in the middle keeps the order, although the device must be asked first.
    let write = [0, 1, 0, 0, 0, 11, 1, 16, 0, 100, 0, 2, 4, 0x41, 0x8B, 0xAE, 0x14];
    let back = [0, 2, 0, 0, 0, 6, 1, 3, 0, 100, 0, 2];
    // Meanwhile a machine that stands still may let the value behind be lost: then all three are asked again.
    until("what was written to be read behind its write", || {
        stream.write_all(&[&READ[..], &write, &back].concat()).unwrap();
        let all: Vec<_> = (0..3).map(|_| answer(&mut stream).unwrap()).collect();
        assert!(all.iter().zip([3, 16, 3]).all(|(own, function)| own[0] & 0x7F == function), "{all:?}");
        all[1..] == [vec![16, 0, 100, 0, 2], vec![3, 4, 0x41, 0x8B, 0xAE, 0x14]]
    });
}

#[test]
fn broken_streams_are_closed_and_others_go_on() {
    let live = Live::new("");
    let mut good = live.connect();
    ready(&mut good);
    for (bytes, why) in [
        (vec![0, 1, 0, 0, 0, 0, 1, 3], "length is 0, allowed is 2 to 254"),
        (vec![0, 1, 0, 0, 0, 255, 1, 3], "length is 255, allowed is 2 to 254"),
        (vec![0x11, 3, 0, 0x6B, 0, 3, 0x76, 0x87], "RTU frames on an MBAP port"),
        ([0, 1, 0, 9, 0, 2, 1, 3].repeat(3), "protocol is 9, allowed is 0 to 0"),
    ] {
        let mut bad = live.connect();
        bad.write_all(&bytes).unwrap();
        let mut end = [0; 1];
        assert_eq!(bad.read(&mut end).unwrap_or(0), 0, "{why}");
        live.was_told(why);
        assert_eq!(ask(&mut good, &READ).unwrap()[0], 3);
    }
    let mut foreign = live.connect();
    foreign.write_all(&[0, 1, 0, 9, 0, 2, 1, 3]).unwrap();
    assert_eq!(ask(&mut foreign, &READ).unwrap()[0], 3, "one foreign message is passed over");
}

#[test]
fn one_client_too_many_is_turned_away_and_room_is_given_back() {
    let live = Live::new("max-clients = 2");
    let mut first = live.connect();
    ready(&mut first);
    let mut second = live.connect();
    assert!(ask(&mut second, &READ).is_some());
    let mut third = live.connect();
    assert!(ask(&mut third, &READ).is_none());
    live.was_told("turned away: 2 clients are connected");
    drop(second);
    let begun = Instant::now();
    // The place is free once its task has seen the end.
    while ask(&mut live.connect(), &READ).is_none() {
        assert!(begun.elapsed() < PATIENCE);
    }
    assert!(ask(&mut first, &READ).is_some());
}

/// Ten seconds of silence give a place away, and only the place of the one that was silent longest.
#[test]
fn a_new_client_takes_the_place_of_the_longest_silent_one() {
    let live = Live::new("max-clients = 2");
    let (mut silent, mut talking) = (live.connect(), live.connect());
    ready(&mut talking);
    assert!(ask(&mut silent, &READ).is_some());
    let begun = Instant::now();
    while ask(&mut live.connect(), &READ).is_none() {
        assert!(ask(&mut talking, &READ).is_some());
        assert!(begun.elapsed() < PATIENCE);
        std::thread::sleep(Duration::from_millis(100));
    }
    assert!(begun.elapsed() > Duration::from_secs(9), "{:?}", begun.elapsed());
    live.was_told("closed for a new client: it was idle longest");
    assert!(ask(&mut silent, &READ).is_none());
    assert!(ask(&mut talking, &READ).is_some());
}

#[test]
fn a_silent_connection_is_closed_after_its_time_and_a_talking_one_is_not() {
    let live = Live::new("idle-timeout = \"1s\"");
    let (mut silent, mut talking) = (live.connect(), live.connect());
    ready(&mut talking);
    let begun = Instant::now();
    silent.set_nonblocking(true).unwrap();
    let mut byte = [0; 1];
    loop {
        match silent.read(&mut byte) {
            Ok(0) => break,
            Err(error) if error.kind() == std::io::ErrorKind::WouldBlock => {}
            other => panic!("{other:?}"),
        }
        assert!(ask(&mut talking, &READ).is_some());
        assert!(begun.elapsed() < PATIENCE);
        std::thread::sleep(Duration::from_millis(20));
    }
    live.was_told("it was idle for longer than `idle-timeout`");
}

#[test]
fn on_the_bench_allow_is_held_against_the_clients_own_address() {
    let live = Live::new("");
    let narrow = HEAD.replace("192.0.2.0/24", "192.0.2.20");
    drop(live);
    let clients = "[clients.known]\nimage = \"scada\"\naddress = \"192.0.2.20\"\n[clients.other]\nimage = \"scada\"\naddress = \"192.0.2.21\"\n";
    let text = [&narrow, DEVICE, RULES, clients].concat();
    // `check` says that the second client is shut out; the converter shuts it out all the same.
    let checked = woodrush_core::check::check(woodrush_core::project::read("w", text, &mut |_| {
        Ok(crate::site::PROBE.into())
    }));
    assert!(checked.findings.iter().any(|finding| finding.rule.code == "M29"));
    let checked = Arc::new(checked);
    let rig = Rig::up(Arc::clone(&checked), &|_| Err(String::new())).unwrap();
    let plan = Arc::new(Plan::build(&checked.project, &mut vec![]));
    let running = start(&checked, Arc::clone(&plan), &rig.bindings(), |_| {}).unwrap();
    let to = running.listening()[0].1;
    let extent =
        woodrush_core::protocol::Extent { space: woodrush_core::protocol::SpaceId(3), first: 0, count: 1 };
    let asks = |own: Option<Ipv4Addr>| {
        let dialer = Dialer::connect(to, own, "modbus-tcp", &plan.images[0], 5_000_000);
        dialer
            .map(|mut dialer| dialer.read(extent).err().is_none_or(|refusal| refusal.native.is_some()))
            .unwrap_or(false)
    };
    assert!(asks(Some(Ipv4Addr::new(127, 0, 1, 1))), "192.0.2.20");
    assert!(!asks(Some(Ipv4Addr::new(127, 0, 1, 2))), "192.0.2.21");
    assert!(asks(None), "a dialer without a client's address may read");
}
