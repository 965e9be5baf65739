//! `compare` with the built program: from three manuals to the papers and back, and who must follow when something
//! changes.

use crate::tool::Tool;
use serde_json::Value;

const LISTS: [(&str, &str); 3] = [
    ("fan-drive", include_str!("../../../core/tests/lists/fan-drive.csv")),
    ("power-meter", include_str!("../../../core/tests/lists/power-meter.csv")),
    ("pump-controller", include_str!("../../../core/tests/lists/pump-controller.csv")),
];

const SITE: &str = r#"
[converter]
address = "192.0.2.10/24"
[ports.line]
serial = "/dev/ttyUSB0"
line = "38400 8E1"
protocol = "modbus-rtu"
timeout = "200ms"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.fan-drive]
port = "line"
unit = 1
profile = "profiles/fan-drive.toml"
poll = "1s"
[devices.power-meter]
port = "line"
unit = 2
profile = "profiles/power-meter.toml"
poll = "1s"
[devices.pump-controller]
port = "line"
unit = 3
profile = "profiles/pump-controller.toml"
poll = "1s"
[images.scada]
port = "office"
[areas.values]
image = "scada"
range = "300001-300999"
[[map]]
from = "fan-drive.speed"
to = "scada:@values"
[[map]]
from = "power-meter.voltage-a"
to = "scada:@values"
[[map]]
from = "power-meter.current-a"
to = "scada:@values"
[[map]]
from = "pump-controller.speed"
to = "scada:@values"
[clients.room]
image = "scada"
address = "192.0.2.20"
dials = "192.0.2.10:502"
"#;

/// The site of three imported profiles, its addresses given out, its issue closed, and its list given back.
fn handed_over() -> Tool {
    let tool = Tool::new();
    for (name, text) in LISTS {
        tool.write(&format!("{name}.csv"), text);
        let profile = format!("profiles/{name}.toml");
        let made = tool.run(&["import", &format!("{name}.csv"), "--as", &profile]);
        assert!(made.err.contains("wrote"), "{name}: {}", made.err);
    }
    tool.write("woodrush.toml", SITE);
    let assigned = tool.run(&["map", "--assign"]);
    assert_eq!(assigned.status, 0, "{}{}", assigned.out, assigned.err);
    let made = tool.run(&["handover", "papers", "--issue", "first"]);
    assert_eq!(made.status, 0, "{}{}", made.out, made.err);
    tool.edit("dials = \"192.0.2.10:502\"\n", "dials = \"192.0.2.10:502\"\nlist = \"papers/room.csv\"\n");
    tool
}

fn json(tool: &Tool, args: &[&str]) -> Value {
    let done = tool.run(&[args, &["--format", "json"]].concat());
    serde_json::from_str(&done.out).unwrap_or_else(|error| panic!("{error}: {}{}", done.out, done.err))
}

#[test]
fn from_three_manuals_to_the_papers_and_back_and_who_must_follow_a_change() {
    let tool = handed_over();
    let checked = tool.run(&["check"]);
    assert_eq!(checked.status, 0, "{}{}", checked.out, checked.err);
    assert!(checked.out.contains("0 errors, 0 warnings"), "{}", checked.out);
    let same = tool.run(&["compare", "issue:1"]);
    assert_eq!(same.status, 0, "{}{}", same.out, same.err);
    assert!(
        same.out.contains("nothing changes") && same.out.contains("no client or device must follow"),
        "{}",
        same.out
    );

    // An address moves by hand, a device gets another unit, the line another speed, a value another form.
    let ledger = std::fs::read_to_string(tool.file("woodrush.ledger")).unwrap();
    let at = |value: &str| {
        let line = ledger.lines().find(|line| line.starts_with(&format!("\"{value}\" = \"3"))).unwrap();
        line.split('"').nth(3).unwrap().split(' ').next().unwrap().to_string()
    };
    let (voltage, speed) = (at("power-meter.voltage-a"), at("fan-drive.speed"));
    tool.write("woodrush.ledger", &ledger.replacen(&format!("\"{voltage} x2\""), "\"300801 x2\"", 1));
    tool.edit(
        "from = \"fan-drive.speed\"\nto = \"scada:@values\"",
        "from = \"fan-drive.speed\"\nto = \"scada:@values as u16 scale 0.1\"",
    );
    tool.edit("unit = 2\n", "unit = 7\n");
    let told = tool.run(&["compare", "issue:last"]);
    assert_eq!(told.status, 1, "{}{}", told.out, told.err);
    for words in [
        "client room",
        &format!("power-meter.voltage-a is at 300801, and was at {voltage}"),
        &format!("{speed}: type u16, and was i16"),
        "papers/room.csv:",
        "device power-meter",
        "to be set there: unit 7, and was 2",
    ] {
        assert!(told.out.contains(words), "{words}: {}", told.out);
    }
    let all = json(&tool, &["compare", "issue:1", "."]);
    let changes = all["changes"].as_array().unwrap();
    let change = |what: &str| {
        changes.iter().find(|own| own["change"] == what).unwrap_or_else(|| panic!("{what}: {all}"))
    };
    assert_eq!(
        (&change("moved")["was"], &change("moved")["is"]),
        (&Value::from(voltage.as_str()), &Value::from("300801"))
    );
    assert_eq!(
        (&change("unit")["of"], &change("unit")["must_follow"]),
        (&Value::from("power-meter"), &Value::from(true))
    );
    assert!(all["must_follow"].as_array().unwrap().len() == 2, "{all}");
    // `check` tells the same, and a new issue says that it was meant.
    let checked = tool.run(&["check"]);
    for code in ["M26", "M59", "M60"] {
        assert!(checked.out.contains(code), "{code}: {}", checked.out);
    }
}

#[test]
fn each_kind_of_change_is_told_and_names_that_changed_are_seen_through() {
    let tool = Tool::with_hatchery();
    std::fs::create_dir(tool.file("old")).unwrap();
    let copied = std::process::Command::new("cp")
        .arg("-r")
        .args(["woodrush.toml", "woodrush.ledger", "grader-tags.csv", "lists", "profiles", "old"])
        .current_dir(tool.path())
        .status()
        .unwrap();
    assert!(copied.success());
    let whole = std::fs::read_to_string(tool.file("woodrush.toml")).unwrap();
    let profile = std::fs::read_to_string(tool.file("profiles/oxygen-probe.toml")).unwrap();
    // Devices, their profile's file and ports may be called otherwise.
    tool.write("profiles/probe.toml", &profile);
    let renamed = whole
        .replace("oxygen-probe.toml", "probe.toml")
        .replace("[devices.do-3]", "[devices.probe-3]")
        .replace("\"do-3.", "\"probe-3.")
        .replace("[ports.raceway]", "[ports.first]")
        .replace("\"raceway\"", "\"first\"")
        .replace("[rig.devices.do-3]", "[rig.devices.probe-3]");
    tool.write("woodrush.toml", &renamed);
    let done = tool.run(&["compare", "old"]);
    assert_eq!(done.status, 0, "{}{}", done.out, done.err);
    assert!(
        done.out.contains("do-3 is called probe-3 now") && done.out.contains("nothing changes"),
        "{}",
        done.out
    );

    for (from, to, change, must_follow) in [
        ("to   = \"farm:400002\"", "to   = \"farm:400003\"", "moved", true),
        ("to   = \"scada:400001 as f32 ABCD\"", "to   = \"scada:400001 as f32 CDAB\"", "order", true),
        ("to   = \"scada:400301 as f32 ABCD\"", "to   = \"scada:400301 as i32 ABCD\"", "type", true),
        (
            "to     = \"scada:400621 as i16 scale 0.01\"",
            "to     = \"scada:400621 as i16 scale 0.1\"",
            "scale",
            true,
        ),
        (
            "from = \"do-2.temperature\"\nto   = \"farm:400002\"",
            "from = \"do-3.temperature\"\nto   = \"farm:400002\"",
            "source",
            true,
        ),
        ("to     = \"scada:000002\"\naccess = \"read-write\"", "to     = \"scada:000002\"", "access", true),
        (
            "to   = \"scada:400211 as u32 ABCD\"\n",
            "to   = \"scada:400211 as u32 ABCD\"\nenabled = false\n",
            "gone",
            true,
        ),
        (
            "to   = \"scada:400211 as u32 ABCD\"\n",
            "to   = \"scada:400211 as u32 ABCD\"\non-loss = \"hold\"\n",
            "on-loss",
            true,
        ),
        ("listen   = \"0.0.0.0:502\"", "listen   = \"0.0.0.0:1504\"", "port", true),
        ("unit    = 41\n", "unit    = 43\n", "unit", true),
        ("line     = \"38400 8E1\"", "line     = \"19200 8E1\"", "line", true),
        (
            "to   = \"scada:400211 as u32 ABCD\"\n",
            "to   = \"scada:400211 as u32 ABCD\"\npoll = \"1s\"\n",
            "interval",
            false,
        ),
    ] {
        assert!(whole.contains(from), "the example no longer has {from}");
        tool.write("woodrush.toml", &whole.replacen(from, to, 1));
        let all = json(&tool, &["compare", "old"]);
        let changes = all["changes"].as_array().unwrap();
        let own = changes.iter().find(|own| own["change"] == change);
        let own = own.unwrap_or_else(|| panic!("{change}: {all}"));
        assert_eq!(own["must_follow"], must_follow, "{change}: {all}");
        let status = tool.run(&["compare", "old"]).status;
        assert_eq!(status, i32::from(must_follow), "{change}: {all}");
        assert_eq!(all["must_follow"].as_array().unwrap().is_empty(), !must_follow, "{change}: {all}");
    }
}

#[test]
#[ignore = "needs git"]
fn a_revision_of_the_repository_is_compared_and_what_is_not_there_is_told() {
    let tool = Tool::with_hatchery();
    let git = |args: &[&str]| {
        let mut git = std::process::Command::new("git");
        git.args(["-c", "user.name=test", "-c", "user.email=test@192.0.2.1"]).args(args);
        git.current_dir(tool.path()).env("GIT_CONFIG_GLOBAL", "/dev/null").output().unwrap()
    };
    let none = tool.run(&["compare", "git:HEAD"]);
    assert_eq!(none.status, 2, "{}", none.err);
    git(&["init", "-q"]);
    git(&["add", "-A"]);
    assert!(git(&["commit", "-qm", "first"]).status.success());
    let same = tool.run(&["compare", "git:HEAD"]);
    assert_eq!(same.status, 0, "{}{}", same.out, same.err);
    assert!(same.out.contains("nothing changes"), "{}", same.out);
    tool.edit("to   = \"farm:400002\"", "to   = \"farm:400003\"");
    let told = tool.run(&["compare", "git:HEAD"]);
    assert_eq!(told.status, 1, "{}{}", told.out, told.err);
    assert!(told.out.contains("lists/farm-office.csv:3  do-2.temperature is at 400003"), "{}", told.out);

    let nowhere = tool.run(&["compare", "git:nowhere"]);
    assert_eq!(nowhere.status, 2, "{}{}", nowhere.out, nowhere.err);
    assert!(nowhere.err.contains("git has no woodrush.toml of `nowhere`"), "{}", nowhere.err);
}

#[test]
fn what_cannot_be_compared_is_told() {
    let tool = Tool::with_hatchery();
    for (args, words) in [
        (&["compare", "git:--output=x"][..], "is not a revision"),
        (&["compare", "issue:4"], "holds no issue `4`"),
        (&["compare", "elsewhere.toml"], "elsewhere.toml does not exist"),
        (&["compare"], "`OLD` is missing"),
    ] {
        let done = tool.run(args);
        assert_eq!(done.status, 2, "{args:?}: {}{}", done.out, done.err);
        assert!(done.err.contains(words), "{args:?}: {}", done.err);
    }
    // A rule that is not understood would seem to be gone.
    tool.edit("from = \"do-1.oxygen\"", "from = \"do-1.oxigen\"");
    let done = tool.run(&["compare", "."]);
    assert_eq!(done.status, 2, "{}{}", done.out, done.err);
    assert!(done.err.contains("rules that are not understood"), "{}", done.err);
}
