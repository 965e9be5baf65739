//! `tap`: the traffic of a running converter, of a line that is only listened to, of captures; what is filtered, counted
//! and written.

use crate::tool::{Done, Tool};
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{OptionalActions, tcgetattr, tcsetattr};
use serde_json::Value;
use std::process::Command;

/// The lines of JSON that came back, and the counts at the end.
fn json(done: &Done) -> (Vec<Value>, Value) {
    let mut rows: Vec<Value> = done.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let counts = rows.pop().expect("the counts come last");
    assert_eq!((counts["format"].as_u64(), counts["kind"].as_str()), (Some(1), Some("counts")));
    (rows, counts)
}

fn of<'r>(rows: &'r [Value], port: &str, kind: &str) -> Vec<&'r Value> {
    rows.iter().filter(|row| row["port"] == port && row["kind"] == kind).collect()
}

#[test]
fn traffic_on_every_port_is_told_in_the_projects_names() {
    let tool = Tool::with_patient_hatchery();
    let none = tool.run(&["tap"]);
    assert!(none.status == 3 && none.err.contains("no converter of this project is running"), "{}", none.err);
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C"]);
    assert_eq!(tool.run(&["rig", "set", "do-1.temperature=17.46"]).status, 0);
    let mut run = tool.begin(&["run", "--rig"]);
    for device in ["do-1", "feeder-west", "feeder-east", "pumps"] {
        run.wait_for(&[device, "online"]);
    }

    let done = tool.run(&["--format", "json", "tap", "--for", "3s", "--save", "site.pcapng"]);
    assert!(done.status == 0, "{}", done.err);
    let (rows, counts) = json(&done);
    // Every protocol, each request with its answer, by the names that the project has for them.
    for (port, name) in [
        ("raceway", "do-1.temperature"),
        ("feeders", "feeder-west.hopper"),
        ("pump-house", "pumps:%DB10.D4"),
        ("office", "do-1.oxygen"),
    ] {
        let answer = of(&rows, port, "answer").into_iter().find(|row| {
            row["values"].as_array().is_some_and(|values| values.iter().any(|value| value["name"] == name))
        });
        let answer = answer.unwrap_or_else(|| panic!("{port}: no answer with {name}: {}", done.out));
        let asked = of(&rows, port, "request")
            .into_iter()
            .find(|row| row["exchange"] == answer["exchange"] && row["who"] == answer["who"]);
        assert_eq!(asked.map(|row| &row["words"]), Some(&answer["words"]), "{port}");
        assert!(answer["took_us"].as_u64().is_some() && answer["failed"] == false);
    }
    let known = rows.iter().flat_map(|row| row["values"].as_array().unwrap());
    let known = known.into_iter().find(|value| value["name"] == "do-1.temperature" && value["raw"] == "06D2");
    assert_eq!(known.map(|value| (&value["value"], &value["eu"])), Some((&17.46.into(), &"degC".into())));
    let who = of(&rows, "office", "request");
    assert!(who.iter().any(|row| row["who"] == "control-room"), "a client is known by its address");
    let row = counts["counts"].as_array().unwrap().iter().find(|row| row["station"] == "do-1, unit 21");
    let own = &row.expect("each station is counted")["counts"];
    assert!(own["answers"].as_u64().unwrap() >= 5 && own["damaged"] == 0 && own["mismatched"] == 0, "{own}");

    // The capture brings back the same messages, with and without the project.
    let again = tool.run(&["--format", "json", "tap", "--open", "site.pcapng"]);
    let (read, _) = json(&again);
    for port in ["raceway", "feeders", "pump-house", "office"] {
        let bytes = |rows: &[Value]| -> Vec<String> {
            of(rows, port, "answer").iter().map(|row| row["bytes"].as_str().unwrap().to_string()).collect()
        };
        assert_eq!(bytes(&read), bytes(&rows), "{port}");
        let values = |rows: &[Value]| -> Vec<Value> {
            of(rows, port, "answer").iter().map(|row| row["values"].clone()).collect()
        };
        assert_eq!(values(&read), values(&rows), "{port}");
    }
    std::fs::create_dir(tool.file("elsewhere")).unwrap();
    std::fs::rename(tool.file("site.pcapng"), tool.file("elsewhere/site.pcapng")).unwrap();
    let mut bare = tool.command(&["--format", "json", "tap", "--open", "site.pcapng"]);
    // No project is above a folder of its own.
    let alone = tempfile::tempdir().unwrap();
    std::fs::copy(tool.file("elsewhere/site.pcapng"), alone.path().join("site.pcapng")).unwrap();
    let (unnamed, _) = json(&bare.current_dir(alone.path()).output().unwrap().into());
    // What the project's timeout makes a late answer of is still one without it.
    let came = |rows: &[Value]| of(rows, "feeders", "answer").len() + of(rows, "feeders", "mismatched").len();
    assert_eq!(came(&unnamed), came(&rows));
    assert!(unnamed.iter().all(|row| row["values"].as_array().unwrap().is_empty()));

    // What is asked for by place, unit and function alone.
    let one = tool.run(&["--format", "json", "tap", "--for", "1s", "--at", "do-1.oxygen"]);
    let (rows, _) = json(&one);
    assert!(
        rows.iter().any(|row| row["port"] == "raceway") && rows.iter().any(|row| row["port"] == "office")
    );
    let touches = |row: &&Value| row["values"].as_array().unwrap().iter().any(|v| v["name"] == "do-1.oxygen");
    assert!(rows.iter().filter(|row| row["kind"] == "answer").all(|row| touches(&row)), "{}", one.out);
    let units =
        tool.run(&["--format", "json", "tap", "raceway", "--for", "1s", "--unit", "31", "--function", "1"]);
    let (rows, _) = json(&units);
    assert!(
        !rows.is_empty() && rows.iter().all(|row| row["station"] == 31 && row["code"] == 1),
        "{}",
        units.out
    );

    // A wire that is cut: silence by name, and a reader that is refused.
    assert_eq!(tool.run(&["rig", "cut", "feeders"]).status, 0);
    let mut broken = tool.begin(&["tap", "--failures"]);
    broken.wait_for(&["feeders", "<-", "node 4", "no answer within", ": feeder-west."]);
    broken.wait_for(&["office", "<-", "refused: Modbus exception 11 (0x0B)"]);
    assert_eq!(broken.interrupt(), 0);
    let counts = tool.run(&["tap", "--counts", "--for", "1s"]);
    assert!(
        counts.out.contains("answered up to") && counts.out.contains("Modbus exception 11"),
        "{}",
        counts.out
    );
    assert!(counts.out.lines().all(|line| line.chars().count() <= 100), "{}", counts.out);
    let counts = tool.run(&["tap", "--counts", "--for", "1s", "--format", "csv"]);
    let mut rows = counts.out.lines();
    assert!(rows.next().unwrap().starts_with("port,station,requests,again,answers,"), "{}", counts.out);
    assert!(rows.any(|row| row.starts_with("pump-house,pumps,")), "{}", counts.out);
    for (wrong, why) in [
        (vec!["tap", "cellar"], "the project has no port `cellar`"),
        (vec!["tap", "--unit", "many"], "write numbers and ranges"),
        (vec!["tap", "--at", "nobody"], "no device or image `nobody`"),
        (vec!["tap", "--for", "soon"], "is not a time"),
        (vec!["tap", "--line", "9600 8N1"], "belongs to `--serial PATH`"),
    ] {
        let done = tool.run(&wrong);
        assert!(done.status == 2 && done.err.contains(why), "{wrong:?}: {}", done.err);
    }
    // The converter's end is told, and what was seen until then is counted.
    let mut left = tool.begin(&["tap"]);
    left.wait_for(&["raceway", "unit"]);
    assert_eq!(run.interrupt(), 0);
    left.wait_for(&["the converter has ended"]);
    left.wait_for(&["ON PORT"]);
    drop(rig);
}

#[test]
fn a_line_is_listened_to_without_a_word() {
    let tool = Tool::with_hatchery();
    let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC).unwrap();
    grantpt(&master).unwrap();
    unlockpt(&master).unwrap();
    let path = ptsname(&master, Vec::new()).unwrap().to_string_lossy().into_owned();
    let mut termios = tcgetattr(&master).unwrap();
    termios.make_raw();
    tcsetattr(&master, OptionalActions::Now, &termios).unwrap();
    tool.edit("/dev/ttyUSB0", &path);
    // By the port of the project, whose names are known; and by its path alone.
    let ways: [&[&str]; 2] = [&["tap", "raceway"], &["tap", "--serial", &path, "--line", "38400 8E1"]];
    for (way, value) in ways.into_iter().zip(["do-1 oxygen 9.26 mg/L, temperature 11.5 degC", "039E 047E"]) {
        let mut tap = tool.begin(way);
        tap.wait_for(&["listening on"]);
        let hex = |text: &str| -> Vec<u8> {
            text.split_whitespace().map(|pair| u8::from_str_radix(pair, 16).unwrap()).collect()
        };
        // A master asks, a device answers; noise; and a question that nobody answers.
        let asked = "15 04 00 00 00 02 72 DF";
        let frames = [asked, "15 04 04 03 9E 04 7E 4C CF", "FF 00 13", "16 04 00 00 00 02 72 EC"];
        for frame in frames {
            rustix::io::write(&master, &hex(frame)).unwrap();
            std::thread::sleep(std::time::Duration::from_millis(150));
        }
        tap.wait_for(&["->", "unit 21", "read input registers  300001 x2 (input:0)"]);
        tap.wait_for(&["<-", "unit 21", value]);
        tap.wait_for(&["make no frame", "[FF 00 13]"]);
        tap.wait_for(&["->", "unit 22"]);
        tap.wait_for(&["<-", "unit 22", "no answer within"]);
        assert_eq!(tap.interrupt(), 0);
        // Nothing was ever said there.
        let flags = rustix::fs::fcntl_getfl(&master).unwrap() | rustix::fs::OFlags::NONBLOCK;
        rustix::fs::fcntl_setfl(&master, flags).unwrap();
        assert!(rustix::io::read(&master, &mut [0u8; 8]).map_or(0, |count| count) == 0);
    }
    let two = tool.run(&["tap"]);
    assert!(
        two.status == 3 && two.err.contains("to only listen on a serial line name its port"),
        "{}",
        two.err
    );
    let socket = tool.run(&["tap", "office"]);
    assert!(socket.status == 3 && socket.err.contains("is not a serial line"), "{}", socket.err);
}

#[test]
fn a_capture_that_is_cut_or_none_at_all_is_told() {
    let tool = Tool::with_starter();
    tool.write("notes.txt", "no capture");
    let none = tool.run(&["tap", "--open", "notes.txt"]);
    assert!(none.status == 2 && none.err.contains("it is not a capture"), "{}", none.err);
    let missing = tool.run(&["tap", "--open", "nowhere.pcapng"]);
    assert!(missing.status == 2 && missing.err.contains("does not exist"), "{}", missing.err);
    let device = tool.run(&["tap", "--open", "/dev/zero"]);
    assert!(device.status == 2 && device.err.contains("is a device, not a plain file"), "{}", device.err);
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C"]);
    let mut run = tool.begin(&["run", "--rig"]);
    run.wait_for(&["probe-1", "online"]);
    assert_eq!(tool.run(&["tap", "--for", "3s", "--save", "whole.pcapng", "--counts"]).status, 0);
    let whole = std::fs::read(tool.file("whole.pcapng")).unwrap();
    // What is typed wrongly costs no capture.
    for wrong in
        [&["--open", "whole.pcapng", "--save", "whole.pcapng"], &["--unit", "x", "--save", "whole.pcapng"]]
    {
        let done = tool.run(&[&["tap"][..], wrong].concat());
        assert_eq!(done.status, 2, "{}", done.err);
        assert_eq!(std::fs::read(tool.file("whole.pcapng")).unwrap(), whole);
    }
    std::fs::write(tool.file("cut.pcapng"), &whole[..whole.len() * 2 / 3]).unwrap();
    let cut = tool.run(&["tap", "--open", "cut.pcapng"]);
    assert!(cut.status == 3 && cut.err.contains("ends in the middle of a block"), "{}", cut.err);
    assert!(cut.out.contains("read input registers") && cut.out.contains("ON PORT"), "{}", cut.out);
}

#[test]
#[ignore = "needs a packet analyser: apt-get install tshark; .ci/run installs it"]
fn an_analyser_decodes_a_capture_without_settings() {
    let tool = Tool::with_patient_hatchery();
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C"]);
    let mut run = tool.begin(&["run", "--rig"]);
    run.wait_for(&["pumps", "online"]);
    run.wait_for(&["feeder-west", "online"]);
    // Longer than the pause between two greetings of a station to its neighbour.
    let done = tool.run(&["--format", "json", "tap", "--for", "6s", "--save", "site.pcapng"]);
    let (rows, _) = json(&done);
    let analyser = |filter: &str| -> Vec<String> {
        let mut command = Command::new("tshark");
        command
            .args(["-o", "mbrtu.crc_verification:TRUE", "-r"])
            .arg(tool.file("site.pcapng"))
            .args(["-Y", filter]);
        let output = command.output().expect("tshark is installed (apt-get install tshark)");
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8_lossy(&output.stdout).lines().map(str::to_string).collect()
    };
    // An answer that comes too late on a busy machine is a message too.
    let messages = |port: &str| {
        ["request", "answer", "mismatched"].map(|kind| of(&rows, port, kind).len()).iter().sum::<usize>()
    };
    // Serial frames, sockets on the usual port and on another one; requests and answers told apart.
    // What a computer that stood still cut in two is told as damaged by both.
    let damaged = of(&rows, "raceway", "damaged").len();
    let (whole, decoded) = (messages("raceway"), analyser("mbrtu && modbus").len());
    assert!((whole..=whole + damaged).contains(&decoded), "{decoded} of {whole}, {damaged} damaged");
    let (answers, paired) =
        (of(&rows, "raceway", "answer").len(), analyser("mbrtu && modbus.request_frame").len());
    assert!((answers..=answers + damaged).contains(&paired), "{paired} of {answers}, {damaged} damaged");
    assert_eq!(analyser("mbtcp && tcp.port == 502").len(), messages("office"));
    assert_eq!(analyser("mbtcp && !tcp").len(), messages("farm"));
    assert!(analyser("tpkt && cotp && tcp.port == 102").len() >= messages("pump-house"));
    assert!(!analyser("lldp.chassis.subtype == 4").is_empty(), "the station without a name");
    let bad = "(_ws.malformed || mbrtu.crc16.status == \"Bad\") && !(frame.comment contains \"damaged\")";
    assert_eq!(analyser(bad), [""; 0]);
    // What it does not know carries our words.
    let words = "frame.comment contains \"feeder-west\" && frame.comment contains \"N11:43\"";
    assert!(!analyser(words).is_empty());
    drop((run, rig));
}
