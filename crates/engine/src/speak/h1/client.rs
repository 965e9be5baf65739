//! A client of the devices of one segment: it says hello, follows the live list, subscribes to what comes by itself, and
//! reads and writes no more often than the segment bears.

use super::job::{self, JobNext, JobStep, LinkJob, LiveDevice, tag_of};
use super::subscribed::Published;
use super::{asked, refusal, unfit};
use crate::Moment;
use crate::speak::{Act, Ask, Client, ClientSetup, Delivered, News, Subscription, Ticket};
use std::collections::VecDeque;
use woodrush_core::plan::Station;
use woodrush_core::protocol::h1::{self, NO_TAG};
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::h1::frame::{self, Frame, Kind as FrameKind, VERSION};
use woodrush_wire::h1::{LinkError, Publication, Request, Response, live};

/// Our name, as the link is told.
pub(super) const NAME: &str = "woodrush";
/// A link that has said nothing for so long is asked whether it is there, in microseconds.
const QUIET: u64 = 5_000_000;
/// So many devices of a live list are kept: as many as there are addresses.
const DEVICES_MAX: usize = 256;

pub(super) struct LinkClient {
    stations: Vec<Station>,
    timeout: u64,
    /// Least time from one read or write to the next.
    pause: u64,
    /// The macrocycle that the project says.
    macrocycle: u64,
    pub(super) stage: LinkStage,
    came: Vec<u8>,
    out: Vec<u8>,
    invoke: u16,
    /// Requests of the link itself that are not answered yet.
    pub(super) waiting: Vec<Waiting>,
    pub(super) devices: Vec<LiveDevice>,
    pub(super) listed: bool,
    job: Option<LinkJob>,
    /// The request of the job that is under way.
    under_way: Option<(u16, Moment)>,
    next_request: Moment,
    pub(super) published: Vec<Published>,
    pub(super) acts: VecDeque<Act>,
    hang_up: Option<String>,
    pub(super) heard: Moment,
    /// What was told last of devices, so that it is told once.
    told: Vec<String>,
}

#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum LinkStage {
    Down,
    /// There is a connection, and nothing was said on it.
    Fresh,
    /// A hello was said.
    Greeting,
    Open,
}

pub(super) struct Waiting {
    invoke: u16,
    pub(super) about: About,
    give_up: Moment,
}

#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum About {
    Hello,
    Link,
    LiveList,
    Ping,
    /// The subscription of that number.
    Subscription(u16),
    Nothing,
}

impl LinkClient {
    pub(super) fn new(setup: &ClientSetup<'_>) -> Self {
        let mut client = Self {
            stations: vec![],
            timeout: 0,
            pause: 0,
            macrocycle: 0,
            stage: LinkStage::Fresh,
            came: vec![],
            out: vec![],
            invoke: setup.first,
            waiting: vec![],
            devices: vec![],
            listed: false,
            job: None,
            under_way: None,
            next_request: Moment(0),
            published: vec![],
            acts: VecDeque::new(),
            hang_up: None,
            heard: Moment(0),
            told: vec![],
        };
        client.set_up(setup);
        client
    }

    fn next_invoke(&mut self) -> u16 {
        // 0 is that of publications.
        self.invoke = self.invoke.checked_add(1).unwrap_or(1);
        self.invoke
    }

    pub(super) fn send(&mut self, now: Moment, request: &Request<'_>, about: About) {
        let invoke = self.next_invoke();
        self.out.extend(asked(request, invoke));
        self.waiting.push(Waiting { invoke, about, give_up: now + self.timeout });
    }

    fn end(&mut self, result: Result<Delivered, Refusal>) {
        self.under_way = None;
        if let Some(job) = self.job.take() {
            self.acts.push_back(Act::Done(job.ticket, result));
        }
    }

    pub(super) fn tell(&mut self, words: String) {
        if !self.told.contains(&words) {
            // Bounded by what can be told of the devices of one segment.
            if self.told.len() >= 2 * DEVICES_MAX {
                self.told.clear();
            }
            self.told.push(words.clone());
            self.acts.push_back(Act::Tell(words));
        }
    }

    /// The connection is gone: nothing comes by itself any more.
    fn lost(&mut self, kind: Kind, blame: Blame) {
        let refusal = Refusal::new(kind, blame);
        for own in &mut self.published {
            own.id = None;
            self.acts.extend(own.stop(refusal));
        }
        self.end(Err(refusal));
        (self.stage, self.listed) = (LinkStage::Down, false);
        self.came.clear();
        self.out.clear();
        self.waiting.clear();
        self.devices.clear();
    }

    fn give_up(&mut self, kind: Kind, why: String) {
        self.lost(kind, Blame::Device);
        self.hang_up = Some(why);
    }

    fn look(&mut self, now: Moment) {
        while self.hang_up.is_none() {
            let came = std::mem::take(&mut self.came);
            match frame::parse(&came) {
                Ok(None) => {
                    self.came = came;
                    return;
                }
                Err(error) => return self.give_up(Kind::Damaged, error.to_string()),
                Ok(Some((frame, used))) => {
                    self.take(now, &frame);
                    if self.hang_up.is_none() && self.stage != LinkStage::Down {
                        self.came = came.get(used..).unwrap_or_default().to_vec();
                    }
                }
            }
        }
    }

    fn take(&mut self, now: Moment, frame: &Frame<'_>) {
        match frame.kind {
            FrameKind::Publication => match Publication::parse(frame.op, frame.payload) {
                Ok(Some(publication)) => self.publication(now, publication),
                Ok(None) | Err(_) => self.give_up(Kind::Damaged, "a publication makes no sense".into()),
            },
            FrameKind::Response => match Response::parse(frame.op, frame.payload) {
                Ok(Some(response)) => self.response(now, frame.invoke, response),
                Ok(None) => {
                    let why = format!("operation 0x{:02X} is answered, and nothing asks for it", frame.op);
                    self.give_up(Kind::Mismatch, why);
                }
                Err(error) => self.give_up(Kind::Damaged, error.to_string()),
            },
            FrameKind::Error => match LinkError::parse(frame.payload) {
                Ok(error) => self.error(frame.invoke, error),
                Err(error) => self.give_up(Kind::Damaged, error.to_string()),
            },
            FrameKind::Request => self.give_up(Kind::Mismatch, "the other end asks, as a client does".into()),
        }
    }

    fn waited(&mut self, invoke: u16) -> Option<About> {
        let at = self.waiting.iter().position(|own| own.invoke == invoke)?;
        Some(self.waiting.swap_remove(at).about)
    }

    fn response(&mut self, now: Moment, invoke: u16, response: Response<'_>) {
        if self.under_way.is_some_and(|(own, _)| own == invoke) {
            self.under_way = None;
            return self.answered(response);
        }
        let about = self.waited(invoke);
        match (about, response) {
            (Some(About::Hello), Response::Hello { .. }) => {
                self.stage = LinkStage::Open;
                self.send(now, &Request::Link, About::Link);
                self.send(now, &Request::LiveList, About::LiveList);
            }
            (Some(About::Link), Response::Link(link)) => {
                let own = u64::from(link.macrocycle_ms) * 1000;
                if own != self.macrocycle && self.published.iter().any(|own| own.what.transfer != usize::MAX)
                {
                    self.tell(format!(
                        "the segment's macrocycle is {} ms, and the project says {} ms: correct `macrocycle` at the port",
                        link.macrocycle_ms,
                        self.macrocycle / 1000
                    ));
                }
            }
            (Some(About::LiveList), Response::LiveList { entries, .. }) => {
                let known = std::mem::take(&mut self.devices);
                let fits =
                    |id: &str| known.iter().find(|own| own.device_id == id).and_then(|own| own.revision_fits);
                let device = |entry: &woodrush_wire::h1::LiveEntry<'_>| LiveDevice {
                    node: entry.node,
                    tag: entry.tag.into(),
                    device_id: entry.device_id.into(),
                    flags: entry.flags,
                    revision_fits: fits(entry.device_id),
                };
                self.devices = entries.iter().take(DEVICES_MAX).map(device).collect();
                self.listed = true;
                self.resolve(now);
            }
            (Some(About::Subscription(id)), Response::Subscribe { id: own, granted_ms }) if id == own => {
                if let Some(own) = self.published.iter_mut().find(|own| own.id == Some(id)) {
                    own.granted = true;
                    own.every = (u64::from(granted_ms) * 1000).max(1000);
                    own.give_up = Some(now + own.patience());
                }
            }
            // Too late: given up.
            (None, _) | (Some(About::Nothing | About::Ping), _) => {}
            _ => self.give_up(Kind::Mismatch, "an answer is to another question".into()),
        }
    }

    fn answered(&mut self, response: Response<'_>) {
        let Some(job) = &mut self.job else { return };
        let next = match (job.step, response) {
            (JobStep::Read | JobStep::Revision, Response::Read { value, .. }) => job.read(value),
            (JobStep::Write(_), Response::Write { .. }) => job.written(),
            (JobStep::Identify, Response::Identify(identity)) => {
                let (fits, next) = job.identified(&identity);
                if let Some(own) = self.devices.iter_mut().find(|own| own.node == identity.node) {
                    own.revision_fits = Some(fits);
                }
                next
            }
            _ => JobNext::Done(Err(Refusal::new(Kind::Mismatch, Blame::Device))),
        };
        match next {
            JobNext::Step(step) => job.step = step,
            JobNext::Done(result) => self.end(result),
        }
    }

    fn error(&mut self, invoke: u16, error: LinkError<'_>) {
        let refusal = refusal(error.class, error.code);
        if self.under_way.is_some_and(|(own, _)| own == invoke) {
            return self.end(Err(refusal));
        }
        match self.waited(invoke) {
            Some(About::Subscription(id)) => {
                if let Some(own) = self.published.iter_mut().find(|own| own.id == Some(id)) {
                    self.acts.extend(own.stop(refusal));
                }
            }
            Some(About::Hello | About::LiveList) => {
                self.give_up(
                    Kind::Fault,
                    format!("the link refuses: {} ({}/{})", error.text, error.class, error.code),
                );
            }
            _ => {}
        }
    }

    /// The device that a station's tag is of.
    pub(super) fn device_of(&self, station: &Station) -> Result<&LiveDevice, Refusal> {
        let mut found = self.devices.iter().filter(|own| own.tag == tag_of(station));
        // The link says so, not the device.
        let nothing = Refusal { kind: Kind::NoAnswer, blame: Blame::Line, ..unfit(NO_TAG) };
        let first = found.next().ok_or(nothing)?;
        // Of two with one tag the one that the project expects.
        let expected = station.setup.number("node").and_then(|node| u8::try_from(node).ok());
        let is_expected = |own: &&LiveDevice| Some(own.node) == expected;
        Ok(if is_expected(&first) { first } else { found.find(is_expected).unwrap_or(first) })
    }

    /// Finds the devices of all that is wanted, and subscribes to what comes by itself.
    pub(super) fn resolve(&mut self, now: Moment) {
        let without = self.devices.iter().filter(|own| own.flags & live::DEFAULT_ADDRESS != 0);
        let waiting: Vec<String> = without.map(|own| no_address(own.node)).collect();
        waiting.into_iter().for_each(|words| self.tell(words));
        let no_scheduler = "the segment has no link active scheduler: nothing is published";
        match self.devices.iter().any(|own| own.flags & live::SCHEDULER != 0) {
            true => self.told.retain(|told| told != no_scheduler),
            false => self.tell(no_scheduler.into()),
        }
        let mut stations: Vec<Station> = self.stations.clone();
        stations.retain(|station| !tag_of(station).is_empty());
        for station in &stations {
            let tag = tag_of(station);
            if self.devices.iter().filter(|own| own.tag == tag).count() > 1 {
                self.tell(format!("two devices have the tag {tag}"));
            }
            let Ok(device) = self.device_of(station).cloned() else { continue };
            let expected = station.setup.number("node");
            if expected.is_some_and(|node| node != u32::from(device.node)) {
                let expected = expected.unwrap_or(0);
                let node = device.node;
                self.tell(format!(
                    "{tag} answers at node 0x{node:02X}, and the project expects 0x{expected:02X}: it is followed"
                ));
            }
            if job::is_replaced(station, &device) {
                self.tell(format!(
                    "{tag} has been replaced: its device id is {}, and the project says {}; its values are shown, and nothing is written to it",
                    device.device_id,
                    station.setup.word("device-id").unwrap_or_default()
                ));
            }
        }
        self.subscribe_all(now);
    }

    /// The next request of the job, once the segment bears it.
    fn go_on(&mut self, now: Moment) -> Option<Act> {
        let job = self.job.as_ref()?;
        if self.under_way.is_some() {
            return None;
        }
        if self.stage != LinkStage::Open || !self.listed {
            return (self.stage == LinkStage::Down).then(|| {
                self.end(Err(Refusal::new(Kind::NoPath, Blame::Line)));
                self.acts.pop_front().unwrap_or(Act::Rest)
            });
        }
        if now < self.next_request {
            return None;
        }
        let device = match self.device_of(&job.station) {
            Ok(device) => device.clone(),
            Err(refusal) => {
                self.end(Err(refusal));
                return self.acts.pop_front();
            }
        };
        let invoke = self.next_invoke();
        let job = self.job.as_mut()?;
        if job.step == JobStep::Identify {
            match job.first_step(&device) {
                Ok(step) => job.step = step,
                Err(refusal) => {
                    self.end(Err(refusal));
                    return self.acts.pop_front();
                }
            }
        }
        let bytes = asked(&job.request(device.node), invoke);
        self.under_way = Some((invoke, now + self.timeout));
        self.next_request = now + self.pause;
        Some(Act::Send(bytes))
    }

    /// What has waited for too long.
    fn overdue(&mut self, now: Moment) {
        if self.under_way.is_some_and(|(_, give_up)| give_up <= now) {
            self.end(Err(Refusal::new(Kind::NoAnswer, Blame::Device)));
        }
        let late: Vec<About> =
            self.waiting.iter().filter(|own| own.give_up <= now).map(|own| own.about).collect();
        self.waiting.retain(|own| own.give_up > now);
        for about in late {
            match about {
                About::Subscription(id) => {
                    if let Some(own) = self.published.iter_mut().find(|own| own.id == Some(id)) {
                        own.give_up = Some(now);
                    }
                }
                About::Nothing => {}
                About::Hello => {
                    let why = "nothing answers the hello: is that what stands in for a linking device?";
                    return self.give_up(Kind::NoAnswer, why.into());
                }
                About::Link | About::LiveList | About::Ping => {
                    return self.give_up(Kind::NoAnswer, "the link no longer answers".into());
                }
            }
        }
        for own in &mut self.published {
            if own.give_up.is_some_and(|moment| moment <= now) {
                self.acts.extend(own.stop(Refusal::new(Kind::NoAnswer, Blame::Device)));
            }
        }
        let quiet = self.stage == LinkStage::Open && self.waiting.is_empty() && self.under_way.is_none();
        if quiet && now.since(self.heard) >= self.quiet() {
            self.heard = now;
            self.send(now, &Request::Ping, About::Ping);
        }
    }

    fn quiet(&self) -> u64 {
        QUIET.max(2 * self.macrocycle)
    }
}

/// What is told of a device that waits for an address.
pub(super) fn no_address(node: u8) -> String {
    format!("a device at node 0x{node:02X} has no address of its own: it needs one")
}

impl Client for LinkClient {
    fn is_free(&self) -> bool {
        self.job.is_none() && !self.acts.iter().any(|act| matches!(act, Act::Done(..)))
    }

    fn ask(&mut self, ticket: Ticket, ask: Ask) {
        match LinkJob::new(ticket, &self.stations, ask) {
            Ok(job) => self.job = Some(job),
            Err(refusal) => self.acts.push_back(Act::Done(ticket, Err(refusal))),
        }
    }

    fn set_up(&mut self, setup: &ClientSetup<'_>) {
        self.stations = setup.stations.to_vec();
        (self.timeout, self.pause) = (setup.line.timeout, setup.line.own_frame_gap);
        self.macrocycle = h1::macrocycle(setup.port);
    }

    fn keep(&mut self, published: Vec<Subscription>) {
        self.keep_subscriptions(published);
    }

    fn wakes_at(&self) -> Option<Moment> {
        let waiting = self.waiting.iter().map(|own| own.give_up);
        let stale = self.published.iter().filter_map(|own| own.give_up);
        let quiet = (self.stage == LinkStage::Open).then(|| self.heard + self.quiet());
        waiting.chain(stale).chain(quiet).chain(self.under_way.map(|(_, give_up)| give_up)).min()
    }

    fn handle(&mut self, now: Moment, news: News<'_>) {
        match news {
            News::Up => {
                self.lost(Kind::NoPath, Blame::Line);
                (self.stage, self.heard, self.hang_up) = (LinkStage::Fresh, now, None);
            }
            News::Down => self.lost(Kind::NoPath, Blame::Line),
            News::Bytes(bytes) => {
                self.heard = now;
                self.came.extend_from_slice(bytes);
                self.look(now);
            }
        }
    }

    fn poll(&mut self, now: Moment) -> Act {
        self.overdue(now);
        if let Some(act) = self.acts.pop_front() {
            return act;
        }
        if let Some(why) = self.hang_up.take() {
            return Act::HangUp(why);
        }
        if self.stage == LinkStage::Fresh && (self.job.is_some() || !self.published.is_empty()) {
            (self.stage, self.heard) = (LinkStage::Greeting, now);
            self.send(now, &Request::Hello { version: VERSION.into(), client: NAME }, About::Hello);
        }
        if !self.out.is_empty() {
            return Act::Send(std::mem::take(&mut self.out));
        }
        if let Some(act) = self.go_on(now) {
            return act;
        }
        if self.job.is_none() {
            return Act::Rest;
        }
        let next = [self.wakes_at(), Some(self.next_request).filter(|at| *at > now)];
        let next = next.into_iter().flatten().min();
        Act::WaitUntil(next.unwrap_or(now + self.timeout))
    }
}
