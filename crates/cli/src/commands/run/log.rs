//! What a running converter tells: events as lines, writes of clients as rows of a file; and whether its files change.

use crate::Failure;
use crate::console::{Console, Tone};
use std::path::{Path, PathBuf};
use std::time::SystemTime;
use woodrush_core::check::Checked;
use woodrush_core::protocol::{refusal_cause, refusal_shown};
use woodrush_engine::converter::Event;
use woodrush_engine::shared::WriteRecord;

/// The files of a project, to see whether they change.
pub(super) struct Watch(Vec<(PathBuf, Option<SystemTime>)>);

impl Watch {
    pub(super) fn of(checked: &Checked, path: &Path) -> Self {
        let folder = path.parent().map(Path::to_path_buf).unwrap_or_default();
        let profiles = checked.project.profiles.iter().map(|profile| folder.join(&profile.path));
        let files = [path.to_path_buf()].into_iter().chain(profiles);
        Self(files.map(|file| (file.clone(), modified(&file))).collect())
    }

    /// Whether one of them has changed since the last look.
    pub(super) fn changed(&mut self) -> bool {
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
pub(super) struct WriteLog(Option<(PathBuf, csv::Writer<std::fs::File>)>);

impl WriteLog {
    pub(super) fn of(checked: &Checked, path: &Path) -> Result<Self, Failure> {
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

    pub(super) fn write(&mut self, console: &mut Console, record: &WriteRecord) {
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
