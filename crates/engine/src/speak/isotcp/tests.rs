//! The two machines against the vectors' bytes, against each other, and against what goes wrong.

use super::FETCH_WRITE;
use crate::Moment;
use crate::speak::{Act, Ask, Client, ClientSetup, News, Serve, Server, ServerSetup, Ticket, Want};
use proptest::prelude::*;
use std::sync::Arc;
use woodrush_core::budget::LineTime;
use woodrush_core::plan::Station;
use woodrush_core::protocol::{AddressContext, Extent, Setup, SpaceId, Spaces, dialect};
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

fn spaces() -> Arc<Spaces> {
    let blocks = dialect("fetch-write").unwrap();
    let mut all = Spaces::default();
    for text in ["%DB10.W0", "%MB0", "%C0", "%DB20.W0"] {
        all.add(&blocks.notation().parse(text, &AddressContext::of_device(&Setup::default())).unwrap().space);
    }
    Arc::new(all)
}

fn names(local: &str, remote: &str) -> Setup {
    Setup {
        numbers: vec![],
        words: vec![("local-tsap", local.into()), ("remote-tsap", remote.into())],
        ..Setup::default()
    }
}

fn client() -> Box<dyn Client> {
    let station = Station {
        name: "pump-house".into(),
        port: 0,
        dialect: dialect("fetch-write"),
        setup: Setup::default(),
        spaces: spaces(),
    };
    let port = names("01.00", "01.02");
    (FETCH_WRITE.client.unwrap())(&ClientSetup {
        stations: &[station],
        line: LINE,
        retries: 0,
        port: &port,
        first: 0,
    })
}

fn server() -> Box<dyn Server> {
    let setup = ServerSetup {
        stations: vec![(None, spaces())],
        own: names("01.02", "01.00"),
        ..ServerSetup::default()
    };
    (FETCH_WRITE.server.unwrap())(&setup)
}

fn extent(space: u32, first: u32, count: u32) -> Extent {
    Extent { space: SpaceId(space), first, count }
}

fn read(space: u32, first: u32, count: u32) -> Ask {
    Ask::read(0, extent(space, first, count))
}

/// What the client sends next.
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

const CR: &str = "03 00 00 16 11 E0 00 00 00 01 00 C0 01 0A C1 02 01 00 C2 02 01 02";
const CC: &str = "03 00 00 16 11 D0 00 01 44 31 00 C0 01 0A C1 02 01 00 C2 02 01 02";

/// A client whose connection is open.
fn open() -> (Box<dyn Client>, Moment) {
    let (mut client, now) = (client(), Moment(0));
    assert_eq!(sent(client.as_mut(), now), hex(CR));
    client.handle(now, News::Bytes(&hex(CC)));
    assert_eq!(client.poll(now), Act::Rest);
    (client, now)
}

#[test]
fn jobs_are_the_bytes_of_the_vectors() {
    let (mut client, now) = open();
    for (ask, request, answer, cells) in [
        (
            read(0, 0, 8),
            "03 00 00 17 02 F0 80 53 35 10 01 03 05 03 08 01 0A 00 00 00 04 FF 02",
            "03 00 00 1F 02 F0 80 53 35 10 01 03 06 0F 03 00 FF 07 00 00 00 00 00 01 02 06 D2 FF FB FF FF",
            "01 02 06 D2 FF FB FF FF",
        ),
        (
            read(1, 5, 3),
            "03 00 00 17 02 F0 80 53 35 10 01 03 05 03 08 02 00 00 05 00 03 FF 02",
            "03 00 00 1B 02 F0 80 53 35 10 01 03 06 0F 03 00 FF 07 00 00 00 00 00 11 22 33 00",
            "11 22 33",
        ),
        (
            read(2, 1, 2),
            "03 00 00 17 02 F0 80 53 35 10 01 03 05 03 08 06 00 00 01 00 02 FF 02",
            "03 00 00 1B 02 F0 80 53 35 10 01 03 06 0F 03 00 FF 07 00 00 00 00 00 00 99 02 50",
            "00 99 02 50",
        ),
        (
            Ask::Write { station: 0, extent: extent(0, 12, 6), cells: hex("00 01 00 02 00 03") },
            "03 00 00 1D 02 F0 80 53 35 10 01 03 03 03 08 01 0A 00 06 00 03 FF 02 00 01 00 02 00 03",
            "03 00 00 17 02 F0 80 53 35 10 01 03 04 0F 03 00 FF 07 00 00 00 00 00",
            "",
        ),
        (
            Ask::Write { station: 0, extent: extent(1, 20, 3), cells: hex("A1 A2 A3") },
            "03 00 00 1B 02 F0 80 53 35 10 01 03 03 03 08 02 00 00 14 00 03 FF 02 A1 A2 A3 00",
            "03 00 00 17 02 F0 80 53 35 10 01 03 04 0F 03 00 FF 07 00 00 00 00 00",
            "",
        ),
    ] {
        client.ask(Ticket(7), ask);
        assert_eq!(sent(client.as_mut(), now), hex(request));
        assert_eq!(client.poll(now), Act::WaitUntil(now + 3_000_000), "asking again changes nothing");
        // The answer may come byte by byte.
        hex(answer).chunks(3).for_each(|part| client.handle(now, News::Bytes(part)));
        assert_eq!(done(client.as_mut(), now), Ok(hex(cells)));
    }
}

#[test]
fn refusals_are_the_controllers_own_and_the_connection_stays() {
    let (mut client, now) = open();
    for (number, kind) in
        [(2, Kind::NoSuchAddress), (3, Kind::NoSuchAddress), (0xFF, Kind::Fault), (1, Kind::Fault)]
    {
        client.ask(Ticket(1), read(0, 0, 8));
        sent(client.as_mut(), now);
        let mut answer = hex("03 00 00 17 02 F0 80 53 35 10 01 03 06 0F 03 00 FF 07 00 00 00 00 00");
        answer[15] = number;
        client.handle(now, News::Bytes(&answer));
        let refusal = Refusal::new(kind, Blame::Device).with_native("block error", number.into());
        assert_eq!(done(client.as_mut(), now), Err(refusal));
        assert_eq!(client.poll(now), Act::Rest);
    }
}

#[test]
fn what_cannot_be_trusted_costs_the_connection() {
    let told = |answer: &str, wait: u64| {
        let (mut client, now) = open();
        client.ask(Ticket(1), read(0, 0, 8));
        sent(client.as_mut(), now);
        client.handle(now, News::Bytes(&hex(answer)));
        let now = now + wait;
        let kind = done(client.as_mut(), now).unwrap_err().kind;
        let Act::HangUp(why) = client.poll(now) else { panic!("it stays open") };
        assert_eq!(client.poll(now), Act::Rest);
        // Until there is a new one, nothing can be asked.
        client.ask(Ticket(2), read(0, 0, 8));
        assert_eq!(done(client.as_mut(), now).unwrap_err().kind, Kind::NoPath);
        client.handle(now, News::Down);
        client.handle(now, News::Up);
        client.ask(Ticket(3), read(0, 0, 8));
        assert_eq!(sent(client.as_mut(), now), hex(CR), "it opens anew");
        (kind, why)
    };
    let (kind, why) = told("", 3_000_000);
    assert_eq!((kind, why.contains("no answer in time")), (Kind::NoAnswer, true));
    let short = "03 00 00 1B 02 F0 80 53 35 10 01 03 06 0F 03 00 FF 07 00 00 00 00 00 00 01 00 02";
    let (kind, why) = told(short, 0);
    assert_eq!((kind, why.contains("data says 4")), (Kind::Mismatch, true), "{why}");
    let other = "03 00 00 17 02 F0 80 53 35 10 01 03 04 0F 03 00 FF 07 00 00 00 00 00";
    assert_eq!(told(other, 0).0, Kind::Mismatch);
    assert_eq!(told("02 00 00 17", 0).0, Kind::Damaged);
    assert_eq!(told("03 00 00 0B 06 80 00 01 00 00 80", 0).0, Kind::NoPath);
    assert_eq!(told("03 00 00 09 04 70 00 01 02", 0).0, Kind::Mismatch);
    assert_eq!(told(CC, 0).0, Kind::Mismatch, "opened twice");
}

#[test]
fn a_refused_opening_is_told_in_words() {
    for (answer, words) in [
        (
            "03 00 00 0B 06 80 00 01 00 00 02",
            "no one listens at that TSAP (0x02); are local and remote TSAP swapped",
        ),
        ("03 00 00 0B 06 80 00 01 00 00 88", "refused on this connection"),
        ("03 00 00 16 11 D0 00 01 44 34 00 C0 01 0B C1 02 01 00 C2 02 01 02", "TPDU size is 11"),
        ("03 00 00 16 11 D0 00 99 44 35 00 C0 01 0A C1 02 01 00 C2 02 01 02", "DST-REF is 153"),
        ("03 00 00 08 02 F0 80 55", "out of order"),
        ("", "set up there?"),
    ] {
        let (mut client, mut now) = (client(), Moment(0));
        client.ask(Ticket(1), read(0, 0, 8));
        assert_eq!(sent(client.as_mut(), now), hex(CR));
        client.handle(now, News::Bytes(&hex(answer)));
        if answer.is_empty() {
            now = now + 3_000_000;
        }
        assert!(matches!(done(client.as_mut(), now).unwrap_err().kind, Kind::NoPath | Kind::Mismatch));
        let Act::HangUp(why) = client.poll(now) else { panic!("{answer}") };
        assert!(why.contains(words), "{why}");
    }
}

/// Lets the two talk until the client is done; `memory` is what the server reads and writes, by space.
fn talk(
    client: &mut dyn Client,
    server: &mut dyn Server,
    memory: &mut [Vec<u8>],
    pieces: usize,
) -> Result<Vec<u8>, Refusal> {
    let now = Moment(0);
    loop {
        match client.poll(now) {
            Act::Done(_, result) => return result.map(|got| got.cells),
            Act::Send(bytes) => bytes.chunks(pieces).for_each(|part| server.handle(now, News::Bytes(part))),
            Act::WaitUntil(_) | Act::Rest => {}
            Act::HangUp(why) => panic!("{why}"),
            Act::Came(..) | Act::Stopped(..) | Act::Tell(_) => panic!("nothing comes by itself"),
        }
        let room = |memory: &[Vec<u8>], extent: Extent| {
            let each = spaces().get(extent.space).unwrap().grain.cell_bytes();
            let range = extent.first as usize * each..extent.end() as usize * each;
            memory[extent.space.index()].get(range.clone()).map(|_| range)
        };
        let missing = Refusal::new(Kind::NoSuchAddress, Blame::Device);
        match server.poll(now) {
            Serve::Send(bytes) => bytes.chunks(pieces).for_each(|part| client.handle(now, News::Bytes(part))),
            Serve::Want { want: Want::Read(extent), .. } => match room(memory, extent) {
                Some(range) => server.give(Ok(&memory[extent.space.index()][range])),
                None => server.give(Err(missing)),
            },
            Serve::Want { want: Want::Write { extent, cells }, .. } => match room(memory, extent) {
                Some(range) => {
                    memory[extent.space.index()][range].copy_from_slice(&cells);
                    server.give(Ok(&[]));
                }
                None => server.give(Err(missing)),
            },
            Serve::Rest => {}
            other => panic!("{other:?}"),
        }
    }
}

#[test]
fn a_byte_or_a_bit_of_a_block_is_fetched_changed_and_written() {
    let mut memory = vec![hex("11 22 33 44"), vec![0xF0; 4], vec![], vec![]];
    let (mut client, mut server) = (client(), server());
    let mut ask = |ask: Ask, memory: &mut Vec<Vec<u8>>| {
        client.ask(Ticket(1), ask);
        talk(client.as_mut(), server.as_mut(), memory, 5)
    };
    let write = |space, first, bytes: &str| {
        let cells = hex(bytes);
        Ask::Write { station: 0, extent: extent(space, first, u32::try_from(cells.len()).unwrap()), cells }
    };
    assert_eq!(ask(write(0, 1, "AA"), &mut memory), Ok(vec![]));
    assert_eq!(memory[0], hex("11 AA 33 44"), "the byte beside it stays");
    assert_eq!(ask(write(0, 1, "BB CC"), &mut memory), Ok(vec![]));
    assert_eq!(memory[0], hex("11 BB CC 44"));
    let change = |space, first, keep, set| Ask::Change {
        station: 0,
        extent: extent(space, first, 1),
        keep: vec![keep],
        set: vec![set],
    };
    assert_eq!(ask(change(0, 3, 0xF7, 0x08), &mut memory), Ok(vec![]));
    assert_eq!(memory[0], hex("11 BB CC 4C"), "bit 3 of byte 3");
    assert_eq!(ask(change(1, 2, 0x7F, 0x00), &mut memory), Ok(vec![]));
    assert_eq!(memory[1], hex("F0 F0 70 F0"));
    assert_eq!(ask(read(0, 1, 2), &mut memory), Ok(hex("BB CC")), "an odd byte is read with its word");
    let native = |result: Result<Vec<u8>, Refusal>| result.unwrap_err().native;
    assert_eq!(native(ask(read(0, 2, 4), &mut memory)), Some(("block error", 3)), "past the end");
    let nowhere = Ask::read(0, extent(9, 0, 2));
    assert_eq!(ask(nowhere, &mut memory).unwrap_err().kind, Kind::NoSuchCommand);
}

#[test]
fn a_server_answers_what_it_does_not_have_by_number_and_closes_on_nonsense() {
    let said = |request: &str| {
        let mut server = server();
        server.handle(Moment(0), News::Bytes(&hex(CR)));
        assert_eq!(server.poll(Moment(0)), Serve::Send(hex(CC)));
        server.handle(Moment(0), News::Bytes(&hex(request)));
        server.poll(Moment(0))
    };
    let head = "03 00 00 17 02 F0 80 53 35 10 01 03";
    for (request, op, number) in [
        ("05 03 08 01 63 00 00 00 01 FF 02", 6, 2),
        ("05 03 08 0B 0A 00 00 00 01 FF 02", 6, 0xFF),
        ("05 03 08 07 00 00 00 00 01 FF 02", 6, 3),
        ("05 03 08 01 0A 00 00 00 00 FF 02", 6, 0xFF),
    ] {
        let Serve::Send(answer) = said(&format!("{head} {request}")) else { panic!("{request}") };
        assert_eq!((answer[12], answer[15]), (op, number), "{request}");
    }
    let short = "03 00 00 1B 02 F0 80 53 35 10 01 03 03 03 08 01 0A 00 00 00 04 FF 02 00 01 00 02";
    let Serve::Send(answer) = said(short) else { panic!() };
    assert_eq!((answer[12], answer[15]), (4, 0xFF), "too few data: nothing is written");
    for nonsense in [
        "03 00 00 17 02 F0 80 53 36 10 01 03 05 03 08 01 0A 00 00 00 01 FF 02",
        "03 00 00 13 02 F0 80 53 35 10 01 03 05 03 08 01 0A 00 00",
        "47 45 54 20",
        CR,
    ] {
        assert!(matches!(said(nonsense), Serve::HangUp(_)), "{nonsense}");
    }
    // Called by another name, or without class 0: refused, then closed.
    for (request, reason) in [
        ("03 00 00 16 11 E0 00 00 00 03 00 C0 01 0A C1 02 03 00 C2 02 03 FF", 2),
        ("03 00 00 16 11 E0 00 00 00 03 40 C0 01 0A C1 02 01 00 C2 02 01 02", 0x82),
    ] {
        let mut server = server();
        server.handle(Moment(0), News::Bytes(&hex(request)));
        assert_eq!(
            server.poll(Moment(0)),
            Serve::Send(hex(&format!("03 00 00 0B 06 80 00 03 00 00 {reason:02X}")))
        );
        assert!(matches!(server.poll(Moment(0)), Serve::HangUp(_)));
    }
    let mut early = server();
    early.handle(Moment(0), News::Bytes(&hex("03 00 00 08 02 F0 80 55")));
    assert!(matches!(early.poll(Moment(0)), Serve::HangUp(why) if why.contains("before")));
    // A new connection begins anew.
    early.handle(Moment(0), News::Up);
    early.handle(Moment(0), News::Bytes(&hex(CR)));
    assert_eq!(early.poll(Moment(0)), Serve::Send(hex(CC)));
}

proptest! {
    #[test]
    fn the_two_carry_any_bytes_in_any_pieces(
        cells in prop::collection::vec(any::<u8>(), 1..3000), first in 0u32..40, pieces in 1usize..700,
    ) {
        let mut memory = vec![vec![0x5A; 3100], vec![0x5A; 3100], vec![], vec![]];
        for space in [0, 1] {
            let (mut client, mut server) = (client(), server());
            let extent = extent(space, first, u32::try_from(cells.len()).unwrap());
            client.ask(Ticket(1), Ask::Write { station: 0, extent, cells: cells.clone() });
            prop_assert_eq!(talk(client.as_mut(), server.as_mut(), &mut memory, pieces), Ok(vec![]));
            client.ask(Ticket(2), Ask::read(0, extent));
            prop_assert_eq!(talk(client.as_mut(), server.as_mut(), &mut memory, pieces), Ok(cells.clone()));
            let at = first as usize;
            let kept = memory[space as usize].iter().enumerate();
            prop_assert!(kept.filter(|(i, _)| !(at..at + cells.len()).contains(i)).all(|(_, byte)| *byte == 0x5A));
        }
    }

    #[test]
    fn no_bytes_do_harm(noise in prop::collection::vec(any::<u8>(), 0..80), opened in any::<bool>()) {
        let (mut server, mut client) = (server(), client());
        if opened {
            server.handle(Moment(0), News::Bytes(&hex(CR)));
            sent(client.as_mut(), Moment(0));
            client.handle(Moment(0), News::Bytes(&hex(CC)));
        }
        server.handle(Moment(0), News::Bytes(&noise));
        while let Serve::Send(_) | Serve::Want { .. } = server.poll(Moment(0)) {
            server.give(Ok(&[0, 0]));
        }
        client.ask(Ticket(1), read(0, 0, 8));
        client.handle(Moment(0), News::Bytes(&noise));
        for at in [0, 0, 0, 4_000_000, 4_000_000] {
            if let Act::Done(_, result) = client.poll(Moment(at)) {
                prop_assert!(result.is_err());
            }
        }
    }
}
