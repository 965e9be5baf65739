//! The link against a client that says anything, and our client against the link: refusals by their numbers, revisions,
//! publications that stop.

use super::super::asked;
use super::super::client::LinkClient;
use super::super::server::LinkServer;
use crate::Moment;
use crate::exercise::any_keys;
use crate::speak::{
    Act, Ask, Client, ClientSetup, News, Serve, ServedDevice, Server, ServerSetup, Subscription, Ticket, Want,
};
use std::collections::HashMap;
use std::sync::Arc;
use woodrush_core::budget::LineTime;
use woodrush_core::plan::Station;
use woodrush_core::protocol::{Extent, Setup, SpaceId, Spaces, dialect};
use woodrush_core::{Kind, Refusal};
use woodrush_wire::h1::frame::{self, Kind as FrameKind};
use woodrush_wire::h1::{ANY_REVISION, LinkError, Object, Request, Typed, error};

const NODE: u8 = 0x17;
/// Of the block at 500: where `CHANNEL` and `OUT` are.
const CHANNEL: u16 = 515;
const OUT: u16 = 508;
const LINE: LineTime = LineTime {
    char_nanos: 0,
    frame_gap: 1000,
    own_frame_gap: 200_000,
    timeout: 400_000,
    turnaround: 1000,
    hurry: false,
};

pub(super) fn device(setup: Setup) -> ServedDevice {
    let notation = dialect("h1-link").unwrap().notation();
    let spaces: Vec<_> = notation.named(&setup).into_iter().map(|(space, _)| space).collect();
    ServedDevice { setup, spaces: Arc::new(spaces.iter().collect()), ..ServedDevice::default() }
}

/// A link with one device, and what that holds.
struct TestLink {
    server: LinkServer,
    setup: ServerSetup,
    spaces: Arc<Spaces>,
    memory: HashMap<SpaceId, Vec<u8>>,
    now: Moment,
}

impl TestLink {
    fn new() -> Self {
        let device = device(any_keys(NODE.into()));
        let spaces = Arc::clone(&device.spaces);
        let memory = spaces.with_ids().map(|(id, space)| (id, vec![0; space.len.unwrap() as usize]));
        let setup = ServerSetup { devices: vec![device], ..ServerSetup::default() };
        let mut server = LinkServer::new(&setup);
        server.handle(Moment(0), News::Up);
        Self { server, memory: memory.collect(), setup, spaces, now: Moment(0) }
    }

    fn space(&self, name: &str) -> SpaceId {
        self.spaces.with_ids().find(|(_, space)| space.name() == name).unwrap().0
    }

    fn put(&mut self, name: &str, cells: &[u8]) {
        let at = self.space(name);
        self.memory.get_mut(&at).unwrap()[..cells.len()].copy_from_slice(cells);
    }

    /// What it says to these bytes until it waits; a read and a write of its device happen at once.
    fn say(&mut self, bytes: &[u8]) -> Vec<u8> {
        self.server.handle(self.now, News::Bytes(bytes));
        self.go_on()
    }

    fn go_on(&mut self) -> Vec<u8> {
        let mut said = vec![];
        loop {
            match self.server.poll(self.now) {
                Serve::Send(bytes) => said.extend(bytes),
                Serve::Want { want: Want::Read(extent), .. } => {
                    let (first, end) = (extent.first as usize, extent.end() as usize);
                    let cells = self.memory[&extent.space][first..end].to_vec();
                    self.server.give(Ok(&cells));
                }
                Serve::Want { want: Want::Write { extent, cells }, .. } => {
                    let first = extent.first as usize;
                    self.memory.get_mut(&extent.space).unwrap()[first..first + cells.len()]
                        .copy_from_slice(&cells);
                    self.server.give(Ok(&[]));
                }
                Serve::Want { want, .. } => panic!("{want:?}"),
                Serve::HangUp(why) => panic!("{why}"),
                Serve::WaitUntil(_) | Serve::Rest => return said,
            }
        }
    }

    /// The class and the code with which a request is refused, and the detail; `None` where it is answered.
    fn refuses(&mut self, request: &Request<'_>) -> Option<(u8, u8, u16)> {
        let said = self.say(&asked(request, 7));
        let (frame, used) = frame::parse(&said).unwrap().unwrap();
        assert_eq!((used, frame.invoke), (said.len(), 7));
        (frame.kind == FrameKind::Error).then(|| {
            let error = LinkError::parse(frame.payload).unwrap();
            (error.class, error.code, error.detail)
        })
    }

    fn greeted() -> Self {
        let mut link = Self::new();
        assert_eq!(link.refuses(&Request::Hello { version: 1, client: "test" }), None);
        link
    }
}

fn at(index: u16, sub: u8) -> Object {
    Object { node: NODE, index, sub }
}

fn pair(refused: Option<(u8, u8, u16)>) -> Option<(u8, u8)> {
    refused.map(|(class, code, _)| (class, code))
}

#[test]
fn nothing_is_answered_before_the_hello_and_no_other_version_is_spoken() {
    let mut link = TestLink::new();
    for request in [Request::LiveList, Request::Ping, Request::Read(at(OUT, 0))] {
        assert_eq!(pair(link.refuses(&request)), Some(error::HELLO_FIRST));
    }
    assert_eq!(pair(link.refuses(&Request::Hello { version: 2, client: "test" })), Some(error::VERSION));
    assert_eq!(link.refuses(&Request::Hello { version: 1, client: "test" }), None);
    assert_eq!(link.refuses(&Request::LiveList), None);
}

#[test]
fn what_it_does_not_take_is_refused_by_class_and_code() {
    let mut link = TestLink::greeted();
    let channel = |kind, data| Request::Write {
        at: at(CHANNEL, 0),
        revision: ANY_REVISION,
        value: Typed { kind, data },
    };
    let cases = [
        (Request::Read(Object { node: 0x30, index: OUT, sub: 0 }), error::NO_NODE),
        (Request::Read(at(499, 0)), error::NO_OBJECT),
        (Request::Read(at(OUT, 3)), error::BAD_SUB_INDEX),
        (channel(5, &[1]), error::TYPE_CONFLICT),
        (Request::Identify(0x30), error::NO_NODE),
        (Request::Blocks(0x30), error::NO_NODE),
        (Request::FindTag("TT-999"), error::NO_OBJECT),
    ];
    for (request, refused) in cases {
        assert_eq!(pair(link.refuses(&request)), Some(refused), "{request:?}");
    }
    for (code, payload, refused) in
        [(0x77, vec![], error::UNKNOWN_OPERATION), (0x10, vec![NODE], error::MALFORMED)]
    {
        let mut bytes = vec![];
        frame::emit_with(FrameKind::Request, code, 9, &mut bytes, |out| out.extend(&payload));
        let said = link.say(&bytes);
        let (frame, _) = frame::parse(&said).unwrap().unwrap();
        let error = LinkError::parse(frame.payload).unwrap();
        assert_eq!((error.class, error.code), refused);
    }
    // Whatever was refused, it goes on.
    assert_eq!(link.refuses(&Request::Ping), None);
}

#[test]
fn a_write_after_another_tool_changed_the_block_is_refused_and_says_the_revision() {
    let mut link = TestLink::greeted();
    link.put("AI1.ST_REV", &[0, 9]);
    let write =
        |revision| Request::Write { at: at(CHANNEL, 0), revision, value: Typed { kind: 6, data: &[0, 1] } };
    assert_eq!(link.refuses(&write(8)), Some((error::REVISION_CHANGED.0, error::REVISION_CHANGED.1, 9)));
    assert_eq!(link.memory[&link.space("AI1.CHANNEL")], [0, 0], "nothing was written");
    assert_eq!(link.refuses(&write(9)), None);
    assert_eq!(link.memory[&link.space("AI1.CHANNEL")], [0, 1]);
}

/// Our client on that link.
struct BothEnds {
    link: TestLink,
    client: LinkClient,
    /// When each read or write left.
    left: Vec<Moment>,
    acts: Vec<Act>,
}

impl BothEnds {
    fn new(keys: Setup) -> Self {
        let mut link = TestLink::new();
        let mut station = Station::bare("tt-101", dialect("h1-link").unwrap(), keys);
        station.spaces = Arc::clone(&link.spaces);
        let port = Setup { numbers: vec![("macrocycle", 250_000)], ..Setup::default() };
        link.setup.own = port.clone();
        link.server.set_up(&link.setup);
        let setup = ClientSetup { stations: &[station], line: LINE, retries: 0, port: &port, first: 0 };
        let mut client = LinkClient::new(&setup);
        client.handle(Moment(0), News::Up);
        Self { link, client, left: vec![], acts: vec![] }
    }

    fn station(&self, keys: Setup) -> Station {
        let mut station = Station::bare("tt-101", dialect("h1-link").unwrap(), keys);
        station.spaces = Arc::clone(&self.link.spaces);
        station
    }

    /// Lets both speak for so long.
    fn run(&mut self, micros: u64) {
        let until = self.link.now + micros;
        while self.link.now < until {
            for _ in 0..100 {
                match self.client.poll(self.link.now) {
                    Act::Send(bytes) => {
                        let mut rest = bytes.as_slice();
                        while let Some((frame, used)) = frame::parse(rest).unwrap() {
                            if matches!(frame.op, 0x10 | 0x11) {
                                self.left.push(self.link.now);
                            }
                            rest = &rest[used..];
                        }
                        let said = self.link.say(&bytes);
                        self.client.handle(self.link.now, News::Bytes(&said));
                    }
                    Act::WaitUntil(_) | Act::Rest => break,
                    Act::HangUp(why) => panic!("{why}"),
                    act => self.acts.push(act),
                }
            }
            self.link.now = self.link.now + 10_000;
            let said = self.link.go_on();
            if !said.is_empty() {
                self.client.handle(self.link.now, News::Bytes(&said));
            }
        }
    }

    fn told(&self) -> Vec<&str> {
        self.acts
            .iter()
            .filter_map(|act| if let Act::Tell(words) = act { Some(words.as_str()) } else { None })
            .collect()
    }

    fn ended(&mut self) -> Option<Result<Vec<u8>, Refusal>> {
        let at = self.acts.iter().position(|act| matches!(act, Act::Done(..)))?;
        let Act::Done(_, result) = self.acts.remove(at) else { return None };
        Some(result.map(|got| got.cells))
    }
}

#[test]
fn reads_and_writes_keep_the_pace_that_the_segment_bears() {
    let mut ends = BothEnds::new(any_keys(NODE.into()));
    let extent = Extent { space: ends.link.space("AI1.CHANNEL"), first: 0, count: 2 };
    let mut done = 0;
    for number in 0..25 {
        ends.client.ask(Ticket(number), Ask::read(0, extent));
        while ends.ended().is_none() {
            ends.run(10_000);
        }
        done += 1;
    }
    assert_eq!(done, 25);
    let pauses = ends.left.windows(2).map(|pair| pair[1].since(pair[0]));
    assert!(pauses.min().unwrap() >= LINE.own_frame_gap, "{:?}", ends.left);
}

#[test]
fn what_is_written_takes_the_revision_along_and_a_replaced_device_is_not_written() {
    let mut ends = BothEnds::new(any_keys(NODE.into()));
    let extent = Extent { space: ends.link.space("AI1.CHANNEL"), first: 0, count: 2 };
    let write = Ask::Write { station: 0, extent, cells: vec![0, 1] };
    ends.link.put("AI1.ST_REV", &[0, 9]);
    ends.client.ask(Ticket(1), write.clone());
    ends.run(2_000_000);
    assert_eq!(ends.ended().unwrap(), Ok(vec![]));
    assert_eq!(ends.link.memory[&ends.link.space("AI1.CHANNEL")], [0, 1]);
    let mut keys = any_keys(NODE.into());
    keys.words.push(("device-id", "FFF1010203-WR-000101".into()));
    let mut ends = BothEnds::new(keys);
    ends.client.ask(Ticket(1), write);
    ends.run(2_000_000);
    let refused = ends.ended().unwrap().unwrap_err();
    assert_eq!((refused.kind, refused.native.unwrap().1), (Kind::WrongMode, super::super::link_code(10, 1)));
    assert_eq!(ends.link.memory[&ends.link.space("AI1.CHANNEL")], [0, 0], "nothing was written");
    assert!(ends.told().iter().any(|words| words.contains("has been replaced")), "{:?}", ends.told());
}

#[test]
fn what_is_published_comes_without_a_request_and_its_end_is_told_once() {
    let mut ends = BothEnds::new(any_keys(NODE.into()));
    let extent = Extent { space: ends.link.space("AI1.OUT"), first: 0, count: 5 };
    let station = ends.station(any_keys(NODE.into()));
    ends.link.put("AI1.OUT", &[0x80, 0x41, 0x48, 0, 0]);
    ends.client.keep(vec![Subscription { transfer: 0, station, extent }]);
    ends.run(2_000_000);
    let came = |ends: &BothEnds| {
        ends.acts
            .iter()
            .filter(|act| matches!(act, Act::Came(0, _, values) if values.unsound.is_empty()))
            .count()
    };
    let first = came(&ends);
    assert!(first >= 7, "{first} in 8 macrocycles");
    assert!(ends.left.is_empty(), "nothing was asked");
    // The link falls silent: no error comes, and no publication.
    ends.link.server.handle(ends.link.now, News::Down);
    ends.run(20_000);
    ends.acts.clear();
    ends.run(3_000_000);
    let stopped = ends
        .acts
        .iter()
        .filter(|act| matches!(act, Act::Stopped(0, refusal) if refusal.kind == Kind::NoAnswer));
    assert_eq!((came(&ends), stopped.count()), (0, 1), "{:?}", ends.acts);
}

#[test]
fn what_was_published_for_an_older_subscription_of_that_number_is_not_taken_for_the_new_one() {
    let mut ends = BothEnds::new(any_keys(NODE.into()));
    let out = Extent { space: ends.link.space("AI1.OUT"), first: 0, count: 5 };
    let pv = Extent { space: ends.link.space("AI1.PV"), first: 0, count: 5 };
    let station = ends.station(any_keys(NODE.into()));
    ends.link.put("AI1.OUT", &[0x80, 0x41, 0x48, 0, 0]);
    ends.link.put("AI1.PV", &[0x80, 0x42, 0x48, 0, 0]);
    ends.client.keep(vec![Subscription { transfer: 0, station: station.clone(), extent: out }]);
    ends.run(1_000_000);
    ends.acts.clear();
    // A reload gives the number to another value, while a publication of the old one is under way.
    let mut late = vec![];
    while late.is_empty() {
        ends.link.now = ends.link.now + 10_000;
        late = ends.link.go_on();
    }
    ends.client.keep(vec![Subscription { transfer: 0, station, extent: pv }]);
    ends.client.handle(ends.link.now, News::Bytes(&late));
    ends.run(1_000_000);
    let wrong = |act: &&Act| matches!(act, Act::Came(_, _, values) if values.cells[1..3] != [0x42, 0x48]);
    assert_eq!(ends.acts.iter().find(wrong), None);
    let right = ends.acts.iter().filter(|act| matches!(act, Act::Came(..)));
    assert!(right.count() >= 3, "{:?}", ends.acts);
}

/// The reference's vector `h1s_write_mode_req`, said by the machine that asks and taken by the one that answers.
#[test]
fn a_mode_is_written_as_the_vector_has_it() {
    let text = include_str!("../../../../../wire/testdata/vectors-h1.json");
    let all: Vec<serde_json::Value> = serde_json::from_str(text).unwrap();
    let hex = all.iter().find(|own| own["name"] == "h1s_write_mode_req").unwrap()["hex"].as_str().unwrap();
    let vector: Vec<u8> =
        (0..hex.len()).step_by(2).map(|at| u8::from_str_radix(&hex[at..at + 2], 16).unwrap()).collect();
    let (frame, _) = frame::parse(&vector).unwrap().unwrap();
    // Node, index and sub-index; the revision that is checked; type, length and value.
    let (place, value) = (&frame.payload[1..4], &frame.payload[6..]);
    let mut link = TestLink::greeted();
    let mut own = vector.clone();
    own[12] = NODE;
    let said = link.say(&own);
    let (answer, _) = frame::parse(&said).unwrap().unwrap();
    assert_eq!(answer.kind, FrameKind::Response);
    assert_eq!(link.memory[&link.space("AI1.MODE_BLK")][0], 8);
    let mut ends = BothEnds::new(any_keys(NODE.into()));
    let extent = Extent { space: ends.link.space("AI1.MODE_BLK"), first: 0, count: 1 };
    ends.client.ask(Ticket(1), Ask::Write { station: 0, extent, cells: vec![8] });
    let mut asked = None;
    for _ in 0..100 {
        if let Act::Send(bytes) = ends.client.poll(ends.link.now) {
            let (frame, _) = frame::parse(&bytes).unwrap().unwrap();
            if frame.op == 0x11 {
                asked = Some(frame.payload.to_vec());
            }
            let said = ends.link.say(&bytes);
            ends.client.handle(ends.link.now, News::Bytes(&said));
        }
        ends.link.now = ends.link.now + 50_000;
    }
    let asked = asked.unwrap();
    assert_eq!((&asked[1..4], &asked[6..]), (place, value));
}
