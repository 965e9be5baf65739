//! A network in memory on a virtual clock: machines of network ports, and a switch between them that delays, loses, doubles
//! and turns datagrams round. Only for tests.

use crate::Moment;
use crate::dice::Dice;
use crate::net::{NetEnd, NetMachine, NetOut, NetSession, SessionOut};
use crate::speak::{
    Channel, LinkLoss, LinkNews, MakeNode, NetNews, NodeLink, NodeSetup, Produced, Server, Socket,
    StationNews,
};
use std::cmp::Reverse;
use std::collections::{BinaryHeap, HashMap};
use std::net::{Ipv4Addr, SocketAddrV4};
use std::sync::{Arc, Mutex, MutexGuard};

/// What an end was told, with when.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Told {
    Came(Vec<u8>),
    Still,
    Stopped(LinkLoss),
    News(LinkNews),
}

/// What a test puts into the frames of an end and sees of it.
#[derive(Debug, Default)]
pub(super) struct StationHeard {
    pub(super) sends: Vec<u8>,
    pub(super) lost: bool,
    /// Where `Still` is told too.
    pub(super) verbose: bool,
    pub(super) told: Vec<(Moment, Told)>,
    pub(super) stills: u64,
    pub(super) produced: u64,
    /// When something last came.
    pub(super) heard: Option<Moment>,
}

pub(super) type SharedHeard = Arc<Mutex<StationHeard>>;

struct TestEnd {
    /// By link.
    cells: Vec<SharedHeard>,
    now: Moment,
    renewed: Arc<Mutex<Option<NodeSetup>>>,
}

impl TestEnd {
    fn of(&self, link: usize) -> MutexGuard<'_, StationHeard> {
        self.cells[link].lock().unwrap()
    }
}

impl NetEnd for TestEnd {
    fn renewed(&mut self) -> Option<NodeSetup> {
        self.renewed.lock().unwrap().take()
    }

    fn produce(&mut self, now: Moment, link: usize, last: &mut Produced) {
        self.now = now;
        let mut cells = self.of(link);
        cells.produced += 1;
        last.slots = vec![cells.sends.clone()];
        last.lost = if cells.lost { vec![0] } else { vec![] };
    }

    fn came(&mut self, now: Moment, link: usize, _slot: usize, bytes: &[u8]) {
        let mut cells = self.of(link);
        cells.heard = Some(now);
        cells.told.push((now, Told::Came(bytes.to_vec())));
    }

    fn still(&mut self, now: Moment, link: usize) {
        let mut cells = self.of(link);
        cells.heard = Some(now);
        cells.stills += 1;
        if cells.verbose {
            cells.told.push((now, Told::Still));
        }
    }

    fn unsound(&mut self, _now: Moment, _link: usize, _slot: usize) {}

    fn station(&mut self, _link: usize, _news: StationNews) {}

    fn stopped(&mut self, now: Moment, link: usize, why: LinkLoss) {
        self.of(link).told.push((now, Told::Stopped(why)));
    }

    fn news(&mut self, link: usize, news: LinkNews) {
        let now = self.now;
        self.of(link).told.push((now, Told::News(news)));
    }

    fn skipped(&mut self, _link: usize, _frames: u64) {}

    fn sent(&mut self, _link: usize, _late: u64) {}

    fn session(&mut self, _peer: SocketAddrV4, server: Box<dyn Server>) -> Option<Box<dyn NetSession>> {
        Some(Box::new(Plain(server)))
    }
}

/// A session in which nothing is wanted but of the node itself.
struct Plain(Box<dyn Server>);

impl NetSession for Plain {
    fn handle(&mut self, now: Moment, news: crate::speak::News<'_>) {
        self.0.handle(now, news);
    }

    fn poll(&mut self, now: Moment) -> SessionOut {
        use crate::speak::Serve;
        loop {
            return match self.0.poll(now) {
                Serve::Send(bytes) => SessionOut::Send(bytes),
                Serve::HangUp(why) => SessionOut::HangUp(why),
                Serve::WaitUntil(moment) => SessionOut::WaitUntil(moment),
                Serve::Rest => SessionOut::Rest,
                Serve::Want { .. } => {
                    self.0.give(Ok(&[0; 12]));
                    continue;
                }
            };
        }
    }

    fn is_waiting(&self) -> bool {
        false
    }
}

struct Host {
    machine: NetMachine,
    address: Ipv4Addr,
    /// By number of who asks: the host and its channel.
    asking: HashMap<u32, (usize, Channel)>,
    /// By channel: the host, and the number that we have there.
    dialled: HashMap<Channel, (usize, u32)>,
    next: u32,
    waits: Moment,
    renewed: Arc<Mutex<Option<NodeSetup>>>,
}

/// A peer over TCP that is no host: it says what a test lets it say.
pub(super) struct Stranger {
    host: usize,
    number: u32,
}

#[derive(Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Parcel {
    Datagram { to: usize, port: u16, from: (Ipv4Addr, u16), bytes: Vec<u8> },
    Dialled { host: usize, channel: Channel },
    Closed { host: usize, channel: Channel },
    Answer { host: usize, channel: Channel, bytes: Vec<u8> },
    Asked { host: usize, number: u32, bytes: Vec<u8> },
    Left { host: usize, number: u32 },
}

/// The network.
pub(super) struct VirtualNet {
    hosts: Vec<Host>,
    pub(super) now: Moment,
    queue: BinaryHeap<Reverse<(Moment, u64, Parcel)>>,
    sequence: u64,
    dice: Dice,
    /// From one host to another, in microseconds.
    pub(super) latency: u64,
    /// Datagrams come up to so much later: they turn round.
    pub(super) jitter: u64,
    /// Shares of datagrams that get lost, and that come twice.
    pub(super) loss: f64,
    pub(super) doubled: f64,
    /// Nothing gets through.
    pub(super) cut: bool,
    /// All frames, if they are to be kept.
    pub(super) seen: Option<Vec<(Moment, usize, Vec<u8>)>>,
    /// What hosts have said over TCP to those whom they dialled, if it is to be kept.
    pub(super) said: Option<Vec<(Moment, usize, Vec<u8>)>>,
    /// What strangers were answered, by host and number; nothing any more where they were hung up on.
    answered: HashMap<(usize, u32), Option<Vec<u8>>>,
}

impl VirtualNet {
    pub(super) fn new(seed: u64) -> Self {
        Self {
            hosts: vec![],
            now: Moment(0),
            queue: BinaryHeap::new(),
            sequence: 0,
            dice: Dice::new(seed),
            latency: 100,
            jitter: 0,
            loss: 0.0,
            doubled: 0.0,
            cut: false,
            seen: None,
            said: None,
            answered: HashMap::new(),
        }
    }

    /// A host with one link.
    pub(super) fn host(
        &mut self,
        make: MakeNode,
        address: Ipv4Addr,
        link: NodeLink,
        first: u16,
    ) -> SharedHeard {
        self.host_of(make, address, vec![link], first).remove(0)
    }

    /// A host with several, and what each is told.
    pub(super) fn host_of(
        &mut self,
        make: MakeNode,
        address: Ipv4Addr,
        links: Vec<NodeLink>,
        first: u16,
    ) -> Vec<SharedHeard> {
        let cells: Vec<SharedHeard> = links.iter().map(|_| SharedHeard::default()).collect();
        let setup = NodeSetup { links, address: Some(address), first, ..NodeSetup::default() };
        let renewed = Arc::default();
        let end = TestEnd { cells: cells.clone(), now: Moment(0), renewed: Arc::clone(&renewed) };
        let machine = NetMachine::new(make(&setup), Box::new(end));
        self.hosts.push(Host {
            machine,
            address,
            asking: HashMap::new(),
            dialled: HashMap::new(),
            next: 0,
            waits: Moment(0),
            renewed,
        });
        cells
    }

    /// Gives a host other links, in the same places.
    pub(super) fn renew(&mut self, host: usize, links: Vec<NodeLink>) {
        let address = Some(self.hosts[host].address);
        let setup = NodeSetup { links, address, first: 7, ..NodeSetup::default() };
        *self.hosts[host].renewed.lock().unwrap() = Some(setup);
        self.hosts[host].waits = self.now;
    }

    /// A stranger connects.
    pub(super) fn knock(&mut self, to: Ipv4Addr, from: Ipv4Addr) -> Stranger {
        let host = self.find(to).unwrap();
        let own = &mut self.hosts[host];
        own.next += 1;
        let number = own.next;
        assert!(own.machine.connected(number, SocketAddrV4::new(from, 50_000), self.now));
        self.answered.insert((host, number), Some(vec![]));
        Stranger { host, number }
    }

    /// It says something; what it was answered at once.
    pub(super) fn say(&mut self, who: &Stranger, bytes: &[u8]) -> Vec<u8> {
        let now = self.now;
        self.hosts[who.host].machine.asked(who.number, now, bytes);
        self.poll(who.host);
        self.answered
            .get_mut(&(who.host, who.number))
            .unwrap()
            .as_mut()
            .map(std::mem::take)
            .unwrap_or_default()
    }

    /// Whether it was hung up on.
    pub(super) fn is_gone(&self, who: &Stranger) -> bool {
        self.answered[&(who.host, who.number)].is_none()
    }

    /// It leaves.
    pub(super) fn leave(&mut self, who: &Stranger) {
        let now = self.now;
        self.hosts[who.host].machine.left(who.number, now);
        self.poll(who.host);
    }

    pub(super) fn shut(&mut self, host: usize) {
        let now = self.now;
        self.hosts[host].machine.node().shut(now);
        self.hosts[host].waits = now;
    }

    fn find(&self, address: Ipv4Addr) -> Option<usize> {
        self.hosts.iter().position(|host| host.address == address)
    }

    fn post(&mut self, at: Moment, parcel: Parcel) {
        self.sequence += 1;
        self.queue.push(Reverse((at, self.sequence, parcel)));
    }

    /// Puts a datagram on the wire that no host has sent.
    pub(super) fn inject(&mut self, to: Ipv4Addr, port: u16, from: SocketAddrV4, bytes: &[u8]) {
        let Some(to) = self.find(to) else { return };
        let at = self.now;
        self.post(at, Parcel::Datagram { to, port, from: (*from.ip(), from.port()), bytes: bytes.to_vec() });
    }

    /// Lets so much time pass, in microseconds.
    pub(super) fn run(&mut self, micros: u64) {
        let until = self.now + micros;
        loop {
            for host in 0..self.hosts.len() {
                if self.hosts[host].waits <= self.now {
                    self.poll(host);
                }
            }
            let next = self.hosts.iter().map(|host| host.waits).min().unwrap_or(Moment::NEVER);
            let posted = self.queue.peek().map_or(Moment::NEVER, |Reverse((at, ..))| *at);
            let at = next.min(posted);
            if at > until {
                self.now = until;
                return;
            }
            self.now = at.max(self.now);
            while self.queue.peek().is_some_and(|Reverse((at, ..))| *at <= self.now) {
                let Some(Reverse((.., parcel))) = self.queue.pop() else { break };
                self.deliver(parcel);
            }
        }
    }

    fn deliver(&mut self, parcel: Parcel) {
        let now = self.now;
        let host = match parcel {
            Parcel::Datagram { to, port, from, bytes } => {
                let place = self.hosts[to].machine.sockets();
                let place = place.iter().position(|socket| *socket == Socket::Datagrams(port));
                if let Some(socket) = place {
                    let from = SocketAddrV4::new(from.0, from.1);
                    let news = NetNews::Datagram { socket, from, bytes: &bytes };
                    self.hosts[to].machine.handle(now, news);
                }
                to
            }
            Parcel::Dialled { host, channel } => {
                self.hosts[host].machine.handle(now, NetNews::Dialled(channel));
                host
            }
            Parcel::Closed { host, channel } => {
                self.hosts[host].dialled.remove(&channel);
                self.hosts[host].machine.handle(now, NetNews::Closed(channel));
                host
            }
            Parcel::Answer { host, channel, bytes } => {
                self.hosts[host].machine.handle(now, NetNews::Bytes(channel, &bytes));
                host
            }
            Parcel::Asked { host, number, bytes } => {
                self.hosts[host].machine.asked(number, now, &bytes);
                host
            }
            Parcel::Left { host, number } => {
                self.hosts[host].asking.remove(&number);
                self.hosts[host].machine.left(number, now);
                host
            }
        };
        self.poll(host);
    }

    fn poll(&mut self, host: usize) {
        loop {
            let now = self.now;
            match self.hosts[host].machine.poll(now) {
                NetOut::WaitUntil(moment) => {
                    self.hosts[host].waits = moment;
                    return;
                }
                NetOut::Rest => {
                    self.hosts[host].waits = Moment::NEVER;
                    return;
                }
                NetOut::Frame { .. } => panic!("there is no interface here"),
                NetOut::Dial(channel, to) => self.dial(host, channel, to),
                NetOut::Send(channel, bytes) => {
                    if let Some(said) = &mut self.said {
                        said.push((now, host, bytes.clone()));
                    }
                    if let Some((other, number)) = self.hosts[host].dialled.get(&channel).copied() {
                        self.stream(Parcel::Asked { host: other, number, bytes });
                    }
                }
                NetOut::Answer(number, bytes) => {
                    if let Some((other, channel)) = self.hosts[host].asking.get(&number).copied() {
                        self.stream(Parcel::Answer { host: other, channel, bytes });
                    } else if let Some(Some(own)) = self.answered.get_mut(&(host, number)) {
                        own.extend_from_slice(&bytes);
                    }
                }
                NetOut::Close(channel) => {
                    if let Some((other, number)) = self.hosts[host].dialled.remove(&channel) {
                        self.stream(Parcel::Left { host: other, number });
                    }
                }
                NetOut::HangUp(number, _) => {
                    if let Some((other, channel)) = self.hosts[host].asking.remove(&number) {
                        self.stream(Parcel::Closed { host: other, channel });
                    } else if let Some(own) = self.answered.get_mut(&(host, number)) {
                        *own = None;
                    }
                }
                NetOut::Datagram { socket, to, bytes, .. } => self.send(host, socket, to, &bytes),
            }
        }
    }

    fn dial(&mut self, host: usize, channel: Channel, to: SocketAddrV4) {
        let now = self.now;
        let from = self.hosts[host].address;
        let other = self.find(*to.ip()).filter(|_| !self.cut);
        let Some(other) = other else {
            let at = now + self.latency;
            return self.post(at, Parcel::Closed { host, channel });
        };
        let peer = &mut self.hosts[other];
        peer.next += 1;
        let number = peer.next;
        if peer.machine.connected(number, SocketAddrV4::new(from, 40_000), now) {
            peer.asking.insert(number, (host, channel));
            self.hosts[host].dialled.insert(channel, (other, number));
            let at = now + 2 * self.latency;
            self.post(at, Parcel::Dialled { host, channel });
        }
    }

    /// Bytes of a stream come in order, if they come.
    fn stream(&mut self, parcel: Parcel) {
        if !self.cut {
            let at = self.now + self.latency;
            self.post(at, parcel);
        }
    }

    fn send(&mut self, host: usize, socket: usize, to: SocketAddrV4, bytes: &[u8]) {
        let now = self.now;
        if let Some(seen) = &mut self.seen {
            seen.push((now, host, bytes.to_vec()));
        }
        let Some(other) = self.find(*to.ip()).filter(|_| !self.cut) else { return };
        let Some(Socket::Datagrams(own)) = self.hosts[host].machine.sockets().get(socket).copied() else {
            return;
        };
        let from = (self.hosts[host].address, own);
        if self.loss > 0.0 && self.dice.share() < self.loss {
            return;
        }
        let twice = self.doubled > 0.0 && self.dice.share() < self.doubled;
        for _ in 0..=u8::from(twice) {
            let more = if self.jitter > 0 { self.dice.roll() % self.jitter } else { 0 };
            let at = now + self.latency + more;
            self.post(at, Parcel::Datagram { to: other, port: to.port(), from, bytes: bytes.to_vec() });
        }
    }
}
