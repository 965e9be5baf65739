//! Exit statuses and messages when something is in the way.

use crate::tool::Tool;
use std::process::Stdio;

#[test]
fn wrong_usage_and_unreadable_files_are_2() {
    let tool = Tool::new();
    assert_eq!(tool.run(&["chek"]).status, 2);
    let none = tool.run(&["check"]);
    assert_eq!(none.status, 2);
    assert!(none.err.contains("there is no woodrush.toml in"), "{}", none.err);
    assert!(none.err.contains("make one with `woodrush new DIR`"), "{}", none.err);
    let named = tool.run(&["-p", "lost.toml", "check"]);
    assert_eq!(named.status, 2);
    assert!(named.err.contains("lost.toml does not exist"), "{}", named.err);
    let starter = Tool::with_starter();
    std::fs::remove_file(starter.file("profiles/temperature-probe.toml")).unwrap();
    for command in ["check", "map", "run", "prove"] {
        let done = starter.run(&[command]);
        assert_eq!(done.status, 2, "{command}");
        assert!(done.err.contains("profile"), "{command}: {}", done.err);
    }
    starter.write("woodrush.toml", "\u{0}\u{1}[[[");
    assert_eq!(starter.run(&["check"]).status, 1, "it can be read, and it is wrong");
    std::fs::write(starter.file("woodrush.toml"), [0xFF, 0xFE, 0x00]).unwrap();
    let done = starter.run(&["check"]);
    assert_eq!(done.status, 2);
    assert!(done.err.contains("is not UTF-8 text"), "{}", done.err);
}

#[test]
fn what_is_in_the_way_outside_is_3_with_the_path_and_the_mend() {
    let tool = Tool::with_starter();
    tool.edit("0.0.0.0:502", "127.0.0.1:1");
    tool.edit("192.0.2.10:502", "192.0.2.10:1");
    tool.edit("/dev/ttyUSB0", "/dev/no-such-line");
    let socket = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = socket.local_addr().unwrap().port();
    tool.edit("127.0.0.1:1\"", &format!("127.0.0.1:{port}\""));
    tool.edit("192.0.2.10:1\"", &format!("192.0.2.10:{port}\""));
    let used = tool.run(&["run"]);
    assert_eq!(used.status, 3);
    assert!(
        used.err.contains(&format!("port `plant`: 127.0.0.1:{port} is in use by another program")),
        "{}",
        used.err
    );
    drop(socket);
    let missing = tool.run(&["run", "--strict"]);
    assert_eq!(missing.status, 3);
    assert!(
        missing.err.contains("port `bus`: /dev/no-such-line does not exist (is the adapter plugged in?"),
        "{}",
        missing.err
    );
    tool.edit("/dev/no-such-line", "/dev/null");
    let wrong = tool.run(&["run"]);
    assert_eq!(wrong.status, 3);
    assert!(wrong.err.contains("/dev/null is not a serial line"), "{}", wrong.err);
    let rig = tool.run(&["run", "--rig"]);
    assert_eq!(rig.status, 3);
    assert!(rig.err.contains("start `woodrush rig up` in another terminal"), "{}", rig.err);
    let report = tool.run(&["prove", "--report", "proof.pdf"]);
    assert_eq!(report.status, 2);
    assert!(report.err.contains("a report's name ends in .html, .json or .xml"), "{}", report.err);
}

#[test]
fn a_project_with_errors_is_not_started_and_says_why() {
    let tool = Tool::with_starter();
    tool.edit("plc:400011 as f32 ABCD\"\naccess", "plc:400001 as f32 ABCD\"\naccess");
    for command in ["run", "map", "prove"] {
        let done = tool.run(&[command]);
        assert_eq!(done.status, 1, "{command}");
        assert!(done.err.contains("error M17") && done.err.contains("nothing was started"), "{}", done.err);
    }
}

#[test]
fn a_reader_that_goes_away_is_no_failure() {
    let tool = Tool::with_hatchery();
    let mut child = tool
        .command(&["map", "--format", "json"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    assert_eq!(child.wait().unwrap().code(), Some(0));
}

/// Whatever the project file holds, every command ends with a status and a sentence, never with a panic.
#[test]
fn no_damage_to_a_project_makes_a_command_panic() {
    let tool = Tool::with_starter();
    let text = std::fs::read_to_string(tool.file("woodrush.toml")).unwrap();
    let lines: Vec<&str> = text.lines().collect();
    for at in (0..lines.len()).filter(|at| !lines[*at].trim().is_empty() && !lines[*at].starts_with('#')) {
        let mut damaged = lines.clone();
        damaged.remove(at);
        let twice = [&lines[..=at], &lines[at..]].concat();
        for text in [damaged.join("\n"), twice.join("\n")] {
            tool.write("woodrush.toml", &text);
            for command in [["check", "--format=json"], ["map", "--format=csv"]] {
                let done = tool.run(&command);
                assert!((0..=2).contains(&done.status), "{}", done.err);
                assert!(!done.err.contains("panicked"), "{}", done.err);
                if command[0] == "check" && done.status < 2 {
                    let answer: serde_json::Value = serde_json::from_str(&done.out).unwrap();
                    assert_eq!(answer["good"].as_bool(), Some(done.status == 0));
                }
            }
        }
    }
}
