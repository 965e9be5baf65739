//! A running rig or converter takes commands of other terminals on a local socket: one JSON line each way.

mod place;

pub use place::Claim;

use serde::{Deserialize, Serialize};
use std::io::{BufRead, BufReader, ErrorKind, Read, Write};
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};
use std::time::{Duration, Instant};

/// How long one side waits for the other: for a whole command, and for an answer to be taken.
const PATIENCE: Duration = Duration::from_secs(10);
/// How long an answer may take.
const ANSWER: Duration = Duration::from_secs(15);
/// Most bytes of one command.
const COMMAND_MAX: u64 = 64 * 1024;
/// Most bytes of one answer: the status of the largest project that `check` lets pass, twice over.
const ANSWER_MAX: u64 = 512 * 1024 * 1024;
/// Most bytes of one line of a stream: what `tap` gathers in one go, in hex.
const LINE_MAX: u64 = 16 * 1024 * 1024;
/// Most conversations at once, those of `tap` and `watch` among them; each has a thread.
const CONVERSATIONS: usize = 32;

/// Who is spoken to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Whose {
    /// The bench of a project.
    Rig,
    /// The converter of a project.
    Run,
}

#[derive(Serialize, Deserialize)]
struct Command {
    verb: String,
    words: Vec<String>,
}

/// One row of an answer.
#[derive(Debug, Clone, Serialize, Deserialize, PartialEq, Eq)]
pub struct Row {
    /// What it is about.
    pub name: String,
    /// Its value or state.
    pub value: String,
    /// More about it.
    pub detail: String,
}

/// The answer to a command.
#[derive(Debug, Clone, Serialize, Deserialize, PartialEq)]
pub struct ControlAnswer {
    /// What was done, or why not.
    pub said: String,
    /// Whether it was done.
    pub done: bool,
    /// What was asked for.
    pub rows: Vec<Row>,
    /// What was asked for, where rows do not hold it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub data: Option<serde_json::Value>,
}

impl ControlAnswer {
    /// From what was done or why not.
    #[must_use]
    pub fn of(result: Result<(String, Vec<Row>), String>) -> Self {
        match result {
            Ok((said, rows)) => Self { said, done: true, rows, data: None },
            Err(said) => Self { said, done: false, rows: vec![], data: None },
        }
    }
}

/// What writes line after line until nobody hears it any more.
pub type GoesOn = Box<dyn FnOnce(&mut dyn Write) + Send>;

/// How a command is answered.
pub enum Handled {
    /// At once.
    Once(ControlAnswer),
    /// At once, and then line after line for as long as the client listens.
    Stream(ControlAnswer, GoesOn),
}

impl From<ControlAnswer> for Handled {
    fn from(answer: ControlAnswer) -> Self {
        Self::Once(answer)
    }
}

/// A control socket at work; dropping it removes it.
pub struct Control(Claim);

impl Control {
    /// Takes commands at a place that was claimed, as long as the returned value lives; `hear` answers them, nothing once
    /// it has ended.
    ///
    /// # Errors
    /// The system gives no descriptor or thread.
    pub fn serve(
        claim: Claim,
        hear: impl Fn(&str, &[String]) -> Option<Handled> + Send + Sync + 'static,
    ) -> std::io::Result<Self> {
        let listener = claim.listener()?;
        let hear = Arc::new(hear);
        let busy = Arc::new(AtomicUsize::new(0));
        let serve = move || {
            for stream in listener.incoming() {
                let Ok(stream) = stream else {
                    // Without a free descriptor: others end, and then there is one.
                    #[allow(clippy::disallowed_methods, reason = "a driver: there is nothing to wait for")]
                    std::thread::sleep(Duration::from_millis(100));
                    continue;
                };
                let (hear, busy) = (Arc::clone(&hear), Busy::one_more(&busy));
                let talk = move || match busy {
                    Some(_busy) => converse(&*hear, &stream),
                    None => say(&stream, &ControlAnswer::of(Err("too many terminals ask at once".into())))
                        .unwrap_or(()),
                };
                // Without a thread the stream is dropped, which its other end sees.
                let _ = std::thread::Builder::new().name("control".into()).spawn(talk);
            }
        };
        std::thread::Builder::new().name("control".into()).spawn(serve)?;
        Ok(Self(claim))
    }

    /// Where other terminals find it.
    #[must_use]
    pub fn path(&self) -> &Path {
        self.0.path()
    }
}

/// One conversation under way.
struct Busy(Arc<AtomicUsize>);

impl Busy {
    fn one_more(count: &Arc<AtomicUsize>) -> Option<Self> {
        let before = count.fetch_add(1, Relaxed);
        let one = Self(Arc::clone(count));
        (before < CONVERSATIONS).then_some(one)
    }
}

impl Drop for Busy {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Relaxed);
    }
}

/// One line, of so many bytes at most, that must be whole before a moment.
fn line(stream: &UnixStream, most: u64, patience: Duration) -> std::io::Result<Vec<u8>> {
    #[allow(clippy::disallowed_methods, reason = "a driver: how long a person's command may take")]
    let until = Instant::now() + patience;
    let mut line = vec![];
    let mut reader = BufReader::new(stream.take(most));
    loop {
        #[allow(clippy::disallowed_methods, reason = "a driver: how long a person's command may take")]
        let left = until.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return Err(ErrorKind::TimedOut.into());
        }
        stream.set_read_timeout(Some(left))?;
        let chunk = match reader.fill_buf() {
            Ok([]) => return Err(ErrorKind::UnexpectedEof.into()),
            Ok(chunk) => chunk,
            Err(error) if error.kind() == ErrorKind::Interrupted => continue,
            Err(error) => return Err(error),
        };
        let end = chunk.iter().position(|byte| *byte == b'\n');
        let used = end.map_or(chunk.len(), |end| end + 1);
        line.extend_from_slice(chunk.get(..used).unwrap_or_default());
        reader.consume(used);
        if end.is_some() {
            return Ok(line);
        }
    }
}

/// Whether bytes are a question or an answer: for those who try what holds for any bytes.
#[cfg(any(test, feature = "exercise"))]
pub(crate) fn understood(bytes: &[u8]) -> bool {
    serde_json::from_slice::<Command>(bytes).is_ok() || serde_json::from_slice::<ControlAnswer>(bytes).is_ok()
}

fn say(mut stream: &UnixStream, answer: &ControlAnswer) -> std::io::Result<()> {
    stream.set_write_timeout(Some(PATIENCE))?;
    let mut text = serde_json::to_string(answer)?;
    text.push('\n');
    stream.write_all(text.as_bytes())
}

fn converse(hear: &(dyn Fn(&str, &[String]) -> Option<Handled> + Send + Sync), stream: &UnixStream) {
    let Ok(line) = line(stream, COMMAND_MAX, PATIENCE) else { return };
    let heard = match serde_json::from_slice::<Command>(&line) {
        Ok(said) => hear(&said.verb, &said.words),
        Err(error) => Some(ControlAnswer::of(Err(format!("not understood: {error}"))).into()),
    };
    let Some(heard) = heard else { return };
    let (answer, goes_on) = match heard {
        Handled::Once(answer) => (answer, None),
        Handled::Stream(answer, goes_on) => (answer, Some(goes_on)),
    };
    // The other side may have gone; one that does not read what it asked for is let go.
    let said = say(stream, &answer);
    if let (Ok(()), Some(goes_on)) = (said, goes_on) {
        let mut stream = stream;
        goes_on(&mut stream);
    }
}

/// A rig or a converter that runs in another terminal.
#[derive(Debug, Clone)]
pub struct Remote {
    whose: Whose,
    project: PathBuf,
}

impl Remote {
    /// That of a project; it is only asked when something is said.
    #[must_use]
    pub fn of(whose: Whose, project: &Path) -> Self {
        Self { whose, project: project.to_path_buf() }
    }

    /// Says a command and hears the answer.
    ///
    /// # Errors
    /// None of this project is running (`NotFound`), it belongs to another user, or it does not answer in time.
    pub fn say(&self, verb: &str, words: &[String]) -> std::io::Result<ControlAnswer> {
        self.say_within(ANSWER, verb, words)
    }

    /// The same, where the answer may take so long.
    ///
    /// # Errors
    /// As [`Remote::say`].
    pub fn say_within(
        &self,
        patience: Duration,
        verb: &str,
        words: &[String],
    ) -> std::io::Result<ControlAnswer> {
        let stream = self.speak(verb, words)?;
        Ok(serde_json::from_slice(&line(&stream, ANSWER_MAX, patience)?)?)
    }

    /// Says a command and hears the answer, and then line after line.
    ///
    /// # Errors
    /// As [`Remote::say`].
    pub fn follow(&self, verb: &str, words: &[String]) -> std::io::Result<(ControlAnswer, Lines)> {
        let mut lines = Lines { stream: BufReader::new(self.speak(verb, words)?), line: vec![] };
        let first = lines.next(PATIENCE)?.ok_or(ErrorKind::TimedOut)?;
        Ok((serde_json::from_str(&first)?, lines))
    }

    fn speak(&self, verb: &str, words: &[String]) -> std::io::Result<UnixStream> {
        let mut stream = place::connect(self.whose, &self.project)?;
        stream.set_write_timeout(Some(PATIENCE))?;
        let said = Command { verb: verb.into(), words: words.to_vec() };
        writeln!(stream, "{}", serde_json::to_string(&said)?)?;
        Ok(stream)
    }
}

/// Lines of a stream.
pub struct Lines {
    stream: BufReader<UnixStream>,
    /// As much of the next one as has come.
    line: Vec<u8>,
}

impl Lines {
    /// The next line; `None` where none has come within that time.
    ///
    /// # Errors
    /// The sender has ended.
    pub fn next(&mut self, patience: Duration) -> std::io::Result<Option<String>> {
        self.stream.get_ref().set_read_timeout(Some(patience))?;
        let room = LINE_MAX.saturating_sub(self.line.len() as u64);
        match self.stream.by_ref().take(room).read_until(b'\n', &mut self.line) {
            Ok(_) if self.line.ends_with(b"\n") => {
                Ok(Some(String::from_utf8_lossy(&std::mem::take(&mut self.line)).into_owned()))
            }
            Ok(_) => Err(ErrorKind::UnexpectedEof.into()),
            Err(error) if matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut) => Ok(None),
            Err(error) => Err(error),
        }
    }
}
