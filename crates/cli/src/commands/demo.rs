//! `woodrush demo`: the shipped example, from nothing to a proven conversion, in seconds.

use super::prove::ProofBeside;
use super::run::Names;
use crate::args::Format;
use crate::console::{Console, Tone, counted};
use crate::render::findings;
use crate::{Failure, Verdict};
use std::path::Path;
use std::sync::{Arc, mpsc};
use std::time::Duration;
use woodrush_core::check::{Checked, check};
use woodrush_core::compare::{Comparison, KnownSite, followers};
use woodrush_core::form::{Conversion, Form};
use woodrush_core::handover::handover_list;
use woodrush_core::import::{ImportOptions, import};
use woodrush_core::plan::Plan;
use woodrush_core::project::{Wires, read};
use woodrush_core::protocol::{Extent, refusal_shown};
use woodrush_core::{Refusal, Span, Spanned};
use woodrush_engine::Dialer;
use woodrush_engine::converter::{Event, Running, start};
use woodrush_engine::rig::{Rig, RigWires};

/// The hatchery, by path.
const FILES: [(&str, &str); 11] = [
    ("woodrush.toml", include_str!("../../../../demo/woodrush.toml")),
    ("woodrush.ledger", include_str!("../../../../demo/woodrush.ledger")),
    ("grader-tags.csv", include_str!("../../../../demo/grader-tags.csv")),
    ("lists/farm-office.csv", include_str!("../../../../demo/lists/farm-office.csv")),
    ("lists/blower-drive.csv", include_str!("../../../../demo/lists/blower-drive.csv")),
    ("profiles/oxygen-probe.toml", include_str!("../../../../demo/profiles/oxygen-probe.toml")),
    ("profiles/blower-drive.toml", include_str!("../../../../demo/profiles/blower-drive.toml")),
    ("profiles/drum-filter.toml", include_str!("../../../../demo/profiles/drum-filter.toml")),
    ("profiles/feeder.toml", include_str!("../../../../demo/profiles/feeder.toml")),
    ("profiles/level-gauge.toml", include_str!("../../../../demo/profiles/level-gauge.toml")),
    ("profiles/temperature-h1.toml", include_str!("../../../../demo/profiles/temperature-h1.toml")),
];

fn file(path: &str) -> Result<String, String> {
    let found = FILES.iter().find(|(name, _)| *name == path);
    found.map(|(_, text)| (*text).to_string()).ok_or_else(|| format!("{path} is not part of the demo"))
}

pub(crate) fn run(console: &mut Console, keep: Option<&Path>) -> Result<Verdict, Failure> {
    if let Some(dir) = keep {
        super::new::write_files(dir, &FILES)?;
    }
    let text = file("woodrush.toml").map_err(Failure::Outside)?;
    let checked = Arc::new(check(read("woodrush.toml", text, &mut file)));
    if console.format != Format::Text {
        // The steps are for people; what they end in is data.
        let proof = super::prove::prove_visibly(console, &checked, (&file, &RigWires::new()))?;
        return super::prove::show(console, &proof);
    }
    site(console, &checked)?;
    list(console)?;
    step(console, 2, "the check: every fault that the file alone can show")?;
    let found = findings::text(console, &checked, false, findings::MOST);
    console.say(if found.is_empty() { "  no errors, no warnings, no remarks" } else { &found })?;
    map(console, &checked)?;
    // Lines at their own speed leave a computer idle most of the time: both fit.
    let proof = ProofBeside::begin(&checked, file);
    let play = Play::begin(&checked)?;
    at_work(console, &play)?;
    changed(console, &play)?;
    setpoint(console, &play)?;
    cut(console, &play)?;
    sensor_fails(console, &play)?;
    controller_idles(console, &play)?;
    drop(play);
    step(console, 10, "the proof: every rule, every pattern, both ways, before and after a cut cable")?;
    console.say("  it began with step 4, on simulated stations of its own (`woodrush prove`)")?;
    let proof = proof.end(console)?;
    let verdict = super::prove::show(console, &proof)?;
    papers(console, &checked)?;
    console.say("")?;
    match keep {
        Some(dir) => console.say(&format!(
            "the files are in {0}: cd {0}, then `woodrush check`, `rig up`, `run --rig`",
            dir.display()
        ))?,
        None => {
            console.say("`woodrush demo --keep DIR` leaves the files; `woodrush new DIR` begins your own")?
        }
    }
    Ok(verdict)
}

fn step(console: &mut Console, number: u32, text: &str) -> Result<(), Failure> {
    let head = console.paint(Tone::Accent, &format!("{number}  {text}"));
    console.say("")?;
    console.say(&head)
}

fn site(console: &mut Console, checked: &Checked) -> Result<(), Failure> {
    let project = &checked.project;
    let head = console.paint(Tone::Accent, &format!("1  the site: {} (invented)", project.name.value));
    console.say(&head)?;
    for (at, port) in project.ports.iter().enumerate() {
        let protocol = port.protocol.map_or("", |protocol| protocol.value.name());
        let what = match &port.wires {
            Some(Wires::Serial { path, line, .. }) => {
                let line = line.map(|line| line.value.to_string()).unwrap_or_default();
                format!("{} {line}, {protocol}", path.value)
            }
            Some(Wires::Listen { at: socket }) => format!("{}, {protocol}", socket.value),
            Some(Wires::Connect { to }) => format!("to {}, {protocol}", to.value),
            Some(Wires::Pty { path }) => format!("{}, {protocol}", path.value),
            Some(Wires::Network { at }) => format!("all sockets of {}, {protocol}", at.value),
            Some(Wires::Ethernet { interface }) => format!("frames on {}, {protocol}", interface.value),
            None => continue,
        };
        let asked: Vec<&str> =
            checked.plan.devices.iter().filter(|d| d.port == at).map(|d| d.name.as_str()).collect();
        let shown: Vec<&str> =
            checked.plan.images.iter().filter(|i| i.port == at).map(|i| i.name.as_str()).collect();
        console.say(&format!("  {:<12} {what}", port.name.value))?;
        let asks = if matches!(port.wires, Some(Wires::Network { .. })) { "opens" } else { "asks" };
        let who = [(asks, asked), ("shows", shown)];
        let who = who.iter().filter(|(_, who)| !who.is_empty());
        let who: Vec<String> = who.map(|(does, who)| format!("{does} {}", who.join(", "))).collect();
        console.say(&format!("  {:<12} {}", "", who.join("; ")))?;
    }
    Ok(())
}

/// The list of a maker, and the points that it gives.
fn list(console: &mut Console) -> Result<(), Failure> {
    let path = "lists/blower-drive.csv";
    let text = file(path).map_err(Failure::Outside)?;
    let found = import(text.as_bytes(), &ImportOptions::default()).map_err(Failure::Outside)?;
    console.say(&format!("  profiles are made of the makers' register lists (`woodrush import {path}`):"))?;
    for point in found.points.iter().filter(|point| point.form.is_some()) {
        let form = point.form.map(|form| form.to_string()).unwrap_or_default();
        console.say(&format!("    {:<62} {} as {form}", point.source, point.at))?;
    }
    Ok(())
}

fn map(console: &mut Console, checked: &Checked) -> Result<(), Failure> {
    step(console, 3, "the map: a few of its rules (`woodrush map` shows every value)")?;
    for name in [
        "oxygen-1",
        "temperature-1",
        "blower-1-setpoint",
        "blower-1-fault",
        "drum-filter-words",
        "hopper-west",
        "ration-west",
        "pump-flow",
        "oxygen-for-the-pumps",
        "fish-by-size",
        "water-for-the-graders",
        "block-oxygen",
        "wanted-flow",
        "gates-wanted",
        "level-for-the-filters",
        "wash-pressure-wanted",
        "inlet-temperature-1",
        "inlet-status-1",
    ] {
        let Some(rule) =
            checked.project.maps.iter().find(|map| map.name.as_ref().is_some_and(|own| own.value == name))
        else {
            continue;
        };
        let arrow = if rule.read_write.is_some() { "<->" } else { "-->" };
        let count = rule.count.map(|count| format!(" x{}", count.value)).unwrap_or_default();
        console.say(&format!("  {:<26} {arrow} {}{count}", rule.from.value, rule.to.value))?;
    }
    let (rules, polls) = (checked.plan.rules.len(), checked.plan.transfers.len());
    let cycle = checked.plan.cycles.iter().max().copied().unwrap_or(0);
    console.say(&format!(
        "  {rules} rules in {polls} requests; one cycle of the slowest line takes {:.0} ms",
        cycle as f64 / 1e3
    ))
}

/// The site at work: bench, converter and a reader.
struct Play {
    checked: Arc<Checked>,
    rig: Rig,
    running: Running,
    names: Names,
    plan: Arc<Plan>,
    events: mpsc::Receiver<Event>,
}

impl Play {
    fn begin(checked: &Arc<Checked>) -> Result<Self, Failure> {
        let rig = Rig::up(Arc::clone(checked), &file).map_err(|fault| Failure::Outside(fault.to_string()))?;
        let (teller, events) = mpsc::channel();
        let plan = Arc::new(checked.plan.clone());
        // The receiver of the events is gone only when the demo has ended.
        let running =
            start(checked, Arc::clone(&plan), &rig.bindings(), move |event| drop(teller.send(event)))
                .map_err(|fault| Failure::Outside(fault.to_string()))?;
        rig.serve_clients(&running.listening());
        Ok(Self { names: Names::of(checked), checked: Arc::clone(checked), rig, running, plan, events })
    }

    /// Says what was told in the meantime.
    fn tell(&self, console: &mut Console) -> Result<(), Failure> {
        let events: Vec<Event> = self.events.try_iter().collect();
        for event in events {
            if let Some(line) = self.names.entry(&self.plan, &event).map(|entry| entry.bare(console)) {
                console.say(&format!("  {line}"))?;
            }
        }
        Ok(())
    }

    /// Reads one value over TCP as its client would: cells and what they mean.
    fn read(&self, address: &str, form: &str) -> Result<Result<String, Refusal>, Failure> {
        let (mut dialer, extent) = self.dial(address)?;
        Ok(dialer.read(extent).map(|cells| {
            let form = Form::parse(form).ok();
            form.and_then(|form| Conversion::shown(&form, &cells)).unwrap_or_default()
        }))
    }

    fn dial(&self, address: &str) -> Result<(Dialer, Extent), Failure> {
        let bug = || Failure::Outside(format!("the demo does not know {address}"));
        let entry = Spanned { value: format!("scada:{address}"), span: Span::default() };
        let endpoint = self.checked.project.endpoint(&entry).map_err(|_| bug())?;
        let image = self.plan.images.iter().find(|image| image.name == "scada").ok_or_else(bug)?;
        let woodrush_core::project::Target::Cells(place, _) = endpoint.target else { return Err(bug()) };
        let space = image.spaces.id(&place.space.key).ok_or_else(bug)?;
        let width = self
            .plan
            .feeding(0, space, place.first)
            .and_then(|(rule, _)| self.plan.rules.get(rule))
            .map_or(1, |rule| rule.target.width);
        let (_, to) =
            self.running.listening().into_iter().find(|(port, _)| *port == image.port).ok_or_else(bug)?;
        let dialect = image.dialect.ok_or_else(bug)?;
        let dialer = Dialer::connect(to, None, dialect.name(), image, 3_000_000)?;
        Ok((dialer, Extent { space, first: place.first, count: width }))
    }

    /// Looks again and again until it is as wanted, at most ten seconds.
    fn until(
        &self,
        address: &str,
        form: &str,
        wanted: impl Fn(&Result<String, Refusal>) -> bool,
    ) -> Result<(Result<String, Refusal>, u32), Failure> {
        for look in 0..1000 {
            let seen = self.read(address, form)?;
            if wanted(&seen) {
                return Ok((seen, look * 10));
            }
            super::rig::nap(Duration::from_millis(10));
        }
        Ok((self.read(address, form)?, 10_000))
    }

    fn say_to_rig(&self, console: &mut Console, verb: &str, word: &str) -> Result<(), Failure> {
        let command = if word.is_empty() { verb.to_string() } else { format!("{verb} {word}") };
        let words: Vec<String> = word.split_whitespace().map(str::to_string).collect();
        let answer = self.rig.command(verb, &words);
        console.say(&format!(
            "  {}  {}",
            console.paint(Tone::Faint, &format!("$ woodrush rig {command}")),
            answer.said
        ))?;
        if answer.done { Ok(()) } else { Err(Failure::Outside(answer.said)) }
    }
}

fn told(seen: &Result<String, Refusal>, eu: &str) -> String {
    match seen {
        Ok(value) => format!("{value} {eu}").trim_end().to_string(),
        Err(refusal) => refusal.native.map_or_else(|| refusal.kind.words().to_string(), refusal_shown),
    }
}

fn at_work(console: &mut Console, play: &Play) -> Result<(), Failure> {
    step(console, 4, "the converter at work, on real ptys and sockets, at the line's own speed")?;
    let (first, _) = play.until("400001", "f32 ABCD", Result::is_ok)?;
    let (level, _) = play.until("400301", "f32 ABCD", Result::is_ok)?;
    let (flow, _) = play.until("400501", "f32 ABCD", Result::is_ok)?;
    play.tell(console)?;
    console.say(&format!(
        "  a TCP client reads scada:400001 (holding:0) as f32 ABCD: {}",
        told(&first, "mg/L")
    ))?;
    console.say(&format!("  and scada:400301 (holding:300) as f32 ABCD: {}", told(&level, "m")))?;
    console.say(&format!("  and scada:400501 (holding:500) as f32 ABCD: {}", told(&flow, "m3/h")))
}

fn changed(console: &mut Console, play: &Play) -> Result<(), Failure> {
    step(console, 5, "a value changes in a device, and the TCP reader sees it")?;
    play.say_to_rig(console, "set", "do-1.temperature=17.46")?;
    let (seen, after) = play.until("400011", "i16 scale 0.01", |seen| seen.as_deref() == Ok("17.46"))?;
    console.say(&format!(
        "  scada:400011 (holding:10) as i16 scale 0.01: {}, {after} ms later",
        told(&seen, "degC")
    ))?;
    play.say_to_rig(console, "set", "feeder-west:N11:43=250")?;
    let (seen, after) = play.until("400401", "i16 scale 0.1", |seen| seen.as_deref() == Ok("25"))?;
    console.say(&format!(
        "  scada:400401 (holding:400) as i16 scale 0.1: {}, {after} ms later",
        told(&seen, "kg")
    ))
}

fn setpoint(console: &mut Console, play: &Play) -> Result<(), Failure> {
    step(console, 6, "a setpoint is written over TCP, and the drive has it")?;
    let (mut dialer, extent) = play.dial("400101")?;
    // 42.5 as f32 CDAB: the low word first.
    let written = dialer.write(extent, vec![0x00, 0x00, 0x42, 0x2A]);
    console.say(&format!(
        "  scada:400101 (holding:100) as f32 CDAB: 0000 422A written, {}",
        match &written {
            Ok(()) => "answered by the device".to_string(),
            Err(refusal) => told(&Err(*refusal), ""),
        }
    ))?;
    let answer = play.rig.command("get", &["blower-1.speed-setpoint".to_string()]);
    for row in &answer.rows {
        console.say(&format!(
            "  in the drive: {} = {} Hz, words {} (high word first there)",
            row.name, row.value, row.detail
        ))?;
    }
    let refused = play.dial("400001").map(|(mut dialer, extent)| dialer.write(extent, vec![0; 4]))?;
    console.say(&format!(
        "  a write to scada:400001, which is read-only: {}",
        match refused {
            Ok(()) => "taken".to_string(),
            Err(refusal) => told(&Err(refusal), ""),
        }
    ))
}

fn cut(console: &mut Console, play: &Play) -> Result<(), Failure> {
    step(console, 7, "the cable is cut: nothing stale is served as live")?;
    play.say_to_rig(console, "cut", "raceway")?;
    let (seen, after) = play.until("400011", "i16 scale 0.01", Result::is_err)?;
    console.say(&format!("  after {after} ms scada:400011 answers {}", told(&seen, "degC")))?;
    let (online, _) = play.until("100001", "bool", |seen| seen.as_deref() == Ok("0"))?;
    console.say(&format!("  and do-1.health.online at scada:100001 is {}", told(&online, "")))?;
    play.tell(console)?;
    play.say_to_rig(console, "mend", "raceway")?;
    let (seen, after) = play.until("400011", "i16 scale 0.01", Result::is_ok)?;
    console.say(&format!("  {after} ms after `rig mend` it is there again: {}", told(&seen, "degC")))?;
    play.tell(console)
}

fn sensor_fails(console: &mut Console, play: &Play) -> Result<(), Failure> {
    step(
        console,
        8,
        "a sensor fails, and its device goes on publishing a number: no reader takes it for a value",
    )?;
    let (before, _) = play.until("300101", "f32 ABCD", Result::is_ok)?;
    console.say(&format!("  scada:300101 (input:100) as f32 ABCD: {}", told(&before, "degC")))?;
    play.say_to_rig(console, "bad-status", "inlet-temp-1 0x10")?;
    let (seen, after) = play.until("300101", "f32 ABCD", Result::is_err)?;
    console.say(&format!("  after {after} ms scada:300101 answers {}", told(&seen, "degC")))?;
    let (status, _) = play.until("304101", "u16", |seen| seen.as_deref() == Ok("16"))?;
    console.say(&format!(
        "  and the status byte beside it, scada:304101, is {}: sensor failure",
        told(&status, "")
    ))?;
    play.tell(console)?;
    play.say_to_rig(console, "mend", "inlet-temp-1")?;
    let (seen, after) = play.until("300101", "f32 ABCD", Result::is_ok)?;
    console.say(&format!("  {after} ms after `rig mend` it is there again: {}", told(&seen, "degC")))?;
    play.tell(console)
}

/// The grading line's controller goes on sending its block, and says that its program does not run.
fn controller_idles(console: &mut Console, play: &Play) -> Result<(), Failure> {
    step(
        console,
        9,
        "controllers that exchange blocks and slots are put into program mode: nothing they wrote stays live",
    )?;
    for (wrote, place, controller, unit) in [
        ("grading-block:%QD0", "pumps:%DB10.D24 as f32", "grading-line", "m3/h"),
        ("filter-house:2:%QD0", "drum-filter:400021 as f32 CDAB", "filter-line", "kPa"),
    ] {
        let wanted = |play: &Play| {
            let answer = play.rig.command("get", &[place.to_string()]);
            answer.rows.first().map(|row| row.value.clone()).unwrap_or_default()
        };
        let until = |right: &dyn Fn(&str) -> bool| {
            for look in 0..5000 {
                let seen = wanted(play);
                if right(&seen) {
                    return (seen, look * 2);
                }
                super::rig::nap(Duration::from_millis(2));
            }
            (wanted(play), 10_000)
        };
        let (before, _) = until(&|seen| seen != "0");
        console
            .say(&format!("  {wrote} (output, from the controller) arrives at {place}: {before} {unit}"))?;
        play.say_to_rig(console, "idle", controller)?;
        let (seen, after) = until(&|seen| seen == "0");
        console
            .say(&format!("  after {after} ms it has {seen}, as `on-loss = \"fill 0\"` of the rule says"))?;
        play.say_to_rig(console, "mend", controller)?;
        let (seen, after) = until(&|seen| seen != "0");
        console.say(&format!("  {after} ms after `rig mend` it is {seen} again"))?;
    }
    play.tell(console)
}

/// What is handed over, and who must follow when an address moves afterwards.
fn papers(console: &mut Console, checked: &Checked) -> Result<(), Failure> {
    step(console, 11, "the papers: what others get, and who must follow when something changes")?;
    console
        .say("  `woodrush handover papers` writes a page of the whole site, and the list of each client:")?;
    for client in &checked.project.clients {
        let values = handover_list(checked, client).map_or(0, |list| list.rows.len());
        console.say(&format!("    {:<14} {}", client.name.value, counted(values, "value")))?;
    }
    let (from, to) = ("to   = \"farm:400002\"", "to   = \"farm:400003\"");
    let text = file("woodrush.toml").map_err(Failure::Outside)?.replacen(from, to, 1);
    let next = check(read("woodrush.toml", text, &mut file));
    let comparison = Comparison::of(&KnownSite::of_project(checked), &KnownSite::of_project(&next));
    console.say("  a rule moves to farm:400003; `woodrush compare` says who must follow:")?;
    for own in followers(&comparison, &next) {
        for row in &own.rows {
            let at = row.span.map(|span| next.project.sources.position(span));
            let at = at.map_or_else(String::new, |at| format!("{}:{}", at.file, at.line));
            console.say(&format!("    {}, {at}: {}", own.who, row.text))?;
        }
    }
    Ok(())
}
