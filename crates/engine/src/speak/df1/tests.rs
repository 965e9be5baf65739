//! The two machines against the vectors' bytes, against each other, and against noise.

use super::client::TableClient;
use super::{FULL, HALF};
use crate::Moment;
use crate::speak::{Act, Ask, Client, ClientSetup, News, Serve, Server, ServerSetup, Ticket, Want};
use proptest::prelude::*;
use serde_json::Value;
use std::sync::Arc;
use woodrush_core::budget::LineTime;
use woodrush_core::plan::Station;
use woodrush_core::protocol::{AddressContext, Extent, Setup, Spaces, dialect};
use woodrush_core::{Blame, Kind, Refusal};

const LINE: LineTime = LineTime {
    char_nanos: 0,
    frame_gap: 0,
    own_frame_gap: 0,
    timeout: 3_000_000,
    turnaround: 0,
    hurry: false,
};

fn hex(text: &str) -> Vec<u8> {
    text.split_whitespace().map(|pair| u8::from_str_radix(pair, 16).unwrap()).collect()
}

fn vector(name: &str) -> Vec<u8> {
    let all: Value =
        serde_json::from_str(include_str!("../../../../wire/testdata/vectors-df1.json")).unwrap();
    let found = all.as_array().unwrap().iter().find(|v| v["name"] == name);
    hex(found.unwrap_or_else(|| panic!("no vector {name}"))["hex"].as_str().unwrap())
}

const FILES: [&str; 12] = [
    "N7:0", "F8:0", "B3:0", "T4:0.ACC", "C5:0.PRE", "ST9:0", "L10:0", "I:1", "O:0", "T4:0", "T4:0.PRE",
    "N10:0",
];

fn spaces(octal: bool) -> Arc<Spaces> {
    let tables = dialect("df1").unwrap();
    let setup = family(octal);
    let mut all = Spaces::default();
    for text in FILES.iter().filter(|text| !octal || **text != "L10:0") {
        all.add(&tables.notation().parse(text, &AddressContext::of_device(&setup)).unwrap().space);
    }
    Arc::new(all)
}

fn family(octal: bool) -> Setup {
    let words = if octal { vec![("io-addresses", "octal".to_string())] } else { vec![] };
    Setup { numbers: vec![("node", 1)], words, ..Setup::default() }
}

fn port(check: &str) -> Setup {
    Setup {
        numbers: vec![("ack-timeout", 200_000)],
        words: vec![("check-field", check.into())],
        ..Setup::default()
    }
}

fn client(half: bool, octal: bool, check: &str, node: u32, tns: u16) -> TableClient {
    client_with(half, octal, check, node, tns, 0)
}

fn client_with(half: bool, octal: bool, check: &str, node: u32, tns: u16, retries: u32) -> TableClient {
    let setup = Setup { numbers: vec![("node", node)], ..family(octal) };
    let station =
        Station { name: "feeder".into(), port: 0, dialect: dialect("df1"), setup, spaces: spaces(octal) };
    let port = port(check);
    let setup =
        ClientSetup { stations: &[station], line: LINE, retries, port: &port, first: tns.wrapping_sub(1) };
    TableClient::new(&setup, half)
}

fn server(half: bool, check: &str, node: u16) -> Box<dyn Server> {
    let setup = ServerSetup {
        units: Some(vec![node]),
        stations: vec![(Some(node), spaces(false))],
        own: port(check),
        ..ServerSetup::default()
    };
    (if half { HALF } else { FULL }.server.unwrap())(&setup)
}

/// An address with so many grains.
fn at(text: &str, count: u32, octal: bool) -> Extent {
    let address =
        dialect("df1").unwrap().notation().parse(text, &AddressContext::of_device(&family(octal))).unwrap();
    let space = spaces(octal).id(&address.space.key).unwrap();
    Extent { space, first: address.first, count }
}

fn sent(client: &mut dyn Client, now: Moment) -> Vec<u8> {
    match client.poll(now) {
        Act::Send(bytes) => bytes,
        other => panic!("{other:?}"),
    }
}

fn done(client: &mut dyn Client, now: Moment) -> Result<Vec<u8>, Refusal> {
    match client.poll(now) {
        Act::Done(_, result) => result.map(|got| got.cells),
        other => panic!("{other:?}"),
    }
}

/// A message in its full-duplex frame.
fn framed(message: &[u8]) -> Vec<u8> {
    let mut out = vec![];
    woodrush_wire::df1::emit_message(message, woodrush_wire::df1::Check::Crc, &mut out);
    out
}

const ACK: [u8; 2] = [0x10, 0x06];
const NAK: [u8; 2] = [0x10, 0x15];
const ENQ: [u8; 2] = [0x10, 0x05];
const EOT: [u8; 2] = [0x10, 0x04];

#[test]
fn commands_are_the_bytes_of_the_vectors_and_replies_are_cells() {
    let read = |extent| Ask::read(0, extent);
    let write = |extent, cells: &str| Ask::Write { station: 0, extent, cells: hex(cells) };
    let change =
        |extent, keep: &str, set: &str| Ask::Change { station: 0, extent, keep: hex(keep), set: hex(set) };
    for (name, octal, ask, cells) in [
        ("read-N7-0", false, read(at("N7:0", 1, false)), "04 D2"),
        ("read-N7-10-13", false, read(at("N7:10", 4, false)), "10 10 03 10 FF FF 00 02"),
        ("read-F8-2", false, read(at("F8:2", 1, false)), "C1 4A 00 00"),
        ("read-T4-0-ACC", false, read(at("T4:0.ACC", 1, false)), "00 39"),
        ("read-T4-0-DN", false, read(at("T4:0", 1, false)), "20 00"),
        ("read-L10-1", false, read(at("L10:1", 1, false)), "F8 A4 32 EB"),
        ("read-I-1", false, read(at("I:1", 1, false)), "00 88"),
        ("write-N7-5", false, write(at("N7:5", 1, false), "FF FE"), ""),
        ("write-N7-20-22", false, write(at("N7:20", 3, false), "02 10 03 10 10 03"), ""),
        ("write-F8-0", false, write(at("F8:0", 1, false), "41 8B AE 14"), ""),
        ("write-C5-1-PRE", false, write(at("C5:1.PRE", 1, false), "01 F4"), ""),
        ("write-L10-0", false, write(at("L10:0", 1, false), "12 34 56 78"), ""),
        ("mask-set-B3-21", false, change(at("B3:1", 1, false), "FF DF", "00 20"), ""),
        ("mask-clear-B3-21", false, change(at("B3:1", 1, false), "FF DF", "00 00"), ""),
        ("wrr-N7-0", true, read(at("N7:0", 3, true)), "00 0B 00 16 00 21"),
        ("wrw-N7-0", true, write(at("N7:0", 2, true), "00 64 00 C8"), ""),
        ("wrr-I-001", true, read(at("I:001", 1, true)), "00 80"),
        ("wrr-T4-3-PRE", true, read(at("T4:3.PRE", 1, true)), "02 58"),
        ("rmw-O-017-12", true, change(at("O:017", 1, true), "FB FF", "04 00"), ""),
    ] {
        let (command, reply) = (vector(&format!("cmd-{name}")), vector(&format!("rsp-{name}")));
        let tns = u16::from_le_bytes([command[4], command[5]]);
        let (mut client, now) = (client(false, octal, "crc", 1, tns), Moment(0));
        client.ask(Ticket(1), ask);
        assert_eq!(sent(&mut client, now), framed(&command), "{name}");
        assert_eq!(client.poll(now), Act::WaitUntil(now + 200_000), "{name}: asking again changes nothing");
        client.handle(now, News::Bytes(&ACK));
        client.handle(now, News::Bytes(&framed(&reply)));
        assert_eq!(sent(&mut client, now), ACK, "{name}");
        assert_eq!(done(&mut client, now), Ok(hex(cells)), "{name}");
    }
}

#[test]
fn a_string_comes_as_its_characters_and_nothing_behind_its_length() {
    let (mut client, now) = (client(false, false, "crc", 1, 0x123E), Moment(0));
    client.ask(Ticket(1), Ask::read(0, at("ST9:0", 41, false)));
    assert_eq!(sent(&mut client, now), framed(&vector("cmd-read-ST9-0")));
    client.handle(now, News::Bytes(&framed(&vector("rsp-read-ST9-0"))));
    assert_eq!(sent(&mut client, now), ACK);
    let text = done(&mut client, now).unwrap();
    assert_eq!((text.len(), &text[..12]), (82, &b"SALLOW BECK\0"[..]));
    assert!(text[11..].iter().all(|byte| *byte == 0));
}

#[test]
fn one_part_of_several_elements_comes_with_the_elements() {
    let (mut client, now) = (client(false, false, "crc", 1, 7), Moment(0));
    client.ask(Ticket(1), Ask::read(0, at("T4:2.ACC", 3, false)));
    let asked = hex("01 00 0F 00 07 00 A2 12 04 86 02 00");
    assert_eq!(sent(&mut client, now), framed(&asked));
    let timers = "00 A0 64 00 01 00  00 00 64 00 02 00  00 00 64 00 03 01";
    client.handle(now, News::Bytes(&framed(&[hex("00 01 4F 00 07 00"), hex(timers)].concat())));
    assert_eq!(sent(&mut client, now), ACK);
    assert_eq!(done(&mut client, now), Ok(hex("00 01 00 02 01 03")));
}

#[test]
fn one_bit_of_a_long_is_read_changed_and_written() {
    let (mut client, now) = (client(false, false, "crc", 1, 7), Moment(0));
    let (keep, set) = (hex("FF FD FF FF"), hex("00 02 00 00"));
    client.ask(Ticket(1), Ask::Change { station: 0, extent: at("L10:1", 1, false), keep, set });
    assert_eq!(sent(&mut client, now), framed(&hex("01 00 0F 00 07 00 A2 04 0A 91 01 00")));
    client.handle(now, News::Bytes(&framed(&hex("00 01 4F 00 07 00 78 56 34 12"))));
    assert_eq!(sent(&mut client, now), ACK);
    assert_eq!(sent(&mut client, now), framed(&hex("01 00 0F 00 08 00 AA 04 0A 91 01 00 78 56 36 12")));
    client.handle(now, News::Bytes(&framed(&hex("00 01 4F 00 08 00"))));
    assert_eq!((sent(&mut client, now), done(&mut client, now)), (ACK.to_vec(), Ok(vec![])));
}

#[test]
fn the_link_tries_again_with_the_same_number_and_then_gives_up() {
    let (mut client, mut now) = (client(false, false, "crc", 1, 7), Moment(0));
    let ask = || Ask::read(0, at("N7:0", 1, false));
    client.ask(Ticket(1), ask());
    let frame = sent(&mut client, now);
    assert!(!client.said_before());
    for _ in 0..3 {
        client.handle(now, News::Bytes(&NAK));
        assert_eq!(sent(&mut client, now), frame);
        assert!(client.said_before(), "the station may have taken the first one");
    }
    client.handle(now, News::Bytes(&NAK));
    assert_eq!(done(&mut client, now).unwrap_err().kind, Kind::Damaged);
    // Silence: asked three times for the response, then given up.
    client.ask(Ticket(2), ask());
    assert_ne!(sent(&mut client, now), frame, "a new command has another number");
    assert!(!client.said_before());
    for _ in 0..3 {
        now = now + 200_000;
        assert_eq!(sent(&mut client, now), ENQ);
        assert!(client.said_before());
    }
    now = now + 200_000;
    assert_eq!(done(&mut client, now).unwrap_err().kind, Kind::NoAnswer);
    // Acknowledged, and no reply.
    client.ask(Ticket(3), ask());
    sent(&mut client, now);
    client.handle(now, News::Bytes(&ACK));
    assert_eq!(client.poll(now), Act::WaitUntil(now + 3_000_000));
    assert_eq!(done(&mut client, now + 3_000_000).unwrap_err().kind, Kind::NoAnswer);
    // The reply to that one comes late: acknowledged and dropped.
    now = now + 3_500_000;
    client.ask(Ticket(4), ask());
    sent(&mut client, now);
    client.handle(now, News::Bytes(&framed(&hex("00 01 4F 00 09 00 11 11"))));
    assert_eq!(sent(&mut client, now), ACK);
    client.handle(now, News::Bytes(&framed(&hex("00 01 4F 00 0A 00 22 22"))));
    assert_eq!((sent(&mut client, now), done(&mut client, now)), (ACK.to_vec(), Ok(hex("22 22"))));
}

#[test]
fn a_read_whose_reply_is_lost_is_made_anew_and_a_write_is_not() {
    let (mut client, now) = (client_with(false, false, "crc", 1, 7, 1), Moment(0));
    client.ask(Ticket(1), Ask::read(0, at("N7:0", 1, false)));
    assert_eq!(sent(&mut client, now), framed(&hex("01 00 0F 00 07 00 A2 02 07 89 00 00")));
    client.handle(now, News::Bytes(&ACK));
    let now = now + 3_000_000;
    assert_eq!(sent(&mut client, now), framed(&hex("01 00 0F 00 08 00 A2 02 07 89 00 00")));
    assert!(!client.said_before(), "a command of its own, with an answer of its own");
    client.handle(now, News::Bytes(&framed(&hex("00 01 4F 00 08 00 D2 04"))));
    assert_eq!((sent(&mut client, now), done(&mut client, now)), (ACK.to_vec(), Ok(hex("04 D2"))));
    client.ask(Ticket(2), Ask::Write { station: 0, extent: at("N7:0", 1, false), cells: hex("00 01") });
    sent(&mut client, now);
    client.handle(now, News::Bytes(&ACK));
    assert_eq!(done(&mut client, now + 3_000_000).unwrap_err().kind, Kind::NoAnswer);
}

#[test]
fn what_the_other_end_says_is_acknowledged_refused_and_said_again() {
    let (mut client, now) = (client(false, false, "bcc", 1, 0x1236), Moment(0));
    // Nothing was said yet.
    client.handle(now, News::Bytes(&ENQ));
    assert_eq!(sent(&mut client, now), NAK);
    client.ask(Ticket(1), Ask::read(0, at("N7:0", 1, false)));
    assert_eq!(sent(&mut client, now), vector("fd-bcc-cmd-read-N7-0"));
    client.handle(now, News::Bytes(&vector("fd-bad-bcc")));
    assert_eq!(sent(&mut client, now), NAK, "a damaged message");
    // An acknowledgement inside the reply, the reply twice, and a question for what was said to it.
    client.handle(now, News::Bytes(&vector("fd-stream-embedded-ack")));
    assert_eq!((sent(&mut client, now), done(&mut client, now)), (ACK.to_vec(), Ok(hex("04 D2"))));
    client.handle(now, News::Bytes(&vector("fd-bcc-rsp-read-N7-0")));
    assert_eq!(sent(&mut client, now), ACK);
    client.handle(now, News::Bytes(&ENQ));
    assert_eq!((sent(&mut client, now), client.poll(now)), (ACK.to_vec(), Act::Rest));
}

#[test]
fn a_controllers_status_is_a_refusal_in_words() {
    for (name, kind, code) in [
        ("err-10", Kind::Fault, 0x10),
        ("err-50", Kind::NoSuchAddress, 0x50),
        ("err-70", Kind::Fault, 0x70),
        ("err-F0-06", Kind::NoSuchAddress, 256 + 0x06),
        ("err-F0-0B", Kind::Fault, 256 + 0x0B),
        ("err-F0-1A", Kind::Fault, 256 + 0x1A),
        ("err-02", Kind::NoAnswer, 0x02),
    ] {
        let command = vector(&format!("cmd-{name}"));
        let tns = u16::from_le_bytes([command[4], command[5]]);
        let (mut client, now) = (client(false, false, "crc", 1, tns), Moment(0));
        client.ask(Ticket(1), Ask::read(0, at("N7:0", 1, false)));
        assert_eq!(sent(&mut client, now), framed(&command));
        client.handle(now, News::Bytes(&framed(&vector(&format!("rsp-{name}")))));
        assert_eq!(sent(&mut client, now), ACK);
        let refusal = Refusal::new(kind, Blame::Device).with_native("data table status", code);
        assert_eq!(done(&mut client, now), Err(refusal), "{name}");
    }
    let shown = woodrush_core::protocol::refusal_shown;
    assert_eq!(shown(("data table status", 0x70)), "STS 0x70, the controller is in program mode");
    assert_eq!(shown(("data table status", 256 + 0x0B)), "EXT STS 0x0B, access denied: privilege");
}

#[test]
fn a_master_speaks_to_a_station_polls_it_and_takes_its_message() {
    let (mut client, mut now) = (client(true, false, "crc", 5, 0x2001), Moment(0));
    client.ask(Ticket(1), Ask::read(0, at("N7:0", 1, false)));
    let frame = vector("hd-crc-master");
    assert_eq!(sent(&mut client, now), frame);
    // No acknowledgement: the same again.
    now = now + 200_000;
    assert_eq!(sent(&mut client, now), frame);
    client.handle(now, News::Bytes(&ACK));
    assert_eq!(sent(&mut client, now), vector("hd-poll-05"));
    client.handle(now, News::Bytes(&EOT));
    let Act::WaitUntil(again) = client.poll(now) else { panic!() };
    now = again;
    assert_eq!(sent(&mut client, now), vector("hd-poll-05"));
    // A damaged message is polled for again, in silence.
    let mut damaged = vector("hd-crc-slave");
    damaged[6] ^= 1;
    client.handle(now, News::Bytes(&damaged));
    assert_eq!(sent(&mut client, now), vector("hd-poll-05"));
    client.handle(now, News::Bytes(&vector("hd-crc-slave")));
    assert_eq!((sent(&mut client, now), done(&mut client, now)), (ACK.to_vec(), Ok(hex("04 D2"))));
    // Nobody polled for this one.
    client.handle(now, News::Bytes(&vector("hd-crc-slave")));
    assert_eq!(client.poll(now), Act::Rest);
}

#[test]
fn a_slave_is_silent_unless_it_is_meant_and_does_nothing_twice() {
    let (mut server, now) = (server(true, "crc", 5), Moment(0));
    let mut say = |bytes: &[u8]| {
        server.handle(now, News::Bytes(bytes));
        let (mut out, mut wants) = (vec![], 0);
        loop {
            match server.poll(now) {
                Serve::Send(bytes) => out.extend(bytes),
                Serve::Want { want: Want::Read(_), .. } => {
                    wants += 1;
                    server.give(Ok(&[0x04, 0xD2]));
                }
                Serve::Rest => return (out, wants),
                other => panic!("{other:?}"),
            }
        }
    };
    assert_eq!(say(&vector("hd-poll-11")), (vec![], 0), "another station");
    assert_eq!(say(&vector("hd-poll-05")), (EOT.to_vec(), 0));
    assert_eq!(say(&vector("hd-crc-master-data-only")), (vec![], 0), "a wrong check");
    assert_eq!(say(&vector("hd-crc-master")), (ACK.to_vec(), 1));
    assert_eq!(
        say(&vector("hd-crc-master")),
        (ACK.to_vec(), 0),
        "the same again: its acknowledgement was lost"
    );
    assert_eq!(say(&vector("hd-poll-05")), (vector("hd-crc-slave"), 0));
    assert_eq!(say(&vector("hd-poll-05")), (vector("hd-crc-slave"), 0), "not acknowledged: said again");
    assert_eq!(say(&ACK), (vec![], 0));
    assert_eq!(say(&vector("hd-poll-05")), (EOT.to_vec(), 0));
}

#[test]
fn a_controller_answers_by_file_type_and_part() {
    let ask = |body: &str| {
        let (mut server, now) = (server(false, "crc", 1), Moment(0));
        server.handle(now, News::Bytes(&framed(&[hex("01 00 0F 00 07 00"), hex(body)].concat())));
        let mut out = vec![];
        loop {
            match server.poll(now) {
                Serve::Send(bytes) => out.extend(bytes),
                Serve::Want { want: Want::Read(extent), .. } => {
                    let cells: Vec<u8> = (0..extent.count)
                        .flat_map(|n| {
                            [
                                0x10 + u8::try_from(extent.space.0).unwrap(),
                                u8::try_from(extent.first + n).unwrap(),
                            ]
                        })
                        .collect();
                    server.give(Ok(&cells));
                }
                Serve::Want { want: Want::Write { .. } | Want::Change(_), .. } => server.give(Ok(&[])),
                _ => break,
            }
        }
        assert_eq!(out[..2], ACK);
        out.split_off(2)
    };
    let reply = |sts: u8, data: &str| framed(&[vec![0, 1, 0x4F, sts, 7, 0], hex(data)].concat());
    assert_eq!(ask("A2 02 07 89 03 00"), reply(0, "03 10"));
    assert_eq!(ask("A1 02 07 89 03"), reply(0, "03 10"), "two fields");
    assert_eq!(ask("A2 02 07 8A 03 00"), reply(0xF0, "17"), "another type");
    assert_eq!(ask("A2 02 63 89 03 00"), reply(0xF0, "06"), "no such file");
    // Whole timers: control, preset, accumulator.
    assert_eq!(ask("A2 06 04 86 02 00"), reply(0, "02 19 02 1A 02 13"));
    assert_eq!(ask("A2 02 04 86 02 02"), reply(0, "02 13"));
    assert_eq!(ask("A2 04 04 86 02 00"), reply(0x10, ""), "two thirds of a timer");
    assert_eq!(ask("01 00 00 02 00 06 07 05 04"), reply(0, "05 10 06 10"));
    assert_eq!(ask("AA 02 07 89 05 00 FE FF"), reply(0, ""));
    assert_eq!(ask("26 06 07 05 FF FF 00 04"), reply(0, ""));
    assert_eq!(ask("3A"), reply(0x10, ""), "a mode change is not for us");
    assert_eq!(ask("A2 02 07"), reply(0x10, ""), "cut short");
}

/// Lets the two talk over a line that damages what `spoil` says; gives the result and how often the server was asked to
/// write.
fn talk(half: bool, ask: Ask, mut spoil: impl FnMut(&mut Vec<u8>)) -> (Result<Vec<u8>, Refusal>, u32) {
    let (mut client, mut server) = (client(half, false, "crc", 5, 99), server(half, "crc", 5));
    let (mut now, mut writes) = (Moment(0), 0);
    client.ask(Ticket(1), ask);
    loop {
        let mut next = match client.poll(now) {
            Act::Done(_, result) => return (result.map(|got| got.cells), writes),
            Act::Send(mut bytes) => {
                spoil(&mut bytes);
                server.handle(now, News::Bytes(&bytes));
                now
            }
            Act::WaitUntil(moment) => moment,
            Act::Rest => Moment::NEVER,
            Act::HangUp(why) => panic!("{why}"),
            Act::Came(..) | Act::Stopped(..) | Act::Tell(_) => panic!("nothing comes by itself"),
        };
        next = match server.poll(now) {
            Serve::Send(mut bytes) => {
                spoil(&mut bytes);
                client.handle(now, News::Bytes(&bytes));
                now
            }
            Serve::Want { want: Want::Write { .. }, .. } => {
                writes += 1;
                server.give(Ok(&[]));
                now
            }
            Serve::Want { .. } => {
                server.give(Ok(&[0x12, 0x34]));
                now
            }
            Serve::WaitUntil(moment) => next.min(moment),
            _ => next,
        };
        // Bytes take their time, so that nobody talks at no cost for ever.
        now = next.max(now + 500);
        assert!(now < Moment(60_000_000), "it never ends");
    }
}

proptest! {
    #[test]
    fn noise_never_writes_twice_and_never_brings_a_wrong_value(
        half in any::<bool>(), seed in any::<u64>(), share in 0u64..30,
    ) {
        let mut dice = seed | 1;
        let mut roll = || {
            dice ^= dice << 13;
            dice ^= dice >> 7;
            dice ^= dice << 17;
            dice
        };
        let mut spoil = |bytes: &mut Vec<u8>| {
            // Whole messages are lost, and bytes of them damaged.
            if roll() % 100 < share {
                bytes.clear();
            }
            for byte in bytes.iter_mut() {
                if roll() % 1000 < share {
                    *byte ^= 1 << (roll() % 8);
                }
            }
        };
        let write = Ask::Write { station: 0, extent: at("N7:5", 1, false), cells: vec![0xAB, 0xCD] };
        let (result, writes) = talk(half, write, &mut spoil);
        prop_assert!(writes <= 1, "{writes} writes");
        prop_assert!(result.is_err() || writes == 1);
        let read = Ask::read(0, at("N7:5", 1, false));
        let (result, _) = talk(half, read, &mut spoil);
        prop_assert!(result.is_err() || result == Ok(vec![0x12, 0x34]));
    }

    #[test]
    fn no_bytes_do_harm(noise in prop::collection::vec(prop_oneof![Just(0x10u8), 0u8..8, any::<u8>()], 0..120), half in any::<bool>()) {
        let (mut client, mut server) = (client(half, false, "crc", 5, 99), server(half, "crc", 5));
        client.ask(Ticket(1), Ask::read(0, at("N7:5", 1, false)));
        sent(&mut client, Moment(0));
        client.handle(Moment(0), News::Bytes(&noise));
        server.handle(Moment(0), News::Bytes(&noise));
        let mut now = Moment(0);
        for _ in 0..200 {
            match client.poll(now) {
                Act::WaitUntil(moment) => now = moment.max(now),
                Act::Done(_, result) => prop_assert!(result.is_err()),
                _ => {}
            }
            if let Serve::Want { .. } = server.poll(now) {
                server.give(Ok(&[0, 0]));
            }
        }
        prop_assert!(client.is_free());
    }
}

/// A master with a counter for each slave gives both the same number, and may ask both before it polls either.
#[test]
fn slaves_of_one_line_keep_their_commands_replies_and_files_apart() {
    let other = Arc::new(spaces(false).iter().rev().collect::<Spaces>());
    let setup = ServerSetup {
        units: Some(vec![4, 5]),
        stations: vec![(Some(4), spaces(false)), (Some(5), other)],
        own: port("crc"),
        ..ServerSetup::default()
    };
    let mut slaves = (HALF.server.unwrap())(&setup);
    let now = Moment(1);
    let command = |node: u8| {
        let mut frame = vec![];
        // Two bytes of N7:0.
        let message = [node, 0, 0x0F, 0, 9, 0, 0xA2, 2, 7, 0x89, 0, 0];
        woodrush_wire::df1::emit_to_station(node, &message, woodrush_wire::df1::Check::Crc, &mut frame);
        frame
    };
    let mut said: Vec<Vec<u8>> = vec![];
    let mut wanted = vec![];
    let mut hear = |slaves: &mut dyn Server, bytes: &[u8], said: &mut Vec<Vec<u8>>| {
        slaves.handle(now, News::Bytes(bytes));
        loop {
            match slaves.poll(now) {
                Serve::Send(bytes) => said.push(bytes),
                Serve::Want { unit, want: Want::Read(extent), .. } => {
                    wanted.push((unit, extent.space.0));
                    slaves.give(Ok(&[0, u8::try_from(unit).unwrap()]));
                }
                Serve::Rest => return,
                other => panic!("{other:?}"),
            }
        }
    };
    hear(slaves.as_mut(), &command(4), &mut said);
    hear(slaves.as_mut(), &command(5), &mut said);
    assert_eq!(std::mem::take(&mut said), [ACK, ACK]);
    for node in [4u8, 5] {
        let mut poll = vec![];
        woodrush_wire::df1::emit_poll(node, &mut poll);
        hear(slaves.as_mut(), &poll, &mut said);
        let reply = framed(&[0, node, 0x4F, 0, 9, 0, node, 0]);
        assert_eq!(std::mem::take(&mut said), [reply], "node {node}");
        hear(slaves.as_mut(), &ACK, &mut said);
    }
    let last = u32::try_from(FILES.len()).unwrap() - 1;
    assert_eq!(wanted, [(4, 0), (5, last)], "each by its own list of files");
}
