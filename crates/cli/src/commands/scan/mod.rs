//! `woodrush scan`: who is on a line or behind a socket, what each of them has, and what the line is set to.

pub(super) mod frames;
mod kept;
mod listed;
mod network;
mod shown;
mod start;

use crate::args::{Format, Global, ScanArgs};
use crate::connections::{Connections, Failed, Field};
use crate::console::Console;
use crate::render;
use crate::{Failure, Verdict};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use kept::Kept;
use woodrush_core::Refusal;
use woodrush_core::budget::LineTime;
use woodrush_core::check::Checked;
use woodrush_core::plan::Station;
use woodrush_core::project::Line;
use woodrush_core::protocol::{Setup, Transport};
use woodrush_engine::direct::{Direct, Link};
use woodrush_engine::scan::{
    Depth, Found, FramesAt, LINES, LineEvidence, is_listed, look, numbered, stations, takes_any, try_line,
};
use woodrush_engine::stop::Stop;

/// Default timeout, in microseconds: devices that answer at all mostly do so sooner.
const TIMEOUT: u64 = 300_000;
/// Units that are tried for a line's settings where none is given: those that devices are shipped with.
const LIKELY: [u32; 10] = [1, 2, 3, 4, 5, 10, 11, 16, 32, 247];

pub(crate) fn run(console: &mut Console, global: &Global, args: &ScanArgs) -> Result<Verdict, Failure> {
    if let Some(interface) = &args.ethernet {
        return on_interface(console, global, interface, args);
    }
    let targets: Vec<String> = args.target.iter().cloned().collect();
    // A serial line has its settings found, if they are not known.
    let mut way = args.way.clone();
    if args.find_settings && way.serial.is_some() && way.line.is_none() {
        way.line = LINES.first().map(ToString::to_string);
    }
    let (connections, names) = Connections::sort(global, &way, &targets)?;
    let port = port(&connections, names.first())?;
    let network = connections.checked().zip(port);
    let network = network.and_then(|(checked, at)| Some((at, checked.project.ports.get(at)?)));
    if let Some(own) = network.filter(|(_, port)| network::is_here(port)) {
        return network::run(console, &connections, own, args);
    }
    if let Some((_, port)) = network
        && let (Some(interface), Some(protocol)) = (frames::interface_of(port), port.protocol)
    {
        let switch = match (args.way.rig, connections.checked()) {
            (true, Some(checked)) => {
                Some(frames::switch_of(&crate::project::find(global)?, checked, interface)?)
            }
            _ => None,
        };
        let at = FramesAt { interface: interface.to_string(), switch };
        return frames::run(console, Some(&connections), (&at, protocol.value.name()), args);
    }
    if args.broadcast {
        return Err(Failure::Usage(
            "`--broadcast` is for ports with `network`, whose stations say who they are; leave it out".into(),
        ));
    }
    let mut field = match connections.field(port) {
        Ok(field) => field,
        Err(failed) => return Ok(unreachable(console, &failed)),
    };
    if let Some(dialect) = field.station.dialect.filter(|dialect| is_listed(dialect.name())) {
        return listed::run(console, &connections, (port, dialect), &field, args);
    }
    let timeout = connections.timeout().unwrap_or(TIMEOUT);
    field.line = LineTime { timeout, hurry: true, ..field.line };
    // The way on from a port's address stands at its device.
    if let Some(own) = connections.checked().zip(port).and_then(|(checked, port)| only_device(checked, port))
    {
        // What it has is asked, not read in the list that is at hand.
        field.station.setup = Setup { declared: None, ..own.setup.clone() };
    }
    if let Some(dialect) = field.station.dialect {
        let Some(search) = dialect.search() else {
            return Err(Failure::Usage(format!("`{}` has nothing that could be asked for", dialect.name())));
        };
        search.in_a_hurry(&mut field.station.setup, timeout);
    }
    let stop = Stop::with_terminal()
        .map_err(|error| Failure::Outside(format!("signals cannot be caught: {error}")))?;
    let numbers = numbers(args.units.as_deref(), &field)?;
    if args.find_settings {
        match settings(
            console,
            &connections,
            &mut field,
            args.units.as_ref().map(|_| numbers.as_slice()),
            &stop,
        )? {
            ScanStep::Good => {}
            ScanStep::Ends(verdict) => return Ok(verdict),
        }
    }
    units(console, &connections, &field, &numbers, args, &stop)
}

/// Stations of an interface, with or without a project.
fn on_interface(
    console: &mut Console,
    global: &Global,
    interface: &str,
    args: &ScanArgs,
) -> Result<Verdict, Failure> {
    let project = crate::project::find(global).ok();
    // Without a project nobody is known there, which is no reason not to look.
    let connections = match (&project, args.way.rig) {
        (None, false) => None,
        _ => Some(Connections::sort(global, &args.way, &[])?.0),
    };
    let switch = match (args.way.rig, &project, connections.as_ref().and_then(Connections::checked)) {
        (true, Some(path), Some(checked)) => Some(frames::switch_of(path, checked, interface)?),
        _ => None,
    };
    let at = FramesAt { interface: interface.to_string(), switch };
    frames::run(console, connections.as_ref(), (&at, frames::usual()?), args)
}

/// Options that mean nothing where stations say themselves who they are.
fn only_names(args: &ScanArgs, why: &str) -> Result<(), Failure> {
    let others = [
        ("units", args.units.is_some()),
        ("quick", args.quick),
        ("find-settings", args.find_settings),
        ("resume", args.resume.is_some()),
        ("start-project", args.start_project.is_some()),
    ];
    match others.iter().find(|(_, given)| *given) {
        Some((option, _)) => {
            Err(Failure::Usage(format!("`--{option}` does nothing here: {why}; leave it out")))
        }
        None => Ok(()),
    }
}

/// Goes on, or is at its end.
enum ScanStep {
    Good,
    Ends(Verdict),
}

fn unreachable(console: &mut Console, failed: &Failed) -> Verdict {
    let text = render::diagnosis::text(console, "scan", &failed.diagnosis);
    console.complain(&text);
    Verdict::Outside
}

/// The port that is meant.
fn port(connections: &Connections, name: Option<&String>) -> Result<Option<usize>, Failure> {
    let Some(checked) = connections.checked() else {
        return match name {
            Some(name) => Err(Failure::Usage(format!(
                "`{name}` is one target too many: the connection is given already"
            ))),
            None => Ok(None),
        };
    };
    let project = &checked.project;
    let asks = |at: &usize| checked.plan.devices.iter().any(|device| device.port == *at);
    let all: Vec<usize> = (0..project.ports.len()).filter(asks).collect();
    let names = || {
        let names = all.iter().filter_map(|at| Some(project.ports.get(*at)?.name.value.as_str()));
        names.collect::<Vec<_>>().join(", ")
    };
    match (name, all.as_slice()) {
        (Some(name), _) => {
            project.port(name).or_else(|| alone_on(checked, name)).map(Some).ok_or_else(|| {
                Failure::Usage(format!("there is no port `{name}` ({}), and it is not HOST:PORT", names()))
            })
        }
        (None, [only]) => Ok(Some(*only)),
        (None, _) => Err(Failure::Usage(format!("name the port: {}", names()))),
    }
}

/// The port of a device that has one of its own.
fn alone_on(checked: &Checked, name: &str) -> Option<usize> {
    let port = checked.plan.devices.iter().find(|device| device.name == name)?.port;
    only_device(checked, port).map(|_| port)
}

/// The one device of a port that has no other, where stations of its protocol have no numbers.
fn only_device(checked: &Checked, port: usize) -> Option<&Station> {
    let mut here = checked.plan.devices.iter().filter(|device| device.port == port);
    let (own, other) = (here.next()?, here.next());
    let numbered = own.dialect?.stations().station_key(Transport::Connect).is_some();
    (other.is_none() && !numbered).then_some(own)
}

/// `1-32,40`, within what can be on the way.
fn numbers(text: Option<&str>, field: &Field) -> Result<Vec<u32>, Failure> {
    let Some((key, all)) = stations(&field.station, field.transport) else { return Ok(vec![]) };
    let Some(text) = text else { return Ok(all.collect()) };
    let wrong = |part: &str| {
        Failure::Usage(format!(
            "`{part}` is not a {key} from {} to {} (write them as 1-32,40)",
            all.start,
            all.end - 1
        ))
    };
    let mut found = vec![];
    for part in text.split(',').map(str::trim) {
        let (low, high) = part.split_once('-').unwrap_or((part, part));
        let one = |text: &str| text.trim().parse::<u32>().ok().filter(|number| all.contains(number));
        match (one(low), one(high)) {
            (Some(low), Some(high)) if low <= high => found.extend(low..=high),
            _ => return Err(wrong(part)),
        }
    }
    found.sort_unstable();
    found.dedup();
    Ok(found)
}

fn bar(console: &Console, length: usize) -> ProgressBar {
    let bar = ProgressBar::with_draw_target(Some(length as u64), ProgressDrawTarget::hidden());
    if console.is_watched() {
        bar.set_draw_target(ProgressDrawTarget::stderr());
    }
    if let Ok(style) = ProgressStyle::with_template("  {msg:34} {bar:30} {pos}/{len} {eta:>5}") {
        bar.set_style(style);
    }
    bar
}

/// Finds what the line is set to, and sets the field to it.
fn settings(
    console: &mut Console,
    connections: &Connections,
    field: &mut Field,
    named: Option<&[u32]>,
    stop: &Stop,
) -> Result<ScanStep, Failure> {
    let (Link::Serial { path, line, two_wires, echo }, Some((key, _))) =
        (field.link.clone(), stations(&field.station, Transport::Serial))
    else {
        return Err(Failure::Usage("`--find-settings` is for serial lines".into()));
    };
    if let Some((_, port)) = &field.held {
        return Err(Failure::Usage(format!(
            "a running converter has port {port} and its settings; end `woodrush run` first"
        )));
    }
    let numbers = named.unwrap_or(&LIKELY);
    // The present settings first: they are the best guess there is.
    let mut all: Vec<Line> = vec![line];
    all.extend(LINES.iter().filter(|other| **other != line));
    let bar = bar(console, all.len());
    let mut seen: Vec<(Line, LineEvidence)> = vec![];
    for settings in all {
        if stop.is_asked() {
            break;
        }
        bar.set_message(settings.to_string());
        let link = Link::Serial { path: path.clone(), line: settings, two_wires, echo };
        let time = field.station.dialect.map_or(field.line, |dialect| LineTime {
            hurry: true,
            ..LineTime::bare(dialect, Some(settings), field.line.timeout)
        });
        let tried = Field { link: link.clone(), line: time, ..field.clone() };
        let evidence = match tried.open(connections) {
            Ok((mut reach, _)) => {
                try_line(&mut reach, &field.station, key, numbers, &mut || !stop.is_asked())
            }
            Err(failed) => {
                bar.finish_and_clear();
                return Ok(ScanStep::Ends(unreachable(console, &failed)));
            }
        };
        let Ok(evidence) = evidence else {
            bar.finish_and_clear();
            console.complain(&format!("{} is gone; what was found so far:", path.display()));
            shown::lines(console, field, &seen)?;
            return Ok(ScanStep::Ends(Verdict::Outside));
        };
        bar.inc(1);
        let found = evidence.is_it();
        seen.push((settings, evidence));
        if found {
            (field.link, field.line) = (link, time);
            break;
        }
    }
    bar.finish_and_clear();
    if console.format == Format::Text {
        shown::lines(console, field, &seen)?;
    }
    let answered = seen.last().is_some_and(|(_, evidence)| evidence.is_it());
    if answered {
        return Ok(ScanStep::Good);
    }
    if console.format == Format::Json {
        console.json(&shown::lines_json(&seen))?;
    }
    let damaged =
        seen.iter().filter(|(_, evidence)| evidence.damaged > 0).max_by_key(|(_, evidence)| evidence.damaged);
    let (key, all) = stations(&field.station, field.transport).unwrap_or(("station", 0..1));
    console.complain(&match damaged {
        Some((line, _)) => format!(
            "no valid answer; most bytes came at {line}: a device with a speed near it, two devices of one {key}, or noise"
        ),
        None => format!(
            "no answer at any of {} settings (check power and swapped wires, or try another {key}: `--units {}-{}` takes longer)",
            seen.len(),
            all.start,
            all.end - 1
        ),
    });
    Ok(ScanStep::Ends(Verdict::No))
}

/// What came of the units.
struct Units {
    found: Vec<Found>,
    asked: usize,
    /// Why it ended early, in words.
    ended: Option<String>,
    gone: bool,
}

fn units(
    console: &mut Console,
    connections: &Connections,
    field: &Field,
    numbers: &[u32],
    args: &ScanArgs,
    stop: &Stop,
) -> Result<Verdict, Failure> {
    let mut kept = Kept::open(args.resume.as_deref(), field)?;
    let (mut reach, link) = match field.open(connections) {
        Ok(open) => open,
        Err(failed) => return Ok(unreachable(console, &failed)),
    };
    let go_on = || !stop.is_asked();
    let depth = Depth { quick: args.quick, budget: args.max_requests, go_on: &go_on };
    let place = link
        .as_ref()
        .map_or_else(|| format!("port {}, through the running converter", field.station.name), Link::shown);
    let done = match stations(&field.station, field.transport) {
        None => alone(&mut reach, field, depth, &mut kept),
        Some((key, _)) => each(console, &mut reach, field, key, numbers, depth, &mut kept, stop),
    };
    let done = done?;
    shown::units(console, &place, field, &done)?;
    if let Some(dir) = &args.start_project {
        start::write(console, dir, field, &done.found)?;
    }
    if let Some(why) = &done.ended {
        let go_on = args.resume.as_ref().map_or_else(
            || " (with `--resume FILE` it can continue from here)".to_string(),
            |file| format!(" (the same command goes on from {})", file.display()),
        );
        console.complain(&format!("{why}{go_on}"));
        return Ok(if done.gone { Verdict::Outside } else { Verdict::No });
    }
    Ok(if done.found.is_empty() { Verdict::No } else { Verdict::Yes })
}

/// A way that leads to one station only.
fn alone(reach: &mut Direct, field: &Field, depth: Depth<'_>, kept: &mut Kept) -> Result<Units, Failure> {
    let mut units = Units { found: vec![], asked: 1, ended: None, gone: false };
    match look(reach, &field.station, None, depth) {
        Ok(found) => units.found.extend(found),
        Err(_) => (units.ended, units.gone) = (Some("the connection is gone".into()), true),
    }
    if let Some(found) = units.found.first() {
        kept.add(0, Some(found.clone()))?;
    }
    Ok(units)
}

#[allow(clippy::too_many_arguments, reason = "one way through a scan, with all that it needs")]
fn each(
    console: &Console,
    reach: &mut Direct,
    field: &Field,
    key: &'static str,
    numbers: &[u32],
    depth: Depth<'_>,
    kept: &mut Kept,
    stop: &Stop,
) -> Result<Units, Failure> {
    let mut units = Units { found: kept.found.clone(), asked: kept.done.len(), ended: None, gone: false };
    let gone = |_: Refusal| Some("the connection is gone; what was found before is kept".to_string());
    if field.transport == Transport::Connect && kept.done.is_empty() && numbers.len() > 3 {
        match takes_any(reach, &field.station, key) {
            Ok(true) => {
                let found = look(reach, &numbered(&field.station, key, 1), None, depth);
                match found {
                    Ok(found) => units.found.extend(found),
                    Err(refusal) => (units.ended, units.gone) = (gone(refusal), true),
                }
                units.asked = 1;
                return Ok(units);
            }
            Ok(false) => {}
            Err(refusal) => {
                (units.ended, units.gone) = (gone(refusal), true);
                return Ok(units);
            }
        }
    }
    let bar = bar(console, numbers.len());
    for number in numbers {
        bar.set_position(units.asked as u64);
        bar.set_message(format!("{key} {number}, {} found", units.found.len()));
        if kept.done.contains(number) {
            continue;
        }
        if stop.is_asked() {
            units.ended = Some(format!("ended at {key} {number}"));
            break;
        }
        match look(reach, &numbered(&field.station, key, *number), Some(*number), depth) {
            // What was ended in the middle is looked at again another time.
            Ok(found) if stop.is_asked() && found.as_ref().is_some_and(|found| found.broken.is_some()) => {
                units.found.extend(found);
                units.ended = Some(format!("ended at {key} {number}"));
                break;
            }
            Ok(found) => {
                kept.add(*number, found.clone())?;
                units.found.extend(found);
                units.asked += 1;
            }
            Err(refusal) => {
                (units.ended, units.gone) = (gone(refusal), true);
                break;
            }
        }
    }
    bar.finish_and_clear();
    Ok(units)
}
