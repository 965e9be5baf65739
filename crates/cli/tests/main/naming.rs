//! A controller with tags at the bench: listed, read and written by name.

use crate::tool::Tool;
use serde_json::Value;

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"))
}

#[test]
fn tags_are_listed_read_and_written_by_name() {
    let tool = Tool::with_hatchery();
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C ends it"]);
    let found = json(&tool.run(&["scan", "--rig", "grader", "--format", "json"]).out);
    let names = found["found"][0]["names"].as_array().unwrap();
    let told: Vec<String> = names
        .iter()
        .map(|name| format!("{} {} {}", name["name"], name["type_name"], name["dimensions"]))
        .collect();
    assert!(told.contains(&"\"Line.Counts\" \"DINT\" [4]".to_string()), "{told:?}");
    assert!(told.contains(&"\"Alarms\" \"BOOL\" [64]".to_string()), "{told:?}");
    assert!(told.contains(&"\"Program:Pace.WaterIsFresh\" \"BOOL\" []".to_string()), "{told:?}");
    // The list comes back as one that `tags` takes.
    let list = tool.run(&["scan", "--rig", "grader", "--format", "csv"]);
    assert_eq!(list.status, 0, "{}", list.err);
    tool.write("grader-tags.csv", &list.out);
    let checked = tool.run(&["check"]);
    assert_eq!(checked.status, 0, "{}", checked.out);
    assert_eq!(tool.run(&["write", "--rig", "--yes", "grader:Line.BeltSetpoint=125"]).status, 0);
    assert_eq!(tool.run(&["rig", "set", "grader:Line.Counts[2]=1746"]).status, 0);
    let read = tool.run(&[
        "read",
        "--rig",
        "grader:Line.BeltSetpoint",
        "grader:Line.Counts[1] x3",
        "--format",
        "json",
    ]);
    let values = json(&read.out);
    let all = values["values"].as_array().unwrap();
    assert_eq!((&all[0]["value"], &all[2]["value"]), (&125.into(), &1746.into()), "{values:#}");
    // A name that the controller does not have is told with the likely cause.
    let other = tool.run(&["read", "--rig", "grader:Line.Speed as f32"]);
    assert_eq!(other.status, 2, "{} {}", other.out, other.err);
    assert!(other.err.contains("does not declare `Line.Speed`"), "{}", other.err);

    drop(rig);
}

/// Of a name without a list only the rules know the type; it need not be stated again.
#[test]
fn a_tag_whose_type_a_rule_says_is_traced_without_it() {
    let tool = Tool::new();
    tool.write(
        "woodrush.toml",
        "[ports.hall]\nconnect = \"192.0.2.60\"\nprotocol = \"ethernet-ip\"\n[ports.office]\nlisten = \"0.0.0.0:502\"\nprotocol = \"modbus-tcp\"\n[devices.press]\nport = \"hall\"\n[images.scada]\nport = \"office\"\n[[map]]\nfrom = \"press:Hall.Temps[4] as f32\"\nto = \"scada:400001\"\ncount = 4\n",
    );
    let traced = tool.run(&["trace", "press:Hall.Temps[5]"]);
    assert_eq!(traced.status, 0, "{}", traced.err);
    assert!(traced.out.contains("read tag Hall.Temps[4], 4 elements of REAL"), "{}", traced.out);
    let unknown = tool.run(&["trace", "press:Hall.Speed"]);
    assert_eq!(unknown.status, 2);
    assert!(unknown.err.contains("nothing states the type of the tag `Hall.Speed`"), "{}", unknown.err);
}

/// Data tables behind the same protocol, asked by the converter, by a scan and by a person on a way of his own at once.
#[test]
fn an_older_controller_is_scanned_and_read_by_its_files() {
    let tool = Tool::new();
    tool.write(
        "woodrush.toml",
        "[ports.packing]\nconnect = \"192.0.2.40\"\nprotocol = \"ethernet-ip\"\n[ports.office]\nlisten = \"0.0.0.0:502\"\nprotocol = \"modbus-tcp\"\n[devices.packer]\nport = \"packing\"\nmemory = \"tables\"\npoll = \"100ms\"\n[images.scada]\nport = \"office\"\n[[map]]\nfrom = \"packer:N7:0\"\nto = \"scada:400001\"\ncount = 10\naccess = \"read-write\"\n",
    );
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C ends it"]);
    let mut run = tool.begin(&["run", "--rig"]);
    run.wait_for(&["packer", "online"]);
    let scanned = json(&tool.run(&["scan", "packer", "--format", "json"]).out);
    let tables = &scanned["found"][0]["tables"];
    assert_eq!((&tables[0]["table"], &tables[0]["ranges"][0][2]), (&"N7".into(), &10.into()), "{scanned:#}");
    let lines = json(&tool.run(&["rig", "status", "--format", "json"]).out);
    let host = lines["rows"][0]["value"].as_str().unwrap().to_string();
    let bare = ["read", &host, "--protocol", "ethernet-ip", "--set", "memory=tables", "--format", "json"];
    assert_eq!(tool.run(&["write", "packer:N7:4=-1746", "--yes"]).status, 0);
    let values = json(&tool.run(&[&bare[..], &["N7:4", "N7:9"]].concat()).out);
    assert_eq!(values["values"][0]["value"], -1746, "{values:#}");
    let refused = tool.run(&[&bare[..4], &["--set", "memory=tables", "N7:10"]].concat());
    assert!(refused.status == 1 && refused.err.contains("EXT STS 0x06"), "{}", refused.err);
    let status = json(&tool.run(&["status", "--format", "json"]).out);
    assert_eq!(status["devices"][0]["online"], true, "{status:#}");
    assert_eq!((run.interrupt(), rig.interrupt()), (0, 0));
}
