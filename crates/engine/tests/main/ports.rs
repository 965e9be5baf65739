//! Ports of every kind on real ptys and sockets: proven whole, one after the other.

use crate::live::{SMALL, Up, ask, until};
use crate::site::checked;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::Arc;
use std::time::Duration;
use woodrush_core::plan::Plan;
use woodrush_engine::converter::Event;
use woodrush_engine::prove::prove;
use woodrush_wire::modbus::{rtu, tcp};

/// Everything at once: both roles, all framings, every kind of port.
const ALL: &str = r#"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "115200 8E1"
protocol = "modbus-rtu"
echo = true
[ports.hall]
serial = "/dev/ttyUSB1"
line = "115200 7E1"
protocol = "modbus-ascii"
[ports.pump]
connect = "192.0.2.40:502"
protocol = "modbus-tcp"
[ports.gate]
connect = "192.0.2.41:4001"
protocol = "modbus-rtu"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[ports.shed]
listen = "0.0.0.0:4002"
protocol = "modbus-ascii"
allow = ["192.0.2.0/24"]
[ports.panel]
serial = "/dev/ttyUSB2"
line = "115200 8E1"
protocol = "modbus-rtu"
[ports.local]
pty = "/tmp/woodrush-never-made"
protocol = "modbus-rtu"
[devices.gauge]
port = "raceway"
unit = 23
poll = "100ms"
[devices.blower]
port = "raceway"
unit = 24
poll = "100ms"
[devices.filter]
port = "hall"
unit = 5
poll = "100ms"
[devices.pump-1]
port = "pump"
unit = 1
poll = "100ms"
[devices.gate-1]
port = "gate"
unit = 9
poll = "100ms"
[images.scada]
port = "office"
unit = 1
[images.shed]
port = "shed"
[images.left]
port = "panel"
unit = 11
[images.right]
port = "panel"
unit = 12
[images.local]
port = "local"
unit = 3
[[map]]
from = "gauge:400001 as f32 CDAB"
to = "scada:400001 as f32 ABCD"
[[map]]
from = "filter:300001 as u16 scale 0.1"
to = "shed:400003 as f32"
[[map]]
from = "pump-1:400010 as u32 ABCD"
to = "scada:400005 as u32 CDAB"
access = "read-write"
[[map]]
from = "gate-1:400001"
to = "left:400007"
access = "read-write"
[[map]]
from = "gauge.health.online"
to = "right:000001"
[[map]]
from = "local:400101 as u16"
to = "blower:400020 as u16"
[[map]]
from = "pump-1:400020 as i16"
to = "blower:400021 as i16"
[[map]]
from = "left:400100"
to = "right:400100"
count = 3
[[forward]]
from = "office"
units = "24"
to = "raceway"
[[forward]]
from = "shed"
units = "101-102"
to = "hall"
as-units = "5-6"
[[forward]]
from = "local"
units = "50"
to = "gate"
as-units = "9"
[[forward]]
from = "panel"
units = "60"
to = "pump"
as-units = "1"
"#;

#[test]
fn every_kind_of_port_in_both_roles_is_proven_whole() {
    let checked = Arc::new(checked(ALL));
    let plan = Arc::new(Plan::build(&checked.project, &mut vec![]));
    let proof = prove(&checked, plan, &|_| Err(String::new()), &mut |_| {}).unwrap();
    let ill: Vec<_> =
        proof.rules.iter().filter(|rule| !rule.proven).map(|rule| (&rule.from, &rule.why)).collect();
    assert!(proof.holds(), "{ill:#?} {:#?}", proof.others);
    assert!(proof.others.iter().filter(|(what, _)| what.starts_with("forward")).count() == 4);
}

#[test]
fn a_fault_of_the_field_side_is_named_as_such() {
    const TWO: &str = r#"
[devices.filter]
port = "raceway"
unit = 5
line = "9600 7E1"
poll = "100ms"
[devices.gauge]
port = "raceway"
unit = 6
poll = "100ms"
[[map]]
from = "filter:400001"
to = "scada:400001"
[[map]]
from = "gauge:400001"
to = "scada:400002"
"#;
    let text = [crate::site::HEAD, TWO].concat();
    let checked =
        woodrush_core::check::check(woodrush_core::project::read("w", text, &mut |_| Err(String::new())));
    let checked = Arc::new(checked);
    let plan = Arc::new(Plan::build(&checked.project, &mut vec![]));
    let proof = prove(&checked, plan, &|_| Err(String::new()), &mut |_| {}).unwrap();
    let ill: Vec<_> = proof.rules.iter().filter(|rule| !rule.proven).collect();
    assert!(ill.len() == 1 && ill[0].from.starts_with("filter"), "{ill:#?}");
    let why = ill[0].why.as_deref().unwrap();
    assert!(why.starts_with("field side: `filter` alone") && why.contains("is set to 9600 7E1"), "{why}");
}

#[test]
fn a_changed_project_leaves_ports_connections_and_values_that_it_does_not_touch() {
    let mut up = Up::start(SMALL, true, |_| {});
    let mut stream = TcpStream::connect(up.at(1)).unwrap();
    until("a first value", || ask(&mut stream, 1, 0, 1).is_ok());
    let mut frame = vec![];
    tcp::emit(8, 1, &[6, 0, 100, 0x12, 0x34], &mut frame);
    stream.write_all(&frame).unwrap();
    stream.read_exact(&mut [0; 12]).unwrap();
    assert_eq!(ask(&mut stream, 1, 200, 1), Ok(vec![0x1234]));
    let more = format!("{SMALL}[[map]]\nfrom = \"gauge:400001\"\nto = \"scada:400301\"\n");
    let said = up.reload(&more);
    assert!(said.contains("2 ports stay open, 0 closed, 0 opened"), "{said}");
    // The connection stands, what a client wrote is still there, and no value was away for a moment.
    assert_eq!(ask(&mut stream, 1, 200, 1), Ok(vec![0x1234]));
    assert!(ask(&mut stream, 1, 0, 1).is_ok());
    until("the new rule's value", || ask(&mut stream, 1, 300, 1).is_ok());
    let lost = |event: &Event| matches!(event, Event::DeviceLost { .. } | Event::PortDown { .. });
    assert!(!up.told.lock().unwrap().iter().any(lost), "nobody noticed");
    // A rule that goes takes its address with it; a port that changes is opened anew.
    let less = SMALL
        .replace("[[map]]\nfrom = \"gauge:400001\"\nto = \"scada:400001\"\n", "")
        .replace("115200", "57600");
    let said = up.reload(&less);
    assert!(said.contains("1 ports stay open, 1 closed, 1 opened"), "{said}");
    assert_eq!(ask(&mut stream, 1, 0, 1), Err(2));
    assert_eq!(ask(&mut stream, 1, 200, 1), Ok(vec![0x1234]));
    // A port that is gone closes its connections.
    up.reload(
        &SMALL
            .replace("[ports.office]\nlisten", "[ports.hall]\nlisten")
            .replace("port = \"office\"", "port = \"hall\""),
    );
    until("the end of the connection", || stream.read(&mut [0; 1]).is_ok_and(|count| count == 0));
}

#[test]
fn a_lost_connection_is_told_once_and_made_again() {
    let text = r#"
[ports.pump]
connect = "192.0.2.40:502"
protocol = "modbus-tcp"
timeout = "200ms"
[devices.pump-1]
port = "pump"
unit = 1
poll = "50ms"
lost-after = 1000
retry-lost = "100ms..200ms"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[images.scada]
port = "office"
[[map]]
from = "pump-1:400001"
to = "scada:400001"
"#;
    let peer = TcpListener::bind("127.0.0.1:0").unwrap();
    let at = peer.local_addr().unwrap();
    let up = Up::start(text, false, |bindings| {
        bindings.connect.insert(0, at);
    });
    let answer = |count: usize| {
        let (mut stream, _) = peer.accept().unwrap();
        for _ in 0..count {
            let mut request = [0; 12];
            stream.read_exact(&mut request).unwrap();
            let answer = [request[0], request[1], 0, 0, 0, 5, 1, 3, 2, 0x12, 0x34];
            stream.write_all(&answer).unwrap();
        }
    };
    let mut reader = TcpStream::connect(up.at(1)).unwrap();
    for _ in 0..3 {
        answer(4);
        until("the value", || {
            ask(&mut reader, 1, 0, 1) == Ok(vec![0x1234]) || ask(&mut reader, 1, 0, 1).is_err()
        });
    }
    let told = up.told.lock().unwrap();
    let downs = told.iter().filter(|event| matches!(event, Event::PortDown { port: 0, .. })).count();
    let ups = told.iter().filter(|event| matches!(event, Event::PortUp { port: 0, .. })).count();
    assert!((2..=3).contains(&downs) && ups == 3, "{downs} {ups}");
}

#[test]
fn raw_bytes_pass_unchanged_for_one_client_at_a_time() {
    let text = r#"
[ports.office]
listen = "0.0.0.0:4001"
protocol = "raw"
allow = ["192.0.2.0/24"]
[ports.printer]
connect = "192.0.2.40:9100"
protocol = "raw"
[[forward]]
from = "office"
to = "printer"
"#;
    let peer = TcpListener::bind("127.0.0.1:0").unwrap();
    let at = peer.local_addr().unwrap();
    let up = Up::start(text, false, |bindings| {
        bindings.connect.insert(1, at);
    });
    let (mut far, _) = peer.accept().unwrap();
    let mut near = TcpStream::connect(up.at(0)).unwrap();
    let all: Vec<u8> = (0..=255).collect();
    near.write_all(&all).unwrap();
    let mut came = vec![0; 256];
    far.read_exact(&mut came).unwrap();
    assert_eq!(came, all);
    far.write_all(&all).unwrap();
    near.read_exact(&mut came).unwrap();
    assert_eq!(came, all);
    let mut second = TcpStream::connect(up.at(0)).unwrap();
    assert_eq!(second.read(&mut came).unwrap_or(0), 0, "turned away");
    drop(near);
    until("room for another", || {
        let mut third = TcpStream::connect(up.at(0)).unwrap();
        third.set_read_timeout(Some(Duration::from_millis(200))).unwrap();
        far.write_all(b"x").unwrap();
        third.read(&mut came).is_ok_and(|count| count > 0)
    });
}

#[test]
fn a_line_server_is_silent_for_others_and_tells_about_itself() {
    let text = SMALL
        .replace(
            "listen = \"0.0.0.0:502\"\nprotocol = \"modbus-tcp\"\nallow = [\"192.0.2.0/24\"]",
            "serial = \"/dev/ttyUSB9\"\nline = \"115200 8E1\"\nprotocol = \"modbus-rtu\"",
        )
        .replace("port = \"office\"", "port = \"office\"\nunit = 17");
    let up = Up::start(&text, true, |_| {});
    let station = up.running.shared().plan.images[0].clone();
    let rig = up.rig.as_ref().unwrap();
    let within = |patience: u64, unit: u16, body: Vec<u8>| {
        let mut client = rig.dial(1, "modbus-rtu", &station, None, patience).unwrap();
        client.pass(unit, woodrush_engine::speak::Message { code: body[0], body, writes: false })
    };
    // An answer is waited for, whatever else the machine does; silence only as long as it takes to be one.
    let pass = |unit: u16, body: Vec<u8>| within(5_000_000, unit, body);
    let silent = |unit: u16, body: Vec<u8>| within(300_000, unit, body).is_err();
    until("an answer", || pass(17, vec![3, 0, 0, 0, 1]).is_ok());
    assert!(silent(18, vec![3, 0, 0, 0, 1]), "another unit's affair");
    assert_eq!(pass(17, vec![8, 0, 0, 0xA5, 0x37]), Ok(vec![8, 0, 0, 0xA5, 0x37]), "function 8 echoes");
    let counter = pass(17, vec![8, 0, 14, 0, 0]).unwrap();
    assert!(counter[4] >= 2, "messages to this server: {counter:?}");
    assert_eq!(pass(17, vec![8, 0, 3, 0, 0]), Ok(vec![0x88, 1]));
    let identified = pass(17, vec![43, 14, 1, 0]).unwrap();
    assert!(identified.windows(8).any(|part| part == b"Woodrush"), "{identified:?}");
    assert_eq!(pass(17, vec![43, 14, 4, 9]), Ok(vec![0xAB, 2]));
    assert_eq!(pass(17, vec![24, 0, 0]), Ok(vec![0x98, 1]));
    assert!(silent(17, vec![8, 0, 4, 0, 0]), "listen-only is never answered");
    assert!(silent(17, vec![3, 0, 0, 0, 1]), "and then nothing is");
    assert!(silent(17, vec![8, 0, 1, 0, 0]), "the restart that ends it neither");
    assert!(pass(17, vec![3, 0, 0, 0, 1]).is_ok());
}

#[test]
fn mbap_on_a_port_for_rtu_and_rtu_on_one_for_mbap_are_named() {
    let text = SMALL.replace("[images.scada]", "[ports.shed]\nlisten = \"0.0.0.0:4001\"\nprotocol = \"modbus-rtu\"\nallow = [\"192.0.2.0/24\"]\n[images.shed]\nport = \"shed\"\n[images.scada]");
    let up = Up::start(&text, true, |_| {});
    let (mut mbap, mut framed) = (vec![], vec![]);
    tcp::emit(1, 17, &[3, 0, 0, 0, 1], &mut mbap);
    rtu::emit(17, &[3, 0, 0x6B, 0, 3], &mut framed);
    for (port, bytes, words) in [(2, mbap, "MBAP messages where RTU"), (1, framed, "RTU frames on an MBAP")] {
        let mut stream = TcpStream::connect(up.at(port)).unwrap();
        stream.write_all(&bytes).unwrap();
        assert_eq!(stream.read(&mut [0; 9]).unwrap_or(0), 0, "closed without an answer");
        until(words, || {
            let told = up.told.lock().unwrap();
            told.iter().any(|event| matches!(event, Event::Client { why, .. } if why.contains(words)))
        });
    }
}

/// A firewall that forgot the connection, or a gateway whose socket hangs: nobody closes anything.
#[test]
fn a_connection_on_which_nothing_is_answered_is_made_again() {
    let text = SMALL
        .replace(
            "serial = \"/dev/ttyUSB0\"\nline = \"115200 8E1\"\nprotocol = \"modbus-rtu\"",
            "connect = \"192.0.2.40:502\"\nprotocol = \"modbus-tcp\"\ntimeout = \"50ms\"",
        )
        .replace("poll = \"50ms\"", "poll = \"50ms\"\nlost-after = 2\nretry-lost = \"50ms..100ms\"");
    let peer = TcpListener::bind("127.0.0.1:0").unwrap();
    let at = peer.local_addr().unwrap();
    let up = Up::start(&text, false, |bindings| {
        bindings.connect.insert(0, at);
    });
    // The first one is taken, and never read: it stays open until the end.
    let (_silent, _) = peer.accept().unwrap();
    let (mut second, _) = peer.accept().unwrap();
    let answers = std::thread::spawn(move || {
        let mut request = [0; 12];
        while second.read_exact(&mut request).is_ok() {
            let answer = [request[0], request[1], 0, 0, 0, 5, request[6], 3, 2, 0x12, 0x34];
            if second.write_all(&answer).is_err() {
                return;
            }
        }
    });
    let mut reader = TcpStream::connect(up.at(1)).unwrap();
    until("the value", || ask(&mut reader, 1, 0, 1) == Ok(vec![0x1234]));
    let why = up.told.lock().unwrap().iter().find_map(|event| match event {
        Event::PortDown { port: 0, why } => Some(why.clone()),
        _ => None,
    });
    assert!(why.as_ref().is_some_and(|why| why.contains("were not answered")), "{why:?}");
    drop(up);
    answers.join().unwrap();
}

/// Five machines that are off: each attempt to connect takes its two seconds, and the start waits for none of them.
#[test]
fn the_start_waits_for_no_peer_that_does_not_answer() {
    use rustix::net::{AddressFamily, SocketType, bind, listen, socket};
    // A socket whose queue is full answers nothing.
    let silent = || {
        let own = socket(AddressFamily::INET, SocketType::STREAM, None).unwrap();
        bind(&own, &std::net::SocketAddr::from(([127, 0, 0, 1], 0))).unwrap();
        listen(&own, 0).unwrap();
        let own = std::net::TcpListener::from(own);
        let at = own.local_addr().unwrap();
        let full: Vec<_> = (0..3)
            .map(|_| std::net::TcpStream::connect_timeout(&at, std::time::Duration::from_millis(50)))
            .collect();
        (own, at, full)
    };
    let peers: Vec<_> = (0..5).map(|_| silent()).collect();
    let mut text = String::from(
        "[ports.office]\nlisten = \"0.0.0.0:502\"\nprotocol = \"modbus-tcp\"\nallow = [\"192.0.2.0/24\"]\n[images.scada]\nport = \"office\"\n",
    );
    for at in 1..=5 {
        text += &format!(
            "[ports.p{at}]\nconnect = \"192.0.2.{at}:502\"\nprotocol = \"modbus-tcp\"\n[devices.d{at}]\nport = \"p{at}\"\nunit = 1\npoll = \"1s\"\n[[map]]\nfrom = \"d{at}:400001\"\nto = \"scada:40000{at}\"\n"
        );
    }
    let up = Up::start(&text, false, |bindings| {
        bindings.connect = peers.iter().enumerate().map(|(at, (_, to, _))| (at + 1, *to)).collect();
    });
    let told = |up: &Up, down: bool| {
        let events = up.told.lock().unwrap();
        let counts = |event: &&Event| match event {
            Event::PortDown { .. } => down,
            Event::PortUp { .. } => !down,
            _ => false,
        };
        events.iter().filter(counts).count()
    };
    assert_eq!((told(&up, false), told(&up, true)), (1, 0), "the office serves, and nobody was waited for");
    until("all five are told", || told(&up, true) == 5);
}
