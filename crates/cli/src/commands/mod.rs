//! One file a command.

mod addr;
mod assign;
mod budget;
mod check;
mod compare;
pub(crate) mod completions;
mod decode;
mod demo;
mod device_file;
mod explain;
mod handover;
mod import;
mod ledger;
pub(crate) mod live;
mod man;
mod map;
mod new;
mod prove;
mod read;
mod readdress;
mod rig;
mod run;
mod scan;
mod set_up;
#[cfg(test)]
mod small_site;
mod status;
mod tap;
mod trace;
mod watch;
mod write;

use crate::args::{Args, Command, MapArgs, SchemaOf};
use crate::console::Console;
use crate::{Failure, Verdict};

pub(crate) fn run(args: Args, console: &mut Console) -> Result<Verdict, Failure> {
    let global = args.global;
    match args.command {
        Command::New { dir } => new::run(console, &dir),
        Command::Import(args) => import::run(console, &global, &args),
        Command::Addr { addresses } => addr::run(console, &addresses),
        Command::Check { all, verbose } => {
            console.verbose = verbose;
            check::run(console, &crate::project::find(&global)?, all)
        }
        Command::Map(args) if args.assign => assign::run(console, &crate::project::find(&global)?, &args),
        Command::Map(MapArgs { eds: Some(file), .. }) => {
            device_file::run(console, &crate::project::find(&global)?, ("eds", &file))
        }
        Command::Map(MapArgs { gsdml: Some(file), .. }) => {
            device_file::run(console, &crate::project::find(&global)?, ("gsdml", &file))
        }
        Command::Map(_) => map::run(console, &crate::project::find(&global)?),
        Command::Compare(args) => compare::run(console, &global, &args),
        Command::Handover(args) => handover::run(console, &crate::project::find(&global)?, &args),
        Command::Trace { endpoints } => trace::run(console, &crate::project::find(&global)?, &endpoints),
        Command::Run(args) => {
            console.verbose = args.verbose;
            run::run(console, &crate::project::find(&global)?, &args)
        }
        Command::Status { monitor, reset } => {
            status::run(console, &crate::project::find(&global)?, monitor, reset)
        }
        Command::Budget { dead } => budget::run(console, &crate::project::find(&global)?, dead),
        Command::Rig(rig) => rig::run(console, &crate::project::find(&global)?, rig),
        Command::Prove(args) if args.live => live::run(console, &global, &args),
        Command::Prove(args) => {
            prove::run(console, &crate::project::find(&global)?, &args.report, &args.wire)
        }
        Command::Read(args) => read::run(console, &global, &args),
        Command::Write(args) => write::run(console, &global, &args),
        Command::Scan(args) => scan::run(console, &global, &args),
        Command::Watch(args) => watch::run(console, &global, &args),
        Command::Tap(args) => {
            console.verbose = args.verbose;
            tap::run(console, &global, &args)
        }
        Command::Readdress(args) => readdress::run(console, &global, &args),
        Command::SetUp(args) => set_up::run(console, &global, &args),
        Command::Decode(args) => decode::run(console, &global, &args),
        Command::Explain { words } => explain::run(console, &global, &words),
        Command::Demo { keep } => demo::run(console, keep.as_deref()),
        Command::Completions { shell } => completions::run(console, &shell),
        Command::Schema { of } => {
            let (table, title) = match of {
                SchemaOf::Project => ("file", "Project file"),
                SchemaOf::Profile => ("profile-file", "Profile"),
            };
            console.json(&crate::render::schema::schema(table, title))?;
            Ok(Verdict::Yes)
        }
        Command::Man { dir } => man::run(console, dir.as_deref()),
    }
}

#[cfg(test)]
mod tests {

    #[test]
    fn arguments_are_consistent_and_every_one_is_explained() {
        let command = crate::args::command();
        command.clone().debug_assert();
        let explained = |command: &clap::Command| {
            for argument in command.get_arguments().filter(|argument| argument.get_id() != "help") {
                assert!(argument.get_help().is_some(), "{} {}", command.get_name(), argument.get_id());
            }
        };
        for sub in command.get_subcommands() {
            assert!(sub.get_about().is_some(), "{}", sub.get_name());
            explained(sub);
            sub.get_subcommands().for_each(explained);
        }
    }
}
