//! Who may use a port on which we ask: polls by how overdue they are, clients' writes between them, probes of lost
//! devices when there is time. A state machine; [`crate::port`] drives it, the virtual bench runs it.

use crate::Moment;
use crate::image::failure_code;
use crate::shared::{Event, LineQueue, Shared, WriteJob};
use crate::speak::{Act, Ask, Client, ClientSetup, News, Ticket, speaker};
use std::sync::Arc;
use woodrush_core::project::Retry;
use woodrush_core::{Blame, Kind, Refusal};

/// A probe may take this share of the line at most: after one, so many times its duration must pass.
const PROBE_PAUSE: u64 = 3;

/// One request that is due again and again.
struct Turn {
    transfer: usize,
    every: u64,
    due: Moment,
    /// When it was last answered: the moment its request had left.
    good: Option<Moment>,
    /// The device's own number of the refusal that was told last; told again only when it changes.
    refused: Option<u32>,
}

struct Polled {
    index: usize,
    turns: Vec<Turn>,
    lost_after: u32,
    retry: Retry,
    failed: u32,
    lost: Option<Lost>,
}

#[derive(Clone, Copy)]
struct Lost {
    next_try: Moment,
    wait: u64,
}

enum Job {
    Poll { device: usize, turn: usize, probe: bool },
    Write(WriteJob),
}

struct Current {
    job: Job,
    ticket: Ticket,
    began: Moment,
    /// When its last byte has left; `None` before it is sent.
    left: Option<Moment>,
}

/// What the driver of a port must do next.
#[derive(Debug, PartialEq, Eq)]
#[must_use = "an action that is not carried out stalls the port"]
pub enum LineAct {
    /// Write these bytes, then poll again.
    Send(Vec<u8>),
    /// Nothing to do before this moment or news.
    WaitUntil(Moment),
    /// Nothing to do before news.
    Rest,
}

/// Asks the devices of one port, and lets the answers land in the images.
pub struct Asking {
    shared: Arc<Shared>,
    port: usize,
    client: Box<dyn Client>,
    queue: Arc<LineQueue>,
    devices: Vec<Polled>,
    current: Option<Current>,
    next_ticket: u64,
    wrote_last: bool,
    probe_from: Moment,
    up: bool,
}

impl Asking {
    /// Of a port; `None` where it has no protocol that can be spoken.
    #[must_use]
    pub fn new(shared: Arc<Shared>, port: usize) -> Option<Self> {
        let settings = shared.ports.get(port)?;
        let setup = ClientSetup {
            stations: &shared.plan.devices,
            line: *shared.plan.lines.get(port)?,
            retries: settings.retries,
        };
        let client = (speaker(settings.protocol)?.client)(&setup);
        let mut devices: Vec<Polled> = vec![];
        for (index, settings) in shared.devices.iter().enumerate() {
            if shared.plan.devices.get(index).is_none_or(|station| station.port != port) {
                continue;
            }
            let mine =
                shared.plan.transfers.iter().enumerate().filter(|(_, transfer)| transfer.device == index);
            let turns: Vec<Turn> = mine
                .map(|(transfer, t)| Turn {
                    transfer,
                    every: t.every.max(1),
                    due: Moment(0),
                    good: None,
                    refused: None,
                })
                .collect();
            if !turns.is_empty() {
                let (lost_after, retry) = (settings.lost_after, settings.retry);
                devices.push(Polled { index, turns, lost_after, retry, failed: 0, lost: None });
            }
        }
        let queue = Arc::clone(shared.queues.get(port)?);
        Some(Self {
            shared,
            port,
            client,
            queue,
            devices,
            current: None,
            next_ticket: 0,
            wrote_last: false,
            probe_from: Moment(0),
            up: true,
        })
    }

    /// Takes news of the port.
    pub fn handle(&mut self, now: Moment, news: News<'_>) {
        match news {
            News::Up => self.up = true,
            News::Down => self.up = false,
            News::Bytes(_) => {}
        }
        self.client.handle(now, news);
    }

    /// What to do now. Calling it early or often changes nothing.
    pub fn poll(&mut self, now: Moment) -> LineAct {
        loop {
            match self.client.poll(now) {
                Act::Send(bytes) => {
                    let line = self.shared.plan.lines.get(self.port);
                    let takes =
                        line.map_or(0, |line| line.bytes(u32::try_from(bytes.len()).unwrap_or(u32::MAX)));
                    if let Some(current) = &mut self.current {
                        current.left = Some(now + takes);
                    }
                    return LineAct::Send(bytes);
                }
                Act::Done(ticket, result) => self.finish(now, ticket, result),
                Act::WaitUntil(moment) => return LineAct::WaitUntil(moment),
                Act::Rest => match self.start_next(now) {
                    Some(wait) => return wait,
                    None => continue,
                },
            }
        }
    }

    /// Gives the client its next question; or says for what to wait.
    fn start_next(&mut self, now: Moment) -> Option<LineAct> {
        let job = match self.choose(now) {
            Ok(job) => job,
            Err(Some(moment)) => return Some(LineAct::WaitUntil(moment)),
            Err(None) => return Some(LineAct::Rest),
        };
        let ask = match &job {
            Job::Poll { device, turn, .. } => {
                let polled = self.devices.get(*device)?;
                let transfer = self.shared.plan.transfers.get(polled.turns.get(*turn)?.transfer)?;
                Ask::Read { station: transfer.device, extent: transfer.extent }
            }
            Job::Write(job) => Ask::Write {
                station: job.write.device,
                extent: job.write.extent,
                cells: job.write.cells.clone(),
            },
        };
        self.wrote_last = matches!(job, Job::Write(_));
        let ticket = Ticket(self.next_ticket);
        self.next_ticket += 1;
        self.current = Some(Current { job, ticket, began: now, left: None });
        self.client.ask(ticket, ask);
        None
    }

    /// The next job; or the moment at which there may be one.
    fn choose(&mut self, now: Moment) -> Result<Job, Option<Moment>> {
        let poll = self.most_overdue(now);
        // A write goes before polls, but never two in a row while one is due.
        if !(self.wrote_last && poll.is_ok())
            && let Some(job) = self.next_write(now)
        {
            return Ok(Job::Write(job));
        }
        self.wrote_last = false;
        match (poll, self.due_probe(now)) {
            (_, Ok((device, turn))) => Ok(Job::Poll { device, turn, probe: true }),
            (Ok((device, turn)), _) => Ok(Job::Poll { device, turn, probe: false }),
            (Err(poll), Err(probe)) => Err([poll, probe].into_iter().flatten().min()),
        }
    }

    /// The write that has waited longest. One for a lost device is a probe like any other: between two of them the
    /// line has its pause, and what comes in it is refused at once, so that no client slows the living ones.
    fn next_write(&mut self, now: Moment) -> Option<WriteJob> {
        loop {
            let job = self.queue.take()?;
            if now >= self.probe_from || self.lost_device(job.write.device).is_none() {
                return Some(job);
            }
            (job.reply)(Err(Refusal::new(Kind::NoAnswer, Blame::Device)));
        }
    }

    /// The state of a device of the plan that counts as lost.
    fn lost_device(&mut self, index: usize) -> Option<&mut Lost> {
        self.devices.iter_mut().find(|polled| polled.index == index)?.lost.as_mut()
    }

    /// The poll that is most overdue relative to its own interval, of devices that are not lost.
    fn most_overdue(&self, now: Moment) -> Result<(usize, usize), Option<Moment>> {
        let mut best: Option<(f64, (usize, usize))> = None;
        let mut next: Option<Moment> = None;
        for (device, polled) in self.devices.iter().enumerate().filter(|(_, polled)| polled.lost.is_none()) {
            for (at, turn) in polled.turns.iter().enumerate() {
                if turn.due > now {
                    next = Some(next.map_or(turn.due, |next| next.min(turn.due)));
                    continue;
                }
                let overdue = now.since(turn.due) as f64 / turn.every as f64;
                if best.is_none_or(|(most, _)| overdue > most) {
                    best = Some((overdue, (device, at)));
                }
            }
        }
        best.map(|(_, found)| found).ok_or(next)
    }

    /// The lost device that has waited longest for its next try, with its shortest read.
    fn due_probe(&self, now: Moment) -> Result<(usize, usize), Option<Moment>> {
        let lost =
            self.devices.iter().enumerate().filter_map(|(at, polled)| Some((at, polled, polled.lost?)));
        let Some((device, polled, state)) = lost.min_by_key(|(_, _, lost)| lost.next_try) else {
            return Err(None);
        };
        let when = state.next_try.max(self.probe_from);
        if when > now {
            return Err(Some(when));
        }
        let takes = |turn: &Turn| self.shared.plan.transfers.get(turn.transfer).map_or(u64::MAX, |t| t.takes);
        let shortest = polled.turns.iter().enumerate().min_by_key(|(_, turn)| takes(turn));
        shortest.map(|(turn, _)| (device, turn)).ok_or(None)
    }

    fn finish(&mut self, now: Moment, ticket: Ticket, result: Result<Vec<u8>, Refusal>) {
        let Some(current) = self.current.take().filter(|current| current.ticket == ticket) else { return };
        match current.job {
            Job::Write(job) => {
                let pause = now + now.since(current.began) * PROBE_PAUSE;
                let good = result.is_ok();
                if let Some(lost) = self.lost_device(job.write.device) {
                    // It took a write: it is worth a look at once. Else its silence counts as that of a probe.
                    lost.next_try = if good { now } else { lost.next_try };
                    self.probe_from = if good { now } else { pause };
                }
                if good {
                    let (image, extent, cells) = &job.write.shown;
                    self.shared.show_written(*image, *extent, cells);
                }
                (job.reply)(result.map(|_| ()));
            }
            Job::Poll { device, turn, probe } => {
                if probe {
                    self.probe_from = now + now.since(current.began) * PROBE_PAUSE;
                }
                self.polled(now, device, turn, current.left.unwrap_or(now), result);
            }
        }
    }

    fn polled(
        &mut self,
        now: Moment,
        device: usize,
        turn: usize,
        left: Moment,
        result: Result<Vec<u8>, Refusal>,
    ) {
        let Some(polled) = self.devices.get_mut(device) else { return };
        let index = polled.index;
        let Some(entry) = polled.turns.get_mut(turn) else { return };
        // Missed turns are dropped, and the phase is kept.
        let missed = now.since(entry.due) / entry.every;
        entry.due = entry.due + (missed + 1) * entry.every;
        let Some(health) = self.shared.health.get(index) else { return };
        match result {
            Ok(cells) => {
                entry.good = Some(left);
                entry.refused = None;
                self.shared.land(entry.transfer, left, &cells);
                polled.failed = 0;
                if polled.lost.take().is_some() || !health.is_online() {
                    self.shared.tell(Event::DeviceBack { device: index });
                    // Everything else of it is due at once.
                    polled
                        .turns
                        .iter_mut()
                        .enumerate()
                        .filter(|(at, _)| *at != turn)
                        .for_each(|(_, turn)| turn.due = now);
                }
                let oldest = polled.turns.iter().map(|turn| turn.good).min().flatten();
                let all_read = polled.turns.iter().all(|turn| turn.good.is_some());
                health.good(oldest.filter(|_| all_read));
            }
            Err(refusal) => {
                health.bad(failure_code(&refusal));
                // An exception is an answer: the device is there, and this value is not.
                if let (Some((_, code)), Blame::Device) = (refusal.native, refusal.blame) {
                    polled.failed = 0;
                    if polled.lost.take().is_some() || !health.is_online() {
                        health.answers();
                        self.shared.tell(Event::DeviceBack { device: index });
                    }
                    if entry.refused.replace(code) != Some(code) {
                        self.shared.tell(Event::Refused { device: index, transfer: entry.transfer, refusal });
                    }
                    return;
                }
                polled.failed = polled.failed.saturating_add(1);
                self.count_failure(now, device, refusal.kind);
            }
        }
    }

    fn count_failure(&mut self, now: Moment, device: usize, kind: Kind) {
        let Some(polled) = self.devices.get_mut(device) else { return };
        polled.lost = match polled.lost {
            Some(lost) => {
                let wait = lost.wait.saturating_mul(2).min(polled.retry.most);
                Some(Lost { next_try: now + wait, wait })
            }
            None if polled.failed >= polled.lost_after => {
                let wait = polled.retry.first;
                self.shared.lose(polled.index, polled.turns.iter().map(|turn| turn.transfer));
                self.shared.tell(Event::DeviceLost { device: polled.index, kind });
                Some(Lost { next_try: now + wait, wait })
            }
            None => None,
        };
    }
}
