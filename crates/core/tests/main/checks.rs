//! One project a check, in `testdata/checks`: the first line says what it raises.

use std::collections::BTreeSet;
use std::path::Path;
use woodrush_core::check::{Checked, RULES, check};
use woodrush_core::project::read;

/// Codes that no file alone can raise: a part hidden by another fault, what only a running converter and a proof show.
const NOT_FROM_A_FILE: [&str; 5] = ["F00", "M38", "M40", "M42", "M49"];

pub(crate) fn checked(text: &str) -> Checked {
    let (project, profiles) = text.split_once("#### profile ").unwrap_or((text, ""));
    let mut load = |path: &str| {
        let profile =
            profiles.split("#### profile ").find_map(|part| part.strip_prefix(path)?.strip_prefix('\n'));
        profile.map(str::to_string).ok_or_else(|| "no such file".to_string())
    };
    check(read("woodrush.toml", project.to_string(), &mut load))
}

fn cases() -> Vec<(String, String)> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("testdata/checks");
    let mut found: Vec<(String, String)> = std::fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .map(|path| {
            (
                path.file_stem().unwrap().to_string_lossy().into_owned(),
                std::fs::read_to_string(&path).unwrap(),
            )
        })
        .collect();
    found.sort();
    found
}

#[test]
fn every_check_has_a_project_that_raises_it_and_nothing_but_what_follows() {
    let mut wrong = vec![];
    for (name, text) in cases() {
        let wanted = text.lines().next().unwrap().trim_start_matches("# raises: ");
        let wanted: BTreeSet<&str> = wanted.split_whitespace().filter(|word| *word != "nothing").collect();
        let checked = checked(&text);
        let raised: BTreeSet<&str> = checked.findings.iter().map(|finding| finding.rule.code).collect();
        let told: Vec<&str> = checked.findings.iter().map(|finding| finding.what.as_str()).collect();
        if raised != wanted {
            wrong.push(format!("{name}: {raised:?} and not {wanted:?}: {told:#?}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    let files: BTreeSet<String> = cases().into_iter().map(|(name, _)| name).collect();
    for rule in RULES.iter().filter(|rule| !NOT_FROM_A_FILE.contains(&rule.code)) {
        assert!(files.contains(rule.code), "no project raises {}", rule.code);
    }
}

/// What is said, where, and what to do: read by people, so held word for word.
#[test]
fn findings_read_as_they_should() {
    let mut told = String::new();
    for (name, text) in cases() {
        let checked = checked(&text);
        for finding in &checked.findings {
            let sources = &checked.project.sources;
            let at = sources.position(finding.span);
            let word = finding.severity.word();
            told += &format!(
                "{name}: {} {word} at {}:{}: `{}`\n",
                finding.rule.code,
                at.line,
                at.column,
                sources.text(finding.span)
            );
            told += &format!("  {}\n  fix: {}\n", finding.what, finding.fix);
            for (span, note) in &finding.notes {
                told += &format!("  {note}: line {}\n", sources.position(*span).line);
            }
        }
    }
    let golden = Path::new(env!("CARGO_MANIFEST_DIR")).join("testdata/findings.txt");
    if std::env::var_os("WOODRUSH_BLESS").is_some() {
        std::fs::write(&golden, &told).unwrap();
    }
    let held = std::fs::read_to_string(&golden).unwrap();
    for (at, (told, held)) in told.lines().zip(held.lines()).enumerate() {
        assert_eq!(told, held, "line {}: WOODRUSH_BLESS=1 takes the new texts; then read them", at + 1);
    }
    assert_eq!(told.lines().count(), held.lines().count(), "findings came or went");
}

#[test]
fn a_file_with_many_faults_tells_all_of_them_in_file_order() {
    let text = "[ports.a]\nserial = 3\nline = \"384 8E1\"\nprotocol = \"modbus-rut\"\n[devices.d]\nport = \"b\"\nunit = 300\npoll = \"x\"\n[[map]]\nfrom = \"e.f\"\nto = \"\"\nextra = 1\n";
    let checked = checked(text);
    let lines: Vec<usize> =
        checked.findings.iter().map(|f| checked.project.sources.position(f.span).line).collect();
    assert!(lines.is_sorted(), "{lines:?}");
    let codes: BTreeSet<&str> = checked.findings.iter().map(|finding| finding.rule.code).collect();
    for code in ["F02", "F03", "F05", "M20", "M25"] {
        assert!(codes.contains(code), "{code} missing in {codes:?}");
    }
}

#[test]
fn no_damage_to_a_sound_project_makes_reading_panic() {
    let text = cases().into_iter().find(|(name, _)| name == "M50").unwrap().1;
    for at in (0..text.len()).filter(|at| text.is_char_boundary(*at)) {
        for junk in ["", "\"", "[", "=", "\n", "é", "9"] {
            let next = text[at..].chars().next().map_or(at, |c| at + c.len_utf8());
            let damaged = format!("{}{junk}{}", &text[..at], &text[next..]);
            let _ = checked(&damaged);
        }
    }
}
