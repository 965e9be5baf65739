//! The plan of what is sent, passed on and carried from image to image, and the number that tells two plans apart.

use crate::checks::checked;
use woodrush_core::check::Checked;
use woodrush_core::plan::{Push, Source};
use woodrush_core::project::OnLoss;

const SITE: &str = r#"
[project]
name = "Sallow Beck hatchery"
[converter]
address = "192.0.2.10/24"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "38400 8E1"
protocol = "modbus-rtu"
timeout = "200ms"
[ports.hall]
serial = "/dev/ttyUSB1"
line = "19200 8E1"
protocol = "modbus-rtu"
[ports.office]
listen = "192.0.2.10:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.gauge]
port = "raceway"
unit = 23
poll = "500ms"
[devices.blower]
port = "raceway"
unit = 24
poll = "1s"
max-write = 5
[images.scada]
port = "office"
unit = 1
[images.board]
port = "office"
unit = 2
"#;

fn site(rules: &str) -> Checked {
    let checked = checked(&format!("{SITE}{rules}"));
    let told: Vec<_> = checked.findings.iter().map(|f| format!("{} {}", f.rule.code, f.what)).collect();
    assert!(!checked.has_errors(), "{told:#?}");
    checked
}

fn codes(rules: &str) -> Vec<&'static str> {
    checked(&format!("{SITE}{rules}")).findings.iter().map(|finding| finding.rule.code).collect()
}

/// First address, count, and what makes them be sent.
fn sent(push: &Push) -> (u32, u32, bool, Option<u64>) {
    (push.extent.first, push.extent.count, push.on_change, push.every)
}

#[test]
fn what_a_device_is_sent_is_split_between_values_at_its_write_limit() {
    let words = site("[[map]]\nfrom = \"gauge:400001\"\nto = \"blower:400011\"\ncount = 12\n");
    let requests: Vec<_> = words.plan.pushes.iter().map(sent).collect();
    assert_eq!(requests, [(10, 5, true, None), (15, 5, true, None), (20, 2, true, None)]);
    // Two registers a value: a third would need six, and half a value is never sent.
    let floats =
        site("[[map]]\nfrom = \"gauge:400001 as f32 CDAB\"\nto = \"blower:400011 as f32 CDAB\"\ncount = 3\n");
    let requests: Vec<_> = floats.plan.pushes.iter().map(sent).collect();
    assert_eq!(requests, [(10, 4, true, None), (14, 2, true, None)]);
    let items: Vec<_> = floats.plan.pushes.iter().map(|push| (push.item, push.items)).collect();
    assert_eq!(items, [(0, 2), (2, 1)]);
}

#[test]
fn what_the_line_carries_counts_what_is_sent_again_and_again_and_not_what_waits_for_a_change() {
    let rule = "[[map]]\nfrom = \"gauge:400001\"\nto = \"blower:400011\"\n";
    let changing = site(rule);
    let steady = site(&format!("{rule}send = \"every 2s\"\n"));
    let write = steady.plan.pushes[0].takes;
    // 11 bytes out and 8 back at 286.46 µs, and two silences of 1.75 ms.
    assert_eq!(write, 3_152 + 2_292 + 3_500);
    assert_eq!(steady.plan.cycles[0], changing.plan.cycles[0] + write);
    assert!(steady.plan.load(0) > changing.plan.load(0));
    assert_eq!((steady.plan.cycles[1], steady.plan.load(1)), (0, 0.0), "nothing hangs on the other line");
}

#[test]
fn a_loss_stops_what_is_sent_unless_the_rule_says_otherwise() {
    let rule = "[[map]]\nfrom = \"gauge:400001\"\nto = \"blower:400011\"\n";
    let loss = |more: &str| site(&format!("{rule}{more}")).plan.pushes[0].on_loss;
    assert_eq!(loss(""), OnLoss::Stop);
    assert_eq!(loss("on-loss = \"hold\"\n"), OnLoss::Hold);
    assert_eq!(loss("on-loss = \"fill 0x8000\"\n"), OnLoss::Fill(0x8000));
    assert_eq!(codes(&format!("{rule}on-loss = \"refuse\"\n")), ["F03"], "a device cannot be refused");
    let shown = "[[map]]\nfrom = \"gauge:400001\"\nto = \"scada:400011\"\non-loss = \"stop\"\n";
    assert!(codes(shown).contains(&"F03"), "an image has nothing to stop");
}

#[test]
fn what_clients_write_is_kept_once_however_many_rules_carry_it_on() {
    let two = site(
        "[[map]]\nfrom = \"scada:400001\"\nto = \"blower:400011\"\n[[map]]\nfrom = \"scada:400001\"\nto = \"board:400001\"\n",
    );
    let plan = &two.plan;
    let entries: Vec<usize> = plan
        .rules
        .iter()
        .enumerate()
        .filter(|(_, rule)| matches!(rule.source, Source::Client))
        .map(|(at, _)| at)
        .collect();
    assert_eq!(entries, [2], "one entry behind the two rules of the file");
    assert_eq!(plan.onward, [(2, 0), (2, 1)]);
    assert_eq!(plan.onward(2).collect::<Vec<_>>(), [0, 1]);
    assert_eq!(plan.onward(0).count(), 0);
    assert!(plan.pushes.is_empty(), "a client's write goes with its own request");
    assert!(plan.transfers.is_empty(), "and nobody is polled");
    let again =
        "[[map]]\nfrom = \"scada:400001\"\nto = \"blower:400011\"\nsend = [\"on-write\", \"every 5s\"]\n";
    assert_eq!(
        site(again).plan.pushes.iter().map(sent).collect::<Vec<_>>(),
        [(10, 1, false, Some(5_000_000))]
    );
}

#[test]
fn what_clients_write_goes_both_ways_between_images_and_nobody_tells_that_a_device_changed() {
    let rule = |from: &str, to: &str| {
        format!("[[map]]\nfrom = \"{from}\"\nto = \"{to}\"\naccess = \"read-write\"\n")
    };
    let both = site(&rule("scada:400001 as i16 scale 0.1", "board:400011 as f32"));
    let writable: Vec<bool> = both.plan.rules.iter().map(|rule| rule.writable).collect();
    assert_eq!((writable, both.plan.onward.as_slice()), (vec![true, true], &[(1, 0)][..]));
    // A table that no client can write, at either end.
    assert_eq!(codes(&rule("scada:400001", "board:300011")), ["M47"]);
    assert_eq!(codes(&rule("scada:300001", "board:400011")), ["M47"]);
    assert_eq!(codes(&rule("gauge:400001", "blower:400011")), ["F09"]);
    let ring = [rule("scada:400001", "board:400011"), rule("board:400011", "scada:400001")].concat();
    assert!(codes(&ring).contains(&"M46"), "{:?}", codes(&ring));
}

#[test]
fn cells_that_two_rules_take_apart_differently_are_told() {
    let overlapping = "[[map]]\nfrom = \"scada:400001\"\nto = \"blower:400011\"\ncount = 2\n[[map]]\nfrom = \"scada:400002\"\nto = \"board:400001\"\n";
    assert!(codes(overlapping).contains(&"M17"), "{:?}", codes(overlapping));
    let fed = "[[map]]\nfrom = \"gauge:400001\"\nto = \"scada:400001\"\n[[map]]\nfrom = \"scada:400001\"\nto = \"board:400001\"\n";
    assert!(codes(fed).contains(&"F09"), "{:?}", codes(fed));
    let twice = "[[map]]\nfrom = \"gauge:400001\"\nto = \"blower:400011\"\n[[map]]\nfrom = \"gauge:400002\"\nto = \"blower:400011\"\n";
    assert!(codes(twice).contains(&"M17"), "two rules write one register of a device");
}

#[test]
fn rings_of_any_length_are_found_and_chains_are_not() {
    let chain = "[[map]]\nfrom = \"gauge:400001\"\nto = \"blower:400001\"\n[[map]]\nfrom = \"blower:400001\"\nto = \"scada:400001\"\n";
    assert!(!codes(chain).contains(&"M46"), "{:?}", codes(chain));
    let mut rules = String::new();
    for step in 0..40 {
        let (from, to) = (step + 1, (step + 1) % 40 + 1);
        let (this, next) = if step % 2 == 0 { ("gauge", "blower") } else { ("blower", "gauge") };
        rules += &format!("[[map]]\nfrom = \"{this}:4000{from:02}\"\nto = \"{next}:4000{to:02}\"\n");
    }
    let found = codes(&rules);
    assert_eq!(found.iter().filter(|code| **code == "M46").count(), 1, "once for the ring: {found:?}");
    let one = "[[map]]\nfrom = \"gauge:400001\"\nto = \"gauge:400001\"\n";
    assert!(codes(one).contains(&"M46"), "a rule that feeds itself: {:?}", codes(one));
    // A wide source whose beginning lies far before the target that feeds it.
    let wide = "[[map]]\nfrom = \"gauge:400001\"\ncount = 60\nto = \"blower:400001\"\n[[map]]\nfrom = \"blower:400030\"\nto = \"gauge:400050\"\n";
    assert!(codes(wide).contains(&"M46"), "{:?}", codes(wide));
}

#[test]
fn each_unit_has_one_way_and_is_renumbered_in_order() {
    let forwards = "[[forward]]\nfrom = \"office\"\nunits = \"101-103, 110\"\nto = \"raceway\"\nas-units = \"23-25, 40\"\n[[forward]]\nfrom = \"office\"\nunits = \"50-52\"\nto = \"hall\"\n";
    let site = site(forwards);
    let way = |port: usize, unit: u16| site.plan.route(port, unit).map(|way| (way.forward, way.to, way.unit));
    assert_eq!(way(2, 101), Some((0, 0, 23)));
    assert_eq!(way(2, 103), Some((0, 0, 25)));
    assert_eq!(way(2, 110), Some((0, 0, 40)));
    assert_eq!(way(2, 51), Some((1, 1, 51)));
    for (port, unit) in [(2, 100), (2, 104), (2, 53), (0, 101), (1, 51)] {
        assert_eq!(way(port, unit), None, "port {port}, unit {unit}");
    }
    let claims = forwards.replace("50-52", "103-105");
    assert!(codes(&claims).contains(&"M25"), "two forwards, one unit: {:?}", codes(&claims));
    let image = forwards.replace("50-52", "2-4");
    assert!(codes(&image).contains(&"M25"), "an image and a forward: {:?}", codes(&image));
}

#[test]
fn a_group_comes_from_one_request_or_is_refused() {
    let rule = |at: u32, to: u32, group: &str| {
        format!("[[map]]\nfrom = \"gauge:{at}\"\nto = \"scada:{to}\"\ntogether = \"{group}\"\n")
    };
    // Far apart: without the group they would be two reads.
    let apart = [rule(400_001, 400_001, "a"), rule(400_090, 400_002, "a")].concat();
    let together = site(&apart);
    let reads: Vec<_> =
        together.plan.transfers.iter().map(|t| (t.parts[0].first, t.parts[0].count)).collect();
    assert_eq!(reads, [(0, 90)]);
    let alone = site(&apart.replace("together = \"a\"\n", ""));
    assert_eq!(alone.plan.transfers.len(), 2);
    let far = [rule(400_001, 400_001, "a"), rule(400_200, 400_002, "a")].concat();
    assert!(codes(&far).contains(&"M37"), "200 registers are no one read: {:?}", codes(&far));
    let slower = apart.replacen("together = \"a\"\n", "together = \"a\"\npoll = \"5s\"\n", 1);
    assert!(codes(&slower).contains(&"M37"), "two intervals are no one read: {:?}", codes(&slower));
}

#[test]
fn the_number_of_a_map_changes_with_what_it_does_and_with_nothing_else() {
    let rules = "[[map]]\nname = \"level\"\nfrom = \"gauge:400001 as i16 scale 0.1\"\nto = \"scada:400001 as f32\"\n[[map]]\nfrom = \"scada:400101\"\nto = \"blower:400011\"\n[[forward]]\nfrom = \"office\"\nunits = \"50-52\"\nto = \"hall\"\nfunctions = [3]\n";
    let whole = format!("{SITE}{rules}");
    let number = |text: &str| {
        let checked = checked(text);
        let told: Vec<_> = checked.findings.iter().map(|f| format!("{} {}", f.rule.code, f.what)).collect();
        assert!(!checked.has_errors(), "{told:#?}");
        checked.plan.fingerprint(&checked.project)
    };
    let edited = |from: &str, to: &str| {
        assert!(whole.contains(from), "{from}");
        number(&whole.replace(from, to))
    };
    let before = number(&whole);
    for (from, to) in [
        ("name = \"level\"", "name = \"depth\""),
        ("[project]\nname = \"Sallow Beck hatchery\"", "[project]\nname = \"Another\""),
        ("unit = 23\n", "unit = 23\nnote = \"behind the pump\"\n"),
        ("unit = 23\npoll = \"500ms\"", "# moved in spring\nunit = 23\npoll = \"0.5s\""),
    ] {
        assert_eq!(edited(from, to), before, "{from} -> {to}");
    }
    for (from, to) in [
        ("gauge:400001 as", "gauge:400002 as"),
        ("scale 0.1", "scale 0.01"),
        ("as f32", "as f32 CDAB"),
        ("unit = 23", "unit = 25"),
        ("poll = \"500ms\"", "poll = \"400ms\""),
        ("38400 8E1", "38400 8O1"),
        ("192.0.2.10:502", "192.0.2.10:503"),
        ("/dev/ttyUSB0", "/dev/ttyUSB7"),
        ("blower:400011\"", "blower:400011\"\nanswer = \"at-once\""),
        ("blower:400011\"", "blower:400011\"\nsend = \"on-change\""),
        ("units = \"50-52\"", "units = \"50-53\""),
        ("functions = [3]", "functions = [3, 4]"),
        ("functions = [3]", "functions = [3]\nwrites-first = true"),
        ("scada:400001 as f32\"", "scada:400001 as f32\"\non-loss = \"hold\""),
        ("name = \"level\"", "enabled = false"),
    ] {
        assert_ne!(edited(from, to), before, "{from} -> {to}");
    }
}
