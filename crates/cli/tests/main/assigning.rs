//! Addresses out of areas with the built program: given out once, kept in the ledger, and never lost to a slip.

use crate::tool::{Tool, without_clients};

fn ledger(tool: &Tool) -> String {
    std::fs::read_to_string(tool.file("woodrush.ledger")).unwrap()
}

#[test]
fn a_site_without_its_ledger_does_not_run_and_gets_the_same_addresses_again() {
    let tool = Tool::with_hatchery();
    let before = ledger(&tool);
    std::fs::remove_file(tool.file("woodrush.ledger")).unwrap();
    // Without its clients' lists nothing is wrong, and still nothing runs.
    let text = std::fs::read_to_string(tool.file("woodrush.toml")).unwrap();
    tool.write("woodrush.toml", &without_clients(&text));
    let checked = tool.run(&["check"]);
    assert_eq!(checked.status, 0, "{}{}", checked.out, checked.err);
    assert!(checked.out.contains("has no address in area `inlet-values` yet"), "{}", checked.out);
    for command in ["run", "prove"] {
        let refused = tool.run(&[command]);
        assert_eq!(refused.status, 2, "{command}: {}", refused.err);
        assert!(
            refused.err.contains("and 3 more values have no address yet: run `woodrush map --assign` first"),
            "{}",
            refused.err
        );
    }
    let would = tool.run(&["map", "--assign", "--dry-run", "--format", "json"]);
    let would: serde_json::Value = serde_json::from_str(&would.out).unwrap();
    assert_eq!((would["given"].as_array().unwrap().len(), would["written"].as_bool()), (4, Some(false)));
    assert!(!tool.file("woodrush.ledger").exists());
    // With them, what they ask for is what the addresses are for.
    tool.write("woodrush.toml", &text);
    let given = tool.run(&["map", "--assign"]);
    assert_eq!(given.status, 0, "{}{}", given.out, given.err);
    assert!(given.err.contains("4 addresses given out"), "{}", given.err);
    assert_eq!(ledger(&tool), before, "the same, byte for byte");
    assert_eq!(tool.run(&["check"]).status, 0);
    let again = tool.run(&["map", "--assign"]);
    assert!(
        again.status == 0 && again.err.contains("every value of an area has its address"),
        "{}",
        again.err
    );
}

#[test]
fn a_rule_that_goes_and_comes_back_has_its_address_again() {
    let tool = Tool::with_hatchery();
    let before = ledger(&tool);
    let text = std::fs::read_to_string(tool.file("woodrush.toml")).unwrap();
    let begin = text.find("[[map]]\nname = \"inlet-temperature-1\"").unwrap();
    let end = begin + text[begin + 1..].find("[[map]]").unwrap() + 1;
    tool.write("woodrush.toml", &[&text[..begin], &text[end..]].concat());
    let gone = tool.run(&["map", "--assign"]);
    assert_eq!(gone.status, 0, "{}", gone.err);
    assert!(gone.err.contains("retired: inlet-values 300101 of `inlet-temp-1:AI1.OUT`"), "{}", gone.err);
    assert!(ledger(&tool).contains("[retired.inlet-values]\n\"inlet-temp-1:AI1.OUT\" = \"300101 x2\""));
    tool.write("woodrush.toml", &text);
    let back = tool.run(&["map", "--assign"]);
    assert!(back.out.contains("its old one"), "{}", back.out);
    assert_eq!(ledger(&tool), before);
}

#[test]
fn a_ledger_that_a_merge_or_a_slip_has_damaged_is_told_and_stays_as_it_is() {
    let tool = Tool::with_hatchery();
    let sound = ledger(&tool);
    let conflict = sound.replace(
        "\"inlet-temp-2:AI1.OUT\"",
        "<<<<<<< ours\n\"inlet-temp-2:AI1.OUT\" = \"300105 x2\"\n=======\n\"inlet-temp-2:AI1.OUT\"",
    ) + ">>>>>>> theirs\n";
    for (text, words) in [
        (conflict.clone(), "a merge conflict is not settled"),
        (sound.replace("300103 x2", "300103 by 2"), "is not an address"),
        (sound.replace("[areas.inlet-values]", "[areas.inlet-values"), "F13"),
        (sound.replace("300103 x2", "300102 x2"), "were given the same address"),
    ] {
        tool.write("woodrush.ledger", &text);
        for command in [&["check"][..], &["map", "--assign"], &["run"]] {
            let told = tool.run(command);
            assert_eq!(told.status, 1, "{command:?}: {}{}", told.out, told.err);
            let said = [told.out, told.err].concat();
            assert!(said.contains(words), "{command:?}: {said}");
        }
        assert_eq!(ledger(&tool), text, "nothing of it is lost");
    }
    // Both sides of the conflict are shown.
    tool.write("woodrush.ledger", &conflict);
    let told = tool.run(&["check"]).out;
    assert!(told.contains("one side") && told.contains("the other side"), "{told}");
    // Two at once: the second waits for nobody, and says whose turn it is.
    tool.write("woodrush.ledger", &sound);
    tool.write("woodrush.ledger.new", "");
    let busy = tool.run(&["map", "--assign"]);
    assert_eq!(busy.status, 3, "{}", busy.err);
    assert!(busy.err.contains("another `woodrush` writes the ledger"), "{}", busy.err);
    let none = Tool::with_starter();
    let told = none.run(&["map", "--assign"]);
    assert_eq!(told.status, 2, "{}", told.err);
    assert!(told.err.contains("the project has no areas"), "{}", told.err);
}
