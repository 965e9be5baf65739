//! Who is on a segment: the live list, what each device is, its blocks and the mode that each is in.

use super::asked;
use super::client::NAME;
use crate::Moment;
use crate::speak::{FindAct, Finder, FinderSetup, FoundPart, FoundStation, LinkWords, News};
use std::collections::VecDeque;
use woodrush_core::protocol::h1::words::OOS;
use woodrush_core::protocol::h1::{self, BlockKind, errors_shown, mode_shown, node_fault, tag};
use woodrush_wire::h1::frame::{self, Kind, VERSION};
use woodrush_wire::h1::structure::Mode;
use woodrush_wire::h1::{LinkError, LinkState, Object, Request, Response, live};

/// Places of a block's mode and of its errors.
const MODE_BLK: u16 = 5;
const BLOCK_ERR: u16 = 6;

/// What is asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Inquiry {
    Hello,
    Link,
    LiveList,
    Identify(usize),
    Blocks(usize),
    /// Of a block of a device.
    Mode(usize, usize),
    Errors(usize, usize),
}

/// A device as far as it is known.
struct SeenDevice {
    node: u8,
    flags: u8,
    found: FoundStation,
    starts: Vec<u16>,
}

/// A device that the project expects.
struct Expected {
    name: String,
    tag: String,
    device_id: Option<String>,
    node: Option<u32>,
}

pub(super) struct SegmentFinder {
    timeout: u64,
    pause: u64,
    expected: Vec<Expected>,
    unpolled: Option<std::ops::Range<u32>>,
    came: Vec<u8>,
    todo: VecDeque<Inquiry>,
    asked: Option<(Inquiry, u16, Moment)>,
    invoke: u16,
    next: Moment,
    seen: Vec<SeenDevice>,
    link: Option<LinkState>,
    acts: VecDeque<FindAct>,
    over: bool,
}

impl SegmentFinder {
    pub(super) fn new(setup: &FinderSetup<'_>) -> Self {
        let expected = setup.stations.iter().filter_map(|own| {
            Some(Expected {
                name: own.name.clone(),
                tag: tag(&own.setup)?.to_string(),
                device_id: own.setup.word("device-id").map(str::to_string),
                node: own.setup.number("node"),
            })
        });
        Self {
            timeout: setup.timeout,
            pause: setup.pause,
            expected: expected.collect(),
            unpolled: h1::unpolled(woodrush_core::protocol::PortKeys(setup.port)).ok().flatten(),
            came: vec![],
            todo: VecDeque::from([Inquiry::Hello, Inquiry::Link, Inquiry::LiveList]),
            asked: None,
            invoke: 0,
            next: Moment(0),
            seen: vec![],
            link: None,
            acts: VecDeque::new(),
            over: false,
        }
    }

    fn fail(&mut self, why: &str) {
        self.over = true;
        self.acts.push_back(FindAct::Failed(why.into()));
    }

    fn request(&self, question: Inquiry) -> Option<Request<'static>> {
        let node = |device: usize| self.seen.get(device).map(|own| own.node);
        let object = |device: usize, block: usize, place: u16| {
            let own = self.seen.get(device)?;
            let index = own.starts.get(block)?.saturating_add(place);
            Some(Request::Read(Object { node: own.node, index, sub: 0 }))
        };
        match question {
            Inquiry::Hello => Some(Request::Hello { version: VERSION.into(), client: NAME }),
            Inquiry::Link => Some(Request::Link),
            Inquiry::LiveList => Some(Request::LiveList),
            Inquiry::Identify(device) => Some(Request::Identify(node(device)?)),
            Inquiry::Blocks(device) => Some(Request::Blocks(node(device)?)),
            Inquiry::Mode(device, block) => object(device, block, MODE_BLK),
            Inquiry::Errors(device, block) => object(device, block, BLOCK_ERR),
        }
    }

    fn take(&mut self, frame: &frame::Frame<'_>) {
        let Some((question, invoke, _)) = self.asked.filter(|(_, invoke, _)| *invoke == frame.invoke) else {
            return;
        };
        debug_assert_eq!(invoke, frame.invoke);
        self.asked = None;
        match frame.kind {
            Kind::Response => match Response::parse(frame.op, frame.payload) {
                Ok(Some(response)) => self.answered(question, response),
                _ => self.fail("the answer makes no sense: is that what stands in for a linking device?"),
            },
            Kind::Error => {
                let words = LinkError::parse(frame.payload).map_or("refused", |error| error.text).to_string();
                self.refused(question, &words);
            }
            Kind::Request | Kind::Publication => {}
        }
        self.tell_those_that_are_done();
    }

    fn refused(&mut self, question: Inquiry, words: &str) {
        match question {
            Inquiry::Hello | Inquiry::LiveList => self.fail(&format!("the link refuses: {words}")),
            Inquiry::Link => {}
            Inquiry::Identify(device) | Inquiry::Blocks(device) => {
                if let Some(own) = self.seen.get_mut(device) {
                    own.found.remarks.push(format!("it does not say what it is: {words}"));
                }
            }
            Inquiry::Mode(device, block) | Inquiry::Errors(device, block) => {
                if let Some(own) = self.part(device, block) {
                    own.state = format!("not read: {words}");
                }
            }
        }
    }

    fn part(&mut self, device: usize, block: usize) -> Option<&mut FoundPart> {
        self.seen.get_mut(device)?.found.parts.get_mut(block)
    }

    fn answered(&mut self, question: Inquiry, response: Response<'_>) {
        match (question, response) {
            (Inquiry::Link, Response::Link(link)) => {
                self.link = Some(link);
                if link.state != 1 {
                    self.acts.push_back(FindAct::Remark(
                        "there is no link active scheduler: nothing is published, every value goes stale"
                            .into(),
                    ));
                }
            }
            (Inquiry::LiveList, Response::LiveList { entries, .. }) => self.listed(&entries),
            (Inquiry::Identify(device), Response::Identify(own)) => {
                if let Some(seen) = self.seen.get_mut(device) {
                    seen.found.also.push(("manufacturer", format!("0x{:06X}", own.manufacturer)));
                    seen.found.also.push(("type", format!("0x{:04X}", own.device_type)));
                    seen.found.also.push(("revision", own.revision.to_string()));
                }
            }
            (Inquiry::Blocks(device), Response::Blocks { blocks, .. }) => {
                let Some(seen) = self.seen.get_mut(device) else { return };
                for (at, own) in blocks.iter().enumerate() {
                    let kind = BlockKind::of_code(own.kind);
                    let kind = kind.map_or_else(|| format!("0x{:04X}", own.kind), |kind| kind.word().into());
                    seen.starts.push(own.start);
                    seen.found.parts.push(FoundPart {
                        name: own.tag.into(),
                        kind,
                        place: own.start.into(),
                        state: String::new(),
                        remark: None,
                    });
                    self.todo.push_back(Inquiry::Mode(device, at));
                    self.todo.push_back(Inquiry::Errors(device, at));
                }
            }
            (Inquiry::Mode(device, block), Response::Read { value, .. }) => {
                let Some(part) = self.part(device, block) else { return };
                match Mode::parse(value.data) {
                    Ok(mode) => {
                        part.state = mode_shown(mode.actual);
                        if mode.actual != mode.target {
                            part.remark = Some(format!("its target is {}", mode_shown(mode.target)));
                        } else if mode.actual == OOS {
                            part.remark = Some("its target is OOS: it was put out of service".into());
                        }
                    }
                    Err(_) => part.state = "no mode".into(),
                }
            }
            (Inquiry::Errors(device, block), Response::Read { value, .. }) => {
                let errors = value.data.iter().fold(0u16, |sum, byte| sum << 8 | u16::from(*byte));
                let Some(part) = self.part(device, block).filter(|_| errors != 0) else { return };
                let words = errors_shown(errors);
                part.remark = Some(part.remark.take().map_or(words.clone(), |own| format!("{own}; {words}")));
            }
            _ => {}
        }
    }

    fn listed(&mut self, entries: &[woodrush_wire::h1::LiveEntry<'_>]) {
        for entry in entries {
            let mut words = vec![];
            for (flag, word) in [
                (live::SCHEDULER, "link active scheduler"),
                (live::LINK_MASTER, "link master"),
                (live::VISITOR, "visitor"),
            ] {
                if entry.flags & flag != 0 {
                    words.push(word);
                }
            }
            let mut remarks: Vec<String> = vec![];
            if entry.flags & live::DEFAULT_ADDRESS != 0 {
                remarks.push("it has no address of its own yet: it is seen and does not work".into());
            } else if let Some(what) = node_fault(entry.node.into()) {
                remarks.push(format!("its node is {what}"));
            }
            let twins = entries.iter().filter(|own| own.tag == entry.tag && !own.tag.is_empty()).count();
            if twins > 1 {
                remarks.push("another device has the same tag".into());
            }
            let mut device = None;
            if let Some(own) = self.expected.iter().find(|own| own.tag == entry.tag) {
                device = Some(own.name.clone());
                if own.device_id.as_deref().is_some_and(|id| id != entry.device_id) {
                    let id = own.device_id.as_deref().unwrap_or_default();
                    remarks.push(format!("it has been replaced: the project says device id {id}"));
                }
                if let Some(node) = own.node.filter(|node| *node != u32::from(entry.node)) {
                    remarks.push(format!("the project expects it at node 0x{node:02X}"));
                }
            }
            let at = self.seen.len();
            let has_blocks = entry.flags & (live::DEFAULT_ADDRESS | live::VISITOR) == 0
                && entry.flags & live::LINK_MASTER == 0
                && !entry.tag.is_empty();
            self.seen.push(SeenDevice {
                node: entry.node,
                flags: entry.flags,
                found: FoundStation {
                    address: format!("0x{:02X}", entry.node),
                    name: entry.tag.into(),
                    device,
                    also: vec![("device_id", entry.device_id.into()), ("role", words.join(", "))],
                    remarks,
                    parts: vec![],
                },
                starts: vec![],
            });
            if has_blocks {
                self.todo.extend([Inquiry::Identify(at), Inquiry::Blocks(at)]);
            }
        }
    }

    /// Once nothing is left to ask, all that was found is told in the order of its address.
    fn tell_those_that_are_done(&mut self) {
        if !self.todo.is_empty() || self.asked.is_some() || self.over || self.seen.is_empty() {
            return;
        }
        self.over = true;
        let mut seen = std::mem::take(&mut self.seen);
        seen.sort_by_key(|own| own.node);
        let live: Vec<String> = seen.iter().map(|own| own.found.name.clone()).collect();
        for own in &self.expected {
            if live.contains(&own.tag) {
                continue;
            }
            let hidden =
                self.unpolled_now().filter(|range| own.node.is_some_and(|node| range.contains(&node)));
            let why = match hidden {
                Some(range) => format!(
                    "its node is in the unpolled range 0x{:02X}-0x{:02X}, where the link never looks",
                    range.start,
                    range.end - 1
                ),
                None => "it is off, has no address or another tag, or lies in the unpolled range".into(),
            };
            self.acts.push_back(FindAct::Remark(format!(
                "{} ({}) is not in the live list: {why}",
                own.name, own.tag
            )));
        }
        if let Some(range) = self.unpolled_now() {
            self.acts.push_back(FindAct::Remark(format!(
                "the link never looks at nodes 0x{:02X} to 0x{:02X}: a device there is invisible",
                range.start,
                range.end - 1
            )));
            if self.unpolled.as_ref().is_some_and(|own| *own != range) {
                self.acts.push_back(FindAct::Remark(
                    "the project says another `unpolled` range at the port".into(),
                ));
            }
        }
        if seen.iter().any(|own| own.flags & live::DEFAULT_ADDRESS != 0) {
            self.acts.push_back(FindAct::Remark(
                "a device without an address is given one with the link's own tool".into(),
            ));
        }
        for own in seen {
            self.acts.push_back(FindAct::Found(Box::new(own.found)));
        }
        self.acts.push_back(FindAct::Done);
    }

    fn unpolled_now(&self) -> Option<std::ops::Range<u32>> {
        let link = self.link?;
        let first = u32::from(link.first_unpolled);
        (link.unpolled > 0).then(|| first..first + u32::from(link.unpolled))
    }
}

/// What things are called on a segment.
static WORDS: LinkWords = LinkWords {
    link: "segment",
    station: "node",
    name: "tag",
    also: &[("device_id", "device id"), ("role", "role"), ("revision", "rev")],
    part: "block",
    of_part: ["start", "mode"],
};

impl Finder for SegmentFinder {
    fn words(&self) -> &'static LinkWords {
        &WORDS
    }

    fn handle(&mut self, _now: Moment, news: News<'_>) {
        match news {
            News::Up => {}
            News::Down => {
                if !self.over {
                    self.fail("the connection is gone");
                }
            }
            News::Bytes(bytes) => {
                self.came.extend_from_slice(bytes);
                while !self.over {
                    let came = std::mem::take(&mut self.came);
                    match frame::parse(&came) {
                        Ok(None) => {
                            self.came = came;
                            return;
                        }
                        Err(error) => {
                            let why = format!("{error}: is that what stands in for a linking device?");
                            return self.fail(&why);
                        }
                        Ok(Some((frame, used))) => {
                            self.take(&frame);
                            self.came = came.get(used..).unwrap_or_default().to_vec();
                        }
                    }
                }
            }
        }
    }

    fn poll(&mut self, now: Moment) -> FindAct {
        if let Some(act) = self.acts.pop_front() {
            return act;
        }
        if self.over {
            return FindAct::Done;
        }
        if let Some((_, _, give_up)) = self.asked {
            if now < give_up {
                return FindAct::WaitUntil(give_up);
            }
            if let Some((question, ..)) = self.asked.take() {
                match question {
                    Inquiry::Hello | Inquiry::Link | Inquiry::LiveList => {
                        self.fail("nothing answers there: is that what stands in for a linking device?");
                    }
                    other => self.refused(other, "no answer"),
                }
            }
            self.tell_those_that_are_done();
            return self.acts.pop_front().unwrap_or(FindAct::WaitUntil(now));
        }
        let is_of_device =
            |question: &Inquiry| !matches!(question, Inquiry::Hello | Inquiry::Link | Inquiry::LiveList);
        if self.todo.front().is_some_and(is_of_device) && now < self.next {
            return FindAct::WaitUntil(self.next);
        }
        let Some(question) = self.todo.pop_front() else {
            self.tell_those_that_are_done();
            return self.acts.pop_front().unwrap_or(FindAct::Done);
        };
        let Some(request) = self.request(question) else { return FindAct::WaitUntil(now) };
        self.invoke = self.invoke.checked_add(1).unwrap_or(1);
        if is_of_device(&question) {
            self.next = now + self.pause;
        }
        self.asked = Some((question, self.invoke, now + self.timeout));
        FindAct::Send(asked(&request, self.invoke))
    }
}
