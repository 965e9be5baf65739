//! `woodrush readdress`: a device gets another unit or other line settings, and the project file follows.

mod file;
mod first_name;
mod follow;

use crate::args::{ConnectionArgs, Format, Global, ReaddressArgs};
use crate::connections::{Connections, Field, fault};
use crate::console::{Console, Tone};
use crate::render;
use crate::{Failure, Verdict};
use std::io::{BufRead, IsTerminal, Write};
use std::path::Path;
use woodrush_core::budget::LineTime;
use woodrush_core::check::Checked;
use woodrush_core::project::{Line, Parity, Point, Role, micros};
use woodrush_core::wanted::Wanted;
use woodrush_engine::direct::{Closed, Direct, Link};
use woodrush_engine::readdress::{Move, MoveResult, MoveState, NewSetting, Stage, readdress};
use woodrush_engine::scan::stations;
use woodrush_engine::stop::Stop;

/// Default timeout, in microseconds.
const TIMEOUT: u64 = 300_000;
/// About how long one look for a device takes, timeout and pause together, in microseconds.
const LOOK: u64 = 500_000;

fn usage(text: impl Into<String>) -> Failure {
    Failure::Usage(text.into())
}

pub(crate) fn run(console: &mut Console, global: &Global, args: &ReaddressArgs) -> Result<Verdict, Failure> {
    if let Some(interface) = &args.ethernet {
        return first_name::run(console, global, args, interface);
    }
    let path = crate::project::find(global)?;
    let stop = Stop::with_terminal()
        .map_err(|error| Failure::Outside(format!("signals cannot be caught: {error}")))?;
    if !args.all {
        return one(console, global, &path, &args.name, args, &stop);
    }
    if !std::io::stdin().is_terminal() {
        return Err(usage("`--all` asks before each device, and there is no terminal to ask on"));
    }
    let checked = crate::project::load(&path)?;
    let port =
        checked.project.port(&args.name).ok_or_else(|| usage(format!("there is no port `{}`", args.name)))?;
    // What cannot be done to one of them is told before anyone is asked to join a device.
    for device in (0..checked.plan.devices.len())
        .filter(|at| checked.plan.devices.get(*at).is_some_and(|own| own.port == port))
    {
        can_be_moved(&checked, device)?;
    }
    let names: Vec<String> = checked
        .plan
        .devices
        .iter()
        .filter(|device| device.port == port)
        .map(|device| device.name.clone())
        .collect();
    drop(checked);
    let mut verdict = Verdict::Yes;
    for name in names {
        match asked(console, &format!("connect {name} alone now, then Enter (s skips it, q ends): "))?
            .as_str()
        {
            "q" => break,
            "s" => continue,
            _ => {}
        }
        match one(console, global, &path, &name, args, &stop)? {
            Verdict::Yes => {}
            other => verdict = other,
        }
        if stop.is_asked() {
            break;
        }
    }
    Ok(verdict)
}

/// Whether the profile of a device says all that a move needs.
fn can_be_moved(checked: &Checked, device: usize) -> Result<(), Failure> {
    let name = checked.plan.devices.get(device).map_or("", |station| station.name.as_str());
    let profile = checked.project.profile_of(device);
    let has = |role: Role| {
        profile.is_some_and(|profile| profile.points.iter().any(|point| point.role == Some(role)))
    };
    if !has(Role::UnitAddress) {
        return Err(usage(format!(
            "the profile of `{name}` has no point with `role = \"unit-address\"` (add it: which register holds it?)"
        )));
    }
    if profile.is_none_or(|profile| profile.unit.is_none()) {
        return Err(usage(format!(
            "where does `{name}` answer as shipped? Its profile does not say `unit`: add it, or move the devices one by one with `--from`"
        )));
    }
    Ok(())
}

fn asked(console: &Console, question: &str) -> Result<String, Failure> {
    let mut out = std::io::stderr().lock();
    write!(out, "{}", console.paint(Tone::Accent, question))?;
    out.flush()?;
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line)?;
    Ok(line.trim().to_string())
}

/// Everything that is known before anything is asked.
struct MoveOrder<'c> {
    checked: &'c Checked,
    device: usize,
    name: &'c str,
    key: &'static str,
    from: u32,
    to: u32,
    from_line: Option<Line>,
    to_line: Option<Line>,
}

impl MoveOrder<'_> {
    /// The point of the profile that has a role.
    fn role(&self, role: Role) -> Option<&Point> {
        self.checked.project.profile_of(self.device)?.points.iter().find(|point| point.role == Some(role))
    }

    fn wanted(&self, role: Role) -> Result<Option<(Wanted, &Point)>, Failure> {
        let Some(point) = self.role(role) else { return Ok(None) };
        let named = format!("{}.{}", self.name, point.name.value);
        let wanted = Wanted::of_project(self.checked, &named).map_err(|finding| fault(&finding))?;
        Ok(Some((wanted, point)))
    }

    /// A value for the point of a role.
    fn setting(&self, role: Role, called: &str, value: &str) -> Result<NewSetting, Failure> {
        let (wanted, _) = self.wanted(role)?.ok_or_else(|| {
            usage(format!(
                "the profile of `{}` has no point with `role = \"{called}\"` (add it: which register holds it?)",
                self.name
            ))
        })?;
        let cells = wanted.cells(value).map_err(usage)?;
        Ok(NewSetting { wanted, cells })
    }

    /// The number that stands for a value in the profile.
    fn code(&self, role: Role, called: &str, words: &[String]) -> Result<String, Failure> {
        let values = self.role(role).map_or(&[][..], |point| point.values.as_slice());
        let known =
            values.iter().find(|(name, _)| words.iter().any(|word| name.value.eq_ignore_ascii_case(word)));
        known.map(|(_, code)| code.to_string()).ok_or_else(|| {
            let all: Vec<&str> = values.iter().map(|(name, _)| name.value.as_str()).collect();
            let all = if all.is_empty() { "none".to_string() } else { all.join(", ") };
            usage(format!(
                "the profile does not say which number stands for {called} {} (its `values`: {all})",
                words.first().map_or("", String::as_str)
            ))
        })
    }
}

fn one(
    console: &mut Console,
    global: &Global,
    path: &Path,
    name: &str,
    args: &ReaddressArgs,
    stop: &Stop,
) -> Result<Verdict, Failure> {
    let way = ConnectionArgs { rig: args.rig, timeout: args.timeout.clone(), ..ConnectionArgs::default() };
    let (connections, _) = Connections::sort(global, &way, &[])?;
    let checked = connections.checked().ok_or_else(|| usage("there is no project"))?;
    let device = checked.project.device(name).ok_or_else(|| usage(format!("there is no device `{name}`")))?;
    let station = checked.plan.devices.get(device).ok_or_else(|| usage("it has no port"))?;
    let mut field = match connections.field(Some(station.port)) {
        Ok(field) => field,
        Err(failed) => return Ok(failed_way(console, name, &failed)),
    };
    let timeout = connections.timeout().unwrap_or(TIMEOUT);
    field.line = LineTime { timeout, hurry: true, ..field.line };
    let order = order(checked, device, name, &field, args)?;
    let wait = micros(&args.wait).ok_or_else(|| usage(format!("`{}` is not a time", args.wait)))?;
    // The file is changed on paper first: what cannot stand there is not done to the device.
    let change = file::Change::plan(path, &order)?;
    let mut todo = work(&order, &field, args, console)?;
    todo.looks = usize::try_from(wait / LOOK).unwrap_or(10).clamp(1, 1000);
    let place = match &field.held {
        Some((_, port)) => format!("port {port}, through the running converter"),
        None => field.link.shown(),
    };
    let lines = match (order.from_line, order.to_line) {
        (Some(from), Some(to)) => format!(", {from} -> {to}"),
        _ => String::new(),
    };
    let head = console.paint(Tone::Accent, name);
    console.note(&format!("{head}  {} {} -> {}{lines}, on {place}", order.key, order.from, order.to));
    let other = checked
        .plan
        .devices
        .iter()
        .enumerate()
        .find(|(at, own)| *at != device && own.port == station.port && own.number() == Some(order.from));
    if let Some((_, other)) = other {
        let mark = console.paint(Tone::Doubt, "careful");
        console.note(&format!(
            "{mark}  {} {} is `{}` in this project: if that one is on the line, it is the one that moves",
            order.key, order.from, other.name
        ));
    }
    if !args.yes {
        if !std::io::stdin().is_terminal() {
            return Err(usage("no terminal to ask for confirmation (add `--yes`)"));
        }
        if !matches!(asked(console, "  write it into the device? [y/N] ")?.as_str(), "y" | "Y" | "yes") {
            return Ok(Verdict::No);
        }
    }
    let ended = match carry_out(console, &connections, &field, &order, &todo, stop) {
        Ok(ended) => ended,
        Err(failed) => return Ok(failed_way(console, name, &failed)),
    };
    told(console, &order, &ended, change)
}

fn failed_way(console: &mut Console, name: &str, failed: &crate::connections::Failed) -> Verdict {
    let text = render::diagnosis::text(console, name, &failed.diagnosis);
    console.complain(&text);
    Verdict::Outside
}

/// From where to where, with what the project and the profile say.
fn order<'c>(
    checked: &'c Checked,
    device: usize,
    name: &'c str,
    field: &Field,
    args: &ReaddressArgs,
) -> Result<MoveOrder<'c>, Failure> {
    let (key, range) = stations(&field.station, field.transport)
        .ok_or_else(|| usage(format!("`{name}` has no number on its port: its protocol knows none")))?;
    let station = checked.plan.devices.get(device);
    let own = station.and_then(woodrush_core::plan::Station::number);
    let shipped = checked.project.profile_of(device).and_then(|profile| profile.unit.map(|unit| unit.value));
    let to = args
        .to
        .or(own)
        .ok_or_else(|| usage(format!("`{name}` has no `{key}` in the project: add `--to`")))?;
    let from = match (args.from, args.to.is_some() || args.line.is_some()) {
        (Some(from), _) => from,
        (None, true) => {
            own.ok_or_else(|| usage(format!("`{name}` has no `{key}` in the project: add `--from`")))?
        }
        (None, false) => shipped.ok_or_else(|| {
            usage(format!(
                "where does `{name}` answer now? Its profile does not say as-shipped `unit`: add `--from`"
            ))
        })?,
    };
    for number in [from, to] {
        if !range.contains(&number) {
            return Err(usage(format!(
                "{number} is not a valid {key} ({} to {})",
                range.start,
                range.end - 1
            )));
        }
    }
    let line = |text: &Option<String>| match text {
        Some(text) => text.parse::<Line>().map(Some).map_err(|fault| usage(format!("`{text}`: {fault}"))),
        None => Ok(None),
    };
    let to_line = line(&args.line)?;
    let port = if let Link::Serial { line, .. } = &field.link { Some(*line) } else { None };
    let from_line = line(&args.from_line)?.or(port);
    if to_line.is_some() && from_line.is_none() {
        return Err(usage("line settings are for serial lines"));
    }
    if from == to && to_line.is_none() {
        return Err(usage(format!(
            "`{name}` would change from {key} {from} to {to}: give its present {key} with `--from`, or the new one with `--to`"
        )));
    }
    if let (Some(_), Some((_, port))) = (to_line.or(line(&args.from_line)?), &field.held) {
        return Err(usage(format!(
            "a running converter has port {port} and its settings; end `woodrush run` first"
        )));
    }
    Ok(MoveOrder { checked, device, name, key, from, to, from_line, to_line })
}

/// The registers that are written.
fn work(
    order: &MoveOrder<'_>,
    field: &Field,
    args: &ReaddressArgs,
    console: &Console,
) -> Result<Move, Failure> {
    let mut settings = vec![];
    if let (Some(from), Some(to)) = (order.from_line, order.to_line) {
        if from.baud != to.baud {
            let code = order.code(Role::LineSpeed, "speed", &[to.baud.to_string()])?;
            settings.push(order.setting(Role::LineSpeed, "line-speed", &code)?);
        }
        if (from.data, from.parity, from.stop) != (to.data, to.parity, to.stop) {
            let (letter, word) = match to.parity {
                Parity::None => ("N", "none"),
                Parity::Even => ("E", "even"),
                Parity::Odd => ("O", "odd"),
            };
            let frame = format!("{}{letter}{}", to.data, to.stop);
            let code = order.code(Role::LineParity, "parity", &[frame, letter.into(), word.into()])?;
            settings.push(order.setting(Role::LineParity, "line-parity", &code)?);
        }
    }
    if order.from != order.to {
        settings.push(order.setting(Role::UnitAddress, "unit-address", &order.to.to_string())?);
    }
    let unlock = match (order.wanted(Role::Unlock)?, &args.unlock) {
        (None, _) => None,
        (Some((wanted, _)), Some(value)) => {
            Some(NewSetting { cells: wanted.cells(value).map_err(usage)?, wanted })
        }
        (Some((wanted, _)), None) if std::io::stdin().is_terminal() => {
            let value = asked(console, &format!("the value that unlocks {} (it is not kept): ", order.name))?;
            Some(NewSetting { cells: wanted.cells(&value).map_err(usage)?, wanted })
        }
        (Some(_), None) => return Err(usage("the device must be unlocked: add `--unlock VALUE`")),
    };
    let apply = match order.wanted(Role::Apply)? {
        None => None,
        Some((wanted, point)) => {
            let value = point.values.first().map_or(1, |(_, code)| *code).to_string();
            Some(NewSetting { cells: wanted.cells(&value).map_err(usage)?, wanted })
        }
    };
    let base = field.station.clone();
    Ok(Move { base, key: order.key, from: order.from, to: order.to, unlock, settings, apply, looks: 1 })
}

fn carry_out(
    console: &mut Console,
    connections: &Connections,
    field: &Field,
    order: &MoveOrder<'_>,
    todo: &Move,
    stop: &Stop,
) -> Result<MoveResult, crate::connections::Failed> {
    let at = |line: Option<Line>| {
        let mut field = field.clone();
        if let (Link::Serial { line: own, .. }, Some(line)) = (&mut field.link, line) {
            *own = line;
            let time =
                field.station.dialect.map(|dialect| LineTime::bare(dialect, Some(line), field.line.timeout));
            field.line = time.map_or(field.line, |time| LineTime { hurry: true, ..time });
        }
        field
    };
    let (reach, _) = at(order.from_line).open(connections)?;
    let next = at(order.to_line);
    let mut reopen = || Direct::open(&next.link, next.line, &next.station);
    let changes = order.to_line.is_some();
    let mut last = None;
    let (key, from, to) = (order.key, order.from, order.to);
    let mut go_on = |doing: Stage| {
        if last != Some(doing) {
            last = Some(doing);
            console.note(&match doing {
                Stage::LookingAtNew => format!("  is {key} {to} free?"),
                Stage::LookingAtOld => format!("  is just one at {key} {from}?"),
                Stage::Unlocking => "  unlock".to_string(),
                Stage::Writing => "  write".to_string(),
                Stage::Applying => "  make it take effect".to_string(),
                Stage::Finding => format!("  does it answer at {key} {to}?"),
            });
        }
        !stop.is_asked()
    };
    let reopen: Option<&mut dyn FnMut() -> Result<Direct, Closed>> =
        if changes { Some(&mut reopen) } else { None };
    let ended = readdress(reach, todo, reopen, &mut go_on);
    Ok(ended)
}

/// Says how it ended, and lets the file and everyone else follow.
fn told(
    console: &mut Console,
    order: &MoveOrder<'_>,
    ended: &MoveResult,
    mut change: Option<file::Change>,
) -> Result<Verdict, Failure> {
    let (key, from, to) = (order.key, order.from, order.to);
    let good = ended.state == MoveState::There && ended.why.is_none();
    let mut follow = vec![];
    let mut changed = None;
    if good {
        if let Some(change) = &mut change {
            change.write()?;
            changed = Some(change.shown());
        }
        follow = follow::list(order.checked, order.device, from, to);
    }
    if console.format == Format::Json {
        console.json(&serde_json::json!({
            "format": 1,
            "device": order.name,
            "from": from,
            "to": to,
            "line": order.to_line.map(|line| line.to_string()),
            "state": state_word(ended.state),
            "already": ended.already,
            "why": ended.why,
            "file": changed,
            "follow": follow,
        }))?;
    } else if good {
        let mark = console.paint(Tone::Good, "done");
        let before = if ended.already {
            format!(" already, and nothing at {from}: nothing was written")
        } else {
            String::new()
        };
        console.say(&format!("{mark}  {} answers at {key} {to}{before}", order.name))?;
        match &changed {
            Some(changed) => console.say(&format!("  {changed}"))?,
            None => console.say("  the project file says so already")?,
        }
        if !follow.is_empty() {
            console.say("  must follow:")?;
            for one in &follow {
                console.say(&format!("  - {one}"))?;
            }
        }
    }
    if good {
        return Ok(Verdict::Yes);
    }
    let why = ended.why.clone().unwrap_or_default();
    let state = match ended.state {
        MoveState::Untouched => format!("nothing was written: it is as it was, at {key} {from}"),
        MoveState::Unlocked => format!("it is unlocked, and otherwise as it was, at {key} {from}"),
        MoveState::Written => format!(
            "its settings were written and it was not seen since: it is at {key} {to}, or at {key} {from} until its power was off and on"
        ),
        MoveState::Stayed => format!("the value was written, and it answers at {key} {from} still"),
        MoveState::There => format!("it answers at {key} {to}"),
    };
    console.complain(&format!("{}: {why}\n  state: {state}\n  the project file was not changed", order.name));
    Ok(if ended.state == MoveState::Untouched { Verdict::No } else { Verdict::Outside })
}

fn state_word(state: MoveState) -> &'static str {
    match state {
        MoveState::Untouched => "untouched",
        MoveState::Unlocked => "unlocked",
        MoveState::Written => "written",
        MoveState::Stayed => "stayed",
        MoveState::There => "there",
    }
}
