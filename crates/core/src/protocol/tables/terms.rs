//! What controllers with data tables call their things, and their statuses as people write them.

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
