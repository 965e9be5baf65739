//! Who is on an Ethernet interface: stations that are found by frames, before they have an address.

use super::listed::say;
use super::{ScanArgs, only_names, unreachable};
use crate::connections::Connections;
use crate::console::Console;
use crate::{Failure, Verdict};
use std::path::Path;
use woodrush_core::check::Checked;
use woodrush_core::plan::Station;
use woodrush_core::project::{Port, Wires};
use woodrush_core::protocol::DIALECTS;
use woodrush_engine::control::{Remote, Whose};
use woodrush_engine::scan::{FramesAt, FramesFault, is_found_by_frames, stations_on};
use woodrush_engine::stop::Stop;

/// Time for answers, in microseconds.
const WAIT: u64 = 1_000_000;

/// The protocol whose stations are found by frames, where no port says one.
pub(crate) fn usual() -> Result<&'static str, Failure> {
    let found = DIALECTS.iter().map(|own| own.name()).find(|name| is_found_by_frames(name));
    found.ok_or_else(|| Failure::Usage("no protocol here finds stations by frames".into()))
}

/// The interface of a port, if it has one.
pub(crate) fn interface_of(port: &Port) -> Option<&str> {
    match &port.wires {
        Some(Wires::Ethernet { interface }) => Some(&interface.value),
        _ => None,
    }
}

/// The switch of the project's rig that stands for an interface.
pub(crate) fn switch_of(path: &Path, checked: &Checked, interface: &str) -> Result<String, Failure> {
    let port = checked.project.ports.iter().find(|port| interface_of(port) == Some(interface));
    let port = port.ok_or_else(|| {
        Failure::Usage(format!("no port of the project is on `{interface}`, so the rig has no switch for it"))
    })?;
    let answer = Remote::of(Whose::Rig, path).say("lines", &[]).map_err(|_| {
        Failure::Outside(
            "no rig of this project is running (start `woodrush rig up` in another terminal)".into(),
        )
    })?;
    let row = answer.rows.into_iter().find(|row| row.name == port.name.value);
    row.map(|row| row.value)
        .ok_or_else(|| Failure::Outside(format!("the rig has nothing at port {}", port.name.value)))
}

/// A fault as a command ends with it.
pub(crate) fn outside(fault: &FramesFault) -> Failure {
    Failure::Outside(format!("{} ({})", fault.what, fault.fix))
}

pub(super) fn run(
    console: &mut Console,
    connections: Option<&Connections>,
    (at, protocol): (&FramesAt, &str),
    args: &ScanArgs,
) -> Result<Verdict, Failure> {
    only_names(args, "the stations of an interface say who they are")?;
    let stop = Stop::with_terminal()
        .map_err(|error| Failure::Outside(format!("signals cannot be caught: {error}")))?;
    let wait = connections.and_then(Connections::timeout).unwrap_or(WAIT);
    let mut found = match (stations_on(protocol, at, wait, &|| !stop.is_asked()), connections) {
        (Ok(found), _) => found,
        (Err(fault), None) => return Err(outside(&fault)),
        (Err(fault), Some(connections)) => {
            let failed = connections.unreached(fault.what, fault.fix);
            return Ok(unreachable(console, &failed));
        }
    };
    let checked = connections.and_then(Connections::checked);
    let ours: Vec<&Station> = checked
        .map(|checked| {
            let here = |image: &&Station| {
                let port = checked.project.ports.get(image.port);
                port.and_then(interface_of) == Some(at.interface.as_str())
            };
            checked.plan.images.iter().filter(here).collect()
        })
        .unwrap_or_default();
    for station in &mut found.stations {
        let own = ours.iter().find(|own| own.id().is_some_and(|id| id.to_string() == station.name));
        station.device = own.map(|own| own.name.clone());
    }
    let place = match &at.switch {
        Some(_) => format!("{}, on the rig", at.interface),
        None => at.interface.clone(),
    };
    say(console, &place, &found)?;
    Ok(if found.stations.is_empty() { Verdict::No } else { Verdict::Yes })
}
