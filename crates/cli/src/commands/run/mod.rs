//! `woodrush run`: the converter, on the real ports or attached to a running rig.

mod converter;
mod folding;
mod log;
mod output;
mod station_state;
mod write_log;

pub(crate) use converter::{Attach, Converter, already, claim};
pub(crate) use log::Names;

use crate::args::{LogFormat, RunArgs};
use crate::console::{Console, Tone};
use crate::render::findings;
use crate::{Failure, Verdict};
use folding::Folding;
use log::{LogEntry, Watch};
use output::Output;
use station_state::StationState;
use std::cell::RefCell;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::sync::mpsc::{RecvTimeoutError, sync_channel};
use std::time::{Duration, Instant};
use woodrush_core::check::Checked;
use woodrush_core::plan::Plan;
use woodrush_engine::converter::Event;
use woodrush_engine::monitor::Http;
use woodrush_engine::stop::Stop;
use write_log::{LogFile, WriteLog};

/// How often the files are looked at, and the events are taken.
const LOOK: Duration = Duration::from_millis(100);
/// Looks from one at the files to the next.
const FILES_EVERY: u32 = 5;
/// Events that wait to be looked at: those of a large site whose network goes away, all at once.
const EVENTS: usize = 16 * 1024;

/// Where `run` writes while the converter is at work. Nothing here ever waits for a reader or a disk.
struct RunOutput {
    events: Output,
    notes: Arc<Output>,
    writes: WriteLog,
    format: LogFormat,
    folding: RefCell<Folding>,
    began: Instant,
}

impl RunOutput {
    fn event(&self, console: &Console, names: &Names, plan: &Plan, event: Event) {
        if let Event::Written(record) = event {
            return self.writes.write(record);
        }
        let Some(entry) = names.entry(plan, &event) else { return };
        let shown = self.folding.borrow_mut().take(self.began.elapsed(), &event, entry);
        shown.into_iter().for_each(|entry| self.show(console, &entry));
    }

    /// Shows what was counted instead of being shown, once its time is over.
    fn show_folded(&self, console: &Console, now: Duration) {
        let due = self.folding.borrow_mut().due(now);
        due.iter().for_each(|entry| self.show(console, entry));
    }

    fn show(&self, console: &Console, entry: &LogEntry) {
        self.events.line(match self.format {
            LogFormat::Text => entry.text(console),
            LogFormat::Json => entry.json(),
        });
    }

    fn complain(&self, console: &Console, text: &str) {
        self.notes.line(format!("{} {text}", console.paint(Tone::Bad, "woodrush:")));
    }
}

pub(crate) fn run(console: &mut Console, path: &Path, options: &RunArgs) -> Result<Verdict, Failure> {
    let Some(mut checked) = crate::project::load_sound(console, path)? else { return Ok(Verdict::No) };
    crate::project::addressed(&checked).map_err(Failure::Usage)?;
    if console.verbose {
        for line in crate::render::findings::polls(&checked) {
            console.note(&line);
        }
    }
    woodrush_engine::raise_descriptor_limit();
    let stop =
        Stop::listen().map_err(|error| Failure::Outside(format!("signals cannot be caught: {error}")))?;
    let claim = claim(path)?;
    let file = LogFile::open(&checked, path)?;
    let (teller, events) = sync_channel(EVENTS);
    let overrun = Arc::new(AtomicU64::new(0));
    let mut plan = Arc::new(std::mem::take(&mut checked.plan));
    let counted = Arc::clone(&overrun);
    // A port's thread never waits for the reader of the events.
    let tell = move |event| {
        if teller.try_send(event).is_err() {
            counted.fetch_add(1, Relaxed);
        }
    };
    console.note(&format!("control socket {}", claim.path().display()));
    // On the rig nothing is kept: what is said there is of its world alone.
    let mut state = if options.rig { None } else { Some(StationState::of(path)?) };
    let kept = state.as_ref().map(|state| state.kept.clone()).unwrap_or_default();
    let attached = Attach { rig: options.rig, may_be_missing: !options.strict, kept };
    let mut converter = Converter::start(path, claim, &checked, Arc::clone(&plan), &attached, tell)?;
    let http = match options.monitor {
        Some(at) => {
            let http = Http::serve(&converter.monitor, at, &options.monitor_hosts);
            Some(http.map_err(|error| {
                Failure::Outside(format!(
                    "the monitor cannot listen on {at}: {error} (write another address)"
                ))
            })?)
        }
        None => None,
    };
    let mut names = Names::of(&checked);
    let mut watch = Watch::of(&checked, path);
    // What only reading needed: a large project's texts are many times its plan.
    drop(checked);
    woodrush_engine::give_memory_back();
    if let Some(http) = &http {
        console.note(&format!("counters at http://{}/status and /metrics", http.at));
    }
    console.note("the converter runs; Ctrl-C ends it, SIGHUP reloads the project");
    let notes = Arc::new(Output::to(std::io::stderr()));
    let told = RunOutput {
        events: Output::to(std::io::stdout()),
        writes: WriteLog::begin(file, Arc::clone(&notes)),
        notes,
        format: options.log_format,
        folding: RefCell::default(),
        began: started(),
    };
    let mut looked = 0u32;
    while !stop.is_asked() {
        match events.recv_timeout(LOOK) {
            Ok(event) => {
                if let Some(Err(why)) = state.as_mut().map(|state| state.take(&plan, &event)) {
                    told.complain(console, &why);
                }
                told.event(console, &names, &plan, event);
            }
            Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => break,
        }
        told.show_folded(console, told.began.elapsed());
        let missed = overrun.swap(0, Relaxed);
        if missed > 0 {
            told.complain(
                console,
                &format!("{missed} events came faster than they could be taken, and are not shown"),
            );
        }
        looked = looked.wrapping_add(1);
        let changed = options.follow && looked.is_multiple_of(FILES_EVERY) && watch.changed();
        if !(changed || stop.hung_up() || converter.is_asked_anew()) {
            continue;
        }
        // The events so far belong to the project that runs.
        while let Ok(event) = events.try_recv() {
            told.event(console, &names, &plan, event);
        }
        match reload(console, path, &mut converter, &told) {
            Ok(Some((next_names, next_watch, next_plan))) => {
                (names, watch, plan) = (next_names, next_watch, next_plan);
            }
            Ok(None) => {}
            Err(Failure::Usage(why) | Failure::Outside(why)) => {
                told.complain(console, &format!("{why}; nothing has changed, the old project stays active"));
            }
            Err(Failure::OutputClosed) => {}
        }
    }
    drop(http);
    drop(converter);
    while let Ok(event) = events.try_recv() {
        told.event(console, &names, &plan, event);
    }
    // What was counted until now is told too.
    told.show_folded(console, Duration::MAX);
    if !console.quiet {
        told.notes.line("ended; ports and sockets are closed".into());
    }
    Ok(Verdict::Yes)
}

#[allow(clippy::disallowed_methods, reason = "only the log goes by it")]
fn started() -> Instant {
    Instant::now()
}

/// Takes a changed project whole, or not at all: its files are sound, its write log and its ports can be had.
fn reload(
    console: &Console,
    path: &Path,
    converter: &mut Converter,
    told: &RunOutput,
) -> Result<Option<(Names, Watch, Arc<Plan>)>, Failure> {
    let mut next: Checked = crate::project::load(path)?;
    if next.has_errors() {
        told.notes.line(findings::text(console, &next, true, findings::MOST));
        told.complain(console, "the changed project has errors, so the old one stays active");
        return Ok(None);
    }
    if let Err(why) = crate::project::addressed(&next) {
        told.complain(console, &format!("{why}; the old project stays active"));
        return Ok(None);
    }
    let file = LogFile::open(&next, path)?;
    let plan = Arc::new(std::mem::take(&mut next.plan));
    converter.reload(&next, Arc::clone(&plan))?;
    told.writes.switch(file);
    Ok(Some((Names::of(&next), Watch::of(&next, path), plan)))
}
