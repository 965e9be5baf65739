//! What is read back from files and from a converter elsewhere.

use crate::monitor;
use crate::scan::Found;

/// A scan that was kept, and what a converter's monitor says.
pub fn saved(bytes: &[u8]) {
    if let Ok(found) = serde_json::from_slice::<Vec<Found>>(bytes) {
        let again = serde_json::to_vec(&found).unwrap_or_default();
        assert!(serde_json::from_slice::<Vec<Found>>(&again).is_ok(), "what was kept can be read again");
    }
}

/// What a browser or another client asks of the monitor, and what answers where one is looked for.
pub fn monitor(bytes: &[u8]) {
    let text = String::from_utf8_lossy(bytes);
    monitor::exercised(&text);
}
