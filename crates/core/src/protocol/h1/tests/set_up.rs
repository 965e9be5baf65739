//! What a line of `set-up` writes, and the causes that are told of a block that does not work.

use super::super::H1;
use super::super::words::{AUTO, MAN, OOS};
use crate::protocol::{BlockParameter, DeviceBlock, DeviceBlocks, SetUp, SetUpStep, Setup};
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
    let sound =
        [("XD_SCALE", "0..120 degC"), ("OUT_SCALE", "0..120 degC"), ("L_TYPE", "direct"), ("CHANNEL", "1")];
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
    assert!(causes(&all).contains("write `RB.WRITE_LOCK`"), "of each of its blocks: {}", causes(&all));
    let mut all = device(&[]);
    all.insert("AI1.GRANT_DENY".into(), vec![0, 3]);
    assert!(causes(&all).contains("denies writes (program, tune)"), "{}", causes(&all));
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
