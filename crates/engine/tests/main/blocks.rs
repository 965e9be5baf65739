//! A controller with data blocks, asked and played, and the converter as one.

use crate::live::{Up, ask, until};
use crate::proven::{proof, whys, wrong};
use crate::site::checked;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::Arc;
use woodrush_core::protocol::Extent;
use woodrush_engine::converter::Event;

/// Blocks onto registers, read and written, and what only comes by reading around it.
pub(crate) const ONTO_REGISTERS: &str = r#"
[ports.pump-house]
connect = "192.0.2.30:102"
protocol = "fetch-write"
local-tsap = "01.00"
remote-tsap = "01.02"
timeout = "500ms"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.pumps]
port = "pump-house"
poll = "50ms"
retry-lost = "100ms..500ms"
[images.scada]
port = "office"
[[map]]
from = "pumps:%DB10.D4 as f32"
to = "scada:400001"
[[map]]
from = "pumps:%DB10.W20"
to = "scada:400011"
count = 8
access = "read-write"
[[map]]
from = "pumps:DB10.DBW40"
to = "scada:400031 as i16 scale 0.1"
access = "read-write"
[[map]]
from = "pumps:%DB10.D44 as i32"
to = "scada:400041 as i32 DCBA"
access = "read-write"
[[map]]
from = "pumps:M10.3"
to = "scada:000001"
access = "read-write"
[[map]]
from = "pumps:%IX0.1"
to = "scada:100001"
[[map]]
from = "pumps:%DB10.B51"
to = "scada:400051"
access = "read-write"
[[map]]
from = "pumps:%C3"
to = "scada:400061"
count = 2
[[map]]
from = "pumps.health.online"
to = "scada:100002"
"#;

/// Registers onto blocks of an image and of a controller, and blocks onto blocks.
const ONTO_BLOCKS: &str = r#"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "115200 8E1"
protocol = "modbus-rtu"
timeout = "400ms"
[ports.pump-house]
connect = "192.0.2.30:102"
protocol = "fetch-write"
local-tsap = "01.00"
remote-tsap = "'FETCH01'"
timeout = "800ms"
[ports.plc]
listen = "0.0.0.0:102"
protocol = "fetch-write"
allow = ["192.0.2.0/24"]
[devices.gauge]
port = "raceway"
unit = 7
poll = "100ms"
retry-lost = "100ms..500ms"
[devices.pumps]
port = "pump-house"
poll = "100ms"
retry-lost = "100ms..500ms"
[images.blocks]
port = "plc"
local-tsap = "02.03"
[[map]]
from = "gauge:400001 as f32 CDAB"
to = "blocks:%DB1.D0"
[[map]]
from = "gauge:400011"
to = "blocks:%DB1.W10"
count = 8
access = "read-write"
[[map]]
from = "gauge:000001"
to = "blocks:%MX0.3"
access = "read-write"
[[map]]
from = "gauge:400031"
to = "blocks:%DB1.B31"
[[map]]
from = "gauge:400001 as f32 CDAB"
to = "pumps:%DB20.D0"
on-loss = "fill 0"
[[map]]
from = "gauge.health.online"
to = "pumps:%DB20.X8.0"
[[map]]
from = "pumps:%DB10.W0"
to = "blocks:%DB2.W0"
count = 20
[[map]]
from = "pumps:%DB10.D100 as f32"
to = "gauge:400101 as f32 CDAB"
"#;

#[test]
fn every_value_of_a_controller_with_blocks_is_proven_onto_registers() {
    let proof = proof(&Arc::new(checked(ONTO_REGISTERS)), |_| {});
    assert!(proof.holds(), "{:#?} {:?}", whys(&proof), proof.others);
}

#[test]
fn registers_are_proven_onto_blocks_and_blocks_onto_blocks() {
    let proof = proof(&Arc::new(checked(ONTO_BLOCKS)), |_| {});
    assert!(proof.holds(), "{:#?} {:?}", whys(&proof), proof.others);
}

#[test]
fn a_block_that_is_asked_one_word_beside_is_seen() {
    let spoilt = proof(&Arc::new(checked(ONTO_REGISTERS)), |plan| {
        let first = plan.transfers.iter_mut().find(|transfer| transfer.parts[0].first == 20).unwrap();
        let part = first.parts[0];
        first.parts = Arc::new([Extent { first: part.first + 2, ..part }]);
    });
    assert_eq!(wrong(&spoilt).0, [1], "{:#?}", whys(&spoilt));
}

/// The same with one connection for reading and one for writing.
pub(crate) fn two_ways(text: &str) -> String {
    let write_port = "[ports.pump-writes]\nconnect = \"192.0.2.30:103\"\nprotocol = \"fetch-write\"\nlocal-tsap = \"01.00\"\nremote-tsap = \"'WRITE01'\"\n";
    let text = text.replace("[devices.pumps]\n", "[devices.pumps]\nwrite-port = \"pump-writes\"\n");
    [&text, write_port].concat()
}

#[test]
fn a_controller_with_one_connection_each_is_proven_both_ways() {
    for text in [ONTO_REGISTERS, ONTO_BLOCKS] {
        let proof = proof(&Arc::new(checked(&two_ways(text))), |_| {});
        assert!(proof.holds(), "{:#?} {:?}", whys(&proof), proof.others);
    }
}

/// Bits of one byte that several clients write at once, read by the one connection and written by the other: none of
/// them undoes another.
#[test]
fn bits_of_one_byte_written_at_once_do_not_undo_each_other() {
    let bits: String = (0..8)
        .map(|bit| {
            format!(
                "[[map]]\nfrom = \"pumps:M20.{bit}\"\nto = \"scada:{:06}\"\naccess = \"read-write\"\n",
                101 + bit
            )
        })
        .collect();
    let up = Up::start(&two_ways(&[ONTO_REGISTERS, &bits].concat()), true, |_| {});
    up.rig.as_ref().unwrap().stand_still();
    let mut first = TcpStream::connect(up.at(1)).unwrap();
    until("the first value", || ask(&mut first, 1, 10, 1).is_ok());
    for on in [true, false, true] {
        std::thread::scope(|scope| {
            for bit in 0..8u8 {
                let mut stream = TcpStream::connect(up.at(1)).unwrap();
                scope.spawn(move || {
                    let value = if on == (bit % 2 == 0) { 0xFF } else { 0 };
                    let request = [0, 1, 0, 0, 0, 6, 1, 5, 0, 100 + bit, value, 0];
                    stream.write_all(&request).unwrap();
                    let mut answer = [0; 12];
                    stream.read_exact(&mut answer).unwrap();
                    assert_eq!(answer, request);
                });
            }
        });
        let wanted = if on { 0b0101_0101 } else { 0b1010_1010 };
        assert_eq!(peek(&up, "M", 20), Some(vec![wanted]));
    }
}

fn peek(up: &Up, space: &str, first: u32) -> Option<Vec<u8>> {
    let plan = &up.running.shared().plan;
    let at = plan.devices[0].spaces.id(space).unwrap();
    let extent = Extent { space: at, first, count: 1 };
    up.rig.as_ref().unwrap().peek(0, extent)
}

fn poke(up: &Up, space: &str, first: u32, cells: &[u8]) {
    let checked = checked(ONTO_REGISTERS);
    let at = checked.plan.devices[0].spaces.id(space).unwrap();
    let count = u32::try_from(cells.len()).unwrap();
    let extent = Extent { space: at, first, count };
    up.rig.as_ref().unwrap().poke(0, extent, cells);
}

fn start(text: &str) -> (Up, TcpStream) {
    let up = Up::start(text, true, |_| {});
    up.rig.as_ref().unwrap().stand_still();
    poke(&up, "DB10", 20, &[0x12, 0x34]);
    let mut stream = TcpStream::connect(up.at(1)).unwrap();
    until("the first value", || ask(&mut stream, 1, 10, 1) == Ok(vec![0x1234]));
    (up, stream)
}

fn downs(up: &Up) -> Vec<String> {
    let told = up.told.lock().unwrap();
    let why = |event: &Event| match event {
        Event::PortDown { why, .. } => Some(why.clone()),
        _ => None,
    };
    told.iter().filter_map(why).collect()
}

#[test]
fn a_connection_outlives_a_changed_project() {
    let (mut up, mut stream) = start(ONTO_REGISTERS);
    up.reload(
        &ONTO_REGISTERS
            .replace("poll = \"50ms\"", "poll = \"60ms\"")
            .replace("to = \"scada:400061\"", "to = \"scada:400071\""),
    );
    poke(&up, "DB10", 20, &[0x56, 0x78]);
    until("a value of the changed project", || ask(&mut stream, 1, 10, 1) == Ok(vec![0x5678]));
    until("the rule at its new place", || ask(&mut stream, 1, 70, 2).is_ok());
    assert_eq!(downs(&up), [""; 0], "nobody has closed anything");
}

#[test]
fn another_name_at_the_port_is_another_connection() {
    let (mut up, mut stream) = start(ONTO_REGISTERS);
    let told = up.reload(&ONTO_REGISTERS.replace("local-tsap = \"01.00\"", "local-tsap = \"01.01\""));
    assert!(told.contains("1 ports stay open, 1 closed, 1 opened"), "{told}");
    poke(&up, "DB10", 20, &[0x56, 0x78]);
    until("a value over the new connection", || ask(&mut stream, 1, 10, 1) == Ok(vec![0x5678]));
}

#[test]
fn a_controller_that_does_not_answer_is_called_anew_and_nothing_late_is_taken() {
    let (up, mut stream) = start(ONTO_REGISTERS);
    up.rig.as_ref().unwrap().mute(0, true);
    until("a refusal", || ask(&mut stream, 1, 10, 1) == Err(11));
    until("a new connection", || downs(&up).iter().any(|why| why.contains("no answer in time")));
    poke(&up, "DB10", 20, &[0xAB, 0xCD]);
    up.rig.as_ref().unwrap().mute(0, false);
    let mut seen = vec![];
    until("the new value", || {
        seen.extend(ask(&mut stream, 1, 10, 1).ok());
        seen.last() == Some(&vec![0xABCD])
    });
    assert!(seen.iter().all(|seen| *seen == [0xABCD]), "{seen:?}");
}

/// A controller's passive end that answers what it is told to, whatever it is asked.
fn stand_in(answer: fn(&mut TcpStream)) -> std::net::SocketAddr {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let at = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            answer(&mut stream.unwrap());
        }
    });
    at
}

#[test]
fn a_controller_that_refuses_the_connection_is_told_with_the_likely_cause() {
    let at = stand_in(|stream| {
        let mut asked = [0; 64];
        if stream.read(&mut asked).is_ok_and(|count| count > 0) {
            // Nobody listens at that TSAP.
            let _ = stream.write_all(&[3, 0, 0, 11, 6, 0x80, 0, 1, 0, 0, 2]);
        }
        let _ = stream.read(&mut asked);
    });
    let up = Up::start(ONTO_REGISTERS, false, |bindings| {
        bindings.connect.insert(0, at);
    });
    until("the reason", || {
        downs(&up).iter().any(|why| why.contains("no one listens at that TSAP (0x02); are local"))
    });
    let mut stream = TcpStream::connect(up.at(1)).unwrap();
    assert_eq!(ask(&mut stream, 1, 10, 1), Err(11));
}

#[test]
fn a_block_that_is_missing_is_an_exception_to_the_client_and_the_controllers_word_in_the_log() {
    let at = stand_in(|stream| {
        let mut chunk = [0; 256];
        while let Ok(count @ 1..) = stream.read(&mut chunk) {
            let answer: &[u8] = match chunk[5] {
                0xE0 => &[3, 0, 0, 11, 6, 0xD0, 0, 1, 0x44, 0x31, 0],
                // The block does not exist; everything is whole requests here, one at a time.
                _ if chunk[12] == 5 => {
                    &[3, 0, 0, 23, 2, 0xF0, 0x80, 0x53, 0x35, 16, 1, 3, 6, 15, 3, 2, 255, 7, 0, 0, 0, 0, 0]
                }
                _ => &[3, 0, 0, 23, 2, 0xF0, 0x80, 0x53, 0x35, 16, 1, 3, 4, 15, 3, 2, 255, 7, 0, 0, 0, 0, 0],
            };
            assert!(count < chunk.len());
            if stream.write_all(answer).is_err() {
                return;
            }
        }
    });
    let up = Up::start(ONTO_REGISTERS, false, |bindings| {
        bindings.connect.insert(0, at);
    });
    until("the controller's own word", || {
        let told = up.told.lock().unwrap();
        told.iter().any(|event| matches!(event, Event::Refused { refusal, .. } if refusal.native == Some(("block error", 2))))
    });
    let mut stream = TcpStream::connect(up.at(1)).unwrap();
    assert_eq!(ask(&mut stream, 1, 10, 1), Err(11), "there is no value");
    // A write is answered by a fitting exception: that address does not exist there.
    stream.write_all(&[0, 9, 0, 0, 0, 6, 1, 6, 0, 10, 0, 1]).unwrap();
    let mut answer = [0; 9];
    stream.read_exact(&mut answer).unwrap();
    assert_eq!(answer[7..], [0x86, 2]);
}
