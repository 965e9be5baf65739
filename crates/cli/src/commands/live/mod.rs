//! `woodrush prove --live`: real devices against what a reader of the images gets, as an acceptance sheet.

mod looks;
mod sheet;
mod writes;

use crate::args::{ConnectionArgs, Format, Global, ProveArgs};
use crate::connections::{Connections, Failed, fault};
use crate::console::{Console, Tone, counted};
use crate::render;
use crate::{Failure, Verdict};
use looks::look;
use serde::Serialize;
use std::time::SystemTime;
use woodrush_core::check::Checked;
use woodrush_core::plan::Station;
use woodrush_core::project::{Map, micros};
use woodrush_core::protocol::{Extent, Place};
use woodrush_core::wanted::Wanted;
use woodrush_engine::prove::{Pair, pairs};
use woodrush_engine::stop::Stop;
use writes::{agreed, planned, written};

/// Default tolerance between a reader and the device, as a share: the value moves between two samples.
const TOLERANCE: f64 = 0.01;

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
    #[serde(serialize_with = "woodrush_core::shown::maybe")]
    pub(crate) device_before: Option<String>,
    #[serde(serialize_with = "woodrush_core::shown::maybe")]
    pub(crate) device: Option<String>,
    pub(crate) device_raw: String,
    /// What a reader of the image saw, and its words in hex.
    #[serde(serialize_with = "woodrush_core::shown::maybe")]
    pub(crate) image: Option<String>,
    pub(crate) image_raw: String,
    /// In seconds, as the converter knows it: at least so much when the image was read.
    pub(crate) age_s: Option<f64>,
    /// Of the last look, RFC 3339.
    pub(crate) at: String,
    pub(crate) samples: u32,
    /// It changed while it was looked at.
    pub(crate) moved: bool,
    /// `same`, `within`, `differs`, `stale`, `refused`, `no_answer`.
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
    /// On the rig: nothing of it says anything of real devices.
    pub(crate) rehearsal: bool,
    /// A share of the value.
    pub(crate) tolerance: f64,
    pub(crate) values: Vec<LiveValue>,
    /// Rules that have no two ends that could be compared.
    pub(crate) left_out: Vec<String>,
}

impl LiveProof {
    pub(crate) fn holds(&self) -> bool {
        !self.values.is_empty() && self.values.iter().all(|value| value.good)
    }

    /// How many values agree, and how many of those only within the tolerance, or between two looks at the device.
    pub(crate) fn agree(&self) -> String {
        let good = self.values.iter().filter(|value| value.good).count();
        let within = self.values.iter().filter(|value| value.good && value.verdict == "within").count();
        let all = self.values.len();
        match within {
            0 => format!("{good} of {all} values are the same at the device and at the reader"),
            _ => format!(
                "{good} of {all} values agree at the device and at the reader: {} the same, {within} within the tolerance",
                good - within
            ),
        }
    }

    /// The verdict in words: on the rig it is a rehearsal, everywhere.
    pub(crate) fn verdict(&self) -> &'static str {
        match (self.rehearsal, self.holds()) {
            (false, true) => "accepted",
            (false, false) => "not accepted",
            (true, true) => "rehearsed",
            (true, false) => "rehearsal failed",
        }
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
        sheet::kind_of(report)?;
    }
    let tolerance = render::share(args.tolerance.as_deref(), TOLERANCE)?;
    let every =
        micros(&args.every).ok_or_else(|| Failure::Usage(format!("`{}` is not a time", args.every)))?;
    let way = ConnectionArgs { rig: args.rig, ..ConnectionArgs::default() };
    let (mut connections, _) = Connections::sort(global, &way, &[])?;
    if !connections.is_running() {
        return Err(Failure::Outside(
            "no converter of this project is running here, so there is nothing to read the images from (start `woodrush run`, on the rig `woodrush run --rig`)".into(),
        ));
    }
    for report in &args.report {
        render::can_be_written(report)?;
    }
    let (subjects, left_out, site) = {
        let checked = connections.checked().ok_or_else(|| Failure::Usage("there is no project".into()))?;
        let (subjects, left_out) = subjects(checked)?;
        (subjects, left_out, checked.project.name.value.clone())
    };
    let writes = args
        .write
        .iter()
        .map(|text| planned(&connections, &subjects, text))
        .collect::<Result<Vec<_>, _>>()?;
    if !writes.is_empty() && !args.yes {
        agreed(console, &subjects, &writes)?;
    }
    let stop = Stop::with_terminal()
        .map_err(|error| Failure::Outside(format!("signals cannot be caught: {error}")))?;
    let mut values = look(console, &mut connections, &subjects, args.samples.max(1), every, tolerance, &stop);
    for write in &writes {
        if stop.is_asked() {
            break;
        }
        let (words, good) = written(&mut connections, &subjects, write);
        if let Some(value) = values.iter_mut().find(|value| value.0 == write.subject && value.1 == 0) {
            value.2.good &= good;
            value.2.written = Some(words);
        }
    }
    let values = values.into_iter().map(|(.., value)| value).collect();
    let rehearsal = args.rig;
    let proof = LiveProof { format: 1, site, at: now(), rehearsal, tolerance, values, left_out };
    for report in &args.report {
        sheet::write(report, &proof)?;
        let sheet = if proof.rehearsal { "rehearsal" } else { "acceptance sheet" };
        console.note(&format!("{sheet} written to {}", report.display()));
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
    let name = |map: usize| match checked.project.maps.get(map) {
        Some(Map { name: Some(name), .. }) => name.value.clone(),
        Some(map) => format!("{} -> {}", map.from.value, map.to.value),
        None => String::new(),
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

fn cells(connections: &mut Connections, wanted: &Wanted) -> Result<Vec<u8>, Failed> {
    crate::commands::read::value(connections, wanted).map(|(cells, _)| cells)
}

fn show(console: &mut Console, proof: &LiveProof) -> Result<(), Failure> {
    match console.format {
        Format::Json => return console.json(proof),
        Format::Csv => return console.table(&sheet::full_table(proof)),
        Format::Text => {}
    }
    console.table(&sheet::table(proof))?;
    for value in proof.values.iter().filter(|value| !value.good) {
        let head = console.paint(Tone::Bad, if proof.rehearsal { "does not agree" } else { "not accepted" });
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
            "{head} {still} of {} values did not change during the test and prove little (change them, or take more samples: `--samples 20`)",
            proof.values.len()
        ));
    }
    if !proof.left_out.is_empty() {
        console.note(&format!(
            "{} {} not compared, because one end is not a device: {}",
            counted(proof.left_out.len(), "rule"),
            if proof.left_out.len() == 1 { "was" } else { "were" },
            proof.left_out.join(", ")
        ));
    }
    if proof.rehearsal {
        console.say("a rehearsal on simulated devices: it says nothing of the real ones")?;
    }
    let head = console.paint(if proof.holds() { Tone::Good } else { Tone::Bad }, proof.verdict());
    console.say(&format!("{head}  {}", proof.agree()))
}
