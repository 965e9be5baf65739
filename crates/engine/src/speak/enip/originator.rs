//! A connection of class 1 that we open: session, opening with a new serial number each time, frames, closing, and once more
//! after a pause that is at least as long as its watchdog.

use super::io::{Agreed, RunningConnection, TakenFrame};
use super::{MESSAGE_MAX, refusal};
use crate::Moment;
use crate::speak::{Channel, LinkFaults, LinkLoss, LinkNews, NetAct, Produced};
use std::collections::VecDeque;
use std::net::{Ipv4Addr, SocketAddrV4};
use woodrush_core::protocol::enip::{Layout, VENDOR};
use woodrush_wire::enip::cip::{self, Reply, class, service};
use woodrush_wire::enip::connection::{
    CYCLIC, ForwardClose, ForwardOpen, Opened, Parameters, Triad, UnconnectedSend, lost_after,
};
use woodrush_wire::enip::cpf::Unconnected;
use woodrush_wire::enip::cyclic::{CyclicFrame, HEADER_BYTES, PORT, Points, SEQUENCE_BYTES};
use woodrush_wire::enip::encap::{self, Header, Registration, command};
use woodrush_wire::enip::epath::{Object, Path};
use woodrush_wire::enip::status;

/// The TCP port on which devices take messages.
const MESSAGES: u16 = 44_818;
/// How long an answer is waited for, in microseconds.
const ANSWER: u64 = 5_000_000;
/// The pause before the first and after many tries in vain, in microseconds.
const PAUSE: u64 = 250_000;
const PAUSE_MAX: u64 = 30_000_000;
/// How many times shorter or longer than asked for the interval may be with which a device answers: devices round to what
/// they can keep, and one that answers with a microsecond would have us flood the network.
const INTERVAL_FACTOR: u32 = 2;
/// Time for an answer as the request says it.
const TIMEOUT_MS: u32 = 5000;

/// How far it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum OpeningStage {
    /// Nothing is tried before that moment.
    Pause(Moment),
    /// Until that moment at most.
    Dialling(Moment),
    Registering(Moment),
    Opening(Moment),
    /// Frames go.
    Runs,
    /// It is closed for good.
    Shut,
}

/// One link that we open.
pub(super) struct Originator {
    pub(super) link: usize,
    pub(super) name: String,
    pub(super) layout: Layout,
    fault: LinkFaults,
    pub(super) device: Ipv4Addr,
    /// Its number among those of this end: ids are made of it.
    channel: Channel,
    stage: OpeningStage,
    session: u32,
    came: Vec<u8>,
    serial: u16,
    serial_number: u32,
    pause: u64,
    running: Option<RunningConnection>,
    /// The TCP connection is there.
    connected: bool,
    /// What it was refused by last; told again only when that changes.
    refused: Option<(u8, Option<u16>)>,
    /// The device could not be reached, and that was told.
    unreached: bool,
    out: VecDeque<NetAct>,
    socket: usize,
}

const MANAGER: Object = Object { class: class::CONNECTION_MANAGER, instance: 1, attribute: None };

impl Originator {
    pub(super) fn new(
        (link, name): (usize, String),
        (device, layout): (Ipv4Addr, Layout),
        fault: LinkFaults,
        (first, serial_number): (u16, u32),
        socket: usize,
    ) -> Self {
        Self {
            link,
            name,
            device,
            layout,
            fault,
            channel: Channel(0),
            stage: OpeningStage::Pause(Moment(0)),
            session: 0,
            came: vec![],
            serial: first,
            serial_number,
            pause: PAUSE,
            running: None,
            connected: false,
            refused: None,
            unreached: false,
            out: VecDeque::new(),
            socket,
        }
    }

    pub(super) const fn set_fault(&mut self, fault: LinkFaults) {
        self.fault = fault;
    }

    pub(super) const fn channel(&self) -> Channel {
        self.channel
    }

    pub(super) const fn set_channel(&mut self, channel: Channel) {
        self.channel = channel;
    }

    /// The watchdog of what comes, in microseconds.
    fn watchdog(&self) -> u64 {
        lost_after(self.layout.period, self.layout.multiplier_code())
    }

    fn request(&mut self, message: &[u8]) {
        let header = Header { command: command::SEND_RR_DATA, session: self.session, ..Header::default() };
        let mut out = vec![];
        header.emit_with(&mut out, |out| Unconnected::emit_with(out, |out| out.extend_from_slice(message)));
        self.out.push_back(NetAct::Send(self.channel, out));
    }

    fn triad(&self) -> Triad {
        Triad { serial: self.serial, vendor: VENDOR, originator: self.serial_number }
    }

    fn path(&self) -> Vec<u8> {
        let mut data = self.layout.data.clone();
        data.resize(data.len().next_multiple_of(2), 0);
        let points = Points {
            key: None,
            configuration: self.layout.config.map(|own| own.number),
            to_target: self.layout.outputs.map_or(self.layout.input_only, |own| own.number),
            to_originator: self.layout.inputs.number,
            data: &data,
            inhibit_us: 0,
        };
        let mut path = vec![];
        points.emit(&mut path);
        path
    }

    /// Bytes to the target and back, with all that counts.
    fn sizes(&self) -> (u16, u16) {
        let bytes = |bytes: u32| u16::try_from(bytes).unwrap_or(u16::MAX);
        let own = self.layout.outputs.map_or(0, |own| bytes(own.bytes) + HEADER_BYTES);
        let mut to_target = SEQUENCE_BYTES + own;
        if self.fault.wrong_size {
            to_target += 2;
        }
        (to_target, SEQUENCE_BYTES + bytes(self.layout.inputs.bytes))
    }

    /// The id of the frames that come: of the link and the serial number.
    fn takes(&self) -> u32 {
        u32::from(self.serial) << 16 | u32::try_from(self.link & 0xFFFF).unwrap_or(0)
    }

    fn open(&mut self, now: Moment) {
        // Another one each time: what is late of the one before must not be taken for this one's.
        self.serial = self.serial.wrapping_add(1).max(1);
        let path = self.path();
        let (to_target, to_originator) = self.sizes();
        let (tick, ticks) = UnconnectedSend::ticks_of(TIMEOUT_MS);
        let open = ForwardOpen {
            tick,
            ticks,
            to_target_id: 0,
            to_originator_id: self.takes(),
            triad: self.triad(),
            multiplier: self.layout.multiplier_code(),
            to_target_interval: self.layout.period,
            to_target: Parameters::cyclic(to_target, false),
            to_originator_interval: self.layout.period,
            to_originator: Parameters::cyclic(to_originator, false),
            transport: CYCLIC,
            path: Path::parse(&path).unwrap_or_default(),
        };
        let mut message = vec![];
        cip::emit_to(&mut message, open.service(), MANAGER);
        open.emit(&mut message);
        self.request(&message);
        self.stage = OpeningStage::Opening(now + ANSWER);
    }

    fn close_connection(&mut self) {
        if !self.connected {
            return;
        }
        let path = self.path();
        let (tick, ticks) = UnconnectedSend::ticks_of(TIMEOUT_MS);
        let close =
            ForwardClose { tick, ticks, triad: self.triad(), path: Path::parse(&path).unwrap_or_default() };
        let mut message = vec![];
        cip::emit_to(&mut message, service::FORWARD_CLOSE, MANAGER);
        close.emit(&mut message);
        self.request(&message);
    }

    fn hang_up(&mut self) {
        if self.connected {
            self.out.push_back(NetAct::Close(self.channel));
        }
        (self.connected, self.session) = (false, 0);
        self.came.clear();
    }

    /// Tries again after a pause, each time a longer one.
    fn later(&mut self, now: Moment) {
        if self.stage == OpeningStage::Shut {
            return;
        }
        self.hang_up();
        self.running = None;
        self.stage = OpeningStage::Pause(now + self.pause.max(self.watchdog()));
        self.pause = (self.pause * 2).min(PAUSE_MAX);
    }

    /// Ends the connection for good, and the session behind it.
    pub(super) fn shut(&mut self) {
        if self.running.take().is_some() {
            self.close_connection();
        }
        if self.connected {
            let header =
                Header { command: command::UNREGISTER_SESSION, session: self.session, ..Header::default() };
            let mut out = vec![];
            header.emit_with(&mut out, |_| {});
            self.out.push_back(NetAct::Send(self.channel, out));
        }
        self.hang_up();
        self.stage = OpeningStage::Shut;
    }

    fn refused_by(&mut self, now: Moment, general: u8, word: Option<u16>, why: String) {
        if self.refused.replace((general, word)) != Some((general, word)) {
            let refusal = refusal(general, word);
            let news = LinkNews::Refused { peer: self.device, refusal, why };
            self.out.push_back(NetAct::Tell(self.link, news));
        }
        self.later(now);
    }

    pub(super) fn dialled(&mut self, now: Moment) {
        self.connected = true;
        if !matches!(self.stage, OpeningStage::Dialling(_)) {
            return;
        }
        self.unreached = false;
        let header = Header { command: command::REGISTER_SESSION, ..Header::default() };
        let mut out = vec![];
        header.emit_with(&mut out, |out| Registration::OURS.emit(out));
        self.out.push_back(NetAct::Send(self.channel, out));
        self.stage = OpeningStage::Registering(now + ANSWER);
    }

    /// The TCP connection is gone; what runs goes on without it.
    pub(super) fn closed(&mut self, now: Moment) {
        (self.connected, self.session) = (false, 0);
        self.came.clear();
        if !matches!(self.stage, OpeningStage::Runs | OpeningStage::Pause(_) | OpeningStage::Shut) {
            if !std::mem::replace(&mut self.unreached, true) {
                let refusal =
                    woodrush_core::Refusal::new(woodrush_core::Kind::NoPath, woodrush_core::Blame::Device);
                let what = match self.stage {
                    OpeningStage::Dialling(_) => "no connection",
                    _ => "no answer",
                };
                let why = format!("{what} at its TCP port {MESSAGES}");
                let news = LinkNews::Refused { peer: self.device, refusal, why };
                self.out.push_back(NetAct::Tell(self.link, news));
            }
            self.later(now);
        }
    }

    /// All sockets are gone.
    pub(super) fn down(&mut self, now: Moment) {
        self.connected = false;
        if self.running.take().is_some() {
            self.out.push_back(NetAct::Stopped(self.link, LinkLoss::Closed));
        }
        self.later(now);
    }

    pub(super) fn bytes(&mut self, now: Moment, bytes: &[u8]) {
        self.came.extend_from_slice(bytes);
        if self.came.len() > usize::from(MESSAGE_MAX) + encap::HEADER {
            return self.later(now);
        }
        loop {
            let came = std::mem::take(&mut self.came);
            match encap::parse(&came, MESSAGE_MAX) {
                Ok(None) => {
                    self.came = came;
                    return;
                }
                Err(_) => return self.later(now),
                Ok(Some((message, used))) => {
                    self.answered(now, &message);
                    self.came = came.get(used..).unwrap_or_default().to_vec();
                }
            }
        }
    }

    fn answered(&mut self, now: Moment, message: &encap::Message<'_>) {
        let header = message.header;
        match (self.stage, header.command) {
            (OpeningStage::Registering(_), command::REGISTER_SESSION) if header.status == 0 => {
                self.session = header.session;
                self.open(now);
            }
            (OpeningStage::Registering(_), command::REGISTER_SESSION) => {
                let why = format!("no session: {}", encap::status_words(header.status));
                self.refused_by(now, status::CONNECTION_FAILURE, None, why);
            }
            (OpeningStage::Opening(_), command::SEND_RR_DATA) => {
                let reply = Unconnected::parse(message.data).ok();
                let Some(reply) = reply.and_then(|data| Reply::parse(data.message).ok()) else { return };
                if reply.service & !cip::REPLY == service::FORWARD_OPEN {
                    self.opening(now, &reply);
                }
            }
            _ => {}
        }
    }

    fn opening(&mut self, now: Moment, reply: &Reply<'_>) {
        if reply.status != 0 {
            let (general, word) = (reply.status, reply.word());
            let words = word.and_then(|word| status::additional_words(general, word));
            let words = words.unwrap_or_else(|| status::words(general));
            // A second word names the right size.
            let right =
                reply.additional.get(2..4).and_then(|own| own.try_into().ok()).map(u16::from_le_bytes);
            let right = right.filter(|_| matches!(word, Some(0x0126..=0x0128)));
            let right = right.map(|right| format!(" ({right} is right, with the bytes around it)"));
            let why = format!("{words}{}", right.unwrap_or_default());
            return self.refused_by(now, general, word, why);
        }
        let opened = Opened::parse(reply.data).ok().filter(|own| own.triad == self.triad());
        let Some(opened) = opened else { return };
        let asked = self.layout.period;
        let strange = [opened.to_target_interval, opened.to_originator_interval]
            .into_iter()
            .find(|interval| !(asked / INTERVAL_FACTOR..=asked * INTERVAL_FACTOR).contains(interval));
        if let Some(interval) = strange {
            let why = format!(
                "it answers with an interval of {interval} us where {asked} us were asked for: \
                 write the period that it can keep"
            );
            self.close_connection();
            return self.refused_by(now, status::CONNECTION_FAILURE, Some(status::connection::INTERVAL), why);
        }
        let (_, to_originator) = self.sizes();
        // What the device says that it keeps: the watchdog goes by that.
        let comes =
            u64::from(opened.to_originator_interval.max(1)) * u64::from(self.layout.multiplier.max(4));
        let agreed = Agreed {
            peer: SocketAddrV4::new(self.device, PORT),
            sends: opened.to_target_id,
            takes: self.takes(),
            out_bytes: self.layout.outputs.map(|own| own.bytes as usize),
            out_header: self.layout.outputs.is_some(),
            in_size: to_originator,
            in_header: false,
            period: u64::from(opened.to_target_interval.max(1)),
            lost_after: comes,
        };
        self.running = Some(RunningConnection::new(now, self.link, agreed));
        (self.stage, self.pause, self.refused) = (OpeningStage::Runs, PAUSE, None);
        let news = LinkNews::Opened {
            peer: self.device,
            period: agreed.period,
            lost_after: agreed.lost_after,
            only_reads: self.layout.outputs.is_none(),
        };
        self.out.push_back(NetAct::Tell(self.link, news));
    }

    /// Takes a frame that may be ours; whether it was.
    pub(super) fn take(&mut self, now: Moment, from: Ipv4Addr, frame: &CyclicFrame<'_>) -> bool {
        let Some(running) = self.running.as_mut().filter(|own| own.agreed.takes == frame.connection) else {
            return false;
        };
        match running.take(now, from, frame) {
            Some(TakenFrame::New(data)) => {
                self.out.push_back(NetAct::Came { link: self.link, slot: 0, cells: data.to_vec() });
            }
            Some(TakenFrame::Same) => self.out.push_back(NetAct::Still(self.link)),
            _ => {}
        }
        true
    }

    /// Whether frames go.
    pub(super) const fn runs(&self) -> bool {
        self.running.is_some()
    }

    pub(super) fn is_due(&self, now: Moment) -> bool {
        self.running.as_ref().is_some_and(|running| running.due(now).is_some())
    }

    pub(super) fn produced(&mut self, now: Moment, cells: &Produced) {
        let Some(running) = &mut self.running else { return };
        let Some((due, passed)) = running.due(now) else { return };
        if passed > 0 {
            self.out.push_back(NetAct::Skipped(self.link, passed));
        }
        let bytes = cells.slots.first().map_or(&[][..], Vec::as_slice);
        let runs = cells.lost.is_empty() && !self.fault.idle;
        let frame = running.frame(due, runs, bytes, false);
        let (to, due) = (running.agreed.peer, Some((self.link, due)));
        self.out.push_back(NetAct::Datagram { socket: self.socket, to, bytes: frame, due });
    }

    pub(super) fn poll(&mut self, now: Moment) -> Option<NetAct> {
        if self.running.as_ref().is_some_and(|running| running.is_lost(now)) {
            self.out.push_back(NetAct::Stopped(self.link, LinkLoss::Watchdog));
            // Its answer is not waited for.
            self.close_connection();
            self.later(now);
        }
        match self.stage {
            OpeningStage::Pause(until) if now >= until => {
                self.stage = OpeningStage::Dialling(now + ANSWER);
                self.out.push_back(NetAct::Dial(self.channel, SocketAddrV4::new(self.device, MESSAGES)));
            }
            OpeningStage::Dialling(until)
            | OpeningStage::Registering(until)
            | OpeningStage::Opening(until)
                if now >= until =>
            {
                self.out.push_back(NetAct::Close(self.channel));
                self.closed(now);
            }
            _ => {}
        }
        self.out.pop_front()
    }

    pub(super) fn wakes_at(&self) -> Moment {
        let stage = match self.stage {
            OpeningStage::Pause(until)
            | OpeningStage::Dialling(until)
            | OpeningStage::Registering(until)
            | OpeningStage::Opening(until) => until,
            OpeningStage::Runs | OpeningStage::Shut => Moment::NEVER,
        };
        self.running.as_ref().map_or(stage, |running| running.wakes_at().min(stage))
    }
}
