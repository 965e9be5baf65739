//! Reading the files: kinds of values, places, what is taken over from profiles, and what a slip costs.

use crate::checks::checked;
use woodrush_core::project::{Fault, Network, OnLoss, Parity, Signal, Wires};
use woodrush_core::protocol::Verb;

/// One line in a table, the code and the fix that it gets.
const WRONG_KINDS: &[(&str, &str, &str, &str)] = &[
    ("ports.a", "listen = 502", "F03", "write a text in quotes"),
    ("ports.a", "timeout = \"soon\"", "F03", "a duration in quotes such as"),
    ("ports.a", "timeout = 5", "F03", "a duration in quotes such as"),
    ("ports.a", "retries = -1", "F03", "a whole number of 0 to 100"),
    ("ports.a", "retries = 1.5", "F03", "a whole number of 0 to 100"),
    ("ports.a", "max-clients = 0", "F03", "a whole number of 1 to 4096"),
    ("ports.a", "allow = \"192.0.2.0/24\"", "F03", "a list of texts"),
    ("ports.a", "allow = [1, 2]", "F03", "a list of texts"),
    ("ports.a", "wiring = \"rs484\"", "F03", "`rs232`, `rs485`, `rs485-4w` or `rs422`"),
    ("ports.a", "protocl = \"modbus-tcp\"", "F02", "write `protocol`"),
    ("ports.a", "xyzzy = 1", "F02", "its keys are serial, line"),
    ("devices.d", "unit = \"five\"", "F03", "a whole number of 0 to 255"),
    ("devices.d", "unit = 256", "M25", "a whole number of 0 to 255"),
    ("devices.d", "write-one = \"both\"", "F03", "`multiple` or `single`"),
    ("devices.d", "retry-lost = \"30s..1s\"", "F03", "write a value of the kind"),
    ("devices.d", "tables = 5", "F03", "write a value of the kind"),
    ("devices.d", "tables = { holding = \"x\" }", "F03", "write a value of the kind"),
    ("devices.d", "lost-after = 0", "F03", "a whole number of 1 to 1000"),
    ("images.i", "unit = \"some\"", "F03", "or \"any\""),
    ("images.i", "on-loss = \"vanish\"", "F03", "write a value of the kind"),
    ("images.i", "on-loss = \"fill 0x10000\"", "F03", "write a value of the kind"),
    ("images.i", "unmapped = \"one\"", "F03", "`refuse` or `zero`"),
    ("clients.c", "reads = [\"400001 x0\"]", "F03", "write a value of the kind"),
    ("clients.c", "reads = [\"400001 as f33\"]", "F08", "TYPE [ORDER]"),
    ("clients.c", "timeout = true", "F03", "a duration in quotes"),
    ("rig", "seed = -4", "F03", "a whole number from 0 on"),
    ("rig.devices.d", "\"400001\" = 5", "F03", "write a value of the kind"),
    ("rig.devices.d", "\"400001\" = \"stedy 5\"", "F03", "write a value of the kind"),
    ("rig.devices.e", "\"400001\" = \"steady 5\"", "F05", "write `d`"),
    ("project", "format = 2", "F03", "a whole number of 1 to 1"),
    ("projct", "name = \"x\"", "F02", "write `project`"),
];

const BASE: &str = "[ports.a]\nlisten = \"0.0.0.0:502\"\nprotocol = \"modbus-tcp\"\n[ports.s]\nserial = \"/dev/ttyS0\"\nline = \"9600 8N1\"\nprotocol = \"modbus-rtu\"\n[devices.d]\nport = \"s\"\n[images.i]\nport = \"a\"\n[clients.c]\nimage = \"i\"\n[rig]\n";

fn with(table: &str, line: &str) -> String {
    let header = format!("[{table}]\n");
    let key = line.split(' ').next().unwrap();
    match BASE.find(&header) {
        // The line may stand for one that is there already.
        Some(at) => {
            let (before, after) = BASE.split_at(at + header.len());
            let end = after.find('[').unwrap_or(after.len());
            let kept: String = after[..end]
                .lines()
                .filter(|old| !old.starts_with(key))
                .map(|old| format!("{old}\n"))
                .collect();
            format!("{before}{line}\n{kept}{}", &after[end..])
        }
        None => format!("{BASE}{header}{line}\n"),
    }
}

#[test]
fn values_of_the_wrong_kind_say_what_is_right() {
    for (table, line, code, fix) in WRONG_KINDS {
        let checked = checked(&with(table, line));
        let told: Vec<String> =
            checked.findings.iter().map(|f| format!("{} {} | {}", f.rule.code, f.what, f.fix)).collect();
        assert!(told.iter().any(|t| t.starts_with(code) && t.contains(fix)), "[{table}] {line}: {told:#?}");
        let place = checked.findings.iter().find(|f| f.rule.code == *code).unwrap();
        let at = checked.project.sources.position(place.span);
        let own = line.split(" = ").next().unwrap().trim_matches('"');
        assert!(
            at.text.contains(own) || *table == "rig.devices.e" || *table == "projct",
            "[{table}] {line}: {}",
            at.text
        );
    }
}

#[test]
fn everything_written_is_read() {
    let text = r#"
[project]
name = "All of it"
[converter]
address = "192.0.2.10/24"
router = "192.0.2.1"
[ports.bus]
serial = "/dev/ttyS0"
line = "19200 8O2"
wiring = "rs422"
protocol = "modbus-rtu"
frame-gap = "4ms"
timeout = "250ms"
retries = 2
[ports.net]
listen = "192.0.2.10:5020"
protocol = "modbus-tcp"
max-clients = 3
allow = ["192.0.2.0/28", "192.0.2.77"]
idle-timeout = "5m"
[devices.d]
port = "bus"
profile = "p.toml"
poll = "2s"
max-write = 4
read-gap = 7
lost-after = 9
retry-lost = "2s..1m"
tables = { coil = 16 }
[images.i]
port = "net"
unit = 9
on-loss = "fill 0x8000"
max-age = "7s"
unmapped = "zero"
[[map]]
name = "one"
from = "d.level"
to = "i:400001"
poll = "3s"
on-loss = "hold"
overflow = "clamp"
note = "why it is so"
[[map]]
from = "d.health.online"
to = "i:100001"
[clients.c]
image = "i"
address = "192.0.2.3"
dials = "192.0.2.10:5020"
max-read = 20
timeout = "900ms"
reads = ["400001 as u16 scale 0.5 every 2s", "100001 every 2s"]
[rig]
seed = 42
[rig.devices.d]
level = "sine 1..2 period 3s"
[[rig.faults]]
at = "1s"
for = "2s"
slow = "d 300ms"
#### profile p.toml
[profile]
name = "Gauge"
line = "19200 8O2"
unit = 77
max-read = 30
max-write = 10
write-one = "single"
tables = { coil = 99, holding = 50 }
[points.level]
at = "400001"
as = "u16 scale 0.5"
eu = "m"
range = [0, 100]
"#;
    let checked = checked(text);
    let codes: Vec<_> = checked.findings.iter().map(|f| format!("{} {}", f.rule.code, f.what)).collect();
    assert!(codes.is_empty(), "{codes:?}");
    let project = &checked.project;
    assert_eq!(project.name.value, "All of it");
    let own = project.converter.address.unwrap().value;
    assert_eq!(
        (own, own.to_string().as_str()),
        (Network { address: "192.0.2.10".parse().unwrap(), prefix: 24 }, "192.0.2.10/24")
    );
    let bus = &project.ports[0];
    let line = bus.line().unwrap().value;
    assert_eq!((line.baud, line.data, line.parity, line.stop), (19_200, 8, Parity::Odd, 2));
    assert_eq!((bus.frame_gap.unwrap().value, bus.timeout.value, bus.retries), (4000, 250_000, 2));
    let net = &project.ports[1];
    assert!(matches!(&net.wires, Some(Wires::Listen { at }) if at.value.port == 5020));
    assert_eq!(
        (net.max_clients, net.idle_timeout, net.allow.as_ref().unwrap().value.len()),
        (3, 300_000_000, 2)
    );
    let device = &project.devices[0];
    assert_eq!((device.poll.value.every(), device.read_gap, device.lost_after), (Some(2_000_000), 7, 9));
    assert_eq!((device.retry.first, device.retry.most), (2_000_000, 60_000_000));
    // Its own entry goes before the profile's.
    let numbers = ["unit", "max-read", "max-write"].map(|key| device.setup.number(key));
    assert_eq!(numbers, [Some(77), Some(30), Some(4)]);
    assert_eq!(device.setup.word("write-one"), Some("single"));
    let tables: Vec<(&str, u32)> =
        device.tables.iter().map(|(name, size)| (name.value.as_str(), *size)).collect();
    assert_eq!(tables, [("coil", 16), ("holding", 50)]);
    let image = &project.images[0];
    assert_eq!(
        (image.on_loss, image.max_age, image.unmapped_zero),
        (OnLoss::Fill(0x8000), Some(7_000_000), true)
    );
    let rule = &checked.plan.rules[0];
    assert_eq!((rule.every, rule.max_age, rule.on_loss), (3_000_000, 7_000_000, OnLoss::Hold));
    assert_eq!(project.rig.seed, 42);
    assert!(matches!(project.rig.signals[0].2, Signal::Wave { .. }));
    assert_eq!(project.rig.faults[0].what.value, Fault::parse("slow", "d 300ms").unwrap());
    let cost = checked.plan.devices[0].dialect.unwrap().cost(
        Verb::Write,
        checked.plan.devices[0].space_at(woodrush_core::protocol::SpaceId(3)).unwrap(),
        1,
        &device.setup,
    );
    assert_eq!(cost.unwrap().out, 8, "function 6");
    assert_eq!(checked.plan.lines[0].own_frame_gap, 4000);
}

#[test]
fn a_slip_in_the_toml_is_told_once_and_the_rest_is_still_read() {
    let broken = BASE.replace("port = \"s\"", "port = s");
    let checked = checked(&broken);
    let slips: Vec<_> = checked.findings.iter().filter(|finding| finding.rule.code == "F01").collect();
    let [first] = slips.as_slice() else { panic!("{}", slips.len()) };
    let at = checked.project.sources.position(first.span);
    assert_eq!((at.line, at.text), (9, "port = s"));
    assert_eq!(checked.project.ports.len(), 2);
    assert_eq!(checked.project.images.len(), 1);
}

#[test]
fn findings_stand_at_what_was_typed_also_in_profiles_and_after_letters_of_several_bytes() {
    let text = "[project]\nname = \"Zürich — Höhe\" # ü\n[ports.b]\nserial = \"/dev/ttyS0\"\nline = \"960 8N1\" # größer\nprotocol = \"modbus-rtu\"\n[devices.d]\nport = \"b\"\nprofile = \"p\"\n#### profile p\n# ä\n[profile]\nname = \"ö\"\n[points.x]\nat = \"40\"\n";
    let checked = checked(text);
    let places: Vec<(String, usize, usize, &str)> = checked
        .findings
        .iter()
        .map(|f| {
            let at = checked.project.sources.position(f.span);
            (at.file.to_string(), at.line, at.column, checked.project.sources.text(f.span))
        })
        .collect();
    assert!(places.contains(&("woodrush.toml".into(), 5, 9, "960")), "{places:?}");
    assert!(places.contains(&("p".into(), 5, 7, "40")), "{places:?}");
}

#[test]
fn profiles_are_read_once_for_all_their_devices_and_their_faults_told_once() {
    let text = "[ports.b]\nserial = \"/dev/ttyS0\"\nline = \"9600 8N1\"\nprotocol = \"modbus-rtu\"\n[devices.a]\nport = \"b\"\nunit = 1\nprofile = \"p\"\n[devices.c]\nport = \"b\"\nunit = 2\nprofile = \"p\"\n#### profile p\n[profile]\n[points.x]\nat = \"4\"\n";
    let checked = checked(text);
    assert_eq!(checked.project.profiles.len(), 1);
    assert_eq!(checked.findings.iter().filter(|f| f.rule.code == "M03").count(), 1);
}
