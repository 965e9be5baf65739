//! What is heard of a link without a word of one's own: who is asked, what comes by itself, what is refused, what is damaged.

use super::ends::device;
use crate::Moment;
use crate::exercise::any_keys;
use crate::speak::h1::observer::LinkObserver;
use crate::speak::observer::{AnswerMeaning, Heard, Observer, ObserverSetup, Says, Side};
use std::sync::Arc;
use woodrush_core::plan::Station;
use woodrush_core::protocol::{Setup, StationId, Verb, dialect};
use woodrush_wire::h1::frame::{self, Kind};
use woodrush_wire::h1::status::Status;
use woodrush_wire::h1::{LinkError, LiveEntry, Object, Publication, Request, Response, Typed, error, live};

const NODE: u8 = 0x17;
const OUT: Object = Object { node: NODE, index: 508, sub: 0 };

/// An ear that knows one device, and what it has heard.
struct Ear(LinkObserver);

impl Ear {
    fn new() -> Self {
        let keys = any_keys(NODE.into());
        let mut station = Station::bare("tt-101", dialect("h1-link").unwrap(), keys.clone());
        station.spaces = Arc::clone(&device(keys).spaces);
        let port = Setup::default();
        Self(LinkObserver::new(&ObserverSetup { port: &port, stations: &[station], published: &[] }))
    }

    /// An ear beside a link on which the devices are known.
    fn knowing() -> Self {
        let mut ear = Self::new();
        ear.asks(&Request::LiveList);
        let entry =
            LiveEntry { node: NODE, flags: live::LIVE, tag: "TT-101", device_id: "FFF1010203-WR-000101" };
        ear.answers(&Response::LiveList { version: 1, entries: vec![entry] });
        ear
    }

    fn hears(&mut self, side: Side, bytes: &[u8]) -> Vec<Says> {
        self.0.handle(Moment(1), Moment(1), side, bytes);
        let heard: Vec<Heard> = std::iter::from_fn(|| self.0.poll(Moment(1))).collect();
        let all: Vec<u8> = heard.iter().flat_map(|own| own.bytes.iter().copied()).collect();
        assert_eq!(all, bytes, "every byte belongs to something");
        heard.into_iter().map(|own| own.says).collect()
    }

    fn one(&mut self, side: Side, bytes: &[u8]) -> Says {
        let mut all = self.hears(side, bytes);
        assert_eq!(all.len(), 1, "{all:?}");
        all.remove(0)
    }

    fn asks(&mut self, request: &Request<'_>) -> Says {
        let mut bytes = vec![];
        frame::emit_with(Kind::Request, request.op(), 5, &mut bytes, |out| request.emit(out));
        self.one(Side::Asks, &bytes)
    }

    fn answers(&mut self, response: &Response<'_>) -> Says {
        let mut bytes = vec![];
        frame::emit_with(Kind::Response, response.op(), 5, &mut bytes, |out| response.emit(out));
        self.one(Side::Answers, &bytes)
    }

    fn publishes(&mut self, publication: &Publication<'_>) -> Says {
        let mut bytes = vec![];
        frame::emit_with(Kind::Publication, publication.op(), 0, &mut bytes, |out| publication.emit(out));
        self.one(Side::Answers, &bytes)
    }
}

fn data(id: u16, stale: bool, age_ms: u16, cells: &[u8]) -> Publication<'_> {
    let value = Typed { kind: 65, data: cells };
    Publication::Data { id, sequence: 1, stale, more_flags: 0, age_ms, value }
}

#[test]
fn a_request_is_of_a_tag_as_the_project_or_the_live_list_has_it_and_of_a_node_otherwise() {
    let station = |says: Says| match says {
        Says::Request(asked) => (asked.station.unwrap().to_string(), asked.words.to_string()),
        other => panic!("{other:?}"),
    };
    let (who, words) = station(Ear::new().asks(&Request::Read(OUT)));
    assert_eq!((who.as_str(), words.as_str()), ("TT-101", "read index 508"), "where the project expects it");
    let elsewhere = Request::Read(Object { node: 0x19, ..OUT });
    assert_eq!(station(Ear::new().asks(&elsewhere)).0, "node 0x19");
    let mut ear = Ear::new();
    ear.asks(&Request::LiveList);
    let entry = LiveEntry { node: 0x19, flags: live::LIVE, tag: "TT-101", device_id: "" };
    ear.answers(&Response::LiveList { version: 2, entries: vec![entry] });
    assert_eq!(station(ear.asks(&elsewhere)).0, "TT-101", "where it is");
    let part = Request::Read(Object { sub: 2, ..OUT });
    assert_eq!(station(Ear::knowing().asks(&part)).1, "read index 508 sub-index 2");
    assert_eq!(station(Ear::knowing().asks(&Request::Identify(NODE))).1, "identify");
}

#[test]
fn what_is_read_and_written_is_touched_where_it_lies() {
    let mut ear = Ear::knowing();
    let Says::Request(asked) = ear.asks(&Request::Read(Object { sub: 2, ..OUT })) else { panic!() };
    let touch = &asked.touches[0];
    assert_eq!((touch.verb, touch.space.name(), touch.first, touch.count), (Verb::Read, "AI1.OUT", 1, 4));
    let value = Typed { kind: 6, data: &[0, 1] };
    let write = Request::Write { at: Object { index: 515, ..OUT }, revision: 9, value };
    let Says::Request(asked) = ear.asks(&write) else { panic!() };
    let touch = &asked.touches[0];
    assert_eq!(
        (touch.verb, touch.space.name(), touch.cells.as_deref()),
        (Verb::Write, "AI1.CHANNEL", Some([0, 1].as_slice()))
    );
    // A device that nobody has described is heard too, as what it is asked for.
    let other = Object { node: 0x33, index: 999, sub: 0 };
    let Says::Request(asked) = ear.asks(&Request::Read(other)) else { panic!() };
    assert!(asked.touches.is_empty() && asked.station == Some(StationId::Name("node 0x33".into())));
}

#[test]
fn a_publication_is_of_what_was_subscribed_to() {
    let mut ear = Ear::knowing();
    ear.asks(&Request::Subscribe { id: 3, at: OUT, period_ms: 0, stale: 3 });
    let good = [&[0x80], 17.46f32.to_be_bytes().as_slice()].concat();
    let Says::Published(what) = ear.publishes(&data(3, false, 0, &good)) else { panic!() };
    assert_eq!((what.station, &*what.words), (Some(StationId::Name("TT-101".into())), "publishes index 508"));
    assert_eq!(what.touches[0].cells.as_deref(), Some(good.as_slice()));
    let Says::Published(what) = ear.publishes(&data(3, false, 40, &good)) else { panic!() };
    assert_eq!(&*what.words, "publishes index 508, 40 ms old");
    let old = [&[Status::NO_COMMUNICATION.0], 17.46f32.to_be_bytes().as_slice()].concat();
    let Says::Published(what) = ear.publishes(&data(3, true, 900, &old)) else { panic!() };
    assert_eq!(&*what.words, "publishes index 508, 900 ms old, stale");
    // Who came later has not heard what was subscribed to.
    let Says::Published(what) = Ear::new().publishes(&data(3, false, 0, &good)) else { panic!() };
    assert!(what.station.is_none() && what.touches.is_empty(), "{what:?}");
    assert_eq!(&*what.words, "publication 3");
}

#[test]
fn who_comes_and_goes_is_a_sign() {
    let mut ear = Ear::knowing();
    for (flags, words, wrong) in [
        (0, "TT-101 has left the segment", true),
        (live::LIVE, "TT-101 is on the segment", false),
        (live::LIVE | live::DEFAULT_ADDRESS, "TT-101 is there without an address of its own", false),
    ] {
        match ear.publishes(&Publication::LiveChange { node: NODE, flags, version: 2 }) {
            Says::Sign { words: own, bad } => assert_eq!((&*own, bad), (words, wrong)),
            other => panic!("{other:?}"),
        }
    }
}

#[test]
fn a_refusal_is_told_by_its_class_and_code() {
    let mut ear = Ear::knowing();
    for (class, code) in [error::NO_OBJECT, error::DENIED, error::REVISION_CHANGED, error::NO_NODE] {
        let Says::Request(asked) = ear.asks(&Request::Read(OUT)) else { panic!() };
        let refused = LinkError { class, code, detail: 0, text: "no" };
        let mut bytes = vec![];
        frame::emit_with(Kind::Error, Request::Read(OUT).op(), 5, &mut bytes, |out| refused.emit(out));
        let Says::Answer { number, body, .. } = ear.one(Side::Answers, &bytes) else { panic!() };
        assert_eq!(number, Some(5));
        let native = ("H1 status", super::super::link_code(class, code));
        assert_eq!(ear.0.answer(&asked, &body), AnswerMeaning::Refused(native));
    }
}

#[test]
fn what_makes_no_sense_is_damage_and_what_follows_is_heard() {
    let mut ear = Ear::knowing();
    let noise = ear.hears(Side::Answers, &[0xFF; 40]);
    assert!(noise.iter().all(|own| matches!(own, Says::Noise(_))) && !noise.is_empty(), "{noise:?}");
    let mut ear = Ear::knowing();
    let mut bytes = vec![];
    frame::emit_with(Kind::Request, 0x10, 5, &mut bytes, |out| out.push(NODE));
    assert!(matches!(ear.one(Side::Asks, &bytes), Says::Noise(_)), "a read that is too short");
    assert!(matches!(ear.asks(&Request::Read(OUT)), Says::Request(_)));
}
