//! A client of the controllers behind one address: it registers a session, opens a connection to each where that is wanted,
//! and has one message under way at a time. Every answer has the number of its request, so that a late one is told apart.

use super::MESSAGE_MAX;
use super::assembly_job::AssemblyAsk;
use super::job::{Outcome, Services, Terms, WantedPart};
use super::link::Peer;
use super::table_job::{command, command_replied, table_station};
use crate::Moment;
use crate::speak::tables::{Replied, TableAsk};
use crate::speak::{Act, Ask, Client, ClientSetup, Delivered, News, Ticket};
use woodrush_core::plan::Station;
use woodrush_core::protocol::Extent;
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::enip::cip::Reply;
use woodrush_wire::enip::cpf::{Connected, Unconnected};
use woodrush_wire::enip::encap::{
    self, Header, Message, Registration, command as encapsulated, status_words,
};

/// So many ways behind one address are remembered: more than slots that a rack has.
const PEERS_MAX: usize = 64;

pub(super) struct TagClient {
    stations: Vec<Station>,
    /// Everyone behind the address that was ever asked, by the way there: a person's question goes over the same
    /// connection as the polls.
    peers: Vec<Peer>,
    /// By station, its place among them.
    peer_of: Vec<usize>,
    timeout: u64,
    session: SessionState,
    came: Vec<u8>,
    job: Option<TagJob>,
    under_way: Option<UnderWay>,
    /// Counts messages: the sender context of those without a connection.
    number: u64,
    /// Counts connections.
    serial: u16,
    /// Counts commands for data tables.
    tns: u16,
    done: Option<(Ticket, Result<Delivered, Refusal>)>,
    hang_up: Option<String>,
}

enum SessionState {
    /// There is no TCP connection.
    Down,
    /// There is one, and nothing was said on it.
    Fresh,
    /// We asked for a session; given up at that moment.
    Registering(Moment),
    /// Its handle.
    Open(u32),
}

struct TagJob {
    ticket: Ticket,
    peer: usize,
    what: TagWork,
}

/// What a question is made of.
enum TagWork {
    /// Services on tags; whether they bring cells.
    Services(Services, bool),
    /// Commands for a data table, and the number of the one that was sent last.
    Table(TableAsk, u16),
    /// All of an assembly, read and perhaps set.
    Assembly(AssemblyAsk),
    /// A whole request, whose reply comes back whole; `None` once it was sent.
    Whole(Option<Vec<u8>>),
    /// Something that this protocol has no message for.
    Nothing,
}

impl TagWork {
    fn services(&mut self) -> Option<&mut Services> {
        if let Self::Services(services, _) = self { Some(services) } else { None }
    }
}

/// A message that was sent, and whose answer is waited for.
struct UnderWay {
    peer: usize,
    purpose: Purpose,
    by: By,
    give_up: Moment,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Purpose {
    /// Opens a connection under that id of ours.
    Opens(u32),
    Closes,
    /// What was asked for.
    Serves,
}

/// How its answer is known.
enum By {
    Context([u8; 8]),
    /// Our id of the connection, and the sequence count.
    Connection(u32, u16),
}

impl TagClient {
    pub(super) fn new(setup: &ClientSetup<'_>) -> Self {
        let mut client = Self {
            stations: vec![],
            peers: vec![],
            peer_of: vec![],
            timeout: 0,
            session: SessionState::Fresh,
            came: vec![],
            job: None,
            under_way: None,
            number: setup.first.into(),
            serial: setup.first,
            tns: setup.first,
            done: None,
            hang_up: None,
        };
        client.set_up(setup);
        client
    }

    fn timeout_ms(&self) -> u32 {
        u32::try_from(self.timeout / 1000).unwrap_or(u32::MAX)
    }

    fn end(&mut self, result: Result<Delivered, Refusal>) {
        if let Some(job) = self.job.take() {
            self.done = Some((job.ticket, result));
        }
    }

    fn fail(&mut self, kind: Kind, blame: Blame) {
        self.end(Err(Refusal::new(kind, blame)));
    }

    /// Nothing of the session is left.
    fn forget(&mut self) {
        self.came.clear();
        self.under_way = None;
        for peer in &mut self.peers {
            peer.forget();
            peer.forget_types();
        }
    }

    /// The TCP connection is of no use any more.
    fn give_up(&mut self, kind: Kind, why: String) {
        self.fail(kind, Blame::Device);
        self.forget();
        (self.session, self.hang_up) = (SessionState::Down, Some(why));
    }

    fn look(&mut self, now: Moment) {
        while self.hang_up.is_none() {
            let came = std::mem::take(&mut self.came);
            let used = match encap::parse(&came, MESSAGE_MAX) {
                Ok(None) => {
                    self.came = came;
                    return;
                }
                Err(error) => return self.give_up(Kind::Damaged, error.to_string()),
                Ok(Some((message, used))) => {
                    self.take(&message, now);
                    used
                }
            };
            if self.hang_up.is_none() {
                self.came = came.get(used..).unwrap_or_default().to_vec();
            }
        }
    }

    fn take(&mut self, message: &Message<'_>, now: Moment) {
        let Header { command, session, status, context, .. } = message.header;
        match (command, &self.session) {
            (encapsulated::REGISTER_SESSION, SessionState::Registering(_)) => {
                let good = status == 0 && session != 0 && Registration::parse(message.data).is_ok();
                if good {
                    self.session = SessionState::Open(session);
                } else {
                    let why = format!("no session is opened: {} (0x{status:04X})", status_words(status));
                    self.give_up(Kind::NoPath, why);
                }
            }
            (encapsulated::SEND_RR_DATA, SessionState::Open(own)) => {
                let known = self
                    .under_way
                    .as_ref()
                    .is_some_and(|way| matches!(way.by, By::Context(sent) if sent == context));
                // Too late: its question was given up.
                if !known {
                    return;
                }
                if status != 0 {
                    let why = format!("the session is refused: {} (0x{status:04X})", status_words(status));
                    return self.give_up(Kind::Fault, why);
                }
                if session != *own {
                    return self.give_up(Kind::Mismatch, "an answer came of another session".into());
                }
                match Unconnected::parse(message.data) {
                    Ok(data) => self.answered(data.message, now),
                    Err(error) => self.give_up(Kind::Damaged, error.to_string()),
                }
            }
            (encapsulated::SEND_UNIT_DATA, SessionState::Open(_)) if status == 0 => {
                match Connected::parse(message.data) {
                    Ok(data) => {
                        let own = |way: &UnderWay| matches!(way.by, By::Connection(id, sequence) if (id, sequence) == (data.connection, data.sequence));
                        if self.under_way.as_ref().is_some_and(own) {
                            self.answered(data.message, now);
                        }
                    }
                    Err(error) => self.give_up(Kind::Damaged, error.to_string()),
                }
            }
            (encapsulated::SEND_UNIT_DATA, SessionState::Open(_)) => {
                let why = format!("the session is refused: {} (0x{status:04X})", status_words(status));
                self.give_up(Kind::Fault, why);
            }
            // Nothing to do with us.
            (encapsulated::NOP, _) => {}
            _ => self.give_up(Kind::Mismatch, format!("command 0x{command:04X} is out of place here")),
        }
    }

    fn answered(&mut self, message: &[u8], now: Moment) {
        let Some(way) = self.under_way.take() else { return };
        let Some(peer) = self.peers.get_mut(way.peer) else { return };
        match way.purpose {
            Purpose::Closes => {}
            Purpose::Opens(own) => {
                let opened = match Reply::parse(message) {
                    Ok(reply) => peer.opened(&reply, own, now),
                    Err(_) => Err(Refusal::new(Kind::Mismatch, Blame::Device)),
                };
                if let Err(refusal) = opened {
                    self.end(Err(refusal));
                }
            }
            Purpose::Serves => {
                let Some(job) = &mut self.job else { return };
                match &mut job.what {
                    TagWork::Whole(_) => return self.end(Ok(message.to_vec().into())),
                    TagWork::Table(ask, tns) => {
                        return match command_replied(ask, *tns, message) {
                            Replied::More => {}
                            Replied::Ended(result) => self.end(result.map(Delivered::from)),
                            Replied::Unfitting => self.fail(Kind::Mismatch, Blame::Device),
                        };
                    }
                    TagWork::Assembly(ask) => {
                        return match ask.replied(message) {
                            Replied::More => {}
                            Replied::Ended(result) => self.end(result.map(Delivered::from)),
                            Replied::Unfitting => self.fail(Kind::Mismatch, Blame::Device),
                        };
                    }
                    TagWork::Services(..) | TagWork::Nothing => {}
                }
                let Some(services) = job.what.services() else { return };
                match services.answered(message) {
                    Err(refusal) => self.end(Err(refusal)),
                    Ok(Outcome::OneByOne) => peer.one_by_one = true,
                    Ok(Outcome::Taken) => {
                        services.found().for_each(|(space, found)| peer.learn(space, found));
                    }
                }
            }
        }
    }

    /// What is sent next, if anything.
    fn next(&mut self, now: Moment, session: u32) -> Option<Vec<u8>> {
        let timeout_ms = self.timeout_ms();
        let job = self.job.as_mut()?;
        let at = job.peer;
        let peer = self.peers.get_mut(at)?;
        if peer.closes_at().is_some_and(|moment| moment <= now) {
            // Unused for so long that the controller may close it: it is opened again.
            let message = peer.closing(timeout_ms)?;
            return Some(self.unconnected(now, session, at, Purpose::Closes, &message));
        }
        let Some(way) = peer.way() else {
            self.serial = self.serial.wrapping_add(1);
            let own = u32::from(self.serial) << 16 | 0x5752;
            let message = peer.opening(self.serial, own, timeout_ms)?;
            return Some(self.unconnected(now, session, at, Purpose::Opens(own), &message));
        };
        let message = match &mut job.what {
            TagWork::Nothing => return None,
            TagWork::Whole(request) => request.take()?,
            TagWork::Assembly(ask) => ask.message(),
            TagWork::Table(ask, tns) => {
                *tns = tns.wrapping_add(1);
                command(ask, *tns)?
            }
            TagWork::Services(services, _) => {
                services.message(Terms { most: way.most as usize, one_by_one: peer.one_by_one })?
            }
        };
        let Some(open) = peer.open() else {
            let message = peer.routed(&message, timeout_ms);
            return Some(self.unconnected(now, session, at, Purpose::Serves, &message));
        };
        open.sequence = open.sequence.wrapping_add(1);
        open.used = now;
        let (to_target, own, sequence) = (open.to_target, open.own, open.sequence);
        let mut out = vec![];
        let header = Header { command: encapsulated::SEND_UNIT_DATA, session, ..Header::default() };
        header.emit_with(&mut out, |out| {
            Connected::emit_with(out, to_target, sequence, |out| out.extend_from_slice(&message));
        });
        let by = By::Connection(own, sequence);
        self.under_way =
            Some(UnderWay { peer: at, purpose: Purpose::Serves, by, give_up: now + self.timeout });
        Some(out)
    }

    fn unconnected(
        &mut self,
        now: Moment,
        session: u32,
        at: usize,
        purpose: Purpose,
        message: &[u8],
    ) -> Vec<u8> {
        self.number = self.number.wrapping_add(1);
        let context = self.number.to_le_bytes();
        let mut out = vec![];
        let header = Header { command: encapsulated::SEND_RR_DATA, session, context, ..Header::default() };
        header.emit_with(&mut out, |out| {
            Unconnected::emit_with(out, |out| out.extend_from_slice(message));
        });
        let by = By::Context(context);
        self.under_way = Some(UnderWay { peer: at, purpose, by, give_up: now + self.timeout });
        out
    }

    /// The message under way was not answered in time.
    fn timed_out(&mut self) {
        let Some(way) = self.under_way.take() else { return };
        if let Some(peer) = self.peers.get_mut(way.peer) {
            // A controller that gave the connection up says nothing to it any more.
            peer.forget();
        }
        if way.purpose != Purpose::Closes {
            self.fail(Kind::NoAnswer, Blame::Device);
        }
    }

    /// A job of which nothing is left is at its end.
    fn ended(&mut self) -> bool {
        let over = |job: &TagJob| match &job.what {
            TagWork::Services(services, _) => services.todo.is_empty(),
            TagWork::Whole(_) | TagWork::Table(..) | TagWork::Assembly(_) => false,
            TagWork::Nothing => true,
        };
        if self.under_way.is_some() || !self.job.as_ref().is_some_and(over) {
            return false;
        }
        let Some(TagJob { ticket, what, .. }) = self.job.take() else { return false };
        let result = match what {
            TagWork::Services(services, reads) => services.end(reads),
            TagWork::Whole(_) | TagWork::Table(..) | TagWork::Assembly(_) | TagWork::Nothing => {
                Err(Refusal::new(Kind::NoSuchCommand, Blame::File))
            }
        };
        self.done = Some((ticket, result));
        true
    }
}

impl Client for TagClient {
    fn is_free(&self) -> bool {
        self.job.is_none() && self.done.is_none()
    }

    fn ask(&mut self, ticket: Ticket, ask: Ask) {
        let peer_of = |station: usize| self.peer_of.get(station).copied().unwrap_or(usize::MAX);
        let part = |station: usize, extent: Extent| {
            let space = self.stations.get(station)?.space_at(extent.space)?;
            let found = self.peers.get(peer_of(station)).and_then(|peer| peer.known(space));
            Some(WantedPart::new(space.clone(), extent, found))
        };
        let services = |services: Option<Services>, reads| {
            services.map_or(TagWork::Nothing, |services| TagWork::Services(services, reads))
        };
        if let Some((station, ask)) = AssemblyAsk::of(&self.stations, &ask) {
            let what = TagWork::Assembly(ask);
            self.job = Some(TagJob { ticket, peer: peer_of(station), what });
            return;
        }
        if let Some(station) = table_station(&self.stations, &ask) {
            let (_, ask) = TableAsk::new(&self.stations, ask);
            // Each next question has another number, as its commands have.
            self.tns = self.tns.wrapping_add(8);
            let what =
                if command(&ask, 0).is_some() { TagWork::Table(ask, self.tns) } else { TagWork::Nothing };
            self.job = Some(TagJob { ticket, peer: peer_of(station), what });
            return;
        }
        let (station, what) = match ask {
            Ask::Read { station, parts } => {
                let parts: Option<Vec<WantedPart>> =
                    parts.iter().map(|extent| part(station, *extent)).collect();
                (station, services(parts.map(Services::read), true))
            }
            Ask::Write { station, extent, cells } => {
                let own = part(station, extent).map(|part| Services::write(part, &cells));
                (station, services(own, false))
            }
            Ask::Change { station, extent, keep, set } => {
                let own = part(station, extent).map(|part| Services::change(part, &keep, &set));
                (station, services(own, false))
            }
            Ask::Pass { message, .. } => (0, TagWork::Whole(Some(message.body))),
        };
        let peer = peer_of(station);
        self.job = Some(TagJob { ticket, peer, what });
    }

    fn set_up(&mut self, setup: &ClientSetup<'_>) {
        // A message under way knows its peer by its place among them.
        if self.peers.len() > PEERS_MAX && self.job.is_none() && self.under_way.is_none() {
            self.peers.clear();
        }
        self.peer_of.clear();
        for station in setup.stations {
            let known = self.peers.iter().position(|peer| peer.is_of(station));
            self.peer_of.push(known.unwrap_or(self.peers.len()));
            if known.is_none() {
                self.peers.push(Peer::of(station));
            }
        }
        self.stations = setup.stations.to_vec();
        self.timeout = setup.line.timeout;
    }

    fn handle(&mut self, now: Moment, news: News<'_>) {
        match news {
            News::Up => {
                self.forget();
                (self.session, self.hang_up) = (SessionState::Fresh, None);
            }
            News::Down => {
                self.forget();
                (self.session, self.hang_up) = (SessionState::Down, None);
                self.fail(Kind::NoPath, Blame::Line);
            }
            News::Bytes(bytes) => {
                self.came.extend_from_slice(bytes);
                self.look(now);
            }
        }
    }

    fn poll(&mut self, now: Moment) -> Act {
        loop {
            if let Some((ticket, result)) = self.done.take() {
                return Act::Done(ticket, result);
            }
            if let Some(why) = self.hang_up.take() {
                return Act::HangUp(why);
            }
            if self.ended() {
                continue;
            }
            match self.session {
                SessionState::Down if self.job.is_some() => self.fail(Kind::NoPath, Blame::Line),
                SessionState::Down => return Act::Rest,
                SessionState::Fresh => {
                    self.session = SessionState::Registering(now + self.timeout);
                    let header = Header { command: encapsulated::REGISTER_SESSION, ..Header::default() };
                    let mut out = vec![];
                    header.emit_with(&mut out, |out| Registration::OURS.emit(out));
                    return Act::Send(out);
                }
                SessionState::Registering(give_up) if now < give_up => return Act::WaitUntil(give_up),
                SessionState::Registering(_) => {
                    let why = "no session is opened in time: is that EtherNet/IP?";
                    self.give_up(Kind::NoAnswer, why.into());
                }
                SessionState::Open(session) => {
                    if let Some(give_up) = self.under_way.as_ref().map(|way| way.give_up) {
                        if now < give_up {
                            return Act::WaitUntil(give_up);
                        }
                        self.timed_out();
                        continue;
                    }
                    if let Some(bytes) = self.next(now, session) {
                        return Act::Send(bytes);
                    }
                    if self.job.is_none() {
                        return Act::Rest;
                    }
                    // Nothing can be said of it.
                    self.fail(Kind::Fault, Blame::Us);
                }
            }
        }
    }
}
