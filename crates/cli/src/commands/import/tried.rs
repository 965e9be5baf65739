//! Each point of a list read once from a device: the list is held against what answers.

use crate::Failure;
use crate::args::{ConnectionArgs, Global};
use crate::commands::read;
use crate::connections::Connections;
use crate::console::{Console, counted};
use crate::render;
use serde::Serialize;
use woodrush_core::import::{Import, ImportedPoint};

/// What came of a point.
#[derive(Debug, Clone, Serialize)]
pub(super) struct Tried {
    /// Its value, where it was read.
    tried: Option<String>,
    /// What was wrong.
    fault: Option<String>,
    /// Nothing answered, here or at a point before.
    #[serde(skip)]
    is_silent: bool,
}

impl Tried {
    /// It was read, and is in its range.
    pub(super) fn is_good(&self) -> bool {
        self.fault.is_none()
    }

    /// Nothing answered.
    pub(super) fn is_silent(&self) -> bool {
        self.is_silent
    }

    /// In a cell.
    pub(super) fn shown(&self) -> String {
        match (&self.tried, &self.fault) {
            (Some(value), Some(fault)) => format!("{value}: {fault}"),
            // Who refuses is the same in each row.
            (None, Some(fault)) => match fault.split_once(" refuses: ") {
                Some((_, why)) => format!("refused: {why}"),
                None => fault.clone(),
            },
            (value, None) => value.clone().unwrap_or_default(),
        }
    }
}

/// What is asked for a point: the first of a row.
fn wanted_text(point: &ImportedPoint) -> String {
    match point.form {
        Some(form) => format!("{} as {form}", point.at),
        None => point.at.clone(),
    }
}

/// Reads each point once. A device that does not answer is not asked again.
pub(super) fn try_points(
    console: &mut Console,
    global: &Global,
    way: &ConnectionArgs,
    target: &str,
    found: &Import,
) -> Result<Vec<Tried>, Failure> {
    // A device of the project has its protocol.
    // On a line that is written here, addresses are all there is to name.
    let is_line = way.serial.is_some();
    let is_elsewhere = is_line || target.contains(':') || way.unit.is_some() || way.node.is_some();
    let way = ConnectionArgs { protocol: way.protocol.clone().filter(|_| is_elsewhere), ..way.clone() };
    let texts: Vec<String> = found.points.iter().map(wanted_text).collect();
    let targets: Vec<String> = if is_line {
        texts
    } else if is_elsewhere {
        std::iter::once(target.to_string()).chain(texts).collect()
    } else {
        texts.iter().map(|text| format!("{target}:{text}")).collect()
    };
    let (mut connections, texts) = Connections::of_station(global, &way, &targets)?;
    console.note(&format!("reading {} from {target}", counted(found.points.len(), "point")));
    let mut tried = vec![];
    let mut silent: Option<String> = None;
    for (text, point) in texts.iter().zip(&found.points) {
        if let Some(seen) = &silent {
            let fault = Some(format!("not tried: {seen}"));
            tried.push(Tried { tried: None, fault, is_silent: true });
            continue;
        }
        let wanted = connections.wanted(std::slice::from_ref(text))?;
        let Some(wanted) = wanted.first() else { continue };
        match read::value(&mut connections, wanted) {
            Ok((cells, _)) => {
                let value = wanted.values(&cells).into_iter().next().and_then(|shown| shown.value);
                tried.push(judged(point, value));
            }
            Err(failed) => {
                let seen = failed.diagnosis.seen.clone();
                if !failed.answered {
                    let text = render::diagnosis::text(console, target, &failed.diagnosis);
                    console.complain(&text);
                    silent = Some(seen.clone());
                }
                tried.push(Tried { tried: None, fault: Some(seen), is_silent: !failed.answered });
            }
        }
    }
    Ok(tried)
}

/// A value held against the range of its point.
fn judged(point: &ImportedPoint, value: Option<String>) -> Tried {
    let number = value.as_ref().and_then(|value| value.parse::<f64>().ok());
    let fault = match (number, point.range) {
        (Some(number), Some((low, high))) if !(low.as_f64()..=high.as_f64()).contains(&number) => {
            Some(format!("outside {low}..{high}"))
        }
        _ if value.is_none() => Some("no value".into()),
        _ => None,
    };
    Tried { tried: value, fault, is_silent: false }
}
