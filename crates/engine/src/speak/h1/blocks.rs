//! Simulated devices that are made of blocks: what each block works out, in its mode, of what its transducer measures.

use super::writing;
use crate::Moment;
use crate::speak::{Behaviour, Measured, Memory, OnItsLine};
use woodrush_core::Refusal;
use woodrush_core::plan::Station;
use woodrush_core::project::DeviceFaults;
use woodrush_core::protocol::h1::words::{AUTO, CAS, CONFIGURATION, INVERT, MAN, OOS, OUT_OF_SERVICE};
use woodrush_core::protocol::h1::{
    AnalogInput, AnalogInputs, BlockKind, ParameterAccess, parameters, run, unit_code,
};
use woodrush_core::protocol::{Extent, SetUpStep, SpaceId};
use woodrush_wire::h1::kind;
use woodrush_wire::h1::status::Status;
use woodrush_wire::h1::structure::{Analog, Discrete, Scaling, Simulate};

/// A parameter of a block, and where it lies.
pub(super) struct SimParameter {
    pub(super) name: String,
    pub(super) space: SpaceId,
    pub(super) code: u8,
    bytes: u32,
    pub(super) access: ParameterAccess,
}

/// A block.
pub(super) struct SimBlock {
    pub(super) kind: BlockKind,
    all: Vec<SimParameter>,
    /// Units of each channel.
    channels: Vec<(u32, Vec<u16>)>,
    /// `PV` before it was rounded, of an analog input; what a controller has summed up.
    pub(super) state: Option<f64>,
}

impl SimBlock {
    pub(super) fn parameter_at(&self, space: SpaceId) -> Option<&SimParameter> {
        self.all.iter().find(|own| own.space == space)
    }

    pub(super) fn named(&self, name: &str) -> Option<&SimParameter> {
        self.all.iter().find(|own| own.name == name)
    }

    fn cells(&self, memory: &dyn Memory, name: &str) -> Option<Vec<u8>> {
        let own = self.named(name)?;
        memory.get(Extent { space: own.space, first: 0, count: own.bytes })
    }

    pub(super) fn byte(&self, memory: &dyn Memory, name: &str, at: usize) -> Option<u8> {
        self.cells(memory, name)?.get(at).copied()
    }

    pub(super) fn number(&self, memory: &dyn Memory, name: &str) -> u16 {
        let cells = self.cells(memory, name).unwrap_or_default();
        cells.iter().fold(0u16, |sum, byte| sum << 8 | u16::from(*byte))
    }

    pub(super) fn float(&self, memory: &dyn Memory, name: &str) -> f32 {
        let cells = self.cells(memory, name).unwrap_or_default();
        cells.try_into().map_or(0.0, f32::from_be_bytes)
    }

    pub(super) fn analog(&self, memory: &dyn Memory, name: &str) -> Analog {
        let cells = self.cells(memory, name).unwrap_or_default();
        Analog::parse(&cells).unwrap_or(Analog { status: Status::BAD, value: 0.0 })
    }

    pub(super) fn discrete(&self, memory: &dyn Memory, name: &str) -> Discrete {
        let cells = self.cells(memory, name).unwrap_or_default();
        Discrete::parse(&cells).unwrap_or(Discrete { status: Status::BAD, value: 0 })
    }

    pub(super) fn scale(&self, memory: &dyn Memory, name: &str) -> Scaling {
        let cells = self.cells(memory, name).unwrap_or_default();
        Scaling::parse(&cells).unwrap_or(Scaling { eu_100: 0.0, eu_0: 0.0, unit: 0, decimal: 0 })
    }

    pub(super) fn put(&self, memory: &mut dyn Memory, name: &str, first: u32, cells: &[u8]) {
        if let Some(own) = self.named(name) {
            let count = u32::try_from(cells.len()).unwrap_or(0);
            memory.put(Extent { space: own.space, first, count }, cells);
        }
    }

    pub(super) fn put_analog(&self, memory: &mut dyn Memory, name: &str, value: Analog) {
        let mut cells = vec![];
        value.emit(&mut cells);
        self.put(memory, name, 0, &cells);
    }

    /// The mode that the block is in, and what is wrong with it.
    pub(super) fn put_state(&self, memory: &mut dyn Memory, actual: u8, errors: u16) {
        self.put(memory, "MODE_BLK", 1, &[actual]);
        self.put(memory, "BLOCK_ERR", 0, &errors.to_be_bytes());
    }

    fn units(&self, channel: u16) -> Vec<u16> {
        let own = self.channels.iter().find(|(number, _)| *number == u32::from(channel));
        own.map(|(_, units)| units.clone()).unwrap_or_default()
    }

    /// As it leaves its maker: out of service, with nothing set.
    fn as_shipped(&self, memory: &mut dyn Memory) {
        let permitted = match self.kind {
            BlockKind::Resource | BlockKind::Transducer => OOS | AUTO,
            BlockKind::Ai | BlockKind::Di => OOS | MAN | AUTO,
            BlockKind::Ao | BlockKind::Do => OOS | MAN | AUTO | CAS | 0x02,
            BlockKind::Pid => OOS | MAN | AUTO | CAS | 0x03,
        };
        let is_input = !matches!(self.kind, BlockKind::Resource | BlockKind::Transducer);
        let target = if is_input { OOS } else { AUTO };
        self.put(memory, "MODE_BLK", 0, &[target, target, permitted, AUTO]);
        self.put(memory, "WRITE_LOCK", 0, &[1]);
        self.put(memory, "GRANT_DENY", 0, &[0, 0]);
        for name in ["CHANNEL", "L_TYPE"] {
            let bytes = self.named(name).map_or(0, |own| own.bytes as usize);
            self.put(memory, name, 0, &vec![0; bytes]);
        }
        self.scales(memory);
    }

    /// Scales that every block begins with.
    fn scales(&self, memory: &mut dyn Memory) {
        let mut cells = vec![];
        Scaling { eu_100: 100.0, eu_0: 0.0, unit: 1342, decimal: 1 }.emit(&mut cells);
        for own in self.all.iter().filter(|own| own.code == kind::DS_68) {
            self.put(memory, &own.name, 0, &cells);
        }
    }

    /// As it works, where the project does not say how: on its first channel, all of it, in automatic.
    fn working(&self, memory: &mut dyn Memory) {
        self.as_shipped(memory);
        self.put(memory, "CHANNEL", 0, &[0, 1]);
        self.put(memory, "L_TYPE", 0, &[1]);
        if let Some(unit) = self.units(1).first() {
            for name in ["XD_SCALE", "OUT_SCALE", "PV_SCALE"] {
                self.put(memory, name, 8, &unit.to_be_bytes());
            }
        }
        self.put(memory, "MODE_BLK", 0, &[AUTO, AUTO]);
        self.put(memory, "ST_REV", 0, &[0, 1]);
        for (name, limit) in [("SP_HI_LIM", 100.0f32), ("OUT_HI_LIM", 100.0), ("GAIN", 1.0), ("RESET", 10.0)]
        {
            self.put(memory, name, 0, &limit.to_be_bytes());
        }
        for name in ["SP", "OUT", "CAS_IN"].into_iter().filter(|_| self.kind != BlockKind::Ai) {
            self.put_analog(memory, name, Analog { status: Status::GOOD, value: 0.0 });
        }
        for name in ["SP_D", "OUT_D", "CAS_IN_D"] {
            self.put(memory, name, 0, &[Status::GOOD.0, 0]);
        }
    }
}

/// A device made of blocks.
pub(super) struct BlockBehaviour {
    blocks: Vec<SimBlock>,
    steps: Vec<(SpaceId, SetUpStep)>,
    last: Option<Moment>,
    /// How often it was put back to how it left its maker.
    shipped: u32,
    /// Its switch locks it.
    switched: bool,
}

impl BlockBehaviour {
    /// Of a station whose profile has blocks, set up as the project says.
    pub(super) fn of(station: &Station, steps: &[SetUpStep]) -> Option<Box<dyn Behaviour>> {
        let all = station.setup.blocks.as_deref()?;
        let mut blocks = vec![];
        for own in &all.blocks {
            let Some(kind) = BlockKind::of_word(&own.kind) else { continue };
            let parameter = |parameter: woodrush_core::protocol::h1::Parameter<'_>| {
                let space = station.spaces.id(&parameter.space().key)?;
                let bytes = parameter.ty.bytes.into();
                let name = parameter.name.to_string();
                Some(SimParameter { name, space, code: parameter.ty.code, bytes, access: parameter.access })
            };
            let channels = own
                .channels
                .iter()
                .map(|(number, units)| (*number, units.iter().filter_map(|unit| unit_code(unit)).collect()));
            let channels = channels.collect();
            blocks.push(SimBlock {
                kind,
                all: parameters(own).filter_map(parameter).collect(),
                channels,
                state: None,
            });
        }
        let steps = steps.iter().filter_map(|own| Some((station.spaces.id(&own.space.key)?, own.clone())));
        Some(Box::new(Self { blocks, steps: steps.collect(), last: None, shipped: 0, switched: false }))
    }

    /// The values that transducers measure, in the order of their channels: block and parameter.
    fn measured_at(&self) -> impl Iterator<Item = (&SimBlock, &SimParameter)> {
        let transducers = self.blocks.iter().filter(|own| own.kind == BlockKind::Transducer);
        let of = |own: &SimParameter| matches!(own.code, kind::DS_65 | kind::DS_66);
        transducers.flat_map(move |own| own.all.iter().filter(move |one| of(one)).map(move |one| (own, one)))
    }

    /// What the transducer says on a channel.
    fn measured(&self, memory: &dyn Memory, channel: u16, faults: &DeviceFaults) -> Analog {
        let at = usize::from(channel).checked_sub(1);
        let found = at.and_then(|at| self.measured_at().nth(at));
        let mut value = match found {
            Some((block, own)) if own.code == kind::DS_65 => block.analog(memory, &own.name),
            Some((block, own)) => {
                let own = block.discrete(memory, &own.name);
                Analog { status: own.status, value: own.value.into() }
            }
            None => Analog { status: Status::GOOD, value: 0.0 },
        };
        value.status = faults.bad_status.map_or(Status::GOOD, Status);
        value
    }

    fn is_out(&self, memory: &dyn Memory, kind: BlockKind) -> bool {
        let own = self.blocks.iter().find(|own| own.kind == kind);
        own.is_some_and(|own| own.byte(memory, "MODE_BLK", 1).is_some_and(|mode| mode & OOS != 0))
    }

    fn set_up(&self, memory: &mut dyn Memory) {
        for own in &self.blocks {
            own.working(memory);
        }
        for (space, step) in &self.steps {
            let whole = Extent { space: *space, first: 0, count: step.space.len.unwrap_or(0) };
            if let Some(present) = memory.get(whole) {
                memory.put(whole, &step.whole(&present));
            }
        }
    }
}

impl SimBlock {
    fn run_analog_input(
        &mut self,
        memory: &mut dyn Memory,
        transducer: Analog,
        out: (bool, bool),
        elapsed: f64,
    ) {
        let channel = self.number(memory, "CHANNEL");
        let units = self.units(channel);
        let block = AnalogInput {
            target: self.byte(memory, "MODE_BLK", 0).unwrap_or(OOS),
            l_type: self.byte(memory, "L_TYPE", 0).unwrap_or(0),
            channel,
            xd_scale: self.scale(memory, "XD_SCALE"),
            out_scale: self.scale(memory, "OUT_SCALE"),
            io_opts: self.number(memory, "IO_OPTS"),
            status_opts: self.number(memory, "STATUS_OPTS"),
            low_cut: self.float(memory, "LOW_CUT"),
            pv_ftime: self.float(memory, "PV_FTIME"),
            units: &units,
        };
        let simulate = self.cells(memory, "SIMULATE").and_then(|own| Simulate::parse(&own).ok());
        let inputs = AnalogInputs {
            transducer,
            simulated: simulate.filter(|own| own.enable == 2).map(|own| own.simulated),
            transducer_out: out.1,
            resource_out: out.0,
            out: self.analog(memory, "OUT").value,
            filtered: self.state,
            elapsed,
        };
        let got = run(&block, &inputs);
        self.state = got.pv;
        self.put_state(memory, got.actual, got.errors);
        self.put_analog(memory, "OUT", got.out);
        #[allow(clippy::cast_possible_truncation, reason = "the standard publishes single precision")]
        let single =
            |value: Option<f64>| Analog { status: got.out.status, value: value.unwrap_or(0.0) as f32 };
        self.put_analog(memory, "PV", single(got.pv));
        self.put_analog(memory, "FIELD_VAL", single(got.field_val));
        let simulate = Simulate {
            transducer,
            ..simulate.unwrap_or(Simulate { simulated: transducer, transducer, enable: 1 })
        };
        let mut cells = vec![];
        simulate.emit(&mut cells);
        self.put(memory, "SIMULATE", 5, cells.get(5..10).unwrap_or_default());
    }

    /// Whether the block cannot work as it is set, or with the resource block out of service.
    pub(super) fn out_of_service(&self, memory: &mut dyn Memory, resource_out: bool, out: &str) -> bool {
        let target = self.byte(memory, "MODE_BLK", 0).unwrap_or(OOS);
        let scale = |name: &str| self.named(name).map(|_| self.scale(memory, name));
        let no_span = ["PV_SCALE", "XD_SCALE", "OUT_SCALE"]
            .into_iter()
            .filter_map(scale)
            .any(|own| own.eu_0.total_cmp(&own.eu_100).is_eq());
        let no_channel = self.named("CHANNEL").is_some() && self.number(memory, "CHANNEL") == 0;
        let misconfigured = no_span || no_channel;
        if !misconfigured && !resource_out && target & OOS == 0 {
            return false;
        }
        self.put_state(memory, OOS, OUT_OF_SERVICE | if misconfigured { CONFIGURATION } else { 0 });
        self.put(memory, out, 0, &[Status::OUT_OF_SERVICE.0]);
        true
    }

    fn run_discrete_input(&self, memory: &mut dyn Memory, transducer: Analog, resource_out: bool) {
        if self.out_of_service(memory, resource_out, "OUT_D") {
            return;
        }
        let on = transducer.value != 0.0;
        let on = on != (self.number(memory, "IO_OPTS") & INVERT != 0);
        let pv = [transducer.status.0, u8::from(on)];
        self.put(memory, "PV_D", 0, &pv);
        self.put(memory, "FIELD_VAL_D", 0, &[transducer.status.0, u8::from(transducer.value != 0.0)]);
        let manual = self.byte(memory, "MODE_BLK", 0).unwrap_or(0) & MAN != 0;
        if manual {
            self.put(memory, "OUT_D", 0, &[Status::GOOD_CONSTANT.0]);
        } else {
            self.put(memory, "OUT_D", 0, &pv);
        }
        self.put_state(memory, if manual { MAN } else { AUTO }, 0);
    }
}

impl Behaviour for BlockBehaviour {
    fn begin(&mut self, memory: &mut dyn Memory) {
        self.set_up(memory);
        for (block, own) in self.measured_at() {
            block.put(memory, &own.name, 0, &[Status::GOOD.0]);
        }
    }

    fn measures(&self, memory: &dyn Memory) -> Vec<Measured> {
        let inputs: Vec<&SimBlock> = self.blocks.iter().filter(|own| own.kind == BlockKind::Ai).collect();
        let range = |channel: usize| {
            let uses = |own: &&&SimBlock| usize::from(own.number(memory, "CHANNEL")) == channel + 1;
            let scale = inputs.iter().find(uses).map(|own| own.scale(memory, "XD_SCALE"));
            scale.map_or((0.0, 100.0), |own| (f64::from(own.eu_0), f64::from(own.eu_100)))
        };
        let at = |(channel, (_, own)): (usize, (&SimBlock, &SimParameter))| {
            let (count, range) = if own.code == kind::DS_65 { (4, range(channel)) } else { (1, (0.0, 1.0)) };
            Measured { extent: Extent { space: own.space, first: 1, count }, range }
        };
        self.measured_at().enumerate().map(at).collect()
    }

    fn computes(&self, extent: Extent) -> bool {
        let own = self.blocks.iter().find_map(|own| Some((own.kind, own.parameter_at(extent.space)?)));
        own.is_some_and(|(kind, own)| {
            let worked_out =
                ["PV", "OUT", "FIELD_VAL", "READBACK", "BKCAL_OUT", "PV_D", "OUT_D", "FIELD_VAL_D"];
            let state = ["MODE_BLK", "BLOCK_ERR", "ST_REV", "SIMULATE"];
            kind != BlockKind::Transducer && worked_out.contains(&own.name.as_str())
                || state.contains(&own.name.as_str())
                || extent.first == 0 && matches!(own.code, kind::DS_65 | kind::DS_66)
        })
    }

    fn advance(&mut self, now: Moment, faults: &DeviceFaults, memory: &mut dyn Memory) {
        if faults.as_shipped != self.shipped {
            self.shipped = faults.as_shipped;
            match self.shipped {
                0 => self.set_up(memory),
                _ => self.blocks.iter().for_each(|own| own.as_shipped(memory)),
            }
        }
        let elapsed = self.last.map_or(0, |last| now.since(last)) as f64 / 1e6;
        self.last = Some(now);
        // First the device as a whole, then what others depend on.
        for own in
            self.blocks.iter().filter(|own| matches!(own.kind, BlockKind::Resource | BlockKind::Transducer))
        {
            let target = own.byte(memory, "MODE_BLK", 0).unwrap_or(AUTO);
            let out = target & OOS != 0 || faults.out_of_service && own.kind == BlockKind::Resource;
            let errors = if out { OUT_OF_SERVICE } else { 0 };
            own.put_state(memory, if out { OOS } else { AUTO }, errors);
            if own.kind == BlockKind::Resource && faults.write_lock != self.switched {
                own.put(memory, "WRITE_LOCK", 0, &[if faults.write_lock { 2 } else { 1 }]);
            }
        }
        // What no schedule runs, stands still as if the device were out of service.
        let resource_out = self.is_out(memory, BlockKind::Resource) || faults.unscheduled;
        self.switched = faults.write_lock;
        let transducer_out = self.is_out(memory, BlockKind::Transducer);
        let mut linked = None;
        let order = [BlockKind::Ai, BlockKind::Di, BlockKind::Pid, BlockKind::Ao, BlockKind::Do];
        for wanted in order {
            for at in 0..self.blocks.len() {
                let Some(channel) = self
                    .blocks
                    .get(at)
                    .filter(|own| own.kind == wanted)
                    .map(|own| own.number(memory, "CHANNEL"))
                else {
                    continue;
                };
                let transducer = self.measured(memory, channel, faults);
                let Some(own) = self.blocks.get_mut(at) else { continue };
                match wanted {
                    BlockKind::Ai => {
                        own.run_analog_input(memory, transducer, (resource_out, transducer_out), elapsed);
                        linked = linked.or(Some(own.analog(memory, "OUT")));
                    }
                    BlockKind::Di => own.run_discrete_input(memory, transducer, resource_out),
                    BlockKind::Pid => own.run_controller(memory, linked, resource_out, elapsed),
                    BlockKind::Ao => own.run_analog_output(memory, resource_out),
                    _ => own.run_discrete_output(memory, resource_out),
                }
            }
        }
    }

    fn may_write(
        &self,
        extent: Extent,
        cells: &[u8],
        faults: &DeviceFaults,
        memory: &dyn Memory,
    ) -> Result<(), Refusal> {
        writing::may_write(&self.blocks, extent, cells, faults, memory)
    }

    fn wrote(&mut self, extent: Extent, memory: &mut dyn Memory) -> Option<OnItsLine> {
        let block = self.blocks.iter().find(|own| own.parameter_at(extent.space).is_some())?;
        let own = block.parameter_at(extent.space)?;
        if matches!(own.access, ParameterAccess::Static | ParameterAccess::OutOfService) {
            let revision = block.number(memory, "ST_REV").wrapping_add(1);
            block.put(memory, "ST_REV", 0, &revision.to_be_bytes());
        }
        // What is written as a value alone is a good one.
        if matches!(own.code, kind::DS_65 | kind::DS_66) && extent.first == 1 {
            block.put(memory, &own.name, 0, &[Status::GOOD.0]);
        }
        // It stays where it is: another node or tag is the link's to give.
        None
    }
}
