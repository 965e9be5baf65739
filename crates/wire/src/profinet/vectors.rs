//! Tests over the shared table of checked vectors (`testdata/vectors-profinet.json`): each was computed apart from this
//! code, and most of them read by a packet analyser.

use super::block::{Block, Blocks, kind};
use super::connect::{AR_CONTROLLER, AlarmAnswer, AlarmRequest, ArAnswer, ArRequest};
use super::control::{Control, Step};
use super::dcp::{self, Choice, Dcp, Emit, IpSuite, Kind, Service};
use super::iocr::{Direction, FRAME_ID_OPEN, IocrAnswer, IocrRequest, NewIocr, Placed};
use super::lldp::{self, Neighbour};
use super::records::{IM0_INDEX, Identification, Record, RecordHeader};
use super::rpc::{self, Arguments, Header, emit_arguments, operation};
use super::rt::{DataStatus, RtFrame, iox};
use super::rta::{self, Rta, RtaKind};
use super::status::{self, PnioStatus, calls, ended, place, service};
use super::submodules::{self, Difference, Expected, ModuleState, SUBMODULE_WRONG};
use super::{Uuid, exercise};
use crate::checked::{Vectors, bytes_of, emitted};
use proptest::prelude::*;

const TABLE: Vectors = Vectors(include_str!("../../testdata/vectors-profinet.json"));

/// The blocks of a call, all of them sound.
fn call(bytes: &[u8]) -> (Header, Arguments<'_>) {
    let (header, body) = Header::parse(bytes).unwrap();
    let read = if header.kind == rpc::kind::REQUEST { Arguments::of_call } else { Arguments::of_answer };
    (header, read(body, header.little).unwrap())
}

const NAME: &str = "woodrush-io1";
const MAC: [u8; 6] = [2, 0, 0, 0, 0, 2];
const CONTROLLER_MAC: [u8; 6] = [2, 0, 0, 0, 0, 1];
const DEVICE: Uuid = Uuid::object(1, 0x0203, 0xFFF1);
const CONTROLLER: Uuid = Uuid::object(1, 1, 0xFFF1);
const CALLER: Uuid =
    Uuid([0xA0, 0xA1, 0xA2, 0xA3, 0xB0, 0xB1, 0x4C, 0x0C, 0x8D, 0x0D, 0xE0, 0xE1, 0xE2, 0xE3, 0xE4, 0xE5]);

fn relation() -> Uuid {
    let bytes = bytes_of("5b8d1f001111422283330123456789ab");
    Uuid(bytes.try_into().unwrap())
}

fn suite(last: u8) -> IpSuite {
    let address = [192, 168, 10, 2].into();
    IpSuite { address, mask: [255, 255, 255, 0].into(), gateway: [192, 168, 10, last].into() }
}

#[test]
fn every_sound_frame_is_read_and_written_back() {
    for layer in ["dcp", "rt", "rta"] {
        for (name, bytes) in TABLE.judged(layer, true) {
            exercise::frame(&bytes);
            let padded = [bytes.as_slice(), &[0; 46]].concat();
            exercise::frame(&padded);
            let read = |bytes: &[u8]| match layer {
                "dcp" => Dcp::parse(bytes).is_ok(),
                "rt" => RtFrame::parse(bytes, 40).is_ok(),
                _ => Rta::parse(bytes).is_ok(),
            };
            assert!(read(&bytes) && read(&padded), "{name}");
            assert!((0..bytes.len()).all(|cut| !read(&bytes[..cut])), "{name} cut");
        }
    }
}

#[test]
fn every_unsound_frame_is_dropped() {
    let told = |name: &str| {
        let bytes = TABLE.bytes(name);
        match name.split('_').nth(1) {
            Some("dcp") => Dcp::parse(&bytes).unwrap_err(),
            Some("rt") => RtFrame::parse(&bytes, 40).unwrap_err(),
            _ => Rta::parse(&bytes).unwrap_err(),
        }
        .to_string()
    };
    let all = [
        ("bad_dcp_short", "DCP, byte 10: data length needs 2 bytes, 1 is left"),
        ("bad_dcp_len", "DCP, byte 12: blocks needs 60 bytes, 4 are left"),
        ("bad_dcp_blocklen", "DCP, byte 16: block needs 40 bytes, 4 are left"),
        ("bad_dcp_get_odd", "DCP, byte 15: suboption needs 1 bytes, 0 are left"),
        ("bad_rt_short", "cyclic frame, byte 45: transfer status needs 1 bytes, 0 are left"),
        ("bad_rt_ts", "cyclic frame, byte 45: transfer status is 1, allowed is 0 to 0"),
        ("bad_rta_len", "alarm channel, byte 14: data needs 65535 bytes, 4 are left"),
        (
            "bad_rta_version",
            "alarm channel, byte 6: kind is 0x0024, allowed is 0x11, 0x12, 0x13 and 0x14: version 1",
        ),
    ];
    for (name, words) in all {
        assert_eq!(told(name), words, "{name}");
    }
    let unsound = ["dcp", "rt", "rta"].map(|layer| TABLE.judged(layer, false).len());
    assert_eq!(unsound.iter().sum::<usize>(), all.len());
}

#[test]
fn stations_are_found_named_and_addressed() {
    let built = |service, kind, transaction, delay, blocks: &[(Choice, u16, &[u8])]| {
        emitted(|out| {
            let begun = Emit::begin(out, service, kind, transaction, delay);
            blocks.iter().for_each(|(choice, word, value)| begun.block(out, *choice, *word, value));
            begun.end(out);
        })
    };
    let name: (Choice, u16, &[u8]) = (Choice::NAME, 0, NAME.as_bytes());
    let ip = suite(2).bytes();
    for (vector_name, bytes) in [
        (
            "dcp_identify_all",
            built(Service::Identify, Kind::Request, 0x0100_0042, 1, &[(Choice::ALL, 0, &[])]),
        ),
        ("dcp_identify_name", built(Service::Identify, Kind::Request, 0x0100_0043, 1, &[name])),
        (
            "dcp_identify_name_odd",
            built(Service::Identify, Kind::Request, 0x0100_0044, 1, &[(Choice::NAME, 0, b"pump7")]),
        ),
        (
            "dcp_identify_rsp",
            built(
                Service::Identify,
                Kind::Success,
                0x0100_0042,
                0,
                &[
                    (Choice::STATION_TYPE, 0, b"WR-IO"),
                    name,
                    (Choice::DEVICE_ID, 0, &[0xFF, 0xF1, 2, 3]),
                    (Choice::ROLE, 0, &[dcp::ROLE_DEVICE, 0]),
                    (Choice::OPTIONS, 0, &[1, 1, 1, 2, 2, 1, 2, 2, 2, 3, 2, 4, 2, 5, 5, 3, 5, 6][..]),
                    (Choice::INSTANCE, 0, &[0, 1]),
                    (Choice::IP, dcp::IP_SET, &ip),
                ],
            ),
        ),
        (
            "dcp_set_ip",
            built(Service::Set, Kind::Request, 0x0100_0045, 0, &[(Choice::IP, 0, &suite(254).bytes())]),
        ),
        (
            "dcp_set_name",
            built(Service::Set, Kind::Request, 0x0100_0046, 0, &[(Choice::NAME, dcp::PERMANENT, name.2)]),
        ),
        (
            "dcp_set_flash",
            built(
                Service::Set,
                Kind::Request,
                0x0100_0048,
                0,
                &[(Choice::SIGNAL, 0, &dcp::FLASH.to_be_bytes())],
            ),
        ),
        (
            "dcp_set_factory",
            built(
                Service::Set,
                Kind::Request,
                0x0100_004A,
                0,
                &[(Choice::RESET, dcp::RESET_COMMUNICATION, &[])],
            ),
        ),
        (
            "dcp_get",
            built(
                Service::Get,
                Kind::Request,
                0x0100_004B,
                0,
                &[(Choice::IP, 0, &[]), (Choice::NAME, 0, &[])],
            ),
        ),
        (
            "dcp_get_rsp",
            built(Service::Get, Kind::Success, 0x0100_004B, 0, &[(Choice::IP, dcp::IP_SET, &ip), name]),
        ),
        (
            "dcp_hello",
            built(
                Service::Hello,
                Kind::Request,
                0x0100_004C,
                0,
                &[
                    name,
                    (Choice::IP, dcp::IP_SET, &ip),
                    (Choice::DEVICE_ID, 0, &[0xFF, 0xF1, 2, 3]),
                    (Choice::INITIATIVE, 0, &[0, 0]),
                ],
            ),
        ),
    ] {
        assert_eq!(bytes, TABLE.bytes(vector_name), "{vector_name}");
    }
    let outcome = |transaction, of, code| {
        emitted(|out| {
            let begun = Emit::begin(out, Service::Set, Kind::Success, transaction, 0);
            begun.outcome(out, of, code);
            begun.end(out);
        })
    };
    assert_eq!(outcome(0x0100_0045, Choice::IP, dcp::outcome::OK), TABLE.bytes("dcp_set_ip_rsp"));
    assert_eq!(outcome(0x0100_0046, Choice::NAME, dcp::outcome::OK), TABLE.bytes("dcp_set_name_rsp"));
    let busy = TABLE.bytes("dcp_set_ip_busy_rsp");
    assert_eq!(outcome(0x0100_0047, Choice::IP, dcp::outcome::IN_OPERATION), busy);
    let told = Dcp::parse(&busy).unwrap().find(Choice::RESPONSE).unwrap();
    assert_eq!(
        (told.value, dcp::outcome::words(told.value[2])),
        (&[1, 2, 6][..], "a controller is connected to it")
    );
    // What is read out of them.
    let several = TABLE.bytes("dcp_set_multi");
    let several = Dcp::parse(&several).unwrap();
    assert_eq!((several.service, several.kind), (Service::Set, Kind::Request));
    let blocks: Vec<_> = several.blocks().collect();
    assert_eq!((blocks[0].value, blocks[0].word), (&b"pump7"[..], Some(0)));
    let gateway = IpSuite::of(blocks[1].value).unwrap().gateway;
    assert!(gateway.is_unspecified() && IpSuite::of(&[0; 11]).is_none());
}

#[test]
fn a_station_tells_its_neighbour_who_it_is() {
    let own = Neighbour { name: NAME, mac: MAC, address: Some([192, 168, 10, 2].into()) };
    let bytes = emitted(|out| own.emit(out));
    assert_eq!(bytes, TABLE.bytes("lldp_min"));
    let mut kinds = vec![];
    lldp::parse(&bytes, |part| kinds.push(part.kind)).unwrap();
    assert_eq!(kinds, [1, 2, 3, 127, 127, 8]);
    assert!((0..bytes.len()).all(|cut| lldp::parse(&bytes[..cut], |_| {}).is_err()));
    // One that has no name yet goes by its MAC; called nothing at all it would be no neighbour.
    let bytes = emitted(|out| Neighbour { name: "", mac: MAC, address: None }.emit(out));
    let mut parts = vec![];
    lldp::parse(&bytes, |part| parts.push((part.kind, part.value.to_vec()))).unwrap();
    assert_eq!(parts[0], (1, [&[4][..], &MAC].concat()));
    assert!(
        lldp::parse(&[0x02, 1, 7, 0, 0], |_| {}).is_err()
            && lldp::parse(&[0x04, 1, 7, 0, 0], |_| {}).is_err()
    );
}

#[test]
fn frames_say_what_their_sender_says_of_them() {
    let read = |name: &str| {
        let bytes = TABLE.bytes(name);
        let own = RtFrame::parse(&bytes, 40).unwrap();
        (own.frame_id, own.counter, own.status, own.data.to_vec())
    };
    let (id, counter, status, data) = read("rt_in_run");
    assert_eq!((id, counter, status), (0xC001, 1024, DataStatus::RUN));
    assert_eq!((&data[3..11], data[11]), (&[0x11, 0x12, 0x13, 0x14, 0x15, 0x16, 0x17, 0x18][..], iox::GOOD));
    let (.., status, data) = read("rt_out_stop");
    assert!(status == DataStatus::STOP && status.is_valid() && !status.runs());
    assert_eq!((data[8], iox::origin(data[8])), (iox::BAD_BY_CONTROLLER, "the controller"));
    let (.., status, _) = read("rt_in_problem");
    assert!(status == DataStatus::PROBLEM && status.has_problem() && status.runs());
    assert!(!read("rt_in_invalid").2.is_valid() && read("rt_class2_range").0 == 0x8001);
    let whole = TABLE.bytes("rt_vlan");
    assert_eq!(RtFrame::parse(&whole, 40).unwrap().counter, 0x1800);
    let wrap = read("rt_in_wrap").1;
    for (last, counter, is_later) in [
        (wrap, 0, true),
        (0, 0, false),
        (0, 1024, true),
        (1024, 0, false),
        (0, 61_440, true),
        (0, 61_441, false),
    ] {
        assert_eq!(RtFrame::is_later(last, counter), is_later, "{last} {counter}");
    }
}

#[test]
fn the_alarm_channel_tells_acknowledges_and_breaks_off() {
    let broken = TABLE.bytes("rta_err_wdt");
    assert_eq!(emitted(|out| Rta::emit_error(out, 1, 1, PnioStatus::ended(ended::WATCHDOG))), broken);
    let told = Rta::parse(&broken).unwrap().error().unwrap().to_string();
    assert_eq!(told, "CF 81 FD 05 (no frame came in time)");
    let alarm = TABLE.bytes("rta_data_diag");
    let alarm = Rta::parse(&alarm).unwrap();
    let (block, rest) = Block::parse(alarm.data).unwrap();
    assert_eq!((alarm.kind, alarm.sequence, alarm.error()), (RtaKind::Data, rta::FIRST, None));
    assert_eq!((block.kind, rest), (kind::ALARM_LOW, &[][..]));
    let acknowledged = Rta {
        kind: RtaKind::Ack,
        flags: 1,
        sequence: rta::NOTHING_YET,
        acknowledged: rta::FIRST,
        data: &[],
        ..alarm
    };
    assert_eq!(emitted(|out| acknowledged.emit(out)), TABLE.bytes("rta_ack_diag"));
    let answer = TABLE.bytes("rta_data_alarmack");
    let (block, _) = Block::parse(Rta::parse(&answer).unwrap().data).unwrap();
    assert_eq!(block.kind, kind::ALARM_ACK);
}

#[test]
fn every_sound_call_is_read_and_written_back() {
    for (name, bytes) in TABLE.judged("rpc", true) {
        let (header, body) = Header::parse(&bytes).unwrap();
        exercise::datagram(&bytes);
        assert!((0..bytes.len()).all(|cut| Header::parse(&bytes[..cut]).is_err()), "{name} cut");
        if header.kind == rpc::kind::REJECT {
            assert_eq!(header.reason(body), Ok(rpc::UNKNOWN_INTERFACE));
            continue;
        }
        let (_, arguments) = call(&bytes);
        let operations = [operation::READ, operation::WRITE];
        if operations.contains(&header.operation) {
            RecordHeader::parse(arguments.bytes).unwrap();
        } else {
            assert!(Blocks(arguments.bytes).all(|own| own.is_ok()), "{name}");
        }
    }
    let turned = TABLE.bytes("pn_connect_req_be");
    let straight = TABLE.bytes("pn_connect_req");
    let ((big, own), (little, other)) = (call(&turned), call(&straight));
    assert!(!big.little && little.little && own == other, "blocks do not turn");
    assert_eq!((big.object, big.interface), (little.object, little.interface));
    assert_eq!(little.object.of_object(), Some((1, 0x0203, 0xFFF1)));
    assert_eq!(Uuid::interface(1).to_string(), "dea00001-6c97-11d1-8271-00a02442df7d");
    assert_eq!(Uuid::interface(1).of_object(), None);
}

/// The submodules of the example: the head with its interface and port, eight bytes in, four bytes out.
fn expected() -> [Expected; 5] {
    let one = |slot, module, subslot, ident, properties, input, output| Expected {
        api: 0,
        slot,
        module,
        module_properties: 0,
        subslot,
        ident,
        properties,
        input,
        output,
    };
    [
        one(0, 1, 1, 1, 0, Some(0), None),
        one(0, 1, 0x8000, 2, 0, Some(0), None),
        one(0, 1, 0x8001, 3, 0, Some(0), None),
        one(1, 0x30, 1, 1, 1, Some(8), None),
        one(2, 0x31, 1, 1, 2, None, Some(4)),
    ]
}

#[test]
fn a_connection_is_opened_as_its_blocks_say() {
    let placed = |slot, subslot, offset| Placed { api: 0, slot, subslot, offset };
    let inputs = [placed(0, 1, 0), placed(0, 0x8000, 1), placed(0, 0x8001, 2), placed(1, 1, 3)];
    let outputs = [placed(2, 1, 4)];
    let (back, forth) =
        ([placed(2, 1, 12)], [placed(0, 1, 0), placed(0, 0x8000, 1), placed(0, 0x8001, 2), placed(1, 1, 3)]);
    let input = NewIocr {
        direction: Direction::Input,
        reference: 1,
        class: 1,
        data_length: 40,
        frame_id: 0xC001,
        send_clock: 32,
        ratio: 32,
        watchdog: 3,
        objects: &inputs,
        iocs: &back,
    };
    let output = NewIocr {
        direction: Direction::Output,
        reference: 2,
        frame_id: FRAME_ID_OPEN,
        objects: &outputs,
        iocs: &forth,
        ..input.clone()
    };
    let alarm = AlarmRequest { properties: 0, timeout: 1, retries: 3, reference: 1, longest: 200 };
    let relation = ArRequest {
        ar_type: AR_CONTROLLER,
        uuid: relation(),
        session: 1,
        mac: CONTROLLER_MAC,
        object: CONTROLLER,
        properties: 0x11,
        activity_timeout: 600,
        name: b"woodrush-ctl",
    };
    let whole = TABLE.bytes("pn_connect_req");
    let (header, arguments) = call(&whole);
    assert_eq!(header, Header::call(DEVICE, rpc::DEVICE, CALLER, 0, operation::CONNECT));
    let (first, _) = Block::parse(arguments.bytes).unwrap();
    let ours = ArRequest::parse(&first).unwrap();
    assert_eq!((ours.uuid, ours.name, ours.object), (relation.uuid, relation.name, relation.object));
    let built = emitted(|out| {
        header.emit_with(out, |out| {
            emit_arguments(out, true, (16_384, 16_384), |out| {
                ArRequest { activity_timeout: ours.activity_timeout, ..relation }.emit(out);
                input.emit(out);
                output.emit(out);
                alarm.emit(out);
                for slot in expected().chunk_by(|own, other| own.slot == other.slot) {
                    submodules::emit(out, slot);
                }
            });
        });
    });
    assert_eq!(built, whole);
    // Read, they say the same.
    let blocks: Vec<Block<'_>> = Blocks(arguments.bytes).map(Result::unwrap).collect();
    let (mut objects, mut statuses) = (vec![], vec![]);
    let read = IocrRequest::parse(&blocks[1]).unwrap();
    read.each(|own, iocs| if iocs { statuses.push(own) } else { objects.push(own) });
    assert_eq!((objects.as_slice(), statuses.as_slice()), (&inputs[..], &back[..]));
    assert_eq!((read.direction, read.period_ns()), (Direction::Input, 32_000_000));
    let mut wanted = vec![];
    for block in blocks.iter().filter(|own| own.kind == kind::EXPECTED) {
        submodules::parse(block, |own| wanted.push(own)).unwrap();
    }
    assert_eq!(wanted, expected());
    let both = TABLE.bytes("pn_block_expsub_inout");
    let (block, _) = Block::parse(&both).unwrap();
    let mut wanted = vec![];
    submodules::parse(&block, |own| wanted.push(own)).unwrap();
    assert_eq!((wanted[0].input, wanted[0].output), (Some(2), Some(6)));
    assert_eq!(emitted(|out| submodules::emit(out, &wanted)), both);
}

#[test]
fn an_opening_is_answered_with_what_differs_and_refused_with_a_number() {
    let whole = TABLE.bytes("pn_connect_diff_rsp");
    let (header, arguments) = call(&whole);
    let difference = Difference {
        api: 0,
        slot: 1,
        module: 0x99,
        state: ModuleState::Wrong,
        submodule: Some((1, 1, SUBMODULE_WRONG)),
    };
    let answered = |out: &mut Vec<u8>| {
        ArAnswer { ar_type: AR_CONTROLLER, uuid: relation(), session: 1, mac: MAC }.emit(out);
        for (direction, reference, frame_id) in
            [(Direction::Input, 1, 0xC001), (Direction::Output, 2, 0xC002)]
        {
            IocrAnswer { direction, reference, frame_id }.emit(out);
        }
        AlarmAnswer { reference: 1, longest: 200 }.emit(out);
        submodules::emit_differences(out, &[difference]);
    };
    let built = emitted(|out| header.emit_with(out, |out| emit_arguments(out, true, (0, 16_384), answered)));
    assert_eq!(built, whole);
    let last = Blocks(arguments.bytes).map(Result::unwrap).last().unwrap();
    let mut found = vec![];
    submodules::parse_differences(&last, |own| found.push(own)).unwrap();
    assert_eq!(found, [difference]);
    let refused = TABLE.bytes("pn_connect_neg_rsp");
    let (header, arguments) = call(&refused);
    let status = PnioStatus::protocol(service::CONNECT, place::CALLS, calls::OUT_OF_RELATIONS);
    assert_eq!(arguments.status(), status);
    assert_eq!(status.to_string(), "DB 81 40 04 (another controller is connected)");
    let question = Header::call(DEVICE, rpc::DEVICE, CALLER, header.sequence, operation::CONNECT);
    assert_eq!(question.answer(rpc::kind::RESPONSE, header.boot), header);
}

#[test]
fn steps_and_records_are_what_they_say() {
    for (name, step, done) in [
        ("pn_prmend_req", Step::ParametersEnd, false),
        ("pn_prmend_rsp", Step::ParametersEnd, true),
        ("pn_appready_req", Step::Ready, false),
        ("pn_appready_rsp", Step::Ready, true),
        ("pn_release_req", Step::Release, false),
        ("pn_release_rsp", Step::Release, true),
    ] {
        let bytes = TABLE.bytes(name);
        let (_, arguments) = call(&bytes);
        let own = Control { step, done, uuid: relation(), session: 1, properties: 0 };
        assert_eq!(emitted(|out| own.emit(out)), arguments.bytes, "{name}");
        assert_eq!(Control::parse(&Block::parse(arguments.bytes).unwrap().0), Ok(own));
    }
    let bytes = TABLE.bytes("pn_write_req");
    let (own, data) =
        RecordHeader::parse(call(&bytes).1.bytes).map(|(own, data)| (own, data.to_vec())).unwrap();
    let wanted = Record { sequence: 1, uuid: relation(), api: 0, slot: 1, subslot: 1, index: 16, length: 4 };
    assert_eq!((own.writes, own.answers, own.record, data), (true, false, wanted, vec![0, 0, 0, 5]));
    let bytes = TABLE.bytes("pn_read_im0_rsp");
    let (own, data) =
        RecordHeader::parse(call(&bytes).1.bytes).map(|(own, data)| (own, data.to_vec())).unwrap();
    assert_eq!((own.record.index, own.record.length), (IM0_INDEX, 60));
    let identity = Identification::parse(&data).unwrap();
    assert_eq!((identity.vendor, identity.order), (0xFFF1, Identification::padded("WR-IO-1")));
    assert_eq!(identity.serial, Identification::padded("0000000001"));
    assert_eq!(emitted(|out| identity.emit(out)), data);
    let bytes = TABLE.bytes("pn_read_bad_rsp");
    let told = call(&bytes).1.status();
    assert_eq!(told, PnioStatus::record(service::READ, status::record::INVALID_INDEX));
    assert_eq!(told.to_string(), "DE 80 B0 00 (there is no such record)");
}

#[test]
fn every_unsound_call_has_its_number() {
    // What a call is answered with that cannot be read; where the blocks are sound the layout is judged elsewhere.
    let judged = |bytes: &[u8]| -> Option<PnioStatus> {
        let (header, body) = Header::parse(bytes).ok()?;
        let service = if header.operation == operation::WRITE { service::WRITE } else { service::CONNECT };
        let arguments = match Arguments::of_call(body, header.little) {
            Ok(arguments) => arguments,
            Err(error) => return Some(status::of(service, &error)),
        };
        if service == service::WRITE {
            return RecordHeader::parse(arguments.bytes).err().map(|error| status::of(service, &error));
        }
        for own in Blocks(arguments.bytes) {
            let read = own.and_then(|own| match own.kind {
                kind::AR => ArRequest::parse(&own).map(drop),
                kind::IOCR => IocrRequest::parse(&own).map(drop),
                kind::ALARM_CR => AlarmRequest::parse(&own).map(drop),
                _ => submodules::parse(&own, |_| {}),
            });
            if let Err(error) = read {
                return Some(status::of(service, &error));
            }
        }
        Some(PnioStatus::OK)
    };
    let told = [
        ("bad_rpc_short", None),
        ("bad_rpc_version", None),
        ("bad_ndr_args", Some("DB 81 40 00 (the lengths of the call contradict each other)")),
        ("bad_block_len", Some("DB 81 01 01 (AR block: block length)")),
        ("bad_block_version", Some("DB 81 01 02 (AR block: block version)")),
        ("bad_write_len", Some("DF 81 08 0B (write block: record length)")),
        ("bad_iocr_datalen", Some("DB 81 02 08 (IOCR block: data length)")),
        ("bad_iocr_overrun", Some("00 00 00 00 (done)")),
        ("bad_iocr_overlap", Some("00 00 00 00 (done)")),
        ("bad_iocr_missing", Some("00 00 00 00 (done)")),
    ];
    let unsound = TABLE.judged("rpc", false);
    assert_eq!(unsound.len(), told.len());
    for (name, bytes) in unsound {
        let found = judged(&bytes).map(|status| status.to_string());
        let wanted = told.iter().find(|(own, _)| *own == name).unwrap().1;
        assert_eq!(found.as_deref(), wanted, "{name}");
    }
}

proptest! {
    #[test]
    fn no_bytes_do_harm(bytes in prop::collection::vec(any::<u8>(), 0..200), flip in any::<prop::sample::Index>(),
        bit in 0u8..8, which in any::<prop::sample::Index>())
    {
        let known = TABLE.all();
        let mut known = known[which.index(known.len())].bytes();
        let at = flip.index(known.len());
        known[at] ^= 1 << bit;
        for bytes in [&bytes, &known] {
            exercise::frame(bytes);
            exercise::datagram(bytes);
            exercise::blocks(bytes);
        }
    }

    #[test]
    fn any_blocks_about_a_station_come_back(values in prop::collection::vec((any::<u8>(), any::<u8>(), any::<u16>(),
        prop::collection::vec(any::<u8>(), 0..20)), 0..8), transaction in any::<u32>())
    {
        for (service, kind) in [(Service::Set, Kind::Request), (Service::Get, Kind::Success),
            (Service::Identify, Kind::Request), (Service::Identify, Kind::Success), (Service::Hello, Kind::Request)]
        {
            let bytes = emitted(|out| {
                let begun = Emit::begin(out, service, kind, transaction, 0);
                values.iter().for_each(|(a, b, word, value)| begun.block(out, Choice(*a, *b), *word, value));
                begun.end(out);
            });
            let own = Dcp::parse(&bytes).unwrap();
            let found: Vec<_> = own.blocks().map(|block| (block.choice.0, block.choice.1, block.value.to_vec())).collect();
            let wanted: Vec<_> = values.iter().map(|(a, b, _, value)| (*a, *b, value.clone())).collect();
            prop_assert_eq!(found, wanted);
        }
    }
}
