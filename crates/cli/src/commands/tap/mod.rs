//! `woodrush tap`: the traffic of a running converter, of a line that is only listened to, or of a capture.

mod counts;
mod filter;
mod lines;
mod said;
mod saved;
mod source;

use crate::args::{ConnectionArgs, Format, Global, TapArgs};
use crate::console::{Console, Tone, counted};
use crate::{Failure, Verdict};
use counts::Counts;
use filter::Filter;
use lines::LineColumns;
use said::MessageTeller;
use saved::Saved;
use source::{FileSource, Source};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use woodrush_core::check::Checked;
use woodrush_core::project::{Wires, micros};
use woodrush_core::protocol::{DIALECTS, dialect};
use woodrush_engine::Moment;
use woodrush_engine::control::{Remote, Whose};
use woodrush_engine::direct::Link;
use woodrush_engine::monitor::Status;
use woodrush_engine::read_plain_bytes;
use woodrush_engine::speak::Side;
use woodrush_engine::stop::Stop;
use woodrush_engine::tap::{Conversations, Follow, LineListener, Passed, Spoken, Where};

/// Most bytes of a capture that is looked at: days of a fast line.
const CAPTURE_MAX: u64 = 1024 * 1024 * 1024;
/// Values of one message that a line may show; programs get all.
const SHOWN: usize = 8;

fn usage(text: impl Into<String>) -> Failure {
    Failure::Usage(text.into())
}

pub(crate) fn run(console: &mut Console, global: &Global, args: &TapArgs) -> Result<Verdict, Failure> {
    let stop = Stop::with_terminal()
        .map_err(|error| Failure::Outside(format!("signals cannot be caught: {error}")))?;
    let lasting = match &args.lasting {
        Some(text) => {
            let time = micros(text).filter(|time| *time > 0);
            Some(
                time.ok_or_else(|| usage(format!("`--for {text}` is not a time (write it as 500ms or 1m)")))?,
            )
        }
        None => None,
    };
    let project = project(global, args)?;
    let checked = project.as_ref().map(|(_, checked)| checked);
    for port in &args.ports {
        if checked.is_none_or(|checked| checked.project.port(port).is_none()) {
            let names = checked.map_or_else(String::new, |checked| {
                let names = checked.project.ports.iter().map(|port| port.name.value.as_str());
                names.collect::<Vec<_>>().join(", ")
            });
            return Err(usage(format!("the project has no port `{port}` (it has {names})")));
        }
    }
    let whole = console.line_width() > console.width();
    // Who looks for a value must find it, however many others come with it.
    let some = console.format == Format::Text && !whole && args.at.is_empty();
    let most = if some { SHOWN } else { usize::MAX };
    let mut teller = MessageTeller::new(checked, most);
    // Nothing is opened, and nothing is written over, before all that was typed is known to be right.
    let filter = Filter::of(args, checked, &teller, console.verbose)?;
    let (source, learnt) =
        open(console, args, project.as_ref().map(|(path, checked)| (path.as_path(), checked)))?;
    let mut audience = Conversations::new(checked.map(Spoken::of).unwrap_or_default());
    if let (Some(from), Some(to)) = (&args.open, &args.save)
        && std::fs::canonicalize(from)
            .ok()
            .is_some_and(|from| std::fs::canonicalize(to).is_ok_and(|to| to == from))
    {
        return Err(usage("`--save` names the capture that is open: name another file"));
    }
    let mut capture = args.save.as_deref().map(|path| Saved::create(path, checked)).transpose()?;
    for (port, spoken) in learnt {
        capture.iter_mut().for_each(|capture| capture.learn(&port, spoken.protocol));
        teller.learn(&port, spoken.clone());
        audience.learn(&port, spoken);
    }
    let mut view = TapView {
        columns: columns(checked, args),
        counts: Counts::default(),
        filter,
        capture,
        only: args.ports.clone(),
        quiet: args.counts,
        first: true,
        out: vec![],
        missed: 0,
        told_missed: 0,
        damaged: 0,
    };
    let ended = follow(console, &stop, lasting, source, &mut audience, &mut teller, &mut view);
    view.end(console)?;
    ended
}

/// The project, where one is named or found: a line, or a capture, can be looked at without one.
fn project(global: &Global, args: &TapArgs) -> Result<Option<(PathBuf, Checked)>, Failure> {
    let optional = args.serial.is_some() || args.open.is_some();
    let path = match crate::project::find(global) {
        Ok(path) => path,
        Err(_) if optional && global.project.is_none() && args.ports.is_empty() => return Ok(None),
        Err(failure) => return Err(failure),
    };
    match crate::project::load(&path) {
        Ok(checked) => Ok(Some((path, checked))),
        Err(_) if optional && global.project.is_none() => Ok(None),
        Err(failure) => Err(failure),
    }
}

type OpenSource = (Source, Vec<(String, Spoken)>);

fn open(
    console: &mut Console,
    args: &TapArgs,
    project: Option<(&Path, &Checked)>,
) -> Result<OpenSource, Failure> {
    if let Some(path) = &args.open {
        let file = read_plain_bytes(path, CAPTURE_MAX).map_err(usage)?;
        let named = match &args.protocol {
            Some(name) => Some(dialect(name).ok_or_else(|| unknown_protocol(name))?.name()),
            None => None,
        };
        let source = FileSource::open(file, project.map(|(_, checked)| checked), named)?;
        return Ok((Source::File(Box::new(source)), vec![]));
    }
    if args.serial.is_some() {
        return listen_bare(console, args);
    }
    if let Some(key) = [("line", args.line.is_some()), ("protocol", args.protocol.is_some())]
        .into_iter()
        .find_map(|(key, given)| given.then_some(key))
    {
        return Err(usage(format!("`--{key}` belongs to `--serial PATH`; a project's ports have their own")));
    }
    let Some((path, checked)) = project else { return Err(usage("name a project with `-p FILE`")) };
    let remote = Remote::of(Whose::Run, path);
    match Follow::begin(&remote, &args.ports) {
        Ok(follow) => {
            same_map(console, &remote, checked);
            Ok((Source::Converter(follow), vec![]))
        }
        Err(error) if error.kind() == std::io::ErrorKind::Other => Err(Failure::Outside(error.to_string())),
        Err(_) => listen(console, args, checked),
    }
}

fn unknown_protocol(name: &str) -> Failure {
    let all: Vec<&str> = DIALECTS.iter().map(|known| known.name()).collect();
    usage(format!("there is no protocol `{name}` (one of {})", all.join(", ")))
}

fn same_map(console: &mut Console, remote: &Remote, checked: &Checked) {
    let status =
        remote.say("status", &[]).ok().and_then(|answer| serde_json::from_value::<Status>(answer.data?).ok());
    let own = format!("{:016x}", checked.plan.fingerprint(&checked.project));
    if status.is_some_and(|status| status.project_id != own) {
        console.note("M38: the running converter does not run this project, so names may be wrong (reload it: SIGHUP, or `run --follow`)");
    }
}

/// No converter runs: the one port's line is listened to, without a word.
fn listen(console: &mut Console, args: &TapArgs, checked: &Checked) -> Result<OpenSource, Failure> {
    let start = "no converter of this project is running (start `woodrush run`)";
    let [name] = args.ports.as_slice() else {
        return Err(Failure::Outside(format!(
            "{start}; to only listen on a serial line name its port, such as `woodrush tap PORT`"
        )));
    };
    let port = checked.project.port(name).and_then(|at| checked.project.ports.get(at));
    match port.and_then(|port| port.wires.as_ref()) {
        Some(Wires::Serial { path, line: Some(line), .. }) => {
            let listener = LineListener::open(Path::new(&path.value), line.value, name)
                .map_err(|closed| Failure::Outside(format!("{} ({})", closed.what, closed.fix)))?;
            console.note(&format!(
                "no converter of this project is running: listening on {} at {}, without transmitting",
                path.value, line.value
            ));
            Ok((Source::Line(listener), vec![]))
        }
        _ => Err(Failure::Outside(format!(
            "{start}; port `{name}` is not a serial line, so it can only be watched through a converter"
        ))),
    }
}

/// A line that is written on the command line.
fn listen_bare(console: &mut Console, args: &TapArgs) -> Result<OpenSource, Failure> {
    let way = ConnectionArgs {
        serial: args.serial.clone(),
        line: args.line.clone(),
        protocol: args.protocol.clone(),
        set: args.set.clone(),
        ..ConnectionArgs::default()
    };
    let (link, station, times) = crate::connections::written(&way)?;
    let Link::Serial { path, line, .. } = &link else { return Err(usage("name a serial line")) };
    let name = path.file_name().map_or_else(|| "line".into(), |name| name.to_string_lossy().into_owned());
    let listener = LineListener::open(path, *line, &name)
        .map_err(|closed| Failure::Outside(format!("{} ({})", closed.what, closed.fix)))?;
    console.note(&format!("listening on {}, without transmitting", link.shown()));
    let protocol = station.dialect.map_or("", |dialect| dialect.name());
    let patience = times.timeout.saturating_mul(2);
    let spoken =
        Spoken { protocol, setup: station.setup.clone(), stations: vec![], published: vec![], patience };
    Ok((Source::Line(listener), vec![(name, spoken)]))
}

fn columns(checked: Option<&Checked>, args: &TapArgs) -> LineColumns {
    let Some(checked) = checked else { return LineColumns { port: 10, station: 8 } };
    let looked_at = |name: &&str| args.ports.is_empty() || args.ports.iter().any(|port| port == name);
    let names = checked.project.ports.iter().map(|port| port.name.value.as_str());
    let port = names.filter(looked_at).map(str::len).max().unwrap_or(8);
    // On a network stations are called by the names of the project.
    let ports = checked.project.ports.iter().enumerate().filter(|(_, port)| {
        looked_at(&port.name.value.as_str()) && matches!(port.wires, Some(Wires::Network { .. }))
    });
    let here = ports.flat_map(|(at, _)| {
        checked.plan.devices.iter().chain(&checked.plan.images).filter(move |own| own.port == at)
    });
    let station = here.map(|own| own.name.chars().count()).max().unwrap_or(8);
    LineColumns { port: port.clamp(4, 12), station: station.clamp(8, 16) }
}

fn follow(
    console: &mut Console,
    stop: &Stop,
    lasting: Option<u64>,
    mut source: Source,
    audience: &mut Conversations,
    teller: &mut MessageTeller,
    view: &mut TapView,
) -> Result<Verdict, Failure> {
    let dated = source.dated();
    #[allow(clippy::disallowed_methods, reason = "a command that keeps time for a person")]
    let began = Instant::now();
    let over = || lasting.is_some_and(|lasting| began.elapsed() >= Duration::from_micros(lasting));
    let mut last = Moment(0);
    let mut result = Ok(Verdict::Yes);
    while !stop.is_asked() && !over() {
        let look = match source.look() {
            Ok(Some(look)) => look,
            Ok(None) => break,
            Err(failure) => {
                result = Err(failure);
                break;
            }
        };
        for (port, spoken) in look.learnt {
            view.capture.iter_mut().for_each(|capture| capture.learn(&port, spoken.protocol));
            teller.learn(&port, spoken.clone());
            audience.learn(&port, spoken);
        }
        if look.taken.lost > 0 {
            audience.forget();
            view.missed += look.taken.lost;
        }
        last = look.now.max(last);
        let mut heard: Vec<(Where, Passed)> = vec![];
        for piece in &look.taken.pieces {
            let place = (piece.port.clone(), piece.who.clone());
            heard.extend(audience.handle(piece).into_iter().map(|passed| (place.clone(), passed)));
        }
        let forgotten = audience.forgotten();
        if forgotten > 0 {
            console.note(&format!(
                "{forgotten} conversations were forgotten, those silent longest: more than 4,096 are not followed at a time"
            ));
        }
        heard.extend(audience.look(last));
        // Each port tells in order; what passed at several is put into one.
        heard.sort_by_key(|(_, passed)| passed.began);
        for (place, passed) in heard {
            let at = dated.unix(passed.began);
            view.show(console, teller, &place, passed, at)?;
        }
        view.looked(console)?;
    }
    if let Source::File(file) = &source
        && file.passed_over() > 0
    {
        console.note(&format!("{} packets carry no protocol that is known here", file.passed_over()));
    }
    result
}

/// What is made of messages.
struct TapView {
    columns: LineColumns,
    counts: Counts,
    filter: Filter,
    capture: Option<Saved>,
    /// The ports that are looked at; empty for all.
    only: Vec<String>,
    /// Only the counts are shown.
    quiet: bool,
    first: bool,
    /// Lines of one look, said together.
    out: Vec<String>,
    missed: u64,
    told_missed: u64,
    /// Bytes that made no message.
    damaged: u64,
}

impl TapView {
    fn show(
        &mut self,
        console: &mut Console,
        teller: &MessageTeller,
        (port, who): &Where,
        passed: Passed,
        unix: u64,
    ) -> Result<(), Failure> {
        if !self.only.is_empty() && self.only.iter().all(|only| **only != **port) {
            return Ok(());
        }
        let said = teller.tell(port, who.as_deref(), &passed, unix);
        if said.kind == said::MessageKind::Damaged {
            self.damaged += said.bytes.len() as u64;
        }
        if let Some(capture) = &mut self.capture {
            // Of a request the end counts: the time between the two is that of the answer.
            let at = if passed.side == Side::Asks { unix + passed.ended.since(passed.began) } else { unix };
            capture.add(&said, who.as_deref(), &passed, at);
        }
        // Failures are seen against all that passed; what is asked for by unit, function or place is counted alone.
        let narrow = self.filter.is_narrow();
        if !narrow {
            self.counts.count(&said, &passed);
        }
        let shown = self.filter.pass((said, passed));
        if narrow {
            shown.iter().for_each(|(said, passed)| self.counts.count(said, passed));
        }
        if self.quiet {
            return Ok(());
        }
        match console.format {
            Format::Text => {
                for (said, _) in &shown {
                    self.out.push(lines::line(console, said, self.columns));
                }
            }
            Format::Json => {
                for (said, _) in &shown {
                    let text =
                        serde_json::to_string(said).map_err(|error| Failure::Outside(error.to_string()))?;
                    self.out.push(text);
                }
            }
            Format::Csv if !shown.is_empty() => {
                console.csv_rows(&lines::table(&shown), std::mem::take(&mut self.first))?;
            }
            Format::Csv => {}
        }
        Ok(())
    }

    /// After each look.
    fn looked(&mut self, console: &mut Console) -> Result<(), Failure> {
        if !self.out.is_empty() {
            console.say(&std::mem::take(&mut self.out).join("\n"))?;
        }
        if self.missed > self.told_missed {
            let count = self.missed - std::mem::replace(&mut self.told_missed, self.missed);
            let text = format!(
                "{count} chunks came faster than the tap takes them, and are not shown (name fewer ports)"
            );
            console.note(&console.paint(Tone::Doubt, &text));
        }
        self.capture.as_mut().map_or(Ok(()), Saved::looked)
    }

    /// Counts and times, once it is over.
    fn end(&mut self, console: &mut Console) -> Result<(), Failure> {
        if let Some(capture) = self.capture.take() {
            let (count, path) = capture.end(self.missed)?;
            console.note(&format!("{count} messages are in {}", path.display()));
        }
        match console.format {
            Format::Json => {
                let mut counts = self.counts.json(self.missed);
                counts["damaged_bytes"] = self.damaged.into();
                console.say(&counts.to_string())
            }
            // Behind the messages the rows of another table would stand in their columns.
            Format::Csv if self.quiet => self.counts.csv(console),
            Format::Csv => Ok(()),
            Format::Text if self.counts.is_empty() => {
                console.note("nothing passed");
                Ok(())
            }
            Format::Text => {
                if !self.quiet {
                    console.say("")?;
                }
                self.counts.say(console)?;
                if self.damaged > 0 {
                    console.note(&format!("{} bytes made no message", self.damaged));
                }
                let failures = self.counts.failures();
                if failures > 0 && !self.filter.is_for_failures() {
                    let failures = counted(usize::try_from(failures).unwrap_or(usize::MAX), "failure");
                    console.note(&format!("{failures}; `woodrush tap --failures` shows them alone"));
                }
                Ok(())
            }
        }
    }
}

/// UTC, to the microsecond, as the standard writes it.
fn stamp(unix: u64) -> String {
    let at = jiff::Timestamp::from_microsecond(i64::try_from(unix).unwrap_or(i64::MAX)).unwrap_or_default();
    format!("{at:.6}")
}

/// The time of day where this person is, to the millisecond.
fn clock(unix: u64) -> String {
    let at = jiff::Timestamp::from_microsecond(i64::try_from(unix).unwrap_or(i64::MAX)).unwrap_or_default();
    at.to_zoned_datetime(jiff::tz::TimeZone::system()).strftime("%H:%M:%S%.3f").to_string()
}

/// A time in the unit that suits it: `740us`, `27.9ms`, `1.50s`.
fn span(micros: u64) -> String {
    match micros {
        0..1000 => format!("{micros} us"),
        1000..1_000_000 => {
            let tenths = (micros + 50) / 100;
            if tenths.is_multiple_of(10) || tenths >= 1000 {
                format!("{} ms", (micros + 500) / 1000)
            } else {
                format!("{}.{} ms", tenths / 10, tenths % 10)
            }
        }
        _ => {
            let hundredths = (micros + 5000) / 10_000;
            match hundredths % 100 {
                0 => format!("{} s", hundredths / 100),
                rest => format!("{}.{rest:02} s", hundredths / 100),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_have_the_unit_that_suits_them() {
        for (micros, shown) in [
            (0, "0 us"),
            (740, "740 us"),
            (1000, "1 ms"),
            (27_940, "27.9 ms"),
            (100_400, "100 ms"),
            (1_500_000, "1.50 s"),
            (5_000_000, "5 s"),
        ] {
            assert_eq!(span(micros), shown);
        }
    }
}
