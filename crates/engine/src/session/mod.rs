//! One client's questions: reads from the images at once, writes one task after the other, forwarded requests handed to
//! the port that they go to.

mod line;
mod outcome;

pub use line::{LineSession, LineStep};

use crate::Moment;
use crate::health::ClientTally;
use crate::image::Task;
use crate::shared::{
    AnswerSettings, ClientId, Message, ProjectChange, Reply, ReplyOutcome, ReplyTicket, Shared, Site,
    WriteRecord, changed, given_up,
};
use crate::speak::{FastReads, News, Serve, Server, Want, speaker};
use outcome::WriteOutcome;
pub(crate) use outcome::ended;
use std::collections::VecDeque;
use std::net::Ipv4Addr;
use std::sync::atomic::Ordering::Relaxed;
use std::sync::{Arc, Mutex};
use woodrush_core::budget::LineTime;
use woodrush_core::form::hex_words;
use woodrush_core::plan::Plan;
use woodrush_core::protocol::Extent;
use woodrush_core::{Blame, Kind, Refusal};

/// Most writes whose asker has gone that are followed to their end, for the write log: each waits in a queue of its device's
/// port, which bounds them too.
const ABANDONED_MAX: usize = 64;

/// A client on a port.
#[derive(Debug, Clone)]
pub struct ClientIdentity {
    /// For taking turns: the same for all connections of one machine.
    pub id: ClientId,
    /// As the log names them.
    pub who: String,
    /// Held against `writers`; `None` for those without an address, who may write.
    pub address: Option<Ipv4Addr>,
}

/// What the driver of a connection must do next.
#[must_use = "an action that is not carried out stalls the connection"]
pub enum SessionAct {
    /// Write these bytes, then poll again.
    Send(Vec<u8>),
    /// Hand over what comes next by [`Session::submit`], with a reply of this ticket; tell [`Session::ended`] its outcome,
    /// then poll again.
    Hand(ReplyTicket),
    /// Close, for this reason.
    HangUp(String),
    /// Nothing to do before this moment or bytes.
    WaitUntil(Moment),
    /// Nothing to do before bytes come.
    Rest,
}

/// The machine behind one connection, or one line on which others ask.
#[repr(C)]
pub struct Session {
    // What every plain read touches stands together, in one line of the cache.
    /// How reads are answered while nothing is under way.
    plainly: Option<FastReads>,
    site: Arc<Site>,
    generation: u64,
    shared: Arc<Shared>,
    port: usize,
    tally: Arc<ClientTally>,
    server: Box<dyn Server>,
    work: Option<Box<Work>>,
    client: ClientIdentity,
    cells: Vec<u8>,
    damaged: u64,
    /// Of what is handed over next.
    next_ticket: u64,
    /// Writes whose asker does not wait any longer, for the write log.
    abandoned: Vec<(ReplyTicket, Arc<WriteOutcome>, bool)>,
    /// Whole requests that took more than a look at the cells, or were refused.
    taken: u64,
    /// Good answers that are not in the tally yet.
    good: u64,
    /// Bytes that are not in the tally yet.
    came: u64,
    sent: u64,
}

impl Drop for Session {
    fn drop(&mut self) {
        self.site.current().health.left(&self.tally);
    }
}

/// A request that takes more than a look at the cells.
struct Work {
    tasks: VecDeque<Task>,
    /// The request itself, or the first task, is under way elsewhere, and this outcome is waited for.
    under_way: Option<ReplyTicket>,
    pass: Option<(u16, Message)>,
    /// What is read once all is written.
    read: Option<(usize, Extent)>,
    outcome: Option<Arc<WriteOutcome>>,
    /// A change of the project has taken away what the rest of it was for.
    broken: bool,
}

impl Work {
    /// Takes what is still to be done into a changed project, as far as it is for the same things there. `change` is none
    /// where the project has changed more than once.
    fn move_to(&mut self, change: Option<&ProjectChange>, old: &Plan) {
        // What is under way waits in a queue, which moves it, and is only taken off here.
        let first = usize::from(self.under_way.is_some());
        for at in first..self.tasks.len() {
            let moved = change.and_then(|change| change.task(old, self.tasks.get(at)?));
            match (moved, self.tasks.get_mut(at)) {
                (Some(moved), Some(task)) => *task = moved,
                _ => {
                    self.tasks.truncate(at);
                    self.broken = true;
                    break;
                }
            }
        }
        if let Some((image, extent)) = self.read.take() {
            self.read = change.and_then(|change| change.in_image(old, image, extent));
            self.broken |= self.read.is_none();
        }
    }
}

impl Session {
    /// Of a connection to a port; `None` where nobody is answered there.
    #[must_use]
    pub fn new(site: Arc<Site>, port: usize, client: ClientIdentity) -> Option<Self> {
        let shared = site.current();
        let settings = shared.answers.get(port)?.as_ref()?;
        let server = (speaker(settings.protocol)?.server?)(&settings.server);
        Self::over(site, port, client, server)
    }

    /// Of a connection that this server answers; `None` where nobody is answered there.
    #[must_use]
    pub fn over(
        site: Arc<Site>,
        port: usize,
        client: ClientIdentity,
        mut server: Box<dyn Server>,
    ) -> Option<Self> {
        let generation = site.generation();
        let shared = site.current();
        server.set_up(&shared.answers.get(port)?.as_ref()?.server);
        let tally = shared.health.client(port, client.who.clone());
        Some(Self {
            plainly: None,
            site,
            generation,
            shared,
            port,
            client,
            tally,
            server,
            work: None,
            cells: vec![],
            damaged: 0,
            next_ticket: 0,
            abandoned: vec![],
            taken: 0,
            good: 0,
            came: 0,
            sent: 0,
        })
    }

    /// Takes news of the connection.
    pub fn handle(&mut self, now: Moment, news: News<'_>) {
        self.plainly = None;
        if matches!(news, News::Down) {
            self.work = None;
        }
        if let News::Bytes(bytes) = &news {
            self.came += bytes.len() as u64;
        }
        self.server.handle(now, news);
    }

    /// Answers the reads that the bytes of a connection, which have just come, begin with: how many bytes that were,
    /// and what must be written. The others are news, and must be handled.
    pub fn answer_reads(&mut self, now: Moment, bytes: &[u8]) -> (usize, Vec<u8>) {
        let (Some(plainly), true) = (self.plainly, self.generation == self.site.generation()) else {
            return (0, vec![]);
        };
        let Some(settings) = self.settings() else { return (0, vec![]) };
        let done = plainly(bytes, &mut |unit, extent, cells| {
            self.shared.read(settings.image(unit), now, extent, cells)
        });
        if done.requests > 0 {
            let tally = &self.tally.tally;
            tally.count_good(now, done.requests);
            tally.carried(done.answers.len() as u64, done.used as u64);
        }
        (done.used, done.answers)
    }

    /// What is counted of it.
    #[must_use]
    pub fn tally(&self) -> &Arc<ClientTally> {
        &self.tally
    }

    /// Counts up with each whole request that was not answered by [`Session::answer_reads`].
    #[must_use]
    pub fn taken(&self) -> u64 {
        self.taken
    }

    /// Whether something is under way elsewhere: nothing more is read from the connection meanwhile.
    #[must_use]
    pub fn is_waiting(&self) -> bool {
        self.work.as_ref().is_some_and(|work| work.under_way.is_some())
    }

    /// Takes the project that runs now, if that has changed; `false` where its port is no longer there as it was. In a step.
    fn follow(&mut self) -> bool {
        let generation = self.site.generation();
        if generation == self.generation {
            return true;
        }
        let next = self.site.current();
        let own = self.shared.ports.get(self.port);
        let port = own.and_then(|own| next.ports.iter().position(|port| port.is_same(own)));
        let found = port.and_then(|port| Some((port, next.answers.get(port)?.as_ref()?)));
        let Some((port, settings)) = found else { return false };
        self.server.set_up(&settings.server);
        if let Some(work) = &mut self.work {
            work.move_to(self.site.change_from(self.generation).as_deref(), &self.shared.plan);
        }
        self.plainly = None;
        (self.generation, self.shared, self.port) = (generation, next, port);
        true
    }

    /// Those of the port; one for all its connections, so that they are at hand.
    fn settings(&self) -> Option<&AnswerSettings> {
        self.shared.answers.get(self.port)?.as_ref()
    }

    /// What to do now. A changed project is taken here, between two steps.
    pub fn poll(&mut self, now: Moment) -> SessionAct {
        let site = Arc::clone(&self.site);
        let _step = site.step();
        if !self.follow() {
            return SessionAct::HangUp("the project no longer has such a port".into());
        }
        loop {
            if self.work.is_some() {
                match self.go_on(now) {
                    Some(act) => return act,
                    None => continue,
                }
            }
            match self.server.poll(now) {
                Serve::Send(bytes) => {
                    self.sent += bytes.len() as u64;
                    return SessionAct::Send(bytes);
                }
                Serve::HangUp(why) => {
                    self.tell_counts(now);
                    // What made no sense is damage, whichever framing it was in.
                    if let Some(port) = self.shared.health.ports.get(self.port) {
                        port.noise.fetch_add(1, Relaxed);
                    }
                    return SessionAct::HangUp(why);
                }
                Serve::WaitUntil(moment) => {
                    self.tell_counts(now);
                    return SessionAct::WaitUntil(moment);
                }
                Serve::Rest => {
                    self.tell_counts(now);
                    self.plainly = self.server.plainly();
                    return SessionAct::Rest;
                }
                Serve::Want { unit, all, want } => self.take(now, unit, all, want),
            }
        }
    }

    fn tell_counts(&mut self, now: Moment) {
        if self.good > 0 {
            self.tally.tally.count_good(now, std::mem::take(&mut self.good));
        }
        if self.came > 0 {
            self.tally.tally.carried(std::mem::take(&mut self.sent), std::mem::take(&mut self.came));
        }
        let damaged = self.server.damaged();
        if damaged != self.damaged {
            if let Some(port) = self.shared.health.ports.get(self.port) {
                port.noise.fetch_add(damaged.saturating_sub(self.damaged), Relaxed);
            }
            self.damaged = damaged;
        }
    }

    fn take(&mut self, now: Moment, unit: u16, all: bool, want: Want) {
        self.taken += 1;
        let image = self.settings().and_then(|settings| settings.image(unit));
        match want {
            Want::Read(extent) => {
                let mut refused = None;
                self.server.give_cells(&mut |cells| {
                    let result = self.shared.read(image, now, extent, cells);
                    refused = result.err();
                    result
                });
                self.count(now, refused.as_ref());
            }
            Want::Pass(message) => {
                let work = Work {
                    tasks: VecDeque::new(),
                    under_way: None,
                    pass: Some((unit, *message)),
                    read: None,
                    outcome: None,
                    broken: false,
                };
                self.work = Some(Box::new(work));
            }
            Want::Write { extent, cells } if all => {
                // For every image of the line; nobody is told how it went.
                let images: Vec<usize> = self
                    .settings()
                    .map(|settings| settings.images.iter().map(|(_, image)| *image).collect())
                    .unwrap_or_default();
                let who = self.client.address;
                let routed =
                    images.into_iter().filter_map(|i| self.shared.route(Some(i), who, extent, &cells).ok());
                let tasks: VecDeque<Task> = routed.flatten().collect();
                let outcome = self.outcome(None, extent, &cells);
                self.work = Some(Box::new(Work {
                    tasks,
                    under_way: None,
                    pass: None,
                    read: None,
                    outcome,
                    broken: false,
                }));
            }
            Want::Write { extent, cells } => self.write(now, image, extent, &cells, None),
            Want::Change(change) => {
                self.cells.clear();
                match self.shared.read(image, now, change.extent, &mut self.cells) {
                    Ok(()) => {
                        let cells = change.of(&self.cells);
                        self.write(now, image, change.extent, &cells, None);
                    }
                    Err(refusal) => self.end(now, Err(refusal)),
                }
            }
            Want::Exchange(exchange) => {
                let after = image.map(|image| (image, exchange.read));
                self.write(now, image, exchange.write, &exchange.cells, after);
            }
        }
    }

    fn write(
        &mut self,
        now: Moment,
        image: Option<usize>,
        extent: Extent,
        cells: &[u8],
        read: Option<(usize, Extent)>,
    ) {
        let outcome = self.outcome(image, extent, cells);
        match self.shared.route(image, self.client.address, extent, cells) {
            Ok(tasks) => {
                self.work = Some(Box::new(Work {
                    tasks: tasks.into(),
                    under_way: None,
                    pass: None,
                    read,
                    outcome,
                    broken: false,
                }));
            }
            Err(refusal) => {
                if let Some(outcome) = outcome {
                    outcome.refused(refusal);
                }
                self.end(now, Err(refusal));
            }
        }
    }

    /// Does the next part of a request; `None` when it went on at once.
    fn go_on(&mut self, now: Moment) -> Option<SessionAct> {
        let work = self.work.as_mut()?;
        if work.under_way.is_some() {
            return Some(SessionAct::Rest);
        }
        let waits = matches!(work.tasks.front(), Some(Task::Send(write)) if write.after_device);
        if work.pass.is_some() || waits {
            let ticket = ReplyTicket(self.next_ticket);
            self.next_ticket += 1;
            work.under_way = Some(ticket);
            return Some(SessionAct::Hand(ticket));
        }
        match work.tasks.front().cloned() {
            Some(Task::Send(mut write)) => {
                work.tasks.pop_front();
                let shown = std::mem::take(&mut write.shown);
                let outcome = work.outcome.clone();
                // The client does not wait: how it ends shows in the health of rule and device, and in the write log.
                let reply = Reply::new(ReplyTicket(self.next_ticket), move |_, result| {
                    if let (Some(outcome), Err(refusal)) = (outcome, result) {
                        outcome.refused(refusal);
                    }
                });
                self.next_ticket += 1;
                if self.shared.submit(self.client.id, write, reply) {
                    self.shared.show_written(now, &shown);
                } else {
                    // What is known at once is told at once.
                    self.complete();
                    self.work = None;
                    self.end(now, Err(Refusal::new(Kind::Busy, Blame::Us)));
                }
                None
            }
            Some(Task::Enter(entered)) => {
                work.tasks.pop_front();
                self.shared.enter(now, &entered);
                None
            }
            None if work.broken => {
                if let Some(outcome) = work.outcome.take() {
                    outcome.refused(changed());
                }
                self.work = None;
                self.end(now, Err(changed()));
                None
            }
            None => {
                self.complete();
                let Work { read, .. } = *self.work.take()?;
                self.cells.clear();
                let result = match read {
                    Some((image, extent)) => self.shared.read(Some(image), now, extent, &mut self.cells),
                    None => Ok(()),
                };
                self.end(now, result);
                None
            }
        }
    }

    /// How what was handed over has ended. The outcome of an earlier request, which nobody waits for any more, changes
    /// nothing.
    pub fn ended(&mut self, now: Moment, ticket: ReplyTicket, outcome: ReplyOutcome) {
        if let Some(at) = self.abandoned.iter().position(|(own, ..)| *own == ticket) {
            let (_, log, whole) = self.abandoned.swap_remove(at);
            match outcome {
                Err(refusal) => log.refused(refusal),
                Ok(_) if whole => log.complete(),
                Ok(_) => {}
            }
            return;
        }
        let Some(work) = self.work.as_mut().filter(|work| work.under_way == Some(ticket)) else { return };
        work.under_way = None;
        match (work.pass.take(), outcome) {
            (Some(_), Ok(body)) => {
                self.work = None;
                self.cells = body;
                self.end(now, Ok(()));
            }
            (None, Ok(_)) => {
                work.tasks.pop_front();
            }
            (_, Err(refusal)) => {
                if let Some(outcome) = work.outcome.take() {
                    outcome.refused(refusal);
                }
                self.work = None;
                self.end(now, Err(refusal));
            }
        }
    }

    /// Gives the answer; what was read or passed on lies in `cells`.
    fn end(&mut self, now: Moment, result: Result<(), Refusal>) {
        self.count(now, result.as_ref().err());
        self.server.give(result.map(|()| self.cells.as_slice()));
    }

    /// Counts how a request was answered: a refusal under the code that the client has got.
    fn count(&mut self, now: Moment, refused: Option<&Refusal>) {
        let Some(refusal) = refused else {
            // Told together when there is nothing more to do: counting must cost the exchanges nothing.
            self.good += 1;
            return;
        };
        let (code, _) = self.server.native(*refusal);
        let told = Refusal { native: Some(("", code)), ..*refusal };
        self.tally.tally.count(now, Err(&told));
    }

    /// Of the write that is being worked on, its end is known or nobody waits for it.
    fn complete(&self) {
        if let Some(outcome) = self.work.as_ref().and_then(|work| work.outcome.as_ref()) {
            outcome.complete();
        }
    }

    /// A row of the write log to be, where there is one.
    fn outcome(&self, image: Option<usize>, extent: Extent, cells: &[u8]) -> Option<Arc<WriteOutcome>> {
        if !self.shared.logs_writes {
            return None;
        }
        let station = image.and_then(|image| self.shared.plan.images.get(image));
        let old = image.and_then(|image| self.shared.peek(image, extent)).map(|old| hex_words(&old));
        let record = WriteRecord {
            who: self.client.who.clone(),
            image: station.map_or("every image", |station| station.name.as_str()).into(),
            address: station
                .map(|station| station.show(extent.space, extent.first, None))
                .unwrap_or_default(),
            old: old.unwrap_or_default(),
            new: hex_words(cells),
            outcome: String::new(),
        };
        Some(Arc::new(WriteOutcome {
            shared: Arc::clone(&self.shared),
            state: Mutex::new((record, None, false)),
        }))
    }

    /// Who asked does not wait any longer for what is under way: it ends, and is answered by nobody.
    pub(crate) fn abandon(&mut self, now: Moment) {
        let Some(work) = self.work.take() else { return };
        if let (Some(ticket), Some(log)) = (work.under_way, work.outcome)
            && self.abandoned.len() < ABANDONED_MAX
        {
            self.abandoned.push((ticket, log, work.tasks.len() < 2));
        }
        self.end(now, Err(given_up()));
        match self.server.poll(now) {
            Serve::Want { unit, all, want } => self.take(now, unit, all, want),
            // The answer that nobody waits for.
            Serve::Send(_) | Serve::HangUp(_) | Serve::WaitUntil(_) | Serve::Rest => {}
        }
    }

    /// An answer was not sent, because it would have come too late.
    pub(crate) fn dropped_answer(&self) {
        if let Some(port) = self.shared.health.ports.get(self.port) {
            port.late_answers.fetch_add(1, Relaxed);
        }
    }

    /// Whether an answer is for nobody any more once others are heard.
    pub(crate) fn answers_expire(&self) -> bool {
        self.server.answers_expire()
    }

    /// Times of its port.
    pub(crate) fn line(&self) -> Option<LineTime> {
        self.shared.plan.lines.get(self.port).copied()
    }

    /// Hands over what [`SessionAct::Hand`] is about. Where it is refused at once, that is what the reply tells.
    pub fn submit(&mut self, reply: Reply) {
        let site = Arc::clone(&self.site);
        let _step = site.step();
        if !self.follow() {
            return reply.answer(Err(changed()));
        }
        let Some(work) = self.work.as_ref().filter(|work| work.under_way == Some(reply.ticket())) else {
            return;
        };
        match (&work.pass, work.tasks.front()) {
            (Some((unit, message)), _) => {
                let client = (self.client.id, self.client.address);
                self.shared.pass(client, self.port, *unit, message.clone(), reply);
            }
            (None, Some(Task::Send(write))) => drop(self.shared.submit(self.client.id, write.clone(), reply)),
            (None, _) => {}
        }
    }
}
