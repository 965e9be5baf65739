//! Who may use a port on which we ask: what others want in fair turns, values that devices are sent, polls by how overdue
//! they are, probes of lost devices when there is time. A state machine; [`crate::port`] drives it, the virtual bench
//! runs it.
//!
//! A device that is written by a port of its own has two lanes in one schedule: what is known of the device is known once, and
//! each lane has its own client and its own request under way, so that a lane that hangs does not age what the other reads.

mod counting;
mod lanes;
mod parts;
mod polled;
mod published;
mod sending;
mod split;
mod turns;

use crate::Moment;
use crate::image::DeviceWrite;
use crate::shared::{BusyFlag, Event, LineRequest, Queued, Shared, Site};
use crate::speak::{Act, Ask, ClientSetup, News, Ticket};
use lanes::{Lane, Unheard, setup};
use parts::{ChangeStage, OwedRead};
use split::Pieces;
use std::collections::VecDeque;
use std::sync::Arc;
use turns::{DeviceState, Lost};
use woodrush_core::plan::Station;
use woodrush_core::{Blame, Kind, Refusal};

/// A probe may take this share of the line at most: after one, so many times its duration must pass.
pub(crate) const PROBE_PAUSE: u64 = 3;
/// Requests in a row that a unit did not answer before more of them count as probes.
const UNIT_LOST_AFTER: u32 = 3;

/// What the line is busy with.
enum InFlight {
    Poll {
        device: usize,
        turn: usize,
        probe: bool,
        pieces: Pieces,
    },
    Push {
        device: usize,
        push: usize,
        cells: Vec<u8>,
    },
    LineRequest(Queued),
    /// What another lane must know before it can write.
    Owed(OwedRead),
}

struct Current {
    doing: InFlight,
    ticket: Ticket,
    began: Moment,
    /// When its last byte has left; `None` before it is sent.
    left: Option<Moment>,
    stage: ChangeStage,
    /// Bytes that went out and came since it began.
    sent: u64,
    came: u64,
}

/// Twice as many no more often than this.
const AGAIN_MOST: u32 = 6;

/// What the driver of a port must do next.
#[derive(Debug, PartialEq, Eq)]
#[must_use = "an action that is not carried out stalls the port"]
pub enum LineAct {
    /// Write these bytes, then poll again.
    Send(Vec<u8>),
    /// Close the connection, for this reason; then poll again.
    HangUp(String),
    /// Nothing to do before this moment or news.
    WaitUntil(Moment),
    /// Nothing to do before news.
    Rest,
}

/// Asks the devices of one port, or of all ports that have a device in common, and lets the answers land in the images.
pub struct Schedule {
    site: Arc<Site>,
    generation: u64,
    shared: Arc<Shared>,
    /// Whether something is under way, for those who wait to change the project.
    busy: BusyFlag,
    /// Its ports are no longer those of the project that runs: it does nothing more.
    ended: bool,
    devices: Vec<DeviceState>,
    next_ticket: u64,
    /// The one that is looked at.
    lane: Lane,
    others: Vec<Lane>,
    /// What lanes must know before they can write, and another one reads.
    owed: VecDeque<OwedRead>,
    /// A lane has more to do than when it was looked at last.
    stirred: bool,
}

impl Schedule {
    /// Takes news of the port of that name.
    pub fn handle(&mut self, port: &str, now: Moment, news: News<'_>) {
        let site = Arc::clone(&self.site);
        let _step = site.step();
        if self.follow() && self.turn_to_named(port) {
            self.take_news(now, news);
            self.busy.set(!self.is_idle());
        }
    }

    fn take_news(&mut self, now: Moment, news: News<'_>) {
        match news {
            News::Up => {
                self.lane.up = true;
                // What failed while there was no connection tells nothing of this one.
                self.lane.unheard.requests = 0;
                let is_sent =
                    |polled: &&DeviceState| !polled.pushes.is_empty() && self.writes_here(polled.index);
                for polled in self.devices.iter().filter(is_sent) {
                    self.shared.was_away(polled.index);
                }
                // A device that was lost with the port is worth a look at once: with the one by which it is judged.
                self.lane.probe_from = now;
                let (plan, port) = (&self.shared.plan, self.lane.port);
                let judges = |polled: &DeviceState| {
                    let read = plan.devices.get(polled.index).is_some_and(|station| station.port == port);
                    read || !polled.is_read() && plan.is_on(polled.index, port)
                };
                for polled in &mut self.devices {
                    if polled.lost.is_some() && judges(polled) {
                        polled.lost = Some(Lost { next_try: now, wait: polled.retry.first });
                    }
                }
            }
            News::Down => self.lane.up = false,
            News::Bytes(bytes) => {
                if let Some(port) = self.shared.health.ports.get(self.lane.port) {
                    port.tally.carried(0, bytes.len() as u64);
                }
                if let Some(current) = &mut self.lane.current {
                    current.came += bytes.len() as u64;
                }
            }
        }
        self.lane.client.handle(now, news);
    }

    /// What to do now, and at the port of which name: of a wait, for all of them. Calling it early or often changes nothing.
    /// A changed project is taken here, between two steps.
    pub fn poll(&mut self, now: Moment) -> (Arc<str>, LineAct) {
        let site = Arc::clone(&self.site);
        let _step = site.step();
        if !self.follow() {
            return (Arc::clone(&self.lane.name), LineAct::Rest);
        }
        let act = self.poll_lanes(now);
        self.busy.set(!self.is_idle());
        (Arc::clone(&self.lane.name), act)
    }

    /// The same; the lane that it is about is the one that is looked at.
    fn poll_lanes(&mut self, now: Moment) -> LineAct {
        if self.others.is_empty() {
            return self.poll_lane(now);
        }
        loop {
            let mut waits = Moment::NEVER;
            for port in self.ports() {
                if !self.turn_to(port) {
                    continue;
                }
                match self.poll_lane(now) {
                    LineAct::WaitUntil(moment) => waits = waits.min(moment),
                    LineAct::Rest => {}
                    act => return act,
                }
            }
            if !std::mem::take(&mut self.stirred) {
                return if waits == Moment::NEVER { LineAct::Rest } else { LineAct::WaitUntil(waits) };
            }
        }
    }

    fn poll_lane(&mut self, now: Moment) -> LineAct {
        loop {
            if let Some(why) = self.is_unheard() {
                return LineAct::HangUp(why);
            }
            match self.lane.client.poll(now) {
                Act::Send(bytes) => {
                    let line = self.shared.plan.lines.get(self.lane.port);
                    let takes =
                        line.map_or(0, |line| line.bytes(u32::try_from(bytes.len()).unwrap_or(u32::MAX)));
                    let said_before = self.lane.client.said_before();
                    if let Some(current) = &mut self.lane.current {
                        if !said_before || current.left.is_none() {
                            current.left = Some(now + takes);
                        }
                        current.sent += bytes.len() as u64;
                    }
                    if let Some(port) = self.shared.health.ports.get(self.lane.port) {
                        port.tally.carried(bytes.len() as u64, 0);
                    }
                    return LineAct::Send(bytes);
                }
                Act::Done(ticket, result) => {
                    let result = result.and_then(|values| self.of_use(ticket, values));
                    self.finish(now, ticket, result);
                }
                Act::Came(transfer, at, values) => self.came(now, transfer, at, &values),
                Act::Stopped(transfer, refusal) => self.stopped(now, transfer, refusal),
                Act::Tell(words) => self.shared.tell(Event::PortSays { port: self.lane.port, words }),
                Act::HangUp(why) => return LineAct::HangUp(why),
                Act::WaitUntil(moment) => return LineAct::WaitUntil(moment),
                Act::Rest
                    if self
                        .lane
                        .current
                        .as_ref()
                        .is_some_and(|own| self.waits_elsewhere(own.stage, &own.doing)) =>
                {
                    return LineAct::Rest;
                }
                Act::Rest => match (self.start_next(now), self.lane.client.wakes_at()) {
                    (Some(LineAct::WaitUntil(moment)), Some(wakes)) => {
                        return LineAct::WaitUntil(moment.min(wakes));
                    }
                    (Some(LineAct::Rest), Some(wakes)) => return LineAct::WaitUntil(wakes),
                    (Some(wait), _) => return wait,
                    (None, _) => continue,
                },
            }
        }
    }

    /// Whether the connection is to be made again, and why.
    fn is_unheard(&mut self) -> Option<String> {
        let port =
            self.shared.ports.get(self.lane.port).filter(|port| port.dials && self.lane.current.is_none())?;
        let own = self.here().map(|polled| polled.lost_after);
        let most = own.min().unwrap_or(UNIT_LOST_AFTER);
        let Unheard { requests, again } = self.lane.unheard;
        if !self.lane.up || requests < most.saturating_mul(1 << again.min(AGAIN_MOST)) {
            return None;
        }
        self.lane.unheard = Unheard { requests: 0, again: again + 1 };
        Some(format!("{requests} requests in a row were not answered, so `{}` is connected again", port.name))
    }

    /// Gives the client its next question; or says for what to wait.
    fn start_next(&mut self, now: Moment) -> Option<LineAct> {
        let chosen = if self.site.is_held() {
            // What a lane waits for is part of what it has begun.
            self.next_owed(now).map(InFlight::Owed).ok_or(None)
        } else {
            self.choose(now)
        };
        let doing = match chosen {
            Ok(doing) => doing,
            Err(Some(moment)) => return Some(LineAct::WaitUntil(moment)),
            Err(None) => return Some(LineAct::Rest),
        };
        let (ask, stage) = self.ask_of(&doing)?;
        self.lane.errand_last = !matches!(doing, InFlight::Poll { .. });
        self.begin(now, doing, ask, stage);
        None
    }

    fn begin(&mut self, now: Moment, doing: InFlight, ask: Ask, stage: ChangeStage) {
        let ticket = Ticket(self.next_ticket);
        self.next_ticket += 1;
        let guest = match &doing {
            InFlight::LineRequest(Queued { line_request: LineRequest::ByHand { station, .. }, .. }) => {
                Some(station.as_ref())
            }
            _ => None,
        };
        if let (Some(station), Some(own)) = (guest, setup(&self.shared, self.lane.port)) {
            let stations = std::slice::from_ref(station);
            self.lane.client.set_up(&ClientSetup { stations, retries: 0, ..own });
        }
        self.lane.current = Some(Current { doing, ticket, began: now, left: None, stage, sent: 0, came: 0 });
        match (stage, ask) {
            (ChangeStage::Reading(extent), Ask::Read { station, .. }) if self.reads_elsewhere(station) => {
                self.ask_elsewhere(ticket, station, extent);
            }
            (_, ask) if self.is_suspected() => self.lane.client.ask_once(ticket, ask),
            (_, ask) => self.lane.client.ask(ticket, ask),
        }
    }

    /// Whether what is being asked is a poll of a device that did not answer the last one, while others use the port too:
    /// its silence must not cost them all the tries that the port allows.
    fn is_suspected(&self) -> bool {
        let Some(Current { doing: InFlight::Poll { device, .. }, .. }) = &self.lane.current else {
            return false;
        };
        let failed = self.devices.get(*device).is_some_and(|polled| polled.failed > 0);
        failed && (self.here().nth(1).is_some() || !self.lane.queue.is_empty())
    }

    fn ask_of(&self, doing: &InFlight) -> Option<(Ask, ChangeStage)> {
        Some(match doing {
            InFlight::Poll { device, pieces, .. } => {
                let station = self.devices.get(*device)?.index;
                (Ask::Read { station, parts: pieces.next()? }, ChangeStage::Only)
            }
            InFlight::Push { device, push, cells } => {
                let entry = self.devices.get(*device)?.pushes.get(*push)?;
                let push = self.shared.plan.pushes.get(entry.push)?;
                self.write(push.device, push.extent, &entry.placed(push, cells), entry.keep.as_deref())
            }
            InFlight::LineRequest(Queued {
                line_request: LineRequest::Pass { unit, message, .. }, ..
            }) => (Ask::Pass { unit: *unit, message: message.clone() }, ChangeStage::Only),
            InFlight::Owed(owed) => (Ask::read(owed.device, owed.extent), ChangeStage::Only),
            InFlight::LineRequest(Queued { line_request: LineRequest::ByHand { ask, .. }, .. }) => {
                ((**ask).clone(), ChangeStage::Only)
            }
            InFlight::LineRequest(Queued { line_request: LineRequest::Write(write), .. }) => {
                self.write(write.device, write.extent, &write.cells, write.keep.as_deref())
            }
        })
    }

    /// The next thing to do; or the moment at which there may be one.
    fn choose(&mut self, now: Moment) -> Result<InFlight, Option<Moment>> {
        let poll = self.most_overdue(now);
        // What others want goes before polls, but never two in a row while one is due.
        let mut push = Err(None);
        if !(self.lane.errand_last && poll.is_ok()) {
            if let Some(owed) = self.next_owed(now) {
                return Ok(InFlight::Owed(owed));
            }
            if let Some(job) = self.next_errand(now, poll.is_ok()) {
                return Ok(InFlight::LineRequest(job));
            }
            push = self.due_push(now);
            if let Ok((device, push, cells)) = push {
                return Ok(InFlight::Push { device, push, cells });
            }
        }
        self.lane.errand_last = false;
        let wait = push.err().flatten();
        match (poll, self.due_probe(now)) {
            (_, Ok((device, turn))) => Ok(self.whole_poll(device, turn, true)),
            (Ok((device, turn)), _) => Ok(self.whole_poll(device, turn, false)),
            (Err(poll), Err(probe)) => Err([poll, probe, wait].into_iter().flatten().min()),
        }
    }

    /// The one whose turn it is. What goes to a lost device or a silent unit is a probe like any other: between two of them
    /// the line has its pause, and what comes in it is refused at once, so that nobody slows the living ones.
    fn next_errand(&mut self, now: Moment, poll_due: bool) -> Option<Queued> {
        loop {
            let job = self.lane.queue.take()?;
            if matches!(&job.line_request, LineRequest::ByHand { wanted, .. } if !wanted.begin()) {
                job.end(Err(Refusal::new(Kind::Busy, Blame::Line)));
                continue;
            }
            let lost = match &job.line_request {
                LineRequest::Write(DeviceWrite { device, .. }) => self.lost_device(*device).is_some(),
                // A person wants to know.
                LineRequest::ByHand { .. } => false,
                LineRequest::Pass { unit, .. } => {
                    let silent = self.lane.silent.get(unit).is_some_and(|failed| *failed >= UNIT_LOST_AFTER);
                    // While nobody else wants the line, a try costs nobody anything.
                    silent && (poll_due || !self.lane.queue.is_empty())
                }
            };
            if !lost || now >= self.lane.probe_from {
                return Some(job);
            }
            let refusal = Refusal::new(Kind::NoAnswer, Blame::Device);
            self.count_errand(now, &job.line_request, Err(&refusal));
            job.end(Err(refusal));
        }
    }

    /// The state of a device of the plan that counts as lost.
    fn lost_device(&mut self, index: usize) -> Option<&mut Lost> {
        let index = self.shared.plan.host(index);
        self.devices.iter_mut().find(|polled| polled.index == index)?.lost.as_mut()
    }

    fn finish(&mut self, now: Moment, ticket: Ticket, result: Result<Vec<u8>, Refusal>) {
        let Some(current) = self.lane.current.take().filter(|current| current.ticket == ticket) else {
            return;
        };
        let result = result.map_err(|refusal| self.judged(&current, refusal));
        // What another lane has read counts there.
        let own = !self.waits_elsewhere(current.stage, &current.doing);
        match &result {
            Err(Refusal { native: None, kind: Kind::NoAnswer, .. }) if own => self.lane.unheard.requests += 1,
            Err(Refusal { native: None, .. }) => {}
            _ if own => self.lane.unheard = Unheard::default(),
            _ => {}
        }
        if let Some(port) = self.shared.health.ports.get(self.lane.port).filter(|_| own) {
            port.busy(now, now.since(current.began));
            port.tally.count(now, result.as_ref().map(|_| ()));
        }
        for tally in self.tallies(&current.doing) {
            tally.carried(current.sent, current.came);
        }
        let Some((doing, result)) =
            self.changed_bits(now, current.doing, current.stage, current.began, result)
        else {
            return;
        };
        let left = current.left.unwrap_or(now);
        let Some((doing, left, result)) = self.next_piece(now, current.began, doing, left, result) else {
            return;
        };
        match doing {
            InFlight::LineRequest(job) => self.errand_done(now, current.began, job, result),
            InFlight::Owed(owed) => self.pay(now, owed, result),
            InFlight::Push { device, push, cells } => {
                self.pushed(now, current.began, device, push, cells, result.map(|_| ()));
            }
            InFlight::Poll { device, turn, probe, pieces } => {
                if probe {
                    self.lane.probe_from = now + now.since(current.began) * PROBE_PAUSE;
                }
                self.polled(now, (device, turn), left, result, &pieces.refused());
            }
        }
    }

    /// A refusal of something that is to change a device: once it has gone out, only the device can say that it has not
    /// done it.
    fn judged(&self, current: &Current, refusal: Refusal) -> Refusal {
        let went = current.left.is_some() && !matches!(current.stage, ChangeStage::Reading(_));
        let denied = refusal.native.is_some() && refusal.kind != Kind::NoAnswer;
        let changes = match &current.doing {
            InFlight::Push { .. } => true,
            InFlight::LineRequest(job) => job.line_request.changes_something(),
            InFlight::Poll { .. } | InFlight::Owed(_) => false,
        };
        if went && changes && !denied { refusal.with_unknown_outcome() } else { refusal }
    }

    fn errand_done(&mut self, now: Moment, began: Moment, job: Queued, result: Result<Vec<u8>, Refusal>) {
        let pause = now + now.since(began) * PROBE_PAUSE;
        self.count_errand(now, &job.line_request, result.as_ref().map(|_| ()));
        match &job.line_request {
            LineRequest::Pass { unit, .. } => {
                let silent = matches!(&result, Err(refusal) if refusal.native.is_none() && refusal.kind != Kind::NoPath);
                if silent {
                    let failed = self.lane.silent.entry(*unit).or_default();
                    *failed = failed.saturating_add(1);
                    if *failed >= UNIT_LOST_AFTER {
                        self.lane.probe_from = self.lane.probe_from.max(pause);
                    }
                } else {
                    self.lane.silent.remove(unit);
                    self.heard(now, &result, |station| station.number() == Some((*unit).into()));
                }
                job.end(result);
            }
            LineRequest::ByHand { station: guest, .. } => {
                let asked = guest.id();
                self.heard(now, &result, |station| station.id() == asked);
                // Its own stations again; the line stays as it is known.
                if let Some(own) = setup(&self.shared, self.lane.port) {
                    self.lane.client.set_up(&own);
                }
                job.end(result);
            }
            LineRequest::Write(write) => {
                let good = result.is_ok();
                if let Some(lost) = self.lost_device(write.device) {
                    // It took a write: it is worth a look at once. Else its silence counts as that of a probe.
                    lost.next_try = if good { now } else { lost.next_try };
                    self.lane.probe_from = if good { now } else { pause };
                }
                self.judge_write(now, write.device, result.as_ref().map(|_| ()).map_err(|refusal| *refusal));
                match &result {
                    Ok(_) => {
                        self.shared.kept.confirm(write.device, write.rule, write.extent, &write.own_cells());
                        self.shared.show_written(now, &write.shown);
                    }
                    Err(refusal) => self.unconfirmed(write.device, write.rule, write.extent, refusal),
                }
                // What it left undone is seen to.
                if let Some(polled) = self.devices.iter_mut().find(|polled| polled.index == write.device) {
                    polled.look_at = now;
                }
                job.end(result.map(|_| vec![]));
            }
        }
    }

    /// A device answered another request: if it is lost, it is worth a look at once.
    fn heard(&mut self, now: Moment, result: &Result<Vec<u8>, Refusal>, is_it: impl Fn(&Station) -> bool) {
        let port = self.lane.port;
        let answered = match result {
            Ok(_) => true,
            Err(refusal) => refusal.native.is_some() && refusal.blame == Blame::Device,
        };
        if !answered {
            return;
        }
        let plan = &self.shared.plan;
        let is_it = |polled: &&mut DeviceState| {
            plan.is_on(polled.index, port) && plan.devices.get(polled.index).is_some_and(&is_it)
        };
        for polled in self.devices.iter_mut().filter(is_it) {
            if let Some(lost) = &mut polled.lost {
                *lost = Lost { next_try: now, wait: polled.retry.first };
                self.lane.probe_from = self.lane.probe_from.min(now);
            }
        }
    }
}
