//! `scan`: units with what they have, the settings of a line, going on after an end, and the start of a project.

use crate::tool::{Running, Tool, until};
use serde_json::Value;

/// A rig of the hatchery, and the path of its long line.
fn rig(tool: &Tool) -> (Running, String) {
    let mut rig = tool.begin(&["rig", "up"]);
    let line = rig.wait_for(&["raceway "]);
    let path = line.split_whitespace().nth(1).unwrap().to_string();
    rig.wait_for(&["Ctrl-C ends it"]);
    (rig, path)
}

#[test]
fn units_are_found_with_what_they_have_and_become_the_start_of_a_project() {
    let tool = Tool::with_hatchery();
    let (_rig, path) = rig(&tool);
    let elsewhere = Tool::new();
    let scan =
        ["scan", "--serial", &path, "--line", "38400 8E1", "--units", "41,42,60", "--timeout", "500ms"];
    let done = elsewhere.run(&[&scan[..], &["--start-project", "found", "--resume", "scan.json"]].concat());
    assert_eq!(done.status, 0, "{}", done.err);
    assert!(done.out.contains("modbus-rtu: 3 asked, 2 found"), "{}", done.out);
    assert!(done.out.contains("400001 to 400032 (32)"), "{}", done.out);
    assert!(done.out.lines().all(|line| line.chars().count() <= 100), "{}", done.out);
    // What was written is sound, and what was found is in it.
    let check = elsewhere.run(&["-p", "found/woodrush.toml", "check"]);
    assert_eq!(check.status, 0, "{}{}", check.out, check.err);
    let text = std::fs::read_to_string(elsewhere.file("found/woodrush.toml")).unwrap();
    assert!(text.contains("[devices.unit-41]") && text.contains("tables = { holding = 32 }"), "{text}");
    // The same again asks nobody: all is kept.
    let again = elsewhere.run(&[&scan[..], &["--resume", "scan.json", "--format", "json"]].concat());
    let json: Value = serde_json::from_str(&again.out).unwrap();
    assert_eq!((json["asked"].as_u64(), json["found"].as_array().map(Vec::len)), (Some(3), Some(2)));
    let other = elsewhere.run(&["scan", "--serial", &path, "--line", "9600 8E1", "--resume", "scan.json"]);
    assert_eq!(other.status, 2);
    assert!(other.err.contains("name another file"), "{}", other.err);
}

#[test]
fn the_settings_of_a_line_are_found_with_the_evidence() {
    let tool = Tool::with_hatchery();
    let (_rig, path) = rig(&tool);
    let scan =
        ["scan", "--serial", &path, "--find-settings", "--quick", "--units", "31", "--timeout", "150ms"];
    let done = Tool::new().run(&scan);
    assert_eq!(done.status, 0, "{}", done.err);
    assert!(done.out.contains("*  38400 8E1") && done.out.contains("unit 31 answered"), "{}", done.out);
    let none = Tool::new().run(&[
        "scan",
        "--serial",
        &path,
        "--line",
        "38400 8E1",
        "--units",
        "99",
        "--timeout",
        "100ms",
    ]);
    assert_eq!(none.status, 1, "nobody is an answer: {}", none.err);
}

#[test]
fn a_scan_that_is_ended_keeps_what_it_has_and_goes_on_from_there() {
    let tool = Tool::with_hatchery();
    let (_rig, path) = rig(&tool);
    let scan = [
        "scan",
        "--serial",
        &path,
        "--line",
        "38400 8E1",
        "--quick",
        "--units",
        "20-60",
        "--timeout",
        "400ms",
        "--resume",
        "k.json",
    ];
    let running = tool.begin(&scan);
    until("the first units", || {
        std::fs::read_to_string(tool.file("k.json")).is_ok_and(|text| text.contains("\"station\": 22"))
    });
    assert_eq!(running.interrupt(), 1);
    let kept: Value = serde_json::from_str(&std::fs::read_to_string(tool.file("k.json")).unwrap()).unwrap();
    let before = kept["done"].as_array().unwrap().len();
    assert!((3..40).contains(&before), "{before}");
    let done = tool.run(&[&scan[..scan.len() - 4], &["--timeout", "60ms", "--resume", "k.json"]].concat());
    assert!(done.out.contains("41 asked, 7 found"), "{}{}", done.out, done.err);
}

#[test]
fn a_line_that_the_converter_has_is_scanned_through_it() {
    let tool = Tool::with_hatchery();
    let (_rig, _) = rig(&tool);
    let mut run = tool.begin(&["run", "--rig"]);
    run.wait_for(&["the converter runs"]);
    until("the devices", || tool.run(&["read", "do-1.oxygen"]).status == 0);
    let done = tool.run(&["scan", "raceway", "--quick", "--units", "21-23"]);
    assert_eq!(done.status, 0, "{}", done.err);
    assert!(
        done.out.contains("port raceway, through the running converter, modbus-rtu: 3 asked, 3 found"),
        "{}",
        done.out
    );
    // A refusal is an answer, and took its time.
    assert!(!done.out.contains(" 0.0ms"), "{}", done.out);
    let lines = tool.run(&["scan", "raceway", "--find-settings"]);
    assert_eq!(lines.status, 2);
    assert!(lines.err.contains("a running converter has port raceway"), "{}", lines.err);
}

#[test]
fn a_way_that_is_pulled_out_ends_the_scan_with_what_it_has() {
    let tool = Tool::with_hatchery();
    let (_rig, path) = rig(&tool);
    let scan = [
        "scan",
        "--serial",
        &path,
        "--line",
        "38400 8E1",
        "--quick",
        "--units",
        "20-200",
        "--timeout",
        "300ms",
        "--resume",
        "k.json",
    ];
    let mut running = tool.begin(&scan);
    until("the first units", || {
        std::fs::read_to_string(tool.file("k.json")).is_ok_and(|text| text.contains("\"station\": 22"))
    });
    assert_eq!(tool.run(&["rig", "unplug", "raceway"]).status, 0);
    running.wait_for(&["the connection is gone; what was found before is kept"]);
    running.wait_for(&["22  ", "ms"]);
}

#[test]
fn what_cannot_be_scanned_is_told() {
    let tool = Tool::with_hatchery();
    for (args, status, told) in [
        (&["scan"][..], 2, "name the port: raceway, feeders, pump-house"),
        (&["scan", "office-2"], 2, "there is no port `office-2`"),
        (&["scan", "raceway", "--units", "300"], 2, "`300` is not a unit from 1 to 247"),
        (&["scan", "raceway", "--units", "9-3"], 2, "`9-3` is not a unit"),
        (&["scan", "raceway", "--units", "1"], 3, "/dev/ttyUSB0 does not exist"),
        (&["scan", "192.0.2.40:502", "--find-settings"], 2, "`--find-settings` is for serial lines"),
        (&["scan", "127.0.0.1:1"], 3, "refuses the connection"),
        (&["scan", "--serial", "/dev/null", "--line", "9600 8N1"], 3, "is not a serial line"),
    ] {
        let done = tool.run(args);
        assert_eq!(done.status, status, "{args:?}: {}{}", done.out, done.err);
        assert!(done.err.contains(told), "{args:?}: {}", done.err);
    }
}

#[test]
fn a_protocol_has_its_own_numbers_and_its_own_word_for_them() {
    let tool = Tool::new();
    let line = "[ports.feeders]\nserial = \"/dev/ttyUSB0\"\nline = \"19200 8N1\"\nprotocol = \"df1-half\"\nown-node = 7\n";
    let device = |name: &str, node: u32| {
        format!("[devices.{name}]\nport = \"feeders\"\nnode = {node}\ntables = {{ N7 = 4 }}\n")
    };
    tool.write("woodrush.toml", &[line.to_string(), device("first", 0), device("last", 254)].concat());
    let (_rig, path) = {
        let mut rig = tool.begin(&["rig", "up"]);
        let line = rig.wait_for(&["feeders "]);
        let path = line.split_whitespace().nth(1).unwrap().to_string();
        rig.wait_for(&["Ctrl-C ends it"]);
        (rig, path)
    };
    let scan =
        ["scan", "--serial", &path, "--line", "19200 8N1", "--protocol", "df1-half", "--set", "own-node=7"];
    let done = tool.run(&[&scan[..], &["--quick", "--timeout", "400ms", "--units", "0,253-254"]].concat());
    assert_eq!(done.status, 0, "{}{}", done.out, done.err);
    assert!(done.out.contains("3 asked, 2 found") && done.out.contains("NODE"), "{}", done.out);
    let rows: Vec<&str> = done.out.lines().filter_map(|line| line.split_whitespace().next()).collect();
    assert!(rows.contains(&"0") && rows.contains(&"254"), "{}", done.out);
}
