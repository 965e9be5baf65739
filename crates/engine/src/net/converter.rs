//! What lies behind a network port of a converter: its boards, its health, and the sessions of those who ask there.

use super::doorkeeper::Doorkeeper;
use super::driver::{ReadyNet, idle_worker};
use super::place::Place;
use super::sockets::Sockets;
use super::{NetEnd, NetMachine, NetSession, SessionOut};
use crate::Moment;
use crate::admission::{Admission, Aliases, Seat, admit, claimed, may_connect};
use crate::hex::mac_shown;
use crate::hub::{Chunk, DatagramPeer};
use crate::moment::Clock;
use crate::port::tty::OpenFault;
use crate::port::worker::Bell;
use crate::session::{ClientIdentity, Session, SessionAct};
use crate::shared::{ClientId, Event, Inbox, Shared, Site};
use crate::speak::{
    LinkFaults, LinkLoss, LinkNews, News, NodeLink, NodeSetup, Produced, Server, Side, StationNews,
    ToldStations, another, speaker,
};
use std::net::{IpAddr, Ipv4Addr, SocketAddr, SocketAddrV4};
use std::sync::atomic::Ordering::Relaxed;
use std::sync::{Arc, PoisonError};
use woodrush_core::project::Owner;

/// Where addresses of a network port really are, when that is not where the project says: the bench.
#[derive(Debug, Clone, Default)]
pub(crate) struct Elsewhere {
    /// Our own address.
    pub(crate) own: Option<Ipv4Addr>,
    /// Addresses of stations, by those of the project.
    pub(crate) stations: Vec<(Ipv4Addr, Ipv4Addr)>,
    /// The switch that stands for the interface.
    pub(crate) switch: Option<String>,
    /// What others have told stations.
    pub(crate) kept: ToldStations,
}

/// The address that the project knows for one of this machine: of who asks here, or of a station.
fn shown(aliases: Option<&Aliases>, elsewhere: &Elsewhere, real: SocketAddr) -> Option<Ipv4Addr> {
    claimed(aliases, real).or_else(|| {
        let station = elsewhere.stations.iter().find(|(_, station)| IpAddr::V4(*station) == real.ip());
        station.map(|(own, _)| *own)
    })
}

/// Where a port of a network is to be, and what of it is there already.
pub(crate) struct NetPlace<'a> {
    /// As the project says it.
    pub(crate) at: Place,
    /// Where that really is.
    pub(crate) elsewhere: Elsewhere,
    /// Addresses that stand for others.
    pub(crate) aliases: Option<Aliases>,
    /// Sockets of a port whose place it takes.
    pub(crate) spare: Option<&'a Sockets>,
    /// An address that is not there yet is waited for.
    pub(crate) may_wait: bool,
}

/// Opens all sockets of a port of a project, which runs or will, and finds a thread for it.
///
/// # Errors
/// A socket cannot be opened, in words.
pub(crate) fn prepare(
    site: &Arc<Site>,
    shared: &Arc<Shared>,
    port: usize,
    place: NetPlace<'_>,
    clock: Clock,
) -> Result<(ReadyNet, Option<String>), OpenFault> {
    let NetPlace { at, elsewhere, aliases, spare, may_wait } = place;
    let name = shared.ports.get(port).map(|port| port.name.clone()).unwrap_or_default();
    let at = match at {
        Place::Address(own) => Place::Address(elsewhere.own.unwrap_or(own)),
        Place::Interface(own) => elsewhere.switch.clone().map_or(Place::Interface(own), Place::Switch),
        at @ Place::Switch(_) => at,
    };
    let worker = idle_worker()?;
    let protocol = shared.ports.get(port).map_or("", |port| port.protocol);
    let make = speaker(protocol).and_then(|speaker| speaker.node);
    let make = make.ok_or_else(|| {
        OpenFault::new(format!("`{protocol}` exchanges nothing in cycles"), "write another protocol")
    })?;
    let runs = Arc::ptr_eq(&site.current(), shared);
    let end = Behind {
        generation: site.generation() + u64::from(!runs),
        links: links_of(shared, port),
        site: Arc::clone(site),
        shared: Arc::clone(shared),
        name: name.clone(),
        at: at.address(),
        port,
        elsewhere,
        aliases: aliases.clone(),
        bell: worker.bell(),
        first: another(),
        renew: false,
    };
    let node = make(&end.setup());
    let (open, missing) = match at.open(node.sockets(), spare) {
        Ok(open) => (Some(open), None),
        Err(fault) if may_wait && fault.missing => (None, Some(at.missing())),
        Err(fault) => return Err(fault),
    };
    let door = NetDoor { site: Arc::clone(site), name, aliases, elsewhere: end.elsewhere.clone() };
    let machine = NetMachine::new(node, Box::new(end));
    Ok((ReadyNet::new(worker, at, machine, Box::new(door), open, clock)?, missing))
}

/// The links of a port, by their numbers in the plan.
fn links_of(shared: &Shared, port: usize) -> Vec<usize> {
    let links = shared.plan.links.iter().enumerate().filter(|(_, link)| link.port == port);
    links.map(|(at, _)| at).collect()
}

/// A converter's cells behind a node.
struct Behind {
    site: Arc<Site>,
    generation: u64,
    shared: Arc<Shared>,
    port: usize,
    name: String,
    at: Option<Ipv4Addr>,
    /// By the node's number of it: the plan's.
    links: Vec<usize>,
    elsewhere: Elsewhere,
    aliases: Option<Aliases>,
    bell: Bell,
    first: u16,
    /// The node does not have the settings of the project that is followed yet.
    renew: bool,
}

impl Behind {
    fn setup(&self) -> NodeSetup {
        let plan = &self.shared.plan;
        let link = |at: &usize| {
            let link = plan.links.get(*at)?;
            let station = plan.station(link.with)?;
            let address = station.network_address();
            let real = self.elsewhere.stations.iter().find(|(own, _)| Some(*own) == address);
            let writers = match link.with {
                Owner::Image(image) => self.shared.writers_of(image),
                _ => None,
            };
            Some(NodeLink {
                name: station.name.clone(),
                setup: station.setup.clone(),
                opens: real.map(|(_, real)| *real).or(address),
                // On the bench addresses stand for others, and are judged where they are known.
                writers: writers.filter(|_| self.aliases.is_none()),
                fault: LinkFaults::default(),
            })
        };
        NodeSetup {
            links: self.links.iter().filter_map(link).collect(),
            port: self.shared.ports.get(self.port).map(|port| port.setup.clone()).unwrap_or_default(),
            address: self.at.filter(|at| !at.is_unspecified()),
            first: self.first,
            kept: self.kept(),
        }
    }

    /// What the station has been told since it was shipped: it has one, where anything can be told to it.
    fn kept(&self) -> Vec<(String, String)> {
        let plan = &self.shared.plan;
        let stations = self.links.iter().filter_map(|at| plan.station(plan.links.get(*at)?.with));
        let all = self.elsewhere.kept.lock().unwrap_or_else(PoisonError::into_inner);
        let kept = stations.filter_map(|station| all.get(&station.name));
        kept.flatten().map(|(key, value)| (key.clone(), value.clone())).collect()
    }

    fn link(&self, node: usize) -> usize {
        self.links.get(node).copied().unwrap_or(usize::MAX)
    }
}

impl Behind {
    /// Takes the project that runs now, if that has changed. In a step. The links keep the node's numbers until that has
    /// its new settings, also those that are there no more.
    fn follow(&mut self) {
        let generation = self.site.generation();
        if generation == self.generation {
            return;
        }
        let shared = self.site.current();
        self.generation = generation;
        // A port that is gone has its thread ended by the reload.
        let port = shared.ports.iter().position(|port| port.name == self.name).unwrap_or(usize::MAX);
        let there = links_of(&shared, port);
        let name = |shared: &Shared, link: usize| -> Option<String> {
            Some(shared.plan.station(shared.plan.links.get(link)?.with)?.name.clone())
        };
        let same = |link: &usize| {
            let own = name(&self.shared, *link)?;
            there.iter().copied().find(|other| name(&shared, *other).as_ref() == Some(&own))
        };
        self.links = self.links.iter().map(|link| same(link).unwrap_or(usize::MAX)).collect();
        (self.shared, self.port, self.renew) = (shared, port, true);
    }

    /// Does something with the project that runs now, while nobody changes it.
    fn in_step<T>(&mut self, act: impl FnOnce(&Self) -> T) -> T {
        let site = Arc::clone(&self.site);
        let _step = site.step();
        self.follow();
        act(self)
    }
}

impl NetEnd for Behind {
    fn renewed(&mut self) -> Option<NodeSetup> {
        if !self.renew && self.generation == self.site.generation() {
            return None;
        }
        self.in_step(|_| ());
        self.renew = false;
        self.links = links_of(&self.shared, self.port);
        Some(self.setup()).filter(|_| self.port != usize::MAX)
    }

    fn produce(&mut self, now: Moment, link: usize, last: &mut Produced) {
        self.in_step(|own| own.shared.produce(own.link(link), now, last));
    }

    fn came(&mut self, now: Moment, link: usize, slot: usize, cells: &[u8]) {
        self.in_step(|own| own.shared.land_frame(own.link(link), slot, now, cells));
    }

    fn still(&mut self, now: Moment, link: usize) {
        self.in_step(|own| own.shared.still(own.link(link), now));
    }

    fn unsound(&mut self, _now: Moment, link: usize, slot: usize) {
        self.in_step(|own| own.shared.spoil_slot(own.link(link), slot));
    }

    fn station(&mut self, link: usize, news: StationNews) {
        self.in_step(|own| {
            let plan = &own.shared.plan;
            let station = plan.links.get(own.link(link)).and_then(|own| plan.station(own.with));
            if let (StationNews::Now { key, value, .. }, Some(station)) = (&news, station) {
                // A reload is no restart: it stays as it is.
                let mut all = own.elsewhere.kept.lock().unwrap_or_else(PoisonError::into_inner);
                all.entry(station.name.clone()).or_default().insert((*key).to_string(), value.clone());
            }
            own.shared.station_news(own.link(link), news);
        });
    }

    fn stopped(&mut self, _now: Moment, link: usize, why: LinkLoss) {
        self.in_step(|own| own.shared.stop_link(own.link(link), &why));
    }

    fn news(&mut self, link: usize, mut news: LinkNews) {
        let peer = news.peer_mut();
        let real = SocketAddr::new(IpAddr::V4(*peer), 0);
        *peer = shown(self.aliases.as_ref(), &self.elsewhere, real).unwrap_or(*peer);
        self.in_step(|own| own.shared.link_news(own.link(link), news));
    }

    fn skipped(&mut self, link: usize, frames: u64) {
        if let Some(link) = self.shared.health.links.get(self.link(link)) {
            link.skipped(frames);
        }
    }

    fn sent(&mut self, link: usize, late: u64) {
        if let Some(link) = self.shared.health.links.get(self.link(link)) {
            link.sent(late);
        }
    }

    fn session(&mut self, peer: SocketAddrV4, server: Box<dyn Server>) -> Option<Box<dyn NetSession>> {
        let who = SocketAddr::V4(peer);
        let client = ClientIdentity {
            id: ClientId(u64::from(u32::from(*peer.ip()))),
            who: who.to_string(),
            address: claimed(self.aliases.as_ref(), who),
        };
        let session = Session::over(Arc::clone(&self.site), self.port, client, server)?;
        if let Some(tally) = self.shared.health.ports.get(self.port) {
            tally.clients.fetch_add(1, Relaxed);
        }
        Some(Box::new(MessageSession {
            session,
            inbox: Inbox::default(),
            bell: self.bell.clone(),
            shared: Arc::clone(&self.shared),
            port: self.port,
        }))
    }
}

/// One who asks an image by messages.
struct MessageSession {
    session: Session,
    inbox: Inbox,
    bell: Bell,
    shared: Arc<Shared>,
    port: usize,
}

impl Drop for MessageSession {
    fn drop(&mut self) {
        if let Some(tally) = self.shared.health.ports.get(self.port) {
            tally.clients.fetch_sub(1, Relaxed);
        }
    }
}

impl NetSession for MessageSession {
    fn handle(&mut self, now: Moment, news: News<'_>) {
        self.session.handle(now, news);
    }

    fn is_waiting(&self) -> bool {
        self.session.is_waiting()
    }

    fn poll(&mut self, now: Moment) -> SessionOut {
        loop {
            while let Some((ticket, outcome)) = self.inbox.take() {
                self.session.ended(now, ticket, outcome);
            }
            match self.session.poll(now) {
                SessionAct::Send(bytes) => return SessionOut::Send(bytes),
                SessionAct::HangUp(why) => return SessionOut::HangUp(why),
                SessionAct::WaitUntil(moment) => return SessionOut::WaitUntil(moment),
                SessionAct::Rest => return SessionOut::Rest,
                SessionAct::Hand(ticket) => {
                    let bell = self.bell.clone();
                    self.session.submit(self.inbox.reply(ticket, move || bell.ring()));
                }
            }
        }
    }
}

/// Who may connect to a converter.
struct NetDoor {
    site: Arc<Site>,
    name: String,
    aliases: Option<Aliases>,
    elsewhere: Elsewhere,
}

impl NetDoor {
    fn port(&self) -> Option<(usize, Arc<Shared>)> {
        let shared = self.site.current();
        let port = shared.ports.iter().position(|port| port.name == self.name)?;
        Some((port, shared))
    }

    /// What passed at once, with whom. Who asks is told by what is said: both ends ask here.
    fn chunk(&self, now: Moment, who: String, came: bool, bytes: &[u8]) -> Chunk {
        Chunk {
            port: self.name.as_str().into(),
            who: Some(who.into()),
            side: if came { Side::Asks } else { Side::Answers },
            began: now,
            ended: now,
            bytes: bytes.to_vec(),
        }
    }
}

impl Doorkeeper for NetDoor {
    fn lets_in(&self, peer: SocketAddr) -> bool {
        let Some((port, shared)) = self.port() else { return false };
        let allow = shared.ports.get(port).and_then(|port| port.allow.as_deref());
        may_connect(allow, self.aliases.as_ref(), peer)
    }

    fn admits(
        &mut self,
        seats: &[(SocketAddr, Moment)],
        who: SocketAddr,
        now: Moment,
    ) -> Result<Option<usize>, ()> {
        let Some((port, shared)) = self.port() else { return Err(()) };
        // Where no image is there is nothing to ask.
        let Some(settings) = shared.answers.get(port).and_then(Option::as_ref) else { return Err(()) };
        let seat = |(who, heard): &(SocketAddr, Moment)| Seat { address: who.ip(), heard: *heard };
        let seats: Vec<Seat> = seats.iter().map(seat).collect();
        match admit(settings, &seats, who.ip(), now) {
            Admission::Room => Ok(None),
            Admission::InsteadOf(at, why) => {
                self.tells(who, format!("takes the place of another client: {why}"));
                Ok(Some(at))
            }
            Admission::TurnedAway(why) => {
                if let Some(tally) = shared.health.ports.get(port) {
                    tally.turned_away.fetch_add(1, Relaxed);
                }
                self.tells(who, format!("turned away: {why}"));
                Err(())
            }
        }
    }

    fn tells(&mut self, who: SocketAddr, why: String) {
        if let Some((port, shared)) = self.port() {
            shared.tell(Event::Client { port, who: who.to_string(), why });
        }
    }

    fn accepts(&mut self, trouble: Option<String>) {
        if let Some((port, shared)) = self.port() {
            shared.tell(Event::Accepting { port, trouble });
        }
    }

    fn idle_timeout(&self) -> u64 {
        let found =
            self.port().and_then(|(port, shared)| Some(shared.answers.get(port)?.as_ref()?.idle_timeout));
        found.unwrap_or(u64::MAX)
    }

    fn is_open(&mut self, open: Result<String, String>) {
        let Some((port, shared)) = self.port() else { return };
        if let Some(tally) = shared.health.ports.get(port) {
            tally.up.store(open.is_ok(), Relaxed);
        }
        shared.tell(match open {
            Ok(what) => Event::PortUp { port, what },
            Err(why) => Event::PortDown { port, why },
        });
    }

    fn passed_frame(&mut self, now: Moment, came: bool, bytes: &[u8]) {
        let shared = self.site.current();
        // Who is at the other end stands in the frame: the sender of what comes, else the receiver.
        let Some(other) = bytes.get(if came { 6..12 } else { 0..6 }).filter(|_| shared.tap.is_on()) else {
            return;
        };
        let who = || other.first_chunk().map_or_else(String::new, |mac| mac_shown(*mac));
        shared.tap.passed(&self.name, now, || self.chunk(now, who(), came, bytes));
    }

    fn passed(&mut self, now: Moment, who: SocketAddr, came: bool, datagram: Option<u16>, bytes: &[u8]) {
        let shared = self.site.current();
        if !shared.tap.is_on() {
            return;
        }
        let shown = shown(self.aliases.as_ref(), &self.elsewhere, who);
        let shown = shown.map_or(who, |own| SocketAddr::new(IpAddr::V4(own), who.port()));
        let who = || match (datagram, shown) {
            (Some(local), SocketAddr::V4(address)) => DatagramPeer { local, address }.to_string(),
            _ => shown.to_string(),
        };
        shared.tap.passed(&self.name, now, || self.chunk(now, who(), came, bytes));
    }
}
