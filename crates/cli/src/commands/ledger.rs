//! The ledger beside the project: read whole, and written beside and put in its place whole, by one at a time.

use crate::Failure;
use std::fs::OpenOptions;
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

/// The right to write the ledger, which one command has at a time: a file beside it that no other may make meanwhile.
pub(super) struct Held {
    place: PathBuf,
    lock: PathBuf,
}

impl Held {
    pub(super) fn take(place: &Path) -> Result<Self, Failure> {
        // Two projects with a link to one ledger have one lock.
        let real = woodrush_engine::followed(place)
            .map_err(|error| Failure::Outside(format!("{} leads nowhere: {error}", place.display())))?;
        let lock = real.with_extension("ledger.new");
        OpenOptions::new().write(true).create_new(true).open(&lock).map_err(|error| {
            let shown = lock.display();
            Failure::Outside(match error.kind() {
                std::io::ErrorKind::AlreadyExists => format!(
                    "{shown} exists: another `woodrush` writes the ledger, or one was stopped; if none does, remove that file"
                ),
                _ => format!("{shown} cannot be written: {error}; the ledger stays as it is"),
            })
        })?;
        Ok(Self { place: real, lock })
    }

    /// Puts a whole ledger in the place of the old one.
    pub(super) fn write(self, text: &str) -> Result<(), Failure> {
        woodrush_engine::put_file(&self.place, text.as_bytes()).map_err(|error| {
            Failure::Outside(format!(
                "{} cannot be written: {error}; the ledger stays as it is",
                self.place.display()
            ))
        })
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        // If it is gone already, all the better.
        let _ = std::fs::remove_file(&self.lock);
    }
}
