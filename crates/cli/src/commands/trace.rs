//! `woodrush trace`: an address followed through the converter to the other side.

use crate::args::Format;
use crate::console::{Console, Table, Tone};
use crate::render::findings::labelled;
use crate::{Failure, Verdict};
use std::path::Path;
use woodrush_core::check::Checked;
use woodrush_core::project::show_micros;
use woodrush_core::trace::{Exchange, Trace, TracedFrame, trace};
use woodrush_core::wanted;
use woodrush_core::{Span, Spanned};

pub(crate) fn run(console: &mut Console, path: &Path, endpoints: &[String]) -> Result<Verdict, Failure> {
    let Some(checked) = crate::project::load_sound(console, path)? else { return Ok(Verdict::No) };
    let mut found: Vec<Trace> = vec![];
    let mut all = true;
    for text in endpoints {
        let entry = Spanned { value: text.clone(), span: Span::default() };
        let endpoint = wanted::endpoint(&checked, &entry).map_err(|finding| {
            Failure::Usage(format!("{} {} ({})", finding.rule.code, finding.what, finding.fix))
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
                let comes = t.comes.map(|comes| comes.frame.bytes);
                let bytes = |side: Option<&Exchange>| {
                    side.map(|e| e.request.clone()).or(comes.clone()).unwrap_or_default()
                };
                vec![
                    t.shown,
                    t.source,
                    t.rule.at,
                    t.read.map(|read| read.request).or(t.frame.map(|frame| frame.bytes)).unwrap_or_default(),
                    bytes(poll.as_ref()),
                    t.conversion.source_words,
                    t.conversion.value,
                    t.conversion.eu.unwrap_or_default(),
                    t.conversion.target_words.unwrap_or_default(),
                ]
            };
            let head = vec![
                "shown",
                "source",
                "rule",
                "reader_asks",
                "converter_asks",
                "source_words",
                "value",
                "eu",
                "image_words",
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
    for (tone, line) in lines(trace, console.width()) {
        let text = tone.map_or_else(|| line.clone(), |tone| console.paint(tone, &line));
        console.say(&text)?;
    }
    Ok(())
}

/// A trace as lines of such a width, each in its tone.
pub(crate) fn lines(trace: &Trace, width: usize) -> Vec<(Option<Tone>, String)> {
    let mut out = vec![];
    let arrow = if trace.both_ways { "<->" } else { "<-" };
    out.push((Some(Tone::Accent), format!("{}  {arrow}  {}", trace.shown, trace.source)));
    let (value, of) = trace.rule.value;
    let which = if of > 1 { format!(", value {value} of {of}") } else { String::new() };
    let name = trace.rule.name.as_ref().map(|name| format!("{name}, ")).unwrap_or_default();
    let (first, second) = if trace.sent { ("sent", "when") } else { ("reader", "image") };
    if let Some(read) = &trace.read {
        station(&mut out, width, first, &read.words);
        exchange(&mut out, width, read);
    }
    if let Some(own) = &trace.frame {
        station(&mut out, width, "frame", &own.words);
        frame(&mut out, width, own);
    }
    station(&mut out, width, second, &format!("{}; {}", trace.cell, trace.on_loss));
    let rule = format!("{name}{}{which}: {} -> {}", trace.rule.at, trace.rule.from, trace.rule.to);
    station(&mut out, width, "rule", &rule);
    let worked = &trace.conversion;
    let target = worked.target_words.as_deref().unwrap_or("does not fit");
    let value = [Some(&worked.value), worked.eu.as_ref()].into_iter().flatten();
    let value = value.map(String::as_str).collect::<Vec<_>>().join(" ");
    let form = format!("{}  {}  =  {value}  =  {target}  {}", worked.from, worked.source_words, worked.to);
    station(&mut out, width, "example", &form);
    match &trace.poll {
        Some(poll) => {
            let takes = show_micros(poll.takes_us);
            let takes = if poll.assumed { format!("{takes} assumed") } else { takes };
            if poll.published {
                let text = format!("by itself every {}; {}", show_micros(poll.every_us), poll.device);
                station(&mut out, width, "comes", &text);
            } else {
                let text =
                    format!("every {}, {takes} on the line; {}", show_micros(poll.every_us), poll.device);
                station(&mut out, width, "poll", &text);
            }
            station(&mut out, width, "", &poll.exchange.words);
            exchange(&mut out, width, &poll.exchange);
        }
        None => {
            if let Some(comes) = &trace.comes {
                station(&mut out, width, "comes", &comes.told());
                station(&mut out, width, "", &comes.frame.words);
                frame(&mut out, width, &comes.frame);
            } else {
                station(&mut out, width, "source", trace.fed.as_deref().unwrap_or_default());
            }
        }
    }
    for written in &trace.writes {
        let client = format!("a client's write at {}: {}", written.reference, written.client.words);
        station(&mut out, width, "write", &client);
        exchange(&mut out, width, &written.client);
        station(&mut out, width, "", &written.becomes);
        if let Some(device) = &written.device {
            exchange(&mut out, width, device);
        }
    }
    out
}

type Lines = Vec<(Option<Tone>, String)>;

fn station(out: &mut Lines, width: usize, label: &str, text: &str) {
    for (at, line) in labelled("", text, width.saturating_sub(2)).iter().enumerate() {
        let label = if at == 0 { label } else { "" };
        out.push((None, format!("  {label:<7} {}", line.trim_start())));
    }
}

/// A frame with the value's bytes between brackets.
fn frame(out: &mut Lines, width: usize, frame: &TracedFrame) {
    for (at, line) in labelled("", &frame.marked(), width.saturating_sub(8)).iter().enumerate() {
        let label = if at == 0 { "bytes" } else { "" };
        out.push((Some(Tone::Faint), format!("          {label:<5} {}", line.trim_start())));
    }
}

fn exchange(out: &mut Lines, width: usize, exchange: &Exchange) {
    for (label, bytes) in [("asks", &exchange.request), ("gets", &exchange.answer)] {
        for (at, line) in labelled("", bytes, width.saturating_sub(8)).iter().enumerate() {
            let label = if at == 0 { label } else { "" };
            out.push((Some(Tone::Faint), format!("          {label:<5} {}", line.trim_start())));
        }
    }
}
