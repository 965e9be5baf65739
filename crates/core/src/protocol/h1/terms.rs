//! What people of an H1 segment call their things.

use super::words::BLOCK_ERRORS;
use super::{UNITS, unit_shown};
use crate::term::Term;
use std::sync::LazyLock;

const fn term(names: &'static [&'static str], text: &'static str) -> Term {
    Term { kind: "term of an H1 segment", names, text }
}

static TERMS: &[Term] = &[
    term(
        &["H1", "segment", "h1-link", "linking device"],
        "A segment of 31.25 kbit/s that also powers its devices, up to 32 of them, 8 to 16 in practice. Getting on it from Ethernet takes a linking device. What stands in for that here, `protocol = \"h1-link\"`, is a small protocol of this product's own over TCP: blocks, parameters, status, modes and schedules are those of the standard, the frames are not, and nothing here proves anything about H1 hardware.",
    ),
    term(
        &["function block", "block", "resource block", "transducer block", "AI block"],
        "What an H1 device is made of: one resource block (the device itself), transducer blocks (sensor, valve) and function blocks: AI and DI give values, AO and DO take them, PID controls. Each has a mode and a list of parameters at consecutive indices. Addresses here: `BLOCK.PARAMETER`, such as `AI1.OUT`; a member of a structure behind it, such as `AI1.OUT.STATUS` or `AI1.OUT_SCALE.EU_100`.",
    ),
    term(
        &["status byte", "value status", "quality", "H1 status 0x80", "H1 status 0xC0"],
        "One byte that stands with each value of an H1 device. Bits 7 and 6: 0 bad, 1 uncertain, 2 good, 3 good in a cascade. Bits 5 to 2 say why, such as 4 sensor failure or 7 out of service. Bits 1 and 0: 1 low limited, 2 high limited, 3 constant. 0x80 is good, 0x10 a sensor failure, 0x1C out of service, 0x83 a value that nothing moves (manual). A bad value may look like any other: here it counts as lost, and `AI1.OUT.STATUS` can be mapped beside it.",
    ),
    term(
        &["uncertain"],
        "A status that is neither good nor bad: an initial value, a sensor beyond its range that still moves. `uncertain = \"keep\"` at the device (the default) shows the value, `\"lose\"` counts it as lost. The status byte beside it says which.",
    ),
    term(
        &["out of service", "OOS"],
        "A mode of a block in which it does not work: its value stands still with status 0x1C. To find out why: read `MODE_BLK`. Target OOS: it was put out of service, write AUTO. Target AUTO and actual OOS: read `BLOCK_ERR`. With \"block configuration error\" one of CHANNEL (0), L_TYPE (uninitialised, or direct with XD_SCALE and OUT_SCALE that differ), a scale without span, or a unit that the channel does not have is the cause. Without it the resource block is out of service, or the block is in no schedule. `woodrush set-up DEVICE --dry-run` reads all of that and says which it is.",
    ),
    term(
        &["mode", "MODE_BLK", "target mode", "actual mode"],
        "What a block does. OOS: nothing. MAN: the value is what was written last. AUTO: it works. CAS: its set point comes from another block. IMAN: the block behind it does not take its value. Four members: TARGET is what is wanted and the only one that is written, ACTUAL what the block is in, PERMITTED what may be wanted, NORMAL what it is meant to be. Actual that is not target is the first thing to look at.",
    ),
    term(
        &["ST_REV", "static revision"],
        "A number in each block that goes up with every change of a parameter that is kept. A tool that writes says which it has seen; when another tool changed the block meanwhile, the write is refused, and it must be read again.",
    ),
    term(
        &["WRITE_LOCK", "write lock", "GRANT_DENY"],
        "What keeps a block from being written besides its mode. `WRITE_LOCK` of the resource block (2 is locked), or a switch on the device, locks all of it. `GRANT_DENY.DENY` of one block denies a part of it to others: program (modes, set points, outputs), tune (what is set up), alarm (limits and priorities). The host that took the block gives it back, or writes 0 there. The refusal is the same for both and for a wrong mode; `woodrush set-up DEVICE --dry-run` reads them and says which it is.",
    ),
    term(
        &["live list"],
        "The nodes of a segment that answer. 0x10 upwards is polled for link masters and devices; 0xF8 to 0xFB are devices without an address of their own, which are seen and do not work; 0xFC to 0xFF are visitors. `woodrush scan` of such a port shows it.",
    ),
    term(
        &["unpolled range", "unpolled", "FUN", "NUN"],
        "Node addresses that the link active scheduler never looks at, to find new devices sooner and turn faster: first unpolled node and how many. A device with an address in it is invisible, whatever else is right. It is the first thing to check when one is missing.",
    ),
    term(
        &["LAS", "link active scheduler", "link master"],
        "The device that runs the segment: it says which node may send when, and looks for new nodes. A link master can take over; the one with the lowest address does. Without one nothing is published, and every value goes stale.",
    ),
    term(
        &["macrocycle", "publication", "published"],
        "The turn of a segment: in each, every block that is scheduled runs once and publishes its value. A subscriber gets it without asking, so it costs nothing: `poll = \"published\"`. One publication takes 20 to 30 ms of the segment; at least half of the macrocycle is left to reads, writes and alarms.",
    ),
    term(
        &["acyclic read", "acyclic"],
        "A read or write outside the schedule, in what the macrocycle leaves: 50 to 100 ms each. A gateway that reads twenty parameters a second starves the segment. Here a link asks 5 times a second at most unless `requests-per-second` at the port says otherwise, whatever the rules ask.",
    ),
    term(
        &["PD tag", "tag of a device", "device id", "device-id"],
        "What an H1 device is known by: its tag is given by people and is what a project goes by; its device id is its maker's and never changes; its node address is given by the link and may move. A device with the right tag and another device id has been replaced: its values are shown, and nothing is written to it until the project says that it is meant.",
    ),
    term(
        &["L_TYPE", "linearisation"],
        "How an AI block makes its value of what the transducer measures. direct: the same number, and both scales must agree. indirect: XD_SCALE is mapped onto OUT_SCALE. indirect square root: the same with the root of the percentage, for differential pressure as flow. uninitialised keeps the block out of service.",
    ),
    term(
        &["CHANNEL"],
        "Which value of the transducer a block works on. 0 is none, and keeps the block out of service. The unit of XD_SCALE must be one that the channel has.",
    ),
];

/// All of them: those whose words are lists are made of the lists.
pub(super) fn terms() -> &'static [Term] {
    static ALL: LazyLock<Vec<Term>> = LazyLock::new(|| {
        let mut all = TERMS.to_vec();
        all.extend([errors(), units()]);
        all
    });
    &ALL
}

fn errors() -> Term {
    let bits =
        BLOCK_ERRORS.iter().enumerate().map(|(bit, words)| format!("{bit} {words} (0x{:04X})", 1u32 << bit));
    let text = format!(
        "Sixteen bits that say what is wrong with a block: {}. 0x8002 is out of service because of its configuration.",
        bits.collect::<Vec<_>>().join(", ")
    );
    term(&["BLOCK_ERR", "block error", "block configuration error", "BLOCK_ERR 0x8002"], text.leak())
}

fn units() -> Term {
    let names = UNITS.iter().flat_map(|(code, name)| [format!("unit {code}"), format!("unit {name}")]);
    let fixed = ["unit code".to_string(), "UNITS_INDEX".to_string()];
    let names: Vec<&'static str> = fixed.into_iter().chain(names).map(|name| &*name.leak()).collect();
    let codes: Vec<String> = UNITS.iter().map(|(code, _)| format!("{code} {}", unit_shown(*code))).collect();
    let text = format!(
        "Engineering units are numbers in an H1 device; in this product they are written as people write them. A code that is not listed is shown as its number, and nothing is converted in silence: {}.",
        codes.join(", ")
    );
    term(names.leak(), text.leak())
}
