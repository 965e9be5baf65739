//! What threads and tasks need of the project's settings.

use super::Identity;
use crate::speak::{ServerSetup, another};
use woodrush_core::check::Checked;
use woodrush_core::plan::Plan;
use woodrush_core::project::{Network, Port, Retry};
use woodrush_core::protocol::{Setup, Transport};

/// What an asking port needs of its settings.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PortSettings {
    /// Its name.
    pub name: String,
    /// The protocol's name; empty where the project does not say one.
    pub protocol: &'static str,
    /// Further tries of one request.
    pub retries: u32,
    /// The adapter gives back what we send.
    pub echo: bool,
    /// It is a connection that we make.
    pub dials: bool,
    /// Who may send it anything; `None` for all.
    pub allow: Option<Vec<Network>>,
    /// Keys of its protocol.
    pub setup: Setup,
    /// The number of the message before its first one, where messages are numbered.
    pub first: u16,
    /// What it is opened by; `None` where nothing opens it.
    pub identity: Option<Identity>,
}

impl PortSettings {
    /// Whether the port of that name in another project is the same one, so that it stays open.
    #[must_use]
    pub fn is_same(&self, other: &Self) -> bool {
        self.name == other.name && self.identity.is_some() && self.identity == other.identity
    }
}

/// What polling needs of a device's settings.
#[derive(Debug, Clone, Copy)]
pub struct DeviceSettings {
    /// Failed polls in a row before it counts as lost.
    pub lost_after: u32,
    /// How often it is tried once lost.
    pub retry: Retry,
}

/// What a port needs on which others ask.
#[derive(Debug, Clone)]
pub struct AnswerSettings {
    /// The protocol's name.
    pub protocol: &'static str,
    /// Connections at once.
    pub max_clients: usize,
    /// Of those, from one address while the port is full.
    pub max_clients_per_address: usize,
    /// Who may connect; `None` for all.
    pub allow: Option<Vec<Network>>,
    /// A connection silent for so long is closed, in microseconds.
    pub idle_timeout: u64,
    /// Images by the unit that they answer as; `None` answers to every unit.
    pub images: Vec<(Option<u16>, usize)>,
    /// For the protocol's machine.
    pub server: ServerSetup,
}

impl AnswerSettings {
    /// The image that answers for a unit.
    #[must_use]
    pub fn image(&self, unit: u16) -> Option<usize> {
        let named = self.images.iter().find(|(own, _)| *own == Some(unit));
        named.or_else(|| self.images.iter().find(|(own, _)| own.is_none())).map(|(_, image)| *image)
    }
}

fn allowed(port: &Port) -> Option<Vec<Network>> {
    port.allow.as_ref().map(|allow| allow.value.iter().map(|network| network.value).collect())
}

fn protocol(port: &Port) -> &'static str {
    port.protocol.map_or("", |protocol| protocol.value.name())
}

pub(super) fn ports(checked: &Checked, plan: &Plan) -> Vec<PortSettings> {
    let settings = |(at, port): (usize, &Port)| PortSettings {
        name: port.name.value.clone(),
        protocol: protocol(port),
        retries: port.retries,
        echo: port.echo,
        dials: port.transport() == Some(Transport::Connect),
        allow: allowed(port),
        setup: port.setup.clone(),
        first: another(),
        identity: Identity::of(checked, plan, at),
    };
    checked.project.ports.iter().enumerate().map(settings).collect()
}

pub(super) fn devices(checked: &Checked) -> Vec<DeviceSettings> {
    checked
        .project
        .devices
        .iter()
        .map(|d| DeviceSettings { lost_after: d.lost_after, retry: d.retry })
        .collect()
}

/// By port; `None` for those on which nobody asks.
pub(super) fn answers(checked: &Checked, plan: &Plan) -> Vec<Option<AnswerSettings>> {
    let project = &checked.project;
    let settings = |(at, port): (usize, &Port)| {
        let unit = |image: usize| {
            let station = plan.images.get(image)?;
            station.dialect?.stations().number(&station.setup)
        };
        let images: Vec<(Option<u16>, usize)> = project
            .images
            .iter()
            .enumerate()
            .filter(|(_, image)| image.port.is_some_and(|port| port.value == at))
            .map(|(index, _)| (unit(index).and_then(|unit| u16::try_from(unit).ok()), index))
            .collect();
        let from_here = plan.forwards.iter().filter(|forward| forward.from == at);
        let passed: Vec<u16> =
            from_here.clone().flat_map(|f| f.units.iter().map(|(unit, _)| *unit)).collect();
        if images.is_empty() && from_here.count() == 0 {
            return None;
        }
        let all = images.iter().any(|(unit, _)| unit.is_none());
        let units = (!all).then(|| images.iter().filter_map(|(unit, _)| *unit).collect());
        let alone = [Some(Transport::Listen), Some(Transport::Network)];
        let shared = !alone.contains(&port.transport());
        let spaces = |image: usize| plan.images.get(image).map(|image| image.spaces.clone());
        let stations =
            images.iter().map(|(unit, image)| (*unit, spaces(*image).unwrap_or_default())).collect();
        // Where images have numbers, their keys are their own; the one without is what messages reach.
        let first = images.iter().find(|(unit, _)| unit.is_none()).or(images.first());
        let station = first.and_then(|(_, image)| plan.images.get(*image));
        Some(AnswerSettings {
            protocol: protocol(port),
            max_clients: if port.is_opaque() { 1 } else { port.max_clients as usize },
            max_clients_per_address: port.max_clients_per_address() as usize,
            allow: allowed(port),
            idle_timeout: port.idle_timeout,
            images,
            server: ServerSetup {
                units,
                passed,
                shared,
                tells_itself: true,
                answer_as: None,
                drop_ack: false,
                stations,
                own: station.map(|station| station.setup.clone()).unwrap_or_default(),
                ..ServerSetup::default()
            },
        })
    };
    project.ports.iter().enumerate().map(settings).collect()
}
