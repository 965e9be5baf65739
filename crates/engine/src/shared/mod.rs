//! What all threads and tasks of one converter share: the plan, the cells, what is known of health, the queues.

mod change;
mod event;
mod identity;
mod links;
mod on_the_way;
mod queue;
mod reply;
mod settings;
mod site;
mod write_log;

use crate::image::Kept;
pub use crate::speak::Message;
pub use change::ProjectChange;
pub(crate) use change::changed;
pub use event::Event;
pub use identity::{Identity, Role};
use on_the_way::OnTheWay;
pub use queue::{AskedAt, ClientId, LineQueue, LineRequest, Queued, StillWanted};
pub(crate) use reply::given_up;
pub use reply::{Inbox, Reply, ReplyOutcome, ReplyTicket};
pub use settings::{AnswerSettings, DeviceSettings, PortSettings};
pub(crate) use site::BusyFlag;
pub use site::Site;
pub use write_log::WriteRecord;

use crate::Moment;
use crate::health::{DeviceHealth, HealthCounters, PortTally};
use crate::hub::Tap;
use crate::image::{Board, ClientCells, DeviceWrite, Shown, Task};
use std::net::Ipv4Addr;
use std::ops::Range;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::sync::{Arc, Mutex, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};
use woodrush_core::check::Checked;
use woodrush_core::plan::{Plan, Push, Source, Station};
use woodrush_core::project::{Network, Owner};
use woodrush_core::protocol::Extent;
use woodrush_core::{Blame, Kind, Refusal};

pub(crate) type Tell = Arc<dyn Fn(Event) + Send + Sync>;

/// What all threads and tasks of one converter share.
pub struct Shared {
    /// What it does.
    pub plan: Arc<Plan>,
    /// By port.
    pub ports: Vec<PortSettings>,
    /// By port; `None` for those on which nobody asks.
    pub answers: Vec<Option<AnswerSettings>>,
    /// By device.
    pub devices: Vec<DeviceSettings>,
    /// What is known and counted.
    pub health: Arc<HealthCounters>,
    /// By port.
    pub queues: Vec<Arc<LineQueue>>,
    /// By image; `None` for all.
    writers: Vec<Option<Vec<Network>>>,
    /// By board: images, then what each device shall be sent.
    boards: Vec<RwLock<Board>>,
    /// Held while what a client wrote comes into all boards that show it.
    entering: Mutex<()>,
    /// By transfer: the cells that its last good answer brought, for those who look on.
    brought: Vec<Mutex<Vec<u8>>>,
    /// By device: counted up whenever what it shall be sent may have changed.
    outgoing: Vec<AtomicU64>,
    /// What devices are known to hold.
    pub(crate) kept: Arc<Kept>,
    /// Devices that are sent what the converter tells.
    hears_health: Vec<usize>,
    /// Whether writes are wanted for the log.
    pub logs_writes: bool,
    /// Who looks on.
    pub tap: Arc<Tap>,
    tell: Tell,
}

impl Shared {
    /// From a checked project; `tell` hears of events.
    #[must_use]
    pub fn new(
        checked: &Checked,
        plan: Arc<Plan>,
        tell: impl Fn(Event) + Send + Sync + 'static,
    ) -> Arc<Self> {
        Arc::new(Self::renewed(checked, plan, Arc::new(tell), None))
    }

    /// The same for a changed project: what is counted of the same devices and ports goes on being counted, and what waits
    /// at ports that stay open goes on waiting. Nothing of `old` is changed by it.
    pub(crate) fn renewed(checked: &Checked, plan: Arc<Plan>, tell: Tell, old: Option<&Self>) -> Self {
        let Checked { project, .. } = checked;
        let ports = settings::ports(checked, &plan);
        // One at another unit is another device.
        let known_device = |station: &Station| {
            let old = old?;
            let at = old.plan.devices.iter().position(|device| change::is_same(device, station))?;
            old.health.devices.get(at).cloned()
        };
        let devices: Vec<Arc<DeviceHealth>> =
            plan.devices.iter().map(|device| known_device(device).unwrap_or_default()).collect();
        let known_port = |name: &str| Some((old?, old?.ports.iter().position(|port| port.name == name)?));
        let tallies: Vec<Arc<PortTally>> = ports
            .iter()
            .map(|port| {
                known_port(&port.name)
                    .and_then(|(old, at)| old.health.ports.get(at).cloned())
                    .unwrap_or_default()
            })
            .collect();
        let queues = ports
            .iter()
            .map(|port| {
                let same = known_port(&port.name)
                    .filter(|(old, at)| old.ports.get(*at).is_some_and(|own| own.is_same(port)));
                same.and_then(|(old, at)| old.queues.get(at).cloned()).unwrap_or_default()
            })
            .collect();
        let links = links::of(&plan, old);
        let health =
            Arc::new(HealthCounters::new(&plan, devices, tallies, links, old.map(|old| old.health.as_ref())));
        let zero = |board: usize| project.images.get(board).is_some_and(|image| image.unmapped_zero);
        let boards = (0..plan.boards())
            .map(|board| RwLock::new(Board::new(board, Arc::clone(&plan), Arc::clone(&health), zero(board))))
            .collect();
        let told = plan.rules.iter().filter(|rule| matches!(rule.source, Source::Health(_)));
        let mut hears_health: Vec<usize> = told.filter_map(|rule| plan.sink(rule)).collect();
        hears_health.sort_unstable();
        hears_health.dedup();
        let writers = project.images.iter().map(|image| {
            image.writers.as_ref().map(|writers| writers.value.iter().map(|network| network.value).collect())
        });
        Self {
            answers: settings::answers(checked, &plan),
            devices: settings::devices(checked),
            queues,
            writers: writers.collect(),
            boards,
            entering: Mutex::default(),
            outgoing: plan.devices.iter().map(|_| AtomicU64::new(1)).collect(),
            kept: Arc::new(Kept::new(plan.devices.len())),
            brought: plan.transfers.iter().map(|_| Mutex::default()).collect(),
            hears_health,
            logs_writes: project.converter.write_log.is_some(),
            tap: old.map(|old| Arc::clone(&old.tap)).unwrap_or_default(),
            ports,
            plan,
            health,
            tell,
        }
    }

    /// Tells an event.
    pub fn tell(&self, event: Event) {
        // What devices are told of others' health may have changed with it.
        if matches!(event, Event::DeviceBack { .. } | Event::DeviceLost { .. }) {
            self.hears_health.iter().for_each(|device| self.changed(*device));
        }
        (self.tell)(event);
    }

    pub(crate) fn teller(&self) -> Tell {
        Arc::clone(&self.tell)
    }

    /// What a device shall be sent may have changed.
    fn changed(&self, device: usize) {
        if let Some(count) = self.outgoing.get(device) {
            count.fetch_add(1, Relaxed);
        }
        let port = self.plan.write_port(device);
        if let Some(queue) = port.and_then(|port| self.queues.get(port)) {
            queue.wake();
        }
    }

    /// Counts up whenever what is to be sent to a device may have changed.
    #[must_use]
    pub fn outgoing_changes(&self, device: usize) -> u64 {
        self.outgoing.get(device).map_or(0, |count| count.load(Relaxed))
    }

    /// Whether a device is sent something that changes without a value landing.
    #[must_use]
    pub fn hears_health(&self, device: usize) -> bool {
        self.hears_health.contains(&device)
    }

    /// Looks at what a push has to send.
    #[must_use]
    pub fn outgoing(&self, now: Moment, push: &Push) -> crate::image::Outgoing {
        let board = self.plan.images.len() + push.device;
        self.read_board(board).map_or(crate::image::Outgoing::Never, |cells| cells.outgoing(now, push))
    }

    fn read_board(&self, board: usize) -> Option<RwLockReadGuard<'_, Board>> {
        self.boards.get(board).map(|board| board.read().unwrap_or_else(PoisonError::into_inner))
    }

    fn write_board(&self, board: usize) -> Option<RwLockWriteGuard<'_, Board>> {
        self.boards.get(board).map(|board| board.write().unwrap_or_else(PoisonError::into_inner))
    }

    /// Lets an answer land: all steps of its transfer, each at once. Those that lie in what is `missing` of the answer are
    /// lost.
    pub fn land<'m>(
        &self,
        transfer: usize,
        at: Moment,
        cells: &[u8],
        missing: impl Iterator<Item = &'m Range<usize>> + Clone,
    ) {
        let is_missing = |step: u32| {
            let offset = self.plan.steps.get(step as usize).map(|step| step.offset as usize);
            missing.clone().any(|place| offset.is_some_and(|offset| place.contains(&offset)))
        };
        self.each_step(transfer, |image, step| match is_missing(step) {
            true => image.lose(step),
            false => image.land(step, at, cells),
        });
        if let Some(brought) = self.brought.get(transfer) {
            let mut brought = brought.lock().unwrap_or_else(PoisonError::into_inner);
            brought.clear();
            brought.extend_from_slice(cells);
        }
    }

    /// Cells of a rule's source as they came last; `None` where some of them never came.
    #[must_use]
    pub fn brought(&self, rule: u32, transfers: &[usize]) -> Option<Vec<u8>> {
        let planned = self.plan.rules.get(rule as usize)?;
        let Source::Values { owner, place, .. } = planned.source else { return None };
        let each = self.plan.station(owner)?.space_at(place.space)?.grain.cell_bytes();
        let width = place.width as usize * each;
        let mut cells = vec![0; width * place.count as usize];
        let mut known = 0;
        for transfer in transfers {
            let steps = self.plan.transfers.get(*transfer)?.steps.clone();
            let brought = self.brought.get(*transfer)?.lock().unwrap_or_else(PoisonError::into_inner);
            for step in self.plan.steps.get(steps.start as usize..steps.end as usize)? {
                if step.rule != rule {
                    continue;
                }
                let bytes = width * step.items as usize;
                let begin = width * step.item as usize;
                let from = brought.get(step.offset as usize..step.offset as usize + bytes)?;
                cells.get_mut(begin..begin + bytes)?.copy_from_slice(from);
                known += step.items;
            }
        }
        (known == place.count).then_some(cells)
    }

    /// The sources of these transfers are lost.
    pub fn lose(&self, device: usize, transfers: impl Iterator<Item = usize>) {
        if let Some(health) = self.health.devices.get(device) {
            health.lost();
        }
        for transfer in transfers {
            self.each_step(transfer, Board::lose);
        }
    }

    /// The values of a transfer are lost; its device may be there.
    pub fn lose_values(&self, transfer: usize) {
        self.each_step(transfer, Board::lose);
    }

    fn each_step(&self, transfer: usize, mut change: impl FnMut(&mut Board, u32)) {
        let Some(transfer) = self.plan.transfers.get(transfer) else { return };
        let mut held: Option<(usize, RwLockWriteGuard<'_, Board>)> = None;
        let mut sinks = vec![];
        for step in transfer.steps.clone() {
            let Some(rule) = self.plan.rule_of(step) else { continue };
            if held.as_ref().is_none_or(|(at, _)| *at != rule.board) {
                // One board after the other: never two locks at once.
                drop(held.take());
                held = self.write_board(rule.board).map(|board| (rule.board, board));
                sinks.extend(self.plan.sink(rule));
            }
            if let Some((_, image)) = &mut held {
                change(image, step);
            }
        }
        drop(held);
        sinks.into_iter().for_each(|device| self.changed(device));
    }

    /// Shows what a device has confirmed.
    pub fn show_written(&self, now: Moment, shown: &Shown) {
        match shown {
            Shown::Nothing => {}
            Shown::Cells { image, extent, cells } => {
                if let Some(mut image) = self.write_board(*image) {
                    image.show_written(*extent, cells);
                }
            }
            Shown::ClientCells(entered) => self.enter(now, entered),
        }
    }

    /// Values that a client wrote: from now on its cells hold them, and rules carry them on.
    pub fn enter(&self, at: Moment, entered: &ClientCells) {
        let ClientCells { rule, item: first, cells } = entered;
        let Some(entry) = self.plan.rules.get(*rule as usize) else { return };
        let each = self.plan.board(entry.board).and_then(|board| board.space_at(entry.target.space));
        let bytes = entry.target.width as usize * each.map_or(2, |space| space.grain.cell_bytes());
        // Of two writes at once all that shows them must end with the same one.
        let _one_by_one = self.entering.lock().unwrap_or_else(PoisonError::into_inner);
        for number in [*rule].into_iter().chain(self.plan.onward(*rule)) {
            let Some(board) = self.plan.rules.get(number as usize).map(|rule| rule.board) else { continue };
            let Some(mut image) = self.write_board(board) else { continue };
            for (item, value) in (*first..).zip(cells.chunks(bytes.max(1))) {
                if let Some(step) = self.step_of(number, item) {
                    image.put(step, at, value);
                }
            }
            drop(image);
            if let Some(device) = board.checked_sub(self.plan.images.len()) {
                self.changed(device);
            }
        }
    }

    /// The step of one value of a rule that no poll feeds: one value each, in order.
    fn step_of(&self, rule: u32, item: u32) -> Option<u32> {
        let begin = self.plan.fed_by_writes.binary_search_by_key(&rule, |(rule, _)| *rule).ok()?;
        let (_, first) = self.plan.fed_by_writes.get(begin)?;
        Some(first + item)
    }

    /// Reads cells of an image.
    ///
    /// # Errors
    /// As [`Board::read`]; no such image is no path.
    pub fn read(
        &self,
        image: Option<usize>,
        now: Moment,
        extent: Extent,
        out: &mut Vec<u8>,
    ) -> Result<(), Refusal> {
        let at = image.ok_or(Refusal::new(Kind::NoPath, Blame::ClientIdentity))?;
        match self.plan.link_number(Owner::Image(at)).zip(self.read_board(at)) {
            Some((link, board)) => self.read_block(link, &board, now, extent, out),
            None => self.read_values(at, now, extent, out),
        }
    }

    /// Cells of a board as they stand, fresh or not: of an image, or behind those of what is to be sent to a device.
    #[must_use]
    pub fn peek(&self, image: usize, extent: Extent) -> Option<Vec<u8>> {
        self.read_board(image)?.peek(extent).map(<[u8]>::to_vec)
    }

    /// The addresses that may write to an image; `None` for all.
    pub(crate) fn writers_of(&self, image: usize) -> Option<Vec<Network>> {
        self.writers.get(image).cloned().flatten()
    }

    /// Whether an address may write to an image; those without an address may.
    fn may_write(&self, image: usize, who: Option<Ipv4Addr>) -> bool {
        match (self.writers.get(image).and_then(Option::as_ref), who) {
            (None, _) | (_, None) => true,
            (Some(writers), Some(who)) => writers.iter().any(|network| network.holds(who)),
        }
    }

    /// Whether an address may write to every image of a port.
    fn may_write_at(&self, port: usize, who: Option<Ipv4Addr>) -> bool {
        let here = self.plan.images.iter().enumerate().filter(|(_, image)| image.port == port);
        here.into_iter().all(|(image, _)| self.may_write(image, who))
    }

    /// Takes a client's write apart.
    ///
    /// # Errors
    /// As [`Board::route`]; no such image is no path, and a client that may not write gets what read-only cells answer.
    pub fn route(
        &self,
        image: Option<usize>,
        who: Option<Ipv4Addr>,
        extent: Extent,
        cells: &[u8],
    ) -> Result<Vec<Task>, Refusal> {
        let at = image.ok_or(Refusal::new(Kind::NoPath, Blame::ClientIdentity))?;
        let board = self.read_board(at).ok_or(Refusal::new(Kind::NoPath, Blame::ClientIdentity))?;
        if !self.may_write(at, who) {
            return Err(Refusal::new(Kind::ReadOnly, Blame::ClientIdentity));
        }
        let parts = board.route(extent, cells)?;
        // What is entered may be cells of another image; never two locks at once.
        drop(board);
        let mut tasks = vec![];
        for part in parts {
            match part {
                Task::Send(_) => tasks.push(part),
                Task::Enter(entered) => {
                    let owner = self.plan.rules.get(entered.rule as usize).map(|rule| rule.board);
                    let owner = owner.and_then(|board| self.read_board(board));
                    let owner = owner.ok_or(Refusal::new(Kind::NoPath, Blame::ClientIdentity))?;
                    tasks.extend(owner.carry_on(&self.kept, entered)?);
                }
            }
        }
        Ok(tasks)
    }

    /// Puts a write into the queue of its device's port; `false` where it is refused at once.
    pub fn submit(&self, client: ClientId, write: DeviceWrite, reply: Reply) -> bool {
        let (device, rule) = (write.device, write.rule);
        let port = self.plan.write_port(device);
        let Some(queue) = port.and_then(|port| self.queues.get(port)) else {
            reply.answer(Err(Refusal::new(Kind::NoPath, Blame::File)));
            return false;
        };
        let carried = Some(OnTheWay::new(&self.kept, device, rule));
        let taken = queue.push(Queued { carried, ..Queued::new(client, LineRequest::Write(write), reply) });
        if !taken {
            let refusal = Refusal::new(Kind::Busy, Blame::Us);
            self.health.count_write(Moment(0), device, rule, Err(&refusal));
        }
        taken
    }

    /// A device answers again, or its port was opened: it may have forgotten what it was sent.
    pub(crate) fn was_away(&self, device: usize) {
        self.kept.forget(device);
        self.changed(device);
    }

    /// Puts a request into the queue of the port that it goes to. Where images of the same port say who may
    /// write, that holds for what is passed on too: a request that may change something must come from an address that
    /// each of these lists holds.
    pub fn pass(
        &self,
        (client, who): (ClientId, Option<Ipv4Addr>),
        port: usize,
        unit: u16,
        message: Message,
        reply: Reply,
    ) {
        if message.writes && !self.may_write_at(port, who) {
            return reply.answer(Err(Refusal::new(Kind::ReadOnly, Blame::ClientIdentity)));
        }
        let Some(route) = self.plan.route(port, unit) else {
            return reply.answer(Err(Refusal::new(Kind::NoPath, Blame::File)));
        };
        let forward = self.plan.forwards.get(route.forward);
        let functions = forward.map_or(&[][..], |forward| forward.functions.as_slice());
        if !functions.is_empty() && !functions.contains(&message.code) {
            return reply.answer(Err(Refusal::new(Kind::NoSuchCommand, Blame::File)));
        }
        let first = forward.is_some_and(|forward| forward.writes_first);
        match self.queues.get(route.to) {
            Some(queue) => {
                let name = self.ports.get(port).map_or_else(String::new, |port| port.name.clone());
                let asked = AskedAt { port: name, unit };
                let request = LineRequest::Pass { unit: route.unit, message, first, asked };
                queue.push(Queued::new(client, request, reply));
            }
            None => reply.answer(Err(Refusal::new(Kind::NoPath, Blame::File))),
        }
    }

    /// What a transfer brought last in another project, where it is number `other`.
    fn adopt_brought(&self, transfer: usize, old: &Self, other: usize) {
        if let (Some(own), Some(theirs)) = (self.brought.get(transfer), old.brought.get(other)) {
            let theirs = theirs.lock().unwrap_or_else(PoisonError::into_inner);
            own.lock().unwrap_or_else(PoisonError::into_inner).clone_from(&theirs);
        }
    }
}
