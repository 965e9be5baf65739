//! Stations of simulated networks by name: the controllers that exchange blocks with images, and what goes wrong with them
//! and with I/O devices.

use super::device::SimDevice;
use super::driven::{loaded, sent_by_converter};
use super::inside::Spot;
use super::network::{NetStation, RigNetwork, Whom};
use super::newcomer;
use super::signal::Generator;
use super::station_end::SeenLink;
use super::{Rig, RigFault};
use crate::Moment;
use crate::dice::Dice;
use std::net::Ipv4Addr;
use std::sync::{MutexGuard, PoisonError};
use woodrush_core::Spanned;
use woodrush_core::check::Checked;
use woodrush_core::plan::{Source, Station};
use woodrush_core::project::{
    Changes, DeviceFaults, Fault, FaultKind, FaultValue, LineFaults, Owner, Signal,
};

impl SimDevice {
    /// A controller that exchanges blocks with an image: it holds both of them, and signals move what it sends.
    ///
    /// # Errors
    /// A signal of the project does not fit, in words.
    pub fn controller(
        checked: &Checked,
        image: usize,
        name: &str,
        signals: &[(Spanned<String>, Signal)],
        read_file: &dyn Fn(&str) -> Result<String, String>,
    ) -> Result<Self, String> {
        let (project, plan) = (&checked.project, &checked.plan);
        let station = plan.images.get(image).cloned().ok_or("no such image")?;
        let station = Station { name: name.to_string(), ..station };
        let mut own = Self::empty(station);
        for slot in plan.link_of(Owner::Image(image)).into_iter().flat_map(|link| &link.slots) {
            slot.comes
                .iter()
                .map(|(extent, _)| *extent)
                .chain(slot.goes)
                .for_each(|extent| own.exist(extent));
        }
        let mut dice = Dice::new(project.rig.seed ^ (image as u64) << 48);
        for (target, signal) in signals {
            let loaded = loaded(signal, read_file)?;
            let (spot, count) = own.spot_of_signal(checked, usize::MAX, target)?;
            if own.sent_to_it(spot.extent) {
                return Err(sent_by_converter(&target.value));
            }
            own.drive(spot, count, Generator::new(signal.clone(), dice.roll(), loaded));
        }
        for (number, rule) in plan.rules.iter().enumerate() {
            let Source::Values { owner, place, .. } = rule.source else { continue };
            if owner == Owner::Image(image) {
                let spot = Spot { extent: place.item(0), bit: place.bit, form: rule.conversion.from };
                own.drive_by_default(spot, place.count, None, true, number, &mut dice);
            }
        }
        own.advance(Moment(0), None);
        Ok(own)
    }
}

impl Rig {
    /// Lets one controller for each image of a network begin: as the clients of the project are described, or where `plain`
    /// as the image itself would have it. What goes wrong with one goes on with the one that comes in its place: a converter
    /// that begins again mends nothing.
    ///
    /// # Errors
    /// One of them cannot begin, in words.
    pub fn begin_controllers(&self, plain: bool) -> Result<(), RigFault> {
        let faults: Vec<(Whom, DeviceFaults)> =
            self.controllers().iter().map(|own| (own.whom, own.sim().ailment())).collect();
        let mut all = vec![];
        for network in &self.networks {
            for (place, whose) in network.controllers_of(&self.checked, plain).into_iter().enumerate() {
                let station = network.controller(&self.checked, (whose, place), &self.replays, self.clock);
                let station = station.map_err(RigFault)?;
                station.sim().still = plain;
                if let Some((_, fault)) = faults.iter().find(|(whom, _)| !plain && *whom == station.whom) {
                    station.sim().set_fault(|own| *own = *fault);
                    station.changed();
                }
                all.push(station);
            }
        }
        *self.controllers() = all;
        if !plain {
            self.plug_newcomers();
        }
        Ok(())
    }

    /// On each switch one station that has no name yet, like the image there.
    fn plug_newcomers(&self) {
        let mut newcomers = self.newcomers.lock().unwrap_or_else(PoisonError::into_inner);
        newcomers.clear();
        for network in &self.networks {
            let image = self.checked.plan.images.iter().find(|image| image.port == network.port);
            newcomers.extend(image.and_then(|image| newcomer::plug(&network.ground, image, self.clock)));
        }
    }

    /// Where the stations of a network are: the address of each in the project, and the one on this machine.
    pub(super) fn stations_of(&self, network: &RigNetwork) -> Vec<(Ipv4Addr, Ipv4Addr)> {
        let device = |station: &NetStation| {
            let Whom::Device(device) = station.whom else { return None };
            Some((self.checked.plan.devices.get(device)?.network_address()?, station.address))
        };
        let clients = network.controllers_of(&self.checked, false).into_iter().enumerate();
        let client = |(place, (_, client)): (usize, (usize, Option<usize>))| {
            let own = self.checked.project.clients.get(client?)?.address.as_ref()?.value;
            Some((own, network.address_of_controller(place, Some(own))))
        };
        network.devices.iter().filter_map(device).chain(clients.filter_map(client)).collect()
    }

    pub(super) fn controllers(&self) -> MutexGuard<'_, Vec<NetStation>> {
        self.controllers.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The first controller of an image does something.
    fn of_image<T>(&self, image: usize, act: impl FnOnce(&NetStation) -> T) -> Option<T> {
        let of = |own: &&NetStation| matches!(own.whom, Whom::Controller { image: at, .. } if at == image);
        self.controllers().iter().find(of).map(act)
    }

    /// Does something with the controller of an image; nothing where none has begun.
    pub fn with_controller<T>(&self, image: usize, act: impl FnOnce(&mut SimDevice) -> T) -> Option<T> {
        self.of_image(image, |own| act(&mut own.sim()))
    }

    /// What the controller of an image sees of its link, or a device of its.
    #[must_use]
    pub fn seen(&self, owner: Owner) -> Option<SeenLink> {
        match owner {
            Owner::Image(image) => self.of_image(image, NetStation::seen),
            _ => self.net_device(owner.device()?).map(NetStation::seen),
        }
    }

    /// Changes what goes wrong with the controller of an image.
    pub fn spoil_controller(&self, image: usize, change: impl FnOnce(&mut DeviceFaults)) {
        let _ = self.of_image(image, |own| {
            own.sim().set_fault(change);
            own.changed();
        });
    }

    /// Takes the controllers away: each closes its connection.
    pub fn end_controllers(&self) {
        self.controllers().clear();
    }

    pub(super) fn net_device(&self, device: usize) -> Option<&NetStation> {
        let all = self.networks.iter().flat_map(|network| &network.devices);
        all.into_iter().find(|station| station.whom == Whom::Device(device))
    }
}

/// What goes wrong with stations of networks: by the port, the device, or the client that is a controller.
impl Rig {
    /// The station of a device, or of a client that is a controller, does something.
    fn with_station<T>(&self, name: &str, act: impl FnOnce(&NetStation) -> T) -> Option<T> {
        if let Some(station) = self.checked.project.device(name).and_then(|device| self.net_device(device)) {
            return Some(act(station));
        }
        let client = self.checked.project.client(name)?;
        let controllers = self.controllers();
        let own =
            |own: &&NetStation| matches!(own.whom, Whom::Controller { client: Some(at), .. } if at == client);
        controllers.iter().find(own).map(act)
    }

    /// Does something with the controller that a client is; nothing where it has not begun.
    pub(super) fn with_client<T>(&self, client: usize, act: impl FnOnce(&mut SimDevice) -> T) -> Option<T> {
        let name = &self.checked.project.clients.get(client)?.name.value;
        self.with_station(name, |own| act(&mut own.sim()))
    }

    fn network(&self, name: &str) -> Option<&RigNetwork> {
        let port = self.checked.project.port(name)?;
        self.networks.iter().find(|network| network.port == port)
    }

    /// Whether a fault is about a station of a network, or all of one.
    pub(super) fn is_on_network(&self, fault: &Fault) -> bool {
        match fault.kind.is_of_line() {
            true => self.network(&fault.place).is_some(),
            false => self.with_station(&fault.place, |_| ()).is_some(),
        }
    }

    /// Begins a fault there, or ends it.
    pub(super) fn spoil_network(&self, kind: &FaultKind, name: &str, value: Option<FaultValue>) {
        match kind.changes {
            Changes::Line(set) => {
                if let Some(network) = self.network(name) {
                    set(&mut network.line(), value);
                }
            }
            Changes::Device(set, _) => {
                let _ = self.with_station(name, |own| {
                    own.sim().set_fault(|faults| set(faults, value));
                    own.changed();
                });
            }
        }
    }

    /// Undoes what goes wrong with a station, or with a network and all of its stations; whether that is one.
    pub(super) fn mend_on_network(&self, name: &str) -> bool {
        if let Some(network) = self.network(name) {
            self.mend_network(network.port);
            return true;
        }
        let mend = |own: &NetStation| {
            own.sim().set_fault(|faults| *faults = DeviceFaults::default());
            own.changed();
        };
        self.with_station(name, mend).is_some()
    }

    /// Undoes what goes wrong on a network.
    pub(super) fn mend_network(&self, port: usize) {
        let Some(network) = self.networks.iter().find(|network| network.port == port) else { return };
        *network.line() = LineFaults::default();
        for own in network.devices.iter().chain(self.controllers().iter()) {
            own.sim().set_fault(|faults| *faults = DeviceFaults::default());
            own.changed();
        }
    }
}
