//! `woodrush completions`: completions for a shell, made by the program itself while a user types, so that they know
//! the project's names.

use crate::args::Global;
use crate::console::Console;
use crate::{Failure, Verdict};
use clap::Command;
use clap_complete::engine::{ArgValueCompleter, CompletionCandidate, PathCompleter, ValueCompleter};
use clap_complete::env::{CompleteEnv, Shells};
use std::ffi::OsStr;
use std::path::PathBuf;
use woodrush_core::check::Checked;
use woodrush_core::project::Client;

/// The variable in which a shell says that it asks for completions.
const VARIABLE: &str = "COMPLETE";

/// Prints what a shell reads once to know whom to ask.
pub(crate) fn run(console: &mut Console, shell: &str) -> Result<Verdict, Failure> {
    let shells = Shells::builtins();
    let Some(shell) = shells.completer(shell) else {
        return Err(Failure::Usage(format!("`{shell}` has no completions")));
    };
    let mut made = vec![];
    shell.write_registration(VARIABLE, "woodrush", "woodrush", "woodrush", &mut made)?;
    console.say(String::from_utf8_lossy(&made).trim_end())?;
    Ok(Verdict::Yes)
}

/// Answers a shell that asks for completions, and ends; does nothing for any other caller.
pub(crate) fn answer() {
    CompleteEnv::with_factory(command).var(VARIABLE).complete();
}

/// The command line with what completes each argument that takes a name of the project.
fn command() -> Command {
    type Names = fn(&Checked, &str) -> Vec<String>;
    let arguments: [(&str, &str, Names); 13] = [
        ("read", "targets", targets),
        ("write", "targets", targets),
        ("trace", "endpoints", targets),
        ("decode", "words", targets),
        ("tap", "at", targets),
        ("tap", "ports", ports),
        ("scan", "target", ports),
        ("readdress", "name", devices),
        ("set-up", "name", devices),
        ("watch", "filter", rules),
        ("prove", "write", targets),
        ("handover", "client", clients),
        ("import", "target", devices),
    ];
    let mut all = crate::args::command();
    for (command, argument, names) in arguments {
        all = all.mut_subcommand(command, |command| {
            let complete = move |typed: &OsStr| candidates(names, &typed.to_string_lossy());
            command.mut_arg(argument, |argument| argument.add(ArgValueCompleter::new(complete)))
        });
    }
    all = ["old", "new"].into_iter().fold(all, |all, argument| {
        all.mut_subcommand("compare", |command| {
            command.mut_arg(argument, |argument| argument.add(ArgValueCompleter::new(states)))
        })
    });
    all = all.mut_subcommand("explain", |command| {
        command.mut_arg("words", |argument| argument.add(ArgValueCompleter::new(terms)))
    });
    all.mut_subcommand("rig", |rig| {
        let arguments: [(&str, &str, Names); 32] = [
            ("set", "target", targets),
            ("get", "targets", targets),
            ("cut", "port", ports),
            ("unplug", "port", ports),
            ("noise", "port", ports),
            ("mend", "names", places),
            ("mute", "device", devices),
            ("slow", "device", devices),
            ("late", "device", devices),
            ("twice", "device", devices),
            ("short", "device", devices),
            ("as-unit", "device", devices),
            ("drop-ack", "device", devices),
            ("refuse", "device", devices),
            ("bad-status", "device", devices),
            ("out-of-service", "device", devices),
            ("swap", "device", devices),
            ("move", "device", devices),
            ("late-publications", "device", devices),
            ("drop-publications", "device", devices),
            ("write-lock", "device", devices),
            ("unscheduled", "device", devices),
            ("as-shipped", "device", devices),
            ("no-master", "port", ports),
            ("freeze", "end", ends),
            ("idle", "client", controllers),
            ("drop-cycles", "end", ends),
            ("late-cycles", "end", ends),
            ("wrong-size", "end", ends),
            ("second-owner", "client", controllers),
            ("wrong-slot", "client", controllers),
            ("name-taken", "client", controllers),
        ];
        arguments.into_iter().fold(rig, |rig, (command, argument, names)| {
            rig.mut_subcommand(command, |command| {
                let complete = move |typed: &OsStr| candidates(names, &typed.to_string_lossy());
                command.mut_arg(argument, |argument| argument.add(ArgValueCompleter::new(complete)))
            })
        })
    })
}

/// The names that begin as typed, of the project that is meant; none where there is none.
fn candidates(names: fn(&Checked, &str) -> Vec<String>, typed: &str) -> Vec<CompletionCandidate> {
    let global = Global { project: named_project(), ..Global::default() };
    let Ok(checked) = crate::project::find(&global).and_then(|path| crate::project::load(&path)) else {
        return vec![];
    };
    let names = names(&checked, typed).into_iter().filter(|name| name.starts_with(typed));
    names.map(CompletionCandidate::new).collect()
}

/// The project that the line names with `-p` or `--project`.
fn named_project() -> Option<PathBuf> {
    let words: Vec<String> = std::env::args().collect();
    let at = words.iter().position(|word| word == "-p" || word == "--project")?;
    words.get(at + 1).map(PathBuf::from)
}

fn ports(checked: &Checked, _: &str) -> Vec<String> {
    checked.project.ports.iter().map(|port| port.name.value.clone()).collect()
}

fn devices(checked: &Checked, _: &str) -> Vec<String> {
    checked.project.devices.iter().map(|device| device.name.value.clone()).collect()
}

/// Clients that get a list.
/// Clients that exchange blocks with their image.
fn controllers(checked: &Checked, _: &str) -> Vec<String> {
    let project = &checked.project;
    let image = |client: &Client| client.image.and_then(|image| project.image_dialect(image.value));
    let exchanges =
        project.clients.iter().filter(|client| image(client).is_some_and(|own| own.cyclic().is_some()));
    exchanges.map(|client| client.name.value.clone()).collect()
}

/// Devices that exchange blocks, and those clients.
fn ends(checked: &Checked, typed: &str) -> Vec<String> {
    let project = &checked.project;
    let devices = project
        .devices
        .iter()
        .enumerate()
        .filter(|(at, _)| project.device_dialect(*at).is_some_and(|own| own.cyclic().is_some()));
    devices.map(|(_, device)| device.name.value.clone()).chain(controllers(checked, typed)).collect()
}

fn clients(checked: &Checked, _: &str) -> Vec<String> {
    let asks = checked.project.clients.iter().filter(|client| client.image.is_some());
    asks.map(|client| client.name.value.clone()).collect()
}

/// What `compare` takes: issues of the ledger, revisions, and files and folders.
fn states(typed: &OsStr) -> Vec<CompletionCandidate> {
    let issues = |checked: &Checked, _: &str| -> Vec<String> {
        let all = checked.project.issues.iter().map(|issue| format!("issue:{}", issue.number));
        all.chain(["issue:last".into(), "git:HEAD".into()]).collect()
    };
    let mut found = candidates(issues, &typed.to_string_lossy());
    found.extend(PathCompleter::any().complete(typed));
    found
}

fn places(checked: &Checked, typed: &str) -> Vec<String> {
    [ports(checked, typed), devices(checked, typed)].concat()
}

fn rules(checked: &Checked, _: &str) -> Vec<String> {
    let named = checked.project.maps.iter().filter_map(|map| map.name.as_ref());
    named.map(|name| name.value.clone()).collect()
}

/// Devices and images; the points of a device once its name and a dot are there.
fn targets(checked: &Checked, typed: &str) -> Vec<String> {
    let project = &checked.project;
    let Some((device, _)) = typed.split_once('.') else {
        let images = project.images.iter().map(|image| format!("{}:", image.name.value));
        return devices(checked, typed).into_iter().chain(images).collect();
    };
    let found = project.devices.iter().find(|known| known.name.value == device);
    let profile = found.and_then(|device| project.profiles.get(device.profile.as_ref()?.value));
    let points = profile.into_iter().flat_map(|profile| &profile.points);
    points.map(|point| format!("{device}.{}", point.name.value)).collect()
}

/// Everything that can be explained.
fn terms(typed: &OsStr) -> Vec<CompletionCandidate> {
    let typed = typed.to_string_lossy().to_lowercase();
    let names = woodrush_core::explain::subjects().into_iter().flat_map(|(_, names)| names);
    names.filter(|name| name.to_lowercase().starts_with(&typed)).map(CompletionCandidate::new).collect()
}
