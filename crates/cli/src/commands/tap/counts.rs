//! What passed, counted at the end: a row a station, the refusals in words, and how long answers took.

use super::said::ShownMessage;
use super::span;
use crate::Failure;
use crate::console::{Console, Table, Tone};
use serde::Serialize;
use std::collections::BTreeMap;
use woodrush_engine::tap::{CLASSES, Counted, Meaning, Passed, Times};

/// Widest bar of the answer times.
const BAR: usize = 40;

/// Counts by port and station.
#[derive(Debug, Default)]
pub(super) struct Counts {
    by: BTreeMap<(String, String), Counted>,
}

#[derive(Serialize)]
struct CountRow<'c> {
    port: &'c str,
    /// Empty for what belongs to no station.
    station: &'c str,
    counts: &'c Counted,
}

impl Counts {
    /// Counts one message.
    pub(super) fn count(&mut self, said: &ShownMessage, passed: &Passed) {
        if matches!(passed.what, Meaning::Sign(_, false)) {
            return;
        }
        let owner = match (
            &said.owner,
            said.station_shown.is_empty() || said.owner.as_ref() == Some(&said.station_shown),
        ) {
            (Some(owner), true) => owner.clone(),
            (Some(owner), false) => format!("{owner}, {}", said.station_shown),
            (None, _) => said.station_shown.clone(),
        };
        self.by.entry((said.port.clone(), owner)).or_default().count(passed);
    }

    /// Whether nothing passed at all.
    pub(super) fn is_empty(&self) -> bool {
        self.by.is_empty()
    }

    /// Failures of every kind.
    pub(super) fn failures(&self) -> u64 {
        self.by.values().map(Counted::failures).sum()
    }

    /// As one JSON value.
    pub(super) fn json(&self, missed: u64) -> serde_json::Value {
        let row = |((port, station), counts): (&(String, String), &Counted)| {
            serde_json::to_value(CountRow { port, station, counts }).unwrap_or_default()
        };
        let rows: Vec<serde_json::Value> = self.by.iter().map(row).collect();
        serde_json::json!({ "format": 1, "kind": "counts", "counts": rows, "classes_us": CLASSES, "missed": missed })
    }

    /// As CSV: a row a station, times in microseconds.
    pub(super) fn csv(&self, console: &mut Console) -> Result<(), Failure> {
        let row = |((port, station), own): (&(String, String), &Counted)| {
            let refused: u64 = own.refusals.values().map(|(count, _)| count).sum();
            let numbers = [
                Some(own.requests),
                Some(own.again),
                Some(own.answers),
                Some(own.published),
                Some(refused),
                Some(own.no_answer),
                Some(own.mismatched),
                Some(own.damaged),
                Some(own.signs),
                Some(own.bytes),
                own.times.min_us,
                own.times.within(50),
                own.times.within(95),
                own.times.min_us.map(|_| own.times.max_us),
            ];
            let numbers =
                numbers.into_iter().map(|number| number.map_or_else(String::new, |n| n.to_string()));
            [port.clone(), station.clone()].into_iter().chain(numbers).collect()
        };
        let head = [
            "port",
            "station",
            "requests",
            "again",
            "answers",
            "published",
            "refused",
            "no_answer",
            "mismatched",
            "damaged",
            "signs",
            "bytes",
            "min_us",
            "median_us",
            "p95_us",
            "max_us",
        ];
        console.table(&Table { head: head.to_vec(), rows: self.by.iter().map(row).collect(), whole: &[] })
    }

    /// As text: for each port a row a station, and how long answers took.
    pub(super) fn say(&self, console: &mut Console) -> Result<(), Failure> {
        let mut ports: Vec<&str> = self.by.keys().map(|(port, _)| port.as_str()).collect();
        ports.dedup();
        for (at, port) in ports.into_iter().enumerate() {
            if at > 0 {
                console.say("")?;
            }
            let here = self.by.iter().filter(|((own, _), _)| own == port);
            let mut all = Counted::default();
            here.clone().for_each(|(_, own)| all.plus(own));
            // The minimum is in CSV: here the columns must fit.
            let head =
                ["requests", "answers", "refused", "no answer", "damaged", "mismatched", "median", "p95"];
            let mut head = [&["on port"], &head[..]].concat();
            // A column of its own only where something comes by itself.
            let published = all.published > 0;
            if published {
                head.insert(3, "published");
            }
            let mut rows: Vec<Vec<String>> =
                here.map(|((_, station), own)| row(station, own, published)).collect();
            // Where nothing was answered nothing took any time.
            if all.times.min_us.is_none() {
                head.truncate(head.len() - 2);
                rows.iter_mut().for_each(|row| row.truncate(head.len()));
            }
            console.say(&console.paint(Tone::Accent, port))?;
            let whole: &[usize] = if published { &[3, 4, 6, 7] } else { &[0, 4, 6] };
            console.table(&Table { head, rows, whole })?;
            for (count, words) in all.refusals.values() {
                console.say(&console.paint(Tone::Bad, &format!("{count} times {words}")))?;
            }
            if all.times.min_us.is_some() {
                bars(console, &all.times)?;
            }
        }
        Ok(())
    }
}

fn row(station: &str, own: &Counted, published: bool) -> Vec<String> {
    let refused: u64 = own.refusals.values().map(|(count, _)| count).sum();
    let time = |time: Option<u64>| time.map(span).unwrap_or_default();
    let station = if station.is_empty() { "no station" } else { station };
    let published = published.then(|| own.published.to_string());
    let first = [station.to_string(), own.requests.to_string(), own.answers.to_string()];
    let rest = [
        refused.to_string(),
        own.no_answer.to_string(),
        own.damaged.to_string(),
        own.mismatched.to_string(),
        time(own.times.within(50)),
        time(own.times.within(95)),
    ];
    first.into_iter().chain(published).chain(rest).collect()
}

/// A bar for each class of answer times, from the first to the last that was seen.
fn bars(console: &mut Console, times: &Times) -> Result<(), Failure> {
    let most = times.classes.iter().max().copied().unwrap_or(0).max(1);
    let used = |at: &usize| times.classes.get(*at).is_some_and(|count| *count > 0);
    let first = (0..times.classes.len()).find(used).unwrap_or(0);
    let last = (0..times.classes.len()).rev().find(used).unwrap_or(0);
    for at in first..=last {
        let count = times.classes.get(at).copied().unwrap_or(0);
        let class = match CLASSES.get(at) {
            Some(end) => format!("up to {}", span(*end)),
            None => "longer".into(),
        };
        let bar = usize::try_from(count * BAR as u64 / most).unwrap_or(BAR).max(usize::from(count > 0));
        console.say(format!("answered {class:<12} {count:>8}  {}", "#".repeat(bar)).trim_end())?;
    }
    Ok(())
}
