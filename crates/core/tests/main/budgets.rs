//! Bus time on paper against numbers worked out by hand, and advice that is given where it helps and nowhere else.

use crate::checks::checked;
use woodrush_core::budget::{LineBudget, report};

/// A character of 11 bits at 38400 baud takes 286.458 µs; the silence is 1.75 ms from 19200 baud on.
const LINE: &str = r#"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "38400 8E1"
protocol = "modbus-rtu"
timeout = "50ms"
[ports.office]
listen = "192.0.2.10:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[images.scada]
port = "office"
"#;

fn device(name: &str, unit: u8, more: &str) -> String {
    format!("[devices.{name}]\nport = \"raceway\"\nunit = {unit}\n{more}\n")
}

fn rule(from: &str, to: u32, more: &str) -> String {
    format!("[[map]]\nfrom = \"{from}\"\nto = \"scada:{to}\"\n{more}\n")
}

fn budget(parts: &[&str]) -> LineBudget {
    let checked = checked(&parts.concat());
    let told: Vec<_> = checked.findings.iter().map(|f| format!("{} {}", f.rule.code, f.what)).collect();
    assert!(!checked.has_errors(), "{told:#?}");
    let mut lines = report(&checked.project, &checked.plan);
    assert_eq!(lines.len(), 1, "only the line on which we ask has a budget");
    lines.remove(0)
}

fn advised(line: &LineBudget, words: &str) -> bool {
    line.advice.iter().any(|advice| advice.contains(words))
}

#[test]
fn a_request_takes_its_bytes_and_two_silences() {
    let gauge = device("gauge", 23, "poll = \"1s\"");
    let line = budget(&[LINE, &gauge, &rule("gauge:400001", 400_001, "count = 10")]);
    let [request] = line.requests.as_slice() else { panic!("{:#?}", line.requests) };
    assert_eq!((request.device.as_str(), request.what.as_str()), ("gauge", "reads 400001 x10"));
    assert_eq!((request.bytes_sent, request.bytes_received, request.every_us), (8, 25, 1_000_000));
    assert_eq!(request.wire_us, 2_292 + 7_162);
    assert_eq!((request.gaps_us, request.device_us), (1_750, 1_750));
    assert_eq!(request.takes_us, request.wire_us + request.gaps_us + request.device_us);
    assert_eq!((line.cycle_us, line.frame_gap_us), (request.takes_us, 1_750));
    assert!((line.character_us - 286.458).abs() < 0.001, "{}", line.character_us);
    assert!((line.load - request.takes_us as f64 / 1e6).abs() < 1e-9, "{}", line.load);
    assert_eq!(line.advice, [""; 0], "a line with room needs nothing");
}

#[test]
fn bits_are_packed_eight_to_a_byte_and_slower_lines_take_longer_silences() {
    let valve = device("valve", 9, "poll = \"1s\"");
    let slow = LINE.replace("38400 8E1", "9600 8N2");
    let line =
        budget(&[&slow, &valve, "[[map]]\nfrom = \"valve:000001\"\nto = \"scada:000001\"\ncount = 17\n"]);
    let [request] = line.requests.as_slice() else { panic!("{:#?}", line.requests) };
    assert_eq!((request.bytes_sent, request.bytes_received), (8, 8), "three bytes hold 17 coils");
    // 11 bits at 9600 baud: 1145.83 µs; three and a half of them.
    assert_eq!(line.frame_gap_us, 4_011);
    assert_eq!(request.takes_us, 2 * 9_167 + 2 * 4_011);
}

#[test]
fn a_silent_device_costs_its_tries_until_it_is_lost_and_then_its_probes() {
    let gauge = device("gauge", 23, "poll = \"1s\"\nlost-after = 4\nretry-lost = \"2s..60s\"");
    let line = budget(&[LINE, &gauge, &rule("gauge:400001", 400_001, "")]);
    // The silence, eight bytes, the timeout, and a rest of a quarter of it.
    let one_try = 1_750 + 2_292 + 50_000 + 12_500;
    let [dead] = line.dead.as_slice() else { panic!("{:#?}", line.dead) };
    assert_eq!((dead.one_try_us, dead.until_lost_us), (one_try, 4 * one_try));
    assert!((dead.then - one_try as f64 / (one_try + 2_000_000) as f64).abs() < 1e-9, "{}", dead.then);
    let retried = LINE.replace("timeout = \"50ms\"", "timeout = \"50ms\"\nretries = 2");
    let line = budget(&[&retried, &gauge, &rule("gauge:400001", 400_001, "")]);
    assert_eq!(line.dead[0].one_try_us, 3 * one_try);
}

#[test]
fn a_line_that_cannot_keep_its_polls_is_told_how_slowly_to_ask() {
    let gauge = device("gauge", 23, "poll = \"10ms\"");
    let rules = [rule("gauge:400001", 400_001, "count = 100"), rule("gauge:300001", 400_201, "")].concat();
    let line = budget(&[LINE, &gauge, &rules]);
    assert!(line.load > 1.0, "{}", line.load);
    assert!(advised(&line, "the line cannot keep its polls") && advised(&line, "the shortest is 10 ms"));
    assert!(advised(&line, "57600 baud would take the cycle from"), "{:#?}", line.advice);
    // What is advised is enough.
    let advice = line.advice.iter().find(|advice| advice.contains("cannot keep")).unwrap();
    let every = advice.split("ask every ").nth(1).unwrap().split(' ').take(2).collect::<String>();
    let slower = device("gauge", 23, &format!("poll = \"{every}\""));
    let line = budget(&[LINE, &slower, &rules]);
    assert!(line.load <= 1.0 && !advised(&line, "cannot keep"), "{every}: {} {:#?}", line.load, line.advice);
}

#[test]
fn a_join_is_advised_where_it_saves_time_and_following_the_advice_saves_what_was_said() {
    let rules = [rule("gauge:400001", 400_001, "count = 2"), rule("gauge:400006", 400_003, "")].concat();
    let apart = budget(&[LINE, &device("gauge", 23, "poll = \"1s\""), &rules]);
    assert_eq!(apart.requests.len(), 2);
    assert!(advised(&apart, "`read-gap = 3` at `gauge`"), "{:#?}", apart.advice);
    let joined = budget(&[LINE, &device("gauge", 23, "poll = \"1s\"\nread-gap = 3"), &rules]);
    assert_eq!(joined.requests.len(), 1);
    let saved = woodrush_core::project::show_micros(apart.cycle_us - joined.cycle_us);
    assert!(advised(&apart, &format!("saves {saved} a cycle")), "{saved} {:#?}", apart.advice);
    assert!(!advised(&joined, "read-gap"), "{:#?}", joined.advice);
    let far = [rule("gauge:400001", 400_001, ""), rule("gauge:400101", 400_003, "")].concat();
    let far = budget(&[LINE, &device("gauge", 23, "poll = \"1s\""), &far]);
    assert!(!advised(&far, "read-gap"), "99 unused registers take longer than a request: {:#?}", far.advice);
}

#[test]
fn a_silence_longer_than_the_protocols_and_a_timeout_of_many_cycles_are_told() {
    let gauge = device("gauge", 23, "poll = \"1s\"");
    let patient = LINE.replace("timeout = \"50ms\"", "timeout = \"2s\"\nframe-gap = \"20ms\"");
    let line = budget(&[&patient, &gauge, &rule("gauge:400001", 400_001, "")]);
    assert_eq!((line.frame_gap_us, line.requests[0].gaps_us), (20_000, 20_000));
    assert!(
        advised(&line, "`frame-gap = \"20ms\"`") && advised(&line, "protocol's 1.8 ms"),
        "{:#?}",
        line.advice
    );
    assert!(advised(&line, "lower `timeout`"), "{:#?}", line.advice);
}

#[test]
fn over_tcp_each_exchange_takes_what_is_assumed_and_nobody_advises_a_speed() {
    let tcp = "[ports.pump]\nconnect = \"192.0.2.40:502\"\nprotocol = \"modbus-tcp\"\n[ports.office]\nlisten = \"192.0.2.10:502\"\nprotocol = \"modbus-tcp\"\nallow = [\"192.0.2.0/24\"]\n[images.scada]\nport = \"office\"\n[devices.pump-1]\nport = \"pump\"\nunit = 1\npoll = \"100ms\"\n";
    let line = budget(&[tcp, &rule("pump-1:400001", 400_001, ""), &rule("pump-1:400050", 400_002, "")]);
    let assumed = woodrush_core::budget::ROUND_TRIP;
    assert_eq!((line.line.as_str(), line.cycle_us, line.round_trip_us), ("TCP", 2 * assumed, assumed));
    assert!((line.load - 0.02).abs() < 1e-9, "{}", line.load);
    assert!(!advised(&line, "baud") && !advised(&line, "timeout"), "{:#?}", line.advice);
    let bytes: Vec<(u32, u32)> = line.requests.iter().map(|r| (r.bytes_sent, r.bytes_received)).collect();
    assert_eq!(bytes, [(12, 11); 2]);
}

#[test]
fn ascii_takes_twice_the_characters() {
    let ascii = LINE.replace("modbus-rtu", "modbus-ascii").replace("38400 8E1", "38400 7E1");
    let line = budget(&[&ascii, &device("gauge", 23, "poll = \"1s\""), &rule("gauge:400001", 400_001, "")]);
    // Colon, unit, five bytes, check, carriage return and line feed; the answer has one byte less.
    assert_eq!((line.requests[0].bytes_sent, line.requests[0].bytes_received), (17, 15));
}

/// 512 bytes a file, 236 in a reply: three requests each, and no element left out.
#[test]
fn four_files_of_integers_take_the_fewest_requests_that_the_payload_allows() {
    let files = ["N7", "N10", "N11", "N12"];
    let rule = |(at, file): (usize, &&str)| {
        format!("[[map]]\nfrom = \"feeder:{file}:0\"\nto = \"scada:4{:05}\"\ncount = 256\n", 1 + at * 256)
    };
    let rules: String = files.iter().enumerate().map(rule).collect();
    let text = format!(
        "[ports.feeders]\nserial = \"/dev/ttyUSB0\"\nline = \"19200 8N1\"\nprotocol = \"df1\"\n[ports.office]\nlisten = \"0.0.0.0:502\"\nprotocol = \"modbus-tcp\"\nallow = [\"192.0.2.0/24\"]\n[devices.feeder]\nport = \"feeders\"\nnode = 1\npoll = \"10s\"\n[images.scada]\nport = \"office\"\n{rules}"
    );
    let checked = checked(&text);
    assert!(!checked.has_errors(), "{:?}", checked.findings);
    let budget = report(&checked.project, &checked.plan);
    assert_eq!(budget[0].requests.len(), 12, "{:?}", budget[0].requests);
    let elements: u32 = checked.plan.transfers.iter().map(|transfer| transfer.grains()).sum();
    assert_eq!(elements, 4 * 256);
}

#[test]
fn each_device_has_its_share_and_what_it_will_get_and_the_dead_are_counted() {
    let fast = device("fast", 23, "poll = \"10ms\"");
    let slow = device("slow", 24, "poll = \"10s\"");
    let rules = [rule("fast:400001", 400_001, "count = 100"), rule("slow:400001", 400_201, "")].concat();
    let line = budget(&[LINE, &fast, &slow, &rules]);
    let [first, second] = line.devices.as_slice() else { panic!("{:#?}", line.devices) };
    assert_eq!((first.device.as_str(), second.device.as_str()), ("fast", "slow"));
    assert!((first.load + second.load - line.load).abs() < 1e-9, "{:#?}", line.devices);
    assert!(first.gets_us > first.every_us && second.gets_us == second.every_us, "{:#?}", line.devices);
    let both = woodrush_core::budget::dying(&line, 2).unwrap();
    let tries: u64 = line.dead.iter().map(|dead| dead.one_try_us).sum();
    assert_eq!(
        (both.cycle_until_lost_us, both.cycle_then_us),
        (tries, line.dead.iter().map(|d| d.one_try_us).max().unwrap())
    );
    let one = woodrush_core::budget::dying(&line, 1).unwrap();
    assert!(one.cycle_then_us < both.cycle_until_lost_us && one.dead == 1, "{one:?}");
    assert!(woodrush_core::budget::dying(&line, 3).is_none());
}

#[test]
fn a_gap_in_the_file_does_not_lift_what_a_link_is_asked_at_most() {
    let gap = |more: &str| {
        let link =
            format!("[ports.segment]\nconnect = \"192.0.2.80:10900\"\nprotocol = \"h1-link\"\n{more}\n");
        checked(&link).plan.lines[0].own_frame_gap
    };
    assert_eq!(gap(""), 200_000, "five a second");
    assert_eq!(gap("frame-gap = \"5ms\""), 200_000);
    assert_eq!(gap("frame-gap = \"500ms\""), 500_000, "a longer one is kept");
}
