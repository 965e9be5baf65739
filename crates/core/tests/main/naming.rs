//! What addresses are called that pass by: points, rules, and the devices behind an image's cells.

use crate::checks::checked;
use woodrush_core::names::Names;
use woodrush_core::project::Owner;
use woodrush_core::protocol::StationId;

const SITE: &str = r#"
[project]
name = "Sallow Beck hatchery"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "38400 8E1"
protocol = "modbus-rtu"
[ports.feeders]
serial = "/dev/ttyUSB1"
line = "19200 8N1"
protocol = "df1-half"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.gauge]
port = "raceway"
unit = 23
[devices.feeder]
port = "feeders"
node = 4
[images.scada]
port = "office"
[[map]]
from = "gauge:400011 as f32 CDAB scale 0.1"
to = "scada:400101 as f32 ABCD"
count = 3
[[map]]
from = "feeder:N7:0"
to = "scada:400201"
count = 4
access = "read-write"
[[map]]
from = "gauge:400050.3"
to = "scada:000011"
[[map]]
from = "gauge.health.online"
to = "scada:100001"
[[map]]
from = "gauge:400060"
to = "scada:000101"
count = 2
"#;

/// Names within some grains of a table, with their values out of cells.
fn within(at: (usize, Option<u32>), key: &str, (first, count): (u32, u32), cells: &[u8]) -> Vec<String> {
    let checked = checked(SITE);
    assert!(!checked.has_errors());
    let names = Names::of(&checked);
    let owner = names.owner(at.0, at.1.map(StationId::Number).as_ref()).unwrap();
    let stations = match owner {
        Owner::Device(at) => &checked.plan.devices[at],
        Owner::Image(at) => &checked.plan.images[at],
        Owner::Converter => unreachable!("the converter hangs on no port"),
    };
    let space = stations.spaces.iter().find(|space| space.key == key).unwrap();
    let each = space.grain.cell_bytes();
    let shown = |name: &woodrush_core::names::Name| {
        let begin = (name.first - first) as usize * each;
        let own = &cells[begin..begin + name.width as usize * each];
        format!("{} = {}", name.text, name.shown(own).unwrap_or_else(|| "no value".into()))
    };
    names.within(owner, space, first, count).map(shown).collect()
}

const GAUGE: (usize, Option<u32>) = (0, Some(23));
const FEEDER: (usize, Option<u32>) = (1, Some(4));
const SCADA: (usize, Option<u32>) = (2, Some(1));

#[test]
fn what_a_device_says_is_called_by_its_address_and_has_the_rules_form() {
    // 17.5 and 2.5 before the scale; the third float is only half there.
    let cells = [0x00, 0x00, 0x41, 0x8C, 0x00, 0x00, 0x40, 0x20, 0, 0];
    assert_eq!(within(GAUGE, "holding", (10, 5), &cells), ["gauge:400011 = 1.75", "gauge:400013 = 0.25"]);
    assert_eq!(within(GAUGE, "holding", (49, 1), &[0x00, 0x08]), ["gauge:400050.3 = 1"]);
    assert_eq!(within(FEEDER, "N7", (1, 2), &[0xFF, 0xFF, 0, 9]), ["feeder:N7:1 = -1", "feeder:N7:2 = 9"]);
    assert_eq!(within(GAUGE, "holding", (500, 9), &[0; 18]), [""; 0], "no rule carries it");
}

#[test]
fn what_an_image_shows_is_called_by_its_source() {
    let cells = [0x3F, 0xE0, 0, 0, 0x3E, 0x80, 0, 0];
    assert_eq!(within(SCADA, "holding", (100, 4), &cells), ["gauge:400011 = 1.75", "gauge:400013 = 0.25"]);
    assert_eq!(within(SCADA, "holding", (203, 1), &[0, 7]), ["feeder:N7:3 = 7"]);
    assert_eq!(within(SCADA, "coil", (10, 1), &[1]), ["gauge:400050.3 = 1"]);
    assert_eq!(within(SCADA, "discrete", (0, 1), &[0]), ["gauge.health.online = 0"]);
    // A register onto sixteen coils, bit 0 first.
    let bits = within(SCADA, "coil", (100, 18), &[1; 18]);
    assert_eq!((bits[0].as_str(), bits[15].as_str()), ("gauge:400060.0 = 1", "gauge:400060.15 = 1"));
    assert_eq!(bits[16], "gauge:400061.0 = 1");
}

#[test]
fn a_number_on_a_port_stands_for_who_answers_to_it() {
    let names = Names::of(&checked(SITE));
    assert_eq!(names.owner(0, Some(&StationId::Number(23))), Some(Owner::Device(0)));
    assert_eq!(names.owner(0, Some(&StationId::Number(24))), None, "nobody has that unit");
    assert_eq!(
        names.owner(2, Some(&StationId::Number(255))),
        Some(Owner::Image(0)),
        "an image alone answers to every unit"
    );
    assert_eq!(names.owner(1, None), Some(Owner::Device(1)), "who is alone needs no number");
    assert_eq!(names.owner(7, None), None);
}

/// Findings of a controller with such sizes and such a rule.
fn found(tables: &str, rule: &str) -> Vec<(&'static str, String)> {
    let site = SITE.replace("node = 4\n", &format!("node = 4\ntables = {{ {tables} }}\n"));
    let site = format!("{}[[map]]\n{rule}", site.split("[[map]]").next().unwrap());
    checked(&site).findings.iter().map(|f| (f.rule.code, f.fix.clone())).collect()
}

#[test]
fn files_that_there_is_one_of_are_named_with_and_without_their_number() {
    let rule = |address: &str| format!("from = \"feeder:{address}\"\nto = \"scada:400301\"\n");
    for (tables, address) in [("S = 33", "S:1"), ("S2 = 33", "S:1"), ("S = 33", "S2:1"), ("I = 4", "I:1")] {
        assert_eq!(found(tables, &rule(address)), [], "{tables} {address}");
    }
    assert_eq!(found("S = 33", &rule("S:40"))[0].0, "M34", "it ends at 32");
    assert_eq!(found("N = 33", &rule("N7:1"))[0].0, "M34", "there may be several of integers");
}

#[test]
fn several_bits_of_a_word_are_carried_by_one_entry_that_the_finding_writes() {
    let all = found("N7 = 9", "from = \"feeder:N7:3/2\"\nto = \"scada:000301\"\ncount = 4\n");
    assert_eq!(all[0].0, "F09");
    assert!(all[0].1.contains("`repeat = \"2-5\"`, `from = \"feeder:N7:3/{n}\"`"), "{}", all[0].1);
    let good = "repeat = \"2-5\"\nfrom = \"feeder:N7:3/{n}\"\nto = \"scada:coil:{300+n-2}\"\n";
    assert_eq!(found("N7 = 9", good), []);
}
