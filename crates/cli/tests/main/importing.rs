//! Register lists with the built program: from a maker's table to a profile that checks, and what a device says to it.

use crate::tool::Tool;

const FAN: &str = include_str!("../../../core/tests/lists/fan-drive.csv");

const SITE: &str = r#"
[ports.line]
serial = "/dev/ttyUSB0"
line = "38400 8E1"
protocol = "modbus-rtu"
timeout = "200ms"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[images.scada]
port = "office"
[devices.fan]
port = "line"
unit = 1
profile = "profiles/fan-drive.toml"
[devices.gauge]
port = "line"
unit = 2
[[map]]
from = "fan.speed"
to = "scada:400001 as f32 ABCD"
[[map]]
from = "gauge:400514"
to = "scada:400003"
[[map]]
from = "gauge:400522"
to = "scada:400004"
"#;

#[test]
fn a_list_becomes_a_profile_that_checks_and_is_held_against_the_device() {
    let tool = Tool::new();
    tool.write("fan-drive.csv", FAN);
    let made = tool.run(&["import", "fan-drive.csv", "--as", "profiles/fan-drive.toml"]);
    assert_eq!(made.status, 0, "{}", made.err);
    assert!(made.err.contains("wrote profiles/fan-drive.toml: 8 points"), "{}", made.err);
    let profile = std::fs::read_to_string(tool.file("profiles/fan-drive.toml")).unwrap();
    assert!(profile.contains("# line 7: A2.07,Energy,519-520,0x0207,UINT32 (LSW first)"), "{profile}");
    tool.write("woodrush.toml", SITE);
    let checked = tool.run(&["check"]);
    assert_eq!(checked.status, 0, "{}{}", checked.out, checked.err);
    // A file that exists is not overwritten.
    let again = tool.run(&["import", "fan-drive.csv", "--as", "profiles/fan-drive.toml"]);
    assert_eq!(again.status, 2, "{}", again.err);
    assert!(again.err.contains("exists already"), "{}", again.err);
    assert_eq!(std::fs::read_to_string(tool.file("profiles/fan-drive.toml")).unwrap(), profile);

    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["fan"]);
    let set = tool.run(&["rig", "set", "fan.heat-sink-temperature=160"]);
    assert_eq!(set.status, 0, "{}", set.err);
    let tried = tool.run(&["import", "fan-drive.csv", "--dry-run", "--try", "fan", "--rig"]);
    assert_eq!(tried.status, 1, "{}{}", tried.out, tried.err);
    assert!(tried.out.contains("160: outside -40..150"), "{}", tried.out);
    assert!(tried.err.contains("7 of 8 points read as the list says"), "{}", tried.err);
    // Another device has two of them.
    let other = ["import", "fan-drive.csv", "--dry-run", "--try", "gauge", "--rig", "--format", "json"];
    let other = tool.run(&other);
    assert_eq!(other.status, 1, "{}", other.err);
    let json: serde_json::Value = serde_json::from_str(&other.out).unwrap();
    let points = json["points"].as_array().unwrap();
    assert!(points[0]["fault"].as_str().unwrap().contains("illegal data address"), "{}", points[0]);
    assert!(points[3]["tried"].is_string() && points[3]["fault"].is_null(), "{}", points[3]);
    let mute = tool.run(&["rig", "mute", "fan"]);
    assert_eq!(mute.status, 0, "{}", mute.err);
    let silent = tool.run(&["import", "fan-drive.csv", "--dry-run", "--try", "fan", "--rig"]);
    assert_eq!(silent.status, 3, "{}{}", silent.out, silent.err);
    assert!(silent.err.contains("0 of 8 points"), "{}", silent.err);
}

#[test]
fn the_list_of_the_built_in_example_gives_the_points_of_its_profile() {
    let tool = Tool::with_hatchery();
    let made = tool.run(&["import", "lists/blower-drive.csv", "--dry-run", "--format", "json"]);
    assert_eq!(made.status, 0, "{}{}", made.out, made.err);
    let json: serde_json::Value = serde_json::from_str(&made.out).unwrap();
    let points: Vec<String> = json["points"]
        .as_array()
        .unwrap()
        .iter()
        .map(|point| format!("{} {} {} {}", point["name"], point["address"], point["form"], point["access"]))
        .collect();
    let profile = std::fs::read_to_string(tool.file("profiles/blower-drive.toml")).unwrap();
    for block in profile.split("[points.").skip(1) {
        let (name, rest) = block.split_once(']').unwrap();
        let value = |key: &str| {
            let line = rest.lines().find(|line| line.split_whitespace().next() == Some(key));
            line.map(|line| line.split('"').nth(1).unwrap().to_string())
        };
        let access = value("access").unwrap_or("read".into());
        let wanted = [name.to_string(), value("at").unwrap(), value("as").unwrap(), access];
        let wanted = wanted.map(|word| format!("\"{word}\"")).join(" ");
        assert!(points.contains(&wanted), "{wanted}: {points:#?}");
    }
}

#[test]
fn nothing_is_written_while_something_is_open_and_what_is_said_is_said_in_every_form() {
    let tool = Tool::new();
    tool.write("list.csv", "Address,Name,Type,Note\n16,A,UINT16,=1+1\n17,B,FLOAT,@x\n,C,UINT16,\n");
    let open = tool.run(&["import", "list.csv", "--as", "list.toml"]);
    assert_eq!(open.status, 1, "{}", open.err);
    for words in [
        "--counts-from 0",
        "16 is 400017 (holding:16)",
        "line 4: its `Address` is empty",
        "nothing is written",
    ] {
        assert!(open.err.contains(words), "{words}: {}", open.err);
    }
    assert!(!tool.file("list.toml").exists());
    let json = tool.run(&["import", "list.csv", "--dry-run", "--counts-from", "0", "--format", "json"]);
    let json: serde_json::Value = serde_json::from_str(&json.out).unwrap();
    assert_eq!(json["questions"][0]["readings"].as_array().unwrap().len(), 4, "{json}");
    assert_eq!(
        (json["not_understood"][0]["line"].as_u64(), json["written"].as_bool()),
        (Some(4), Some(false))
    );
    let all = ["import", "list.csv", "--counts-from", "0", "--order", "CDAB"];
    let csv = tool.run(&[&all[..], &["--dry-run", "--format", "csv"]].concat());
    assert_eq!(csv.status, 1, "a row is not understood: {}", csv.err);
    assert!(csv.out.contains("'=1+1") && csv.out.contains("'@x"), "no spreadsheet executes it: {}", csv.out);
    let made = tool.run(&[&all[..], &["--as", "deep/er/list.toml"]].concat());
    assert_eq!(made.status, 1, "{}", made.err);
    let text = std::fs::read_to_string(tool.file("deep/er/list.toml")).unwrap();
    assert!(text.contains("# line 4: ,C,UINT16, (its `Address` is empty)"), "{text}");
    assert!(text.contains("as   = \"f32 CDAB\""), "{text}");
}

#[test]
fn what_cannot_be_imported_is_told_with_what_could() {
    let tool = Tool::new();
    tool.write("list.csv", FAN);
    tool.write("photo.csv", "\u{0}\u{1}\u{2}");
    for (args, status, words) in [
        (&["import", "list.csv"][..], 2, "--as"),
        (&["import", "nothing.csv", "-n"], 2, "nothing.csv does not exist"),
        (&["import", "photo.csv", "-n"], 2, "none of its first lines is a header"),
        (&["import", "list.csv", "-n", "--columns", "adress=Hex"], 2, "perhaps `address`"),
        (&["import", "list.csv", "-n", "--columns", "unit=Einheit"], 2, "no column has the head `Einheit`"),
        (&["import", "list.csv", "-n", "--order", "XY"], 2, "is not an order"),
        (&["import", "list.csv", "-n", "--table", "things"], 2, "is not a table"),
        (&["import", "list.csv", "-n", "--counts-from", "2"], 2, "2"),
        (&["import", "list.csv", "--as", "/proc/none/list.toml"], 3, "nothing was written"),
    ] {
        let told = tool.run(args);
        assert_eq!(told.status, status, "{args:?}: {}{}", told.out, told.err);
        assert!(told.err.contains(words), "{args:?}: {}", told.err);
    }
}
