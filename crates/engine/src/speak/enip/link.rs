//! Connections to the controllers behind one session: large, ordinary, or none.

use super::refusal;
use crate::Moment;
use std::borrow::Cow;
use std::collections::HashMap;
use woodrush_core::Refusal;
use woodrush_core::plan::Station;
use woodrush_core::protocol::Space;
use woodrush_core::protocol::enip::{CONNECTION_LARGE, CONNECTION_SMALL, VENDOR, Way};
use woodrush_wire::enip::cip::{self, Reply, class, service};
use woodrush_wire::enip::connection::{
    self, EXPLICIT, ForwardClose, ForwardOpen, Opened, Parameters, Triad, UnconnectedSend,
};
use woodrush_wire::enip::epath::{Object, Path};
use woodrush_wire::enip::status::{self, connection as refused};
use woodrush_wire::enip::tags::TagType;

/// How often a connection of explicit messages says that something comes, in microseconds; nothing need.
const INTERVAL: u32 = 2_000_000;
/// 4 << 3 intervals without a message, and it is gone: 64 s.
const MULTIPLIER: u8 = 3;

/// A connection that is open.
#[derive(Debug, Clone)]
pub(super) struct OpenLink {
    /// The controller's id of it, which goes before our requests.
    pub(super) to_target: u32,
    /// Ours, which comes before its replies.
    pub(super) own: u32,
    pub(super) sequence: u16,
    triad: Triad,
    size: u16,
    /// When its last message left.
    pub(super) used: Moment,
}

/// How messages reach one controller.
#[derive(Debug, Clone)]
enum PeerLink {
    /// Nothing was tried, or the last one is gone: a connection of that size is asked for.
    Ask(u16),
    Open(OpenLink),
    /// Without a connection, because the keys say so or none was given.
    Without,
}

/// One controller behind the session.
#[derive(Debug, Clone)]
pub(super) struct Peer {
    route: Vec<u8>,
    wants: bool,
    link: PeerLink,
    /// It does not serve several services in one message.
    pub(super) one_by_one: bool,
    /// The types that its tags were found to have, by the keys of their spaces.
    types: HashMap<Cow<'static, str>, TagType>,
}

impl Peer {
    pub(super) fn of(station: &Station) -> Self {
        let Way { connected, route, .. } = Way::of(&station.setup);
        let mut peer = Self {
            route,
            wants: connected,
            link: PeerLink::Without,
            one_by_one: false,
            types: HashMap::new(),
        };
        peer.forget();
        peer
    }

    /// Whether this is the one that a station is asked by.
    pub(super) fn is_of(&self, station: &Station) -> bool {
        let Way { connected, route, .. } = Way::of(&station.setup);
        (self.wants, &self.route) == (connected, &route)
    }

    /// The session is a new one, or the connection is gone.
    pub(super) fn forget(&mut self) {
        self.link = if self.wants { PeerLink::Ask(CONNECTION_LARGE) } else { PeerLink::Without };
    }

    /// The type that a tag was found to have.
    pub(super) fn known(&self, space: &Space) -> Option<TagType> {
        self.types.get(&space.key).copied()
    }

    /// What a tag was found to have now; `None` where what was known does not hold.
    pub(super) fn learn(&mut self, space: &Space, found: Option<TagType>) {
        match found {
            // Every poll says it again.
            found if self.known(space) == found => {}
            Some(found) => drop(self.types.insert(space.key.clone(), found)),
            None => drop(self.types.remove(&space.key)),
        }
    }

    /// Whatever is known of its tags is of before.
    pub(super) fn forget_types(&mut self) {
        self.types.clear();
        self.one_by_one = false;
    }

    pub(super) fn open(&mut self) -> Option<&mut OpenLink> {
        if let PeerLink::Open(open) = &mut self.link { Some(open) } else { None }
    }

    /// How messages go now; `None` while a connection is to be asked for.
    pub(super) fn way(&self) -> Option<Way> {
        match &self.link {
            PeerLink::Ask(_) => None,
            PeerLink::Open(open) => Some(Way::sized(Some(open.size), self.route.clone())),
            PeerLink::Without => Some(Way::sized(None, self.route.clone())),
        }
    }

    fn manager() -> Object {
        Object { class: class::CONNECTION_MANAGER, instance: 1, attribute: None }
    }

    /// The path that connections are opened along: the route, and the message router at its end.
    fn path(&self) -> Vec<u8> {
        let mut path = self.route.clone();
        Object { class: class::MESSAGE_ROUTER, instance: 1, attribute: None }.emit(&mut path);
        path
    }

    /// The request that opens a connection under these numbers; `None` where none is to be asked for.
    pub(super) fn opening(&self, serial: u16, own: u32, timeout_ms: u32) -> Option<Vec<u8>> {
        let PeerLink::Ask(size) = self.link else { return None };
        let path = self.path();
        let (tick, ticks) = UnconnectedSend::ticks_of(timeout_ms);
        let parameters = Parameters::explicit(size, size == CONNECTION_LARGE);
        let open = ForwardOpen {
            tick,
            ticks,
            to_target_id: 0,
            to_originator_id: own,
            triad: Triad { serial, vendor: VENDOR, originator: own },
            multiplier: MULTIPLIER,
            to_target_interval: INTERVAL,
            to_target: parameters,
            to_originator_interval: INTERVAL,
            to_originator: parameters,
            transport: EXPLICIT,
            path: Path::parse(&path).unwrap_or_default(),
        };
        let mut message = vec![];
        cip::emit_to(&mut message, open.service(), Self::manager());
        open.emit(&mut message);
        Some(message)
    }

    /// What the controller says to that: the next smaller one is asked for where it does not take such a connection.
    ///
    /// # Errors
    /// It cannot be reached at all.
    pub(super) fn opened(&mut self, reply: &Reply<'_>, own: u32, now: Moment) -> Result<(), Refusal> {
        let PeerLink::Ask(size) = self.link else { return Ok(()) };
        if reply.status == 0 {
            if let Ok(opened) = Opened::parse(reply.data)
                && opened.to_originator_id == own
            {
                let (to_target, triad) = (opened.to_target_id, opened.triad);
                self.link = PeerLink::Open(OpenLink { to_target, own, sequence: 0, triad, size, used: now });
                return Ok(());
            }
        } else if reply.status == status::CONNECTION_FAILURE
            && matches!(
                reply.word(),
                Some(
                    refused::PORT_NOT_AVAILABLE
                        | refused::LINK_NOT_AVAILABLE
                        | refused::UNCONNECTED_TIMED_OUT
                        | 0x0315
                )
            )
        {
            // Nothing is there, whatever the size.
            self.forget();
            return Err(refusal(reply.status, reply.word()));
        }
        self.link =
            if size == CONNECTION_LARGE { PeerLink::Ask(CONNECTION_SMALL) } else { PeerLink::Without };
        Ok(())
    }

    /// When an unused connection is closed, before the controller does it.
    pub(super) fn closes_at(&self) -> Option<Moment> {
        let PeerLink::Open(open) = &self.link else { return None };
        Some(open.used + connection::lost_after(INTERVAL, MULTIPLIER) / 2)
    }

    /// The request that closes the connection, which is gone from now on.
    pub(super) fn closing(&mut self, timeout_ms: u32) -> Option<Vec<u8>> {
        let PeerLink::Open(OpenLink { triad, .. }) = self.link else { return None };
        self.forget();
        let path = self.path();
        let (tick, ticks) = UnconnectedSend::ticks_of(timeout_ms);
        let close = ForwardClose { tick, ticks, triad, path: Path::parse(&path).unwrap_or_default() };
        let mut message = vec![];
        cip::emit_to(&mut message, service::FORWARD_CLOSE, Self::manager());
        close.emit(&mut message);
        Some(message)
    }

    /// A request of its own behind the route, where there is one and no connection.
    pub(super) fn routed(&self, message: &[u8], timeout_ms: u32) -> Vec<u8> {
        if self.route.is_empty() {
            return message.to_vec();
        }
        let mut out = vec![];
        cip::emit_to(&mut out, service::UNCONNECTED_SEND, Self::manager());
        let route = Path::parse(&self.route).unwrap_or_default();
        UnconnectedSend::emit_with(&mut out, UnconnectedSend::ticks_of(timeout_ms), route, |out| {
            out.extend_from_slice(message);
        });
        out
    }
}
