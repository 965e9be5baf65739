//! A port that is an address of ours on a network: its node, the sessions of those who ask there, and what runs in cycles.
//! The machine reads no clock and opens nothing; one thread a port does both.

mod converter;
mod dialled;
mod doorkeeper;
mod driver;
mod frame_socket;
mod place;
mod sockets;
#[cfg(test)]
mod tests;

pub(crate) use converter::{Elsewhere, NetPlace, prepare};
pub(crate) use doorkeeper::Doorkeeper;
pub(crate) use driver::{ReadyNet, idle_worker};
pub(crate) use frame_socket::{FRAME_MAX, FrameSocket};
pub(crate) use place::Place;
pub(crate) use sockets::{Sockets, open_sockets};

use crate::Moment;
use crate::speak::{
    Channel, LinkLoss, LinkNews, NetAct, NetNews, News, Node, NodeSetup, Produced, Server, Socket,
    StationNews,
};
use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr, SocketAddrV4};

/// What lies behind a node: a converter's cells, or a simulated end's.
pub(crate) trait NetEnd: Send {
    /// What the node shall be from now on, where that has changed.
    fn renewed(&mut self) -> Option<NodeSetup>;
    /// What goes in the frame of a link that is due now; `last` is what went in the one before.
    fn produce(&mut self, now: Moment, link: usize, last: &mut Produced);
    /// A frame came with other bytes than before.
    fn came(&mut self, now: Moment, link: usize, slot: usize, cells: &[u8]);
    /// A frame came with the same bytes.
    fn still(&mut self, now: Moment, link: usize);
    /// What comes in a slot is bad, as the other end says itself.
    fn unsound(&mut self, _now: Moment, _link: usize, _slot: usize) {}
    /// Something was done to the station of a link.
    fn station(&mut self, _link: usize, _news: StationNews) {}
    /// Nothing comes any more.
    fn stopped(&mut self, now: Moment, link: usize, why: LinkLoss);
    /// Something became of a link.
    fn news(&mut self, _link: usize, _news: LinkNews) {}
    /// Frames were left out because their time had passed.
    fn skipped(&mut self, _link: usize, _frames: u64) {}
    /// A frame left so many microseconds after it was due.
    fn sent(&mut self, _link: usize, _late: u64) {}
    /// What answers a peer that has connected.
    fn session(&mut self, peer: SocketAddrV4, server: Box<dyn Server>) -> Option<Box<dyn NetSession>>;
}

/// One who asks over TCP.
pub(crate) trait NetSession: Send {
    /// Takes news of the connection.
    fn handle(&mut self, now: Moment, news: News<'_>);
    /// What to do now.
    fn poll(&mut self, now: Moment) -> SessionOut;
    /// Whether something is under way elsewhere: nothing more is read meanwhile.
    fn is_waiting(&self) -> bool;
}

/// What a session wants done.
pub(crate) enum SessionOut {
    Send(Vec<u8>),
    HangUp(String),
    WaitUntil(Moment),
    Rest,
}

/// What the machine wants done next.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum NetOut {
    Dial(Channel, SocketAddrV4),
    /// To one that was dialled.
    Send(Channel, Vec<u8>),
    /// To one who asks.
    Answer(u32, Vec<u8>),
    Close(Channel),
    /// One who asks, and why.
    HangUp(u32, String),
    Datagram {
        socket: usize,
        to: SocketAddrV4,
        bytes: Vec<u8>,
        due: Option<(usize, Moment)>,
    },
    /// By the interface.
    Frame {
        bytes: Vec<u8>,
        due: Option<(usize, Moment)>,
    },
    WaitUntil(Moment),
    Rest,
}

/// The machine of one such port.
pub(crate) struct NetMachine {
    node: Box<dyn Node>,
    end: Box<dyn NetEnd>,
    sessions: BTreeMap<u32, Box<dyn NetSession>>,
    /// What went last, by link.
    produced: BTreeMap<usize, Produced>,
    /// The session that is looked at next: each has its turn.
    turn: u32,
}

impl NetMachine {
    pub(crate) fn new(node: Box<dyn Node>, end: Box<dyn NetEnd>) -> Self {
        Self { node, end, sessions: BTreeMap::new(), produced: BTreeMap::new(), turn: 0 }
    }

    pub(crate) fn sockets(&self) -> &'static [Socket] {
        self.node.sockets()
    }

    pub(crate) fn node(&mut self) -> &mut dyn Node {
        self.node.as_mut()
    }

    pub(crate) fn end(&mut self) -> &mut dyn NetEnd {
        self.end.as_mut()
    }

    pub(crate) fn handle(&mut self, now: Moment, news: NetNews<'_>) {
        if matches!(news, NetNews::Down) {
            self.sessions.clear();
        }
        self.node.handle(now, news);
    }

    /// One who asks has connected; whether it is answered.
    pub(crate) fn connected(&mut self, number: u32, peer: SocketAddrV4, now: Moment) -> bool {
        let Some(server) = self.node.server(*peer.ip()) else { return false };
        let Some(mut session) = self.end.session(peer, server) else { return false };
        session.handle(now, News::Up);
        self.sessions.insert(number, session);
        true
    }

    /// Bytes of one who asks.
    pub(crate) fn asked(&mut self, number: u32, now: Moment, bytes: &[u8]) {
        if let Some(session) = self.sessions.get_mut(&number) {
            session.handle(now, News::Bytes(bytes));
        }
    }

    /// One who asked is gone.
    pub(crate) fn left(&mut self, number: u32, now: Moment) {
        if let Some(mut session) = self.sessions.remove(&number) {
            session.handle(now, News::Down);
        }
    }

    /// Whether what one of them asked is under way elsewhere.
    pub(crate) fn is_waiting(&self, number: u32) -> bool {
        self.sessions.get(&number).is_some_and(|session| session.is_waiting())
    }

    /// Whether one who asks may be silent for as long as it likes: what it has asked is under way, or it exchanges with us.
    pub(crate) fn may_be_silent(&self, number: u32, peer: SocketAddr) -> bool {
        let exchanges = if let IpAddr::V4(peer) = peer.ip() { self.node.exchanges_with(peer) } else { false };
        exchanges || self.is_waiting(number)
    }

    /// What the node wants done, or how long it waits.
    fn node_out(&mut self, now: Moment) -> Result<NetOut, Moment> {
        if let Some(setup) = self.end.renewed() {
            self.produced.clear();
            self.node.set_up(now, &setup);
        }
        loop {
            match self.node.poll(now) {
                NetAct::Dial(channel, to) => return Ok(NetOut::Dial(channel, to)),
                NetAct::Send(channel, bytes) => return Ok(NetOut::Send(channel, bytes)),
                NetAct::Close(channel) => return Ok(NetOut::Close(channel)),
                NetAct::Datagram { socket, to, bytes, due } => {
                    return Ok(NetOut::Datagram { socket, to, bytes, due });
                }
                NetAct::Frame { bytes, due } => return Ok(NetOut::Frame { bytes, due }),
                NetAct::Produce(link) => {
                    let last = self.produced.entry(link).or_default();
                    self.end.produce(now, link, last);
                    self.node.produced(now, link, last);
                }
                NetAct::Came { link, slot, cells } => self.end.came(now, link, slot, &cells),
                NetAct::Still(link) => self.end.still(now, link),
                NetAct::Unsound { link, slot } => self.end.unsound(now, link, slot),
                NetAct::Station(link, news) => self.end.station(link, news),
                NetAct::Stopped(link, why) => self.end.stopped(now, link, why),
                NetAct::Skipped(link, frames) => self.end.skipped(link, frames),
                NetAct::Tell(link, news) => self.end.news(link, news),
                NetAct::WaitUntil(moment) => return Err(moment),
                NetAct::Rest => return Err(Moment::NEVER),
            }
        }
    }

    /// What to do now. Frames that are due go before whatever was asked, and of those who ask one after the other has a turn.
    pub(crate) fn poll(&mut self, now: Moment) -> NetOut {
        if let Ok(out) = self.node_out(now) {
            return out;
        }
        let mut waits = Moment::NEVER;
        let behind = self.sessions.range(self.turn..).map(|(number, _)| *number);
        let order: Vec<u32> =
            behind.chain(self.sessions.range(..self.turn).map(|(number, _)| *number)).collect();
        for number in order {
            let Some(session) = self.sessions.get_mut(&number) else { continue };
            match session.poll(now) {
                SessionOut::Send(bytes) => {
                    self.turn = number.wrapping_add(1);
                    return NetOut::Answer(number, bytes);
                }
                SessionOut::HangUp(why) => {
                    self.sessions.remove(&number);
                    return NetOut::HangUp(number, why);
                }
                SessionOut::WaitUntil(moment) => waits = waits.min(moment),
                SessionOut::Rest => {}
            }
        }
        // What a session has done, such as opening a link, is looked at before anybody waits.
        match self.node_out(now) {
            Ok(out) => out,
            Err(moment) if moment.min(waits) == Moment::NEVER => NetOut::Rest,
            Err(moment) => NetOut::WaitUntil(moment.min(waits)),
        }
    }
}
