//! Options of the commands that ask devices and images for values, and of `decode`, which makes sense of their words.

use super::ConnectionArgs;
use clap::Args as ClapArgs;
use std::path::PathBuf;

/// Options of `read`.
#[derive(ClapArgs, Debug)]
pub(crate) struct ReadArgs {
    /// DEVICE, DEVICE.POINT, DEVICE:ADDRESS or IMAGE:ADDRESS of the project; or HOST:PORT or a port of the project,
    /// and addresses; with "as FORM", "xN" and "every T" behind an address
    #[arg(required = true, value_name = "TARGET")]
    pub(crate) targets: Vec<String>,
    /// Read again and again with this interval, such as 500ms
    #[arg(long, value_name = "TIME")]
    pub(crate) every: Option<String>,
    /// Stop after this time, such as 1m
    #[arg(long = "for", value_name = "TIME")]
    pub(crate) lasting: Option<String>,
    #[command(flatten)]
    pub(crate) way: ConnectionArgs,
}

/// Options of `write`.
#[derive(ClapArgs, Debug)]
pub(crate) struct WriteArgs {
    /// TARGET=VALUE, with a target as in `read`; separate several values with commas
    #[arg(required = true, value_name = "TARGET=VALUE")]
    pub(crate) targets: Vec<String>,
    /// Do not ask before writing
    #[arg(short, long)]
    pub(crate) yes: bool,
    /// Write also what is read-only, guarded or out of its range in the project
    #[arg(long)]
    pub(crate) force: bool,
    #[command(flatten)]
    pub(crate) way: ConnectionArgs,
}

/// Options of `scan`.
#[derive(ClapArgs, Debug)]
pub(crate) struct ScanArgs {
    /// A port of the project, a device with a port of its own, or HOST:PORT [default: the only port of the project that
    /// sends requests]
    #[arg(value_name = "PORT")]
    pub(crate) target: Option<String>,
    /// Units or nodes to ask, such as 1-32,40 [default: all]
    #[arg(long, value_name = "LIST")]
    pub(crate) units: Option<String>,
    /// Find only who answers, not their registers
    #[arg(long)]
    pub(crate) quick: bool,
    /// Find the settings of the serial line first: speeds and parities, the likeliest first
    #[arg(long)]
    pub(crate) find_settings: bool,
    /// Ask all stations of an Ethernet interface who they are, whatever their addresses
    #[arg(long, value_name = "INTERFACE", conflicts_with_all = ["target", "serial"])]
    pub(crate) ethernet: Option<String>,
    /// On a port with `network`, ask all at once by a broadcast instead of each address
    #[arg(long)]
    pub(crate) broadcast: bool,
    /// Most requests spent on one unit's registers
    #[arg(long, default_value_t = 600, value_name = "COUNT")]
    pub(crate) max_requests: u32,
    /// Save what was found in this file, and continue from what it already holds
    #[arg(long, value_name = "FILE")]
    pub(crate) resume: Option<PathBuf>,
    /// Write what was found as the start of a project, in a new folder
    #[arg(long, value_name = "DIR")]
    pub(crate) start_project: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) way: ConnectionArgs,
}

/// Options of `readdress`.
#[derive(ClapArgs, Debug)]
pub(crate) struct ReaddressArgs {
    /// The device; with --all a port, whose devices are connected one at a time; with --ethernet the MAC address of a
    /// station
    #[arg(value_name = "DEVICE")]
    pub(crate) name: String,
    /// Give the station of that MAC address on this Ethernet interface its name and address
    #[arg(long, value_name = "INTERFACE", conflicts_with_all = ["from", "to", "line", "from_line", "unlock", "all"])]
    pub(crate) ethernet: Option<String>,
    /// New name of station, such as raceway-box
    #[arg(long = "name", value_name = "NAME", requires = "ethernet")]
    pub(crate) station_name: Option<String>,
    /// New address with its network, such as 192.0.2.30/24
    #[arg(long, value_name = "ADDRESS", requires = "ethernet")]
    pub(crate) address: Option<String>,
    /// Name and address outlive the station's power
    #[arg(long, requires = "ethernet")]
    pub(crate) permanent: bool,
    /// Present unit [default: the unit in the project if --to is given, else the one as shipped]
    #[arg(long, value_name = "UNIT")]
    pub(crate) from: Option<u32>,
    /// New unit [default: the unit in the project]
    #[arg(long, value_name = "UNIT")]
    pub(crate) to: Option<u32>,
    /// New line settings, such as "38400 8E1"
    #[arg(long, value_name = "SETTINGS")]
    pub(crate) line: Option<String>,
    /// Present line settings [default: the port's]
    #[arg(long, value_name = "SETTINGS")]
    pub(crate) from_line: Option<String>,
    /// Value that unlocks the settings; asked for where the profile has that role
    #[arg(long, value_name = "VALUE")]
    pub(crate) unlock: Option<String>,
    /// Look for the device this long after the change
    #[arg(long, value_name = "TIME", default_value = "5s")]
    pub(crate) wait: String,
    /// Go through all devices of the port, each connected when it is asked for
    #[arg(long, conflicts_with_all = ["from", "to"])]
    pub(crate) all: bool,
    /// Do not ask before writing
    #[arg(short, long)]
    pub(crate) yes: bool,
    /// Wait this long for an answer, such as 500ms
    #[arg(long, value_name = "TIME")]
    pub(crate) timeout: Option<String>,
    /// Use the project's running rig instead of the real ports
    #[arg(long)]
    pub(crate) rig: bool,
}

/// Options of `set-up`.
#[derive(ClapArgs, Debug)]
pub(crate) struct SetUpArgs {
    /// The device, whose `set-up` in the project says what its parameters shall be
    #[arg(value_name = "DEVICE")]
    pub(crate) name: String,
    /// Only show what differs, and why a block does not work
    #[arg(long)]
    pub(crate) dry_run: bool,
    /// Do not ask before writing
    #[arg(short, long)]
    pub(crate) yes: bool,
    /// Wait this long for an answer, such as 500ms
    #[arg(long, value_name = "TIME")]
    pub(crate) timeout: Option<String>,
    /// Use the project's running rig instead of the real ports
    #[arg(long)]
    pub(crate) rig: bool,
}

/// Options of `decode`.
#[derive(ClapArgs, Debug)]
pub(crate) struct DecodeArgs {
    /// Words as AE14 418B, 0x06D2 or 44564 16779; with --live a target as in `read`, such as "DEVICE:400318 x2"
    #[arg(required_unless_present = "sample", value_name = "WORD|TARGET")]
    pub(crate) words: Vec<String>,
    /// The value that the words stand for, as read off a display
    #[arg(long, value_name = "VALUE", allow_negative_numbers = true)]
    pub(crate) expect: Option<f64>,
    /// How far a value may be off, as a share of it [default: 1%]
    #[arg(long, value_name = "SHARE")]
    pub(crate) tolerance: Option<String>,
    /// More words with their value, such as "3D71 41BA = 23.28"; may be repeated
    #[arg(long, value_name = "WORDS = VALUE")]
    pub(crate) sample: Vec<String>,
    /// All words are hexadecimal
    #[arg(long, conflicts_with = "dec")]
    pub(crate) hex: bool,
    /// All words are decimal
    #[arg(long)]
    pub(crate) dec: bool,
    /// Read the words now, as `read` does
    #[arg(long, conflicts_with_all = ["hex", "dec"])]
    pub(crate) live: bool,
    /// Save this sample in a file, and compare with all samples that it holds
    #[arg(long, value_name = "FILE", requires_all = ["live", "expect"])]
    pub(crate) keep: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) way: ConnectionArgs,
}
