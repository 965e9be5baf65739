//! What may be looked at: `map` of every kind of rule, the monitor, a project that changes while it runs.

use crate::tool::{Done, Tool, until};
use serde_json::{Value, json};
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};

/// Every kind of rule, and two forwards.
const ALL_KINDS: &str = r#"
[project]
name = "All kinds"
[ports.line]
serial = "/dev/ttyS7"
line = "19200 8E1"
protocol = "modbus-rtu"
[ports.other]
serial = "/dev/ttyS8"
line = "9600 8N1"
protocol = "modbus-ascii"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[ports.tools]
listen = "0.0.0.0:4001"
protocol = "raw"
allow = ["192.0.2.0/24"]
[ports.third]
serial = "/dev/ttyS9"
line = "9600 8N1"
protocol = "raw"
[devices.gauge]
port = "line"
unit = 7
poll = "1s"
[devices.panel]
port = "other"
unit = 3
poll = "1s"
[images.scada]
port = "office"
unit = 1
[[map]]
name = "across"
from = "gauge:400001 as f32 CDAB"
to = "panel:400101 as i16 scale 0.1"
send = "every 10s"
on-loss = "fill 0"
[[map]]
name = "told"
from = "gauge.health.online"
to = "scada:100001"
[[map]]
name = "set"
from = "scada:400021"
to = "panel:400121"
[[map]]
name = "both"
from = "gauge:400031"
to = "scada:400031"
access = "read-write"
[[forward]]
from = "office"
units = "20-21"
to = "line"
as-units = "30-31"
functions = [3, 16]
[[forward]]
from = "tools"
to = "third"
"#;

fn json_of(done: &Done) -> Value {
    assert_eq!(done.status, 0, "{}{}", done.out, done.err);
    serde_json::from_str(&done.out).unwrap()
}

#[test]
fn the_map_shows_what_is_served_sent_and_passed_on() {
    let tool = Tool::new();
    tool.write("woodrush.toml", ALL_KINDS);
    let text = tool.run(&["map"]);
    assert_eq!((text.status, text.err.as_str()), (0, ""), "{}", text.out);
    let said: Vec<String> =
        text.out.lines().map(|l| l.split_whitespace().collect::<Vec<_>>().join(" ")).collect();
    for line in [
        "image scada at 0.0.0.0:502, unit 1, 3 values",
        "device panel is sent 2 values",
        "400101 holding:100 i16 scale 0.1 gauge, 400001 every 10 s fill 0x0000",
        "office 20 line 30 3, 16",
        "office 21 line 31 3, 16",
        "tools all bytes third",
    ] {
        assert!(said.iter().any(|said| said == line), "{line}: {said:#?}");
    }
    assert!(text.out.lines().all(|line| line.chars().count() <= 100), "{}", text.out);
    let all = json_of(&tool.run(&["--format", "json", "map"]));
    let values = all["values"].as_array().unwrap();
    let of = |rule: &str| values.iter().find(|value| value["rule"] == rule).unwrap();
    assert_eq!((&of("across")["sent_to"], &of("across")["image"]), (&json!("panel"), &json!("")));
    assert_eq!(of("both")["access"], "read-write");
    assert_eq!(of("told")["on_loss"], "never lost");
    assert_eq!(
        all["forwards"],
        json!([
            { "from": "office", "unit": 20, "to": "line", "as_unit": 30, "functions": [3, 16] },
            { "from": "office", "unit": 21, "to": "line", "as_unit": 31, "functions": [3, 16] },
            { "from": "tools", "unit": null, "to": "third", "as_unit": null, "functions": [] },
        ])
    );
    let csv = tool.run(&["--format", "csv", "map"]).out;
    let mut rows = csv::Reader::from_reader(csv.as_bytes());
    assert_eq!(rows.records().count(), values.len(), "{csv}");
}

#[test]
fn a_converter_that_only_passes_on_has_a_map_too() {
    let tool = Tool::new();
    let (head, forwards) = ALL_KINDS.split_once("[devices.gauge]").unwrap();
    let forwards = forwards.split_once("[[forward]]").unwrap().1;
    tool.write("woodrush.toml", &format!("{head}[[forward]]{forwards}"));
    let done = tool.run(&["map"]);
    assert_eq!((done.status, done.err.as_str()), (0, ""));
    assert!(done.out.starts_with("passed on\n"), "{}", done.out);
}

#[test]
fn every_table_of_the_hatchery_fits_the_width() {
    let tool = Tool::with_hatchery();
    for words in [&["map"][..], &["budget"], &["check"], &["check", "-v"], &["addr", "400101"]] {
        let done = tool.run(words);
        assert_eq!(done.status, 0, "{words:?}: {}", done.err);
        for line in done.out.lines() {
            assert!(line.chars().count() <= 100, "{words:?}: {line}");
        }
    }
}

/// What a server says to a whole request.
fn exchange(at: &str, request: &str) -> String {
    let mut stream = TcpStream::connect(at).unwrap();
    stream.write_all(request.as_bytes()).unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    answer
}

#[test]
fn the_monitor_only_reads() {
    let tool = Tool::with_starter();
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C ends it"]);
    let mut run = tool.begin(&["run", "--rig", "--monitor", "127.0.0.1:0"]);
    let line = run.wait_for(&["counters at"]);
    let at = line.split("http://").nth(1).unwrap().split('/').next().unwrap().to_string();
    run.wait_for(&["probe-1", "online"]);
    let ask =
        |head: &str| exchange(&at, &format!("{head} HTTP/1.0\r\nHost: {at}\r\nContent-Length: 0\r\n\r\n"));
    for (head, answer) in [
        ("GET /status", "200"),
        ("GET /metrics", "200"),
        ("GET /", "200"),
        ("POST /status", "405"),
        ("DELETE /metrics", "405"),
        ("PUT /status", "405"),
        ("GET /nothing", "404"),
        ("GET /../woodrush.toml", "404"),
    ] {
        let got = ask(head);
        assert_eq!(got.split(' ').nth(1), Some(answer), "{head}: {got}");
    }
    // A page under a name of its own, which a browser would let read what it finds there.
    let other = exchange(&at, "GET /status HTTP/1.1\r\nHost: evil.example\r\nConnection: close\r\n\r\n");
    assert!(other.contains(" 421 ") && !other.contains("probe-1"), "{other}");
    let nameless = exchange(&at, "GET /status HTTP/1.0\r\n\r\n");
    assert!(nameless.contains(" 421 "), "{nameless}");
    let head = ask("HEAD /status");
    assert!(head.contains(" 200 ") && !head.contains("probe-1"), "{head}");
    // Bytes that are no request harm nobody.
    let garbage = exchange(&at, "\0\u{1}\u{2} nonsense\r\n\r\n");
    assert!(garbage.is_empty() || garbage.contains(" 400 "), "{garbage}");
    let metrics = ask("GET /metrics");
    for family in
        ["woodrush_device_sent_bytes_total{device=\"probe-1\"}", "woodrush_rule_came_bytes_total", "# EOF"]
    {
        assert!(metrics.contains(family), "{family}: {metrics}");
    }
    // The bytes of a device are those of its line, where it is the only one.
    until("the bytes of the line and of the device", || {
        let all = json_of(&tool.run(&["--format", "json", "status"]));
        let (port, device) = (&all["ports"][0]["counts"], &all["devices"][0]["counts"]);
        let sent = device["sent"].as_u64().unwrap();
        // A request is on its way whenever the two are not alike.
        sent > 0 && sent == port["sent"] && device["came"] == port["came"] && sent.is_multiple_of(8)
    });
    assert_eq!((run.interrupt(), rig.interrupt()), (0, 0));
}

#[test]
fn a_status_from_somebody_else_is_told_as_such() {
    let tool = Tool::with_starter();
    for (answer, wrong) in [
        ("SSH-2.0-nothing\r\n", "it does not speak HTTP"),
        ("HTTP/1.0 404 Not Found\r\n\r\n", "it is not the monitor of a converter"),
        ("HTTP/1.0 200 OK\r\n\r\n{\"format\":1}", "is it another version?"),
    ] {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let at = listener.local_addr().unwrap().to_string();
        let server = std::thread::spawn(move || {
            let (mut stream, _) = listener.accept().unwrap();
            let mut asked = [0; 256];
            assert!(stream.read(&mut asked).unwrap() > 0);
            stream.write_all(answer.as_bytes()).unwrap();
        });
        let done = tool.run(&["status", "--monitor", &at]);
        server.join().unwrap();
        assert!(done.status == 3 && done.err.contains(wrong), "{answer}: {}", done.err);
    }
    assert_eq!(tool.run(&["status", "--monitor", "here"]).status, 2);
}

#[test]
fn a_hangup_takes_the_project_anew_and_a_broken_one_changes_nothing() {
    let tool = Tool::with_starter();
    tool.edit("poll    = \"500ms\"", "poll    = \"100ms\"");
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C ends it"]);
    let mut run = tool.begin(&["run", "--rig"]);
    run.wait_for(&["probe-1", "online"]);
    let sound = std::fs::read_to_string(tool.file("woodrush.toml")).unwrap();
    for (broken, told) in [
        (sound.replace("unit    = 11", "unit    = 999"), "`unit` cannot be 999"),
        (sound.replace("[devices.probe-1]", "[devices.probe-1"), "the changed project has errors"),
        (sound.replace("profiles/temperature-probe.toml", "profiles/none.toml"), "profiles/none.toml"),
    ] {
        tool.write("woodrush.toml", &broken);
        run.hang_up();
        run.wait_for(&[told]);
    }
    // It asked all the while.
    tool.write("woodrush.toml", &sound.replace("poll    = \"100ms\"", "poll    = \"120ms\""));
    run.hang_up();
    run.wait_for(&["2 ports stay open, 0 closed, 0 opened"]);
    let status = json_of(&tool.run(&["--format", "json", "status"]));
    assert_eq!((&status["runs_this_project"], &status["devices"][0]["online"]), (&json!(true), &json!(true)));
    assert_eq!(status["devices"][0]["counts"]["no_answer"], 0);
    assert!(!run.seen.iter().any(|line| line.contains("lost")), "{:#?}", run.seen);
    assert_eq!((run.interrupt(), rig.interrupt()), (0, 0));
}

#[test]
fn a_name_that_the_bench_does_not_know_is_told_with_those_that_it_does() {
    let tool = Tool::with_starter();
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C ends it"]);
    for (words, wrong) in [
        (&["unplug", "nothing"][..], "its lines are bus"),
        (&["late", "probe-9"], "its devices are probe-1"),
        (&["twice", "probe-9"], "its devices are probe-1"),
        (&["as-unit", "probe-1", "ninety"], "as-unit DEVICE UNIT"),
        (&["as-unit", "probe-1", "70000"], "as-unit DEVICE UNIT"),
        (&["slow", "probe-1", "fast"], "slow DEVICE"),
        (&["refuse", "probe-1", "none"], "refuse DEVICE"),
        (&["noise", "bus", "-1"], "noise"),
        (&["mend", "probe-9"], "nothing on this rig is called `probe-9`"),
        (&["get", "probe-1.setpoint", "probe-9.setpoint"], "no device `probe-9`"),
        (&["set", "probe-1.setpoint"], "set DEVICE.POINT=VALUE"),
    ] {
        let done = tool.run(&[&["rig"], words].concat());
        assert_eq!(done.status, 2, "{words:?}: {}{}", done.out, done.err);
        assert!(done.err.contains(wrong), "{words:?}: {}", done.err);
    }
    let after = tool.run(&["rig", "status"]).out;
    assert!(after.lines().any(|line| line.starts_with("probe-1") && line.ends_with("online")), "{after}");
    assert_eq!(rig.interrupt(), 0);
}

const BITS: &str = r#"
[ports.plc]
serial = "/dev/ttyUSB0"
line = "19200 8N1"
protocol = "df1"
[ports.pumps]
connect = "192.0.2.30:102"
protocol = "fetch-write"
local-tsap = "01.00"
remote-tsap = "01.00"
[ports.bus]
serial = "/dev/ttyUSB1"
line = "19200 8E1"
protocol = "modbus-rtu"
[ports.o]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.dcs]
port = "plc"
node = 1
[devices.m]
port = "bus"
unit = 3
[devices.block]
port = "pumps"
[images.i]
port = "o"
unit = 9
[[map]]
from = "i:000001"
to = "dcs:B3:1/5"
note = "starts the reel"
[[map]]
from = "m:400007.3"
to = "i:000002"
access = "read-write"
[[map]]
from = "dcs:B3:2 as raw"
to = "i:000017"
[[map]]
from = "i:000003"
to = "block:%DB10.X8.1"
"#;

#[test]
fn one_bit_is_traced_as_it_is_sent_and_sixteen_stand_one_by_one() {
    let tool = Tool::new();
    tool.write("woodrush.toml", BITS);
    let traced = tool.run(&["trace", "i:000001", "i:000002", "i:000020", "i:000003"]);
    assert_eq!(traced.status, 0, "{}", traced.err);
    for part in [
        "sent    masked write, file 3 element 1, bit 5",
        "10 02 01 00 0F 00 01 00 AB 02 03 85 01 00 20 00 20 00 10 03",
        "becomes at the device: function 22, offset 6, bit 3 of the holding register",
        "03 16 00 06 FF F7 00 08",
        "example raw  1234  =  4660  =  0 0 1 0 1 1 0 0 0 1 0 0 1 0 0 0  raw",
        "FETCH, change, WRITE data block 10, word 4",
    ] {
        assert!(traced.out.contains(part), "{part}: {}", traced.out);
    }
    let csv = tool.run(&["map", "--format", "csv"]).out;
    for part in ["i,000020,coil:19,bool,dcs,dcs,B3:2/3,", ",9,\n", ",1,starts the reel\n"] {
        assert!(csv.contains(part), "{part}: {csv}");
    }
    let map = tool.run(&["map"]).out;
    assert!(map.contains("starts the reel") && map.contains("B3:2/15 (file 3 element 2)"), "{map}");
    assert!(map.contains("connection for FETCH and WRITE"), "a bit needs both: {map}");
}
