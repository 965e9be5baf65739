//! A simulated device of all kinds of blocks: what each makes of modes, scales, limits and statuses, and which writes it takes.

use super::super::blocks::BlockBehaviour;
use crate::Moment;
use crate::speak::{Behaviour, Memory};
use std::collections::HashMap;
use std::sync::Arc;
use woodrush_core::Refusal;
use woodrush_core::plan::Station;
use woodrush_core::project::DeviceFaults;
use woodrush_core::protocol::h1::link_code;
use woodrush_core::protocol::{BlockParameter, DeviceBlock, DeviceBlocks, Extent, Setup, SpaceId, dialect};
use woodrush_wire::h1::error;

const SECOND: u64 = 1_000_000;

/// Cells of all parameters.
struct Cells(HashMap<SpaceId, Vec<u8>>);

impl Memory for Cells {
    fn get(&self, extent: Extent) -> Option<Vec<u8>> {
        self.0.get(&extent.space)?.get(extent.first as usize..extent.end() as usize).map(<[u8]>::to_vec)
    }

    fn put(&mut self, extent: Extent, cells: &[u8]) {
        let first = extent.first as usize;
        self.0.get_mut(&extent.space).unwrap()[first..first + cells.len()].copy_from_slice(cells);
    }
}

/// A device with its transducer values, and an hour of its own.
struct Device {
    behaviour: Box<dyn Behaviour>,
    station: Station,
    cells: Cells,
    faults: DeviceFaults,
    now: Moment,
}

fn blocks() -> DeviceBlocks {
    let value = |name: &str, place, ty: &str| BlockParameter {
        name: name.into(),
        place,
        type_name: ty.into(),
        read_write: true,
    };
    let block = |name: &str, kind: &str, start| DeviceBlock {
        name: name.into(),
        kind: kind.into(),
        start,
        execution: None,
        channels: vec![(1, vec!["degC".into()]), (2, vec![])],
        parameters: vec![],
    };
    let transducer = DeviceBlock {
        parameters: vec![value("PRIMARY_VALUE", 14, "DS-65"), value("SWITCH", 15, "DS-66")],
        channels: vec![],
        ..block("TB", "TRANSDUCER", 400)
    };
    let all = [
        ("AI1", "AI", 500),
        ("DI1", "DI", 600),
        ("AO1", "AO", 700),
        ("DO1", "DO", 800),
        ("PID1", "PID", 900),
    ];
    let rest = all.map(|(name, kind, start)| block(name, kind, start));
    let blocks = [block("RB", "RESOURCE", 300), transducer].into_iter().chain(rest).collect();
    DeviceBlocks { blocks, ..DeviceBlocks::default() }
}

impl Device {
    fn new() -> Self {
        let own = dialect("h1-link").unwrap();
        let setup = Setup {
            words: vec![("tag", "TT-101".into())],
            blocks: Some(Arc::new(blocks())),
            ..Setup::default()
        };
        let mut station = Station::bare("tt-101", own, setup);
        let all = own.notation().named(&station.setup);
        let spaces: Vec<_> = all.iter().map(|(space, _)| space.clone()).collect();
        station.spaces = Arc::new(spaces.iter().collect());
        let cells = station.spaces.with_ids().map(|(id, space)| (id, vec![0; space.len.unwrap() as usize]));
        let mut cells = Cells(cells.collect());
        let mut behaviour = BlockBehaviour::of(&station, &[]).unwrap();
        behaviour.begin(&mut cells);
        let mut device =
            Self { behaviour, station, cells, faults: DeviceFaults::default(), now: Moment(SECOND) };
        device.run(1);
        device
    }

    fn run(&mut self, seconds: u64) {
        self.now = self.now + seconds * SECOND;
        self.behaviour.advance(self.now, &self.faults, &mut self.cells);
    }

    fn extent(&self, name: &str, first: u32, count: u32) -> Extent {
        let found = self.station.spaces.with_ids().find(|(_, space)| space.name() == name);
        Extent { space: found.unwrap_or_else(|| panic!("{name}")).0, first, count }
    }

    fn bytes(&self, name: &str, first: u32, count: u32) -> Vec<u8> {
        self.cells.get(self.extent(name, first, count)).unwrap()
    }

    fn float(&self, name: &str, first: u32) -> f32 {
        f32::from_be_bytes(self.bytes(name, first, 4).try_into().unwrap())
    }

    fn byte(&self, name: &str, first: u32) -> u8 {
        self.bytes(name, first, 1)[0]
    }

    /// Writes as a client does; the class and code of the refusal where it is refused.
    fn write(&mut self, name: &str, first: u32, cells: &[u8]) -> Result<(), u32> {
        let extent = self.extent(name, first, u32::try_from(cells.len()).unwrap());
        let code = |refusal: Refusal| refusal.native.unwrap().1;
        self.behaviour.may_write(extent, cells, &self.faults, &self.cells).map_err(code)?;
        self.cells.put(extent, cells);
        self.behaviour.wrote(extent, &mut self.cells);
        self.run(1);
        Ok(())
    }

    fn set(&mut self, name: &str, first: u32, cells: &[u8]) {
        assert_eq!(self.write(name, first, cells), Ok(()), "{name}");
    }

    /// What the transducer measures.
    fn measure(&mut self, value: f32) {
        let at = self.extent("TB.PRIMARY_VALUE", 1, 4);
        self.cells.put(at, &value.to_be_bytes());
        self.run(1);
    }
}

fn code((class, code): (u8, u8)) -> u32 {
    link_code(class, code)
}

/// A parameter, the first byte, what is written there, and the error that it gives.
type RefusedWrite<'c> = (&'static str, u32, &'c [u8], (u8, u8));

const OOS: u8 = 0x80;
const MAN: u8 = 0x10;
const AUTO: u8 = 0x08;
const CAS: u8 = 0x04;

#[test]
fn an_analog_input_shows_what_is_measured_as_its_mode_says() {
    let mut device = Device::new();
    device.measure(21.5);
    assert_eq!((device.byte("AI1.OUT", 0), device.float("AI1.OUT", 1)), (0x80, 21.5));
    assert_eq!(device.float("AI1.PV", 1), 21.5);
    // In manual it keeps what somebody wrote, and says that nothing moves it.
    device.set("AI1.MODE_BLK", 0, &[MAN]);
    device.set("AI1.OUT", 1, &5f32.to_be_bytes());
    device.measure(30.0);
    assert_eq!((device.byte("AI1.OUT", 0) & 0xC3, device.float("AI1.OUT", 1)), (0x83, 5.0));
    assert_eq!(device.float("AI1.PV", 1), 30.0, "what is measured is still there");
    device.set("AI1.MODE_BLK", 0, &[OOS]);
    assert_eq!(device.byte("AI1.OUT", 0), 0x1C, "bad, out of service");
    assert_eq!(device.bytes("AI1.BLOCK_ERR", 0, 2), [0x80, 0x00]);
    device.set("AI1.MODE_BLK", 0, &[AUTO]);
    assert_eq!((device.byte("AI1.OUT", 0), device.float("AI1.OUT", 1)), (0x80, 30.0));
}

#[test]
fn a_simulated_value_takes_the_place_of_the_measured_one_and_the_block_says_so() {
    let mut device = Device::new();
    device.measure(21.5);
    let simulated = [&[0x80], 77f32.to_be_bytes().as_slice()].concat();
    device.set("AI1.SIMULATE", 0, &simulated);
    device.set("AI1.SIMULATE", 10, &[2]);
    assert_eq!(device.float("AI1.OUT", 1), 77.0);
    assert_eq!(device.bytes("AI1.BLOCK_ERR", 0, 2), [0x00, 0x08]);
    assert_eq!(
        device.bytes("AI1.SIMULATE", 6, 4),
        21.5f32.to_be_bytes(),
        "what the transducer says stands beside it"
    );
    device.set("AI1.SIMULATE", 10, &[1]);
    assert_eq!((device.float("AI1.OUT", 1), device.bytes("AI1.BLOCK_ERR", 0, 2)), (21.5, vec![0, 0]));
}

#[test]
fn faults_of_the_device_are_seen_in_its_blocks() {
    let mut device = Device::new();
    device.measure(21.5);
    device.faults.bad_status = Some(0x10);
    device.run(1);
    assert_eq!(device.byte("AI1.OUT", 0), 0x10, "sensor failure");
    device.faults = DeviceFaults { out_of_service: true, ..DeviceFaults::default() };
    device.run(1);
    for block in ["AI1", "DI1", "AO1", "DO1", "PID1"] {
        assert_eq!(device.byte(&format!("{block}.MODE_BLK"), 1), OOS, "{block}");
    }
    device.faults = DeviceFaults { as_shipped: 1, ..DeviceFaults::default() };
    device.run(1);
    assert_eq!(device.bytes("AI1.CHANNEL", 0, 2), [0, 0]);
    assert_eq!(
        device.bytes("AI1.BLOCK_ERR", 0, 2),
        [0x80, 0x02],
        "out of service because of its configuration"
    );
    device.faults = DeviceFaults::default();
    device.run(1);
    assert_eq!((device.byte("AI1.OUT", 0), device.float("AI1.OUT", 1)), (0x80, 21.5));
}

#[test]
fn a_discrete_input_follows_its_switch_and_its_inversion() {
    let mut device = Device::new();
    // The second channel of the transducer.
    device.set("DI1.MODE_BLK", 0, &[OOS]);
    device.set("DI1.CHANNEL", 0, &[0, 2]);
    device.set("DI1.MODE_BLK", 0, &[AUTO]);
    let switch = device.extent("TB.SWITCH", 1, 1);
    for on in [1u8, 0, 1] {
        device.cells.put(switch, &[on]);
        device.run(1);
        assert_eq!(device.bytes("DI1.OUT_D", 0, 2), [0x80, on]);
    }
    device.set("DI1.MODE_BLK", 0, &[OOS]);
    device.set("DI1.IO_OPTS", 0, &[0, 1]);
    device.set("DI1.MODE_BLK", 0, &[AUTO]);
    assert_eq!(device.bytes("DI1.OUT_D", 0, 2), [0x80, 0]);
    assert_eq!(device.byte("DI1.FIELD_VAL_D", 1), 1, "the switch itself is not turned round");
}

#[test]
fn an_analog_output_takes_its_set_point_within_its_limits_onto_its_scale() {
    let mut device = Device::new();
    device.set("AO1.MODE_BLK", 0, &[OOS]);
    let scale = |low: f32, high: f32| [high.to_be_bytes(), low.to_be_bytes()].concat();
    device.set("AO1.PV_SCALE", 0, &scale(0.0, 100.0));
    device.set("AO1.XD_SCALE", 0, &scale(4.0, 20.0));
    device.set("AO1.MODE_BLK", 0, &[AUTO]);
    for (set_point, out) in [(0f32, 4f32), (50.0, 12.0), (100.0, 20.0), (130.0, 20.0), (-5.0, 4.0)] {
        device.set("AO1.SP", 1, &set_point.to_be_bytes());
        assert_eq!(device.float("AO1.OUT", 1), out, "{set_point}");
        assert_eq!((device.byte("AO1.READBACK", 0), device.float("AO1.READBACK", 1)), (0x80, out));
    }
    // In cascade its set point is another block's, as long as that is good.
    device.set("AO1.CAS_IN", 1, &25f32.to_be_bytes());
    device.set("AO1.MODE_BLK", 0, &[CAS]);
    assert_eq!((device.byte("AO1.MODE_BLK", 1), device.float("AO1.OUT", 1)), (CAS, 8.0));
    device.set("AO1.CAS_IN", 0, &[&[0x1C], 75f32.to_be_bytes().as_slice()].concat());
    assert_eq!(
        (device.byte("AO1.MODE_BLK", 1), device.float("AO1.SP", 1)),
        (AUTO, 25.0),
        "it keeps what it had"
    );
    // In manual somebody moves the valve.
    device.set("AO1.MODE_BLK", 0, &[MAN]);
    device.set("AO1.OUT", 1, &6f32.to_be_bytes());
    assert_eq!(
        (device.float("AO1.OUT", 1), device.float("AO1.READBACK", 1), device.float("AO1.PV", 1)),
        (6.0, 6.0, 12.5)
    );
}

#[test]
fn a_discrete_output_takes_its_set_point() {
    let mut device = Device::new();
    for on in [1u8, 0, 1] {
        device.set("DO1.SP_D", 1, &[on]);
        assert_eq!((device.byte("DO1.OUT_D", 1), device.byte("DO1.READBACK_D", 1)), (on, on));
    }
    device.set("DO1.CAS_IN_D", 0, &[0x80, 0]);
    device.set("DO1.MODE_BLK", 0, &[CAS]);
    assert_eq!((device.byte("DO1.MODE_BLK", 1), device.byte("DO1.OUT_D", 1)), (CAS, 0));
    device.set("DO1.MODE_BLK", 0, &[MAN]);
    device.set("DO1.OUT_D", 1, &[1]);
    assert_eq!(device.bytes("DO1.OUT_D", 1, 1), [1]);
}

#[test]
fn a_controller_moves_its_output_towards_its_set_point_and_no_further_than_its_limits() {
    let mut device = Device::new();
    device.measure(40.0);
    device.set("PID1.SP", 1, &50f32.to_be_bytes());
    let first = device.float("PID1.OUT", 1);
    assert!(first >= 10.0, "{first}: the error of 10 with a gain of 1, and more as it lasts");
    device.run(10);
    let later = device.float("PID1.OUT", 1);
    assert!(later > first, "{later} after {first}");
    device.run(10_000);
    assert_eq!(device.float("PID1.OUT", 1), 100.0, "OUT_HI_LIM");
    // A bad input stops it, and its value says so.
    device.faults.bad_status = Some(0x10);
    device.run(1);
    assert!(device.byte("PID1.OUT", 0) < 0x40, "0x{:02X}", device.byte("PID1.OUT", 0));
    device.faults.bad_status = None;
    device.set("PID1.MODE_BLK", 0, &[MAN]);
    device.set("PID1.OUT", 1, &33f32.to_be_bytes());
    device.run(100);
    assert_eq!(device.float("PID1.OUT", 1), 33.0);
}

#[test]
fn each_change_of_a_static_parameter_counts_and_no_other() {
    let mut device = Device::new();
    let before = device.bytes("AI1.ST_REV", 0, 2);
    device.set("AI1.MODE_BLK", 0, &[OOS]);
    assert_eq!(device.bytes("AI1.ST_REV", 0, 2), before, "a mode is not static");
    device.set("AI1.CHANNEL", 0, &[0, 1]);
    device.set("AI1.L_TYPE", 0, &[2]);
    let after = device.bytes("AI1.ST_REV", 0, 2);
    assert_eq!(u16::from_be_bytes([after[0], after[1]]), u16::from_be_bytes([before[0], before[1]]) + 2);
    assert_eq!(device.bytes("RB.ST_REV", 0, 2), device.bytes("TB.ST_REV", 0, 2), "only in its own block");
}

#[test]
fn what_a_device_does_not_take_is_refused_by_the_reason() {
    let infinite = f32::INFINITY.to_be_bytes();
    let cases: [RefusedWrite<'_>; 12] = [
        ("AI1.ST_REV", 0, &[0, 5], error::DENIED),
        ("AI1.BLOCK_ERR", 0, &[0, 0], error::DENIED),
        ("AI1.PV", 1, &[0, 0, 0, 0], error::DENIED),
        // Only out of service.
        ("AI1.CHANNEL", 0, &[0, 1], error::DENIED),
        ("AI1.XD_SCALE", 0, &[0; 4], error::DENIED),
        ("AI1.IO_OPTS", 0, &[0, 1], error::DENIED),
        // A block in automatic works out its own value.
        ("AI1.OUT", 1, &[0; 4], error::DENIED),
        ("AI1.MODE_BLK", 0, &[0], error::MODE_NOT_PERMITTED),
        ("AI1.MODE_BLK", 0, &[CAS], error::MODE_NOT_PERMITTED),
        ("AI1.MODE_BLK", 0, &[OOS | AUTO], error::MODE_NOT_PERMITTED),
        ("AI1.MODE_BLK", 1, &[AUTO], error::DENIED),
        ("AO1.SP", 1, &infinite, error::OUT_OF_RANGE),
    ];
    for (name, first, cells, why) in cases {
        let mut device = Device::new();
        let before = device.bytes(name, 0, 1);
        assert_eq!(device.write(name, first, cells), Err(code(why)), "{name}");
        assert_eq!(device.bytes(name, 0, 1), before);
    }
    let mut device = Device::new();
    device.set("AI1.MODE_BLK", 0, &[OOS]);
    assert_eq!(device.write("AI1.L_TYPE", 0, &[4]), Err(code(error::OUT_OF_RANGE)));
    device.set("RB.WRITE_LOCK", 0, &[2]);
    assert_eq!(device.write("AI1.CHANNEL", 0, &[0, 1]), Err(code(error::DENIED)), "locked");
    device.set("RB.WRITE_LOCK", 0, &[1]);
    device.set("AI1.CHANNEL", 0, &[0, 1]);
    // A switch on the device locks it, whatever is written, until it is turned back.
    device.faults.write_lock = true;
    device.run(1);
    assert_eq!(device.write("RB.WRITE_LOCK", 0, &[1]), Err(code(error::DENIED)));
    device.faults.write_lock = false;
    device.run(1);
    assert_eq!(device.bytes("RB.WRITE_LOCK", 0, 1), [1]);
}

/// A parameter, its first byte, and what is written there.
type Write = (&'static str, u32, &'static [u8]);

#[test]
fn a_block_denies_what_it_was_told_to_deny_and_nothing_else() {
    let (mode, low_cut, limit): (Write, Write, Write) =
        (("AI1.MODE_BLK", 0, &[MAN]), ("AI1.LOW_CUT", 0, &[0; 4]), ("AI1.HI_LIM", 0, &[0; 4]));
    let cases = [(1, [mode, low_cut]), (2, [low_cut, mode]), (4, [limit, low_cut])];
    for (denied, [(no, first, cells), (yes, other, others)]) in cases {
        let mut device = Device::new();
        device.write("AI1.GRANT_DENY", 1, &[denied]).unwrap();
        assert_eq!(device.write(no, first, cells), Err(code(error::DENIED)), "{denied} {no}");
        assert_eq!(device.write(yes, other, others), Ok(()), "{denied} {yes}");
        device.write("AI1.GRANT_DENY", 1, &[0]).unwrap();
        assert_eq!(device.write(no, first, cells), Ok(()), "given back: {no}");
    }
}

#[test]
fn a_block_in_no_schedule_stands_still_out_of_service_though_it_is_set_up_right() {
    let mut device = Device::new();
    device.faults.unscheduled = true;
    device.run(1);
    assert_eq!(device.bytes("AI1.MODE_BLK", 0, 2), [AUTO, OOS]);
    assert_eq!(device.bytes("AI1.BLOCK_ERR", 0, 2), [0x80, 0]);
    assert_eq!(device.bytes("AI1.OUT", 0, 1), [0x1C]);
    assert_eq!(device.bytes("RB.MODE_BLK", 0, 2), [AUTO, AUTO]);
    device.faults.unscheduled = false;
    device.run(1);
    assert_eq!(device.bytes("AI1.MODE_BLK", 0, 2), [AUTO, AUTO]);
}

#[test]
fn what_it_works_out_is_moved_by_nothing_else() {
    let device = Device::new();
    for (name, first, computed) in [
        ("AI1.OUT", 1, true),
        ("AI1.OUT", 0, true),
        ("AI1.MODE_BLK", 0, true),
        ("AI1.XD_SCALE", 0, false),
        ("TB.PRIMARY_VALUE", 1, false),
        ("TB.PRIMARY_VALUE", 0, true),
    ] {
        assert_eq!(device.behaviour.computes(device.extent(name, first, 1)), computed, "{name} {first}");
    }
    let measured = device.behaviour.measures(&device.cells);
    assert_eq!(measured.len(), 2);
    assert_eq!(measured[0].extent, device.extent("TB.PRIMARY_VALUE", 1, 4));
}
