//! Reading a ledger: sorted lines, or what a merge has left of them.

use super::{EndSettings, GivenAddress, GivenAddresses, Issue, IssuedValue, Ledger};
use crate::finding::Finding;
use crate::source::Span;
use std::collections::BTreeMap;
use std::ops::Range;
use toml::de::{DeTable, DeValue};

fn span_in(file: u16, range: Range<usize>) -> Span {
    let at = |offset: usize| u32::try_from(offset).unwrap_or(u32::MAX);
    Span { file, start: at(range.start), end: at(range.end) }
}

/// What a merge of two versions has left undecided: both sides are shown, and neither is taken.
fn conflict(text: &str, file: u16) -> Option<Finding> {
    let mut at = 0;
    let mut marks: Vec<Range<usize>> = vec![];
    for line in text.split_inclusive('\n') {
        let begins = ["<<<<<<<", "|||||||", "=======", ">>>>>>>"].iter().any(|mark| line.starts_with(mark));
        if begins && (marks.len() < 3 || !line.starts_with('<')) {
            marks.push(at..at + line.trim_end().len());
        }
        at += line.len();
    }
    let first = marks.first()?.clone();
    let what = "a merge conflict is not settled: both sides have given out addresses".to_string();
    let mut finding = Finding::new("F13", span_in(file, first.clone()), what)
        .fix("keep the lines of both sides where their addresses differ; where they are the same, keep the line that was handed over first, delete the other, and run `woodrush map --assign`");
    let sides: Vec<Range<usize>> = marks
        .windows(2)
        .filter_map(|pair| {
            let (from, to) = (pair.first()?.end + 1, pair.get(1)?.start);
            let inner = text.get(from..to)?.trim_end();
            (!inner.is_empty()).then(|| from..from + inner.len())
        })
        .collect();
    let words = ["one side", "the other side"];
    let (one, other) = (sides.first().cloned(), sides.get(1).and_then(|_| sides.last().cloned()));
    for (side, word) in [one, other].into_iter().zip(words) {
        if let Some(side) = side {
            finding = finding.note(span_in(file, side), word);
        }
    }
    Some(finding)
}

/// `300001 x2`: an address and how many it takes.
fn given(text: &str) -> Option<(String, u32)> {
    let (at, takes) = match text.rsplit_once(" x") {
        Some((at, takes)) => (at, takes.parse().ok().filter(|takes| *takes > 0)?),
        None => (text, 1),
    };
    (!at.is_empty() && !at.contains(' ')).then(|| (at.to_string(), takes))
}

impl Ledger {
    /// Reads a ledger; `file` is its number among the sources.
    ///
    /// # Errors
    /// All that is wrong with it: nothing of it is taken then.
    pub fn read(text: &str, file: u16) -> Result<Self, Vec<Finding>> {
        if let Some(finding) = conflict(text, file) {
            return Err(vec![finding]);
        }
        let span = |range: Range<usize>| span_in(file, range);
        let fix = "write it as `woodrush map --assign` does, or take the last sound version of the file";
        let document = DeTable::parse(text).map_err(|error| {
            let at = span(error.span().unwrap_or_default());
            vec![Finding::new("F13", at, error.message().to_string()).fix(fix)]
        })?;
        let mut ledger = Self::default();
        let mut findings = vec![];
        let mut wrong = |range: Range<usize>, what: String| {
            findings.push(Finding::new("F13", span(range), what).fix(fix));
        };
        for (kind, tables) in document.get_ref() {
            let areas = match kind.get_ref().as_ref() {
                "areas" => &mut ledger.areas,
                "retired" => &mut ledger.retired,
                "issue" => {
                    match tables.get_ref() {
                        DeValue::Array(all) => {
                            let read = all
                                .iter()
                                .map(|own| read_issue(own.get_ref(), kind.span(), &span, &mut wrong));
                            ledger.issues = read.collect();
                        }
                        _ => wrong(kind.span(), "`issue` is not a list of issues".into()),
                    }
                    continue;
                }
                _ => {
                    wrong(
                        kind.span(),
                        format!("`{}` is not a part of a ledger (areas, retired, issue)", kind.get_ref()),
                    );
                    continue;
                }
            };
            let DeValue::Table(tables) = tables.get_ref() else {
                wrong(kind.span(), format!("`{}` is not a table of areas", kind.get_ref()));
                continue;
            };
            read_areas(tables, areas, &span, &mut wrong);
        }
        if findings.is_empty() { Ok(ledger) } else { Err(findings) }
    }
}

fn read_issue(
    own: &DeValue<'_>,
    at: Range<usize>,
    span: &dyn Fn(Range<usize>) -> Span,
    wrong: &mut dyn FnMut(Range<usize>, String),
) -> Issue {
    let mut issue = Issue::default();
    let DeValue::Table(own) = own else {
        wrong(at, "an issue is not a table".into());
        return issue;
    };
    let text = |key: &str| match own.get(key).map(|found| found.get_ref()) {
        Some(DeValue::String(text)) => text.to_string(),
        _ => String::new(),
    };
    (issue.date, issue.note, issue.project) = (text("date"), text("note"), text("project"));
    let number = match own.get("number").map(|found| found.get_ref()) {
        Some(DeValue::Integer(number)) => number.as_str().parse().ok().filter(|number| *number > 0),
        _ => None,
    };
    match number {
        Some(number) => issue.number = number,
        None => wrong(at, "`number` of an issue is not a number from 1 on".into()),
    }
    for (kind, ends) in [("images", &mut issue.images), ("devices", &mut issue.devices)] {
        let Some(DeValue::Table(all)) = own.get(kind).map(|found| found.get_ref()) else { continue };
        for (name, settings) in all {
            let read = match settings.get_ref() {
                DeValue::String(text) => EndSettings::read(text, span(settings.span())),
                _ => None,
            };
            match read {
                Some(read) => {
                    ends.insert(name.get_ref().to_string(), read);
                }
                None => {
                    let what = format!("`{}` has no settings, such as \"port 502 | unit 1\"", name.get_ref());
                    wrong(settings.span(), what);
                }
            }
        }
    }
    if let Some(DeValue::Table(values)) = own.get("values").map(|found| found.get_ref()) {
        for (address, value) in values {
            let read = match value.get_ref() {
                DeValue::String(text) => IssuedValue::read(text, span(value.span())),
                _ => None,
            };
            match read {
                Some(read) => {
                    issue.values.insert(address.get_ref().to_string(), read);
                }
                None => wrong(
                    value.span(),
                    format!(
                        "`{}` is not what was handed over: SOURCE | FORM | UNIT | ACCESS",
                        address.get_ref()
                    ),
                ),
            }
        }
    }
    issue
}

fn read_areas(
    tables: &DeTable<'_>,
    areas: &mut BTreeMap<String, GivenAddresses>,
    span: &dyn Fn(Range<usize>) -> Span,
    wrong: &mut dyn FnMut(Range<usize>, String),
) {
    for (area, values) in tables {
        let DeValue::Table(values) = values.get_ref() else {
            wrong(area.span(), format!("`{}` is not a table of addresses", area.get_ref()));
            continue;
        };
        let own = areas.entry(area.get_ref().to_string()).or_default();
        for (value, at) in values {
            let DeValue::String(text) = at.get_ref() else {
                wrong(value.span(), format!("`{}` has no address, such as \"300001 x2\"", value.get_ref()));
                continue;
            };
            match given(text) {
                Some((address, takes)) => {
                    let given = GivenAddress { at: address, takes, span: span(at.span()) };
                    own.insert(value.get_ref().to_string(), given);
                }
                None => wrong(at.span(), format!("`{text}` is not an address, such as `300001 x2`")),
            }
        }
    }
}
