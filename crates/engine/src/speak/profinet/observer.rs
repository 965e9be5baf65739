//! Listening to all frames of an interface: what each says, discovery and calls in words, cycles slot by slot.

use super::calls::{Completed, complete};
use super::ether::EtherFrame;
use super::ip::{ARP, IPV4, datagram_of};
use crate::Moment;
use crate::hex::mac_shown;
use crate::speak::observer::{AnswerMeaning, Asked, Heard, Observer, ObserverSetup, Says, Side, Touch};
use etherparse::{ArpOperation, ArpPacketSlice};
use std::borrow::Cow;
use std::collections::{HashMap, VecDeque};
use std::net::Ipv4Addr;
use woodrush_core::one_line::one_line;
use woodrush_core::plan::Station;
use woodrush_core::protocol::Verb;
use woodrush_core::protocol::profinet::{StationLayout, shown_suite};
use woodrush_wire::profinet::block::{Block, Blocks, kind as block};
use woodrush_wire::profinet::connect::ArRequest;
use woodrush_wire::profinet::control::{Control, Step};
use woodrush_wire::profinet::dcp::{Choice, Dcp, DcpBlock, IpSuite, Kind, Service, outcome};
use woodrush_wire::profinet::iocr::{Direction, IocrRequest};
use woodrush_wire::profinet::parts::Gathered;
use woodrush_wire::profinet::records::RecordHeader;
use woodrush_wire::profinet::rpc::{Arguments, Header, kind, operation};
use woodrush_wire::profinet::rt::{RtFrame, iox, is_cyclic};
use woodrush_wire::profinet::rta::{self, Rta, RtaKind};
use woodrush_wire::profinet::status::PnioStatus;
use woodrush_wire::profinet::submodules;
use woodrush_wire::profinet::{ETHERTYPE, RPC_PORT, lldp};

/// Directions whose last frame is kept; with one more, all are forgotten.
const KNOWN_MAX: usize = 64;

/// The last frame of a direction.
struct LastData {
    data: Vec<u8>,
    unchanged: u64,
}

/// What listens to frames that pass between us and one other.
pub(super) struct EthernetObserver {
    /// The station that we are, as far as the project says.
    station: Option<(Station, StationLayout)>,
    known: HashMap<(Side, u16), LastData>,
    /// FrameIDs of frames to the controller, as openings have said.
    inputs: Vec<u16>,
    /// Calls of which parts have been heard.
    gathered: Gathered,
    heard: VecDeque<Heard>,
}

impl EthernetObserver {
    pub(super) fn new(setup: &ObserverSetup<'_>) -> Self {
        let of = |own: &Station| Some((own.clone(), StationLayout::of(&own.setup)?));
        Self {
            station: setup.stations.iter().find_map(of),
            known: HashMap::new(),
            inputs: vec![],
            gathered: Gathered::default(),
            heard: VecDeque::new(),
        }
    }

    fn says(&mut self, side: Side, frame: &[u8]) -> Says {
        let Some(ether) = EtherFrame::parse(frame) else {
            return Says::Noise("too short for an Ethernet frame".into());
        };
        let id = ether.payload.first_chunk().map_or(0, |own| u16::from_be_bytes(*own));
        match ether.kind {
            ETHERTYPE if is_cyclic(id) => self.cycle(side, id, ether.payload),
            ETHERTYPE if matches!(id, rta::HIGH | rta::LOW) => alarm(ether.payload),
            ETHERTYPE => match Dcp::parse(ether.payload) {
                Ok(own) => discovery(&own),
                Err(error) => Says::Noise(error.to_string()),
            },
            IPV4 => self.call(&ether),
            ARP => arp(ether.payload),
            lldp::ETHERTYPE => sign("tells its neighbour who it is", false),
            other => {
                sign(format!("a frame of EtherType 0x{other:04X} from {}", mac_shown(ether.from)), false)
            }
        }
    }

    /// A datagram of calls: one that is a part says so, and the one that completes the message tells all of it.
    fn call(&mut self, ether: &EtherFrame<'_>) -> Says {
        let Some((_, datagram)) =
            datagram_of(ether).filter(|(_, own)| own.port == RPC_PORT || own.from.port() == RPC_PORT)
        else {
            return sign("another packet over IP", false);
        };
        let (header, body) = match Header::parse(datagram.bytes) {
            Ok(own) => own,
            Err(error) => return Says::Noise(error.to_string()),
        };
        match complete(&mut self.gathered, &header, body, 0) {
            Completed::Whole(body) => {
                self.learn(&header, &body);
                call(&header, &body)
            }
            Completed::More(_) => {
                let (name, part) = (called(header.operation), header.fragment + 1);
                let whose = if header.kind == kind::REQUEST { "" } else { ", answered" };
                sign(format!("{name}{whose}: part {part}, and more to come"), false)
            }
            Completed::Broken => Says::Noise("parts of a call that make none".into()),
        }
    }

    /// Which frames go to the controller, as it says when it opens.
    fn learn(&mut self, header: &Header, body: &[u8]) {
        if (header.kind, header.operation) != (kind::REQUEST, operation::CONNECT) {
            return;
        }
        let Ok(arguments) = Arguments::of_call(body, header.little) else { return };
        let own = Blocks(arguments.bytes).flatten().filter(|own| own.kind == block::IOCR);
        let input = own.filter_map(|own| IocrRequest::parse(&own).ok());
        let ids = input.filter(|own| own.direction == Direction::Input).map(|own| own.frame_id);
        self.inputs = ids.collect();
    }

    /// A cyclic frame: which of our directions it is follows from who sent it.
    fn cycle(&mut self, side: Side, id: u16, payload: &[u8]) -> Says {
        let to_controller = match side {
            Side::Asks => false,
            Side::Answers => true,
            // Of two other stations: by its number, as far as the opening was heard.
            Side::Either => self.inputs.is_empty() || self.inputs.contains(&id),
        };
        let layout = self.station.as_ref().map(|(_, layout)| layout.frame(to_controller));
        let length = layout.as_ref().and_then(|(_, length)| u16::try_from(*length).ok()).unwrap_or(40);
        let frame = match RtFrame::parse(payload, length) {
            Ok(frame) => frame,
            Err(error) => return Says::Noise(error.to_string()),
        };
        if self.known.len() > KNOWN_MAX {
            self.known.clear();
        }
        let mut now = frame.data.to_vec();
        now.push(frame.status.0);
        let (changed, unchanged) = match self.known.get_mut(&(side, id)) {
            Some(last) if last.data == now => {
                last.unchanged += 1;
                (false, last.unchanged)
            }
            last => {
                let before = last.map_or(0, |last| last.unchanged);
                self.known.insert((side, id), LastData { data: now, unchanged: 0 });
                (true, before)
            }
        };
        let mut words = String::from(if to_controller {
            "inputs, to the controller"
        } else {
            "outputs, from the controller"
        });
        words.push_str(match (frame.status.is_valid(), frame.status.runs(), frame.status.has_problem()) {
            (false, ..) => ", INVALID",
            (_, false, _) => ", STOP",
            (.., true) => ", a problem",
            _ => ", run",
        });
        let mut what = Asked {
            station: None,
            number: None,
            code: id.into(),
            words: Cow::Borrowed(""),
            touches: vec![],
            all: false,
            body: vec![],
        };
        let mut bad = vec![];
        for part in layout.iter().flat_map(|(parts, _)| parts) {
            let (Some(bytes), Some((station, own))) = (part.data.map(usize::from), &self.station) else {
                continue;
            };
            let at = usize::from(part.placed.offset);
            let (Some(cells), Some(status)) = (frame.data.get(at..at + bytes), frame.data.get(at + bytes))
            else {
                continue;
            };
            let place = (part.placed.slot, part.placed.subslot);
            let Some(submodule) = own.submodules.iter().find(|own| (own.slot, own.subslot) == place) else {
                continue;
            };
            what.station = station.id();
            // What a sender says while it stands still is taken as lost, here as in the exchange.
            let good = iox::is_good(*status) && frame.status.is_valid() && frame.status.runs();
            if !iox::is_good(*status) {
                bad.push(format!("{} bad, says {}", submodule.shown(), iox::origin(*status)));
            }
            let key = woodrush_core::protocol::profinet::key_of(place.0, place.1, to_controller);
            let space = station.spaces.id(&key).and_then(|id| station.space_at(id));
            if let Some(space) = space {
                let count = u32::try_from(bytes).unwrap_or(0);
                let verb = if to_controller { Verb::Read } else { Verb::Write };
                what.touches.push(Touch {
                    verb,
                    space: space.clone(),
                    first: 0,
                    count,
                    cells: good.then(|| cells.to_vec()),
                });
            }
        }
        if !bad.is_empty() {
            words = format!("{words}; {}", bad.join(", "));
        }
        what.words = words.into();
        Says::Cycle { what: Box::new(what), changed, unchanged }
    }
}

fn sign(words: impl Into<Cow<'static, str>>, bad: bool) -> Says {
    Says::Sign { words: words.into(), bad }
}

/// A block about a station, in words.
fn of_station(block: &DcpBlock<'_>) -> Option<String> {
    let text = || one_line(block.value);
    Some(match block.choice {
        Choice::NAME if block.value.is_empty() => "no name yet".into(),
        Choice::NAME => format!("name `{}`", text()),
        Choice::IP => match IpSuite::of(block.value) {
            Some(own) if own.address.is_unspecified() => "no address".into(),
            Some(own) => format!("address {}", shown_suite(own)),
            None => "an address of a wrong length".into(),
        },
        Choice::STATION_TYPE => format!("type {}", text()),
        Choice::DEVICE_ID => {
            let words: Vec<String> =
                block.value.chunks_exact(2).map(|own| format!("0x{:02X}{:02X}", own[0], own[1])).collect();
            format!("vendor and device {}", words.join(" "))
        }
        Choice::ALL => "all stations".into(),
        Choice::SIGNAL => "blink".into(),
        Choice::FACTORY | Choice::RESET => "as it was shipped".into(),
        Choice::RESPONSE => {
            let code = block.value.get(2).copied().unwrap_or(outcome::OK);
            outcome::words(code).into()
        }
        _ => return None,
    })
}

fn discovery(own: &Dcp<'_>) -> Says {
    let parts: Vec<String> = own.blocks().filter_map(|block| of_station(&block)).collect();
    let parts = parts.join(", ");
    let failed = own.blocks().any(|block| {
        block.choice == Choice::RESPONSE && block.value.get(2).is_some_and(|code| *code != outcome::OK)
    });
    let words = match (own.service, own.kind) {
        (Service::Identify, Kind::Request) => format!("DCP identify: {parts}"),
        (Service::Identify, _) => format!("DCP identified: {parts}"),
        (Service::Set, Kind::Request) => format!("DCP set: {parts}"),
        (Service::Set, _) => format!("DCP set: {parts}"),
        (Service::Get, Kind::Request) => "DCP get".into(),
        (Service::Get, _) => format!("DCP got: {parts}"),
        (Service::Hello, _) => format!("DCP hello: {parts}"),
    };
    sign(words, failed || own.kind == Kind::NotSupported)
}

fn alarm(payload: &[u8]) -> Says {
    match Rta::parse(payload) {
        Ok(own) => match (own.kind, own.error()) {
            (RtaKind::Error, Some(status)) => sign(format!("breaks the connection off: {status}"), true),
            (RtaKind::Error, None) => sign("breaks the connection off", true),
            (RtaKind::Data, _) => sign(format!("alarm {}", own.sequence), false),
            (RtaKind::Ack, _) => sign(format!("alarm {} acknowledged", own.acknowledged), false),
            (RtaKind::Nack, _) => sign("an alarm is not taken", true),
        },
        Err(error) => Says::Noise(error.to_string()),
    }
}

fn arp(payload: &[u8]) -> Says {
    let Ok(own) = ArpPacketSlice::from_slice(payload) else {
        return Says::Noise("no question about an address".into());
    };
    let four =
        |bytes: &[u8]| bytes.first_chunk::<4>().map_or(Ipv4Addr::UNSPECIFIED, |own| Ipv4Addr::from(*own));
    let (sender, target) = (four(own.sender_protocol_addr()), four(own.target_protocol_addr()));
    match own.operation() {
        ArpOperation::REQUEST if sender == target => sign(format!("says that it has {sender}"), false),
        ArpOperation::REQUEST => sign(format!("who has {target}?"), false),
        _ => {
            let mac = own.sender_hw_addr().first_chunk::<6>().copied().unwrap_or_default();
            sign(format!("{sender} is at {}", mac_shown(mac)), false)
        }
    }
}

/// What an operation is called.
const fn called(asked: u16) -> &'static str {
    match asked {
        operation::CONNECT => "connect",
        operation::RELEASE => "release",
        operation::READ | operation::READ_IMPLICIT => "read",
        operation::WRITE => "write",
        operation::CONTROL => "control",
        _ => "unknown call",
    }
}

/// A call or an answer that is whole.
fn call(header: &Header, body: &[u8]) -> Says {
    let name = called(header.operation);
    match header.kind {
        kind::REQUEST => match Arguments::of_call(body, header.little) {
            Ok(own) => sign(asked(name, own.bytes), false),
            Err(error) => Says::Noise(error.to_string()),
        },
        kind::RESPONSE => match Arguments::of_answer(body, header.little) {
            Ok(own) if own.status() == PnioStatus::OK => sign(answered(name, own.bytes), false),
            Ok(own) => sign(format!("{name} refused: {}", own.status()), true),
            Err(error) => Says::Noise(error.to_string()),
        },
        kind::REJECT | kind::FAULT => sign(format!("{name} rejected"), true),
        kind::ACK_OF_PART => sign(format!("{name}: parts up to {} came", header.fragment + 1), false),
        _ => sign("a sign of the calls", false),
    }
}

/// What a step of a connection is called.
fn step(own: &Control) -> &'static str {
    match own.step {
        Step::ParametersEnd => "the parameters are complete",
        Step::Ready => "the device is ready",
        Step::Release => "release",
    }
}

/// A call in words: who opens what, which step, which record.
fn asked(name: &str, arguments: &[u8]) -> String {
    if let Ok((own, _)) = RecordHeader::parse(arguments) {
        let at = own.record;
        return format!("{name} record 0x{:04X} of slot {}, subslot 0x{:X}", at.index, at.slot, at.subslot);
    }
    let mut words = vec![];
    let mut slots = vec![];
    for own in Blocks(arguments).flatten() {
        match own.kind {
            block::AR => {
                if let Ok(own) = ArRequest::parse(&own) {
                    words.push(format!("by `{}`", one_line(own.name)));
                }
            }
            block::IOCR => {
                if let Ok(own) = IocrRequest::parse(&own).map(|own| own.period_ns() / 1000) {
                    let cycle = format!("a cycle of {}", woodrush_core::project::show_micros(own));
                    if !words.contains(&cycle) {
                        words.push(cycle);
                    }
                }
            }
            block::EXPECTED => {
                let _ = submodules::parse(&own, |own| slots.push(own.slot));
            }
            _ => {
                if let Ok(own) = Control::parse(&own) {
                    return step(&own).into();
                }
            }
        }
    }
    slots.dedup();
    slots.retain(|slot| *slot != 0);
    if !slots.is_empty() {
        let slots: Vec<String> = slots.iter().map(u16::to_string).collect();
        words.push(format!("slots {}", slots.join(", ")));
    }
    format!("{name} {}", words.join(", "))
}

/// The answer to a call that was taken.
fn answered(name: &str, arguments: &[u8]) -> String {
    let mut differs = vec![];
    for own in Blocks(arguments).flatten() {
        if own.kind == block::MODULE_DIFF {
            let _ = submodules::parse_differences(&own, |own| {
                differs.push(format!("slot {}: {}", own.slot, own.state.words()));
            });
        }
    }
    let done = Block::parse(arguments).ok().and_then(|(own, _)| Control::parse(&own).ok());
    match done {
        Some(own) => format!("{}: done", step(&own)),
        None if differs.is_empty() => format!("{name}: done"),
        None => format!("{name}: done, but {}", differs.join("; ")),
    }
}

impl Observer for EthernetObserver {
    fn handle(&mut self, began: Moment, now: Moment, side: Side, bytes: &[u8]) {
        if bytes.is_empty() {
            return;
        }
        let says = self.says(side, bytes);
        self.heard.push_back(Heard { side, began, ended: now, bytes: bytes.to_vec(), says });
    }

    fn poll(&mut self, _now: Moment) -> Option<Heard> {
        self.heard.pop_front()
    }

    fn answer(&self, _request: &Asked, _answer: &[u8]) -> AnswerMeaning {
        AnswerMeaning::Good(vec![])
    }

    fn reset(&mut self) {
        self.known.clear();
        self.gathered = Gathered::default();
    }
}
