//! Pairing and counting, on frames of Modbus written by hand.

use super::{Chunk, Conversation, Conversations, Counted, Meaning, Passed, Spoken};
use crate::Moment;
use crate::capture::{Capture, CaptureWriter, CapturedMessage, Flow};
use crate::speak::{AnswerMeaning, ObserverSetup, Side, speaker};
use std::collections::HashMap;
use woodrush_core::protocol::{Setup, dialect};
use woodrush_wire::modbus::{rtu, tcp};

fn conversation(protocol: &str) -> Conversation {
    let setup = ObserverSetup { port: &Setup::default(), stations: &[], published: &[] };
    Conversation::new((speaker(protocol).unwrap().observer)(&setup), 500_000)
}

fn line(unit: u8, pdu: &[u8]) -> Vec<u8> {
    let mut out = vec![];
    rtu::emit(unit, pdu, &mut out);
    out
}

fn socket(number: u16, pdu: &[u8]) -> Vec<u8> {
    let mut out = vec![];
    tcp::emit(number, 1, pdu, &mut out);
    out
}

/// A read of one holding register, and an answer to it.
const ASKED: [u8; 5] = [3, 0, 7, 0, 1];
const ANSWERED: [u8; 4] = [3, 2, 0x12, 0x34];

/// In short: what it is, and to which exchange it belongs.
fn shown(passed: &Passed) -> String {
    let exchange = passed.exchange.map_or_else(|| "-".into(), |exchange| exchange.to_string());
    let what = match &passed.what {
        Meaning::Request { again: false, .. } => "request".into(),
        Meaning::Request { again: true, .. } => "again".into(),
        Meaning::Answer { told: AnswerMeaning::Good(_), took, .. } => format!("answer after {took}"),
        Meaning::Answer { told, .. } => format!("{told:?}"),
        Meaning::Silence { waited, .. } => format!("silence of {waited}"),
        Meaning::Stray(why) => why.clone(),
        Meaning::Published(what) | Meaning::Cycle { what, .. } => what.words.to_string(),
        Meaning::Sign(words, _) => words.clone(),
        Meaning::Noise(_) => "noise".into(),
    };
    format!("{exchange} {what}")
}

fn all(conversation: &mut Conversation, said: &[(u64, Side, Vec<u8>)], until: u64) -> Vec<String> {
    let mut found = vec![];
    for (at, side, bytes) in said {
        conversation.handle(Moment(*at), Moment(*at), *side, bytes);
        found.extend(std::iter::from_fn(|| conversation.poll(Moment(*at))));
    }
    found.extend(std::iter::from_fn(|| conversation.poll(Moment(until))));
    found.iter().map(shown).collect()
}

#[test]
fn an_answer_belongs_to_its_request_and_its_time_is_between_them() {
    let said = [(1_000, Side::Asks, line(4, &ASKED)), (9_000, Side::Answers, line(4, &ANSWERED))];
    assert_eq!(all(&mut conversation("modbus-rtu"), &said, 9_000), ["1 request", "1 answer after 8000"]);
}

#[test]
fn a_question_that_gets_no_answer_is_told_when_the_next_comes_or_time_is_over() {
    let said = [(1_000, Side::Asks, line(4, &ASKED)), (301_000, Side::Asks, line(4, &ASKED))];
    assert_eq!(
        all(&mut conversation("modbus-rtu"), &said, 2_000_000),
        ["1 request", "1 silence of 300000", "2 again", "2 silence of 500000"]
    );
    let said = [(1_000, Side::Asks, line(4, &ASKED)), (2_000, Side::Asks, line(5, &ASKED))];
    assert_eq!(
        all(&mut conversation("modbus-rtu"), &said, 2_000),
        ["1 request", "1 silence of 1000", "2 request"],
        "another unit is not asked again"
    );
}

#[test]
fn what_is_for_all_is_answered_by_nobody() {
    let said = [(1_000, Side::Asks, line(0, &[6, 0, 1, 0, 2])), (90_000, Side::Asks, line(4, &ASKED))];
    assert_eq!(all(&mut conversation("modbus-rtu"), &said, 90_000), ["1 request", "2 request"]);
}

#[test]
fn answers_of_others_late_ones_and_wrong_ones_are_told_apart() {
    let said = [
        (1_000, Side::Asks, line(4, &ASKED)),
        (2_000, Side::Answers, line(9, &ANSWERED)),
        (3_000, Side::Answers, line(4, &[3, 4, 0, 1, 0, 2])),
        (4_000, Side::Answers, line(4, &ANSWERED)),
    ];
    let found = all(&mut conversation("modbus-rtu"), &said, 4_000);
    assert_eq!(found[0], "1 request");
    assert_eq!(found[1], "- an answer of 9, where one of 4 is due");
    assert!(found[2].starts_with("1 Unfitting(\"it brings 4 bytes where 2"), "{}", found[2]);
    assert_eq!(found[3], "- an answer of 4 to nothing that is open: late, or sent twice");
}

#[test]
fn on_a_socket_answers_find_their_requests_in_any_order() {
    let said = [
        (1_000, Side::Asks, [socket(1, &ASKED), socket(2, &ASKED)].concat()),
        (3_000, Side::Answers, socket(2, &ANSWERED)),
        (4_000, Side::Answers, socket(1, &[0x83, 2])),
    ];
    assert_eq!(
        all(&mut conversation("modbus-tcp"), &said, 4_000),
        ["1 request", "2 request", "2 answer after 2000", "1 Refused((\"Modbus exception\", 2))"]
    );
}

#[test]
fn a_tap_opened_in_the_middle_takes_no_half_answer_for_a_fault() {
    let answer = line(4, &ANSWERED);
    let said = [
        (1_000, Side::Answers, answer[3..].to_vec()),
        (2_000, Side::Answers, answer),
        (3_000, Side::Asks, line(4, &ASKED)),
    ];
    assert_eq!(all(&mut conversation("modbus-rtu"), &said, 3_000), ["1 request"]);
}

#[test]
fn the_end_of_a_connection_leaves_what_is_open_without_an_answer() {
    let said = [(1_000, Side::Asks, socket(1, &ASKED)), (5_000, Side::Either, vec![])];
    assert_eq!(all(&mut conversation("modbus-tcp"), &said, 5_000), ["1 request", "1 silence of 4000"]);
    let mut missed = conversation("modbus-tcp");
    missed.handle(Moment(0), Moment(0), Side::Asks, &socket(1, &ASKED));
    missed.forget();
    let left: Vec<String> =
        std::iter::from_fn(|| missed.poll(Moment(9_000_000))).map(|passed| shown(&passed)).collect();
    assert_eq!(left, ["1 request"], "after a gap nobody can say what was answered");
}

#[test]
fn everything_is_counted_once_and_by_its_kind() {
    let mut conversation = conversation("modbus-rtu");
    let said = [
        (1_000, Side::Asks, line(4, &ASKED)),
        (9_000, Side::Answers, line(4, &ANSWERED)),
        (20_000, Side::Asks, line(4, &ASKED)),
        (21_500, Side::Answers, line(4, &[0x83, 11])),
        (30_000, Side::Asks, line(4, &ASKED)),
        (90_000, Side::Asks, line(4, &ASKED)),
        (91_000, Side::Answers, vec![0xFF, 0x00, 0x55]),
    ];
    let mut counted = Counted::default();
    for (at, side, bytes) in &said {
        conversation.handle(Moment(*at), Moment(*at), *side, bytes);
        while let Some(passed) = conversation.poll(Moment(*at)) {
            counted.count(&passed);
        }
    }
    while let Some(passed) = conversation.poll(Moment(9_000_000)) {
        counted.count(&passed);
    }
    assert_eq!((counted.requests, counted.again, counted.answers), (4, 1, 1));
    assert_eq!((counted.no_answer, counted.damaged, counted.mismatched), (2, 1, 0));
    let words = "Modbus exception 11 (0x0B), gateway target device failed to respond".to_string();
    assert_eq!(counted.refusals.into_iter().collect::<Vec<_>>(), [(11, (1, words))]);
    assert_eq!((counted.times.min_us, counted.times.max_us), (Some(1_500), 8_000));
    let bytes: usize = said.iter().map(|(_, _, bytes)| bytes.len()).sum();
    assert_eq!(counted.bytes, bytes as u64);
    assert_eq!(counted.times.within(50), Some(2_000), "to the end of its class");
    assert_eq!(counted.times.within(95), Some(8_000), "never beyond the slowest");
}

fn spoken(protocol: &'static str) -> Spoken {
    Spoken { protocol, setup: Setup::default(), stations: vec![], published: vec![], patience: 500_000 }
}

#[test]
fn each_connection_is_a_conversation_of_its_own() {
    let ports = HashMap::from([("office".to_string(), spoken("modbus-tcp"))]);
    let mut audience = Conversations::new(ports);
    let mut piece = |port: &str, who: &str, at: u64, side, bytes: Vec<u8>| {
        let (began, ended) = (Moment(at), Moment(at));
        let piece = Chunk { port: port.into(), who: Some(who.into()), side, began, ended, bytes };
        audience.handle(&piece).iter().map(shown).collect::<Vec<_>>()
    };
    // Both have the same number, and either gets its own answer.
    assert_eq!(piece("office", "a", 1_000, Side::Asks, socket(1, &ASKED)), ["1 request"]);
    assert_eq!(piece("office", "b", 2_000, Side::Asks, socket(1, &ASKED)), ["1 request"]);
    assert_eq!(piece("office", "a", 3_000, Side::Answers, socket(1, &ANSWERED)), ["1 answer after 2000"]);
    assert_eq!(piece("office", "b", 3_000, Side::Answers, socket(1, &ANSWERED)), ["1 answer after 1000"]);
    assert_eq!(piece("nobody", "c", 4_000, Side::Asks, socket(1, &ASKED)), [""; 0]);
}

#[test]
fn a_capture_brings_back_what_was_written() {
    let dialect = |name| dialect(name).unwrap();
    let flow = |port: u16| {
        let server = format!("192.0.2.10:{port}").parse().unwrap();
        Some(Flow { client: "192.0.2.20:40122".parse().unwrap(), server })
    };
    let messages = [
        ("raceway", "modbus-rtu", None, Side::Asks, line(4, &ASKED)),
        ("raceway", "modbus-rtu", None, Side::Answers, line(4, &ANSWERED)),
        ("raceway", "modbus-rtu", None, Side::Either, vec![0xFF, 0x00]),
        ("office", "modbus-tcp", flow(502), Side::Asks, socket(1, &ASKED)),
        ("office", "modbus-tcp", flow(502), Side::Answers, socket(1, &ANSWERED)),
        ("farm", "modbus-tcp", flow(1502), Side::Asks, socket(2, &ASKED)),
        ("farm", "modbus-tcp", flow(1502), Side::Answers, socket(2, &ANSWERED)),
        ("feeders", "df1-half", None, Side::Answers, vec![0x10, 0x06]),
    ];
    let mut file = vec![];
    let mut writer = CaptureWriter::begin(&mut file).unwrap();
    for (at, (port, protocol, flow, side, bytes)) in (0u64..).zip(&messages) {
        let written = CapturedMessage {
            port,
            description: protocol,
            dialect: dialect(protocol),
            flow: *flow,
            datagram: false,
            side: *side,
            at: 1_700_000_000_000_000 + at,
            bytes,
            comment: "what it says",
        };
        writer.add(&written).unwrap();
    }
    writer.end(1_700_000_001_000_000, 3).unwrap();
    let mut capture = Capture::open(file).unwrap();
    for (at, (port, protocol, flow, side, bytes)) in (0u64..).zip(messages) {
        let caught = capture.next(&|_| false).unwrap().unwrap();
        assert_eq!((caught.interface.as_str(), caught.description.as_str()), (port, protocol));
        assert_eq!((caught.at, caught.gap), (1_700_000_000_000_000 + at, false));
        assert_eq!((caught.side, caught.bytes), (side, bytes));
        assert_eq!(caught.client.map(|client| client.port()), flow.map(|flow| flow.client.port()));
        assert_eq!(caught.server.is_some(), port == "office", "only raw IP has addresses");
    }
    assert_eq!(capture.next(&|_| false), Ok(None));
}

#[test]
fn segments_that_come_twice_or_are_missing_are_seen() {
    use etherparse::PacketBuilder;
    // As other programs write them: Ethernet, the older format, a handshake first.
    let mut file = vec![];
    for number in [0xA1B2_C3D4u32, 0x0004_0002, 0, 0, 65_535, 1] {
        file.extend_from_slice(&number.to_le_bytes());
    }
    let mut packet = |to_server: bool, seq: u32, syn: bool, fin: bool, data: &[u8]| {
        let (from, to, ports) = match to_server {
            true => ([192, 0, 2, 20], [192, 0, 2, 10], (40_001, 50_502)),
            false => ([192, 0, 2, 10], [192, 0, 2, 20], (50_502, 40_001)),
        };
        let builder = PacketBuilder::ethernet2([2; 6], [4; 6]).ipv4(from, to, 64);
        let mut builder = builder.tcp(ports.0, ports.1, seq, 1000);
        if syn {
            builder = builder.syn();
        }
        if fin {
            builder = builder.fin();
        }
        if !(syn && to_server) {
            builder = builder.ack(1);
        }
        let mut bytes = vec![];
        builder.write(&mut bytes, data).unwrap();
        let length = u32::try_from(bytes.len()).unwrap();
        for number in [1_700_000_000, 5, length, length] {
            file.extend_from_slice(&number.to_le_bytes());
        }
        file.extend_from_slice(&bytes);
    };
    packet(true, 100, true, false, &[]);
    packet(false, 900, true, false, &[]);
    packet(true, 101, false, false, &[1, 2, 3]);
    packet(true, 101, false, false, &[1, 2, 3, 4]);
    packet(true, 101, false, false, &[1, 2, 3, 4]);
    packet(false, 911, false, false, &[9]);
    packet(true, 105, false, true, &[]);
    let mut capture = Capture::open(file).unwrap();
    let mut next = || capture.next(&|_| false).unwrap().map(|caught| (caught.side, caught.bytes, caught.gap));
    // The port of the server is the greater one here: the handshake tells.
    assert_eq!(next(), Some((Side::Asks, vec![1, 2, 3], false)));
    assert_eq!(next(), Some((Side::Asks, vec![4], false)), "only what is new");
    assert_eq!(next(), Some((Side::Answers, vec![9], true)), "ten bytes are missing before it");
    assert_eq!(next(), Some((Side::Asks, vec![], false)), "it is over");
    assert_eq!(next(), None);
}

#[test]
fn of_conversations_without_number_the_latest_are_remembered() {
    let (mut all, line) = listened();
    let chunk = |number: u32, at: u64| Chunk {
        port: "office".into(),
        who: Some(format!("192.0.2.9:{number}").into()),
        side: Side::Asks,
        began: Moment(at),
        ended: Moment(at),
        bytes: line.clone(),
    };
    for number in 0..5000 {
        all.handle(&chunk(number, u64::from(number)));
    }
    assert_eq!((all.forgotten(), all.forgotten()), (5000 - 4096, 0));
    // A conversation that goes on is not the one that is forgotten.
    all.handle(&chunk(904, 9000));
    all.handle(&chunk(6000, 9001));
    assert_eq!(all.forgotten(), 1);
    all.handle(&chunk(904, 9002));
    assert_eq!(all.forgotten(), 0);
}

/// A port of Modbus TCP, and the beginning of a request there.
fn listened() -> (Conversations, Vec<u8>) {
    let spoken = Spoken {
        protocol: "modbus-tcp",
        setup: Setup::default(),
        stations: vec![],
        published: vec![],
        patience: 1_000_000,
    };
    (Conversations::new([("office".to_string(), spoken)].into()), vec![0, 1, 0, 0, 0, 6])
}
