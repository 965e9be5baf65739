//! `new`, `addr`, `map`, `trace`, `completions`.

use crate::tool::Tool;
use serde_json::Value;

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"))
}

#[test]
fn an_address_is_shown_in_every_notation() {
    let done = Tool::new().run(&["addr", "40318", "400010.3"]);
    assert_eq!(done.status, 0);
    let wanted = "\
40318  Modbus holding register, read and write
  six digits      400318
  five digits     40318
  offset          holding:317
  offset in hex   holding:0x013D
  in words        holding register number 318, counted from 1
  before          400317 (holding:316)
  after           400319 (holding:318)

400010.3  Modbus holding register, bit 3 (0 the least significant), read and write
  six digits      400010.3
  five digits     40010.3
  offset          holding:9.3
  offset in hex   holding:0x0009.3
  in words        holding register number 10, counted from 1
  before          400009.3 (holding:8.3)
  after           400011.3 (holding:10.3)
";
    assert_eq!(done.out, wanted);
}

#[test]
fn an_address_that_a_setting_decides_is_shown_both_ways() {
    let tool = Tool::new();
    let both = tool.run(&["addr", "I:017/12"]).out;
    for part in [
        "bit 12 (0 the least significant), read only, with `io-addresses = \"decimal\"",
        "bit 10 (0 the least significant), read only, with `io-addresses = \"octal\"",
        "in octal           I:021/14",
        "in decimal         I:15/10",
    ] {
        assert!(both.contains(part), "{part}: {both}");
    }
    let same = tool.run(&["addr", "I:1/7", "N7:0"]).out;
    assert!(!same.contains("io-addresses"), "the same under both needs no word: {same}");
    let hex = tool.run(&["addr", "0x40318"]);
    assert!(hex.err.contains("write `400318`") && !hex.err.contains("040318"), "{}", hex.err);
}

#[test]
fn an_address_that_could_be_two_is_refused_with_both_readings() {
    let tool = Tool::new();
    let done = tool.run(&["addr", "37", "4018", "365537", "400001"]);
    assert_eq!(done.status, 1);
    for line in [
        "M03 `37` is a bare number: it could be offset 37 or reference number 37, one beside; write `holding:37` or `400037`",
        "M01 `4018` has 4 digits; a reference number has five or six; write `400018`",
        "M01 reference number 65537 is past the table's end, 65536",
    ] {
        assert!(done.err.contains(line), "{}", done.err);
    }
    assert!(done.out.starts_with("400001  Modbus holding register"), "the good one is shown all the same");
    let answer = json(&tool.run(&["addr", "37", "300001", "--format", "json"]).out);
    assert_eq!(answer["addresses"][0]["offset"], "input:0");
    assert_eq!(answer["addresses"][0]["before"], Value::Null);
    assert_eq!(answer["refused"][0]["likely"][1], "400037");
    let csv = tool.run(&["addr", "465536", "--format", "csv"]).out;
    assert_eq!(
        csv,
        "written,canonical,offset,hex,means\n465536,465536,holding:65535,0xFFFF,\"holding register, read and write\"\n"
    );
}

#[test]
fn a_new_project_is_commented_sound_and_never_written_over() {
    let tool = Tool::new();
    let done = tool.run(&["new", "site"]);
    assert_eq!(
        (done.status, done.out.as_str()),
        (0, "made site\n  site/woodrush.toml\n  site/profiles/temperature-probe.toml\n")
    );
    let made = tool.run(&["new", "data", "--format", "json"]).out;
    let made: serde_json::Value = serde_json::from_str(&made).unwrap();
    assert_eq!(made["made"][0], "data/woodrush.toml");
    let text = std::fs::read_to_string(tool.file("site/woodrush.toml")).unwrap();
    assert!(text.matches('#').count() > 10, "comments teach");
    let done = tool.run(&["-p", "site/woodrush.toml", "check"]);
    assert_eq!(
        (done.status, done.out.as_str()),
        (0, "good  0 errors, 0 warnings, 0 remarks  (1 device, 3 rules, 2 polls)\n")
    );
    let done = tool.run(&["new", "site"]);
    assert_eq!(done.status, 2);
    assert!(done.err.contains("site is not empty; nothing was written"), "{}", done.err);
}

#[test]
fn the_project_is_found_in_a_folder_above() {
    let tool = Tool::with_starter();
    std::fs::create_dir_all(tool.file("deep/er")).unwrap();
    let done = tool.command(&["map"]).current_dir(tool.file("deep/er")).output().unwrap();
    assert!(done.status.success());
}

#[test]
fn the_map_has_one_row_a_value_in_every_format() {
    let tool = Tool::with_hatchery();
    let text = tool.run(&["map"]);
    assert_eq!(text.status, 0);
    assert!(text.out.lines().all(|line| line.chars().count() <= 100), "{}", text.out);
    let answer = json(&tool.run(&["map", "--format", "json"]).out);
    let values = answer["values"].as_array().unwrap();
    assert_eq!(values.len(), 70 - 4 + 2 * 8 + 4 + 16, "two rules carry eight, one four, one sixteen");
    let oxygen = &values[0];
    for (key, wanted) in [
        ("rule", "oxygen-1"),
        ("image", "scada"),
        ("address", "400001"),
        ("offset", "holding:0"),
        ("form", "f32 ABCD"),
        ("value", "do-1.oxygen"),
        ("device", "do-1"),
        ("device_address", "300001"),
        ("device_offset", "input:0"),
        ("device_form", "u16 scale 0.01"),
        ("eu", "mg/L"),
        ("on_loss", "refuse"),
        ("access", "read-only"),
    ] {
        assert_eq!(oxygen[key], wanted, "{key}");
    }
    assert_eq!(oxygen["poll_s"], 0.25);
    let csv = tool.run(&["map", "--format", "csv"]).out;
    assert_eq!(csv.lines().count(), values.len() + 1);
    assert!(csv.contains("drum-filter-words,scada,400208,holding:207,raw,drum-filter,drum-filter,400008"));
}

#[test]
fn the_map_says_what_must_be_set_up_in_controllers() {
    let tool = Tool::with_hatchery();
    let done = tool.run(&["map"]);
    for part in [
        "to set up in feeder-west at /dev/ttyUSB1\n  half-duplex slave, node 4, CRC, 19200 8N1\n",
        "  N7   at least 8 elements: N7:0 to N7:7 read\n",
        "FETCH and WRITE: own TSAP 'PUMPS', partner's TSAP 01.00\n",
        "  DB10  at least 28 bytes: %DB10.B4 to %DB10.B23 read, %DB10.B20 to %DB10.B27 written\n",
        "  DB20  at least 4 bytes: %DB20.B0 to %DB20.B3 written\n",
    ] {
        assert!(done.out.contains(part), "{part} is missing in {}", done.out);
    }
    assert!(!done.out.contains("to set up in do-1"), "registers are there by themselves");
    // What the map demands is enough for the check, and a byte less is not.
    let sized = |bytes: u32| {
        tool.edit("DB10 = 64", &format!("DB10 = {bytes}"));
        let status = tool.run(&["check"]).status;
        tool.edit(&format!("DB10 = {bytes}"), "DB10 = 64");
        status
    };
    assert_eq!((sized(28), sized(26)), (0, 1));
    let answer = json(&tool.run(&["map", "--format", "json"]).out);
    assert_eq!(answer["to_set_up"][2]["tables"][0]["table"], "DB10");
}

#[test]
fn a_trace_goes_down_to_the_bytes_of_both_sides() {
    let tool = Tool::with_hatchery();
    let done = tool.run(&["trace", "scada:400101"]);
    assert_eq!(done.status, 0);
    let wanted = "\
scada:400101 (holding:100)  <->  blower-1:400011 (holding:10)
  reader  function 3, offset 100, 2 holding registers
          asks  00 01 00 00 00 06 01 03 00 64 00 02
          gets  00 01 00 00 00 07 01 03 04 AE 14 41 8B
  image   image scada, holding 100 to 101; refused with exception 11 (0x0B) once older than 1.02 s
  rule    blower-1-setpoint, woodrush.toml:256: blower-1.speed-setpoint -> scada:400101 as f32 CDAB
  example f32 ABCD  418B AE14  =  17.46 Hz  =  AE14 418B  f32 CDAB
  poll    every 250 ms, 8.4 ms on the line; blower-1, unit 31
          function 3, offset 10, 2 holding registers
          asks  1F 03 00 0A 00 02 E7 B7
          gets  1F 03 04 41 8B AE 14 69 2E
  write   a client's write at scada:400101: function 16, offset 100, 2 holding registers
          asks  00 01 00 00 00 0B 01 10 00 64 00 02 04 AE 14 41 8B
          gets  00 01 00 00 00 06 01 10 00 64 00 02
          becomes at the device: function 16, offset 10, 2 holding registers
          asks  1F 10 00 0A 00 02 04 41 8B AE 14 D5 13
          gets  1F 10 00 0A 00 02 62 74
";
    // The CRCs are held apart: they are the wire's affair and its tests'.
    let bare = |text: &str| {
        let cut = |line: &str| {
            let rtu = line.trim_start().starts_with("asks  1F") || line.trim_start().starts_with("gets  1F");
            if rtu { line[..line.len() - 6].to_string() } else { line.to_string() }
        };
        text.lines().map(cut).collect::<Vec<_>>().join("\n")
    };
    assert_eq!(bare(&done.out), bare(wanted));
}

#[test]
fn a_trace_begins_at_either_end_and_says_where_nothing_is() {
    let tool = Tool::with_hatchery();
    let shown = |word: &str| json(&tool.run(&["trace", word, "--format", "json"]).out);
    let traces = shown("do-1.temperature");
    let places: Vec<&str> =
        traces["traces"].as_array().unwrap().iter().map(|t| t["shown"].as_str().unwrap()).collect();
    assert_eq!(places, ["scada:400011 (holding:10)", "farm:400001 (holding:0)"]);
    let eighth = shown("scada:400208");
    assert_eq!(eighth["traces"][0]["rule"]["value"], serde_json::json!([8, 8]));
    assert_eq!(eighth["traces"][0]["source"], "drum-filter:400008 (holding:7)");
    let bit = shown("scada:100011");
    assert_eq!(bit["traces"][0]["poll"]["exchange"]["answer"], "1F 03 04 00 00 00 08 05 F4");
    let health = shown("do-1.health.online");
    assert_eq!(health["traces"][0]["poll"], Value::Null);
    let nothing = tool.run(&["trace", "scada:400999"]);
    assert_eq!(nothing.status, 1);
    assert!(nothing.err.contains("no rule carries scada:400999"), "{}", nothing.err);
    let unknown = tool.run(&["trace", "skada:400001"]);
    assert_eq!(unknown.status, 2);
    assert!(unknown.err.contains("there is no device or image `skada` (write `scada`)"), "{}", unknown.err);
}

#[test]
fn completions_know_the_commands_and_the_names_of_the_project() {
    let tool = Tool::with_hatchery();
    for shell in ["bash", "zsh", "fish"] {
        let done = tool.run(&["completions", shell]);
        assert_eq!(done.status, 0);
        assert!(done.out.contains("COMPLETE") && done.out.contains("woodrush"), "{shell}: {}", done.out);
    }
    for (line, known) in [
        (&["tr"][..], &["trace"][..]),
        (&["read", "do-"], &["do-1", "do-2", "do-3"]),
        (&["read", "do-1.o"], &["do-1.oxygen"]),
        (&["trace", "sc"], &["scada:"]),
        (&["rig", "cut", "ra"], &["raceway"]),
        (&["scan", "--protocol", "df1-"], &["df1-half"]),
        (&["explain", "M3"], &["M31", "M32"]),
    ] {
        let words: Vec<&str> = ["--", "woodrush"].iter().chain(line).copied().collect();
        let mut asks = tool.command(&words);
        let index = line.len().to_string();
        asks.env("COMPLETE", "bash").env("_CLAP_COMPLETE_INDEX", index).env("_CLAP_IFS", "\n");
        let said = String::from_utf8(asks.output().unwrap().stdout).unwrap();
        let said: Vec<&str> = said.lines().collect();
        assert!(said.starts_with(known), "{line:?}: {said:?}");
    }
}

#[test]
fn an_editor_gets_a_schema_and_a_reader_manual_pages() {
    let tool = Tool::with_hatchery();
    let schema: serde_json::Value = serde_json::from_str(&tool.run(&["schema"]).out).unwrap();
    let devices = &schema["properties"]["devices"]["patternProperties"]["^[a-z][a-z0-9-]*$"];
    assert_eq!(devices["properties"]["read-gap"]["anyOf"][0]["maximum"], 65535);
    assert_eq!(devices["properties"]["unit"]["anyOf"][1]["type"], "string", "an expression of n");
    let profile: serde_json::Value = serde_json::from_str(&tool.run(&["schema", "profile"]).out).unwrap();
    assert!(profile["properties"]["points"]["patternProperties"].is_object());
    let done = tool.run(&["man", "pages"]);
    assert_eq!(done.status, 0, "{}", done.err);
    let page = std::fs::read_to_string(tool.file("pages/woodrush-read.1")).unwrap();
    assert!(page.contains("woodrush read do\\-1 scada:400001"), "{page}");
    assert!(tool.run(&["man"]).out.starts_with(".ie"));
}

#[test]
fn neighbours_of_an_address_are_as_wide_as_what_lies_there() {
    let tool = Tool::new();
    let beside = |text: &str| {
        let done = tool.run(&["--format", "json", "addr", text]);
        assert_eq!(done.status, 0, "{text}: {}", done.err);
        let all: serde_json::Value = serde_json::from_str(&done.out).unwrap();
        let shown = |key: &str| all["addresses"][0][key].as_str().unwrap_or_default().to_string();
        (shown("canonical"), shown("before"), shown("after"))
    };
    let three = |one: &str, two: &str, three: &str| (one.to_string(), two.to_string(), three.to_string());
    assert_eq!(beside("ST9:1"), three("ST9:1", "ST9:0 (file 9 element 0)", "ST9:2 (file 9 element 2)"));
    assert_eq!(
        beside("T4:3.ACC"),
        three("T4:3.ACC", "T4:2.ACC (file 4 element 2)", "T4:4.ACC (file 4 element 4)")
    );
    assert_eq!(
        beside("%DB10.W20"),
        three("%DB10.W20", "%DB10.W18 (DB10 word 9)", "%DB10.W22 (DB10 word 11)")
    );
    assert_eq!(
        beside("%DB10.D24"),
        three("%DB10.D24", "%DB10.D20 (DB10 word 10)", "%DB10.D28 (DB10 word 14)")
    );
    assert_eq!(beside("%MB3"), three("%MB3", "%MB2 (marker byte 2)", "%MB4 (marker byte 4)"));
    assert_eq!(beside("400318").1, "400317 (holding:316)");
}
