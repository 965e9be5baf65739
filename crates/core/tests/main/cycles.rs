//! Blocks that are exchanged in cycles, from texts alone: the plan, the views of both programmers, frames, papers.

use crate::checks::checked;
use std::fmt::Write as _;
use woodrush_core::blocks::blocks;
use woodrush_core::budget::networks;
use woodrush_core::check::Checked;
use woodrush_core::finding::Severity;
use woodrush_core::handover::{handover_list, image_settings, papers, values_of};
use woodrush_core::plan::demands;
use woodrush_core::project::Owner;
use woodrush_core::trace::trace;
use woodrush_core::{Span, Spanned};

const CELL: &str = r#"
[converter]
address = "192.0.2.10/24"

[ports.raceway]
serial = "/dev/ttyUSB0"
line = "38400 8E1"
protocol = "modbus-rtu"

[ports.cell]
network = "192.0.2.10"
protocol = "ethernet-ip"
allow = ["192.0.2.0/24"]

[devices.do-1]
port = "raceway"
unit = 23

[devices.valves]
port = "cell"
address = "192.0.2.70"
inputs = { assembly = 101, bytes = 4 }
outputs = { assembly = 102, bytes = 3 }
period = "5ms"
multiplier = 8

[images.grading]
port = "cell"
inputs = { assembly = 100 }
outputs = { assembly = 150 }
period = "10ms"
on-loss = "fill 0"

[[map]]
from = "do-1:400001 as f32 CDAB"
to = "grading:%ID2 as f32"

[[map]]
from = "do-1.health.online"
to = "grading:%IX9.3"

[[map]]
name = "wanted"
from = "grading:%QW4 as i16 scale 0.1"
to = "do-1:400101 as i16 scale 0.1"
send = ["on-change", "every 1m"]
on-loss = "fill 5"

[[map]]
from = "grading:%QX6.7"
to = "valves:%QX2.1"

[clients.line]
image = "grading"
"#;

fn cell() -> Checked {
    let checked = checked(CELL);
    let errors: Vec<&str> = checked
        .findings
        .iter()
        .filter(|finding| finding.severity == woodrush_core::finding::Severity::Error)
        .map(|finding| finding.what.as_str())
        .collect();
    assert!(errors.is_empty(), "{errors:?}");
    checked
}

fn traced(checked: &Checked, at: &str) -> Vec<woodrush_core::trace::Trace> {
    let entry = Spanned { value: at.to_string(), span: Span::default() };
    trace(checked, &checked.project.endpoint(&entry).unwrap())
}

#[test]
fn a_block_without_a_size_is_as_long_as_its_rules_need() {
    let checked = cell();
    let link = checked.plan.link_of(Owner::Image(0)).unwrap();
    let slot = &link.slots[0];
    assert_eq!(slot.goes.map(|extent| extent.count), Some(10), "bytes 0 to 9");
    assert_eq!(slot.comes.map(|(extent, _)| extent.count), Some(7), "bytes 0 to 6");
    let device = checked.plan.link_of(Owner::Device(1)).unwrap();
    assert_eq!((device.period, device.lost_after), (5_000, 40_000));
}

#[test]
fn both_programmers_see_the_same_bytes() {
    let checked = cell();
    let all = blocks(&checked.project, &checked.plan);
    let mut told = String::new();
    for block in &all {
        writeln!(told, "{} {} {} {} bytes", block.of, block.block, block.sent, block.bytes).unwrap();
        for row in &block.rows {
            writeln!(told, "  {} {} {} {} {}", row.byte, row.bytes, row.address, row.form, row.other)
                .unwrap();
        }
    }
    let wanted = "\
grading inputs true 10 bytes
  2 4 %ID2 f32 DCBA do-1:400001
  9 1 %IX9.3 bool do-1.health.online
grading outputs false 7 bytes
  4 2 %QW4 i16 BA scale 0.1 do-1:400101
  6 1 %QX6.7 bool valves:%QX2.1
valves inputs false 4 bytes
valves outputs true 3 bytes
  2 1 %QX2.1 bool grading:%QX6.7
";
    assert_eq!(told, wanted);
    assert_eq!(all[0].unused(), [0..2, 6..9], "bytes that no rule feeds");
}

#[test]
fn a_trace_shows_the_frame_with_the_bytes_of_the_value() {
    let checked = cell();
    let shown = &traced(&checked, "grading:%ID2")[0];
    let frame = shown.frame.as_ref().unwrap();
    // Two items, the connection, the sequence count; no header towards a controller.
    assert_eq!((frame.value_begins, frame.value_bytes), (20 + 2, 4), "{}", frame.bytes);
    assert_eq!(frame.bytes.split(' ').count(), 20 + 10);
    assert!(shown.read.is_none() && shown.poll.is_some());
    // What comes has a header of four bytes before the block.
    let sent = &traced(&checked, "do-1:400101")[0];
    let comes = sent.comes.as_ref().unwrap();
    assert_eq!(comes.from, "the controller of grading");
    assert_eq!((comes.frame.value_begins, comes.frame.value_bytes), (20 + 4 + 4, 2));
    assert!(comes.chosen_there, "how often is the controller's choice");
    let device = &traced(&checked, "valves:%QX2.1")[0];
    let frame = device.frame.as_ref().unwrap();
    assert_eq!((frame.value_begins, frame.value_bytes), (20 + 4 + 2, 1), "we are its controller");
}

#[test]
fn frames_and_their_share_of_the_network_are_counted() {
    let checked = cell();
    let network = &networks(&checked.project, &checked.plan)[0];
    let own: Vec<(u64, u64, u32, u32)> = network
        .links
        .iter()
        .map(|link| (link.every_us, link.watchdog_us, link.sent.bytes, link.received.bytes))
        .collect();
    assert_eq!(own, [(10_000, 160_000, 10, 7), (5_000, 40_000, 3, 4)]);
    // UDP, IP, Ethernet with its sum, preamble and pause are 28 + 38 bytes around the frame.
    let device = &network.links[1];
    assert_eq!(device.sent.frame_bytes, 66 + 20 + 4 + 3);
    assert!((device.sent.bytes_per_second() - 200.0 * f64::from(device.sent.frame_bytes)).abs() < 1e-9);
    assert_eq!(network.least_period_us, 5_000);
}

#[test]
fn the_papers_tell_what_the_controller_reads_and_what_it_writes() {
    let checked = cell();
    let (project, plan) = (&checked.project, &checked.plan);
    let values = values_of(project, plan, 0);
    let told: Vec<(String, &str)> =
        values.iter().map(|value| (value.source.clone(), value.access_word())).collect();
    let has = |source: &str, access: &str| told.iter().any(|own| *own == (source.to_string(), access));
    assert!(has("do-1:400001", "R") && has("do-1.health.online", "R"), "{told:?}");
    assert!(has("to do-1:400101", "W") && has("to valves:%QX2.1", "W"), "{told:?}");
    let list = handover_list(&checked, &project.clients[0]).unwrap();
    assert_eq!(list.rows.len(), 4);
    let settings = image_settings(project, plan);
    let items = &settings["grading"].items;
    let value = |key: &str| items.iter().find(|(own, _)| own == key).map(|(_, value)| value.as_str());
    assert_eq!(value("inputs"), Some("assembly 100, bytes 10"));
    assert_eq!(value("outputs"), Some("assembly 150, bytes 7"));
    let demand = demands(project, plan).into_iter().find(|demand| demand.name == "grading").unwrap();
    assert!(
        demand.links[0].contains("input assembly 100, 10 bytes; output assembly 150, 7 bytes"),
        "{demand:?}"
    );
    let tables: Vec<&str> = demand.tables.iter().map(|(table, _)| table.as_str()).collect();
    assert_eq!(tables, ["outputs", "inputs"]);
    let page = papers(&checked);
    let image = page.images.iter().find(|image| image.name == "grading").unwrap();
    let client = &image.clients[0];
    assert_eq!(
        (client.asks, client.dials.as_str()),
        ((2, 2), "192.0.2.10"),
        "it gets and sends whole blocks"
    );
    let device = page.lines.iter().flat_map(|line| &line.devices).find(|own| own.name == "valves").unwrap();
    assert_eq!(device.settings[0], ("address".into(), "192.0.2.70".into()));
    assert_eq!(device.poll, "5 ms");
    assert!(page.drawing.contains("reads 2 of grading, writes 2"), "{}", page.drawing);
}

/// Each direction has one way in which a rule may lead, and the message names both ends.
#[test]
fn a_rule_against_the_flow_is_told_with_both_ends() {
    for (from, to, words) in [
        ("do-1:400001", "grading:%QW0", "outputs"),
        ("grading:%IW0", "do-1:400103", "inputs"),
        ("do-1:400001", "valves:%IW0", "inputs"),
        ("valves:%QW0", "grading:%IW0", "outputs"),
    ] {
        let text = CELL.replace(
            "[clients.line]",
            &format!("[[map]]\nfrom = \"{from}\"\nto = \"{to}\"\n\n[clients.line]"),
        );
        let found = checked(&text);
        let own: Vec<&str> =
            found.findings.iter().filter(|own| own.rule.code == "M08").map(|own| own.what.as_str()).collect();
        assert_eq!(own.len(), 1, "{from} -> {to}: {own:?}");
        assert!(own[0].contains(words), "{from} -> {to}: {own:?}");
    }
}

/// A list of what a controller reads says nothing where it gets whole blocks.
#[test]
fn a_controller_that_exchanges_has_no_list_of_reads() {
    let text = CELL.replace("image = \"grading\"\n", "image = \"grading\"\nreads = [\"%IW0 every 1s\"]\n");
    let found = checked(&text);
    let told = found.findings.iter().find(|own| own.rule.code == "F02");
    assert!(told.is_some_and(|own| own.what.contains("exchanges whole blocks")), "{:?}", found.findings);
    assert!(found.findings.iter().all(|own| own.rule.code != "M04"));
}

/// A station with so many slots would be refused by no one but its controller, on site.
#[test]
fn a_station_has_no_more_slots_than_an_opening_may_name() {
    let slots = |count: u32| {
        let rows: Vec<String> = (1..=count).map(|slot| format!("{{ slot = {slot}, in = 1 }}")).collect();
        let text = format!(
            "[ports.machine]\nethernet = \"eth1\"\nprotocol = \"profinet\"\n[images.io]\nport = \"machine\"\n\
             station-name = \"raceway-box\"\nslots = [{}]\n",
            rows.join(", ")
        );
        let found = checked(&text).findings;
        found.into_iter().filter(|own| own.rule.code == "M08").map(|own| own.what).collect::<Vec<_>>()
    };
    assert_eq!(slots(253), Vec::<String>::new());
    let told = slots(254);
    assert!(told.len() == 1 && told[0].starts_with("it has 254 slots and subslots, and 253"), "{told:?}");
}

/// Until the control room writes, nothing of the device is good in the controller's slot either.
#[test]
fn values_of_several_origins_in_one_slot_are_told() {
    let site = |to: &str, on_loss: &str| {
        let text = format!(
            r#"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "38400 8E1"
protocol = "modbus-rtu"
timeout = "200ms"
[ports.machine]
ethernet = "eth1"
protocol = "profinet"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.gauge]
port = "raceway"
unit = 7
[images.io]
port = "machine"
station-name = "raceway-box"
slots = [{{ slot = 1, in = 8 }}, {{ slot = 2, in = 4 }}]
[images.scada]
port = "office"
unit = 1
[[map]]
from = "gauge:400001 as f32 ABCD"
to = "io:1:%ID0 as f32"
{on_loss}
[[map]]
from = "scada:400101 as f32 ABCD"
to = "{to} as f32"
{on_loss}
"#
        );
        let found = checked(&text).findings;
        found.into_iter().map(|own| (own.rule.code, own.what)).collect::<Vec<_>>()
    };
    let told = site("io:1:%ID4", "");
    let words = "slot 1 inputs of `io` hold values of `gauge` and what others write to `scada`: while one of them is lost, \
                 or has not come yet, all of them are bad";
    assert_eq!(told, [("M50", words.to_string())]);
    assert_eq!(site("io:2:%ID0", ""), []);
    let held = site("io:1:%ID4", "on-loss = \"fill 0\"");
    assert!(held.iter().all(|(code, _)| *code != "M50"), "{held:?}");
}

/// A station on Ethernet has an address of its own: neither the machine's nor its controller's, and in its network.
#[test]
fn a_stations_own_address_is_held_against_those_around_it() {
    let told = |machine: &str, controller: &str| {
        let text = format!(
            r#"
[converter]
address = "{machine}/24"
[ports.machine]
ethernet = "eth1"
protocol = "profinet"
[images.io]
port = "machine"
station-name = "raceway-box"
address = "192.0.2.40/25"
slots = [{{ slot = 1, in = 8 }}]
[clients.line-plc]
image = "io"
address = "{controller}"
"#
        );
        let own = checked(&text).findings.into_iter().filter(|own| own.rule.code == "M29");
        own.map(|own| (own.severity, own.what)).collect::<Vec<_>>()
    };
    assert_eq!(told("192.0.2.10", "192.0.2.20"), []);
    assert_eq!(
        told("192.0.2.40", "192.0.2.20"),
        [(Severity::Error, "192.0.2.40 is the address of the converter and of its station `io`".to_string())]
    );
    assert_eq!(
        told("192.0.2.10", "192.0.2.40"),
        [(Severity::Error, "192.0.2.40 is the address of `io` and of `line-plc`".to_string())]
    );
    let far = "`line-plc` at 192.0.2.140 is not in the network of `io`, 192.0.2.40/25: what it calls does not get there \
               without a router";
    assert_eq!(told("192.0.2.10", "192.0.2.140"), [(Severity::Warning, far.to_string())]);
}

#[test]
fn a_second_controller_of_a_station_is_told() {
    let text = r#"
[ports.machine]
ethernet = "eth1"
protocol = "profinet"
[images.io]
port = "machine"
station-name = "raceway-box"
slots = [{ slot = 1, in = 8 }]
[clients.line-plc]
image = "io"
[clients.spare-plc]
image = "io"
"#;
    let found = checked(text).findings;
    let told: Vec<&str> =
        found.iter().filter(|own| own.rule.code == "M31").map(|own| own.what.as_str()).collect();
    assert_eq!(
        told,
        ["`io` takes one controller, and `line-plc` is it: `spare-plc` is refused while it is there"]
    );
}
