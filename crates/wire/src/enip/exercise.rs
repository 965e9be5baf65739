//! What must hold for any bytes whatever: run over seeds by the unit tests and without end by `fuzz/`.
#![allow(clippy::panic, clippy::missing_panics_doc, reason = "a broken promise must stop the run")]

use super::cip::{self, Reply, Request, class, service};
use super::connection::{Closed, ForwardClose, ForwardOpen, NotOpened, Opened, UnconnectedSend};
use super::cpf::{Connected, Unconnected};
use super::cyclic::{CyclicData, CyclicFrame, Points};
use super::encap::{self, Message, Registration, command};
use super::epath::{Path, Segment};
use super::objects::{Identity, ListedIdentity, parse_attribute_list};
use super::packet::Parts;
use super::tables::Execute;
use super::tags::{self, Fragment, Masks, Values, Write};

/// Services within services that are followed.
const DEPTH: u8 = 3;

fn comes_back(bytes: &[u8], what: &str, emit: impl FnOnce(&mut Vec<u8>)) {
    let mut back = vec![0xA5];
    emit(&mut back);
    assert_eq!(back.get(1..), Some(bytes), "{what}");
}

/// A stream is cut into messages up to the first that is wrong; each comes back as it was.
pub fn stream(stream: &[u8]) -> usize {
    let (mut at, mut messages) = (0, 0);
    while let Ok(Some((message, used))) = encap::parse(stream.get(at..).unwrap_or_default(), 4096) {
        assert!(used >= encap::HEADER);
        comes_back(stream.get(at..at + used).unwrap_or_default(), "message", |out| message.emit(out));
        self::message(&message);
        at += used;
        messages += 1;
    }
    messages
}

fn message(message: &Message<'_>) {
    let data = message.data;
    let inner = match message.header.command {
        command::SEND_RR_DATA => Unconnected::parse(data).ok().map(|own| {
            comes_back(data, "SendRRData", |out| own.emit(out));
            own.message
        }),
        command::SEND_UNIT_DATA => Connected::parse(data).ok().map(|own| {
            comes_back(data, "SendUnitData", |out| own.emit(out));
            own.message
        }),
        command::REGISTER_SESSION => {
            if let Ok(own) = Registration::parse(data) {
                comes_back(data, "RegisterSession", |out| own.emit(out));
            }
            None
        }
        command::LIST_IDENTITY => {
            let _ = ListedIdentity::parse(data);
            None
        }
        _ => None,
    };
    if let Some(inner) = inner {
        request(inner, DEPTH);
        reply(inner, DEPTH);
    }
}

/// A frame that is taken comes back byte for byte, and so does what it carries.
pub fn frame(datagram: &[u8]) {
    let Ok(own) = CyclicFrame::parse(datagram) else { return };
    comes_back(datagram, "cyclic frame", |out| own.emit(out));
    let size = u16::try_from(own.body.len()).unwrap_or(u16::MAX);
    for has_header in [false, true] {
        if let Ok(data) = CyclicData::parse(own.body, size, has_header) {
            comes_back(own.body, "cyclic data", |out| data.emit(out));
        }
        assert!(CyclicData::parse(own.body, size.wrapping_add(1), has_header).is_err());
    }
}

/// A path that is taken comes back byte for byte.
pub fn path(bytes: &[u8]) {
    if let Ok(path) = Path::parse(bytes) {
        comes_back(bytes, "path", |out| path.segments().for_each(|segment| segment.emit(out)));
        let (route, rest) = path.split_route();
        assert_eq!([route.bytes(), rest.bytes()].concat(), bytes);
        assert!(route.segments().all(|segment| matches!(segment, Segment::Port { .. })));
        let _ = (path.object(), tags::is_tag(&path), Points::of(&path));
    }
}

/// A request that is taken comes back byte for byte, and so does what it carries.
pub fn request(message: &[u8], depth: u8) {
    let request = match Request::parse(message) {
        Ok(request) => request,
        Err(error) => {
            let _ = cip::status_of(&error);
            return;
        }
    };
    comes_back(message, "request", |out| request.emit(out));
    path(request.path.bytes());
    let data = request.data;
    let class = request.path.object().map(|object| object.class);
    match (request.service, class) {
        (service::UNCONNECTED_SEND, Some(class::CONNECTION_MANAGER)) => {
            if let Ok(own) = UnconnectedSend::parse(data) {
                comes_back(data, "Unconnected Send", |out| own.emit(out));
                if let Some(depth) = depth.checked_sub(1) {
                    self::request(own.message, depth);
                }
            }
        }
        (service::FORWARD_OPEN | service::LARGE_FORWARD_OPEN, Some(class::CONNECTION_MANAGER)) => {
            if let Ok(own) = ForwardOpen::parse(data, request.service == service::LARGE_FORWARD_OPEN) {
                assert_eq!(own.service(), request.service);
                comes_back(data, "Forward Open", |out| own.emit(out));
                let _ = (own.fault(), own.to_target.size(), own.to_target.is_variable());
            }
        }
        (service::FORWARD_CLOSE, Some(class::CONNECTION_MANAGER)) => {
            if let Ok(own) = ForwardClose::parse(data) {
                comes_back(data, "Forward Close", |out| own.emit(out));
            }
        }
        (service::MULTIPLE_SERVICE_PACKET, _) => {
            if let (Ok(own), Some(depth)) = (Parts::parse(data), depth.checked_sub(1)) {
                comes_back(data, "several services", |out| own.emit(out));
                own.iter().for_each(|part| self::request(part, depth));
            }
        }
        (service::EXECUTE_PCCC, Some(class::PCCC)) => execute(data),
        _ => tag_request(&request),
    }
}

/// A command or reply of data tables that is taken comes back, and its command is looked at.
fn execute(data: &[u8]) {
    let Ok(own) = Execute::parse(data) else { return };
    comes_back(data, "command", |out| own.emit(out));
    let _ = own.outcome();
    if let Ok(command) = crate::tables::Command::parse(own.cmd, own.body) {
        let mut body = vec![];
        command.emit(&mut body);
        // A small number may be written long; said again it is short.
        assert_eq!(crate::tables::Command::parse(own.cmd, &body), Ok(command));
        assert!(body.len() <= own.body.len());
    }
}

fn tag_request(request: &Request<'_>) {
    let data = request.data;
    match request.service {
        service::READ_TAG_FRAGMENTED => {
            if let Ok(own) = Fragment::parse(data) {
                comes_back(data, "fragment", |out| own.emit(out));
            }
        }
        service::WRITE_TAG | service::WRITE_TAG_FRAGMENTED => {
            if let Ok(own) = Write::parse(data, request.service == service::WRITE_TAG_FRAGMENTED) {
                comes_back(data, "write", |out| own.emit(out));
            }
        }
        service::READ_MODIFY_WRITE => {
            if let Ok(own) = Masks::parse(data) {
                comes_back(data, "masks", |out| own.emit(out));
            }
        }
        _ => {
            let _ = tags::parse_read(data);
            assert!(
                parse_attribute_list(data).is_ok_and(|ids| ids.len() * 2 + 2 == data.len()) || {
                    parse_attribute_list(data).is_err()
                }
            );
        }
    }
}

/// A reply that is taken comes back but for its reserved byte, and so does what it carries.
pub fn reply(message: &[u8], depth: u8) {
    let Ok(reply) = Reply::parse(message) else { return };
    let mut plain = message.to_vec();
    if let Some(reserved) = plain.get_mut(1) {
        *reserved = 0;
    }
    comes_back(&plain, "reply", |out| reply.emit(out));
    let data = reply.data;
    match reply.service {
        service::MULTIPLE_SERVICE_PACKET => {
            if let (Ok(own), Some(depth)) = (Parts::parse(data), depth.checked_sub(1)) {
                comes_back(data, "several replies", |out| own.emit(out));
                own.iter().for_each(|part| self::reply(part, depth));
            }
        }
        service::READ_TAG | service::READ_TAG_FRAGMENTED => {
            if let Ok(own) = Values::parse(data) {
                comes_back(data, "values", |out| own.emit(out));
                assert!(own.tag_type.bytes().is_none() || own.tag_type.name().is_some());
            }
        }
        service::GET_ATTRIBUTES_ALL => {
            if let Ok(own) = Identity::parse(data) {
                comes_back(data, "identity", |out| own.emit(out));
            }
        }
        service::LIST_SYMBOLS => {
            if let Ok(own) = tags::parse_symbols(data) {
                comes_back(data, "symbols", |out| own.iter().for_each(|symbol| symbol.emit(out)));
            }
        }
        service::FORWARD_OPEN | service::LARGE_FORWARD_OPEN => {
            let _ = (Opened::parse(data), NotOpened::parse(data));
        }
        service::FORWARD_CLOSE => {
            let _ = Closed::parse(data);
        }
        service::EXECUTE_PCCC => execute(data),
        _ => {}
    }
}
