//! What a reply's status means.

/// STS in words.
#[must_use]
pub const fn sts_words(sts: u8) -> &'static str {
    match sts {
        0x00 => "good",
        0x01 => "the target node has no buffer space",
        0x02 => "delivery not guaranteed: the link layer got no ACK",
        0x03 => "duplicate token holder",
        0x04 => "local port disconnected",
        0x05 => "the application layer timed out",
        0x06 => "duplicate node",
        0x07 => "station off-line",
        0x08 => "hardware fault",
        0x10 => "illegal command or format",
        0x20 => "the host has a problem and will not communicate",
        0x30 => "remote host missing, disconnected or shut down",
        0x40 => "host hardware fault",
        0x50 => "addressing problem or memory protection",
        0x60 => "not allowed: command protection",
        0x70 => "the controller is in program mode",
        0x80 => "compatibility file missing, or a problem of the communication zone",
        0x90 => "the remote node cannot buffer the command",
        0xA0 | 0xC0 => "wait: its buffer is full",
        0xB0 => "the remote node is busy with a download",
        0xF0 => "see the extended status",
        _ => "unknown status",
    }
}

/// EXT STS in words.
#[must_use]
pub const fn ext_words(ext: u8) -> &'static str {
    match ext {
        0x01 => "a field has an illegal value",
        0x02 => "fewer address levels than the least",
        0x03 => "more address levels than are supported",
        0x04 => "symbol not found",
        0x05 => "symbol badly formed",
        0x06 => "the address points at nothing usable",
        0x07 => "the file has the wrong size",
        0x08 => "the situation has changed since the command began",
        0x09 => "data or file too large",
        0x0A => "transaction size plus address too large",
        0x0B => "access denied: privilege",
        0x0C => "the condition cannot be made: no resource",
        0x0D => "the condition exists already",
        0x0E => "the command cannot be executed",
        0x0F => "histogram overflow",
        0x10 => "no access",
        0x11 => "illegal data type",
        0x12 => "invalid parameter or data",
        0x13 => "the address refers to a deleted area",
        0x14 => "failed for an unknown reason",
        0x15 => "data conversion error",
        0x16 => "the scanner cannot reach a rack adapter",
        0x17 => "type mismatch",
        0x18 => "an I/O module's answer was not valid",
        0x19 => "duplicated label",
        0x1A => "the file is open, and another node owns it",
        0x1B => "another node owns the program",
        0x1E => "data-table protection violation",
        0x1F => "temporary internal problem",
        0x22 => "remote rack fault",
        0x23 => "time-out",
        0x24 => "unknown error",
        _ => "unknown extended status",
    }
}

/// Whether the command may be tried later: buffers were full, or somebody was busy.
#[must_use]
pub const fn is_for_later(sts: u8, ext: u8) -> bool {
    matches!(sts, 0x01 | 0x90 | 0xA0 | 0xB0 | 0xC0) || sts == 0xF0 && ext == 0x1F
}
