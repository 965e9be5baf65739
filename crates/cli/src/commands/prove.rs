//! `woodrush prove`: every rule tested end to end on simulated devices.

use crate::args::Format;
use crate::console::{Console, Tone};
use crate::render::proof;
use crate::{Failure, Verdict};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;
use woodrush_core::check::Checked;
use woodrush_engine::prove::{BenchParts, Progress, Proof, prove_on};
use woodrush_engine::rig::RigWires;

pub(crate) fn run(
    console: &mut Console,
    path: &Path,
    reports: &[PathBuf],
    wires: &[String],
) -> Result<Verdict, Failure> {
    let wires = super::rig::wires(wires)?;
    for report in reports {
        proof::kind_of(report)?;
    }
    let Some(checked) = crate::project::load_sound(console, path)? else { return Ok(Verdict::No) };
    crate::project::addressed(&checked).map_err(Failure::Usage)?;
    for report in reports {
        crate::render::can_be_written(report)?;
    }
    let read_file = crate::project::reader(path);
    let proof = prove_visibly(console, &Arc::new(checked), (&read_file, &wires))?;
    for report in reports {
        proof::write(report, &proof)?;
        console.note(&format!("report written to {}", report.display()));
    }
    show(console, &proof)
}

/// How often it says what it is doing.
const TOLD: Duration = Duration::from_secs(1);

/// Says at every second what is being done, also while one step takes longer, where no terminal shows a bar.
struct ProgressTeller {
    at: Arc<Mutex<Option<Progress>>>,
    over: Option<Sender<()>>,
    thread: Option<JoinHandle<()>>,
}

impl ProgressTeller {
    fn begin(quiet: bool) -> Self {
        let at: Arc<Mutex<Option<Progress>>> = Arc::default();
        let (over, ended) = channel::<()>();
        let known = Arc::clone(&at);
        let tell = move || {
            // Nobody says anything into it: it is closed at the end.
            while ended.recv_timeout(TOLD) == Err(RecvTimeoutError::Timeout) {
                let now = *known.lock().unwrap_or_else(PoisonError::into_inner);
                if let Some(Progress { doing, done, of }) = now {
                    // Nobody to tell if stderr is gone.
                    let _ = writeln!(std::io::stderr().lock(), "  {doing}: {done} of {of}");
                }
            }
        };
        let thread = (!quiet).then(|| std::thread::spawn(tell));
        Self { at, over: Some(over), thread }
    }

    fn is_doing(&self, progress: Progress) {
        *self.at.lock().unwrap_or_else(PoisonError::into_inner) = Some(progress);
    }
}

impl Drop for ProgressTeller {
    fn drop(&mut self) {
        drop(self.over.take());
        // A panic there has been printed already.
        let _ = self.thread.take().map(JoinHandle::join);
    }
}

/// How far a proof is: a bar on a terminal, plain lines elsewhere.
struct ProgressShown<'a> {
    console: &'a Console,
    bar: ProgressBar,
    teller: ProgressTeller,
    last: &'static str,
}

impl<'a> ProgressShown<'a> {
    fn begin(console: &'a Console) -> Self {
        let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::hidden());
        if console.is_watched() {
            bar.set_draw_target(ProgressDrawTarget::stderr());
        }
        if let Ok(style) = ProgressStyle::with_template("  {msg:28} {bar:30} {pos}/{len}  {elapsed}") {
            bar.set_style(style);
        }
        bar.enable_steady_tick(TOLD);
        let teller = ProgressTeller::begin(console.is_watched() || console.quiet);
        Self { console, bar, teller, last: "" }
    }

    fn is_doing(&mut self, progress: Progress) {
        let Progress { doing, done, of } = progress;
        self.bar.set_length(of.into());
        self.bar.set_position(done.into());
        self.bar.set_message(doing);
        self.teller.is_doing(progress);
        if std::mem::replace(&mut self.last, doing) != doing && !self.console.is_watched() {
            self.console.note(&format!("  {doing}"));
        }
    }
}

impl Drop for ProgressShown<'_> {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}

/// Proves, and shows how far it is.
pub(crate) fn prove_visibly(
    console: &Console,
    checked: &Arc<Checked>,
    rig: BenchParts<'_>,
) -> Result<Proof, Failure> {
    let plan = Arc::new(checked.plan.clone());
    let mut shown = ProgressShown::begin(console);
    prove_on(checked, plan, rig, &mut |progress| shown.is_doing(progress)).map_err(Failure::Outside)
}

/// Steps of a proof that are told before they are looked at: the demo's has fewer, and what is beyond that is left out.
const AHEAD: usize = 4096;

/// A proof that runs beside something else.
pub(crate) struct ProofBeside {
    progress: Receiver<Progress>,
    thread: JoinHandle<Result<Proof, String>>,
}

impl ProofBeside {
    /// Begins it, on simulated stations alone.
    pub(crate) fn begin(checked: &Arc<Checked>, read_file: fn(&str) -> Result<String, String>) -> Self {
        let (teller, progress) = sync_channel(AHEAD);
        let (checked, plan) = (Arc::clone(checked), Arc::new(checked.plan.clone()));
        let thread = std::thread::spawn(move || {
            prove_on(&checked, plan, (&read_file, &RigWires::new()), &mut |own| {
                // Nothing waits for those who look.
                let _ = teller.try_send(own);
            })
        });
        Self { progress, thread }
    }

    /// Shows how far it is until it has ended.
    pub(crate) fn end(self, console: &Console) -> Result<Proof, Failure> {
        let mut shown = ProgressShown::begin(console);
        self.progress.iter().for_each(|progress| shown.is_doing(progress));
        drop(shown);
        let ended = self.thread.join();
        ended.unwrap_or_else(|_| Err("the proof broke off".into())).map_err(Failure::Outside)
    }
}

pub(crate) fn show(console: &mut Console, proof: &Proof) -> Result<Verdict, Failure> {
    match console.format {
        Format::Json => console.json(proof)?,
        Format::Csv => console.table(&proof::full_table(proof))?,
        Format::Text => {
            if !proof.rules.is_empty() {
                console.table(&proof::table(proof))?;
            }
            for rule in proof.rules.iter().filter(|rule| !rule.proven) {
                console.say("")?;
                let head = console.paint(Tone::Bad, "not proven");
                let name = if rule.named { format!("{} at ", rule.rule) } else { "at ".into() };
                console.say(&format!("{head}  rule {name}{}: {} -> {}", rule.at, rule.from, rule.to))?;
                console.say(&format!("  {}", rule.why.as_deref().unwrap_or_default()))?;
            }
            if !proof.rules.is_empty() {
                console.say("")?;
            }
            for (what, right) in &proof.others {
                let word = if *right {
                    console.paint(Tone::Good, "right")
                } else {
                    console.paint(Tone::Bad, "WRONG")
                };
                console.say(&format!("{word}  {what}"))?;
            }
            let summary = format!("{}, in {:.1} s", proof::summary(proof), proof.took_s);
            let word = if proof.holds() {
                console.paint(Tone::Good, "proven")
            } else {
                console.paint(Tone::Bad, "NOT PROVEN")
            };
            console.say(&format!("{word}  {summary}"))?;
        }
    }
    if proof.rules.is_empty() && proof.forwards.of == 0 {
        console.note("there is nothing to prove: add a `[[map]]` or a `[[forward]]`");
    }
    Ok(if proof.holds() { Verdict::Yes } else { Verdict::No })
}
