//! A client of the devices of one segment: it says hello, follows the live list, subscribes to what comes by itself, and
//! reads and writes no more often than the segment bears.

use super::job::{self, JobNext, JobStep, LinkJob, LiveDevice, delivered, tag_of};
use super::{asked, refusal, unfit};
use crate::Moment;
use crate::speak::{Act, Ask, Client, ClientSetup, Delivered, News, Subscription, Ticket};
use std::collections::VecDeque;
use woodrush_core::plan::Station;
use woodrush_core::protocol::h1::{self, Located, NO_TAG};
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::h1::frame::{self, Frame, Kind as FrameKind, VERSION};
use woodrush_wire::h1::{LinkError, Object, Publication, Request, Response, live};

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
    stage: LinkStage,
    came: Vec<u8>,
    out: Vec<u8>,
    invoke: u16,
    /// Requests of the link itself that are not answered yet.
    waiting: Vec<Waiting>,
    devices: Vec<LiveDevice>,
    listed: bool,
    job: Option<LinkJob>,
    /// The request of the job that is under way.
    under_way: Option<(u16, Moment)>,
    next_request: Moment,
    published: Vec<Published>,
    acts: VecDeque<Act>,
    hang_up: Option<String>,
    heard: Moment,
    /// What was told last of devices, so that it is told once.
    told: Vec<String>,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum LinkStage {
    Down,
    /// There is a connection, and nothing was said on it.
    Fresh,
    /// A hello was said.
    Greeting,
    Open,
}

struct Waiting {
    invoke: u16,
    about: About,
    give_up: Moment,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum About {
    Hello,
    Link,
    LiveList,
    Ping,
    /// The subscription of that number.
    Subscription(u16),
    Nothing,
}

/// What shall come by itself, and how it does.
struct Published {
    what: Subscription,
    /// Its number on the link, where it was asked for.
    id: Option<u16>,
    node: u8,
    /// How often it comes, in microseconds.
    every: u64,
    /// When it counts as stopped; `None` while it is.
    give_up: Option<Moment>,
    /// That it comes no more was told.
    stopped: bool,
    stale: u8,
}

impl Published {
    /// It comes no more; told once.
    fn stop(&mut self, refusal: Refusal) -> Option<Act> {
        self.give_up = None;
        let is_new = !std::mem::replace(&mut self.stopped, true);
        is_new.then_some(Act::Stopped(self.what.transfer, refusal))
    }

    fn patience(&self) -> u64 {
        self.every * u64::from(self.stale) + self.every / 2
    }
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

    fn send(&mut self, now: Moment, request: &Request<'_>, about: About) {
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

    fn tell(&mut self, words: String) {
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

    fn publication(&mut self, now: Moment, publication: Publication<'_>) {
        match publication {
            Publication::LiveChange { node, flags, .. } => {
                let gone = self.devices.iter().find(|own| own.node == node && flags == 0);
                if let Some(tag) = gone.map(|own| own.tag.clone()).filter(|tag| !tag.is_empty()) {
                    self.stop_all_of(&tag);
                }
                if flags & live::DEFAULT_ADDRESS != 0 {
                    self.tell(format!(
                        "a device at node 0x{node:02X} has no address of its own: it needs one"
                    ));
                }
                // What is there now, and whether a tag has moved.
                if self.waiting.iter().all(|own| own.about != About::LiveList) {
                    self.send(now, &Request::LiveList, About::LiveList);
                }
            }
            Publication::Data { id, stale, age_ms, value, .. } => {
                let Some(at) = self.published.iter().position(|own| own.id == Some(id)) else { return };
                let is_live = |own: &Published| self.device_of(&own.what.station).is_ok();
                // Of a device that has left, its last value is sent again and again, and says nothing new.
                if stale && !self.published.get(at).is_some_and(is_live) {
                    return;
                }
                let Some(own) = self.published.get_mut(at) else { return };
                own.give_up = Some(now + own.patience());
                let at = now - u64::from(age_ms) * 1000;
                let act = match delivered(&own.what.station, own.what.extent, value) {
                    // The status of a stale value says so, and lands; the value does not.
                    Ok(mut values) if !stale || !values.unsound.is_empty() => {
                        own.stopped = false;
                        if stale {
                            values.unsound.iter_mut().for_each(|own| own.refusal.kind = Kind::NoAnswer);
                        }
                        Some(Act::Came(own.what.transfer, if stale { now } else { at }, values))
                    }
                    Ok(_) => own.stop(Refusal::new(Kind::NoAnswer, Blame::Device)),
                    Err(refusal) => own.stop(refusal),
                };
                self.acts.extend(act);
            }
        }
    }

    fn stop_all_of(&mut self, tag: &str) {
        let refusal = Refusal::new(Kind::NoAnswer, Blame::Device);
        for own in self.published.iter_mut().filter(|own| tag_of(&own.what.station) == tag) {
            self.acts.extend(own.stop(refusal));
        }
    }

    /// The device that a station's tag is of.
    fn device_of(&self, station: &Station) -> Result<&LiveDevice, Refusal> {
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
    fn resolve(&mut self, now: Moment) {
        let waiting: Vec<String> = self
            .devices
            .iter()
            .filter(|own| own.flags & live::DEFAULT_ADDRESS != 0)
            .map(|own| format!("a device at node 0x{:02X} has no address of its own: it needs one", own.node))
            .collect();
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
        for at in 0..self.published.len() {
            let Some(own) = self.published.get(at) else { continue };
            let device = self.device_of(&own.what.station).map(|device| device.node);
            let (id, node) = (own.id, own.node);
            match (device, id) {
                (Ok(now_at), Some(_)) if now_at == node => {}
                (Ok(now_at), _) => {
                    if let Some(id) = id {
                        self.send(now, &Request::Unsubscribe(id), About::Nothing);
                    }
                    self.subscribe(now, at, now_at);
                }
                (Err(refusal), _) => {
                    if let Some(own) = self.published.get_mut(at) {
                        self.acts.extend(own.stop(refusal));
                    }
                }
            }
        }
    }

    fn subscribe(&mut self, now: Moment, at: usize, node: u8) {
        let Some(own) = self.published.get_mut(at) else { return };
        let id = number_of(own.what.transfer);
        let space = own.what.station.space_at(own.what.extent.space);
        let Some(located) = space.and_then(Located::of) else { return };
        (own.id, own.node) = (Some(id), node);
        // Until it is granted it is as the project says.
        own.give_up = Some(now + own.patience());
        let at = Object { node, index: located.index, sub: 0 };
        let stale = own.stale;
        self.send(now, &Request::Subscribe { id, at, period_ms: 0, stale }, About::Subscription(id));
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

/// The number of a subscription: that of its transfer in the plan, so that who listens knows what comes.
pub(super) fn number_of(transfer: usize) -> u16 {
    u16::try_from(transfer).unwrap_or(u16::MAX - 1) + 1
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
        let same = |own: &Subscription, new: &Subscription| {
            own.station.setup == new.station.setup
                && own.station.space_at(own.extent.space) == new.station.space_at(new.extent.space)
        };
        let mut known = std::mem::take(&mut self.published);
        for what in published {
            let number = number_of(what.transfer);
            let kept = |own: &Published| own.id.is_none_or(|id| id == number) && same(&own.what, &what);
            let at = known.iter().position(kept);
            let own = match at.map(|at| known.swap_remove(at)) {
                Some(own) => Published { what, ..own },
                None => {
                    let publishing = h1::publishing(&what.station.setup);
                    let stale = u8::try_from(publishing.missed).unwrap_or(u8::MAX);
                    Published {
                        what,
                        id: None,
                        node: 0,
                        every: publishing.every,
                        give_up: None,
                        stopped: false,
                        stale,
                    }
                }
            };
            self.published.push(own);
        }
        let now = self.heard;
        for gone in known {
            if let (Some(id), LinkStage::Open) = (gone.id, self.stage) {
                self.send(now, &Request::Unsubscribe(id), About::Nothing);
            }
        }
        if self.listed {
            self.resolve(now);
        }
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
