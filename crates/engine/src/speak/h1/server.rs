//! The link itself, for the rig: who is on the segment, values and writes of its devices, publications.

use super::publisher::{Disturbed, Publisher, SUBSCRIPTIONS_MAX};
use super::segment::{LINK_NODE, Segment};
use super::{link_error, refused};
use crate::Moment;
use crate::speak::{News, STREAM_MAX, Serve, Server, ServerSetup, Want};
use woodrush_core::protocol::Extent;
use woodrush_core::protocol::PortKeys;
use woodrush_core::protocol::h1::{BlockKind, macrocycle, tag, unpolled};
use woodrush_core::{Kind, Refusal};
use woodrush_wire::h1::frame::{self, Frame, Kind as FrameKind, PAYLOAD_MAX, VERSION, op};
use woodrush_wire::h1::{
    ANY_REVISION, BlockEntry, Identity, LinkState, LiveEntry, Object, Publication, Request, Response, Typed,
    error,
};

/// The first number of `ST_REV`'s place in a block.
const ST_REV: u16 = 1;

pub(super) struct LinkServer {
    setup: ServerSetup,
    segment: Segment,
    greeted: bool,
    came: Vec<u8>,
    out: Vec<u8>,
    hang_up: Option<String>,
    work: Option<Pended>,
    /// What the work wants was asked for, and is not answered.
    wants: bool,
    publisher: Publisher,
    now: Moment,
}

/// What is under way.
struct Pended {
    invoke: u16,
    device: usize,
    at: Object,
    stage: WorkStage,
}

enum WorkStage {
    Read(Extent, u8),
    /// The block's revision is looked at, then the cells are written.
    Compare(u16, Extent, Vec<u8>),
    Write(Extent, Vec<u8>),
    /// The revision after a write.
    Written,
    /// A value for a subscription, by its place.
    Publish(usize, Extent, u8),
}

impl LinkServer {
    pub(super) fn new(setup: &ServerSetup) -> Self {
        let mut server = Self {
            setup: setup.clone(),
            segment: Segment::default(),
            greeted: false,
            came: vec![],
            out: vec![],
            hang_up: None,
            work: None,
            wants: false,
            publisher: Publisher::default(),
            now: Moment(0),
        };
        server.segment.set_up(&setup.devices, &setup.own, setup.line.no_master);
        server
    }

    fn respond(&mut self, invoke: u16, response: &Response<'_>) {
        frame::emit_with(FrameKind::Response, response.op(), invoke, &mut self.out, |out| response.emit(out));
    }

    fn refuse(&mut self, op: u16, invoke: u16, why: (u8, u8)) {
        refused(op, invoke, why, 0, &mut self.out);
    }

    /// Looks at what came, one request after the other, until something is wanted.
    fn look(&mut self) {
        while self.work.is_none() && self.hang_up.is_none() {
            let came = std::mem::take(&mut self.came);
            match frame::parse(&came) {
                Ok(None) => {
                    self.came = came;
                    return;
                }
                Err(error) => {
                    if frame::is_other_version(&error) {
                        self.refuse(0, 0, error::VERSION);
                    }
                    self.hang_up = Some(error.to_string());
                }
                Ok(Some((frame, used))) => {
                    self.take(&frame);
                    self.came = came.get(used..).unwrap_or_default().to_vec();
                }
            }
        }
    }

    fn take(&mut self, frame: &Frame<'_>) {
        let (code, invoke) = (frame.op, frame.invoke);
        if frame.kind != FrameKind::Request {
            self.hang_up = Some("the other end answers, and nothing was asked".into());
            return;
        }
        match Request::parse(code, frame.payload) {
            Ok(None) => self.refuse(code, invoke, error::UNKNOWN_OPERATION),
            Err(_) => self.refuse(code, invoke, error::MALFORMED),
            Ok(Some(request)) if !self.greeted && !matches!(request, Request::Hello { .. }) => {
                self.refuse(code, invoke, error::HELLO_FIRST);
            }
            Ok(Some(request)) => self.serve(code, invoke, request),
        }
    }

    fn serve(&mut self, code: u16, invoke: u16, request: Request<'_>) {
        match request {
            Request::Hello { version, .. } if version != u16::from(VERSION) => {
                self.refuse(code, invoke, error::VERSION);
            }
            Request::Hello { .. } => {
                self.greeted = true;
                let response = Response::Hello {
                    version: VERSION.into(),
                    payload_max: PAYLOAD_MAX,
                    subscriptions_max: u16::try_from(SUBSCRIPTIONS_MAX).unwrap_or(u16::MAX),
                    server: "h1sim",
                    link: "segment",
                };
                self.respond(invoke, &response);
            }
            Request::Ping => self.respond(invoke, &Response::Ping),
            Request::LiveList => self.live_list(invoke),
            Request::Link => self.link_state(invoke),
            Request::Identify(node) => self.identify(invoke, node),
            Request::Blocks(node) => self.blocks(invoke, node),
            Request::FindTag(wanted) => match self.find_tag(wanted) {
                Some((kind, node, index)) => self.respond(invoke, &Response::FindTag { kind, node, index }),
                None => self.refuse(code, invoke, error::NO_OBJECT),
            },
            Request::Read(at) => match self.cells(at) {
                Ok((device, extent, code)) => {
                    self.work = Some(Pended { invoke, device, at, stage: WorkStage::Read(extent, code) });
                }
                Err(why) => self.refuse(code, invoke, why),
            },
            Request::Write { at, revision, value } => match self.cells(at) {
                Ok((device, extent, own)) if value.kind == own => {
                    let cells = value.data.to_vec();
                    let stage = match revision {
                        ANY_REVISION => WorkStage::Write(extent, cells),
                        revision => WorkStage::Compare(revision, extent, cells),
                    };
                    self.work = Some(Pended { invoke, device, at, stage });
                }
                Ok(_) => self.refuse(code, invoke, error::TYPE_CONFLICT),
                Err(why) => self.refuse(code, invoke, why),
            },
            Request::Subscribe { id, at, period_ms, stale } => match self.cells(at) {
                Ok(_) => {
                    let (period, cycle) = (u64::from(period_ms) * 1000, macrocycle(&self.setup.own));
                    match self.publisher.subscribe(self.now, (id, at), period, stale, cycle) {
                        Some(granted) => {
                            let granted_ms = u32::try_from(granted / 1000).unwrap_or(u32::MAX);
                            self.respond(invoke, &Response::Subscribe { id, granted_ms });
                        }
                        None => self.refuse(code, invoke, error::TOO_MANY),
                    }
                }
                Err(why) => self.refuse(code, invoke, why),
            },
            Request::Unsubscribe(id) => {
                self.publisher.unsubscribe(id);
                self.respond(invoke, &Response::Unsubscribe(id));
            }
        }
    }

    fn cells(&self, at: Object) -> Result<(usize, Extent, u8), (u8, u8)> {
        let device = self.segment.device(at.node).ok_or(error::NO_NODE)?;
        let cells = self.segment.cells(device, at.index, at.sub).ok_or(error::NO_OBJECT)?;
        cells.map(|(extent, code)| (device, extent, code)).map_err(|()| error::BAD_SUB_INDEX)
    }

    fn live_list(&mut self, invoke: u16) {
        let entries = self.segment.nodes.iter().map(|own| LiveEntry {
            node: own.node,
            flags: own.flags,
            tag: &own.tag,
            device_id: &own.device_id,
        });
        let response = Response::LiveList { version: self.segment.version, entries: entries.collect() };
        frame::emit_with(FrameKind::Response, op::LIVE_LIST, invoke, &mut self.out, |out| response.emit(out));
    }

    fn link_state(&mut self, invoke: u16) {
        let hidden = unpolled(PortKeys(&self.setup.own)).ok().flatten().unwrap_or(0..0);
        let byte = |number: u32| u8::try_from(number).unwrap_or(u8::MAX);
        let no_master = self.setup.line.no_master;
        let state = LinkState {
            state: u8::from(!no_master),
            scheduler: if no_master { 0 } else { LINK_NODE },
            first_unpolled: byte(hidden.start),
            unpolled: byte(hidden.end - hidden.start),
            macrocycle_ms: u32::try_from(macrocycle(&self.setup.own) / 1000).unwrap_or(u32::MAX),
            version: self.segment.version,
        };
        self.respond(invoke, &Response::Link(state));
    }

    fn identify(&mut self, invoke: u16, node: u8) {
        let Some(own) = self.segment.nodes.iter().find(|own| own.node == node) else {
            return self.refuse(op::IDENTIFY, invoke, error::NO_NODE);
        };
        let blocks =
            own.device.and_then(|at| self.segment.served(at)).and_then(|own| own.setup.blocks.clone());
        let number = |number: Option<u32>| number.unwrap_or(1);
        let identity = Identity {
            node,
            tag: &own.tag,
            device_id: &own.device_id,
            manufacturer: number(blocks.as_ref().and_then(|own| own.manufacturer)),
            device_type: u16::try_from(number(blocks.as_ref().and_then(|own| own.device_type))).unwrap_or(1),
            revision: u8::try_from(number(blocks.as_ref().and_then(|own| own.revision))).unwrap_or(1),
            dd_revision: 1,
        };
        let response = Response::Identify(identity);
        frame::emit_with(FrameKind::Response, op::IDENTIFY, invoke, &mut self.out, |out| response.emit(out));
    }

    fn blocks(&mut self, invoke: u16, node: u8) {
        let Some(device) = self.segment.device(node) else {
            return self.refuse(op::BLOCKS, invoke, error::NO_NODE);
        };
        let Some(served) = self.segment.served(device) else { return };
        let name = tag(&served.setup).unwrap_or_default();
        let all = served.setup.blocks.clone();
        let tags: Vec<String> =
            all.iter().flat_map(|own| &own.blocks).map(|own| format!("{name}-{}", own.name)).collect();
        let entry = |(own, tag)| {
            let own: &woodrush_core::protocol::DeviceBlock = own;
            let kind = BlockKind::of_word(&own.kind)?;
            let last = own.parameters.iter().map(|own| own.place).max().unwrap_or(0);
            let parameters = kind.length().max(u16::try_from(last).unwrap_or(u16::MAX));
            Some(BlockEntry { start: u16::try_from(own.start).ok()?, kind: kind.code(), parameters, tag })
        };
        let blocks = all.iter().flat_map(|own| &own.blocks).zip(tags.iter().map(String::as_str));
        let response = Response::Blocks { node, blocks: blocks.filter_map(entry).collect() };
        frame::emit_with(FrameKind::Response, op::BLOCKS, invoke, &mut self.out, |out| response.emit(out));
    }

    fn find_tag(&self, wanted: &str) -> Option<(u8, u8, u16)> {
        for own in self.segment.nodes.iter().filter(|own| !own.tag.is_empty()) {
            if own.tag == wanted {
                return Some((1, own.node, 0));
            }
            let served = own.device.and_then(|device| self.segment.served(device));
            let blocks = served.and_then(|served| served.setup.blocks.as_deref());
            let block = blocks.iter().flat_map(|all| &all.blocks);
            if let Some(found) =
                block.into_iter().find(|block| format!("{}-{}", own.tag, block.name) == wanted)
            {
                return Some((2, own.node, u16::try_from(found.start).ok()?));
            }
        }
        None
    }

    fn disturbed(&self, device: usize, at: Object) -> Disturbed {
        let faults = self.segment.served(device).map(|own| own.faults).unwrap_or_default();
        Disturbed {
            late: faults.late_publications,
            dropped: faults.dropped_publications,
            silent: self.setup.line.no_master
                || faults.unscheduled
                || self.segment.device(at.node) != Some(device),
        }
    }

    /// The extent of the revision of the block that an index lies in.
    fn revision_of(&self, device: usize, index: u16) -> Option<Extent> {
        let start = u16::try_from(self.segment.block(device, index)?.start).ok()?;
        self.segment.cells(device, start.saturating_add(ST_REV), 0)?.ok().map(|(extent, _)| extent)
    }

    /// A publication that is due, as something that is wanted; those that say nothing are dealt with.
    fn publish_next(&mut self) {
        while let Some(at) = self.publisher.due(self.now) {
            let Some(own) = self.publisher.all.get(at) else { return };
            let object = own.at;
            match self.cells(object) {
                Ok((device, extent, code)) if !self.disturbed(device, object).silent => {
                    let stage = WorkStage::Publish(at, extent, code);
                    self.work = Some(Pended { invoke: 0, device, at: object, stage });
                    return;
                }
                _ => {
                    let silent = Disturbed { silent: true, ..Disturbed::default() };
                    self.publisher.publish(self.now, at, None, silent, &mut self.out);
                }
            }
        }
    }

    fn want(&self) -> Option<Serve> {
        let work = self.work.as_ref()?;
        let want = match &work.stage {
            WorkStage::Read(extent, _) | WorkStage::Publish(_, extent, _) => Want::Read(*extent),
            WorkStage::Compare(..) | WorkStage::Written => {
                Want::Read(self.revision_of(work.device, work.at.index)?)
            }
            WorkStage::Write(extent, cells) => Want::Write { extent: *extent, cells: cells.clone() },
        };
        Some(Serve::Want { unit: u16::try_from(work.device).ok()?, all: false, want })
    }

    fn go_on(&mut self, mut work: Pended, result: Result<&[u8], Refusal>) {
        let number = |cells: &[u8]| cells.iter().fold(0u16, |sum, byte| sum << 8 | u16::from(*byte));
        let (code, invoke, at) = (op::WRITE, work.invoke, work.at);
        match (work.stage, result) {
            (WorkStage::Read(_, kind), Ok(cells)) => {
                self.respond(invoke, &Response::Read { at, value: Typed { kind, data: cells } });
            }
            (WorkStage::Read(..), Err(refusal)) => self.refuse(op::READ, invoke, link_error(refusal)),
            (WorkStage::Publish(place, _, kind), result) => {
                let disturbed = self.disturbed(work.device, at);
                let value = result.ok().map(|cells| (kind, cells.to_vec()));
                self.publisher.publish(self.now, place, value, disturbed, &mut self.out);
            }
            (WorkStage::Compare(revision, ..), Ok(cells)) if number(cells) != revision => {
                refused(code, invoke, error::REVISION_CHANGED, number(cells), &mut self.out);
            }
            (WorkStage::Compare(_, extent, cells), Ok(_)) => {
                work.stage = WorkStage::Write(extent, cells);
                self.work = Some(work);
            }
            (WorkStage::Write(..), Ok(_)) => {
                work.stage = WorkStage::Written;
                self.work = Some(work);
            }
            (WorkStage::Written, result) => {
                let revision = result.map_or(0, number);
                self.respond(invoke, &Response::Write { at, revision });
            }
            (WorkStage::Compare(..) | WorkStage::Write(..), Err(refusal)) => {
                self.refuse(code, invoke, link_error(refusal));
            }
        }
    }
}

impl Server for LinkServer {
    fn held(&self) -> usize {
        self.came.len() + self.out.len()
    }

    fn handle(&mut self, now: Moment, news: News<'_>) {
        self.now = self.now.max(now);
        match news {
            News::Up | News::Down => {
                (self.greeted, self.hang_up, self.work, self.wants) = (false, None, None, false);
                self.came.clear();
                self.out.clear();
                self.publisher = Publisher::default();
            }
            News::Bytes(bytes) => {
                let room = STREAM_MAX.saturating_sub(self.came.len());
                self.came.extend(bytes.iter().take(room));
                if bytes.len() > room {
                    self.hang_up = Some("more is asked at once than is kept".into());
                }
            }
        }
    }

    fn give(&mut self, result: Result<&[u8], Refusal>) {
        self.wants = false;
        if let Some(work) = self.work.take() {
            self.go_on(work, result);
        }
    }

    fn poll(&mut self, now: Moment) -> Serve {
        self.now = self.now.max(now);
        loop {
            if self.work.is_none() {
                self.look();
            }
            if self.work.is_none() && self.hang_up.is_none() {
                while let Some(bytes) = self.publisher.held_back(self.now) {
                    self.out.extend(bytes);
                }
                self.publish_next();
            }
            if self.work.is_some() && !self.wants {
                if let Some(want) = self.want() {
                    self.wants = true;
                    return want;
                }
                // There is nothing to look at, such as a block without a revision.
                let nothing = Refusal::new(Kind::NoSuchAddress, woodrush_core::Blame::Device);
                self.give(Err(nothing));
                continue;
            }
            return match Serve::said(&mut self.out, &mut self.hang_up) {
                Serve::Rest => self.publisher.next().map_or(Serve::Rest, Serve::WaitUntil),
                said => said,
            };
        }
    }

    fn set_up(&mut self, setup: &ServerSetup) {
        self.setup = setup.clone();
        let changed = self.segment.set_up(&setup.devices, &setup.own, setup.line.no_master);
        if !self.greeted {
            return;
        }
        for (node, flags) in changed {
            let change = Publication::LiveChange { version: self.segment.version, node, flags };
            frame::emit_with(FrameKind::Publication, change.op(), 0, &mut self.out, |out| change.emit(out));
        }
    }

    fn native(&self, refusal: Refusal) -> (u32, &'static str) {
        let (class, code) = link_error(refusal);
        let words = error::words(class, code).unwrap_or("refused");
        (woodrush_core::protocol::h1::link_code(class, code), words)
    }
}
