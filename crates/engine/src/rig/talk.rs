//! What is said between simulated devices and one who has their line or socket open.

use super::device::SimDevice;
use crate::Moment;
use crate::speak::{ServedDevice, Server, ServerSetup, speaker};
use std::collections::VecDeque;
use woodrush_core::project::LineFaults;
use woodrush_core::protocol::Setup;

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
    pub(super) fn new(protocol: &str, devices: &[SimDevice], port: &Setup, line: LineFaults) -> Option<Self> {
        Some(Self {
            is_open: false,
            servers: servers(protocol, devices, port, line)?,
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

/// The machines by which devices answer: one each, which does not hear what is not for its unit; or one for all of them.
fn servers(
    protocol: &str,
    devices: &[SimDevice],
    port: &Setup,
    line: LineFaults,
) -> Option<Vec<Box<dyn Server>>> {
    let make = speaker(protocol)?.server?;
    if is_joint(devices) {
        return Some(vec![make(&joint_setup(devices, port, line))]);
    }
    Some(devices.iter().map(|device| make(&server_setup(device))).collect())
}

/// Whether one machine answers for all of them.
pub(super) fn is_joint(devices: &[SimDevice]) -> bool {
    let first = devices.first().and_then(|device| device.station.dialect);
    first.is_some_and(|dialect| dialect.stations().one_answers_for_all())
}

/// What the machine of a link must know that answers for all of its devices.
pub(super) fn joint_setup(devices: &[SimDevice], port: &Setup, line: LineFaults) -> ServerSetup {
    let served = |device: &SimDevice| ServedDevice {
        setup: device.station.setup.clone(),
        spaces: device.spaces_now(),
        faults: device.ailment(),
    };
    let devices = devices.iter().map(served).collect();
    ServerSetup { devices, own: port.clone(), line, ..ServerSetup::default() }
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
        devices: vec![],
        line: LineFaults::default(),
    }
}
