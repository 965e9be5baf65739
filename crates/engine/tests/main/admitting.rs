//! Who is let in, on every kind of listening port, and that none of them holds more than it may.

use crate::live::{Up, until};
use std::io::{ErrorKind, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::Arc;
use std::time::Duration;
use woodrush_core::plan::Plan;
use woodrush_engine::converter::{Event, start};
use woodrush_engine::rig::Rig;

/// Every kind of listening port: its protocol, what answers there, a whole request, and the bytes of its answer.
const KINDS: [(&str, &str, &[u8], usize); 5] = [
    ("modbus-tcp", MODBUS, &[0, 7, 0, 0, 0, 6, 1, 3, 0, 200, 0, 1], 9),
    ("modbus-rtu", MODBUS, &[1, 3, 0, 200, 0, 1, 4, 0x34], 5),
    ("modbus-ascii", MODBUS, b":0103000000C834\r\n", 0),
    ("fetch-write", BLOCKS, &CONNECT, 1),
    ("raw", RAW, b"x", 0),
];
const MODBUS: &str =
    "[images.scada]\nport = \"office\"\n[[map]]\nfrom = \"scada:400101\"\nto = \"scada:400201\"\n";
const BLOCKS: &str =
    "[images.scada]\nport = \"office\"\n[[map]]\nfrom = \"scada:%DB10.W0\"\nto = \"scada:%DB10.W10\"\n";
const RAW: &str = "[ports.printer]\nconnect = \"192.0.2.40:9100\"\nprotocol = \"raw\"\n[[forward]]\nfrom = \"office\"\nto = \"printer\"\n";
/// An ISO connection request: TPDU size 1024, both TSAPs.
const CONNECT: [u8; 22] = [3, 0, 0, 22, 17, 0xE0, 0, 0, 0, 1, 0, 0xC0, 1, 10, 0xC1, 2, 1, 0, 0xC2, 2, 1, 0];

fn site(protocol: &str, rest: &str, keys: &str) -> String {
    format!("[ports.office]\nlisten = \"0.0.0.0:502\"\nprotocol = \"{protocol}\"\n{keys}\n{rest}")
}

/// A converter of such a port, and the far end of a raw tunnel, which must live as long.
fn up(protocol: &str, rest: &str, keys: &str) -> (Up, Option<TcpStream>) {
    let far = (protocol == "raw").then(|| TcpListener::bind("127.0.0.1:0").unwrap());
    let up = Up::start(&site(protocol, rest, keys), false, |bindings| {
        if let Some(far) = &far {
            bindings.connect.insert(1, far.local_addr().unwrap());
        }
    });
    (up, far.map(|far| far.accept().unwrap().0))
}

fn connect(up: &Up) -> TcpStream {
    let stream = TcpStream::connect(up.at(0)).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
    stream
}

/// Whether the other end closes it, sooner or later.
fn is_closed(stream: &mut TcpStream) -> bool {
    loop {
        match stream.read(&mut [0; 64]) {
            Ok(0) => return true,
            Ok(_) => {}
            Err(error) => return !matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut),
        }
    }
}

fn was_told(up: &Up, part: &str) {
    until(part, || {
        let told = up.told.lock().unwrap();
        told.iter().any(|event| matches!(event, Event::Client { why, .. } if why.contains(part)))
    });
}

#[test]
fn every_kind_of_listening_port_holds_allow() {
    for (protocol, rest, ..) in KINDS {
        let clients = "[clients.other]\nimage = \"scada\"\naddress = \"192.0.2.21\"\n";
        let clients = if protocol == "raw" { "" } else { clients };
        let text = site(protocol, &format!("{rest}{clients}"), "allow = [\"192.0.2.20\"]");
        let checked =
            woodrush_core::check::check(woodrush_core::project::read("w", text, &mut |_| Err(String::new())));
        let checked = Arc::new(checked);
        let mut bindings = Rig::up(Arc::clone(&checked), &|_| Err(String::new())).unwrap().bindings();
        // Every loopback address stands for one that may not connect.
        let shut_out = std::net::Ipv4Addr::new(192, 0, 2, 21);
        bindings.bench = Some(Arc::new([(std::net::Ipv4Addr::LOCALHOST.into(), shut_out)].into()));
        let plan = Arc::new(Plan::build(&checked.project, &mut vec![]));
        let told = Arc::new(std::sync::Mutex::new(vec![]));
        let sink = Arc::clone(&told);
        let running =
            start(&checked, plan, &bindings, move |event| sink.lock().unwrap().push(event)).unwrap();
        let mut stream = TcpStream::connect(running.listening()[0].1).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
        assert!(is_closed(&mut stream), "{protocol}");
        until("the reason", || {
            told.lock().unwrap().iter().any(
                |event| matches!(event, Event::Client { why, .. } if why == "turned away: `allow` does not hold its address"),
            )
        });
    }
}

#[test]
fn every_kind_of_listening_port_holds_idle_timeout_and_keeps_those_who_talk() {
    for (protocol, rest, request, _) in KINDS {
        let (up, _far) = up(protocol, rest, "idle-timeout = \"700ms\"");
        let mut silent = connect(&up);
        if protocol == "fetch-write" {
            silent.write_all(request).unwrap();
        }
        assert!(is_closed(&mut silent), "{protocol}");
        was_told(&up, "it was idle for longer than `idle-timeout`");
    }
}

/// Half a request now and then is no request: only whole ones count.
#[test]
fn a_client_that_never_says_anything_whole_is_silent() {
    let (up, _far) = up("modbus-tcp", MODBUS, "idle-timeout = \"1s\"");
    let mut slow = connect(&up);
    let mut bytes = [0u8, 7, 0, 0, 0, 200, 1, 3].into_iter().chain(std::iter::repeat(0));
    let begun = std::time::Instant::now();
    until("the end", || {
        std::thread::sleep(Duration::from_millis(50));
        slow.write_all(&[bytes.next().unwrap()]).is_err() || begun.elapsed() > Duration::from_secs(15)
    });
    was_told(&up, "it was idle for longer than `idle-timeout`");
}

#[test]
fn every_kind_of_listening_port_holds_its_number_of_clients_and_tells_the_system_to_look_after_them() {
    for (protocol, rest, ..) in KINDS {
        let keys = if protocol == "raw" { "" } else { "max-clients = 1" };
        let (up, _far) = up(protocol, rest, keys);
        let first = connect(&up);
        let mut second = connect(&up);
        assert!(is_closed(&mut second), "{protocol}");
        was_told(&up, "another client is connected");
        let timers = std::fs::read_to_string("/proc/net/tcp").unwrap();
        // Timer 2 is keepalive: of the accepted socket, whose local port is ours.
        let ours = format!(":{:04X} ", up.at(0).port());
        let theirs = format!(":{:04X} ", first.local_addr().unwrap().port());
        let kept = timers.lines().any(|line| {
            let mut fields = line.split_whitespace().skip(1);
            let (local, remote) = (fields.next().unwrap_or(""), fields.next().unwrap_or(""));
            format!("{local} ").ends_with(&ours)
                && format!("{remote} ").ends_with(&theirs)
                && line.contains(" 02:")
        });
        assert!(kept, "{protocol}: no keepalive at\n{timers}");
    }
}

#[test]
fn one_address_leaves_places_for_others() {
    let (up, _far) = up("modbus-tcp", MODBUS, "max-clients = 4\nmax-clients-per-address = 2");
    let own: Vec<TcpStream> = (0..4).map(|_| connect(&up)).collect();
    until("four clients", || up.running.shared().health.clients().len() == 4);
    let mut more = connect(&up);
    assert!(is_closed(&mut more), "it has its share");
    was_told(&up, "4 clients are connected, 4 of them from its address");
    let socket =
        rustix::net::socket(rustix::net::AddressFamily::INET, rustix::net::SocketType::STREAM, None).unwrap();
    let other = std::net::SocketAddr::from(([127, 0, 0, 2], 0));
    rustix::net::bind(&socket, &other).unwrap();
    rustix::net::connect(&socket, &up.at(0)).unwrap();
    let mut other = TcpStream::from(socket);
    other.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
    was_told(&up, "its address has more than `max-clients-per-address`");
    other.write_all(&[0, 7, 0, 0, 0, 6, 1, 3, 0, 200, 0, 1]).unwrap();
    let mut answer = [0; 9];
    other.read_exact(&mut answer).unwrap();
    assert_eq!(answer[7..], [0x83, 11], "it is served; nothing was written yet");
    drop(own);
}

#[test]
fn writers_hold_for_what_is_passed_on_from_the_same_port() {
    let text = "[ports.raceway]\nserial = \"/dev/ttyUSB0\"\nline = \"115200 8E1\"\nprotocol = \"modbus-rtu\"\ntimeout = \"5s\"\n[devices.gauge]\nport = \"raceway\"\nunit = 23\ntables = { holding = 10 }\n[ports.office]\nlisten = \"0.0.0.0:502\"\nprotocol = \"modbus-tcp\"\nallow = [\"192.0.2.0/24\"]\n[images.scada]\nport = \"office\"\nunit = 1\nwriters = [\"192.0.2.20\"]\n[[map]]\nfrom = \"scada:400101\"\nto = \"scada:400201\"\n[[forward]]\nfrom = \"office\"\nunits = \"23\"\nto = \"raceway\"\n[clients.a]\nimage = \"scada\"\naddress = \"192.0.2.20\"\n[clients.b]\nimage = \"scada\"\naddress = \"192.0.2.21\"\n";
    let aliases: std::collections::HashMap<_, _> = [
        (std::net::Ipv4Addr::new(127, 0, 0, 1).into(), std::net::Ipv4Addr::new(192, 0, 2, 21)),
        (std::net::Ipv4Addr::new(127, 0, 0, 2).into(), std::net::Ipv4Addr::new(192, 0, 2, 20)),
    ]
    .into();
    let up = Up::start(text, true, |bindings| bindings.bench = Some(Arc::new(aliases)));
    let ask = |own: u8, request: &[u8]| {
        let socket =
            rustix::net::socket(rustix::net::AddressFamily::INET, rustix::net::SocketType::STREAM, None)
                .unwrap();
        rustix::net::bind(&socket, &std::net::SocketAddr::from(([127, 0, 0, own], 0))).unwrap();
        rustix::net::connect(&socket, &up.at(1)).unwrap();
        let mut stream = TcpStream::from(socket);
        stream.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
        stream.write_all(request).unwrap();
        let mut head = [0; 8];
        stream.read_exact(&mut head).unwrap();
        let mut rest = vec![0; usize::from(head[5]) - 2];
        stream.read_exact(&mut rest).unwrap();
        [&head[7..], &rest].concat()
    };
    let write = [0, 7, 0, 0, 0, 6, 23, 6, 0, 3, 0x12, 0x34];
    assert_eq!(ask(1, &write), [0x86, 2], "an address that may not write");
    let maker_s_own = [0, 7, 0, 0, 0, 3, 23, 65, 1];
    assert_eq!(ask(1, &maker_s_own), [0xC1, 2], "what is not known to read only may write");
    assert_eq!(ask(1, &[0, 7, 0, 0, 0, 6, 23, 3, 0, 3, 0, 1])[..2], [3, 2], "it may read");
    assert_eq!(ask(2, &write), [6, 0, 3, 0x12, 0x34], "and one that may write does");
}

/// A site with an image on each kind of port, whose writes go to a device that never answers.
fn slow_site(protocol: &str, port: &str) -> String {
    let address = if protocol == "fetch-write" { "%DB10.W0" } else { "400101" };
    let unit = if protocol.starts_with("modbus") { "unit = 1\n" } else { "" };
    format!(
        "[ports.pump]\nconnect = \"192.0.2.41:502\"\nprotocol = \"modbus-tcp\"\ntimeout = \"20s\"\n[devices.pump]\nport = \"pump\"\nunit = 1\n{port}[images.scada]\nport = \"office\"\n{unit}[[map]]\nfrom = \"scada:{address} as u16\"\nto = \"pump:400001 as u16\"\n"
    )
}

/// While a client's write waits for its device, what the client goes on to send stays on its way to us.
#[test]
fn a_peer_that_we_dial_cannot_fill_our_memory_while_its_write_waits() {
    let (mut request, mut data) = (vec![], vec![]);
    woodrush_wire::modbus::tcp::emit(7, 1, &[6, 0, 100, 0, 9], &mut request);
    woodrush_wire::modbus::tcp::emit(8, 1, &[3, 0, 100, 0, 1], &mut data);
    let silent = TcpListener::bind("127.0.0.1:0").unwrap();
    let peer = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = "[ports.office]\nconnect = \"192.0.2.42:502\"\nprotocol = \"modbus-tcp\"\n";
    let _up = Up::start(&slow_site("modbus-tcp", port), false, |bindings| {
        bindings.connect.insert(0, silent.local_addr().unwrap());
        bindings.connect.insert(1, peer.local_addr().unwrap());
    });
    let (_held, _) = silent.accept().unwrap();
    let (mut stream, _) = peer.accept().unwrap();
    stream.write_all(&request).unwrap();
    stream.set_nonblocking(true).unwrap();
    let many: Vec<u8> = data.into_iter().cycle().take(12 * 4096).collect();
    let (mut sent, mut refused) = (0, 0);
    while refused < 40 && sent < 64 << 20 {
        match stream.write(&many[sent % 12..]) {
            Ok(count) => (sent, refused) = (sent + count, 0),
            Err(_) => {
                refused += 1;
                std::thread::sleep(Duration::from_millis(5));
            }
        }
    }
    assert!(sent < 64 << 20, "somewhere it must end: {sent} bytes were taken");
}
