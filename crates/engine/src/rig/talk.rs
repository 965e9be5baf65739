//! What is said between simulated devices and one who has their line or socket open.

use super::device::SimDevice;
use crate::Moment;
use crate::speak::{Server, ServerSetup, speaker};
use std::collections::VecDeque;

/// Who has it open. The first is always there; on a socket others may come and go.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Opener(pub(super) usize);

impl Opener {
    /// The one of a line, and the first of a socket.
    pub const FIRST: Self = Self(0);
}

/// Most who have a socket open at once: more than a simulated device is asked by.
pub(super) const TALKS_MAX: usize = 16;

/// What is said between the devices and one who has it open.
pub(super) struct BusTalk {
    /// Somebody has connected; of lines that is not known.
    pub(super) is_open: bool,
    /// By device, the machine by which it answers.
    pub(super) servers: Vec<Box<dyn Server>>,
    /// A device has closed the connection.
    pub(super) hung_up: bool,
    /// When the opener's last byte is out. An answer that is to come late does not hold the opener up: it would else be
    /// heard when its own answer is long due.
    pub(super) said: Moment,
    /// When the last answer is out.
    pub(super) free: Moment,
    pub(super) to_devices: VecDeque<(Moment, Vec<u8>)>,
    pub(super) to_opener: VecDeque<(Moment, Vec<u8>)>,
    pub(super) answered: Option<Moment>,
}

impl BusTalk {
    pub(super) fn new(protocol: &str, devices: &[SimDevice]) -> Option<Self> {
        Some(Self {
            is_open: false,
            servers: devices.iter().map(|device| server(protocol, device)).collect::<Option<_>>()?,
            hung_up: false,
            said: Moment(0),
            free: Moment(0),
            to_devices: VecDeque::new(),
            to_opener: VecDeque::new(),
            answered: None,
        })
    }

    pub(super) fn clear(&mut self) {
        self.to_devices.clear();
        self.to_opener.clear();
    }
}

/// The machine by which a device answers; what is not for its unit it does not hear.
fn server(protocol: &str, device: &SimDevice) -> Option<Box<dyn Server>> {
    Some((speaker(protocol)?.server?)(&server_setup(device)))
}

pub(super) fn server_setup(device: &SimDevice) -> ServerSetup {
    let own = device.station.number();
    ServerSetup {
        units: Some(own.and_then(|number| u16::try_from(number).ok()).into_iter().collect()),
        passed: vec![],
        shared: true,
        tells_itself: false,
        answer_as: device.ailment().as_unit.map(u16::from),
        drop_ack: device.ailment().drop_ack,
        stations: vec![(own.and_then(|number| u16::try_from(number).ok()), device.spaces_now())],
        own: device
            .station
            .dialect
            .map(|dialect| dialect.stations().other_end(&device.station.setup))
            .unwrap_or_default(),
    }
}
