//! Listening to explicit messages of EtherNet/IP.

use super::{MESSAGE_MAX, refusal};
use crate::Moment;
use crate::speak::observer::{
    AnswerMeaning, Asked, Heard, Observer, ObserverSetup, Pending, Says, Side, Touch,
};
use crate::speak::tables::TableEar;
use std::borrow::Cow;
use std::collections::VecDeque;
use woodrush_core::plan::Station;
use woodrush_core::protocol::enip::{
    PACKED_BITS, from_wire, is_packed, is_type, keys_of, other_type, path_of,
};
use woodrush_core::protocol::{Extent, Space, SpaceId, Verb};
use woodrush_wire::enip::cip::{Reply, Request, class, service};
use woodrush_wire::enip::connection::{ForwardOpen, Parameters, Triad, UnconnectedSend, lost_after};
use woodrush_wire::enip::cpf::{Connected, Unconnected};
use woodrush_wire::enip::cyclic::Points;
use woodrush_wire::enip::encap::{self, Message, command, status_words};
use woodrush_wire::enip::packet::Parts;
use woodrush_wire::enip::status;
use woodrush_wire::enip::tables::Execute;
use woodrush_wire::enip::tags::{Fragment, Values, Write, parse_read};

pub(super) struct TagObserver {
    stations: Vec<Station>,
    /// Understands commands for data tables.
    ear: TableEar,
    sides: [Pending; 3],
    heard: VecDeque<Heard>,
}

impl TagObserver {
    pub(super) fn new(setup: &ObserverSetup<'_>) -> Self {
        Self {
            stations: setup.stations.to_vec(),
            ear: TableEar::new(setup),
            sides: Default::default(),
            heard: VecDeque::new(),
        }
    }

    fn look(&mut self, side: Side) {
        loop {
            let Some(pending) = self.sides.get(side.index()) else { return };
            let (used, says) = match encap::parse(&pending.bytes, MESSAGE_MAX) {
                Ok(None) => return,
                Ok(Some((message, used))) => (used, self.says(side, &message)),
                Err(error) => (pending.bytes.len(), Says::Noise(error.to_string())),
            };
            let from = match &says {
                Says::Request(_) => Side::Asks,
                Says::Answer { .. } => Side::Answers,
                _ => side,
            };
            if let Some(pending) = self.sides.get_mut(side.index()) {
                let heard = pending.cut(from, used, says);
                self.heard.push_back(heard);
            }
        }
    }

    fn says(&self, side: Side, message: &Message<'_>) -> Says {
        let header = message.header;
        let sign = |words: Cow<'static, str>, bad| Says::Sign { words, bad };
        if header.status != 0 {
            return sign(format!("encapsulation refused: {}", status_words(header.status)).into(), true);
        }
        match header.command {
            command::SEND_RR_DATA => match Unconnected::parse(message.data) {
                Ok(data) => {
                    let [a, b, c, d, ..] = header.context;
                    self.routed(side, u32::from_le_bytes([a, b, c, d]), data.message)
                }
                Err(error) => Says::Noise(error.to_string()),
            },
            command::SEND_UNIT_DATA => match Connected::parse(message.data) {
                Ok(data) => self.routed(side, u32::from(data.sequence) | 1 << 31, data.message),
                Err(error) => Says::Noise(error.to_string()),
            },
            command::REGISTER_SESSION => sign("register session".into(), false),
            command::UNREGISTER_SESSION => sign("unregister session".into(), false),
            command::LIST_IDENTITY => sign("list identity".into(), false),
            command::LIST_SERVICES => sign("list services".into(), false),
            command::LIST_INTERFACES => sign("list interfaces".into(), false),
            command::NOP => sign("nothing".into(), false),
            other => Says::Noise(format!("command 0x{other:04X} is none")),
        }
    }

    fn routed(&self, side: Side, number: u32, message: &[u8]) -> Says {
        // The first bit says whether it is a reply, whichever side is heard.
        if side != Side::Asks && message.first().is_some_and(|first| first & 0x80 != 0) {
            return Says::Answer { station: None, number: Some(number), body: message.to_vec() };
        }
        let request = match Request::parse(message) {
            Ok(request) => request,
            Err(error) => return Says::Noise(error.to_string()),
        };
        let inner = within(&request)
            .and_then(|send| Request::parse(send.message).ok().map(|inner| (inner, send.message)));
        let (request, body) = inner.unwrap_or((request, message));
        let (words, touches) = self.meaning(&request);
        Says::Request(Box::new(Asked {
            station: None,
            number: Some(number),
            code: request.service.into(),
            words,
            touches,
            all: false,
            body: body.to_vec(),
        }))
    }

    fn meaning(&self, request: &Request<'_>) -> (Cow<'static, str>, Vec<Touch>) {
        let parts = several(request);
        if parts.is_empty() {
            return self.one(request);
        }
        let (words, touches): (Vec<_>, Vec<_>) = parts.iter().map(|part| self.one(part)).unzip();
        let count = parts.len();
        let text = match words.first().filter(|first| words.iter().all(|own| own == *first)) {
            Some(first) => format!("{count} times {first}"),
            None => format!("{count} services"),
        };
        (text.into(), touches.concat())
    }

    /// One service: in words, with the places that it touches.
    fn one(&self, request: &Request<'_>) -> (Cow<'static, str>, Vec<Touch>) {
        match command_of(request) {
            Some(command) => {
                let (words, _, touches) = self.ear.asked(command.cmd, command.body);
                (words, touches)
            }
            None => (words(request), self.touch(request).into_iter().collect()),
        }
    }

    /// The space of a path, as the stations know it.
    fn space(&self, request: &Request<'_>) -> Option<(Space, u32)> {
        let path = path_of(request.path.segments())?;
        let keys = keys_of(&path);
        let known = |station: &Station| {
            let id = keys.iter().find_map(|key| station.spaces.id(key))?;
            station.space_at(id).cloned()
        };
        let space = self.stations.iter().find_map(known)?;
        let first = if is_packed(&space) { path.first * PACKED_BITS } else { path.first };
        Some((space, first))
    }

    fn touch(&self, request: &Request<'_>) -> Option<Touch> {
        let (space, first) = self.space(request)?;
        let grains = if is_packed(&space) { PACKED_BITS } else { 1 };
        let touch =
            |verb, first, count, cells| Some(Touch { verb, space: space.clone(), first, count, cells });
        match request.service {
            service::READ_TAG => {
                touch(Verb::Read, first, u32::from(parse_read(request.data).ok()?) * grains, None)
            }
            service::READ_TAG_FRAGMENTED => {
                let Fragment { elements, .. } = Fragment::parse(request.data).ok()?;
                touch(Verb::Read, first, u32::from(elements) * grains, None)
            }
            service::WRITE_TAG => {
                let write = Write::parse(request.data, false).ok()?;
                let count = u32::from(write.elements) * grains;
                let extent = Extent { space: SpaceId(0), first, count };
                let cells = from_wire(&space, extent, write.data);
                touch(Verb::Write, first, count, cells)
            }
            service::WRITE_TAG_FRAGMENTED => {
                let write = Write::parse(request.data, true).ok()?;
                touch(Verb::Write, first, u32::from(write.elements) * grains, None)
            }
            service::READ_MODIFY_WRITE => touch(Verb::Write, first, grains, None),
            _ => None,
        }
    }

    /// What one reply says to one request: the cells of a read.
    fn answered(&self, request: &Request<'_>, reply: &Reply<'_>) -> AnswerMeaning {
        if reply.service != request.service && reply.status == 0 {
            return AnswerMeaning::Unfitting(format!(
                "it answers service 0x{:02X}, and 0x{:02X} was asked",
                reply.service, request.service
            ));
        }
        if !matches!(reply.status, 0 | status::PARTIAL_TRANSFER) {
            return match refusal(reply.status, reply.word()).native {
                Some(native) => AnswerMeaning::Refused(native),
                None => AnswerMeaning::Words(String::new()),
            };
        }
        if let Some(command) = command_of(request) {
            return match Execute::parse(reply.data) {
                Ok(own) if own.replies_to(command.requester, command.cmd, command.tns) => {
                    self.ear.answer((command.cmd, command.body), own.sts, own.body)
                }
                Ok(_) => AnswerMeaning::Unfitting("it answers another command".into()),
                Err(error) => AnswerMeaning::Unfitting(error.to_string()),
            };
        }
        if !matches!(request.service, service::READ_TAG | service::READ_TAG_FRAGMENTED) {
            return AnswerMeaning::Good(vec![]);
        }
        let Ok(values) = Values::parse(reply.data) else {
            return AnswerMeaning::Unfitting("its values have no type".into());
        };
        let Some((space, first)) = self.space(request) else {
            let name = values.tag_type.name().unwrap_or("structure");
            return AnswerMeaning::Words(format!("{} bytes of {name}", values.data.len()));
        };
        if !is_type(&space, values.tag_type) {
            return AnswerMeaning::Refused((super::NATIVE, other_type(values.tag_type)));
        }
        let count = self.touch(request).map_or(0, |touch| touch.count);
        let extent = Extent { space: SpaceId(0), first, count };
        if reply.status == 0
            && let Some(cells) = from_wire(&space, extent, values.data)
        {
            return AnswerMeaning::Good(vec![cells]);
        }
        AnswerMeaning::Words(format!("{} bytes of it", values.data.len()))
    }
}

/// What an Unconnected Send carries.
fn within<'a>(request: &Request<'a>) -> Option<UnconnectedSend<'a>> {
    let manager = request.path.object()?.class == class::CONNECTION_MANAGER;
    if !manager || request.service != service::UNCONNECTED_SEND {
        return None;
    }
    UnconnectedSend::parse(request.data).ok()
}

/// The command for data tables that a request carries.
fn command_of<'a>(request: &Request<'a>) -> Option<Execute<'a>> {
    let object = request.path.object()?;
    let carries = object.class == class::PCCC && request.service == service::EXECUTE_PCCC;
    Execute::parse(request.data).ok().filter(|_| carries)
}

/// The services of a message that has several.
fn several<'a>(request: &Request<'a>) -> Vec<Request<'a>> {
    if request.service != service::MULTIPLE_SERVICE_PACKET {
        return vec![];
    }
    let Ok(parts) = Parts::parse(request.data) else { return vec![] };
    parts.iter().filter_map(|part| Request::parse(part).ok()).collect()
}

/// A service in words.
fn words(request: &Request<'_>) -> Cow<'static, str> {
    let class = request.path.object().map(|object| object.class);
    let manager = class == Some(class::CONNECTION_MANAGER);
    match (request.service, manager) {
        (service::READ_TAG, _) if class.is_none() => "read tag".into(),
        (service::WRITE_TAG, _) if class.is_none() => "write tag".into(),
        (service::READ_TAG_FRAGMENTED, false) => "read tag by bytes".into(),
        (service::WRITE_TAG_FRAGMENTED, false) => "write tag by bytes".into(),
        (service::READ_MODIFY_WRITE, false) => "read-modify-write tag".into(),
        (service::FORWARD_OPEN | service::LARGE_FORWARD_OPEN, true) => {
            let large = request.service == service::LARGE_FORWARD_OPEN;
            match ForwardOpen::parse(request.data, large) {
                Ok(open) if open.transport & 0x0F == 1 => opened(&open).into(),
                Ok(open) => format!("open connection of {} bytes", open.to_target.size()).into(),
                Err(_) => "open connection (malformed)".into(),
            }
        }
        (service::FORWARD_CLOSE, true) => "close connection".into(),
        (service::LIST_SYMBOLS, _) => "list tags".into(),
        (service::GET_ATTRIBUTES_ALL, _) => "get all attributes".into(),
        (service::GET_ATTRIBUTE_SINGLE, _) => "get attribute".into(),
        (service::GET_ATTRIBUTE_LIST, _) => "get attributes by a list".into(),
        (service::SET_ATTRIBUTE_SINGLE, _) => "set attribute".into(),
        (service::RESET, _) => "reset".into(),
        (other, _) => format!("service 0x{other:02X}").into(),
    }
}

/// What is asked of a connection that runs in cycles, every parameter of it.
fn opened(open: &ForwardOpen<'_>) -> String {
    let shown = woodrush_core::project::show_micros;
    let one = |noun: &str, point: Option<u32>, interval: u32, how: Parameters| {
        let point = point.map_or_else(String::new, |point| format!(" {point}"));
        let kind = match how.kind() {
            0 => "null",
            1 => "multicast",
            2 => "point to point",
            _ => "reserved type",
        };
        let priority = match how.priority() {
            0 => "low",
            1 => "high",
            2 => "scheduled",
            _ => "urgent",
        };
        let size = if how.is_variable() { "up to " } else { "" };
        let size = format!("{size}{} bytes with count and header", how.size());
        format!("{noun}{point}: {size} every {}, {kind}, {priority}", shown(interval.into()))
    };
    let points = Points::of(&open.path);
    let to = points.map(|own| own.to_target);
    let from = points.map(|own| own.to_originator);
    let mut told = vec![
        one("outputs", to, open.to_target_interval, open.to_target),
        one("inputs", from, open.to_originator_interval, open.to_originator),
        format!("lost after {}", shown(lost_after(open.to_target_interval, open.multiplier))),
    ];
    if let Some(points) = points {
        let data = match points.data.len() {
            0 => String::new(),
            bytes => format!(" with {bytes} bytes"),
        };
        told.extend(points.configuration.map(|point| format!("configuration {point}{data}")));
        told.extend(points.key.map(|key| {
            format!(
                "key: vendor {}, device type {}, product {}, revision {}.{}",
                key.vendor,
                key.device_type,
                key.product,
                key.major & 0x7F,
                key.minor
            )
        }));
    }
    let Triad { serial, vendor, originator } = open.triad;
    told.push(format!("serial number {serial} of vendor {vendor}, {originator:08X}"));
    format!("open connection in cycles: {}", told.join("; "))
}

impl Observer for TagObserver {
    fn handle(&mut self, began: Moment, now: Moment, side: Side, bytes: &[u8]) {
        if let Some(pending) = self.sides.get_mut(side.index()) {
            pending.take(began, now, bytes);
        }
        self.look(side);
    }

    fn poll(&mut self, _now: Moment) -> Option<Heard> {
        self.heard.pop_front()
    }

    fn answer(&self, request: &Asked, answer: &[u8]) -> AnswerMeaning {
        let (asked, reply) = match (Request::parse(&request.body), Reply::parse(answer)) {
            (Ok(asked), Ok(reply)) => (asked, reply),
            (Err(error), _) | (_, Err(error)) => return AnswerMeaning::Unfitting(error.to_string()),
        };
        let parts = several(&asked);
        if parts.is_empty() || !matches!(reply.status, 0 | status::EMBEDDED_SERVICE_ERROR) {
            return self.answered(&asked, &reply);
        }
        let replies = match Parts::parse(reply.data) {
            Ok(replies) if usize::from(replies.count()) == parts.len() => replies,
            _ => return AnswerMeaning::Unfitting("it has another number of replies than services".into()),
        };
        let (mut cells_of_all, mut touched, mut refused) = (vec![], vec![], None);
        for (part, reply) in parts.iter().zip(replies.iter()) {
            let Ok(reply) = Reply::parse(reply) else {
                return AnswerMeaning::Unfitting("a reply in it is malformed".into());
            };
            let (_, touches) = self.one(part);
            match self.answered(part, &reply) {
                AnswerMeaning::Good(own) => {
                    // A read brings as many as it touches, a write none.
                    let mut own = own.into_iter();
                    for _ in touches {
                        let cells = own.next();
                        touched.push(Ok(cells.clone().unwrap_or_default()));
                        cells_of_all.extend(cells);
                    }
                }
                AnswerMeaning::Refused(native) => {
                    touched.extend(touches.iter().map(|_| Err(native)));
                    refused = refused.or(Some(native));
                }
                // What one of them says is said of all.
                other => return other,
            }
        }
        match refused {
            None => AnswerMeaning::Good(cells_of_all),
            Some(_) if touched.iter().any(Result::is_err) => AnswerMeaning::Partly(touched),
            // What was refused has no name here.
            Some(native) => AnswerMeaning::Refused(native),
        }
    }

    fn reset(&mut self) {
        self.sides.iter_mut().for_each(Pending::clear);
        self.heard.clear();
    }
}
