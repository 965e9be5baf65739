//! Lists that are handed over with the built program: given back, they agree with the project; a change afterwards is told.

use crate::tool::{Tool, without_clients};

#[test]
fn a_list_that_is_handed_over_and_given_back_agrees_and_a_change_is_told_by_row() {
    let tool = Tool::with_hatchery();
    let made = tool.run(&["handover", "papers"]);
    assert_eq!(made.status, 0, "{}{}", made.out, made.err);
    assert!(
        made.out.contains("for control-room") && made.out.contains("for farm-office: 4 values"),
        "{}",
        made.out
    );
    let farm = std::fs::read_to_string(tool.file("papers/farm-office.csv")).unwrap();
    let lines: Vec<&str> = farm.lines().collect();
    assert_eq!(lines[0], "Address;Tag;Type;Scale;Access;Poll;Source", "under its own heads");
    assert!(
        lines.contains(&"400002;FARM_T2;INT;0.01;R;5s;do-2.temperature"),
        "their own name and interval stay: {farm}"
    );
    let room = std::fs::read_to_string(tool.file("papers/control-room.csv")).unwrap();
    assert!(
        room.lines()
            .any(|line| line == "300101,inlet-temperature-1,,REAL,ABCD,1,0,,R,200 ms,inlet-temp-1:AI1.OUT"),
        "{room}"
    );
    // Given back, both are witnesses that agree.
    tool.edit("lists/farm-office.csv", "papers/farm-office.csv");
    let text = std::fs::read_to_string(tool.file("woodrush.toml")).unwrap();
    let begin = text.find("reads     = [\n").unwrap();
    let end = begin + text[begin..].find("must-read").unwrap();
    tool.write(
        "woodrush.toml",
        &[&text[..begin], "list = \"papers/control-room.csv\"\n", &text[end..]].concat(),
    );
    let checked = tool.run(&["check"]);
    assert_eq!(checked.status, 0, "{}{}", checked.out, checked.err);
    assert!(checked.out.contains("0 errors, 0 warnings"), "{}", checked.out);
    // One rule changes: the rows of both lists that no longer agree are told.
    for (from, to, code) in [
        ("to   = \"scada:400001 as f32 ABCD\"", "to   = \"scada:400001 as f32 CDAB\"", "M51"),
        ("to   = \"farm:400002\"", "to   = \"farm:400005\"", "M04"),
        (
            "from = \"do-2.temperature\"\nto   = \"farm:400002\"",
            "from = \"do-3.temperature\"\nto   = \"farm:400002\"",
            "M63",
        ),
    ] {
        let before = std::fs::read_to_string(tool.file("woodrush.toml")).unwrap();
        if !before.contains(from) {
            panic!("the example no longer has {from}");
        }
        tool.write("woodrush.toml", &before.replacen(from, to, 1));
        let told = tool.run(&["check"]);
        assert_eq!(told.status, 1, "{code}: {}", told.out);
        assert!(told.out.contains(code) && told.out.contains("papers/"), "{code}: {}", told.out);
        tool.write("woodrush.toml", &before);
    }
}

#[test]
fn what_cannot_be_handed_over_is_told() {
    let tool = Tool::with_hatchery();
    let unknown = tool.run(&["handover", "papers", "--for", "nobody"]);
    assert_eq!(unknown.status, 2, "{}", unknown.err);
    assert!(unknown.err.contains("control-room, grading-line, filter-line, farm-office"), "{}", unknown.err);
    let nowhere = tool.run(&["handover", "/proc/none"]);
    assert_eq!(nowhere.status, 3, "{}", nowhere.err);
    // What a client has given back is not written over.
    let before = std::fs::read_to_string(tool.file("lists/farm-office.csv")).unwrap();
    let over = tool.run(&["handover", "lists"]);
    assert_eq!(over.status, 2, "{}", over.err);
    assert!(
        over.err.contains("lists/farm-office.csv is the list that farm-office has given back"),
        "{}",
        over.err
    );
    assert_eq!(std::fs::read_to_string(tool.file("lists/farm-office.csv")).unwrap(), before);
    assert!(!tool.file("lists/control-room.csv").exists(), "nothing was written");
    // Five digits end at 9999.
    tool.edit("lists/farm-office.csv\"", "lists/farm-office.csv\"\nnotation = \"five-digit\"");
    tool.write("lists/farm-office.csv", "Address;Type\n40001;INT\n");
    tool.edit("to   = \"farm:400002\"", "to   = \"farm:412000\"");
    let left = tool.run(&["handover", "papers", "--for", "farm-office", "--format", "json"]);
    assert_eq!(left.status, 1, "{}{}", left.out, left.err);
    let json: serde_json::Value = serde_json::from_str(&left.out).unwrap();
    assert!(json["lists"][0]["left_out"][0]["why"].as_str().unwrap().contains("five digits"), "{json}");
}

/// From then on an address that moves, changes or goes is told with both lines, until a new issue says that it was meant.
#[test]
fn what_was_handed_over_is_held_until_a_new_issue_is_closed() {
    let tool = Tool::with_hatchery();
    let closed = tool.run(&["handover", "papers", "--issue", "first handover"]);
    assert_eq!(closed.status, 0, "{}{}", closed.out, closed.err);
    assert!(closed.err.contains("issue 1 is closed"), "{}", closed.err);
    let ledger = std::fs::read_to_string(tool.file("woodrush.ledger")).unwrap();
    assert!(ledger.contains("\"scada:300101\" = \"inlet-temp-1:AI1.OUT | f32 ABCD |  | R\""), "{ledger}");
    assert_eq!(tool.run(&["check"]).status, 0);
    let again = tool.run(&["handover", "papers", "--issue", "nothing"]);
    assert!(again.status == 0 && again.err.contains("nothing has changed since issue 1"), "{}", again.err);
    let sound = std::fs::read_to_string(tool.file("woodrush.toml")).unwrap();
    // Without the clients' own lists nobody else tells.
    let sound = without_clients(&sound);
    for (from, to, code, words) in [
        (
            "to   = \"scada:400003 as f32 ABCD\"",
            "to   = \"scada:400901 as f32 ABCD\"",
            "M59",
            "handed over at scada:400003",
        ),
        ("to   = \"scada:400003 as f32 ABCD\"", "to   = \"scada:400003 as f32 CDAB\"", "M60", "f32 CDAB"),
        (
            "from = \"do-2.temperature\"\nto   = \"farm:400002\"",
            "from = \"do-3.temperature\"\nto   = \"farm:400002\"",
            "M60",
            "do-3.temperature",
        ),
        ("[[map]]\nfrom = \"do-2.temperature\"\nto   = \"farm:400002\"\n", "", "M61", "nothing is there now"),
    ] {
        assert!(sound.contains(from), "the example no longer has {from}");
        tool.write("woodrush.toml", &sound.replacen(from, to, 1));
        let told = tool.run(&["check"]);
        assert_eq!(told.status, 1, "{code}: {}", told.out);
        let said = told.out.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(
            said.contains(code) && said.contains(words) && said.contains("woodrush.ledger"),
            "{code}: {said}"
        );
    }
    // Meant: a new issue, whose page tells what changed.
    let meant = tool.run(&["handover", "papers", "--issue", "the farm office no longer needs \"do-2\""]);
    assert!(meant.status == 0 && meant.err.contains("issue 2 is closed"), "{}{}", meant.out, meant.err);
    assert_eq!(tool.run(&["check"]).status, 0, "{}", tool.run(&["check"]).out);
    let page = std::fs::read_to_string(tool.file("papers/handover.md")).unwrap();
    let changes = &page[page.find("## What changed since issue 1").unwrap()..];
    assert!(
        changes.contains("| farm | 400002 | gone | do-2.temperature | i16 scale 0.01 |  | yes |"),
        "{changes}"
    );
    assert!(changes.contains("### clients of farm must follow"), "{changes}");
}

#[test]
fn the_page_tells_everything_and_nothing_in_it_is_markup_but_its_own() {
    let tool = Tool::with_hatchery();
    tool.edit("name = \"oxygen-1\"", "name = \"oxygen-1\"\nnote = \"<b>left</b> | raceway `x`\"");
    tool.edit("\"Sallow Beck hatchery\"", "\"Beck <i>&</i>\"");
    let proof = r#"{"format": 1, "project_id": "0", "began_unix_s": 1795955883, "machine": "bench",
        "rules": [{"from": "do-1.oxygen", "to": "scada:400001", "proven": true, "why": null},
                  {"from": "do-2.oxygen", "to": "scada:400003", "proven": false, "why": "4.5 and not 8.5"}],
        "forwards": {"proven": 0, "of": 0}, "others": [["a restart is seen", true]]}"#;
    tool.write("proof.json", proof);
    let live = r#"{"format": 1, "at": "2026-11-29T12:33:18Z", "rehearsal": false,
        "values": [{"from": "do-1.oxygen", "to": "scada:400001", "verdict": "within", "good": true, "why": null}]}"#;
    tool.write("live.json", live);
    let made = tool.run(&["handover", "papers", "--with", "proof.json", "--with", "live.json"]);
    assert_eq!(made.status, 0, "{}{}", made.out, made.err);
    let html = std::fs::read_to_string(tool.file("papers/handover.html")).unwrap();
    let markdown = std::fs::read_to_string(tool.file("papers/handover.md")).unwrap();
    let drawing = std::fs::read_to_string(tool.file("papers/drawing.svg")).unwrap();
    assert!(html.contains(&drawing), "the page has its drawing in it");
    for text in [&html, &drawing] {
        assert!(!text.contains("<b>left") && !text.contains("<i>&"), "{text}");
        assert!(
            !text.contains("http://") || text.matches("http://").count() == 1,
            "no outside parts but a name space"
        );
    }
    assert!(markdown.contains("\\<b\\>left\\</b\\> \\| raceway \\`x\\`"), "{markdown}");
    for words in [
        "control-room",
        "192.0.2.40",
        "unit <code>21</code>",
        "exception 11 (0x0B)",
        "do-1.temperature",
        "the last value",
        "own TSAP",
        "1 of 2 rules proven",
        "4.5 and not 8.5",
        "made of another state of the project",
        "Acceptance on real devices",
        "1 of 1 value alike",
        "No issue of the address table has been closed yet",
    ] {
        assert!(html.contains(words), "{words}");
    }
    // What is not a report, and a place that is taken: nothing is half-written.
    tool.write("other.json", "{\"format\": 1}");
    let done = tool.run(&["handover", "papers", "--with", "other.json"]);
    assert!(done.status == 2 && done.err.contains("neither a proof nor an acceptance"), "{}", done.err);
    std::fs::create_dir_all(tool.file("taken/handover.html")).unwrap();
    let done = tool.run(&["handover", "taken", "--issue", "first"]);
    assert!(done.status == 3 && done.err.contains("is a folder"), "{}", done.err);
    let left: Vec<_> = std::fs::read_dir(tool.file("taken")).unwrap().collect();
    assert_eq!(left.len(), 1, "{left:?}");
    assert!(!std::fs::read_to_string(tool.file("woodrush.ledger")).unwrap().contains("[[issue]]"));
}
