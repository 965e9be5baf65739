//! A server on one TCP connection: a controller with tags, or an image that looks like one.

mod blocks;

use super::node::{CAPABILITY_CYCLIC, SharedManager, lock};
use super::requests::{Tags, Todo};
use super::work::{MessageWork, ReplyTo};
use super::{answer_to, objects};
use crate::Moment;
use crate::speak::{News, STREAM_MAX, Serve, Server, ServerSetup, tables};
use blocks::frames_port;
use std::hash::{BuildHasher, Hasher, RandomState};
use std::net::{Ipv4Addr, SocketAddrV4};
use std::sync::Arc;
use woodrush_core::Refusal;
use woodrush_core::protocol::Spaces;
use woodrush_core::protocol::enip::{has_tables, route_of};
use woodrush_wire::enip::cip::{self, Reply, Request, class, service};
use woodrush_wire::enip::connection::{
    Closed, EXPLICIT, ForwardClose, ForwardOpen, NotOpened, Opened, Triad, UnconnectedSend, lost_after,
};
use woodrush_wire::enip::cpf::{Connected, Unconnected};
use woodrush_wire::enip::cyclic;
use woodrush_wire::enip::encap::{self, Header, Message, Registration, command};
use woodrush_wire::enip::epath::{Object, Path};
use woodrush_wire::enip::objects::{CAPABILITY_TCP, Identity, ListedIdentity, emit_services};
use woodrush_wire::enip::packet::Parts;
use woodrush_wire::enip::status::{self, connection as refused};

/// Most bytes of one message that is taken: a large connection's, with all around it.
const MESSAGE_MAX: u16 = 8192;
/// Most connections of one session: an originator needs one.
const CONNECTIONS_MAX: usize = 32;
/// Bytes of a reply outside connections.
const UNCONNECTED: usize = 504;
/// The port that is told where it is not known.
const PORT: u16 = 44_818;

/// A connection that an originator has opened.
struct OpenConnection {
    to_target: u32,
    to_originator: u32,
    triad: Triad,
    /// The most bytes of a reply.
    most: usize,
    /// The last sequence count and its reply: said again where it is asked again.
    last: Option<(u16, Vec<u8>)>,
    lost_after: u64,
    used: Moment,
}

pub(super) struct TagServer {
    tags: Tags,
    /// Its memory is data tables.
    is_tables: bool,
    /// The way from the peer on at whose end the memory is.
    route: Vec<u8>,
    came: Vec<u8>,
    out: Vec<u8>,
    session: u32,
    connections: Vec<OpenConnection>,
    next_id: u32,
    work: Option<MessageWork>,
    lost: Option<String>,
    now: Moment,
    /// The spaces of images with assemblies, by the number of their inputs.
    images: Vec<(u16, Arc<Spaces>)>,
    /// The UDP port on which who asks takes frames.
    frames_to: u16,
    /// What the end that it belongs to exchanges in cycles, and who asks.
    node: Option<(SharedManager, Ipv4Addr)>,
}

impl TagServer {
    /// Of an end on a network, for one peer.
    pub(super) fn of_node(setup: &ServerSetup, manager: SharedManager, peer: Ipv4Addr) -> Self {
        let mut own = Self::new(setup);
        own.tags.name(lock(&manager).own_identity().clone());
        own.node = Some((manager, peer));
        own.set_up(setup);
        own
    }

    pub(super) fn new(setup: &ServerSetup) -> Self {
        let mut server = Self {
            tags: Tags::default(),
            is_tables: false,
            route: vec![],
            came: vec![],
            out: vec![],
            session: 0,
            connections: vec![],
            next_id: unpredictable(),
            work: None,
            lost: None,
            now: Moment(0),
            images: vec![],
            frames_to: cyclic::PORT,
            node: None,
        };
        server.set_up(setup);
        server
    }

    /// Looks at what came until something is wanted, or nothing is left.
    fn next(&mut self) -> Option<Serve> {
        loop {
            if let Some(work) = &mut self.work {
                if let Some(want) = work.go_on(&mut self.tags) {
                    return Some(Serve::Want { unit: work.unit(), all: false, want });
                }
                self.reply();
            }
            // One answer after the other: they must not pile up.
            if !self.out.is_empty() {
                return None;
            }
            let came = std::mem::take(&mut self.came);
            let used = match encap::parse(&came, MESSAGE_MAX) {
                Ok(None) => {
                    self.came = came;
                    return None;
                }
                Err(error) => {
                    self.lost = Some(error.to_string());
                    return None;
                }
                Ok(Some((message, used))) => {
                    // What has options is for a later standard, and is ignored.
                    if message.header.options == 0 {
                        self.take(&message);
                    }
                    used
                }
            };
            self.came = came.get(used..).unwrap_or_default().to_vec();
            if self.lost.is_some() {
                return None;
            }
        }
    }

    fn status(&mut self, header: Header, status: u32) {
        Header { status, ..header }.emit_with(&mut self.out, |_| {});
    }

    fn take(&mut self, message: &Message<'_>) {
        let header = message.header;
        let good = Header { status: 0, ..header };
        match header.command {
            command::NOP => {}
            command::LIST_SERVICES => {
                let cyclic = if self.node.is_some() { CAPABILITY_CYCLIC } else { 0 };
                good.emit_with(&mut self.out, |out| emit_services(out, CAPABILITY_TCP | cyclic));
            }
            command::LIST_IDENTITY => {
                let mut list = |address: Option<Ipv4Addr>, identity: Identity<'_>| {
                    let address = SocketAddrV4::new(address.unwrap_or(Ipv4Addr::UNSPECIFIED), PORT);
                    let own = ListedIdentity { address, identity, state: 3 };
                    good.emit_with(&mut self.out, |out| own.emit(out));
                };
                match &self.node {
                    None => list(None, objects::identity()),
                    Some((manager, _)) => {
                        let manager = lock(manager);
                        list(manager.address(), manager.identity());
                    }
                }
            }
            command::LIST_INTERFACES => good.emit_with(&mut self.out, |out| out.extend_from_slice(&[0, 0])),
            command::REGISTER_SESSION => self.register(good, message.data),
            command::UNREGISTER_SESSION => self.lost = Some("it ends the session".into()),
            command::SEND_RR_DATA | command::SEND_UNIT_DATA
                if header.session != self.session || self.session == 0 =>
            {
                self.status(header, encap::status::INVALID_SESSION);
            }
            command::SEND_RR_DATA => match Unconnected::parse(message.data) {
                Err(_) => self.status(header, encap::status::BAD_DATA),
                Ok(data) => {
                    self.frames_to = frames_port(&data.extras);
                    self.asked(ReplyTo::Context(header.context), data.message, UNCONNECTED);
                }
            },
            command::SEND_UNIT_DATA => match Connected::parse(message.data) {
                Err(_) => self.status(header, encap::status::BAD_DATA),
                Ok(data) => self.on_connection(&data),
            },
            _ => self.status(header, encap::status::INVALID_COMMAND),
        }
    }

    fn register(&mut self, header: Header, data: &[u8]) {
        match Registration::parse(data) {
            Err(_) => self.status(header, encap::status::INVALID_LENGTH),
            Ok(own) if own != Registration::OURS => {
                let refused = Header { status: encap::status::UNSUPPORTED_REVISION, session: 0, ..header };
                refused.emit_with(&mut self.out, |out| Registration::OURS.emit(out));
            }
            // One a connection; the one that there is stays.
            Ok(_) if self.session != 0 => {
                let session = self.session;
                self.status(Header { session, ..header }, encap::status::INVALID_COMMAND);
            }
            Ok(own) => {
                self.session = unpredictable();
                let session = self.session;
                Header { session, ..header }.emit_with(&mut self.out, |out| own.emit(out));
            }
        }
    }

    fn on_connection(&mut self, data: &Connected<'_>) {
        let now = self.now;
        // One that was not used in time is gone, and what comes on it is ignored.
        self.connections.retain(|own| now.since(own.used) < own.lost_after);
        let Some(own) = self.connections.iter_mut().find(|own| own.to_target == data.connection) else {
            return;
        };
        own.used = now;
        let (id, most) = (own.to_target, own.most);
        match &own.last {
            Some((sequence, reply)) if *sequence == data.sequence => {
                let reply = reply.clone();
                self.send(ReplyTo::Connection(id, data.sequence), &reply);
            }
            _ => self.asked(ReplyTo::Connection(id, data.sequence), data.message, most),
        }
    }

    /// A request of the message router.
    fn asked(&mut self, back: ReplyTo, message: &[u8], most: usize) {
        // Along a connection the route was gone when it was opened.
        let tags = self.route.is_empty() || matches!(back, ReplyTo::Connection(..));
        let request = match Request::parse(message) {
            Ok(request) => request,
            Err(error) => {
                let service = message.first().copied().unwrap_or(0) & !cip::REPLY;
                return self.refuse(back, service, cip::status_of(&error), None, &[]);
            }
        };
        let manager = request.path.object().is_some_and(|object| object.class == class::CONNECTION_MANAGER);
        match request.service {
            service::UNCONNECTED_SEND if manager => match UnconnectedSend::parse(request.data) {
                Err(error) => self.refuse(back, request.service, cip::status_of(&error), None, &[]),
                Ok(send) => match self.route_fault(send.route) {
                    Some(word) => {
                        let left = u8::try_from(send.route.bytes().len() / 2).unwrap_or(0);
                        self.refuse(back, request.service, status::CONNECTION_FAILURE, Some(word), &[left]);
                    }
                    None => match Request::parse(send.message) {
                        Err(error) => {
                            let service = send.message.first().copied().unwrap_or(0) & !cip::REPLY;
                            self.refuse(back, service, cip::status_of(&error), None, &[]);
                        }
                        Ok(inner) => self.begin(back, &inner, send.message, most, true),
                    },
                },
            },
            service::FORWARD_OPEN | service::LARGE_FORWARD_OPEN if manager => self.open(back, &request),
            service::FORWARD_CLOSE if manager => self.close(back, &request),
            _ => self.begin(back, &request, message, most, tags),
        }
    }

    /// Why a route does not lead to the tags; `None` where it does.
    fn route_fault(&self, route: Path<'_>) -> Option<u16> {
        if route.bytes() == self.route {
            return None;
        }
        // Out of a port that is there, or of another one.
        let port = self.route.first().is_some_and(|port| route.bytes().first() == Some(port));
        Some(if port { refused::LINK_NOT_AVAILABLE } else { refused::PORT_NOT_AVAILABLE })
    }

    fn open(&mut self, back: ReplyTo, request: &Request<'_>) {
        let code = request.service;
        let open = match ForwardOpen::parse(request.data, code == service::LARGE_FORWARD_OPEN) {
            Ok(open) => open,
            Err(error) => return self.refuse(back, code, cip::status_of(&error), None, &[]),
        };
        let now = self.now;
        if let Some((manager, peer)) = self.node.as_ref().filter(|_| open.transport & 0x0F != EXPLICIT & 0x0F)
        {
            let peer = SocketAddrV4::new(*peer, self.frames_to);
            let opened = lock(manager).open(now, peer, &open);
            return self.say_opened(back, code, &open, opened);
        }
        self.connections.retain(|own| now.since(own.used) < own.lost_after);
        let (route, rest) = open.path.split_route();
        let router = Object { class: class::MESSAGE_ROUTER, instance: 1, attribute: None };
        let word = if let Some(word) = open.fault() {
            Some(word)
        } else if let Some(word) = self.route_fault(route) {
            Some(word)
        } else if rest.object() != Some(router) {
            Some(refused::INVALID_PATH)
        } else if open.transport != EXPLICIT {
            Some(refused::CLASS_OR_TRIGGER)
        } else if self.connections.iter().any(|own| own.triad == open.triad) {
            Some(refused::DUPLICATE)
        } else if self.connections.len() >= CONNECTIONS_MAX {
            Some(refused::OUT_OF_CONNECTIONS)
        } else if !(64..=MESSAGE_MAX / 2).contains(&open.to_originator.size()) {
            Some(refused::INVALID_SIZE)
        } else {
            None
        };
        if let Some(word) = word {
            let mut data = vec![];
            NotOpened { triad: open.triad, left: 0 }.emit(&mut data);
            return self.refuse(back, code, status::CONNECTION_FAILURE, Some(word), &data);
        }
        self.next_id = self.next_id.wrapping_add(0x1_0001).max(1);
        let connection = OpenConnection {
            to_target: self.next_id,
            to_originator: open.to_originator_id,
            triad: open.triad,
            most: usize::from(open.to_originator.size()) - 2,
            last: None,
            lost_after: lost_after(open.to_target_interval, open.multiplier).max(10_000_000),
            used: now,
        };
        let opened = Opened {
            to_target_id: connection.to_target,
            to_originator_id: connection.to_originator,
            triad: connection.triad,
            to_target_interval: open.to_target_interval,
            to_originator_interval: open.to_originator_interval,
            application: &[],
        };
        let (mut data, mut reply) = (vec![], vec![]);
        opened.emit(&mut data);
        Reply::good(code, &data).emit(&mut reply);
        self.connections.push(connection);
        self.send(back, &reply);
    }

    fn close(&mut self, back: ReplyTo, request: &Request<'_>) {
        let close = match ForwardClose::parse(request.data) {
            Ok(close) => close,
            Err(error) => return self.refuse(back, request.service, cip::status_of(&error), None, &[]),
        };
        let before = self.connections.len();
        self.connections.retain(|own| own.triad != close.triad);
        let mut data = vec![];
        let cyclic =
            self.node.as_ref().is_some_and(|(manager, peer)| lock(manager).close(*peer, close.triad));
        if self.connections.len() == before && !cyclic {
            NotOpened { triad: close.triad, left: 0 }.emit(&mut data);
            let word = Some(refused::NOT_FOUND);
            return self.refuse(back, request.service, status::CONNECTION_FAILURE, word, &data);
        }
        let mut reply = vec![];
        Closed { triad: close.triad, application: &[] }.emit(&mut data);
        Reply::good(request.service, &data).emit(&mut reply);
        self.send(back, &reply);
    }

    fn begin(&mut self, back: ReplyTo, request: &Request<'_>, message: &[u8], most: usize, tags: bool) {
        let router = request.path.object().is_some_and(|object| object.class == class::MESSAGE_ROUTER);
        let packet = request.service == service::MULTIPLE_SERVICE_PACKET && router;
        let todo = if packet {
            match Parts::parse(request.data) {
                Ok(parts) => parts.iter().map(<[u8]>::to_vec).collect(),
                Err(error) => {
                    return self.refuse(back, request.service, cip::status_of(&error), None, &[]);
                }
            }
        } else {
            if let Some(object) = request.path.object().filter(|object| object.class == class::ASSEMBLY)
                && self.on_assembly(back, request, object)
            {
                return;
            }
            // Nearly all of them: one service, which need not be kept.
            match self.tags.asked(message, most, false, tags) {
                Todo::Said(reply) => self.send(back, &reply),
                Todo::Begun(asked) => self.work = Some(MessageWork::of_one(back, asked)),
            }
            return;
        };
        self.work = Some(MessageWork::of_several(back, todo, most, tags));
    }

    /// Says what the message that is worked out is answered.
    fn reply(&mut self) {
        if let Some(work) = self.work.take()
            && let (back, Some(reply)) = work.reply()
        {
            self.send(back, &reply);
        }
    }

    fn refuse(&mut self, back: ReplyTo, service: u8, status: u8, word: Option<u16>, data: &[u8]) {
        let word = word.map(u16::to_le_bytes);
        let additional = word.as_ref().map_or(&[][..], |word| &word[..]);
        let mut reply = vec![];
        Reply { service, status, additional, data }.emit(&mut reply);
        self.send(back, &reply);
    }

    fn send(&mut self, back: ReplyTo, reply: &[u8]) {
        let session = self.session;
        let put = |out: &mut Vec<u8>| out.extend_from_slice(reply);
        match back {
            ReplyTo::Context(context) => {
                let header = Header { command: command::SEND_RR_DATA, session, context, ..Header::default() };
                header.emit_with(&mut self.out, |out| Unconnected::emit_with(out, put));
            }
            ReplyTo::Connection(id, sequence) => {
                let Some(own) = self.connections.iter_mut().find(|own| own.to_target == id) else { return };
                let (last, said) = own.last.get_or_insert_default();
                *last = sequence;
                said.clear();
                said.extend_from_slice(reply);
                let to = own.to_originator;
                let header = Header { command: command::SEND_UNIT_DATA, session, ..Header::default() };
                header.emit_with(&mut self.out, |out| Connected::emit_with(out, to, sequence, put));
            }
        }
    }
}

/// A number that cannot be guessed and is not 0.
fn unpredictable() -> u32 {
    u32::try_from(RandomState::new().build_hasher().finish() & 0xFFFF_FFFF).unwrap_or(1).max(1)
}

impl Server for TagServer {
    fn held(&self) -> usize {
        let work = self.work.as_ref().map_or(0, MessageWork::held);
        self.came.len() + self.out.len() + work
    }

    fn set_up(&mut self, setup: &ServerSetup) {
        self.is_tables = has_tables(&setup.own);
        // Images with assemblies are named by the number of their inputs; tags have none.
        let node = self.node.is_some();
        let images = setup.stations.iter().filter(|_| node);
        self.images = images.filter_map(|(unit, spaces)| Some(((*unit)?, spaces.clone()))).collect();
        let mut stations = setup.stations.iter();
        let spaces = stations.find(|(unit, _)| !node || unit.is_none()).map(|(_, spaces)| spaces.clone());
        self.tags.set_up(spaces.unwrap_or_default(), self.is_tables);
        self.route = route_of(&setup.own);
    }

    fn handle(&mut self, now: Moment, news: News<'_>) {
        self.now = now;
        match news {
            News::Bytes(bytes) if self.came.len() + bytes.len() > STREAM_MAX => {
                self.came.clear();
                self.lost = Some("it asks on and on without taking its answers".into());
            }
            News::Bytes(bytes) => self.came.extend_from_slice(bytes),
            News::Up | News::Down => {
                self.came.clear();
                self.out.clear();
                self.connections.clear();
                (self.session, self.work, self.lost) = (0, None, None);
            }
        }
    }

    fn give(&mut self, result: Result<&[u8], Refusal>) {
        if let Some(work) = &mut self.work {
            work.given(result);
        }
    }

    fn poll(&mut self, now: Moment) -> Serve {
        self.now = now;
        let waits = self.work.as_ref().is_some_and(MessageWork::waits);
        if !waits
            && self.lost.is_none()
            && let Some(want) = self.next()
        {
            return want;
        }
        Serve::said(&mut self.out, &mut self.lost)
    }

    fn native(&self, refusal: Refusal) -> (u32, &'static str) {
        if self.is_tables {
            return tables::native(refusal);
        }
        let (general, word) = answer_to(refusal);
        let word = word.unwrap_or(0);
        let shown = status::additional_words(general, word).unwrap_or_else(|| status::words(general));
        (u32::from(general) | u32::from(word) << 8, shown)
    }
}
