//! What simulated output blocks and controllers work out: the set point that counts, and what they make of it.

use super::blocks::SimBlock;
use crate::speak::Memory;
use woodrush_core::protocol::h1::words::{AUTO, CAS, INVERT, MAN, OOS};
use woodrush_wire::h1::status::{Quality, Status};
use woodrush_wire::h1::structure::Analog;

impl SimBlock {
    /// The set point that counts: that of the other block in cascade, where that is good.
    fn set_point(&self, memory: &mut dyn Memory) -> (u8, Analog) {
        let target = self.byte(memory, "MODE_BLK", 0).unwrap_or(OOS);
        let cascade = self.analog(memory, "CAS_IN");
        if target & CAS != 0 && cascade.status.quality() >= Quality::Good {
            self.put_analog(memory, "SP", cascade);
            return (CAS, cascade);
        }
        let mode = if target & MAN != 0 { MAN } else { AUTO };
        (mode, self.analog(memory, "SP"))
    }

    pub(super) fn run_analog_output(&self, memory: &mut dyn Memory, resource_out: bool) {
        if self.out_of_service(memory, resource_out, "OUT") {
            return;
        }
        let (mode, set_point) = self.set_point(memory);
        let (pv, xd) = (self.scale(memory, "PV_SCALE"), self.scale(memory, "XD_SCALE"));
        let (low, high) = (self.float(memory, "SP_LO_LIM"), self.float(memory, "SP_HI_LIM"));
        if mode != MAN {
            let value = if low < high { set_point.value.clamp(low, high) } else { set_point.value };
            let share = (value - pv.eu_0) / (pv.eu_100 - pv.eu_0);
            let out = xd.eu_0 + share * (xd.eu_100 - xd.eu_0);
            self.put_analog(memory, "OUT", Analog { status: Status(0xC0), value: out });
        }
        let out = self.analog(memory, "OUT");
        let out = Analog { status: if mode == MAN { Status::GOOD_CONSTANT } else { out.status }, ..out };
        self.put_analog(memory, "OUT", out);
        self.put_analog(memory, "READBACK", Analog { status: Status::GOOD, ..out });
        let share = (out.value - xd.eu_0) / (xd.eu_100 - xd.eu_0);
        let back = Analog { status: Status::GOOD, value: pv.eu_0 + share * (pv.eu_100 - pv.eu_0) };
        self.put_analog(memory, "PV", back);
        self.put_analog(memory, "BKCAL_OUT", Analog { status: Status(0xC0), ..back });
        self.put_state(memory, mode, 0);
    }

    pub(super) fn run_discrete_output(&self, memory: &mut dyn Memory, resource_out: bool) {
        if self.out_of_service(memory, resource_out, "OUT_D") {
            return;
        }
        let target = self.byte(memory, "MODE_BLK", 0).unwrap_or(OOS);
        let cascade = self.discrete(memory, "CAS_IN_D");
        let mode = match target {
            own if own & MAN != 0 => MAN,
            own if own & CAS != 0 && cascade.status.quality() >= Quality::Good => CAS,
            _ => AUTO,
        };
        if mode == CAS {
            self.put(memory, "SP_D", 0, &[cascade.status.0, cascade.value]);
        }
        let set_point = self.discrete(memory, "SP_D");
        if mode == MAN {
            self.put(memory, "OUT_D", 0, &[Status::GOOD_CONSTANT.0]);
        } else {
            let invert = self.number(memory, "IO_OPTS") & INVERT != 0;
            let value = if invert { u8::from(set_point.value == 0) } else { set_point.value };
            self.put(memory, "OUT_D", 0, &[0xC0, value]);
        }
        let value = self.discrete(memory, "OUT_D").value;
        self.put(memory, "READBACK_D", 0, &[Status::GOOD.0, value]);
        self.put(memory, "PV_D", 0, &[Status::GOOD.0, set_point.value]);
        self.put(memory, "BKCAL_OUT_D", 0, &[0xC0, set_point.value]);
        self.put_state(memory, mode, 0);
    }

    pub(super) fn run_controller(
        &mut self,
        memory: &mut dyn Memory,
        linked: Option<Analog>,
        resource_out: bool,
        elapsed: f64,
    ) {
        if self.out_of_service(memory, resource_out, "OUT") {
            return;
        }
        let mut input = self.analog(memory, "IN");
        // Where nobody writes it, it comes from the analog input of the same device.
        if let Some(linked) = linked.filter(|_| input.status == Status::BAD) {
            input = linked;
        }
        self.put_analog(memory, "PV", input);
        let (mode, set_point) = self.set_point(memory);
        let (low, high) =
            (f64::from(self.float(memory, "OUT_LO_LIM")), f64::from(self.float(memory, "OUT_HI_LIM")));
        if mode == MAN {
            let out = self.analog(memory, "OUT");
            self.state = Some(out.value.into());
            self.put_analog(memory, "OUT", Analog { status: Status::GOOD_CONSTANT, ..out });
        } else if input.status.quality() >= Quality::Good {
            let error = f64::from(set_point.value) - f64::from(input.value);
            let (gain, reset) =
                (f64::from(self.float(memory, "GAIN")), f64::from(self.float(memory, "RESET")));
            let step = if reset > 0.0 { gain * error * elapsed / reset } else { 0.0 };
            let summed = (self.state.unwrap_or(0.0) + step).clamp(low.min(high), high.max(low));
            self.state = Some(summed);
            #[allow(clippy::cast_possible_truncation, reason = "the standard publishes single precision")]
            let value = (gain * error + summed).clamp(low.min(high), high.max(low)) as f32;
            self.put_analog(memory, "OUT", Analog { status: Status(0xC0), value });
        } else {
            self.put(memory, "OUT", 0, &[input.status.0]);
        }
        self.put_analog(memory, "BKCAL_OUT", Analog { status: Status(0xC0), value: set_point.value });
        self.put_state(memory, mode, 0);
    }
}
