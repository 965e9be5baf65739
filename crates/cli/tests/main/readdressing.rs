//! `readdress`: the device moves, the file follows in place, and every failure leaves the file as it was and says where the
//! device is.

use crate::tool::{Running, Tool, until};

const PROFILE: &str = r#"
[profile]
name = "Gauge"
line = "38400 8E1"
unit = 1
[points.level]
at = "300001"
as = "u16"
[points.number]
at = "400099"
as = "u16"
access = "read-write"
role = "unit-address"
[points.speed]
at = "400100"
as = "u16"
access = "read-write"
role = "line-speed"
values = { 9600 = 0, 38400 = 2 }
[points.parity]
at = "400101"
as = "u16"
access = "read-write"
role = "line-parity"
values = { 8N1 = 0, 8E1 = 1 }
LOCK
"#;
const LOCK: &str = r#"
[points.key]
at = "400110"
as = "u16"
access = "read-write"
role = "unlock"
[points.take]
at = "400111"
as = "u16"
access = "read-write"
role = "apply"
"#;

const SITE: &str = r#"[project]
name = "Sallow Beck hatchery"

[ports.line]                 # the long one
serial   = "/dev/ttyUSB0"
line     = "38400 8E1"
protocol = "modbus-rtu"

[ports.office]
listen   = "192.0.2.10:502"
protocol = "modbus-tcp"
allow    = ["192.0.2.0/24"]

[devices.gauge]
port    = "line"
unit    = 21                 # switch it off and on
profile = "gauge.toml"

[devices.other]
port    = "line"
unit    = 22
profile = "gauge.toml"

[[forward]]
from     = "office"
units    = "5-6"
to       = "line"
as-units = "21-22"
"#;

fn site(lock: &str) -> (Tool, Running) {
    let tool = Tool::new();
    tool.write("woodrush.toml", SITE);
    tool.write("gauge.toml", &PROFILE.replace("LOCK", lock));
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C ends it"]);
    (tool, rig)
}

fn file(tool: &Tool) -> String {
    std::fs::read_to_string(tool.file("woodrush.toml")).unwrap()
}

#[test]
fn a_device_moves_and_the_file_follows_in_place() {
    let (tool, _rig) = site("");
    let done = tool.run(&["readdress", "gauge", "--to", "25", "--rig", "--yes", "--timeout", "500ms"]);
    assert_eq!(done.status, 0, "{}{}", done.out, done.err);
    // Comments and layout stay as they were.
    assert_eq!(file(&tool), SITE.replace("unit    = 21  ", "unit    = 25  "));
    assert!(done.out.contains("[devices.gauge] unit = 21 -> 25"), "{}", done.out);
    assert!(done.out.contains("[[forward]] from port office: unit 5 goes to 21"), "{}", done.out);
    assert_eq!(tool.run(&["check"]).status, 0, "the forward now leads to a unit that no device has");
    assert_eq!(tool.run(&["read", "--rig", "gauge.level"]).status, 0, "at its new unit");
}

#[test]
fn what_is_locked_is_unlocked_and_settings_take_effect_when_they_are_applied() {
    let (tool, _rig) = site(LOCK);
    let readdress =
        ["readdress", "gauge", "--to", "25", "--rig", "--yes", "--timeout", "300ms", "--wait", "1s"];
    let done = tool.run(&readdress);
    assert_eq!(done.status, 2);
    assert!(done.err.contains("add `--unlock VALUE`"), "{}", done.err);
    // A wrong value leaves it locked: it refuses, and says so.
    let wrong = tool.run(&[&readdress[..], &["--unlock", "0"]].concat());
    assert_eq!(wrong.status, 3, "{}", wrong.err);
    assert!(wrong.err.contains("it refuses gauge.number"), "{}", wrong.err);
    assert!(
        wrong.err.contains("state: it is unlocked, and otherwise as it was, at unit 21"),
        "{}",
        wrong.err
    );
    assert_eq!(file(&tool), SITE);
    let done = tool.run(&[&readdress[..], &["--unlock", "1234"]].concat());
    assert_eq!(done.status, 0, "{}{}", done.out, done.err);
    assert!(!file(&tool).contains("1234"), "it is not kept");
}

#[test]
fn line_settings_are_moved_where_the_file_allows_it() {
    let (tool, _rig) = site("");
    // The port's settings would not be the device's: that is no project that works.
    let done = tool.run(&["readdress", "gauge", "--line", "9600 8N1", "--rig", "--yes"]);
    assert_eq!(done.status, 2);
    assert!(done.err.contains("the project would be wrong then: M19"), "{}", done.err);
    let done = tool.run(&["readdress", "gauge", "--line", "19200 8E1", "--rig", "--yes"]);
    assert!(
        done.err.contains("the project would be wrong") || done.err.contains("stands for speed 19200"),
        "{}",
        done.err
    );
}

#[test]
fn whatever_goes_wrong_the_file_stays_and_the_state_is_told() {
    let (tool, _rig) = site("");
    let readdress = |args: &[&str]| {
        tool.run(
            &[&["readdress", "gauge", "--rig", "--yes", "--timeout", "300ms", "--wait", "1s"], args].concat(),
        )
    };
    let taken = readdress(&["--from", "21", "--to", "22"]);
    assert_eq!(taken.status, 2, "the file knows it: {}", taken.err);
    tool.edit("unit    = 22", "unit    = 30");
    let file_before = file(&tool);
    let taken = readdress(&["--to", "22"]);
    assert_eq!(taken.status, 1);
    assert!(taken.err.contains("unit 22 is taken"), "{}", taken.err);
    assert!(taken.err.contains("state: nothing was written"), "{}", taken.err);
    let nobody = readdress(&["--from", "77", "--to", "25"]);
    assert!(nobody.err.contains("no answer at unit 77"), "{}", nobody.err);
    // It takes the value, answers nothing and is gone.
    assert_eq!(tool.run(&["rig", "refuse", "gauge", "4"]).status, 0);
    let refused = readdress(&["--to", "25"]);
    assert!(
        refused.err.contains("it refuses gauge.number") && refused.err.contains("state: nothing was written"),
        "{}",
        refused.err
    );
    assert_eq!(tool.run(&["rig", "mend"]).status, 0);
    assert_eq!(file(&tool), file_before);
    for (args, told) in [
        (&["readdress", "nobody", "--to", "3"][..], "there is no device `nobody`"),
        (&["readdress", "gauge", "--to", "300"], "300 is not a valid unit (1 to 247)"),
        (&["readdress", "gauge", "--to", "25"], "no terminal to ask"),
        (&["readdress", "line", "--all"], "there is no terminal to ask on"),
        (&["readdress", "gauge", "--from", "21"], "give its present unit with `--from`"),
    ] {
        let done = tool.run(args);
        assert_eq!(done.status, 2, "{args:?}: {}", done.err);
        assert!(done.err.contains(told), "{args:?}: {}", done.err);
    }
}

#[test]
fn an_end_in_the_middle_says_what_state_it_left() {
    let (tool, _rig) = site(LOCK);
    // The new unit is looked for in vain: nothing makes it take effect.
    tool.write("gauge.toml", &PROFILE.replace("LOCK", LOCK).replace("role = \"apply\"\n", ""));
    let mut running = tool.begin(&[
        "readdress",
        "gauge",
        "--to",
        "25",
        "--rig",
        "--yes",
        "--timeout",
        "300ms",
        "--wait",
        "60s",
        "--unlock",
        "7",
    ]);
    running.wait_for(&["does it answer at unit 25?"]);
    until("a moment", || true);
    running.signal("-INT");
    running.wait_for(&["it was ended by hand"]);
    running.wait_for(&["state: its settings were written and it was not seen since"]);
    running.wait_for(&["the project file was not changed"]);
    assert_eq!(file(&tool), SITE);
}

#[test]
fn the_file_keeps_its_mode_and_line_ends_and_a_second_call_sees_what_happened() {
    use std::os::unix::fs::PermissionsExt;
    let (tool, _rig) = site("");
    let path = tool.file("woodrush.toml");
    std::fs::write(&path, file(&tool).replace('\n', "\r\n")).unwrap();
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o640)).unwrap();
    let to = ["readdress", "gauge", "--rig", "--yes", "--timeout", "300ms", "--wait", "1s", "--to", "25"];
    let done = tool.run(&to);
    assert_eq!(done.status, 0, "{}{}", done.out, done.err);
    let changed = file(&tool);
    assert_eq!(changed.matches('\n').count(), changed.matches("\r\n").count(), "{changed:?}");
    assert!(changed.contains("unit    = 25 ") && !changed.contains("unit    = 21"), "{changed}");
    assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o640);
    let beside: Vec<_> = std::fs::read_dir(tool.path())
        .unwrap()
        .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
        .filter(|name| name.contains(".new"))
        .collect();
    assert!(beside.is_empty(), "{beside:?}");
    // As if it had been stopped before the file was changed.
    std::fs::write(&path, changed.replace("unit    = 25", "unit    = 21")).unwrap();
    let again = tool.run(&to);
    assert_eq!(again.status, 0, "{}{}", again.out, again.err);
    assert!(again.out.contains("gauge answers at unit 25 already, and nothing at 21"), "{}", again.out);
    assert!(file(&tool).contains("unit    = 25 "));
    // A file that cannot be written is told before the device is touched.
    std::fs::remove_file(&path).unwrap();
    std::os::unix::fs::symlink("/proc/version", &path).unwrap();
    let locked = tool.run(&to);
    assert!(locked.status != 0, "{}", locked.out);
}

#[test]
fn a_device_of_a_repeat_goes_where_the_project_has_it_and_another_ones_place_is_told() {
    let tool = Tool::new();
    tool.write("gauge.toml", &PROFILE.replace("LOCK", ""));
    let site = SITE
        .replace("[devices.other]", "[devices.row]\nrepeat  = \"1-2\"")
        .replace("unit    = 22", "unit    = \"30+n\"");
    tool.write("woodrush.toml", &site);
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C ends it"]);
    // It takes its new number at once, and so does not confirm the write as the old one.
    tool.run(&["write", "row-2.number=40", "--rig", "--yes", "--timeout", "300ms"]);
    let to = ["readdress", "row-2", "--rig", "--yes", "--timeout", "300ms", "--wait", "1s"];
    let moved = tool.run(&[&to[..], &["--from", "40"]].concat());
    assert_eq!(moved.status, 0, "{}{}", moved.out, moved.err);
    assert_eq!(file(&tool), site, "the file says so already");
    let other = tool.run(&[&to[..], &["--from", "31"]].concat());
    assert!(other.err.contains("unit 31 is `row-1` in this project"), "{}{}", other.out, other.err);
    let expression = tool.run(&[&to[..], &["--to", "77"]].concat());
    assert!(expression.err.contains("comes from a `repeat`"), "{}", expression.err);
}
