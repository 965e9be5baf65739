//! `check`: findings in every format, widths, colour.

use crate::tool::Tool;

#[test]
fn every_fault_comes_at_once_with_place_why_and_mend() {
    let tool = Tool::with_starter();
    tool.edit("unit    = 11", "unit    = 300");
    tool.edit("19200 8E1", "1920 8E1");
    tool.edit("poll    = \"500ms\"", "pol     = \"500ms\"");
    let done = tool.run(&["check"]);
    assert_eq!(done.status, 1);
    let wanted = "\
error M20  a speed that no device has
      woodrush.toml:14:13
  14 | line     = \"1920 8E1\"              # BAUD DATA PARITY STOP, as on every device of the line
     |             ^^^^
  what  no device has the speed 1920
  why   the line stays dead
  fix   write `19200 8E1`

error M25  a unit twice on one line, or one that does not exist
      woodrush.toml:27:11
  27 | unit    = 300
     |           ^^^
  what  `unit` cannot be 300
  why   two devices answer at once and damage each other's bytes
  fix   write a whole number of 0 to 255

error F02  a key that does not exist
      woodrush.toml:29:1
  29 | pol     = \"500ms\"
     | ^^^
  what  device `probe-1` has no key `pol`
  why   a mistyped key is a setting that silently stays at its default
  fix   write `poll`

failed  3 errors, 0 warnings, 0 remarks  (1 device, 3 rules, 2 polls)
";
    assert_eq!(done.out, wanted);
}

#[test]
fn findings_are_the_same_in_json_and_csv() {
    let tool = Tool::with_starter();
    tool.edit("allow    = [\"192.0.2.0/24\"]", "");
    let done = tool.run(&["check", "--format", "json"]);
    assert_eq!(done.status, 0, "a remark is no error");
    let answer: serde_json::Value = serde_json::from_str(&done.out).unwrap();
    assert_eq!((&answer["format"], &answer["good"]), (&1.into(), &true.into()));
    let finding = &answer["findings"][0];
    assert_eq!(finding["code"], "M43");
    assert_eq!(finding["severity"], "remark");
    assert_eq!(finding["at"], serde_json::json!({ "file": "woodrush.toml", "line": 19, "column": 13 }));
    assert_eq!(finding["fix"], "add `allow = [\"192.0.2.0/24\"]`");
    let csv = tool.run(&["check", "--format", "csv"]).out;
    assert!(
        csv.starts_with("code,severity,file,line,column,what,why,fix\nM43,remark,woodrush.toml,19,13,"),
        "{csv}"
    );
}

#[test]
fn nothing_is_wider_than_the_terminal_and_colour_is_only_an_addition() {
    let tool = Tool::with_hatchery();
    tool.edit("unit     = 22", "unit     = 21");
    let narrow = tool.command(&["check"]).env("WOODRUSH_WIDTH", "80").output().unwrap();
    let text = String::from_utf8(narrow.stdout).unwrap();
    assert!(text.lines().all(|line| line.chars().count() <= 80), "{text}");
    let plain = tool.run(&["check"]);
    assert!(!plain.out.contains('\u{1b}'), "no colour into a pipe");
    let coloured = tool.run(&["check", "--color", "always"]).out;
    assert!(coloured.contains('\u{1b}'));
    let mut bare = String::new();
    let mut parts = coloured.split('\u{1b}');
    bare += parts.next().unwrap();
    parts.for_each(|part| bare += part.split_once('m').unwrap().1);
    assert_eq!(bare, plain.out, "the words alone say everything");
}

#[test]
fn many_faults_in_the_shipped_example_are_each_found() {
    for (from, to, code) in [
        ("unit     = 22", "unit     = 21", "M25"),
        ("scada:400003 as f32 ABCD", "scada:400002 as f32 ABCD", "M17"),
        ("\"do-1.oxygen\"", "\"do-1.oxigen\"", "F05"),
        ("0.0.0.0:1502", "0.0.0.0:1503", "M27"),
        ("\"192.0.2.40\"]", "\"192.0.2.41\"]", "M29"),
        ("400303 as i32 ABCD every 1s", "400303 as i32 CDAB every 1s", "M51"),
        ("\"400003 as f32 ABCD every 500ms\"", "\"400002 as f32 ABCD every 500ms\"", "M54"),
        ("wiring   = \"rs485\"", "wiring   = \"rs232\"", "M24"),
        ("count = 8", "count = 80", "M17"),
        ("line     = \"38400 8E1\"\nwiring", "line     = \"19200 8E1\"\nwiring", "M19"),
    ] {
        let tool = Tool::with_hatchery();
        assert_eq!(
            tool.run(&["check", "-q"]).out,
            "good  0 errors, 0 warnings, 0 remarks  (15 devices, 70 rules, 32 polls)\n"
        );
        tool.edit(from, to);
        let done = tool.run(&["check"]);
        assert!(done.out.contains(&format!(" {code}  ")), "{code}: {}", done.out);
    }
}

#[test]
fn verbose_lists_every_request() {
    let done = Tool::with_hatchery().run(&["check", "-v"]);
    assert!(done.out.contains("raceway: 13 requests, one cycle takes 123.5 ms, load 46 %"), "{}", done.out);
    assert!(done.out.contains("  do-1:300001 (input:0) x2 every 250 ms, 8.4 ms"), "{}", done.out);
}
