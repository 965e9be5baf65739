//! `woodrush`: describe, check, bench, run and prove a field-bus converter from one text file.
#![forbid(unsafe_code)]

mod args;
mod commands;
mod connections;
mod console;
mod kept;
mod project;
mod render;
mod version;

use clap::FromArgMatches;
use clap::error::ErrorKind;
use console::Console;
use std::process::ExitCode;

/// How a command ended that could do its work.
#[must_use]
pub(crate) enum Verdict {
    /// Done and good: exit status 0.
    Yes,
    /// The answer is "no": exit status 1.
    No,
    /// The outside world failed, and that was said: exit status 3.
    Outside,
}

/// Why a command could not do its work.
#[derive(Debug)]
pub(crate) enum Failure {
    /// Wrong usage or an unreadable file: exit status 2.
    Usage(String),
    /// The outside world: port, connection, device: exit status 3.
    Outside(String),
    /// Nobody reads our output any more, which is their right: exit status 0.
    OutputClosed,
}

impl From<std::io::Error> for Failure {
    fn from(error: std::io::Error) -> Self {
        match error.kind() {
            std::io::ErrorKind::BrokenPipe => Self::OutputClosed,
            _ => Self::Outside(error.to_string()),
        }
    }
}

fn main() -> ExitCode {
    commands::completions::answer();
    let args = args::command().try_get_matches().and_then(|found| args::Args::from_arg_matches(&found));
    let args = match args {
        Ok(args) => args,
        Err(error)
            if !error.use_stderr() || error.kind() == ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand =>
        {
            // Nobody to tell if the terminal is gone.
            let _ = error.print();
            return ExitCode::from(if error.use_stderr() { 2 } else { 0 });
        }
        Err(error) => {
            Console::new(&args::Global::default())
                .complain(&args::words(&error, &std::env::args().collect::<Vec<_>>()));
            return ExitCode::from(2);
        }
    };
    let mut console = Console::new(&args.global);
    match commands::run(args, &mut console) {
        Ok(Verdict::Yes) | Err(Failure::OutputClosed) => ExitCode::SUCCESS,
        Ok(Verdict::No) => ExitCode::from(1),
        Ok(Verdict::Outside) => ExitCode::from(3),
        Err(Failure::Usage(what)) => {
            console.complain(&what);
            ExitCode::from(2)
        }
        Err(Failure::Outside(what)) => {
            console.complain(&what);
            ExitCode::from(3)
        }
    }
}
