//! The one table of checks: `check`, the documents and JSON all read it.

/// How bad a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, serde::Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// It cannot work.
    Error,
    /// It will likely not do what is meant.
    Warning,
    /// Worth knowing.
    Remark,
}

impl Severity {
    /// In one word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Error => "error",
            Self::Warning => "warning",
            Self::Remark => "remark",
        }
    }
}

/// One check.
#[derive(Debug, PartialEq, Eq)]
pub struct Rule {
    /// Letter and two digits: F for the form of the files, M for mistakes in what they say.
    pub code: &'static str,
    /// What it usually is.
    pub severity: Severity,
    /// What it is about.
    pub title: &'static str,
    /// Why it hurts in the field.
    pub why: &'static str,
    /// What to do, in general.
    pub fix: &'static str,
    /// Which command tells it.
    pub told_by: &'static str,
}

/// The check of that code.
#[must_use]
pub fn rule(code: &str) -> Option<&'static Rule> {
    RULES.iter().find(|rule| rule.code == code)
}

const fn error(code: &'static str, title: &'static str, why: &'static str, fix: &'static str) -> Rule {
    Rule { code, severity: Severity::Error, title, why, fix, told_by: "check" }
}

const fn warning(code: &'static str, title: &'static str, why: &'static str, fix: &'static str) -> Rule {
    Rule { code, severity: Severity::Warning, title, why, fix, told_by: "check" }
}

const fn remark(code: &'static str, title: &'static str, why: &'static str, fix: &'static str) -> Rule {
    Rule { code, severity: Severity::Remark, title, why, fix, told_by: "check" }
}

/// Every check, in the order of the codes.
pub static RULES: &[Rule] = &[
    error(
        "F00",
        "a part that another fault hides",
        "it cannot be checked before the other one is fixed",
        "fix the other fault first",
    ),
    error(
        "F01",
        "the file is not TOML",
        "nothing after the slip can be trusted",
        "fix the line as the message says",
    ),
    error(
        "F02",
        "a key that does not exist",
        "a mistyped key is a setting that silently stays at its default",
        "write one of the keys that exist",
    ),
    error(
        "F03",
        "a value of the wrong kind",
        "the setting cannot be what it says",
        "write a value of the kind that the key takes",
    ),
    error("F04", "a key is missing", "there is no sensible default for it", "add the key"),
    error(
        "F05",
        "a name that does not exist",
        "the reference leads nowhere",
        "write a name that exists, or add what is named",
    ),
    error(
        "F06",
        "a name that cannot be used",
        "names stand before dots and colons in rules and must be one thing",
        "rename it",
    ),
    error("F07", "a profile that cannot be read", "none of the device's points are known", "check the path"),
    error(
        "F08",
        "a form that is not understood",
        "the value's words would be read in an order that was never chosen",
        "write TYPE [ORDER] [scale N] [plus N]",
    ),
    error(
        "F09",
        "a rule that this version does not support",
        "the value never arrives",
        "carry it another way",
    ),
    error(
        "F10",
        "an end of a rule that is not understood",
        "the rule leads nowhere",
        "write DEVICE.POINT, DEVICE:ADDRESS or IMAGE:ADDRESS",
    ),
    error(
        "F11",
        "a port that cannot do this",
        "nothing would ever be asked or answered there",
        "use another port",
    ),
    remark(
        "F12",
        "a value without an address",
        "no client can read it, and the converter does not run with it",
        "run `woodrush map --assign`, and keep the ledger that it writes",
    ),
    error(
        "F13",
        "a ledger that cannot be read",
        "addresses that clients know would be given to other values",
        "settle the conflict, or take the last sound version of the file",
    ),
    error(
        "M01",
        "no such reference number",
        "a digit too few or too many lands in another table or on another register, which answers with something",
        "write six digits, such as 400318, or an offset, such as holding:317",
    ),
    error(
        "M02",
        "areas that overlap, or run past their table",
        "one address would be given to two values, or to none",
        "give each area a range of its own",
    ),
    error(
        "M03",
        "a bare number",
        "offset 37 and reference number 37 are neighbours: the value beside the right one looks plausible",
        "write which of the two it is",
    ),
    error(
        "M04",
        "a client asks for what no rule feeds",
        "its whole request is refused with exception 2, including the good values in it",
        "map the address, or take it out of the client's list",
    ),
    remark(
        "M05",
        "a value that no described client reads or writes",
        "it costs bus time in every cycle or is open to accidents, and perhaps a client's list is one short",
        "add it to a client's `reads`, or drop the rule",
    ),
    warning(
        "M06",
        "counts differ along the path",
        "what is beyond the shorter count is refused or never read",
        "make the counts agree",
    ),
    warning(
        "M07",
        "what a client must see is outside of what it reads",
        "the one value that its alarms depend on never arrives there",
        "add it to the client's `reads`",
    ),
    error(
        "M08",
        "blocks of bytes that the two ends understand otherwise",
        "the connection is refused, or opens and every value behind the difference is read from its neighbour's bytes",
        "make sizes, assemblies, direction and offsets the same at both ends; `woodrush map` shows them as the controller's programmer sees them",
    ),
    error(
        "M09",
        "a number that counts bytes taken for one that counts words",
        "the words of two neighbours are read as one value, or the controller refuses",
        "write the even byte at which the word begins",
    ),
    warning(
        "M10",
        "one value at two addresses, or two values at one",
        "two people build on two addresses, and a later change moves only one of them",
        "keep one; or say in a `note` why both are wanted",
    ),
    error(
        "M11",
        "a promised point that no rule carries",
        "it is found missing on site, by the one who needs it",
        "add a rule for it",
    ),
    warning(
        "M12",
        "repeated addresses that reach into each other",
        "one device's or point's values are read as its neighbour's",
        "let each repetition step by as many addresses as it has",
    ),
    remark(
        "M13",
        "a file carried but for its last elements",
        "files begin at 0: 250 of 256 is the whole file with a few missing, which is noticed only when they matter",
        "carry them too, or say in a `note` why not",
    ),
    error(
        "M14",
        "octal and decimal taken for each other",
        "from 10 on every input and output is another one",
        "write words and bits as the controller counts them, and say which in `io-addresses`",
    ),
    warning(
        "M15",
        "a write where the controller's own program writes",
        "the program overwrites outputs in every scan, and inputs come from the field: the write is lost, or a machine moves",
        "write a marker or a data block that the program reads",
    ),
    error(
        "M16",
        "more in one request than the device takes",
        "the device answers with an exception, or stores half of the value",
        "take a narrower form, or a device that takes more",
    ),
    error(
        "M17",
        "two rules feed one cell, or a range runs past the end of its table",
        "of two rules, which value is shown depends on who was polled last; past the end, the whole request is refused",
        "move one of them",
    ),
    error(
        "M18",
        "line settings missing, or different on one line",
        "only devices with the line's own settings are understood; the others do not answer",
        "give the port and all its devices one setting",
    ),
    error(
        "M19",
        "the device's line settings are not the port's",
        "parity and speed differ: no answer, or damaged bytes now and then, which is worse",
        "set the device's switches to the port's line, and write its `line`; or change the port's",
    ),
    error("M20", "a speed that no device has", "the line stays dead", "write a speed that the devices have"),
    error(
        "M21",
        "a frame gap that does not suit the line",
        "shorter than 3.5 characters, devices take two messages for one; much longer, it costs time in every poll",
        "leave `frame-gap` out unless a device needs more",
    ),
    warning(
        "M22",
        "a timeout that does not suit what it waits for",
        "good answers come too late and count as missing, or the client has given up before they come",
        "wait longer than the longest answer, and let clients wait longer than that",
    ),
    warning(
        "M23",
        "polling or writing more than is needed",
        "it takes bus time from everything else, and some devices wear out when they are written",
        "poll and send as often as the value is needed",
    ),
    error(
        "M24",
        "two masters on one line, or too many devices on a point-to-point wire",
        "their requests collide, and both see damaged answers",
        "give each its own line",
    ),
    error(
        "M25",
        "a unit twice on one line, or one that does not exist",
        "two devices answer at once and damage each other's bytes",
        "give each device its own unit, 1 to 247 on a serial line",
    ),
    warning(
        "M26",
        "a unit, port, address or line setting changed since it was handed over",
        "a client or device with the old setting gets no answer, or that of another device",
        "see that everyone has the new one, and close a new issue",
    ),
    error(
        "M27",
        "the TCP port differs at the two ends",
        "the connection is refused, and it looks as if the box were dead",
        "write the same port at both ends",
    ),
    error(
        "M28",
        "the framing differs at the two ends",
        "the connection is made and no request is ever answered",
        "set the same framing at both ends",
    ),
    error(
        "M29",
        "an IP address that cannot work",
        "nothing reaches the other side, or the wrong one answers",
        "write four numbers and a prefix length, all in one subnet or behind a router",
    ),
    error(
        "M31",
        "more than the box takes",
        "what is beyond the limit is refused on site, when everything is wired",
        "take a larger box, or split the project",
    ),
    error(
        "M32",
        "a serial path used twice",
        "two ports would read each other's bytes",
        "give each port its own line, or put the devices on one port",
    ),
    error(
        "M33",
        "a tag that is not what the controller's programmer declared",
        "it is refused, or its bytes are read as another number",
        "correct the name, type, index or access, or have the declaration changed",
    ),
    error(
        "M34",
        "a block or file is missing or too short, or a TSAP is missing",
        "the controller refuses every request there, or the connection itself",
        "agree block, length and both ends' names with the controller's programmer",
    ),
    error(
        "M35",
        "registers and type do not agree",
        "the reader gets half a value, or its words the wrong way round: plausible garbage",
        "write the form with its order, such as `as f32 CDAB`",
    ),
    warning(
        "M36",
        "the form does not suit the point's range",
        "the value is off by ten, a hundred or a thousand, or jumps at half its range",
        "look at the device's manual: scale, sign and width",
    ),
    warning(
        "M37",
        "values that belong together and cannot be read together",
        "a value and its status come from two moments, and the status of the one is believed for the other",
        "let them lie in one read",
    ),
    Rule {
        told_by: "status, watch and tap",
        ..warning(
            "M38",
            "the running converter does not run this project",
            "what is shown is not what runs",
            "reload the project: `woodrush run --follow`, or send it SIGHUP",
        )
    },
    error(
        "M39",
        "a device of a segment that cannot be found there, or not be told from another",
        "it is missing in the live list whatever else is right, and nothing says why",
        "give it a tag, and a node where the link looks",
    ),
    Rule {
        told_by: "prove",
        ..error(
            "M40",
            "a rule that no test has exercised",
            "what was not proven is found wrong on site",
            "let `prove` exercise it in every direction that it allows",
        )
    },
    Rule {
        told_by: "prove --live",
        ..error(
            "M42",
            "a test value that is there already",
            "a write that does nothing looks like one that arrived",
            "choose another value than the one that is there",
        )
    },
    remark(
        "M43",
        "an open port without a list of who may connect",
        "anyone on the network can read, and write what is writable; another port number protects nothing",
        "add `allow` with the clients' network",
    ),
    error(
        "M45",
        "a name where only numbered memory can be asked for",
        "the messages carry numbers of places; the name is unknown there",
        "have the value copied to a numbered place (a data block, a marker, a file), and write its address",
    ),
    error(
        "M46",
        "rules that feed each other",
        "a value circles forever and cannot be changed",
        "keep one direction, or one rule with `access = \"read-write\"`",
    ),
    error(
        "M47",
        "a rule that writes where nothing can be written",
        "every write of the client is refused by the device",
        "drop `access = \"read-write\"`, or choose a table that can be written",
    ),
    Rule {
        told_by: "prove --live",
        ..warning(
            "M49",
            "a value that did not change during the test",
            "two cells that both stand at the same value agree by chance",
            "change it at the device, or take more samples: `--samples 20`",
        )
    },
    warning(
        "M50",
        "one read of a client spans values of several devices",
        "one lost device blanks them all, because a read is refused whole",
        "split the read, or show a loss with `on-loss = \"hold\"` or `fill` and a health bit beside it",
    ),
    error(
        "M51",
        "the client's form differs from the rule's",
        "the client shows plausible garbage: it reads the right registers in the wrong way",
        "write the same type and order at both ends",
    ),
    warning(
        "M52",
        "two clients write one cell",
        "each overwrites the other, and neither sees why its value does not stay",
        "let one of them write, or name it in `writers`",
    ),
    remark(
        "M53",
        "a value is sent into a device that cannot tell its age",
        "once the source is lost the last value stays there forever, and the device cannot tell",
        "send the source's health beside it",
    ),
    warning(
        "M54",
        "an address one beside a rule",
        "offset and reference number were taken for each other: each value is its neighbour's",
        "move the client's read by one",
    ),
    warning(
        "M55",
        "a poll that the line cannot keep",
        "values come later than promised, unnoticed",
        "poll less often, merge reads, or raise the speed",
    ),
    error(
        "M57",
        "a type that a table cannot hold",
        "the bits would be read as something that they are not",
        "leave the form out at that end, and give the wanted one at the other end",
    ),
    remark(
        "M58",
        "a write that reads first",
        "what the controller's program writes beside it in between is lost",
        "give the converter a word of its own that the program reads",
    ),
    error(
        "M59",
        "an address that was handed over has moved",
        "clients go on reading the old one, and get another value or a refusal",
        "put it back, or close a new issue and tell its clients",
    ),
    error(
        "M60",
        "behind an address that was handed over lies something else",
        "clients go on reading it as before, and take it for what it was",
        "put it back, or close a new issue and tell its clients",
    ),
    error(
        "M61",
        "an address that was handed over is gone",
        "clients go on reading it, and get a refusal",
        "put it back, or close a new issue and tell its clients",
    ),
    error(
        "M62",
        "a scale in a client's list that is not the rule's",
        "the value is wrong by that factor, and looks plausible",
        "write the same scale and offset at both ends",
    ),
    error(
        "M63",
        "a client that takes an address for another value than the rule shows there",
        "one value stands under the name of another, and both look alive",
        "correct the address or the name in the client's list",
    ),
    warning(
        "M64",
        "an address twice in one client's list",
        "it is read twice in every cycle, and a later change is made at one of the two",
        "keep one of the entries",
    ),
    remark(
        "M65",
        "a value that may be far older than its poll before it counts as lost",
        "after a failure the last value stays readable for this long, and looks as live as before",
        "shorten the port's waits, or write `max-age` at the image",
    ),
    remark(
        "M66",
        "a value that is sent on change only",
        "a device that forgets at a restart holds its initial value until the source changes again, which may be never",
        "add `every` to the rule's `send`",
    ),
    remark(
        "M67",
        "a value that can be bad, with nothing beside it that says why",
        "a client that reads it is refused, and cannot tell a failed sensor from a dead device",
        "map its status, or a health item of its device, beside it",
    ),
    error(
        "M68",
        "a `set-up` that cannot bring its block into its automatic mode",
        "everything is written as the file says, and the block still gives no value",
        "correct the parameter that the message names",
    ),
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_are_in_order_and_used_once_and_texts_are_whole() {
        for pair in RULES.windows(2) {
            assert!(pair[0].code < pair[1].code, "{} {}", pair[0].code, pair[1].code);
        }
        for rule in RULES {
            for text in [rule.title, rule.why, rule.fix] {
                assert!(!text.is_empty() && !text.ends_with('.'), "{}: {text}", rule.code);
            }
            assert_eq!(rule.code.len(), 3);
        }
    }
}
