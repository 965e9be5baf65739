//! What all threads and tasks of one converter share: the plan, the images, the devices' health, the queues.

mod queue;

pub use queue::{LineQueue, Reply, WriteJob};

use crate::Moment;
use crate::image::{DeviceHealth, DeviceWrite, Image};
use std::sync::{Arc, PoisonError, RwLock};
use woodrush_core::check::Checked;
use woodrush_core::plan::Plan;
use woodrush_core::project::{Network, Retry};
use woodrush_core::protocol::Extent;
use woodrush_core::{Blame, Kind, Refusal};

/// Something worth a line in the log, told once when it happens.
#[derive(Debug, Clone)]
pub enum Event {
    /// A port is open.
    PortUp {
        /// Index of the port.
        port: usize,
        /// What was opened, such as a path or a socket address.
        what: String,
    },
    /// A port is gone.
    PortDown {
        /// Index of the port.
        port: usize,
        /// Why, in words.
        why: String,
    },
    /// A device answers, for the first time or again.
    DeviceBack {
        /// Index of the device.
        device: usize,
    },
    /// A device counts as lost.
    DeviceLost {
        /// Index of the device.
        device: usize,
        /// What was seen last.
        kind: Kind,
    },
    /// A device answered a poll with a refusal.
    Refused {
        /// Index of the device.
        device: usize,
        /// Index of the transfer.
        transfer: usize,
        /// What it said.
        refusal: Refusal,
    },
    /// A connection was closed or turned away.
    Client {
        /// Index of the port.
        port: usize,
        /// Who.
        who: String,
        /// Why, in words.
        why: String,
    },
}

/// What an asking port needs of its settings.
#[derive(Debug, Clone, Copy)]
pub struct PortSettings {
    /// The protocol's name; empty where the project does not say one.
    pub protocol: &'static str,
    /// Further tries of one request.
    pub retries: u32,
}

/// What polling needs of a device's settings.
#[derive(Debug, Clone, Copy)]
pub struct DeviceSettings {
    /// Failed polls in a row before it counts as lost.
    pub lost_after: u32,
    /// How often it is tried once lost.
    pub retry: Retry,
}

/// What a listening port needs of its settings.
#[derive(Debug, Clone)]
pub struct ListenSettings {
    /// The protocol's name.
    pub protocol: &'static str,
    /// Connections at once.
    pub max_clients: usize,
    /// Who may connect; `None` for everybody.
    pub allow: Option<Vec<Network>>,
    /// A connection silent for so long is closed, in microseconds.
    pub idle_timeout: u64,
    /// Images by the unit that they answer as; `None` answers to every unit.
    pub images: Vec<(Option<u16>, usize)>,
}

impl ListenSettings {
    /// The image that answers for a unit.
    #[must_use]
    pub fn image(&self, unit: u16) -> Option<usize> {
        self.images.iter().find(|(own, _)| own.is_none_or(|own| own == unit)).map(|(_, image)| *image)
    }
}

type Tell = Box<dyn Fn(Event) + Send + Sync>;

/// What all threads and tasks of one converter share.
pub struct Shared {
    /// What it does.
    pub plan: Arc<Plan>,
    /// By port.
    pub ports: Vec<PortSettings>,
    /// By port; `None` for those on which we ask.
    pub listens: Vec<Option<ListenSettings>>,
    /// By device.
    pub devices: Vec<DeviceSettings>,
    /// By device.
    pub health: Arc<Vec<DeviceHealth>>,
    /// By port.
    pub queues: Vec<Arc<LineQueue>>,
    images: Vec<RwLock<Image>>,
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
        let Checked { project, .. } = checked;
        let health: Arc<Vec<DeviceHealth>> =
            Arc::new(project.devices.iter().map(|_| DeviceHealth::default()).collect());
        let images = project.images.iter().enumerate();
        let images = images.map(|(at, i)| {
            RwLock::new(Image::new(at, Arc::clone(&plan), Arc::clone(&health), i.unmapped_zero))
        });
        let protocol =
            |port: &woodrush_core::project::Port| port.protocol.map_or("", |protocol| protocol.value.name());
        let listens = project.ports.iter().enumerate().map(|(at, port)| {
            let here = project
                .images
                .iter()
                .enumerate()
                .filter(|(_, image)| image.port.is_some_and(|p| p.value == at));
            let unit = |setup| port.protocol.and_then(|protocol| protocol.value.station(setup));
            let images: Vec<_> = here
                .map(|(index, image)| (unit(&image.setup).and_then(|unit| u16::try_from(unit).ok()), index))
                .collect();
            (!images.is_empty()).then(|| ListenSettings {
                protocol: protocol(port),
                max_clients: port.max_clients as usize,
                allow: port
                    .allow
                    .as_ref()
                    .map(|allow| allow.value.iter().map(|network| network.value).collect()),
                idle_timeout: port.idle_timeout,
                images,
            })
        });
        Arc::new(Self {
            ports: project
                .ports
                .iter()
                .map(|p| PortSettings { protocol: protocol(p), retries: p.retries })
                .collect(),
            listens: listens.collect(),
            devices: project
                .devices
                .iter()
                .map(|d| DeviceSettings { lost_after: d.lost_after, retry: d.retry })
                .collect(),
            queues: project.ports.iter().map(|_| Arc::new(LineQueue::default())).collect(),
            images: images.collect(),
            plan,
            health,
            tell: Box::new(tell),
        })
    }

    /// Tells an event.
    pub fn tell(&self, event: Event) {
        (self.tell)(event);
    }

    /// Lets an answer land: all steps of its transfer, each at once.
    pub fn land(&self, transfer: usize, at: Moment, cells: &[u8]) {
        self.each_step(transfer, |image, step| image.land(step, at, cells));
    }

    /// The sources of these transfers are lost.
    pub fn lose(&self, device: usize, transfers: impl Iterator<Item = usize>) {
        if let Some(health) = self.health.get(device) {
            health.lost();
        }
        for transfer in transfers {
            self.each_step(transfer, Image::lose);
        }
    }

    fn each_step(&self, transfer: usize, mut change: impl FnMut(&mut Image, u32)) {
        let Some(transfer) = self.plan.transfers.get(transfer) else { return };
        let mut held: Option<(usize, std::sync::RwLockWriteGuard<'_, Image>)> = None;
        for step in transfer.steps.clone() {
            let Some(rule) = self.plan.rule_of(step) else { continue };
            if held.as_ref().is_none_or(|(at, _)| *at != rule.image) {
                // One image after the other: never two locks at once.
                drop(held.take());
                held = self
                    .images
                    .get(rule.image)
                    .map(|image| (rule.image, image.write().unwrap_or_else(PoisonError::into_inner)));
            }
            if let Some((_, image)) = &mut held {
                change(image, step);
            }
        }
    }

    /// Shows what a device has confirmed.
    pub fn show_written(&self, image: usize, extent: Extent, cells: &[u8]) {
        if let Some(image) = self.images.get(image) {
            image.write().unwrap_or_else(PoisonError::into_inner).show_written(extent, cells);
        }
    }

    /// Reads cells of an image.
    ///
    /// # Errors
    /// As [`Image::read`]; no such image is no path.
    pub fn read(
        &self,
        image: Option<usize>,
        now: Moment,
        extent: Extent,
        out: &mut Vec<u8>,
    ) -> Result<(), Refusal> {
        let image =
            image.and_then(|at| self.images.get(at)).ok_or(Refusal::new(Kind::NoPath, Blame::Asker))?;
        image.read().unwrap_or_else(PoisonError::into_inner).read(now, extent, out)
    }

    /// Takes a client's write apart.
    ///
    /// # Errors
    /// As [`Image::route`]; no such image is no path.
    pub fn route(
        &self,
        image: Option<usize>,
        extent: Extent,
        cells: &[u8],
    ) -> Result<Vec<DeviceWrite>, Refusal> {
        let image =
            image.and_then(|at| self.images.get(at)).ok_or(Refusal::new(Kind::NoPath, Blame::Asker))?;
        image.read().unwrap_or_else(PoisonError::into_inner).route(extent, cells)
    }

    /// Puts a write into the queue of its device's port.
    pub fn submit(&self, write: DeviceWrite, reply: Reply) {
        let port = self.plan.devices.get(write.device).map(|station| station.port);
        match port.and_then(|port| self.queues.get(port)) {
            Some(queue) => queue.push(WriteJob { write, reply }),
            None => reply(Err(Refusal::new(Kind::NoPath, Blame::File))),
        }
    }
}
