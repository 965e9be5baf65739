//! `woodrush trace`: an address followed through the converter to the other side.

use crate::args::Format;
use crate::console::{Console, Table, Tone};
use crate::render::findings::labelled;
use crate::{Failure, Verdict};
use std::path::Path;
use woodrush_core::check::Checked;
use woodrush_core::trace::{Exchange, Trace, trace};
use woodrush_core::{At, Span};

pub(crate) fn run(console: &mut Console, path: &Path, endpoints: &[String]) -> Result<Verdict, Failure> {
    let Some(checked) = crate::project::load_sound(console, path)? else { return Ok(Verdict::No) };
    let mut found: Vec<Trace> = vec![];
    let mut all = true;
    for text in endpoints {
        let entry = At { value: text.clone(), span: Span::default() };
        let endpoint = checked.project.endpoint(&entry).map_err(|finding| {
            Failure::Usage(format!("{} {} ({})", finding.rule.code, finding.what, finding.mend))
        })?;
        let traces = trace(&checked, &endpoint);
        if traces.is_empty() {
            all = false;
            console.complain(&nothing(&checked, text));
        }
        found.extend(traces);
    }
    match console.format {
        Format::Json => console.json(&serde_json::json!({ "format": 1, "traces": found }))?,
        Format::Csv => {
            let row = |t: Trace| {
                let poll = t.poll.map(|poll| poll.exchange);
                let bytes = |side: Option<&Exchange>| side.map(|e| e.request.clone()).unwrap_or_default();
                vec![
                    t.shown,
                    t.source,
                    t.rule.at,
                    t.read.request,
                    bytes(poll.as_ref()),
                    t.conversion.source_words,
                    t.conversion.value,
                    t.conversion.target_words.unwrap_or_default(),
                ]
            };
            let head = vec![
                "shown",
                "source",
                "rule",
                "reader asks",
                "converter asks",
                "source words",
                "value",
                "image words",
            ];
            console.table(&Table { head, rows: found.into_iter().map(row).collect(), whole: &[] })?;
        }
        Format::Text => {
            for (at, trace) in found.iter().enumerate() {
                if at > 0 {
                    console.say("")?;
                }
                say(console, trace)?;
            }
        }
    }
    Ok(if all { Verdict::Yes } else { Verdict::No })
}

fn nothing(checked: &Checked, text: &str) -> String {
    let owner = text.split([':', '.']).next().unwrap_or_default();
    let mut near: Vec<&str> = checked
        .project
        .maps
        .iter()
        .map(|map| map.to.value.as_str())
        .filter(|to| to.starts_with(owner))
        .collect();
    near.truncate(3);
    let offer =
        if near.is_empty() { String::new() } else { format!("; rules there begin at {}", near.join(", ")) };
    format!("no rule carries {text} (`woodrush map` shows all that are carried{offer})")
}

fn say(console: &mut Console, trace: &Trace) -> Result<(), Failure> {
    let head = console.paint(Tone::Accent, &trace.shown);
    let arrow = if trace.write.is_some() { "<->" } else { "<-" };
    console.say(&format!("{head}  {arrow}  {}", console.paint(Tone::Accent, &trace.source)))?;
    let (value, of) = trace.rule.value;
    let which = if of > 1 { format!(", value {value} of {of}") } else { String::new() };
    let name = trace.rule.name.as_ref().map(|name| format!("{name}, ")).unwrap_or_default();
    station(console, "reader", &trace.read.words)?;
    exchange(console, &trace.read)?;
    station(console, "image", &format!("{}; {}", trace.cell, trace.on_loss))?;
    station(
        console,
        "rule",
        &format!("{name}{}{which}: {} -> {}", trace.rule.at, trace.rule.from, trace.rule.to),
    )?;
    let worked = &trace.conversion;
    let target = worked.target_words.as_deref().unwrap_or("does not fit");
    station(
        console,
        "form",
        &format!("{}  {}  =  {}  =  {target}  {}", worked.from, worked.source_words, worked.value, worked.to),
    )?;
    match &trace.poll {
        Some(poll) => {
            station(
                console,
                "poll",
                &format!("every {}, {} on the line; {}", poll.every, poll.takes, poll.device),
            )?;
            station(console, "", &poll.exchange.words)?;
            exchange(console, &poll.exchange)?;
        }
        None => station(console, "source", "told by the converter itself, not polled")?,
    }
    if let Some(write) = &trace.write {
        station(console, "write", &format!("a client's write: {}", write.client.words))?;
        exchange(console, &write.client)?;
        station(console, "", &format!("becomes at the device: {}", write.device.words))?;
        exchange(console, &write.device)?;
    }
    Ok(())
}

fn station(console: &mut Console, label: &str, text: &str) -> Result<(), Failure> {
    for line in labelled_wide(label, text, console.width()) {
        console.say(&line)?;
    }
    Ok(())
}

fn exchange(console: &mut Console, exchange: &Exchange) -> Result<(), Failure> {
    for (label, bytes) in [("asks", &exchange.request), ("gets", &exchange.answer)] {
        for (at, line) in labelled("", bytes, console.width().saturating_sub(8)).iter().enumerate() {
            let label = if at == 0 { label } else { "" };
            let text = format!("          {label:<5} {}", line.trim_start());
            let text = console.paint(Tone::Faint, &text);
            console.say(&text)?;
        }
    }
    Ok(())
}

fn labelled_wide(label: &str, text: &str, width: usize) -> Vec<String> {
    let lines = labelled("", text, width.saturating_sub(2));
    let head = |at: usize| if at == 0 { label } else { "" };
    lines.iter().enumerate().map(|(at, line)| format!("  {:<7} {}", head(at), line.trim_start())).collect()
}
