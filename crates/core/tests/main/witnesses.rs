//! One value, four papers: the project, the profile, the client's list and the ledger. A change in any one of them is told
//! with the lines of both sides.

use woodrush_core::check::{Checked, check};
use woodrush_core::project::read;

const PROJECT: &str = r#"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "38400 8E1"
protocol = "modbus-rtu"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.do-1]
port = "raceway"
unit = 23
profile = "probe.toml"
[images.scada]
port = "office"
[areas.values]
image = "scada"
range = "300001-300099"
[[map]]
from = "do-1.oxygen"
to = "scada:@values as f32 ABCD"
[[map]]
from = "do-1.temperature"
to = "scada:300101"
[[map]]
from = "do-1.setpoint"
to = "scada:400101 as f32 CDAB"
access = "read-write"
[clients.room]
image = "scada"
list = "room.csv"
"#;

const PROFILE: &str = r#"
[profile]
name = "Probe"
line = "38400 8E1"
unit = 23
[points.oxygen]
at = "300001"
as = "u16 scale 0.01"
eu = "mg/L"
range = [0, 20]
[points.temperature]
at = "300002"
as = "i16 scale 0.01"
eu = "degC"
range = [-5, 40]
example = "0479 = 11.45"
[points.setpoint]
at = "400010"
as = "f32 CDAB"
eu = "mg/L"
range = [0, 20]
access = "read-write"
"#;

const LIST: &str = "\
address,name,type,order,scale,unit,access,interval,source
300001,OXY,REAL,ABCD,1,mg/L,R,1s,do-1.oxygen
300101,TEMP,INT,,0.01,degC,R,1s,do-1.temperature
400101,SET,REAL,CDAB,1,mg/L,RW,1s,do-1.setpoint
";

const LEDGER: &str = r#"
[areas.values]
"do-1.oxygen" = "300001 x2"
[[issue]]
number = 1
date = "2026-11-30"
note = "first handover"
project = "0"
[issue.values]
"scada:300001" = "do-1.oxygen | f32 ABCD | mg/L | R"
"scada:300101" = "do-1.temperature | i16 scale 0.01 | degC | R"
"scada:400101" = "do-1.setpoint | f32 CDAB | mg/L | RW"
"#;

/// The four papers in the order in which they stand above.
type Papers<'p> = [&'p str; 4];

const NAMES: [&str; 4] = ["woodrush.toml", "probe.toml", "room.csv", "woodrush.ledger"];

fn checked(papers: Papers<'_>) -> Checked {
    let mut load = |path: &str| {
        let at = NAMES.iter().position(|name| *name == path);
        at.map(|at| papers[at].to_string()).ok_or_else(String::new)
    };
    check(read(NAMES[0], papers[0].to_string(), &mut load))
}

/// What is found: the code, and the files whose lines are shown.
fn told(papers: Papers<'_>) -> Vec<(String, Vec<String>)> {
    let checked = checked(papers);
    let file = |span| checked.project.sources.position(span).file.to_string();
    let of = |own: &woodrush_core::check::Finding| {
        let notes = own.notes.iter().map(|(span, _)| file(*span));
        (own.rule.code.to_string(), std::iter::once(file(own.span)).chain(notes).collect())
    };
    checked.findings.iter().map(of).collect()
}

#[test]
fn papers_that_agree_raise_nothing() {
    assert_eq!(told([PROJECT, PROFILE, LIST, LEDGER]), []);
}

#[test]
fn a_change_in_any_one_paper_is_told_with_the_lines_of_both_sides() {
    // Which paper, what stands there, what it becomes; the code, and whose lines are shown.
    let cases: [(usize, &str, &str, &str, [usize; 2]); 18] = [
        // The project: address, type, order, scale, source, access.
        (0, "scada:300101\"", "scada:300103\"", "M59", [0, 3]),
        (0, "scada:300101\"", "scada:300103\"", "M04", [2, 2]),
        (0, "scada:300101\"", "scada:300101 as f32 ABCD\"", "M60", [0, 3]),
        (0, "as f32 CDAB\"\naccess", "as f32 ABCD\"\naccess", "M51", [2, 0]),
        (0, "as f32 CDAB\"\naccess", "as f32 ABCD\"\naccess", "M60", [0, 3]),
        (0, "scada:300101\"", "scada:300101 as i16 scale 0.1\"", "M62", [2, 0]),
        (0, "from = \"do-1.temperature\"", "from = \"do-1:300002 as i16 scale 0.01\"", "M60", [0, 3]),
        (0, "access = \"read-write\"", "access = \"read\"", "M47", [2, 0]),
        (0, "access = \"read-write\"", "access = \"read\"", "M60", [0, 3]),
        // The profile: order, scale, address.
        (1, "as = \"i16 scale 0.01\"", "as = \"i16 scale 0.1\"", "M36", [1, 1]),
        (1, "as = \"i16 scale 0.01\"", "as = \"i16 scale 0.1\"", "M62", [2, 0]),
        (1, "eu = \"degC\"", "eu = \"K\"", "M60", [0, 3]),
        // The list: address, type, order, scale, source, access.
        (2, "300101,TEMP", "300102,TEMP", "M54", [2, 0]),
        (2, "OXY,REAL,ABCD", "OXY,REAL,CDAB", "M51", [2, 0]),
        (2, "INT,,0.01,", "INT,,0.1,", "M62", [2, 0]),
        (2, "1s,do-1.temperature", "1s,do-1.oxygen", "M63", [2, 0]),
        (2, "0.01,degC,R,", "0.01,degC,RW,", "M47", [2, 0]),
        // The ledger.
        (3, "\"300001 x2\"", "\"300003 x2\"", "M59", [0, 3]),
    ];
    for (paper, from, to, code, lines) in cases {
        let papers = [PROJECT, PROFILE, LIST, LEDGER];
        assert!(papers[paper].contains(from), "{from}");
        let changed = papers[paper].replacen(from, to, 1);
        let mut papers = papers;
        papers[paper] = &changed;
        let found = told(papers);
        let shown = lines.map(|at| NAMES[at].to_string());
        let is_told =
            found.iter().any(|(own, files)| own == code && shown.iter().all(|file| files.contains(file)));
        assert!(is_told, "{}: {from} -> {to}: wanted {code} with {shown:?}: {found:#?}", NAMES[paper]);
    }
}

#[test]
fn what_is_gone_is_told_where_it_was_handed_over() {
    let begin = PROJECT.find("[[map]]\nfrom = \"do-1.temperature\"").unwrap();
    let end = begin + PROJECT[begin + 1..].find("[[map]]").unwrap() + 1;
    let less = [&PROJECT[..begin], &PROJECT[end..]].concat();
    let found = told([&less, PROFILE, LIST, LEDGER]);
    assert!(found.iter().any(|(code, files)| code == "M61" && files == &["woodrush.ledger"]), "{found:#?}");
    assert!(found.iter().any(|(code, files)| code == "M04" && files == &["room.csv"]), "{found:#?}");
    // What a faulty rule would show is not gone.
    let faulty = PROJECT.replace("from = \"do-1.temperature\"", "from = \"do-1.temprature\"");
    let found = told([&faulty, PROFILE, LIST, LEDGER]);
    assert!(found.iter().all(|(code, _)| code != "M61"), "{found:#?}");
}
