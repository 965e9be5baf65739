//! A running bench hears commands of other terminals on a local socket: one JSON line each way.

use super::{Answer, Rig};
use serde::{Deserialize, Serialize};
use std::io::{BufRead, BufReader, Write};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

/// Most bytes of one command.
const LINE_MAX: u64 = 64 * 1024;

#[derive(Serialize, Deserialize)]
struct Said {
    verb: String,
    words: Vec<String>,
}

/// Where the bench of a project listens: beside the user's other sockets, named after the project file's full path.
#[must_use]
pub fn control_path(project: &Path) -> PathBuf {
    let whole = std::fs::canonicalize(project).unwrap_or_else(|_| project.to_path_buf());
    // FNV-1a: only to tell projects apart, and the same in every build.
    let mark = whole.as_os_str().as_encoded_bytes().iter().fold(0xCBF2_9CE4_8422_2325u64, |hash, byte| {
        (hash ^ u64::from(*byte)).wrapping_mul(0x0100_0000_01B3)
    });
    let folder = std::env::var_os("XDG_RUNTIME_DIR").map_or_else(std::env::temp_dir, PathBuf::from);
    folder.join(format!("woodrush-rig-{mark:016x}.sock"))
}

/// The control socket of a bench; dropping it removes the file.
pub struct Control {
    path: PathBuf,
}

impl Drop for Control {
    fn drop(&mut self) {
        // If it is gone already, all the better.
        let _ = std::fs::remove_file(&self.path);
    }
}

impl Rig {
    /// Hears commands on a local socket as long as the returned value lives.
    ///
    /// # Errors
    /// Another bench of the same project is running, or the socket cannot be made.
    pub fn listen(self: &Arc<Self>, path: &Path) -> std::io::Result<Control> {
        if UnixStream::connect(path).is_ok() {
            return Err(std::io::Error::new(
                std::io::ErrorKind::AddrInUse,
                "a bench of this project is running already",
            ));
        }
        // Left over by a bench that was killed.
        let _ = std::fs::remove_file(path);
        let listener = UnixListener::bind(path)?;
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o600))?;
        let rig = Arc::downgrade(self);
        std::thread::spawn(move || {
            for stream in listener.incoming() {
                let Some(rig) = rig.upgrade() else { return };
                if let Ok(stream) = stream {
                    std::thread::spawn(move || converse(&rig, &stream));
                }
            }
        });
        Ok(Control { path: path.to_path_buf() })
    }
}

fn converse(rig: &Rig, stream: &UnixStream) {
    let patience = Some(Duration::from_secs(10));
    // Without a limit a silent peer only keeps its own thread.
    let _ = stream.set_read_timeout(patience);
    let mut line = String::new();
    let mut reader = BufReader::new(std::io::Read::take(stream, LINE_MAX));
    if reader.read_line(&mut line).is_err() {
        return;
    }
    let answer = match serde_json::from_str::<Said>(&line) {
        Ok(said) => rig.command(&said.verb, &said.words),
        Err(error) => Answer { said: format!("not understood: {error}"), done: false, rows: vec![] },
    };
    if let Ok(text) = serde_json::to_string(&answer) {
        let mut stream = stream;
        // Whoever asked may have gone.
        let _ = writeln!(stream, "{text}");
    }
}

/// A bench that runs in another terminal.
#[derive(Debug, Clone)]
pub struct Remote {
    path: PathBuf,
}

impl Remote {
    /// The bench of a project; it is only asked when something is said.
    #[must_use]
    pub fn of(project: &Path) -> Self {
        Self { path: control_path(project) }
    }

    /// Says a command and hears the answer.
    ///
    /// # Errors
    /// No bench of this project is running.
    pub fn say(&self, verb: &str, words: &[String]) -> std::io::Result<Answer> {
        let mut stream = UnixStream::connect(&self.path)?;
        let said = Said { verb: verb.into(), words: words.to_vec() };
        writeln!(stream, "{}", serde_json::to_string(&said)?)?;
        let mut line = String::new();
        BufReader::new(stream).read_line(&mut line)?;
        Ok(serde_json::from_str(&line)?)
    }
}
