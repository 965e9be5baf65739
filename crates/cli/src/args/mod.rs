//! What is typed: no I/O here.

mod connection;
mod help;
mod looking;
mod papers;
mod rig;
mod usage;
mod values;

pub(crate) use connection::ConnectionArgs;
pub(crate) use help::{command, protocols};
pub(crate) use looking::{ProveArgs, RunArgs, TapArgs, WatchArgs};
pub(crate) use papers::{CompareArgs, HandoverArgs, ImportArgs, MapArgs};
pub(crate) use rig::Rig;
pub(crate) use usage::words;
pub(crate) use values::{DecodeArgs, ReadArgs, ReaddressArgs, ScanArgs, SetUpArgs, WriteArgs};

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};
use std::path::PathBuf;

/// Describe, check, simulate, run and prove a field-bus converter from one text file
#[derive(Parser, Debug)]
#[command(name = "woodrush", version = crate::version::LONG, max_term_width = 100)]
pub(crate) struct Args {
    #[command(flatten)]
    pub(crate) global: Global,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// Options of every command.
#[derive(ClapArgs, Debug, Clone)]
pub(crate) struct Global {
    /// Project file [default: woodrush.toml in this folder or in one above it]
    #[arg(short, long, value_name = "FILE", global = true, help_heading = help::GLOBAL)]
    pub(crate) project: Option<PathBuf>,
    /// Form of the results: for people, for programs, for spreadsheets
    #[arg(long, value_enum, default_value_t = Format::Text, global = true, help_heading = help::GLOBAL)]
    pub(crate) format: Format,
    /// When to use colour; auto is on a terminal only (NO_COLOR turns it off too)
    #[arg(long, value_enum, default_value_t = Colour::Auto, global = true, help_heading = help::GLOBAL)]
    pub(crate) color: Colour,
    /// Print results only
    #[arg(short, long, global = true, help_heading = help::GLOBAL)]
    pub(crate) quiet: bool,
}

impl Default for Global {
    fn default() -> Self {
        Self { project: None, format: Format::Text, color: Colour::Auto, quiet: false }
    }
}

#[derive(ValueEnum, Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Format {
    Text,
    Json,
    Csv,
}

#[derive(ValueEnum, Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum LogFormat {
    /// For people: date, local time, name and what happened
    Text,
    /// For programs: one JSON object a line, the time in UTC
    Json,
}

/// The files that have a schema.
#[derive(ValueEnum, Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum SchemaOf {
    /// The project file
    Project,
    /// A profile
    Profile,
}

#[derive(ValueEnum, Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Colour {
    Auto,
    Always,
    Never,
}

#[derive(Subcommand, Debug)]
pub(crate) enum Command {
    /// Create a commented starter project that passes check and prove
    New {
        /// Folder to create
        dir: PathBuf,
    },
    /// Make a profile of a register list: the CSV table of a maker's manual or of a programmer
    Import(ImportArgs),
    /// Show an address in every notation, with its neighbours
    Addr {
        /// Addresses such as 400318, 40318, holding:317, 400010.3
        #[arg(required = true)]
        addresses: Vec<String>,
    },
    /// Find every fault that the files can show, each with its line and fix
    Check {
        /// Show every finding, not only the first 200
        #[arg(long)]
        all: bool,
        /// List every request that will be sent
        #[arg(short, long)]
        verbose: bool,
    },
    /// Show the address table of both sides, one row per value; or give out addresses of areas
    Map(MapArgs),
    /// Write the papers: a page of the site, and each client's list of values in its own notation
    Handover(HandoverArgs),
    /// Show what changes for the clients between two states of a project, and who must follow
    Compare(CompareArgs),
    /// Follow an address through the converter, down to the request bytes
    Trace {
        /// IMAGE:ADDRESS, DEVICE:ADDRESS, DEVICE.POINT or DEVICE.health.ITEM
        #[arg(required = true)]
        endpoints: Vec<String>,
    },
    /// Run the converter
    Run(RunArgs),
    /// Show the counters of a running converter, and whether it runs this project
    Status {
        /// Ask a converter elsewhere, at its --monitor address
        #[arg(long, value_name = "HOST:PORT")]
        monitor: Option<std::net::SocketAddr>,
        /// Set all counters to zero, as at the start of a test
        #[arg(long, conflicts_with = "monitor")]
        reset: bool,
    },
    /// Show bus time: cycle and load of each line, cost of a dead device, and advice
    Budget {
        /// Also with this many devices of each line dead at once
        #[arg(long, value_name = "COUNT")]
        dead: Option<usize>,
    },
    /// Simulate the devices and clients on both sides
    #[command(subcommand)]
    Rig(Rig),
    /// Prove every rule end to end on simulated devices, or compare with real ones
    Prove(ProveArgs),
    /// Read values of any device, image or bare address, once or again and again
    Read(ReadArgs),
    /// Write values into any device, image or bare address
    Write(WriteArgs),
    /// Find the devices on a line or behind a socket, and their registers
    Scan(ScanArgs),
    /// Show values at both ends of every rule as they change
    Watch(WatchArgs),
    /// Show the traffic of a running converter, of a serial line, or of a capture
    Tap(TapArgs),
    /// Change the unit of a device, in the device and in the project together
    Readdress(ReaddressArgs),
    /// Compare a device's parameters with the project's `set-up`, and write what differs
    SetUp(SetUpArgs),
    /// Show raw words in every type and order, or find the form that gives a known value
    Decode(DecodeArgs),
    /// Explain a check, an exception, a type, an order, a key, a command or a term
    Explain {
        /// Such as M35, exception 11, "STS 0x10", CDAB, REAL, on-loss, freshness [default: list all]
        #[arg(value_name = "CODE|TERM")]
        words: Vec<String>,
    },
    /// Run the built-in example and prove it (about 20 s)
    Demo {
        /// Keep the example's files in a new folder
        #[arg(long, value_name = "DIR")]
        keep: Option<PathBuf>,
    },
    /// Print completions for a shell, which know the names of the project
    Completions {
        /// The shell
        #[arg(value_parser = help::shells())]
        shell: String,
    },
    /// Print the JSON Schema of the project file or of a profile, for editors
    Schema {
        /// Which file
        #[arg(value_enum, default_value_t = SchemaOf::Project)]
        of: SchemaOf,
    },
    /// Print the manual page, or write a page for each command
    Man {
        /// Folder for the pages
        dir: Option<PathBuf>,
    },
}
