//! The files of a handover: all of them are written beside their places first, so that those that were there stay whole
//! until all new ones are.

use crate::Failure;
use crate::console::no_formula;
use std::path::{Path, PathBuf};
use woodrush_core::handover::HandoverList;
use woodrush_engine::ReadyFile;

/// Files that are ready, and not in their places yet.
#[derive(Default)]
pub(super) struct ReadyFiles {
    files: Vec<(PathBuf, ReadyFile)>,
}

impl ReadyFiles {
    /// Writes a file beside its place.
    pub(super) fn add(&mut self, path: &Path, bytes: &[u8]) -> Result<(), Failure> {
        if path.is_dir() {
            return Err(Failure::Outside(format!("{} is a folder; nothing was changed", path.display())));
        }
        let folder = path.parent().unwrap_or(Path::new(""));
        let ready = std::fs::create_dir_all(folder).and_then(|()| ReadyFile::beside(path, bytes));
        self.files.push((path.to_path_buf(), ready.map_err(|error| failed(path, &error))?));
        Ok(())
    }

    /// Puts all of them in their places.
    pub(super) fn place(self) -> Result<(), Failure> {
        for (path, ready) in self.files {
            ready.place().map_err(|error| failed(&path, &error))?;
        }
        Ok(())
    }
}

fn failed(path: &Path, error: &std::io::Error) -> Failure {
    Failure::Outside(format!("{} cannot be written: {error}; nothing was changed", path.display()))
}

/// A list as CSV; no cell is a formula to a spreadsheet.
pub(super) fn csv_of(list: &HandoverList) -> Result<Vec<u8>, Failure> {
    let delimiter = u8::try_from(list.delimiter).unwrap_or(b',');
    let mut writer = csv::WriterBuilder::new().delimiter(delimiter).from_writer(vec![]);
    for row in std::iter::once(&list.head).chain(&list.rows) {
        let row = row.iter().map(|cell| no_formula(cell).into_owned());
        writer.write_record(row).map_err(|error| Failure::Outside(error.to_string()))?;
    }
    writer.into_inner().map_err(|error| Failure::Outside(error.to_string()))
}
