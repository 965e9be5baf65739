//! Files in which a command keeps what it found, so that the next run goes on from there: whole at every moment.

use crate::Failure;
use serde::Serialize;
use serde::de::DeserializeOwned;
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

/// Puts a file in its place, whole at every moment.
pub(crate) fn put(path: &Path, bytes: &[u8]) -> Result<(), Failure> {
    woodrush_engine::put_file(path, bytes)
        .map_err(|error| Failure::Outside(format!("{} cannot be written: {error}", path.display())))
}
