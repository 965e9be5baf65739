//! What DF1 and controllers with data tables call their things, and their statuses as people write them.

use crate::term::Term;

const fn term(names: &'static [&'static str], text: &'static str) -> Term {
    Term { kind: "term of data tables", names, text }
}

pub(super) static TERMS: &[Term] = &[
    term(
        &["data table", "data tables"],
        "The memory of a controller as numbered files of one type each: N7 is file 7, of integers; N7:3 its fourth element, because elements count from 0. B bits in words, N integers, F floats, L long integers, T timers, C counters, R control, ST text, S status, I inputs, O outputs.",
    ),
    term(
        &["file", "data file"],
        "A numbered part of a data table with elements of one type: `N11` is file 11 with integers. It has the elements that the controller's programmer made; beyond them the controller refuses. `tables = { N11 = 100 }` says the size, so that `check` can tell.",
    ),
    term(
        &["element", "sub-element"],
        "One entry of a file: a word in N and B files, two words in F and L, three in timers (T4:0 has status bits, .PRE and .ACC), 42 in text. `T4:0.ACC` is a sub-element, `B3:1/5` a bit, `B3/21` the same bit counted through the file.",
    ),
    term(
        &["DF1"],
        "DF1 in full duplex: a protocol between two on RS-232, in which both may talk at any time; each message is acknowledged by its receiver (DLE ACK), and its answer is a message of its own. 8 data bits, mostly no parity; the check is a CRC or a BCC, and both ends must have the same (`check-field`).",
    ),
    term(
        &["df1-half", "half duplex"],
        "DF1 in half duplex: one master and several slaves on one line, each with a node number. The master sends a request, and later polls the slave for its answer. Set up at each controller: DF1 half-duplex slave, its node, the same speed and check.",
    ),
    term(
        &["full duplex"],
        "Both ends talk at the same time, on wires of their own. DF1 in full duplex (`df1`) joins two; in half duplex (`df1-half`) several share a line.",
    ),
    term(
        &["node", "own-node"],
        "The number of a station in DF1, 0 to 254; 255 is for all. Each slave of a half-duplex line has its own; `own-node` is ours.",
    ),
    term(
        &["DLE", "ACK", "NAK", "ENQ", "link-retries", "ack-timeout"],
        "DF1 marks its frames by the byte DLE (10): DLE STX begins a message, DLE ETX ends it, DLE ACK says that it came whole, DLE NAK that it did not, DLE ENQ asks for the last of both again. A DLE in the data is sent twice. `ack-timeout` is the wait for ACK, `link-retries` how often a message is sent again.",
    ),
    term(
        &["STS", "EXT STS", "status code"],
        "How a controller with data tables refuses: STS is one byte, written in hex; its low half tells of the link, its high half of the controller. F0 means that EXT STS, one more byte, has the reason. `woodrush explain \"STS 0x10\"` or `\"EXT STS 0x0B\"` explains one.",
    ),
    term(
        &["logical", "word-range", "commands"],
        "The two families of read and write commands: `logical` addresses file, type, element and sub-element, for controllers that count in decimal; `word-range` is that of the older controllers whose inputs and outputs are numbered in octal. A controller answers STS 0x10 to the other one's.",
    ),
    term(
        &["program mode", "run mode"],
        "A controller in program mode does not scan its program, and many then refuse writes (STS 0x70): its key switch or programming tool brings it to run.",
    ),
];

/// What else there is to say of a status.
pub(super) const fn more(code: u32) -> Option<&'static str> {
    match code {
        0x10 | 0x107 | 0x109 | 0x10A => Some(
            "Where a poll is answered so, Woodrush asks for half as much, down to single values, remembers what works, and says so in the log.",
        ),
        _ => None,
    }
}

/// A status as people write it: `STS 10` (they are written in hex), `STS 0x10`, `EXT STS 0x0B`.
pub(super) fn code(word: &str) -> Option<u32> {
    let hex = |digits: &str| {
        u8::from_str_radix(digits.strip_prefix("0x").unwrap_or(digits), 16).ok().map(u32::from)
    };
    if let Some(ext) = word.strip_prefix("ext sts ") {
        return hex(ext).map(|ext| 256 + ext).filter(|code| CODES.contains(code));
    }
    // A bare number is a status only where it says that it is hex.
    let digits = word.strip_prefix("sts ").or_else(|| word.starts_with("0x").then_some(word))?;
    hex(digits).filter(|code| CODES.contains(code))
}

/// The statuses that have words: STS, and 256 and the EXT STS.
pub(super) const CODES: [u32; 52] = [
    0x01, 0x02, 0x03, 0x04, 0x05, 0x06, 0x07, 0x08, 0x10, 0x20, 0x30, 0x40, 0x50, 0x60, 0x70, 0x80, 0x90,
    0xA0, 0xB0, 0x101, 0x102, 0x103, 0x104, 0x105, 0x106, 0x107, 0x108, 0x109, 0x10A, 0x10B, 0x10C, 0x10D,
    0x10E, 0x10F, 0x110, 0x111, 0x112, 0x113, 0x114, 0x115, 0x116, 0x117, 0x118, 0x119, 0x11A, 0x11B, 0x11E,
    0x11F, 0x122, 0x123, 0x124, 0xF0,
];
