//! Who may use a port on which we ask: what others want in fair turns, values that devices are sent, polls by how overdue
//! they are, probes of lost devices when there is time. A state machine; [`crate::port`] drives it, the virtual bench
//! runs it.

mod counting;
mod parts;
mod polled;
mod published;
mod sending;
mod split;
mod turns;

use crate::Moment;
use crate::image::DeviceWrite;
use crate::shared::{Event, LineQueue, LineRequest, Queued, Shared};
use crate::speak::{Act, Ask, Client, ClientSetup, News, Ticket, speaker, subscriptions};
use parts::{ChangeStage, Mailbox};
use split::Pieces;
use std::collections::HashMap;
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
    Poll { device: usize, turn: usize, probe: bool, pieces: Pieces },
    Push { device: usize, push: usize, cells: Vec<u8> },
    LineRequest(Queued),
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

/// Requests on a connection of ours that brought nothing back: a firewall may have forgotten it, or the socket at its
/// other end may hang, and neither says so.
#[derive(Debug, Default, Clone, Copy)]
struct Unheard {
    /// In a row, since anything was answered.
    requests: u32,
    /// Times that it was made again for that, since anything was answered: each next time takes twice as many requests,
    /// since then it is the device that says nothing.
    again: u32,
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

/// Asks the devices of one port, and lets the answers land in the images.
pub struct Schedule {
    shared: Arc<Shared>,
    port: usize,
    client: Box<dyn Client>,
    queue: Arc<LineQueue>,
    devices: Vec<DeviceState>,
    current: Option<Current>,
    next_ticket: u64,
    /// The last request was not a poll: a poll that is due goes next.
    errand_last: bool,
    probe_from: Moment,
    /// Units of others' requests that did not answer, and how often in a row.
    silent: HashMap<u16, u32>,
    /// What is known of the connection, where we make it.
    unheard: Unheard,
    elsewhere: Mailbox,
    up: bool,
}

/// What the machine of a port needs to know.
fn setup(shared: &Shared, port: usize) -> Option<ClientSetup<'_>> {
    let settings = shared.ports.get(port)?;
    Some(ClientSetup {
        stations: &shared.plan.devices,
        line: *shared.plan.lines.get(port)?,
        retries: settings.retries,
        port: &settings.setup,
        first: settings.first,
    })
}

impl Schedule {
    /// Of a port; `None` where it has no protocol that can be spoken.
    #[must_use]
    pub fn new(shared: Arc<Shared>, port: usize) -> Option<Self> {
        let mut client = (speaker(shared.ports.get(port)?.protocol)?.client?)(&setup(&shared, port)?);
        client.keep(subscriptions(&shared.plan, port));
        let devices = turns::of_port(&shared, port);
        let queue = Arc::clone(shared.queues.get(port)?);
        Some(Self {
            shared,
            port,
            client,
            queue,
            devices,
            current: None,
            next_ticket: 0,
            errand_last: false,
            probe_from: Moment(0),
            silent: HashMap::new(),
            unheard: Unheard::default(),
            elsewhere: Mailbox::default(),
            up: true,
        })
    }

    /// The same port in a changed project: what is known of its devices stays. Only between two requests.
    #[must_use]
    pub fn renewed(&mut self, shared: Arc<Shared>, port: usize) -> Option<Self> {
        let mut next = Self::new(shared, port)?;
        for polled in &mut next.devices {
            // One at another unit is another device: what was known of the old one says nothing of it.
            let same = |station: &Station| (station.name.clone(), station.setup.clone());
            let own = next.shared.plan.devices.get(polled.index).map(same);
            let known =
                self.devices.iter().find(|old| self.shared.plan.devices.get(old.index).map(same) == own);
            if let Some(known) = known {
                (polled.failed, polled.lost) = (known.failed, known.lost);
            }
        }
        // What the machine knows of its line or connection goes on.
        std::mem::swap(&mut next.client, &mut self.client);
        next.client.set_up(&setup(&next.shared, port)?);
        next.client.keep(subscriptions(&next.shared.plan, port));
        next.up = self.up;
        (next.probe_from, next.unheard) = (self.probe_from, self.unheard);
        Some(next)
    }

    /// Whether nothing is under way.
    #[must_use]
    pub fn is_idle(&self) -> bool {
        self.current.is_none()
    }

    /// Takes news of the port.
    pub fn handle(&mut self, now: Moment, news: News<'_>) {
        match news {
            News::Up => {
                self.up = true;
                // What failed while there was no connection tells nothing of this one.
                self.unheard.requests = 0;
                for polled in self.devices.iter().filter(|polled| !polled.pushes.is_empty()) {
                    self.shared.was_away(polled.index);
                }
                // A device that was lost with the port is worth a look at once.
                self.probe_from = now;
                for polled in &mut self.devices {
                    if polled.lost.is_some() {
                        polled.lost = Some(Lost { next_try: now, wait: polled.retry.first });
                    }
                }
            }
            News::Down => self.up = false,
            News::Bytes(bytes) => {
                if let Some(port) = self.shared.health.ports.get(self.port) {
                    port.tally.carried(0, bytes.len() as u64);
                }
                if let Some(current) = &mut self.current {
                    current.came += bytes.len() as u64;
                }
            }
        }
        self.client.handle(now, news);
    }

    /// What to do now. Calling it early or often changes nothing.
    pub fn poll(&mut self, now: Moment) -> LineAct {
        loop {
            if let Some((ticket, result)) = self.elsewhere.take() {
                self.finish(now, ticket, result);
            }
            if let Some(why) = self.is_unheard() {
                return LineAct::HangUp(why);
            }
            match self.client.poll(now) {
                Act::Send(bytes) => {
                    let line = self.shared.plan.lines.get(self.port);
                    let takes =
                        line.map_or(0, |line| line.bytes(u32::try_from(bytes.len()).unwrap_or(u32::MAX)));
                    let said_before = self.client.said_before();
                    if let Some(current) = &mut self.current {
                        if !said_before || current.left.is_none() {
                            current.left = Some(now + takes);
                        }
                        current.sent += bytes.len() as u64;
                    }
                    if let Some(port) = self.shared.health.ports.get(self.port) {
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
                Act::Tell(words) => self.shared.tell(Event::PortSays { port: self.port, words }),
                Act::HangUp(why) => return LineAct::HangUp(why),
                Act::WaitUntil(moment) => return LineAct::WaitUntil(moment),
                Act::Rest
                    if self
                        .current
                        .as_ref()
                        .is_some_and(|own| self.waits_elsewhere(own.stage, &own.doing)) =>
                {
                    return LineAct::Rest;
                }
                Act::Rest => match (self.start_next(now), self.client.wakes_at()) {
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
        let port = self.shared.ports.get(self.port).filter(|port| port.dials && self.current.is_none())?;
        let most = self.devices.iter().map(|polled| polled.lost_after).min().unwrap_or(UNIT_LOST_AFTER);
        let Unheard { requests, again } = self.unheard;
        if !self.up || requests < most.saturating_mul(1 << again.min(AGAIN_MOST)) {
            return None;
        }
        self.unheard = Unheard { requests: 0, again: again + 1 };
        Some(format!("{requests} requests in a row were not answered, so `{}` is connected again", port.name))
    }

    /// Gives the client its next question; or says for what to wait.
    fn start_next(&mut self, now: Moment) -> Option<LineAct> {
        let doing = match self.choose(now) {
            Ok(doing) => doing,
            Err(Some(moment)) => return Some(LineAct::WaitUntil(moment)),
            Err(None) => return Some(LineAct::Rest),
        };
        let (ask, stage) = self.ask_of(&doing)?;
        self.errand_last = !matches!(doing, InFlight::Poll { .. });
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
        if let (Some(station), Some(own)) = (guest, setup(&self.shared, self.port)) {
            let stations = std::slice::from_ref(station);
            self.client.set_up(&ClientSetup { stations, retries: 0, ..own });
        }
        self.current = Some(Current { doing, ticket, began: now, left: None, stage, sent: 0, came: 0 });
        match (stage, ask) {
            (ChangeStage::Reading(extent), Ask::Read { station, .. }) if self.reads_elsewhere(station) => {
                self.ask_elsewhere(ticket, station, extent);
            }
            (_, ask) if self.is_suspected() => self.client.ask_once(ticket, ask),
            (_, ask) => self.client.ask(ticket, ask),
        }
    }

    /// Whether what is being asked is a poll of a device that did not answer the last one, while others use the port too:
    /// its silence must not cost them all the tries that the port allows.
    fn is_suspected(&self) -> bool {
        let Some(Current { doing: InFlight::Poll { device, .. }, .. }) = &self.current else { return false };
        let failed = self.devices.get(*device).is_some_and(|polled| polled.failed > 0);
        failed && (self.devices.len() > 1 || !self.queue.is_empty())
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
            InFlight::LineRequest(Queued { line_request: LineRequest::Read { device, extent }, .. }) => {
                (Ask::read(*device, *extent), ChangeStage::Only)
            }
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
        if !(self.errand_last && poll.is_ok()) {
            if let Some(job) = self.next_errand(now, poll.is_ok()) {
                return Ok(InFlight::LineRequest(job));
            }
            push = self.due_push(now);
            if let Ok((device, push, cells)) = push {
                return Ok(InFlight::Push { device, push, cells });
            }
        }
        self.errand_last = false;
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
            let job = self.queue.take()?;
            let lost = match &job.line_request {
                LineRequest::Write(DeviceWrite { device, .. }) | LineRequest::Read { device, .. } => {
                    self.lost_device(*device).is_some()
                }
                // A person wants to know.
                LineRequest::ByHand { .. } => false,
                LineRequest::Pass { unit, .. } => {
                    let silent = self.silent.get(unit).is_some_and(|failed| *failed >= UNIT_LOST_AFTER);
                    // While nobody else wants the line, a try costs nobody anything.
                    silent && (poll_due || !self.queue.is_empty())
                }
            };
            if !lost || now >= self.probe_from {
                return Some(job);
            }
            let refusal = Refusal::new(Kind::NoAnswer, Blame::Device);
            self.count_errand(now, &job.line_request, Err(&refusal));
            (job.reply)(Err(refusal));
        }
    }

    /// The state of a device of the plan that counts as lost.
    fn lost_device(&mut self, index: usize) -> Option<&mut Lost> {
        let index = self.shared.plan.host(index);
        self.devices.iter_mut().find(|polled| polled.index == index)?.lost.as_mut()
    }

    fn finish(&mut self, now: Moment, ticket: Ticket, result: Result<Vec<u8>, Refusal>) {
        let Some(current) = self.current.take().filter(|current| current.ticket == ticket) else { return };
        // What another port has read counts there.
        let own = !self.waits_elsewhere(current.stage, &current.doing);
        match &result {
            Err(Refusal { native: None, kind: Kind::NoAnswer, .. }) if own => self.unheard.requests += 1,
            Err(Refusal { native: None, .. }) => {}
            _ if own => self.unheard = Unheard::default(),
            _ => {}
        }
        if let Some(port) = self.shared.health.ports.get(self.port).filter(|_| own) {
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
            InFlight::Push { device, push, cells } => {
                self.pushed(now, current.began, device, push, cells, result.map(|_| ()));
            }
            InFlight::Poll { device, turn, probe, pieces } => {
                if probe {
                    self.probe_from = now + now.since(current.began) * PROBE_PAUSE;
                }
                self.polled(now, (device, turn), left, result, &pieces.refused());
            }
        }
    }

    fn errand_done(&mut self, now: Moment, began: Moment, job: Queued, result: Result<Vec<u8>, Refusal>) {
        let pause = now + now.since(began) * PROBE_PAUSE;
        self.count_errand(now, &job.line_request, result.as_ref().map(|_| ()));
        match &job.line_request {
            LineRequest::Pass { unit, .. } => {
                let silent = matches!(&result, Err(refusal) if refusal.native.is_none() && refusal.kind != Kind::NoPath);
                if silent {
                    let failed = self.silent.entry(*unit).or_default();
                    *failed = failed.saturating_add(1);
                    if *failed >= UNIT_LOST_AFTER {
                        self.probe_from = self.probe_from.max(pause);
                    }
                } else {
                    self.silent.remove(unit);
                    self.heard(now, &result, |station| station.number() == Some((*unit).into()));
                }
                (job.reply)(result);
            }
            LineRequest::Read { device, .. } => {
                let name = self.shared.plan.devices.get(*device).map(|station| station.name.clone());
                self.heard(now, &result, |station| Some(&station.name) == name.as_ref());
                (job.reply)(result);
            }
            LineRequest::ByHand { station: guest, .. } => {
                let asked = guest.id();
                self.heard(now, &result, |station| station.id() == asked);
                // Its own stations again; the line stays as it is known.
                if let Some(own) = setup(&self.shared, self.port) {
                    self.client.set_up(&own);
                }
                (job.reply)(result);
            }
            LineRequest::Write(write) => {
                let good = result.is_ok();
                if let Some(lost) = self.lost_device(write.device) {
                    // It took a write: it is worth a look at once. Else its silence counts as that of a probe.
                    lost.next_try = if good { now } else { lost.next_try };
                    self.probe_from = if good { now } else { pause };
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
                (job.reply)(result.map(|_| vec![]));
            }
        }
    }

    /// A device answered another request: if it is lost, it is worth a look at once.
    fn heard(&mut self, now: Moment, result: &Result<Vec<u8>, Refusal>, is_it: impl Fn(&Station) -> bool) {
        let answered = match result {
            Ok(_) => true,
            Err(refusal) => refusal.native.is_some() && refusal.blame == Blame::Device,
        };
        if !answered {
            return;
        }
        let stations = &self.shared.plan.devices;
        for polled in self.devices.iter_mut().filter(|polled| stations.get(polled.index).is_some_and(&is_it))
        {
            if let Some(lost) = &mut polled.lost {
                *lost = Lost { next_try: now, wait: polled.retry.first };
                self.probe_from = self.probe_from.min(now);
            }
        }
    }
}
