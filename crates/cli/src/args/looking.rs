//! Options of the commands that show and prove what a converter does.

use clap::Args as ClapArgs;
use std::path::PathBuf;

/// Options of `run`.
#[derive(ClapArgs, Debug)]
pub(crate) struct RunArgs {
    /// Attach to the project's running rig instead of the real ports
    #[arg(long)]
    pub(crate) rig: bool,
    /// Reload the project whenever its file or a profile changes (SIGHUP reloads once)
    #[arg(long)]
    pub(crate) follow: bool,
    /// Stop if an adapter or address is missing, instead of opening that port as soon as it is there
    #[arg(long)]
    pub(crate) strict: bool,
    /// Serve counters over HTTP: /status and /values as JSON, /metrics as OpenMetrics text
    #[arg(long, value_name = "HOST:PORT")]
    pub(crate) monitor: Option<std::net::SocketAddr>,
    /// Answer HTTP requests for this host name too [default: addresses and localhost only]
    #[arg(long = "monitor-host", value_name = "NAME", requires = "monitor")]
    pub(crate) monitor_hosts: Vec<String>,
    /// Form of the log
    #[arg(long, value_enum, default_value_t = super::LogFormat::Text)]
    pub(crate) log_format: super::LogFormat,
    /// List every request that will be sent
    #[arg(short, long)]
    pub(crate) verbose: bool,
}

/// Options of `watch`.
#[derive(ClapArgs, Debug)]
pub(crate) struct WatchArgs {
    /// Watch a converter elsewhere, at its --monitor address
    #[arg(long, value_name = "HOST:PORT", conflicts_with = "rig")]
    pub(crate) monitor: Option<std::net::SocketAddr>,
    /// If no converter runs, run one on the project's running rig while it is watched
    #[arg(long)]
    pub(crate) rig: bool,
    /// Only rules with this text in their name or at their ends
    #[arg(long, value_name = "TEXT")]
    pub(crate) filter: Option<String>,
    /// Only rules that are not fresh
    #[arg(long)]
    pub(crate) trouble: bool,
    /// Time between two updates
    #[arg(long, value_name = "TIME", default_value = "250ms")]
    pub(crate) every: String,
    /// Stop after this time, such as 1m
    #[arg(long = "for", value_name = "TIME")]
    pub(crate) lasting: Option<String>,
    /// Print a line for each change, also on a terminal
    #[arg(long)]
    pub(crate) plain: bool,
}

/// Options of `tap`.
#[derive(ClapArgs, Debug)]
pub(crate) struct TapArgs {
    /// Ports of the project [default: all]; if no converter runs, the serial port to listen to
    #[arg(value_name = "PORT")]
    pub(crate) ports: Vec<String>,
    /// Only these units or nodes, such as 1-4,23
    #[arg(long, value_name = "LIST")]
    pub(crate) unit: Option<String>,
    /// Only these function codes, such as 3,16 or 0xA2
    #[arg(long, value_name = "LIST")]
    pub(crate) function: Option<String>,
    /// Only messages that touch this: DEVICE, IMAGE, DEVICE.POINT, DEVICE:ADDRESS or IMAGE:ADDRESS; may be repeated
    #[arg(long, value_name = "TARGET")]
    pub(crate) at: Vec<String>,
    /// Only requests that write, and their answers
    #[arg(long)]
    pub(crate) only_writes: bool,
    /// Only failures: refusals, requests without an answer, damaged and mismatched messages
    #[arg(long)]
    pub(crate) failures: bool,
    /// Only counts and answer times, at the end
    #[arg(long)]
    pub(crate) counts: bool,
    /// Show every frame of what is sent in cycles, not only those that differ from the one before
    #[arg(long)]
    pub(crate) all: bool,
    /// Show what carries no values too (acknowledgements, discovery, openings), and the bytes of each message
    #[arg(short, long)]
    pub(crate) verbose: bool,
    /// Stop after this time, such as 1m
    #[arg(long = "for", value_name = "TIME")]
    pub(crate) lasting: Option<String>,
    /// Save a capture (pcapng) for a packet analyser
    #[arg(long, value_name = "FILE")]
    pub(crate) save: Option<PathBuf>,
    /// Show a saved capture (pcapng or pcap) instead
    #[arg(long, value_name = "FILE", conflicts_with = "serial")]
    pub(crate) open: Option<PathBuf>,
    /// Listen to this serial line instead, without transmitting
    #[arg(long, value_name = "PATH")]
    pub(crate) serial: Option<PathBuf>,
    /// Settings of the serial line, such as "38400 8E1"
    #[arg(long, value_name = "SETTINGS")]
    pub(crate) line: Option<String>,
    /// Protocol on the line, or in a capture that does not say it
    #[arg(long, value_name = "NAME", value_parser = super::protocols())]
    pub(crate) protocol: Option<String>,
    /// Set another key of the line, such as check-field=bcc; may be repeated
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) set: Vec<String>,
}

/// Options of `prove`.
#[derive(ClapArgs, Debug)]
pub(crate) struct ProveArgs {
    /// Also write a report: FILE.html, FILE.json or FILE.xml (JUnit, not with --live); may be repeated
    #[arg(long, value_name = "FILE")]
    pub(crate) report: Vec<PathBuf>,
    /// Join the far end of an `ethernet` port by this interface, cabled to the port's own, instead of a simulated switch;
    /// may be repeated
    #[arg(long, value_name = "PORT=INTERFACE", conflicts_with = "live")]
    pub(crate) wire: Vec<String>,
    /// Compare on real devices: what each device says, and what a reader of the image gets
    #[arg(long)]
    pub(crate) live: bool,
    /// How many samples are taken of each value
    #[arg(long, default_value_t = 3, value_name = "COUNT", requires = "live")]
    pub(crate) samples: u32,
    /// Time between two samples
    #[arg(long, default_value = "1s", value_name = "TIME", requires = "live")]
    pub(crate) every: String,
    /// How far device and reader may be apart, as a share of the value [default: 1%]
    #[arg(long, value_name = "SHARE", requires = "live")]
    pub(crate) tolerance: Option<String>,
    /// Also write this through the image, see it arrive, and restore the old value; may be repeated
    #[arg(long, value_name = "POINT=VALUE", requires = "live")]
    pub(crate) write: Vec<String>,
    /// Do not ask before writing
    #[arg(short, long, requires = "write")]
    pub(crate) yes: bool,
    /// The devices are those of the project's running rig
    #[arg(long, requires = "live")]
    pub(crate) rig: bool,
}
