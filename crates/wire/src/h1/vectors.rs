//! Tests over the shared table of checked vectors (`testdata/vectors-h1.json`): each was computed apart from this code.

use super::frame::{self, Kind};
use super::status::{Quality, Status};
use super::structure::{Analog, Discrete, Mode, Scaling, Simulate};
use super::{LinkError, Object, Publication, Request, Response, Typed, exercise, kind};
use crate::checked::{Vector, Vectors};
use proptest::prelude::*;

const TABLE: Vectors = Vectors(include_str!("../../testdata/vectors-h1.json"));

fn payload(name: &str) -> Vec<u8> {
    let frame = TABLE.bytes(name);
    let (frame, used) = frame::parse(&frame).unwrap().unwrap();
    assert_eq!(used, frame::HEADER + frame.payload.len());
    frame.payload.to_vec()
}

#[test]
fn every_sound_frame_is_read_and_written_back() {
    let sound: Vec<Vector> = TABLE.all().into_iter().filter(|v| v.layer == "h1s" && v.valid).collect();
    assert_eq!(sound.len(), 22);
    for v in sound {
        let frame = v.bytes();
        // Any shorter is a wait for more.
        for end in 0..frame.len() {
            assert_eq!(frame::parse(&frame[..end]), Ok(None), "{} cut at {end}", v.name);
        }
        let (found, used) = frame::parse(&frame).unwrap().unwrap();
        assert_eq!(used, frame.len(), "{}", v.name);
        let understood = match found.kind {
            Kind::Request => Request::parse(found.op, found.payload).map(|own| own.is_some()),
            Kind::Response => Response::parse(found.op, found.payload).map(|own| own.is_some()),
            Kind::Error => LinkError::parse(found.payload).map(|_| true),
            Kind::Publication => Publication::parse(found.op, found.payload).map(|own| own.is_some()),
        };
        assert_eq!(understood, Ok(true), "{}", v.name);
        assert_eq!(exercise::stream(&frame), 1, "{}", v.name);
    }
}

#[test]
fn frames_say_what_the_table_says() {
    let live = payload("h1s_live_rsp");
    let Ok(Some(Response::LiveList { version, entries })) = Response::parse(2, &live) else { panic!() };
    let told: Vec<_> = entries.iter().map(|e| (e.node, e.flags, e.tag, e.device_id)).collect();
    assert_eq!(version, 7);
    assert_eq!(
        told,
        [
            (0x10, 7, "LAS-1", "FFF1010001-LINK"),
            (0x14, 1, "PT-101", "FFF1010203-WR-000001"),
            (0xF8, 9, "", "FFF1010203-WR-000002"),
        ]
    );
    let blocks = payload("h1s_blocks_rsp");
    let Ok(Some(Response::Blocks { node: 0x14, blocks })) = Response::parse(5, &blocks) else { panic!() };
    let told: Vec<_> = blocks.iter().map(|b| (b.start, b.kind, b.parameters, b.tag)).collect();
    assert_eq!(
        told,
        [(300, 0x8001, 41, "PT-101-RB"), (400, 0x8002, 30, "PT-101-TB"), (500, 0x0101, 36, "PT-101-AI1")]
    );
    let at = Object { node: 0x14, index: 516, sub: 0 };
    let value = Typed { kind: kind::UNSIGNED8, data: &[2] };
    assert_eq!(
        Request::parse(0x11, &payload("h1s_write_ltype_req")),
        Ok(Some(Request::Write { at, revision: 11, value }))
    );
    let error = payload("h1s_err_strev");
    let error = LinkError::parse(&error).unwrap();
    assert_eq!((error.class, error.code, error.detail, error.text), (6, 16, 12, "ST_REV changed"));
    let data = payload("h1s_data_stale");
    let Ok(Some(Publication::Data { id: 1, sequence: 18, stale: true, age_ms: 0x0C1C, value, .. })) =
        Publication::parse(0x22, &data)
    else {
        panic!()
    };
    let analog = Analog::parse(value.data).unwrap();
    assert_eq!((value.kind, analog.status, analog.value), (65, Status(0x14), 23.75));
    assert_eq!(
        Publication::parse(0x23, &payload("h1s_live_change")),
        Ok(Some(Publication::LiveChange { version: 8, node: 0x14, flags: 0 }))
    );
    let link = payload("h1s_link_rsp");
    let Ok(Some(Response::Link(link))) = Response::parse(6, &link) else { panic!() };
    assert_eq!(
        (link.scheduler, link.first_unpolled, link.unpolled, link.macrocycle_ms),
        (0x10, 0x30, 186, 1000)
    );
}

#[test]
fn every_unsound_frame_has_its_outcome() {
    let closes = [
        ("bad_h1s_magic", "H1 link header, byte 0: magic is 0x4832, allowed is 0x4831 (`H1`)"),
        ("bad_h1s_version", "H1 link header, byte 2: version is 2, allowed is 1 to 1"),
        ("bad_h1s_huge", "H1 link header, byte 8: length is 65536, allowed is 0 to 8192"),
    ];
    for (name, why) in closes {
        let error = frame::parse(&TABLE.bytes(name)).unwrap_err();
        assert_eq!(error.to_string(), why, "{name}");
        assert_eq!(frame::is_other_version(&error), name == "bad_h1s_version");
    }
    let refused = [
        ("bad_h1s_trailing", "H1 link request, byte 4: 1 bytes too many"),
        ("bad_h1s_cut", "H1 link request, byte 3: sub-index needs 1 bytes, 0 are left"),
    ];
    for (name, why) in refused {
        assert_eq!(Request::parse(0x10, &payload(name)).unwrap_err().to_string(), why, "{name}");
    }
    assert_eq!(Request::parse(0x77, &payload("bad_h1s_op")), Ok(None), "answered, the connection stays");
    assert_eq!(Response::parse(0x22, &payload("bad_h1s_rsp_op")), Ok(None), "nothing is answered so");
    // A value of the wrong size is read, and is a bad value.
    let short = payload("bad_h1s_len65");
    let Ok(Some(Response::Read { value, .. })) = Response::parse(0x10, &short) else { panic!() };
    assert!(!value.is_sized() && Analog::parse(value.data).is_err());
    assert_eq!(TABLE.all().iter().filter(|v| !v.valid).count(), 9);
}

#[test]
fn structures_lie_as_the_table_says() {
    let analog = |name: &str| Analog::parse(&TABLE.bytes(name)).unwrap();
    let told = |a: Analog| (a.status.to_string(), a.value);
    assert_eq!(told(analog("ds65_good")), ("good".into(), 23.5));
    assert_eq!(told(analog("ds65_oos")), ("bad, out of service".into(), 0.0));
    assert_eq!(
        told(analog("ds65_unc_hi")),
        ("uncertain, engineering unit range violation, high limited".into(), 102.5)
    );
    assert_eq!(told(analog("ds65_man")), ("good, constant".into(), 50.0));
    assert_eq!(Discrete::parse(&TABLE.bytes("ds66_on")), Ok(Discrete { status: Status::GOOD, value: 1 }));
    let scale = Scaling::parse(&TABLE.bytes("ds68_neg")).unwrap();
    assert_eq!((scale.eu_0, scale.eu_100, scale.unit, scale.decimal), (-50.0, 150.0, 1001, -1));
    assert_eq!(
        Mode::parse(&TABLE.bytes("ds69_oos")),
        Ok(Mode { target: 0x08, actual: 0x80, permitted: 0x98, normal: 0x08 })
    );
    let simulate = Simulate::parse(&TABLE.bytes("ds82_off")).unwrap();
    assert_eq!((simulate.enable, simulate.transducer.value), (1, 23.5));
    let short = Analog::parse(&TABLE.bytes("bad_ds65_len")).unwrap_err();
    assert_eq!(short.to_string(), "DS-65, byte 1: value needs 4 bytes, 3 are left");
    for v in TABLE.all().iter().filter(|v| v.layer.starts_with("ds-")) {
        exercise::structure(&v.bytes());
    }
}

#[test]
fn a_status_says_its_quality_its_reason_and_its_limits() {
    assert_eq!(Status(0x10).quality(), Quality::Bad);
    assert_eq!(Status(0x82).with_quality(Quality::Uncertain), Status(0x42));
    for (byte, words) in [
        (0x04, "bad, configuration error"),
        (0x18, "bad, no communication, no usable value"),
        (0x44, "uncertain, last usable value"),
        (0xC0, "good (cascade)"),
        (0xDC, "good (cascade), fault state active"),
        (0x81, "good, low limited"),
        (0x2C, "bad, sub-status 11"),
    ] {
        assert_eq!(Status(byte).to_string(), words);
    }
}

proptest! {
    #[test]
    fn damaged_frames_are_refused_or_say_what_they_say(
        which in 0usize..30, flips in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 0..4),
        cut in any::<prop::sample::Index>(),
    ) {
        let frames: Vec<Vector> = TABLE.all().into_iter().filter(|v| v.layer == "h1s").collect();
        let mut frame = frames[which % frames.len()].bytes();
        for (at, byte) in flips {
            let at = at.index(frame.len());
            frame[at] = byte;
        }
        frame.truncate(cut.index(frame.len() + 1));
        exercise::stream(&frame);
    }

    #[test]
    fn any_bytes_are_refused_or_say_what_they_say(
        op in 0u16..0x80, code in 0u8..4, payload in prop::collection::vec(any::<u8>(), 0..80),
    ) {
        let kind = [Kind::Request, Kind::Response, Kind::Error, Kind::Publication][usize::from(code)];
        exercise::message(kind, op, &payload);
        exercise::structure(&payload);
        exercise::stream(&payload);
    }
}
