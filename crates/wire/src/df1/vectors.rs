//! Tests over the shared table of checked vectors (`testdata/vectors-df1.json`): each was computed apart from this code;
//! `checked_by` in the file says by which other programs it was read.

use super::exercise::{self, heard};
use super::{Check, Heard, Message, Scanner, Symbol, emit_message, emit_poll, emit_to_station};
use crate::checked::{Vectors, bytes_of, emitted};
use crate::tables::{Command, Logical, Set, Table, sets};
use proptest::prelude::*;

const TABLE: Vectors = Vectors(include_str!("../../testdata/vectors-df1.json"));

fn said(data: &[u8]) -> String {
    data.iter().map(|byte| format!("{byte:02X}")).collect::<Vec<_>>().join(" ")
}

const LAYERS: [(&str, Check, bool); 4] = [
    ("df1-fd-bcc", Check::Bcc, false),
    ("df1-fd-crc", Check::Crc, false),
    ("df1-hd-bcc", Check::Bcc, true),
    ("df1-hd-crc", Check::Crc, true),
];

#[test]
fn every_sound_frame_is_one_message_and_written_back() {
    for (layer, check, half) in LAYERS {
        for v in TABLE.layer(layer).iter().filter(|v| v.valid) {
            let bytes = v.bytes();
            let mut scanner = Scanner::new(check, half);
            let (last, before) = bytes.split_last().unwrap();
            before.iter().for_each(|byte| assert_eq!(scanner.push(*byte), Heard::Nothing, "{}", v.name));
            let Heard::Message { station, data } = scanner.push(*last) else { panic!("{}", v.name) };
            let back = emitted(|out| match station {
                None => emit_message(data, check, out),
                Some(station) => emit_to_station(station, data, check, out),
            });
            assert_eq!(back, bytes, "{}", v.name);
            assert_eq!(
                station.is_some(),
                v.name.ends_with("master") || v.name.ends_with("broadcast"),
                "{}",
                v.name
            );
            // The data are those of the message that the frame is named after.
            if let Some(app) =
                TABLE.all().iter().find(|app| app.layer == "df1-app" && v.name.ends_with(&app.name))
            {
                assert_eq!(data, app.bytes(), "{}", v.name);
            }
        }
    }
}

#[test]
fn every_unsound_frame_is_refused() {
    let mut seen = 0;
    for (layer, check, half) in LAYERS {
        for v in TABLE.layer(layer).iter().filter(|v| !v.valid) {
            let told = heard(check, half, &v.bytes());
            let wanted: &[&str] = match v.name.as_str() {
                // More is to come.
                "fd-bad-truncated" | "fd-bad-no-check" => &[],
                // Outside of a message, its end is a symbol without business.
                "fd-bad-unstuffed" => &["damaged", "stray"],
                // Some masters leave the STX out: taken.
                "hd-crc-master-no-stx" => &["message to 5 05 00 0F 00 01 20 A2 02 07 89 00 00"],
                _ => &["damaged"],
            };
            assert_eq!(told, wanted, "{}", v.name);
            seen += 1;
        }
    }
    assert_eq!(seen, 14);
}

#[test]
fn symbols_polls_and_streams_are_heard() {
    for (name, wanted) in [("sym-ack", "ACK"), ("sym-nak", "NAK"), ("sym-nak-0f", "NAK"), ("sym-enq", "ENQ")]
    {
        assert_eq!(heard(Check::Bcc, false, &TABLE.bytes(name)), [wanted]);
    }
    assert_eq!(heard(Check::Bcc, true, &TABLE.bytes("sym-eot")), ["EOT"]);
    assert_eq!(heard(Check::Bcc, false, &TABLE.bytes("sym-eot")), ["stray"]);
    for symbol in [Symbol::Ack, Symbol::Nak, Symbol::Enq, Symbol::Eot] {
        assert_eq!(heard(Check::Crc, symbol == Symbol::Eot, &symbol.bytes()).len(), 1);
    }
    for v in TABLE.layer("df1-hd-poll") {
        let station = u8::from_str_radix(v.name.strip_prefix("hd-poll-").unwrap(), 16).unwrap();
        for check in [Check::Bcc, Check::Crc] {
            assert_eq!(heard(check, true, &v.bytes()), [format!("poll {station}")]);
        }
        assert_eq!(emitted(|out| emit_poll(station, out)), v.bytes());
    }
    assert_eq!(
        heard(Check::Bcc, true, &bytes_of("10 05 10 F0")),
        ["poll 16"],
        "a station of 10 that is not doubled"
    );
    assert_eq!(heard(Check::Bcc, true, &bytes_of("10 05 05 FA")), [""; 0], "a wrong check");
    let message = "message 00 01 4F 00 36 12 D2 04";
    for (name, wanted) in [
        ("fd-stream-ack-reply", vec!["ACK", message]),
        ("fd-stream-embedded-ack", vec!["ACK", message]),
        ("fd-stream-embedded-nak", vec!["NAK", message]),
        ("fd-stream-dup", vec![message, message]),
        ("fd-stream-restart", vec![message]),
        ("fd-stream-noise", vec![message]),
        ("fd-stream-enq", vec![message, "ENQ"]),
    ] {
        assert_eq!(heard(Check::Bcc, false, &TABLE.bytes(name)), wanted, "{name}");
    }
    assert_eq!(TABLE.layer("df1-stream-bcc").len(), 7);
}

#[test]
fn every_message_is_read_and_written_back() {
    for v in TABLE.layer("df1-app") {
        let bytes = v.bytes();
        let message = Message::parse(&bytes).unwrap();
        assert_eq!(emitted(|out| message.emit(out)), bytes, "{}", v.name);
        assert_eq!(message.is_reply(), v.name.starts_with("rsp-"), "{}", v.name);
        if !message.is_reply() {
            let command =
                Command::parse(message.cmd, message.body).unwrap_or_else(|e| panic!("{}: {e}", v.name));
            assert_eq!(emitted(|out| command.emit(out)), message.body, "{}", v.name);
            assert_eq!(command.cmd(), message.cmd, "{}", v.name);
            // Every cut is refused, or is another command: those that end in data are shorter ones.
            let open = matches!(
                command,
                Command::Echo(_)
                    | Command::RangeWrite { .. }
                    | Command::TypedWrite { .. }
                    | Command::Other { .. }
            );
            for cut in 1..message.body.len().min(if open { 1 } else { usize::MAX }) {
                let shorter = Command::parse(message.cmd, &message.body[..cut]);
                let whole_sets = matches!(shorter, Ok(Command::Change(_)));
                assert!(shorter.is_err() || whole_sets, "{} cut at {cut}: {shorter:?}", v.name);
            }
        }
        exercise::message(&bytes);
    }
}

#[test]
fn replies_find_their_commands_and_tell_their_status() {
    for v in TABLE.layer("df1-app").iter().filter(|v| v.name.starts_with("rsp-")) {
        let asked = TABLE.bytes(&v.name.replacen("rsp-", "cmd-", 1));
        let (asked, bytes) = (Message::parse(&asked).unwrap(), v.bytes());
        let reply = Message::parse(&bytes).unwrap();
        assert!(reply.replies_to(&asked) && !asked.replies_to(&reply), "{}", v.name);
        assert_eq!(asked.reply(reply.sts, reply.body), reply, "{}", v.name);
        let other = Message { tns: asked.tns.wrapping_add(1), ..asked };
        assert!(!reply.replies_to(&other), "{}", v.name);
        let wanted = match v.name.as_str() {
            "rsp-err-10" => Err((0x10, 0)),
            "rsp-err-50" => Err((0x50, 0)),
            "rsp-err-70" => Err((0x70, 0)),
            "rsp-err-02" => Err((0x02, 0)),
            "rsp-err-F0-06" => Err((0xF0, 0x06)),
            "rsp-err-F0-0B" => Err((0xF0, 0x0B)),
            "rsp-err-F0-1A" => Err((0xF0, 0x1A)),
            _ => Ok(reply.body),
        };
        assert_eq!(reply.outcome(), wanted, "{}", v.name);
    }
}

#[test]
fn commands_are_what_they_are_called() {
    let command = |name: &str| {
        let bytes = TABLE.bytes(name);
        let message = Message::parse(&bytes).unwrap();
        format!("{:?}", Command::parse(message.cmd, message.body).unwrap())
    };
    let logical = |file, kind, element, sub| Logical { file, kind, element, sub: Some(sub) };
    let is = |name: &str, wanted: Command<'_>| assert_eq!(command(name), format!("{wanted:?}"), "{name}");
    is("cmd-read-N7-0", Command::Read { size: 2, at: logical(7, 0x89, 0, 0) });
    is("cmd-read-N7-254", Command::Read { size: 2, at: logical(7, 0x89, 254, 0) });
    is("cmd-read-N7-255", Command::Read { size: 2, at: logical(7, 0x89, 255, 0) });
    is("cmd-read-N300-272", Command::Read { size: 2, at: logical(300, 0x89, 272, 0) });
    is("cmd-read-T4-0-ACC", Command::Read { size: 2, at: logical(4, 0x86, 0, 2) });
    is(
        "cmd-read2-N7-3",
        Command::Read { size: 2, at: Logical { file: 7, kind: 0x89, element: 3, sub: None } },
    );
    is("cmd-write-N7-5", Command::Write { at: logical(7, 0x89, 5, 0), data: &[0xFE, 0xFF] });
    is(
        "cmd-mask-set-B3-21",
        Command::MaskedWrite { at: logical(3, 0x85, 1, 0), mask: 0x20, data: &[0x20, 0] },
    );
    is("cmd-wrr-N7-0", Command::RangeRead { offset: 0, total: 3, at: Table::of(7, 0, None), size: 6 });
    is(
        "cmd-wrr-N10-part2",
        Command::RangeRead { offset: 100, total: 150, at: Table::of(10, 0, None), size: 100 },
    );
    is("cmd-wrr-T4-3-PRE", Command::RangeRead { offset: 0, total: 1, at: Table::of(4, 3, Some(1)), size: 2 });
    is("cmd-wrr-N7-1000", Command::RangeRead { offset: 0, total: 1, at: Table::of(7, 1000, None), size: 2 });
    is(
        "cmd-wrw-N7-0",
        Command::RangeWrite { offset: 0, total: 2, at: Table::of(7, 0, None), data: &[100, 0, 200, 0] },
    );
    is("cmd-trd-N10-3", Command::TypedRead { offset: 0, total: 3, at: Table::of(10, 3, None), count: 3 });
    is("cmd-trd-N7-0-ascii", Command::TypedRead { offset: 0, total: 1, at: Table::Text(b"$N7:0"), count: 1 });
    let two = TABLE.bytes("cmd-rmw-two");
    let Ok(Command::Change(bytes)) = Command::parse(0x0F, &two[6..]) else { panic!() };
    let wanted = [
        Set { at: Table::of(3, 1, None), and: 0xFFDF, or: 0 },
        Set { at: Table::of(3, 2, None), and: 0xFFFF, or: 1 },
    ];
    assert_eq!(sets(bytes).unwrap(), wanted);
    assert_eq!(emitted(|out| wanted.iter().for_each(|set| set.emit(out))), bytes);
    assert!(sets(&bytes[..5]).is_err());
}

#[test]
fn messages_that_are_too_short_or_too_long_are_not_taken() {
    for (length, whole) in [(5, false), (6, true), (250, true), (251, false), (600, false)] {
        for check in [Check::Bcc, Check::Crc] {
            let told = heard(check, false, &emitted(|out| emit_message(&vec![0x10; length], check, out)));
            let wanted =
                if whole { format!("message {}", said(&vec![0x10; length])) } else { "damaged".into() };
            assert_eq!(told, [wanted], "{length}");
        }
    }
}

fn data() -> impl Strategy<Value = Vec<u8>> {
    // Rich in what must be doubled, and in what looks like the end.
    let byte =
        prop_oneof![2 => Just(0x10u8), 1 => Just(0x03), 1 => Just(0x02), 1 => Just(0x06), 4 => any::<u8>()];
    prop::collection::vec(byte, 6..=250)
}

proptest! {
    #[test]
    fn any_message_comes_through_any_link(data in data(), station in any::<u8>(), crc in any::<bool>(), half in any::<bool>()) {
        let check = if crc { Check::Crc } else { Check::Bcc };
        let frame = emitted(|out| if half { emit_to_station(station, &data, check, out) } else { emit_message(&data, check, out) });
        let to = if half { format!(" to {station}") } else { String::new() };
        prop_assert_eq!(heard(check, half, &frame), [format!("message{to} {}", said(&data))]);
        exercise::stream(&frame);
        exercise::message(&data);
    }

    #[test]
    fn one_damaged_byte_is_never_another_message(data in data(), at in any::<prop::sample::Index>(), bit in 0u8..8) {
        let frame = emitted(|out| emit_message(&data, Check::Crc, out));
        let mut other = frame.clone();
        let at = at.index(frame.len());
        other[at] ^= 1 << bit;
        // A DLE more or less moves the borders, where the check holds by chance once in 65536 times.
        prop_assume!(frame[at] != 0x10 && other[at] != 0x10);
        let whole = format!("message {}", said(&data));
        // A reader may still be inside, or hear the same: never something else.
        for told in heard(Check::Crc, false, &other) {
            prop_assert!(!told.starts_with("message") || told == whole, "{told}");
        }
    }

    #[test]
    fn no_bytes_do_harm(bytes in prop::collection::vec(prop_oneof![Just(0x10u8), 0u8..8, any::<u8>()], 0..300)) {
        exercise::stream(&bytes);
        exercise::message(&bytes);
    }
}
