//! What the converter tells about itself: devices, rules, ports and the box, as values that rules can carry.

use super::Project;
use crate::form::Type;

/// What a device, or one rule, tells about itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Health {
    /// 1 online, 0 lost.
    Online,
    /// Age of the oldest value, tenths of a second, stays at 65535.
    Age,
    /// Good polls; wraps.
    Polls,
    /// Failed polls; wraps.
    Errors,
    /// The last failure as a number.
    LastError,
}

/// What a port tells about itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum PortHealth {
    /// Requests without an answer; wraps.
    Timeouts,
    /// Damaged frames; wraps.
    Damaged,
    /// Connections now.
    Clients,
    /// The share of the time that the port is busy, in per cent.
    Load,
}

/// What an image tells that a controller exchanges with in cycles.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum ImageHealth {
    /// 1: a controller has the connection, and its frames come.
    Online,
    /// 1: and it is in run.
    Run,
    /// Age of the last frame, tenths of a second, stays at 65535.
    Age,
}

/// What the box tells about itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum BoxHealth {
    /// Counts up each second; wraps.
    Heartbeat,
    /// Seconds since the start.
    Uptime,
}

/// One thing that the converter tells.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum HealthItem {
    /// Of the device of that index.
    Device(usize, Health),
    /// Of the rule of that index.
    Rule(usize, Health),
    /// Of the port of that index.
    Port(usize, PortHealth),
    /// Of the image of that index.
    Image(usize, ImageHealth),
    /// Of the box.
    Converter(BoxHealth),
}

/// A word of the project file for each item.
pub(super) trait Words: Sized + Copy + PartialEq + 'static {
    const ALL: &'static [(Self, &'static str)];

    fn find(word: &str) -> Option<Self> {
        Self::ALL.iter().find(|(_, known)| *known == word).map(|(item, _)| *item)
    }

    fn spelled(self) -> &'static str {
        Self::ALL.iter().find(|(item, _)| *item == self).map_or("", |(_, word)| word)
    }
}

impl Words for Health {
    const ALL: &'static [(Self, &'static str)] = &[
        (Self::Online, "online"),
        (Self::Age, "age"),
        (Self::Polls, "polls"),
        (Self::Errors, "errors"),
        (Self::LastError, "last-error"),
    ];
}

impl Words for PortHealth {
    const ALL: &'static [(Self, &'static str)] = &[
        (Self::Timeouts, "timeouts"),
        (Self::Damaged, "damaged"),
        (Self::Clients, "clients"),
        (Self::Load, "load"),
    ];
}

impl Words for ImageHealth {
    const ALL: &'static [(Self, &'static str)] =
        &[(Self::Online, "online"), (Self::Run, "run"), (Self::Age, "age")];
}

impl Words for BoxHealth {
    const ALL: &'static [(Self, &'static str)] = &[(Self::Heartbeat, "heartbeat"), (Self::Uptime, "uptime")];
}

impl HealthItem {
    /// Its type: a bit, 16 or 32 bits.
    #[must_use]
    pub const fn ty(self) -> Type {
        match self {
            Self::Device(_, Health::Online) | Self::Rule(_, Health::Online) => Type::Bool,
            Self::Image(_, ImageHealth::Online | ImageHealth::Run) => Type::Bool,
            Self::Converter(BoxHealth::Uptime) => Type::U32,
            _ => Type::U16,
        }
    }

    /// What its value says, in words.
    #[must_use]
    pub const fn says(self) -> &'static str {
        match self {
            Self::Device(_, Health::Online) => "1: the device answers; 0: it is lost",
            Self::Rule(_, Health::Online) => "1: the rule's values are fresh; 0: they are lost",
            Self::Device(_, Health::Age) | Self::Rule(_, Health::Age) => {
                "age of the oldest value in tenths of a second; stays at 65535"
            }
            Self::Device(_, Health::Polls) | Self::Rule(_, Health::Polls) => {
                "good polls; counts on and wraps"
            }
            Self::Device(_, Health::Errors) | Self::Rule(_, Health::Errors) => {
                "failed polls; counts on and wraps"
            }
            Self::Device(_, Health::LastError) | Self::Rule(_, Health::LastError) => {
                "the last failure as a number; 0: good"
            }
            Self::Port(_, PortHealth::Timeouts) => "requests without an answer; counts on and wraps",
            Self::Port(_, PortHealth::Damaged) => "damaged frames; counts on and wraps",
            Self::Port(_, PortHealth::Clients) => "connections now",
            Self::Port(_, PortHealth::Load) => "share of the time in which the port is busy, in %",
            Self::Image(_, ImageHealth::Online) => {
                "1: a controller has the connection, and its frames come; 0: not"
            }
            Self::Image(_, ImageHealth::Run) => "1: the controller is in run; 0: it is idle, or not there",
            Self::Image(_, ImageHealth::Age) => {
                "age of the controller's last frame in tenths of a second; stays at 65535"
            }
            Self::Converter(BoxHealth::Heartbeat) => {
                "counts up each second and wraps: it stands still when the converter does"
            }
            Self::Converter(BoxHealth::Uptime) => "seconds since the converter started",
        }
    }

    /// The word after `health.`.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Device(_, item) | Self::Rule(_, item) => item.spelled(),
            Self::Port(_, item) => item.spelled(),
            Self::Image(_, item) => item.spelled(),
            Self::Converter(item) => item.spelled(),
        }
    }

    /// As the project file writes it: `do-1.health.online`, `ports.raceway.health.load`.
    #[must_use]
    pub fn show(self, project: &Project) -> String {
        let whose = match self {
            Self::Device(at, _) => project.devices.get(at).map(|device| device.name.value.clone()),
            Self::Rule(at, _) => {
                let name = project.maps.get(at).and_then(|map| map.name.as_ref());
                name.map(|name| format!("rules.{}", name.value))
            }
            Self::Port(at, _) => project.ports.get(at).map(|port| format!("ports.{}", port.name.value)),
            Self::Image(at, _) => project.images.get(at).map(|image| image.name.value.clone()),
            Self::Converter(_) => Some("converter".into()),
        };
        format!("{}.health.{}", whose.unwrap_or_default(), self.word())
    }

    /// Whether it is a number that changes by itself all the time: an age, or a counter.
    #[must_use]
    pub const fn grows(self) -> bool {
        match self {
            Self::Device(_, item) | Self::Rule(_, item) => {
                matches!(item, Health::Age | Health::Polls | Health::Errors)
            }
            Self::Port(_, item) => matches!(item, PortHealth::Timeouts | PortHealth::Damaged),
            Self::Image(_, item) => matches!(item, ImageHealth::Age),
            Self::Converter(_) => true,
        }
    }

    /// The device that it is about.
    #[must_use]
    pub const fn device(self) -> Option<usize> {
        match self {
            Self::Device(device, _) => Some(device),
            _ => None,
        }
    }
}
