//! What controllers with tags call their things.

use crate::term::Term;

const fn term(names: &'static [&'static str], text: &'static str) -> Term {
    Term { kind: "term of tags", names, text }
}

const fn cyclic(names: &'static [&'static str], text: &'static str) -> Term {
    Term { kind: "term of bytes in cycles", names, text }
}

pub(super) static TERMS: &[Term] = &[
    term(
        &["tag path", "tags", "controller tag", "symbol"],
        "A named piece of a controller's memory, with a type that its programmer has declared: `Hall.Temps[4]`, `Program:Feed.Oxygen`. Parts are joined by dots, indices count from 0, capitals do not count. The type stands behind it: `press:Hall.Temps[4] as f32`, and the controller says the same, or the value is lost. A tag is asked for only if its external access allows it.",
    ),
    term(
        &["EtherNet/IP", "ethernet-ip", "CIP", "explicit message"],
        "How controllers with tags are asked over TCP port 44818: a session is registered, then CIP messages go as unconnected ones or over a connection that is opened first. A message names a tag or an object by its path and a service, and is answered by a general status: 0 is good.",
    ),
    term(
        &["slot", "route", "backplane"],
        "Where a controller stands in a rack, its address is often that of a module beside it, and messages go on from there: out of port 1, the backplane, to its slot. `slot = 0`, or the same as `route = \"1,0\"`. Without them the address is the controller's own. A wrong one is refused as a route, or answered by a module that has no tags.",
    ),
    term(
        &["connected", "unconnected", "class 3", "forward open", "connection size"],
        "A connection (class 3, opened by Forward Open) carries messages of up to 4000 bytes where the controller takes a large one, else of 502; a message without one about 500. Woodrush opens the largest that is taken. Controllers have few connections; `connected = false` does without.",
    ),
    term(
        &["general status", "CIP status", "additional status"],
        "The byte by which a CIP service is answered: 0 is good, 5 path destination unknown, 0x0F privilege violation. Status 1 and 0xFF carry a word that says more: 0xFF/0x2107 is a type that the tag does not have. `woodrush explain \"CIP status 0x05\"` says what is likely.",
    ),
    term(
        &["multiple service packet", "several services in one message"],
        "Several requests in one message, each answered by a status of its own. Woodrush asks for as many tags at once as the connection's messages carry, at most 64.",
    ),
    term(
        &["packed bits", "BOOL array", "packed array"],
        "An array of BOOL lies in words of 32 bits: `Alarms[40]` is bit 8 of word 1. A read brings whole words; a write changes the wanted bits of a word and leaves the others.",
    ),
    term(
        &["program scope", "program tag"],
        "A tag that belongs to one program of the controller: `Program:Feed.Oxygen`.",
    ),
    term(
        &["external access"],
        "What a controller's programmer allows others with a tag: read and write, read only, or nothing. A write that it does not allow is refused as a privilege violation.",
    ),
    cyclic(
        &["bytes in cycles", "I/O connection", "class 1", "implicit message", "adapter", "scanner"],
        "A controller opens a connection to a device, and from then on each end sends its own block of bytes every few milliseconds by UDP (port 2222), asked or not. Woodrush is the device where an image has `inputs` or `outputs` (the trade says adapter), and the controller's end where a device has them (scanner). Nothing is answered: a frame that is lost is replaced by the next, and too many missing ones end the connection.",
    ),
    cyclic(
        &["inputs and outputs", "%I", "%Q", "T->O", "O->T"],
        "Always named from the controller's side, whichever end we are: inputs (`%I`, T->O) go to the controller, outputs (`%Q`, O->T) come from it. What an image's rules feed are inputs; what they begin with are outputs. Of a device that we open the converter is the controller: it reads its inputs and writes its outputs.",
    ),
    cyclic(
        &["assembly", "connection point", "heartbeat"],
        "A block of bytes of a device, by its number: one for the inputs, one for the outputs, one for the configuration that comes with the opening. A connection that only reads names a heartbeat in place of the outputs, a number that carries no bytes.",
    ),
    cyclic(
        &["RPI", "requested packet interval", "packet interval"],
        "How often each end of such a connection sends, in microseconds in the request to open it; `period` here. An image refuses a shorter one than its own `period` with 0x01/0x0112, and says which it takes.",
    ),
    cyclic(
        &["multiplier", "watchdog", "timeout multiplier"],
        "A connection on which nothing has come for the period times the multiplier (4, 8, 16 to 512) is lost: with 10 ms and 4 after 40 ms. What the controller wrote then counts as lost, and `on-loss` says what devices are sent. A frame that is not the connection's own, or older than the last one, does not feed the watchdog.",
    ),
    cyclic(
        &["run/idle", "run/idle header"],
        "A word of four bytes before what a controller sends: bit 0 says that its program runs. Without it (program mode) its outputs mean nothing, and count as lost. The header is no part of the block: a controller that counts it writes four bytes more, and is refused.",
    ),
    cyclic(
        &["owner", "exclusive owner", "input only", "listen only"],
        "One connection writes a block of outputs, its owner; a second one is refused with 0x01/0x0106. Others may open the inputs only, by the heartbeat of `input-only`, or listen along while another one has opened them, by that of `listen-only`: without such a one they are refused with 0x01/0x0119.",
    ),
    cyclic(
        &["electronic key", "keying"],
        "What a controller expects the device to be: vendor, device type, product code, revision, each of which may be left open. A device that is another one refuses with 0x01/0x0114 to 0x0116. What the converter is stands in `[ports.NAME.identity]` and in the EDS file that `woodrush map --eds` writes.",
    ),
    cyclic(
        &["EDS", "electronic data sheet"],
        "The text file by which a controller's engineering tool knows a device: identity, assemblies with their sizes, connections. `woodrush map --eds FILE` writes it from the table that the converter runs on.",
    ),
    cyclic(
        &["ListIdentity", "list identity"],
        "A question to all at once, by UDP port 44818: every device answers with its address, what it is, and its state. `woodrush scan PORT` asks it of a network.",
    ),
];
