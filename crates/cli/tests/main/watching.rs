//! `watch`: on a full screen with its keys, and line by line where there is no terminal.

use crate::terminal::Terminal;
use crate::tool::{Running, Tool, until};
use serde_json::Value;

fn bench(tool: &Tool) -> (Running, Running) {
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C"]);
    let mut run = tool.begin(&["run", "--rig", "--follow", "--monitor", "127.0.0.1:0"]);
    for device in ["do-1", "blower-1", "feeder-west", "pumps"] {
        run.wait_for(&[device, "online"]);
    }
    (rig, run)
}

#[test]
fn a_full_screen_shows_filters_opens_and_writes() {
    let tool = Tool::with_hatchery();
    let (rig, run) = bench(&tool);
    assert_eq!(tool.run(&["rig", "set", "do-1.temperature=17.46"]).status, 0);
    let mut screen = Terminal::open(&tool, &["watch"], (120, 50));
    // Raw words and values at both ends, ports, ages.
    screen.until("a row with both ends", |text| {
        let row = text.lines().find(|line| line.contains("do-1.temperature"));
        row.is_some_and(|row| {
            row.matches("06D2").count() == 2
                && row.matches("17.46 degC").count() == 2
                && row.contains("scada:400011")
        })
    });
    screen.until("ports and rules", |text| {
        let rules = text.contains("pumps:%DB10.D4") && text.contains("blower-1:400022.3");
        text.contains("all 70 rules fresh") && text.contains("raceway") && text.contains("asked") && rules
    });
    // Only some rows; a text that nobody has; and all again.
    screen.keys("/speed-set\r");
    screen.until("the filter", |text| {
        text.contains("only `speed-set`, 4 shown")
            && text.contains("blower-2.speed-setpoint")
            && !text.contains("do-1.oxygen")
    });
    // The chosen row opens into its trace, down to the bytes.
    screen.keys("\r");
    screen.shows("a client's write at scada:400101: function 16, offset 100, 2 holding registers");
    // A value is written through the image; what does not fit is told, and nothing happens before it is confirmed.
    screen.keys("w");
    screen.shows("write scada:400101 =");
    screen.keys("fast\r");
    screen.shows("is not a number");
    screen.keys("\u{7f}\u{7f}\u{7f}\u{7f}41.5\r");
    screen.shows("write 41.5 (raw 0000 4226) to scada:400101? [y/N]");
    screen.keys("n");
    screen.shows("scada:400101 is left as it is");
    screen.keys("w41.5\r");
    screen.shows("[y/N]");
    screen.keys("y");
    screen.shows("scada:400101 = 41.5 is written");
    screen.until("the new value at both ends", |text| {
        text.lines()
            .any(|line| line.contains("blower-1.speed-setpoint") && line.matches("41.5 Hz").count() == 2)
    });
    assert!(tool.run(&["read", "blower-1.speed-setpoint"]).out.contains("41.5 Hz"));
    // What is read-only stays so.
    screen.keys("\u{1b}");
    screen.keys("/do-1.oxygen\r");
    screen.shows("only `do-1.oxygen`");
    screen.keys("w");
    screen.shows("takes no write of a client");
    screen.keys("/\r");
    screen.until("all rows", |text| text.contains("do-2.oxygen") && !text.contains("only `"));

    // A cut wire: its rules are not fresh, and alone on the screen if one wants.
    assert_eq!(tool.run(&["rig", "cut", "feeders"]).status, 0);
    screen.keys("t");
    screen.until("lost rules alone", |text| {
        let ill = text.contains("feeder-west.hopper") && text.contains("LOST") && text.contains("refused");
        text.contains("only trouble") && ill && !text.contains("do-2.oxygen")
    });
    screen.keys("t?");
    screen.shows("keys and marks");
    screen.keys(" ss");
    screen.shows("latest change first");
    // A terminal that becomes tiny, and large again.
    screen.resize((20, 5));
    screen.until("a tiny screen", |text| text.contains("not fresh"));
    screen.keys("jjjjk");
    screen.resize((2, 1));
    screen.resize((80, 24));
    screen.until("a small screen", |text| text.contains("FROM") && text.contains("scada:"));
    // A changed project is reloaded.
    tool.edit("poll    = \"250ms\"", "poll    = \"400ms\"");
    screen.shows("the project was reloaded");
    // Nothing looks live once the converter has ended.
    assert_eq!(run.interrupt(), 0);
    screen
        .until("no live value", |text| text.contains("the converter has ended") && text.contains("unknown"));
    screen.keys("q");
    assert_eq!(screen.end(), (0, true), "the terminal is given back");
    drop(rig);
}

#[test]
fn a_terminal_that_goes_away_ends_it() {
    let tool = Tool::with_hatchery();
    let (rig, run) = bench(&tool);
    let mut screen = Terminal::open(&tool, &["watch"], (80, 24));
    screen.shows("raceway");
    screen.close();
    assert_eq!(screen.end().0, 0);
    let mut asked = Terminal::open(&tool, &["watch", "--for", "1s"], (80, 24));
    assert_eq!(asked.end(), (0, true));
    drop((rig, run));
}

#[test]
fn without_a_terminal_each_change_is_a_line() {
    let tool = Tool::with_hatchery();
    let nobody = tool.run(&["watch"]);
    assert!(
        nobody.status == 3 && nobody.err.contains("no converter of this project is running"),
        "{}",
        nobody.err
    );
    let no_rig = tool.run(&["watch", "--rig"]);
    assert!(no_rig.status == 3 && no_rig.err.contains("no rig of this project"), "{}", no_rig.err);
    // On a rig without a converter it brings one up.
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C"]);
    let mut own = tool.begin(&["watch", "--rig", "--filter", "feeder-west.hopper"]);
    own.wait_for(&["kg -> scada:400401", "["]);
    assert_eq!(own.interrupt(), 0);
    drop(rig);

    let (rig, mut run) = bench(&tool);
    let at = run
        .wait_for(&["counters at"])
        .split("http://")
        .nth(1)
        .unwrap()
        .split('/')
        .next()
        .unwrap()
        .to_string();
    assert_eq!(tool.run(&["rig", "set", "do-1.temperature=17.46"]).status, 0);
    until("the value in the image", || tool.run(&["read", "scada:400011"]).out.contains("17.46"));
    let rows = |done: &crate::tool::Done| -> Vec<Value> {
        done.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
    };
    let done = tool.run(&["--format", "json", "watch", "--for", "1s", "--monitor", &at]);
    let found = rows(&done);
    let row = found.iter().find(|row| row["to"] == "scada:400011").expect("each rule is told once");
    assert_eq!((&row["from"], &row["state"]), (&"do-1.temperature".into(), &"fresh".into()));
    for end in ["source", "target"] {
        assert_eq!(row[end]["raw"], serde_json::json!(["06D2"]));
        assert_eq!((&row[end]["values"], &row[end]["eu"]), (&serde_json::json!([17.46]), &"degC".into()));
    }
    let eight = found.iter().find(|row| row["from"] == "drum-filter:400001").expect("a rule of eight values");
    assert_eq!(eight["target"]["values"].as_array().map(Vec::len), Some(8));
    let steady = found.iter().filter(|row| row["to"] == "scada:400011").count();
    let moving = found.iter().filter(|row| row["from"] == "do-2.oxygen").count();
    assert!(steady == 1 && moving > 1, "a line for each change: {steady} {moving}");
    let csv = tool.run(&["--format", "csv", "watch", "--for", "500ms", "--filter", "blower"]).out;
    assert!(
        csv.starts_with("at_s,rule,from,source_raw,source,source_eu,to,target_raw,target,target_eu,age_s,state,last_error\n"),
        "{csv}"
    );
    assert!(csv.lines().skip(1).all(|line| line.contains("blower")), "{csv}");
    // Values are not read with another map than the converter's.
    let other = Tool::with_hatchery();
    other.edit("poll    = \"250ms\"", "poll    = \"400ms\"");
    let wrong = other.run(&["watch", "--for", "1s", "--monitor", &at]);
    assert!(wrong.status == 3 && wrong.err.contains("M38"), "{}", wrong.err);
    assert!(tool.run(&["watch", "--every", "never"]).status == 2);
    drop((rig, run));
}
