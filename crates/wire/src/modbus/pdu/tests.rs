//! Each function at the edges of what its counts allow, and one step beyond.

use super::*;
use crate::WireFault;

fn asked(bytes: &[u8]) -> Result<Request<'_>, WireFault> {
    Request::parse(bytes).map_err(|error| error.fault)
}

fn answered(bytes: &[u8]) -> Result<Response<'_>, WireFault> {
    Response::parse(bytes).map_err(|error| error.fault)
}

/// A PDU of words behind a function code.
fn words(function: u8, words: &[u16]) -> Vec<u8> {
    let mut pdu = vec![function];
    put_words(&mut pdu, words);
    pdu
}

/// A write of so many data bytes whose count and byte count say what they are told to.
fn write(function: u8, count: u16, said: u8, data: usize) -> Vec<u8> {
    let mut pdu = words(function, &[0, count]);
    pdu.push(said);
    pdu.resize(pdu.len() + data, 0xA5);
    pdu
}

#[test]
fn reads_ask_for_one_item_to_the_standards_most() {
    for (function, most) in [(1, 2000), (2, 2000), (3, 125), (4, 125)] {
        for count in [1, most] {
            let pdu = words(function, &[65_535, count]);
            let request = asked(&pdu).unwrap();
            assert!(matches!(request, Request::Read { offset: 65_535, count: own, .. } if own == count));
            assert_eq!(
                (request.function(), request.writes(), request.may_broadcast()),
                (function, false, false)
            );
        }
        for count in [0, most + 1, 65_535] {
            let pdu = words(function, &[0, count]);
            let refused = asked(&pdu);
            assert!(matches!(refused, Err(WireFault::Range { .. })), "{function} {count}: {refused:?}");
        }
    }
}

#[test]
fn writes_carry_as_many_bytes_as_their_count_needs() {
    let sound = [
        (15, 1, 1, 1),
        (15, 8, 1, 1),
        (15, 9, 2, 2),
        (15, 1968, 246, 246),
        (16, 1, 2, 2),
        (16, 123, 246, 246),
    ];
    for (function, count, said, data) in sound {
        let pdu = write(function, count, said, data);
        let request = asked(&pdu).unwrap();
        assert!(request.writes() && request.may_broadcast());
        assert_eq!(request.response_len(), Some(5));
        let mut back = vec![];
        request.emit(&mut back);
        assert_eq!(back, pdu);
    }
    let unsound = [
        (15, 0, 0, 0),
        (15, 1969, 247, 247),
        (15, 9, 1, 1),
        (15, 8, 2, 2),
        (16, 0, 0, 0),
        (16, 124, 248, 248),
        (16, 2, 2, 2),
        (16, 1, 3, 3),
    ];
    for (function, count, said, data) in unsound {
        assert!(asked(&write(function, count, said, data)).is_err(), "{function} {count} {said}");
    }
    // The byte count is right and the bytes are not there, or there are more.
    assert!(matches!(asked(&write(16, 2, 4, 3)), Err(WireFault::Short { .. })));
    assert_eq!(asked(&write(16, 2, 4, 5)), Err(WireFault::Trailing { extra: 1 }));
}

#[test]
fn a_coil_is_on_or_off_and_nothing_between() {
    for (word, on) in [(0xFF00, true), (0x0000, false)] {
        assert_eq!(asked(&words(5, &[172, word])), Ok(Request::WriteCoil { offset: 172, on }));
        assert_eq!(answered(&words(5, &[172, word])), Ok(Response::WroteCoil { offset: 172, on }));
    }
    for word in [1, 0x00FF, 0xFF01, 0xFFFF, 0x0100] {
        assert!(
            asked(&words(5, &[172, word])).is_err() && answered(&words(5, &[172, word])).is_err(),
            "{word:04X}"
        );
    }
}

#[test]
fn an_exchange_reads_up_to_125_and_writes_up_to_121_registers() {
    let exchange = |count: u16, written: u16, said: u8| {
        let mut pdu = words(23, &[3, count, 14, written]);
        pdu.push(said);
        pdu.resize(pdu.len() + usize::from(said), 0x11);
        pdu
    };
    let most = exchange(125, 121, 242);
    assert_eq!(most.len(), 252, "one byte below the standard's 253");
    let request = asked(&most).unwrap();
    assert!(request.writes() && !request.may_broadcast(), "nobody would give the answer");
    assert_eq!(request.response_len(), Some(252));
    for (count, written, said) in [(0, 1, 2), (126, 1, 2), (1, 0, 0), (1, 122, 244), (1, 2, 2), (1, 1, 4)] {
        assert!(asked(&exchange(count, written, said)).is_err(), "{count} {written} {said}");
    }
}

#[test]
fn functions_of_the_serial_line_have_no_more_than_their_own_bytes() {
    for (function, request) in [
        (7, Request::ExceptionStatus),
        (11, Request::EventCounter),
        (12, Request::EventLog),
        (17, Request::ServerId),
    ] {
        assert_eq!(asked(&[function]), Ok(request));
        assert_eq!(asked(&[function, 0]), Err(WireFault::Trailing { extra: 1 }), "{function}");
        assert!(!request.writes());
    }
    assert_eq!(answered(&[7, 0x6D]), Ok(Response::ExceptionStatus(0x6D)));
    assert_eq!(answered(&[11, 0xFF, 0xFF, 1, 8]), Ok(Response::EventCounter { status: 0xFFFF, count: 264 }));
    assert!(answered(&[11, 0, 0, 1]).is_err() && answered(&[11, 0, 0, 1, 8, 0]).is_err());
}

#[test]
fn an_event_log_holds_none_to_64_events() {
    let log = |events: usize| {
        let mut pdu = vec![12, u8::try_from(6 + events).unwrap(), 0, 0, 1, 8, 1, 0x21];
        pdu.resize(pdu.len() + events, 0x20);
        pdu
    };
    for events in [0, 1, 64] {
        let pdu = log(events);
        let Ok(Response::EventLog { status: 0, count: 264, messages: 289, events: kept }) = answered(&pdu)
        else {
            panic!("{:?}", answered(&pdu));
        };
        assert_eq!(kept.len(), events);
    }
    assert!(answered(&log(65)).is_err());
    assert!(answered(&[12, 5, 0, 0, 1, 8, 1]).is_err(), "shorter than its three counters");
}

#[test]
fn diagnostics_carry_pairs_of_bytes_and_only_the_echo_more_than_one() {
    assert_eq!(asked(&[8, 0, 10, 0, 0]), Ok(Request::Diagnostics { sub: 10, data: &[0, 0] }));
    let long: Vec<u8> = [&[8, 0, 0][..], &[0xA5; 250]].concat();
    assert!(matches!(asked(&long), Ok(Request::Diagnostics { sub: 0, data }) if data.len() == 250));
    assert_eq!(asked(&long).unwrap().response_len(), Some(253), "an echo is as long as what it echoes");
    for pdu in [&[8, 0, 0][..], &[8, 0, 0, 1], &[8, 0, 0, 1, 2, 3], &[8, 0, 10, 0, 0, 0, 0], &[8, 0]] {
        assert!(asked(pdu).is_err() && answered(pdu).is_err(), "{pdu:?}");
    }
}

#[test]
fn a_queue_gives_at_most_31_values_and_its_two_counts_agree() {
    let queue = |bytes: u16, count: u16, values: usize| {
        let mut pdu = words(24, &[bytes, count]);
        pdu.resize(pdu.len() + values, 7);
        pdu
    };
    assert_eq!(answered(&queue(2, 0, 0)), Ok(Response::Queue(&[])));
    assert_eq!(answered(&queue(64, 31, 62)), Ok(Response::Queue(&[7; 62])));
    assert!(answered(&queue(66, 32, 64)).is_err());
    assert!(matches!(answered(&queue(4, 2, 4)), Err(WireFault::Disagree { said: 4, asked: 6, .. })));
    assert!(matches!(answered(&queue(6, 2, 3)), Err(WireFault::Short { .. })));
}

#[test]
fn a_mask_is_its_own_echo() {
    let pdu = words(22, &[4, 0x00F2, 0x0025]);
    let request = asked(&pdu).unwrap();
    assert!(request.writes() && request.may_broadcast());
    assert_eq!(request, Request::MaskWrite { offset: 4, and: 0xF2, or: 0x25 });
    assert_eq!(answered(&pdu), Ok(Response::MaskWrote { offset: 4, and: 0xF2, or: 0x25 }));
    assert!(asked(&pdu[..6]).is_err() && answered(&pdu[..6]).is_err());
}

#[test]
fn identification_walks_its_objects_to_the_end() {
    for code in 1..=4 {
        assert_eq!(asked(&[43, 14, code, 0]), Ok(Request::Identification { code, object: 0 }));
    }
    assert!(
        asked(&[43, 14, 0, 0]).is_err() && asked(&[43, 14, 5, 0]).is_err() && asked(&[43, 14, 1]).is_err()
    );
    // Another type of function 43 is somebody else's and goes through as it is.
    assert!(matches!(asked(&[43, 13, 9, 9]), Ok(Request::Other { function: 43, .. })));
    let sound = [43, 14, 1, 0x81, 0xFF, 2, 2, 0, 1, b'a', 1, 0];
    let Ok(Response::Identification { next: Some(2), count: 2, objects, .. }) = answered(&sound) else {
        panic!("{:?}", answered(&sound));
    };
    assert_eq!(objects, [0, 1, b'a', 1, 0]);
    for (at, byte) in [(4, 1), (6, 3), (6, 1), (8, 9), (2, 0)] {
        let mut unsound = sound;
        unsound[at] = byte;
        assert!(answered(&unsound).is_err(), "byte {at} is {byte}");
    }
    let last = [43, 14, 1, 1, 0, 7, 0];
    assert!(answered(&last).is_err(), "nothing follows, and yet an object is named");
}

#[test]
fn a_refusal_is_one_byte_and_knows_its_function() {
    for function in [1, 3, 15, 16, 22, 23, 43, 65, 127] {
        for code in [1, 2, 3, 4, 5, 6, 8, 10, 11, 99] {
            let pdu = [function | EXCEPTION_BIT, code];
            let response = answered(&pdu).unwrap();
            assert_eq!((response.function(), response.exception()), (function, Some(Exception(code))));
            let mut back = vec![];
            response.emit(&mut back);
            assert_eq!(back, pdu);
        }
    }
    assert!(answered(&[0x83]).is_err() && answered(&[0x83, 2, 0]).is_err());
}
