//! Files in which a command keeps what it found, so that the next run goes on from there: whole at every moment.

use crate::Failure;
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use woodrush_engine::read_plain;

/// What a file keeps; `None` where there is none yet. `what` says what it is not, such as `not a scan that can go on`.
pub(crate) fn load<T: DeserializeOwned>(path: &Path, what: &str) -> Result<Option<T>, Failure> {
    // A link that leads nowhere is no file yet, and would be replaced.
    if let Err(error) = std::fs::symlink_metadata(path)
        && error.kind() == std::io::ErrorKind::NotFound
    {
        return Ok(None);
    }
    let text = read_plain(path).map_err(Failure::Usage)?;
    let wrong = |error| Failure::Usage(format!("{} is {what}: {error}", path.display()));
    serde_json::from_str(&text).map(Some).map_err(wrong)
}

/// Keeps it, in place of what was kept before.
pub(crate) fn save<T: Serialize>(path: &Path, kept: &T) -> Result<(), Failure> {
    let text =
        serde_json::to_string_pretty(kept).map_err(|error| Failure::Outside(error.to_string()))? + "\n";
    put(path, text.as_bytes())
}

/// Puts a file in its place, whole at every moment. A pipe or a terminal leads to a reader: it is written to, and never
/// replaced.
pub(crate) fn put(path: &Path, bytes: &[u8]) -> Result<(), Failure> {
    let failed = |error| Failure::Outside(format!("{} cannot be written: {error}", path.display()));
    if std::fs::metadata(path).is_ok_and(|found| !found.is_file() && !found.is_dir()) {
        let opened = std::fs::OpenOptions::new().write(true).open(path);
        return opened.and_then(|mut file| file.write_all(bytes)).map_err(failed);
    }
    let mut name = std::ffi::OsString::from(".");
    name.push(path.file_name().unwrap_or_default());
    name.push(format!(".{}.new", std::process::id()));
    let beside = path.with_file_name(name);
    // Another user's file, or a link, is never followed.
    let made = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o644).open(&beside);
    let kept = made.and_then(|mut file| {
        let done = file.write_all(bytes).and_then(|()| std::fs::rename(&beside, path));
        if done.is_err() {
            // Nothing half-made stays.
            let _ = std::fs::remove_file(&beside);
        }
        done
    });
    kept.map_err(failed)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rustix::fs::{CWD, FileType, Mode, mknodat};

    #[test]
    fn a_file_is_replaced_whole_and_what_is_none_is_written_to() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("sheet.eds");
        put(&file, b"one").unwrap();
        put(&file, b"two").unwrap();
        assert_eq!(std::fs::read(&file).unwrap(), b"two");
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1, "nothing half-made stays");
        let pipe = folder.path().join("pipe");
        mknodat(CWD, &pipe, FileType::Fifo, Mode::from_raw_mode(0o600), 0).unwrap();
        let reads = std::thread::spawn({
            let pipe = pipe.clone();
            move || std::fs::read(pipe).unwrap()
        });
        put(&pipe, b"three").unwrap();
        assert_eq!(reads.join().unwrap(), b"three");
        assert!(!std::fs::metadata(&pipe).unwrap().is_file(), "it is a pipe still");
        let Err(Failure::Outside(why)) = put(folder.path(), b"four") else { panic!("a folder is no file") };
        assert!(why.contains("cannot be written"), "{why}");
    }
}
