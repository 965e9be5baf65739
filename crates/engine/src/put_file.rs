//! Putting a file in its place, whole at every moment: written beside, synced, renamed, and its folder synced. The old one's
//! mode and owner are kept, and a link stays one.

use std::ffi::OsString;
use std::fs::{File, OpenOptions};
use std::io::{Error, ErrorKind, Result, Write};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt, fchown};
use std::path::{Path, PathBuf};

/// What a file is made with that was not there before; the user's mask takes from it.
const MODE: u32 = 0o644;
/// Links that are followed to where a file really is, as many as the system follows.
const LINKS_MAX: usize = 40;

/// A file that is ready and not in its place yet; dropping it leaves nothing behind.
pub struct ReadyFile {
    path: PathBuf,
    at: PutStage,
}

enum PutStage {
    /// Written whole, beside its place.
    Beside(PathBuf),
    /// To be written where it is: a pipe or a terminal leads to a reader, and of a file in a folder that may not be written
    /// only the inside may be.
    Within(Vec<u8>),
    Placed,
}

impl ReadyFile {
    /// Writes a file beside its place.
    ///
    /// # Errors
    /// It cannot be written; nothing has changed.
    pub fn beside(path: &Path, bytes: &[u8]) -> Result<Self> {
        let path = followed(path)?;
        let old = match std::fs::metadata(&path) {
            Ok(found) if found.is_dir() => return Err(Error::from(ErrorKind::IsADirectory)),
            Ok(found) if !found.is_file() => return Ok(Self { path, at: PutStage::Within(bytes.to_vec()) }),
            // The file itself must be ours to write, whatever the rights of its folder.
            Ok(found) => OpenOptions::new().write(true).open(&path).map(|_| Some(found))?,
            Err(error) if error.kind() == ErrorKind::NotFound => None,
            Err(error) => return Err(error),
        };
        let mut name = OsString::from(".");
        name.push(path.file_name().ok_or(ErrorKind::InvalidInput)?);
        name.push(format!(".{}.new", std::process::id()));
        let beside = path.with_file_name(name);
        // One that a stopped program has left; another user's file, or a link, is never followed.
        let _ = std::fs::remove_file(&beside);
        let mode = if old.is_some() { 0o600 } else { MODE };
        let mut file = match OpenOptions::new().write(true).create_new(true).mode(mode).open(&beside) {
            Ok(file) => file,
            Err(_) if old.is_some() => return Ok(Self { path, at: PutStage::Within(bytes.to_vec()) }),
            Err(error) => return Err(error),
        };
        let ready = Self { path, at: PutStage::Beside(beside) };
        file.write_all(bytes)?;
        if let Some(old) = old {
            let kept = fchown(&file, Some(old.uid()), Some(old.gid()))
                .and_then(|()| file.set_permissions(old.permissions()));
            match kept {
                Ok(()) => {}
                // Another owner cannot be given: then the file is written where it is.
                Err(error) if error.kind() == ErrorKind::PermissionDenied => {
                    return Ok(Self { path: ready.path.clone(), at: PutStage::Within(bytes.to_vec()) });
                }
                Err(error) => return Err(error),
            }
        }
        file.sync_all()?;
        Ok(ready)
    }

    /// Puts it in its place.
    ///
    /// # Errors
    /// It cannot be put there.
    pub fn place(mut self) -> Result<()> {
        match std::mem::replace(&mut self.at, PutStage::Placed) {
            PutStage::Beside(beside) => {
                if let Err(error) = std::fs::rename(&beside, &self.path) {
                    self.at = PutStage::Beside(beside);
                    return Err(error);
                }
                // A name that only memory knows is gone with the power.
                let folder = self.path.parent().filter(|own| !own.as_os_str().is_empty());
                File::open(folder.unwrap_or(Path::new("."))).and_then(|folder| folder.sync_all())
            }
            PutStage::Within(bytes) => {
                let truncates = std::fs::metadata(&self.path).is_ok_and(|found| found.is_file());
                let mut file = OpenOptions::new().write(true).truncate(truncates).open(&self.path)?;
                file.write_all(&bytes)?;
                if truncates { file.sync_all() } else { Ok(()) }
            }
            PutStage::Placed => Ok(()),
        }
    }
}

impl Drop for ReadyFile {
    fn drop(&mut self) {
        if let PutStage::Beside(beside) = &self.at {
            // Nothing half-made stays.
            let _ = std::fs::remove_file(beside);
        }
    }
}

/// Puts a file in its place.
///
/// # Errors
/// It cannot be written; the old one is as it was.
pub fn put_file(path: &Path, bytes: &[u8]) -> Result<()> {
    ReadyFile::beside(path, bytes)?.place()
}

/// Where a path really leads, also to a file that is not there yet.
///
/// # Errors
/// Links that lead in a circle.
pub fn followed(path: &Path) -> Result<PathBuf> {
    let mut path = path.to_path_buf();
    for _ in 0..LINKS_MAX {
        match std::fs::read_link(&path) {
            Ok(target) => path = path.parent().unwrap_or(Path::new("")).join(target),
            Err(_) => return Ok(path),
        }
    }
    Err(Error::from(ErrorKind::NotFound))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rustix::fs::{CWD, FileType, Mode, mknodat};
    use std::os::unix::fs::{PermissionsExt, symlink};

    #[test]
    fn a_file_keeps_its_mode_and_a_link_leads_to_it_as_before() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        std::fs::create_dir(at("shared")).unwrap();
        std::fs::write(at("shared/ledger"), "old").unwrap();
        std::fs::set_permissions(at("shared/ledger"), PermissionsExt::from_mode(0o640)).unwrap();
        symlink("shared/ledger", at("ledger")).unwrap();
        symlink("ledger", at("again")).unwrap();
        put_file(&at("again"), b"new").unwrap();
        assert!(std::fs::symlink_metadata(at("ledger")).unwrap().is_symlink());
        assert_eq!(std::fs::read(at("shared/ledger")).unwrap(), b"new");
        assert_eq!(std::fs::metadata(at("shared/ledger")).unwrap().mode() & 0o777, 0o640);
        assert_eq!(std::fs::read_dir(at("shared")).unwrap().count(), 1, "nothing half-made stays");
        // One that leads to nothing yet leads to the new file.
        symlink("shared/first", at("first")).unwrap();
        put_file(&at("first"), b"1").unwrap();
        assert_eq!(std::fs::read(at("shared/first")).unwrap(), b"1");
    }

    #[test]
    fn what_is_not_placed_leaves_nothing_and_a_refusal_changes_nothing() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("page.html");
        put_file(&file, b"one").unwrap();
        drop(ReadyFile::beside(&file, b"two").unwrap());
        assert_eq!(std::fs::read(&file).unwrap(), b"one");
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
        assert_eq!(put_file(folder.path(), b"x").unwrap_err().kind(), ErrorKind::IsADirectory);
        assert!(put_file(&folder.path().join("none/page"), b"x").is_err());
        symlink("circle", folder.path().join("circle")).unwrap();
        assert!(put_file(&folder.path().join("circle"), b"x").is_err());
    }

    #[test]
    fn a_pipe_is_written_to_and_stays_one() {
        let folder = tempfile::tempdir().unwrap();
        let pipe = folder.path().join("pipe");
        mknodat(CWD, &pipe, FileType::Fifo, Mode::from_raw_mode(0o600), 0).unwrap();
        let reads = std::thread::spawn({
            let pipe = pipe.clone();
            move || std::fs::read(pipe).unwrap()
        });
        put_file(&pipe, b"three").unwrap();
        assert_eq!(reads.join().unwrap(), b"three");
        assert!(!std::fs::metadata(&pipe).unwrap().is_file());
    }
}
