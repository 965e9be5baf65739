//! Tests over the shared table of checked vectors (`testdata/vectors-enip.json`): each was computed apart from this
//! code, and most of them read by a packet analyser.

use super::cip::{self, Reply, Request, class, service};
use super::connection::{
    self, Closed, ForwardClose, ForwardOpen, NotOpened, Opened, Parameters, UnconnectedSend,
};
use super::cpf::{Connected, Unconnected};
use super::cyclic::{CyclicData, CyclicFrame, Points, SocketItem};
use super::encap::{self, Header, Registration, command};
use super::epath::{Key, Logical, Object, Path, Segment, Width};
use super::objects::{self, Addresses, Identity, ListedIdentity};
use super::packet::{self, Parts};
use super::tables::Execute;
use super::tags::{self, Fragment, Masks, Symbol, SymbolType, TagType, Values, Write, type_code};
use super::{exercise, status};
use crate::WireError;
use crate::checked::{Vectors, emitted};
use crate::tables::{COMMAND, Command, Logical as Place};
use proptest::prelude::*;
use std::net::Ipv4Addr;

const TABLE: Vectors = Vectors(include_str!("../../testdata/vectors-enip.json"));

const MOST: u16 = 8192;

#[test]
fn every_sound_message_is_read_and_written_back() {
    for (name, bytes) in TABLE.judged("encap", true) {
        assert_eq!(exercise::stream(&bytes), 1, "{name}");
        for cut in 0..bytes.len() {
            assert_eq!(encap::parse(&bytes[..cut], MOST), Ok(None), "{name} cut at {cut}");
        }
    }
    assert_eq!(exercise::stream(&TABLE.bytes("stream_two_messages")), 2);
    // Built from nothing, they come out.
    let context = *b"WOODRUSH";
    let header = |command| Header { command, context, ..Header::default() };
    let data = |out: &mut Vec<u8>| Registration::OURS.emit(out);
    let register = emitted(|out| header(command::REGISTER_SESSION).emit_with(out, data));
    assert_eq!(register, TABLE.bytes("encap_register_req"));
    let services = |out: &mut Vec<u8>| objects::emit_services(out, 0x0120);
    let listed = emitted(|out| header(command::LIST_SERVICES).emit_with(out, services));
    assert_eq!(listed, TABLE.bytes("encap_listservices_rsp"));
    let whole = TABLE.bytes("encap_listidentity_rsp");
    let (message, _) = encap::parse(&whole, MOST).unwrap().unwrap();
    let own = ListedIdentity::parse(message.data).unwrap().unwrap();
    assert_eq!((own.address.to_string().as_str(), own.state), ("192.168.10.2:44818", 3));
    assert_eq!((own.identity.name, own.identity.serial), (&b"Woodrush IO"[..], 0xC0FF_EE01));
    assert_eq!(emitted(|out| own.emit(out)), message.data);
}

#[test]
fn every_unsound_message_costs_what_the_reference_says() {
    // What a receiver does with it: waits for more, ignores it, answers a status of the encapsulation.
    let told = [
        ("bad_encap_short", "waits"),
        ("bad_encap_length", "waits"),
        ("bad_encap_options", "ignored"),
        ("bad_encap_command", "status 1"),
        ("bad_register_len", "status 101"),
        ("bad_register_flags", "status 105"),
        ("bad_cpf_count", "status 3"),
        ("bad_cpf_item_overrun", "status 3"),
        ("bad_cpf_trailing", "status 3"),
        ("bad_rr_wrong_item", "status 3"),
        ("bad_iface", "status 3"),
    ];
    let unsound = TABLE.judged("encap", false);
    assert_eq!(unsound.len(), told.len());
    for (name, bytes) in unsound {
        let done = match encap::parse(&bytes, MOST).unwrap() {
            None => "waits".to_string(),
            Some((message, _)) if message.header.options != 0 => "ignored".into(),
            Some((message, _)) => match message.header.command {
                command::REGISTER_SESSION => match Registration::parse(message.data) {
                    Err(_) => format!("status {}", encap::status::INVALID_LENGTH),
                    Ok(own) if own != Registration::OURS => {
                        format!("status {}", encap::status::UNSUPPORTED_REVISION)
                    }
                    Ok(own) => panic!("{own:?}"),
                },
                command::SEND_RR_DATA => {
                    Unconnected::parse(message.data).unwrap_err();
                    format!("status {}", encap::status::BAD_DATA)
                }
                _ => format!("status {}", encap::status::INVALID_COMMAND),
            },
        };
        assert_eq!(told.iter().find(|(own, _)| *own == name), Some(&(name.as_str(), done.as_str())));
    }
    let long = encap::parse(&TABLE.bytes("encap_register_req"), 3).unwrap_err();
    assert_eq!(long.to_string(), "encapsulation header, byte 2: length is 4, allowed is 0 to 3");
}

#[test]
fn every_sound_path_is_read_and_written_back() {
    for (name, bytes) in TABLE.judged("epath", true) {
        assert!(Path::parse(&bytes).is_ok(), "{name}");
        exercise::path(&bytes);
    }
    let segments = |name: &str| {
        let bytes = TABLE.bytes(name);
        let path = Path::parse(&bytes).unwrap();
        path.segments().map(|segment| format!("{segment:?}")).collect::<Vec<_>>()
    };
    let number = |kind, value, width| format!("{:?}", Segment::Number { kind, value, width });
    let symbol = |text: &str| format!("{:?}", Segment::Symbol(text.as_bytes()));
    assert_eq!(
        segments("epath_tag_nested"),
        [
            symbol("Line"),
            number(Logical::Member, 2, Width::Byte),
            symbol("Motor"),
            symbol("Amps"),
            number(Logical::Member, 300, Width::Word),
        ]
    );
    assert_eq!(segments("epath_elem32")[1], number(Logical::Member, 70_000, Width::Long));
    let port = |port, link: &[u8]| format!("{:?}", Segment::Port { port, link });
    assert_eq!(segments("epath_port_ip")[0], port(2, b"192.168.10.77"));
    assert_eq!(segments("epath_port_ext")[0], port(18, &[5]));
    let key = Key { vendor: 0xFFF1, device_type: 0x2B, product: 0x0101, major: 0x81, minor: 2 };
    assert_eq!(segments("epath_key")[0], format!("{:?}", Segment::Key(key)));
    let object = Object { class: 0x0106, instance: 300, attribute: Some(0x0101) };
    assert_eq!(Path::parse(&TABLE.bytes("epath_16bit")).unwrap().object(), Some(object));
    assert_eq!(emitted(|out| object.emit(out)), TABLE.bytes("epath_16bit"));
    assert_eq!(Path::parse(&TABLE.bytes("epath_tag_2d")).unwrap().object(), None);
    let simple = TABLE.bytes("epath_port_simple");
    let (route, rest) = Path::parse(&simple).unwrap().split_route();
    assert_eq!((route.bytes(), rest.bytes()), (&simple[..2], &simple[2..]));
}

#[test]
fn every_unsound_path_is_refused_for_its_reason() {
    let told = [
        ("bad_epath_cut", "EPATH, byte 2: number needs 2 bytes, 1 is left"),
        ("bad_epath_cut2", "EPATH, byte 4: number needs 2 bytes, 0 are left"),
        (
            "bad_epath_resfmt",
            "EPATH, byte 0: segment is 0x0023, allowed is a port, a number, a key, data or a symbol",
        ),
        (
            "bad_epath_type7",
            "EPATH, byte 0: segment is 0x00E0, allowed is a port, a number, a key, data or a symbol",
        ),
        ("bad_epath_sym0", "EPATH, byte 1: symbol length is 0, allowed is 1 to 255"),
        ("bad_epath_symcut", "EPATH, byte 2: symbol needs 10 bytes, 6 are left"),
        ("bad_epath_key", "EPATH, byte 1: key format is 6, allowed is 4 to 4"),
    ];
    let unsound = TABLE.judged("epath", false);
    assert_eq!(unsound.len(), told.len());
    for (name, bytes) in unsound {
        let error = Path::parse(&bytes).unwrap_err();
        assert_eq!(cip::status_of(&error), status::PATH_SEGMENT_ERROR, "{name}");
        assert_eq!(
            told.iter().find(|(own, _)| *own == name),
            Some(&(name.as_str(), error.to_string().as_str()))
        );
    }
}

#[test]
fn every_sound_request_and_reply_is_read_and_written_back() {
    for (name, bytes) in TABLE.judged("cip-request", true) {
        assert!(Request::parse(&bytes).is_ok(), "{name}");
        exercise::request(&bytes, 3);
    }
    for (name, bytes) in TABLE.judged("cip-response", true) {
        let reply = Reply::parse(&bytes).unwrap_or_else(|error| panic!("{name}: {error}"));
        exercise::reply(&bytes, 3);
        assert_ne!(status::words(reply.status), "reserved", "{name}");
        if let Some(word) = reply.word().filter(|word| *word != 0) {
            assert!(status::additional_words(reply.status, word).is_some(), "{name}: {word:04X}");
        }
    }
}

/// The general status by which a request is refused, as a target would.
fn refused(bytes: &[u8]) -> (u8, Option<u16>) {
    let status = |error: WireError| (cip::status_of(&error), None);
    let request = match Request::parse(bytes) {
        Ok(request) => request,
        Err(error) => return status(error),
    };
    let data = request.data;
    match (request.service, request.path.object().map(|object| object.class)) {
        (service::MULTIPLE_SERVICE_PACKET, _) => Parts::parse(data).map_or_else(status, |_| (0, None)),
        (service::FORWARD_OPEN, Some(class::CONNECTION_MANAGER)) => match ForwardOpen::parse(data, false) {
            Err(error) => status(error),
            Ok(open) => (u8::from(open.fault().is_some()), open.fault()),
        },
        (service::EXECUTE_PCCC, Some(class::PCCC)) => match Execute::parse(data) {
            Err(error) => status(error),
            Ok(own) => (0, Command::parse(own.cmd, own.body).is_err().then_some(0x10)),
        },
        _ => (0, None),
    }
}

#[test]
fn every_unsound_request_is_refused_for_its_reason() {
    let told = [
        ("bad_path_overrun", (0x13, None)),
        ("bad_path_reply_bit", (0x08, None)),
        ("bad_msp_offset", (0x13, None)),
        ("bad_msp_count", (0x13, None)),
        ("bad_fo_path", (0x13, None)),
        ("bad_fo_path_long", (0x15, None)),
        ("bad_fo_type", (0x01, Some(0x0123))),
        ("bad_fo_mult", (0x01, Some(0x0133))),
        ("bad_pccc_reqid", (0x20, None)),
        // The status of the command, not of the service.
        ("bad_pccc_cut", (0x00, Some(0x10))),
        ("bad_pccc_short", (0x00, Some(0x10))),
    ];
    let unsound = TABLE.judged("cip-request", false);
    assert_eq!(unsound.len(), told.len());
    for (name, bytes) in unsound {
        assert_eq!(told.iter().find(|(own, _)| *own == name), Some(&(name.as_str(), refused(&bytes))));
    }
    let error = Reply::parse(&TABLE.bytes("bad_rsp_ext")).unwrap_err();
    assert_eq!(error.to_string(), "CIP reply, byte 4: additional status needs 6 bytes, 2 are left");
}

/// The data of a request, whose path is looked at too.
fn asked(name: &str) -> (u8, Vec<u8>, Vec<u8>) {
    let bytes = TABLE.bytes(name);
    let request = Request::parse(&bytes).unwrap();
    (request.service, request.path.bytes().to_vec(), request.data.to_vec())
}

fn answered(name: &str) -> Vec<u8> {
    Reply::parse(&TABLE.bytes(name)).unwrap().data.to_vec()
}

#[test]
fn tags_are_read_and_written() {
    let (code, path, data) = asked("tag_read_dints_req");
    assert_eq!((code, tags::parse_read(&data)), (service::READ_TAG, Ok(3)));
    let path = Path::parse(&path).unwrap();
    assert!(tags::is_tag(&path));
    assert_eq!(path.segments().nth(1), Some(Segment::number(Logical::Member, 10)));
    assert!(tags::is_tag(&Path::parse(&asked("tag_read_instance_req").1).unwrap()));
    assert!(!tags::is_tag(&Path::parse(&asked("sym_list_req").1).unwrap()));
    let data = answered("tag_read_string_rsp");
    let values = Values::parse(&data).unwrap();
    assert_eq!((values.tag_type, values.data.len()), (TagType::STRING, tags::STRING_BYTES));
    assert_eq!((values.tag_type.name(), values.tag_type.wire_bytes()), (Some("STRING"), 4));
    let data = answered("tag_read_real_rsp");
    let values = Values::parse(&data).unwrap();
    assert_eq!(values.tag_type, TagType::elementary(type_code::REAL));
    assert_eq!(values.data, 23.5f32.to_le_bytes());
    let fragment = Fragment::parse(&asked("tag_readfrag2_req").2).unwrap();
    assert_eq!(fragment, Fragment { elements: 100, offset: 32 });
    let data = asked("tag_writefrag_req").2;
    let write = Write::parse(&data, true).unwrap();
    assert_eq!((write.elements, write.offset, write.data.len()), (100, Some(40), 8));
    let data = asked("tag_rmw_req").2;
    let masks = Masks::parse(&data).unwrap();
    assert_eq!((masks.or, masks.and), (&[5, 0, 0, 0][..], &[0xF7, 0xFF, 0xFF, 0xFF][..]));
    assert!(Masks::parse(&[3, 0, 1, 2, 3, 1, 2, 3]).is_err());
    let data = answered("sym_list_rsp");
    let symbols = tags::parse_symbols(&data).unwrap();
    let of = |at: usize| (symbols[at].instance, symbols[at].symbol_type);
    assert_eq!((symbols.len(), symbols[0].name, of(0)), (3, &b"Level"[..], (1, SymbolType(0x00CA))));
    let (counts, message) = (symbols[1].symbol_type, symbols[2].symbol_type);
    assert_eq!((counts.dimensions(), counts.code(), counts.is_structure()), (1, 0xC4, false));
    assert_eq!((message.is_structure(), message.code(), message.is_system()), (true, 0x0FCE, false));
    let (code, _, data) = asked("sym_list_req");
    let wanted: Vec<u16> = objects::parse_attribute_list(&data).unwrap().collect();
    assert_eq!((code, wanted), (service::LIST_SYMBOLS, tags::SYMBOL_ATTRIBUTES.to_vec()));
    assert_eq!(emitted(tags::emit_list), data);
}

#[test]
fn data_tables_are_read_and_written() {
    const REQUESTER: [u8; 6] = [0xF1, 0xFF, 0x01, 0xEE, 0xFF, 0xC0];
    let at = |file, kind, element| Place { file, kind, element, sub: Some(0) };
    let write = [0xD4, 0xFE];
    let commands = [
        ("n7", Command::Read { size: 4, at: at(7, 0x89, 10) }),
        ("f8", Command::Read { size: 4, at: at(8, 0x8A, 300) }),
        ("timer", Command::Read { size: 6, at: at(4, 0x86, 2) }),
        ("write_n7", Command::Write { at: at(7, 0x89, 0), data: &write }),
        ("mask_b3", Command::MaskedWrite { at: at(3, 0x85, 1), mask: 0x20, data: &[0x20, 0] }),
        ("err", Command::Read { size: 2, at: at(99, 0x89, 0) }),
    ];
    let name = |own: &str, end: &str| match own {
        "n7" | "f8" | "timer" => format!("pccc_read_{own}_{end}"),
        own => format!("pccc_{own}_{end}"),
    };
    for (own, command) in commands {
        let (code, path, data) = asked(&name(own, "req"));
        assert_eq!((code, path), (service::EXECUTE_PCCC, vec![0x20, 0x67, 0x24, 0x01]), "{own}");
        let execute = Execute::parse(&data).unwrap();
        assert_eq!(Command::parse(execute.cmd, execute.body), Ok(command), "{own}");
        let mut body = vec![];
        command.emit(&mut body);
        let built = Execute { requester: &REQUESTER, cmd: COMMAND, sts: 0, tns: execute.tns, body: &body };
        assert_eq!(emitted(|out| built.emit_request(out)), TABLE.bytes(&name(own, "req")), "{own}");
        let answer = answered(&name(own, "rsp"));
        let reply = Execute::parse(&answer).unwrap();
        assert!(reply.replies_to(&REQUESTER, COMMAND, execute.tns), "{own}");
        assert!(
            !reply.replies_to(&REQUESTER, COMMAND, execute.tns + 1)
                && !reply.replies_to(&[], COMMAND, execute.tns)
        );
        assert_eq!(execute.reply(reply.sts, reply.body), reply, "{own}");
        assert_eq!(emitted(|out| reply.emit_response(out)), TABLE.bytes(&name(own, "rsp")), "{own}");
        let brings: Result<&[u8], (u8, u8)> = match own {
            "n7" => Ok(&[0x7B, 0x00, 0xFB, 0xFF]),
            "f8" => Ok(&[0x00, 0x00, 0x20, 0xC2]),
            "timer" => Ok(&[0x00, 0xE0, 0xF4, 0x01, 0x7B, 0x00]),
            "err" => Err((0xF0, 0x06)),
            _ => Ok(&[]),
        };
        assert_eq!(reply.outcome(), brings, "{own}");
    }
}

#[test]
fn several_services_keep_their_borders() {
    let data = answered("msp_rsp");
    let parts: Vec<_> = Parts::parse(&data).unwrap().iter().map(|part| Reply::parse(part).unwrap()).collect();
    assert_eq!(parts.iter().map(|part| part.status).collect::<Vec<_>>(), [0, 4, 0]);
    let (_, path, data) = asked("msp_req");
    let parts = Parts::parse(&data).unwrap();
    assert_eq!(parts.iter().len(), 3);
    let sum: usize = parts.iter().map(<[u8]>::len).sum();
    assert_eq!(data.len(), packet::overhead(3) + sum);
    let router = Object { class: class::MESSAGE_ROUTER, instance: 1, attribute: None };
    assert_eq!(Path::parse(&path).unwrap().object(), Some(router));
    assert!(Parts::parse(&[0, 0]).is_err() && Parts::parse(&[1, 0, 4, 0]).is_err());
    let many = emitted(|out| packet::emit_with(out, 65, |_, out| out.push(1)));
    assert_eq!(
        Parts::parse(&many).unwrap_err().to_string(),
        "several services, byte 0: services is 65, allowed is 1 to 64"
    );
}

#[test]
fn connections_are_opened_and_closed() {
    let (code, _, data) = asked("fo_class3_req");
    let open = ForwardOpen::parse(&data, true).unwrap();
    assert_eq!((code, open.service(), open.transport), (0x5B, 0x5B, connection::EXPLICIT));
    assert_eq!((open.to_target, open.fault()), (Parameters::explicit(4002, true), None));
    assert_eq!(
        (open.to_target.kind(), open.to_target.is_variable(), open.to_target.priority()),
        (2, true, 0)
    );
    let (_, _, data) = asked("fo_class3_small_req");
    let small = ForwardOpen::parse(&data, false).unwrap();
    assert_eq!((small.to_originator, small.to_originator.size()), (Parameters::explicit(504, false), 504));
    assert_eq!(connection::lost_after(2_000_000, small.multiplier), 64_000_000);
    let data = answered("fo_class3_rsp");
    let opened = Opened::parse(&data).unwrap();
    assert_eq!((opened.triad, opened.to_originator_id), (open.triad, open.to_originator_id));
    let data = answered("fo_badsize_rsp");
    assert_eq!(NotOpened::parse(&data).unwrap().triad.serial, 0x44);
    let (_, _, data) = asked("fc_excl_req");
    let close = ForwardClose::parse(&data).unwrap();
    let data = answered("fc_excl_rsp");
    assert_eq!(Closed::parse(&data).unwrap().triad, close.triad);
    for (name, ms, length) in [("usend_req", 14_336, 12), ("usend_odd_req", 14_336, 13)] {
        let (_, _, data) = asked(name);
        let send = UnconnectedSend::parse(&data).unwrap();
        assert_eq!((send.timeout_ms(), send.message.len()), (ms, length), "{name}");
    }
    assert_eq!([2000, 250, 14_336, 0].map(UnconnectedSend::ticks_of), [(3, 250), (0, 250), (6, 224), (0, 0)]);
}

#[test]
fn frames_that_run_are_read_by_their_connection_and_unsound_ones_are_dropped() {
    for (name, bytes) in TABLE.judged("cpf-io", true) {
        let own = CyclicFrame::parse(&bytes).unwrap_or_else(|error| panic!("{name}: {error}"));
        assert_eq!(emitted(|out| own.emit(out)), bytes, "{name}");
    }
    let of = |name: &str| TABLE.bytes(name);
    let run = of("io_ot_run");
    let run = CyclicFrame::parse(&run).unwrap();
    assert_eq!((run.connection, run.number), (0x10A2_0001, 1));
    let data = CyclicData::parse(run.body, 10, true).unwrap();
    assert_eq!((data.sequence, data.runs(), data.data), (1, true, &[0xA1, 0xB2, 0xC3, 0xD4][..]));
    let idle = of("io_ot_idle");
    let idle = CyclicFrame::parse(&idle).unwrap();
    assert!(!CyclicData::parse(idle.body, 10, true).unwrap().runs());
    let wrapped = of("io_to_wrap");
    let wrapped = CyclicFrame::parse(&wrapped).unwrap();
    let data = CyclicData::parse(wrapped.body, 14, false).unwrap();
    assert_eq!((wrapped.number, data.sequence, data.header, data.data.len()), (0x0001_0000, 0, None, 12));
    let beat = of("io_ot_heartbeat");
    let beat = CyclicFrame::parse(&beat).unwrap();
    assert!(CyclicData::parse(beat.body, 2, false).unwrap().data.is_empty());
    // Dropped: another size than the connection's, another item, cut.
    let short = of("bad_io_size");
    let short = CyclicFrame::parse(&short).unwrap();
    let told = CyclicData::parse(short.body, 10, true).unwrap_err().to_string();
    assert_eq!(told, "cyclic frame, byte 0: data length is 9, allowed is 10 to 10");
    for name in ["bad_io_item", "bad_io_cut"] {
        assert!(CyclicFrame::parse(&of(name)).is_err(), "{name}");
    }
    for (last, number, is_later) in [
        (1, 2, true),
        (2, 2, false),
        (2, 1, false),
        (u32::MAX, 0, true),
        (0, 0x7FFF_FFFF, true),
        (0, 0x8000_0000, false),
    ] {
        assert_eq!(CyclicFrame::is_later(last, number), is_later, "{last} {number}");
    }
}

#[test]
fn connections_that_run_are_opened_to_assemblies() {
    let (_, _, data) = asked("fo_excl_req");
    let open = ForwardOpen::parse(&data, false).unwrap();
    assert_eq!((open.transport, open.fault(), open.multiplier), (connection::CYCLIC, None, 2));
    assert_eq!(open.to_target, Parameters::cyclic(10, false));
    assert_eq!((open.to_target_interval, open.to_originator_interval), (10_000, 20_000));
    assert_eq!(connection::lost_after(open.to_target_interval, open.multiplier), 160_000);
    let points = Points::of(&open.path).unwrap();
    let wanted = Points { configuration: Some(151), to_target: 150, to_originator: 100, ..Points::default() };
    assert_eq!(points, wanted);
    assert_eq!(emitted(|out| points.emit(out)), open.path.bytes());
    let (_, _, data) = asked("fo_mcast_req");
    let many = ForwardOpen::parse(&data, false).unwrap();
    assert_eq!((many.to_target.size(), many.to_originator.kind()), (2, 1), "a heartbeat, and multicast back");
    // With a key, a time and data; and what is no path to two assemblies.
    let key = Key { vendor: 1, device_type: 2, product: 3, major: 4, minor: 5 };
    let whole = Points { key: Some(key), data: &[1, 2, 3, 4], inhibit_us: 5000, ..wanted };
    let bytes = emitted(|out| whole.emit(out));
    assert_eq!(Points::of(&Path::parse(&bytes).unwrap()), Some(whole));
    for bytes in
        [&[0x20, 2, 0x24, 1][..], &[0x20, 4, 0x24, 151, 0x2C, 150], &[0x20, 4, 0x2C, 1, 0x2C, 2, 0x2C, 3]]
    {
        assert_eq!(Points::of(&Path::parse(bytes).unwrap()), None, "{bytes:02X?}");
    }
    // The group that a target sends to stands behind its reply.
    let whole = TABLE.bytes("full_fo_mcast_rsp");
    let (message, _) = encap::parse(&whole, MOST).unwrap().unwrap();
    let extras = Unconnected::parse(message.data).unwrap().extras;
    assert_eq!(extras.count, 1);
    let group = SocketItem::of(&extras.bytes[4..]).unwrap();
    assert_eq!(group.0.to_string(), "239.192.1.32:2222");
    assert_eq!(emitted(|out| group.emit(out, false)), extras.bytes);
}

#[test]
fn objects_say_what_they_are() {
    let data = answered("id_getall_rsp");
    let identity = Identity::parse(&data).unwrap();
    assert_eq!((identity.vendor, identity.revision, identity.name), (0xFFF1, (1, 2), &b"Woodrush IO"[..]));
    let single = emitted(|out| identity.attribute(6, out).unwrap());
    assert_eq!(single, answered("id_getsingle_rsp"));
    assert_eq!(identity.attribute(8, &mut vec![]), None);
    let numbers = ["192.168.10.2", "255.255.255.254", "192.168.10.10", "0.0.0.0", "0.0.0.0"];
    let mut numbers = numbers.map(|number| number.parse::<Ipv4Addr>().unwrap());
    let wanted = answered("tcpip_cfg_rsp");
    for (at, number) in numbers.iter_mut().enumerate() {
        let octets: [u8; 4] = wanted[at * 4..at * 4 + 4].try_into().unwrap();
        *number = u32::from_le_bytes(octets).into();
    }
    assert_eq!(numbers[0].to_string(), "192.168.10.2");
    let addresses = Addresses { numbers, domain: b"plant" };
    assert_eq!(emitted(|out| addresses.emit(out)), wanted);
    assert_eq!(emitted(|out| objects::emit_text(out, b"woodrush")), answered("tcpip_host_rsp"));
    let whole = TABLE.bytes("ud_read_rsp");
    let (message, _) = encap::parse(&whole, MOST).unwrap().unwrap();
    let unit = Connected::parse(message.data).unwrap();
    assert_eq!((unit.connection, unit.sequence), (0x20B3_0009, 7));
    let again = emitted(|out| {
        Connected::emit_with(out, unit.connection, unit.sequence, |out| out.extend_from_slice(unit.message));
    });
    assert_eq!(again, message.data);
}

fn some_symbol() -> impl Strategy<Value = (u32, String, u16)> {
    (any::<u32>(), "[A-Za-z_:]{1,40}", any::<u16>())
}

proptest! {
    #[test]
    fn any_path_of_a_tag_comes_back(
        parts in prop::collection::vec(("[A-Za-z_][A-Za-z0-9_]{0,39}", prop::collection::vec(any::<u32>(), 0..3)), 1..5)
    ) {
        let bytes = emitted(|out| {
            for (name, indices) in &parts {
                Segment::Symbol(name.as_bytes()).emit(out);
                indices.iter().for_each(|index| Segment::number(Logical::Member, *index).emit(out));
            }
        });
        prop_assert!(tags::is_tag(&Path::parse(&bytes).unwrap()));
        exercise::path(&bytes);
    }

    #[test]
    fn any_symbols_come_back(symbols in prop::collection::vec(some_symbol(), 0..20)) {
        let own: Vec<Symbol<'_>> = symbols
            .iter()
            .map(|(instance, name, kind)| Symbol {
                instance: *instance,
                name: name.as_bytes(),
                symbol_type: SymbolType(*kind),
            })
            .collect();
        let bytes = emitted(|out| own.iter().for_each(|symbol| symbol.emit(out)));
        prop_assert_eq!(tags::parse_symbols(&bytes), Ok(own));
    }

    #[test]
    fn no_bytes_do_harm(bytes in prop::collection::vec(any::<u8>(), 0..160), flip in any::<prop::sample::Index>(),
        bit in 0u8..8, which in any::<prop::sample::Index>())
    {
        exercise::stream(&bytes);
        exercise::frame(&bytes);
        exercise::path(&bytes);
        exercise::request(&bytes, 3);
        exercise::reply(&bytes, 3);
        let known = TABLE.all();
        let mut known = known[which.index(known.len())].bytes();
        let at = flip.index(known.len());
        known[at] ^= 1 << bit;
        exercise::stream(&known);
        exercise::frame(&known);
        exercise::path(&known);
        exercise::request(&known, 3);
        exercise::reply(&known, 3);
    }
}
