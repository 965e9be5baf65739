//! Settings that a simulated device takes over its line, as its profile's roles say: its number, speed, parity.

use super::device::SimDevice;
use super::inside::Spot;
use crate::speak::{Behaviour, Memory, OnItsLine};
use std::ops::Range;
use woodrush_core::check::Checked;
use woodrush_core::form::Form;
use woodrush_core::form::Type;
use woodrush_core::project::{DeviceFaults, Line, Parity, Role};
use woodrush_core::protocol::{Extent, Transport};
use woodrush_core::{Blame, Kind, Refusal, Spanned};

/// One register of settings.
struct SettingRegister {
    role: Role,
    spot: Spot,
    values: Vec<(String, u32)>,
}

impl SettingRegister {
    fn is_setting(&self) -> bool {
        matches!(self.role, Role::UnitAddress | Role::LineSpeed | Role::LineParity)
    }

    fn touches(&self, extent: Extent) -> bool {
        let own = self.spot.extent;
        own.space == extent.space && own.first < extent.end() && extent.first < own.end()
    }

    fn number(&self, memory: &dyn Memory) -> Option<u32> {
        let cells = memory.get(self.spot.extent)?;
        cells.iter().try_fold(0u32, |sum, byte| sum.checked_mul(256)?.checked_add(u32::from(*byte)))
    }
}

/// What can be set in a device, and what it is set to.
struct Settings {
    all: Vec<SettingRegister>,
    /// Something must be written first.
    locked: bool,
    /// The key of its number on a serial line, and which numbers it may have.
    key: Option<(&'static str, Range<u32>)>,
    now: OnItsLine,
}

impl SimDevice {
    /// Finds the registers of settings, and lets that of the number hold it.
    pub(super) fn learn_settings(&mut self, checked: &Checked, index: usize) {
        let points = checked.project.profile_of(index).map_or(&[][..], |profile| &profile.points);
        let mut all = vec![];
        for point in points {
            let Some(role) = point.role else { continue };
            let Ok(address) = checked.project.point_address(index, point) else { continue };
            let form = point.form.map_or(Form::plain(Type::U16), |form| form.value);
            let Some(spot) = self.spot(&address, form) else { continue };
            if role == Role::UnitAddress
                && let Some(own) = self.station.number()
            {
                // Nothing moves there that its line could not be asked for. What does not fit is left as it is.
                let _ = self.set(&spot, &own.to_string());
            }
            if let Some(code) = self.line.and_then(|line| code_of(role, line, &point.values)) {
                let _ = self.set(&spot, &code.to_string());
            }
            let values = point.values.iter().map(|(name, code)| (name.value.clone(), *code)).collect();
            all.push(SettingRegister { role, spot, values });
        }
        if all.is_empty() {
            return;
        }
        let stations = self.station.dialect.map(|dialect| dialect.stations());
        let key = stations.and_then(|stations| stations.station_key(Transport::Serial));
        let number = key.as_ref().and_then(|(key, _)| Some((*key, self.station.setup.number(key)?)));
        let locked = all.iter().any(|setting| setting.role == Role::Unlock);
        let now = OnItsLine { number, line: self.line };
        self.own = Some(Box::new(Settings { all, locked, key, now }));
    }
}

impl Settings {
    fn of(&self, role: Role, memory: &dyn Memory) -> Option<u32> {
        self.all.iter().find(|setting| setting.role == role)?.number(memory)
    }

    /// What its registers say.
    fn settled(&self, memory: &dyn Memory) -> OnItsLine {
        let mut now = self.now;
        for setting in &self.all {
            let Some(number) = setting.number(memory) else { continue };
            let name = setting.values.iter().find(|(_, code)| *code == number).map(|(name, _)| name.as_str());
            match setting.role {
                Role::UnitAddress => {
                    if let Some((key, _)) = self.key.as_ref().filter(|(_, range)| range.contains(&number)) {
                        now.number = Some((*key, number));
                    }
                }
                Role::LineSpeed => {
                    let baud = name.and_then(|name| name.parse().ok());
                    now.line = now.line.map(|line| Line { baud: baud.unwrap_or(line.baud), ..line });
                }
                Role::LineParity => {
                    now.line =
                        now.line.map(|line| name.and_then(|name| with_parity(line, name)).unwrap_or(line));
                }
                Role::Unlock | Role::Apply => {}
            }
        }
        now
    }
}

impl Behaviour for Settings {
    fn may_write(
        &self,
        extent: Extent,
        _cells: &[u8],
        _faults: &DeviceFaults,
        _memory: &dyn Memory,
    ) -> Result<(), Refusal> {
        let refused =
            self.locked && self.all.iter().any(|setting| setting.is_setting() && setting.touches(extent));
        if refused { Err(Refusal::new(Kind::Fault, Blame::ClientIdentity)) } else { Ok(()) }
    }

    fn wrote(&mut self, extent: Extent, memory: &mut dyn Memory) -> Option<OnItsLine> {
        let touched = |role| self.all.iter().any(|own| own.role == role && own.touches(extent));
        let unlocked = self.of(Role::Unlock, memory).filter(|_| touched(Role::Unlock));
        let by_apply = self.all.iter().any(|setting| setting.role == Role::Apply);
        let now = if by_apply {
            touched(Role::Apply) && self.of(Role::Apply, memory).is_some_and(|value| value != 0)
        } else {
            self.all.iter().any(|setting| setting.touches(extent))
        };
        if let Some(value) = unlocked {
            self.locked = value == 0;
        }
        if now {
            self.now = self.settled(memory);
        }
        now.then_some(self.now)
    }
}

/// The number that stands for what the line is set to.
fn code_of(role: Role, line: Line, values: &[(Spanned<String>, u32)]) -> Option<u32> {
    let is_it = |word: &str| match role {
        Role::LineSpeed => word == line.baud.to_string(),
        Role::LineParity => with_parity(line, word) == Some(line),
        _ => false,
    };
    values.iter().find(|(word, _)| is_it(&word.value)).map(|(_, code)| *code)
}

/// A line with another parity, written `8E1`, `E` or `even`.
fn with_parity(line: Line, word: &str) -> Option<Line> {
    if let Ok(whole) = format!("{} {word}", line.baud).parse::<Line>() {
        return Some(whole);
    }
    let parity = match word.to_lowercase().as_str() {
        "n" | "none" => Parity::None,
        "e" | "even" => Parity::Even,
        "o" | "odd" => Parity::Odd,
        _ => return None,
    };
    Some(Line { parity, ..line })
}
