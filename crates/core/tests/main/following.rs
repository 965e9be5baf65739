//! Traces and plans of whole sites: what each station shows, and that the numbers agree with each other.

use crate::checks::checked;
use woodrush_core::plan::{Plan, PlannedRule, Source};
use woodrush_core::trace::trace;
use woodrush_core::{Span, Spanned};

const SITE: &str = r#"[project]
name = "Sallow Beck hatchery"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "19200 8E1"
protocol = "modbus-rtu"
timeout = "300ms"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.do-1]
port = "raceway"
unit = 23
poll = "1s"
read-gap = 4
[devices.drive]
port = "raceway"
unit = 31
write-one = "single"
max-read = 8
[images.scada]
port = "office"
unit = 1
[images.farm]
port = "office"
unit = 2
max-age = "5s"
on-loss = "fill 0x8000"
[[map]]
name = "levels"
from = "do-1:400001 as f32 CDAB"
to = "scada:400001 as u16 scale 0.01"
count = 3
access = "read-write"
[[map]]
from = "do-1:400011.3"
to = "farm:100001"
[[map]]
from = "drive:000005"
to = "scada:000005"
count = 12
access = "read-write"
[[map]]
from = "drive:400001 as text(6) BA"
to = "farm:400001"
[[map]]
from = "drive:400020 as bcd32 CDAB"
to = "farm:400020 as u32 ABCD"
poll = "10s"
[[map]]
from = "drive.health.errors"
to = "farm:400030"
[[map]]
from = "scada:400201 as i16 scale 0.1"
to = "farm:400041 as f32"
access = "read-write"
[[map]]
from = "scada:400201 as i16 scale 0.1"
to = "drive:400050"
"#;

fn traced(text: &str) -> Vec<woodrush_core::trace::Trace> {
    let checked = checked(SITE);
    assert!(!checked.has_errors(), "{:?}", checked.findings.iter().map(|f| &f.what).collect::<Vec<_>>());
    let endpoint = checked.project.endpoint(&Spanned { value: text.into(), span: Span::default() }).unwrap();
    trace(&checked, &endpoint)
}

fn one(text: &str) -> woodrush_core::trace::Trace {
    let mut found = traced(text);
    assert_eq!(found.len(), 1, "{text}");
    found.remove(0)
}

#[test]
fn a_float_onto_a_scaled_word_is_followed_both_ways() {
    let trace = one("scada:400002");
    assert_eq!(trace.source, "do-1:400003 (holding:2)");
    assert_eq!(trace.rule.value, (2, 3));
    assert_eq!(trace.rule.name.as_deref(), Some("levels"));
    assert_eq!(trace.cell, "image scada, holding 1");
    let worked = &trace.conversion;
    assert_eq!((worked.source_words.as_str(), worked.value.as_str()), ("AE14 418B", "17.46"));
    assert_eq!(worked.target_words.as_deref(), Some("06D2"), "1746");
    let poll = trace.poll.unwrap();
    assert_eq!(poll.device, "do-1, unit 23");
    // Six registers, a gap of four, one more: eleven in one request.
    assert_eq!(poll.exchange.words, "function 3, offset 0, 11 holding registers");
    assert!(
        poll.exchange.answer.starts_with("17 03 16 00 00 00 00 AE 14 41 8B 00 00"),
        "{}",
        poll.exchange.answer
    );
    assert!(trace.both_ways && !trace.sent);
    let [write] = trace.writes.as_slice() else { panic!("{:?}", trace.writes) };
    assert_eq!(write.at, trace.shown);
    assert_eq!(write.client.request, "00 01 00 00 00 09 01 10 00 01 00 01 02 06 D2");
    let device = write.device.as_ref().unwrap();
    assert!(device.request.starts_with("17 10 00 02 00 02 04 AE 14 41 8B"), "{}", device.request);
    assert_eq!(write.becomes, format!("becomes at the device: {}", device.words));
}

#[test]
fn a_bit_of_a_register_is_shown_where_it_lies() {
    let trace = one("farm:100001");
    assert_eq!(trace.source, "do-1:400011.3 (holding:10.3)");
    assert_eq!(
        trace.read.as_ref().unwrap().request,
        "00 01 00 00 00 06 02 02 00 00 00 01",
        "unit 2, function 2"
    );
    assert_eq!(trace.read.as_ref().unwrap().answer, "00 01 00 00 00 04 02 02 01 01");
    assert_eq!(trace.on_loss, "0x8000 is shown once older than 5 s");
    let answer = trace.poll.unwrap().exchange.answer;
    let bytes: Vec<&str> = answer.split(' ').collect();
    assert_eq!(bytes[23..25], ["00", "08"], "the eleventh register");
    assert!(trace.writes.is_empty() && !trace.both_ways);
}

#[test]
fn coils_are_written_the_way_the_device_takes_them() {
    let trace = one("scada:000009");
    assert_eq!(trace.source, "drive:000009 (coil:8)");
    let write = &trace.writes[0];
    let device = write.device.as_ref().unwrap();
    assert_eq!(write.client.words, "function 15, offset 8, 1 coil");
    assert_eq!(device.words, "function 5, offset 8, 1 coil");
    assert!(device.request.starts_with("1F 05 00 08 FF 00"), "{}", device.request);
}

#[test]
fn text_and_digits_are_worked_too() {
    let text = one("farm:400002");
    assert_eq!(text.conversion.source_words, "6F52 0000 0000", "the first character in the low byte");
    assert_eq!(text.conversion.target_words.as_deref(), Some("526F 0000 0000"));
    assert_eq!(text.conversion.value, "\"Ro\"");
    let digits = one("farm:400021");
    assert_eq!(digits.conversion.source_words, "5678 1234");
    assert_eq!(digits.conversion.target_words.as_deref(), Some("00BC 614E"), "12345678");
    assert_eq!(digits.poll.unwrap().every_us, 10_000_000);
}

#[test]
fn what_clients_write_is_followed_to_all_that_show_it_and_to_the_device() {
    let [shown, sent] = traced("scada:400201").try_into().unwrap();
    let fed = Some("written by clients of scada, not polled");
    assert_eq!((shown.fed.as_deref(), sent.fed.as_deref(), shown.poll.is_none()), (fed, fed, true));
    assert_eq!((shown.both_ways, shown.sent, sent.both_ways, sent.sent), (true, false, false, true));
    let told = |writes: &[woodrush_core::trace::TracedWrite]| -> Vec<[String; 3]> {
        writes.iter().map(|w| [w.at.clone(), w.client.words.clone(), w.becomes.clone()]).collect()
    };
    let words = |registers: u32, offset: u32| {
        let plural = if registers == 1 { "" } else { "s" };
        format!("function 16, offset {offset}, {registers} holding register{plural}")
    };
    let (here, there) = ("scada:400201 (holding:200)", "farm:400041 (holding:40)");
    assert_eq!(
        told(&shown.writes),
        [
            [here.into(), words(1, 200), format!("is shown as {there} at once")],
            [there.into(), words(2, 40), format!("is shown as {here} at once")],
        ]
    );
    assert!(shown.writes.iter().all(|write| write.device.is_none()));
    let at_the_device = "becomes at the device: function 6, offset 49, 1 holding register";
    assert_eq!(told(&sent.writes), [[here.to_string(), words(1, 200), at_the_device.to_string()]]);
    assert_eq!(sent.on_loss, "sent at each write of a client");
    let device = sent.writes[0].device.as_ref().unwrap();
    assert_eq!(device.request[..17], sent.read.as_ref().unwrap().request[..17], "the same request");
}

#[test]
fn health_is_told_and_not_polled_and_nothing_is_nothing() {
    let health = one("drive.health.errors");
    assert_eq!((health.shown.as_str(), health.poll.is_none()), ("farm:400030 (holding:29)", true));
    assert_eq!(health.on_loss, "health is never refused");
    assert!(traced("scada:400099").is_empty());
    assert!(traced("do-1:400099").is_empty());
}

/// Indices of a rule's steps.
fn steps_of(plan: &Plan, rule: usize) -> impl Iterator<Item = u32> + '_ {
    plan.steps.iter().zip(0..).filter(move |(step, _)| step.rule as usize == rule).map(|(_, at)| at)
}

#[test]
fn requests_keep_to_the_devices_limit_interval_and_space() {
    let checked = checked(SITE);
    let plan = &checked.plan;
    let told: Vec<(usize, u32, u32, u32, u64)> = plan
        .transfers
        .iter()
        .map(|t| {
            let [part] = t.parts[..] else { panic!("one place a request") };
            (t.device().unwrap(), part.space.0, part.first, part.count, t.cadence.interval() / 1_000_000)
        })
        .collect();
    assert_eq!(told, [(0, 3, 0, 11, 1), (1, 0, 4, 12, 1), (1, 3, 0, 3, 1), (1, 3, 19, 2, 10)]);
    let takes: u64 = plan.transfers.iter().map(|transfer| transfer.takes).sum();
    assert_eq!(plan.cycles[0], takes);
    let load: f64 = plan.transfers.iter().map(|t| t.takes as f64 / t.cadence.interval() as f64).sum();
    assert!((plan.load(0) - load).abs() < 1e-12 && plan.load(1) == 0.0);
    // Every polled value of every rule lands exactly once.
    for (at, rule) in plan.rules.iter().enumerate() {
        let mut items: Vec<u32> = steps_of(plan, at)
            .flat_map(|s| {
                let step = plan.steps[s as usize];
                step.item..step.item + step.items
            })
            .collect();
        items.sort_unstable();
        assert_eq!(items, (0..rule.target.count).collect::<Vec<_>>());
        let own = steps_of(plan, at).next().unwrap();
        assert_eq!(
            plan.transfers.iter().any(|transfer| transfer.steps.contains(&own)),
            matches!(rule.source, Source::Values { .. })
        );
    }
}

#[test]
fn ages_are_the_images_own_or_follow_from_poll_and_line() {
    let plan = checked(SITE).plan;
    let old = |rule: &PlannedRule| (rule.max_age < u64::MAX).then_some(rule.max_age / 1000);
    let ages: Vec<Option<u64>> = plan.rules.iter().map(old).collect();
    let polled = [3675, 5000, 3675, 5000, 5000, 5000, 5000].map(Some);
    // Three polls, a wait, and another device that does not answer; the second image says five seconds.
    assert_eq!(ages[..7], polled);
    assert!(
        ages[7..].iter().all(Option::is_none),
        "what a client wrote does not grow old by itself: {ages:?}"
    );
}

#[test]
fn the_rule_of_a_cell_is_found_with_its_value() {
    let plan = checked(SITE).plan;
    let holding = woodrush_core::protocol::SpaceId(3);
    assert_eq!(plan.feeding(0, holding, 2), Some((0, 2)));
    assert_eq!(plan.feeding(1, holding, 20), Some((4, 0)), "the second register of its value");
    assert_eq!(plan.feeding(0, holding, 3), None);
}
