//! A changed project taken while it runs: what it touches changes at once, what it does not touch never notices.

use crate::live::{SMALL, Up, ask, until};
use std::io::{Read, Write};
use std::net::TcpStream;
use woodrush_core::protocol::{Extent, SpaceId};
use woodrush_engine::converter::Event;
use woodrush_wire::modbus::tcp;

fn write(stream: &mut TcpStream, unit: u8, offset: u16, value: u16) -> Vec<u8> {
    let ([high, low], [first, second]) = (offset.to_be_bytes(), value.to_be_bytes());
    let mut frame = vec![];
    tcp::emit(8, unit, &[6, high, low, first, second], &mut frame);
    stream.write_all(&frame).unwrap();
    let mut head = [0; 7];
    stream.read_exact(&mut head).unwrap();
    let mut pdu = vec![0; usize::from(head[5]) - 1];
    stream.read_exact(&mut pdu).unwrap();
    pdu
}

fn put(up: &Up, offset: u32, word: u16) {
    let extent = Extent { space: SpaceId(3), first: offset, count: 1 };
    up.rig.as_ref().unwrap().poke(0, extent, &word.to_be_bytes());
}

fn start(text: &str) -> (Up, TcpStream) {
    let up = Up::start(text, true, |_| {});
    up.rig.as_ref().unwrap().stand_still();
    put(&up, 0, 0x1111);
    let mut stream = TcpStream::connect(up.at(1)).unwrap();
    until("the first value", || ask(&mut stream, 1, 0, 1) == Ok(vec![0x1111]));
    (up, stream)
}

#[test]
fn a_rule_that_changes_its_form_shows_the_new_form_and_its_neighbour_nothing() {
    let (mut up, mut stream) = start(SMALL);
    write(&mut stream, 1, 100, 0x0BAD);
    up.reload(&SMALL.replace("from = \"gauge:400001\"", "from = \"gauge:400001 as u16 BA\""));
    assert_eq!(ask(&mut stream, 1, 200, 1), Ok(vec![0x0BAD]), "what a client wrote stays");
    put(&up, 0, 0x1234);
    until("the other order", || ask(&mut stream, 1, 0, 1) == Ok(vec![0x3412]));
}

#[test]
fn a_rule_that_moves_leaves_its_old_address_empty() {
    let (mut up, mut stream) = start(SMALL);
    up.reload(&SMALL.replace("to = \"scada:400001\"", "to = \"scada:400051\""));
    assert_eq!(ask(&mut stream, 1, 0, 1), Err(2), "never a last value where no rule feeds any more");
    until("the value at its new place", || ask(&mut stream, 1, 50, 1) == Ok(vec![0x1111]));
}

#[test]
fn what_a_client_wrote_is_kept_only_where_it_is_still_written() {
    let (mut up, mut stream) = start(SMALL);
    write(&mut stream, 1, 100, 7);
    assert_eq!(ask(&mut stream, 1, 200, 1), Ok(vec![7]));
    let moved = SMALL.replace("from = \"scada:400101\"", "from = \"scada:400111\"");
    up.reload(&moved);
    assert_eq!(write(&mut stream, 1, 100, 8), [0x86, 2], "nobody carries that on any more");
    assert_eq!(ask(&mut stream, 1, 200, 1), Err(11), "and nobody has written the new one");
    assert_eq!(write(&mut stream, 1, 110, 9)[0], 6);
    assert_eq!(ask(&mut stream, 1, 200, 1), Ok(vec![9]));
}

#[test]
fn a_new_device_is_asked_and_one_that_goes_is_not_missed() {
    let (mut up, mut stream) = start(SMALL);
    let two = format!(
        "{SMALL}[devices.blower]\nport = \"raceway\"\nunit = 24\npoll = \"50ms\"\n[[map]]\nfrom = \"blower:400001\"\nto = \"scada:400301\"\n"
    );
    // Nobody on this bench is unit 24: it is found to be lost, and only it.
    up.reload(&two);
    let lost = |up: &Up, device: usize| {
        up.told
            .lock()
            .unwrap()
            .iter()
            .any(|event| matches!(event, Event::DeviceLost { device: own, .. } if *own == device))
    };
    until("its loss", || lost(&up, 1));
    assert_eq!(ask(&mut stream, 1, 300, 1), Err(11));
    until("the other one's value", || ask(&mut stream, 1, 0, 1) == Ok(vec![0x1111]));
    up.reload(SMALL);
    assert_eq!(ask(&mut stream, 1, 300, 1), Err(2));
    put(&up, 0, 0x2222);
    until("polls as before", || ask(&mut stream, 1, 0, 1) == Ok(vec![0x2222]));
    assert!(!lost(&up, 0));
}

#[test]
fn a_device_at_another_unit_is_another_device() {
    let (mut up, mut stream) = start(SMALL);
    up.reload(&SMALL.replace("unit = 23", "unit = 99"));
    until("no value, since nobody is 99", || ask(&mut stream, 1, 0, 1) == Err(11));
    up.reload(SMALL);
    until("the value again", || ask(&mut stream, 1, 0, 1) == Ok(vec![0x1111]));
}

#[test]
fn a_forward_comes_and_goes_beside_the_polls() {
    let (mut up, mut stream) = start(SMALL);
    assert_eq!(ask(&mut stream, 23, 5, 1), Err(2), "the image answers for every unit that is nobody else's");
    let forwarded = format!("{SMALL}[[forward]]\nfrom = \"office\"\nunits = \"23\"\nto = \"raceway\"\n");
    up.reload(&forwarded);
    put(&up, 5, 0x5555);
    assert_eq!(ask(&mut stream, 23, 5, 1), Ok(vec![0x5555]), "straight from the device");
    let shut = forwarded.replace("to = \"raceway\"\n", "to = \"raceway\"\nfunctions = [4]\n");
    let last = shut.rfind("functions").unwrap();
    assert!(shut[..last].ends_with("to = \"raceway\"\n"));
    up.reload(&shut);
    assert_eq!(ask(&mut stream, 23, 5, 1), Err(1));
    up.reload(SMALL);
    assert_eq!(ask(&mut stream, 23, 5, 1), Err(2));
    // At once, but for a machine that stood still.
    until("the value", || ask(&mut stream, 1, 0, 1) == Ok(vec![0x1111]));
}

#[test]
fn a_hundred_changes_in_a_row_leave_one_converter() {
    let (mut up, mut stream) = start(SMALL);
    let other = SMALL.replace("to = \"scada:400001\"", "to = \"scada:400002\"");
    for round in 0..50 {
        up.reload(&other);
        assert_eq!(ask(&mut stream, 1, 0, 1), Err(2), "round {round}");
        up.reload(SMALL);
        assert_eq!(ask(&mut stream, 1, 1, 1), Err(2), "round {round}");
    }
    until("the value", || ask(&mut stream, 1, 0, 1) == Ok(vec![0x1111]));
    let events = up.told.lock().unwrap();
    assert!(
        !events.iter().any(|event| matches!(event, Event::PortDown { .. } | Event::DeviceLost { .. })),
        "{events:?}"
    );
}

/// A line with more to do than it can: there is never a moment without a request.
#[test]
fn a_line_that_is_never_idle_takes_a_changed_project() {
    let text = "[ports.raceway]\nserial = \"/dev/ttyUSB0\"\nline = \"9600 8N1\"\nprotocol = \"modbus-rtu\"\n[ports.office]\nlisten = \"0.0.0.0:502\"\nprotocol = \"modbus-tcp\"\nallow = [\"192.0.2.0/24\"]\n[devices.gauge]\nport = \"raceway\"\nunit = 7\npoll = \"10ms\"\n[images.scada]\nport = \"office\"\n[[map]]\nfrom = \"gauge:400001\"\nto = \"scada:400001\"\ncount = 20\n";
    let mut up = Up::start(text, true, |_| {});
    let mut stream = TcpStream::connect(up.at(1)).unwrap();
    until("the first value", || ask(&mut stream, 1, 0, 1).is_ok());
    up.reload(&text.replace("scada:400001", "scada:400101"));
    until("a value at its new place", || ask(&mut stream, 1, 100, 20).is_ok());
}

/// Sockets of networks are opened before anything is changed, as those of listening ports are.
#[test]
fn a_network_that_cannot_be_opened_changes_nothing_at_all() {
    let (mut up, mut stream) = start(SMALL);
    let network = "[ports.cell]\nnetwork = \"127.77.1.9\"\nprotocol = \"ethernet-ip\"\nallow = [\"192.0.2.0/24\"]\n[devices.gates]\nport = \"cell\"\naddress = \"127.77.1.62\"\ninputs = { assembly = 101, bytes = 2 }\noutputs = { assembly = 102, bytes = 2 }\nperiod = \"20ms\"\n";
    let rule = "[[map]]\nfrom = \"gates:%IW0 as u16 AB\"\nto = \"scada:400301\"\n";
    let moved = SMALL.replace("to = \"scada:400001\"", "to = \"scada:400051\"");
    let text = format!("{moved}{network}{rule}");
    let checked = crate::site::checked(&text);
    let plan = || std::sync::Arc::new(woodrush_core::plan::Plan::build(&checked.project, &mut vec![]));
    // Somebody else has one of its sockets.
    let taken = std::net::UdpSocket::bind("127.77.1.9:2222").unwrap();
    let before = up.running.shared();
    let refused = up.running.reload(&checked, plan()).unwrap_err();
    assert!(refused.to_string().contains("in use"), "{refused}");
    assert!(std::sync::Arc::ptr_eq(&before, &up.running.shared()), "not even a status field has changed");
    assert_eq!(ask(&mut stream, 1, 50, 1), Err(2));
    put(&up, 0, 0x7777);
    until("the old project's value", || ask(&mut stream, 1, 0, 1) == Ok(vec![0x7777]));
    // Once it is free the same project is taken, and a change of the port takes its sockets over.
    drop(taken);
    up.running.reload(&checked, plan()).unwrap();
    until("the value at its new place", || ask(&mut stream, 1, 50, 1) == Ok(vec![0x7777]));
    let other = format!("{moved}{network}[ports.cell.identity]\nvendor = 65521\n{rule}");
    let told = up.reload(&other);
    assert!(told.contains("1 closed, 1 opened"), "{told}");
    assert!(std::net::UdpSocket::bind("127.77.1.9:2222").is_err(), "its socket is still open");
}

/// While a device takes its time for a write, a changed project waits, and the write is confirmed.
#[test]
fn a_write_that_is_under_way_ends_before_the_project_changes() {
    let text = SMALL.replace("to = \"scada:400001\"", "to = \"scada:400001\"\naccess = \"read-write\"");
    let (mut up, mut stream) = start(&text);
    let slow =
        |device: &mut woodrush_engine::rig::SimDevice| device.set_fault(|faults| faults.slow = 300_000);
    up.rig.as_ref().unwrap().with_device(0, slow);
    let at = up.at(1);
    let writer = std::thread::spawn(move || {
        let mut stream = TcpStream::connect(at).unwrap();
        write(&mut stream, 1, 0, 0x4321)
    });
    std::thread::sleep(std::time::Duration::from_millis(100));
    up.reload(&text.replace("[devices.gauge]", "[devices.meter]").replace("gauge:", "meter:"));
    assert_eq!(writer.join().unwrap()[0], 6, "it was sent, and is answered as the device answers");
    until("the value", || ask(&mut stream, 1, 0, 1) == Ok(vec![0x4321]));
}
