//! The ways in which a device can misbehave, each asked for from another terminal and told by the converter.

use crate::tool::{Tool, until};
use serde_json::Value;

/// The starter on a quick line, so that a device is soon lost and soon back.
fn quick() -> Tool {
    let tool = Tool::with_starter();
    tool.edit("poll    = \"500ms\"", "poll    = \"100ms\"\nretry-lost = \"100ms..300ms\"");
    tool.edit("timeout  = \"300ms\"", "timeout  = \"100ms\"");
    tool
}

fn status(tool: &Tool) -> Value {
    serde_json::from_str(&tool.run(&["--format", "json", "status"]).out).unwrap_or_default()
}

fn count(status: &Value, what: &str) -> u64 {
    status["devices"][0]["counts"][what].as_u64().unwrap_or_else(|| panic!("no {what} in {status}"))
}

fn is_good(tool: &Tool) -> bool {
    let now = status(tool);
    now["devices"][0]["online"] == true && now["rules"][0]["fresh"] == true
}

#[test]
fn each_misbehaviour_is_counted_and_told_and_mended() {
    let tool = quick();
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C ends it"]);
    let mut run = tool.begin(&["run", "--rig"]);
    run.wait_for(&["probe-1", "online"]);
    // What is asked for, and which counter of the device then grows.
    for (words, counter, ails, told) in [
        (&["mute", "probe-1"][..], "no_answer", "mute", "no answer"),
        (&["slow", "probe-1", "400ms"], "no_answer", "400 ms", "no answer"),
        (&["late", "probe-1"], "no_answer", "late", "no answer"),
        (&["as-unit", "probe-1", "9"], "mismatched", "answers as unit 9", "mismatched"),
        (&["short", "probe-1"], "damaged", "short", "damaged"),
        (&["noise", "bus", "0.1"], "damaged", "noise 0.1", "damaged"),
        (
            &["refuse", "probe-1", "4"],
            "exceptions",
            "refuses with Modbus exception 4 (0x04)",
            "server device failure",
        ),
        (&["cut", "bus"], "no_answer", "CUT", "no answer"),
    ] {
        until("a sound device", || is_good(&tool));
        let before = grown(&status(&tool), counter);
        let said = tool.run(&[&["rig"], words].concat());
        assert_eq!((said.status, said.err.as_str()), (0, ""), "{words:?}");
        until(&format!("{words:?} in {counter}"), || grown(&status(&tool), counter) > before + 1);
        let shown = tool.run(&["rig", "status"]).out;
        assert!(shown.contains(ails), "{words:?}: {shown}");
        let text = tool.run(&["status"]);
        assert!(text.status == 0 && text.out.contains(told), "{words:?}: {}", text.out);
        assert_eq!(tool.run(&["rig", "mend"]).status, 0);
    }
    // Said twice is heard once: no value is lost, and no later one taken for it.
    let mended = count(&status(&tool), "answers");
    until("answers of the mended device", || count(&status(&tool), "answers") > mended + 1);
    assert_eq!(tool.run(&["rig", "twice", "probe-1"]).status, 0);
    let (before, failed) = (count(&status(&tool), "answers"), count(&status(&tool), "no_answer"));
    until("answers that are said twice", || count(&status(&tool), "answers") > before + 5);
    assert_eq!((count(&status(&tool), "no_answer"), is_good(&tool)), (failed, true));
    assert_eq!(tool.run(&["rig", "mend", "probe-1"]).status, 0);
    until("a sound device at the end", || is_good(&tool));
    assert_eq!((run.interrupt(), rig.interrupt()), (0, 0));
}

fn grown(status: &Value, counter: &str) -> u64 {
    let refused = || {
        let by_code = status["devices"][0]["counts"]["exceptions"].as_array().cloned().unwrap_or_default();
        by_code.iter().filter_map(|pair| pair[1].as_u64()).sum()
    };
    if counter == "exceptions" { refused() } else { count(status, counter) }
}
