//! `woodrush run`: the converter, on the real ports or attached to a running rig.

mod converter;
mod log;

pub(crate) use converter::Converter;
pub(crate) use log::Names;

use crate::console::Console;
use crate::{Failure, Verdict};
use log::{Watch, WriteLog};
use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc;
use std::time::Duration;
use woodrush_core::check::Checked;
use woodrush_engine::converter::Event;
use woodrush_engine::monitor::Http;
use woodrush_engine::stop::Stop;

/// How `run` was asked to run.
pub(crate) struct Options {
    pub(crate) rig: bool,
    pub(crate) follow: bool,
    pub(crate) monitor: Option<SocketAddr>,
}

/// How often the files are looked at, and the events are taken.
const LOOK: Duration = Duration::from_millis(100);

pub(crate) fn run(console: &mut Console, path: &Path, options: &Options) -> Result<Verdict, Failure> {
    let Some(mut checked) = crate::project::load_sound(console, path)? else { return Ok(Verdict::No) };
    if console.verbose {
        for line in crate::render::findings::polls(&checked) {
            console.note(&line);
        }
    }
    let stop =
        Stop::listen().map_err(|error| Failure::Outside(format!("signals cannot be heard: {error}")))?;
    let mut log = WriteLog::of(&checked, path)?;
    let (teller, events) = mpsc::channel();
    let mut plan = Arc::new(std::mem::take(&mut checked.plan));
    // Whoever hears the events is gone only when this function has returned.
    let tell = move |event| drop(teller.send(event));
    let mut converter = Converter::start(path, &checked, Arc::clone(&plan), options.rig, tell)?;
    let http = match options.monitor {
        Some(at) => Some(Http::serve(&converter.monitor, at).map_err(|error| {
            Failure::Outside(format!("the monitor cannot listen on {at}: {error} (write another address)"))
        })?),
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
    console.note("the converter runs; Ctrl-C ends it, SIGHUP takes the project anew");
    let mut looked = 0u32;
    while !stop.is_asked() {
        match events.recv_timeout(LOOK) {
            Ok(Event::Written(record)) => log.write(console, &record),
            Ok(event) => {
                if let Some(line) = names.tell(console, &plan, &event) {
                    console.say(&line)?;
                }
            }
            Err(mpsc::RecvTimeoutError::Timeout) => {}
            Err(mpsc::RecvTimeoutError::Disconnected) => break,
        }
        looked = looked.wrapping_add(1);
        let changed = options.follow && looked.is_multiple_of(5) && watch.changed();
        if !(changed || stop.hung_up() || converter.is_asked_anew()) {
            continue;
        }
        // The events so far belong to the project that runs.
        while let Ok(event) = events.try_recv() {
            if let Some(line) = names.tell(console, &plan, &event) {
                console.say(&line)?;
            }
        }
        let Some(mut next) = reread(console, path) else { continue };
        watch = Watch::of(&next, path);
        let next_plan = Arc::new(std::mem::take(&mut next.plan));
        log = WriteLog::of(&next, path)?;
        names = Names::of(&next);
        plan = Arc::clone(&next_plan);
        if let Some(fault) = converter.reload(&next, next_plan)? {
            console.complain(&fault.to_string());
        }
    }
    drop(http);
    drop(converter);
    console.note("ended; ports and sockets are closed");
    Ok(Verdict::Yes)
}

/// Reads a changed project; one with errors is shown and not taken.
fn reread(console: &mut Console, path: &Path) -> Option<Checked> {
    match crate::project::load(path) {
        Ok(next) if next.has_errors() => {
            let text = crate::render::findings::text(console, &next, true);
            console.note(&text);
            console.complain("the changed project has errors, so the one that runs goes on");
            None
        }
        Ok(next) => Some(next),
        Err(Failure::Usage(why) | Failure::Outside(why)) => {
            console.complain(&format!("{why}; the project that runs goes on"));
            None
        }
        Err(Failure::OutputClosed) => None,
    }
}
