//! The plan of whole projects: requests, ages, spaces.

use crate::checks::checked;
use woodrush_core::plan::demands;

const SITE: &str = r#"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "38400 8E1"
protocol = "modbus-rtu"
timeout = "200ms"
[ports.office]
listen = "192.0.2.10:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.do-1]
port = "raceway"
unit = 23
poll = "500ms"
max-read = 10
read-gap = 2
[images.scada]
port = "office"
"#;

fn requests(rules: &str) -> Vec<(u32, u32, u64)> {
    let checked = checked(&format!("{SITE}{rules}"));
    assert!(!checked.has_errors(), "{:#?}", checked.findings.iter().map(|f| &f.what).collect::<Vec<_>>());
    checked
        .plan
        .transfers
        .iter()
        .map(|t| (t.parts[0].first, t.parts[0].count, t.cadence.interval()))
        .collect()
}

#[test]
fn rules_share_requests_within_interval_limit_and_gap() {
    let rules = r#"
[[map]]
from = "do-1:400001 as f32 CDAB"
to = "scada:400001"
count = 3
[[map]]
from = "do-1:400009"
to = "scada:400101"
[[map]]
from = "do-1:400013"
to = "scada:400102"
[[map]]
from = "do-1:400002"
to = "scada:400103"
poll = "2s"
"#;
    // Six registers, a gap of two, one more: nine in one request; the next gap is three.
    assert_eq!(requests(rules), [(0, 9, 500_000), (12, 1, 500_000), (1, 1, 2_000_000)]);
}

#[test]
fn smaller_requests_split_no_value_and_no_group() {
    let rules = r#"
[[map]]
from = "do-1:400001"
to = "scada:400001"
[[map]]
from = "do-1:400002 as f32 CDAB"
to = "scada:400011 as f32 ABCD"
count = 2
[[map]]
from = "do-1:400007"
to = "scada:400021"
together = "state"
[[map]]
from = "do-1:400009"
to = "scada:400022"
together = "state"
"#;
    let checked = checked(&format!("{SITE}{rules}"));
    assert!(!checked.has_errors(), "{:?}", checked.findings);
    let pieces = |most| -> Vec<(u32, u32)> {
        checked.plan.pieces(0, most).iter().map(|piece| (piece[0].first, piece[0].count)).collect()
    };
    assert_eq!(pieces(9), [(0, 9)]);
    assert_eq!(pieces(5), [(0, 5), (6, 3)], "the gap is left out");
    assert_eq!(pieces(4), [(0, 3), (3, 2), (6, 3)]);
    assert_eq!(pieces(1), [(0, 1), (1, 2), (3, 2), (6, 3)], "what belongs together stays whole");
}

#[test]
fn a_long_rule_is_split_between_values_and_every_value_lands_once() {
    let rules = "[[map]]\nfrom = \"do-1:400001 as f64 HGFEDCBA\"\nto = \"scada:400001\"\ncount = 5\n";
    assert_eq!(requests(rules).iter().map(|r| r.1).collect::<Vec<_>>(), [8, 8, 4]);
    let checked = checked(&format!("{SITE}{rules}"));
    let mut items: Vec<u32> = checked.plan.steps.iter().flat_map(|s| s.item..s.item + s.items).collect();
    items.sort_unstable();
    assert_eq!(items, [0, 1, 2, 3, 4]);
}

#[test]
fn the_age_is_three_times_the_longer_of_poll_and_cycle_and_what_may_be_waited_for() {
    let slow = checked(&format!("{SITE}[[map]]\nfrom = \"do-1:400001\"\nto = \"scada:400001\"\n"));
    assert_eq!(slow.plan.rules[0].max_age, 3 * 500_000 + 200_000);
    let fast =
        checked(&format!("{SITE}[[map]]\nfrom = \"do-1:400001\"\nto = \"scada:400001\"\npoll = \"20ms\"\n"));
    let cycle = fast.plan.cycles[0];
    assert!((7_500..8_000).contains(&cycle), "{cycle}");
    assert_eq!(fast.plan.rules[0].max_age, 3 * 20_000 + 200_000);
    // Of two devices one may not answer while the other waits.
    let two = "[devices.do-9]\nport = \"raceway\"\nunit = 99\n[[map]]\nfrom = \"do-9:400001\"\nto = \"scada:400009\"\n";
    let two = checked(&format!("{SITE}[[map]]\nfrom = \"do-1:400001\"\nto = \"scada:400001\"\n{two}"));
    assert_eq!(two.plan.rules[0].max_age, 3 * 500_000 + 200_000 + two.plan.unanswered[0]);
}

/// Who asks an image that is a controller has to be told what it is called by and what is there.
#[test]
fn an_image_tells_those_who_ask_it_what_to_set_up() {
    let text = r#"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[ports.plc]
listen = "0.0.0.0:102"
protocol = "fetch-write"
allow = ["192.0.2.0/24"]
[images.scada]
port = "office"
[images.blocks]
port = "plc"
local-tsap = "02.03"
[[map]]
from = "scada:400001"
to = "blocks:%DB1.W10"
count = 8
"#;
    let checked = checked(text);
    let demands = demands(&checked.project, &checked.plan);
    assert_eq!(demands.len(), 1);
    assert!(demands[0].image && demands[0].name == "blocks");
    assert_eq!(
        demands[0].links,
        ["active ISO-on-TCP connection for FETCH: own TSAP any, partner's TSAP 02.03"]
    );
    let tables = [("DB1".to_string(), "at least 26 bytes: %DB1.B10 to %DB1.B25 read".to_string())];
    assert_eq!(demands[0].tables, tables);
}

const TWO_WAYS: &str = r#"
[ports.pumps-read]
connect = "192.0.2.30:102"
protocol = "fetch-write"
local-tsap = "01.00"
remote-tsap = "01.02"
[ports.pumps-write]
connect = "192.0.2.30:103"
protocol = "fetch-write"
local-tsap = "01.00"
remote-tsap = "02.02"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.pumps]
port = "pumps-read"
write-port = "pumps-write"
[images.scada]
port = "office"
[[map]]
from = "pumps:%DB10.D4 as f32"
to = "scada:400001"
access = "read-write"
"#;

#[test]
fn a_controller_with_two_connections_is_told_to_set_up_both() {
    let checked = checked(TWO_WAYS);
    assert!(!checked.has_errors(), "{:?}", checked.findings);
    assert_eq!((checked.plan.devices[0].port, checked.plan.write_port(0)), (0, Some(1)));
    assert_eq!((checked.plan.ports_together(1), checked.plan.ports_together(2)), (vec![0, 1], vec![2]));
    let demands = demands(&checked.project, &checked.plan);
    assert_eq!(
        demands[0].links,
        [
            "passive ISO-on-TCP connection for FETCH: own TSAP 01.02, partner's TSAP 01.00",
            "passive ISO-on-TCP connection for WRITE: own TSAP 02.02, partner's TSAP 01.00, by port pumps-write",
        ]
    );
}

#[test]
fn a_port_that_only_reads_is_never_told_to_write() {
    let sent = TWO_WAYS.replace(
        "from = \"pumps:%DB10.D4 as f32\"\nto = \"scada:400001\"\naccess = \"read-write\"",
        "from = \"scada:400001\"\nto = \"pumps:%DB10.W4\"",
    );
    let checked = checked(&sent);
    let demands = demands(&checked.project, &checked.plan);
    let work: Vec<bool> = demands[0].links.iter().map(|link| link.contains("for WRITE")).collect();
    assert_eq!(work, [false, true], "{:?}", demands[0].links);
}

#[test]
fn a_port_for_writes_must_lead_to_the_same_device() {
    for (from, to, part) in [
        ("write-port = \"pumps-write\"", "write-port = \"pumps-read\"", "the port of the device itself"),
        ("write-port = \"pumps-write\"", "write-port = \"office\"", "is a listening port"),
        ("write-port = \"pumps-write\"", "write-port = \"pumps-rite\"", "pumps-rite"),
        (
            "protocol = \"fetch-write\"\nlocal-tsap = \"01.00\"\nremote-tsap = \"02.02\"",
            "protocol = \"modbus-tcp\"",
            "read in fetch-write and would be written in modbus-tcp",
        ),
        (
            "local-tsap = \"01.00\"\nremote-tsap = \"02.02\"",
            "local-tsap = \"01.00\"",
            "`remote-tsap` is missing",
        ),
    ] {
        let checked = checked(&TWO_WAYS.replace(from, to));
        let told: Vec<&str> = checked.findings.iter().map(|finding| finding.what.as_str()).collect();
        assert!(checked.has_errors() && told.iter().any(|what| what.contains(part)), "{part}: {told:?}");
    }
}
