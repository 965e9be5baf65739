//! `explain`.

use crate::tool::Tool;
use serde_json::Value;

#[test]
fn every_code_that_a_check_prints_can_be_asked_about() {
    let tool = Tool::with_hatchery();
    let done = tool.run(&["explain", "M35", "exception 11", "CDAB"]);
    assert_eq!((done.status, done.err.as_str()), (0, ""));
    for line in ["M35 (check, error)", "Modbus exception 11 (0x0B) (refusal, Modbus)", "CDAB (order)"] {
        assert!(done.out.contains(line), "{}", done.out);
    }
    assert!(done.out.lines().all(|line| line.chars().count() <= 100), "{}", done.out);
    // Words that are one name need no quotes.
    assert!(tool.run(&["explain", "STS", "10"]).out.starts_with("STS 0x10 "));
}

/// Whatever code a message of any layer carries is known, and says who tells it.
#[test]
fn every_code_in_the_sources_is_explained() {
    let mut codes = std::collections::BTreeSet::new();
    let mut folders = vec![std::path::PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/.."))];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
            if entry.is_dir() && entry.file_name().is_some_and(|name| name != "target" && name != "tests") {
                folders.push(entry);
            } else if entry.extension().is_some_and(|end| end == "rs") {
                let text = std::fs::read_to_string(&entry).unwrap();
                let words = text.split(|letter: char| !letter.is_ascii_alphanumeric());
                let code = |word: &&str| {
                    word.len() == 3
                        && word.starts_with(['M', 'F'])
                        && word[1..].bytes().all(|digit| digit.is_ascii_digit())
                };
                codes.extend(words.filter(code).map(ToString::to_string));
            }
        }
    }
    // Those that hide what another fault hides, and of tests and types.
    for own in ["F00", "F32", "F64", "M99"] {
        codes.remove(own);
    }
    assert!(codes.len() > 60, "{codes:?}");
    let tool = Tool::new();
    let words: Vec<&str> = ["explain"].into_iter().chain(codes.iter().map(String::as_str)).collect();
    let done = tool.run(&words);
    assert_eq!((done.status, done.err.as_str()), (0, ""), "{}", done.out);
    let prove = tool.run(&["explain", "M49"]).out.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(prove.contains("`woodrush prove --live` reports it"), "{prove}");
}

#[test]
fn names_of_the_project_say_where_they_are_and_what_to_set_up_there() {
    let tool = Tool::with_hatchery();
    let pumps = tool.run(&["explain", "pumps"]).out;
    for part in ["device of this project", "port pump-house", "own TSAP 'PUMPS'", "DB10: at least 28 bytes"] {
        assert!(pumps.replace("\n ", "").contains(part), "{part}: {pumps}");
    }
    assert!(tool.run(&["explain", "feeders"]).out.contains("feeder-west, feeder-east"));
    // Elsewhere these are no names; the terms are there without a project.
    let bare = Tool::new();
    assert_eq!(bare.run(&["explain", "pumps"]).status, 1);
    assert_eq!(bare.run(&["explain", "freshness"]).status, 0);
}

#[test]
fn what_is_not_known_is_told_with_what_was_likely_meant() {
    let done = Tool::new().run(&["explain", "max-raed"]);
    assert_eq!((done.status, done.out.as_str()), (1, ""));
    assert!(done.err.contains("`max-raed` is not known; perhaps `max-read`"), "{}", done.err);
    let json = Tool::new().run(&["explain", "REAL", "--format", "json"]).out;
    let json: Value = serde_json::from_str(&json).unwrap();
    assert_eq!(json["explained"][0]["paragraphs"][0]["name"], "f32");
    let all = Tool::new().run(&["explain", "--format", "csv"]).out;
    assert!(all.contains("check,M35\n") && all.contains("function code,function 16\n"), "{all}");
}

#[test]
fn commands_endpoints_and_whole_forms_are_explained() {
    let tool = Tool::with_hatchery();
    for (asked, told) in [
        ("decode", "Show raw words in every type and order"),
        ("scada:400101", "gets its value from blower-1:400011 (holding:10) (rule `blower-1-setpoint`"),
        ("do-1.oxygen", "It is polled every 250 ms from do-1, unit 21."),
        ("scada:400999", "no rule carries it"),
        ("f32 CDAB scale 0.1", "The value is raw × 0.1 + 0."),
        ("i16 scale 0..27648 to -50..150", "the ends of a straight line"),
    ] {
        let done = tool.run(&["explain", asked]);
        assert_eq!(done.status, 0, "{asked}: {}", done.err);
        let text = done.out.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(text.contains(told), "{asked}: {text}");
    }
}
