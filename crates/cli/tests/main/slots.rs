//! Slots that an IO controller exchanges with the converter: over the rig's switch, and over a real pair of interfaces.

use crate::tool::{Tool, until};
use serde_json::Value;
use std::process::Command;

const SITE: &str = r#"
[ports.raceway]
serial   = "/dev/ttyUSB0"
line     = "38400 8E1"
protocol = "modbus-rtu"
timeout  = "200ms"

[devices.do-1]
port = "raceway"
unit = 21
poll = "100ms"

[ports.machine]
ethernet = "wr-a"
protocol = "profinet"

[ports.machine.identity]
vendor = 65521
name   = "Raceway box"

[images.io]
port         = "machine"
station-name = "raceway-box"
slots        = [{ slot = 1, in = 8 }, { slot = 2, out = 4 }, { slot = 3, in = 2 }]
period       = "32ms"

[[map]]
from = "do-1:300001 as f32 ABCD"
to   = "io:1:%ID0 as f32"

[[map]]
from = "do-1.health.online"
to   = "io:3:%IX0.0"

[[map]]
from = "io.health.run"
to   = "io:3:%IX0.1"

[[map]]
name    = "wanted"
from    = "io:2:%QD0 as f32"
to      = "do-1:400011 as f32 ABCD"
send    = ["on-change", "every 1m"]
on-loss = "fill 0"

[clients.line-plc]
image    = "io"
period   = "32ms"
watchdog = 50
slots    = [{ slot = 1, in = 8 }, { slot = 2, out = 4 }, { slot = 3, in = 2 }]

[rig.clients.line-plc]
"2:%QD0 as f32" = "steady 12"

[rig.devices.do-1]
"300001 as f32 ABCD" = "steady 7.5"
"#;

fn site() -> Tool {
    let tool = Tool::new();
    tool.write("woodrush.toml", SITE);
    tool
}

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"))
}

/// Waits until the link is in that state, in the word that every output has for it.
fn becomes(tool: &Tool, state: &str) {
    until(&format!("the link becomes {state}"), || {
        let status = json(&tool.run(&["status", "--format", "json"]).out);
        status["links"][0]["state"] == *state
    });
}

#[test]
fn slots_are_checked_shown_and_described_as_the_controllers_programmer_sees_them() {
    let tool = site();
    let checked = tool.run(&["check"]);
    assert!(checked.status == 0 && checked.out.contains("0 errors, 0 warnings"), "{}", checked.out);
    let map = tool.run(&["map"]).out;
    for part in
        ["1:%ID0", "3:%IX0.0", "slot 1 inputs of io, to its controller, 8 bytes", "2:%QD0", "raceway-box"]
    {
        assert!(map.contains(part), "{part}: {map}");
    }
    let trace = tool.run(&["trace", "io:1:%ID0 as f32"]);
    assert!(trace.status == 0 && trace.out.contains("do-1:300001"), "{} {}", trace.out, trace.err);
    let rows = tool.run(&["budget", "--format", "csv"]).out;
    // 40 bytes of data and status, 6 around them, 18 of Ethernet, 4 of the tag and 20 of preamble and pause.
    let row = rows.lines().find(|row| row.starts_with("machine,io,")).unwrap_or_else(|| panic!("{rows}"));
    assert!(row.starts_with("machine,io,a frame each way,32000,88,88,,"), "{row}");
    let written = tool.run(&["map", "--gsdml", "."]);
    assert_eq!(written.status, 0, "{}", written.err);
    let files = std::fs::read_dir(tool.file(".")).unwrap().map(|own| own.unwrap().file_name());
    let name = files
        .map(|own| own.into_string().unwrap())
        .find(|own| own.starts_with("GSDML-V2.35-Raceway_box-io-"));
    let text = std::fs::read_to_string(tool.file(&name.unwrap())).unwrap();
    for part in
        ["VendorID=\"0xFFF1\"", "DNS_CompatibleName=\"raceway-box\"", "0x10008000", "0x10000004", "32 64 128"]
    {
        assert!(text.contains(part), "{part}: {text}");
    }
    // What the controller's programmer is handed: who the device is, and how a lost value shows.
    assert_eq!(tool.run(&["handover", "papers"]).status, 0);
    let papers = std::fs::read_to_string(tool.file("papers/handover.md")).unwrap();
    for part in [
        "vendor 0xFFF1, device 0x0203; the controller gives it an address; slot 1: 8 bytes in",
        "a lost value is refused with a bad provider status of the slot",
        "| bad, with its slot |",
    ] {
        assert!(papers.contains(part), "{part}: {papers}");
    }
    let other = tool.run(&["map", "--eds", "box.eds"]);
    assert!(other.status != 0 && other.err.contains("`--gsdml`"), "{}", other.err);
    // Health in the slot of a value that can be refused goes with it; and a slot that the controller has not.
    tool.edit("io:3:%IX0.0", "io:1:%IX4.0");
    assert!(tool.run(&["check"]).out.contains("M50"));
    tool.edit("{ slot = 2, out = 4 }, { slot = 3, in = 2 }]\n\n[rig", "{ slot = 2, out = 4 }]\n\n[rig");
    assert!(tool.run(&["check"]).out.contains("M07"));
    for (status, words) in [
        ("PNIO status DB 81 40 04", "nother controller is connected"),
        ("db 81 40 04", "nother controller"),
        ("IOPS", "turns it bad"),
        ("name of station", "small letters"),
    ] {
        assert!(tool.run(&["explain", status]).out.contains(words), "{status}");
    }
}

#[test]
fn a_controller_exchanges_slots_on_the_rig_and_what_is_lost_is_told_by_slot() {
    let tool = site();
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C ends it"]);
    let early = tool.run(&["rig", "idle", "line-plc"]);
    assert!(
        early.status != 0 && early.err.contains("`line-plc` begins when a converter does"),
        "{}",
        early.err
    );
    let mut run = tool.begin(&["run", "--rig"]);
    run.wait_for(&["io", "its address is `192.0.2.199/24` now, until it ends"]);
    run.wait_for(&["io", "the controller is in run"]);
    let mut tap = tool.begin(&["tap", "machine"]);
    tap.wait_for(&["outputs, from the controller, run", "io 2:%QD0 12"]);
    // What arrives at the device, and at the controller.
    until("the device has the controller's value", || {
        let own = json(&tool.run(&["rig", "get", "do-1:400011 as f32 ABCD", "--format", "json"]).out);
        own["rows"][0]["value"] == 12
    });
    let status = tool.run(&["status"]).out;
    assert!(status.contains("its name of station is raceway-box, its address 192.0.2.199/24"), "{status}");
    // No request brings slots: they are read in the frames, both ways.
    let read = json(&tool.run(&["read", "io:1:%ID0", "io:2:%QD0 as f32", "--format", "json"]).out);
    assert_eq!(
        (&read["values"][0]["value"], &read["values"][1]["value"]),
        (&7.5.into(), &12.into()),
        "{read}"
    );
    // A lost device turns its slot bad, and no other.
    assert_eq!(tool.run(&["rig", "mute", "do-1"]).status, 0);
    tap.wait_for(&["inputs, to the controller, run; slot 1 bad"]);
    let lost = tool.run(&["read", "io:1:%ID0"]);
    assert!(lost.status == 1 && lost.err.contains("the frame calls it bad"), "{}", lost.err);
    assert_eq!(tool.run(&["rig", "mend", "do-1"]).status, 0);
    tap.wait_for(&["inputs, to the controller, run  "]);
    // The controller stands still: its outputs are lost, and the device gets what the rule says.
    let rig_does = |words: &[&str]| assert_eq!(tool.run(&[&["rig"], words].concat()).status, 0, "{words:?}");
    rig_does(&["idle", "line-plc"]);
    run.wait_for(&["io", "the controller is idle: its outputs count as lost"]);
    tap.wait_for(&["outputs, from the controller, STOP; slot 2 bad"]);
    rig_does(&["mend", "line-plc"]);
    becomes(&tool, "run");
    // A module that is not there is told to it, and the other slots go on.
    rig_does(&["wrong-slot", "line-plc"]);
    let sees = |words: &str| {
        let rig = json(&tool.run(&["rig", "status", "--format", "json"]).out);
        let own = rig["rows"].as_array().unwrap().iter().find(|row| row["name"] == "line-plc");
        own.is_some_and(|row| row["detail"].as_str().unwrap().contains(words))
    };
    until("the wrong slot is told", || sees("slot 3: another module is there"));
    becomes(&tool, "run");
    // Another station has the name that the controller looks for: it connects to neither until that one is gone.
    assert_eq!(run.interrupt(), 0);
    rig_does(&["name-taken", "line-plc"]);
    let run = tool.begin(&["run", "--rig"]);
    until("the controller tells of two", || sees("two stations have the name `raceway-box`"));
    let status = json(&tool.run(&["status", "--format", "json"]).out);
    assert_eq!(status["links"][0]["opened"], 0, "{status}");
    rig_does(&["mend", "line-plc"]);
    becomes(&tool, "run");
    // Another name in the project: it has it at once, and every output says so.
    tool.edit("station-name = \"raceway-box\"", "station-name = \"drum-box\"");
    run.hang_up();
    until("the station's new name is told", || {
        tool.run(&["status"]).out.contains("its name of station is drum-box")
    });
    becomes(&tool, "closed");
    for one in [tap, run, rig] {
        let _ = one.interrupt();
    }
}

#[test]
fn stations_are_found_on_the_switch_and_get_names_that_are_free() {
    let tool = site();
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C ends it"]);
    let mut run = tool.begin(&["run", "--rig"]);
    run.wait_for(&["io", "the controller is in run"]);
    let found = json(&tool.run(&["scan", "--ethernet", "wr-a", "--rig", "--format", "json"]).out);
    let stations = found["stations"].as_array().unwrap();
    let own = stations.iter().find(|own| own["name"] == "raceway-box").unwrap_or_else(|| panic!("{found}"));
    assert_eq!((&own["device"], &own["role"]), (&Value::from("io"), &Value::from("device")));
    assert!(stations.iter().any(|own| own["role"] == "controller"));
    let new = stations.iter().find(|own| own["name"] == "").unwrap_or_else(|| panic!("{found}"));
    assert!(new["remarks"][0].as_str().unwrap().contains("it has no name yet"), "{new}");
    let mac = own["station"].as_str().unwrap().to_string();
    let give = |words: &[&str]| {
        let begin = ["readdress", "--ethernet", "wr-a", "--rig", mac.as_str()];
        tool.run(&begin.into_iter().chain(words.iter().copied()).collect::<Vec<_>>())
    };
    // A controller is connected; a name that is none; an address of another; nobody there; nothing asked.
    for (words, why) in [
        (&["--name", "drum-2", "--yes"][..], "a controller is connected to it"),
        (&["--name", "Drum_2", "--yes"], "cannot be a name of station"),
        (&["--address", "192.0.2.0/24", "--yes"], "cannot be the address of a station"),
        (&["--name", "line-plc", "--yes"], "the name `line-plc` is that of"),
        (&["--yes"], "say what it shall be"),
        (&["--name", "drum-2"], "no terminal to ask on"),
    ] {
        let done = give(words);
        assert!(done.status != 0 && done.err.contains(why), "{words:?}: {}", done.err);
    }
    // The one that is new gets its first name and address.
    let new = new["station"].as_str().unwrap();
    let words = ["--name", "drum-3", "--address", "192.0.2.33/24", "--yes"];
    let first = tool.run(&[&["readdress", "--ethernet", "wr-a", "--rig", new], &words[..]].concat());
    assert!(first.status == 0 && first.out.contains("name drum-3, address 192.0.2.33/24"), "{}", first.err);
    let nobody =
        tool.run(&["readdress", "--ethernet", "wr-a", "--rig", "02:00:00:00:00:77", "--name", "a", "--yes"]);
    assert!(nobody.err.contains("does not answer: 3 others answer"), "{}", nobody.err);
    assert_eq!(tool.run(&["rig", "mute", "line-plc"]).status, 0);
    run.wait_for(&["io", "watchdog"]);
    let named = give(&["--name", "drum-2", "--address", "192.0.2.31/24", "--permanent", "--yes"]);
    assert!(named.status == 0 && named.out.contains("name drum-2, address 192.0.2.31/24"), "{}", named.err);
    assert!(named.err.contains("this computer needs an address of 192.0.2.0/24"), "{}", named.err);
    run.wait_for(&["io", "its name of station is `drum-2` now, for good"]);
    // On the rig nothing is kept beside the project.
    assert!(!tool.file("woodrush.state").exists());
    // A reload that opens the port again is no restart either.
    tool.edit("name   = \"Raceway box\"", "name   = \"Drum box\"");
    run.hang_up();
    run.wait_for(&["project", "1 closed, 1 opened"]);
    until("the station is named as it was told", || {
        tool.run(&["status"]).out.contains("its name of station is drum-2, its address 192.0.2.31/24")
    });
    // Without `--rig` the real interface is looked for: the bench may have been meant, while there is one.
    for words in [&["scan", "machine"][..], &["scan", "--ethernet", "wr-a"]] {
        let real = tool.run(words);
        assert_eq!(real.status, 3, "{}", real.out);
        for part in
            ["there is no Ethernet interface `wr-a`", "a rig of it is running", "the same with `--rig`"]
        {
            assert!(real.err.contains(part), "{part}: {}", real.err);
        }
    }
    for one in [run, rig] {
        let _ = one.interrupt();
    }
    let none = tool.run(&["scan", "--ethernet", "wr-none"]);
    assert!(!none.err.contains("--rig"), "{}", none.err);
    assert!(
        none.status != 0 && none.err.contains("there is no Ethernet interface `wr-none`"),
        "{}",
        none.err
    );
}

/// A station of many slots: its opening goes in several datagrams, of which the packet analyser makes one call.
#[test]
#[ignore = "needs a packet analyser: apt-get install tshark; .ci/run installs it"]
fn an_opening_in_several_datagrams_is_one_call_for_an_analyser() {
    let tool = site();
    let more: String = (4..64).map(|slot| format!(", {{ slot = {slot}, in = 4 }}")).collect();
    tool.write(
        "woodrush.toml",
        &SITE.replace("{ slot = 3, in = 2 }", &format!("{{ slot = 3, in = 2 }}{more}")),
    );
    let checked = tool.run(&["check"]);
    assert!(checked.out.contains("0 errors, 0 warnings"), "{}", checked.out);
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C"]);
    let mut run = tool.begin(&["run", "--rig"]);
    run.wait_for(&["io", "is in run"]);
    let mut tap = tool.begin(&["tap", "machine", "-v", "--save", "machine.pcapng"]);
    tap.wait_for(&["inputs, to the controller"]);
    assert_eq!(tool.run(&["rig", "wrong-slot", "line-plc"]).status, 0);
    tap.wait_for(&["connect: part 1, and more to come"]);
    tap.wait_for(&["connect by `line-plc`, a cycle of 32 ms, slots 1, 2, 3, 4,"]);
    tap.wait_for(&["connect: done, but slot 63: another module is there"]);
    assert_eq!(tap.interrupt(), 0);
    let decoded = |filter: &str| {
        let done = Command::new("tshark")
            .args(["-r", tool.file("machine.pcapng").to_str().unwrap(), "-Y", filter])
            .output()
            .expect("tshark is installed");
        String::from_utf8_lossy(&done.stdout).lines().count()
    };
    assert!(decoded("dcerpc.dg_frag_num == 2") >= 1 && decoded("pn_io.block_type == 0x0101") >= 1);
    assert!(decoded("pn_io.block_type == 0x8104") >= 1, "what differs");
    assert_eq!(decoded("_ws.malformed"), 0);
}

/// Everything once more over a real pair of interfaces, with the packet analyser beside it: the proof, discovery, opening,
/// cycles, stop and release; and what a station keeps.
#[test]
#[ignore = "needs namespaces and a packet analyser: apt-get install tshark iproute2; .ci/run installs them"]
fn the_whole_is_proven_over_a_pair_of_interfaces_and_decoded_without_a_malformed_frame() {
    let tool = site();
    let woodrush = env!("CARGO_BIN_EXE_woodrush");
    let script = format!(
        "set -e
ip link set lo up
ip link add wr-a type veth peer name wr-b
ip link set wr-a up
ip link set wr-b up
tshark -q -i wr-a -w machine.pcapng >/dev/null 2>&1 &
sleep 2
'{woodrush}' prove --wire machine=wr-b
'{woodrush}' rig up --wire machine=wr-b >rig.log 2>&1 &
rig=$!
sleep 2
'{woodrush}' run >run.log 2>&1 &
run=$!
for try in 1 2 3 4 5 6 7 8 9 10; do grep -q 'is in run' run.log && break; sleep 1; done
'{woodrush}' scan --ethernet wr-b
kill -INT $rig
for try in 1 2 3 4 5 6 7 8 9 10; do grep -q 'the controller is closed' run.log && break; sleep 1; done
mac=$(ip -o link show wr-a | sed 's/.*ether \\([0-9a-f:]*\\).*/\\1/')
'{woodrush}' readdress --ethernet wr-b $mac --name drum-2 --permanent --yes
sleep 1
kill -INT $run
wait $run || true
'{woodrush}' run >again.log 2>&1 &
run=$!
sleep 2
'{woodrush}' scan --ethernet wr-b
kill -INT $run
wait $run || true
pkill -INT -P $$ tshark || true
sleep 1
"
    );
    tool.write("all.sh", &script);
    let done = Command::new("unshare")
        .args(["--user", "--map-root-user", "--net", "sh", "all.sh"])
        .current_dir(tool.file("."))
        .output()
        .expect("unshare is there");
    let (out, err) = (String::from_utf8_lossy(&done.stdout), String::from_utf8_lossy(&done.stderr));
    let log = std::fs::read_to_string(tool.file("run.log")).unwrap_or_default();
    assert!(done.status.success(), "{out}\n{err}\n{log}");
    assert!(out.contains("proven  4 of 4 rules"), "{out}\n{err}");
    assert!(out.contains("raceway-box") && out.contains("drum-2"), "{out}");
    assert!(out.matches("drum-2").count() >= 2, "told when it is given, and found after the restart: {out}");
    let kept = json(&std::fs::read_to_string(tool.file("woodrush.state")).unwrap());
    assert_eq!(kept["io"]["station-name"], "drum-2", "and it is called so after a restart: {out}");
    let decoded = |filter: &str| {
        let done = Command::new("tshark")
            .args(["-r", tool.file("machine.pcapng").to_str().unwrap(), "-Y", filter])
            .output()
            .expect("tshark is installed");
        String::from_utf8_lossy(&done.stdout).lines().count()
    };
    assert!(decoded("pn_rt.cycle_counter") > 100, "cycles");
    for (filter, what) in [
        ("pn_dcp.service_id == 5", "who is there"),
        ("pn_dcp.service_id == 4", "names and addresses"),
        ("pn_io.block_type == 0x0101", "an opening"),
        ("pn_io.block_type == 0x0110", "the end of parameters"),
        ("pn_io.block_type == 0x0112", "ready"),
        ("pn_io.block_type == 0x0114", "release"),
        ("pn_rt.ds == 0x25", "a controller in stop"),
        ("arp", "addresses"),
        ("lldp", "neighbours"),
    ] {
        assert!(decoded(filter) > 0, "{what}");
    }
    assert_eq!(decoded("_ws.malformed"), 0);
}
