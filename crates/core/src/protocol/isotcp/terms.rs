//! What controllers with data blocks call their things, and their error numbers as people write them.

use crate::term::Term;

const fn term(names: &'static [&'static str], text: &'static str) -> Term {
    Term { kind: "term of data blocks", names, text }
}

pub(super) static TERMS: &[Term] = &[
    term(
        &["data block", "data blocks", "DB"],
        "A numbered piece of a controller's memory, made by its programmer with a length of its own: `%DB10.W20` is the word at byte 20 of block 10, `%DB10.D24` a double word, `%DB10.B7` a byte, `%DB10.X20.3` a bit. Offsets count bytes. A word brings no sign and no meaning: `as i16`, `as f32` say it. The most significant byte comes first.",
    ),
    term(
        &["marker", "markers", "flag"],
        "Memory of a controller that belongs to no block: `%MW4` is the word at byte 4, `%MX4.0` a bit.",
    ),
    term(
        &["fetch-write", "fetch/write", "fetch", "write"],
        "Messages with which another station reads (FETCH) and writes (WRITE) a controller's data blocks and markers, over ISO-on-TCP. Nothing is there by itself: the controller's programmer sets up a connection for each, passive, mostly one for FETCH and one for WRITE, with TSAPs at both ends, and the blocks with their lengths. Here: `local-tsap` and `remote-tsap` of the port, and `write-port` where writing has a connection of its own. `woodrush map` lists what a project needs there.",
    ),
    term(
        &["TSAP", "local-tsap", "remote-tsap"],
        "The name of one end of an ISO-on-TCP connection: two bytes such as 01.00, or text. Each end states both: what is local there is remote here. A TSAP that the controller does not expect is refused or never answered. Where they go by rack and slot, the second byte is rack x 32 + slot: 01.02 is rack 0, slot 2.",
    ),
    term(
        &["ISO-on-TCP", "iso on tcp", "TPKT", "COTP", "rfc 1006"],
        "How messages with a beginning and an end go through TCP: TPKT is a header of four bytes with the length, COTP in class 0 opens the connection by TSAPs and carries pieces of messages. Port 102.",
    ),
    term(
        &["passive", "active", "passive connection"],
        "The active end dials, the passive end waits. For FETCH/WRITE the controller's end is passive, ours is active; for an image of ours on that protocol it is the other way round.",
    ),
    term(
        &["read-modify-write"],
        "Where a protocol cannot write a single bit or byte, the word around it is read, changed and written back. What the controller's program writes beside it in between is lost; give the converter a word of its own. `check` remarks on it (M58).",
    ),
];
