//! What must hold for any bytes whatever: run over seeds by the unit tests and without end by `fuzz/`.
#![allow(clippy::panic, clippy::missing_panics_doc, reason = "a broken promise must stop the run")]

mod files;
mod site;

pub use files::{monitor, saved};
pub use site::{schedule, session};

use crate::Moment;
use crate::capture::Capture;
use crate::speak::{
    Act, Ask, ClientSetup, Delivered, News, ObserverSetup, SPEAKERS, STREAM_MAX, Serve, ServerSetup, Side,
    Speaker, Ticket, Want,
};
use crate::tap::Conversation;
use std::sync::Arc;
use woodrush_core::budget::LineTime;
use woodrush_core::form::{Form, Type};
use woodrush_core::plan::Station;
use woodrush_core::protocol::{
    Address, AddressContext, DeviceBlock, DeviceBlocks, Dialect, Extent, Setup, dialect,
};
use woodrush_core::{Blame, Kind, Refusal};

const LINE: LineTime = LineTime {
    char_nanos: 0,
    frame_gap: 1000,
    own_frame_gap: 1000,
    timeout: 100_000,
    turnaround: 1000,
    hurry: false,
};

/// Keys of a device, whatever its protocol makes of them; what names blocks finds one.
pub(crate) fn any_keys(number: u32) -> Setup {
    let block = DeviceBlock {
        name: "AI1".into(),
        kind: "AI".into(),
        start: 500,
        execution: None,
        channels: vec![(1, vec!["degC".into()])],
        parameters: vec![],
    };
    let blocks = DeviceBlocks { blocks: vec![block], ..DeviceBlocks::default() };
    Setup {
        numbers: vec![("unit", number), ("node", number)],
        words: vec![("tag", "TT-101".into())],
        blocks: Some(Arc::new(blocks)),
        ..Setup::default()
    }
}

/// An address as that protocol reads it; where memory has names, of 16 bits signed, unless the name says its type.
pub(crate) fn address_of(dialect: &dyn Dialect, setup: &Setup, text: &str) -> Option<Address> {
    let context = AddressContext::of_device(setup);
    let typed = context.with_form(Some(Form::plain(Type::I16)));
    [typed, context].iter().find_map(|context| dialect.notation().parse(text, context).ok())
}

/// The first of some addresses that it can read.
pub(crate) fn any_address(dialect: &dyn Dialect, setup: &Setup) -> Option<Address> {
    let known = ["400001", "N7:0", "%DB10.W0", "AI1.CHANNEL", "Level"];
    known.into_iter().find_map(|text| address_of(dialect, setup, text))
}

/// A station in that protocol, its port's keys, and a place in it.
fn station(speaker: &Speaker) -> Option<(Station, Setup, Extent)> {
    let dialect = dialect(speaker.name)?;
    let setup = any_keys(1);
    let address = any_address(dialect, &setup)?;
    let mut station = Station::bare("station", dialect, setup);
    let space = if station.spaces.is_empty() {
        station.space(&address.space)
    } else {
        station.spaces.id(&address.space.key)?
    };
    let count = match address.space.len.filter(|_| address.space.whole) {
        Some(all) => all,
        None => u32::from(address.space.align.max(1)) * 2,
    };
    let words = vec![("local-tsap", "01.00".to_string()), ("remote-tsap", "01.02".to_string())];
    let port = Setup { numbers: vec![("ack-timeout", 100_000)], words, ..Setup::default() };
    Some((station, port, Extent { space, first: 0, count }))
}

/// The protocol that the first byte chooses, and the rest.
fn chosen(bytes: &[u8]) -> Option<(&'static Speaker, &[u8])> {
    let (first, rest) = bytes.split_first()?;
    Some((SPEAKERS.get(usize::from(*first) % SPEAKERS.len())?, rest))
}

/// Bytes in pieces: each begins with its length and the time before it, in hundreds of microseconds.
fn pieces(mut bytes: &[u8]) -> impl Iterator<Item = (u64, u8, &[u8])> {
    std::iter::from_fn(move || {
        let [length, pause, rest @ ..] = bytes else { return None };
        let (piece, more) = rest.split_at((usize::from(*length) % 64 + 1).min(rest.len()));
        bytes = more;
        Some((u64::from(*pause) * 100, *length >> 6, piece))
    })
}

/// A client is given anything: it ends each question once, and what it gives has the size that was asked for.
pub fn client(bytes: &[u8]) {
    let Some((speaker, bytes)) = chosen(bytes) else { return };
    let Some((station, port, extent)) = station(speaker) else { return };
    let setup = ClientSetup {
        stations: std::slice::from_ref(&station),
        line: LINE,
        retries: 1,
        port: &port,
        first: 0,
    };
    let Some(made) = speaker.client else { return };
    let mut client = made(&setup);
    let size =
        station.space_at(extent.space).map_or(0, |space| space.grain.cell_bytes()) * extent.count as usize;
    let (mut now, mut asked) = (Moment(1_000_000), 0);
    client.handle(now, News::Up);
    for (pause, kind, piece) in pieces(bytes) {
        if client.is_free() {
            asked += 1;
            let ask = match kind {
                1 => Ask::Write { station: 0, extent, cells: vec![0x55; size] },
                _ => Ask::read(0, extent),
            };
            client.ask(Ticket(asked), ask);
        }
        for _ in 0..100 {
            match client.poll(now) {
                Act::Send(sent) => assert!(!sent.is_empty()),
                Act::Done(ticket, result) => {
                    assert_eq!(ticket, Ticket(asked), "the question that is open is the one that ends");
                    if let Ok(Delivered { cells, unsound }) = result {
                        assert!(cells.is_empty() || cells.len() == size, "{} of {size}", cells.len());
                        assert!(unsound.iter().all(|own| own.part == 0));
                    }
                    break;
                }
                Act::Came(transfer, _, _) | Act::Stopped(transfer, _) => assert_eq!(transfer, 0),
                Act::Tell(words) => assert!(!words.is_empty()),
                Act::HangUp(_) => {
                    client.handle(now, News::Down);
                    client.handle(now, News::Up);
                }
                Act::WaitUntil(_) | Act::Rest => break,
            }
        }
        now = now + pause;
        client.handle(now, News::Bytes(piece));
    }
    // Whatever came, a question ends once its time is up.
    for _ in 0..10_000 {
        if client.is_free() {
            return;
        }
        match client.poll(now) {
            Act::WaitUntil(moment) => now = now.max(moment) + 1,
            Act::HangUp(_) => client.handle(now, News::Down),
            Act::Rest => now = now + 1_000_000,
            Act::Send(_) | Act::Done(..) | Act::Came(..) | Act::Stopped(..) | Act::Tell(_) => {}
        }
    }
    panic!("{}: a question never ends", speaker.name);
}

/// A server is given anything: it holds no more than its bound, and wants nothing outside of its tables' width.
pub fn server(bytes: &[u8]) {
    let Some((speaker, bytes)) = chosen(bytes) else { return };
    let Some((station, port, _)) = station(speaker) else { return };
    let own = station.dialect.map(|dialect| dialect.stations().other_end(&port)).unwrap_or_default();
    let stations = vec![(Some(1), station.spaces.clone())];
    let setup = ServerSetup { stations, own, tells_itself: true, ..ServerSetup::default() };
    let Some(made) = speaker.server else { return };
    let mut server = made(&setup);
    let mut now = Moment(1_000_000);
    server.handle(now, News::Up);
    for (pause, kind, piece) in pieces(bytes) {
        now = now + pause;
        server.handle(now, News::Bytes(piece));
        for _ in 0..200 {
            match server.poll(now) {
                Serve::Send(sent) => assert!(!sent.is_empty()),
                Serve::HangUp(_) => {
                    server.handle(now, News::Down);
                    server.handle(now, News::Up);
                }
                Serve::WaitUntil(_) | Serve::Rest => break,
                Serve::Want { .. } if kind == 1 => {
                    server.give(Err(Refusal::new(Kind::NoSuchAddress, Blame::ClientIdentity)));
                }
                Serve::Want { want, .. } => {
                    let cells = |extent: &Extent| {
                        let each = station.space_at(extent.space).map_or(1, |space| space.grain.cell_bytes());
                        assert!(extent.count <= 65_536, "{extent:?}");
                        vec![1; extent.count as usize * each]
                    };
                    match &want {
                        Want::Read(extent) => server.give(Ok(&cells(extent))),
                        Want::Exchange(exchange) => server.give(Ok(&cells(&exchange.read))),
                        Want::Write { extent, cells: written } => {
                            assert_eq!(written.len(), cells(extent).len(), "{extent:?}");
                            server.give(Ok(&[]));
                        }
                        Want::Change(_) | Want::Pass(_) => server.give(Ok(&[])),
                    }
                }
            }
        }
        assert!(server.held() <= STREAM_MAX + 64 * 1024, "{}: {}", speaker.name, server.held());
    }
}

/// A listener is given anything: what it tells is no more than what it heard.
pub fn listener(bytes: &[u8]) {
    let Some((speaker, bytes)) = chosen(bytes) else { return };
    let Some((station, port, _)) = station(speaker) else { return };
    let observer = (speaker.observer)(&ObserverSetup {
        port: &port,
        stations: std::slice::from_ref(&station),
        published: &[],
    });
    let mut conversation = Conversation::new(observer, 500_000);
    let (mut now, mut heard, mut told) = (Moment(1_000_000), 0, 0);
    for (pause, kind, piece) in pieces(bytes) {
        now = now + pause;
        let side = match kind {
            0 => Side::Asks,
            1 => Side::Answers,
            _ => Side::Either,
        };
        heard += piece.len();
        conversation.handle(now, now, side, piece);
        while let Some(passed) = conversation.poll(now) {
            assert!(passed.ended >= passed.began, "{passed:?}");
            told += passed.bytes.len();
        }
    }
    while let Some(passed) = conversation.poll(now + 60_000_000) {
        told += passed.bytes.len();
    }
    assert!(told <= heard, "{}: {told} of {heard}", speaker.name);
}

/// A capture is read to its end or to where it is damaged.
pub fn capture(bytes: &[u8]) {
    let Ok(mut capture) = Capture::open(bytes.to_vec()) else { return };
    for _ in 0..=bytes.len() {
        match capture.next(&|at| at.port() == 502) {
            Ok(Some(_)) => {}
            Ok(None) | Err(_) => return,
        }
    }
    panic!("a capture has no end");
}

/// A question to the control socket, and an answer of it.
pub fn control(bytes: &[u8]) {
    let _ = crate::control::understood(bytes);
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use woodrush_core::protocol::Verb;

    /// A conversation that is sound, as pieces, for every protocol.
    fn seeds() -> Vec<Vec<u8>> {
        let mut found = vec![];
        for (at, speaker) in (0u8..).zip(&SPEAKERS) {
            let Some((station, _, extent)) = station(speaker) else { continue };
            let (Some(dialect), Some(space)) = (station.dialect, station.space_at(extent.space)) else {
                continue;
            };
            let cells = vec![0x11; extent.count as usize * space.grain.cell_bytes()];
            let mut seed = vec![at];
            for verb in [Verb::Read, Verb::Write] {
                let example = dialect.requests().unwrap().example(verb, space, 0, &cells, &station.setup);
                for (side, bytes) in [(0u8, example.request), (1, example.answer)] {
                    for piece in bytes.chunks(64) {
                        seed.extend([side << 6 | u8::try_from(piece.len() - 1).unwrap(), 10]);
                        seed.extend(piece);
                    }
                }
            }
            found.push(seed);
        }
        found
    }

    fn spoilt() -> impl Strategy<Value = Vec<u8>> {
        let change = (any::<prop::sample::Index>(), any::<u8>());
        let seed = (prop::sample::select(seeds()), 1..6usize);
        (seed, prop::collection::vec(change, 0..5), prop::collection::vec(any::<u8>(), 0..40)).prop_map(
            |((seed, times), changes, more)| {
                let mut bytes = seed.clone();
                (1..times).for_each(|_| bytes.extend(&seed[1..]));
                for (at, byte) in changes {
                    let at = 1 + at.index(bytes.len() - 1);
                    bytes[at] = byte;
                }
                bytes.extend(more);
                bytes
            },
        )
    }

    proptest! {
        #[test]
        fn no_bytes_stop_it(bytes in spoilt()) {
            client(&bytes);
            server(&bytes);
            listener(&bytes);
            schedule(&bytes);
            session(&bytes);
            capture(&bytes);
            control(&bytes);
            saved(&bytes);
            monitor(&bytes);
        }
    }
}
