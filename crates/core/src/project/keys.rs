//! The one table of keys: it drives the reader, the suggestions and the help.

use super::fault_kinds::FAULTS;
use crate::protocol::{Content, DIALECTS, Key, KeyKind, key};

const NOTE: Key = Key { table: "*", name: "note", kind: KeyKind::Text, doc: "a remark for people" };

/// What stands in place of an interval where values come by themselves.
pub(super) const PUBLISHED: &str = "published";
const ACCESS: KeyKind = KeyKind::Choice(&["read-only", "read-write"]);
const WRITE_ONE: KeyKind = KeyKind::Choice(&["multiple", "single"]);

/// Keys that had another name: the table, the old name, and what to write now.
const RENAMED: &[(&str, &str, &str)] = &[
    ("limits", "points", "values"),
    ("ports", "silence", "frame-gap"),
    ("devices", "join", "read-gap"),
    ("devices", "needs", "must-map"),
    ("clients", "needs", "must-read"),
    ("map", "confirm", "answer"),
    ("map", "group", "together"),
    ("points", "danger", "guarded"),
];

/// What a key of this table is called now, if it had another name.
pub(crate) fn renamed(table: &str, name: &str) -> Option<&'static str> {
    let found = RENAMED.iter().find(|(of, old, _)| (*of, *old) == (table, name));
    found.map(|(.., new)| *new)
}

/// Every key that belongs to no dialect, by the table that it stands in.
pub static KEYS: &[Key] = &[
    key("file", "project", KeyKind::Own(Content::Table("project")), "what this is"),
    key("file", "converter", KeyKind::Own(Content::Table("converter")), "the box itself"),
    key("file", "ports", KeyKind::Own(Content::Tables("ports")), "where wires meet the converter"),
    key("file", "devices", KeyKind::Own(Content::Tables("devices")), "what the converter asks"),
    key("file", "images", KeyKind::Own(Content::Tables("images")), "what the converter shows"),
    key("file", "areas", KeyKind::Own(Content::Tables("areas")), "addresses that are given out"),
    key("file", "map", KeyKind::Own(Content::List("map")), "the rules"),
    key("file", "forward", KeyKind::Own(Content::List("forward")), "whole requests passed from port to port"),
    key("file", "clients", KeyKind::Own(Content::Tables("clients")), "the clients that ask the converter"),
    key("file", "rig", KeyKind::Own(Content::Table("rig")), "the rig: simulated devices"),
    key("project", "name", KeyKind::Text, "the site's name"),
    key("project", "format", KeyKind::Whole(1, 1), "the version of this file's format, 1"),
    key("converter", "address", KeyKind::Text, "its IPv4 address with prefix length; used by the checks"),
    key("converter", "router", KeyKind::Text, "the router of its subnet"),
    key("converter", "write-log", KeyKind::Text, "a CSV file that gets a row for every write of a client"),
    key(
        "converter",
        "write-log-mb",
        KeyKind::Whole(1, 100_000),
        "megabytes of one write log; a longer one is put aside; default 100",
    ),
    key(
        "converter",
        "write-log-files",
        KeyKind::Whole(1, 1000),
        "write logs that are kept, the one that grows among them; default 10",
    ),
    key(
        "converter",
        "limits",
        KeyKind::Own(Content::Table("limits")),
        "what the box takes; the checks hold the project against it",
    ),
    key("limits", "clients", KeyKind::Whole(1, 65_535), "connections at once, over all ports"),
    key("limits", "devices-per-line", KeyKind::Whole(1, 65_535), "devices on one serial line"),
    key("limits", "lines", KeyKind::Whole(0, 65_535), "serial lines"),
    key("limits", "values", KeyKind::Whole(1, 10_000_000), "values in all rules"),
    key("ports", "serial", KeyKind::Text, "path of a serial line"),
    key("ports", "line", KeyKind::Text, "BAUD DATA PARITY STOP of a serial line, such as `38400 8E1`"),
    key(
        "ports",
        "wiring",
        KeyKind::Choice(&["rs232", "rs485", "rs485-4w", "rs422"]),
        "how a serial line is wired",
    ),
    key("ports", "echo", KeyKind::Switch, "`true`: the adapter gives back what we send; it is taken out"),
    key("ports", "listen", KeyKind::Text, "HOST:PORT of a listening TCP socket"),
    key("ports", "connect", KeyKind::Text, "HOST:PORT that is dialled"),
    key("ports", "pty", KeyKind::Text, "path of a virtual serial port that is made"),
    key(
        "ports",
        "network",
        KeyKind::Text,
        "our IPv4 address of a network, with all sockets of the protocol: for exchanges in cycles",
    ),
    key(
        "ports",
        "ethernet",
        KeyKind::Text,
        "an Ethernet interface on which frames go without the machine's IP: for exchanges in cycles",
    ),
    key("ports", "protocol", KeyKind::Text, "what is used there"),
    key("ports", "frame-gap", KeyKind::Duration, "least pause between messages; default the protocol's own"),
    key(
        "ports",
        "timeout",
        KeyKind::Duration,
        "wait for an answer; on a line where others ask, how long they wait for ours; default 1s",
    ),
    key("ports", "retries", KeyKind::Whole(0, 100), "retries of one request; default 0"),
    key("ports", "turnaround", KeyKind::Duration, "wait after a broadcast; default 100ms"),
    key("ports", "max-clients", KeyKind::Whole(1, 4096), "connections at once; default 24"),
    key(
        "ports",
        "max-clients-per-address",
        KeyKind::Whole(1, 4096),
        "connections from one address while the port is full; default half of `max-clients`",
    ),
    key("ports", "allow", KeyKind::Texts, "networks or addresses that may connect; absent means all"),
    key("ports", "idle-timeout", KeyKind::Duration, "a connection idle for this long is closed; default 60s"),
    key("devices", "port", KeyKind::Text, "the port it hangs on"),
    key(
        "devices",
        "write-port",
        KeyKind::Text,
        "another port for writes, for controllers that keep one connection for each",
    ),
    key("devices", "connect", KeyKind::Text, "instead of `port`: HOST:PORT of a connection of its own"),
    key("devices", "serial", KeyKind::Text, "instead of `port`: path of a line of its own"),
    key("devices", "protocol", KeyKind::Text, "with `connect` or `serial`: what is used there"),
    key(
        "devices",
        "shift",
        KeyKind::Own(Content::Expression),
        "added to every address of its profile; may be an expression of n",
    ),
    key("devices", "repeat", KeyKind::Text, "`1-47`: as many devices, NAME-1 to NAME-47"),
    key("devices", "profile", KeyKind::Text, "path of its profile, from the project file"),
    key(
        "devices",
        "tags",
        KeyKind::Text,
        "path of the list of what a controller's programmer has declared: name, type, elements, access",
    ),
    key(
        "devices",
        "line",
        KeyKind::Text,
        "what the device itself is set to; default the profile's as-shipped setting",
    ),
    key("devices", "must-map", KeyKind::Texts, "points that a rule must map"),
    key(
        "devices",
        "poll",
        KeyKind::DurationOr(PUBLISHED),
        "how often it is asked; default 1s. `published`: its values come by themselves",
    ),
    key(
        "devices",
        "max-read",
        KeyKind::Whole(1, 65_535),
        "most registers, or bytes of other protocols, in one read; default the profile's",
    ),
    key(
        "devices",
        "max-write",
        KeyKind::Whole(1, 65_535),
        "most registers, or bytes of other protocols, in one write; default the profile's",
    ),
    key(
        "devices",
        "read-gap",
        KeyKind::Whole(0, 65_535),
        "unused registers that may be read to merge two requests; default 0",
    ),
    key(
        "devices",
        "lost-after",
        KeyKind::Whole(1, 1000),
        "failed polls in a row before it counts as lost; default 3",
    ),
    key(
        "devices",
        "retry-lost",
        KeyKind::Text,
        "how often a lost device is tried; default `1s..30s`, doubling",
    ),
    key(
        "devices",
        "tables",
        KeyKind::Own(Content::Numbers),
        "sizes of its tables, if known: `{ holding = 400 }`",
    ),
    key(
        "devices",
        "set-up",
        KeyKind::Own(Content::Values),
        "what its parameters shall be, in this order; only `woodrush set-up` writes them",
    ),
    key("images", "port", KeyKind::Text, "where it answers"),
    key(
        "images",
        "on-loss",
        KeyKind::Text,
        "what a reader gets once a source is lost: `refuse` (default), `hold` or `fill 0x8000`",
    ),
    key(
        "images",
        "writers",
        KeyKind::Texts,
        "networks or addresses that may write; default all who may connect",
    ),
    key("images", "max-age", KeyKind::Duration, "a value older than this counts as lost"),
    key(
        "images",
        "unmapped",
        KeyKind::Choice(&["refuse", "zero"]),
        "an address that no rule feeds; default `refuse`",
    ),
    key(
        "map",
        "from",
        KeyKind::Text,
        "the source: DEVICE.POINT, DEVICE:ADDRESS, IMAGE:ADDRESS or a health item",
    ),
    key("map", "to", KeyKind::Text, "the target: IMAGE:ADDRESS, DEVICE.POINT or DEVICE:ADDRESS"),
    key("map", "count", KeyKind::Whole(1, 65_536), "values of the form in a row; default 1"),
    key("map", "name", KeyKind::Text, "a name for messages and reports"),
    key("map", "enabled", KeyKind::Switch, "`false` keeps the rule in the file and out of work"),
    key(
        "map",
        "access",
        ACCESS,
        "`read-write`: a write on the `to` side goes back to `from`; default `read-only`",
    ),
    key("map", "poll", KeyKind::DurationOr(PUBLISHED), "overrides the device's"),
    key(
        "map",
        "answer",
        KeyKind::Choice(&["after-device", "at-once"]),
        "when a client's write is answered: once the device has confirmed it (default), or at once",
    ),
    key(
        "map",
        "send",
        KeyKind::Own(Content::OneOrMore),
        "when a device is written: `on-write`, `on-change`, `every 10s`, or a list of them",
    ),
    key("map", "together", KeyKind::Text, "rules with the same word here come from one request"),
    key("map", "repeat", KeyKind::Text, "`1-47`: as many rules; `{…}` in its texts is an expression of n"),
    key(
        "map",
        "on-loss",
        KeyKind::Text,
        "overrides the image's; towards a device `stop` (default), `hold` or `fill V`",
    ),
    key(
        "map",
        "overflow",
        KeyKind::Choice(&["refuse", "clamp"]),
        "a value that does not fit; default `refuse`",
    ),
    key("areas", "image", KeyKind::Text, "the image whose addresses they are"),
    key("areas", "range", KeyKind::Text, "the first and the last address, such as `300001-300999`"),
    key("forward", "from", KeyKind::Text, "a port on which others ask"),
    key("forward", "units", KeyKind::Text, "the units that are forwarded, such as `10-20`"),
    key("forward", "to", KeyKind::Text, "a port on which we ask"),
    key("forward", "as-units", KeyKind::Text, "what they are there, such as `1-11`; default the same"),
    key("forward", "functions", KeyKind::Own(Content::Wholes), "function codes that may pass; default all"),
    key("forward", "writes-first", KeyKind::Switch, "writes go before reads that wait; default false"),
    key("clients", "image", KeyKind::Text, "the image that it asks"),
    key("clients", "port", KeyKind::Text, "instead of `image`: the port that it asks through a forward"),
    key(
        "clients",
        "units",
        KeyKind::Own(Content::TextOrNames),
        "with `port`: the units that it asks there, or whom it means behind each: `{ 31 = \"blower-1\" }`",
    ),
    key("clients", "unit", KeyKind::Whole(0, 255), "with `image`: the unit that it asks"),
    key(
        "clients",
        "lost",
        KeyKind::Text,
        "what it expects of a lost value: `refused`, `held`, or a word such as `0x8000`",
    ),
    key("clients", "line", KeyKind::Text, "line settings of a serial client"),
    key("clients", "address", KeyKind::Text, "its own IPv4 address"),
    key("clients", "dials", KeyKind::Text, "host and port set at the client"),
    key("clients", "protocol", KeyKind::Text, "the framing set at the client"),
    key("clients", "list", KeyKind::Text, "the table that its programmer has typed in: a CSV file"),
    key(
        "clients",
        "notation",
        KeyKind::Choice(&["six-digit", "five-digit", "offset", "hex"]),
        "how that table writes addresses; default six-digit",
    ),
    key(
        "clients",
        "columns",
        KeyKind::Own(Content::Table("columns")),
        "what its columns hold, where their heads are not understood",
    ),
    key("columns", "address", KeyKind::Text, "the head over the addresses"),
    key("columns", "name", KeyKind::Text, "the head over names"),
    key("columns", "type", KeyKind::Text, "the head over types"),
    key("columns", "order", KeyKind::Text, "the head over word orders"),
    key("columns", "factor", KeyKind::Text, "the head over scales"),
    key("columns", "offset", KeyKind::Text, "the head over what is added behind the scale"),
    key("columns", "unit", KeyKind::Text, "the head over engineering units"),
    key("columns", "access", KeyKind::Text, "the head over read or write"),
    key("columns", "interval", KeyKind::Text, "the head over intervals"),
    key("columns", "source", KeyKind::Text, "the head over what each value is taken for"),
    key("columns", "table", KeyKind::Text, "the head over the table of bare numbers"),
    key("clients", "reads", KeyKind::Texts, "what it reads: `400001 as f32 ABCD x4 every 250ms`"),
    key("clients", "writes", KeyKind::Texts, "what it writes"),
    key("clients", "must-read", KeyKind::Texts, "endpoints that it must be able to read"),
    key("clients", "max-read", KeyKind::Whole(1, 65_535), "registers in one of its requests"),
    key("clients", "timeout", KeyKind::Duration, "after which it gives up"),
    key("rig", "seed", KeyKind::Whole(0, i64::MAX), "makes a run repeatable"),
    key("rig", "devices", KeyKind::Own(Content::Signals), "what simulated devices do"),
    key("rig", "clients", KeyKind::Own(Content::Signals), "what simulated controllers send in cycles"),
    key("rig", "faults", KeyKind::Own(Content::List("faults")), "what goes wrong when"),
    key("faults", "at", KeyKind::Duration, "when it begins"),
    key("faults", "for", KeyKind::Duration, "how long it lasts; absent means until `rig mend`"),
    key("profile-file", "profile", KeyKind::Own(Content::Table("profile")), "what kind of device"),
    key("profile-file", "points", KeyKind::Own(Content::Tables("points")), "its values"),
    key(
        "profile-file",
        "blocks",
        KeyKind::Own(Content::Tables("blocks")),
        "the blocks that it is made of, with the names that stand in addresses",
    ),
    key("profile", "manufacturer", KeyKind::Whole(0, 0xFFFF_FFFF), "its maker's number"),
    key("profile", "name", KeyKind::Text, "what it is, in words"),
    key("profile", "line", KeyKind::Text, "line settings as shipped"),
    key("profile", "unit", KeyKind::Whole(0, 255), "station as shipped"),
    key("profile", "max-read", KeyKind::Whole(1, 65_535), "most registers in one read"),
    key("profile", "max-write", KeyKind::Whole(1, 65_535), "most registers in one write"),
    key("profile", "write-one", WRITE_ONE, "what one register or coil is written with"),
    key("profile", "tables", KeyKind::Own(Content::Numbers), "sizes of its tables, if known"),
    key("points", "at", KeyKind::Text, "its address"),
    key("points", "as", KeyKind::Text, "its form: TYPE [ORDER] [scale N] [plus N]"),
    key("points", "eu", KeyKind::Text, "engineering unit"),
    key(
        "points",
        "invalid",
        KeyKind::Own(Content::Wholes),
        "raw words that mean \"no value\", such as `[0x8000]`; they count as lost",
    ),
    key(
        "points",
        "example",
        KeyKind::Text,
        "the maker's own example: raw words and their value, `0B54 = 29.00`",
    ),
    key(
        "points",
        "repeat",
        KeyKind::Whole(1, super::caps::REPEATS as i64),
        "this many points, NAME-1, NAME-2, …",
    ),
    key(
        "points",
        "stride",
        KeyKind::Whole(1, 65_535),
        "addresses from one of them to the next; default its width",
    ),
    key("points", "range", KeyKind::Own(Content::Range), "least and greatest engineering value"),
    key(
        "points",
        "role",
        KeyKind::Choice(&["unit-address", "line-speed", "line-parity", "unlock", "apply"]),
        "what it is for `readdress`",
    ),
    key(
        "points",
        "values",
        KeyKind::Own(Content::Numbers),
        "how its values are coded: `{ 9600 = 0, 38400 = 3 }`",
    ),
    key("points", "guarded", KeyKind::Switch, "`true`: no test ever writes it on a real device"),
    key("points", "access", ACCESS, "whether it may be written; default `read-only`"),
];

/// Every key that belongs to no dialect, those of the rig's faults included.
pub fn all_keys() -> impl Iterator<Item = &'static Key> {
    KEYS.iter().chain(FAULTS.iter().map(|kind| &kind.key))
}

/// The keys of a table, those of all dialects and `note` included.
pub fn keys_of(table: &str) -> impl Iterator<Item = &'static Key> {
    let own = all_keys().filter(move |key| key.table == table);
    let dialects = DIALECTS.iter().flat_map(|dialect| dialect.keys()).filter(move |key| key.table == table);
    own.chain(dialects).chain([&NOTE])
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The user's page tells every key; one that is built and not told is a key that nobody finds.
    #[test]
    fn the_page_for_users_tells_every_key() {
        let page = include_str!("../../../../docs/project-file.md");
        for table in [
            "project",
            "converter",
            "ports",
            "devices",
            "images",
            "areas",
            "map",
            "forward",
            "limits",
            "clients",
            "columns",
            "rig",
            "faults",
            "profile",
            "points",
            "blocks",
            "parameters",
        ] {
            for key in keys_of(table) {
                let told = [
                    format!("`{}`", key.name),
                    format!("\n{} ", key.name),
                    format!("`{} =", key.name),
                    format!("[{}", key.name),
                    format!(".{}]", key.name),
                ];
                assert!(told.iter().any(|form| page.contains(form)), "{table}.{} is not told", key.name);
            }
        }
    }

    #[test]
    fn a_key_that_was_renamed_is_a_key_no_more_and_its_new_name_is_one() {
        for (table, old, new) in RENAMED {
            assert!(keys_of(table).all(|key| key.name != *old), "{table}.{old}");
            assert!(keys_of(table).any(|key| key.name == *new), "{table}.{new}");
        }
    }

    #[test]
    fn every_key_is_told_once() {
        for (at, key) in KEYS.iter().enumerate() {
            assert!(
                !KEYS[at + 1..].iter().any(|k| (k.table, k.name) == (key.table, key.name)),
                "{}",
                key.name
            );
            assert!(!key.doc.is_empty() && !key.doc.ends_with('.'), "{}", key.name);
        }
        assert!(keys_of("devices").any(|key| key.name == "unit"), "dialects add theirs");
    }
}
