//! `woodrush run`: the converter, on the real ports or attached to a running rig.

use crate::console::{Console, Tone};
use crate::{Failure, Verdict};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc;
use std::time::Duration;
use woodrush_core::check::Checked;
use woodrush_core::project::Wires;
use woodrush_core::protocol::{refusal_cause, refusal_shown};
use woodrush_engine::converter::{Bindings, Event, start};
use woodrush_engine::rig::{Remote, aliases};
use woodrush_engine::stop::Stop;

pub(crate) fn run(console: &mut Console, path: &Path, on_rig: bool) -> Result<Verdict, Failure> {
    let Some(mut checked) = crate::project::load_sound(console, path)? else { return Ok(Verdict::No) };
    let remote = on_rig.then(|| Remote::of(path));
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
    let (teller, events) = mpsc::channel();
    let plan = Arc::new(std::mem::take(&mut checked.plan));
    // Whoever hears the events is gone only when this function has returned.
    let running = start(&checked, Arc::clone(&plan), &bindings, move |event| drop(teller.send(event)))
        .map_err(|fault| Failure::Outside(fault.to_string()))?;
    if let Some(remote) = &remote {
        let name = |port: usize| checked.project.ports.get(port).map_or("", |port| port.name.value.as_str());
        let serving: Vec<String> =
            running.listening().iter().map(|(port, at)| format!("{}={at}", name(*port))).collect();
        remote.say("serving", &serving).map_err(no_rig)?;
    }
    let names = Names::of(&checked);
    // What only reading needed: a large project's texts are many times its plan.
    drop(checked);
    woodrush_engine::give_memory_back();
    console.note("the converter runs; Ctrl-C ends it");
    loop {
        match events.recv_timeout(Duration::from_millis(100)) {
            Ok(event) => {
                if let Some(line) = names.tell(console, &plan, &event) {
                    console.say(&line)?;
                }
            }
            Err(mpsc::RecvTimeoutError::Timeout) => {}
            Err(mpsc::RecvTimeoutError::Disconnected) => break,
        }
        if stop.is_asked() {
            break;
        }
    }
    drop(running);
    console.note("ended; ports and sockets are closed");
    Ok(Verdict::Yes)
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
