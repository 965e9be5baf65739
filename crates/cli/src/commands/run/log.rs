//! What a running converter tells as lines, and whether its files change.

use crate::console::{Console, Tone};
use std::path::{Path, PathBuf};
use std::time::SystemTime;
use woodrush_core::check::Checked;
use woodrush_core::plan::Plan;
use woodrush_core::project::{Owner, show_micros};
use woodrush_core::protocol::{refusal_cause, refusal_shown};
use woodrush_core::{Kind, Refusal};
use woodrush_engine::converter::Event;
use woodrush_engine::mac_shown;
use woodrush_engine::speak::{LinkLoss, LinkNews, StationNews};

/// When a file was changed last, and how long it was.
type Stamp = (SystemTime, u64);

/// The files of a project, to see whether they change.
pub(super) struct Watch(Vec<Watched>);

struct Watched {
    path: PathBuf,
    /// As it was taken.
    taken: Option<Stamp>,
    /// As it was at the last look: a file that is being written stands still for a moment at its end.
    last: Option<Stamp>,
}

impl Watch {
    pub(super) fn of(checked: &Checked, path: &Path) -> Self {
        let folder = path.parent().map(Path::to_path_buf).unwrap_or_default();
        let profiles = checked.project.profiles.iter().map(|profile| folder.join(&profile.path));
        let files = [path.to_path_buf()].into_iter().chain(profiles);
        let watched = |path: PathBuf| {
            let taken = stamp(&path);
            Watched { path, taken, last: taken }
        };
        Self(files.map(watched).collect())
    }

    /// Whether one of them has changed since it was taken, and is whole as far as can be told: it was the same at the last
    /// look, and it is not empty.
    pub(super) fn changed(&mut self) -> bool {
        let mut changed = false;
        for file in &mut self.0 {
            let now = stamp(&file.path);
            let stands = std::mem::replace(&mut file.last, now) == now;
            // A file that is away or empty is being written.
            if stands && now != file.taken && now.is_some_and(|(_, len)| len > 0) {
                file.taken = now;
                changed = true;
            }
        }
        changed
    }
}

fn stamp(file: &Path) -> Option<Stamp> {
    let about = std::fs::metadata(file).ok()?;
    Some((about.modified().ok()?, about.len()))
}

/// Names for events.
#[derive(Default)]
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

    /// An event as an entry of the log.
    pub(crate) fn entry(&self, plan: &Plan, event: &Event) -> Option<LogEntry> {
        let port = |at: &usize| self.ports.get(*at).map_or("", String::as_str);
        let device = |at: &usize| self.devices.get(*at).map_or("", String::as_str);
        let polled = |at: &usize, transfer: &usize| {
            let transfer = plan.transfers.get(*transfer)?;
            let first = transfer.first()?;
            Some(plan.devices.get(*at)?.show_part(first))
        };
        let (tone, kind, name, text) = match event {
            Event::PortUp { port: at, what } => (Tone::Good, "port_up", port(at), format!("up at {what}")),
            Event::PortDown { port: at, why } => {
                (Tone::Bad, "port_down", port(at), format!("down: {why}; it is retried until it opens"))
            }
            Event::Accepting { port: at, trouble: Some(why) } => {
                let text = format!(
                    "takes no new clients for now: {why}; it goes on when a descriptor is free (raise `ulimit -n`, or lower `max-clients`)"
                );
                (Tone::Bad, "port_full", port(at), text)
            }
            Event::Accepting { port: at, trouble: None } => {
                (Tone::Good, "port_accepts", port(at), "takes new clients again".to_string())
            }
            Event::DeviceBack { device: at } => {
                (Tone::Good, "device_online", device(at), "online".to_string())
            }
            Event::DeviceLost { device: at, kind } => {
                (Tone::Bad, "device_lost", device(at), format!("lost: {}", kind.words()))
            }
            Event::Refused { device: at, transfer, refusal } => {
                let why = why_refused(refusal);
                let text = format!("refuses {}: {why}", polled(at, transfer).unwrap_or_default());
                (Tone::Doubt, "refused", device(at), text)
            }
            Event::Stopped { device: at, transfer, refusal } => {
                let what = polled(at, transfer).unwrap_or_default();
                (Tone::Bad, "stopped", device(at), format!("{what} comes no more: {}", why_refused(refusal)))
            }
            Event::PartRefused { device: at, extent, refusal } => {
                let what =
                    plan.devices.get(*at).map(|station| station.show(extent.space, extent.first, None));
                let (what, why) = (what.unwrap_or_default(), why_refused(refusal));
                match refusal.kind {
                    Kind::Unsound => (Tone::Doubt, "bad", device(at), format!("calls {what} bad: {why}")),
                    _ => (Tone::Doubt, "refused", device(at), format!("refuses {what}: {why}")),
                }
            }
            Event::PartGood { device: at, extent } => {
                let what =
                    plan.devices.get(*at).map(|station| station.show(extent.space, extent.first, None));
                let text = format!("gives {} again", what.unwrap_or_default());
                (Tone::Good, "good_again", device(at), text)
            }
            Event::Link { link, news } => {
                let name = link_name(plan, *link);
                match news {
                    LinkNews::Opened { peer, period, lost_after, only_reads } => {
                        let reads = if *only_reads { ", only reading" } else { "" };
                        let text = format!(
                            "open with {peer}: a frame every {}, lost after {}{reads}",
                            show_micros(*period),
                            show_micros(*lost_after)
                        );
                        (Tone::Good, "link_open", name, text)
                    }
                    LinkNews::Refused { peer, refusal, why } => {
                        let number = refusal.native.map(|native| format!(" ({})", refusal_shown(native)));
                        let number = number.unwrap_or_default();
                        let text = match plan.links.get(*link).map(|link| link.with) {
                            Some(Owner::Device(_)) if refusal.native.is_none() => {
                                format!("{peer} cannot be reached: {why}")
                            }
                            Some(Owner::Device(_)) => format!("{peer} refuses the connection: {why}{number}"),
                            _ => format!("connection of {peer} refused: {why}{number}"),
                        };
                        (Tone::Bad, "link_refused", name, text)
                    }
                    LinkNews::OneLess { peer, why } => {
                        (Tone::Doubt, "link_reader", name, format!("{peer} reads no longer: {}", why.word()))
                    }
                    LinkNews::Ended { peer, how } => {
                        (Tone::Doubt, "link_ended", name, format!("ended by {peer}, {how}"))
                    }
                }
            }
            Event::LinkRuns { link } => {
                (Tone::Good, "link_run", link_name(plan, *link), "the controller is in run".to_string())
            }
            Event::LinkStopped { link, why } => {
                let text = match why {
                    LinkLoss::Idle => "the controller is idle: its outputs count as lost",
                    LinkLoss::Watchdog => {
                        "watchdog: nothing came from the controller in time; its outputs count as lost"
                    }
                    LinkLoss::Closed => {
                        "the connection with the controller is closed; its outputs count as lost"
                    }
                    LinkLoss::Invalid => {
                        "invalid: the controller says that its data mean nothing; its outputs count as lost"
                    }
                };
                (Tone::Bad, "link_stopped", link_name(plan, *link), text.to_string())
            }
            Event::SlotBad { link, slot } => {
                let text = format!(
                    "bad slot: the controller calls its outputs of {} bad; they count as lost",
                    slot_name(plan, *link, *slot)
                );
                (Tone::Bad, "slot_bad", link_name(plan, *link), text)
            }
            Event::SlotGood { link, slot } => {
                let text = format!("the outputs of {} are good again", slot_name(plan, *link, *slot));
                (Tone::Good, "slot_good", link_name(plan, *link), text)
            }
            Event::Station { link, news } => {
                let (tone, kind, text) = station_news(news)?;
                (tone, kind, link_name(plan, *link), text)
            }
            Event::PortSays { port: at, words } => (Tone::Doubt, "port", port(at), words.clone()),
            Event::TakesLess { device: at, transfer, bytes, .. } => {
                let text = format!(
                    "refuses all of {} at once and gives it in requests of {bytes} bytes: asked so from now on; `max-read = {bytes}` lets `budget` count it",
                    polled(at, transfer).unwrap_or_default()
                );
                (Tone::Doubt, "takes_less", device(at), text)
            }
            Event::Client { port: at, who, why } => {
                (Tone::Doubt, "client", port(at), format!("client {who} {why}"))
            }
            Event::NotTaken { device: at, rule, refusal } => {
                let what = plan.rules.get(*rule as usize).and_then(|rule| {
                    Some(plan.devices.get(*at)?.show(rule.target.space, rule.target.first, rule.target.bit))
                });
                let why = refusal.native.map_or_else(|| refusal.words().to_string(), refusal_shown);
                let what = what.unwrap_or_default();
                let text = if refusal.outcome_unknown {
                    format!("it is not known whether it took {what}: {why}")
                } else {
                    format!("does not take {what}: {why}")
                };
                (Tone::Doubt, "not_taken", device(at), text)
            }
            Event::Reloaded { what } => (Tone::Good, "reloaded", "project", what.clone()),
            Event::Written(_) => return None,
        };
        Some(LogEntry { tone, kind, name: name.into(), text })
    }
}

/// One entry of the log.
#[derive(Clone)]
pub(crate) struct LogEntry {
    tone: Tone,
    /// One word, for machines.
    kind: &'static str,
    /// Of the port, the device, or what else it is about.
    name: String,
    text: String,
}

impl LogEntry {
    pub(super) const fn kind(&self) -> &'static str {
        self.kind
    }

    pub(super) fn name(&self) -> &str {
        &self.name
    }

    /// So many more like it within that time.
    pub(super) fn and_more(&self, more: u64, within: std::time::Duration) -> Self {
        let text = format!("{}: and {more} more in {} s", self.text, within.as_secs());
        Self { text, ..self.clone() }
    }

    /// As a line for people, with the date and the local time of day.
    pub(crate) fn text(&self, console: &Console) -> String {
        let now = jiff::Timestamp::now().to_zoned_datetime(jiff::tz::TimeZone::system());
        let now = now.strftime("%Y-%m-%d %H:%M:%S%.3f");
        format!("{now}  {}", self.bare(console))
    }

    /// The same without the time.
    pub(crate) fn bare(&self, console: &Console) -> String {
        format!("{} {}", console.paint(self.tone, &format!("{:<14}", self.name)), self.text)
    }

    /// As one line of JSON, the time in UTC (RFC 3339).
    pub(crate) fn json(&self) -> String {
        let at = jiff::Timestamp::now().strftime("%Y-%m-%dT%H:%M:%S%.3fZ").to_string();
        let Self { kind, name, text, .. } = self;
        serde_json::json!({ "format": 1, "at": at, "event": kind, "name": name, "text": text }).to_string()
    }
}

/// The image or device that a link is with.
fn link_name(plan: &Plan, link: usize) -> &str {
    let station = plan.links.get(link).and_then(|link| plan.station(link.with));
    station.map_or("", |station| station.name.as_str())
}

/// A slot of a link as addresses name it.
fn slot_name(plan: &Plan, link: usize, slot: usize) -> String {
    let extent = plan.links.get(link).and_then(|link| {
        let slot = link.slots.get(slot)?;
        let (extent, _) = slot.comes?;
        plan.station(link.with)?.space_at(extent.space).map(|space| space.key.to_string())
    });
    let name = extent.unwrap_or_default();
    format!("slot {}", name.split(':').next().unwrap_or_default())
}

/// What others did to a station: the tone, the kind of entry, and the words.
fn station_news(news: &StationNews) -> Option<(Tone, &'static str, String)> {
    Some(match news {
        StationNews::Begins(_) => return None,
        StationNews::Now { key, value, permanent } => {
            let what = if *key == "station-name" { "name of station" } else { "address" };
            let lasts = if *permanent { "for good" } else { "until it ends" };
            let text = match value.as_str() {
                "" => format!("its {what} was taken from it, {lasts}"),
                value => format!("its {what} is `{value}` now, {lasts}"),
            };
            (Tone::Doubt, "station_named", text)
        }
        StationNews::Blinks => (
            Tone::Doubt,
            "station_blinks",
            "an engineering tool asks where it is: a station with a lamp would blink for 3 s".into(),
        ),
        StationNews::Rival { address, mac } => {
            let mac = mac_shown(*mac);
            let text =
                format!("{mac} says that it has the address {address} as well: one of the two must change");
            (Tone::Bad, "station_rival", text)
        }
    })
}

/// A device's refusal in words, with its likely cause.
fn why_refused(refusal: &Refusal) -> String {
    refusal.native.map_or_else(
        || refusal.words().to_string(),
        |native| format!("{}; {}", refusal_shown(native), refusal_cause(native)),
    )
}
