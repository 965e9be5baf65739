//! One end on a network: what others open and what we open, over the same three sockets.

use super::manager::Manager;
use super::originator::Originator;
use super::server::TagServer;
use crate::Moment;
use crate::speak::{
    Channel, LinkFaults, LinkLoss, NetAct, NetNews, Node, NodeSetup, Produced, Server, ServerSetup, Socket,
};
use std::collections::VecDeque;
use std::net::{Ipv4Addr, SocketAddrV4};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use woodrush_core::protocol::enip::Layout;
use woodrush_wire::enip::cyclic::{CyclicFrame, PORT};
use woodrush_wire::enip::encap::{self, Header, command};
use woodrush_wire::enip::objects::{CAPABILITY_TCP, ListedIdentity, emit_services};

const MESSAGES: u16 = 44_818;
const SOCKETS: [Socket; 3] = [Socket::Listen(MESSAGES), Socket::Datagrams(MESSAGES), Socket::Datagrams(PORT)];
/// The place of the socket of frames among them, and of the one for lists.
const FRAMES: usize = 2;
const LISTS: usize = 1;
/// From here on links are numbered that are opened once more on purpose: nobody exchanges anything by them.
const SECOND: usize = 1 << 20;
/// Frames over UDP, as the list of services says.
pub(super) const CAPABILITY_CYCLIC: u16 = 0x0100;
/// Most answers to lists that wait to be sent; more are not given.
const LISTED_MAX: usize = 32;

/// What an end and the servers of its sessions share. One thread has both: it never waits for the lock.
pub(super) type SharedManager = Arc<Mutex<Manager>>;

pub(super) fn lock(manager: &SharedManager) -> MutexGuard<'_, Manager> {
    manager.lock().unwrap_or_else(PoisonError::into_inner)
}

/// One end.
pub(super) struct IoNode {
    manager: SharedManager,
    originators: Vec<Originator>,
    /// Counted up for each link that we open.
    channels: u32,
    first: u16,
    serial_number: u32,
    out: VecDeque<NetAct>,
    /// The link whose frame is waited for.
    asked: bool,
    server: ServerSetup,
}

impl IoNode {
    pub(super) fn new(setup: &NodeSetup) -> Self {
        let manager = Arc::new(Mutex::new(Manager::new(setup, FRAMES)));
        let serial_number = lock(&manager).own_identity().serial;
        let mut own = Self {
            manager,
            originators: vec![],
            channels: 0,
            first: setup.first,
            serial_number,
            out: VecDeque::new(),
            asked: false,
            server: ServerSetup::default(),
        };
        own.open_links(setup);
        own
    }

    /// An originator for each link that we open; those that are the same stay.
    fn open_links(&mut self, setup: &NodeSetup) {
        let mut before = std::mem::take(&mut self.originators);
        for (link, own) in setup.links.iter().enumerate() {
            let Some((device, layout)) = own.opens.zip(Layout::of(&own.setup)) else { continue };
            let same = |other: &Originator| {
                (&other.name, &other.layout, other.device) == (&own.name, &layout, device)
            };
            if let Some(at) = before.iter().position(same) {
                let mut kept = before.remove(at);
                kept.link = link;
                kept.set_fault(own.fault);
                self.originators.push(kept);
                continue;
            }
            self.originate((link, own.name.clone()), (device, layout), own.fault);
        }
        self.add_second_owners(setup);
        for mut gone in before {
            // Its device or its block has changed: what came of the old one is not the new one's.
            let again = setup.links.iter().position(|own| own.name == gone.name);
            if let Some(link) = again.filter(|_| gone.runs()) {
                self.out.push_back(NetAct::Stopped(link, LinkLoss::Closed));
            }
            gone.shut();
            while let Some(act) = gone.poll(Moment(0)) {
                self.out.push_back(act);
            }
        }
    }

    fn originate(&mut self, whose: (usize, String), to: (Ipv4Addr, Layout), fault: LinkFaults) {
        self.channels += 1;
        // Each begins at serial numbers of its own, and a second owner is another originator.
        let first = self.first.wrapping_add(u16::try_from(self.channels % 251).unwrap_or(0) * 257);
        let number = self.serial_number ^ u32::from(whose.0 >= SECOND);
        let mut new = Originator::new(whose, to, fault, (first, number), FRAMES);
        new.set_channel(Channel(self.channels));
        self.originators.push(new);
    }

    /// Where that fault is on, the same link is opened once more, as by another controller.
    fn add_second_owners(&mut self, setup: &NodeSetup) {
        for (link, own) in setup.links.iter().enumerate().filter(|(_, own)| own.fault.second_owner) {
            if let Some(to) = own.opens.zip(Layout::of(&own.setup)) {
                self.originate((SECOND + link, own.name.clone()), to, LinkFaults::default());
            }
        }
    }

    /// Answers a list over UDP: everything else there is for TCP, and is not answered.
    fn list(&mut self, from: SocketAddrV4, bytes: &[u8]) {
        let Ok(Some((message, _))) = encap::parse(bytes, 512) else { return };
        let header = message.header;
        if header.options != 0 || header.status != 0 || self.out.len() >= LISTED_MAX {
            return;
        }
        let good = Header { status: 0, ..header };
        let mut out = vec![];
        match header.command {
            command::LIST_IDENTITY => {
                let manager = lock(&self.manager);
                let address = manager.address().unwrap_or(Ipv4Addr::UNSPECIFIED);
                let address = SocketAddrV4::new(address, MESSAGES);
                let own = ListedIdentity { address, identity: manager.identity(), state: 3 };
                good.emit_with(&mut out, |out| own.emit(out));
            }
            command::LIST_SERVICES => {
                good.emit_with(&mut out, |out| emit_services(out, CAPABILITY_TCP | CAPABILITY_CYCLIC));
            }
            command::LIST_INTERFACES => good.emit_with(&mut out, |out| out.extend_from_slice(&[0, 0])),
            _ => return,
        }
        self.out.push_back(NetAct::Datagram { socket: LISTS, to: from, bytes: out, due: None });
    }

    fn originator(&mut self, channel: Channel) -> Option<&mut Originator> {
        self.originators.iter_mut().find(|own| own.channel() == channel)
    }
}

impl Node for IoNode {
    fn sockets(&self) -> &'static [Socket] {
        &SOCKETS
    }

    fn exchanges_with(&self, peer: Ipv4Addr) -> bool {
        lock(&self.manager).exchanges_with(peer)
    }

    fn server(&mut self, peer: Ipv4Addr) -> Option<Box<dyn Server>> {
        Some(Box::new(TagServer::of_node(&self.server, Arc::clone(&self.manager), peer)))
    }

    fn set_up(&mut self, _now: Moment, setup: &NodeSetup) {
        lock(&self.manager).set_up(setup);
        self.open_links(setup);
    }

    fn shut(&mut self, _now: Moment) {
        self.originators.iter_mut().for_each(Originator::shut);
        lock(&self.manager).drop_all();
    }

    fn produced(&mut self, now: Moment, link: usize, cells: &Produced) {
        self.asked = false;
        match self.originators.iter_mut().find(|own| own.link == link) {
            Some(own) => own.produced(now, cells),
            None => lock(&self.manager).produced(now, link, cells, &mut self.out),
        }
    }

    fn handle(&mut self, now: Moment, news: NetNews<'_>) {
        match news {
            NetNews::Up => {}
            NetNews::Down => {
                lock(&self.manager).drop_all();
                self.originators.iter_mut().for_each(|own| own.down(now));
            }
            NetNews::Dialled(channel) => {
                if let Some(own) = self.originator(channel) {
                    own.dialled(now);
                }
            }
            NetNews::Closed(channel) => {
                if let Some(own) = self.originator(channel) {
                    own.closed(now);
                }
            }
            NetNews::Bytes(channel, bytes) => {
                if let Some(own) = self.originator(channel) {
                    own.bytes(now, bytes);
                }
            }
            NetNews::Datagram { socket: FRAMES, from, bytes } => {
                let Ok(frame) = CyclicFrame::parse(bytes) else { return };
                if !lock(&self.manager).take(now, *from.ip(), &frame) {
                    let _ = self.originators.iter_mut().any(|own| own.take(now, *from.ip(), &frame));
                }
            }
            NetNews::Datagram { from, bytes, .. } => self.list(from, bytes),
            NetNews::Interface(_) | NetNews::Frame(_) => {}
        }
    }

    fn poll(&mut self, now: Moment) -> NetAct {
        if let Some(act) = self.out.pop_front() {
            return act;
        }
        // What is due goes first, whatever came.
        let due = self.originators.iter().find(|own| own.is_due(now)).map(|own| own.link);
        if let Some(link) = due.or_else(|| lock(&self.manager).due(now)).filter(|_| !self.asked) {
            self.asked = true;
            return NetAct::Produce(link);
        }
        if let Some(act) = lock(&self.manager).poll(now) {
            return act;
        }
        if let Some(act) = self.originators.iter_mut().find_map(|own| own.poll(now)) {
            return act;
        }
        let moments = self.originators.iter().map(Originator::wakes_at);
        match moments.chain([lock(&self.manager).wakes_at()]).min() {
            None | Some(Moment::NEVER) => NetAct::Rest,
            Some(moment) => NetAct::WaitUntil(moment),
        }
    }
}
