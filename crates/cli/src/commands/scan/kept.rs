//! What a scan has found so far, in a file, so that it can go on from there.

use crate::connections::Field;
use crate::{Failure, kept};
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};
use woodrush_engine::scan::Found;

/// The file's shape.
#[derive(Serialize, Deserialize)]
struct ScanFile {
    format: u32,
    place: String,
    protocol: String,
    done: Vec<u32>,
    found: Vec<Found>,
}

/// What was done and found, and where it is kept.
pub(super) struct Kept {
    path: Option<PathBuf>,
    place: String,
    protocol: String,
    pub(super) done: Vec<u32>,
    pub(super) found: Vec<Found>,
}

impl Kept {
    /// Goes on from a file, if there is one already; it must be of the same way.
    pub(super) fn open(path: Option<&Path>, field: &Field) -> Result<Self, Failure> {
        let place = field.held.as_ref().map_or_else(|| field.link.shown(), |(_, port)| port.clone());
        let protocol = field.station.dialect.map_or("", |dialect| dialect.name()).to_string();
        let mut own =
            Self { path: path.map(Path::to_path_buf), place, protocol, done: vec![], found: vec![] };
        let Some(path) = path else { return Ok(own) };
        let Some(file) = kept::load::<ScanFile>(path, "not a scan that can go on")? else { return Ok(own) };
        if (&file.place, &file.protocol) != (&own.place, &own.protocol) {
            return Err(Failure::Usage(format!(
                "{} is of {} by {}, and this is {} by {} (name another file)",
                path.display(),
                file.place,
                file.protocol,
                own.place,
                own.protocol
            )));
        }
        (own.done, own.found) = (file.done, file.found);
        Ok(own)
    }

    /// Adds a station that was asked, with what was found of it; the file is whole at every moment.
    pub(super) fn add(&mut self, number: u32, found: Option<Found>) -> Result<(), Failure> {
        self.done.push(number);
        self.found.extend(found);
        let Some(path) = &self.path else { return Ok(()) };
        let file = ScanFile {
            format: 1,
            place: self.place.clone(),
            protocol: self.protocol.clone(),
            done: self.done.clone(),
            found: self.found.clone(),
        };
        kept::save(path, &file)
    }
}
