//! What must hold for any bytes whatever: run over seeds by the unit tests and without end by `fuzz/`.
#![allow(clippy::panic, clippy::missing_panics_doc, reason = "a broken promise must stop the run")]

use super::block::{Block, Blocks, kind};
use super::connect::{AlarmAnswer, AlarmRequest, ArAnswer, ArRequest};
use super::control::Control;
use super::dcp::{Dcp, Emit, IpSuite, Kind, Service};
use super::iocr::{IocrAnswer, IocrRequest};
use super::parts::{BODY_MAX, Gathered, Gathering, in_parts};
use super::records::{Identification, RecordHeader};
use super::rpc::{Arguments, HEADER, Header, kind as message};
use super::rt::{self, RtFrame};
use super::rta::Rta;
use super::status::{self, service};
use super::submodules;

fn comes_back(bytes: &[u8], what: &str, emit: impl FnOnce(&mut Vec<u8>)) {
    let mut back = vec![0xA5];
    emit(&mut back);
    assert_eq!(back.get(1..), Some(bytes), "{what}");
}

/// A frame of EtherType 0x8892 that is taken comes back, but for what fills it up.
pub fn frame(frame: &[u8]) {
    if let Ok(own) = Dcp::parse(frame) {
        let mut back = vec![];
        own.emit(&mut back);
        assert!(frame.starts_with(&back));
        // Block by block it is the same; what a station answers to has no word, whatever its frame.
        let mut parts = vec![];
        let delay = if (own.service, own.kind) == (Service::Identify, Kind::Request) { own.delay } else { 0 };
        let begun = Emit::begin(&mut parts, own.service, own.kind, own.transaction, delay);
        for block in own.blocks() {
            begun.block(&mut parts, block.choice, block.word.unwrap_or(0), block.value);
            let _ = IpSuite::of(block.value).map(|suite| assert_eq!(suite.bytes(), block.value));
        }
        begun.end(&mut parts);
        assert_eq!(parts.get(10..), back.get(10..));
    }
    for length in [*rt::DATA.start(), u16::try_from(frame.len().saturating_sub(rt::AROUND)).unwrap_or(0)] {
        if let Ok(own) = RtFrame::parse(frame, length) {
            let whole = usize::from(length) + rt::AROUND;
            comes_back(frame.get(..whole).unwrap_or_default(), "cyclic frame", |out| own.emit(out));
        }
    }
    if let Ok(own) = Rta::parse(frame) {
        let mut back = vec![];
        own.emit(&mut back);
        assert!(frame.starts_with(&back));
        let _ = own.error().map(|status| status.to_string());
        blocks(own.data);
    }
    let _ = super::lldp::parse(frame, |part| assert!(part.value.len() < 512));
}

/// A block that is taken comes back, and so does what it carries.
pub fn block(own: &Block<'_>) {
    let mut whole = vec![];
    own.emit(&mut whole);
    let refused = |error| {
        let status = status::of(service::CONNECT, &error);
        assert!(status.words().is_some(), "{status}: {error}");
    };
    // The low number of a version may be another one; said again it is 0.
    let same = |what, emit: &dyn Fn(&mut Vec<u8>)| {
        if own.minor == 0 {
            comes_back(&whole, what, emit);
        }
    };
    match own.kind {
        kind::AR => ArRequest::parse(own).map_or_else(refused, |it| same("AR", &|out| it.emit(out))),
        kind::AR_ANSWER => {
            let _ = ArAnswer::parse(own).map(|it| same("AR answer", &|out| it.emit(out)));
        }
        kind::IOCR => IocrRequest::parse(own).map_or_else(refused, |it| {
            it.each(|_, _| {});
            assert!(it.period_ns() > 0);
            same("IOCR", &|out| it.emit(out));
        }),
        kind::IOCR_ANSWER => {
            let _ = IocrAnswer::parse(own).map(|it| same("IOCR answer", &|out| it.emit(out)));
        }
        kind::ALARM_CR => {
            AlarmRequest::parse(own).map_or_else(refused, |it| same("alarm CR", &|out| it.emit(out)));
        }
        kind::ALARM_CR_ANSWER => {
            let _ = AlarmAnswer::parse(own).map(|it| same("alarm CR answer", &|out| it.emit(out)));
        }
        kind::EXPECTED => {
            let mut all = vec![];
            submodules::parse(own, |it| all.push(it)).unwrap_or_else(refused);
            let mut back = vec![];
            submodules::emit(&mut back, &all);
        }
        kind::MODULE_DIFF => {
            let mut all = vec![];
            let _ = submodules::parse_differences(own, |it| all.push(it));
            submodules::emit_differences(&mut vec![], &all);
        }
        kind::IM0 => {
            let _ = Identification::parse(&whole).map(|it| same("I&M0", &|out| it.emit(out)));
        }
        _ => {
            let _ = Control::parse(own).map(|it| same("control", &|out| it.emit(out)));
        }
    }
}

/// All blocks up to the first that is wrong.
pub fn blocks(bytes: &[u8]) {
    Blocks(bytes).flatten().for_each(|own| block(&own));
}

/// A datagram that is taken comes back, and so do its arguments and blocks.
pub fn datagram(datagram: &[u8]) {
    let Ok((header, body)) = Header::parse(datagram) else { return };
    comes_back(datagram, "header", |out| header.emit_with(out, |out| out.extend_from_slice(body)));
    let _ = header.reason(body);
    let mut gathered = Gathered::default();
    let alone = gathered.take(&header, body);
    assert!(alone != Gathering::Whole(vec![]) || body.is_empty());
    header.emit_ack(&mut vec![], 0, header.fragment);
    in_parts(datagram.to_vec(), |part| assert!(part.len() <= datagram.len().max(HEADER + BODY_MAX)));
    let read = match header.kind {
        message::REQUEST => Arguments::of_call(body, header.little),
        _ => Arguments::of_answer(body, header.little),
    };
    let arguments = match read {
        Ok(arguments) => arguments,
        Err(error) => return drop(status::of(service::READ, &error).to_string()),
    };
    comes_back(body, "arguments", |out| arguments.emit(out, header.little));
    let _ = arguments.status().to_string();
    match RecordHeader::parse(arguments.bytes) {
        Ok((own, data)) => {
            let minor = Block::parse(arguments.bytes).map_or(0, |(block, _)| block.minor);
            if minor == 0 {
                comes_back(arguments.bytes, "record", |out| {
                    own.emit(out);
                    out.extend_from_slice(data);
                });
            }
            blocks(data);
        }
        Err(error) => drop(status::of(service::WRITE, &error).to_string()),
    }
    for own in Blocks(arguments.bytes) {
        match own {
            Ok(own) => block(&own),
            Err(error) => drop(status::of(service::CONNECT, &error).to_string()),
        }
    }
}
