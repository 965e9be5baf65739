//! Options of the commands about papers: lists that others write.

use super::ConnectionArgs;
use clap::Args as ClapArgs;
use std::path::PathBuf;

/// Options of `import`.
#[derive(ClapArgs, Debug)]
pub(crate) struct ImportArgs {
    /// The register list: a CSV file with commas, semicolons, tabs or bars
    pub(crate) file: PathBuf,
    /// The profile to write, such as profiles/fan-drive.toml; a file that exists is not overwritten
    #[arg(long = "as", value_name = "PROFILE", required_unless_present = "dry_run")]
    pub(crate) profile: Option<PathBuf>,
    /// Show what the list gives, and write nothing
    #[arg(short = 'n', long)]
    pub(crate) dry_run: bool,
    /// What columns hold whose heads are not understood, such as address=Reg,name=Signal; `name=` says that none does
    #[arg(long, value_name = "COLUMN=HEAD,…")]
    pub(crate) columns: Option<String>,
    /// Bare numbers are offsets (0) or reference numbers (1)
    #[arg(long, value_name = "0|1", value_parser = clap::value_parser!(u32).range(0..=1))]
    pub(crate) counts_from: Option<u32>,
    /// The table of bare numbers for which the list names none, such as input
    #[arg(long, value_name = "TABLE")]
    pub(crate) table: Option<String>,
    /// The order of wider values for which the list names none, such as CDAB
    #[arg(long, value_name = "ORDER")]
    pub(crate) order: Option<String>,
    /// Read each point once from this device of the project, port of the project or HOST:PORT, and mark what is refused
    #[arg(long = "try", value_name = "TARGET")]
    pub(crate) target: Option<String>,
    #[command(flatten)]
    pub(crate) way: ConnectionArgs,
}

/// Options of `map`.
#[derive(ClapArgs, Debug)]
pub(crate) struct MapArgs {
    /// Give each value of an area (`to = "IMAGE:@AREA"`) that has no address the next free one, and write the ledger
    #[arg(long)]
    pub(crate) assign: bool,
    /// Give out the addresses of rules that are gone, too
    #[arg(long, requires = "assign")]
    pub(crate) reuse: bool,
    /// Show what would be given out, and write nothing
    #[arg(short = 'n', long, requires = "assign")]
    pub(crate) dry_run: bool,
    /// Write the electronic data sheet by which engineering systems know the converter's connections
    #[arg(long, value_name = "FILE", conflicts_with = "assign")]
    pub(crate) eds: Option<PathBuf>,
    /// Write the GSDML file of an IO device for its controller's engineering system; into a folder under the name that
    /// such files must have
    #[arg(long, value_name = "FILE", conflicts_with_all = ["eds", "assign"])]
    pub(crate) gsdml: Option<PathBuf>,
}

/// Options of `handover`.
#[derive(ClapArgs, Debug)]
pub(crate) struct HandoverArgs {
    /// Folder for the papers; it is made where it does not exist
    pub(crate) dir: PathBuf,
    /// Only the list of this client [default: of every client that asks an image]
    #[arg(long = "for", value_name = "CLIENT")]
    pub(crate) client: Option<String>,
    /// Close an issue of the address table with what changed, in words: from then on `check` holds the project against it
    #[arg(long, value_name = "WHAT CHANGED", conflicts_with = "client")]
    pub(crate) issue: Option<String>,
    /// Also the results of a proof or an acceptance: what `prove --report FILE.json` wrote
    #[arg(long, value_name = "FILE", conflicts_with = "client")]
    pub(crate) with: Vec<PathBuf>,
}

/// Options of `compare`.
#[derive(ClapArgs, Debug)]
pub(crate) struct CompareArgs {
    /// The old one: a project file or its folder, `issue:2` or `issue:last` of its ledger, or `git:REVISION`
    pub(crate) old: String,
    /// The new one, named likewise [default: the project]
    pub(crate) new: Option<String>,
}
