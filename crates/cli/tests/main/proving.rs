//! `prove` with its reports, and `demo`.

use crate::tool::Tool;

#[test]
fn the_demo_shows_everything_and_leaves_its_files_where_asked() {
    let tool = Tool::new();
    let done = tool.run(&["demo", "--keep", "hatchery"]);
    assert_eq!(done.status, 0, "{}{}", done.out, done.err);
    for part in [
        "1  the site: Sallow Beck hatchery (invented)",
        "no errors, no warnings, no remarks",
        "70 rules in 32 requests",
        "scada:400011 (holding:10) as i16 scale 0.01: 17.46 degC",
        "scada:400401 (holding:400) as i16 scale 0.1: 25 kg",
        "in the drive: blower-1.speed-setpoint = 42.5 Hz, words 422A 0000",
        "read-only: Modbus exception 2 (0x02), illegal data address",
        "scada:400011 answers Modbus exception 11 (0x0B), gateway target device failed to respond",
        "after `rig mend` it is there again: 17.46 degC",
        "ms it has 0, as `on-loss = \"fill 0\"` of the rule says",
        "a second owner of grading-block is refused",
        "a second owner of filter-house is refused",
        "a module that filter-house has not is told to its controller",
        "proven  70 of 70 rules",
    ] {
        assert!(done.out.contains(part), "{part} is missing in {}", done.out);
    }
    assert!(done.err.contains("values from the devices"), "progress in plain lines");
    let check = tool.run(&["-p", "hatchery/woodrush.toml", "check"]);
    assert_eq!(check.status, 0);
    assert_eq!(tool.run(&["demo", "--keep", "hatchery"]).status, 2, "nothing is written over");
}

#[test]
fn a_proof_is_reported_as_page_json_and_junit() {
    let tool = Tool::with_starter();
    tool.edit("poll    = \"500ms\"", "poll    = \"100ms\"\nretry-lost = \"200ms..1s\"");
    tool.edit("timeout  = \"300ms\"", "timeout  = \"100ms\"");
    tool.edit("name = \"Starter\"", "name = \"Starter <&> co\"");
    let done = tool
        .run(&["prove", "--report", "p.html", "--report", "p.json", "--report", "p.xml", "--format", "csv"]);
    assert_eq!(done.status, 0, "{}{}", done.out, done.err);
    assert!(
        done.out.starts_with(
            "rule,at,from,to,values,patterns_read,patterns_written,on_loss_right,median_ms,max_ms,proven,why\nprobe-1.temperature -> plc:400001,"
        ),
        "{}",
        done.out
    );
    let read = |name: &str| std::fs::read_to_string(tool.file(name)).unwrap();
    let json: serde_json::Value = serde_json::from_str(&read("p.json")).unwrap();
    assert_eq!(json["rules"].as_array().unwrap().len(), 3);
    assert_eq!(json["rules"][1]["proven"], true);
    assert!(json["rules"][1]["patterns_written"].as_u64().unwrap() > 10);
    let page = read("p.html");
    assert!(page.contains("Starter &lt;&amp;&gt; co") && page.contains("Proven: 3 of 3 rules"));
    for part in [
        json["project_id"].as_str().unwrap(),
        json["machine"].as_str().unwrap(),
        json["version"].as_str().unwrap(),
    ] {
        assert!(!part.is_empty() && page.contains(part), "{part}");
    }
    assert!(page.contains("T") && json["began_unix_s"].as_u64().unwrap() > 1_700_000_000);
    assert!(page.contains("<code>probe-1.setpoint</code>"), "both ends of a rule without a name");
    let junit = read("p.xml");
    assert!(
        junit.contains("tests=\"6\" failures=\"0\"")
            && junit.contains("probe-1.setpoint to plc:400011 as f32 ABCD")
    );
}

/// A site whose device is silent from the start: nothing is proven, everything is said.
#[test]
fn what_cannot_be_proven_is_told_and_is_a_no() {
    let tool = Tool::with_starter();
    tool.edit("poll    = \"500ms\"", "poll    = \"100ms\"\nretry-lost = \"200ms..1s\"");
    tool.edit("timeout  = \"300ms\"", "timeout  = \"100ms\"");
    let text = std::fs::read_to_string(tool.file("woodrush.toml")).unwrap();
    tool.write("woodrush.toml", &format!("{text}\n[[rig.faults]]\nat = \"0s\"\nmute = \"probe-1\"\n"));
    let done = tool.run(&["prove", "--report", "p.xml", "--report", "p.html"]);
    assert_eq!(done.status, 1, "{}{}", done.out, done.err);
    for part in [
        "not proven  rule at woodrush.toml:39: probe-1.temperature -> plc:400001",
        "plc:400001 (holding:0) answers Modbus exception 11 (0x0B), gateway target device failed to respond, and",
        "NOT PROVEN  0 of 3 rules",
    ] {
        assert!(done.out.contains(part), "{part}: {}", done.out);
    }
    let read = |name: &str| std::fs::read_to_string(tool.file(name)).unwrap();
    assert!(read("p.xml").contains("failures=\"3\""), "{}", read("p.xml"));
    assert!(read("p.html").contains("Not proven: 0 of 3 rules"));
}

#[test]
fn an_interrupted_proof_leaves_nothing_behind() {
    let tool = Tool::with_hatchery();
    let mut proof = tool.begin(&["prove"]);
    proof.wait_for(&["values from the devices"]);
    proof.interrupt();
    let left: Vec<String> = std::fs::read_dir(tool.path())
        .unwrap()
        .map(|entry| entry.unwrap().file_name().to_string_lossy().into())
        .collect();
    let ours = ["woodrush.toml", "woodrush.ledger", "profiles", "lists", "grader-tags.csv"];
    assert!(left.iter().all(|name| ours.contains(&name.as_str())), "{left:?}");
}
