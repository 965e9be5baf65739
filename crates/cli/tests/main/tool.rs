//! The program under test, in a fresh folder, with nothing of the caller's surroundings.

use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::sync::{Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tempfile::TempDir;

/// How long anything may take that waits for a condition; far more than it does.
pub(crate) const PATIENCE: Duration = Duration::from_secs(60);

/// How many rigs of the whole hatchery may stand at once. Its lines answer within a tenth of a second and its frames pass
/// every few milliseconds: more of them than this leave a machine of two cores no time, and devices seem silent.
const WHOLE_SITES: usize = 3;

/// How many of them stand.
static STANDING: (Mutex<usize>, Condvar) = (Mutex::new(0), Condvar::new());

pub(crate) struct Tool {
    folder: TempDir,
    is_whole: bool,
}

/// What came back from a finished command.
pub(crate) struct Done {
    pub(crate) status: i32,
    pub(crate) out: String,
    pub(crate) err: String,
}

impl From<Output> for Done {
    fn from(output: Output) -> Self {
        let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
        Self {
            status: output.status.code().unwrap_or(-1),
            out: text(output.stdout),
            err: text(output.stderr),
        }
    }
}

impl Tool {
    /// In an empty folder.
    pub(crate) fn new() -> Self {
        Self { folder: tempfile::tempdir().unwrap(), is_whole: false }
    }

    /// In a folder with the starter project.
    pub(crate) fn with_starter() -> Self {
        let tool = Self::new();
        assert_eq!(tool.run(&["new", "site"]).status, 0);
        let from = tool.path().join("site");
        for entry in std::fs::read_dir(&from).unwrap() {
            let entry = entry.unwrap();
            std::fs::rename(entry.path(), tool.path().join(entry.file_name())).unwrap();
        }
        tool
    }

    /// In a folder with the hatchery.
    pub(crate) fn with_hatchery() -> Self {
        let tool = Self { is_whole: true, ..Self::new() };
        let from = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
        std::fs::copy(from.join("woodrush.toml"), tool.file("woodrush.toml")).unwrap();
        std::fs::create_dir(tool.path().join("profiles")).unwrap();
        for file in ["grader-tags.csv", "woodrush.ledger"] {
            std::fs::copy(from.join(file), tool.path().join(file)).unwrap();
        }
        std::fs::create_dir(tool.path().join("lists")).unwrap();
        for folder in ["profiles", "lists"] {
            for entry in std::fs::read_dir(from.join(folder)).unwrap() {
                let entry = entry.unwrap();
                std::fs::copy(entry.path(), tool.path().join(folder).join(entry.file_name())).unwrap();
            }
        }
        tool
    }

    /// In a folder with the hatchery, whose long line waits for an answer as long as a busy machine may need.
    pub(crate) fn with_patient_hatchery() -> Self {
        let tool = Self::with_hatchery();
        tool.edit("timeout  = \"120ms\"", "timeout  = \"400ms\"");
        tool
    }

    pub(crate) fn path(&self) -> &Path {
        self.folder.path()
    }

    pub(crate) fn file(&self, name: &str) -> PathBuf {
        self.path().join(name)
    }

    pub(crate) fn write(&self, name: &str, text: &str) {
        std::fs::write(self.file(name), text).unwrap();
    }

    /// Changes the project file.
    pub(crate) fn edit(&self, from: &str, to: &str) {
        let text = std::fs::read_to_string(self.file("woodrush.toml")).unwrap();
        assert!(text.contains(from), "nothing to change: {from}");
        self.write("woodrush.toml", &text.replace(from, to));
    }

    pub(crate) fn command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_woodrush"));
        for (name, _) in std::env::vars().filter(|(name, _)| name.starts_with("WOODRUSH_")) {
            command.env_remove(name);
        }
        command.current_dir(self.path()).args(args).stdin(Stdio::null());
        command.env("WOODRUSH_WIDTH", "100").env_remove("RUST_BACKTRACE");
        command
    }

    pub(crate) fn run(&self, args: &[&str]) -> Done {
        self.command(args).output().unwrap().into()
    }

    /// Begins a command that goes on; a rig of the whole hatchery waits until there is room for it.
    pub(crate) fn begin(&self, args: &[&str]) -> Running {
        let room = (self.is_whole && args.ends_with(&["rig", "up"])).then(Room::taken);
        let mut running = Running::of(self.command(args).stdout(Stdio::piped()).stderr(Stdio::piped()));
        running.room = room;
        running
    }
}

/// Room for the rig of a whole site, until it is dropped.
struct Room;

impl Room {
    fn taken() -> Self {
        let standing = STANDING.0.lock().unwrap_or_else(PoisonError::into_inner);
        let free = STANDING.1.wait_while(standing, |standing| *standing >= WHOLE_SITES);
        *free.unwrap_or_else(PoisonError::into_inner) += 1;
        Self
    }
}

impl Drop for Room {
    fn drop(&mut self) {
        *STANDING.0.lock().unwrap_or_else(PoisonError::into_inner) -= 1;
        STANDING.1.notify_one();
    }
}

impl Running {
    /// Begins a command; of streams that are not piped nothing is seen.
    pub(crate) fn of(command: &mut Command) -> Self {
        let mut child = command.spawn().unwrap();
        let (sender, lines) = channel();
        let out = child.stdout.take().map(|out| Box::new(out) as Box<dyn std::io::Read + Send>);
        let err = child.stderr.take().map(|err| Box::new(err) as Box<dyn std::io::Read + Send>);
        for stream in out.into_iter().chain(err) {
            let sender = sender.clone();
            std::thread::spawn(move || {
                for line in BufReader::new(stream).lines().map_while(Result::ok) {
                    if sender.send(line).is_err() {
                        return;
                    }
                }
            });
        }
        Self { child, lines, seen: vec![], room: None }
    }
}

/// A command that goes on until it is told to end.
pub(crate) struct Running {
    child: Child,
    lines: Receiver<String>,
    pub(crate) seen: Vec<String>,
    room: Option<Room>,
}

impl Running {
    /// Waits for a line that holds all these words, and returns it.
    pub(crate) fn wait_for(&mut self, words: &[&str]) -> String {
        let begun = Instant::now();
        loop {
            if let Some(line) = self.seen.iter().find(|line| words.iter().all(|word| line.contains(word))) {
                return line.clone();
            }
            match self.lines.recv_timeout(PATIENCE.saturating_sub(begun.elapsed())) {
                Ok(line) => self.seen.push(line),
                Err(_) => panic!("no line with {words:?} came; there are {:#?}", self.seen),
            }
        }
    }

    pub(crate) fn process(&self) -> u32 {
        self.child.id()
    }

    pub(crate) fn signal(&self, name: &str) {
        let number = self.child.id().to_string();
        assert!(Command::new("kill").args([name, &number]).status().unwrap().success());
    }

    /// Sends the signal that a closed terminal sends.
    pub(crate) fn hang_up(&self) {
        self.signal("-HUP");
    }

    /// Sends the signal of Ctrl-C and waits for the end.
    pub(crate) fn interrupt(mut self) -> i32 {
        self.signal("-INT");
        let begun = Instant::now();
        while begun.elapsed() < PATIENCE {
            if let Some(status) = self.child.try_wait().unwrap() {
                return status.code().unwrap_or(-1);
            }
            std::thread::sleep(Duration::from_millis(5));
        }
        panic!("it did not end");
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Looks again until it is so.
pub(crate) fn until(what: &str, mut is_so: impl FnMut() -> bool) {
    let begun = Instant::now();
    while begun.elapsed() < PATIENCE {
        if is_so() {
            return;
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    panic!("never came about: {what}");
}

/// A project without those who ask it, and without what they do on the bench.
pub(crate) fn without_clients(text: &str) -> String {
    let (clients, rig) = (text.find("[clients.").unwrap(), text.find("\n[rig]").unwrap());
    let mut rest = text[rig..].to_string();
    while let Some(theirs) = rest.find("[rig.clients.") {
        let next = rest[theirs..].find("\n[").map_or(rest.len(), |next| theirs + next + 1);
        rest.replace_range(theirs..next, "");
    }
    [&text[..clients], &rest].concat()
}
