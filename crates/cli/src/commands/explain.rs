//! `woodrush explain`: a paragraph on a check, a refusal's code, a type, an order, a key, a term, or a name of the project.

use crate::args::{Format, Global};
use crate::console::{Console, Table, Tone, counted};
use crate::{Failure, Verdict};
use serde::Serialize;
use woodrush_core::check::Checked;
use woodrush_core::explain::{Paragraph, explain, likely, subjects};
use woodrush_core::plan::demands;
use woodrush_core::trace::trace;
use woodrush_core::wanted;
use woodrush_core::{Span, Spanned};

#[derive(Serialize)]
struct Answer {
    asked: String,
    paragraphs: Vec<Paragraph>,
    likely: Option<String>,
}

pub(crate) fn run(console: &mut Console, global: &Global, words: &[String]) -> Result<Verdict, Failure> {
    if words.is_empty() {
        return list(console);
    }
    // Several words are one name, as in `explain exception 11`, unless each is one by itself.
    let whole = words.join(" ");
    let each = words.iter().all(|word| !explain(word).is_empty());
    let asked =
        if words.len() > 1 && each && explain(&whole).is_empty() { words.to_vec() } else { vec![whole] };
    // A name of the project is worth more than none; without a project there is none.
    let project = crate::project::find(global).ok().and_then(|path| crate::project::load(&path).ok());
    let answers: Vec<Answer> = asked.into_iter().map(|asked| answer(asked, project.as_ref())).collect();
    match console.format {
        Format::Json => console.json(&serde_json::json!({ "format": 1, "explained": answers }))?,
        Format::Csv => {
            let row = |p: &Paragraph| vec![p.name.clone(), p.kind.to_string(), p.text.clone()];
            let rows = answers.iter().flat_map(|answer| &answer.paragraphs).map(row).collect();
            console.table(&Table { head: vec!["name", "kind", "text"], rows, whole: &[] })?;
        }
        Format::Text => {
            let paragraphs = answers.iter().flat_map(|answer| &answer.paragraphs);
            for (at, paragraph) in paragraphs.enumerate() {
                if at > 0 {
                    console.say("")?;
                }
                say(console, paragraph)?;
            }
        }
    }
    let unknown: Vec<&Answer> = answers.iter().filter(|answer| answer.paragraphs.is_empty()).collect();
    for answer in &unknown {
        let offer = answer.likely.as_ref().map(|name| format!("; perhaps `{name}`")).unwrap_or_default();
        console.complain(&format!(
            "`{}` is not known{offer} (`woodrush explain` lists everything)",
            answer.asked
        ));
    }
    Ok(if unknown.is_empty() { Verdict::Yes } else { Verdict::No })
}

fn answer(asked: String, project: Option<&Checked>) -> Answer {
    let mut paragraphs: Vec<Paragraph> =
        project.and_then(|checked| of_project(checked, &asked)).into_iter().collect();
    paragraphs.extend(explain(&asked));
    paragraphs.extend(command(&asked));
    if paragraphs.is_empty() {
        paragraphs.extend(project.and_then(|checked| endpoint(checked, &asked)));
    }
    let likely = if paragraphs.is_empty() { likely(&asked) } else { None };
    Answer { asked, paragraphs, likely }
}

/// A command of the program: what it does, its options in a line, its examples.
fn command(asked: &str) -> Option<Paragraph> {
    let all = crate::args::command();
    let found = all.find_subcommand(asked.trim().trim_start_matches("woodrush "))?;
    let about = found.get_about().map(ToString::to_string).unwrap_or_default();
    let options: Vec<String> = found
        .get_arguments()
        .filter_map(|option| option.get_long().map(|long| format!("`--{long}`")))
        .collect();
    let options = match options.as_slice() {
        [] => String::new(),
        some => format!(" Its options: {}.", some.join(", ")),
    };
    let text = format!("{about}.{options} `woodrush {} --help` has examples.", found.get_name());
    Some(Paragraph { name: found.get_name().into(), kind: "command".into(), text })
}

/// An endpoint of the project: where its value comes from and where it goes.
fn endpoint(checked: &Checked, asked: &str) -> Option<Paragraph> {
    let written = Spanned { value: asked.to_string(), span: Span::default() };
    let endpoint = wanted::endpoint(checked, &written).ok()?;
    let traces = trace(checked, &endpoint);
    let Some(first) = traces.first() else {
        let text = "It is in this project, and no rule carries it.";
        return Some(Paragraph {
            name: asked.into(),
            kind: "endpoint of this project".into(),
            text: text.into(),
        });
    };
    let rule = first.rule.name.as_ref().map(|name| format!("rule `{name}`, ")).unwrap_or_default();
    let mut text = format!(
        "{} gets its value from {} ({rule}{}: {} -> {}).",
        first.shown, first.source, first.rule.at, first.rule.from, first.rule.to
    );
    if let Some(poll) = &first.poll {
        let every = woodrush_core::project::show_micros(poll.every_us);
        text += &format!(" It is polled every {every} from {}.", poll.device);
    }
    text += &format!(" A reader: {}.", first.on_loss);
    if first.both_ways {
        text += " A client's write goes back to the source.";
    }
    if traces.len() > 1 {
        text += &format!(" {} more rules carry it.", traces.len() - 1);
    }
    text += &format!(" `woodrush trace {asked}` shows the requests.");
    Some(Paragraph { name: asked.into(), kind: "endpoint of this project".into(), text })
}

/// A port of the project: where it is, and who hangs on it.
fn port_of_project(checked: &Checked, at: usize) -> Option<Paragraph> {
    let port = checked.project.ports.get(at)?;
    let line = port.line().map(|line| format!(", {}", line.value)).unwrap_or_default();
    let protocol = port.protocol.as_ref().map_or("no protocol", |protocol| protocol.value.name());
    let names = |stations: &[woodrush_core::plan::Station]| {
        let on: Vec<&str> = stations
            .iter()
            .filter(|station| station.port == at)
            .map(|station| station.name.as_str())
            .collect();
        on.join(", ")
    };
    let asked = names(&checked.plan.devices);
    let shown = names(&checked.plan.images);
    let mut text = format!("It is {}{line}, {protocol}.", port.whereabouts());
    if !asked.is_empty() {
        text += &format!(" Asked there: {asked}; `woodrush budget` shows its load.");
    }
    if !shown.is_empty() {
        text += &format!(" Shown there: {shown}.");
    }
    Some(Paragraph { name: port.name.value.clone(), kind: "port of this project".into(), text })
}

/// A device or an image of the project: where it is, and what has to be set up at its other side.
fn of_project(checked: &Checked, name: &str) -> Option<Paragraph> {
    let (project, plan) = (&checked.project, &checked.plan);
    if let Some(port) = project.ports.iter().position(|port| port.name.value == name) {
        return port_of_project(checked, port);
    }
    let image = plan.images.iter().any(|image| image.name == name);
    let station = plan.devices.iter().chain(&plan.images).find(|station| station.name == name)?;
    let port = project.ports.get(station.port)?;
    let (kind, does) = if image { ("image", "is shown") } else { ("device", "is asked") };
    let line = port.line().map(|line| format!(" at {}", line.value)).unwrap_or_default();
    let speaks = station.dialect.map(|dialect| format!(", {}{line}", dialect.name())).unwrap_or_default();
    let mut text = format!("It {does} on port {}{speaks}.", port.name.value);
    for demand in demands(project, plan).into_iter().filter(|demand| demand.name == name) {
        let who = if image { "in its clients" } else { "in it" };
        text += &format!(" To set up {who}: {}.", demand.links.join("; "));
        for (table, what) in &demand.tables {
            text += &format!(" {table}: {what}.");
        }
    }
    let rules = if image {
        plan.rules
            .iter()
            .filter(|rule| plan.images.get(rule.board).is_some_and(|image| image.name == name))
            .count()
    } else {
        let of = |device: usize| plan.devices.get(device).is_some_and(|device| device.name == name);
        let from = |rule: &&woodrush_core::plan::PlannedRule| {
            matches!(rule.source, woodrush_core::plan::Source::Values { owner: woodrush_core::project::Owner::Device(device), .. } if of(device))
                || plan.sink(rule).is_some_and(of)
        };
        plan.rules.iter().filter(from).count()
    };
    text += &format!(
        " {} of the project use{} it: `woodrush map`.",
        counted(rules, "rule"),
        if rules == 1 { "s" } else { "" }
    );
    Some(Paragraph { name: name.into(), kind: format!("{kind} of this project").into(), text })
}

fn say(console: &mut Console, paragraph: &Paragraph) -> Result<(), Failure> {
    let head = console.paint(Tone::Accent, &paragraph.name);
    let kind = console.paint(Tone::Faint, &format!("({})", paragraph.kind));
    console.say(&format!("{head} {kind}"))?;
    wrapped(console, &paragraph.text)
}

fn wrapped(console: &mut Console, text: &str) -> Result<(), Failure> {
    // A key or a code is never broken at its hyphen.
    let options = textwrap::Options::new(console.width())
        .initial_indent("  ")
        .subsequent_indent("  ")
        .word_splitter(textwrap::WordSplitter::NoHyphenation);
    console.say(&textwrap::fill(text, options))
}

/// What can be explained.
fn list(console: &mut Console) -> Result<Verdict, Failure> {
    let subjects = subjects();
    match console.format {
        Format::Json => {
            let kinds: Vec<_> = subjects
                .iter()
                .map(|(kind, names)| serde_json::json!({ "kind": kind, "names": names }))
                .collect();
            console.json(&serde_json::json!({ "format": 1, "subjects": kinds }))?;
        }
        Format::Csv => {
            let rows = subjects
                .iter()
                .flat_map(|(kind, names)| names.iter().map(|name| vec![kind.to_string(), name.clone()]));
            console.table(&Table { head: vec!["kind", "name"], rows: rows.collect(), whole: &[] })?;
        }
        Format::Text => {
            for (kind, names) in &subjects {
                let head = console.paint(Tone::Accent, kind);
                console.say(&head)?;
                wrapped(console, &names.join(" · "))?;
            }
        }
    }
    Ok(Verdict::Yes)
}
