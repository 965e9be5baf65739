//! What an imported list gave, for programs and spreadsheets.

use super::tried::Tried;
use crate::console::Table;
use serde::Serialize;
use woodrush_core::import::{Import, ImportedPoint, ListedRow};

#[derive(Serialize)]
struct PointRow<'i> {
    line: u64,
    name: &'i str,
    address: &'i str,
    offset: &'i str,
    form: Option<String>,
    eu: Option<&'i str>,
    low: Option<f64>,
    high: Option<f64>,
    access: &'static str,
    repeat: u32,
    stride: u32,
    values: serde_json::Map<String, serde_json::Value>,
    note: Option<&'i str>,
    source: &'i str,
    remarks: &'i [String],
    #[serde(flatten)]
    tried: Option<&'i Tried>,
}

#[derive(Serialize)]
struct UnreadRow<'i> {
    line: u64,
    source: &'i str,
    why: &'i str,
}

impl<'i> PointRow<'i> {
    fn of(point: &'i ImportedPoint, tried: Option<&'i Tried>) -> Self {
        let (repeat, stride) = point.repeat.unwrap_or((1, 0));
        let values = point.values.iter().map(|(word, number)| (word.clone(), (*number).into()));
        Self {
            line: point.line,
            name: &point.name,
            address: &point.at,
            offset: &point.offset,
            form: point.form.map(|form| form.to_string()),
            eu: point.eu.as_deref(),
            low: point.range.map(|(low, _)| low.as_f64()),
            high: point.range.map(|(_, high)| high.as_f64()),
            access: if point.read_write { "read-write" } else { "read" },
            repeat,
            stride,
            values: values.collect(),
            note: point.note.as_deref(),
            source: &point.source,
            remarks: &point.remarks,
            tried,
        }
    }
}

pub(super) fn json(file: &str, found: &Import, tried: Option<&[Tried]>, written: bool) -> serde_json::Value {
    let points = found.points.iter().enumerate();
    let points: Vec<PointRow<'_>> =
        points.map(|(at, point)| PointRow::of(point, tried.and_then(|tried| tried.get(at)))).collect();
    let rows = |rows: &[ListedRow]| -> Vec<serde_json::Value> {
        let row = |row: &ListedRow| {
            serde_json::json!(UnreadRow { line: row.line, source: &row.source, why: &row.why })
        };
        rows.iter().map(row).collect()
    };
    let columns: Vec<_> = found
        .columns
        .iter()
        .map(|(column, head)| serde_json::json!({ "column": column.word(), "head": head }))
        .collect();
    let questions: Vec<_> = found
        .questions
        .iter()
        .map(|own| {
            let readings = own.readings.iter();
            let readings: Vec<_> = readings
                .map(|(option, gives)| serde_json::json!({ "option": option, "gives": gives }))
                .collect();
            serde_json::json!({ "what": own.what, "readings": readings })
        })
        .collect();
    serde_json::json!({
        "format": 1,
        "file": file,
        "notation": found.dialect.family(),
        "encoding": found.encoding.word(),
        "delimiter": found.delimiter.to_string(),
        "head_line": found.head_line,
        "columns": columns,
        "unused": found.unused,
        "points": points,
        "not_understood": rows(&found.unread),
        "notes": rows(&found.notes),
        "remarks": found.remarks,
        "questions": questions,
        "written": written,
    })
}

pub(super) fn csv(found: &Import, tried: Option<&[Tried]>) -> Table {
    let head = vec![
        "line", "name", "address", "offset", "form", "eu", "low", "high", "access", "repeat", "stride",
        "values", "note", "remarks", "tried",
    ];
    let row = |(at, point): (usize, &ImportedPoint)| {
        let row = PointRow::of(point, None);
        let number = |own: Option<f64>| own.map(|own| own.to_string()).unwrap_or_default();
        let values: Vec<String> =
            point.values.iter().map(|(word, number)| format!("{number}={word}")).collect();
        vec![
            row.line.to_string(),
            row.name.into(),
            row.address.into(),
            row.offset.into(),
            row.form.unwrap_or_default(),
            row.eu.unwrap_or_default().into(),
            number(row.low),
            number(row.high),
            row.access.into(),
            row.repeat.to_string(),
            row.stride.to_string(),
            values.join(" "),
            row.note.unwrap_or_default().into(),
            row.remarks.join("; "),
            tried.and_then(|tried| tried.get(at)).map(Tried::shown).unwrap_or_default(),
        ]
    };
    Table { head, rows: found.points.iter().enumerate().map(row).collect(), whole: &[] }
}
