//! Setting up blocks: what a line of `set-up` writes, what it cannot bring a block to, and why a block does not work.

use super::analog::{AnalogInput, ConfigurationFault, configuration_fault};
use super::lists::{BlockKind, ParameterAccess};
use super::parameter::{find, members, parameters};
use super::units::{unit_code, unit_shown};
use super::words::{self, AUTO, MAN, OOS, SIMULATING, errors_shown, mode_shown, scale_shown};
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
            Some(BlockKind::Ai) => {
                &["MODE_BLK", "BLOCK_ERR", "CHANNEL", "L_TYPE", "XD_SCALE", "OUT_SCALE", "SIMULATE", "OUT"]
            }
            Some(BlockKind::Di) => &["MODE_BLK", "BLOCK_ERR", "CHANNEL", "OUT_D"],
            Some(BlockKind::Ao | BlockKind::Do) => &["MODE_BLK", "BLOCK_ERR", "CHANNEL"],
            Some(BlockKind::Resource) => &["MODE_BLK", "BLOCK_ERR", "WRITE_LOCK"],
            _ => &["MODE_BLK", "BLOCK_ERR"],
        };
        let here = |block: &str, names: &[&str]| -> Vec<Space> {
            names.iter().filter_map(|name| Some(named(setup, block, name)?.space())).collect()
        };
        let mut all = here(block_name, names);
        for kind in [BlockKind::Resource, BlockKind::Transducer] {
            if let Some(other) = first_of(setup, kind).filter(|other| other.name != own.name) {
                all.extend(here(&other.name, &["MODE_BLK"]));
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
        if cells("WRITE_LOCK").and_then(|own| own.first().copied()) == Some(2) {
            found.push(format!("the device is write-locked: nothing of it can be changed; write `{block_name}.WRITE_LOCK` = unlocked, or turn the switch on the device"));
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::protocol::{BlockParameter, DeviceBlocks};
    use std::collections::HashMap;
    use std::sync::Arc;

    fn setup() -> Setup {
        let block = |name: &str, kind: &str, start| DeviceBlock {
            name: name.into(),
            kind: kind.into(),
            start,
            execution: None,
            channels: vec![],
            parameters: vec![],
        };
        let mut transducer = block("TB", "TRANSDUCER", 400);
        transducer.parameters.push(BlockParameter {
            name: "PRIMARY_VALUE".into(),
            place: 14,
            type_name: "DS-65".into(),
            read_write: false,
        });
        let mut input = block("AI1", "AI", 500);
        input.channels.push((1, vec!["degC".into()]));
        let blocks = vec![block("RB", "RESOURCE", 300), transducer, input];
        let blocks = DeviceBlocks { path: "tt.toml".into(), blocks, ..DeviceBlocks::default() };
        Setup { blocks: Some(Arc::new(blocks)), ..Setup::default() }
    }

    /// A device with these parameters besides sound ones.
    fn device(changed: &[(&str, &str)]) -> HashMap<String, Vec<u8>> {
        let setup = setup();
        let mut all = HashMap::new();
        for block in ["RB", "TB", "AI1"] {
            for space in H1.looked_at(&setup, block) {
                all.insert(space.name().to_string(), vec![0; space.len.unwrap() as usize]);
            }
        }
        for block in ["RB", "TB", "AI1"] {
            all.insert(format!("{block}.MODE_BLK"), vec![AUTO, AUTO, 0x98, AUTO]);
        }
        all.insert("RB.WRITE_LOCK".into(), vec![1]);
        all.insert("AI1.OUT".into(), vec![0x80, 0, 0, 0, 0]);
        let sound = [
            ("XD_SCALE", "0..120 degC"),
            ("OUT_SCALE", "0..120 degC"),
            ("L_TYPE", "direct"),
            ("CHANNEL", "1"),
        ];
        for (name, value) in sound
            .map(|(name, value)| (format!("AI1.{name}"), value))
            .into_iter()
            .chain(changed.iter().map(|(name, value)| ((*name).to_string(), *value)))
        {
            let step = H1.step(&setup, &name, value).unwrap();
            let cells = all.get_mut(step.space.name()).unwrap();
            *cells = step.whole(cells);
        }
        all
    }

    fn causes(all: &HashMap<String, Vec<u8>>) -> String {
        H1.causes(&setup(), "AI1", &|space| all.get(space.name()).cloned()).join("; ")
    }

    fn out_of_service(mut all: HashMap<String, Vec<u8>>) -> HashMap<String, Vec<u8>> {
        all.get_mut("AI1.MODE_BLK").unwrap()[1] = OOS;
        all
    }

    #[test]
    fn a_sound_block_has_no_cause() {
        assert_eq!(causes(&device(&[])), "");
        let (state, met) = H1.state(&setup(), "AI1", &|space| device(&[]).get(space.name()).cloned());
        assert_eq!((state.as_str(), met), ("target AUTO, actual AUTO, no error", true));
    }

    #[test]
    fn each_cause_of_a_block_that_does_not_work_is_told() {
        for (parameter, value, told) in [
            ("AI1.CHANNEL", "0", "`AI1.CHANNEL` is 0"),
            ("AI1.L_TYPE", "0", "`AI1.L_TYPE` is uninitialised"),
            ("AI1.OUT_SCALE", "0..100 degC", "XD_SCALE (0..120 degC) and OUT_SCALE (0..100 degC) differ"),
            ("AI1.XD_SCALE", "0..120 bar", "`AI1.XD_SCALE` is in bar, and channel 1 has degC"),
            ("AI1.XD_SCALE", "5..5 degC", "`AI1.XD_SCALE` (5..5 degC) has no span"),
            ("AI1.MODE_BLK.TARGET", "OOS", "its target is OOS"),
        ] {
            let all = out_of_service(device(&[(parameter, value)]));
            assert!(causes(&all).contains(told), "{parameter}: {}", causes(&all));
        }
        assert!(causes(&out_of_service(device(&[]))).contains("in no schedule"));
        let mut all = out_of_service(device(&[]));
        all.get_mut("RB.MODE_BLK").unwrap()[1] = OOS;
        assert!(causes(&all).contains("the resource block `RB` is out of service"));
        assert!(!causes(&all).contains("schedule"));
    }

    #[test]
    fn each_cause_of_a_value_that_is_not_what_it_looks_like_is_told() {
        let changed = |name: &str, at: usize, byte: u8| {
            let mut all = device(&[]);
            all.get_mut(name).unwrap()[at] = byte;
            causes(&all)
        };
        assert!(changed("TB.MODE_BLK", 1, OOS).contains("the transducer block `TB` is out of service"));
        assert!(changed("AI1.BLOCK_ERR", 1, 8).contains("simulation was left on"));
        assert!(changed("AI1.MODE_BLK", 0, MAN).contains("left in MAN"));
        assert!(changed("AI1.OUT", 0, 0x56).contains("beyond its range"));
        assert!(changed("AI1.OUT", 0, 0x10).contains("bad, sensor failure"));
        let mut all = device(&[]);
        all.insert("RB.WRITE_LOCK".into(), vec![2]);
        let told = H1.causes(&setup(), "RB", &|space| all.get(space.name()).cloned()).join("; ");
        assert!(told.contains("write-locked"), "{told}");
    }

    fn judged(steps: &[(&str, &str)]) -> Vec<String> {
        let steps: Vec<(usize, SetUpStep)> = steps
            .iter()
            .enumerate()
            .map(|(at, (address, value))| (at, H1.step(&setup(), address, value).unwrap()))
            .collect();
        H1.judge(&setup(), &steps).into_iter().map(|own| format!("{} {}", own.step, own.what)).collect()
    }

    #[test]
    fn steps_that_cannot_bring_a_block_into_its_mode_are_told_from_the_file_alone() {
        let sound = [
            ("AI1.MODE_BLK.TARGET", "OOS"),
            ("AI1.XD_SCALE", "0..120 degC"),
            ("AI1.OUT_SCALE", "0..120 degC"),
            ("AI1.L_TYPE", "direct"),
            ("AI1.CHANNEL", "1"),
            ("AI1.MODE_BLK.TARGET", "AUTO"),
        ];
        assert_eq!(judged(&sound), Vec::<String>::new());
        for (at, value, told) in [
            (4, "0", "4 `AI1.CHANNEL` is 0"),
            (3, "uninitialised", "3 `AI1.L_TYPE` is uninitialised"),
            (2, "0..100 degC", "3 `AI1.L_TYPE` is direct"),
            (1, "0..120 kPa", "1 `AI1.XD_SCALE` is in kPa"),
            (1, "120..120 degC", "1 `AI1.XD_SCALE` (120..120 degC) has no span"),
            (5, "CAS", "5 `AI1` cannot be in CAS"),
            (5, "OOS", "5 the last mode of `AI1` is OOS"),
        ] {
            let mut steps = sound;
            steps[at].1 = value;
            let got = judged(&steps);
            assert!(got.iter().any(|own| own.starts_with(told)), "{told}: {got:?}");
        }
        // What the file does not say is not judged.
        assert_eq!(judged(&[("AI1.L_TYPE", "direct"), ("AI1.OUT_SCALE", "0..5 m")]), Vec::<String>::new());
    }

    #[test]
    fn a_step_says_what_is_written_and_what_stays() {
        let setup = setup();
        let step = H1.step(&setup, "AI1.XD_SCALE", "0..120 degC").unwrap();
        assert!(step.out_of_service && !step.is_mode);
        let mut present = vec![0; 11];
        present[10] = 2;
        assert!(!step.is_met(&present));
        let whole = step.whole(&present);
        assert!(step.is_met(&whole) && whole[10] == 2);
        assert_eq!(H1.shown(&step.space, &whole), "0..120 degC");
        for (address, value, told) in [
            ("AI1.BLOCK_ERR", "0", "read-only"),
            ("AI1.MODE_BLK.ACTUAL", "AUTO", "only the target"),
            ("AI1.XD_SCALE", "0..120", "not a scale"),
            ("AI9.CHANNEL", "1", "no block `AI9`"),
            ("AI1.CHANEL", "1", "is not a parameter"),
        ] {
            let fault = H1.step(&setup, address, value).unwrap_err();
            assert!(fault.what.contains(told), "{address}: {}", fault.what);
        }
    }
}
