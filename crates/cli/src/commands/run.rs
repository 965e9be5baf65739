//! `woodrush run`: the converter, on the real ports or attached to a running rig.

use crate::console::{Console, Tone};
use crate::{Failure, Verdict};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::mpsc;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, SystemTime};
use woodrush_core::check::Checked;
use woodrush_core::project::Wires;
use woodrush_core::protocol::{refusal_cause, refusal_shown};
use woodrush_engine::control::{Answer, Control, Heard, Remote, Row, Whose, control_path};
use woodrush_engine::converter::{Bindings, Event, Running, start};
use woodrush_engine::monitor::{Http, Monitor};
use woodrush_engine::reach::Desk;
use woodrush_engine::rig::aliases;
use woodrush_engine::shared::WriteRecord;
use woodrush_engine::stop::Stop;
use woodrush_engine::tap::TapDesk;

/// How `run` was asked to run.
pub(crate) struct Options {
    pub(crate) rig: bool,
    pub(crate) follow: bool,
    pub(crate) monitor: Option<SocketAddr>,
}

/// How often the files are looked at, and the events are taken.
const LOOK: Duration = Duration::from_millis(100);

pub(crate) fn run(console: &mut Console, path: &Path, options: &Options) -> Result<Verdict, Failure> {
    let Some(mut checked) = crate::project::load_sound(console, path)? else { return Ok(Verdict::No) };
    let remote = options.rig.then(|| Remote::of(Whose::Rig, path));
    let bindings = match &remote {
        Some(remote) => attach(remote, &checked)?,
        None => Bindings::default(),
    };
    if console.verbose {
        for line in crate::render::findings::polls(&checked) {
            console.note(&line);
        }
    }
    let stop =
        Stop::listen().map_err(|error| Failure::Outside(format!("signals cannot be heard: {error}")))?;
    let mut log = WriteLog::of(&checked, path)?;
    let (teller, events) = mpsc::channel();
    let mut plan = Arc::new(std::mem::take(&mut checked.plan));
    // Whoever hears the events is gone only when this function has returned.
    let mut running = start(&checked, Arc::clone(&plan), &bindings, move |event| drop(teller.send(event)))
        .map_err(|fault| Failure::Outside(fault.to_string()))?;
    let monitor = Monitor::new(&running, &checked);
    let http = match options.monitor {
        Some(at) => Some(Http::serve(&monitor, at).map_err(|error| {
            Failure::Outside(format!("the monitor cannot listen on {at}: {error} (write another address)"))
        })?),
        None => None,
    };
    let again = Arc::new(AtomicBool::new(false));
    let desks = (Desk::new(&running.site), TapDesk::new(&running));
    let places = Arc::new(Mutex::new(vec![]));
    let control = Control::listen(&control_path(Whose::Run, path), hearer(&monitor, &again, desks, &places))
        .map_err(|error| match error.kind() {
            std::io::ErrorKind::AddrInUse => {
                Failure::Outside("a converter of this project is running already".into())
            }
            _ => Failure::Outside(format!("no control socket: {error}")),
        })?;
    let mut told = serving(&remote, &checked, &running, &places, vec![])?;
    let mut names = Names::of(&checked);
    let mut watch = Watch::of(&checked, path);
    // What only reading needed: a large project's texts are many times its plan.
    drop(checked);
    woodrush_engine::give_memory_back();
    if let Some(http) = &http {
        console.note(&format!("counters at http://{}/status and /metrics", http.at));
    }
    console.note("the converter runs; Ctrl-C ends it, SIGHUP takes the project anew");
    let mut looked = 0u32;
    while !stop.is_asked() {
        match events.recv_timeout(LOOK) {
            Ok(Event::Written(record)) => log.write(console, &record),
            Ok(event) => {
                if let Some(line) = names.tell(console, &plan, &event) {
                    console.say(&line)?;
                }
            }
            Err(mpsc::RecvTimeoutError::Timeout) => {}
            Err(mpsc::RecvTimeoutError::Disconnected) => break,
        }
        looked = looked.wrapping_add(1);
        let changed = options.follow && looked.is_multiple_of(5) && watch.changed();
        if !(changed || stop.hung_up() || again.swap(false, Relaxed)) {
            continue;
        }
        // The events so far belong to the project that runs.
        while let Ok(event) = events.try_recv() {
            if let Some(line) = names.tell(console, &plan, &event) {
                console.say(&line)?;
            }
        }
        let Some(mut next) = reread(console, path) else { continue };
        watch = Watch::of(&next, path);
        let next_plan = Arc::new(std::mem::take(&mut next.plan));
        log = WriteLog::of(&next, path)?;
        names = Names::of(&next);
        plan = Arc::clone(&next_plan);
        if let Err(fault) = running.reload(&next, next_plan) {
            console.complain(&fault.to_string());
        }
        monitor.renew(&next, &plan);
        told = serving(&remote, &next, &running, &places, told)?;
    }
    drop(control);
    drop(http);
    drop(running);
    console.note("ended; ports and sockets are closed");
    Ok(Verdict::Yes)
}

/// Reads a changed project; one with errors is shown and not taken.
fn reread(console: &mut Console, path: &Path) -> Option<Checked> {
    match crate::project::load(path) {
        Ok(next) if next.has_errors() => {
            let text = crate::render::findings::text(console, &next, true);
            console.note(&text);
            console.complain("the changed project has errors, so the one that runs goes on");
            None
        }
        Ok(next) => Some(next),
        Err(Failure::Usage(why) | Failure::Outside(why)) => {
            console.complain(&format!("{why}; the project that runs goes on"));
            None
        }
        Err(Failure::OutputClosed) => None,
    }
}

/// Tells the rig where the converter serves, unless that is what it was told before; gives back what it knows.
fn serving(
    remote: &Option<Remote>,
    checked: &Checked,
    running: &Running,
    places: &Mutex<Vec<Row>>,
    before: Vec<String>,
) -> Result<Vec<String>, Failure> {
    let name = |port: usize| checked.project.ports.get(port).map_or("", |port| port.name.value.as_str());
    let serving: Vec<String> =
        running.listening().iter().map(|(port, at)| format!("{}={at}", name(*port))).collect();
    let row = |(port, at): &(usize, SocketAddr)| Row {
        name: name(*port).into(),
        value: at.to_string(),
        detail: String::new(),
    };
    *places.lock().unwrap_or_else(PoisonError::into_inner) = running.listening().iter().map(row).collect();
    if let (Some(remote), true) = (remote, serving != before) {
        remote.say("serving", &serving).map_err(no_rig)?;
    }
    Ok(serving)
}

/// Answers what other terminals say to the converter.
fn hearer(
    monitor: &Arc<Monitor>,
    again: &Arc<AtomicBool>,
    (desk, tap): (Desk, TapDesk),
    places: &Arc<Mutex<Vec<Row>>>,
) -> impl Fn(&str, &[String]) -> Option<Heard> + Send + Sync + use<> {
    let (monitor, again, places) = (Arc::downgrade(monitor), Arc::clone(again), Arc::clone(places));
    move |verb, words| {
        if let Some(heard) = desk.hear(verb, words).map(Heard::from).or_else(|| tap.hear(verb, words)) {
            return Some(heard);
        }
        let monitor = monitor.upgrade()?;
        let done = |said: &str| Answer::of(Ok((said.to_string(), vec![])));
        let answer = match verb {
            "status" => Answer { data: serde_json::to_value(monitor.status()).ok(), ..done("") },
            "reset" => {
                monitor.reset();
                done("all counters are 0")
            }
            "where" => {
                let rows = places.lock().unwrap_or_else(PoisonError::into_inner).clone();
                Answer { rows, ..done("") }
            }
            "reload" => {
                again.store(true, Relaxed);
                done("the project is taken anew")
            }
            _ => Answer::of(Err(format!("the converter has no command `{verb}`"))),
        };
        Some(answer.into())
    }
}

/// The files of a project, to see whether they change.
struct Watch(Vec<(PathBuf, Option<SystemTime>)>);

impl Watch {
    fn of(checked: &Checked, path: &Path) -> Self {
        let folder = path.parent().map(Path::to_path_buf).unwrap_or_default();
        let profiles = checked.project.profiles.iter().map(|profile| folder.join(&profile.path));
        let files = [path.to_path_buf()].into_iter().chain(profiles);
        Self(files.map(|file| (file.clone(), modified(&file))).collect())
    }

    /// Whether one of them has changed since the last look.
    fn changed(&mut self) -> bool {
        let mut changed = false;
        for (file, seen) in &mut self.0 {
            let now = modified(file);
            // A file that is away is being written anew.
            if now.is_some() && now != *seen {
                *seen = now;
                changed = true;
            }
        }
        changed
    }
}

fn modified(file: &Path) -> Option<SystemTime> {
    std::fs::metadata(file).and_then(|found| found.modified()).ok()
}

/// The CSV file that gets a row for every write of a client.
struct WriteLog(Option<(PathBuf, csv::Writer<std::fs::File>)>);

impl WriteLog {
    fn of(checked: &Checked, path: &Path) -> Result<Self, Failure> {
        let Some(file) = &checked.project.converter.write_log else { return Ok(Self(None)) };
        let folder = path.parent().map(Path::to_path_buf).unwrap_or_default();
        let whole = folder.join(&file.value);
        let fault = |error: std::io::Error| {
            Failure::Outside(format!("the write log {} cannot be written: {error}", whole.display()))
        };
        let opened = std::fs::OpenOptions::new().create(true).append(true).open(&whole).map_err(fault)?;
        let fresh = opened.metadata().map_err(fault)?.len() == 0;
        let mut writer = csv::Writer::from_writer(opened);
        if fresh {
            let head = ["time", "client", "image", "address", "old", "new", "outcome"];
            writer.write_record(head).map_err(|error| fault(error.into()))?;
            writer.flush().map_err(fault)?;
        }
        Ok(Self(Some((whole, writer))))
    }

    fn write(&mut self, console: &mut Console, record: &WriteRecord) {
        let Some((whole, writer)) = &mut self.0 else { return };
        #[allow(clippy::disallowed_methods, reason = "the log tells people when it was")]
        let time = humantime::format_rfc3339_millis(SystemTime::now()).to_string();
        let WriteRecord { who, image, address, old, new, outcome } = record;
        let row = [&time, who, image, address, old, new, outcome];
        let written = writer.write_record(row).map_err(std::io::Error::from).and_then(|()| writer.flush());
        if let Err(error) = written {
            console.complain(&format!("a write is not in the log {}: {error}", whole.display()));
        }
    }
}

fn no_rig(error: std::io::Error) -> Failure {
    match error.kind() {
        std::io::ErrorKind::NotFound | std::io::ErrorKind::ConnectionRefused => Failure::Outside(
            "no rig of this project is running (start `woodrush rig up` in another terminal)".into(),
        ),
        _ => Failure::Outside(format!("the rig does not answer: {error}")),
    }
}

/// Asks the rig for its lines.
fn attach(remote: &Remote, checked: &Checked) -> Result<Bindings, Failure> {
    let answer = remote.say("lines", &[]).map_err(no_rig)?;
    let mut bindings = Bindings { bench: Some(aliases(checked)), ..Bindings::default() };
    for row in answer.rows {
        let Some(port) = checked.project.port(&row.name) else { continue };
        match checked.project.ports.get(port).and_then(|port| port.wires.as_ref()) {
            Some(Wires::Serial { .. }) => drop(bindings.serial.insert(port, PathBuf::from(row.value))),
            Some(Wires::Pty { .. }) => drop(bindings.pty.insert(port, PathBuf::from(row.value))),
            Some(Wires::Connect { .. }) => {
                let at = row
                    .value
                    .parse()
                    .map_err(|_| Failure::Outside(format!("the rig says `{}`", row.value)))?;
                bindings.connect.insert(port, at);
            }
            _ => {}
        }
    }
    Ok(bindings)
}

/// Names for events.
pub(crate) struct Names {
    ports: Vec<String>,
    devices: Vec<String>,
}

impl Names {
    pub(crate) fn of(checked: &Checked) -> Self {
        let project = &checked.project;
        Self {
            ports: project.ports.iter().map(|port| port.name.value.clone()).collect(),
            devices: project.devices.iter().map(|device| device.name.value.clone()).collect(),
        }
    }

    /// An event as a line of the log.
    pub(crate) fn tell(
        &self,
        console: &Console,
        plan: &woodrush_core::plan::Plan,
        event: &Event,
    ) -> Option<String> {
        let port = |at: &usize| self.ports.get(*at).map_or("", String::as_str);
        let device = |at: &usize| self.devices.get(*at).map_or("", String::as_str);
        let (tone, name, text) = match event {
            Event::PortUp { port: at, what } => (Tone::Good, port(at), format!("open at {what}")),
            Event::PortDown { port: at, why } => {
                (Tone::Bad, port(at), format!("gone, {why}; it is tried again and again"))
            }
            Event::DeviceBack { device: at } => (Tone::Good, device(at), "answers".to_string()),
            Event::DeviceLost { device: at, kind } => {
                (Tone::Bad, device(at), format!("lost: {}", kind.words()))
            }
            Event::Refused { device: at, transfer, refusal } => {
                let what = plan.transfers.get(*transfer).and_then(|transfer| {
                    Some(plan.devices.get(*at)?.show(transfer.extent.space, transfer.extent.first, None))
                });
                let why = refusal.native.map_or_else(
                    || refusal.kind.words().to_string(),
                    |native| format!("{}; {}", refusal_shown(native), refusal_cause(native)),
                );
                (Tone::Doubt, device(at), format!("refuses {}: {why}", what.unwrap_or_default()))
            }
            Event::TakesLess { device: at, transfer, bytes, .. } => {
                let what = plan.transfers.get(*transfer).and_then(|transfer| {
                    Some(plan.devices.get(*at)?.show(transfer.extent.space, transfer.extent.first, None))
                });
                let text = format!(
                    "refuses all of {} at once and gives it in requests of {bytes} bytes: asked so from now on; `max-read = {bytes}` lets `budget` count it",
                    what.unwrap_or_default()
                );
                (Tone::Doubt, device(at), text)
            }
            Event::Client { port: at, who, why } => (Tone::Doubt, port(at), format!("client {who} {why}")),
            Event::NotTaken { device: at, rule, refusal } => {
                let what = plan.rules.get(*rule as usize).and_then(|rule| {
                    Some(plan.devices.get(*at)?.show(rule.target.space, rule.target.first, rule.target.bit))
                });
                let why = refusal.native.map_or_else(|| refusal.kind.words().to_string(), refusal_shown);
                (Tone::Doubt, device(at), format!("does not take {}: {why}", what.unwrap_or_default()))
            }
            Event::Reloaded { what } => (Tone::Good, "project", what.clone()),
            Event::Written(_) => return None,
        };
        Some(format!("{} {text}", console.paint(tone, &format!("{name:<14}"))))
    }
}
