//! Where there is no terminal: every row once, then a line for each change.

use super::ends::ShownEnd;
use super::feed::Following;
use super::model::{Live, Model};
use crate::args::Format;
use crate::console::{Console, Table, Tone};
use crate::{Failure, Verdict};
use serde::Serialize;
use std::path::Path;
use std::time::{Duration, Instant};
use woodrush_core::project::show_micros;
use woodrush_engine::monitor::ValueState;
use woodrush_engine::stop::Stop;

/// How often new looks are taken.
const LOOK: Duration = Duration::from_millis(50);

/// One row at one moment.
#[derive(Serialize)]
struct ChangeRow<'r> {
    format: u32,
    /// Seconds since the beginning.
    at_s: f64,
    rule: &'r str,
    from: &'r str,
    to: &'r str,
    source: Option<ShownEnd>,
    target: Option<ShownEnd>,
    age_s: Option<f64>,
    state: Option<ValueState>,
    last_error: Option<String>,
}

/// What is followed.
pub(super) struct Followed<'f> {
    pub(super) stop: &'f Stop,
    pub(super) following: &'f Following,
    pub(super) path: &'f Path,
    pub(super) lasting: Option<Duration>,
}

impl Followed<'_> {
    /// Until the time is over, the converter ends or the user ends it.
    pub(super) fn follow(
        &self,
        console: &mut Console,
        model: &mut Model,
        first: Vec<usize>,
    ) -> Result<Verdict, Failure> {
        #[allow(clippy::disallowed_methods, reason = "a command that keeps time for a person")]
        let began = Instant::now();
        let mut head = true;
        let mut rows = first;
        loop {
            let shown = model.rows();
            rows.retain(|row| shown.contains(row));
            say(console, model, &rows, began.elapsed(), std::mem::take(&mut head))?;
            rows = loop {
                if self.stop.is_asked() || self.lasting.is_some_and(|lasting| began.elapsed() >= lasting) {
                    // Of what is shown: a filter asks about that alone.
                    return Ok(if model.all_fresh() { Verdict::Yes } else { Verdict::No });
                }
                match self.following.latest() {
                    Some(Ok(values)) => {
                        let now = u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX);
                        if super::renew(model, self.path, &values)? {
                            console.note("the project was reloaded");
                        }
                        let rows = model.take(now, values);
                        // Of no rule: told beside the rows, where it disturbs no program that reads them.
                        model.moved.iter().for_each(|told| console.note(told));
                        break rows;
                    }
                    Some(Err(why)) => return Err(Failure::Outside(why)),
                    None => super::super::rig::nap(LOOK),
                }
            };
        }
    }
}

fn say(
    console: &mut Console,
    model: &Model,
    rows: &[usize],
    at: Duration,
    head: bool,
) -> Result<(), Failure> {
    let row = |row: &usize| {
        let (rule, live) = model.rule(*row)?;
        Some(ChangeRow {
            format: 1,
            at_s: (at.as_secs_f64() * 1000.0).round() / 1000.0,
            rule: &rule.name,
            from: &rule.from,
            to: &rule.to,
            source: model.source(*row),
            target: model.target(*row),
            age_s: live.and_then(|live| live.age),
            state: live.map(|live| live.state),
            last_error: live.and_then(Live::failure),
        })
    };
    let found: Vec<ChangeRow<'_>> = rows.iter().filter_map(row).collect();
    match console.format {
        Format::Json => {
            for row in &found {
                let text = serde_json::to_string(row).map_err(|error| Failure::Outside(error.to_string()))?;
                console.say(&text)?;
            }
        }
        Format::Csv => console.csv_rows(&table(&found), head)?,
        Format::Text => {
            let time = console.paint(Tone::Faint, &format!("{:>9}", show_micros(micros(at))));
            for row in &found {
                let text = text(row);
                let text = match row.state {
                    Some(ValueState::Fresh) => text,
                    _ => console.paint(Tone::Bad, &text),
                };
                console.say(format!("{time}  {text}").trim_end())?;
            }
        }
    }
    Ok(())
}

/// To a millisecond.
fn micros(at: Duration) -> u64 {
    u64::try_from(at.as_millis()).unwrap_or(u64::MAX).saturating_mul(1000)
}

fn joined(end: Option<&ShownEnd>) -> (String, String) {
    let Some(end) = end else { return (String::new(), String::new()) };
    let eu = end.eu.as_ref().map(|eu| format!(" {eu}")).unwrap_or_default();
    (end.raw.join(" "), end.values.join(" ") + &eu)
}

fn text(row: &ChangeRow<'_>) -> String {
    let (_, source) = joined(row.source.as_ref());
    let (raw, target) = joined(row.target.as_ref());
    let state = match row.state {
        Some(ValueState::Fresh) | None => String::new(),
        Some(state) => format!("  {}", word(state)),
    };
    let failure = row.last_error.as_ref().map(|failure| format!(" ({failure})")).unwrap_or_default();
    let left = if source.is_empty() { row.from.to_string() } else { format!("{} {source}", row.from) };
    let right =
        if raw.is_empty() { format!("{} refused", row.to) } else { format!("{} {target} [{raw}]", row.to) };
    format!("{left} -> {right}{state}{failure}")
}

fn word(state: ValueState) -> &'static str {
    match state {
        ValueState::Fresh => "fresh",
        ValueState::Held => "held",
        ValueState::Lost => "LOST",
        ValueState::Never => "never",
    }
}

fn table(rows: &[ChangeRow<'_>]) -> Table {
    let row = |row: &ChangeRow<'_>| {
        let raw = |end: &Option<ShownEnd>| end.as_ref().map(|end| end.raw.join(" ")).unwrap_or_default();
        let values =
            |end: &Option<ShownEnd>| end.as_ref().map(|end| end.values.join(" ")).unwrap_or_default();
        let eu = |end: &Option<ShownEnd>| end.as_ref().and_then(|end| end.eu.clone()).unwrap_or_default();
        vec![
            row.at_s.to_string(),
            row.rule.to_string(),
            row.from.to_string(),
            raw(&row.source),
            values(&row.source),
            eu(&row.source),
            row.to.to_string(),
            raw(&row.target),
            values(&row.target),
            eu(&row.target),
            row.age_s.map(|age| age.to_string()).unwrap_or_default(),
            row.state.map(|state| word(state).to_lowercase()).unwrap_or_default(),
            row.last_error.clone().unwrap_or_default(),
        ]
    };
    let head = vec![
        "at_s",
        "rule",
        "from",
        "source_raw",
        "source",
        "source_eu",
        "to",
        "target_raw",
        "target",
        "target_eu",
        "age_s",
        "state",
        "last_error",
    ];
    Table { head, rows: rows.iter().map(row).collect(), whole: &[] }
}
