//! What simulated devices work out by themselves: how it begins, what moves it, and what becomes of a write.

use super::device::SimDevice;
use super::inside::Spot;
use crate::dice::Dice;
use crate::speak::{OnItsLine, speaker};
use woodrush_core::Refusal;
use woodrush_core::check::Checked;
use woodrush_core::form::{Form, Order, Type};
use woodrush_core::project::SetUpEntry;
use woodrush_core::protocol::{Extent, SetUpStep};

impl SimDevice {
    /// Finds what the device works out by itself, set up as the project says.
    pub(super) fn learn_behaviour(&mut self, checked: &Checked, index: usize) {
        let Some(dialect) = self.station.dialect else { return };
        let steps: Vec<SetUpStep> = checked.project.devices.get(index).map_or_else(Vec::new, |device| {
            let step = |entry: &SetUpEntry| {
                let (address, value) = (&entry.address.value, &entry.value.value);
                dialect.set_up()?.step(&self.station.setup, address, value).ok()
            };
            device.set_up.iter().filter_map(step).collect()
        });
        let make = speaker(dialect.name()).and_then(|speaker| speaker.behaviour);
        let made = make.and_then(|make| make(&self.station, &steps));
        let mut inside = self.body();
        inside.behaviour = made;
        inside.behave(&self.station, |behaviour, _, memory| behaviour.begin(memory));
    }

    /// What the device measures moves where nobody says otherwise.
    pub(super) fn drive_what_it_measures(&mut self, dice: &mut Dice) {
        let measured = self.body().behave(&self.station, |behaviour, _, memory| behaviour.measures(memory));
        for (number, own) in measured.into_iter().flatten().enumerate() {
            let ty = if own.extent.count == 4 { Type::F32 } else { Type::U8 };
            let form = Form { order: Some(Order::HIGH_FIRST), ..Form::plain(ty) };
            let spot = Spot { extent: own.extent, bit: None, form };
            self.drive_by_default(spot, 1, Some(own.range), false, number, dice);
        }
    }

    /// Whether the device works cells out by itself.
    pub(super) fn computes(&self, extent: Extent) -> bool {
        let inside = self.body();
        inside.behaviour.as_ref().is_some_and(|behaviour| behaviour.computes(extent))
    }

    /// Why nobody sets what a device works out by itself, in words.
    pub(super) fn worked_out(&self, what: &str) -> String {
        let mut inside = self.body();
        let measured = inside.behave(&self.station, |behaviour, _, memory| behaviour.measures(memory));
        let names = measured
            .into_iter()
            .flatten()
            .filter_map(|own| Some(self.station.space_at(own.extent.space)?.name().to_string()));
        let names: Vec<String> = names.collect();
        let other = if names.is_empty() { String::new() } else { format!(": set {}", names.join(" or ")) };
        format!("`{what}` is worked out by the simulated device itself{other}")
    }

    /// Whether its settings take a write.
    pub(super) fn may_be_set(&mut self, extent: Extent, cells: &[u8]) -> Result<(), Refusal> {
        let Some(own) = self.own.take() else { return Ok(()) };
        let taken = {
            let mut inside = self.body();
            let faults = inside.ailment;
            own.may_write(extent, cells, &faults, &inside.cells(&self.station))
        };
        self.own = Some(own);
        taken
    }

    /// Takes a write that its addresses allow, where what it works out allows it too.
    pub(super) fn take_write(&mut self, extent: Extent, cells: &[u8]) -> Result<(), Refusal> {
        let mut own = self.own.take();
        let taken = {
            let mut inside = self.body();
            let taken = inside.behave(&self.station, |behaviour, faults, memory| {
                behaviour.may_write(extent, cells, faults, memory)
            });
            match taken.unwrap_or(Ok(())) {
                Err(refusal) => Err(refusal),
                Ok(()) => {
                    inside.driven.retain(|driven| !driven.overlaps(extent));
                    inside.poke(self.each(extent), extent, cells);
                    inside.written += 1;
                    inside.behave(&self.station, |behaviour, _, memory| behaviour.wrote(extent, memory));
                    Ok(own.as_mut().and_then(|own| own.wrote(extent, &mut inside.cells(&self.station))))
                }
            }
        };
        self.own = own;
        if let Some(now) = taken? {
            self.become_on_line(now);
        }
        Ok(())
    }

    fn become_on_line(&mut self, now: OnItsLine) {
        self.line = now.line;
        let Some((key, number)) = now.number else { return };
        let own = self.station.setup.numbers.iter_mut().find(|(known, _)| *known == key);
        if let Some((_, own)) = own.filter(|(_, own)| *own != number) {
            *own = number;
            self.moved = true;
        }
    }
}
