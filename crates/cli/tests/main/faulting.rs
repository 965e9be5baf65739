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

/// A controller with tags, of which the rules name some.
const TAGS: &str = r#"
[project]
name = "Press"
[ports.hall]
connect = "192.0.2.60"
protocol = "ethernet-ip"
timeout = "300ms"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.press]
port = "hall"
tags = "press.csv"
poll = "100ms"
retry-lost = "100ms..300ms"
[images.scada]
port = "office"
[[map]]
from = "press:Hall.Temps[0]"
to = "scada:400001"
[[map]]
from = "press:Speed"
to = "scada:400011"
access = "read-write"
"#;

/// A tag is renamed, gets another type, is locked, the port is closed: what a controller's programmer does is told by the
/// tag's name, costs that tag alone, and is over once it is undone.
#[test]
fn what_a_controllers_programmer_changes_is_told_by_the_tag() {
    let tool = Tool::with_starter();
    tool.write("woodrush.toml", TAGS);
    let list = "name,type,elements,access\nHall.Temps,REAL,4,\nSpeed,INT,,\nHall.Alarm,BOOL,,read-only\nPlan,INT,\"2,3\",\n";
    tool.write("press.csv", list);
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C ends it"]);
    let mut run = tool.begin(&["run", "--rig"]);
    run.wait_for(&["press", "online"]);
    let fresh = |rule: usize| status(&tool)["rules"][rule]["fresh"] == true;
    until("both values", || fresh(0) && fresh(1));
    let said = tool.run(&["scan", "press"]).out;
    for row in ["Hall.Temps  REAL[4]", "Hall.Alarm  BOOL", "Speed       INT", "Plan        INT[2,3]"] {
        let words = |text: &str| text.split_whitespace().map(String::from).collect::<Vec<_>>();
        assert!(said.lines().any(|line| words(line) == words(row)), "{row}: {said}");
    }
    for (word, native) in
        [("rename", "CIP status 0x05"), ("retype", "type DINT, another type than in the project")]
    {
        assert_eq!(tool.run(&["rig", word, "press", "Hall.Temps"]).status, 0);
        run.wait_for(&["Hall.Temps[0]", native]);
        until(word, || !fresh(0));
        assert!(fresh(1), "{word} costs that tag alone");
        let shown = tool.run(&["rig", "status"]).out;
        assert!(shown.contains("Hall.Temps[0] has another"), "{shown}");
        assert_eq!(tool.run(&["rig", "mend"]).status, 0);
        until("both values again", || fresh(0) && fresh(1));
    }
    // What the list says is read-only is so, and with the fault everything.
    let refused = tool.run(&["write", "press:Hall.Alarm=1", "--yes"]);
    assert!(refused.status == 1 && refused.err.contains("CIP status 0x0F"), "{}", refused.err);
    assert_eq!(tool.run(&["write", "press:Speed=120", "--yes"]).status, 0);
    assert_eq!(tool.run(&["rig", "read-only", "press"]).status, 0);
    assert_eq!(tool.run(&["write", "press:Speed=130", "--yes"]).status, 1);
    assert!(tool.run(&["rig", "get", "press:Speed"]).out.contains("120"));
    assert_eq!(tool.run(&["rig", "close", "hall"]).status, 0);
    until("a closed port", || status(&tool)["ports"][0]["up"] == false);
    assert!(tool.run(&["rig", "status"]).out.contains("CLOSED"));
    assert_eq!(tool.run(&["rig", "mend"]).status, 0);
    until("values through the port again", || fresh(0) && fresh(1));
    for (words, why) in [
        (&["rename", "press", "Nope"][..], "`press` has no tag `Nope` on this rig"),
        (
            &["retype", "press", "Hall.Alarm"],
            "`press` has no tag `Hall.Alarm` on this rig, or none that can change so",
        ),
        (&["rename", "hall", "9x"], "has no tag `9x`"),
    ] {
        let said = tool.run(&[&["rig"], words].concat());
        assert!(said.status == 2 && said.err.contains(why), "{words:?}: {}", said.err);
    }
    assert_eq!((run.interrupt(), rig.interrupt()), (0, 0));
}
