//! What goes wrong on the bench: lines that are cut, devices that fall silent, and every fault that a project describes.

use super::Rig;
use super::bus::{Bus, Change};
use woodrush_core::project::{CUT, Fault, FaultValue, MUTE, RETYPE};
use woodrush_core::protocol::Alteration;

impl Rig {
    /// Cuts or mends a port's line.
    pub fn cut(&self, port: usize, cut: bool) {
        if let Some(network) = self.networks.iter().find(|network| network.port == port) {
            network.line().cut = cut;
        }
        if let Some(line) = self.lines.iter().find(|line| line.port == port) {
            line.bus().change(Change::switch(&CUT, 0, cut));
            line.changed();
        }
    }

    /// Cuts or mends the way to all devices: those who ask, and controllers, are on other wires.
    pub fn cut_devices(&self, cut: bool) {
        self.device_ports().into_iter().for_each(|port| self.cut(port, cut));
        for station in self.networks.iter().flat_map(|network| &network.devices) {
            station.sim().set_fault(|faults| faults.mute = cut);
        }
    }

    /// Lets a device fall silent, or speak again.
    pub fn mute(&self, device: usize, mute: bool) {
        if let Some(station) = self.net_device(device) {
            station.sim().set_fault(|faults| faults.mute = mute);
        }
        if let Some((line, place)) =
            self.seat(device).and_then(|seat| Some((self.lines.get(seat.line)?, seat.place)))
        {
            line.bus().change(Change::switch(&MUTE, place, mute));
            line.changed();
        }
    }

    pub(super) fn apply(&self, fault: &Fault) -> Result<(), String> {
        if self.is_on_network(fault) {
            self.spoil_network(fault.kind, &fault.place, Some(fault.value));
            return Ok(());
        }
        let (line, place) =
            self.place_of(fault).ok_or_else(|| format!("nothing on this rig is called `{}`", fault.place))?;
        let line = self.lines.get(line).ok_or("no such line")?;
        let value = value_of(fault, &line.bus(), place)?;
        line.bus().change(Change::begin(fault.kind, place, value));
        line.changed();
        Ok(())
    }

    /// The line that a fault is about, and the place of its device there.
    pub(super) fn place_of(&self, fault: &Fault) -> Option<(usize, usize)> {
        if fault.kind.is_of_line() {
            let port = self.checked.project.port(&fault.place)?;
            return Some((self.lines.iter().position(|line| line.port == port)?, 0));
        }
        let seat = self.seat(self.checked.project.device(&fault.place)?)?;
        Some((seat.line, seat.place))
    }
}

/// What a fault takes, with what has the name that was given.
pub(super) fn value_of(fault: &Fault, bus: &Bus, place: usize) -> Result<FaultValue, String> {
    let Some(name) = &fault.name else { return Ok(fault.value) };
    let how = if fault.kind == &RETYPE { Alteration::Retyped } else { Alteration::Renamed };
    let named = bus.devices.get(place).and_then(|device| device.named(name, how));
    named.map(FaultValue::Space).ok_or_else(|| {
        format!("`{}` has no tag `{name}` on this rig, or none that can change so", fault.place)
    })
}
