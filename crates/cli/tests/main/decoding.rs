//! `decode`.

use crate::tool::Tool;
use serde_json::Value;

#[test]
fn a_known_value_gives_the_line_for_the_profile() {
    let tool = Tool::new();
    let done = tool.run(&["decode", "AE14", "418B", "--expect", "17.46"]);
    assert_eq!(done.status, 0, "{}", done.err);
    assert!(done.out.ends_with("for the profile:\n  as = \"f32 CDAB\"\n"), "{}", done.out);
    let two =
        tool.run(&["decode", "--hex", "--sample", "0064 = 10", "--sample", "00C8=60", "--format", "json"]);
    let json: Value = serde_json::from_str(&two.out).unwrap();
    assert_eq!(json["fits"][0]["profile"], "as = \"u16 AB scale 0.5 plus -40\"");
    // A form that was found is one that the project file takes.
    let form = json["fits"][0]["form"].as_str().unwrap();
    assert!(form.parse::<f64>().is_err() && !form.contains("as"), "{form}");
}

#[test]
fn every_way_is_shown_with_the_plausible_ones_marked() {
    let done = Tool::new().run(&["decode", "44564", "16779"]);
    assert!(done.out.starts_with("AE14 418B   in decimal 44564 16779\n"), "{}", done.out);
    let f32 = done.out.lines().find(|line| line.starts_with("f32")).unwrap_or_default();
    assert_eq!(f32.split_whitespace().collect::<Vec<_>>()[2..5], ["-3.3709518e-11", "17.46", "*"]);
    assert!(done.out.lines().all(|line| line.chars().count() <= 100));
    let csv = Tool::new().run(&["decode", "0x06D2", "--format", "csv"]).out;
    assert!(csv.starts_with("form,words,value,plausible\nu16 AB,all,1746,a small whole number\n"), "{csv}");
}

#[test]
fn what_cannot_be_is_told_and_nothing_is_guessed() {
    let tool = Tool::new();
    for (args, status, told) in [
        (&["decode", "1746"][..], 2, "could be hex (5958 in decimal) or decimal (hex 06D2)"),
        (&["decode"], 2, "`WORD|TARGET` is missing"),
        (&["decode", "AE14", "--expect", "17.46", "--tolerance", "x"], 2, "`x` is not a valid tolerance"),
        (&["decode", "AE14", "--sample", "418B = 3"], 2, "add `--expect VALUE`"),
        (&["decode", "--sample", "418B"], 2, "`418B` is not a sample"),
        (&["decode", "AE14", "418B", "--expect", "99"], 1, "gives that within 1 %"),
        (&["decode", "AE14", "418B", "--expect", "nan"], 2, "is a number"),
    ] {
        let done = tool.run(args);
        assert_eq!(done.status, status, "{args:?}: {}", done.err);
        assert!(done.err.contains(told), "{args:?}: {}", done.err);
    }
}

#[test]
fn looks_at_a_range_narrow_down_where_a_value_lies_and_how() {
    let tool = Tool::with_hatchery();
    let mut rig = tool.begin(&["rig", "up"]);
    rig.wait_for(&["Ctrl-C ends it"]);
    let look = |value: &str, more: &[&str]| {
        let set = tool.run(&["rig", "set", &format!("drum-filter:400003 as f32 CDAB={value}")]);
        assert_eq!(set.status, 0, "{}", set.err);
        let target = ["decode", "--live", "--rig", "drum-filter:400001 x8", "--keep", "looks.json"];
        let done = tool.run(&[&target[..], &["--expect", value, "--format", "json"], more].concat());
        assert_eq!(done.status, 0, "{}", done.err);
        serde_json::from_str::<Value>(&done.out).unwrap()
    };
    let first = look("17.46", &[]);
    let place = |json: &Value| {
        let best = &json["fits"][0];
        (best["address"].as_str().unwrap().to_string(), best["form"].as_str().unwrap().to_string())
    };
    assert!(first["fits"].as_array().unwrap().iter().all(|fit| fit["agrees"] == 1));
    let second = look("23.28", &[]);
    assert_eq!(place(&second), ("400003".into(), "f32 CDAB".into()));
    assert_eq!((&second["fits"][0]["agrees"], &second["samples"][1]["expected"]), (&2.into(), &23.28.into()));
    // One that was read off wrongly hides nothing: what most of them say comes first.
    let target =
        ["decode", "--live", "--rig", "drum-filter:400001 x8", "--keep", "looks.json", "--expect", "999"];
    let wrong = tool.run(&target);
    assert!(wrong.out.contains("2 of 3") && wrong.out.contains("at = \"400003\""), "{}", wrong.out);
    assert!(wrong.err.contains("No form gives all of the looks"), "{}", wrong.err);
    for (args, told) in [
        (&["drum-filter:400001 x7", "--expect", "1", "--keep", "looks.json"][..], "name another file"),
        (&["drum-filter:400001 x2001"], "2001 words are too many for one look"),
        (&["drum-filter:400001", "--expect", "1", "--keep", "/dev/zero"], "is a device, not a plain file"),
    ] {
        let done = tool.run(&[&["decode", "--live", "--rig"], args].concat());
        assert_eq!(done.status, 2, "{}", done.err);
        assert!(done.err.contains(told), "{}", done.err);
    }
    assert_eq!(
        tool.run(&["decode", "AE14 418B", "--expect", "1", "--keep", "x"]).status,
        2,
        "without --live"
    );
}
