//! Looking on from another terminal: pieces over the converter's control socket, one JSON line for all that came
//! together.

use super::{Chunk, Taken, Watcher};
use crate::Moment;
use crate::control::{ControlAnswer, Handled, Lines, Remote};
use crate::converter::Running;
use crate::hex::{bytes_of_hex, hex};
use crate::moment::Clock;
use crate::shared::Site;
use crate::speak::Side;
use serde::{Deserialize, Serialize};
use std::io::{ErrorKind, Write};
use std::sync::{Arc, Weak};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

/// The verb by which the control socket knows it.
const VERB: &str = "tap";
/// How long pieces are gathered before they are sent: a person sees no difference, and the converter is not woken for
/// each of them.
const GATHER: Duration = Duration::from_millis(50);
/// A line at least so often, so that either end sees that the other has gone.
const BEAT: Duration = Duration::from_secs(1);

/// The clock of a converter, and what people's clocks show.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Dated {
    /// A moment of the converter's clock, in microseconds.
    clock: u64,
    /// The same in microseconds since the beginning of 1970, UTC.
    unix: u64,
}

impl Dated {
    pub(super) fn now(clock: &Clock) -> Self {
        #[allow(clippy::disallowed_methods, reason = "people and captures want the time of day")]
        let unix = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
        Self { clock: clock.now().0, unix: u64::try_from(unix.as_micros()).unwrap_or(u64::MAX) }
    }

    /// Of moments that are microseconds since 1970 already.
    #[must_use]
    pub const fn plain() -> Self {
        Self { clock: 0, unix: 0 }
    }

    /// A moment in microseconds since 1970, UTC.
    #[must_use]
    pub const fn unix(&self, moment: Moment) -> u64 {
        self.unix.saturating_add(moment.0).saturating_sub(self.clock)
    }
}

#[derive(Serialize, Deserialize)]
struct Batch {
    now: u64,
    lost: u64,
    pieces: Vec<ChunkRow>,
}

/// Port, who, side, beginning, end, bytes in hex.
#[derive(Serialize, Deserialize)]
struct ChunkRow(String, Option<String>, Side, u64, u64, String);

impl ChunkRow {
    fn of(piece: &Chunk) -> Self {
        let who = piece.who.as_deref().map(str::to_string);
        Self(piece.port.to_string(), who, piece.side, piece.began.0, piece.ended.0, hex(&piece.bytes))
    }

    fn piece(self) -> Chunk {
        let Self(port, who, side, began, ended, hex) = self;
        Chunk {
            port: port.into(),
            who: who.map(Into::into),
            side,
            began: Moment(began),
            ended: Moment(ended),
            bytes: bytes_of_hex(&hex),
        }
    }
}

/// The converter's side: takes those who want to look on.
pub struct TapHandler {
    site: Weak<Site>,
    clock: Clock,
}

impl TapHandler {
    /// For a running converter; it ends with that.
    #[must_use]
    pub fn new(running: &Running) -> Self {
        Self { site: Arc::downgrade(&running.site), clock: running.clock() }
    }

    /// Answers a request of the control socket; `None` for other verbs than this one. The words are the ports that are
    /// looked at; without any, all are.
    #[must_use]
    pub fn hear(&self, verb: &str, words: &[String]) -> Option<Handled> {
        if verb != VERB {
            return None;
        }
        let refused = |why: String| Some(ControlAnswer::of(Err(why)).into());
        let Some(site) = self.site.upgrade() else { return refused("the converter is ending".into()) };
        let shared = site.current();
        if let Some(word) = words.iter().find(|word| shared.ports.iter().all(|port| port.name != **word)) {
            return refused(format!("the converter has no port `{word}`"));
        }
        let watcher = shared.tap.watch((!words.is_empty()).then(|| words.to_vec()));
        let clock = self.clock;
        let answer = ControlAnswer {
            said: String::new(),
            done: true,
            rows: vec![],
            data: serde_json::to_value(Dated::now(&clock)).ok(),
        };
        Some(Handled::Stream(answer, Box::new(move |out| stream(&watcher, &clock, out))))
    }
}

fn stream(watcher: &Watcher, clock: &Clock, out: &mut dyn Write) {
    while let Some(taken) = watcher.fetch(BEAT) {
        let rows = taken.pieces.iter().map(ChunkRow::of).collect();
        let batch = Batch { now: clock.now().0, lost: taken.lost, pieces: rows };
        let Ok(text) = serde_json::to_string(&batch) else { return };
        if writeln!(out, "{text}").is_err() {
            return;
        }
        #[allow(clippy::disallowed_methods, reason = "a driver: what comes meanwhile is sent together")]
        std::thread::sleep(GATHER);
    }
}

/// Looks on at a converter that runs in another terminal.
pub struct Follow {
    lines: Lines,
    /// What its moments are in people's time.
    pub dated: Dated,
}

impl Follow {
    /// Begins; `ports` are those that are looked at, all where it is empty.
    ///
    /// # Errors
    /// None of this project is running, or it has no such port, in its words.
    pub fn begin(remote: &Remote, ports: &[String]) -> std::io::Result<Self> {
        let (answer, lines) = remote.follow(VERB, ports)?;
        if !answer.done {
            return Err(std::io::Error::other(answer.said));
        }
        let dated = answer.data.and_then(|data| serde_json::from_value(data).ok());
        let dated = dated.ok_or_else(|| std::io::Error::from(ErrorKind::InvalidData))?;
        Ok(Self { lines, dated })
    }

    /// What has passed since the last look, and the converter's moment; nothing where nothing came within that time.
    ///
    /// # Errors
    /// The converter has ended.
    pub fn fetch(&mut self, patience: Duration) -> std::io::Result<Option<(Moment, Taken)>> {
        let Some(line) = self.lines.next(patience)? else { return Ok(None) };
        let Batch { now, lost, pieces } = serde_json::from_str(&line)?;
        Ok(Some((Moment(now), Taken { pieces: pieces.into_iter().map(ChunkRow::piece).collect(), lost })))
    }
}
