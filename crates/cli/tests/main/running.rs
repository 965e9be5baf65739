//! `run` with its counters, its log and a changed project; `status`, `budget`.

use crate::tool::{Tool, until};
use std::io::{Read, Write};
use std::net::TcpStream;

const SITE: &str = r#"
[project]
name = "Small"
[converter]
write-log = "writes.csv"
[ports.line]
serial = "/dev/ttyS7"
line = "115200 8E1"
protocol = "modbus-rtu"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.gauge]
port = "line"
unit = 7
poll = "100ms"
[images.scada]
port = "office"
[[map]]
name = "level"
from = "gauge:400001"
to = "scada:400001"
[[map]]
name = "setpoint"
from = "gauge:400011"
to = "scada:400011"
access = "read-write"
[clients.room]
image = "scada"
address = "192.0.2.20"
dials = "192.0.2.10:502"
reads = ["400001 every 200ms"]
writes = ["400011 every 500ms"]
"#;

#[test]
fn a_running_converter_is_counted_logged_and_takes_a_changed_project() {
    let tool = Tool::new();
    tool.write("woodrush.toml", SITE);
    let failed = tool.run(&["status"]);
    assert_eq!(failed.status, 3, "nothing runs yet");
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C"]);
    let mut run = tool.begin(&["run", "--rig", "--follow", "--monitor", "127.0.0.1:0"]);
    let http = run.wait_for(&["counters at"]);
    let status = || serde_json::from_str::<serde_json::Value>(&tool.run(&["--format", "json", "status"]).out);
    until("good polls and writes", || {
        let Ok(now) = status() else { return false };
        let good = |list: &str, at: usize| now[list][at]["counts"]["answers"].as_u64().unwrap_or(0);
        good("devices", 0) > 5
            && good("rules", 1) > 2
            && good("clients", 0) > 2
            && now["runs_this_project"] == true
    });
    let text = tool.run(&["status"]).out;
    assert!(text.contains("all 2 rules are fresh") && text.contains("gauge   online"), "{text}");
    let log = || std::fs::read_to_string(tool.path().join("writes.csv")).unwrap_or_default();
    until("the writes in the log", || log().lines().count() > 3);
    assert!(log().starts_with("time,client,image,address,old,new,outcome\n20"), "{}", log());
    assert!(log().lines().nth(2).unwrap().ends_with(",done"), "{}", log());
    let before = status().unwrap()["devices"][0]["counts"]["requests"].as_u64().unwrap();
    assert_eq!(tool.run(&["status", "--reset"]).status, 0);
    let after = status().unwrap()["devices"][0]["counts"]["requests"].as_u64().unwrap();
    assert!(after < before, "{before} {after}");
    // A project with faults is not taken; a sound one is, while it runs.
    tool.write("woodrush.toml", &SITE.replace("to = \"scada:400001\"", "to = \"scada:400011\""));
    until("the difference", || {
        let out = tool.run(&["status"]);
        out.status == 1 && out.err.contains("M38")
    });
    run.wait_for(&["the changed project has errors"]);
    tool.write(
        "woodrush.toml",
        &SITE.replace("name = \"level\"", "name = \"depth\"").replace("poll = \"100ms\"", "poll = \"150ms\""),
    );
    until("the new map", || {
        status().is_ok_and(|now| now["runs_this_project"] == true && now["rules"][0]["name"] == "depth")
    });
    run.wait_for(&["2 ports stay open, 0 closed, 0 opened"]);
    let again = tool.run(&["run", "--rig"]);
    assert!(again.status == 3 && again.err.contains("is running already"), "{}", again.err);
    // The same over HTTP, as JSON for us and as text for collectors.
    let at = http.split("http://").nth(1).unwrap().split('/').next().unwrap().to_string();
    let elsewhere = tool.run(&["status", "--monitor", &at]);
    assert!(elsewhere.status == 0 && elsewhere.out.contains("gauge"), "{}", elsewhere.err);
    let metrics = fetch(&at, "/metrics");
    assert!(
        metrics.contains("woodrush_device_online{device=\"gauge\"} 1") && metrics.contains("# EOF"),
        "{metrics}"
    );
    assert!(fetch(&at, "/status").contains("\"format\":1"));
    assert_eq!((run.interrupt(), rig.interrupt()), (0, 0));
    let nobody = tool.run(&["status", "--monitor", &at]);
    assert!(nobody.status == 3 && nobody.err.contains("no status from"), "{}", nobody.err);
}

fn fetch(at: &str, path: &str) -> String {
    let mut stream = TcpStream::connect(at).unwrap();
    write!(stream, "GET {path} HTTP/1.0\r\nHost: {at}\r\n\r\n").unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    answer
}

#[test]
fn the_budget_tells_each_request_and_what_to_change() {
    let tool = Tool::new();
    tool.write("woodrush.toml", SITE);
    let text = tool.run(&["budget"]).out;
    assert!(text.contains("line line at 115200 8E1") && text.contains("reads 400001 x1"), "{text}");
    assert!(text.contains("`read-gap = 9` at `gauge`") || text.contains("one cycle takes"), "{text}");
    let json: serde_json::Value =
        serde_json::from_str(&tool.run(&["--format", "json", "budget"]).out).unwrap();
    let line = &json["lines"][0];
    let takes: u64 =
        line["requests"].as_array().unwrap().iter().map(|r| r["takes_us"].as_u64().unwrap()).sum();
    assert_eq!((json["format"].as_u64(), line["cycle_us"].as_u64()), (Some(1), Some(takes)));
    let csv = tool.run(&["--format", "csv", "budget"]).out;
    assert_eq!(csv.lines().count(), 3, "{csv}");
    // A line that cannot keep its polls is a no.
    tool.write("woodrush.toml", &SITE.replace("115200 8E1", "300 8E1"));
    let full = tool.run(&["budget"]);
    assert!(full.status == 1 && full.out.contains("the line cannot keep its polls"), "{}", full.out);
}
