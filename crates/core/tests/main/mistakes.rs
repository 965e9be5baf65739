//! Variants of the mistakes that practitioners make, as edits of one sound site: each is caught, and told usefully.

use crate::checks::checked;
use woodrush_core::check::Severity;

const SITE: &str = r#"[project]
name = "Sallow Beck hatchery"
[converter]
address = "192.0.2.10/24"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "38400 8E1"
protocol = "modbus-rtu"
timeout = "200ms"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.do-1]
port = "raceway"
unit = 23
profile = "probe.toml"
[devices.do-2]
port = "raceway"
unit = 24
profile = "probe.toml"
[images.scada]
port = "office"
[[map]]
from = "do-1.oxygen"
to = "scada:400001"
[[map]]
from = "do-1.setpoint"
to = "scada:400101 as f32 ABCD"
access = "read-write"
[[map]]
from = "do-2:400201 as i32 DCBA"
to = "scada:400301"
count = 4
[clients.control-room]
image = "scada"
address = "192.0.2.20"
dials = "192.0.2.10:502"
reads = ["400001 as u16 every 1s", "400101 as f32 ABCD every 1s", "400301 as i32 x4 every 1s"]
writes = ["400101 as f32 ABCD"]
#### profile probe.toml
[profile]
name = "Probe"
line = "38400 8E1"
unit = 1
max-read = 32
[points.oxygen]
at = "300001"
as = "u16 scale 0.01"
range = [0, 20]
[points.setpoint]
at = "400010"
as = "f32 CDAB"
access = "read-write"
"#;

/// An edit of the site, the check that it raises, and words that its message or mend must hold.
const MISTAKES: &[(&str, &str, &str, &str)] = &[
    // Addresses.
    ("\"scada:400001\"", "\"scada:40000001\"", "M01", "write `400001`"),
    ("\"scada:400001\"", "\"scada:4x00001\"", "M01", "write `400001`"),
    ("\"scada:400001\"", "\"scada:200001\"", "M01", "there is no table 2x"),
    ("\"scada:400001\"", "\"scada:400000\"", "M01", "numbering begins at 1"),
    ("\"scada:400001\"", "\"scada:0x10\"", "M03", "holding:0x10"),
    ("\"scada:400001\"", "\"scada:1\"", "M03", "`holding:1` or `400001`"),
    ("at = \"300001\"", "at = \"30001.16\"", "M01", "bits count 0 to 15"),
    ("at = \"300001\"", "at = \"holdin:3\"", "M01", "write `holding:3`"),
    ("\"400001 as u16 every 1s\"", "\"40001x as u16 every 1s\"", "M01", "is not a Modbus address"),
    // Forms.
    ("do-2:400201 as i32 DCBA", "do-2:400201 as i32", "M35", "nothing says in which order"),
    ("do-2:400201 as i32 DCBA", "do-2:400201 as u8", "M35", "each address here is a whole word"),
    ("do-2:400201 as i32 DCBA", "do-2:000201 as i32 DCBA", "M35", "wider than one bit"),
    ("do-2:400201 as i32 DCBA", "do-2:400201.3 as i32 DCBA", "M35", "does not fit one bit"),
    ("do-2:400201 as i32 DCBA", "do-2:400201 as i23", "F08", "perhaps `i32`"),
    ("do-2:400201 as i32 DCBA", "do-2:400201 as i32 DCBA scale 0", "F08", "a scale of 0"),
    ("\"do-1.oxygen\"", "\"do-1.oxygen as f32 ABCD\"", "F08", "has the form of its profile"),
    ("as f32 ABCD\"\naccess", "as raw\"\naccess", "F08", "the same form at both ends"),
    // Ends.
    ("\"do-1.oxygen\"", "\"do1.oxygen\"", "F05", "write `do-1`"),
    ("\"do-1.oxygen\"", "\"raceway.oxygen\"", "F05", "`raceway` is a port"),
    ("\"do-1.oxygen\"", "\"do-1.health.onlin\"", "F05", "write `online`"),
    ("\"scada:400001\"", "\"scada.oxygen\"", "F10", "which has addresses and no points"),
    ("\"scada:400001\"", "\"do-2:400001\"", "M53", "cannot tell when it is stale"),
    ("\"scada:400001\"", "\"scada:400001.3\"", "M35", "does not fit one bit of a register"),
    ("\"scada:400301\"", "\"scada:000301\"", "M35", "wider than one bit"),
    // Writing.
    (
        "\"do-1.oxygen\"\nto = \"scada:400001\"",
        "\"do-1.oxygen\"\nto = \"scada:400001\"\naccess = \"read-write\"",
        "M47",
        "is read-only",
    ),
    (
        "to = \"scada:400301\"\n",
        "to = \"scada:300301\"\naccess = \"read-write\"\n",
        "M47",
        "a client cannot write an input register",
    ),
    (
        "do-2:400201 as i32 DCBA\"\nto = \"scada:400301\"\ncount = 4",
        "do-2:300201.2\"\nto = \"scada:000301\"\naccess = \"read-write\"",
        "M47",
        "of a device cannot be written",
    ),
    ("at = \"400010\"", "at = \"300010\"", "M47", "no input register can be written"),
    ("writes = [\"400101 as f32 ABCD\"]", "writes = [\"400001\"]", "M47", "which the rule makes read-only"),
    ("writes = [\"400101 as f32 ABCD\"]", "writes = [\"400101\"]", "M35", "a part of a `f32`"),
    ("writes = [\"400101 as f32 ABCD\"]", "writes = [\"400700\"]", "M04", "writes scada:400700"),
    ("writes = [\"400101 as f32 ABCD\"]", "writes = [\"400101 x200\"]", "M16", "writes 200 in one request"),
    // Limits.
    ("max-read = 32", "max-read = 1", "M16", "one read of this device 1 (max-read)"),
    ("count = 4", "count = 65500", "M17", "past the"),
    ("unit = 24\n", "unit = 24\ntables = { holding = 205 }\n", "M17", "has only 205 holding registers"),
    ("\"scada:400301\"", "\"scada:400100\"", "M17", "two rules feed scada:400101 (holding:100)"),
    // Lines and stations.
    ("line = \"38400 8E1\"\nprotocol", "line = \"38400\"\nprotocol", "M18", "BAUD DATA PARITY STOP"),
    ("line = \"38400 8E1\"\nprotocol", "line = \"5760 8E1\"\nprotocol", "M20", "write `57600 8E1`"),
    ("line = \"38400 8E1\"\nunit = 1", "line = \"9600 8N1\"\nunit = 1", "M19", "is shipped with 9600 8N1"),
    ("unit = 24\n", "unit = 24\nline = \"38400 8N1\"\n", "M18", "is set to 38400 8N1"),
    ("unit = 24\n", "unit = 23\n", "M25", "`do-1` and `do-2` are both unit 23"),
    ("unit = 24\n", "unit = 0\n", "M25", "has unit 0, and a device here has 1 to 247"),
    ("unit = 24\nprofile = \"probe.toml\"\n", "\n", "M25", "has no `unit`"),
    (
        "serial = \"/dev/ttyUSB0\"\n",
        "serial = \"/dev/ttyUSB0\"\nwiring = \"rs232\"\n",
        "M24",
        "RS-232 connects two ends",
    ),
    ("[images.scada]\nport = \"office\"", "[images.scada]\nport = \"raceway\"", "M24", "both ask and answer"),
    ("[devices.do-2]\nport = \"raceway\"", "[devices.do-2]\nport = \"office\"", "F11", "cannot send any"),
    // Networks.
    ("protocol = \"modbus-rtu\"", "protocol = \"modbus-rut\"", "F05", "write `modbus-rtu`"),
    ("protocol = \"modbus-tcp\"", "protocol = \"modbus-rtu\"", "M28", "clients expect MBAP frames"),
    ("dials = \"192.0.2.10:502\"", "dials = \"192.0.2.10:503\"", "M27", "set the client to 192.0.2.10:502"),
    ("dials = \"192.0.2.10:502\"", "dials = \"192.0.2.11:502\"", "M29", "the converter is 192.0.2.10"),
    ("dials = \"192.0.2.10:502\"", "dials = \"192.0.2:502\"", "M29", "has 3 parts"),
    (
        "dials = \"192.0.2.10:502\"",
        "dials = \"192.0.2.10:502\"\nprotocol = \"modbus-rtu\"",
        "M28",
        "speaks modbus-rtu",
    ),
    ("address = \"192.0.2.20\"", "address = \"198.51.100.7\"", "M29", "shuts out"),
    ("address = \"192.0.2.20\"", "address = \"192.0.2.10\"", "M29", "the converter and of"),
    ("address = \"192.0.2.10/24\"", "address = \"192.0.2.0/24\"", "M29", "the network itself"),
    ("address = \"192.0.2.10/24\"", "address = \"192.0.2.10/33\"", "M29", "not a valid prefix length"),
    (
        "address = \"192.0.2.10/24\"",
        "address = \"192.0.2.10/24\"\nrouter = \"192.0.3.1\"",
        "M29",
        "not in the converter's own subnet",
    ),
    ("allow = [\"192.0.2.0/24\"]\n", "", "M43", "add `allow = [\"192.0.2.0/24\"]`"),
    // Clients.
    (
        "\"400301 as i32 x4 every 1s\"",
        "\"400301 as i32 x5 every 1s\"",
        "M06",
        "carries 4 values, and `control-room` asks for 5",
    ),
    ("\"400301 as i32 x4 every 1s\"", "\"400301 as i32 x3 every 1s\"", "M06", "reads 3 of them"),
    (
        "\"400301 as i32 x4 every 1s\"",
        "\"400302 as i32 x4 every 1s\"",
        "M54",
        "one beside the rule at scada:400301",
    ),
    ("\"400301 as i32 x4 every 1s\"", "\"400301 x7 every 1s\"", "M35", "ends inside a `i32`"),
    ("\"400301 as i32 x4 every 1s\"", "\"400301 as u32 x4 every 1s\"", "M51", "the rule shows `i32 ABCD`"),
    (
        "\"400101 as f32 ABCD every 1s\"",
        "\"400101 as f32 CDAB every 1s\"",
        "M51",
        "the client shows plausible garbage",
    ),
    ("\"400001 as u16 every 1s\", ", "", "M05", "no described client reads scada:400001"),
    ("\"400001 as u16 every 1s\"", "\"400001 as u16 scale 0.1 every 1s\"", "M62", "the same scale"),
    ("\"400001 as u16 every 1s\"", "\"400001 as u16 every soon\"", "F03", "not an interval such as 250ms"),
    ("writes = [", "must-read = [\"do-2.oxygen\"]\nwrites = [", "M11", "no rule brings it into `scada`"),
    // Ranges and scales.
    ("as = \"u16 scale 0.01\"", "as = \"u16 scale 0.0001\"", "M36", "is the scale 0.001?"),
    ("range = [0, 20]", "range = [-5, 20]", "M36", "cannot show: it ends at 0"),
    ("as = \"u16 scale 0.01\"", "as = \"u16 scale 10\"", "M36", "leaves only 2 steps"),
    ("range = [0, 20]", "range = [0, 500]\nnote = \"x\"", "M36", "cannot show: it ends at 327.67"),
    // The line's time.
    (
        "profile = \"probe.toml\"\n[devices.do-2]",
        "profile = \"probe.toml\"\npoll = \"5ms\"\n[devices.do-2]",
        "M55",
        "or less often",
    ),
];

#[test]
fn the_site_is_sound_before_it_is_spoilt() {
    let found = checked(SITE).findings;
    assert!(found.is_empty(), "{:?}", found.iter().map(|f| &f.what).collect::<Vec<_>>());
}

#[test]
fn each_mistake_is_caught_and_told_usefully() {
    let mut missed = vec![];
    for (from, to, code, words) in MISTAKES {
        let mut site = SITE.to_string();
        assert_eq!(site.matches(from).count(), 1, "{from}");
        // Two entries need another part of the point as well.
        if words.contains("327.67") {
            site = site.replace("u16 scale 0.01", "i16 scale 0.01");
        }
        let checked = checked(&site.replace(from, to));
        let told = |f: &woodrush_core::check::Finding| {
            format!("{} {} | {} | {}", f.rule.code, f.what, f.fix, f.rule.why)
        };
        let all: Vec<String> = checked.findings.iter().map(told).collect();
        let hit = checked.findings.iter().find(|f| f.rule.code == *code && told(f).contains(words));
        let Some(finding) = hit else {
            missed.push(format!("{from} -> {to}\nwanted {code} with `{words}`, found {all:#?}"));
            continue;
        };
        assert!(!finding.fix.is_empty() && !finding.what.ends_with('.'), "{}", finding.what);
        // The place is inside of a file and on one line.
        let text = checked.project.sources.text(finding.span);
        assert!(!text.contains('\n'), "{text}");
    }
    assert!(missed.is_empty(), "{}", missed.join("\n"));
}

/// What hides something else must not drag it along: one slip, few findings.
#[test]
fn one_slip_is_not_told_many_times() {
    for (from, to, _, words) in MISTAKES {
        let mut site = SITE.to_string();
        if words.contains("327.67") {
            site = site.replace("u16 scale 0.01", "i16 scale 0.01");
        }
        let checked = checked(&site.replace(from, to));
        let errors = checked.findings.iter().filter(|finding| finding.severity == Severity::Error).count();
        assert!(
            errors <= 3,
            "{from} -> {to}: {:#?}",
            checked.findings.iter().map(|f| &f.what).collect::<Vec<_>>()
        );
    }
}

#[test]
fn unmapped_zero_makes_a_bare_read_a_remark() {
    let site = SITE.replace("port = \"office\"\n[[map]]", "port = \"office\"\nunmapped = \"zero\"\n[[map]]");
    let checked = checked(&site.replace("\"400001 as u16 every 1s\"", "\"400001 x2 every 1s\""));
    let codes: Vec<_> =
        checked.findings.iter().map(|finding| (finding.rule.code, finding.severity)).collect();
    assert_eq!(codes, [("M04", Severity::Remark)]);
}

#[test]
fn hold_and_fill_let_one_read_span_devices() {
    let both = "[[map]]\nfrom = \"do-2.oxygen\"\nto = \"scada:400002\"\n[clients.control-room]";
    let site = SITE
        .replace("[clients.control-room]", both)
        .replace("\"400001 as u16 every 1s\"", "\"400001 as u16 x2 every 1s\"");
    assert_eq!(checked(&site).findings.iter().map(|f| f.rule.code).collect::<Vec<_>>(), ["M50"]);
    let held = site.replace("port = \"office\"\n[[map]]", "port = \"office\"\non-loss = \"hold\"\n[[map]]");
    let codes = checked(&held).findings.iter().map(|f| f.rule.code).collect::<Vec<_>>();
    assert_eq!(codes, ["M53", "M53"], "for each of them nothing tells that it is held");
}

#[test]
fn disabled_rules_are_out_of_work_and_out_of_the_checks() {
    let site = SITE.replace("to = \"scada:400001\"\n", "to = \"scada:400001\"\nenabled = false\n");
    let checked = checked(&site);
    assert_eq!(checked.plan.rules.len(), 2);
    assert_eq!(
        checked.findings.iter().map(|f| f.rule.code).collect::<Vec<_>>(),
        ["M04"],
        "its reader is told"
    );
}
