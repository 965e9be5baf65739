//! `read` and `write`: a device alone, through a running converter, an image, and a way that no project knows.

use crate::tool::{Done, Tool, until};
use serde_json::Value;

fn json_of(done: &Done) -> Value {
    serde_json::from_str(&done.out).unwrap_or_else(|error| panic!("{error}: {}{}", done.out, done.err))
}

/// The value of the first row.
fn value(done: &Done) -> String {
    json_of(done)["values"][0]["value"].to_string()
}

fn line_of(rig: &mut crate::tool::Running, port: &str) -> String {
    let line = rig.wait_for(&[&format!("{port} ")]);
    line.split_whitespace().nth(1).unwrap().to_string()
}

#[test]
fn a_device_is_read_and_written_alone_and_then_through_the_converter() {
    let tool = Tool::with_patient_hatchery();
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C ends it"]);
    let read = |args: &[&str]| tool.run(&[&["read", "--format", "json"], args].concat());
    assert_eq!(tool.run(&["rig", "set", "do-1.temperature=17.46"]).status, 0);
    // Alone: the rig stands in for what is wired there.
    assert_eq!(value(&read(&["--rig", "do-1.temperature"])), "17.46");
    let all = json_of(&read(&["--rig", "do-1"]));
    assert_eq!(all["values"].as_array().unwrap().len(), 5, "every point of its profile: {all}");
    // Without `--rig` the real ports are meant, and the message says what was likely wanted.
    let real = read(&["do-1"]);
    assert_eq!(real.status, 3);
    assert!(real.err.contains("do-1.oxygen and 4 more: /dev/ttyUSB0 does not exist"), "{}", real.err);
    assert!(real.err.contains("the same with `--rig`"), "{}", real.err);
    // Controllers are asked in their own protocol.
    assert_eq!(tool.run(&["rig", "set", "feeder-west:N11:43=250"]).status, 0);
    assert_eq!(value(&read(&["--rig", "feeder-west:N11:43"])), "250");

    let mut run = tool.begin(&["run", "--rig"]);
    run.wait_for(&["the converter runs"]);
    until("the first polls", || read(&["scada:400101"]).status == 0);
    // The line is the converter's now, and it asks for us between its polls.
    assert_eq!(value(&read(&["do-1.temperature"])), "17.46");
    assert_eq!(value(&read(&["feeder-west:N11:43"])), "250");
    let held = tool.run(&["read", "--format", "json", "do-2:400099", "do-2:300001 x2"]);
    assert_eq!(held.status, 0, "addresses that no rule uses too: {}", held.err);
    let image = json_of(&read(&["scada:400101"]));
    assert_eq!(image["values"][0]["eu"], "Hz");
    assert!(image["values"][0]["age_s"].as_f64().is_some(), "{image}");

    // What is written into the device shows in the image, and the other way.
    let wrote = tool.run(&["write", "--yes", "--format", "json", "blower-1.speed-setpoint=40"]);
    assert_eq!(wrote.status, 0, "{}", wrote.err);
    assert_eq!(json_of(&wrote)["written"][0]["after"], 40);
    until("the image to follow", || value(&read(&["scada:400101"])) == "40");
    let wrote = tool.run(&["write", "--yes", "scada:400101=17.46"]);
    assert!(wrote.out.contains("40 Hz") && wrote.out.contains("17.46 Hz"), "before and after: {}", wrote.out);
    assert_eq!(value(&read(&["blower-1.speed-setpoint"])), "17.46");
    assert_eq!(tool.run(&["write", "--yes", "blower-1.run=1"]).status, 0);
    assert_eq!(value(&read(&["blower-1.run"])), "1");

    // A lost source is the field's fault, and the message says how to see that.
    assert_eq!(tool.run(&["rig", "mute", "blower-1"]).status, 0);
    until("the loss", || read(&["scada:400101"]).status == 1);
    let lost = tool.run(&["read", "scada:400101"]);
    assert!(lost.err.contains("the converter answers, but it has lost blower-1"), "{}", lost.err);
    assert!(lost.err.contains("woodrush read blower-1.speed-setpoint"), "{}", lost.err);
    let dead = tool.run(&["read", "blower-1.speed"]);
    assert_eq!(dead.status, 3);
    assert!(dead.err.contains("through the converter that has the port: no answer came"), "{}", dead.err);
    // Nobody else was hurt by all that.
    let status = json_of(&tool.run(&["status", "--format", "json"]));
    for device in status["devices"].as_array().unwrap().iter().filter(|device| device["name"] != "blower-1") {
        assert_eq!(device["counts"]["no_answer"], 0, "{device}");
    }
    // What the file has since, and the converter does not run yet, is told as that.
    tool.edit("[ports.pump-house]", "[ports.new-hall]\nconnect = \"192.0.2.99\"\nprotocol = \"modbus-tcp\"\n[devices.new]\nport = \"new-hall\"\nunit = 1\n[ports.pump-house]");
    let early = tool.run(&["read", "new:400001"]);
    let why = "the running converter has not asked: the converter has no port `new-hall`";
    assert!(early.status == 3 && early.err.contains(why) && early.err.contains("SIGHUP"), "{}", early.err);
    assert_eq!(run.interrupt(), 0);
}

#[test]
fn a_way_that_no_project_knows_is_asked_and_told_apart() {
    let tool = Tool::with_patient_hatchery();
    let mut rig = tool.begin(&["rig", "up"]);
    let path = line_of(&mut rig, "raceway");
    let socket = line_of(&mut rig, "pump-house");
    rig.wait_for(&["Ctrl-C ends it"]);
    let elsewhere = Tool::new();
    let ask = |args: &[&str]| elsewhere.run(&[&["read", "--serial", &path], args].concat());
    let good = ask(&["--line", "38400 8E1", "--unit", "31", "400011 as f32 ABCD", "--format", "csv"]);
    assert_eq!(good.status, 0, "{}", good.err);
    assert!(good.out.contains("400011,400011,holding:10,41F0 0000,30,,0,"), "{}", good.out);
    let twice = ask(&[
        "--line",
        "38400 8E1",
        "--unit",
        "31",
        "400011 as f32 ABCD",
        "--every",
        "50ms",
        "--for",
        "120ms",
    ]);
    assert!(
        twice.out.lines().count() >= 2 && twice.err.contains(" answered, 0 failed"),
        "{}{}",
        twice.out,
        twice.err
    );
    let refused = ask(&["--line", "38400 8E1", "--unit", "31", "300900"]);
    assert_eq!(refused.status, 1);
    assert!(
        refused.err.contains("unit 31 answers and refuses: Modbus exception 2 (0x02), illegal data address"),
        "{}",
        refused.err
    );
    for (args, told) in [
        (&["--line", "38400 8E1", "--unit", "99", "300001"][..], "unit 99 is not there"),
        (&["--line", "9600 8E1", "--unit", "31", "300001"], "speed or parity differ from the device's"),
    ] {
        let done = ask(&[args, &["--timeout", "300ms"]].concat());
        assert_eq!(done.status, 3, "{}", done.err);
        assert!(done.err.contains(told) && done.err.contains("next: woodrush scan --serial"), "{}", done.err);
    }
    let blocks = [
        "read",
        &socket,
        "--protocol",
        "fetch-write",
        "--set",
        "remote-tsap='PUMPS'",
        "--set",
        "local-tsap=01.00",
    ];
    let blocks = elsewhere.run(&[&blocks[..], &["%DB10.D4 as f32"]].concat());
    assert_eq!(blocks.status, 0, "{}", blocks.err);
    let wrong = elsewhere.run(&["read", &socket, "400001"]);
    assert_eq!(wrong.status, 3);
    assert!(wrong.err.contains("the framing differs"), "{}", wrong.err);
    let written = ["write", "--serial", &path, "--line", "38400 8E1", "--unit", "31"];
    let written = elsewhere.run(&[&written[..], &["--yes", "400011 as f32 ABCD=20", "000001=on"]].concat());
    assert_eq!(written.status, 0, "{}", written.err);
    assert!(
        written.out.contains("30  41F0 0000") && written.out.contains("20  41A0 0000"),
        "{}",
        written.out
    );
}

#[test]
fn nothing_is_written_that_should_not_be() {
    let tool = Tool::with_hatchery();
    for (args, told) in [
        (&["do-1.oxygen=3"][..], "an input register cannot be written"),
        (&["blower-1.speed-setpoint=400"], "outside of its range, 0 to 60"),
        (&["blower-1.speed-setpoint=40"], "no terminal to ask for confirmation (add `--yes`)"),
        (&["do-1.unit-address=7", "--yes"], "marks it `guarded`"),
        (&["scada:400300=7", "--yes"], "no rule takes a write there"),
        (&["blower-1.speed-setpoint"], "has no value"),
        (&["blower-1=3"], "is a whole device"),
        (&["blower-1.speed-setpoint=fast"], "`fast` is not a number"),
        (&["feeder-west:N7:0 x3=1,2"], "has 2 values for 3 places"),
    ] {
        let done = tool.run(&[&["write"], args].concat());
        assert_eq!((done.status, done.out.as_str()), (2, ""), "{args:?}: {}", done.err);
        assert!(done.err.contains(told), "{args:?}: {}", done.err);
    }
    for (args, told) in [
        (&["192.0.2.40:502", "37"][..], "M03 `37` is a bare number"),
        (&["192.0.2.40:502", "400001 as f32"], "M35 `f32` lies in 2 registers"),
        (&["192.0.2.40:502"], "name an address"),
        (&["192.0.2.40:502", "400001", "--line", "9600 8N1"], "add `--serial PATH`"),
        (&["--serial", "/dev/ttyS77", "400001"], "add `--line"),
        (
            &["--serial", "/dev/ttyS77", "--line", "384 8N1", "400001"],
            "no device has 384 baud, perhaps 38400",
        ),
        (&["do-1", "--unit", "3"], "belongs to a way that is written here"),
        (&["do-9.oxygen"], "there is no device or image `do-9`"),
        (
            &["192.0.2.40:502", "400001", "--protocol", "modbus"],
            "`modbus` is not a valid value of `--protocol`",
        ),
        (&["192.0.2.40:502", "400001", "--set", "node=3"], "has no `node`"),
        (&["do-1", "--for", "3s"], "goes with `--every`"),
    ] {
        let done = tool.run(&[&["read"], args].concat());
        assert_eq!(done.status, 2, "{args:?}: {}", done.err);
        assert!(done.err.contains(told), "{args:?}: {}", done.err);
    }
}

#[test]
fn a_port_of_the_project_is_a_way_and_a_line_stands_for_its_devices() {
    let tool = Tool::with_patient_hatchery();
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C ends it"]);
    let read = tool.run(&["read", "raceway", "--unit", "21", "--rig", "300001", "--format", "json"]);
    assert_eq!(read.status, 0, "{}", read.err);
    assert_eq!(json_of(&read)["values"][0]["address"], "300001");
    let said = tool.run(&["read", "raceway", "--line", "9600 8N1", "300001"]);
    assert!(said.err.contains("the project sets it for `raceway`"), "{}", said.err);
    let unknown = tool.run(&["read", "do-1:300001", "--unit", "4"]);
    assert!(unknown.err.contains("name a port of the project first (raceway"), "{}", unknown.err);
    let pumps = tool.run(&["read", "pumps", "--rig"]);
    assert!(pumps.out.contains("pumps:%DB10.D4") && pumps.out.contains("pumps:%DB20.D0"), "{}", pumps.err);
    let muted = tool.run(&["rig", "mute", "raceway"]);
    assert!(
        muted.out.contains("do-1 no longer") && muted.out.contains("blower-2 no longer"),
        "{}",
        muted.out
    );
    let noise = tool.run(&["rig", "noise", "raceway", "5"]);
    assert!(noise.status == 2 && noise.err.contains("noise raceway 5%"), "{}", noise.err);
    let filter = tool.run(&["tap", "--function", "zz"]);
    assert!(filter.status == 2 && filter.err.contains("write numbers and ranges"), "{}", filter.err);
}
