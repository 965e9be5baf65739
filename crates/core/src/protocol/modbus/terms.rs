//! What Modbus calls its things, and its exceptions for people.

use crate::term::Term;

const fn term(names: &'static [&'static str], text: &'static str) -> Term {
    Term { kind: "term of Modbus", names, text }
}

const fn function(names: &'static [&'static str], text: &'static str) -> Term {
    Term { kind: "function code", names, text }
}

pub(super) static TERMS: &[Term] = &[
    term(
        &["unit", "unit identifier", "slave address", "unit address"],
        "The number by which a device is asked: 1 to 247 on a serial line, each once; 0 is the broadcast, which every device takes and none answers. Over TCP a device that is alone at its IP address mostly answers to any unit (0 and 255 are usual); behind a gateway the unit chooses the device on the line.",
    ),
    term(
        &["coil", "coils"],
        "A bit that can be read (function 1) and written (5, 15); reference numbers 000001 to 065536.",
    ),
    term(
        &["discrete input", "discrete inputs"],
        "A bit that can only be read (function 2); reference numbers 100001 to 165536.",
    ),
    term(
        &["input register", "input registers"],
        "A word of 16 bits that can only be read (function 4); reference numbers 300001 to 365536. Many devices show their measurements here and their settings in holding registers; others show all in holding registers.",
    ),
    term(
        &["holding register", "holding registers", "register"],
        "A word of 16 bits that can be read (function 3) and written (6, 16); reference numbers 400001 to 465536. Wider values take several in a row, in an order that the device's manual must say.",
    ),
    term(
        &["reference number", "six-digit", "five-digit", "notation", "4x"],
        "How people number registers: the first digit names the table (0 coils, 1 discrete inputs, 3 input registers, 4 holding registers), the rest counts from 1. 400318 (six digits) and 40318 (five, up to 49999) are the same holding register; on the wire it is offset 317. A manual, a tool and a SCADA system each write it differently: `woodrush addr 400318` shows all.",
    ),
    term(
        &["function code", "function"],
        "The first byte of a request after the unit: what is wanted. Reading: 1 coils, 2 discrete inputs, 3 holding registers, 4 input registers. Writing: 5 and 15 coils, 6 and 16 holding registers, 22 some bits of one. `woodrush explain \"function 16\"` explains one.",
    ),
    term(
        &["exception", "exception code"],
        "The answer of a device that will not do what it was asked: the function code with its highest bit set, and a code for the reason. It means that line settings, unit and framing are right: a device is there and understood the request.",
    ),
    term(
        &["Modbus TCP", "modbus-tcp", "MBAP"],
        "Modbus in its own frames for TCP: a header of seven bytes (MBAP: transaction, protocol 0, length, unit) before function and data, no checksum; port 502. It is not RTU over TCP: a device that expects the one does not answer the other.",
    ),
    term(
        &["RTU over TCP", "rtu-over-tcp", "encapsulated rtu"],
        "RTU frames, with unit and CRC as on a serial line, sent through a TCP connection, mostly to a serial server. In the project file: `connect` or `listen` with `protocol = \"modbus-rtu\"`. It is not Modbus TCP, which has an MBAP header and no CRC; a device that expects the one does not answer the other.",
    ),
    term(
        &["RTU", "modbus-rtu", "modbus rtu"],
        "The usual framing on serial lines: unit, function, data and a CRC of 16 bits, in bytes as they are. A frame ends with a pause of 3.5 characters. Requests carry no number, so an answer that comes after its timeout can look like the answer to the next request.",
    ),
    term(
        &["ASCII", "modbus-ascii", "modbus ascii"],
        "A framing on serial lines in hex digits: a colon, unit, function, data, an LRC of 8 bits, carriage return and line feed. It takes twice the characters of RTU, and needs no pause, so that slow modems can carry it.",
    ),
    term(
        &["broadcast"],
        "A write to unit 0 on a serial line: every device takes it, none answers. The line rests for the `turnaround` afterwards.",
    ),
    function(
        &["function 1", "fc 1", "fc1"],
        "Read coils: up to 2000 in one request, eight in a byte, the first one in the lowest bit.",
    ),
    function(&["function 2", "fc 2", "fc2"], "Read discrete inputs: up to 2000 in one request."),
    function(
        &["function 3", "fc 3", "fc3"],
        "Read holding registers: up to 125 in one request; many devices take less, which `max-read` says.",
    ),
    function(&["function 4", "fc 4", "fc4"], "Read input registers: up to 125 in one request."),
    function(
        &["function 5", "fc 5", "fc5"],
        "Write a single coil: FF00 for on, 0000 for off; the answer repeats the request.",
    ),
    function(
        &["function 6", "fc 6", "fc6"],
        "Write a single register; the answer repeats the request. Devices that know only this one take no value of several registers: `write-one = \"single\"`.",
    ),
    function(
        &["function 7", "fc 7", "fc7"],
        "Read exception status, serial lines only: eight bits whose meaning the device's manual says.",
    ),
    function(
        &["function 8", "fc 8", "fc8"],
        "Diagnostics, serial lines only: sub-function 0 gives back what was sent, which tests a line and nothing else; others read and clear counters.",
    ),
    function(
        &["function 11", "fc 11", "fc11"],
        "Get comm event counter, serial lines only: a status word and how many requests were done.",
    ),
    function(
        &["function 12", "fc 12", "fc12"],
        "Get comm event log, serial lines only: status, counters and the last events, a byte each.",
    ),
    function(&["function 15", "fc 15", "fc15"], "Write multiple coils: up to 1968 in one request."),
    function(
        &["function 16", "fc 16", "fc16"],
        "Write multiple registers: up to 123 in one request. It is the one to write a value of several registers with, because they change together.",
    ),
    function(
        &["function 17", "fc 17", "fc17"],
        "Report server id, serial lines only: what the device is, in its own bytes, and whether it runs.",
    ),
    function(
        &["function 20", "fc 20", "fc20", "function 21", "fc 21", "fc21"],
        "Read (20) and write (21) file records: memory beyond the registers. Passed on by forwards; no rule maps it.",
    ),
    function(
        &["function 22", "fc 22", "fc22"],
        "Mask write register: changes some bits of one holding register in the device itself, so that no other bit can be overwritten. Where a device has it not, Woodrush reads the register, changes the bits and writes it back, and `check` remarks on that.",
    ),
    function(
        &["function 23", "fc 23", "fc23"],
        "Read/write multiple registers: writes up to 121 and then reads up to 125, in one request.",
    ),
    function(
        &["function 24", "fc 24", "fc24"],
        "Read FIFO queue: the register gives the count of those behind it, up to 31.",
    ),
    function(
        &["function 43", "fc 43", "fc43", "device identification"],
        "Encapsulated interface; with type 14 it reads the device identification: maker, product code and revision as text.",
    ),
];
