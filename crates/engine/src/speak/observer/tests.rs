//! Observers beside a client and a server that speak for real: what was asked and answered is what was heard, in every
//! protocol, with both sides apart or on the same wires, whole or a byte at a time.

use super::{AnswerMeaning, Asked, Heard, Observer, ObserverSetup, Says, Side};
use crate::Moment;
use crate::exercise::{address_of, any_keys};
use crate::speak::{
    Act, Ask, BitChange, ClientSetup, News, SPEAKERS, Serve, ServedDevice, ServerSetup, Speaker, Ticket,
    Want, speaker,
};
use proptest::prelude::*;
use std::collections::HashMap;
use std::sync::Arc;
use woodrush_core::budget::LineTime;
use woodrush_core::plan::Station;
use woodrush_core::protocol::{Extent, Setup, SpaceId, Spaces, StationId, Verb, dialect};
use woodrush_core::{Blame, Kind, Refusal};

const LINE: LineTime = LineTime {
    char_nanos: 0,
    frame_gap: 0,
    own_frame_gap: 0,
    timeout: 3_000_000,
    turnaround: 0,
    hurry: false,
};

/// Everything that passed between a client and a server, in order.
type Passed = Vec<(Moment, Side, Vec<u8>)>;

struct Site {
    speaker: &'static Speaker,
    station: Station,
    port: Setup,
    /// By space: what the server has there.
    memory: HashMap<SpaceId, Vec<u8>>,
}

impl Site {
    /// A station with the tables of these addresses.
    fn new(protocol: &str, addresses: &[&str]) -> Self {
        let dialect = dialect(protocol).unwrap();
        let setup = any_keys(23);
        let mut station = Station::bare("station", dialect, setup);
        station.spaces = Arc::default();
        for address in addresses {
            let space = address_of(dialect, &station.setup, address).unwrap().space;
            station.space(&space);
        }
        if !dialect.notation().standing().is_empty() {
            station.spaces = Spaces::standing(dialect);
        }
        let tsaps = vec![("local-tsap", "01.00".to_string()), ("remote-tsap", "01.02".to_string())];
        let port = Setup { numbers: vec![("ack-timeout", 200_000)], words: tsaps, ..Setup::default() };
        let memory = station.spaces.with_ids().map(|(id, space)| {
            let each = space.grain.cell_bytes();
            let byte = |i: usize| match space.grain {
                woodrush_core::protocol::Grain::Bit => u8::from(i.is_multiple_of(3)),
                // Strings of characters, and no two words alike.
                _ => u8::try_from(0x21 + (i * 7 + id.index()) % 0x5D).unwrap(),
            };
            (id, (0..400 * each).map(byte).collect())
        });
        Self { speaker: speaker(protocol).unwrap(), memory: memory.collect(), station, port }
    }

    fn each(&self, space: SpaceId) -> usize {
        self.station.space_at(space).unwrap().grain.cell_bytes()
    }

    fn cells(&self, extent: Extent) -> Vec<u8> {
        let each = self.each(extent.space);
        self.memory[&extent.space][extent.first as usize * each..extent.end() as usize * each].to_vec()
    }

    fn put(&mut self, extent: Extent, cells: &[u8]) {
        let begin = extent.first as usize * self.each(extent.space);
        self.memory.get_mut(&extent.space).unwrap()[begin..begin + cells.len()].copy_from_slice(cells);
    }

    /// Lets a client ask a server, one question after the other; gives what passed.
    fn converse(&mut self, asks: Vec<Ask>, refuse: bool) -> Passed {
        let stations = std::slice::from_ref(&self.station);
        let setup = ClientSetup { stations, line: LINE, retries: 0, port: &self.port, first: 0 };
        let mut client = (self.speaker.client.unwrap())(&setup);
        let own = self.station.dialect.unwrap().stations().other_end(&self.port);
        let spaces = vec![(Some(23), self.station.spaces.clone())];
        let device = ServedDevice {
            setup: self.station.setup.clone(),
            spaces: self.station.spaces.clone(),
            ..ServedDevice::default()
        };
        let server = ServerSetup {
            units: Some(vec![23]),
            stations: spaces,
            own,
            devices: vec![device],
            ..ServerSetup::default()
        };
        let mut server = (self.speaker.server.unwrap())(&server);
        let (mut passed, mut now) = (vec![], Moment(1_000));
        client.handle(now, News::Up);
        for (at, ask) in asks.into_iter().enumerate() {
            client.ask(Ticket(at as u64), ask);
            'asked: for _ in 0..1000 {
                match client.poll(now) {
                    Act::Send(bytes) => {
                        server.handle(now, News::Bytes(&bytes));
                        passed.push((now, Side::Asks, bytes));
                    }
                    Act::Done(_, result) => {
                        assert_eq!(result.is_err(), refuse, "{}: {result:?}", self.speaker.name);
                        break 'asked;
                    }
                    Act::WaitUntil(moment) => now = now.max(moment.min(now + 1_000)),
                    // What it finds on its segment.
                    Act::Tell(_) => {}
                    other => panic!("{other:?}"),
                }
                loop {
                    match server.poll(now) {
                        Serve::Send(bytes) => {
                            now = now + 500;
                            client.handle(now, News::Bytes(&bytes));
                            passed.push((now, Side::Answers, bytes));
                        }
                        Serve::Want { .. } if refuse => {
                            server.give(Err(Refusal::new(Kind::NoSuchAddress, Blame::Device)));
                        }
                        Serve::Want { want: Want::Read(extent), .. } => server.give(Ok(&self.cells(extent))),
                        Serve::Want { want: Want::Write { extent, cells }, .. } => {
                            self.put(extent, &cells);
                            server.give(Ok(&[]));
                        }
                        Serve::Want { want: Want::Change(change), .. } => {
                            let BitChange { extent, .. } = *change;
                            let cells = change.of(&self.cells(extent));
                            self.put(extent, &cells);
                            server.give(Ok(&[]));
                        }
                        Serve::Want { want, .. } => panic!("{want:?}"),
                        Serve::HangUp(why) => panic!("{}: {why}", self.speaker.name),
                        Serve::WaitUntil(_) | Serve::Rest => break,
                    }
                }
                now = now + 100;
            }
            now = now + 10_000;
        }
        passed
    }

    fn observer(&self) -> Box<dyn Observer> {
        let stations = std::slice::from_ref(&self.station);
        (self.speaker.observer)(&ObserverSetup { port: &self.port, stations, published: &[] })
    }
}

/// Requests with their answers, as an observer reads them; everything else that it hears is a sign of the link.
fn exchanges(
    observer: &mut dyn Observer,
    passed: &Passed,
    together: bool,
    piece: usize,
) -> Vec<(Asked, AnswerMeaning)> {
    let mut found: Vec<(Asked, Option<AnswerMeaning>)> = vec![];
    let (mut heard_bytes, mut all_bytes) = (vec![], vec![]);
    for (at, side, bytes) in passed {
        all_bytes.extend_from_slice(bytes);
        for piece in bytes.chunks(piece) {
            observer.handle(*at, *at, if together { Side::Either } else { *side }, piece);
            while let Some(Heard { bytes, says, .. }) = observer.poll(*at) {
                heard_bytes.extend_from_slice(&bytes);
                match says {
                    Says::Request(asked) => found.push((*asked, None)),
                    Says::Answer { body, .. } => {
                        // Of several that wait, the first.
                        let open = found.iter_mut().find(|(_, told)| told.is_none());
                        let (asked, told) = open.expect("a request comes first");
                        *told = Some(observer.answer(asked, &body));
                    }
                    Says::Sign { bad, words } => assert!(!bad, "{words}"),
                    Says::Published(what) | Says::Cycle { what, .. } => panic!("{}", what.words),
                    Says::Noise(why) => panic!("{why}"),
                }
            }
        }
    }
    assert_eq!(heard_bytes, all_bytes, "every byte belongs to something that was heard");
    found.into_iter().map(|(asked, told)| (asked, told.expect("every request is answered"))).collect()
}

/// Whether both sides may be on the same wires: where they are not, an answer is known by its side alone.
fn shares_wires(protocol: &str) -> bool {
    !matches!(protocol, "df1" | "modbus-tcp" | "fetch-write" | "ethernet-ip" | "h1-link")
}

/// Addresses of each family that tell its tables apart, each with how many grains are read and written there.
fn addresses(protocol: &str) -> Vec<(&'static str, u32)> {
    match dialect(protocol).unwrap().family() {
        "Modbus" => vec![("400318", 2), ("300001", 7), ("000017", 19), ("100005", 3), ("400001", 1)],
        "data tables" => vec![("N11:40", 6), ("F8:10", 3), ("B3:1", 1), ("T4:0.ACC", 1), ("L10:1", 2)],
        "tags" => vec![("Hall.Temps[40]", 6), ("Program:Feed.Rate", 1), ("Count", 1)],
        "H1 blocks" => vec![("AI1.XD_SCALE.UNITS_INDEX", 2), ("AI1.CHANNEL", 2), ("AI1.ST_REV", 2)],
        _ => vec![("%DB10.W20", 4), ("%DB10.D24", 8), ("%MB6", 3), ("%C2", 2)],
    }
}

fn asks(site: &Site, protocol: &str) -> Vec<(Ask, Verb, Extent)> {
    let dialect = dialect(protocol).unwrap();
    let mut found = vec![];
    for (text, count) in addresses(protocol) {
        let address = address_of(dialect, &site.station.setup, text).unwrap();
        let space = site.station.spaces.id(&address.space.key).unwrap();
        let extent = Extent { space, first: address.first, count };
        found.push((Ask::read(0, extent), Verb::Read, extent));
        if address.space.writable {
            let cells = site.cells(extent).iter().rev().copied().collect();
            found.push((Ask::Write { station: 0, extent, cells }, Verb::Write, extent));
            // The same again, so that a read shows what was written.
            found.push((Ask::read(0, extent), Verb::Read, extent));
        }
    }
    found
}

fn hears_what_is_said(protocol: &str, together: bool, piece: usize) {
    let addresses: Vec<&str> = addresses(protocol).iter().map(|(address, _)| *address).collect();
    let mut site = Site::new(protocol, &addresses);
    let asks = asks(&site, protocol);
    // What each read must bring, worked out beside the machines.
    let mut shadow = Site::new(protocol, &addresses);
    let mut expected = vec![];
    for (ask, verb, extent) in &asks {
        match ask {
            Ask::Write { cells, .. } => {
                shadow.put(*extent, cells);
                expected.push((*verb, *extent, cells.clone()));
            }
            _ => expected.push((*verb, *extent, shadow.cells(*extent))),
        }
    }
    let passed = site.converse(asks.into_iter().map(|(ask, ..)| ask).collect(), false);
    let found = exchanges(site.observer().as_mut(), &passed, together, piece);
    // A controller of blocks is written around odd parts: those exchanges are heard besides.
    let mut heard = found.iter();
    for (verb, extent, cells) in expected {
        let space = site.station.space_at(extent.space).unwrap();
        let each = space.grain.cell_bytes();
        let fits = |(asked, told): &&(Asked, AnswerMeaning)| {
            let [touch] = asked.touches.as_slice() else { return false };
            let around = touch.first <= extent.first && extent.end() <= touch.first + touch.count;
            if touch.verb != verb || touch.space.key != space.key || !around {
                return false;
            }
            let heard = match (verb, told) {
                (Verb::Read, AnswerMeaning::Good(parts)) => parts[0].clone(),
                (Verb::Write, AnswerMeaning::Good(_) | AnswerMeaning::Words(_)) => {
                    touch.cells.clone().unwrap_or_default()
                }
                _ => return false,
            };
            let begin = (extent.first - touch.first) as usize * each;
            heard.get(begin..begin + cells.len()) == Some(cells.as_slice())
        };
        let what = format!("{protocol}, {verb:?} {} {} x{}", space.key, extent.first, extent.count);
        assert!(heard.any(|one| fits(&one)), "{what}: {found:#?}");
    }
}

#[test]
fn what_is_asked_and_answered_is_heard_in_every_protocol() {
    for speaker in SPEAKERS.iter().filter(|speaker| speaker.client.is_some()) {
        for piece in [1, 5, 4096] {
            hears_what_is_said(speaker.name, false, piece);
            if shares_wires(speaker.name) {
                hears_what_is_said(speaker.name, true, piece);
            }
        }
    }
}

#[test]
fn a_refusal_is_heard_by_the_stations_own_number() {
    for (protocol, native) in [
        ("modbus-rtu", ("Modbus exception", 2)),
        ("modbus-ascii", ("Modbus exception", 2)),
        ("modbus-tcp", ("Modbus exception", 2)),
        ("df1", ("data table status", 256 + 6)),
        ("df1-half", ("data table status", 256 + 6)),
        ("fetch-write", ("block error", 3)),
        ("h1-link", ("H1 status", 256 + 6 * 32 + 7)),
    ] {
        let addresses: Vec<&str> = addresses(protocol).iter().map(|(address, _)| *address).collect();
        let mut site = Site::new(protocol, &addresses);
        let (first, ..) = asks(&site, protocol).remove(0);
        let passed = site.converse(vec![first], true);
        let found = exchanges(site.observer().as_mut(), &passed, false, 4096);
        let refused = AnswerMeaning::Refused(native);
        assert!(found.iter().any(|(_, told)| *told == refused), "{protocol}: {found:?}");
    }
}

fn hex(text: &str) -> Vec<u8> {
    text.split_whitespace().map(|pair| u8::from_str_radix(pair, 16).unwrap()).collect()
}

/// What an observer makes of such bytes, and of a silence behind them.
fn says(protocol: &str, side: Side, text: &str) -> Vec<Says> {
    let site = Site::new(protocol, &[]);
    let mut observer = site.observer();
    observer.handle(Moment(0), Moment(0), side, &hex(text));
    let mut found: Vec<Says> =
        std::iter::from_fn(|| observer.poll(Moment(0))).map(|heard| heard.says).collect();
    found.extend(std::iter::from_fn(|| observer.poll(Moment(1_000_000))).map(|heard| heard.says));
    found
}

#[test]
fn the_other_framing_is_told() {
    let noise = |protocol, text| match says(protocol, Side::Asks, text).as_slice() {
        [Says::Noise(why)] => why.clone(),
        other => panic!("{other:?}"),
    };
    let rtu = "01 03 00 00 00 01 84 0A";
    let mbap = "00 01 00 00 00 06 01 03 00 00 00 01";
    assert!(noise("modbus-tcp", rtu).contains("an RTU frame where MBAP is spoken"));
    assert!(noise("modbus-rtu", mbap).contains("an MBAP frame where RTU is spoken"));
}

#[test]
fn an_answer_that_breaks_off_does_not_spoil_the_next_one() {
    let site = Site::new("modbus-rtu", &[]);
    let mut observer = site.observer();
    let (request, answer) = (hex("01 03 00 00 00 01 84 0A"), hex("01 03 02 12 34 B5 33"));
    let mut heard = vec![];
    for (at, side, bytes) in
        [(0, Side::Answers, &answer[4..]), (1, Side::Asks, &request[..]), (2, Side::Answers, &answer[..])]
    {
        observer.handle(Moment(at), Moment(at), side, bytes);
        heard.extend(std::iter::from_fn(|| observer.poll(Moment(at))));
    }
    let kinds: Vec<&str> = heard
        .iter()
        .map(|heard| match heard.says {
            Says::Request(_) => "request",
            Says::Answer { .. } => "answer",
            Says::Sign { .. } => "sign",
            Says::Published(_) => "published",
            Says::Cycle { .. } => "cycle",
            Says::Noise(_) => "noise",
        })
        .collect();
    assert_eq!(kinds, ["noise", "request", "answer"]);
}

#[test]
fn requests_without_addresses_have_words() {
    let words = |protocol, text: &str| match says(protocol, Side::Asks, text).as_slice() {
        [Says::Request(asked)] => (asked.words.to_string(), asked.code, asked.station.clone()),
        other => panic!("{other:?}"),
    };
    let unit = |number| Some(StationId::Number(number));
    assert_eq!(words("modbus-tcp", "00 07 00 00 00 02 2A 11"), ("report server id".into(), 17, unit(42)));
    let identify = words("modbus-tcp", "00 07 00 00 00 05 2A 2B 0E 01 00");
    assert_eq!(identify, ("read device identification".into(), 43, unit(42)));
    // A function that nobody knows, and one whose structure is wrong, are shown all the same.
    assert_eq!(words("modbus-tcp", "00 07 00 00 00 03 2A 64 01").0, "function 100");
    assert!(words("modbus-tcp", "00 07 00 00 00 04 2A 03 00 01").0.contains("malformed"));
}

proptest! {
    /// Whatever passes, an observer neither panics nor loses a byte, and it goes on hearing.
    #[test]
    fn no_bytes_stop_an_ear(
        which in 0..6usize,
        together in any::<bool>(),
        pieces in prop::collection::vec((any::<bool>(), prop::collection::vec(any::<u8>(), 1..60)), 1..30),
    ) {
        let protocol = ["modbus-rtu", "modbus-ascii", "modbus-tcp", "df1", "df1-half", "fetch-write"][which];
        let site = Site::new(protocol, &[]);
        let mut observer = site.observer();
        let (mut came, mut heard, mut at) = (0, 0, 0);
        for (asks, bytes) in &pieces {
            at += 1_000;
            came += bytes.len();
            let side = match (together, asks) {
                (true, _) => Side::Either,
                (false, true) => Side::Asks,
                (false, false) => Side::Answers,
            };
            observer.handle(Moment(at), Moment(at), side, bytes);
            while let Some(one) = observer.poll(Moment(at)) {
                heard += one.bytes.len();
            }
        }
        // On TCP the beginning of a message may wait for its end for ever.
        while let Some(one) = observer.poll(Moment(at + 10_000_000)) {
            heard += one.bytes.len();
        }
        prop_assert!(heard <= came);
        if !matches!(protocol, "modbus-tcp" | "fetch-write") {
            prop_assert_eq!(heard, came);
        }
        observer.reset();
        prop_assert!(observer.poll(Moment(at + 20_000_000)).is_none());
    }
}
