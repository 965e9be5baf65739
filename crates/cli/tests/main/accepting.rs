//! `prove --live`: what devices say by themselves against what a reader gets, on the rig in their place.

use crate::tool::{Running, Tool, until};
use serde_json::Value;

/// The hatchery, running on its rig.
fn site() -> (Tool, Running, Running) {
    let tool = Tool::with_patient_hatchery();
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C ends it"]);
    let mut run = tool.begin(&["run", "--rig"]);
    run.wait_for(&["the converter runs"]);
    until("the first polls", || {
        tool.run(&["read", "scada:400101", "scada:400401", "scada:400501"]).status == 0
    });
    (tool, rig, run)
}

#[test]
fn what_devices_say_is_what_readers_see_and_a_write_is_put_back() {
    let (tool, _rig, _run) = site();
    let live = ["prove", "--live", "--rig", "--samples", "2", "--every", "100ms", "--format", "json"];
    let write = [
        "--write",
        "blower-1.speed-setpoint=40",
        "--yes",
        "--report",
        "sheet.html",
        "--report",
        "sheet.json",
    ];
    let done = tool.run(&[&live[..], &write].concat());
    assert_eq!(done.status, 0, "{}{}", done.out, done.err);
    let proof: Value = serde_json::from_str(&done.out).unwrap();
    let values = proof["values"].as_array().unwrap();
    assert!(values.len() > 40 && values.iter().all(|value| value["good"] == true), "{proof}");
    let setpoint = values.iter().find(|value| value["from"] == "blower-1.speed-setpoint").unwrap();
    assert_eq!(setpoint["written"], "40 written and arrived; 30 put back");
    assert_eq!((setpoint["moved"].as_bool(), setpoint["verdict"].as_str()), (Some(false), Some("same")));
    assert!(values.iter().any(|value| value["moved"] == true), "signals move");
    let read = tool.run(&["read", "--format", "json", "blower-1.speed-setpoint"]);
    assert!(read.out.contains("\"value\": 30"), "{}", read.out);
    let sheet = std::fs::read_to_string(tool.file("sheet.html")).unwrap();
    for part in ["Rehearsed: ", "rehearsal on simulated devices", "blower-1.speed-setpoint", "30 put back"] {
        assert!(sheet.contains(part), "{part}");
    }
    assert!(!sheet.contains("signature") && !sheet.contains("ccept"), "a rehearsal is not to be signed");
    assert_eq!(proof["rehearsal"], true);
    let text = tool.run(&live[..live.len() - 2]).out;
    let last = text.lines().last().unwrap();
    assert!(last.starts_with("rehearsed  ") && text.contains("it says nothing of the real ones"), "{text}");
    let within = values.iter().filter(|value| value["verdict"] == "within").count();
    if last.contains("within the tolerance") || within > 0 {
        assert!(last.contains(" the same, ") || within == 0, "both numbers: {last}");
    }
    assert!(tool.file("sheet.json").exists());
}

#[test]
fn noise_on_a_line_that_takes_an_answer_is_no_fault_of_a_value() {
    let (tool, _rig, _run) = site();
    assert_eq!(tool.run(&["rig", "noise", "raceway", "0.003"]).status, 0);
    let lost = || {
        let status: Value = serde_json::from_str(&tool.run(&["status", "--format", "json"]).out).unwrap();
        let ports = status["ports"].as_array().unwrap();
        let raceway = ports.iter().find(|port| port["name"] == "raceway").unwrap();
        ["damaged", "no_answer"].iter().map(|kind| raceway["counts"][kind].as_u64().unwrap()).sum::<u64>()
    };
    let live = ["prove", "--live", "--rig", "--samples", "1", "--format", "json"];
    let before = lost();
    // Again, for as long as the noise takes none of its answers.
    while lost() == before {
        let done = tool.run(&[&live[..], &["--write", "blower-1.speed-setpoint=40", "--yes"]].concat());
        assert_eq!(done.status, 0, "{}{}", done.out, done.err);
    }
}

#[test]
fn a_converter_that_shows_something_else_than_the_file_says_is_not_accepted() {
    let (tool, _rig, _run) = site();
    assert_eq!(tool.run(&["rig", "set", "do-1.temperature=17.46"]).status, 0);
    // The file is changed and the converter not told: the one word order, the other scale.
    tool.edit("to     = \"scada:400101 as f32 CDAB\"", "to     = \"scada:400101 as f32 ABCD\"");
    let profile = std::fs::read_to_string(tool.file("profiles/oxygen-probe.toml")).unwrap();
    tool.write(
        "profiles/oxygen-probe.toml",
        &profile.replace("as    = \"i16 scale 0.01\"", "as    = \"i16 scale 0.1\""),
    );
    tool.edit("to   = \"scada:400011\"", "to   = \"scada:400011 as i16 scale 0.01\"");
    let done = tool.run(&["prove", "--live", "--rig", "--samples", "1", "--format", "json"]);
    assert_eq!(done.status, 1, "{}{}", done.out, done.err);
    let proof: Value = serde_json::from_str(&done.out).unwrap();
    let why = |to: &str| {
        let found = proof["values"].as_array().unwrap().iter().find(|value| value["image_address"] == to);
        found.unwrap_or_else(|| panic!("{to}: {proof}"))["why"].as_str().unwrap_or_default().to_string()
    };
    assert!(why("400101").contains("M35"), "{}", why("400101"));
    assert!(why("400011").contains("10 times smaller (M36)"), "{}", why("400011"));
    // A device that is gone says so by itself.
    assert_eq!(tool.run(&["rig", "mute", "drum-filter"]).status, 0);
    let done = tool.run(&["prove", "--live", "--rig", "--samples", "1"]);
    assert!(
        done.out.contains("the device itself: through the converter that has the port: no answer came"),
        "{}",
        done.out
    );
}

#[test]
fn nothing_is_written_to_real_devices_that_should_not_be() {
    let tool = Tool::with_hatchery();
    let none = tool.run(&["prove", "--live"]);
    assert_eq!(none.status, 3);
    assert!(none.err.contains("no converter of this project is running here"), "{}", none.err);
    let (tool, _rig, _run) = site();
    for (write, told) in [
        ("do-1.unit-address=3", "no rule shows exactly"),
        ("do-1.temperature=3", "is read-only"),
        ("blower-1.speed-setpoint", "has no value"),
        ("blower-1.speed-setpoint=fast", "`fast` is not a number"),
        ("blower-9.speed=3", "there is no device or image"),
    ] {
        let done = tool.run(&["prove", "--live", "--rig", "--write", write, "--yes"]);
        assert_eq!(done.status, 2, "{write}: {}", done.err);
        assert!(done.err.contains(told), "{write}: {}", done.err);
    }
    let nobody = tool.run(&["prove", "--live", "--rig", "--write", "blower-1.speed-setpoint=40"]);
    assert!(nobody.err.contains("no terminal to ask for confirmation"), "{}", nobody.err);
    let there = tool.run(&[
        "prove",
        "--live",
        "--rig",
        "--samples",
        "1",
        "--write",
        "blower-1.speed-setpoint=30",
        "--yes",
    ]);
    assert_eq!(there.status, 1, "{}", there.err);
    assert!(there.out.contains("30 is there already: choose another value (M42)"), "{}", there.out);
    assert_eq!(tool.run(&["prove", "--live", "--report", "sheet.xml"]).status, 2);
    assert_eq!(tool.run(&["prove", "--samples", "3"]).status, 2, "without --live it means nothing");
}
