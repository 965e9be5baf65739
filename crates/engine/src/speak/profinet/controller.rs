//! An IO controller, for the rig alone: it finds the device, gives it an address, opens the connection, and begins again when
//! that has ended.

use super::calls::{Call, Completed, complete, send};
use super::cyclic::{Consumer, Provider};
use super::discovery::dcp_frame;
use super::ether::{Mac, frame};
use super::ip::IpStack;
use super::opening::{ACTIVITY, ALARM_REFERENCE, INPUT_FRAME, NewRelation, OpenedRelation, emit_opening};
use super::refusal_of;
use crate::Moment;
use crate::hex::mac_shown;
use crate::speak::{LinkFaults, LinkLoss, LinkNews, NetAct, Produced};
use std::collections::VecDeque;
use std::net::{Ipv4Addr, SocketAddrV4};
use woodrush_core::protocol::profinet::{IoIdentity, StationLayout};
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::profinet::block::Block;
use woodrush_wire::profinet::control::{Control, Step};
use woodrush_wire::profinet::dcp::{self, Choice, Dcp, IpSuite, Kind as DcpKind, Service, outcome};
use woodrush_wire::profinet::parts::Gathered;
use woodrush_wire::profinet::rpc::{self, Arguments, Header, emit_arguments, kind, operation};
use woodrush_wire::profinet::rta::{Rta, RtaKind};
use woodrush_wire::profinet::status::{PnioStatus, ended};
use woodrush_wire::profinet::submodules::Expected;
use woodrush_wire::profinet::{ETHERTYPE, RPC_PORT, TAG, Uuid};

/// How long answers to a question to all are waited for, in microseconds.
const LISTENS: u64 = 100_000;
/// After how long a station that was not found is looked for again, and a connection opened that was refused.
const AGAIN: u64 = 300_000;
/// The network of a device whose address nothing says.
pub(super) const MASK: Ipv4Addr = Ipv4Addr::new(255, 255, 255, 0);

/// How far it is.
#[derive(Debug)]
enum ControllerStage {
    /// Nothing is done before that moment.
    Pause(Moment),
    /// Who has the name was asked; until when answers count, and those that came.
    Find(Moment, Vec<(Mac, Ipv4Addr)>),
    /// Who has the address that it shall have was asked.
    Probe(Moment, Mac),
    /// The address was given; how often, and until when an answer is waited for.
    Address(Moment, Mac, u32),
    /// A call waits for its answer.
    Connect(Call, Mac),
    Parameters(Call),
    /// The device has yet to say that it is ready.
    AwaitReady(Moment),
    Run,
    /// It ends the connection in order.
    Release(Call),
    Ended,
}

/// A controller of one device.
#[derive(Debug)]
pub(super) struct Controller {
    pub(super) link: usize,
    pub(super) layout: StationLayout,
    /// The address that the device is to have.
    pub(super) device: Ipv4Addr,
    /// Who the device is.
    identity: IoIdentity,
    name: String,
    fault: LinkFaults,
    stage: ControllerStage,
    uuid: Uuid,
    activity: Uuid,
    sequence: u32,
    runs: Option<(Provider, Consumer)>,
    device_mac: Mac,
    alarm_reference: u16,
    /// Which slots differ at the device, in words.
    differs: Vec<String>,
    number: u32,
    gathered: Gathered,
    pub(super) out: VecDeque<NetAct>,
}

impl Controller {
    pub(super) fn new(
        link: usize,
        (name, layout): (String, StationLayout),
        device: Ipv4Addr,
        identity: IoIdentity,
        first: u16,
    ) -> Self {
        Self {
            link,
            layout,
            device,
            identity,
            name,
            fault: LinkFaults::default(),
            stage: ControllerStage::Pause(Moment(0)),
            uuid: Uuid::default(),
            activity: Uuid::default(),
            sequence: 0,
            runs: None,
            device_mac: [0; 6],
            alarm_reference: 0,
            differs: vec![],
            number: first.into(),
            gathered: Gathered::default(),
            out: VecDeque::new(),
        }
    }

    /// What goes wrong with it from now on.
    pub(super) fn set_fault(&mut self, now: Moment, stack: &mut IpStack, fault: LinkFaults) {
        let anew = self.fault.wrong_slot != fault.wrong_slot;
        self.fault = fault;
        if let Some((provider, _)) = &mut self.runs {
            (provider.stopped, provider.short) = (fault.idle, fault.wrong_size);
        }
        if anew && self.runs.is_some() {
            self.break_off(now, stack, LinkLoss::Closed);
        }
    }

    pub(super) fn is_due(&self, now: Moment) -> bool {
        self.runs.as_ref().is_some_and(|(provider, _)| provider.is_due(now))
    }

    pub(super) fn wakes_at(&self) -> Moment {
        let stage = match &self.stage {
            ControllerStage::Pause(at)
            | ControllerStage::Find(at, _)
            | ControllerStage::Probe(at, _)
            | ControllerStage::Address(at, ..)
            | ControllerStage::AwaitReady(at) => *at,
            ControllerStage::Connect(call, _)
            | ControllerStage::Parameters(call)
            | ControllerStage::Release(call) => call.wakes_at(),
            ControllerStage::Run | ControllerStage::Ended => Moment::NEVER,
        };
        let runs = self
            .runs
            .as_ref()
            .map_or(Moment::NEVER, |(provider, consumer)| provider.wakes_at().min(consumer.wakes_at()));
        stage.min(runs)
    }

    fn tell_refused(&mut self, refusal: Refusal, why: String) {
        self.out.push_back(NetAct::Tell(self.link, LinkNews::Refused { peer: self.device, refusal, why }));
    }

    /// What is wrong is told, and it is tried again after a while.
    fn give_up(&mut self, now: Moment, kind: Kind, why: String) {
        self.tell_refused(Refusal::new(kind, Blame::Device), why);
        self.stage = ControllerStage::Pause(now + AGAIN);
    }

    /// The connection is gone: it begins again after a while.
    fn lost(&mut self, now: Moment, why: LinkLoss) {
        if self.runs.take().is_some() && matches!(self.stage, ControllerStage::Run) {
            self.out.push_back(NetAct::Stopped(self.link, why));
        }
        self.stage = ControllerStage::Pause(now + AGAIN);
    }

    /// It breaks the connection off, and says so.
    fn break_off(&mut self, now: Moment, stack: &mut IpStack, why: LinkLoss) {
        let status = PnioStatus::ended(ended::WATCHDOG);
        let reference = self.alarm_reference;
        stack.out.push_back(frame(self.device_mac, stack.mac, ETHERTYPE, Some(TAG), |out| {
            Rta::emit_error(out, reference, ALARM_REFERENCE, status);
        }));
        self.lost(now, why);
    }

    /// It ends the connection in order and opens no other.
    pub(super) fn shut(&mut self, now: Moment) {
        let control =
            Control { step: Step::Release, done: false, uuid: self.uuid, session: 1, properties: 0 };
        let is_open = self.runs.is_some();
        self.runs = None;
        self.stage = match is_open {
            true => {
                let (header, bytes) = self.call(operation::RELEASE, |out| control.emit(out));
                ControllerStage::Release(Call::new(now, self.calls_to(), &header, bytes))
            }
            false => ControllerStage::Ended,
        };
    }

    const fn calls_to(&self) -> SocketAddrV4 {
        SocketAddrV4::new(self.device, RPC_PORT)
    }

    /// A call of the device, with the next number.
    fn call(&mut self, operation: u16, blocks: impl FnOnce(&mut Vec<u8>)) -> (Header, Vec<u8>) {
        let object = Uuid::object(1, self.identity.product, self.identity.vendor);
        let header = Header::call(object, rpc::DEVICE, self.activity, self.sequence, operation);
        self.sequence = self.sequence.wrapping_add(1);
        let mut bytes = vec![];
        header.emit_with(&mut bytes, |out| {
            emit_arguments(out, true, (rpc::ARGS_MAX, rpc::ARGS_MAX), blocks);
        });
        (header, bytes)
    }

    /// A question or an order about names and addresses.
    fn dcp(&mut self, stack: &mut IpStack, (to, service): (Mac, Service), blocks: &[(Choice, u16, &[u8])]) {
        self.number = self.number.wrapping_add(1);
        stack.out.push_back(dcp_frame((to, stack.mac), self.number, service, blocks));
    }

    fn find(&mut self, now: Moment, stack: &mut IpStack) {
        let name = self.layout.name.clone();
        self.dcp(stack, (dcp::IDENTIFY_TO, Service::Identify), &[(Choice::NAME, 0, name.as_bytes())]);
        self.stage = ControllerStage::Find(now + LISTENS, vec![]);
    }

    /// The address that the device is to have, with the network that it lies in.
    fn suite(&self) -> IpSuite {
        let mask = self.layout.address.map_or(MASK, |own| own.mask);
        IpSuite { address: self.device, mask, gateway: self.device }
    }

    /// Answers to the question who has the name are complete.
    fn found(&mut self, now: Moment, stack: &mut IpStack, found: &[(Mac, Ipv4Addr)]) {
        match found {
            [] => {
                let why = format!("no station answers to the name `{}`", self.layout.name);
                self.give_up(now, Kind::NoAnswer, why);
            }
            [(mac, address)] if *address == self.device => self.connect(now, stack, *mac),
            [(mac, _)] => {
                stack.ask_for(self.device);
                self.stage = ControllerStage::Probe(now + LISTENS, *mac);
            }
            [(one, _), (other, _), ..] => {
                let why = format!(
                    "two stations have the name `{}`: {} and {}",
                    self.layout.name,
                    mac_shown(*one),
                    mac_shown(*other)
                );
                self.give_up(now, Kind::Mismatch, why);
            }
        }
    }

    fn give_address(&mut self, now: Moment, stack: &mut IpStack, mac: Mac, tries: u32) {
        let suite = self.suite().bytes();
        self.dcp(stack, (mac, Service::Set), &[(Choice::IP, 0, &suite)]);
        self.stage = ControllerStage::Address(now + AGAIN, mac, tries);
    }

    /// The submodules as it expects them: as the device has them, but for what is wrong on purpose.
    fn expected(&self) -> Vec<Expected> {
        let mut all = self.layout.expected();
        if self.fault.wrong_slot
            && let Some(last) = all.last_mut()
        {
            (last.module, last.ident) = (last.module ^ 1, last.ident ^ 1);
        }
        all
    }

    fn connect(&mut self, now: Moment, stack: &mut IpStack, mac: Mac) {
        self.number = self.number.wrapping_add(1);
        let [a, b, c, d] = self.number.to_be_bytes();
        let [e, f, g, h, i, j] = stack.mac;
        self.uuid = Uuid([0x57, 0x52, a, b, c, d, 0x40, 0x01, 0x80, 0x01, e, f, g, h, i, j]);
        let mut activity = self.uuid.0;
        activity[0] ^= 0xFF;
        (self.activity, self.sequence) = (Uuid(activity), 0);
        let own = NewRelation {
            uuid: self.uuid,
            mac: stack.mac,
            name: self.name.clone(),
            layout: self.layout.clone(),
            expected: self.expected(),
        };
        let (header, bytes) = self.call(operation::CONNECT, |out| {
            emit_opening(out, &own);
        });
        self.stage = ControllerStage::Connect(Call::new(now, self.calls_to(), &header, bytes), mac);
    }

    /// The device has opened the connection: frames run, and the parameters are complete at once.
    fn opened(&mut self, now: Moment, stack: &IpStack, mac: Mac, arguments: &[u8]) {
        let Some(opened) = OpenedRelation::of(arguments, &self.layout) else {
            return self.give_up(now, Kind::Damaged, "its answer has no FrameID for what we send".into());
        };
        self.alarm_reference = opened.alarm_reference;
        self.differs.clone_from(&opened.words);
        self.device_mac = mac;
        let flow = |to_controller, frame_id| opened.flow(&self.layout, to_controller, frame_id);
        let mut provider = Provider::new(flow(false, opened.output_id), (stack.mac, mac), now);
        (provider.stopped, provider.short) = (self.fault.idle, self.fault.wrong_size);
        let flow = flow(true, INPUT_FRAME);
        let watchdog = flow.period * u64::from(self.layout.watchdog);
        let consumer = Consumer::new(flow, mac, watchdog, (now, u64::from(ACTIVITY) * 100_000));
        self.runs = Some((provider, consumer));
        let control =
            Control { step: Step::ParametersEnd, done: false, uuid: self.uuid, session: 1, properties: 0 };
        let (header, bytes) = self.call(operation::CONTROL, |out| control.emit(out));
        self.stage = ControllerStage::Parameters(Call::new(now, self.calls_to(), &header, bytes));
    }

    pub(super) fn produced(&mut self, now: Moment, cells: &Produced) {
        let Some((provider, _)) = &mut self.runs else { return };
        provider.produced(now, cells, self.link, &mut self.out);
    }

    /// What is due by time.
    pub(super) fn poll(&mut self, now: Moment, stack: &mut IpStack) {
        if self.runs.as_ref().is_some_and(|(_, consumer)| consumer.is_lost(now)) {
            self.break_off(now, stack, LinkLoss::Watchdog);
        }
        let sent = match &mut self.stage {
            ControllerStage::Pause(at) if now >= *at => return self.find(now, stack),
            ControllerStage::Find(until, found) if now >= *until => {
                let found = std::mem::take(found);
                return self.found(now, stack, &found);
            }
            ControllerStage::Probe(until, mac) if now >= *until => {
                let mac = *mac;
                return match stack.mac_of(self.device) {
                    Some(other) if other != mac => {
                        let why = format!("{} has the address {} already", mac_shown(other), self.device);
                        self.give_up(now, Kind::Mismatch, why);
                    }
                    _ => self.give_address(now, stack, mac, 0),
                };
            }
            ControllerStage::Address(until, mac, tries) if now >= *until => {
                let (mac, tries) = (*mac, *tries);
                return match tries {
                    0..3 => self.give_address(now, stack, mac, tries + 1),
                    _ => self.give_up(now, Kind::NoAnswer, "it does not take an address".into()),
                };
            }
            ControllerStage::AwaitReady(until) if now >= *until => {
                return self.give_up_open(now, stack, "it does not become ready");
            }
            ControllerStage::Connect(call, _)
            | ControllerStage::Parameters(call)
            | ControllerStage::Release(call) => {
                call.poll(now).map(|bytes| bytes.map(|bytes| (call.to, bytes)))
            }
            _ => return,
        };
        match (sent, &self.stage) {
            (Ok(Some((to, bytes))), _) => send(stack, now, to, bytes),
            (Ok(None), _) => {}
            (Err(()), ControllerStage::Release(_)) => self.stage = ControllerStage::Ended,
            (Err(()), _) => self.give_up_open(now, stack, "it does not answer calls at UDP port 34964"),
        }
    }

    fn give_up_open(&mut self, now: Moment, stack: &mut IpStack, why: &str) {
        if self.runs.is_some() {
            self.break_off(now, stack, LinkLoss::Closed);
        }
        self.give_up(now, Kind::NoAnswer, why.into());
    }

    /// Takes a frame about names and addresses.
    pub(super) fn take_dcp(&mut self, now: Moment, stack: &mut IpStack, from: Mac, payload: &[u8]) {
        let Ok(own) = Dcp::parse(payload) else { return };
        if own.kind != DcpKind::Success || own.transaction != self.number {
            return;
        }
        match &mut self.stage {
            ControllerStage::Find(_, found) if own.service == Service::Identify => {
                let named =
                    own.find(Choice::NAME).is_some_and(|own| own.value == self.layout.name.as_bytes());
                if named && found.len() < 8 && found.iter().all(|(mac, _)| *mac != from) {
                    let address = own.find(Choice::IP).and_then(|own| IpSuite::of(own.value));
                    found.push((from, address.map_or(Ipv4Addr::UNSPECIFIED, |own| own.address)));
                }
            }
            ControllerStage::Address(_, mac, _) if own.service == Service::Set && *mac == from => {
                let code = own.find(Choice::RESPONSE).and_then(|own| own.value.get(2).copied());
                match code {
                    Some(outcome::OK) => self.connect(now, stack, from),
                    Some(code) => {
                        let why =
                            format!("it does not take the address {}: {}", self.device, outcome::words(code));
                        self.give_up(now, Kind::BadValue, why);
                    }
                    None => {}
                }
            }
            _ => {}
        }
    }

    /// Takes a datagram of the calls' port; its answer, if it has one.
    pub(super) fn take_call(&mut self, now: Moment, stack: &IpStack, bytes: &[u8]) -> Option<Vec<u8>> {
        let (header, body) = Header::parse(bytes).ok()?;
        if header.kind == kind::REQUEST {
            return self.take_ready(&header, body);
        }
        let (ControllerStage::Connect(call, _)
        | ControllerStage::Parameters(call)
        | ControllerStage::Release(call)) = &self.stage
        else {
            return None;
        };
        if !call.is_answered_by(&header) {
            return None;
        }
        let body = match complete(&mut self.gathered, &header, body, 0) {
            Completed::Whole(body) => body,
            Completed::More(said) => return said,
            Completed::Broken => return None,
        };
        let answer =
            Arguments::of_answer(&body, header.little).ok().filter(|_| header.kind == kind::RESPONSE);
        match (answer, &self.stage) {
            (_, ControllerStage::Release(_)) => self.stage = ControllerStage::Ended,
            (Some(own), ControllerStage::Connect(_, mac)) if own.status() == PnioStatus::OK => {
                let mac = *mac;
                self.opened(now, stack, mac, own.bytes);
            }
            (Some(own), ControllerStage::Parameters(_)) if own.status() == PnioStatus::OK => {
                self.stage = ControllerStage::AwaitReady(now + u64::from(ACTIVITY) * 100_000);
            }
            (Some(own), _) => {
                let status = own.status();
                self.runs = None;
                self.tell_refused(refusal_of(status), status.to_string());
                self.stage = ControllerStage::Pause(now + AGAIN);
            }
            (None, _) => {
                self.runs = None;
                self.give_up(now, Kind::Damaged, "it rejects our call".into());
            }
        }
        None
    }

    /// The device says that it is ready: from here on data count.
    fn take_ready(&mut self, header: &Header, body: &[u8]) -> Option<Vec<u8>> {
        let arguments = Arguments::of_call(body, header.little).ok()?;
        let (own, _) = Block::parse(arguments.bytes).ok()?;
        let control =
            Control::parse(&own).ok().filter(|own| own.uuid == self.uuid && own.step == Step::Ready)?;
        let (provider, consumer) = self.runs.as_mut()?;
        // It may be faster than the answer to the call that it follows.
        if matches!(self.stage, ControllerStage::AwaitReady(_) | ControllerStage::Parameters(_)) {
            provider.ready = true;
            consumer.lands = true;
            self.stage = ControllerStage::Run;
            let news = LinkNews::Opened {
                peer: self.device,
                period: consumer.flow.period,
                lost_after: consumer.watchdog,
                only_reads: false,
            };
            self.out.push_back(NetAct::Tell(self.link, news));
            if !self.differs.is_empty() {
                self.tell_refused(Refusal::new(Kind::Mismatch, Blame::Device), self.differs.join("; "));
            }
        }
        let mut out = vec![];
        header.answer(kind::RESPONSE, 1).emit_with(&mut out, |out| {
            emit_arguments(out, header.little, (0, arguments.first), |out| {
                Control { done: true, ..control }.emit(out);
            });
        });
        Some(out)
    }

    pub(super) fn take_frame(&mut self, now: Moment, from: Mac, payload: &[u8]) {
        let Some((_, consumer)) = &mut self.runs else { return };
        consumer.heard(now, (from, payload), self.link, &mut self.out);
    }

    pub(super) fn take_alarm(&mut self, now: Moment, from: Mac, payload: &[u8]) {
        if self.runs.is_none() || from != self.device_mac {
            return;
        }
        let error =
            Rta::parse(payload).ok().filter(|own| own.to == ALARM_REFERENCE && own.kind == RtaKind::Error);
        let Some(status) = error.and_then(|own| own.error()) else { return };
        let why =
            if status == PnioStatus::ended(ended::WATCHDOG) { LinkLoss::Watchdog } else { LinkLoss::Closed };
        self.tell_refused(refusal_of(status), format!("it broke the connection off: {status}"));
        self.lost(now, why);
    }
}
