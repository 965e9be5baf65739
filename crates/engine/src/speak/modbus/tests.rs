//! The Modbus machines, a byte and a moment at a time.

use super::{NATIVE, RTU, TCP};
use crate::Moment;
use crate::speak::{Act, Ask, Client, ClientSetup, News, Serve, ServerSetup, Ticket, Want};
use proptest::prelude::*;
use woodrush_core::budget::LineTime;
use woodrush_core::plan::Station;
use woodrush_core::protocol::{DIALECTS, Extent, Setup, SpaceId, Spaces, dialect};
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::modbus::{rtu, tcp};

const LINE: LineTime = LineTime {
    char_nanos: 1_000_000,
    frame_gap: 4000,
    own_frame_gap: 4000,
    timeout: 200_000,
    turnaround: 100_000,
    hurry: false,
};
const HOLDING: SpaceId = SpaceId(3);
const COILS: SpaceId = SpaceId(0);

fn station(unit: u32, write_one: &str) -> Station {
    Station {
        name: "do-1".into(),
        port: 0,
        dialect: dialect("modbus-rtu"),
        setup: Setup {
            numbers: vec![("unit", unit)],
            words: vec![("write-one", write_one.into())],
            ..Setup::default()
        },
        spaces: Spaces::standing(DIALECTS[0]),
    }
}

fn rtu_client(retries: u32) -> Box<dyn Client> {
    (RTU.client.unwrap())(&ClientSetup {
        stations: &[station(17, "multiple"), station(18, "single")],
        line: LINE,
        retries,
        port: &Setup::default(),
        first: 0,
    })
}

fn read(first: u32, count: u32) -> Ask {
    Ask::read(0, Extent { space: HOLDING, first, count })
}

fn write(station: usize, space: SpaceId, cells: &[u8]) -> Ask {
    let each = if space == COILS { 1 } else { 2 };
    let count = u32::try_from(cells.len() / each).unwrap();
    Ask::Write { station, extent: Extent { space, first: 1, count }, cells: cells.to_vec() }
}

fn frame(unit: u8, pdu: &[u8]) -> Vec<u8> {
    let mut out = vec![];
    rtu::emit(unit, pdu, &mut out);
    out
}

/// Polls until the client sends; polling twice at each wait must change nothing.
fn sent(client: &mut dyn Client, now: &mut Moment) -> Vec<u8> {
    loop {
        match client.poll(*now) {
            Act::Send(bytes) => return bytes,
            Act::WaitUntil(moment) => {
                assert_eq!(client.poll(*now), Act::WaitUntil(moment));
                *now = moment;
            }
            other => panic!("{other:?}"),
        }
    }
}

/// Polls until the question is answered.
fn done(client: &mut dyn Client, now: &mut Moment) -> Result<Vec<u8>, Refusal> {
    loop {
        match client.poll(*now) {
            Act::Done(_, result) => return result.map(|got| got.cells),
            Act::WaitUntil(moment) => *now = moment,
            other => panic!("{other:?}"),
        }
    }
}

fn kind(result: Result<Vec<u8>, Refusal>) -> Kind {
    result.unwrap_err().kind
}

#[test]
fn a_read_is_asked_answered_and_followed_by_a_silence() {
    let (mut client, mut now) = (rtu_client(0), Moment(10_000));
    client.ask(Ticket(1), read(0x6B, 3));
    assert!(!client.is_free());
    assert_eq!(sent(client.as_mut(), &mut now), [0x11, 3, 0, 0x6B, 0, 3, 0x76, 0x87]);
    now = now + 30_000;
    let answer = frame(17, &[3, 6, 4, 0xD2, 0xFF, 0xFB, 0x9C, 0x40]);
    // In pieces, as drivers deliver.
    for piece in answer.chunks(3) {
        client.handle(now, News::Bytes(piece));
        now = now + 1000;
    }
    assert_eq!(done(client.as_mut(), &mut now), Ok(vec![4, 0xD2, 0xFF, 0xFB, 0x9C, 0x40]));
    let last = now - 1000;
    client.ask(Ticket(2), read(0, 1));
    assert_eq!(client.poll(now), Act::WaitUntil(last + 4000), "the silence counts from the last byte");
}

#[test]
fn writes_use_the_functions_that_the_device_takes() {
    for (station, space, cells, request) in [
        (0, HOLDING, vec![0, 10, 1, 2], vec![16, 0, 1, 0, 2, 4, 0, 10, 1, 2]),
        (0, HOLDING, vec![0, 3], vec![16, 0, 1, 0, 1, 2, 0, 3]),
        (1, HOLDING, vec![0, 3], vec![6, 0, 1, 0, 3]),
        (1, HOLDING, vec![0, 10, 1, 2], vec![16, 0, 1, 0, 2, 4, 0, 10, 1, 2]),
        (0, COILS, vec![1], vec![15, 0, 1, 0, 1, 1, 1]),
        (1, COILS, vec![1], vec![5, 0, 1, 0xFF, 0]),
        (1, COILS, vec![0], vec![5, 0, 1, 0, 0]),
        (0, COILS, vec![1, 0, 1, 1, 0, 0, 1, 1, 1, 0], vec![15, 0, 1, 0, 10, 2, 0xCD, 1]),
    ] {
        let (mut client, mut now) = (rtu_client(0), Moment(0));
        client.ask(Ticket(1), write(station, space, &cells));
        let unit = 17 + u8::try_from(station).unwrap();
        assert_eq!(sent(client.as_mut(), &mut now), frame(unit, &request));
        let echo = if request[0] < 15 { &request[..] } else { &request[..5] };
        client.handle(now, News::Bytes(&frame(unit, echo)));
        assert_eq!(done(client.as_mut(), &mut now), Ok(vec![]), "{request:?}");
    }
}

#[test]
fn a_dead_unit_costs_its_timeouts_a_rest_each_and_is_reported_silent() {
    let (mut client, mut now) = (rtu_client(2), Moment(0));
    client.ask(Ticket(1), read(0, 1));
    for try_number in 0..3u64 {
        sent(client.as_mut(), &mut now);
        // 8 bytes of 1 ms, the timeout, a rest of a quarter of it.
        assert_eq!(now, Moment(try_number * (8_000 + 200_000 + 50_000)));
        let Act::WaitUntil(give_up) = client.poll(now) else { panic!() };
        assert_eq!(give_up, now + 208_000);
        now = give_up;
    }
    assert_eq!(kind(done(client.as_mut(), &mut now)), Kind::NoAnswer);
    assert!(client.is_free());
}

#[test]
fn whatever_else_comes_is_named_for_what_it_is() {
    let good = frame(17, &[3, 2, 0, 1]);
    let flipped: Vec<u8> =
        good.iter().enumerate().map(|(at, byte)| if at == 3 { byte ^ 4 } else { *byte }).collect();
    for (bytes, wanted) in [
        (vec![], Kind::NoAnswer),
        (flipped, Kind::Damaged),
        (good[..4].to_vec(), Kind::Damaged),
        (vec![0x55; 40], Kind::Damaged),
        (frame(18, &[3, 2, 0, 1]), Kind::Mismatch),
        (frame(17, &[4, 2, 0, 1]), Kind::Mismatch),
        (frame(17, &[3, 4, 0, 1, 0, 2]), Kind::Mismatch),
        (frame(17, &[3, 1, 9]), Kind::Mismatch),
    ] {
        let (mut client, mut now) = (rtu_client(0), Moment(0));
        client.ask(Ticket(1), read(0, 1));
        sent(client.as_mut(), &mut now);
        client.handle(now + 20_000, News::Bytes(&bytes));
        assert_eq!(kind(done(client.as_mut(), &mut now)), wanted, "{bytes:02X?}");
        assert!(now <= Moment(208_000 + 50_000 + 4000), "within one timeout and its rest");
    }
}

/// Polls up to a moment at which the client must still be waiting.
fn wait(client: &mut dyn Client, now: &mut Moment, until: Moment) {
    while let Act::WaitUntil(moment) = client.poll(*now) {
        if moment > until {
            *now = until;
            return;
        }
        *now = moment;
    }
    panic!("it waits no longer at {now:?}");
}

#[test]
fn what_another_unit_says_is_put_aside_and_the_one_that_was_asked_keeps_its_time() {
    let (mut client, mut now) = (rtu_client(0), Moment(0));
    client.ask(Ticket(1), read(0, 1));
    sent(client.as_mut(), &mut now);
    client.handle(Moment(20_000), News::Bytes(&frame(18, &[3, 2, 0, 9])));
    wait(client.as_mut(), &mut now, Moment(190_000));
    client.handle(now, News::Bytes(&frame(17, &[3, 2, 0x12, 0x34])));
    assert_eq!(done(client.as_mut(), &mut now), Ok(vec![0x12, 0x34]));
}

#[test]
fn a_unit_that_answers_into_anothers_question_is_waited_for_until_it_answers_in_time() {
    let (mut client, mut now) = (rtu_client(0), Moment(0));
    let other = || Ask::read(1, Extent { space: HOLDING, first: 0, count: 1 });
    // How long after the timeout a silent unit holds the line.
    let rest = |client: &mut dyn Client, now: &mut Moment, ticket: u64| {
        client.ask(Ticket(ticket), read(0, 1));
        sent(client, now);
        let given_up = *now + 208_000;
        assert_eq!(kind(done(client, now)), Kind::NoAnswer);
        now.since(given_up)
    };
    assert_eq!(rest(client.as_mut(), &mut now, 1), 50_000, "a quarter of the timeout");
    client.ask(Ticket(2), other());
    sent(client.as_mut(), &mut now);
    let came = now + 30_000;
    client.handle(came, News::Bytes(&frame(17, &[3, 2, 0, 1])));
    now = came;
    wait(client.as_mut(), &mut now, came + 100_000);
    client.handle(now, News::Bytes(&frame(18, &[3, 2, 0, 2])));
    assert_eq!(done(client.as_mut(), &mut now), Ok(vec![0, 2]), "the other is spared");
    let longer = rest(client.as_mut(), &mut now, 3);
    assert!((80_000..=100_000).contains(&longer), "as late as it was: {longer}");
    // Three answers of that likeness may still come; then the fourth is believed.
    client.ask(Ticket(4), read(0, 1));
    for _ in 0..3 {
        sent(client.as_mut(), &mut now);
        now = now + 20_000;
        client.handle(now, News::Bytes(&frame(17, &[3, 2, 0, 5])));
        if client.is_free() {
            break;
        }
    }
    assert_eq!(done(client.as_mut(), &mut now), Ok(vec![0, 5]));
    assert_eq!(rest(client.as_mut(), &mut now, 5), 50_000, "it has answered in time since");
}

/// A client whose first question, two registers at 5, was not answered in time.
fn unsettled() -> (Box<dyn Client>, Moment) {
    let (mut client, mut now) = (rtu_client(0), Moment(0));
    client.ask(Ticket(1), read(5, 2));
    sent(client.as_mut(), &mut now);
    assert_eq!(kind(done(client.as_mut(), &mut now)), Kind::NoAnswer);
    (client, now)
}

#[test]
fn a_question_that_looks_like_one_that_was_given_up_waits_for_an_answer_that_looks_like_none() {
    // What the unit says to the other question: the values, that there is no such place, or that it is busy.
    for (answer, settles) in
        [(&[3, 2, 0, 1][..], true), (&[0x83, 2], true), (&[0x83, 3], true), (&[0x83, 6], false)]
    {
        let (mut client, mut now) = unsettled();
        client.ask(Ticket(2), read(9, 2));
        assert_eq!(sent(client.as_mut(), &mut now), frame(17, &[3, 0, 9, 0, 1]), "a part of the place");
        // The late answer comes, and is nobody's.
        client.handle(now + 1000, News::Bytes(&frame(17, &[3, 4, 0xBA, 0xD0, 0xBA, 0xD0])));
        client.handle(now + 20_000, News::Bytes(&frame(17, answer)));
        now = now + 20_000;
        if !settles {
            assert_eq!(kind(done(client.as_mut(), &mut now)), Kind::Busy);
            continue;
        }
        assert_eq!(sent(client.as_mut(), &mut now), frame(17, &[3, 0, 9, 0, 2]));
        client.handle(now, News::Bytes(&frame(17, &[3, 4, 0, 7, 0, 8])));
        assert_eq!(done(client.as_mut(), &mut now), Ok(vec![0, 7, 0, 8]));
        // From then on it is asked once.
        client.ask(Ticket(3), read(11, 2));
        assert_eq!(sent(client.as_mut(), &mut now), frame(17, &[3, 0, 11, 0, 2]));
    }
}

#[test]
fn an_answer_of_another_length_settles_what_was_given_up_before() {
    let (mut client, mut now) = unsettled();
    client.ask(Ticket(2), read(20, 3));
    assert_eq!(sent(client.as_mut(), &mut now), frame(17, &[3, 0, 20, 0, 3]));
    client.handle(now, News::Bytes(&frame(17, &[3, 6, 0, 1, 0, 2, 0, 3])));
    assert_eq!(done(client.as_mut(), &mut now), Ok(vec![0, 1, 0, 2, 0, 3]));
    client.ask(Ticket(3), read(9, 2));
    assert_eq!(sent(client.as_mut(), &mut now), frame(17, &[3, 0, 9, 0, 2]));
}

#[test]
fn nothing_is_read_around_a_single_register_and_it_is_asked_once_more_instead() {
    let (mut client, mut now) = (rtu_client(0), Moment(0));
    client.ask(Ticket(1), read(5, 1));
    sent(client.as_mut(), &mut now);
    assert_eq!(kind(done(client.as_mut(), &mut now)), Kind::NoAnswer);
    client.ask(Ticket(2), read(9, 1));
    // The late answer of the first, then its own.
    for word in [0xBAD0u16, 7] {
        assert_eq!(sent(client.as_mut(), &mut now), frame(17, &[3, 0, 9, 0, 1]));
        let [high, low] = word.to_be_bytes();
        client.handle(now, News::Bytes(&frame(17, &[3, 2, high, low])));
    }
    assert_eq!(done(client.as_mut(), &mut now), Ok(vec![0, 7]));
}

#[test]
fn a_late_confirmation_is_not_that_of_the_next_values() {
    let (mut client, mut now) = (rtu_client(0), Moment(0));
    let two = |value: u8| write(0, HOLDING, &[0, value, 0, value]);
    client.ask(Ticket(1), two(5));
    sent(client.as_mut(), &mut now);
    assert_eq!(kind(done(client.as_mut(), &mut now)), Kind::NoAnswer);
    client.ask(Ticket(2), two(7));
    assert_eq!(sent(client.as_mut(), &mut now), frame(17, &[3, 0, 1, 0, 2]), "a read of the place");
    client.handle(now, News::Bytes(&frame(17, &[16, 0, 1, 0, 2])));
    client.handle(now, News::Bytes(&frame(17, &[3, 4, 0, 5, 0, 5])));
    assert_eq!(sent(client.as_mut(), &mut now), frame(17, &[16, 0, 1, 0, 2, 4, 0, 7, 0, 7]));
    client.handle(now, News::Bytes(&frame(17, &[16, 0, 1, 0, 2])));
    assert_eq!(done(client.as_mut(), &mut now), Ok(vec![]));
}

#[test]
fn an_answer_is_found_behind_noise_and_an_exception_keeps_its_code() {
    let (mut client, mut now) = (rtu_client(0), Moment(0));
    client.ask(Ticket(1), read(0, 1));
    sent(client.as_mut(), &mut now);
    client.handle(now, News::Bytes(&[0, 0x11, 0xFF]));
    client.handle(now, News::Bytes(&frame(17, &[3, 2, 0x12, 0x34])));
    assert_eq!(done(client.as_mut(), &mut now), Ok(vec![0x12, 0x34]));
    client.ask(Ticket(2), read(0, 1));
    sent(client.as_mut(), &mut now);
    client.handle(now, News::Bytes(&frame(17, &[0x83, 2])));
    let refusal = done(client.as_mut(), &mut now).unwrap_err();
    assert_eq!(refusal, Refusal::new(Kind::NoSuchAddress, Blame::Device).with_native(NATIVE, 2));
    assert_eq!(NATIVE, DIALECTS[0].refusals().name, "one name on both floors");
}

#[test]
fn an_echo_that_is_not_the_write_is_no_confirmation() {
    for echo in [vec![16, 0, 2, 0, 2], vec![16, 0, 1, 0, 1], vec![6, 0, 1, 0, 2]] {
        let (mut client, mut now) = (rtu_client(0), Moment(0));
        client.ask(Ticket(1), write(0, HOLDING, &[0, 10, 1, 2]));
        sent(client.as_mut(), &mut now);
        client.handle(now, News::Bytes(&frame(17, &echo)));
        assert_eq!(kind(done(client.as_mut(), &mut now)), Kind::Mismatch, "{echo:?}");
    }
}

#[test]
fn a_line_that_goes_away_ends_the_question_and_refuses_the_next() {
    let (mut client, mut now) = (rtu_client(3), Moment(0));
    client.ask(Ticket(1), read(0, 1));
    sent(client.as_mut(), &mut now);
    client.handle(now, News::Down);
    assert_eq!(kind(done(client.as_mut(), &mut now)), Kind::NoPath);
    client.ask(Ticket(2), read(0, 1));
    assert_eq!(kind(done(client.as_mut(), &mut now)), Kind::NoPath);
    client.handle(now, News::Up);
    client.ask(Ticket(3), read(0, 1));
    sent(client.as_mut(), &mut now);
}

#[test]
fn over_tcp_only_the_own_transaction_is_an_answer() {
    let none = Setup::default();
    let setup =
        ClientSetup { stations: &[station(17, "multiple")], line: LINE, retries: 0, port: &none, first: 0 };
    let (mut client, mut now) = ((TCP.client.unwrap())(&setup), Moment(0));
    let message = |transaction: u16, unit: u8, pdu: &[u8]| {
        let mut out = vec![];
        tcp::emit(transaction, unit, pdu, &mut out);
        out
    };
    client.ask(Ticket(1), read(0, 1));
    assert_eq!(sent(client.as_mut(), &mut now), message(1, 17, &[3, 0, 0, 0, 1]));
    client.handle(now, News::Bytes(&message(9, 17, &[3, 2, 9, 9])));
    client.handle(now, News::Bytes(&message(1, 99, &[3, 2, 9, 9])));
    assert_eq!(client.poll(now), Act::WaitUntil(Moment(200_000)));
    let answer = message(1, 17, &[3, 2, 0x12, 0x34]);
    client.handle(now, News::Bytes(&answer[..5]));
    client.handle(now, News::Bytes(&answer[5..]));
    assert_eq!(done(client.as_mut(), &mut now), Ok(vec![0x12, 0x34]));
    client.ask(Ticket(2), read(0, 1));
    sent(client.as_mut(), &mut now);
    assert_eq!(kind(done(client.as_mut(), &mut now)), Kind::NoAnswer);
    client.ask(Ticket(3), read(0, 1));
    sent(client.as_mut(), &mut now);
    client.handle(now, News::Bytes(&message(2, 17, &[3, 2, 9, 9])));
    client.handle(now, News::Bytes(&[0, 3, 0, 0, 0, 0, 0, 0]));
    assert_eq!(
        kind(done(client.as_mut(), &mut now)),
        Kind::Damaged,
        "a late answer is dropped, a lost stream is said"
    );
}

#[test]
fn over_tcp_each_try_has_a_number_of_its_own() {
    let none = Setup::default();
    let setup =
        ClientSetup { stations: &[station(17, "multiple")], line: LINE, retries: 1, port: &none, first: 0 };
    let (mut client, mut now) = ((TCP.client.unwrap())(&setup), Moment(0));
    client.ask(Ticket(1), read(0, 1));
    let first = sent(client.as_mut(), &mut now);
    let second = sent(client.as_mut(), &mut now);
    assert_eq!((first[1], second[1], now), (1, 2, Moment(200_000)));
    assert_eq!(first[2..], second[2..]);
    // The answer to the first try comes now: nobody waits for it any more.
    client.handle(now, News::Bytes(&[0, 1, 0, 0, 0, 5, 17, 3, 2, 9, 9]));
    client.handle(now, News::Bytes(&[0, 2, 0, 0, 0, 5, 17, 3, 2, 0x12, 0x34]));
    assert_eq!(done(client.as_mut(), &mut now), Ok(vec![0x12, 0x34]));
    client.ask(Ticket(2), read(0, 1));
    let tries = [sent(client.as_mut(), &mut now), sent(client.as_mut(), &mut now)];
    assert_eq!(tries.map(|frame| frame[1]), [3, 4]);
    assert_eq!(kind(done(client.as_mut(), &mut now)), Kind::NoAnswer);
}

#[test]
fn a_server_on_a_line_answers_its_own_unit_and_nobody_a_broadcast() {
    let mut server =
        (RTU.server.unwrap())(&ServerSetup { units: Some(vec![17]), shared: true, ..ServerSetup::default() });
    let mut hear = |bytes: &[u8]| {
        server.handle(Moment(0), News::Bytes(bytes));
        let wanted = match server.poll(Moment(0)) {
            Serve::Want { unit, want, .. } => Some((unit, want)),
            Serve::Send(bytes) => return (None, bytes),
            _ => None,
        };
        if wanted.is_some() {
            server.give(Ok(&[0, 7]));
        }
        let answer = match server.poll(Moment(0)) {
            Serve::Send(bytes) => bytes,
            _ => vec![],
        };
        (wanted, answer)
    };
    let extent = Extent { space: HOLDING, first: 16, count: 1 };
    let (wanted, answer) = hear(&frame(17, &[3, 0, 16, 0, 1]));
    assert_eq!((wanted, answer), (Some((17, Want::Read(extent))), frame(17, &[3, 2, 0, 7])));
    assert_eq!(hear(&frame(18, &[3, 0, 16, 0, 1])), (None, vec![]), "another unit's affair");
    let (wanted, answer) = hear(&frame(0, &[6, 0, 16, 0x55, 0xAA]));
    assert_eq!(wanted, Some((0, Want::Write { extent, cells: vec![0x55, 0xAA] })));
    assert_eq!(answer, [0; 0], "a broadcast is acted on and not answered");
    assert_eq!(hear(&frame(0, &[3, 0, 16, 0, 1])), (None, vec![]), "a read of all is meaningless");
    assert_eq!(hear(&frame(17, &[3, 0, 16, 0, 126])).1, frame(17, &[0x83, 3]));
    assert_eq!(hear(&frame(17, &[3, 0xFF, 0xFE, 0, 4])).1, frame(17, &[0x83, 2]));
}

#[test]
fn refusals_become_the_exceptions_that_the_standard_has_for_them() {
    let server = (TCP.server.unwrap())(&ServerSetup::default());
    for (kind, code) in [
        (Kind::NoSuchCommand, 1),
        (Kind::NoSuchAddress, 2),
        (Kind::ReadOnly, 2),
        (Kind::BadValue, 3),
        (Kind::DoesNotFit, 3),
        (Kind::Fault, 4),
        (Kind::Busy, 6),
        (Kind::NoPath, 10),
        (Kind::NoAnswer, 11),
        (Kind::Damaged, 11),
        (Kind::Lost, 11),
        (Kind::NeverSeen, 11),
    ] {
        assert_eq!(server.native(Refusal::new(kind, Blame::Device)).0, code, "{kind:?}");
    }
    let own = Refusal::new(Kind::Fault, Blame::Device).with_native(NATIVE, 8);
    assert_eq!(server.native(own), (8, "memory parity error"), "the device's own passes unchanged");
}

proptest! {
    #[test]
    fn no_bytes_make_a_client_panic_or_take_a_wrong_answer(
        noise in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..40), 0..6),
        gaps in prop::collection::vec(0u64..80_000, 6),
    ) {
        let (mut client, mut now) = (rtu_client(1), Moment(0));
        client.ask(Ticket(1), read(0, 2));
        let mut pieces = noise.into_iter().zip(gaps);
        loop {
            match client.poll(now) {
                Act::Done(_, result) => {
                    // By chance once in 65536 frames that fit unit, function and length.
                    prop_assert!(result.is_err());
                    break;
                }
                Act::WaitUntil(moment) => match pieces.next() {
                    Some((bytes, gap)) => {
                        now = (now + gap).min(moment.max(now));
                        client.handle(now, News::Bytes(&bytes));
                    }
                    None => now = moment.max(now),
                },
                Act::Send(_) => {}
                _ => panic!("a question was forgotten"),
            }
            prop_assert!(now < Moment(10_000_000));
        }
    }

    #[test]
    fn no_bytes_make_a_server_panic_or_hold_more_than_they_are(
        pieces in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..300), 1..8), on_line: bool,
    ) {
        let mut server = if on_line { (RTU.server.unwrap())(&ServerSetup { shared: true, ..ServerSetup::default() }) } else { (TCP.server.unwrap())(&ServerSetup::default()) };
        let mut now = Moment(0);
        for piece in pieces {
            server.handle(now, News::Bytes(&piece));
            for _ in 0..2000 {
                match server.poll(now) {
                    Serve::Want { want: Want::Read(extent), .. } => server.give(Ok(&vec![0; extent.count as usize * 2])),
                    Serve::Want { .. } => server.give(Ok(&[])),
                    Serve::Send(_) => {}
                    Serve::HangUp(_) => return Ok(()),
                    Serve::WaitUntil(_) | Serve::Rest => break,
                }
            }
            now = now + 60_000;
        }
    }
}
