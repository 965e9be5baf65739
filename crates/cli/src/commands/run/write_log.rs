//! The write log: a CSV file that gets a row for every write of a client. One whole row at a time or none, whatever the
//! disk does; it goes on by itself when there is space again, and a new file is begun when one is long enough.

use super::output::Output;
use crate::Failure;
use std::fs::{File, OpenOptions};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::sync::mpsc::{Receiver, SyncSender, channel, sync_channel};
use std::time::{Duration, SystemTime};
use woodrush_core::check::Checked;
use woodrush_engine::shared::WriteRecord;

/// Rows that wait for the disk.
const WAITING: usize = 4096;
/// How long the end of the program waits for the last rows.
const PATIENCE: Duration = Duration::from_secs(2);
const HEAD: [&str; 7] = ["time", "client", "image", "address", "old", "new", "outcome"];

/// The log at work; its file has a thread of its own, so that a slow disk holds up nothing.
pub(super) struct WriteLog {
    queue: Option<SyncSender<LogRow>>,
    /// Rows that found no room.
    lost: Arc<AtomicU64>,
    ended: Receiver<()>,
}

enum LogRow {
    Row(SystemTime, Box<WriteRecord>),
    /// From here on another file, or none.
    Switch(Option<LogFile>),
}

impl WriteLog {
    /// Begins with this file; `complaints` hears of rows that are not in it.
    pub(super) fn begin(file: Option<LogFile>, complaints: Arc<Output>) -> Self {
        let (queue, entries) = sync_channel(WAITING);
        let (done, ended) = channel();
        let lost = Arc::new(AtomicU64::new(0));
        let counted = Arc::clone(&lost);
        // Without the thread all rows are lost, and counted.
        let _ = std::thread::Builder::new().name("write-log".into()).spawn(move || {
            let mut file = file;
            for entry in entries {
                match (entry, &mut file) {
                    (LogRow::Switch(next), _) => file = next,
                    (LogRow::Row(time, record), Some(file)) => {
                        file.missing += counted.swap(0, Relaxed);
                        file.write(time, &record, &complaints);
                    }
                    (LogRow::Row(..), None) => {}
                }
            }
            let _ = done.send(());
        });
        Self { queue: Some(queue), lost, ended }
    }

    /// Goes on in another file, or in none.
    pub(super) fn switch(&self, file: Option<LogFile>) {
        if let Some(queue) = &self.queue {
            // The thread is gone only with this.
            let _ = queue.send(LogRow::Switch(file));
        }
    }

    /// Writes a row, or counts it as lost.
    pub(super) fn write(&self, record: Box<WriteRecord>) {
        #[allow(clippy::disallowed_methods, reason = "the log tells people when it was")]
        let entry = LogRow::Row(SystemTime::now(), record);
        if self.queue.as_ref().is_none_or(|queue| queue.try_send(entry).is_err()) {
            self.lost.fetch_add(1, Relaxed);
        }
    }
}

impl Drop for WriteLog {
    fn drop(&mut self) {
        self.queue = None;
        let _ = self.ended.recv_timeout(PATIENCE);
    }
}

/// The file, and how far it is known to be sound.
pub(super) struct LogFile {
    path: PathBuf,
    file: File,
    /// Bytes of whole rows.
    len: u64,
    /// A longer one is put aside.
    most: u64,
    /// So many files are kept, the one that grows among them.
    kept: u32,
    /// Rows that are not in it since the last one that is.
    missing: u64,
}

impl LogFile {
    /// That of a project, opened; nothing where it has none.
    pub(super) fn open(checked: &Checked, project: &Path) -> Result<Option<Self>, Failure> {
        let converter = &checked.project.converter;
        let Some(name) = &converter.write_log else { return Ok(None) };
        let folder = project.parent().map(Path::to_path_buf).unwrap_or_default();
        let path = folder.join(&name.value);
        let (most, kept) = (u64::from(converter.write_log_mb) * 1_000_000, converter.write_log_files);
        let opened =
            open(&path).map(|(file, len)| Self { path: path.clone(), file, len, most, kept, missing: 0 });
        opened.map(Some).map_err(|error| {
            Failure::Outside(format!(
                "the write log {} cannot be written: {error} (correct `write-log`, or the folder's rights)",
                path.display()
            ))
        })
    }

    fn write(&mut self, time: SystemTime, record: &WriteRecord, complaints: &Output) {
        let time = humantime::format_rfc3339_millis(time).to_string();
        let WriteRecord { who, image, address, old, new, outcome } = record;
        let row = [&time, who, image, address, old, new, outcome].map(String::as_str);
        if self.len > 0 && self.len >= self.most {
            self.put_aside(complaints);
        }
        let mut rows: Vec<Vec<&str>> = vec![];
        if self.len == 0 {
            rows.push(HEAD.to_vec());
        }
        let gap = format!("{} rows are missing before the next one: they could not be written", self.missing);
        if self.missing > 0 {
            rows.push(vec![&time, "", "", "", "", "", &gap]);
        }
        rows.push(row.to_vec());
        match self.append(&rows) {
            Ok(()) if self.missing > 0 => {
                complaints.line(format!(
                    "the write log {} goes on; {} rows are missing",
                    self.path.display(),
                    self.missing
                ));
                self.missing = 0;
            }
            Ok(()) => {}
            Err(error) => {
                if self.missing == 0 {
                    complaints.line(format!(
                        "a write is not in the log {}: {error}; each next one is tried",
                        self.path.display()
                    ));
                }
                self.missing += 1;
            }
        }
    }

    /// Appends all of it, or nothing.
    fn append(&mut self, rows: &[Vec<&str>]) -> std::io::Result<()> {
        let mut text = csv::Writer::from_writer(vec![]);
        for row in rows {
            text.write_record(row).map_err(std::io::Error::from)?;
        }
        let bytes = text.into_inner().map_err(|error| std::io::Error::other(error.to_string()))?;
        let written = self.file.write_all(&bytes);
        if written.is_ok() {
            self.len += bytes.len() as u64;
        } else if self.file.set_len(self.len).is_err() {
            // Half a row must not stay: where it cannot be taken back, the next row begins a line of its own.
            let _ = self.file.write_all(b"\n");
        }
        written
    }

    /// Puts the file aside as number 1, those before it one further, and begins a new one.
    fn put_aside(&mut self, complaints: &Output) {
        let numbered = |number: u32| {
            let mut name = self.path.clone().into_os_string();
            name.push(format!(".{number}"));
            PathBuf::from(name)
        };
        let moved =
            (1..self.kept.saturating_sub(1)).rev().map(|number| (numbered(number), numbered(number + 1)));
        for (from, to) in moved {
            // Not all of them are there yet.
            let _ = std::fs::rename(from, to);
        }
        let aside =
            if self.kept > 1 { std::fs::rename(&self.path, numbered(1)) } else { self.file.set_len(0) };
        match aside.and_then(|()| open(&self.path)) {
            Ok((file, len)) => (self.file, self.len) = (file, len),
            Err(error) => {
                complaints
                    .line(format!("no new write log can be begun beside {}: {error}", self.path.display()));
                // It is tried again only after as much again.
                self.most = self.most.saturating_add(self.len);
            }
        }
    }
}

fn open(path: &Path) -> std::io::Result<(File, u64)> {
    let file = OpenOptions::new().create(true).append(true).open(path)?;
    let about = file.metadata()?;
    if !about.is_file() {
        return Err(std::io::Error::other("it is not a plain file"));
    }
    Ok((file, about.len()))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn record(outcome: &str) -> WriteRecord {
        WriteRecord {
            who: "192.0.2.20:40000".into(),
            image: "scada".into(),
            address: "scada:400001 (holding:0)".into(),
            old: "0000".into(),
            new: "0001".into(),
            outcome: outcome.into(),
        }
    }

    fn log(path: &Path, most: u64, kept: u32) -> LogFile {
        let (file, len) = open(path).unwrap();
        LogFile { path: path.into(), file, len, most, kept, missing: 0 }
    }

    #[test]
    fn it_is_put_aside_when_it_is_long_enough_and_only_so_many_are_kept() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("writes.csv");
        let mut log = log(&path, 200, 3);
        let out = Output::to(std::io::sink());
        for n in 0..20 {
            log.write(SystemTime::UNIX_EPOCH, &record(&format!("done {n}")), &out);
        }
        let mut names: Vec<String> = std::fs::read_dir(folder.path())
            .unwrap()
            .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
            .collect();
        names.sort();
        assert_eq!(names, ["writes.csv", "writes.csv.1", "writes.csv.2"]);
        for name in names {
            let text = std::fs::read_to_string(folder.path().join(name)).unwrap();
            assert!(text.starts_with("time,client,image,address,old,new,outcome\n"), "{text}");
            assert!(text.len() < 400 && text.ends_with('\n'), "{text}");
        }
    }

    #[test]
    fn a_row_that_does_not_fit_on_the_disk_leaves_nothing_behind_and_the_gap_is_told() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("writes.csv");
        let mut log = log(&path, 1_000_000, 3);
        let out = Output::to(std::io::sink());
        log.write(SystemTime::UNIX_EPOCH, &record("done"), &out);
        let before = std::fs::read_to_string(&path).unwrap();
        // A disk that takes nothing.
        log.file = OpenOptions::new().write(true).open("/dev/full").unwrap();
        log.write(SystemTime::UNIX_EPOCH, &record("lost"), &out);
        log.write(SystemTime::UNIX_EPOCH, &record("lost too"), &out);
        assert_eq!(std::fs::read_to_string(&path).unwrap(), before);
        log.file = open(&path).unwrap().0;
        log.write(SystemTime::UNIX_EPOCH, &record("done again"), &out);
        let text = std::fs::read_to_string(&path).unwrap();
        let rest: Vec<&str> = text.strip_prefix(before.as_str()).unwrap().lines().collect();
        assert!(rest[0].contains("2 rows are missing") && rest[1].ends_with("done again"), "{rest:?}");
    }
}
