//! A converter as `run` has it: its ports, its control socket, its monitor, and the rig that it is attached to.

use crate::Failure;
use std::collections::BTreeMap;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Arc, Mutex, PoisonError};
use woodrush_core::check::Checked;
use woodrush_core::plan::Plan;
use woodrush_core::project::Wires;
use woodrush_engine::control::{Claim, Control, ControlAnswer, Handled, Remote, Row, Whose};
use woodrush_engine::converter::{Bindings, Event, Running, start};
use woodrush_engine::direct::ControlHandler;
use woodrush_engine::monitor::Monitor;
use woodrush_engine::rig::aliases;
use woodrush_engine::tap::TapHandler;

/// A converter at work, heard by other terminals; dropping it ends it.
pub(crate) struct Converter {
    // In the order in which they end.
    _control: Control,
    pub(crate) monitor: Arc<Monitor>,
    running: Running,
    rig: Option<Remote>,
    places: Arc<Mutex<Vec<Row>>>,
    /// What the rig knows of where it serves.
    told: Option<Vec<String>>,
    again: Arc<AtomicBool>,
}

/// What the converter's ports are.
pub(crate) struct Attach {
    /// Those of the project's running rig.
    pub(crate) rig: bool,
    /// One whose adapter or address is missing is opened later.
    pub(crate) may_be_missing: bool,
    /// What stations have kept of the run before, by image and key.
    pub(crate) kept: BTreeMap<String, BTreeMap<String, String>>,
}

/// What is known of the one that has the place, to stand behind "is running already".
pub(crate) fn already(error: &std::io::Error) -> String {
    match error.to_string().as_str() {
        "" => String::new(),
        known => format!(": {known}"),
    }
}

/// Takes the place of the project's converter, before anything of it is opened.
pub(crate) fn claim(path: &Path) -> Result<Claim, Failure> {
    Claim::take(Whose::Run, path).map_err(|error| match error.kind() {
        std::io::ErrorKind::AddrInUse => Failure::Outside(format!(
            "a converter of this project is running already{} (`woodrush status` shows it)",
            already(&error)
        )),
        _ => Failure::Outside(format!("no control socket can be had: {error}")),
    })
}

impl Converter {
    /// Opens every port; `tell` hears of events.
    pub(crate) fn start(
        path: &Path,
        claim: Claim,
        checked: &Checked,
        plan: Arc<Plan>,
        to: &Attach,
        tell: impl Fn(Event) + Send + Sync + 'static,
    ) -> Result<Self, Failure> {
        let rig = to.rig.then(|| Remote::of(Whose::Rig, path));
        let bindings = match &rig {
            Some(remote) => attach(remote, checked)?,
            None => {
                let kept = Arc::new(Mutex::new(to.kept.clone()));
                Bindings { may_be_missing: to.may_be_missing, kept, ..Bindings::default() }
            }
        };
        let running =
            start(checked, plan, &bindings, tell).map_err(|fault| Failure::Outside(fault.to_string()))?;
        let monitor = Monitor::new(&running, checked);
        let again = Arc::new(AtomicBool::new(false));
        let desks = (ControlHandler::new(&running.site), TapHandler::new(&running));
        let places = Arc::new(Mutex::new(vec![]));
        let hearer = hearer(&monitor, &again, desks, &places);
        let control = Control::serve(claim, hearer)
            .map_err(|error| Failure::Outside(format!("no control socket: {error}")))?;
        let mut converter = Self { _control: control, monitor, running, rig, places, told: None, again };
        converter.serving(checked)?;
        Ok(converter)
    }

    /// Takes a changed project; where something of it cannot be had, nothing has changed.
    pub(crate) fn reload(&mut self, next: &Checked, plan: Arc<Plan>) -> Result<(), Failure> {
        self.running.reload(next, Arc::clone(&plan)).map_err(|fault| Failure::Outside(fault.to_string()))?;
        self.monitor.renew(next, &plan);
        // A rig that has ended is told by the converter's ports.
        let _ = self.serving(next);
        Ok(())
    }

    /// Whether a reload of the project was requested since the last look.
    pub(crate) fn is_asked_anew(&self) -> bool {
        self.again.swap(false, Relaxed)
    }

    /// Tells where it serves: other terminals, and the rig unless that is what it was told before.
    fn serving(&mut self, checked: &Checked) -> Result<(), Failure> {
        let name = |port: usize| checked.project.ports.get(port).map_or("", |port| port.name.value.as_str());
        let listening = self.running.listening();
        let serving: Vec<String> =
            listening.iter().map(|(port, at)| format!("{}={at}", name(*port))).collect();
        let row = |(port, at): &(usize, SocketAddr)| Row {
            name: name(*port).into(),
            value: at.to_string(),
            detail: String::new(),
        };
        let device = |(port, own, real): (usize, Ipv4Addr, Ipv4Addr)| Row {
            name: format!("{}/{own}", name(port)),
            value: real.to_string(),
            detail: String::new(),
        };
        let devices = self.running.elsewhere_stations();
        *self.places.lock().unwrap_or_else(PoisonError::into_inner) =
            listening.iter().map(row).chain(devices.into_iter().map(device)).collect();
        if let (Some(rig), true) = (&self.rig, self.told.as_ref() != Some(&serving)) {
            rig.say("serving", &serving).map_err(no_rig)?;
        }
        self.told = Some(serving);
        Ok(())
    }
}

/// Answers what other terminals say to the converter.
fn hearer(
    monitor: &Arc<Monitor>,
    again: &Arc<AtomicBool>,
    (desk, tap): (ControlHandler, TapHandler),
    places: &Arc<Mutex<Vec<Row>>>,
) -> impl Fn(&str, &[String]) -> Option<Handled> + Send + Sync + use<> {
    let (monitor, again, places) = (Arc::downgrade(monitor), Arc::clone(again), Arc::clone(places));
    move |verb, words| {
        if let Some(heard) = desk.hear(verb, words).map(Handled::from).or_else(|| tap.hear(verb, words)) {
            return Some(heard);
        }
        let monitor = monitor.upgrade()?;
        let done = |said: &str| ControlAnswer::of(Ok((said.to_string(), vec![])));
        let answer = match verb {
            "status" => ControlAnswer { data: serde_json::to_value(monitor.status()).ok(), ..done("") },
            "values" => ControlAnswer { data: serde_json::to_value(monitor.values()).ok(), ..done("") },
            "reset" => {
                monitor.reset();
                done("all counters are 0")
            }
            "where" => {
                let rows = places.lock().unwrap_or_else(PoisonError::into_inner).clone();
                ControlAnswer { rows, ..done("") }
            }
            "reload" => {
                again.store(true, Relaxed);
                done("the project is being reloaded")
            }
            _ => ControlAnswer::of(Err(format!("the converter has no command `{verb}`"))),
        };
        Some(answer.into())
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
            Some(Wires::Network { .. }) => {
                let odd = || Failure::Outside(format!("the rig says `{}`", row.value));
                bindings.network.insert(port, row.value.parse().map_err(|_| odd())?);
                for station in row.detail.split(", ").filter(|own| !own.is_empty()) {
                    let (own, real) = station.split_once(" at ").ok_or_else(odd)?;
                    let own = own.parse().map_err(|_| odd())?;
                    bindings.network_stations.insert((port, own), real.parse().map_err(|_| odd())?);
                }
            }
            // On a real interface the rig is at the other end of its cable.
            Some(Wires::Ethernet { .. }) if row.value.contains(' ') => {}
            Some(Wires::Ethernet { .. }) => drop(bindings.switches.insert(port, row.value)),
            _ => {}
        }
    }
    Ok(bindings)
}
