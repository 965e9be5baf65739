//! Setting up blocks: what a line of `set-up` writes, what it cannot bring a block to, and why a block does not work.

use super::analog::{AnalogInput, ConfigurationFault, configuration_fault};
use super::lists::{BlockKind, ParameterAccess};
use super::parameter::{find, members, parameters};
use super::units::{unit_code, unit_shown};
use super::words::{
    self, ALARM, AUTO, MAN, OOS, PROGRAM, SIMULATING, TUNE, errors_shown, mode_shown, scale_shown,
};
use super::{H1, Located, Parameter};
use crate::protocol::{DeviceBlock, SetUp, SetUpStep, Setup, Space, StepFault, StepsFault};
use woodrush_wire::h1::kind;
use woodrush_wire::h1::status::{Quality, Status};
use woodrush_wire::h1::structure::{Mode, Scaling};

fn block<'s>(setup: &'s Setup, name: &str) -> Option<&'s DeviceBlock> {
    setup.blocks.as_deref()?.block(name)
}

fn kind_of(block: &DeviceBlock) -> Option<BlockKind> {
    BlockKind::of_word(&block.kind)
}

fn named<'s>(setup: &'s Setup, block_name: &str, name: &str) -> Option<Parameter<'s>> {
    parameters(block(setup, block_name)?).find(|own| own.name == name)
}

/// The first block of a kind.
fn first_of(setup: &Setup, kind: BlockKind) -> Option<&DeviceBlock> {
    setup.blocks.as_deref()?.blocks.iter().find(|own| kind_of(own) == Some(kind))
}

/// The codes of the units that a channel of a block has; none where the profile does not say.
pub(super) fn units_of(block: &DeviceBlock, channel: u16) -> Vec<u16> {
    let own = block.channels.iter().find(|(number, _)| *number == u32::from(channel));
    own.iter().flat_map(|(_, units)| units).filter_map(|unit| unit_code(unit)).collect()
}

fn mode_step(parameter: &Parameter<'_>, mode: u8) -> SetUpStep {
    SetUpStep {
        block: parameter.block.name.clone(),
        space: parameter.space(),
        first: 0,
        wanted: vec![Some(mode)],
        out_of_service: false,
        is_mode: true,
    }
}

/// What is known of an analog input block: from the file, or from the device.
#[derive(Default, Clone, Copy)]
struct BlockNow {
    channel: Option<u16>,
    l_type: Option<u8>,
    xd_scale: Option<Scaling>,
    out_scale: Option<Scaling>,
}

impl BlockNow {
    /// What keeps it from working as far as it is known.
    fn fault(&self, block: &DeviceBlock) -> Option<ConfigurationFault> {
        // What is not known is taken as sound.
        let sound = Scaling { eu_100: 100.0, eu_0: 0.0, unit: 1342, decimal: 0 };
        let either = self.xd_scale.or(self.out_scale).unwrap_or(sound);
        let units = match (self.channel, self.xd_scale) {
            (Some(channel), Some(_)) => units_of(block, channel),
            _ => vec![],
        };
        configuration_fault(&AnalogInput {
            target: AUTO,
            l_type: self.l_type.unwrap_or(if self.xd_scale.is_some() && self.out_scale.is_some() {
                2
            } else {
                1
            }),
            channel: self.channel.unwrap_or(1),
            xd_scale: self.xd_scale.unwrap_or(either),
            out_scale: self.out_scale.unwrap_or(either),
            io_opts: 0,
            status_opts: 0,
            low_cut: 0.0,
            pv_ftime: 0.0,
            units: &units,
        })
    }

    /// The same in words, with what to do.
    fn told(&self, block: &DeviceBlock, fault: ConfigurationFault) -> (String, &'static str, String) {
        let name = &block.name;
        let scale = |scale: Option<Scaling>| {
            scale.map(|own| scale_shown(own.eu_0, own.eu_100, own.unit)).unwrap_or_default()
        };
        let (xd, out) = (scale(self.xd_scale), scale(self.out_scale));
        match fault {
            ConfigurationFault::NoChannel => (
                format!("`{name}.CHANNEL` is 0: the block works on no value of the transducer"),
                "CHANNEL",
                "write the number of the channel, from the device's manual".into(),
            ),
            ConfigurationFault::NoLinearisation => (
                format!("`{name}.L_TYPE` is uninitialised"),
                "L_TYPE",
                "write `direct`, `indirect` or `indirect square root`".into(),
            ),
            ConfigurationFault::ScalesDiffer => (
                format!("`{name}.L_TYPE` is direct, and XD_SCALE ({xd}) and OUT_SCALE ({out}) differ"),
                "L_TYPE",
                "write the same scale twice, or `L_TYPE` = `indirect`".into(),
            ),
            ConfigurationFault::NoSpan => {
                let is_xd = self.xd_scale.is_some_and(|own| own.eu_0.total_cmp(&own.eu_100).is_eq());
                let (which, shown) = if is_xd { ("XD_SCALE", xd) } else { ("OUT_SCALE", out) };
                (format!("`{name}.{which}` ({shown}) has no span"), which, "write two different ends".into())
            }
            ConfigurationFault::UnitOfChannel => {
                let channel = self.channel.unwrap_or(0);
                let units: Vec<String> = units_of(block, channel).into_iter().map(unit_shown).collect();
                let unit = self.xd_scale.map(|own| unit_shown(own.unit)).unwrap_or_default();
                (
                    format!("`{name}.XD_SCALE` is in {unit}, and channel {channel} has {}", units.join(", ")),
                    "XD_SCALE",
                    format!("write the scale in {}", units.join(" or ")),
                )
            }
        }
    }
}

impl SetUp for H1 {
    fn step(&self, setup: &Setup, address: &str, value: &str) -> Result<SetUpStep, StepFault> {
        let address_fault = |what, likely| StepFault { code: "F10", of_value: false, what, likely };
        let (own, member) = find(setup.blocks.as_deref(), address)
            .map_err(|fault| address_fault(fault.what, fault.likely.first().cloned()))?;
        let shown = format!("{}.{}", own.block.name, own.name);
        if own.access == ParameterAccess::Read {
            let what = format!("`{shown}` is read-only");
            return Err(StepFault { code: "M47", of_value: false, what, likely: None });
        }
        let value_fault = |what| StepFault { code: "F03", of_value: true, what, likely: None };
        let (first, wanted) = if member.is_empty() && own.ty.code == kind::DS_68 {
            let (eu_0, eu_100, unit) = words::read_scale(value).map_err(value_fault)?;
            let bytes =
                [&eu_100.to_be_bytes()[..], &eu_0.to_be_bytes()[..], &unit.to_be_bytes()[..]].concat();
            // The decimals of a display stay as they are.
            (0, bytes.into_iter().map(Some).chain([None]).collect())
        } else {
            let name = match (member, own.ty.members) {
                ("", [_]) => "",
                ("", _) if own.ty.code == kind::DS_69 => "TARGET",
                ("", _) => "VALUE",
                (name, _) => name,
            };
            let found = own.ty.members.iter().find(|own| own.name.eq_ignore_ascii_case(name));
            let Some(found) = found else {
                let names: Vec<&str> = own.ty.members.iter().map(|own| own.name).collect();
                let what = format!("`{shown}` is a structure: name one of its members, {}", names.join(", "));
                return Err(address_fault(what, None));
            };
            if own.ty.code == kind::DS_69 && found.name != "TARGET" {
                let what = format!("only the target of a mode is written: `{shown}.TARGET`");
                return Err(address_fault(what, Some(format!("{shown}.TARGET"))));
            }
            let bytes = words::read(own.name, found, value).map_err(value_fault)?;
            (u32::from(found.at), bytes.into_iter().map(Some).collect())
        };
        Ok(SetUpStep {
            block: own.block.name.clone(),
            space: own.space(),
            first,
            wanted,
            out_of_service: own.access == ParameterAccess::OutOfService,
            is_mode: own.ty.code == kind::DS_69,
        })
    }

    fn judge(&self, setup: &Setup, steps: &[(usize, SetUpStep)]) -> Vec<StepsFault> {
        let mut found = vec![];
        let mut blocks: Vec<&str> = steps.iter().map(|(_, step)| step.block.as_str()).collect();
        blocks.sort_unstable();
        blocks.dedup();
        for name in blocks {
            let Some(own) = block(setup, name) else { continue };
            let here: Vec<&(usize, SetUpStep)> =
                steps.iter().filter(|(_, step)| step.block == name).collect();
            let last = |parameter: &str| {
                let full = format!("{name}.{parameter}");
                here.iter().rev().find(|(_, step)| step.space.name() == full).map(|(at, step)| (*at, step))
            };
            let bytes = |parameter: &str| {
                let (_, step) = last(parameter)?;
                step.wanted.iter().map(|byte| byte.or(Some(0))).collect::<Option<Vec<u8>>>()
            };
            let number = |parameter: &str| {
                bytes(parameter).map(|own| own.iter().fold(0u16, |sum, byte| sum << 8 | u16::from(*byte)))
            };
            let mode = last("MODE_BLK").zip(bytes("MODE_BLK").and_then(|own| own.first().copied()));
            let kind = kind_of(own);
            if let Some(((at, _), mode)) = mode {
                let allowed: &[u8] = match kind {
                    Some(BlockKind::Resource | BlockKind::Transducer) => &[OOS, AUTO],
                    Some(BlockKind::Ai | BlockKind::Di) => &[OOS, MAN, AUTO],
                    Some(BlockKind::Ao | BlockKind::Do) => &[OOS, MAN, AUTO, words::CAS, 0x02],
                    _ => &[OOS, MAN, AUTO, words::CAS, 0x02, 0x01],
                };
                if !allowed.contains(&mode) {
                    let names: Vec<String> = allowed.iter().map(|mode| mode_shown(*mode)).collect();
                    found.push(StepsFault {
                        step: at,
                        what: format!("`{name}` cannot be in {}", mode_shown(mode)),
                        fix: format!("write one of {}", names.join(", ")),
                    });
                } else if mode == OOS {
                    found.push(StepsFault {
                        step: at,
                        what: format!("the last mode of `{name}` is OOS: it would be left out of service"),
                        fix: format!("add `\"{name}.MODE_BLK.TARGET#2\" = \"AUTO\"` at the end"),
                    });
                    continue;
                }
            }
            if kind != Some(BlockKind::Ai) {
                if let Some((at, _)) = last("CHANNEL").filter(|_| number("CHANNEL") == Some(0)) {
                    found.push(StepsFault {
                        step: at,
                        what: format!("`{name}.CHANNEL` is 0: the block works on no value of the transducer"),
                        fix: "write the number of the channel, from the device's manual".into(),
                    });
                }
                continue;
            }
            let scale = |parameter: &str| {
                bytes(parameter).filter(|own| own.len() == 11).and_then(|own| Scaling::parse(&own).ok())
            };
            let known = BlockNow {
                channel: number("CHANNEL"),
                l_type: number("L_TYPE").and_then(|own| u8::try_from(own).ok()),
                xd_scale: scale("XD_SCALE"),
                out_scale: scale("OUT_SCALE"),
            };
            if let Some(fault) = known.fault(own) {
                let (what, parameter, fix) = known.told(own, fault);
                let step = last(parameter).or_else(|| last("XD_SCALE")).or_else(|| last("OUT_SCALE"));
                let step = step.map_or(0, |(at, _)| at);
                found.push(StepsFault { step, what: format!("{what}, so it stays out of service"), fix });
            }
        }
        found.sort_by_key(|own| own.step);
        found
    }

    fn out_of_service(&self, setup: &Setup, block: &str) -> Option<SetUpStep> {
        Some(mode_step(&named(setup, block, "MODE_BLK")?, OOS))
    }

    fn restore(&self, setup: &Setup, block: &str, mode: &[u8]) -> Option<SetUpStep> {
        Some(mode_step(&named(setup, block, "MODE_BLK")?, *mode.first()?))
    }

    fn revision(&self, setup: &Setup, block: &str) -> Option<Space> {
        Some(named(setup, block, "ST_REV")?.space())
    }

    fn looked_at(&self, setup: &Setup, block_name: &str) -> Vec<Space> {
        let Some(own) = block(setup, block_name) else { return vec![] };
        let names: &[&str] = match kind_of(own) {
            Some(BlockKind::Ai) => &["CHANNEL", "L_TYPE", "XD_SCALE", "OUT_SCALE", "SIMULATE", "OUT"],
            Some(BlockKind::Di) => &["CHANNEL", "OUT_D"],
            Some(BlockKind::Ao | BlockKind::Do) => &["CHANNEL"],
            _ => &[],
        };
        let here = |block: &str, names: &[&str]| -> Vec<Space> {
            names.iter().filter_map(|name| Some(named(setup, block, name)?.space())).collect()
        };
        let mut all = here(block_name, &["MODE_BLK", "BLOCK_ERR", "GRANT_DENY"]);
        all.extend(here(block_name, names));
        let others: [(_, &[&str]); 2] =
            [(BlockKind::Resource, &["MODE_BLK", "WRITE_LOCK"]), (BlockKind::Transducer, &["MODE_BLK"])];
        for (kind, names) in others {
            if let Some(other) = first_of(setup, kind) {
                all.extend(here(&other.name, names));
            }
        }
        all
    }

    fn state(&self, setup: &Setup, block: &str, read: &dyn Fn(&Space) -> Option<Vec<u8>>) -> (String, bool) {
        let cells = |name: &str| read(&named(setup, block, name)?.space());
        let Some(mode) = cells("MODE_BLK").and_then(|own| Mode::parse(&own).ok()) else {
            return ("its mode could not be read".into(), false);
        };
        let errors = cells("BLOCK_ERR")
            .map_or(0, |own| own.iter().fold(0u16, |sum, byte| sum << 8 | u16::from(*byte)));
        let met = mode.actual & mode.target & !1 != 0 || mode.actual == mode.target;
        let shown = format!(
            "target {}, actual {}, {}",
            mode_shown(mode.target),
            mode_shown(mode.actual),
            errors_shown(errors)
        );
        (shown, met)
    }

    fn causes(
        &self,
        setup: &Setup,
        block_name: &str,
        read: &dyn Fn(&Space) -> Option<Vec<u8>>,
    ) -> Vec<String> {
        let of = |block: &str, name: &str| read(&named(setup, block, name)?.space());
        let mode_of = |block: &str| of(block, "MODE_BLK").and_then(|own| Mode::parse(&own).ok());
        let (Some(own), Some(mode)) = (block(setup, block_name), mode_of(block_name)) else { return vec![] };
        let cells = |name: &str| of(block_name, name);
        let number = |name: &str| {
            cells(name).map(|own| own.iter().fold(0u16, |sum, byte| sum << 8 | u16::from(*byte)))
        };
        let other_out = |kind: BlockKind| {
            let other = first_of(setup, kind).filter(|other| other.name != block_name)?;
            mode_of(&other.name).filter(|mode| mode.actual == OOS).map(|_| other.name.clone())
        };
        let mut found = vec![];
        let scale = |name: &str| cells(name).and_then(|own| Scaling::parse(&own).ok());
        let known = BlockNow {
            channel: number("CHANNEL"),
            l_type: number("L_TYPE").and_then(|own| u8::try_from(own).ok()),
            xd_scale: scale("XD_SCALE"),
            out_scale: scale("OUT_SCALE"),
        };
        if mode.target == OOS {
            found.push(format!(
                "its target is OOS: it was put out of service; write `{block_name}.MODE_BLK.TARGET` = AUTO"
            ));
            // With that alone it would stay so.
            if let Some(fault) = known.fault(own).filter(|_| kind_of(own) == Some(BlockKind::Ai)) {
                let (what, _, fix) = known.told(own, fault);
                found.push(format!("{what}: {fix}"));
            }
        } else if mode.actual == OOS {
            let resource = other_out(BlockKind::Resource);
            let fault = if kind_of(own) == Some(BlockKind::Ai) {
                known.fault(own)
            } else {
                (known.channel == Some(0)).then_some(ConfigurationFault::NoChannel)
            };
            if let Some(resource) = &resource {
                found.push(format!("the resource block `{resource}` is out of service, and so are all others with it: write `{resource}.MODE_BLK.TARGET` = AUTO"));
            }
            if let Some(fault) = fault {
                let (what, _, fix) = known.told(own, fault);
                found.push(format!("{what}: {fix}"));
            }
            if resource.is_none() && fault.is_none() {
                found.push(
                    "nothing in its parameters keeps it out of service: it is in no schedule (was the macrocycle downloaded? is there a link active scheduler?)".into(),
                );
            }
        } else if mode.target == MAN && matches!(kind_of(own), Some(BlockKind::Ai | BlockKind::Di)) {
            found.push("its target was left in MAN: its value is what was written last, and constant".into());
        }
        if mode.actual != OOS {
            if let Some(transducer) = other_out(BlockKind::Transducer) {
                found.push(format!("the transducer block `{transducer}` is out of service, so the value is bad: write `{transducer}.MODE_BLK.TARGET` = AUTO"));
            }
            if number("BLOCK_ERR").is_some_and(|errors| errors & SIMULATING != 0) {
                found.push(format!("simulation was left on: the value looks good and is not measured; write `{block_name}.SIMULATE.ENABLE_DISABLE` = off"));
            }
            let status =
                cells("OUT").or_else(|| cells("OUT_D")).and_then(|own| own.first().copied()).map(Status);
            if let Some(status) =
                status.filter(|own| own.quality() == Quality::Uncertain && own.limits() != 0)
            {
                found.push(format!(
                    "its value is {status}: the sensor is beyond its range, and the value still moves"
                ));
            } else if let Some(status) =
                status.filter(|own| own.quality() == Quality::Bad && found.is_empty())
            {
                found.push(format!("its value is {status}"));
            }
        }
        let lock =
            first_of(setup, BlockKind::Resource).filter(|own| of(&own.name, "WRITE_LOCK") == Some(vec![2]));
        if let Some(resource) = lock.map(|own| &own.name) {
            found.push(format!("the device is write-locked: nothing of it can be changed; write `{resource}.WRITE_LOCK` = unlocked, or turn the switch on the device"));
        }
        if let (Some(space), Some(own)) = (named(setup, block_name, "GRANT_DENY"), cells("GRANT_DENY")) {
            let denied = own.get(1).is_some_and(|own| own & (PROGRAM | TUNE | ALARM) != 0);
            for own in members(&space.space(), &own).iter().filter(|own| denied && own.name == "DENY") {
                found.push(format!(
                    "`{block_name}.GRANT_DENY` denies writes ({}): the host that took the block gives it back, or write `{block_name}.GRANT_DENY.DENY` = none",
                    own.shown
                ));
            }
        }
        found
    }

    fn shown(&self, space: &Space, cells: &[u8]) -> String {
        if Located::of(space).is_some_and(|own| own.ty.code == kind::DS_68) {
            return Scaling::parse(cells)
                .map(|own| scale_shown(own.eu_0, own.eu_100, own.unit))
                .unwrap_or_default();
        }
        let all = members(space, cells);
        match all.as_slice() {
            [only] => only.shown.clone(),
            _ => all.iter().map(|own| format!("{} {}", own.name, own.shown)).collect::<Vec<_>>().join(", "),
        }
    }
}
