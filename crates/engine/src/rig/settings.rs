//! Settings that a simulated device takes over its line, as its profile's roles say: its number, speed, parity.

use super::device::SimDevice;
use super::inside::Spot;
use woodrush_core::check::Checked;
use woodrush_core::form::Form;
use woodrush_core::form::Type;
use woodrush_core::project::{Line, Parity, Role};
use woodrush_core::protocol::{Extent, Transport};
use woodrush_core::{Blame, Kind, Refusal, Spanned};

/// One register of settings.
pub(super) struct SettingRegister {
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
}

/// What can be set in a device.
#[derive(Default)]
pub(super) struct Settings {
    all: Vec<SettingRegister>,
    /// Something must be written first.
    locked: bool,
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
        self.settings.locked = all.iter().any(|setting| setting.role == Role::Unlock);
        self.settings.all = all;
    }

    /// Whether a write is taken by what it would set.
    pub(super) fn may_set(&self, extent: Extent) -> Result<(), Refusal> {
        let refused = self.settings.locked
            && self.settings.all.iter().any(|setting| setting.is_setting() && setting.touches(extent));
        if refused { Err(Refusal::new(Kind::Fault, Blame::ClientIdentity)) } else { Ok(()) }
    }

    /// Takes what was written there; says whether its number or line is another now.
    pub(super) fn take_settings(&mut self, extent: Extent) -> bool {
        let touched: Vec<Role> = self
            .settings
            .all
            .iter()
            .filter(|setting| setting.touches(extent))
            .map(|setting| setting.role)
            .collect();
        let on = |settings: &Settings, role| {
            let setting = settings.all.iter().find(|setting| setting.role == role)?;
            self.number(&setting.spot)
        };
        let unlocked = on(&self.settings, Role::Unlock).filter(|_| touched.contains(&Role::Unlock));
        let applied = on(&self.settings, Role::Apply).filter(|_| touched.contains(&Role::Apply));
        let by_apply = self.settings.all.iter().any(|setting| setting.role == Role::Apply);
        if let Some(value) = unlocked {
            self.settings.locked = value == 0;
        }
        let now = if by_apply { applied.is_some_and(|value| value != 0) } else { !touched.is_empty() };
        if !now {
            return false;
        }
        self.settle()
    }

    fn number(&self, spot: &Spot) -> Option<u32> {
        let cells = self.peek(spot.extent)?;
        cells.iter().try_fold(0u32, |sum, byte| sum.checked_mul(256)?.checked_add(u32::from(*byte)))
    }

    /// Becomes what its registers say.
    fn settle(&mut self) -> bool {
        let mut changed = false;
        let found: Vec<(Role, u32, Option<String>)> = self
            .settings
            .all
            .iter()
            .filter_map(|setting| {
                let number = self.number(&setting.spot)?;
                let name =
                    setting.values.iter().find(|(_, code)| *code == number).map(|(name, _)| name.clone());
                Some((setting.role, number, name))
            })
            .collect();
        for (role, number, name) in found {
            let line = self.line;
            match role {
                Role::UnitAddress => {
                    let Some((key, range)) = self
                        .station
                        .dialect
                        .and_then(|dialect| dialect.stations().station_key(Transport::Serial))
                    else {
                        continue;
                    };
                    let own = self.station.setup.numbers.iter_mut().find(|(known, _)| *known == key);
                    if let Some((_, own)) = own.filter(|(_, own)| range.contains(&number) && *own != number) {
                        *own = number;
                        changed = true;
                    }
                }
                Role::LineSpeed => {
                    let baud = name.and_then(|name| name.parse().ok());
                    self.line = line.map(|line| Line { baud: baud.unwrap_or(line.baud), ..line });
                }
                Role::LineParity => {
                    self.line = line
                        .map(|line| name.as_deref().and_then(|name| with_parity(line, name)).unwrap_or(line));
                }
                Role::Unlock | Role::Apply => {}
            }
        }
        changed
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
