//! An acceptance sheet: as a table, as JSON, and as a page with room for a signature.

use super::{LiveProof, LiveValue};
use crate::Failure;
use crate::console::Table;
use std::path::Path;

/// What a sheet's name asks for.
#[derive(Debug, Clone, Copy)]
pub(crate) enum SheetKind {
    Html,
    Json,
}

pub(crate) fn kind_of(path: &Path) -> Result<SheetKind, Failure> {
    match path.extension().and_then(|end| end.to_str()) {
        Some("html") => Ok(SheetKind::Html),
        Some("json") => Ok(SheetKind::Json),
        _ => Err(Failure::Usage(format!(
            "{}: an acceptance sheet's name ends in .html or .json",
            path.display()
        ))),
    }
}

pub(crate) fn write(path: &Path, proof: &LiveProof) -> Result<(), Failure> {
    let text = match kind_of(path)? {
        SheetKind::Html => html(proof)?,
        SheetKind::Json => {
            serde_json::to_string_pretty(proof).map_err(|error| Failure::Outside(error.to_string()))?
        }
    };
    crate::kept::put(path, text.as_bytes())
}

fn html(proof: &LiveProof) -> Result<String, Failure> {
    let mut environment = crate::render::environment();
    let failed = |error: minijinja::Error| Failure::Outside(format!("the sheet cannot be made: {error}"));
    environment.add_template("sheet.html", include_str!("sheet.html")).map_err(failed)?;
    let still = proof.values.iter().filter(|value| value.good && !value.moved).count();
    let page = environment.get_template("sheet.html").map_err(failed)?;
    page.render(minijinja::context! {
        proof => minijinja::value::Serde(proof),
        agree => proof.agree(),
        verdict => proof.verdict(),
        still => still,
        holds => proof.holds(),
        version => env!("CARGO_PKG_VERSION"),
    })
    .map_err(failed)
}

fn with_eu(value: &Option<String>, eu: &Option<String>) -> String {
    match value {
        Some(value) => [Some(value.clone()), eu.clone()].into_iter().flatten().collect::<Vec<_>>().join(" "),
        None => "-".into(),
    }
}

/// What the device said, before and after where that differs: what a reader saw lies between.
fn spanned(value: &LiveValue) -> Option<String> {
    match (&value.device_before, &value.device) {
        (Some(before), Some(after)) if before != after => Some(format!("{before} to {after}")),
        (_, after) => after.clone(),
    }
}

/// What fits a terminal.
pub(crate) fn table(proof: &LiveProof) -> Table {
    let row = |value: &LiveValue| {
        vec![
            value.from.clone(),
            value.to.clone(),
            with_eu(&spanned(value), &value.eu),
            with_eu(&value.image, &value.eu),
            value.age_s.map_or_else(String::new, |age| format!("{age:.1} s")),
            if value.moved { "yes".into() } else { "no".into() },
            if value.good { value.verdict.into() } else { value.verdict.to_uppercase().replace('_', " ") },
        ]
    };
    Table {
        head: vec!["device", "image", "device says", "reader sees", "age", "moved", "verdict"],
        rows: proof.values.iter().map(row).collect(),
        whole: &[0, 1],
    }
}

/// Everything, for CSV.
pub(crate) fn full_table(proof: &LiveProof) -> Table {
    let text = |text: &Option<String>| text.clone().unwrap_or_default();
    let row = |value: &LiveValue| {
        vec![
            value.rule.clone(),
            value.from.clone(),
            value.device_address.clone(),
            value.to.clone(),
            value.image_address.clone(),
            text(&value.device_before),
            text(&value.device),
            value.device_raw.clone(),
            text(&value.image),
            value.image_raw.clone(),
            text(&value.eu),
            value.age_s.map(|age| age.to_string()).unwrap_or_default(),
            value.at.clone(),
            value.samples.to_string(),
            value.moved.to_string(),
            value.verdict.to_string(),
            value.good.to_string(),
            text(&value.why),
            text(&value.written),
        ]
    };
    let head = vec![
        "rule",
        "from",
        "device_address",
        "to",
        "image_address",
        "device_before",
        "device",
        "device_raw",
        "image",
        "image_raw",
        "eu",
        "age_s",
        "at",
        "samples",
        "moved",
        "verdict",
        "good",
        "why",
        "written",
    ];
    Table { head, rows: proof.values.iter().map(row).collect(), whole: &[] }
}
