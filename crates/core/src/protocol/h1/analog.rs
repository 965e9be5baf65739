//! What an analog input block makes of what its transducer measures, and what keeps it from doing so.

use super::words::{
    AUTO, BAD_IF_LIMITED, CONFIGURATION, INPUT_FAILURE, LOW_CUTOFF, MAN, OOS, OUT_OF_SERVICE, SIMULATING,
    UNCERTAIN_IF_LIMITED,
};
use woodrush_wire::h1::status::{Quality, Status};
use woodrush_wire::h1::structure::{Analog, Scaling};

/// How an analog input block is set.
#[derive(Debug, Clone, Copy)]
pub struct AnalogInput<'u> {
    /// The mode that is wanted.
    pub target: u8,
    /// 1 direct, 2 indirect, 3 indirect square root; 0 nothing yet.
    pub l_type: u8,
    /// The transducer's value that it works on; 0 none.
    pub channel: u16,
    /// What the transducer measures.
    pub xd_scale: Scaling,
    /// What the block gives.
    pub out_scale: Scaling,
    /// `IO_OPTS`.
    pub io_opts: u16,
    /// `STATUS_OPTS`.
    pub status_opts: u16,
    /// Below this percentage an input counts as none, where `IO_OPTS` says so.
    pub low_cut: f32,
    /// The time constant of the filter of `PV`, in seconds.
    pub pv_ftime: f32,
    /// The units that the channel has; none where that is not known.
    pub units: &'u [u16],
}

/// Why a block cannot work as it is set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ConfigurationFault {
    /// `CHANNEL` is 0.
    NoChannel,
    /// `L_TYPE` is 0.
    NoLinearisation,
    /// `L_TYPE` is direct, and the scales differ.
    ScalesDiffer,
    /// A scale has the same value at both ends.
    NoSpan,
    /// The unit of `XD_SCALE` is none that the channel has.
    UnitOfChannel,
}

/// What keeps a block so set from working; `None` where nothing does.
#[must_use]
pub fn configuration_fault(block: &AnalogInput<'_>) -> Option<ConfigurationFault> {
    let AnalogInput { xd_scale: xd, out_scale: out, .. } = block;
    let same = |one: &Scaling, other: &Scaling| {
        [(one.eu_0, other.eu_0), (one.eu_100, other.eu_100)].into_iter().all(|(a, b)| is_same(a, b))
            && one.unit == other.unit
    };
    let has_no_span = |scale: &Scaling| is_same(scale.eu_0, scale.eu_100);
    match block {
        AnalogInput { channel: 0, .. } => Some(ConfigurationFault::NoChannel),
        AnalogInput { l_type: 0, .. } => Some(ConfigurationFault::NoLinearisation),
        _ if !block.units.is_empty() && !block.units.contains(&xd.unit) => {
            Some(ConfigurationFault::UnitOfChannel)
        }
        _ if has_no_span(xd) || has_no_span(out) => Some(ConfigurationFault::NoSpan),
        AnalogInput { l_type: 1, .. } if !same(xd, out) => Some(ConfigurationFault::ScalesDiffer),
        _ => None,
    }
}

/// Whether two ends of a scale are one number; 0 has two signs.
fn is_same(one: f32, other: f32) -> bool {
    (one + 0.0).to_bits() == (other + 0.0).to_bits()
}

/// What the block works on.
#[derive(Debug, Clone, Copy)]
pub struct AnalogInputs {
    /// What the transducer says.
    pub transducer: Analog,
    /// What it takes in its place, while simulation is on.
    pub simulated: Option<Analog>,
    /// The transducer block is out of service.
    pub transducer_out: bool,
    /// The resource block is out of service.
    pub resource_out: bool,
    /// What `OUT` is: in manual somebody wrote it, out of service it stays.
    pub out: f32,
    /// `PV` after the last run, before it was rounded; `None` before the first.
    pub filtered: Option<f64>,
    /// Time since the last run, in seconds.
    pub elapsed: f64,
}

/// What a run of the block gives.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct AnalogRun {
    /// The mode that the block is in.
    pub actual: u8,
    /// The input in percent of `XD_SCALE`; `None` where the block does not work.
    pub field_val: Option<f64>,
    /// `PV`, before it is rounded.
    pub pv: Option<f64>,
    /// `OUT`.
    pub out: Analog,
    /// `BLOCK_ERR`.
    pub errors: u16,
}

/// Runs the block once.
#[must_use]
pub fn run(block: &AnalogInput<'_>, inputs: &AnalogInputs) -> AnalogRun {
    let misconfigured = configuration_fault(block).is_some();
    if misconfigured || inputs.resource_out || block.target & OOS != 0 {
        let errors = OUT_OF_SERVICE | if misconfigured { CONFIGURATION } else { 0 };
        let out = Analog { status: Status::OUT_OF_SERVICE, value: inputs.out };
        return AnalogRun { actual: OOS, field_val: None, pv: None, out, errors };
    }
    let (raw, simulating) = match inputs.simulated {
        Some(simulated) => (simulated, true),
        None => (inputs.transducer, false),
    };
    let ends = |scale: &Scaling| (f64::from(scale.eu_0), f64::from(scale.eu_100));
    let ((xd_0, xd_100), (out_0, out_100)) = (ends(&block.xd_scale), ends(&block.out_scale));
    let field_val = 100.0 * (f64::from(raw.value) - xd_0) / (xd_100 - xd_0);
    let low = block.io_opts & LOW_CUTOFF != 0 && field_val < f64::from(block.low_cut);
    let share = if low { 0.0 } else { field_val / 100.0 };
    let made = match block.l_type {
        1 => f64::from(raw.value),
        2 => out_0 + share * (out_100 - out_0),
        _ => out_0 + share.max(0.0).sqrt() * (out_100 - out_0),
    };
    let pv = match inputs.filtered.filter(|_| block.pv_ftime > 0.0) {
        Some(before) => {
            before + (made - before) * (1.0 - (-inputs.elapsed / f64::from(block.pv_ftime)).exp())
        }
        None => made,
    };
    let mut status = if inputs.transducer_out && !simulating { Status::OUT_OF_SERVICE } else { raw.status };
    let mut errors = if simulating { SIMULATING } else { 0 };
    if status.quality() == Quality::Bad {
        errors |= INPUT_FAILURE;
    } else if status.limits() != 0 {
        if block.status_opts & BAD_IF_LIMITED != 0 {
            status = status.with_quality(Quality::Bad);
        } else if block.status_opts & UNCERTAIN_IF_LIMITED != 0 {
            status = status.with_quality(Quality::Uncertain);
        }
    }
    let manual = block.target & MAN != 0;
    let out = if manual {
        Analog { status: Status::GOOD_CONSTANT, value: inputs.out }
    } else {
        #[allow(clippy::cast_possible_truncation, reason = "the standard publishes single precision")]
        let value = pv as f32;
        Analog { status, value }
    };
    let actual = if manual { MAN } else { AUTO };
    AnalogRun { actual, field_val: Some(field_val), pv: Some(pv), out, errors }
}

#[cfg(test)]
mod tests {
    use super::super::words::{CAS, errors_shown};
    use super::*;
    use serde::Deserialize;

    #[derive(Deserialize)]
    struct Case {
        name: String,
        raw: f32,
        raw_status: u8,
        actual: String,
        field_val: Option<f64>,
        out: f32,
        status: u8,
        block_err: Vec<String>,
        block: Block,
        #[serde(default)]
        rb_oos: bool,
        #[serde(default)]
        tb_oos: bool,
        sim: Option<(f32, u8)>,
    }

    #[derive(Deserialize)]
    struct Block {
        l_type: u8,
        channel: u16,
        xd_scale: (f32, f32, u16),
        out_scale: (f32, f32, u16),
        target: String,
        #[serde(default)]
        low_cut_on: bool,
        #[serde(default)]
        low_cut: f32,
        #[serde(default)]
        man_out: f32,
        channel_unit: Option<u16>,
        #[serde(default)]
        uncertain_if_limited: bool,
    }

    /// The reference's cases, each to the last bit of what is published.
    #[test]
    fn every_computed_case_comes_out_to_the_last_bit() {
        let cases: Vec<serde_json::Value> =
            serde_json::from_str(include_str!("../../../testdata/vectors-h1-ai.json")).unwrap();
        assert_eq!(cases.len(), 20);
        for case in cases {
            // What is not the block's own may stand in either place.
            let mut flat = case.clone();
            for key in ["rb_oos", "tb_oos", "sim"] {
                if let Some(value) = case["block"].get(key) {
                    flat[key] = value.clone();
                }
            }
            let case: Case = serde_json::from_value(flat).unwrap();
            let scale = |(eu_100, eu_0, unit)| Scaling { eu_100, eu_0, unit, decimal: 0 };
            let units: Vec<u16> = case.block.channel_unit.into_iter().collect();
            let block = AnalogInput {
                target: if case.block.target == "MAN" { MAN } else { AUTO },
                l_type: case.block.l_type,
                channel: case.block.channel,
                xd_scale: scale(case.block.xd_scale),
                out_scale: scale(case.block.out_scale),
                io_opts: if case.block.low_cut_on { LOW_CUTOFF } else { 0 },
                status_opts: if case.block.uncertain_if_limited { UNCERTAIN_IF_LIMITED } else { 0 },
                low_cut: case.block.low_cut,
                pv_ftime: 0.0,
                units: &units,
            };
            let inputs = AnalogInputs {
                transducer: Analog { status: Status(case.raw_status), value: case.raw },
                simulated: case.sim.map(|(value, status)| Analog { status: Status(status), value }),
                transducer_out: case.tb_oos,
                resource_out: case.rb_oos,
                out: case.block.man_out,
                filtered: None,
                elapsed: 1.0,
            };
            let got = run(&block, &inputs);
            let name = &case.name;
            let mode = match case.actual.as_str() {
                "AUTO" => AUTO,
                "MAN" => MAN,
                _ => OOS,
            };
            assert_eq!(got.actual, mode, "{name}");
            assert_eq!(got.field_val, case.field_val, "{name}");
            assert_eq!(got.out.value.to_bits(), case.out.to_bits(), "{name}: {}", got.out.value);
            assert_eq!(got.out.status, Status(case.status), "{name}");
            let errors = case.block_err.join(", ").replace('_', " ");
            let errors = if errors.is_empty() { "no error".into() } else { errors };
            assert_eq!(errors_shown(got.errors), errors, "{name}");
        }
    }

    #[test]
    fn a_filter_comes_closer_by_its_time_constant() {
        let scale = Scaling { eu_100: 100.0, eu_0: 0.0, unit: 1342, decimal: 0 };
        let block = AnalogInput {
            target: AUTO,
            l_type: 1,
            channel: 1,
            xd_scale: scale,
            out_scale: scale,
            io_opts: 0,
            status_opts: 0,
            low_cut: 0.0,
            pv_ftime: 2.0,
            units: &[],
        };
        let mut inputs = AnalogInputs {
            transducer: Analog { status: Status::GOOD, value: 100.0 },
            simulated: None,
            transducer_out: false,
            resource_out: false,
            out: 0.0,
            filtered: Some(0.0),
            elapsed: 1.0,
        };
        for wanted in [39.35, 63.21, 77.69, 86.47] {
            let got = run(&block, &inputs);
            assert!((f64::from(got.out.value) - wanted).abs() < 0.005, "{}", got.out.value);
            inputs.filtered = got.pv;
        }
        assert_eq!(configuration_fault(&AnalogInput { l_type: 1, ..block }), None);
        let bad = AnalogInput { status_opts: BAD_IF_LIMITED, target: AUTO | CAS, ..block };
        inputs.transducer.status = Status(0x82);
        assert_eq!(run(&bad, &inputs).out.status, Status(0x02));
    }
}
