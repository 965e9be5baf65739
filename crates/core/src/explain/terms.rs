//! Terms that belong to no protocol: the tool's own words, the trade's, and those that are often taken for each other.

use super::Term;

const fn own(names: &'static [&'static str], text: &'static str) -> Term {
    Term { kind: "word of this tool", names, text }
}

const fn trade(names: &'static [&'static str], text: &'static str) -> Term {
    Term { kind: "term", names, text }
}

/// All of them; the first name is the one that is shown.
pub(super) static TERMS: &[Term] = &[
    own(
        &["port", "ports"],
        "A place where wires meet the converter: a serial line, a listening TCP socket, an outgoing TCP connection or a virtual serial port. On one port the converter either sends requests (to devices) or answers them (images, forwards), never both. A TCP port number, such as 502, is only a part of the setting of a TCP port.",
    ),
    own(
        &["device", "devices"],
        "Something that the converter sends requests to: there the converter is the client (on a serial line the trade says master). A device is on a port, has a unit or node there, and gets its points and limits from a profile. A device that no rule uses is not polled.",
    ),
    own(
        &["image", "images"],
        "A register image: a set of addresses that the converter shows to its clients; there it is the server (on a serial line the trade says slave). Its cells are fed by rules and remember how old they are; a reader gets a fresh value or a refusal, never a stale value that looks live, unless `on-loss` says so.",
    ),
    own(
        &["area", "areas"],
        "Addresses of an image that are given out one after another: `[areas.values]` with `image` and `range`. A rule that shows its value at `scada:@values` gets the next free address there, aligned to its width; `woodrush map --assign` gives it out, and the ledger keeps it. An area whose range is written with bits (`304001.0-304010.15`) gives out bits.",
    ),
    own(
        &["ledger", "woodrush.ledger"],
        "The file beside the project in which the addresses stand that `woodrush map --assign` has given out, one line a value, sorted. What stands there never changes by itself: clients know it. The address of a rule that is gone is retired; the rule gets it back when it comes back, and no other value gets it before `map --assign --reuse`. Keep it in the version control system with the project.",
    ),
    own(
        &["issue", "issues"],
        "What was handed over at one time: of every value of every image its address, source, form, unit and access, and how images are asked and devices set, with a number, the day and what changed. `woodrush handover DIR --issue` closes one in the ledger. From then on `check` says where the project no longer agrees with the last one (M26, M59 to M61), until a new one is closed; `woodrush compare issue:last` says who must follow.",
    ),
    own(
        &["client list", "lists of clients"],
        "The table that the programmer of a client has typed in, named by `list` at the client: what it reads and writes, in its own notation and under its own heads. `check` holds each row against the rules; `woodrush handover` writes one.",
    ),
    own(
        &["register list"],
        "The table in a maker's manual, or of a programmer, with a row for each register. `woodrush import` makes a profile of it: each row becomes a point, or is told with its line and the reason.",
    ),
    own(
        &["profile", "profiles"],
        "The description of one kind of device, written once and used by each device of that kind: its points with address, form, unit and access, its limits (`max-read`), and how it is shipped (line settings, unit).",
    ),
    own(
        &["point", "points"],
        "One named value of a profile: where it lies, in which form, in which engineering unit, within which range, and whether it can be written. Rules name it as DEVICE.POINT, so that no address is copied by hand.",
    ),
    own(
        &["map", "rule", "rules"],
        "A rule that moves data between a device and an image, or between two devices; data flows from `from` to `to`, and with `access = \"read-write\"` a write comes back the same way. `woodrush map` shows the result of all rules, one row per value.",
    ),
    own(
        &["forward", "forwards"],
        "A rule that passes whole requests from one port to another, reframed and not interpreted. It carries everything that the protocol can say, also what no rule knows; but the values are not converted, checked or kept, and a lost device is an exception for the client.",
    ),
    own(
        &["freshness", "age", "max-age"],
        "How old a value is, and what a reader gets when it is too old. Age counts from the moment at which the last byte of the request left, so a value can be older than it looks and never younger. Older than `max-age` it counts as lost, and `on-loss` says what a reader gets.",
    ),
    own(
        &["on-loss", "refuse", "hold", "fill"],
        "What a reader gets once a value's source is lost. `refuse` (default): an error of the protocol, so that the last value is never taken for a live one. `hold`: the last value, to be used only with a health bit beside it that the reader looks at. `fill 0x8000`: a word that means \"no value\" to the reader.",
    ),
    own(
        &["health"],
        "What the converter knows of devices, rules, ports and itself, as cells that rules can carry: DEVICE.health.online, .age, .polls, .errors, .last-error; the same for rules; timeouts, damaged, clients and load of ports; heartbeat and uptime. Health cells are never refused, so a controller can always read there that another value is refused.",
    ),
    own(
        &["rig", "bench"],
        "The simulated devices and clients on both sides of the converter, and the faults between them. They speak the real protocols over real ptys and sockets at the line's own speed: `woodrush rig up` in one terminal, `woodrush run --rig` in another. The project file stays as it is.",
    ),
    own(
        &["prove", "proof"],
        "The end-to-end test of each rule: values are put into simulated devices and expected at the other side, then written there and expected in the device; then the source is taken away and the reader must be refused. What is expected is worked out apart from the converter's own code.",
    ),
    own(
        &["tap"],
        "A look at the traffic of a port: frames decoded, paired, counted, and saved as pcapng for a packet analyser.",
    ),
    own(
        &["handover"],
        "The papers for the people on the other side: the address table as a page, as CSV and as Markdown.",
    ),
    own(
        &["together", "group"],
        "Rules with the same `together` come from one poll and are read in one request, so that a value and its status are of the same moment. Where one request cannot take them all, `check` says so (M37).",
    ),
    own(
        &["shift", "repeat", "stride"],
        "For equal things in a series. `repeat = \"1-47\"` makes as many devices or rules, with expressions of `n` where they differ; `repeat = 6` with `stride = 2` makes six points two addresses apart; `shift` is added to every address of a profile, for several instances in one device.",
    ),
    trade(
        &["parity"],
        "A check bit on every character of a serial line: even (E), odd (O) or none (N). Both ends must agree: else most characters look damaged, and the line does not answer or answers now and then, which is worse. Devices are often shipped with even parity and one stop bit, or without parity and then with one stop bit or two: look at each.",
    ),
    trade(
        &["baud", "speed"],
        "The speed of a serial line in bits a second. A character takes 10 or 11 bits: start, 8 data, perhaps parity, stop. At 9600 baud a character takes about 1 ms, at 19200 half of that. Every device on the line has the same; one that differs hears noise, and its answers are noise to the others.",
    ),
    trade(
        &["line", "8e1", "8n1", "8n2", "8o1", "7e1", "line settings"],
        "Speed, data bits, parity and stop bits of a serial line, as the trade writes them: `38400 8E1` is 38400 baud, 8 data bits, even parity, 1 stop bit. Protocols of plain bytes need 8 data bits; those of printable characters can do with 7.",
    ),
    trade(
        &["RS-232", "rs232"],
        "A serial wire between two: one talks, one listens, each way. A second device cannot share it. Distances are short (15 m).",
    ),
    trade(
        &["RS-485", "rs485", "rs485-4w"],
        "A serial bus: up to 32 standard loads on one pair of wires, up to 1200 m, terminated at both ends. One device talks at a time: the client sends requests, and the others answer when they are addressed. Swapped wires (A and B, which makers name differently) give no answers or noise on all devices at once. `rs485-4w` has a pair for each direction.",
    ),
    trade(
        &["RS-422", "rs422"],
        "A balanced serial line like RS-485 with a pair of wires for each direction: one client, and up to ten devices.",
    ),
    trade(
        &["timeout"],
        "How long a client waits for an answer. Too short, and good answers come late: the request counts as failed, and the late bytes can look like the next answer. Too long, and each dead device holds the line for as long. `woodrush budget` shows what each device needs and what a dead one costs; a client's own timeout must be longer than the converter's.",
    ),
    trade(
        &["frame gap", "silence", "turnaround", "echo"],
        "`frame-gap` is the least pause between two messages on a serial line; where frames have no end mark it is what ends them. `turnaround` is the pause after a broadcast, which no device answers. `echo` says that an adapter returns what is sent, so that it is removed.",
    ),
    trade(
        &["client", "server", "master", "slave", "clients"],
        "The client asks, the server answers. On serial lines the trade says master and slave for the same. The names change with the point of view: towards its devices the converter is the client (master), towards the readers of its images it is the server (slave). \"The PLC is the slave\" therefore says nothing unless the line is named. In the project file `[devices]` are our servers, `[images]` is how we serve, `[clients]` are our clients.",
    ),
    trade(
        &["input", "output", "direction"],
        "Always from one side's point of view, and the views differ: what a controller calls its output is input for the device that it drives, and what a field bus master calls \"input data\" comes out of its slaves. Woodrush does not use the words for directions: data flows from `from` to `to`. Input registers and discrete inputs are tables that can only be read; inputs (I) and outputs (O, Q) of a controller are its images of the wires, which its own program rewrites in every scan.",
    ),
    trade(
        &["octal"],
        "Counting with the digits 0 to 7: after 7 comes 10. Some controllers number inputs, outputs and their bits so, and only those. The same text then means another wire from 10 on: O:017 in octal is the word 15. `io-addresses = \"octal\"` says that a controller does; digits 8 and 9 are refused there.",
    ),
    trade(
        &["byte offset", "word offset", "offset"],
        "An offset counts from 0, in units that must be said: registers, words or bytes. Byte 12 of a block is its word 6; a word begins at an even byte. Reference number 400318 is the register with offset 317: one less, because reference numbers count from 1.",
    ),
    trade(
        &["word order", "byte order", "endianness", "order", "word swap", "byte swap"],
        "In which order the bytes of a value lie, written as one letter a byte, A the most significant: a 32-bit value is ABCD, CDAB (words exchanged), BADC (bytes exchanged in each word) or DCBA (both). Registers themselves are sent high byte first; but which register of a 32-bit value comes first was never fixed, so manuals, devices and clients differ. A wrong order gives plausible garbage. With a value that you know, `woodrush decode WORDS --expect 17.46` finds its order.",
    ),
    trade(
        &["scale", "plus", "engineering unit", "raw"],
        "A device often sends a whole number for a value with decimals: raw 1746 with scale 0.01 is 17.46. Value = raw x scale + plus. Where the manual gives two points of a line, write a range of raw values, `to`, and the range that it stands for. A forgotten scale is off by 10, 100 or 1000; `raw` copies words as they are.",
    ),
    trade(
        &["form"],
        "How a value lies in its words: `as TYPE [ORDER] [scale N] [plus N]`, or two ranges behind `scale`, such as `as f32 CDAB` or `as i16 scale 0.1`. With a form on one end of a rule only, the other end gets the same type, scale and plus in its own default order. Without any form registers and bits are copied as they are.",
    ),
    trade(
        &["poll", "polling", "cycle"],
        "To poll is to read again and again. The cycle of a line is the time in which everything on it has been read once; intervals shorter than that cannot be kept (M55). `woodrush budget` predicts it, with what a dead device adds.",
    ),
    trade(
        &["BCD", "bcd16", "bcd32"],
        "Binary-coded decimal: one decimal digit in each four bits, so that hex 1746 means 1746. `bcd16` holds 0 to 9999, `bcd32` 0 to 99999999; a hex digit from A to F in it is not a number, and counts as lost.",
    ),
    trade(
        &["CRC", "lrc", "bcc", "check sum", "checksum", "damaged"],
        "Bytes behind a message by which its receiver sees damage. A CRC has 16 bits and sees almost all of it, an LRC or BCC has 8 and misses more; over TCP many protocols have none, because TCP has its own. Damaged frames at all devices of a line point to settings, wiring or termination; at one device to its settings, or to two devices at one address.",
    ),
    trade(
        &["gateway", "converter", "protocol converter"],
        "A box between two networks. One kind forwards whole requests and changes only their framing (`[[forward]]`); the other sends its own requests and shows the values in tables of its own (`[[map]]`). The first shows each device as it is; the second is quick for many readers, converts forms, and knows when a value is stale.",
    ),
    trade(
        &["tag"],
        "A name for a value inside a controller. Most field protocols carry numbers, not names: what is to be read must lie at a numbered place (M45).",
    ),
    trade(
        &["pty", "virtual serial port"],
        "A serial port made of software: one program opens its path as if it were an adapter, another holds the other end. `pty = \"PATH\"` lets a program that only knows serial ports talk to the converter.",
    ),
    trade(
        &["pcapng", "capture"],
        "The file format of packet analysers: traffic with times, to be looked at later or by others.",
    ),
    trade(
        &["NaN", "not a number", "infinity"],
        "Bit patterns of f32 and f64 that are not numbers; many devices send NaN for \"no value\" (7FC0 0000). It fits no whole number: a rule onto an integer counts it as lost.",
    ),
];
