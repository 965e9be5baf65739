//! What is heard on an interface without a word of one's own: discovery, calls and steps in words, cycles slot by slot.

use super::station;
use crate::Moment;
use crate::speak::observer::{Heard, Observer, ObserverSetup, Says, Side};
use crate::speak::profinet::ether::{Mac, frame};
use crate::speak::profinet::ip::{ARP, arp_frame};
use crate::speak::profinet::observer::EthernetObserver;
use etherparse::{ArpOperation, PacketBuilder};
use proptest::prelude::*;
use std::net::Ipv4Addr;
use std::sync::Arc;
use woodrush_core::plan::Station;
use woodrush_core::protocol::profinet::StationLayout;
use woodrush_core::protocol::{AddressContext, Setup, Spaces, Verb, dialect};
use woodrush_wire::profinet::rt::{DataStatus, RtFrame, iox};
use woodrush_wire::profinet::{ETHERTYPE, RPC_PORT, lldp};

const DEVICE: Mac = [2, 0x57, 0x52, 0, 0, 1];
const OTHER: Mac = [2, 0x57, 0x52, 0, 0, 2];

/// An ear at an interface where one station of the project is.
fn ear(setup: Option<&Setup>) -> EthernetObserver {
    let known = setup.map(|setup| {
        let dialect = dialect("profinet").unwrap();
        let mut own = Station::bare("machine", dialect, setup.clone());
        own.spaces = Arc::new(Spaces::default());
        for place in ["1:%ID0", "2:%QD0", "3:%IW0", "3:%QW0"] {
            let context = AddressContext::of_device(setup);
            let space = dialect.notation().parse(place, &context).unwrap().space;
            let _ = own.space(&space);
        }
        own
    });
    let stations: Vec<Station> = known.into_iter().collect();
    EthernetObserver::new(&ObserverSetup { port: &Setup::default(), stations: &stations, published: &[] })
}

fn hears(ear: &mut EthernetObserver, side: Side, bytes: &[u8]) -> Says {
    ear.handle(Moment(1), Moment(1), side, bytes);
    let heard: Vec<Heard> = std::iter::from_fn(|| ear.poll(Moment(1))).collect();
    assert!(heard.len() == 1 && heard[0].bytes == bytes, "every frame is told once, and whole");
    heard.into_iter().next().unwrap().says
}

/// The words of something that carries nothing, and whether it tells of a failure.
fn sign(says: Says) -> (String, bool) {
    match says {
        Says::Sign { words, bad } => (words.into_owned(), bad),
        Says::Noise(why) => (format!("noise: {why}"), true),
        other => panic!("{other:?}"),
    }
}

/// A vector as it goes over the interface.
fn on_wire(layer: &str, bytes: &[u8]) -> Vec<u8> {
    if layer != "rpc" {
        let kind = if layer == "lldp" { lldp::ETHERTYPE } else { ETHERTYPE };
        return frame(DEVICE, OTHER, kind, None, |out| out.extend_from_slice(bytes));
    }
    let builder = PacketBuilder::ethernet2(OTHER, DEVICE)
        .ipv4([192, 0, 2, 10], [192, 0, 2, 30], 64)
        .udp(40_000, RPC_PORT);
    let mut packet = vec![];
    builder.write(&mut packet, bytes).unwrap();
    packet
}

fn vector(name: &str) -> Vec<u8> {
    let all = super::vectors();
    let (own, bytes) =
        all.iter().find(|(own, _)| own.name == name).unwrap_or_else(|| panic!("no vector {name}"));
    on_wire(&own.layer, bytes)
}

#[test]
fn discovery_calls_and_alarms_are_told_in_words() {
    let mut ear = ear(None);
    for (name, words, bad) in [
        ("dcp_identify_all", "DCP identify: all stations", false),
        ("dcp_identify_name", "DCP identify: name `", false),
        ("dcp_identify_rsp", "DCP identified: ", false),
        ("dcp_set_ip", "DCP set: address 192.", false),
        ("dcp_set_ip_rsp", "DCP set: done", false),
        ("dcp_set_ip_busy_rsp", "DCP set: a controller is connected to it", true),
        ("dcp_set_flash", "DCP set: blink", false),
        ("dcp_set_factory", "DCP set: as it was shipped", false),
        ("dcp_get", "DCP get", false),
        ("dcp_get_rsp", "DCP got: ", false),
        ("dcp_hello", "DCP hello: ", false),
        ("pn_connect_req", "connect by `", false),
        ("pn_connect_rsp", "connect: done", false),
        ("pn_connect_diff_rsp", "connect: done, but slot ", false),
        ("pn_connect_neg_rsp", "connect refused: DB 81", true),
        ("pn_write_req", "write record 0x", false),
        ("pn_prmend_req", "the parameters are complete", false),
        ("pn_prmend_rsp", "the parameters are complete: done", false),
        ("pn_appready_req", "the device is ready", false),
        ("pn_read_im0_req", "read record 0xAFF0 of slot 0", false),
        ("pn_read_bad_rsp", "read refused: D", true),
        ("pn_release_req", "release", false),
        ("rpc_reject", "rejected", true),
        ("rta_err_wdt", "breaks the connection off: CF 81", true),
        ("rta_ack_diag", "acknowledged", false),
        ("lldp_min", "tells its neighbour who it is", false),
    ] {
        let found = sign(hears(&mut ear, Side::Either, &vector(name)));
        assert!(found.0.contains(words) && found.1 == bad, "{name}: {found:?}");
    }
    // An opening in either byte order is the same words.
    let [little, big] =
        ["pn_connect_req", "pn_connect_req_be"].map(|name| hears(&mut ear, Side::Either, &vector(name)));
    assert_eq!(little, big);
    for name in
        ["bad_dcp_short", "bad_dcp_len", "bad_dcp_blocklen", "bad_rt_short", "bad_rta_len", "bad_rpc_short"]
    {
        // Filled up to the shortest frame a short one may look whole: it goes as it is.
        let all = super::vectors();
        let (own, bytes) = all.iter().find(|(own, _)| own.name == name).unwrap();
        let mut whole = on_wire(&own.layer, bytes);
        if own.layer != "rpc" {
            whole.truncate(14 + bytes.len());
        }
        let found = hears(&mut ear, Side::Either, &whole);
        assert!(matches!(found, Says::Noise(_)), "{name}: {found:?}");
    }
}

#[test]
fn questions_about_addresses_and_what_is_none_of_ours_are_told() {
    let mut ear = ear(None);
    let [own, other] = [10, 30].map(|last| Ipv4Addr::new(192, 0, 2, last));
    let mut arp = |from, operation, whom| {
        let bytes = arp_frame((OTHER, from), DEVICE, operation, (DEVICE, whom)).unwrap();
        sign(hears(&mut ear, Side::Either, &bytes)).0
    };
    assert_eq!(arp(own, ArpOperation::REQUEST, other), "who has 192.0.2.30?");
    assert_eq!(arp(own, ArpOperation::REQUEST, own), "says that it has 192.0.2.10");
    assert_eq!(arp(own, ArpOperation::REPLY, other), "192.0.2.10 is at 02:57:52:00:00:02");
    let strange = frame(DEVICE, OTHER, 0x88CA, None, |out| out.extend_from_slice(&[1, 2, 3]));
    assert_eq!(
        sign(hears(&mut ear, Side::Either, &strange)).0,
        "a frame of EtherType 0x88CA from 02:57:52:00:00:02"
    );
    let builder =
        PacketBuilder::ethernet2(OTHER, DEVICE).ipv4(own.octets(), other.octets(), 64).udp(40_000, 53);
    let mut packet = vec![];
    builder.write(&mut packet, &[0; 20]).unwrap();
    assert_eq!(sign(hears(&mut ear, Side::Either, &packet)).0, "another packet over IP");
    let cut = frame(DEVICE, OTHER, ARP, None, |_| ());
    assert!(
        sign(hears(&mut ear, Side::Either, &cut[..20])).0.starts_with("noise: no question about an address")
    );
    assert!(sign(hears(&mut ear, Side::Either, &cut[..9])).0.starts_with("noise: too short"));
}

/// A cyclic frame with the same byte in all data and good statuses but for one slot.
fn cycle(
    layout: &StationLayout,
    to_controller: bool,
    value: u8,
    bad: Option<u16>,
    status: DataStatus,
) -> Vec<u8> {
    let (parts, length) = layout.frame(to_controller);
    let mut data = vec![0; length as usize];
    for part in parts {
        let (at, bytes) = (usize::from(part.placed.offset), usize::from(part.data.unwrap_or(0)));
        data[at..at + bytes].fill(value);
        data[at + bytes] = if Some(part.placed.slot) == bad { iox::BAD } else { iox::GOOD };
    }
    let (to, from) = if to_controller { (OTHER, DEVICE) } else { (DEVICE, OTHER) };
    frame(to, from, ETHERTYPE, None, |out| {
        RtFrame { frame_id: 0xC010, data: &data, counter: 32, status }.emit(out)
    })
}

/// What a frame touches: how, in which table, and the first byte of its value.
type Touched = (Verb, String, Option<u8>);

/// The words of a cycle, what it touches with the first byte of its value, and whether it has changed.
fn told(says: Says) -> (String, Vec<Touched>, bool, u64) {
    let Says::Cycle { what, changed, unchanged } = says else { panic!("{says:?}") };
    let touch = |own: &crate::speak::observer::Touch| {
        (own.verb, own.space.key.to_string(), own.cells.as_ref().map(|own| own[0]))
    };
    (what.words.to_string(), what.touches.iter().map(touch).collect(), changed, unchanged)
}

#[test]
fn a_cycle_is_told_slot_by_slot_and_what_is_not_good_has_no_value() {
    let setup = station(&[("period", 8000)]);
    let layout = StationLayout::of(&setup).unwrap();
    let mut ear = ear(Some(&setup));
    let frame = |value, bad, status| cycle(&layout, true, value, bad, status);
    let (words, touches, changed, _) = told(hears(&mut ear, Side::Answers, &frame(7, None, DataStatus::RUN)));
    assert!(words == "inputs, to the controller, run" && changed, "{words}");
    assert_eq!(touches.len(), 2);
    assert!(touches.iter().all(|own| own.0 == Verb::Read && own.2 == Some(7)), "{touches:?}");
    // The same again is folded and counted.
    for again in 1..=3 {
        let same = told(hears(&mut ear, Side::Answers, &frame(7, None, DataStatus::RUN)));
        assert_eq!((same.2, same.3), (false, again));
    }
    let bad = told(hears(&mut ear, Side::Answers, &frame(7, Some(1), DataStatus::RUN)));
    assert!(bad.0.starts_with("inputs, to the controller, run; slot 1 bad, says "), "{}", bad.0);
    assert_eq!((bad.1[0].2, bad.1[1].2, bad.2, bad.3), (None, Some(7), true, 3));
    // From the controller: what it writes; when it stands still its values are none.
    let outputs = |status| cycle(&layout, false, 9, None, status);
    let run = told(hears(&mut ear, Side::Asks, &outputs(DataStatus::RUN)));
    assert!(
        run.0 == "outputs, from the controller, run"
            && run.1.iter().all(|own| own.0 == Verb::Write && own.2 == Some(9))
    );
    let stop = told(hears(&mut ear, Side::Asks, &outputs(DataStatus::STOP)));
    assert!(
        stop.0 == "outputs, from the controller, STOP" && stop.1.iter().all(|own| own.2.is_none()),
        "{stop:?}"
    );
    let invalid = told(hears(&mut ear, Side::Asks, &outputs(DataStatus(DataStatus::RUN.0 & !0x04))));
    assert!(invalid.0.ends_with(", INVALID") && invalid.1.iter().all(|own| own.2.is_none()), "{invalid:?}");
    // A frame that is shorter than this station's is none of its.
    let short = frame(7, None, DataStatus::RUN)[..40].to_vec();
    assert!(matches!(hears(&mut ear, Side::Answers, &short), Says::Noise(_)));
    ear.reset();
    assert_eq!(
        told(hears(&mut ear, Side::Answers, &frame(7, None, DataStatus::RUN))).3,
        0,
        "it begins to count again"
    );
}

proptest! {
    #[test]
    fn no_frame_makes_it_stumble(bytes in proptest::collection::vec(any::<u8>(), 1..120), kind in 0usize..4, side in 0usize..3) {
        let setup = station(&[("period", 8000)]);
        let mut ear = ear(Some(&setup));
        let kind = [ETHERTYPE, ARP, 0x0800, lldp::ETHERTYPE][kind];
        let whole = frame(DEVICE, OTHER, kind, None, |out| out.extend_from_slice(&bytes));
        let side = [Side::Asks, Side::Answers, Side::Either][side];
        let _ = hears(&mut ear, side, &whole);
        let _ = hears(&mut ear, side, &bytes);
    }
}
