//! An IO device: a controller opens a connection in steps, then frames go both ways until one of them ends it.

use super::calls::{Answers, Call, CallJudgement, Completed, acknowledged, activity, complete, rejected};
use super::cyclic::{Consumer, Provider};
use super::ether::{Mac, frame};
use super::judging::{Opening, judge};
use super::{Ended, refusal_of};
use crate::Moment;
use crate::speak::{LinkLoss, LinkNews, NetAct, Produced};
use std::collections::VecDeque;
use std::net::{Ipv4Addr, SocketAddrV4};
use woodrush_core::protocol::profinet::{IoIdentity, StationLayout};
use woodrush_wire::profinet::block::Block;
use woodrush_wire::profinet::connect::{AR_CONTROLLER, AlarmAnswer, ArAnswer};
use woodrush_wire::profinet::control::{Control, Step};
use woodrush_wire::profinet::iocr::{Direction, IocrAnswer};
use woodrush_wire::profinet::parts::Gathered;
use woodrush_wire::profinet::records::{IM0_INDEX, Identification, RecordHeader};
use woodrush_wire::profinet::rpc::{self, Arguments, Header, emit_arguments, kind, operation};
use woodrush_wire::profinet::rta::{self, Rta, RtaKind};
use woodrush_wire::profinet::status::{self, PnioStatus, calls, ended, place, record, service};
use woodrush_wire::profinet::submodules;
use woodrush_wire::profinet::{ETHERTYPE, RPC_PORT, TAG, Uuid};

/// By what we name the alarm channel.
const ALARM_REFERENCE: u16 = 1;
/// The longest alarm that we take.
const ALARM_LONGEST: u16 = 200;
/// The most bytes of arguments that we say of an answer of ours.
const ARGUMENTS: u32 = rpc::ARGS_MAX;
/// Why a call is rejected whose parts make none: the protocol is not kept.
const PROTOCOL_ERROR: u32 = 0x1C01_000B;

/// How far a connection is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    /// It is open, and parameters come.
    Parameters,
    /// They are complete, and we have said that we are ready.
    Ready,
    /// Data count.
    Data,
}

/// One connection.
#[derive(Debug)]
struct Relation {
    state: State,
    uuid: Uuid,
    session: u16,
    /// To whom frames go.
    mac: Mac,
    /// Who has opened it: its address, and who was seen to send the call. What stands in a call proves nothing.
    from: SocketAddrV4,
    via: Mac,
    object: Uuid,
    /// How long a step may take, in microseconds, and when this one has taken too long.
    patience: u64,
    step_until: Moment,
    alarm_reference: u16,
    /// What our own messages of the alarm channel acknowledge.
    alarm_taken: u16,
    provider: Provider,
    consumer: Consumer,
    ready: Option<Call>,
}

/// An IO device.
#[derive(Debug)]
pub(super) struct Device {
    pub(super) link: usize,
    pub(super) layout: StationLayout,
    identity: IoIdentity,
    mac: Mac,
    relation: Option<Relation>,
    answers: Answers,
    gathered: Gathered,
    /// Another number for each run.
    boot: u32,
    sequence: u32,
    pub(super) out: VecDeque<NetAct>,
}

impl Device {
    pub(super) fn new(
        link: usize,
        layout: StationLayout,
        identity: IoIdentity,
        mac: Mac,
        first: u16,
    ) -> Self {
        Self {
            link,
            layout,
            identity,
            mac,
            relation: None,
            answers: Answers::default(),
            gathered: Gathered::default(),
            boot: u32::from(first) | 0x0001_0000,
            sequence: first.into(),
            out: VecDeque::new(),
        }
    }

    pub(super) const fn is_connected(&self) -> bool {
        self.relation.is_some()
    }

    fn object(&self) -> Uuid {
        Uuid::object(1, self.identity.product, self.identity.vendor)
    }

    /// The connection ends, and the controller is told why.
    pub(super) fn end(&mut self, number: u8, why: Ended) {
        let Some(relation) = self.relation.take() else { return };
        let status = PnioStatus::ended(number);
        let bytes = frame(relation.mac, self.mac, ETHERTYPE, Some(TAG), |out| {
            Rta::emit_error(out, relation.alarm_reference, ALARM_REFERENCE, status);
        });
        self.out.push_back(NetAct::Frame { bytes, due: None });
        self.gone(&relation, why);
    }

    /// The controller ends it.
    fn ended_by_peer(&mut self, how: &'static str) {
        let Some(relation) = self.relation.take() else { return };
        self.tell_end(*relation.from.ip(), how);
        self.gone(&relation, Ended::Closed);
    }

    fn tell_end(&mut self, peer: Ipv4Addr, how: &'static str) {
        self.out.push_back(NetAct::Tell(self.link, LinkNews::Ended { peer, how }));
    }

    fn gone(&mut self, relation: &Relation, why: Ended) {
        let loss = match why {
            Ended::Silent if relation.consumer.invalid => LinkLoss::Invalid,
            Ended::Silent => LinkLoss::Watchdog,
            Ended::Closed => LinkLoss::Closed,
        };
        if relation.state == State::Data {
            self.out.push_back(NetAct::Stopped(self.link, loss));
        }
    }

    pub(super) fn is_due(&self, now: Moment) -> bool {
        self.relation.as_ref().is_some_and(|own| own.provider.is_due(now))
    }

    pub(super) fn wakes_at(&self) -> Moment {
        let Some(own) = &self.relation else { return Moment::NEVER };
        let call = own.ready.as_ref().map_or(Moment::NEVER, Call::wakes_at);
        own.provider.wakes_at().min(own.consumer.wakes_at()).min(own.step_until).min(call)
    }

    /// Takes what goes in the frame that is due.
    pub(super) fn produced(&mut self, now: Moment, cells: &Produced) {
        let Some(own) = &mut self.relation else { return };
        own.provider.produced(now, cells, self.link, &mut self.out);
    }

    /// What is due by time; a datagram for the controller, if there is one.
    pub(super) fn poll(&mut self, now: Moment) -> Option<(SocketAddrV4, Vec<u8>)> {
        let own = self.relation.as_mut()?;
        if own.consumer.is_lost(now) {
            self.end(ended::WATCHDOG, Ended::Silent);
            return None;
        }
        if now >= own.step_until {
            self.end(ended::ACTIVITY, Ended::Silent);
            return None;
        }
        let to = own.from;
        match own.ready.as_mut()?.poll(now) {
            Ok(bytes) => Some((SocketAddrV4::new(*to.ip(), RPC_PORT), bytes?)),
            Err(()) => {
                self.end(ended::READY_FAILED, Ended::Silent);
                None
            }
        }
    }

    /// Takes a cyclic frame.
    pub(super) fn take_frame(&mut self, now: Moment, from: Mac, payload: &[u8]) {
        let Some(own) = &mut self.relation else { return };
        own.consumer.heard(now, (from, payload), self.link, &mut self.out);
    }

    /// Takes a message of the alarm channel.
    pub(super) fn take_alarm(&mut self, from: Mac, payload: &[u8]) {
        let Some(own) = self.relation.as_mut().filter(|own| own.mac == from) else { return };
        let Ok(message) = Rta::parse(payload) else { return };
        if (message.to, message.from) != (ALARM_REFERENCE, own.alarm_reference) {
            return;
        }
        match message.kind {
            RtaKind::Error => self.ended_by_peer("which reported an error"),
            RtaKind::Data => {
                own.alarm_taken = message.sequence;
                let (to, acknowledged) = (own.alarm_reference, own.alarm_taken);
                let answer = Rta {
                    frame_id: message.frame_id,
                    to,
                    from: ALARM_REFERENCE,
                    kind: RtaKind::Ack,
                    flags: 1,
                    sequence: rta::NOTHING_YET,
                    acknowledged,
                    data: &[],
                };
                let bytes = frame(from, self.mac, ETHERTYPE, Some(TAG), |out| answer.emit(out));
                self.out.push_back(NetAct::Frame { bytes, due: None });
            }
            // Nothing of ours is under way.
            RtaKind::Nack | RtaKind::Ack => {}
        }
    }

    /// Takes a datagram of the calls' port, with who sent it by the frame that carried it; its answer, if it has one.
    pub(super) fn take_call(
        &mut self,
        now: Moment,
        (from, via): (SocketAddrV4, Mac),
        bytes: &[u8],
    ) -> Option<Vec<u8>> {
        let (header, body) = Header::parse(bytes).ok()?;
        match header.kind {
            kind::REQUEST => {}
            kind::RESPONSE | kind::REJECT | kind::FAULT => {
                return match complete(&mut self.gathered, &header, body, self.boot) {
                    Completed::Whole(body) => {
                        self.answered(&header, &body);
                        None
                    }
                    Completed::More(said) => said,
                    Completed::Broken => None,
                };
            }
            kind::PING => {
                let mut out = vec![];
                header.answer(kind::NO_CALL, self.boot).emit_with(&mut out, |_| {});
                return Some(out);
            }
            _ => return None,
        }
        match self.answers.judge(&header) {
            CallJudgement::New => {}
            // A long one that comes again is answered at its end, and until then its parts are taken.
            CallJudgement::Again(_) if header.is_part() && !header.is_last() => {
                return acknowledged(&header, self.boot, header.fragment);
            }
            CallJudgement::Again(answer) => return Some(answer),
            CallJudgement::Old => return None,
        }
        let boot = self.boot;
        let rejected = |reason| Some(rejected(&header, boot, reason));
        if header.interface != Uuid::interface(rpc::DEVICE) || header.object != self.object() {
            return rejected(rpc::UNKNOWN_INTERFACE);
        }
        let body = match complete(&mut self.gathered, &header, body, self.boot) {
            Completed::Whole(body) => body,
            Completed::More(said) => return said,
            Completed::Broken => return rejected(PROTOCOL_ERROR),
        };
        let service = match header.operation {
            operation::CONNECT => service::CONNECT,
            operation::RELEASE => service::RELEASE,
            operation::READ | operation::READ_IMPLICIT => service::READ,
            operation::WRITE => service::WRITE,
            operation::CONTROL => service::CONTROL,
            _ => return rejected(rpc::UNKNOWN_OPERATION),
        };
        let read = Arguments::of_call(&body, header.little);
        let most = read.as_ref().map_or(ARGUMENTS, |own| own.first);
        let mut blocks = vec![];
        let done = match read {
            Err(error) => Err(status::of(service, &error)),
            Ok(arguments) => match service {
                service::CONNECT => self.connect(now, (from, via), arguments.bytes, &mut blocks),
                service::READ => self.read((from, via), header.operation, &arguments, &mut blocks),
                service::WRITE => self.write(now, (from, via), arguments.bytes, &mut blocks),
                _ => self.control(now, (from, via), service, arguments.bytes, &mut blocks),
            },
        };
        let first = done.err().unwrap_or(PnioStatus::OK).0;
        let mut out = vec![];
        header.answer(kind::RESPONSE, self.boot).emit_with(&mut out, |out| {
            emit_arguments(out, header.little, (first, most), |out| out.extend_from_slice(&blocks));
        });
        self.answers.keep(&header, &out);
        Some(out)
    }

    fn connect(
        &mut self,
        now: Moment,
        (from, via): (SocketAddrV4, Mac),
        arguments: &[u8],
        out: &mut Vec<u8>,
    ) -> Result<(), PnioStatus> {
        let opened = judge(arguments, &self.layout).and_then(|own| match &self.relation {
            // The controller that has it opens it again; another one must wait, whoever it says that it is.
            Some(old) if (old.from.ip(), old.via) != (from.ip(), via) => {
                Err(PnioStatus::protocol(service::CONNECT, place::CALLS, calls::OUT_OF_RELATIONS))
            }
            _ => Ok(own),
        });
        let own = match opened {
            Ok(own) => own,
            Err(status) => {
                let why = status.words().unwrap_or_default();
                let news = LinkNews::Refused { peer: *from.ip(), refusal: refusal_of(status), why };
                self.out.push_back(NetAct::Tell(self.link, news));
                return Err(status);
            }
        };
        if self.relation.is_some() {
            self.tell_end(*from.ip(), "which opened it again");
        }
        self.end(ended::NEW_RELATION, Ended::Closed);
        let Opening { ar, alarm, input, output, differences } = own;
        ArAnswer { ar_type: AR_CONTROLLER, uuid: ar.uuid, session: ar.session, mac: self.mac }.emit(out);
        for (direction, half) in [(Direction::Input, &input), (Direction::Output, &output)] {
            IocrAnswer { direction, reference: half.reference, frame_id: half.flow.frame_id }.emit(out);
        }
        AlarmAnswer { reference: ALARM_REFERENCE, longest: ALARM_LONGEST }.emit(out);
        // Each is shorter than what expects it, so the answer is no longer than its call may be.
        if !differences.is_empty() {
            submodules::emit_differences(out, &differences);
        }
        let patience = u64::from(ar.activity_timeout) * 100_000;
        // Frames go to the controller that the block names: a router may have carried the call.
        let controller = ar.mac;
        self.relation = Some(Relation {
            state: State::Parameters,
            uuid: ar.uuid,
            session: ar.session,
            mac: controller,
            from,
            via,
            object: ar.object,
            patience,
            step_until: now + patience,
            alarm_reference: alarm.reference,
            alarm_taken: rta::NOTHING_YET,
            provider: Provider::new(input.flow, (self.mac, controller), now),
            consumer: Consumer::new(output.flow, controller, output.watchdog, (now, patience)),
            ready: None,
        });
        Ok(())
    }

    /// The connection that a call is about.
    fn relation_of(
        &mut self,
        uuid: Uuid,
        (from, via): (SocketAddrV4, Mac),
        service: u8,
    ) -> Result<&mut Relation, PnioStatus> {
        let unknown = PnioStatus::protocol(service, place::CALLS, calls::RELATION_UNKNOWN);
        self.relation
            .as_mut()
            .filter(|own| own.uuid == uuid && (own.from.ip(), own.via) == (from.ip(), via))
            .ok_or(unknown)
    }

    fn control(
        &mut self,
        now: Moment,
        caller: (SocketAddrV4, Mac),
        service: u8,
        arguments: &[u8],
        out: &mut Vec<u8>,
    ) -> Result<(), PnioStatus> {
        let own = Block::parse(arguments).and_then(|(block, _)| Control::parse(&block));
        let own = own.map_err(|error| status::of(service, &error))?;
        let wrong = PnioStatus::protocol(service, place::CALLS, calls::STATE);
        let (mac, sequence) = (self.mac, self.sequence);
        let relation = self.relation_of(own.uuid, caller, service)?;
        if relation.session != own.session {
            return Err(PnioStatus::protocol(service, place::CALLS, calls::RELATION_UNKNOWN));
        }
        match own.step {
            Step::ParametersEnd if service == service::CONTROL && relation.state == State::Parameters => {
                relation.state = State::Ready;
                relation.step_until = now + relation.patience;
                relation.provider.ready = true;
                let activity = activity(mac, own.uuid);
                let header =
                    Header::call(relation.object, rpc::CONTROLLER, activity, sequence, operation::CONTROL);
                let mut bytes = vec![];
                header.emit_with(&mut bytes, |out| {
                    emit_arguments(out, true, (ARGUMENTS, ARGUMENTS), |out| {
                        Control { step: Step::Ready, done: false, ..own }.emit(out);
                    });
                });
                relation.ready = Some(Call::new(now, relation.from, &header, bytes));
                self.sequence = self.sequence.wrapping_add(1);
            }
            Step::Release if service == service::RELEASE => {
                self.ended_by_peer("which released it");
            }
            _ => return Err(wrong),
        }
        Control { done: true, ..own }.emit(out);
        Ok(())
    }

    /// Takes what the controller says to our being ready.
    fn answered(&mut self, header: &Header, body: &[u8]) {
        let Some(own) = &mut self.relation else { return };
        if !own.ready.as_ref().is_some_and(|call| call.is_answered_by(header)) {
            return;
        }
        let good = header.kind == kind::RESPONSE
            && Arguments::of_answer(body, header.little).is_ok_and(|own| own.status() == PnioStatus::OK);
        if !good {
            self.end(ended::READY_FAILED, Ended::Closed);
            return;
        }
        own.ready = None;
        own.state = State::Data;
        own.step_until = Moment::NEVER;
        own.consumer.lands = true;
        let (period, lost_after) = (own.consumer.flow.period, own.consumer.watchdog);
        let news = LinkNews::Opened { peer: *own.from.ip(), period, lost_after, only_reads: false };
        self.out.push_back(NetAct::Tell(self.link, news));
    }

    fn read(
        &mut self,
        caller: (SocketAddrV4, Mac),
        asked: u16,
        arguments: &Arguments<'_>,
        out: &mut Vec<u8>,
    ) -> Result<(), PnioStatus> {
        let (own, _) =
            RecordHeader::parse(arguments.bytes).map_err(|error| status::of(service::READ, &error))?;
        let mut data = vec![];
        let found = self.record(caller, asked, &own, &mut data);
        let length = u32::try_from(data.len()).unwrap_or(0);
        let answer = RecordHeader {
            answers: true,
            record: woodrush_wire::profinet::records::Record { length, ..own.record },
            rest: &[0; 24],
            ..own
        };
        answer.emit(out);
        out.extend_from_slice(&data);
        found
    }

    fn record(
        &mut self,
        caller: (SocketAddrV4, Mac),
        asked: u16,
        own: &RecordHeader<'_>,
        out: &mut Vec<u8>,
    ) -> Result<(), PnioStatus> {
        if own.writes {
            return Err(PnioStatus::protocol(service::READ, place::READ, 0));
        }
        if asked == operation::READ {
            self.relation_of(own.record.uuid, caller, service::READ)?;
        }
        self.must_be_plugged(own, service::READ)?;
        if own.record.index != IM0_INDEX {
            return Err(PnioStatus::record(service::READ, record::INVALID_INDEX));
        }
        let (major, minor) = self.identity.revision;
        let identification = Identification {
            vendor: self.identity.vendor,
            order: Identification::padded(&self.identity.name),
            serial: Identification::padded(&format!("{:010}", self.identity.serial)),
            hardware: 1,
            prefix: b'V',
            software: [major, minor, 0],
            changes: 0,
            profile: [0, 0],
            version: [1, 1],
            supported: 0,
        };
        identification.emit(out);
        Ok(())
    }

    fn must_be_plugged(&self, own: &RecordHeader<'_>, service: u8) -> Result<(), PnioStatus> {
        let wanted = (own.record.api, own.record.slot, own.record.subslot);
        let here = self.layout.expected();
        match here.iter().any(|own| (own.api, own.slot, own.subslot) == wanted) {
            true => Ok(()),
            false => Err(PnioStatus::record(service, record::INVALID_SLOT)),
        }
    }

    fn write(
        &mut self,
        now: Moment,
        caller: (SocketAddrV4, Mac),
        arguments: &[u8],
        out: &mut Vec<u8>,
    ) -> Result<(), PnioStatus> {
        let (own, _) = RecordHeader::parse(arguments).map_err(|error| status::of(service::WRITE, &error))?;
        RecordHeader { answers: true, rest: &[0; 24], ..own }.emit(out);
        if !own.writes {
            return Err(PnioStatus::protocol(service::WRITE, place::WRITE, 0));
        }
        let relation = self.relation_of(own.record.uuid, caller, service::WRITE)?;
        // Each step of the opening has its time again.
        if relation.state != State::Data {
            relation.step_until = now + relation.patience;
        }
        self.must_be_plugged(&own, service::WRITE)?;
        // Nothing of ours is set by a controller: its modules have no parameters.
        Err(PnioStatus::record(service::WRITE, record::INVALID_INDEX))
    }
}
