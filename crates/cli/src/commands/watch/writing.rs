//! A value that is written from the screen: through the image, as any client would.

use super::state::Prompt;
use crate::Failure;
use crate::args::{ConnectionArgs, Global, WatchArgs};
use crate::commands::write::{PlannedWrite, guarded, job, put};
use crate::connections::Connections;
use crate::console::Tone;
use std::sync::mpsc::{Receiver, TryRecvError, channel};

/// What is told at the foot of the screen.
type WriteReport = (Tone, String);

/// Writes one value at a time, without holding the screen up.
pub(super) struct Writer {
    global: Global,
    way: ConnectionArgs,
    under_way: Option<(String, Receiver<WriteReport>)>,
}

impl Writer {
    pub(super) fn new(global: &Global, args: &WatchArgs) -> Self {
        let way = ConnectionArgs { rig: args.rig, ..ConnectionArgs::default() };
        Self { global: global.clone(), way, under_way: None }
    }

    fn job(&self, at: &str, text: &str) -> Result<(Connections, PlannedWrite), Failure> {
        let (connections, _) = Connections::sort(&self.global, &self.way, &[])?;
        let job = job(&connections, &format!("{at}={text}"))?;
        guarded(&job, false)?;
        Ok((connections, job))
    }

    /// The question whether it shall be written; what is wrong with it is said instead.
    pub(super) fn judge(&self, said: &mut Option<WriteReport>, at: String, text: String) -> Prompt {
        match self.job(&at, &text) {
            Ok((_, job)) => {
                let question = format!("write {text} (raw {}) to {at}?", job.raw());
                Prompt::Sure { at, text, question }
            }
            Err(failure) => {
                *said = Some((Tone::Bad, words(failure)));
                Prompt::Value { at, text }
            }
        }
    }

    /// Begins to write; how it ends is told by [`Writer::ended`].
    pub(super) fn begin(&mut self, at: &str, text: &str) -> WriteReport {
        let (mut connections, job) = match self.job(at, text) {
            Ok(found) => found,
            Err(failure) => return (Tone::Bad, words(failure)),
        };
        let (told, hears) = channel();
        let what = format!("{at} = {text}");
        let done = what.clone();
        let thread = std::thread::Builder::new().name("write".into()).spawn(move || {
            let said = match put(&mut connections, &job) {
                Ok(()) => (Tone::Good, format!("{done} is written")),
                Err(failed) => (Tone::Bad, format!("{done} is not written: {}", failed.diagnosis.seen)),
            };
            // The screen may have ended.
            let _ = told.send(said);
        });
        match thread {
            Ok(_) => {
                self.under_way = Some((what.clone(), hears));
                (Tone::Faint, format!("{what} is being written"))
            }
            Err(error) => (Tone::Bad, format!("no thread: {error}")),
        }
    }

    /// How the last write ended, once.
    pub(super) fn ended(&mut self) -> Option<WriteReport> {
        let (what, hears) = self.under_way.as_ref()?;
        let said = match hears.try_recv() {
            Ok(said) => said,
            Err(TryRecvError::Empty) => return None,
            Err(TryRecvError::Disconnected) => (Tone::Bad, format!("{what}: its outcome is unknown")),
        };
        self.under_way = None;
        Some(said)
    }
}

fn words(failure: Failure) -> String {
    match failure {
        Failure::Usage(why) | Failure::Outside(why) => why,
        Failure::OutputClosed => "the output is closed".into(),
    }
}
