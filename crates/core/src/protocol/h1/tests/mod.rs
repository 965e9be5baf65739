//! Addresses of blocks, what their values mean in words and back, what is refused on paper, and what requests cost.

mod set_up;

use super::{LINK, find, node_fault, parameters, publishing, unpolled};
use crate::form::{Form, Order, Type};
use crate::protocol::{
    AddressContext, BlockParameter, DeviceBlock, DeviceBlocks, Dialect, Meanings, Notation, PortKeys,
    Requests, Setup, Space, Transport, Verb,
};
use std::collections::HashSet;
use std::sync::Arc;

const KINDS: [&str; 7] = ["RESOURCE", "TRANSDUCER", "AI", "DI", "AO", "DO", "PID"];

fn block(kind: &str, start: u32, parameters: Vec<BlockParameter>) -> DeviceBlock {
    DeviceBlock {
        name: format!("{kind}1"),
        kind: kind.into(),
        start,
        execution: None,
        channels: vec![],
        parameters,
    }
}

fn setup() -> Setup {
    let own = |name: &str, place, ty: &str| BlockParameter {
        name: name.into(),
        place,
        type_name: ty.into(),
        read_write: true,
    };
    let value = vec![own("PRIMARY_VALUE", 14, "DS-65"), own("SERIAL_NUMBER", 20, "u32")];
    let blocks = KINDS.iter().zip(1u32..).map(|(kind, number)| {
        block(kind, 100 * number, if *kind == "TRANSDUCER" { value.clone() } else { vec![] })
    });
    let blocks = DeviceBlocks { path: "tt.toml".into(), blocks: blocks.collect(), ..DeviceBlocks::default() };
    Setup { blocks: Some(Arc::new(blocks)), ..Setup::default() }
}

fn space(setup: &Setup, name: &str) -> Space {
    find(setup.blocks.as_deref(), name).unwrap().0.space()
}

#[test]
fn every_member_of_every_parameter_is_read_as_it_is_shown() {
    let setup = setup();
    let context = AddressContext::of_device(&setup);
    let (mut seen, mut indices) = (0, HashSet::new());
    for block in &setup.blocks.as_ref().unwrap().blocks {
        for parameter in parameters(block) {
            let space = parameter.space();
            assert!(indices.insert(parameter.index()), "{} stands where another does", space.name());
            for member in parameter.ty.members {
                let shown = LINK.show(&space, member.at.into(), 0, None, &setup);
                let read =
                    LINK.parse(&shown.canonical, &context).unwrap_or_else(|why| panic!("{shown}: {why:?}"));
                assert_eq!((&read.space, read.first), (&space, u32::from(member.at)), "{shown}");
                assert!(shown.offset.starts_with(&format!("index {}", parameter.index())), "{shown}");
                // Small letters are meant alike.
                let small = LINK.parse(&shown.canonical.to_lowercase(), &context).unwrap();
                assert_eq!(small, read);
                seen += 1;
            }
        }
    }
    assert!(seen > 250, "{seen} members");
}

#[test]
fn what_names_nothing_is_told_with_what_was_likely_meant() {
    let setup = setup();
    let context = AddressContext::of_device(&setup);
    for (text, what, likely) in [
        ("AI2.OUT", "has no block `AI2`", Some("AI1.OUT")),
        ("AI1", "is a block", None),
        ("AI1.OUTT", "is not a parameter", Some("AI1.OUT")),
        ("AI1.XD_SCALE", "is a structure: name one of its members", None),
        ("AI1.XD_SCALE.EU_1000", "has no member `EU_1000`", Some("AI1.XD_SCALE.EU_100")),
        ("AI1.CHANNEL.VALUE", "has no members", Some("AI1.CHANNEL")),
        ("AI1.BLOCK_ALM", "is a record that the link does not give", None),
    ] {
        let why = LINK.parse(text, &context).unwrap_err();
        assert_eq!(why.code, "F10", "{text}");
        assert!(why.what.contains(what), "{text}: {}", why.what);
        if let Some(likely) = likely {
            assert_eq!(why.likely, [likely], "{text}");
        }
        assert!(why.at.end <= text.len());
    }
    let none = Setup::default();
    let why = LINK.parse("AI1.OUT", &AddressContext::of_device(&none)).unwrap_err();
    assert!(why.what.contains("has no profile"), "{}", why.what);
}

#[test]
fn a_parameter_has_the_type_that_its_block_says_and_no_order() {
    let setup = setup();
    let with = |form: &str| {
        let context = AddressContext::of_device(&setup).with_form(Some(Form::parse(form).unwrap()));
        LINK.parse("AI1.OUT", &context).map_err(|why| why.code)
    };
    assert!(with("f32").is_ok());
    assert_eq!(with("u16").unwrap_err(), "M57");
    assert_eq!(with("f32 CDAB").unwrap_err(), "F08");
    assert_eq!(LINK.order(&space(&setup, "AI1.OUT")), Some(Order::HIGH_FIRST));
}

#[test]
fn words_of_a_value_are_read_back_as_that_value() {
    let setup = setup();
    for (name, first, words) in [
        ("AI1.MODE_BLK", 0, ["OOS", "MAN", "AUTO", "CAS"].as_slice()),
        ("AI1.L_TYPE", 0, &["uninitialised", "direct", "indirect", "indirect square root"]),
        ("AI1.XD_SCALE", 8, &["degC", "bar", "m3/h", "%", "kPa", "pH"]),
        ("AI1.SIMULATE", 10, &["off", "on"]),
        ("AI1.STATUS_OPTS", 0, &["none", "uncertain if limited", "uncertain if limited, bad if limited"]),
        ("AI1.IO_OPTS", 0, &["none", "low cutoff"]),
        ("RESOURCE1.WRITE_LOCK", 0, &["unlocked", "locked"]),
        ("PID1.BYPASS", 0, &["off", "on"]),
    ] {
        let space = space(&setup, name);
        for word in words {
            let cells = LINK.cells_of_words(&space, first, word).unwrap().unwrap();
            assert_eq!(LINK.words(&space, first, &cells).as_deref(), Some(*word), "{name}");
        }
        let why = LINK.cells_of_words(&space, first, "nonsense").unwrap().unwrap_err();
        assert!(why.contains("nonsense"), "{why}");
        assert_eq!(LINK.cells_of_words(&space, first, "1"), None, "a number is no word");
    }
    // What is a number and nothing else has no words.
    for (name, first) in [("AI1.OUT", 1), ("AI1.CHANNEL", 0), ("AI1.XD_SCALE", 0), ("AI1.ST_REV", 0)] {
        let space = space(&setup, name);
        assert_eq!(LINK.words(&space, first, &[0; 4]), None, "{name}");
        assert_eq!(LINK.cells_of_words(&space, first, "AUTO"), None, "{name}");
    }
    let status = |byte| LINK.words(&space(&setup, "AI1.OUT"), 0, &[byte]).unwrap();
    assert_eq!((status(0x80).as_str(), status(0x10).as_str()), ("good", "bad, sensor failure"));
}

#[test]
fn a_structure_is_shown_by_its_members() {
    let setup = setup();
    let context = AddressContext::of_device(&setup);
    let whole = LINK.whole("AI1.XD_SCALE", &context).unwrap();
    let cells = [&120f32.to_be_bytes()[..], &(-10f32).to_be_bytes(), &[0x03, 0xE9, 1]].concat();
    let members = LINK.members(&whole, &cells);
    let shown: Vec<(&str, &str)> = members.iter().map(|own| (own.name, own.shown.as_str())).collect();
    assert_eq!(shown, [("EU_100", "120"), ("EU_0", "-10"), ("UNITS_INDEX", "degC"), ("DECIMAL", "1")]);
    let end = members.iter().map(|own| own.first + own.count).max();
    assert_eq!(end, Some(11), "to its last byte");
    assert_eq!(LINK.whole("AI1.CHANNEL", &context), None, "one value");
    assert_eq!(LINK.members(&whole, &[1, 2]).len(), 0, "what is cut off shows nothing");
}

#[test]
fn the_status_judges_the_value_behind_it_and_nothing_else() {
    let setup = setup();
    let out = space(&setup, "AI1.OUT");
    assert_eq!((LINK.judge_of(&out, 1), LINK.judge_of(&out, 0)), (Some(0), None));
    assert_eq!(LINK.judge_of(&space(&setup, "AI1.CHANNEL"), 0), None);
    let lose = Setup { words: vec![("uncertain", "lose".into())], ..Setup::default() };
    for (status, kept, strict) in [
        (0x80, true, true),
        (0xC0, true, true),
        (0x40, true, false),
        (0x4B, true, false),
        (0x10, false, false),
    ] {
        assert_eq!(LINK.is_sound(status, &Setup::default()), kept, "0x{status:02X}");
        assert_eq!(LINK.is_sound(status, &lose), strict, "0x{status:02X}");
    }
    let takes = |name: &str, first, cells: &[u8]| LINK.takes(&space(&setup, name), first, cells);
    assert_eq!(takes("AO1.SP", 1, &f32::NAN.to_be_bytes()), Some(false));
    assert_eq!(takes("AO1.SP", 1, &1f32.to_be_bytes()), Some(true));
    assert_eq!(takes("AI1.MODE_BLK", 0, &[0x08]), Some(true));
    assert_eq!(takes("AI1.MODE_BLK", 0, &[0]), Some(false));
    assert_eq!(takes("PID1.MODE_BLK", 0, &[0x01]), None, "one device permits it and another does not");
}

#[test]
fn keys_that_cannot_be_are_refused_and_defaults_are_those_of_the_reference() {
    let with = |text: &str| Setup { words: vec![("unpolled", text.into())], ..Setup::default() };
    assert_eq!(unpolled(PortKeys(&with("0x30-0xE9"))), Ok(Some(0x30..0xEA)));
    assert_eq!(unpolled(PortKeys(&with("48 - 50"))), Ok(Some(48..51)));
    assert_eq!(unpolled(PortKeys(&Setup::default())), Ok(None));
    for wrong in ["0x30", "0xE9-0x30", "0x30-0x130", "a-b", "-"] {
        assert!(unpolled(PortKeys(&with(wrong))).unwrap_err().contains(wrong), "{wrong}");
        assert_eq!(LINK.port_faults(&with(wrong), true).len(), 1, "{wrong}");
    }
    for (node, reserved) in
        [(0x00, true), (0x0F, true), (0x10, false), (0xF7, false), (0xF8, true), (0xFF, true)]
    {
        assert_eq!(node_fault(node).is_some(), reserved, "0x{node:02X}");
    }
    let own = publishing(&Setup::default());
    assert_eq!((own.every, own.missed), (1_000_000, 3));
    assert!(LINK.runs_on(Transport::Connect).is_ok());
    for other in [Transport::Serial, Transport::Listen, Transport::Pty] {
        assert!(LINK.runs_on(other).is_err());
    }
}

#[test]
fn a_request_costs_the_bytes_that_its_example_has() {
    let setup = setup();
    for (name, count) in [("AI1.OUT", 5u32), ("AI1.CHANNEL", 2), ("AI1.XD_SCALE", 11), ("AI1.MODE_BLK", 4)] {
        let space = space(&setup, name);
        let cells = vec![0; count as usize];
        for verb in [Verb::Read, Verb::Write] {
            let example = LINK.example(verb, &space, 0, &cells, &setup);
            let cost = (&LINK as &dyn Dialect).cost(verb, &space, count, &setup).unwrap();
            let bytes = |count: u32| count as usize;
            assert_eq!(
                (bytes(cost.out), bytes(cost.back)),
                (example.request.len(), example.answer.len()),
                "{name}"
            );
        }
        let more = (&LINK as &dyn Dialect).cost(Verb::Read, &space, count + 1, &setup).unwrap_err();
        assert_eq!((more.limit, more.source), (count, "one parameter"));
    }
    let published = LINK.published_example(&space(&setup, "AI1.OUT"), &1f32.to_be_bytes(), &setup).unwrap();
    assert!(!published.request.is_empty() && !published.answer.is_empty());
}

#[test]
fn types_of_members_are_those_of_their_parameter() {
    let setup = setup();
    let context = AddressContext::of_device(&setup);
    for (text, ty) in [
        ("AI1.OUT", Type::F32),
        ("AI1.OUT.STATUS", Type::U8),
        ("DI1.OUT_D", Type::U8),
        ("AI1.CHANNEL", Type::U16),
        ("TRANSDUCER1.SERIAL_NUMBER", Type::U32),
        ("TRANSDUCER1.PRIMARY_VALUE", Type::F32),
        ("AI1.XD_SCALE.DECIMAL", Type::I8),
    ] {
        let read = LINK.parse(text, &context).unwrap();
        assert_eq!(read.brings, crate::protocol::ImpliedType::Type(ty), "{text}");
    }
}
