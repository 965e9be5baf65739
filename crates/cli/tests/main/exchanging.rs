//! Blocks that are exchanged in cycles: a controller that opens one at the converter, and a device that the converter opens.

use crate::tool::{Tool, until};
use serde_json::Value;

const CELL: &str = r#"
[converter]
address = "192.0.2.10/24"

[ports.cell]
network  = "192.0.2.10"
protocol = "ethernet-ip"
allow    = ["192.0.2.0/24"]

[ports.cell.identity]
vendor = 65521
name   = "Grading box"

[devices.valves]
port       = "cell"
address    = "192.0.2.70"
inputs     = { assembly = 101, bytes = 4 }
outputs    = { assembly = 102, bytes = 4 }
period     = "20ms"
multiplier = 64

[images.block]
port    = "cell"
inputs  = { assembly = 100, bytes = 12 }
outputs = { assembly = 150, bytes = 4 }
period  = "20ms"
on-loss = "fill 0x1746"

[[map]]
from = "valves:%IW0"
to   = "block:%IW6"

[[map]]
from = "valves.health.online"
to   = "block:%IX4.1"

[[map]]
from = "block.health.run"
to   = "valves:%QX3.0"

[[map]]
name    = "wanted"
from    = "block:%QW2 as i16 scale 0.5"
to      = "valves:%QW0 as i16"
on-loss = "fill 7"

[clients.line]
image      = "block"
inputs     = { assembly = 100, bytes = 12 }
outputs    = { assembly = 150, bytes = 4 }
period     = "20ms"
multiplier = 64
must-read  = ["valves.health.online"]

[rig.clients.line]
"%QW2" = "steady 40"

[rig.devices.valves]
"%IW0" = "steady 1234"
"#;

fn cell() -> Tool {
    let tool = Tool::new();
    tool.write("woodrush.toml", CELL);
    tool
}

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"))
}

/// The first value that `read` or `rig get` shows.
fn value(tool: &Tool, what: &str) -> Value {
    let read = json(&tool.run(&["read", what, "--format", "json"]).out);
    read["values"][0]["value"].clone()
}

#[test]
fn both_ends_of_a_block_are_held_against_each_other_and_shown_alike() {
    let tool = cell();
    let checked = tool.run(&["check"]);
    assert!(checked.out.contains("0 warnings, 0 remarks"), "{}", checked.out);
    let map = tool.run(&["map"]).out;
    for part in ["%IW6", "%IX4.1", "%QW2", "inputs", "assembly 100", "12 bytes", "assembly 150"] {
        assert!(map.contains(part), "{part}: {map}");
    }
    let trace = tool.run(&["trace", "block:%IW6"]);
    assert_eq!(trace.status, 0, "{}", trace.err);
    assert!(trace.out.contains("valves:%IW0"), "{}", trace.out);
    let budget = tool.run(&["budget"]).out;
    assert!(budget.contains("block") && budget.contains("1.28 s"), "{budget}");
    let rows = tool.run(&["budget", "--format", "csv"]).out;
    // 18 bytes of items and a count of 2 before 12 bytes of inputs, or before a header of 4 and 4 bytes of outputs; 28 of IP and
    // UDP, 18 of Ethernet, and 20 of preamble and pause.
    let row = rows.lines().find(|row| row.starts_with("cell,block,")).unwrap_or_else(|| panic!("{rows}"));
    assert!(row.starts_with("cell,block,a frame each way,20000,98,94,,"), "{row}");
    // The controller counts the header, or takes inputs for outputs.
    tool.edit(
        "bytes = 4 }\nperiod     = \"20ms\"\nmultiplier = 64\nmust",
        "bytes = 8 }\nperiod = \"20ms\"\nmust",
    );
    let wrong = tool.run(&["check"]);
    assert_eq!(wrong.status, 1);
    assert!(wrong.out.contains("M08") && wrong.out.contains("the run/idle"), "{}", wrong.out);
}

#[test]
fn the_data_sheet_of_the_adapter_is_written_and_not_over_another_file() {
    let tool = cell();
    let written = tool.run(&["map", "--eds", "box.eds"]);
    assert_eq!(written.status, 0, "{}", written.err);
    let text = std::fs::read_to_string(tool.file("box.eds")).unwrap();
    for part in
        ["[Device]", "VendCode = 65521;", "ProdName = \"Grading box\";", "[Connection Manager]", "[Assembly]"]
    {
        assert!(text.contains(part), "{part}: {text}");
    }
    assert!(text.contains("Assem100") && text.contains("Assem150"), "{text}");
    tool.write("woodrush.toml", "[project]\nname = \"Nothing\"\n");
    assert_eq!(tool.run(&["map", "--eds", "other.eds"]).status, 2);
    assert!(!tool.file("other.eds").exists());
}

#[test]
fn a_block_runs_idles_and_is_closed_and_everyone_sees_it() {
    let tool = cell();
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C ends it"]);
    let mut run = tool.begin(&["run", "--rig"]);
    run.wait_for(&["block", "the controller is in run"]);
    until("the value of the device", || value(&tool, "block:%IW6") == 1234);
    // 40 halves arrive as 20, and the device is told that the controller runs.
    let rig_has = |place: &str| {
        let got = json(&tool.run(&["rig", "get", place, "--format", "json"]).out);
        got["rows"][0]["value"].as_u64()
    };
    until("what the controller writes", || {
        rig_has("valves:%QW0") == Some(20) && rig_has("valves:%QX3.0") == Some(1)
    });
    let status = json(&tool.run(&["status", "--format", "json"]).out);
    let links = status["links"].as_array().unwrap();
    let words: Vec<(&str, &str)> =
        links.iter().map(|own| (own["with"].as_str().unwrap(), own["state"].as_str().unwrap())).collect();
    assert!(words.contains(&("block", "run")) && words.contains(&("valves", "run")), "{status:#}");
    let device = links.iter().find(|own| own["with"] == "valves").unwrap();
    assert_eq!(device["peer"], "192.0.2.70", "the project's address, wherever the rig has it");
    let mut watch = tool.begin(&["watch"]);
    watch.wait_for(&["valves:%IW0 1234 -> block:%IW6 1234"]);
    // A controller in program mode: what it wrote before goes nowhere.
    assert_eq!(tool.run(&["rig", "idle", "line"]).status, 0);
    run.wait_for(&["block", "idle"]);
    watch.wait_for(&["link block: idle, was run"]);
    assert_eq!(watch.interrupt(), 0);
    until("the fill", || rig_has("valves:%QW0") == Some(7) && rig_has("valves:%QX3.0") == Some(0));
    assert_eq!(tool.run(&["rig", "mend", "line"]).status, 0);
    until("the value again", || rig_has("valves:%QW0") == Some(20));
    // A device that is gone shows as `on-loss` says, with its bit.
    assert_eq!(tool.run(&["rig", "mute", "valves"]).status, 0);
    until("the loss", || value(&tool, "block:%IW6") == 0x1746 && value(&tool, "block:%IX4.1") == 0);
    // It has refused nothing: it is not there.
    run.wait_for(&["valves", "192.0.2.70 cannot be reached: no answer at its TCP port 44818"]);
    let status = json(&tool.run(&["status", "--format", "json"]).out);
    let device = status["links"].as_array().unwrap().iter().find(|own| own["with"] == "valves").unwrap();
    assert_eq!(device["state"], "closed");
    assert_eq!(tool.run(&["rig", "mend", "valves"]).status, 0);
    until("the device again", || value(&tool, "block:%IW6") == 1234);
    // Who is there says so itself.
    let scanned = tool.run(&["scan", "cell", "--rig", "--timeout", "200ms", "--format", "csv"]);
    assert_eq!(scanned.status, 0, "{} {}", scanned.out, scanned.err);
    assert!(scanned.out.contains("192.0.2.70,") && scanned.out.contains(",valves,"), "{}", scanned.out);
    assert_eq!((run.interrupt(), rig.interrupt()), (0, 0));
}

#[test]
fn a_block_is_proven_both_ways_and_after_each_way_to_stop() {
    let tool = cell();
    let proof = tool.run(&["prove"]);
    assert_eq!(proof.status, 0, "{} {}", proof.out, proof.err);
    for part in [
        "after idle",
        "after the watchdog",
        "after the close",
        "a second owner of block is refused",
        "a wrong size at block is refused",
    ] {
        assert!(proof.out.contains(part), "{part}: {}", proof.out);
    }
}

#[test]
fn cycles_are_folded_to_what_changed_and_all_of_them_are_shown_if_wanted() {
    let tool = cell();
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C ends it"]);
    let mut run = tool.begin(&["run", "--rig"]);
    run.wait_for(&["block", "the controller is in run"]);
    let mut tap = tool.begin(&["tap", "cell"]);
    tap.wait_for(&["block", "outputs, from the controller, run", "%QW2 20"]);
    // Some that are alike pass before one changes.
    let came = || -> u64 {
        let status = json(&tool.run(&["--format", "json", "status"]).out);
        let links = status["links"].as_array().unwrap().iter();
        links.map(|own| own["came"].as_u64().unwrap()).min().unwrap()
    };
    let before = came();
    until("frames that are alike", || came() > before + 3);
    assert_eq!(tool.run(&["rig", "set", "line:%QW2=50"]).status, 0);
    tap.wait_for(&["outputs, from the controller, run", "alike before", "%QW2 25"]);
    tap.wait_for(&["outputs, to the device, run", "alike before", "%QW0 25"]);
    assert_eq!(tool.run(&["rig", "idle", "line"]).status, 0);
    tap.wait_for(&["outputs, from the controller, IDLE"]);
    let shown = tap.seen.iter().filter(|line| line.contains("inputs, to the controller")).count();
    assert!(shown <= 1, "what stands still is shown once: {:?}", tap.seen);
    let _ = tap.interrupt();
    let mut all = tool.begin(&["tap", "cell", "--all", "--at", "valves:%IW0"]);
    for _ in 0..10 {
        all.wait_for(&["inputs, from the device", "1234"]);
    }
    let _ = all.interrupt();
    assert_eq!((run.interrupt(), rig.interrupt()), (0, 0));
}

/// Opening, cycles, idle and closing, as the packet analyser reads them.
#[test]
#[ignore = "needs a packet analyser: apt-get install tshark; .ci/run installs it"]
fn frames_and_openings_are_decoded_without_a_malformed_one() {
    let tool = cell();
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C ends it"]);
    let mut run = tool.begin(&["run", "--rig"]);
    run.wait_for(&["block", "the controller is in run"]);
    let mut tap = tool.begin(&["tap", "cell", "--save", "cell.pcapng"]);
    tap.wait_for(&["outputs, from the controller, run"]);
    assert_eq!(tool.run(&["rig", "idle", "line"]).status, 0);
    tap.wait_for(&["outputs, from the controller, IDLE"]);
    // It falls silent, and opens its connection anew.
    assert_eq!(tool.run(&["rig", "mute", "line"]).status, 0);
    run.wait_for(&["block", "watchdog"]);
    assert_eq!(tool.run(&["rig", "mend", "line"]).status, 0);
    tap.wait_for(&["open connection in cycles"]);
    tap.wait_for(&["outputs 150: 10 bytes with count and header every 20 ms, point to point, scheduled"]);
    tap.wait_for(&["lost after 1.28 s"]);
    tap.wait_for(&["outputs, from the controller, run"]);
    // A controller that ends closes it.
    assert_eq!(rig.interrupt(), 0);
    run.wait_for(&["block", "closed"]);
    let _ = tap.interrupt();
    let decoded = |filter: &str| {
        let done = std::process::Command::new("tshark")
            .args(["-r", tool.file("cell.pcapng").to_str().unwrap(), "-Y", filter])
            .output()
            .expect("tshark is installed");
        String::from_utf8_lossy(&done.stdout).lines().count()
    };
    assert!(decoded("cipio || enip") > 100);
    assert!(decoded("udp.port == 2222 && cipio") > 100, "frames are frames of connections");
    assert!(decoded("cip.sc == 0x54") >= 2, "a connection is opened, and that is answered");
    assert_eq!(decoded("_ws.malformed"), 0);
    let _ = run.interrupt();
}

/// The example of the documents: nodes of a wireless base station, with values both ways for each.
#[test]
fn nodes_in_strides_are_proven_in_a_block_and_a_point_outside_its_stride_is_told() {
    let example = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/strided-nodes");
    let tool = Tool::new();
    std::fs::create_dir(tool.file("profiles")).unwrap();
    for name in ["woodrush.toml", "profiles/node.toml"] {
        tool.write(name, &std::fs::read_to_string(example.join(name)).unwrap());
    }
    let proof = tool.run(&["prove"]);
    assert_eq!(proof.status, 0, "{}", proof.out);
    assert!(proof.out.contains("proven  30 of 30 rules"), "{}", proof.out);
    let profile = std::fs::read_to_string(tool.file("profiles/node.toml")).unwrap();
    tool.write("profiles/node.toml", &profile.replace("\"400003\"", "\"400023\""));
    let told = tool.run(&["check"]);
    assert!(told.out.contains("M12"), "{}", told.out);
    // One offset too few, and two nodes share bytes.
    tool.write("profiles/node.toml", &profile);
    tool.edit("%IW{8*(n-1)+2}", "%IW{6*(n-1)+2}");
    let told = tool.run(&["check"]);
    assert!(told.status == 1 && told.out.contains("M08"), "{}", told.out);
}
