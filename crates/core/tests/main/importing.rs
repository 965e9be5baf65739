//! Register lists as makers and programmers write them: what becomes of each row, and what is asked.

use woodrush_core::check::check;
use woodrush_core::form::Order;
use woodrush_core::import::{Import, ImportOptions, ImportedPoint, import, profile_text};
use woodrush_core::project::read;
use woodrush_core::protocol::dialect;
use woodrush_core::sheet::{ColumnChoice, Encoding};

const FAN: &[u8] = include_bytes!("../lists/fan-drive.csv");
const METER: &[u8] = include_bytes!("../lists/power-meter.csv");
const EXPORT: &[u8] = include_bytes!("../lists/controller-export.tsv");
const CHILLER: &[u8] = include_bytes!("../lists/chiller.csv");
const GENSET: &[u8] = include_bytes!("../lists/genset.txt");
const PUMP: &[u8] = include_bytes!("../lists/pump-controller.csv");

fn plain(bytes: &[u8]) -> Import {
    import(bytes, &ImportOptions::default()).unwrap()
}

fn said(bytes: &[u8], options: ImportOptions) -> Import {
    import(bytes, &options).unwrap()
}

fn point<'i>(found: &'i Import, name: &str) -> &'i ImportedPoint {
    let known: Vec<&str> = found.points.iter().map(|point| point.name.as_str()).collect();
    found.points.iter().find(|point| point.name == name).unwrap_or_else(|| panic!("{name}: {known:?}"))
}

/// A point in one line, as it will stand in the profile.
fn shown(point: &ImportedPoint) -> String {
    let form = point.form.map(|form| format!(" as {form}")).unwrap_or_default();
    let repeat = point.repeat.map(|(count, stride)| format!(" x{count}/{stride}")).unwrap_or_default();
    let write = if point.read_write { " rw" } else { "" };
    format!("{}{form}{repeat}{write}", point.at)
}

fn why(found: &Import, line: u64) -> &str {
    let rows: Vec<_> = found.unread.iter().map(|row| (row.line, &row.why)).collect();
    found
        .unread
        .iter()
        .find(|row| row.line == line)
        .map_or_else(|| panic!("{line}: {rows:?}"), |row| &row.why)
}

fn remarked(found: &Import, words: &str) -> bool {
    found.remarks.iter().any(|remark| remark.contains(words))
}

/// What a list gives is a profile that a project takes, and every point of it is there.
fn is_taken(found: &Import, protocol: &str) {
    let text = profile_text(found, "list.csv");
    let port = match protocol {
        "modbus-rtu" => "serial = \"/dev/ttyUSB0\"\nline = \"38400 8E1\"\n",
        _ => "connect = \"192.0.2.40\"\n",
    };
    let unit = if protocol == "modbus-rtu" { "unit = 1\n" } else { "" };
    let project = format!(
        "[ports.line]\n{port}protocol = \"{protocol}\"\n[devices.one]\nport = \"line\"\n{unit}profile = \"list.toml\"\n"
    );
    let mut load = |path: &str| if path == "list.toml" { Ok(text.clone()) } else { Err(String::new()) };
    let checked = check(read("w", project, &mut load));
    let told: Vec<String> =
        checked.findings.iter().map(|own| format!("{} {}", own.rule.code, own.what)).collect();
    let wrong =
        told.iter().any(|own| own.starts_with('F') || own.starts_with("M0") || own.starts_with("M35"));
    assert!(!wrong, "{told:#?}\n{text}");
    let rows: u32 = found.points.iter().map(|point| point.repeat.map_or(1, |(count, _)| count)).sum();
    assert_eq!(checked.project.profile_of(0).unwrap().points.len(), rows as usize, "{text}");
}

#[test]
fn the_list_of_a_drive_is_read_whole_and_its_two_columns_of_addresses_agree() {
    let found = plain(FAN);
    assert_eq!((found.points.len(), found.unread.len(), found.questions.len()), (8, 0, 0));
    assert!(
        remarked(&found, "8 of 8 numbers agree with `Hex`: the first, 16, is offset 16"),
        "{:?}",
        found.remarks
    );
    for (name, wanted) in [
        ("run-command", "400017 as u16 rw"),
        ("speed-reference", "400018 as i16 scale 0.01 rw"),
        ("speed", "400514 as i16 scale 0.1"),
        ("energy", "400520 as u32 CDAB scale 0.1"),
        ("station-number", "402308 as u16 rw"),
    ] {
        assert_eq!(shown(point(&found, name)), wanted);
    }
    let own = point(&found, "heat-sink-temperature");
    assert_eq!(own.eu.as_deref(), Some("\u{b0}C"));
    assert_eq!(own.range.map(|(low, high)| (low.as_f64(), high.as_f64())), Some((-40.0, 150.0)));
    assert_eq!(point(&found, "station-number").note.as_deref(), Some("unlock A9.00=5"));
    is_taken(&found, "modbus-rtu");
}

#[test]
fn reference_numbers_are_read_as_such_and_an_order_said_once_is_told_for_the_others() {
    let found = plain(METER);
    assert_eq!(shown(point(&found, "voltage-a")), "300121 as f32 ABCD");
    assert_eq!(shown(point(&found, "averaging-time")), "400011 as f32 ABCD rw");
    assert!(
        remarked(&found, "line 2 says the order ABCD: taken for lines 3, 4, 5, 6, 7, 8"),
        "{:?}",
        found.remarks
    );
    is_taken(&found, "modbus-rtu");
    let other = said(METER, ImportOptions { order: Order::ALL.get(1).copied(), ..ImportOptions::default() });
    assert_eq!(shown(point(&other, "voltage-a")), "300121 as f32 ABCD", "what a row says itself stays");
    assert_eq!(shown(point(&other, "voltage-b")), "300123 as f32 CDAB");
}

#[test]
fn the_export_of_a_controller_is_read_with_its_lines_bits_and_other_notations() {
    let found = plain(EXPORT);
    for (name, wanted) in [
        ("inlet-t", "400101 as i16 scale 0..27648 to -50..150"),
        ("inlet-f", "400105 as f32 CDAB"),
        ("gate-3-open", "100017 as bool"),
        ("gate-3-cmd", "000033 as bool"),
        ("alarms-high-level", "400110.3 as bool"),
        ("alarms-15", "400110.15 as bool"),
        ("inlet-sp", "400120 as u16"),
    ] {
        assert_eq!(shown(point(&found, name)), wanted);
    }
    assert_eq!(point(&found, "inlet-t").remarks, ["`%MW100` is read as 400101"]);
    assert_eq!(found.points.len(), 6 + 16);
    assert!(remarked(&found, "nothing says the type of lines 2, 3, 8"), "{:?}", found.remarks);
    is_taken(&found, "modbus-rtu");
}

#[test]
fn a_list_with_titles_sections_and_slips_says_what_became_of_each_row() {
    let options = ImportOptions { order: Some(Order::HIGH_FIRST), ..ImportOptions::default() };
    let found = said(CHILLER, options);
    assert_eq!((found.encoding, found.head_line, found.delimiter), (Encoding::Windows1252, 4, ';'));
    for (name, wanted) in [
        ("supply-temperature", "400001 as i16 scale 0.1"),
        ("mode", "400003 as u16 rw"),
        ("status-word-locked", "400004.15 as bool"),
        ("zone-temperature", "300010 as i16 scale 0.1 x8/1"),
        ("energy", "300020 as u32 ABCD"),
        ("energy-2", "300022 as f64 GHEFCDAB"),
        ("firmware", "400030 as text(8)"),
        ("hyperlink-x", "400041 as u16 rw"),
    ] {
        assert_eq!(shown(point(&found, name)), wanted);
    }
    let values: Vec<(&str, u32)> =
        point(&found, "mode").values.iter().map(|(word, number)| (word.as_str(), *number)).collect();
    assert_eq!(values, [("off", 0), ("cooling", 1), ("heating", 2)]);
    assert_eq!(found.notes.iter().map(|row| row.line).collect::<Vec<_>>(), [6]);
    assert!(why(&found, 14).contains("`Register (1-based)` is empty"));
    assert!(why(&found, 15).contains("`Q15` is not a type"));
    assert!(why(&found, 18).contains("outside of the table"));
    assert!(why(&found, 19).contains("quote in it is not closed"));
    let rows = found.points.iter().map(|own| own.line).chain(found.unread.iter().map(|own| own.line));
    let all: std::collections::BTreeSet<u64> = rows.chain([6]).collect();
    assert_eq!(all, (5..=19).collect(), "no row is dropped in silence");
    let text = profile_text(&found, "chi\u{1b}ller.csv");
    assert!(!text.contains('\u{1b}'), "no escape of a terminal stays");
    is_taken(&found, "modbus-rtu");
}

#[test]
fn hexadecimal_addresses_lengths_in_bytes_and_an_order_of_each_row_are_read() {
    let found = plain(GENSET);
    for (name, wanted) in [
        ("voltage-l1-n", "404097 as u32 ABCD scale 0.01"),
        ("voltage-l1-n-2", "404099 as u32 ABCD scale 0.01"),
        ("power", "404101 as i32 CDAB scale 0.1"),
        ("frequency", "404103 as u16 scale 0.01"),
        ("clock", "404106 as bcd32 ABCD rw"),
    ] {
        assert_eq!(shown(point(&found, name)), wanted);
    }
    assert!(why(&found, 6).contains("`f32` takes 2 holding registers, and the list says 3"));
    assert!(point(&found, "power").remarks.iter().any(|own| own.contains("counts bytes")));
    is_taken(&found, "modbus-rtu");
}

#[test]
fn ranges_notes_between_rows_and_heads_that_a_person_explains_are_read() {
    let columns = ColumnChoice::parse("type=Rep.,factor=Res.,unit=Phys. unit,access=Attr.").unwrap();
    let found = said(PUMP, ImportOptions { columns, ..ImportOptions::default() });
    for (name, wanted) in [
        ("wells", "400001 as i16 scale 0.01 x8/1"),
        ("runtime", "400009 as u32 CDAB"),
        ("ctrl", "400011 as u16 rw"),
        ("alarms-dry-run", "400012.0 as bool"),
        ("alarms-2", "400013 as u16"),
        ("speed", "400015 as f32 CDAB"),
        ("label", "400017 as text(12) rw"),
        ("door", "100001 as bool"),
    ] {
        assert_eq!(shown(point(&found, name)), wanted);
    }
    assert_eq!(point(&found, "ctrl").values.len(), 3);
    assert!(point(&found, "door").remarks.iter().any(|own| own.contains("no discrete input can be")));
    for (line, words) in [
        (10, "`see 40001` is not a Modbus address"),
        (14, "bits count 0 to 15"),
        (15, "there is no table 5x"),
    ] {
        assert!(why(&found, line).contains(words), "{line}: {}", why(&found, line));
    }
    is_taken(&found, "modbus-rtu");
}

#[test]
fn what_a_list_does_not_say_is_asked_with_what_each_answer_gives() {
    let bare = b"Address,Name,Type\n16,A,UINT16\n17,B,FLOAT\n";
    let open = plain(bare);
    let [numbers] = open.questions.as_slice() else { panic!("{:?}", open.questions) };
    assert!(numbers.what.starts_with("2 bare numbers (16, 17)"), "{}", numbers.what);
    assert_eq!(
        numbers.readings,
        [
            ("--counts-from 0".to_string(), "16 is 400017 (holding:16)".to_string()),
            ("--counts-from 1".to_string(), "16 is 400016 (holding:15)".to_string()),
        ]
    );
    let next = said(bare, ImportOptions { counts_from: Some(1), ..ImportOptions::default() });
    let [order] = next.questions.as_slice() else { panic!("{:?}", next.questions) };
    assert!(order.what.contains("word order of 1 wider value (line 3)"), "{}", order.what);
    assert_eq!(order.readings.len(), 4);
    let done = ImportOptions {
        counts_from: Some(1),
        order: Some(Order::HIGH_FIRST),
        table: Some("input".into()),
        ..ImportOptions::default()
    };
    let done = said(bare, done);
    assert_eq!(done.questions, []);
    assert_eq!(shown(point(&done, "b")), "300017 as f32 ABCD");
    // Numbers of both kinds: the bare ones are asked, unless the person says that all of them are bare.
    let mixed = b"Address,Name,Type\n16,A,UINT16\n40017,B,UINT16\n";
    let found = plain(mixed);
    assert!(remarked(&found, "two notations are mixed: 1 of 2"), "{:?}", found.remarks);
    assert_eq!((found.questions.len(), shown(point(&found, "b"))), (1, "400017 as u16".into()));
    let found = said(mixed, ImportOptions { counts_from: Some(0), ..ImportOptions::default() });
    assert_eq!(shown(point(&found, "b")), "440018 as u16");
    assert!(remarked(&found, "look like reference numbers"), "{:?}", found.remarks);
}

#[test]
fn a_column_beside_the_address_that_says_it_in_another_way_answers_the_question() {
    let one_higher = b"Register,Hex,Name,Type\n1,0x0000,A,INT16\n2,0x0001,B,INT16\n";
    let found = plain(one_higher);
    assert_eq!((found.questions.len(), shown(point(&found, "a"))), (0, "400001 as i16".into()));
    assert!(
        remarked(&found, "2 of 2 numbers agree with `Hex`: the first, 1, is offset 0"),
        "{:?}",
        found.remarks
    );
    // One that disagrees leaves it open, and says so.
    let slip = b"Register,Hex,Name,Type\n1,0x0000,A,INT16\n2,0x0002,B,INT16\n";
    let found = plain(slip);
    assert_eq!(found.questions.len(), 1);
    assert!(remarked(&found, "do not agree with `Hex`: 1 of 2 are the same number, 1 are one higher"));
    // An offset is decimal, whatever its digits would be in hexadecimal.
    let offsets = b"Register,Offset,Name,Type\n17,16,A,INT16\n33,32,B,INT16\n";
    let found = plain(offsets);
    assert_eq!((found.questions.len(), shown(point(&found, "a"))), (0, "400017 as i16".into()));
    let references = b"Register,Offset,Name,Type\n40001,0,A,INT16\n40003,3,B,INT16\n";
    assert!(remarked(&plain(references), "1 of 2 reference numbers agree with `Offset`"));
}

#[test]
fn lists_of_other_protocols_are_known_by_their_addresses() {
    let blocks = "Symbol\tAddress\tData type\nLevel\tDB10.DBD4\tREAL\nRun\tDB10.DBX8.0\tBOOL\n";
    let found = plain(blocks.as_bytes());
    assert_eq!(found.dialect.family(), dialect("fetch-write").unwrap().family());
    assert_eq!(shown(point(&found, "level")), "%DB10.D4 as f32");
    let tables = plain(b"Address,Description\nN7:0,Hopper\nN7:10-13,Weights\n");
    assert_eq!(shown(point(&tables, "weights")), "N7:10 x4/1");
    let tags = plain(b"name,type,elements,external access\nLine.Mean,REAL,,read-only\nLine.All,DINT,4,read-write\nIn,DINT,,none\n");
    assert_eq!(shown(point(&tags, "line-all")), "Line.All as i32 x4/1 rw");
    assert!(why(&tags, 4).contains("no access"));
    is_taken(&tags, "ethernet-ip");
}

#[test]
fn the_address_table_of_this_tool_is_a_list_too() {
    let own = b"rule,image,address,offset,form,value,eu,access\noxygen-1,scada,400001,holding:0,f32 ABCD,do-1.oxygen,mg/L,read-only\nwords,scada,400003,holding:2,raw,filter,,read-only\nspeed,scada,400004,holding:3,u16 scale 0.1,blower.speed,Hz,read-write\n";
    let found = plain(own);
    assert_eq!(found.unread, []);
    assert_eq!(shown(point(&found, "do-1-oxygen")), "400001 as f32 ABCD");
    assert_eq!(shown(point(&found, "filter")), "400003");
    assert_eq!(shown(point(&found, "blower-speed")), "400004 as u16 scale 0.1 rw");
    is_taken(&found, "modbus-rtu");
}

#[test]
fn what_is_no_list_is_told_and_nothing_is_too_long() {
    let wrong = |bytes: &[u8]| import(bytes, &ImportOptions::default()).err().unwrap_or_default();
    assert!(wrong(b"").contains("header"));
    assert!(wrong(&[0, 1, 2, 255, 254]).contains("header"));
    assert!(wrong(b"Name;Unit\n").is_empty(), "a header alone is an empty list");
    let missing =
        ImportOptions { columns: ColumnChoice::parse("unit=Einheit").unwrap(), ..ImportOptions::default() };
    let told = import(FAN, &missing).err().unwrap();
    assert!(told.contains("no column has the head `Einheit`") && told.contains("Description"), "{told}");
    let long = format!("Address,Name\n400001,{}\n400002,B\n", "x".repeat(3_000_000));
    let found = plain(long.as_bytes());
    assert!(why(&found, 2).contains("a cell has 3000000 bytes"), "{}", why(&found, 2));
    assert!(found.unread[0].source.chars().count() <= 161);
    assert_eq!(found.points.len(), 1);
    let same = b"Address,Name,Type\n400001,Reserved,INT\n400001,Reserved,INT\n";
    assert_eq!(point(&plain(same), "reserved-2").remarks, ["the same address as `reserved` of line 2"]);
}
