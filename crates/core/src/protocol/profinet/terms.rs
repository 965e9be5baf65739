//! What people of IO devices and their controllers call things.

use crate::term::Term;

const fn term(names: &'static [&'static str], text: &'static str) -> Term {
    Term { kind: "term of PROFINET", names, text }
}

pub(super) static TERMS: &[Term] = &[
    term(
        &["PROFINET", "PROFINET IO", "IO device", "IO controller"],
        "An IO controller exchanges slots of bytes with IO devices in cycles of 1 to 512 ms, in Ethernet frames without IP (EtherType 0x8892, priority 6). It finds a device by its name of station, gives it an address, opens a connection over UDP port 34964, and from then on both send a frame each cycle. Woodrush is an IO device of real-time class 1: experimental, without a certificate, and no cycle below 8 ms is promised by a program.",
    ),
    term(
        &["name of station", "station name", "station-name"],
        "By what a controller finds an IO device, before it has an address: small letters, digits and hyphens, with dots between parts, such as `raceway-box`. `Pump7`, `pump_7`, `-a`, `1.2.3.4` and `port-001` are none. A new device has no name; `woodrush readdress --ethernet eth1 MAC --name raceway-box` gives it one. Two stations of one name stop the controller from connecting to either.",
    ),
    term(
        &["DCP", "identify", "discovery"],
        "How stations are found and named without addresses: a request goes to all, each answers with name, address and identity. Get and set go to one by its MAC address. `woodrush scan --ethernet eth1` asks all.",
    ),
    term(
        &["IOPS", "provider status", "provider"],
        "The byte behind the data of each submodule in a frame: 0x80 says that the one who sends them calls them good, all else that they are bad and who says so. It is no part of the data: 8 bytes in stay 8 bytes at the controller. A lost value turns it bad for all of its submodule, unless its rule holds or fills it.",
    ),
    term(
        &["IOCS", "consumer status", "consumer"],
        "The byte by which the one who takes the data of a submodule says, in its own frames, that it takes them: 0x80 good. A controller whose device answers bad there writes into nothing.",
    ),
    term(
        &["submodule", "module ident", "subslot", "expected submodule"],
        "A device is made of slots with modules, and each module of submodules that have the data. The controller says at the opening which it expects, by ident; what is plugged otherwise is told back (module difference) and exchanges nothing. Woodrush's idents follow from the bytes, so that file and device cannot differ.",
    ),
    term(
        &["data status", "provider state", "data valid"],
        "The byte behind all data of a frame: 0x35 runs, 0x25 the controller stands in stop, 0x15 the device has a problem. Without bit 2 (data valid) a frame is as good as none. Stop, a bad slot, invalid data and the watchdog are told apart in `woodrush status` and mean the same for rules: what came is lost.",
    ),
    term(
        &["AR", "application relation", "CR"],
        "A connection between one controller and one device: a direction of frames each way and an alarm channel. Woodrush has one; a second controller is refused with DB 81 40 04, and when the same one opens again, its old connection ends.",
    ),
    term(
        &["reduction ratio", "send clock", "watchdog factor"],
        "A cycle is the send clock (1 ms) times a power of two up to 512. The watchdog factor counts cycles without a frame until the connection is lost, at most 1.92 s in all.",
    ),
    term(
        &["GSDML"],
        "The file in XML by which an engineering system knows an IO device: its slots, modules and idents. `woodrush map --gsdml FILE` writes it out of the same table that the converter runs on.",
    ),
];
