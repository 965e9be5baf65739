//! The ledger beside the project: read whole, and written beside and put in its place whole, by one at a time.

use crate::Failure;
use std::fs::{File, OpenOptions};
use std::io::Write;
use std::path::{Path, PathBuf};
use woodrush_core::ledger::Ledger;

/// Where the ledger of a project file is.
pub(super) fn place(project: &Path) -> PathBuf {
    let own = project.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    project.with_file_name(Ledger::name(&own))
}

/// The ledger as it is; one that is not there is empty.
pub(super) fn read(place: &Path) -> Result<Ledger, Failure> {
    if !place.exists() {
        return Ok(Ledger::default());
    }
    let text = woodrush_engine::read_plain(place)
        .map_err(|why| Failure::Usage(format!("the ledger cannot be read, and stays as it is: {why}")))?;
    Ledger::read(&text, 0).map_err(|found| {
        let what = found.first().map_or("", |finding| finding.what.as_str());
        Failure::Usage(format!("{}: {what}; it stays as it is", place.display()))
    })
}

/// The new ledger beside the old one, which no other command may make meanwhile.
pub(super) struct Held {
    place: PathBuf,
    beside: PathBuf,
    file: File,
    is_written: bool,
}

impl Held {
    pub(super) fn take(place: &Path) -> Result<Self, Failure> {
        let beside = place.with_extension("ledger.new");
        let file = OpenOptions::new().write(true).create_new(true).open(&beside).map_err(|error| {
            let shown = beside.display();
            Failure::Outside(match error.kind() {
                std::io::ErrorKind::AlreadyExists => format!(
                    "{shown} exists: another `woodrush` writes the ledger, or one was stopped; if none does, remove that file"
                ),
                _ => format!("{shown} cannot be written: {error}; the ledger stays as it is"),
            })
        })?;
        Ok(Self { place: place.to_path_buf(), beside, file, is_written: false })
    }

    /// Puts a whole ledger in the place of the old one.
    pub(super) fn write(mut self, text: &str) -> Result<(), Failure> {
        let done = self.file.write_all(text.as_bytes()).and_then(|()| self.file.sync_all());
        done.and_then(|()| std::fs::rename(&self.beside, &self.place)).map_err(|error| {
            Failure::Outside(format!(
                "{} cannot be written: {error}; the ledger stays as it is",
                self.place.display()
            ))
        })?;
        self.is_written = true;
        Ok(())
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        if !self.is_written {
            let _ = std::fs::remove_file(&self.beside);
        }
    }
}
