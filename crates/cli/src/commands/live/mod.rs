//! `woodrush prove --live`: real devices against what a reader of the images gets, as an acceptance sheet.

use crate::args::{Format, Global, ProveArgs, WayArgs};
use crate::console::{Console, Tone};
use crate::render;
use crate::ways::{Failed, Ways, fault};
use crate::{Failure, Verdict};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use serde::Serialize;
use std::io::{BufRead, IsTerminal, Write};
use std::time::{Duration, SystemTime};
use woodrush_core::check::Checked;
use woodrush_core::form::hex_words;
use woodrush_core::plan::Station;
use woodrush_core::project::{Owner, micros};
use woodrush_core::protocol::{Extent, Place, Verb};
use woodrush_core::wanted::Wanted;
use woodrush_engine::prove::{Judged, Pair, pairs};
use woodrush_engine::stop::Stop;

/// How far a reader may be from the device where nobody says it, as a share: the value moves between two looks.
const TOLERANCE: f64 = 0.01;
/// How often a value is looked at before it is called wrong.
const ATTEMPTS: u32 = 6;
/// The longest wait for a poll, in microseconds: what is polled less often is judged by what stands there.
const LONGEST_WAIT: u64 = 10_000_000;
/// How often the device is looked at for a value that was written, and the pause between.
const ARRIVES: (usize, Duration) = (25, Duration::from_millis(200));

/// One value of one rule.
#[derive(Debug, Clone, Serialize)]
pub(crate) struct LiveValue {
    pub(crate) rule: String,
    pub(crate) from: String,
    pub(crate) to: String,
    pub(crate) device_address: String,
    pub(crate) image_address: String,
    pub(crate) eu: Option<String>,
    /// What the device itself said before the reader was asked, and after that; with its last words in hex.
    pub(crate) device_before: Option<String>,
    pub(crate) device: Option<String>,
    pub(crate) device_raw: String,
    /// What a reader of the image saw, and its words in hex.
    pub(crate) image: Option<String>,
    pub(crate) image_raw: String,
    /// In seconds, as the converter knows it.
    pub(crate) age: Option<f64>,
    /// Of the last look, RFC 3339.
    pub(crate) at: String,
    pub(crate) looks: u32,
    /// It changed while it was looked at.
    pub(crate) moved: bool,
    /// `same`, `within`, `differs`, `refused`, `silent`.
    pub(crate) verdict: &'static str,
    pub(crate) good: bool,
    pub(crate) why: Option<String>,
    /// A write that was asked for, in words.
    pub(crate) written: Option<String>,
}

/// The whole sheet.
#[derive(Debug, Serialize)]
pub(crate) struct LiveProof {
    pub(crate) format: u32,
    pub(crate) site: String,
    pub(crate) at: String,
    /// A share of the value.
    pub(crate) tolerance: f64,
    pub(crate) values: Vec<LiveValue>,
    /// Rules that have no two ends that could be compared.
    pub(crate) left_out: Vec<String>,
}

impl LiveProof {
    fn holds(&self) -> bool {
        !self.values.is_empty() && self.values.iter().all(|value| value.good)
    }
}

/// A rule with both ends as they are asked.
struct Subject {
    pair: Pair,
    device: Wanted,
    image: Wanted,
    /// In seconds.
    max_age: f64,
    /// How often it is polled, in microseconds.
    every: u64,
}

pub(crate) fn run(console: &mut Console, global: &Global, args: &ProveArgs) -> Result<Verdict, Failure> {
    for report in &args.report {
        render::live::kind_of(report)?;
    }
    let tolerance = render::share(args.tolerance.as_deref(), TOLERANCE)?;
    let every = micros(&args.every).ok_or_else(|| Failure::Usage(format!("`{}` is no time", args.every)))?;
    let way = WayArgs { rig: args.rig, ..WayArgs::default() };
    let (mut ways, _) = Ways::sort(global, &way, &[])?;
    if !ways.is_running() {
        return Err(Failure::Outside(
            "no converter of this project is running here, so there is nothing to read the images from (start `woodrush run`, on the bench `woodrush run --rig`)".into(),
        ));
    }
    let (subjects, left_out, site) = {
        let checked = ways.checked().ok_or_else(|| Failure::Usage("there is no project".into()))?;
        let (subjects, left_out) = subjects(checked)?;
        (subjects, left_out, checked.project.name.value.clone())
    };
    let writes =
        args.write.iter().map(|text| planned(&ways, &subjects, text)).collect::<Result<Vec<_>, _>>()?;
    if !writes.is_empty() && !args.yes {
        agreed(console, &subjects, &writes)?;
    }
    let stop = Stop::with_terminal()
        .map_err(|error| Failure::Outside(format!("signals cannot be heard: {error}")))?;
    let mut values = look(console, &mut ways, &subjects, args.looks.max(1), every, tolerance, &stop);
    for write in &writes {
        if stop.is_asked() {
            break;
        }
        let (words, good) = written(&mut ways, &subjects, write);
        if let Some(value) = values.iter_mut().find(|value| value.0 == write.subject && value.1 == 0) {
            value.2.good &= good;
            value.2.written = Some(words);
        }
    }
    let values = values.into_iter().map(|(.., value)| value).collect();
    let proof = LiveProof { format: 1, site, at: now(), tolerance, values, left_out };
    for report in &args.report {
        render::live::write(report, &proof)?;
        console.note(&format!("acceptance sheet written to {}", report.display()));
    }
    show(console, &proof)?;
    Ok(if proof.holds() { Verdict::Yes } else { Verdict::No })
}

fn now() -> String {
    #[allow(clippy::disallowed_methods, reason = "the sheet tells people when it was")]
    humantime::format_rfc3339_seconds(SystemTime::now()).to_string()
}

/// All cells of one end, as something that can be asked for.
fn end(
    checked: &Checked,
    text: &str,
    station: Option<&Station>,
    extent: Extent,
    count: u32,
) -> Result<Wanted, Failure> {
    let mut wanted = Wanted::of_project(checked, text).map_err(|finding| fault(&finding))?;
    let bit = wanted.place.bit;
    wanted.place =
        Place { space: extent.space, first: extent.first, width: extent.count / count.max(1), count, bit };
    if let Some(station) = station {
        wanted.station = station.clone();
    }
    Ok(wanted)
}

fn subjects(checked: &Checked) -> Result<(Vec<Subject>, Vec<String>), Failure> {
    let all = pairs(checked);
    let name = |map: usize| {
        let known = checked.project.maps.get(map).and_then(|map| map.name.as_ref());
        known.map_or_else(|| (map + 1).to_string(), |name| name.value.clone())
    };
    let enabled = (0..checked.project.maps.len())
        .filter(|map| checked.project.maps.get(*map).is_some_and(|map| map.enabled));
    let left_out = enabled.filter(|map| all.iter().all(|pair| pair.map != *map)).map(name).collect();
    let mut found = vec![];
    for pair in all {
        let (Some(map), Some(at_device)) = (checked.project.maps.get(pair.map), pair.at_device()) else {
            continue;
        };
        let device =
            end(checked, &map.from.value, checked.plan.devices.get(pair.device), at_device, pair.count)?;
        let image =
            end(checked, &map.to.value, checked.plan.images.get(pair.image), pair.at_image(), pair.count)?;
        let rule = checked.plan.rules.iter().find(|rule| rule.map == pair.map);
        let max_age = rule.map_or(f64::INFINITY, |rule| rule.max_age as f64 / 1e6);
        let every = rule.map_or(0, |rule| rule.every);
        found.push(Subject { pair, device, image, max_age, every });
    }
    Ok((found, left_out))
}

fn cells(ways: &mut Ways, wanted: &Wanted) -> Result<Vec<u8>, Failed> {
    super::read::value(ways, wanted).map(|(cells, _)| cells)
}

/// What one look at a rule brought.
struct Look {
    before: Vec<u8>,
    seen: Result<Vec<u8>, Failed>,
    after: Vec<u8>,
}

/// Looks at these rules at once: at the devices, at the images once whatever they show was polled after that, and at the
/// devices again. So what a reader sees lies between the two looks, however fast a value moves one way.
fn at_once(ways: &mut Ways, subjects: &[&Subject], wait: Duration, stop: &Stop) -> Vec<Result<Look, Failed>> {
    let before: Vec<Result<Vec<u8>, Failed>> =
        subjects.iter().map(|subject| cells(ways, &subject.device)).collect();
    pause(wait, stop);
    let seen: Vec<Result<Vec<u8>, Failed>> =
        subjects.iter().map(|subject| cells(ways, &subject.image)).collect();
    let ends = before.into_iter().zip(seen).zip(subjects);
    ends.map(|((before, seen), subject)| {
        let before = before?;
        let after = cells(ways, &subject.device)?;
        Ok(Look { before, seen, after })
    })
    .collect()
}

fn pause(wait: Duration, stop: &Stop) {
    let slice = Duration::from_millis(50);
    let slices = wait.as_millis() / slice.as_millis();
    for _ in 0..slices {
        if stop.is_asked() {
            return;
        }
        super::rig::nap(slice);
    }
}

/// A value with the subject and item that it belongs to.
type Numbered = (usize, u32, LiveValue);

fn look(
    console: &Console,
    ways: &mut Ways,
    subjects: &[Subject],
    looks: u32,
    every: u64,
    tolerance: f64,
    stop: &Stop,
) -> Vec<Numbered> {
    let mut values: Vec<Numbered> = vec![];
    for (at, subject) in subjects.iter().enumerate() {
        values.extend((0..subject.pair.count).map(|item| (at, item, blank(ways, subject, item))));
    }
    let bar = ProgressBar::with_draw_target(
        Some(u64::from(looks)),
        if console.is_watched() { ProgressDrawTarget::stderr() } else { ProgressDrawTarget::hidden() },
    );
    if let Ok(style) = ProgressStyle::with_template("  {msg:28} {bar:30} {pos}/{len}") {
        bar.set_style(style);
    }
    bar.set_message("devices and images");
    bar.tick();
    let slowest = subjects.iter().map(|subject| subject.every).max().unwrap_or(0);
    let wait = Duration::from_micros(slowest.min(LONGEST_WAIT)) + Duration::from_millis(300);
    for round in 0..looks {
        if round > 0 {
            pause(Duration::from_micros(every), stop);
        }
        // What turns round or jumps between two looks is looked at again before it is called wrong.
        let mut left: Vec<(usize, u32)> = values.iter().map(|(at, item, _)| (*at, *item)).collect();
        for attempt in 1..=ATTEMPTS {
            if stop.is_asked() || left.is_empty() {
                break;
            }
            let mut which: Vec<usize> = left.iter().map(|(at, _)| *at).collect();
            which.dedup();
            let these: Vec<&Subject> = which.iter().filter_map(|at| subjects.get(*at)).collect();
            let found = at_once(ways, &these, wait, stop);
            let status = ways.status();
            for ((at, subject), look) in which.iter().zip(these).zip(found) {
                let age = super::read::age(ways, status.as_ref(), &subject.image);
                let good =
                    |item: u32| look.as_ref().map_or(true, |look| judged(subject, item, look, tolerance).1);
                for (own, item, value) in values.iter_mut().filter(|(own, ..)| own == at) {
                    if left.contains(&(*own, *item)) && (attempt == ATTEMPTS || good(*item)) {
                        take(value, subject, *item, &look, age, tolerance);
                        left.retain(|one| one != &(*own, *item));
                    }
                }
            }
        }
        bar.inc(1);
    }
    bar.finish_and_clear();
    values
}

fn blank(ways: &Ways, subject: &Subject, item: u32) -> LiveValue {
    let map = ways.checked().and_then(|checked| checked.project.maps.get(subject.pair.map));
    let name = map.and_then(|map| map.name.as_ref()).map(|name| name.value.clone());
    let many = subject.pair.count > 1;
    let rule = name.unwrap_or_else(|| (subject.pair.map + 1).to_string());
    LiveValue {
        rule: if many { format!("{rule} [{}]", item + 1) } else { rule },
        from: subject.device.written.clone(),
        to: subject.image.written.clone(),
        device_address: subject.device.address(item).canonical,
        image_address: subject.image.address(item).canonical,
        eu: subject.device.eu.clone(),
        device_before: None,
        device: None,
        device_raw: String::new(),
        image: None,
        image_raw: String::new(),
        age: None,
        at: String::new(),
        looks: 0,
        moved: false,
        verdict: "silent",
        good: false,
        why: Some("it was not looked at".into()),
        written: None,
    }
}

/// The verdict on one value, whether it is good, and why not.
fn judged(subject: &Subject, item: u32, look: &Look, tolerance: f64) -> (&'static str, bool, Option<String>) {
    let pair = &subject.pair;
    let (before, after) = (pair.of_device(&look.before, item), pair.of_device(&look.after, item));
    let has_value = pair.has_value(before) || pair.has_value(after);
    match &look.seen {
        Err(failed) if failed.answered && !has_value => {
            ("refused", true, Some("the device says \"no value\", and the reader is refused".into()))
        }
        Err(failed) => ("refused", false, Some(failed.diagnosis.seen.clone())),
        Ok(seen) => match pair.judge(before, pair.of_image(seen, item), after, tolerance) {
            Judged::Same => ("same", true, None),
            Judged::Within => ("within", true, None),
            Judged::NoValue => {
                ("differs", false, Some("the device says \"no value\", and the reader gets one".into()))
            }
            Judged::Differs(hint) => ("differs", false, Some(hint.unwrap_or_else(|| "another value".into()))),
        },
    }
}

fn take(
    value: &mut LiveValue,
    subject: &Subject,
    item: u32,
    look: &Result<Look, Failed>,
    age: Option<f64>,
    tolerance: f64,
) {
    value.at = now();
    let look = match look {
        Ok(look) => look,
        Err(failed) => {
            (value.verdict, value.good, value.why) =
                ("silent", false, Some(format!("the device alone: {}", failed.diagnosis.seen)));
            return;
        }
    };
    let shown = |wanted: &Wanted, cells: &[u8]| {
        wanted.values(cells).into_iter().nth(item as usize).and_then(|shown| shown.value)
    };
    let raw = hex_words(subject.pair.of_device(&look.after, item));
    value.moved |= value.looks > 0 && raw != value.device_raw || look.before != look.after;
    value.device_before = shown(&subject.device, &look.before);
    value.device = shown(&subject.device, &look.after);
    value.device_raw = raw;
    if let Ok(seen) = &look.seen {
        value.image = shown(&subject.image, seen);
        value.image_raw = hex_words(subject.pair.of_image(seen, item));
    }
    let first = value.looks == 0;
    value.looks += 1;
    value.age = age;
    let (verdict, good, why) = judged(subject, item, look, tolerance);
    // One bad look of several is a bad value.
    if first || value.good {
        (value.verdict, value.good, value.why) = (verdict, good, why);
    }
    if value.good && age.is_some_and(|age| age > subject.max_age) && look.seen.is_ok() {
        (value.good, value.why) =
            (false, Some(format!("it is served although it is older than {:.1}s", subject.max_age)));
    }
}

/// A write that was asked for.
struct Planned {
    subject: usize,
    text: String,
    cells: Vec<u8>,
}

fn planned(ways: &Ways, subjects: &[Subject], text: &str) -> Result<Planned, Failure> {
    let (target, value) = text.rsplit_once('=').ok_or_else(|| {
        Failure::Usage(format!(
            "`--write {text}` has no value (write it as POINT=VALUE: nobody else knows what is safe there)"
        ))
    })?;
    let wanted = ways.wanted(&[target.trim().to_string()])?;
    let [wanted] = wanted.as_slice() else {
        return Err(Failure::Usage(format!("`{target}` is a whole device (name one point)")));
    };
    let own = wanted.place.extent();
    let hit = |subject: &&Subject| {
        let end =
            if matches!(wanted.owner, Some(Owner::Image(_))) { &subject.image } else { &subject.device };
        let there = end.place.extent();
        wanted.owner == end.owner
            && there.space == own.space
            && there.first == own.first
            && subject.pair.count == 1
    };
    let found = subjects.iter().enumerate().find(|(_, subject)| hit(subject));
    let Some((at, subject)) = found else {
        return Err(Failure::Usage(format!("no rule shows exactly `{target}`, one value, in an image")));
    };
    if subject.device.danger {
        return Err(Failure::Usage(format!("`{target}` is marked `danger`: no test writes it")));
    }
    if !subject.pair.writable {
        return Err(Failure::Usage(format!("the rule of `{target}` is read-only: no client can write it")));
    }
    let cells =
        subject.image.cells(value.trim()).map_err(|why| Failure::Usage(format!("{target}: {why}")))?;
    Ok(Planned { subject: at, text: value.trim().to_string(), cells })
}

/// Asks once for all writes.
fn agreed(console: &Console, subjects: &[Subject], writes: &[Planned]) -> Result<(), Failure> {
    if !std::io::stdin().is_terminal() {
        return Err(Failure::Usage(
            "real devices are to be written, and nobody is there to be asked (add `--yes`)".into(),
        ));
    }
    let list: Vec<String> = writes
        .iter()
        .filter_map(|write| Some(format!("{} = {}", subjects.get(write.subject)?.device.written, write.text)))
        .collect();
    let mut out = std::io::stderr().lock();
    let question =
        format!("write {} through the images, and put the old values back? [y/N] ", list.join(", "));
    write!(out, "{}", console.paint(Tone::Accent, &question))?;
    out.flush()?;
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line)?;
    if matches!(line.trim(), "y" | "Y" | "yes") {
        return Ok(());
    }
    Err(Failure::Usage("nothing was written".into()))
}

/// Writes through the image, looks at the device, and puts the old value back; in words, and whether all went well.
fn written(ways: &mut Ways, subjects: &[Subject], planned: &Planned) -> (String, bool) {
    let Some(subject) = subjects.get(planned.subject) else { return ("it is not there".into(), false) };
    let (device, image) = (&subject.device, &subject.image);
    let old = match (cells(ways, device), cells(ways, image)) {
        (Ok(device), Ok(image)) => (device, image),
        (Err(failed), _) | (_, Err(failed)) => {
            return (
                format!("not written, because it cannot be read first: {}", failed.diagnosis.seen),
                false,
            );
        }
    };
    if subject.pair.arrived(&old.0, &planned.cells) {
        return (format!("{} is there already: choose another value (M42)", planned.text), false);
    }
    if let Err(failed) = put(ways, image, planned.cells.clone()) {
        return (format!("{} was not taken: {}", planned.text, failed.diagnosis.seen), false);
    }
    let arrived = arrives(ways, subject, &planned.cells);
    let back = put(ways, image, old.1.clone()).is_ok() && arrives(ways, subject, &old.1);
    let shown = |wanted: &Wanted, cells: &[u8]| {
        wanted
            .values(cells)
            .into_iter()
            .next()
            .and_then(|shown| shown.value)
            .unwrap_or_else(|| hex_words(cells))
    };
    let before = shown(image, &old.1);
    let words = match (arrived, back) {
        (true, true) => format!("{} written and arrived; {before} put back", planned.text),
        (false, true) => format!("{} written and did not arrive; {before} put back", planned.text),
        (_, false) => format!("{} written; {before} could NOT be put back: write it by hand", planned.text),
    };
    (words, arrived && back)
}

fn put(ways: &mut Ways, image: &Wanted, cells: Vec<u8>) -> Result<(), Failed> {
    let extents = image.requests(Verb::Write).unwrap_or_default();
    for extent in extents {
        ways.ask(image, |reach, station| reach.write(station, extent, cells.clone()))?;
    }
    Ok(())
}

fn arrives(ways: &mut Ways, subject: &Subject, wanted: &[u8]) -> bool {
    for _ in 0..ARRIVES.0 {
        if cells(ways, &subject.device).is_ok_and(|device| subject.pair.arrived(&device, wanted)) {
            return true;
        }
        super::rig::nap(ARRIVES.1);
    }
    false
}

fn show(console: &mut Console, proof: &LiveProof) -> Result<(), Failure> {
    match console.format {
        Format::Json => return console.json(proof),
        Format::Csv => return console.table(&render::live::full_table(proof)),
        Format::Text => {}
    }
    console.table(&render::live::table(proof))?;
    for value in proof.values.iter().filter(|value| !value.good) {
        let head = console.paint(Tone::Bad, "not accepted");
        console.say(&format!("\n{head}  {}: {} -> {}", value.rule, value.from, value.to))?;
        console
            .say(&format!("  {}", value.why.as_deref().or(value.written.as_deref()).unwrap_or_default()))?;
    }
    for value in proof.values.iter().filter(|value| value.good && value.written.is_some()) {
        console.say(&format!("{}: {}", value.from, value.written.as_deref().unwrap_or_default()))?;
    }
    console.say("")?;
    let still = proof.values.iter().filter(|value| value.good && !value.moved).count();
    if still > 0 {
        let head = console.paint(Tone::Doubt, "M49");
        console.note(&format!(
            "{head} {still} of {} values never moved while they were looked at: they prove little yet (move them, or look longer: `--looks 20`)",
            proof.values.len()
        ));
    }
    if !proof.left_out.is_empty() {
        console.note(&format!(
            "{} rules have no two ends to compare: {}",
            proof.left_out.len(),
            proof.left_out.join(", ")
        ));
    }
    let good = proof.values.iter().filter(|value| value.good).count();
    let (tone, word) = if proof.holds() { (Tone::Good, "accepted") } else { (Tone::Bad, "not accepted") };
    let head = console.paint(tone, word);
    console.say(&format!(
        "{head}  {good} of {} values are the same at the device and at the reader",
        proof.values.len()
    ))
}
