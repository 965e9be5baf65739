//! Puts the commit and its date into the program, for `--version` and reports.

use std::process::Command;

fn main() {
    let commit = git(&["rev-parse", "--short=10", "HEAD"]);
    let date = git(&["log", "-1", "--format=%cs"]);
    println!("cargo:rustc-env=WOODRUSH_COMMIT={}", commit.unwrap_or_default());
    println!("cargo:rustc-env=WOODRUSH_DATE={}", date.unwrap_or_default());
    println!("cargo:rerun-if-changed=build.rs");
    // The log of HEAD gets a line at each commit, whatever branch is checked out.
    if let Some(log) = git(&["rev-parse", "--path-format=absolute", "--git-path", "logs/HEAD"]) {
        println!("cargo:rerun-if-changed={log}");
    }
}

/// What git says; `None` where there is no git, or no repository.
fn git(words: &[&str]) -> Option<String> {
    let out = Command::new("git").args(words).output().ok().filter(|out| out.status.success())?;
    let said = String::from_utf8(out.stdout).ok()?;
    Some(said.trim().to_string()).filter(|said| !said.is_empty())
}
