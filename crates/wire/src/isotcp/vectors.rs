//! Tests over the shared table of checked vectors (`testdata/vectors-isotcp.json`): each was computed apart from this
//! code; `checked_by` in the file says by which other programs it was read.

use super::cotp::{self, Assembly, Tpdu, emit_message};
use super::fetch::{Answer, Area, Range, Request};
use super::{exercise, tpkt};
use crate::WireFault;
use crate::checked::{Vector, Vectors, emitted};
use proptest::prelude::*;

const TABLE: Vectors = Vectors(include_str!("../../testdata/vectors-isotcp.json"));

/// The unit in the only packet.
fn unit(bytes: &[u8]) -> Tpdu<'_> {
    let (tpdu, used) = tpkt::parse(bytes).unwrap().unwrap();
    assert_eq!(used, bytes.len());
    cotp::parse(tpdu).unwrap()
}

/// The message in the only packet.
fn message(bytes: &[u8]) -> &[u8] {
    match unit(bytes) {
        Tpdu::Data { last: true, data } => data,
        other => panic!("{other:?}"),
    }
}

#[test]
fn every_sound_unit_is_read_and_written_back() {
    for v in TABLE.layer("cotp").iter().filter(|v| v.valid) {
        let bytes = v.bytes();
        let back = emitted(|out| unit(&bytes).emit(out));
        // What a receiver ignores is not given back: the reserved byte, the number of a data unit.
        match v.name.as_str() {
            "tpkt-reserved" => assert_eq!((bytes[1], &back[2..]), (0xFF, &bytes[2..])),
            "dt-nr" => assert_eq!((bytes[6], back[6], &back[..6]), (0x85, 0x80, &bytes[..6])),
            _ => assert_eq!(back, bytes, "{}", v.name),
        }
    }
}

#[test]
fn every_unsound_unit_is_refused_for_its_reason() {
    let told = [
        ("cc-bad-larger", "COTP, byte 7: TPDU size is 11, allowed is 7 to 10"),
        ("cc-bad-ref", "COTP, byte 2: DST-REF is 153, allowed is 1 to 1"),
        ("tpkt-partial", ""),
        ("tpkt-bad-version", "TPKT, byte 0: version is 2, allowed is 3 to 3"),
        ("tpkt-bad-length-3", "TPKT, byte 2: length is 3, allowed is 7 to 65535"),
        ("tpkt-bad-length-6", "TPKT, byte 2: length is 6, allowed is 7 to 65535"),
        ("cotp-bad-li", "COTP, byte 0: header needs 9 bytes, 3 are left"),
        ("cotp-bad-li-255", "COTP, byte 0: header length is 255, allowed is 2 to 254"),
        ("cotp-bad-type", "COTP, byte 1: type is 0x0030, allowed is E0, D0, 80, C0, F0 or 70 in class 0"),
        ("cotp-bad-ed", "COTP, byte 1: type is 0x0010, allowed is E0, D0, 80, C0, F0 or 70 in class 0"),
        // The unit is sound; that no connection was opened before it is for the layer that keeps connections.
        ("cotp-bad-dt-first", "data"),
    ];
    let unsound: Vec<Vector> = TABLE.layer("cotp").into_iter().filter(|v| !v.valid).collect();
    assert_eq!(unsound.len(), told.len());
    for v in unsound {
        let bytes = v.bytes();
        let said = match tpkt::parse(&bytes) {
            Ok(None) => String::new(),
            Err(error) => error.to_string(),
            Ok(Some((tpdu, _))) => match cotp::parse(tpdu) {
                Err(error) => error.to_string(),
                Ok(Tpdu::Confirm(opening)) => opening.agreed(1, cotp::SIZE).unwrap_err().to_string(),
                Ok(Tpdu::Data { .. }) => "data".into(),
                Ok(other) => panic!("{}: {other:?}", v.name),
            },
        };
        assert_eq!(told.iter().find(|(name, _)| *name == v.name), Some(&(v.name.as_str(), said.as_str())));
    }
}

#[test]
fn openings_say_what_they_ask_for() {
    let opening = |name: &str| {
        let bytes = TABLE.bytes(name);
        let (Tpdu::Request(open) | Tpdu::Confirm(open)) = unit(&bytes) else { panic!("{name}") };
        let owned = |tsap: Option<&[u8]>| tsap.map(<[u8]>::to_vec);
        (open.size(), owned(open.calling()), owned(open.called()), open.takes_class_0())
    };
    let pair = |kind, place| (Some(vec![1, 0]), Some(vec![kind, place]), true);
    let with = |size, (calling, called, zero)| (size, calling, called, zero);
    assert_eq!(opening("cr-rack0-slot2"), with(Some(10), pair(1, 2)));
    assert_eq!(opening("cr-rack1-slot4"), with(Some(10), pair(1, 0x24)));
    assert_eq!(opening("cr-no-size"), with(None, pair(1, 2)));
    assert_eq!(opening("cr-order"), with(Some(11), pair(1, 2)));
    assert_eq!(opening("cr-class4-alt0"), with(Some(10), pair(1, 2)));
    assert_eq!(opening("cr-unknown-param"), with(Some(10), pair(1, 2)));
    assert_eq!(opening("cr-bare"), (None, None, None, true));
    let text = opening("cr-text-tsap");
    assert_eq!((text.1.as_deref(), text.2.as_deref()), (Some(&b"WRUSH01"[..]), Some(&b"FETCH01"[..])));
    // Built from nothing, the first vector comes out.
    let parameters = emitted(|out| cotp::parameters(10, &[1, 0], &[1, 2], out));
    let request = Tpdu::Request(cotp::Opening::new(0, 1, &parameters));
    assert_eq!(emitted(|out| request.emit(out)), TABLE.bytes("cr-rack0-slot2"));
    for (name, size) in [("cc-rack0-slot2", 10), ("cc-smaller", 9), ("cc-no-size", 10)] {
        let bytes = TABLE.bytes(name);
        let Tpdu::Confirm(open) = unit(&bytes) else { panic!("{name}") };
        assert_eq!(open.agreed(1, 10), Ok(size), "{name}");
    }
    // A class that is not 0 alone will not do.
    let mut other = TABLE.bytes("cr-rack0-slot2");
    other[10] = 0x40;
    let Tpdu::Request(open) = unit(&other) else { panic!() };
    assert!(!open.takes_class_0());
}

#[test]
fn messages_are_put_together_and_taken_apart() {
    assert_eq!(exercise::stream(&TABLE.bytes("dt-segmented")), [(0..=9).collect::<Vec<u8>>()]);
    assert_eq!(exercise::stream(&TABLE.bytes("dt-two-messages")), [vec![0xAA], vec![0xBB; 2]]);
    assert_eq!(exercise::stream(&TABLE.bytes("dt-empty")), [[0u8; 0]; 0]);
    let long = TABLE.bytes("rsp-fetch-long");
    let whole = exercise::stream(&long).remove(0);
    let Ok(Answer::Fetched(0, data)) = Answer::parse(&whole) else { panic!() };
    assert_eq!((data.len(), &data[..4], &data[1198..]), (1200, &[0, 0, 0, 1][..], &[2, 0x57][..]));
    assert_eq!(emitted(|out| emit_message(&whole, 10, out)), long, "1021 bytes, then 195");
    assert_eq!(emitted(|out| emit_message(&[], 10, out)), TABLE.bytes("dt-empty"));
    for length in [1020, 1021, 1022, 2042, 2043] {
        let stream = emitted(|out| emit_message(&vec![7; length], 10, out));
        assert_eq!(exercise::stream(&stream), [vec![7; length]], "{length}");
        assert_eq!(stream.len(), length + 7 * length.div_ceil(1021), "{length}");
    }
}

#[test]
fn what_never_ends_is_ended() {
    let mut assembly = Assembly::default();
    let fault = |error: crate::WireError| error.fault;
    for _ in 0..63 {
        assert_eq!(assembly.take(false, &[]), Ok(None));
    }
    assert!(matches!(assembly.take(false, &[]).map_err(fault), Err(WireFault::Short { .. })));
    let mut assembly = Assembly::default();
    let piece = vec![1; 65_000];
    assert_eq!(assembly.take(false, &piece), Ok(None));
    assert!(matches!(assembly.take(true, &piece).map_err(fault), Err(WireFault::Range { got: 130_000, .. })));
    assert_eq!(assembly.take(true, &[5]), Ok(Some(vec![5])), "what was too long is forgotten");
}

#[test]
fn every_sound_message_is_read_and_written_back() {
    for v in TABLE.layer("fetch-write").iter().filter(|v| v.valid) {
        let bytes = v.bytes();
        let body = message(&bytes);
        let back = if v.name.starts_with("req-") {
            let request = Request::parse(body).unwrap_or_else(|error| panic!("{}: {error}", v.name));
            assert!(request.data().is_some(), "{}", v.name);
            emitted(|out| request.emit(out))
        } else {
            let answer = Answer::parse(body).unwrap_or_else(|error| panic!("{}: {error}", v.name));
            emitted(|out| answer.emit(out))
        };
        assert_eq!(back, body, "{}", v.name);
        exercise::message(body);
        // Every cut of the header is refused.
        for cut in 0..16 {
            assert!(
                Request::parse(&body[..cut]).is_err() && Answer::parse(&body[..cut]).is_err(),
                "{}",
                v.name
            );
        }
    }
}

#[test]
fn every_unsound_message_is_refused_for_its_reason() {
    let asked = TABLE.bytes("req-fetch-db10");
    let asked = Request::parse(message(&asked)).unwrap();
    let told = [
        ("bad-system-id", "FETCH/WRITE header, byte 0: system id is 0x5336, allowed is 0x5335"),
        ("bad-header-length", "FETCH/WRITE header, byte 2: header length is 14, allowed is 16 to 16"),
        ("bad-opcode", "FETCH/WRITE header, byte 5: op code is 0x0007, allowed is 3 or 5 in a request"),
        ("bad-org", "no such area"),
        ("bad-short-header", "FETCH/WRITE header, byte 12: length needs 2 bytes, 0 are left"),
        ("bad-write-short", "too few data"),
        ("bad-fetch-short", "FETCH/WRITE header, byte 16: data says 4, but the request's length asks for 8"),
        ("bad-rsp-opcode", "FETCH/WRITE header, byte 5: op code is 0x0004, allowed is 6 to a FETCH"),
    ];
    let unsound: Vec<Vector> = TABLE.layer("fetch-write").into_iter().filter(|v| !v.valid).collect();
    assert_eq!(unsound.len(), told.len());
    for v in unsound {
        let bytes = v.bytes();
        let body = message(&bytes);
        let said = if matches!(v.name.as_str(), "bad-fetch-short" | "bad-rsp-opcode") {
            Answer::parse(body).and_then(|answer| answer.to(&asked)).unwrap_err().to_string()
        } else {
            match Request::parse(body) {
                Err(error) => error.to_string(),
                Ok(request) if Area::of(request.range().org).is_none() => "no such area".into(),
                Ok(request) if request.data().is_none() => "too few data".into(),
                Ok(request) => panic!("{}: {request:?}", v.name),
            }
        };
        assert_eq!(told.iter().find(|(name, _)| *name == v.name), Some(&(v.name.as_str(), said.as_str())));
    }
}

#[test]
fn answers_belong_to_their_requests() {
    let of = |name: &str| TABLE.bytes(name);
    for (request, answer, good) in [
        ("req-fetch-db10", "rsp-fetch-db10", Ok(8)),
        ("req-fetch-db10-real", "rsp-fetch-db10-real", Ok(4)),
        ("req-fetch-flags-odd", "rsp-fetch-flags-odd", Ok(3)),
        ("req-fetch-flags-odd", "rsp-fetch-flags-odd-nopad", Ok(3)),
        ("req-fetch-counters", "rsp-fetch-counters", Ok(4)),
        ("req-write-db10", "rsp-write-db10", Ok(0)),
        ("req-fetch-no-db", "rsp-fetch-no-db", Err(2)),
        ("req-fetch-too-far", "rsp-fetch-too-far", Err(3)),
        ("req-write-refused", "rsp-write-refused", Err(0xFF)),
    ] {
        let (asked, answered) = (of(request), of(answer));
        let request = Request::parse(message(&asked)).unwrap();
        let told = Answer::parse(message(&answered)).unwrap().to(&request).unwrap();
        assert_eq!(told.map(<[u8]>::len), good, "{answer}");
    }
    assert_eq!(Area::ALL.map(Area::org), [1, 2, 3, 4, 5, 6, 7]);
    assert_eq!((Area::of(0), Area::of(8), Area::of(1)), (None, None, Some(Area::DataBlock)));
    let odd = of("req-write-flags-odd");
    assert_eq!(Request::parse(message(&odd)).unwrap().data(), Some(&[0xA1, 0xA2, 0xA3][..]));
}

fn request() -> impl Strategy<Value = (bool, u8, u8, u16, u16, Vec<u8>)> {
    let data = prop::collection::vec(any::<u8>(), 0..200);
    (any::<bool>(), 0u8..9, any::<u8>(), any::<u16>(), any::<u16>(), data)
}

proptest! {
    #[test]
    fn any_request_comes_back((write, org, block, start, length, data) in request(), error in any::<u8>()) {
        let range = Range { org, block, start, length };
        let request = if write { Request::Write(range, &data) } else { Request::Fetch(range) };
        let bytes = emitted(|out| request.emit(out));
        prop_assert_eq!(Request::parse(&bytes), Ok(request));
        exercise::message(&bytes);
        let answer = if write { Answer::Wrote(error) } else { Answer::Fetched(0, &data) };
        let bytes = emitted(|out| answer.emit(out));
        prop_assert_eq!(Answer::parse(&bytes), Ok(answer));
    }

    #[test]
    fn any_stream_split_anywhere_gives_the_same_messages(
        messages in prop::collection::vec(prop::collection::vec(any::<u8>(), 1..400), 1..5), size in 7u8..12,
        cut in any::<prop::sample::Index>(),
    ) {
        let mut stream = vec![];
        messages.iter().for_each(|message| emit_message(message, size, &mut stream));
        prop_assert_eq!(&exercise::stream(&stream), &messages);
        let (mut seen, mut assembly, mut held) = (vec![], Assembly::default(), vec![]);
        let (head, tail) = stream.split_at(cut.index(stream.len()));
        for part in [head, tail] {
            held.extend_from_slice(part);
            while let Some((tpdu, used)) = tpkt::parse(&held).unwrap() {
                if let Tpdu::Data { last, data } = cotp::parse(tpdu).unwrap() {
                    seen.extend(assembly.take(last, data).unwrap());
                }
                held.drain(..used);
            }
        }
        prop_assert_eq!(seen, messages);
    }

    #[test]
    fn no_bytes_do_harm(bytes in prop::collection::vec(any::<u8>(), 0..120), flip in any::<prop::sample::Index>(),
        bit in 0u8..8, which in any::<prop::sample::Index>())
    {
        exercise::stream(&bytes);
        exercise::message(&bytes);
        let names = ["cr-text-tsap", "cc-smaller", "dr-02", "dt-segmented", "req-write-db10", "rsp-fetch-db10"];
        let mut known = TABLE.bytes(names[which.index(names.len())]);
        let at = flip.index(known.len());
        known[at] ^= 1 << bit;
        exercise::stream(&known);
        exercise::message(known.get(7..).unwrap_or_default());
    }
}
