//! `rig up`, `run --rig`, and the commands from another terminal, as separate processes.

use crate::tool::{Tool, until};
use serde_json::Value;
use std::path::PathBuf;

fn rig(tool: &Tool, words: &[&str]) -> Value {
    let done = tool.run(&[&["rig", "--format", "json"], words].concat());
    assert_eq!(done.status, 0, "{words:?}: {}", done.err);
    serde_json::from_str(&done.out).unwrap()
}

/// What the client of the starter saw last at its first read.
fn seen(tool: &Tool) -> String {
    let answer = rig(tool, &["status"]);
    let rows = answer["rows"].as_array().unwrap().clone();
    let row = rows.iter().find(|row| row["value"].as_str().unwrap().starts_with("400001"));
    row.map(|row| row["detail"].as_str().unwrap().to_string()).unwrap_or_default()
}

#[test]
fn a_bench_in_one_terminal_a_converter_in_another_and_commands_from_a_third() {
    let tool = Tool::with_starter();
    tool.edit("poll    = \"500ms\"", "poll    = \"100ms\"\nretry-lost = \"200ms..1s\"");
    tool.edit("timeout  = \"300ms\"", "timeout  = \"100ms\"");
    let mut bench = tool.begin(&["rig", "up"]);
    let line = bench.wait_for(&["bus", "/dev/pts/"]);
    let pty = PathBuf::from(line.split_whitespace().nth(1).unwrap());
    bench.wait_for(&["Ctrl-C ends it"]);
    let second = tool.run(&["rig", "up"]);
    assert_eq!(second.status, 3);
    assert!(second.err.contains("a rig of this project is running already"), "{}", second.err);

    let mut converter = tool.begin(&["run", "--rig"]);
    converter.wait_for(&["probe-1", "online"]);
    rig(&tool, &["set", "probe-1.temperature=12.3"]);
    until("the client sees the value that was set", || seen(&tool).ends_with("12.3"));
    assert_eq!(rig(&tool, &["get", "probe-1.temperature"])["rows"][0]["detail"], "007B");
    assert_eq!(rig(&tool, &["get", "probe-1:400011 as f32 CDAB"])["rows"][0]["value"], 30);

    rig(&tool, &["cut", "bus"]);
    converter.wait_for(&["probe-1", "lost: no answer came"]);
    until("the client is refused", || seen(&tool).contains("Modbus exception 11 (0x0B)"));
    rig(&tool, &["mend"]);
    until("the client sees it again", || seen(&tool).ends_with("12.3"));

    rig(&tool, &["refuse", "probe-1", "6"]);
    converter.wait_for(&["probe-1", "refuses", "Modbus exception 6 (0x06), server device busy"]);
    rig(&tool, &["mend", "probe-1"]);
    for (words, wrong) in [
        (vec!["cut", "nosuch"], "its lines are bus"),
        (vec!["set", "probe-1.temperature=warm"], "`warm` is not a number"),
        (vec!["set", "probe-2.temperature=1"], "there is no device `probe-2` (its devices are probe-1)"),
        (vec!["get", "probe-1.colour"], "has no point `colour`"),
        (vec!["noise", "bus", "7"], "`noise bus 5%`"),
    ] {
        let done = tool.run(&[&["rig"], words.as_slice()].concat());
        assert_eq!(done.status, 2, "{words:?}");
        assert!(done.err.contains(wrong), "{words:?}: {}", done.err);
    }

    assert_eq!(converter.interrupt(), 0);
    assert!(pty.exists());
    assert_eq!(bench.interrupt(), 0);
    assert!(!pty.exists(), "the pty is gone");
    let left: Vec<_> =
        std::fs::read_dir(tool.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert!(!left.iter().any(|name| name.to_string_lossy().ends_with(".sock")), "{left:?}");
    assert_eq!(tool.run(&["rig", "status"]).status, 3);
}

#[test]
fn a_client_that_writes_regularly_is_played() {
    let tool = Tool::with_starter();
    tool.edit("poll    = \"500ms\"", "poll    = \"100ms\"");
    tool.edit("writes    = [\"400011 as f32 ABCD\"]", "writes    = [\"400011 as f32 ABCD every 100ms\"]");
    let mut bench = tool.begin(&["rig", "up"]);
    bench.wait_for(&["Ctrl-C ends it"]);
    let mut converter = tool.begin(&["run", "--rig"]);
    converter.wait_for(&["probe-1", "online"]);
    let mut values = std::collections::BTreeSet::new();
    until("the device takes several values", || {
        values.insert(rig(&tool, &["get", "probe-1.setpoint"])["rows"][0]["value"].to_string());
        values.len() > 5
    });
    let rows = rig(&tool, &["status"])["rows"].as_array().unwrap().clone();
    let row = rows.iter().find(|row| row["value"].as_str().unwrap().starts_with("writes 400011")).unwrap();
    assert!(row["detail"].as_str().unwrap().contains(" answered, "), "{row}");
}

#[test]
fn a_program_may_bring_up_the_bench_and_read_where_its_lines_are() {
    let tool = Tool::with_hatchery();
    let mut bench = tool.begin(&["--format", "csv", "rig", "up"]);
    let head = bench.wait_for(&["name,value,detail"]);
    let line = bench.wait_for(&["raceway,/dev/pts/", "38400 8E1"]);
    assert!(
        bench.seen.iter().position(|seen| *seen == head) < bench.seen.iter().position(|seen| *seen == line)
    );
    bench.wait_for(&["inlet-gauge,unit 42,online"]);
    assert_eq!(bench.interrupt(), 0);
}

#[test]
fn a_second_converter_on_the_same_line_is_told_who_holds_it() {
    let tool = Tool::with_starter();
    let mut bench = tool.begin(&["rig", "up"]);
    let line = bench.wait_for(&["bus", "/dev/pts/"]);
    let pty = line.split_whitespace().nth(1).unwrap().to_string();
    bench.wait_for(&["Ctrl-C ends it"]);
    let mut first = tool.begin(&["run", "--rig"]);
    first.wait_for(&["probe-1", "online"]);
    tool.edit("/dev/ttyUSB0", &pty);
    // A port that is free now: a fixed one may be somebody else's.
    let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    tool.edit("0.0.0.0:502", &format!("127.0.0.1:{free}"));
    tool.edit("192.0.2.10:502", &format!("192.0.2.10:{free}"));
    let same = tool.run(&["run"]);
    assert_eq!(same.status, 3);
    assert!(same.err.contains("a converter of this project is running already"), "{}", same.err);
    std::fs::copy(tool.file("woodrush.toml"), tool.file("second.toml")).unwrap();
    let done = tool.run(&["-p", "second.toml", "run"]);
    assert_eq!(done.status, 3);
    assert!(done.err.contains(&format!("{pty} is in use by `woodrush` (process ")), "{}", done.err);
    drop(first);
    drop(bench);
}
