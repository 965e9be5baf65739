//! What controllers with tags call their things.

use crate::term::Term;

const fn term(names: &'static [&'static str], text: &'static str) -> Term {
    Term { kind: "term of tags", names, text }
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
];
