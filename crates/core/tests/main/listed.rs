//! The list that a client's programmer has typed in, held row by row against what the rules show.

use crate::checks::checked;
use woodrush_core::check::Checked;
use woodrush_core::handover::handover_list;

const SITE: &str = r#"
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
[[map]]
name = "oxygen-1"
from = "do-1.oxygen"
to = "scada:300001 as f32 ABCD"
note = "Oxygen, raceway 1"
[[map]]
from = "do-1.temperature"
to = "scada:300003"
[[map]]
from = "do-1.setpoint"
to = "scada:400101 as f32 CDAB"
access = "read-write"
[[map]]
from = "do-1:400201 as u16"
to = "scada:400201"
count = 4
[clients.room]
image = "scada"
list = "room.csv"
NOTATION
#### profile probe.toml
[profile]
name = "Probe"
line = "38400 8E1"
unit = 23
[points.oxygen]
at = "300001"
as = "u16 scale 0.01"
range = [0, 20]
[points.temperature]
at = "300002"
as = "i16 scale 0.01"
range = [-5, 40]
[points.setpoint]
at = "400010"
as = "f32 CDAB"
access = "read-write"
range = [0, 20]
"#;

const HEAD: &str = "Address,Tag,Type,Order,Scale,Access,Poll,Source\n";
const ROWS: [&str; 5] = [
    "300001,OXY1,REAL,ABCD,1,R,1s,do-1.oxygen",
    "300003,TEMP1,INT,,0.01,R,1 s,do-1.temperature",
    "400101,SET1,REAL,word swapped,1,RW,1,do-1.setpoint",
    "400201,A,UINT[3],,1,R,2s,",
    "400204,D,UINT,,1,R,2s,do-1:400204",
];

fn with(list: &str, notation: &str) -> Checked {
    checked(&format!("{}#### profile room.csv\n{list}", SITE.replace("NOTATION", notation)))
}

fn told(list: &str, notation: &str) -> Vec<String> {
    let checked = with(list, notation);
    let sources = &checked.project.sources;
    checked
        .findings
        .iter()
        .map(|own| {
            format!(
                "{} {}: {} | {}",
                own.rule.code,
                sources.position(own.span).line,
                own.what,
                sources.text(own.span)
            )
        })
        .collect()
}

fn list(rows: &[&str]) -> String {
    format!("{HEAD}{}\n", rows.join("\n"))
}

#[test]
fn a_list_that_agrees_with_the_rules_raises_nothing() {
    assert_eq!(told(&list(&ROWS), ""), Vec::<String>::new());
    let checked = with(&list(&ROWS), "");
    let client = &checked.project.clients[0];
    assert_eq!((client.reads.len(), client.writes.len()), (5, 1));
    assert_eq!(client.list.as_ref().map(|list| list.rows), Some(5));
    assert_eq!(client.reads[2].every, Some(1_000_000));
}

/// One change in one row: the code, the line of the list, and words that it is told with.
#[test]
fn each_way_in_which_a_row_can_be_wrong_is_told_with_its_line() {
    for (row, wrong, code, words) in [
        (0, "300011,OXY1,REAL,ABCD,1,R,1s,", "M04", "which no rule feeds | 300011,OXY1"),
        (0, "300001,OXY1,REAL,CDAB,1,R,1s,", "M51", "reads scada:300001 (input:0) as `f32 CDAB`"),
        (0, "300001,OXY1,DINT,ABCD,1,R,1s,", "M51", "as `i32 ABCD`, and the rule shows `f32 ABCD` | DINT"),
        (1, "300003,TEMP1,INT,,0.1,R,1s,", "M62", "by `i16 scale 0.1`, and the rule shows `i16 scale 0.01`"),
        (1, "300003,TEMP1,INT,,,R,1s,", "M62", "by 1, and the rule shows"),
        (
            1,
            "300003,TEMP1,INT,,0.01,R,1s,do-1.oxygen",
            "M63",
            "takes scada:300003 (input:2) for `do-1.oxygen`, and the rule shows `do-1.temperature` there | do-1.oxygen",
        ),
        (
            1,
            "\"300003\",TEMP1,INT,,0.01,R,1s,\"oxygen, RACEWAY 1\"",
            "M63",
            "and the rule shows `do-1.temperature`",
        ),
        (1, "300003,TEMP1,INT,,0.01,RW,1s,", "M47", "300003"),
        (2, "400102,SET1,REAL,CDAB,1,R,1s,", "M54", "one beside the rule at scada:400101"),
        (4, "400203,D,UINT,,1,R,2s,", "M64", "reads scada:400203 (holding:202) in two of its entries"),
        (4, "400204,D,UINT,,1,R,2s,do-1:400203", "M63", "takes scada:400204"),
        (4, "40204,D,UINT,,1,R,2s,", "M01", "has 5 digits, and this list writes 6 | 40204"),
        (1, "300003,TEMP1,INT,,see note,R,1s,", "F03", "`see note` is not a number | see note"),
        (4, "400204,D,Q15,,1,R,2s,", "F08", "`Q15` is not a type that is known | Q15"),
    ] {
        let mut rows = ROWS;
        rows[row] = wrong;
        let found = told(&list(&rows), "");
        let line = format!("{code} {}: ", row + 2);
        assert!(
            found.iter().any(|own| own.starts_with(&line) && own.contains(words)),
            "{wrong}: wanted {line}… {words}: {found:#?}"
        );
    }
}

#[test]
fn where_another_value_is_the_fix_says_where_the_meant_one_is() {
    let mut rows = ROWS;
    rows[1] = "300003,TEMP1,INT,,0.01,R,1s,do-1.oxygen";
    let checked = with(&list(&rows), "");
    let finding = checked.findings.iter().find(|own| own.rule.code == "M63").unwrap();
    assert!(finding.fix.contains("`do-1.oxygen` is at scada:300001"), "{}", finding.fix);
    // Words that nothing is called by say nothing.
    rows[1] = "300003,TEMP1,INT,,0.01,R,1s,tank by the door";
    assert_eq!(told(&list(&rows), ""), Vec::<String>::new());
}

#[test]
fn lists_are_read_in_their_own_notation_and_under_their_own_heads() {
    let five = list(&ROWS).replace("300001", "30001").replace("300003", "30003").replace("\n400", "\n40");
    assert_eq!(told(&five, "notation = \"five-digit\""), Vec::<String>::new());
    assert!(told(&five, "")[0].starts_with("M01"), "{:?}", told(&five, ""));
    let offsets =
        "Reg;Table;Sig;Fmt;Rate\n0;input;OXY1;REAL;1s\n2;3x;TEMP1;INT;1s\n100;holding;SET1;FLOAT32;1s\n";
    let named = "notation = \"offset\"\ncolumns = { address = \"Reg\", name = \"Sig\", type = \"Fmt\", interval = \"Rate\" }";
    let found = with(offsets, named);
    let at: Vec<&str> = found.project.clients[0].reads.iter().map(|own| own.address.value.as_str()).collect();
    assert_eq!(at, ["input:0", "input:2", "holding:100"]);
    assert!(
        found.findings.iter().all(|own| !matches!(own.rule.code, "M04" | "M51" | "M01")),
        "{:?}",
        found.findings
    );
    let hex = offsets.replace("\n100", "\n0x64").replace("\n2;", "\n0002;");
    let found = with(&hex, &named.replace("offset", "hex"));
    assert_eq!(found.project.clients[0].reads[2].address.value, "holding:100");
    for (text, more, words) in [
        ("no table at all\n", "", "is not a list"),
        ("Tag,Type\nA,INT\n", "", "is not a list"),
        (offsets, "columns = { type = \"Nowhere\" }", "no column with the head `Nowhere`"),
        (offsets, "columns = { adress = \"Reg\" }", "adress"),
    ] {
        let found = told(text, more);
        assert!(found.iter().any(|own| own.contains(words)), "{words}: {found:?}");
    }
    let missing = checked(&SITE.replace("NOTATION", ""));
    assert!(missing.findings.iter().any(|own| own.rule.code == "F07" && own.what.contains("room.csv")));
}

/// Coils that show the bits of a register are handed over one by one, and given back they agree.
#[test]
fn a_register_that_stands_as_bits_is_handed_over_bit_by_bit() {
    let site = SITE.replace("NOTATION", "") + "[points.bits]\nat = \"400300\"\n";
    let site = site
        .replace("[clients.room]", "[[map]]\nfrom = \"do-1:400300\"\nto = \"scada:000001\"\n[clients.room]");
    let own = checked(&format!("{site}#### profile room.csv\n{}", list(&ROWS)));
    let handed = handover_list(&own, &own.project.clients[0]).unwrap();
    let coils: Vec<&Vec<String>> = handed.rows.iter().filter(|row| row[0].starts_with("00")).collect();
    assert_eq!(coils.len(), 16, "{:?}", handed.rows);
    assert_eq!(
        (coils[3][0].as_str(), coils[3][2].as_str(), coils[3][7].as_str()),
        ("000004", "BOOL", "do-1:400300.3")
    );
    let rows: Vec<String> = handed.rows.iter().map(|row| row.join(",")).collect();
    let back = format!("{}\n{}\n", handed.head.join(","), rows.join("\n"));
    let again = checked(&format!("{site}#### profile room.csv\n{back}"));
    let told: Vec<&str> = again.findings.iter().map(|own| own.what.as_str()).collect();
    assert!(
        again.findings.iter().all(|own| !matches!(own.rule.code, "M04" | "M51" | "M62" | "M63" | "M54")),
        "{told:#?}"
    );
}

#[test]
fn bits_of_one_register_are_asked_for_one_by_one() {
    let rows = ["400201.0,A,BOOL,,,R,1s,", "400201.1,B,BOOL,,,R,1s,", "400201.1,C,BOOL,,,R,1s,"];
    let found = told(&list(&rows), "");
    let twice: Vec<&String> = found.iter().filter(|own| own.starts_with("M64")).collect();
    assert_eq!(twice.len(), 1, "{found:#?}");
    assert!(twice[0].starts_with("M64 4: "), "{twice:?}");
}

#[test]
fn what_is_written_inline_says_what_it_means_too() {
    let inline = |is: &str| {
        let site = SITE.replace(
            "list = \"room.csv\"\nNOTATION",
            &format!("reads = [\"300001 as f32 ABCD is {is} every 1s\"]"),
        );
        checked(&site).findings.iter().map(|own| own.rule.code).collect::<Vec<_>>()
    };
    assert!(!inline("do-1.oxygen").contains(&"M63"));
    assert!(inline("do-1.temperature").contains(&"M63"));
    assert!(inline("do-1:300002").contains(&"M63"), "by its address");
}
