//! Tags against the list of their controller's programmer: each way to be wrong has a project that raises it and nothing
//! else.

use woodrush_core::check::{Checked, check};
use woodrush_core::finding::Severity;
use woodrush_core::project::read;

const HEAD: &str = r#"
[ports.hall]
connect = "192.0.2.60:44818"
protocol = "ethernet-ip"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.press]
port = "hall"
slot = 0
tags = "press.csv"
[images.scada]
port = "office"
"#;

const LIST: &str = "Tag Name;Data Type;External Access\nHall.Temps;REAL[20];Read Only\nGrid;INT[4,5];\nFlags;DINT;Read/Write\nRun;BOOL;Read Only\nAlarms;BOOL[64];\nRecipe;STRING;\nMotor;Drive;\nInside;DINT;None\nProgram:Feed.Oxygen;REAL;Read/Write\n";

fn project(rules: &str) -> Checked {
    let text = [HEAD, rules].concat();
    check(read("woodrush.toml", text, &mut |path| match path {
        "press.csv" => Ok(LIST.into()),
        _ => Err("no such file".into()),
    }))
}

fn shows(from: &str, count: u32) -> Checked {
    project(&format!("[[map]]\nfrom = \"{from}\"\nto = \"scada:400001\"\ncount = {count}\n"))
}

fn errors(checked: &Checked) -> Vec<String> {
    let all = checked.findings.iter().filter(|finding| finding.severity == Severity::Error);
    all.map(|finding| format!("{} {}", finding.rule.code, finding.what)).collect()
}

#[test]
fn what_the_list_has_needs_no_form() {
    for (from, form) in [
        ("press:Hall.Temps[4]", "f32"),
        ("press:Grid[2,3]", "i16"),
        ("press:Flags", "i32"),
        ("press:Program:Feed.Oxygen", "f32"),
        ("press:Recipe", "text(82)"),
        ("press:Motor.Speed as f32", "f32"),
    ] {
        let checked = shows(from, 1);
        assert_eq!(errors(&checked), [""; 0], "{from}");
        assert_eq!(checked.plan.rules[0].conversion.from.ty.to_string(), form, "{from}");
    }
    let bits = project(
        "[[map]]\nfrom = \"press:Alarms[40]\"\nto = \"scada:000001\"\ncount = 24\n[[map]]\nfrom = \"press:Flags.3\"\nto = \"scada:000100\"\n",
    );
    assert_eq!(errors(&bits), [""; 0]);
}

#[test]
fn each_way_to_be_wrong_is_told() {
    for (from, count, what) in [
        ("press:Hall.Temp[4]", 1, "M33 `press.csv` does not declare `Hall.Temp`"),
        ("press:Hall.Temps[4] as i32", 1, "M33 `Hall.Temps[4]` is declared as REAL, but `i32` here"),
        ("press:Hall.Temps[20]", 1, "M33 `Hall.Temps` ends at element 19 in `press.csv`, and this is 20"),
        (
            "press:Hall.Temps[4]",
            17,
            "M33 `Hall.Temps` ends at element 19 in `press.csv`, but this rule goes on to 20",
        ),
        ("press:Hall.Temps[1,2]", 1, "M33 `Hall.Temps` in `press.csv` needs 1 index, and this has 2"),
        ("press:Grid[4,0]", 1, "M33 `Grid` ends at element 3 in `press.csv`, and this is 4"),
        ("press:Flags[0]", 1, "M33 `Flags` is not an array in `press.csv`"),
        ("press:Flags", 2, "M33 `Flags` is not an array in `press.csv`, but 2 elements are mapped"),
        ("press:Inside", 1, "M33 `Inside` has external access none in `press.csv`"),
        ("press:Motor", 1, "M33 `Motor` is a structure (Drive): name one of its members"),
        ("press:Program:Feed.Oxygen.2", 1, "M33 a `f32` has no bits of its own; only integers do"),
        ("press:Motor.Speed", 1, "M33 nothing states the type of the tag `Motor.Speed`"),
        ("press:2Fast as f32", 1, "F10 `2Fast` begins with a digit, and a tag's name cannot"),
        ("press:Hall.Temps[4] as f32 CDAB", 1, "F08 a tag has no order of bytes: leave it out behind `f32`"),
    ] {
        assert_eq!(errors(&shows(from, count)), [what], "{from}");
    }
    let writes = |from: &str, to: &str, more: &str| {
        errors(&project(&format!("[[map]]\nfrom = \"{from}\"\nto = \"{to}\"\n{more}")))
    };
    let read_only = ["M33 `Run` is written here, but `press.csv` declares it as read-only"];
    assert_eq!(writes("scada:000001", "press:Run", ""), read_only);
    assert_eq!(writes("press:Run", "scada:000001", "access = \"read-write\"\n"), read_only);
    assert_eq!(writes("scada:400001 as f32", "press:Program:Feed.Oxygen", ""), [""; 0]);
}

#[test]
fn other_capitals_are_the_same_tag_and_a_remark() {
    let checked = shows("press:hall.temps[4]", 1);
    assert_eq!(errors(&checked), [""; 0]);
    let remark = checked.findings.iter().find(|finding| finding.rule.code == "M33").unwrap();
    assert_eq!(remark.what, "the tag is declared as `Hall.Temps` but written as `hall.temps` here");
    let rules = "[[map]]\nfrom = \"press:Flags\"\nto = \"scada:400001\"\n[[map]]\nfrom = \"press:FLAGS\"\nto = \"scada:400011\"\n";
    let checked = project(rules);
    assert!(checked.findings.iter().any(|finding| finding.rule.code == "M10"), "shown twice");
}

#[test]
fn two_rules_that_see_one_tag_as_two_types_are_an_error() {
    let rules = "[[map]]\nfrom = \"press:Motor.Speed as f32\"\nto = \"scada:400001\"\n[[map]]\nfrom = \"press:motor.speed as i32\"\nto = \"scada:400011\"\n";
    assert_eq!(errors(&project(rules)), ["M33 the tag is `i32` here, and `f32` in another rule"]);
}

#[test]
fn a_list_that_cannot_be_read_or_is_none_is_told() {
    let with = |load: &dyn Fn() -> Result<String, String>| {
        let rule = "[[map]]\nfrom = \"press:Flags as i32\"\nto = \"scada:400001\"\n";
        errors(&check(read("woodrush.toml", [HEAD, rule].concat(), &mut |path| {
            if path.ends_with(".ledger") { Err(String::new()) } else { load() }
        })))
    };
    assert_eq!(
        with(&|| Err("no such file".into())),
        ["F07 the list `press.csv` cannot be read: no such file"]
    );
    let told = "F07 `press.csv` is not a list of names: no line has the heads `name` and `type`";
    assert_eq!(with(&|| Ok("root:x:0:0".into())), [told]);
}

#[test]
fn a_thousand_tags_go_in_few_messages() {
    let mut rules = String::new();
    for tag in 0..1000 {
        rules += &format!(
            "[[map]]\nfrom = \"press:Motor.Measurement{tag:05} as f32\"\nto = \"scada:{}\"\n",
            400_001 + 2 * tag
        );
    }
    let checked = project(&rules);
    assert_eq!(errors(&checked), [""; 0]);
    assert_eq!(checked.plan.transfers.len(), 16, "64 services are the most of one message");
}

/// An older controller behind the same protocol.
fn of_tables(device: &str, from: &str) -> Checked {
    let device = format!("[devices.packer]\nport = \"hall\"\n{device}");
    let rule = format!("[[map]]\nfrom = \"{from}\"\nto = \"scada:400001\"\n");
    let head = HEAD.replace("[devices.press]\nport = \"hall\"\nslot = 0\ntags = \"press.csv\"\n", &device);
    let text = head + &rule;
    check(read("woodrush.toml", text, &mut |path| {
        if path.ends_with(".ledger") { Err(String::new()) } else { Ok(LIST.into()) }
    }))
}

#[test]
fn an_older_controller_has_files_instead_of_tags() {
    let checked = of_tables("memory = \"tables\"\nslot = 0\n", "packer:F8:10");
    assert_eq!(errors(&checked), [""; 0]);
    assert_eq!(checked.plan.rules[0].conversion.from.ty.to_string(), "f32");
    for (device, from, told) in [
        (
            "",
            "packer:N7:10",
            "F10 `N7:10` is a place in a data table; add `memory = \"tables\"` to the device if it is an older controller",
        ),
        (
            "io-addresses = \"octal\"\n",
            "packer:Speed as i16",
            "F03 `io-addresses` is about data tables, and tags have none",
        ),
        (
            "memory = \"tables\"\ntags = \"press.csv\"\n",
            "packer:N7:10",
            "F03 `tags` is a list of names, and data tables have none",
        ),
        (
            "memory = \"tables\"\nslot = 0\nroute = \"1,0\"\n",
            "packer:N7:10",
            "F03 `route` and `slot = 0` are both set",
        ),
        (
            "memory = \"tables\"\ntables = { N7 = 10 }\n",
            "packer:N7:10",
            "M34 it ends at N7:10, but `packer` has only 10 integers",
        ),
    ] {
        assert_eq!(errors(&of_tables(device, from)), [told], "{device}");
    }
}

/// Tags without a connection: what their messages carry, and what would carry more.
#[test]
fn more_tags_than_messages_carry_in_the_interval_are_told() {
    let project = |poll: &str, tags: usize, connected: &str| {
        let device = format!("[devices.press]\nport = \"hall\"\npoll = \"{poll}\"\n{connected}");
        let head =
            HEAD.replace("[devices.press]\nport = \"hall\"\nslot = 0\ntags = \"press.csv\"\n", &device);
        let rule = |at: usize| {
            format!("[[map]]\nfrom = \"press:Line{at:04}.Amps as i16\"\nto = \"scada:{}\"\n", 400_001 + at)
        };
        let text = head + &(0..tags).map(rule).collect::<String>();
        check(read("woodrush.toml", text, &mut |_| Err(String::new())))
    };
    let told = |checked: &Checked| {
        let own = checked.findings.iter().filter(|finding| finding.rule.code == "M55");
        own.map(|finding| finding.fix.clone()).collect::<Vec<_>>()
    };
    let without = project("100ms", 3000, "connected = false\n");
    let [fix] = &told(&without)[..] else { panic!("{:?}", told(&without)) };
    assert!(fix.starts_with("leave out `connected = false`: a message on a connection carries"), "{fix}");
    assert_eq!(told(&project("100ms", 3000, "")), [""; 0], "a connection carries them");
    let fast = project("10ms", 3000, "");
    let [fix] = &told(&fast)[..] else { panic!("{:?}", told(&fast)) };
    assert!(fix.starts_with("poll every ") && fix.ends_with(", or merge reads"), "{fix}");
    let slow = project("1s", 3000, "connected = false\n");
    assert_eq!(told(&slow), [""; 0]);
    let advice = woodrush_core::budget::report(&slow.project, &slow.plan);
    let all: Vec<&String> = advice.iter().flat_map(|line| &line.advice).collect();
    assert!(
        all.iter().any(|text| text.contains("messages each time: leave out `connected = false`")),
        "{all:?}"
    );
}
