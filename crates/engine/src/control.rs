//! A running bench or converter hears commands of other terminals on a local socket: one JSON line each way.

use serde::{Deserialize, Serialize};
use std::io::{BufRead, BufReader, Write};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

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
        hear: impl Fn(&str, &[String]) -> Option<Answer> + Send + Sync + 'static,
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

fn converse(hear: &(dyn Fn(&str, &[String]) -> Option<Answer> + Send + Sync), stream: &UnixStream) {
    let patience = Some(Duration::from_secs(10));
    // Without a limit a silent peer only keeps its own thread.
    let _ = stream.set_read_timeout(patience);
    let mut line = String::new();
    let mut reader = BufReader::new(std::io::Read::take(stream, LINE_MAX));
    if reader.read_line(&mut line).is_err() {
        return;
    }
    let answer = match serde_json::from_str::<Said>(&line) {
        Ok(said) => hear(&said.verb, &said.words),
        Err(error) => Some(Answer::of(Err(format!("not understood: {error}")))),
    };
    if let Some(text) = answer.and_then(|answer| serde_json::to_string(&answer).ok()) {
        let mut stream = stream;
        // Whoever asked may have gone.
        let _ = writeln!(stream, "{text}");
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
        let mut stream = UnixStream::connect(&self.path)?;
        let said = Said { verb: verb.into(), words: words.to_vec() };
        writeln!(stream, "{}", serde_json::to_string(&said)?)?;
        let mut line = String::new();
        BufReader::new(stream).read_line(&mut line)?;
        Ok(serde_json::from_str(&line)?)
    }
}
