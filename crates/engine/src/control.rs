//! A running bench or converter hears commands of other terminals on a local socket: one JSON line each way.

use serde::{Deserialize, Serialize};
use std::io::{BufRead, BufReader, ErrorKind, Write};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

/// How long one who was asked may take to begin.
const PATIENCE: Duration = Duration::from_secs(10);
/// Most bytes of one command.
const LINE_MAX: u64 = 64 * 1024;

/// Who is spoken to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Whose {
    /// The bench of a project.
    Rig,
    /// The converter of a project.
    Run,
}

#[derive(Serialize, Deserialize)]
struct Said {
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
pub struct Answer {
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

impl Answer {
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
pub enum Heard {
    /// At once.
    Once(Answer),
    /// At once, and then line after line for as long as somebody hears it.
    Stream(Answer, GoesOn),
}

impl From<Answer> for Heard {
    fn from(answer: Answer) -> Self {
        Self::Once(answer)
    }
}

/// Where a project's bench or converter listens: beside the user's other sockets, named after the project file's full
/// path.
#[must_use]
pub fn control_path(whose: Whose, project: &Path) -> PathBuf {
    let whole = std::fs::canonicalize(project).unwrap_or_else(|_| project.to_path_buf());
    // FNV-1a: only to tell projects apart, and the same in every build.
    let mark = whole.as_os_str().as_encoded_bytes().iter().fold(0xCBF2_9CE4_8422_2325u64, |hash, byte| {
        (hash ^ u64::from(*byte)).wrapping_mul(0x0100_0000_01B3)
    });
    let folder = std::env::var_os("XDG_RUNTIME_DIR").map_or_else(std::env::temp_dir, PathBuf::from);
    let kind = match whose {
        Whose::Rig => "rig",
        Whose::Run => "run",
    };
    folder.join(format!("woodrush-{kind}-{mark:016x}.sock"))
}

/// A control socket; dropping it removes the file.
pub struct Control {
    path: PathBuf,
}

impl Drop for Control {
    fn drop(&mut self) {
        // If it is gone already, all the better.
        let _ = std::fs::remove_file(&self.path);
    }
}

impl Control {
    /// Hears commands on a local socket as long as the returned value lives; `hear` answers them, nothing once it has
    /// ended.
    ///
    /// # Errors
    /// Another one of the same project is running, or the socket cannot be made.
    pub fn listen(
        path: &Path,
        hear: impl Fn(&str, &[String]) -> Option<Heard> + Send + Sync + 'static,
    ) -> std::io::Result<Self> {
        if UnixStream::connect(path).is_ok() {
            return Err(std::io::Error::new(
                std::io::ErrorKind::AddrInUse,
                "one of this project is running already",
            ));
        }
        // Left over by one that was killed.
        let _ = std::fs::remove_file(path);
        let listener = UnixListener::bind(path)?;
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o600))?;
        let hear = Arc::new(hear);
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let hear = Arc::clone(&hear);
                std::thread::spawn(move || converse(&*hear, &stream));
            }
        });
        Ok(Self { path: path.to_path_buf() })
    }
}

fn converse(hear: &(dyn Fn(&str, &[String]) -> Option<Heard> + Send + Sync), stream: &UnixStream) {
    let patience = Some(PATIENCE);
    // Without a limit a silent peer only keeps its own thread.
    let _ = stream.set_read_timeout(patience);
    let mut line = String::new();
    let mut reader = BufReader::new(std::io::Read::take(stream, LINE_MAX));
    if reader.read_line(&mut line).is_err() {
        return;
    }
    let heard = match serde_json::from_str::<Said>(&line) {
        Ok(said) => hear(&said.verb, &said.words),
        Err(error) => Some(Answer::of(Err(format!("not understood: {error}"))).into()),
    };
    let Some(heard) = heard else { return };
    let (answer, goes_on) = match heard {
        Heard::Once(answer) => (answer, None),
        Heard::Stream(answer, goes_on) => (answer, Some(goes_on)),
    };
    let Ok(text) = serde_json::to_string(&answer) else { return };
    let mut stream = stream;
    // Whoever asked may have gone.
    let said = writeln!(stream, "{text}");
    if let (Ok(()), Some(goes_on)) = (said, goes_on) {
        // Who does not read what they asked for is let go.
        let _ = stream.set_write_timeout(patience);
        goes_on(&mut stream);
    }
}

/// A bench or a converter that runs in another terminal.
#[derive(Debug, Clone)]
pub struct Remote {
    path: PathBuf,
}

impl Remote {
    /// That of a project; it is only asked when something is said.
    #[must_use]
    pub fn of(whose: Whose, project: &Path) -> Self {
        Self { path: control_path(whose, project) }
    }

    /// Says a command and hears the answer.
    ///
    /// # Errors
    /// None of this project is running.
    pub fn say(&self, verb: &str, words: &[String]) -> std::io::Result<Answer> {
        let mut stream = self.speak(verb, words)?;
        let mut line = String::new();
        BufReader::new(&mut stream).read_line(&mut line)?;
        Ok(serde_json::from_str(&line)?)
    }

    /// Says a command and hears the answer, and then line after line.
    ///
    /// # Errors
    /// None of this project is running, or it does not do that.
    pub fn follow(&self, verb: &str, words: &[String]) -> std::io::Result<(Answer, Lines)> {
        let mut lines = Lines { stream: BufReader::new(self.speak(verb, words)?), line: vec![] };
        let first = lines.next(PATIENCE)?.ok_or(ErrorKind::TimedOut)?;
        Ok((serde_json::from_str(&first)?, lines))
    }

    fn speak(&self, verb: &str, words: &[String]) -> std::io::Result<UnixStream> {
        let mut stream = UnixStream::connect(&self.path)?;
        let said = Said { verb: verb.into(), words: words.to_vec() };
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
    /// Whoever says them has ended.
    pub fn next(&mut self, patience: Duration) -> std::io::Result<Option<String>> {
        self.stream.get_ref().set_read_timeout(Some(patience))?;
        match self.stream.read_until(b'\n', &mut self.line) {
            Ok(_) if self.line.ends_with(b"\n") => {
                Ok(Some(String::from_utf8_lossy(&std::mem::take(&mut self.line)).into_owned()))
            }
            Ok(_) => Err(ErrorKind::UnexpectedEof.into()),
            Err(error) if matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut) => Ok(None),
            Err(error) => Err(error),
        }
    }
}
