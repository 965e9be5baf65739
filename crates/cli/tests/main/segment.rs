//! A segment with the built program: what `set-up` says of each reason why a block does not work, how it mends what the file
//! says, what it refuses; who is there, what is read, what passes.

use crate::tool::{Done, Running, Tool};

const PROFILE: &str = r#"
[profile]
name = "Temperature transmitter on H1"
manufacturer = 0xFFF101
device-type = 0x0203
device-revision = 1
[blocks.RB]
type = "RESOURCE"
start = 300
[blocks.TB]
type = "TRANSDUCER"
start = 400
parameters = { PRIMARY_VALUE = { place = 14, type = "DS-65" } }
[blocks.AI1]
type = "AI"
start = 500
channels = { 1 = "degC" }
"#;

const SITE: &str = r#"
[project]
name = "Sallow Beck hatchery"

[ports.inlet]
connect = "192.0.2.80:10900"
protocol = "h1-link"
unpolled = "0x30-0xE9"
macrocycle = "250ms"
requests-per-second = 50
timeout = "500ms"

[ports.office]
listen = "192.0.2.10:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]

[devices.tt-101]
port = "inlet"
tag = "TT-101"
device-id = "FFF1010203-WR-000101"
node = 0x14
profile = "tt.toml"
poll = "published"

[devices.tt-101.set-up]
"RB.MODE_BLK.TARGET" = "AUTO"
"AI1.MODE_BLK.TARGET" = "OOS"
"AI1.XD_SCALE" = "0..120 degC"
"AI1.OUT_SCALE" = "0..120 degC"
"AI1.L_TYPE" = "direct"
"AI1.CHANNEL" = 1
"AI1.MODE_BLK.TARGET#2" = "AUTO"

[images.scada]
port = "office"

[[map]]
from = "tt-101:AI1.OUT"
to = "scada:300001 as f32 ABCD"
[[map]]
from = "tt-101:AI1.OUT.STATUS"
to = "scada:304001"
"#;

fn site(edit: impl Fn(&str) -> String) -> (Tool, Running) {
    let tool = Tool::new();
    tool.write("woodrush.toml", &edit(SITE));
    tool.write("tt.toml", PROFILE);
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C ends it"]);
    (tool, rig)
}

fn done(tool: &Tool, args: &[&str]) -> Done {
    let done = tool.run(args);
    assert_eq!(done.status, 0, "{args:?}: {}{}", done.out, done.err);
    done
}

fn write(tool: &Tool, what: &str) {
    done(tool, &["write", "--rig", "--yes", "--force", &format!("tt-101:{what}")]);
}

fn dry(tool: &Tool) -> String {
    let done = tool.run(&["set-up", "tt-101", "--rig", "--dry-run"]);
    assert!(done.status < 2, "{}{}", done.out, done.err);
    [done.out, done.err].concat().split_whitespace().collect::<Vec<_>>().join(" ")
}

#[test]
fn each_reason_why_a_block_does_not_work_or_its_value_is_wrong_is_told() {
    let (tool, _rig) = site(str::to_string);
    assert!(dry(&tool).contains("AUTO"), "{}", dry(&tool));
    let out_of_service = [
        ("AI1.CHANNEL=0", "`AI1.CHANNEL` is 0"),
        ("AI1.L_TYPE=uninitialised", "`AI1.L_TYPE` is uninitialised"),
        ("AI1.OUT_SCALE.EU_100=100", "XD_SCALE (0..120 degC) and OUT_SCALE (0..100 degC) differ"),
        ("AI1.XD_SCALE.UNITS_INDEX=bar", "`AI1.XD_SCALE` is in bar, and channel 1 has degC"),
        ("AI1.XD_SCALE.EU_100=0", "`AI1.XD_SCALE` (0..0 degC) has no span"),
    ];
    for (wrong, told) in out_of_service {
        write(&tool, "AI1.MODE_BLK.TARGET=OOS");
        write(&tool, wrong);
        write(&tool, "AI1.MODE_BLK.TARGET=AUTO");
        let said = dry(&tool);
        assert!(said.contains(told), "{wrong}: {said}");
        let read = done(&tool, &["read", "--rig", "tt-101:AI1.BLOCK_ERR"]).out;
        assert!(read.contains("8002"), "{read}");
        // What the file says puts it right.
        let set = done(&tool, &["set-up", "tt-101", "--rig", "--yes"]);
        assert!(set.out.contains("actual AUTO"), "{}{}", set.out, set.err);
    }
    for (wrong, told) in [
        ("RB.MODE_BLK.TARGET=OOS", "the resource block `RB` is out of service"),
        ("TB.MODE_BLK.TARGET=OOS", "the transducer block `TB` is out of service"),
        ("AI1.SIMULATE.ENABLE_DISABLE=on", "simulation was left on"),
        ("AI1.MODE_BLK.TARGET=MAN", "its target was left in MAN"),
        ("AI1.GRANT_DENY.DENY=program, tune", "`AI1.GRANT_DENY` denies writes (program, tune)"),
    ] {
        write(&tool, wrong);
        let said = dry(&tool);
        assert!(said.contains(told), "{wrong}: {said}");
        let (parameter, _) = wrong.split_once('=').unwrap();
        let right = match parameter.rsplit_once('.').unwrap().1 {
            "TARGET" => "AUTO",
            "DENY" => "none",
            _ => "off",
        };
        write(&tool, &format!("{parameter}={right}"));
    }
    for (fault, told) in [
        (["bad-status", "0x52"], "the sensor is beyond its range, and the value still moves"),
        (["bad-status", "0x10"], "sensor failure"),
        (["write-lock", ""], "the device is write-locked"),
        (["unscheduled", ""], "it is in no schedule"),
        (["move", "0xF8"], "no device has this tag"),
        (["move", "0x40"], "no device has this tag"),
    ] {
        let [kind, value] = fault;
        let args: Vec<&str> =
            ["rig", kind, "tt-101", value].into_iter().filter(|arg| !arg.is_empty()).collect();
        done(&tool, &args);
        let got = tool.run(&["set-up", "tt-101", "--rig", "--dry-run"]);
        let said = [got.out, got.err].concat().split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(said.contains(told), "{fault:?}: {said}");
        done(&tool, &["rig", "mend", "tt-101"]);
    }
}

#[test]
fn a_device_as_it_left_its_maker_is_set_up_and_a_wrong_one_is_not_written() {
    let (tool, _rig) = site(str::to_string);
    done(&tool, &["rig", "as-shipped", "tt-101"]);
    let shown = tool.run(&["set-up", "tt-101", "--rig", "--dry-run"]);
    assert_eq!(shown.status, 1, "it differs: {}{}", shown.out, shown.err);
    assert!(shown.out.contains("CHANNEL"), "{}", shown.out);
    let read = done(&tool, &["read", "--rig", "tt-101:AI1.MODE_BLK"]).out;
    assert!(read.contains("OOS"), "a dry run writes nothing: {read}");
    let set = done(&tool, &["set-up", "tt-101", "--rig", "--yes"]);
    assert!(set.out.contains("actual AUTO"), "{}", set.out);
    let again = done(&tool, &["set-up", "tt-101", "--rig", "--dry-run"]);
    assert!(!again.out.contains("->"), "nothing differs any more: {}", again.out);
    // Another device stands there.
    done(&tool, &["rig", "swap", "tt-101"]);
    done(&tool, &["rig", "as-shipped", "tt-101"]);
    let refused = tool.run(&["set-up", "tt-101", "--rig", "--yes"]);
    assert_ne!(refused.status, 0, "{}", refused.out);
    let said = refused.err.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(said.contains("another device has this tag"), "{said}");
    assert!(said.contains("nothing"), "what was written is said: {said}");
    done(&tool, &["rig", "mend", "tt-101"]);
    done(&tool, &["read", "--rig", "tt-101:AI1.CHANNEL"]);
    // A device of another revision has other indices.
    tool.write("tt.toml", &PROFILE.replace("device-revision = 1", "device-revision = 2"));
    done(&tool, &["rig", "as-shipped", "tt-101"]);
    let refused = tool.run(&["set-up", "tt-101", "--rig", "--yes"]);
    assert_ne!(refused.status, 0, "{}", refused.out);
    let said = refused.err.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(said.contains("another device revision"), "{said}");
}

#[test]
fn a_segment_is_looked_at_read_in_words_and_heard() {
    let (tool, _rig) = site(str::to_string);
    let found = done(&tool, &["scan", "inlet", "--rig"]).out;
    for words in ["link active scheduler", "TT-101", "FFF1010203-WR-000101", "TRANSDUCER", "0x30 to 0xE9"] {
        assert!(found.contains(words), "{words}: {found}");
    }
    let json: serde_json::Value =
        serde_json::from_str(&done(&tool, &["scan", "inlet", "--rig", "--format", "json"]).out).unwrap();
    assert!(json.to_string().contains("\"TT-101\""), "{json}");
    done(&tool, &["rig", "move", "tt-101", "0xF8"]);
    let found = done(&tool, &["scan", "inlet", "--rig"]).out;
    assert!(found.contains("0xF8"), "{found}");
    done(&tool, &["rig", "mend"]);

    let read = done(&tool, &["read", "--rig", "tt-101:AI1.XD_SCALE", "tt-101:AI1.OUT.STATUS"]).out;
    for words in ["AI1.XD_SCALE.EU_100", "degC", "128 (good)"] {
        assert!(read.contains(words), "{words}: {read}");
    }
    let refused = tool.run(&["write", "--rig", "--yes", "tt-101:AI1.MODE_BLK.TARGET=FAST"]);
    assert!(refused.err.contains("is not one of OOS"), "{}", refused.err);
    // Scales are written out of service only.
    let refused = tool.run(&["write", "--rig", "--yes", "tt-101:AI1.XD_SCALE.EU_100=50"]);
    assert_eq!(refused.status, 1, "{}", refused.err);
    assert!(refused.err.contains("out of service"), "{}", refused.err);

    let mut run = tool.begin(&["run", "--rig"]);
    run.wait_for(&["tt-101", "online"]);
    let mut tap = tool.begin(&["tap", "inlet"]);
    tap.wait_for(&["TT-101", "publishes index 508", "AI1.OUT: STATUS good (0x80)"]);
    done(&tool, &["rig", "bad-status", "tt-101", "0x10"]);
    run.wait_for(&["calls", "AI1.OUT", "bad", "sensor failure"]);
    tap.wait_for(&["publishes", "sensor failure"]);
    let refused = tool.run(&["read", "scada:300001"]);
    assert_eq!(refused.status, 1, "{}{}", refused.out, refused.err);
    assert!(done(&tool, &["read", "scada:304001"]).out.contains("0010"));
    done(&tool, &["rig", "mend", "tt-101"]);
    run.wait_for(&["gives", "AI1.OUT", "again"]);
    let status = done(&tool, &["status"]).out;
    assert!(status.contains("PUBLISHED"), "{status}");
}

fn json(tool: &Tool, args: &[&str]) -> serde_json::Value {
    let done = tool.run(&[args, &["--format", "json"]].concat());
    assert!(done.status < 2, "{args:?}: {}{}", done.out, done.err);
    serde_json::from_str(&done.out).unwrap_or_else(|why| panic!("{args:?}: {why}: {}", done.out))
}

#[test]
fn what_programs_read_says_the_same_as_the_text() {
    let (tool, _rig) = site(str::to_string);
    done(&tool, &["rig", "as-shipped", "tt-101"]);
    let set_up = json(&tool, &["set-up", "tt-101", "--rig", "--dry-run"]);
    let rows = set_up["parameters"].as_array().unwrap();
    let marks: Vec<&str> = rows.iter().map(|row| row["mark"].as_str().unwrap()).collect();
    assert_eq!(marks, ["met", "mode", "differs", "differs", "differs", "differs", "differs"]);
    assert_eq!(set_up["only_compared"], true);
    let blocks = set_up["blocks"].as_array().unwrap();
    let ai = blocks.iter().find(|block| block["name"] == "AI1").unwrap_or_else(|| panic!("{blocks:?}"));
    assert_eq!(ai["met"], true, "it is told to be out of service, and is: {ai}");
    assert!(ai["causes"].to_string().contains("`AI1.CHANNEL` is 0"), "{ai}");
    let csv = tool.run(&["set-up", "tt-101", "--rig", "--dry-run", "--format", "csv"]).out;
    assert_eq!(csv.lines().next(), Some("parameter,is,shall_be,verdict"));
    assert_eq!(csv.lines().count(), 1 + rows.len());

    let scan = json(&tool, &["scan", "inlet", "--rig"]);
    let nodes = scan["nodes"].as_array().unwrap();
    assert_eq!((nodes[1]["tag"].as_str(), nodes[1]["device"].as_str()), (Some("TT-101"), Some("tt-101")));
    assert_eq!(nodes[1]["blocks"].as_array().unwrap().len(), 3);
    assert_eq!(nodes[1]["blocks"][2]["mode"], "OOS");
    let csv = done(&tool, &["scan", "inlet", "--rig", "--format", "csv"]).out;
    assert_eq!(csv.lines().count(), 1 + 1 + 3, "{csv}");

    let read = json(&tool, &["read", "--rig", "tt-101:AI1.MODE_BLK", "tt-101:AI1.MODE_BLK.ACTUAL"]);
    let values = read["values"].as_array().unwrap();
    assert_eq!(values.len(), 5, "four members, and one of them by itself");
    assert_eq!((values[1]["value"].as_str(), values[4]["words"].as_str()), (Some("OOS"), Some("OOS")));
    let refused = tool.run(&["write", "--rig", "--yes", "tt-101:AI1.MODE_BLK=AUTO"]);
    assert_eq!(refused.status, 2, "{}", refused.err);
    assert!(refused.err.contains("several members"), "{}", refused.err);

    done(&tool, &["set-up", "tt-101", "--rig", "--yes"]);
    let mut run = tool.begin(&["run", "--rig"]);
    run.wait_for(&["tt-101", "online"]);
    let published = || json(&tool, &["status"])["devices"][0]["counts"]["published"].as_u64().unwrap();
    let first = published();
    crate::tool::until("more was published", || published() > first);
    let status = json(&tool, &["status"]);
    assert_eq!(status["devices"][0]["counts"]["requests"], 0, "a subscription costs no request");
    let budget = json(&tool, &["budget"]);
    assert_eq!(budget["lines"][0]["published"]["cycle_us"], 250_000);
    let trace = json(&tool, &["trace", "scada:300001"]);
    assert_eq!(trace["traces"][0]["poll"]["published"], true);
    // The same set-up, through the converter that has the port.
    done(&tool, &["rig", "as-shipped", "tt-101"]);
    let set = done(&tool, &["set-up", "tt-101", "--yes"]);
    assert!(set.out.contains("actual AUTO"), "{}", set.out);
}

#[test]
fn a_set_up_that_is_not_meant_or_not_there_writes_nothing() {
    let (tool, _rig) = site(str::to_string);
    done(&tool, &["rig", "as-shipped", "tt-101"]);
    let unasked = tool.run(&["set-up", "tt-101", "--rig"]);
    assert_eq!(unasked.status, 2, "{}", unasked.err);
    assert!(unasked.err.contains("no terminal to ask"), "{}", unasked.err);
    let unknown = tool.run(&["set-up", "tt-109", "--rig"]);
    assert_eq!(unknown.status, 2);
    assert!(unknown.err.contains("tt-10"), "{}", unknown.err);
    let read = done(&tool, &["read", "--rig", "tt-101:AI1.CHANNEL"]).out;
    assert!(read.contains("0000"), "{read}");
    // A file without a set-up says so.
    let begin = SITE.find("[devices.tt-101.set-up]").unwrap();
    let end = SITE.find("[images.scada]").unwrap();
    tool.write("woodrush.toml", &[&SITE[..begin], &SITE[end..]].concat());
    let none = tool.run(&["set-up", "tt-101", "--rig", "--dry-run"]);
    assert_eq!(none.status, 2, "{}{}", none.out, none.err);
    assert!(none.err.contains("set-up"), "{}", none.err);
}

#[test]
fn a_set_up_that_is_cut_short_says_what_is_written_and_what_is_not() {
    let (tool, _rig) = site(|text| text.replace("requests-per-second = 50", "requests-per-second = 10"));
    // It works, with another scale than the file says.
    for wrong in [
        "AI1.MODE_BLK.TARGET=OOS",
        "AI1.XD_SCALE.EU_100=60",
        "AI1.OUT_SCALE.EU_100=60",
        "AI1.MODE_BLK.TARGET=AUTO",
    ] {
        write(&tool, wrong);
    }
    let mut set_up = tool.begin(&["set-up", "tt-101", "--rig", "--yes"]);
    set_up.wait_for(&["writing AI1.XD_SCALE"]);
    set_up.signal("-INT");
    set_up.wait_for(&["AI1.XD_SCALE", "0..120 degC", " written"]);
    set_up.wait_for(&["AI1.OUT_SCALE", "0..60 degC", "not written"]);
    set_up.wait_for(&["1 written, 2 not written"]);
    set_up.wait_for(&["AI1 was put out of service and is not back"]);
    set_up.wait_for(&["interrupted: the rest is not written"]);
    assert_eq!(set_up.interrupt(), 3);
    // The device leaves in the middle of it.
    let mut set_up = tool.begin(&["set-up", "tt-101", "--rig", "--yes"]);
    set_up.wait_for(&["writing AI1.OUT_SCALE"]);
    done(&tool, &["rig", "mute", "tt-101"]);
    set_up.wait_for(&[" not written"]);
    set_up.wait_for(&["woodrush:", "tt-101:AI1"]);
    done(&tool, &["rig", "mend", "tt-101"]);
    let set = done(&tool, &["set-up", "tt-101", "--rig", "--yes"]);
    assert!(set.out.contains("actual AUTO"), "{}", set.out);
}
