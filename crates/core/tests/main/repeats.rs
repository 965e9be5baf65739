//! `repeat`, `shift` and expressions of n, seen through what they become.

use crate::checks::checked;
use woodrush_core::plan::Source;
use woodrush_core::project::Owner;

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
    checked.findings.iter().map(|f| (f.rule.code, format!("{} | {}", f.what, f.fix))).collect()
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
            Source::Values { owner: Owner::Device(device), place, .. } => {
                (device, place.first, rule.target.first)
            }
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
        ("repeat = \"1-4\"\nport", "repeat = \"one\"\nport", "F03", "not a range of repetitions"),
        ("repeat = \"1-4\"\nport", "repeat = \"1-99999\"\nport", "F03", "more than 4096"),
        ("\"10+n\"", "\"10+m\"", "F03", "not an expression of n"),
        ("\"10+n\"", "\"10+n)\"", "F03", "not an expression of n"),
        ("\"10+n\"", "\"245+n\"", "M25", "248"),
        ("\"100*(n-1)\"", "\"100*(n-1\"", "F03", "expression of n"),
        ("\"100*(n-1)\"", "\"0-100*n\"", "F10", "leaves its table (4 times like this) | choose a `shift`"),
        ("meter-{n}.power", "meter-{n.power", "F03", "`{` without its `}`"),
        ("meter-{n}.power", "meter-{n+1}.power", "F05", "meter-5"),
        ("{400001+2*(n-1)}", "{400001+(n-1)}", "M17", "two rules feed"),
        ("name = \"power-{n}\"", "name = \"power\"", "F06", "two rules are called `power`"),
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
            Source::Values { place, .. } => Some(place.first),
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

/// Six nodes of one box.
const BOX: &str = r#"
[devices.node]
repeat = "1-6"
port = "raceway"
unit = 5
profile = "meter.toml"
shift = "4*(n-1)"
[[map]]
repeat = "1-6"
from = "node-{n}.power"
to = "scada:{400001+2*(n-1)}"
"#;

#[test]
fn nodes_of_one_box_share_its_unit_and_are_planned_as_one_station() {
    assert_eq!(found(BOX), []);
    let apart = checked(&format!("{SITE}{BOX}{PROFILE}"));
    assert_eq!(
        apart.plan.transfers.len(),
        6,
        "unused registers between two are not read unless `read-gap` lets them"
    );
    let joined = checked(&format!("{SITE}{}{PROFILE}", BOX.replace("unit = 5", "unit = 5\nread-gap = 2")));
    let transfers = &joined.plan.transfers;
    assert_eq!((transfers.len(), transfers[0].device(), transfers[0].grains()), (1, Some(0), 22));
    assert_eq!(joined.plan.brought_by(&transfers[0]), [0, 1, 2, 3, 4, 5]);
    assert_eq!(joined.plan.name_with_nodes(0), "node-1 to node-6");
}

#[test]
fn what_is_no_node_of_a_box_has_a_unit_of_its_own() {
    let codes = |text: &str| found(text).iter().map(|(code, _)| *code).collect::<Vec<_>>();
    assert!(codes(&BOX.replace("4*(n-1)", "0")).contains(&"M25"), "six times the same registers");
    let other = "[devices.other]\nport = \"raceway\"\nunit = 5\n[[map]]\nfrom = \"other:400500\"\nto = \"scada:400100\"\n";
    assert!(codes(&format!("{BOX}{other}")).contains(&"M25"), "another entry is another device");
}

#[test]
fn a_point_that_lies_in_the_next_node_is_told_whether_it_is_mapped_or_not() {
    let far =
        PROFILE.replace("[points.run]", "[points.spare]\nat = \"300004\"\nas = \"i32 ABCD\"\n[points.run]");
    let checked = checked(&format!("{SITE}{BOX}{far}"));
    let found: Vec<_> = checked.findings.iter().map(|f| (f.rule.code, f.what.as_str())).collect();
    assert_eq!(
        found,
        [(
            "M12",
            "`spare` ends 5 addresses behind the beginning of its node, and the next node of `node-1` begins 4 behind it"
        )]
    );
}

#[test]
fn what_passes_between_a_box_and_us_is_called_by_the_node_that_it_belongs_to() {
    let checked = checked(&format!("{SITE}{BOX}{PROFILE}"));
    let names = woodrush_core::names::Names::of(&checked);
    let (port, owner) = (checked.project.port("raceway").unwrap(), woodrush_core::project::Owner::Device(0));
    assert_eq!(names.owner(port, Some(&woodrush_core::protocol::StationId::Number(5))), Some(owner));
    let space = checked.plan.devices[0].spaces.iter().find(|space| space.key == "input").unwrap();
    let seen: Vec<&str> = names.within(owner, space, 3, 8).map(|name| name.text.as_str()).collect();
    assert_eq!(seen, ["node-2.power", "node-3.power"]);
}
