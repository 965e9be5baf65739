//! Addresses that areas give out: in order, aligned, never twice, and always the same.

use crate::checks::checked;
use woodrush_core::assign::{Assignment, assign};
use woodrush_core::check::Checked;
use woodrush_core::ledger::Ledger;

const HEAD: &str = r#"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "38400 8E1"
protocol = "modbus-rtu"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.do-1]
port = "raceway"
unit = 23
[images.scada]
port = "office"
[areas.values]
image = "scada"
range = "300001-300020"
[areas.bits]
image = "scada"
range = "304001.0-304001.15"
[areas.coils]
image = "scada"
range = "000101-000104"
"#;

fn rule(from: &str, to: &str) -> String {
    format!("[[map]]\nfrom = \"do-1:{from}\"\nto = \"scada:{to}\"\n")
}

fn with(rules: &[String], ledger: &Ledger) -> Checked {
    checked(&format!("{HEAD}{}\n#### profile woodrush.ledger\n{}", rules.concat(), ledger.text()))
}

/// What is given out to these rules, and the ledger as the next reader finds it.
fn given(rules: &[String], ledger: &Ledger) -> (Assignment, Vec<String>) {
    let found = assign(&with(rules, ledger), ledger, false);
    let shown = found.given.iter().map(|own| format!("{} {} x{}", own.value, own.at, own.takes)).collect();
    (found, shown)
}

#[test]
fn values_get_the_next_free_address_aligned_to_their_width() {
    let rules = [
        rule("400001 as u16", "@values"),
        rule("400002 as u16", "@values as f32 ABCD"),
        rule("400003 as u16", "@values"),
        rule("400004 as u16", "300006"),
        rule("400005 as f64 ABCDEFGH", "@values"),
        rule("400011 as u16", "@bits"),
        rule("400010.3", "@bits"),
        rule("000001", "@coils"),
        rule("400020 as u16", "@values") + "count = 3\n",
    ];
    let (found, shown) = given(&rules, &Ledger::default());
    assert_eq!(found.without.len(), 1, "{:?}", found.without);
    assert!(found.without[0].0.contains("400011"), "a register is no bit: {:?}", found.without);
    assert_eq!(
        shown,
        [
            "do-1:400001 as u16 300001 x1",
            "do-1:400002 as u16 300003 x2",
            "do-1:400003 as u16 300002 x1",
            "do-1:400005 as f64 ABCDEFGH 300009 x4",
            "do-1:400010.3 304001.0 x1",
            "do-1:000001 000101 x1",
            "do-1:400020 as u16 300013 x3",
        ]
    );
    // What was given out is what the rules have then, and nothing else is given.
    let after = with(&rules, &found.ledger);
    let to: Vec<&str> = after.project.maps.iter().map(|map| map.to.value.as_str()).collect();
    assert_eq!((to[0], to[1], to[6]), ("scada:300001", "scada:300003 as f32 ABCD", "scada:304001.0"));
    assert_eq!(given(&rules, &found.ledger).0.ledger.text(), found.ledger.text(), "the same byte for byte");
    assert!(given(&rules, &found.ledger).1.is_empty());
}

#[test]
fn a_rule_that_is_gone_keeps_its_address_until_it_is_given_out_again() {
    let all = [
        rule("400001 as u16", "@values"),
        rule("400002 as u16", "@values"),
        rule("400003 as u16", "@values"),
    ];
    let (first, _) = given(&all, &Ledger::default());
    // One goes: its address stays its own, and a new value gets another.
    let less = [all[0].clone(), all[2].clone(), rule("400009 as u16", "@values")];
    let (second, shown) = given(&less, &first.ledger);
    assert_eq!(shown, ["do-1:400009 as u16 300004 x1"]);
    assert_eq!(second.retired[0].value, "do-1:400002 as u16");
    assert!(second.ledger.text().contains("[retired.values]\n\"do-1:400002 as u16\" = \"300002\""));
    // It comes back: it has what it had.
    let (third, shown) = given(&all, &second.ledger);
    assert_eq!(shown, ["do-1:400002 as u16 300002 x1"]);
    assert!(third.given[0].is_back);
    // Given out again, on demand only.
    let again = [all[0].clone(), rule("400008 as u16", "@values")];
    let fresh = assign(&with(&again, &first.ledger), &first.ledger, true);
    assert_eq!(fresh.given[0].at, "300002");
    assert!(fresh.ledger.retired.is_empty());
}

#[test]
fn an_area_that_is_full_says_what_is_taken_and_by_what() {
    let rules: Vec<String> = (1..=5).map(|at| rule(&format!("{at:06}"), "@coils")).collect();
    let (found, shown) = given(&rules, &Ledger::default());
    assert_eq!(shown.len(), 4);
    let (value, why) = &found.without[0];
    assert_eq!(value, "do-1:000005");
    assert!(
        why.contains("area `coils` (000101-000104) has no 1 free addresses in a row: 4 of 4 are taken"),
        "{why}"
    );
    let less = [rules[4].clone()];
    let (_, shown) = given(&less, &found.ledger);
    assert!(shown.is_empty());
    let (refused, _) = given(&less, &found.ledger);
    assert!(refused.without[0].1.contains("4 of them are of rules that are gone"), "{:?}", refused.without);
}

#[test]
fn a_range_that_is_no_area_is_told() {
    for (range, words) in [
        ("300001", "is not a range of addresses"),
        ("300001-400099", "begins in one table and ends in another"),
        ("300099-300001", "ends before it begins"),
        ("304001.0-304002.14", "ends with bit 15"),
        ("304001.0-304002", "has a bit at one end only"),
        ("300001-365537", "past the table's end"),
    ] {
        let told = checked(&HEAD.replace("300001-300020", range));
        let said = told.findings.iter().any(|own| own.rule.code == "M02" && own.what.contains(words));
        assert!(said, "{range}: {:?}", told.findings);
    }
}

#[test]
fn values_of_one_name_are_told_apart_by_the_names_of_their_rules() {
    let twice = [rule("400001 as u16", "@values"), rule("400001 as u16", "@values as f32 ABCD")];
    let told = with(&twice, &Ledger::default());
    assert!(told.findings.iter().any(|own| own.rule.code == "F06" && own.what.contains("twice")));
    let named = [twice[0].clone(), twice[1].clone() + "name = \"as-float\"\n"];
    assert_eq!(given(&named, &Ledger::default()).1, ["do-1:400001 as u16 300001 x1", "as-float 300003 x2"]);
    for (to, words) in [("@valeus", "there is no area `valeus`"), ("@values as f99", "not a type")] {
        let told = with(&[rule("400001", to)], &Ledger::default());
        assert!(told.findings.iter().any(|own| own.what.contains(words)), "{to}: {:?}", told.findings);
    }
    let other = HEAD.replace(
        "port = \"office\"\n",
        "port = \"office\"\nunit = 1\n[images.other]\nport = \"office\"\nunit = 2\n",
    );
    let told = checked(&format!("{other}[[map]]\nfrom = \"do-1:400001\"\nto = \"other:@values\"\n"));
    assert!(
        told.findings.iter().any(|own| own.what.contains("is an area of `scada`")),
        "{:?}",
        told.findings
    );
}

/// Ten thousand values: each has its own address, and the second time nothing changes.
#[test]
fn many_values_get_addresses_of_their_own() {
    let head = HEAD.replace("300001-300020", "310001-330000");
    let rules: Vec<String> =
        (0..1_000).map(|at| rule(&format!("holding:{at} as u16"), "@values as f32 ABCD")).collect();
    let project = |ledger: &Ledger| {
        checked(&format!("{head}{}\n#### profile woodrush.ledger\n{}", rules.concat(), ledger.text()))
    };
    let found = assign(&project(&Ledger::default()), &Ledger::default(), false);
    let mut all: Vec<&str> = found.given.iter().map(|own| own.at.as_str()).collect();
    assert_eq!((all.len(), all[0], all[999]), (1_000, "310001", "311999"));
    all.dedup();
    assert_eq!(all.len(), 1_000);
    let after = project(&found.ledger);
    assert!(after.findings.iter().all(|own| own.rule.code != "M02" && own.rule.code != "F12"));
    assert_eq!(after.plan.rules.len(), 1_000);
}
