//! Wrong usage in our own words: what is wrong, and what to write instead.

use clap::Command;
use clap::error::{ContextKind, ContextValue, ErrorKind};
use woodrush_core::nearest;

/// What is wrong with this line, in one sentence.
pub(crate) fn words(error: &clap::Error, line: &[String]) -> String {
    let one = |kind: ContextKind| texts(error, kind).into_iter().next().unwrap_or_default();
    let help = " (`--help` shows examples)";
    match error.kind() {
        ErrorKind::UnknownArgument => {
            let written = one(ContextKind::InvalidArg);
            let near = near(&written, &options(line)).unwrap_or_else(|| help.into());
            format!("`{written}` is not an option here{near}")
        }
        ErrorKind::InvalidSubcommand => {
            let written = one(ContextKind::InvalidSubcommand);
            let known = names(within(line).get_subcommands());
            let near = near(&written, &known).unwrap_or_else(|| format!(" ({})", known.join(", ")));
            format!("`{written}` is not a command{near}")
        }
        ErrorKind::InvalidValue => {
            let argument = name(&one(ContextKind::InvalidArg));
            let value = one(ContextKind::InvalidValue);
            let valid = texts(error, ContextKind::ValidValue).join(", ");
            let near = near(&value, &texts(error, ContextKind::ValidValue));
            let fix = near.unwrap_or_else(|| match valid.is_empty() {
                false => format!(" ({valid})"),
                true => String::new(),
            });
            match value.is_empty() {
                true => format!("`{argument}` needs a value{fix}"),
                false => format!("`{value}` is not a valid value of `{argument}`{fix}"),
            }
        }
        ErrorKind::ValueValidation => {
            let why = std::error::Error::source(error).map(|why| format!(": {why}")).unwrap_or_default();
            let argument = name(&one(ContextKind::InvalidArg));
            format!("`{}` is not a valid value of `{argument}`{why}", one(ContextKind::InvalidValue))
        }
        ErrorKind::MissingRequiredArgument => {
            let missing: Vec<String> = texts(error, ContextKind::InvalidArg)
                .iter()
                .map(|text| format!("`{}`", name(text)))
                .collect();
            let verb = if missing.len() == 1 { "is" } else { "are" };
            format!("{} {verb} missing{help}", missing.join(" and "))
        }
        ErrorKind::ArgumentConflict => {
            let argument = name(&one(ContextKind::InvalidArg));
            match texts(error, ContextKind::PriorArg).first().map(|text| name(text)) {
                Some(prior) if prior == argument => format!("`{argument}` can be given only once"),
                Some(prior) => format!("`{argument}` cannot be used with `{prior}` (leave one of them out)"),
                None => format!("`{argument}` cannot be used with the other options"),
            }
        }
        _ => {
            let text = error.to_string();
            let first = text.lines().next().unwrap_or_default();
            format!("{}{help}", first.trim_start_matches("error: "))
        }
    }
}

/// What to write instead, if one of these was meant.
fn near(written: &str, known: &[String]) -> Option<String> {
    nearest(written, known.iter().map(String::as_str)).map(|near| format!(" (write `{near}`)"))
}

/// The command that a line names, or the program.
fn within(line: &[String]) -> Command {
    let mut found = super::command();
    for word in line.iter().skip(1) {
        if let Some(command) = found.find_subcommand(word) {
            found = command.clone();
        }
    }
    found
}

fn names<'a>(commands: impl Iterator<Item = &'a Command>) -> Vec<String> {
    commands.map(|command| command.get_name().to_string()).collect()
}

/// The options that can stand in a line.
fn options(line: &[String]) -> Vec<String> {
    let (own, all) = (within(line), super::command());
    let own = own.get_arguments().chain(all.get_arguments());
    own.filter_map(|argument| argument.get_long()).map(|long| format!("--{long}")).collect()
}

/// `--for` of `--for <TIME>`, `TARGET` of `<TARGET>...`.
fn name(text: &str) -> String {
    let first = text.split(['=', ' ']).next().unwrap_or(text);
    first.trim_matches(['<', '>', '.', '[', ']']).to_string()
}

fn texts(error: &clap::Error, kind: ContextKind) -> Vec<String> {
    match error.get(kind) {
        Some(ContextValue::String(text)) => vec![text.clone()],
        Some(ContextValue::Strings(texts)) => texts.clone(),
        _ => vec![],
    }
}

#[cfg(test)]
mod tests {

    #[test]
    fn each_kind_of_wrong_usage_says_what_to_write() {
        for (line, told) in [
            ("read --fro 1s do-1", "`--fro` is not an option here (write `--for`)"),
            ("chek", "`chek` is not a command (write `check`)"),
            ("--format jso map", "`jso` is not a valid value of `--format` (write `json`)"),
            ("--color x map", "`x` is not a valid value of `--color` (auto, always, never)"),
            ("budget --dead x", "`x` is not a valid value of `--dead`: invalid digit found in string"),
            ("rig mutt do-1", "`mutt` is not a command (write `mute`)"),
            ("read", "`TARGET` is missing (`--help` shows examples)"),
            ("decode 1 --hex --dec", "`--hex` cannot be used with `--dec` (leave one of them out)"),
            ("read --every 1s --every 2s do-1", "`--every` can be given only once"),
            ("read do-1 --unit", "`--unit` needs a value"),
            ("prove --samples 3", "`--live` is missing (`--help` shows examples)"),
        ] {
            let words: Vec<String> =
                std::iter::once("woodrush").chain(line.split(' ')).map(String::from).collect();
            let error = super::super::command().try_get_matches_from(&words).unwrap_err();
            assert_eq!(super::words(&error, &words), told, "{line}");
        }
    }
}
