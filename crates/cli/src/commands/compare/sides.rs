//! The two that are compared: files, folders, issues of the ledger, or a revision of the repository that the project
//! is in.

use crate::Failure;
use crate::args::Global;
use crate::commands::ledger;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use woodrush_core::check::{Checked, Finding, Severity, check};
use woodrush_core::compare::KnownSite;
use woodrush_core::project::read;

/// One of the two.
pub(super) struct Side {
    /// As it is told.
    pub(super) name: String,
    /// What those outside know of it.
    pub(super) site: KnownSite,
    /// The project, where it is one and not an issue.
    pub(super) checked: Option<Checked>,
}

/// `issue:2`, `issue:last`, `git:REVISION`, a file or a folder.
pub(super) fn side(word: &str, global: &Global) -> Result<Side, Failure> {
    match word.split_once(':') {
        Some(("issue", number)) => issue(number, global),
        Some(("git", revision)) => {
            of_project(word.to_string(), of_revision(revision, &crate::project::find(global)?)?)
        }
        _ => {
            let path = PathBuf::from(word);
            let path = crate::project::find(&Global { project: Some(path), ..global.clone() })?;
            of_project(path.display().to_string(), crate::project::load(&path)?)
        }
    }
}

/// The project that other commands take.
pub(super) fn own(global: &Global) -> Result<Side, Failure> {
    let path = crate::project::find(global)?;
    of_project(path.display().to_string(), crate::project::load(&path)?)
}

fn issue(number: &str, global: &Global) -> Result<Side, Failure> {
    let path = crate::project::find(global)?;
    let place = ledger::place(&path);
    let whole = ledger::read(&place)?;
    let found = match number {
        "last" => whole.issues.last(),
        number => whole.issues.iter().find(|issue| number.parse() == Ok(issue.number)),
    };
    let Some(issue) = found else {
        let known: Vec<String> = whole.issues.iter().map(|issue| issue.number.to_string()).collect();
        let known = match known.as_slice() {
            [] => "it holds none; `woodrush handover DIR --issue \"…\"` closes one".to_string(),
            known => format!("there is {}", known.join(", ")),
        };
        return Err(Failure::Usage(format!("{} holds no issue `{number}` ({known})", place.display())));
    };
    let note = if issue.note.is_empty() { String::new() } else { format!(": {}", issue.note) };
    let name = format!("issue {} of {}{note}", issue.number, issue.date);
    Ok(Side { name, site: KnownSite::of_issue(issue), checked: None })
}

/// A project of which every rule is understood: one that is not would seem to be gone.
fn of_project(name: String, checked: Checked) -> Result<Side, Failure> {
    let hides =
        |finding: &&Finding| finding.severity == Severity::Error && finding.rule.code.starts_with('F');
    let first = checked.findings.iter().find(hides);
    let unresolved = !checked.plan.unresolved.is_empty();
    if first.is_some() || unresolved {
        let first = first.or_else(|| checked.findings.iter().find(|own| own.severity == Severity::Error));
        let why = first.map_or(String::new(), |own| {
            let at = checked.project.sources.position(own.span);
            format!(": {}:{}: {}", at.file, at.line, own.what)
        });
        return Err(Failure::Usage(format!(
            "{name} has rules that are not understood{why} (`woodrush check`)"
        )));
    }
    Ok(Side { name, site: KnownSite::of_project(&checked), checked: Some(checked) })
}

/// The project as a revision of its repository has it.
fn of_revision(revision: &str, path: &Path) -> Result<Checked, Failure> {
    if revision.is_empty() || revision.starts_with('-') || revision.contains([':', '\0']) {
        return Err(Failure::Usage(format!(
            "`{revision}` is not a revision, such as `git:HEAD` or `git:v1.2`"
        )));
    }
    let folder = path.parent().filter(|own| !own.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let file = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let text = shown(folder, revision, &file).map_err(Failure::Usage)?;
    let mut load = |path: &str| shown(folder, revision, path);
    Ok(check(read(&format!("git:{revision}/{file}"), text, &mut load)))
}

/// A file of a revision, by its path from the project's folder.
fn shown(folder: &Path, revision: &str, path: &str) -> Result<String, String> {
    if Path::new(path).is_absolute() {
        return Err(format!("{path} is outside the repository"));
    }
    let mut git = Command::new("git");
    git.arg("-C").arg(folder).arg("show").arg("--no-textconv").arg(format!("{revision}:./{path}"));
    git.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = git.spawn().map_err(|error| match error.kind() {
        std::io::ErrorKind::NotFound => "`git` is not installed, and `git:REVISION` asks it".to_string(),
        _ => format!("git cannot be started: {error}"),
    })?;
    let mut bytes = vec![];
    let most = woodrush_engine::PLAIN_MAX;
    if let Some(out) = child.stdout.take() {
        out.take(most + 1).read_to_end(&mut bytes).map_err(|error| format!("git: {error}"))?;
    }
    if bytes.len() as u64 > most {
        let _ = child.kill();
        let _ = child.wait();
        return Err(format!("{path} is longer than {} MB, the most that is read", most / 1024 / 1024));
    }
    let ended = child.wait_with_output().map_err(|error| format!("git: {error}"))?;
    if !ended.status.success() {
        let said = String::from_utf8_lossy(&ended.stderr);
        let said = said.lines().next().unwrap_or("it gives no reason").trim_start_matches("fatal: ");
        return Err(format!("git has no {path} of `{revision}`: {said}"));
    }
    Ok(woodrush_core::sheet::decode(&bytes).0)
}
