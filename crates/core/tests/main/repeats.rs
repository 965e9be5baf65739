//! `repeat`, `shift` and expressions of n, seen through what they become.

use crate::checks::checked;
use woodrush_core::plan::Source;

const SITE: &str = r#"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "38400 8E1"
protocol = "modbus-rtu"
[ports.office]
listen = "192.0.2.10:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[images.scada]
port = "office"
"#;

const PROFILE: &str = r#"#### profile meter.toml
[profile]
name = "Energy meter"
[points.power]
at = "300001"
as = "i32 ABCD"
[points.run]
at = "000005"
"#;

const METERS: &str = r#"
[devices.meter]
repeat = "1-4"
port = "raceway"
unit = "10+n"
profile = "meter.toml"
shift = "100*(n-1)"
[[map]]
repeat = "1-4"
name = "power-{n}"
from = "meter-{n}.power"
to = "scada:{400001+2*(n-1)}"
"#;

fn found(text: &str) -> Vec<(&'static str, String)> {
    let checked = checked(&format!("{SITE}{text}{PROFILE}"));
    checked.findings.iter().map(|f| (f.rule.code, format!("{} | {}", f.what, f.mend))).collect()
}

#[test]
fn each_repetition_is_a_device_and_a_rule_of_its_own() {
    let checked = checked(&format!("{SITE}{METERS}{PROFILE}"));
    assert!(!checked.has_errors(), "{:#?}", checked.findings.iter().map(|f| &f.what).collect::<Vec<_>>());
    let names: Vec<&str> = checked.project.devices.iter().map(|d| d.name.value.as_str()).collect();
    assert_eq!(names, ["meter-1", "meter-2", "meter-3", "meter-4"]);
    let units: Vec<u32> = checked.project.devices.iter().map(|d| d.setup.number("unit").unwrap()).collect();
    assert_eq!(units, [11, 12, 13, 14]);
    let ways: Vec<(usize, u32, u32)> = checked
        .plan
        .rules
        .iter()
        .map(|rule| match rule.source {
            Source::Poll { device, place, .. } => (device, place.first, rule.target.first),
            other => panic!("{other:?}"),
        })
        .collect();
    assert_eq!(ways, [(0, 0, 0), (1, 100, 2), (2, 200, 4), (3, 300, 6)]);
    let named: Vec<_> =
        checked.project.maps.iter().filter_map(|map| Some(map.name.as_ref()?.value.as_str())).collect();
    assert_eq!(named, ["power-1", "power-2", "power-3", "power-4"]);
}

#[test]
fn what_is_wrong_with_one_repetition_is_told_in_the_words_of_the_file() {
    for (from, to, code, words) in [
        ("repeat = \"1-4\"\nport", "repeat = \"4-1\"\nport", "F03", "ends before it begins"),
        ("repeat = \"1-4\"\nport", "repeat = \"one\"\nport", "F03", "no range of repetitions"),
        ("repeat = \"1-4\"\nport", "repeat = \"1-99999\"\nport", "F03", "more than 4096"),
        ("\"10+n\"", "\"10+m\"", "F03", "no expression of n"),
        ("\"10+n\"", "\"10+n)\"", "F03", "no expression of n"),
        ("\"10+n\"", "\"245+n\"", "M25", "248"),
        ("\"100*(n-1)\"", "\"100*(n-1\"", "F03", "expression of n"),
        ("\"100*(n-1)\"", "\"0-100*n\"", "F10", "leaves its table (4 times like this) | choose a `shift`"),
        ("meter-{n}.power", "meter-{n.power", "F03", "`{` without its `}`"),
        ("meter-{n}.power", "meter-{n+1}.power", "F05", "meter-5"),
        ("{400001+2*(n-1)}", "{400001+(n-1)}", "M17", "two rules feed"),
        ("name = \"power-{n}\"", "name = \"power\"", "F06", "two rules are called `power`"),
        ("unit = \"10+n\"", "unit = 11", "M25", "are both unit 11"),
    ] {
        assert!(METERS.contains(from), "{from}");
        let all = found(&METERS.replacen(from, to, 1));
        let hit = all.iter().any(|(found, told)| *found == code && told.contains(words));
        assert!(hit, "{from} -> {to}: wanted {code} with `{words}`, found {all:#?}");
    }
}

#[test]
fn a_shift_moves_every_address_of_the_profile_and_no_address_that_the_rule_names() {
    let one = "[devices.meter]\nport = \"raceway\"\nunit = 11\nprofile = \"meter.toml\"\nshift = 16\n[[map]]\nfrom = \"meter.power\"\nto = \"scada:400001\"\n[[map]]\nfrom = \"meter.run\"\nto = \"scada:000001\"\n[[map]]\nfrom = \"meter:300001\"\nto = \"scada:400010\"\n";
    let checked = checked(&format!("{SITE}{one}{PROFILE}"));
    assert!(!checked.has_errors());
    let firsts: Vec<u32> = checked
        .plan
        .rules
        .iter()
        .filter_map(|rule| match rule.source {
            Source::Poll { place, .. } => Some(place.first),
            _ => None,
        })
        .collect();
    assert_eq!(firsts, [16, 20, 0]);
}

#[test]
fn a_number_where_nothing_repeats_is_no_expression() {
    let once =
        METERS.replace("repeat = \"1-4\"\nport", "port").replacen("[devices.meter]", "[devices.meter-1]", 1);
    let all = found(&once);
    assert!(all.iter().any(|(code, told)| *code == "F03" && told.contains("unit")), "{all:#?}");
}
