//! Proofs and acceptances that were made before, read from their JSON reports.

use crate::Failure;
use crate::console::counted;
use crate::render::handover::ResultOnPage;
use serde_json::Value;
use std::path::Path;

/// Wrong values that the page names; of more, it says how many.
const MOST: usize = 200;

/// Reads a report of `prove` or of `prove --live`.
pub(super) fn read(path: &Path, project_id: &str) -> Result<ResultOnPage, Failure> {
    let shown = path.display();
    let text = woodrush_engine::read_plain(path)
        .map_err(|why| Failure::Usage(format!("the report cannot be read: {why}")))?;
    let whole: Value = serde_json::from_str(&text).map_err(|error| {
        Failure::Usage(format!(
            "{shown} is not JSON: {error} (`woodrush prove --report FILE.json` writes it)"
        ))
    })?;
    let found = match (whole["rules"].as_array(), whole["values"].as_array()) {
        (Some(rules), _) => proof(&whole, rules, project_id),
        (_, Some(values)) => acceptance(&whole, values),
        _ => None,
    };
    found.ok_or_else(|| {
        Failure::Usage(format!(
            "{shown} is neither a proof nor an acceptance (`woodrush prove --report FILE.json`, with `--live` for real devices)"
        ))
    })
}

fn text(of: &Value, key: &str) -> String {
    of[key].as_str().unwrap_or_default().to_string()
}

fn proof(whole: &Value, rules: &[Value], project_id: &str) -> Option<ResultOnPage> {
    let wrong = rules.iter().filter(|rule| rule["proven"] != true);
    let mut wrong: Vec<(String, String, String)> =
        wrong.map(|rule| (text(rule, "from"), text(rule, "to"), text(rule, "why"))).collect();
    let others = whole["others"].as_array()?;
    let others = others.iter().filter(|other| other[1] != true);
    wrong.extend(
        others.map(|other| (String::new(), String::new(), other[0].as_str().unwrap_or_default().to_string())),
    );
    let proven = rules.iter().filter(|rule| rule["proven"] == true).count();
    let began = std::time::UNIX_EPOCH + std::time::Duration::from_secs(whole["began_unix_s"].as_u64()?);
    let made_of = text(whole, "project_id");
    Some(ResultOnPage {
        title: "Proof on simulated devices".into(),
        holds: wrong.is_empty() && !(rules.is_empty() && whole["forwards"]["of"] == 0),
        verdict: format!("{proven} of {} proven", counted(rules.len(), "rule")),
        when: format!("{} on {}", humantime::format_rfc3339_seconds(began), text(whole, "machine")),
        wrong: first(wrong),
        of_another: if made_of == project_id { String::new() } else { made_of },
    })
}

fn acceptance(whole: &Value, values: &[Value]) -> Option<ResultOnPage> {
    let is_rehearsal = whole["rehearsal"].as_bool()?;
    let wrong = values.iter().filter(|value| value["good"] != true);
    let wrong: Vec<(String, String, String)> = wrong
        .map(|value| {
            let why = value["why"].as_str().or(value["verdict"].as_str()).unwrap_or_default();
            (text(value, "from"), text(value, "to"), why.to_string())
        })
        .collect();
    let good = values.len() - wrong.len();
    let title = if is_rehearsal {
        "Rehearsal of the acceptance, on simulated devices"
    } else {
        "Acceptance on real devices"
    };
    Some(ResultOnPage {
        title: title.into(),
        holds: wrong.is_empty() && !values.is_empty(),
        verdict: format!("{good} of {} alike at device and image", counted(values.len(), "value")),
        when: text(whole, "at"),
        wrong: first(wrong),
        of_another: String::new(),
    })
}

fn first(mut wrong: Vec<(String, String, String)>) -> Vec<(String, String, String)> {
    let more = wrong.len().saturating_sub(MOST);
    wrong.truncate(MOST);
    if more > 0 {
        wrong.push((String::new(), String::new(), format!("and {more} more")));
    }
    wrong
}
