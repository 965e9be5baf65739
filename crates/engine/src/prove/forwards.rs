//! Forwards: each unit read and written through, a silent unit, a unit without a way, functions that may not pass; and
//! bytes that pass unread.

use super::Progress;
use super::runner::{PATIENCE, Runner, count_of};
use crate::Dialer;
use crate::rig::PlainEnd;
use crate::speak::answers;
use woodrush_core::form::hex_words;
use woodrush_core::plan::{PlannedForward, Source, Station};
use woodrush_core::project::Owner;
use woodrush_core::protocol::{Dialect, Extent, Setup, Spaces, Verb};
use woodrush_core::{Kind, Refusal};

/// How long a client of a forward waits beyond what the line's own timeout asks, in microseconds.
const BEYOND: u64 = 5_000_000;
/// How soon a client that is turned away knows, in microseconds.
const TURNED_AWAY: u64 = 50_000;

impl Runner<'_> {
    /// Proves every forward.
    pub(super) fn forwards(&mut self, progress: &mut dyn FnMut(Progress)) {
        let checked = self.checked;
        let of = count_of(checked.plan.forwards.len());
        for (at, forward) in checked.plan.forwards.iter().enumerate() {
            progress(Progress { doing: "forwarded requests", done: count_of(at), of });
            let name =
                |port: usize| checked.project.ports.get(port).map_or("", |port| port.name.value.as_str());
            let head = format!("forward {} -> {}", name(forward.from), name(forward.to));
            let proven = self.steadily(|runner| match forward.raw {
                true => runner.bytes(forward),
                false => runner.forward(forward),
            });
            self.forwards.of += 1;
            self.forwards.proven += u32::from(proven.is_ok());
            let right = proven.is_ok();
            let (Ok(what) | Err(what)) = proven;
            self.others.push((format!("{head}: {what}"), right));
        }
    }

    /// Every byte there is, each way, in an order of its own; a second client while there is a first, and after it.
    fn bytes(&mut self, forward: &PlannedForward) -> Result<String, String> {
        let no_end = |error: std::io::Error| format!("no end there: {error}");
        let far = self.rig.plain_end(forward.to).map_err(no_end)?;
        let near = self.rig.plain_end(forward.from).map_err(no_end)?;
        both_ways(&near, &far)?;
        let mut told = vec!["all 256 bytes pass unchanged each way"];
        let port = self.checked.project.ports.get(forward.from);
        if port.and_then(|port| port.transport()) == Some(woodrush_core::protocol::Transport::Listen) {
            let second = self.rig.plain_end(forward.from).map_err(no_end)?;
            if !second.is_hung_up(PATIENCE) {
                return Err("a second client is not turned away while there is a first".into());
            }
            both_ways(&near, &far)?;
            drop(near);
            // That the first one has gone is seen a moment later.
            let begun = self.clock.now();
            loop {
                let next = self.rig.plain_end(forward.from).map_err(no_end)?;
                if !next.is_hung_up(TURNED_AWAY) {
                    both_ways(&next, &far).map_err(|why| format!("the client after the first: {why}"))?;
                    break;
                }
                if self.clock.now().since(begun) > PATIENCE {
                    return Err("a client is turned away after the first has gone".into());
                }
            }
            told.push("one client at a time");
        }
        Ok(told.join(", "))
    }

    fn forward(&mut self, forward: &PlannedForward) -> Result<String, String> {
        let (project, plan) = (&self.checked.project, &self.checked.plan);
        let port = project.ports.get(forward.from).ok_or("no such port")?;
        let dialect = port.protocol.ok_or("the port has no protocol")?.value;
        let (mut read, mut written, mut kept, mut silent) = (0u32, 0u32, 0u32, None);
        let may = |verb, space: woodrush_core::protocol::SpaceId| {
            let code = dialect
                .notation()
                .standing()
                .get(space.index())
                .and_then(|space| code_of(dialect, verb, space));
            forward.functions.is_empty() || code.is_some_and(|code| forward.functions.contains(&code))
        };
        for (here, there) in forward.units.iter().filter(|(here, _)| *here != 0) {
            let behind = plan
                .devices
                .iter()
                .position(|device| device.port == forward.to && device.number() == Some(u32::from(*there)));
            let Some(device) = behind else {
                silent = silent.or(Some(*here));
                continue;
            };
            let mut client = self.client_of(forward, dialect, *here)?;
            if let Some(extent) = self.known(device, false) {
                let wanted = self.rig.peek(device, extent);
                let seen = client.read(extent);
                match (may(Verb::Read, extent.space), &seen) {
                    (true, Ok(cells)) if Some(cells) == wanted.as_ref() => read += 1,
                    (false, Err(refusal)) if answers(refusal, Kind::NoSuchCommand) => kept += 1,
                    (right, _) => return Err(answered(*here, "read", right, &seen)),
                }
            }
            if let Some(extent) = self.known(device, true) {
                let before = self.rig.peek(device, extent).unwrap_or_default();
                let other: Vec<u8> = if before.len() == extent.count as usize {
                    before.iter().map(|bit| u8::from(*bit == 0)).collect()
                } else {
                    before.iter().map(|byte| !byte).collect()
                };
                let result = client.write(extent, other.clone());
                let after = self.rig.peek(device, extent).unwrap_or_default();
                match (may(Verb::Write, extent.space), &result) {
                    (true, Ok(())) if after == other => written += 1,
                    (false, Err(refusal)) if answers(refusal, Kind::NoSuchCommand) && after == before => {
                        kept += 1
                    }
                    (right, _) => return Err(answered(*here, "written", right, &result.map(|()| after))),
                }
                self.rig.poke(device, extent, &before);
            }
        }
        let counted = [(read, "reads passed"), (written, "writes passed"), (kept, "blocked by `functions`")];
        let right: Vec<String> =
            counted.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("{n} {what}")).collect();
        let mut told =
            vec![if right.is_empty() { "nothing known to ask".to_owned() } else { right.join(", ") }];
        // The first table that may be read.
        let spaces =
            (0u32..).zip(dialect.notation().standing()).map(|(at, _)| woodrush_core::protocol::SpaceId(at));
        let extent = spaces.into_iter().find(|space| may(Verb::Read, *space)).map(|space| Extent {
            space,
            first: 0,
            count: 1,
        });
        let Some(extent) = extent else { return Ok(told.join(", ")) };
        if let Some(unit) = silent {
            let seen = self.client_of(forward, dialect, unit)?.read(extent);
            match &seen {
                Err(refusal) if answers(refusal, Kind::NoAnswer) => {
                    told.push(format!("unit {unit} that does not answer gives exception 11"));
                }
                _ => return Err(format!("unit {unit}, without a device, is answered {}", shown(&seen))),
            }
        }
        if let Some(unit) = self.nowhere(forward) {
            let seen = self.client_of(forward, dialect, unit)?.read(extent);
            match &seen {
                Err(refusal) if answers(refusal, Kind::NoPath) => {
                    told.push(format!("unit {unit} without a route gives exception 10"));
                }
                _ => return Err(format!("unit {unit}, which has no route, is answered {}", shown(&seen))),
            }
        }
        Ok(told.join(", "))
    }

    /// A unit that neither a forward nor an image of the port answers for; only where there is a connection of one's own,
    /// since on a line such a unit gets silence.
    fn nowhere(&self, forward: &PlannedForward) -> Option<u16> {
        let (project, plan) = (&self.checked.project, &self.checked.plan);
        let port = project.ports.get(forward.from)?;
        let listens = port.transport() == Some(woodrush_core::protocol::Transport::Listen);
        let images = plan.images.iter().filter(|image| image.port == forward.from);
        let stations: Vec<Option<u32>> = images.map(Station::number).collect();
        if !listens || stations.contains(&None) {
            return None;
        }
        let taken = |unit: u16| {
            let passed = plan
                .forwards
                .iter()
                .any(|f| f.from == forward.from && f.units.iter().any(|(own, _)| *own == unit));
            passed || stations.contains(&Some(u32::from(unit)))
        };
        (1..=247).find(|unit| !taken(*unit))
    }

    fn client_of(
        &self,
        forward: &PlannedForward,
        dialect: &'static dyn Dialect,
        unit: u16,
    ) -> Result<Dialer, String> {
        let listen = woodrush_core::protocol::Transport::Listen;
        let (key, _) = dialect.stations().station_key(listen).ok_or("its stations have no number")?;
        let station = Station {
            name: format!("{key} {unit}"),
            port: forward.from,
            dialect: Some(dialect),
            setup: Setup { numbers: vec![(key, u32::from(unit))], words: vec![], ..Setup::default() },
            spaces: Spaces::standing(dialect),
        };
        let timeout = self
            .checked
            .project
            .ports
            .get(forward.to)
            .map_or(0, |port| port.timeout.value.saturating_mul(u64::from(port.retries) + 2));
        let dialed = self.rig.dial(forward.from, dialect.name(), &station, None, timeout + BEYOND);
        dialed.map_err(|error| format!("no client can ask there: {error}"))
    }

    /// A range of a device that is known to exist, and to be writable.
    fn known(&self, device: usize, writable: bool) -> Option<Extent> {
        let (project, plan) = (&self.checked.project, &self.checked.plan);
        let polled = plan.rules.iter().filter_map(|rule| match rule.source {
            Source::Values { owner: Owner::Device(of), place, .. }
                if of == device && (rule.writable || !writable) =>
            {
                Some(place.item(0))
            }
            _ => None,
        });
        let sent =
            plan.rules.iter().filter(|rule| plan.sink(rule) == Some(device)).map(|rule| rule.target.item(0));
        let station = plan.devices.get(device)?;
        let sized = project.devices.get(device)?.tables.iter().filter_map(|(name, size)| {
            let space = station.spaces.id(&name.value)?;
            station.space_at(space).filter(|space| space.writable || !writable)?;
            (*size > 0).then_some(Extent { space, first: 0, count: 1 })
        });
        polled
            .chain(sent)
            .chain(sized)
            .find(|extent| !writable || station.space_at(extent.space).is_some_and(|space| space.writable))
    }
}

/// Gives every byte at either end, and looks whether it comes to the other.
fn both_ways(near: &PlainEnd, far: &PlainEnd) -> Result<(), String> {
    let up: Vec<u8> = (0..=255).collect();
    // No byte where it was on the way there.
    let down: Vec<u8> = up.iter().map(|byte| byte.wrapping_mul(3).wrapping_add(101)).collect();
    for (from, to, bytes, way) in [(near, far, &up, "from the client"), (far, near, &down, "to the client")] {
        from.give(bytes).map_err(|error| format!("bytes {way} are not taken: {error}"))?;
        let came = to.take(bytes.len(), PATIENCE);
        if came != *bytes {
            let wrong = came.iter().zip(bytes).position(|(came, sent)| came != sent);
            return Err(match wrong {
                Some(at) => format!(
                    "byte {:02X} {way} arrives as {:02X}",
                    bytes.get(at).copied().unwrap_or_default(),
                    came.get(at).copied().unwrap_or_default()
                ),
                None => format!("of 256 bytes {way} {} arrive", came.len()),
            });
        }
    }
    Ok(())
}

/// What an ordinary read or write of a table is asked by.
fn code_of(dialect: &dyn Dialect, verb: Verb, space: &woodrush_core::protocol::Space) -> Option<u8> {
    let cells = vec![0; space.grain.cell_bytes()];
    let requests = dialect.requests()?;
    requests.request_code(&requests.example(verb, space, 0, &cells, &Setup::default()).request)
}

/// What a unit answered, and why that is wrong.
fn answered(unit: u16, what: &str, may: bool, seen: &Result<Vec<u8>, Refusal>) -> String {
    let but = if may { "" } else { ", though that function may not pass" };
    format!("unit {unit} {what} is answered {}{but}", shown(seen))
}

fn shown(seen: &Result<Vec<u8>, Refusal>) -> String {
    match seen {
        Ok(cells) => hex_words(cells),
        refused => super::runner::told(refused),
    }
}
