//! What the link of DF1 calls its things, and what lies behind it.

use crate::term::Term;

const fn term(names: &'static [&'static str], text: &'static str) -> Term {
    Term { kind: "term of DF1", names, text }
}

pub(super) static TERMS: &[Term] = &[
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
];
