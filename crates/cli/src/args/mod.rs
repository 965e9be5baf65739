//! What is typed: no I/O here.

mod rig;

pub(crate) use rig::Rig;

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};
use std::path::PathBuf;

/// Describe, check, bench, run and prove a field-bus converter from one text file.
#[derive(Parser, Debug)]
#[command(name = "woodrush", version, max_term_width = 100)]
pub(crate) struct Args {
    #[command(flatten)]
    pub(crate) global: Global,
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(ClapArgs, Debug, Clone)]
pub(crate) struct Global {
    /// The project file; without it, woodrush.toml here or in a folder above
    #[arg(short, long, value_name = "FILE", global = true)]
    pub(crate) project: Option<PathBuf>,
    /// How results are written
    #[arg(long, value_enum, default_value_t = Format::Text, global = true)]
    pub(crate) format: Format,
    /// When to use colour (NO_COLOR is honoured)
    #[arg(long, value_enum, default_value_t = Colour::Auto, global = true)]
    pub(crate) color: Colour,
    /// Say more: `check` and `run` list every request that will be sent
    #[arg(short, long, global = true)]
    pub(crate) verbose: bool,
    /// Say only what was asked for
    #[arg(short, long, global = true, conflicts_with = "verbose")]
    pub(crate) quiet: bool,
}

#[derive(ValueEnum, Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Format {
    /// For people
    Text,
    /// For programs
    Json,
    /// For spreadsheets
    Csv,
}

#[derive(ValueEnum, Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum LogFormat {
    /// For people: date, local time, name and what happened
    Text,
    /// For programs: one JSON object a line, the time in UTC
    Json,
}

#[derive(ValueEnum, Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Colour {
    /// When it is a terminal
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

#[derive(Subcommand, Debug)]
pub(crate) enum Command {
    /// Make a commented starter project that passes check and prove
    New {
        /// Folder to make
        dir: PathBuf,
    },
    /// Show an address in every notation, with its neighbours
    Addr {
        /// Addresses such as 400318, 40318, holding:317, 400010.3
        #[arg(required = true)]
        addresses: Vec<String>,
    },
    /// Find every fault that the files can show
    Check {
        /// Show every finding; without it the first 200
        #[arg(long)]
        all: bool,
    },
    /// Show the resolved address table, both sides, one row a value
    Map,
    /// Follow an address through the converter, down to the request bytes
    Trace {
        /// IMAGE:ADDRESS, DEVICE:ADDRESS, DEVICE.POINT or DEVICE.health.ITEM
        #[arg(required = true)]
        endpoints: Vec<String>,
    },
    /// Run the converter
    Run {
        /// Attach to the project's running rig instead of the real ports
        #[arg(long)]
        rig: bool,
        /// Reload the project whenever its file or a profile changes (SIGHUP reloads once)
        #[arg(long)]
        follow: bool,
        /// End where an adapter or an address is missing, instead of opening that port as soon as it is there
        #[arg(long)]
        strict: bool,
        /// Show counters over HTTP: /status as JSON, /metrics as OpenMetrics text
        #[arg(long, value_name = "HOST:PORT")]
        monitor: Option<std::net::SocketAddr>,
        /// Answer requests for this host name too; without it for addresses and localhost only
        #[arg(long = "monitor-host", value_name = "NAME", requires = "monitor")]
        monitor_hosts: Vec<String>,
        /// How the log is written
        #[arg(long, value_enum, default_value_t = LogFormat::Text)]
        log_format: LogFormat,
    },
    /// Show what a running converter counts, and whether it has the project's map
    Status {
        /// Ask a converter elsewhere, at its --monitor address
        #[arg(long, value_name = "HOST:PORT")]
        monitor: Option<std::net::SocketAddr>,
        /// Set all counters to 0, as at the start of a test
        #[arg(long, conflicts_with = "monitor")]
        reset: bool,
    },
    /// Show bus time: each request, the cycle and load of each line, what a dead device costs, and what to change
    Budget {
        /// Also with so many devices of each line dead at once
        #[arg(long, value_name = "COUNT")]
        dead: Option<usize>,
    },
    /// Play the devices and clients on both sides
    #[command(subcommand)]
    Rig(Rig),
    /// Test every rule end to end on simulated devices, or compare on real ones
    Prove(ProveArgs),
    /// Read values of any device, image or bare address, once or again and again
    Read(ReadArgs),
    /// Write values into any device, image or bare address
    Write(WriteArgs),
    /// Find who is on a line or behind a socket, and what each of them has
    Scan(ScanArgs),
    /// Show values at both ends of every rule as they change
    Watch(WatchArgs),
    /// Show traffic: of a running converter's ports, of a line that is only listened to, or of a capture
    Tap(TapArgs),
    /// Give a device another unit, in the device and the project together
    Readdress(ReaddressArgs),
    /// Show raw words in every type and order, or find the form that gives a value that is known
    Decode(DecodeArgs),
    /// Explain a check, an exception, a status code, a type, an order, a key or a term
    Explain {
        /// Such as M35, exception 11, "STS 0x10", CDAB, REAL, on-loss, freshness; without any, all names
        #[arg(value_name = "CODE|TERM")]
        words: Vec<String>,
    },
    /// The shipped example, from nothing to a proven conversion, in seconds
    Demo {
        /// Leave the example's files in a new folder
        #[arg(long, value_name = "DIR")]
        keep: Option<PathBuf>,
    },
    /// Write completions for a shell
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
}

/// A way that is written on the command line, or the project's rig.
#[derive(ClapArgs, Debug, Clone, Default)]
pub(crate) struct WayArgs {
    /// Ask on this serial line instead of a port of the project
    #[arg(long, value_name = "PATH")]
    pub(crate) serial: Option<PathBuf>,
    /// What the serial line is set to, such as "38400 8E1"
    #[arg(long, value_name = "SETTINGS")]
    pub(crate) line: Option<String>,
    /// What is spoken there; without it what is usual on such a line or TCP port
    #[arg(long, value_name = "NAME")]
    pub(crate) protocol: Option<String>,
    /// The unit that is asked
    #[arg(long)]
    pub(crate) unit: Option<u32>,
    /// The node that is asked
    #[arg(long)]
    pub(crate) node: Option<u32>,
    /// Another key of the protocol, such as remote-tsap=01.02 or max-read=32; may be given several times
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) key: Vec<String>,
    /// The adapter gives back what is sent
    #[arg(long)]
    pub(crate) echo: bool,
    /// Wait for an answer
    #[arg(long, value_name = "TIME")]
    pub(crate) timeout: Option<String>,
    /// Ask the project's running rig instead of the real ports
    #[arg(long)]
    pub(crate) rig: bool,
}

impl WayArgs {
    /// An option of a way that was given, if any.
    pub(crate) fn any(&self) -> Option<&'static str> {
        let own = [("serial", self.serial.is_some()), ("timeout", self.timeout.is_some()), ("rig", self.rig)];
        let own = own.into_iter().filter(|(_, given)| *given).map(|(name, _)| name);
        own.chain(self.written()).next()
    }

    /// The options that only a way of its own has, as far as they were given.
    pub(crate) fn written(&self) -> Vec<&'static str> {
        let given = [
            ("line", self.line.is_some()),
            ("protocol", self.protocol.is_some()),
            ("unit", self.unit.is_some()),
            ("node", self.node.is_some()),
            ("key", !self.key.is_empty()),
            ("echo", self.echo),
        ];
        given.into_iter().filter(|(_, given)| *given).map(|(name, _)| name).collect()
    }
}

/// What `read` takes.
#[derive(ClapArgs, Debug)]
pub(crate) struct ReadArgs {
    /// DEVICE, DEVICE.POINT, DEVICE:ADDRESS or IMAGE:ADDRESS of the project; or HOST:PORT or a port of the project,
    /// and addresses; with "as FORM", "xN" and "every T" behind an address
    #[arg(required = true, value_name = "TARGET")]
    pub(crate) targets: Vec<String>,
    /// Read again and again, such as 500ms
    #[arg(long, value_name = "TIME")]
    pub(crate) every: Option<String>,
    /// For so long, such as 1m
    #[arg(long = "for", value_name = "TIME")]
    pub(crate) lasting: Option<String>,
    #[command(flatten)]
    pub(crate) way: WayArgs,
}

/// What `write` takes.
#[derive(ClapArgs, Debug)]
pub(crate) struct WriteArgs {
    /// TARGET=VALUE, with a target as `read` has it; several values are parted by commas
    #[arg(required = true, value_name = "TARGET=VALUE")]
    pub(crate) targets: Vec<String>,
    /// Do not ask before writing
    #[arg(short, long)]
    pub(crate) yes: bool,
    /// Write what the project calls read-only or marks as danger, or what is outside of a range
    #[arg(long)]
    pub(crate) force: bool,
    #[command(flatten)]
    pub(crate) way: WayArgs,
}

/// What `scan` takes.
#[derive(ClapArgs, Debug)]
pub(crate) struct ScanArgs {
    /// A port of the project, or HOST:PORT; without it the only port of the project that asks
    #[arg(value_name = "PORT")]
    pub(crate) target: Option<String>,
    /// Which units or nodes, such as 1-32,40 [default: all]
    #[arg(long, value_name = "LIST")]
    pub(crate) units: Option<String>,
    /// Only who is there, not what they have
    #[arg(long)]
    pub(crate) quick: bool,
    /// Find the settings of a serial line first: speeds and parities, the likeliest first
    #[arg(long)]
    pub(crate) lines: bool,
    /// Most requests for what one unit has
    #[arg(long, default_value_t = 600, value_name = "COUNT")]
    pub(crate) budget: u32,
    /// Keep what was found in this file, and go on from what it has
    #[arg(long, value_name = "FILE")]
    pub(crate) keep: Option<PathBuf>,
    /// Write what was found as the start of a project, in a new folder
    #[arg(long, value_name = "DIR")]
    pub(crate) new: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) way: WayArgs,
}

/// What `watch` takes.
#[derive(ClapArgs, Debug)]
pub(crate) struct WatchArgs {
    /// Watch a converter elsewhere, at its --monitor address
    #[arg(long, value_name = "HOST:PORT", conflicts_with = "rig")]
    pub(crate) monitor: Option<std::net::SocketAddr>,
    /// Where no converter runs, bring one up on the project's running rig for as long as it is watched
    #[arg(long)]
    pub(crate) rig: bool,
    /// Only rules with this in their name or at their ends
    #[arg(long, value_name = "TEXT")]
    pub(crate) filter: Option<String>,
    /// Only rules that are not fresh
    #[arg(long)]
    pub(crate) trouble: bool,
    /// How often values are looked at
    #[arg(long, value_name = "TIME", default_value = "250ms")]
    pub(crate) every: String,
    /// For so long, such as 1m
    #[arg(long = "for", value_name = "TIME")]
    pub(crate) lasting: Option<String>,
    /// A line for each change, also on a terminal
    #[arg(long)]
    pub(crate) lines: bool,
}

/// What `tap` takes.
#[derive(ClapArgs, Debug)]
pub(crate) struct TapArgs {
    /// Ports of the project [default: all]; where no converter runs, the serial one that is listened to
    #[arg(value_name = "PORT")]
    pub(crate) ports: Vec<String>,
    /// Only these units or nodes, such as 1-4,23
    #[arg(long, value_name = "LIST")]
    pub(crate) unit: Option<String>,
    /// Only these function codes, such as 3,16 or 0xA2
    #[arg(long, value_name = "LIST")]
    pub(crate) function: Option<String>,
    /// Only what touches this: DEVICE, IMAGE, DEVICE.POINT, DEVICE:ADDRESS or IMAGE:ADDRESS; may be given several times
    #[arg(long, value_name = "TARGET")]
    pub(crate) at: Vec<String>,
    /// Only requests that write, and their answers
    #[arg(long)]
    pub(crate) writes: bool,
    /// Only what failed: refusals, silence, damage, answers that do not fit
    #[arg(long)]
    pub(crate) failures: bool,
    /// Only the counts and answer times, at the end
    #[arg(long)]
    pub(crate) counts: bool,
    /// For so long, such as 1m
    #[arg(long = "for", value_name = "TIME")]
    pub(crate) lasting: Option<String>,
    /// Write a capture (pcapng) for a packet analyser
    #[arg(long, value_name = "FILE")]
    pub(crate) write: Option<PathBuf>,
    /// Show a capture (pcapng or pcap) instead
    #[arg(long, value_name = "FILE", conflicts_with = "serial")]
    pub(crate) read: Option<PathBuf>,
    /// Listen on this serial line instead, and never send there
    #[arg(long, value_name = "PATH")]
    pub(crate) serial: Option<PathBuf>,
    /// What the serial line is set to, such as "38400 8E1"
    #[arg(long, value_name = "SETTINGS")]
    pub(crate) line: Option<String>,
    /// What is spoken on the line, or in a capture that does not say it
    #[arg(long, value_name = "NAME")]
    pub(crate) protocol: Option<String>,
    /// Another key of the protocol on the line, such as check-field=bcc; may be given several times
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) key: Vec<String>,
}

/// What `prove` takes.
#[derive(ClapArgs, Debug)]
pub(crate) struct ProveArgs {
    /// Also write a report: FILE.html, FILE.json or FILE.xml (JUnit, not with --live); may be given several times
    #[arg(long, value_name = "FILE")]
    pub(crate) report: Vec<PathBuf>,
    /// Compare on real devices: what each says by itself, and what a reader of the image gets
    #[arg(long)]
    pub(crate) live: bool,
    /// How often each value is looked at
    #[arg(long, default_value_t = 3, value_name = "COUNT", requires = "live")]
    pub(crate) looks: u32,
    /// The pause between two looks
    #[arg(long, default_value = "1s", value_name = "TIME", requires = "live")]
    pub(crate) every: String,
    /// How far the two may be apart, as a share of the value [default: 1%]
    #[arg(long, value_name = "SHARE", requires = "live")]
    pub(crate) tolerance: Option<String>,
    /// Also write this through the image, see it arrive, and put the old value back; may be given several times
    #[arg(long, value_name = "POINT=VALUE", requires = "live")]
    pub(crate) write: Vec<String>,
    /// Do not ask before writing
    #[arg(short, long, requires = "write")]
    pub(crate) yes: bool,
    /// The devices are those of the project's running rig
    #[arg(long, requires = "live")]
    pub(crate) rig: bool,
}

/// What `readdress` takes.
#[derive(ClapArgs, Debug)]
pub(crate) struct ReaddressArgs {
    /// The device; with --all a port, whose devices are joined one at a time
    #[arg(value_name = "DEVICE")]
    pub(crate) name: String,
    /// Where it answers now [default: the unit of the project if --to is given, else the one it is shipped with]
    #[arg(long, value_name = "UNIT")]
    pub(crate) from: Option<u32>,
    /// Where it shall answer [default: the unit of the project]
    #[arg(long, value_name = "UNIT")]
    pub(crate) to: Option<u32>,
    /// The line settings that it shall have, such as "38400 8E1"
    #[arg(long, value_name = "SETTINGS")]
    pub(crate) line: Option<String>,
    /// The line settings that it has now [default: the port's]
    #[arg(long, value_name = "SETTINGS")]
    pub(crate) from_line: Option<String>,
    /// What unlocks its settings; asked for where the profile has that role
    #[arg(long, value_name = "VALUE")]
    pub(crate) unlock: Option<String>,
    /// How long to look for it afterwards
    #[arg(long, value_name = "TIME", default_value = "5s")]
    pub(crate) wait: String,
    /// Walk through all devices of the port, each joined when it is asked for
    #[arg(long, conflicts_with_all = ["from", "to"])]
    pub(crate) all: bool,
    /// Do not ask before writing
    #[arg(short, long)]
    pub(crate) yes: bool,
    /// Wait for an answer
    #[arg(long, value_name = "TIME")]
    pub(crate) timeout: Option<String>,
    /// The project's running rig instead of the real ports
    #[arg(long)]
    pub(crate) rig: bool,
}

/// What `decode` takes.
#[derive(ClapArgs, Debug)]
pub(crate) struct DecodeArgs {
    /// Words as AE14 418B, 0x06D2 or 44564 16779; with --live a target as `read` has it, such as "DEVICE:400318 x2"
    #[arg(value_name = "WORDS", allow_negative_numbers = true)]
    pub(crate) words: Vec<String>,
    /// The value that they stand for, as read off a display
    #[arg(long, value_name = "VALUE", allow_negative_numbers = true)]
    pub(crate) expect: Option<f64>,
    /// How far a value may be off, as a share of it [default: 1%]
    #[arg(long, value_name = "SHARE")]
    pub(crate) tolerance: Option<String>,
    /// Further words with their value, such as "3D71 41BA = 23.28"; may be given several times
    #[arg(long, value_name = "WORDS = VALUE")]
    pub(crate) sample: Vec<String>,
    /// All words are hex
    #[arg(long, conflicts_with = "dec")]
    pub(crate) hex: bool,
    /// All words are decimal
    #[arg(long)]
    pub(crate) dec: bool,
    /// Read the words now, as `read` would
    #[arg(long, conflicts_with_all = ["hex", "dec"])]
    pub(crate) live: bool,
    /// Keep this look in a file, and hold the value against all that it keeps: what moves with it is it
    #[arg(long, value_name = "FILE", requires_all = ["live", "expect"])]
    pub(crate) keep: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) way: WayArgs,
}
