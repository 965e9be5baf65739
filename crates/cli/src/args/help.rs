//! What `--help` says beside each option: commands in the order of work, examples, exit statuses, environment.

use super::Args;
use clap::builder::PossibleValuesParser;
use clap::{Command, CommandFactory};
use woodrush_core::protocol::{DIALECTS, Transport, usual_protocol};

/// The heading of what every command takes.
pub(super) const GLOBAL: &str = "Global options";

/// The commands in the order of work.
const GROUPS: &[(&str, &[&str])] = &[
    ("Describe", &["new", "import", "addr", "schema"]),
    ("Check on paper", &["check", "map", "trace", "budget", "handover", "compare"]),
    ("Simulate and prove", &["rig", "prove", "demo"]),
    ("Run and look on", &["run", "status", "watch", "tap"]),
    ("On site", &["scan", "read", "write", "decode", "readdress", "set-up"]),
    ("Reference", &["explain", "completions", "man"]),
];

const TEMPLATE_HEAD: &str = "{about-with-newline}\n{usage-heading} {usage}\n";
const TEMPLATE_TAIL: &str = "\nOptions:\n{options}{after-help}";

const STATUSES: &str = "\
Exit status:
  0  done, and the answer is good
  1  done, and the answer is no: faults found, not proven, refused by a device
  2  wrong usage, or a file that cannot be read
  3  a port, connection or device failed

Environment:
  NO_COLOR          turns colour off
  WOODRUSH_WIDTH    columns of tables and wrapped text, where it is not a terminal

`woodrush COMMAND --help` shows examples; `woodrush explain` lists everything that can be explained.";

/// Examples with the names of the built-in example, by command.
const EXAMPLES: &[(&str, &[&str])] = &[
    ("new", &["woodrush new my-site"]),
    (
        "import",
        &[
            "woodrush import lists/fan-drive.csv --as profiles/fan-drive.toml",
            "woodrush import lists/fan-drive.csv --dry-run --counts-from 0 --order CDAB",
            "woodrush import lists/oxygen-probe.csv --dry-run --try do-1 --rig",
        ],
    ),
    ("addr", &["woodrush addr 400318", "woodrush addr holding:317 400010.3", "woodrush addr N7:0 %DB10.W4"]),
    ("schema", &["woodrush schema > woodrush.schema.json", "woodrush schema profile"]),
    ("check", &["woodrush check", "woodrush check --verbose", "woodrush check --format json"]),
    ("map", &["woodrush map", "woodrush map --format csv > addresses.csv", "woodrush map --assign"]),
    (
        "handover",
        &[
            "woodrush handover papers",
            "woodrush handover papers --for farm-office",
            "woodrush handover papers --with proof.json",
            "woodrush handover papers --issue \"the inlet's two transmitters are new\"",
        ],
    ),
    (
        "compare",
        &[
            "woodrush compare issue:last",
            "woodrush compare git:HEAD",
            "woodrush compare issue:1 issue:2 --format json",
        ],
    ),
    ("trace", &["woodrush trace scada:400101", "woodrush trace blower-1.speed-setpoint"]),
    ("budget", &["woodrush budget", "woodrush budget --dead 3"]),
    ("rig", &["woodrush rig up", "woodrush rig set do-1.temperature=17.46", "woodrush rig cut raceway"]),
    (
        "prove",
        &[
            "woodrush prove --report proof.html",
            "woodrush prove --live --samples 10 --report sheet.html",
            "woodrush prove --live --write blower-1.speed-setpoint=40",
        ],
    ),
    ("demo", &["woodrush demo", "woodrush demo --keep hatchery"]),
    (
        "run",
        &[
            "woodrush run --follow",
            "woodrush run --rig",
            "woodrush run --monitor 127.0.0.1:9100 --log-format json",
        ],
    ),
    ("status", &["woodrush status", "woodrush status --monitor 192.0.2.10:9100"]),
    (
        "watch",
        &["woodrush watch", "woodrush watch --filter oxygen --every 1s", "woodrush watch --trouble --plain"],
    ),
    (
        "tap",
        &[
            "woodrush tap --failures",
            "woodrush tap raceway --at do-1.oxygen --save site.pcapng",
            "woodrush tap --open site.pcapng --counts",
        ],
    ),
    (
        "scan",
        &[
            "woodrush scan raceway --units 1-40",
            "woodrush scan raceway --find-settings",
            "woodrush scan 192.0.2.40:502 --start-project my-site",
        ],
    ),
    (
        "read",
        &[
            "woodrush read do-1 scada:400001",
            "woodrush read raceway --unit 27 300001",
            "woodrush read 192.0.2.40:502 --unit 27 \"400318 as f32 CDAB x2\" --every 500ms",
        ],
    ),
    ("write", &["woodrush write blower-1.speed-setpoint=40", "woodrush write blower-1.run=1 --yes --rig"]),
    (
        "decode",
        &[
            "woodrush decode AE14 418B",
            "woodrush decode AE14 418B --expect 17.46",
            "woodrush decode --live \"blower-1:400011 x2\" --expect 17.5",
        ],
    ),
    ("readdress", &["woodrush readdress do-3 --from 1", "woodrush readdress raceway --all"]),
    ("set-up", &["woodrush set-up tt-101 --dry-run", "woodrush set-up tt-101 --yes --rig"]),
    ("explain", &["woodrush explain M35", "woodrush explain exception 11", "woodrush explain CDAB"]),
    (
        "completions",
        &[
            "woodrush completions bash >> ~/.bashrc",
            "woodrush completions fish > ~/.config/fish/completions/woodrush.fish",
        ],
    ),
    ("man", &["woodrush man man1", "woodrush man | man -l -"]),
];

/// The names of all protocols, as values that an option takes.
pub(crate) fn protocols() -> PossibleValuesParser {
    PossibleValuesParser::new(DIALECTS.iter().map(|dialect| dialect.name()))
}

/// The shells that completions are there for.
pub(super) fn shells() -> PossibleValuesParser {
    PossibleValuesParser::new(clap_complete::env::Shells::builtins().names())
}

/// The whole command line, with examples and groups.
pub(crate) fn command() -> Command {
    let mut all = Args::command();
    for (name, examples) in EXAMPLES {
        let text = format!("Examples:\n  {}", examples.join("\n  "));
        all = all.mut_subcommand(name, |command| command.after_help(text));
    }
    // The usual protocol is known by its name only where the protocols are.
    if let Some(usual) = usual_protocol(Transport::Serial, None) {
        let text = format!("Protocol [default: {} on a serial line, by port number over TCP]", usual.name());
        for name in ["read", "write", "scan", "decode"] {
            let text = text.clone();
            all = all
                .mut_subcommand(name, |command| command.mut_arg("protocol", |argument| argument.help(text)));
        }
    }
    let text =
        "Protocol in whose notation addresses are [default: the one in which most of them can be read]";
    all = all.mut_subcommand("import", |command| command.mut_arg("protocol", |argument| argument.help(text)));
    let template = format!("{TEMPLATE_HEAD}{}{TEMPLATE_TAIL}", groups(&all));
    all.help_template(template).after_help(STATUSES)
}

/// The commands under their headings, each with its line.
fn groups(all: &Command) -> String {
    let mut text = String::new();
    for (heading, names) in GROUPS {
        text += &format!("\n{heading}:\n");
        for name in *names {
            let about = all.find_subcommand(name).and_then(Command::get_about);
            text += &format!("  {name:<12} {}\n", about.map(ToString::to_string).unwrap_or_default());
        }
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn every_command_stands_in_one_group_and_has_examples_that_parse() {
        let all = command();
        all.clone().debug_assert();
        let known: BTreeSet<&str> = all.get_subcommands().map(Command::get_name).collect();
        let listed: Vec<&str> = GROUPS.iter().flat_map(|(_, names)| names.iter().copied()).collect();
        assert_eq!(listed.len(), known.len(), "each once");
        assert_eq!(listed.iter().copied().collect::<BTreeSet<_>>(), known);
        assert_eq!(EXAMPLES.iter().map(|(name, _)| *name).collect::<BTreeSet<_>>(), known);
        for (name, examples) in EXAMPLES {
            for example in *examples {
                let line = example.split([';', '>', '|']).next().unwrap();
                let words: Vec<String> = words(line);
                assert_eq!(words.get(1).map(String::as_str), Some(*name), "{example}");
                let parsed = command().try_get_matches_from(&words);
                assert!(parsed.is_ok(), "{example}: {}", parsed.unwrap_err());
            }
        }
    }

    #[test]
    fn the_rig_has_a_command_for_each_fault() {
        let all = command();
        let rig = all.find_subcommand("rig").unwrap();
        for kind in woodrush_core::project::FAULTS {
            let known = rig.find_subcommand(kind.word()).unwrap_or_else(|| panic!("{kind:?}"));
            let places: Vec<String> = known.get_positionals().map(ToString::to_string).collect();
            let usage = kind.usage();
            let place = usage.split(' ').nth(1).unwrap();
            assert!(places[0].contains(place), "{kind:?}: {places:?}");
            assert_eq!(places.len(), kind.usage().split(' ').count() - 1, "{kind:?}");
        }
    }

    /// The words of a line, as a shell would have them; quotes keep words together.
    fn words(line: &str) -> Vec<String> {
        let parts = line.split('"').enumerate();
        parts
            .flat_map(|(at, part)| match at % 2 {
                1 => vec![part.to_string()],
                _ => part.split_whitespace().map(String::from).collect(),
            })
            .collect()
    }
}
