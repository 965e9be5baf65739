//! `woodrush handover`: the papers for the people on the other side: a page of the whole site, and for the programmer
//! of each client the list of its values, ready to be taken into its system. Given back as the client's `list`, it is
//! what `check` holds the rules against.

mod files;
mod issue;
mod results;

use super::ledger;
use crate::args::{Format, HandoverArgs};
use crate::console::{Console, Table, Tone, counted};
use crate::render::changes::rows;
use crate::render::handover::{IssueHead, Page};
use crate::{Failure, Verdict};
use files::{ReadyFiles, csv_of};
use issue::Issues;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::SystemTime;
use woodrush_core::check::{Checked, Finding};
use woodrush_core::compare::{Comparison, KnownSite, followers};
use woodrush_core::handover::{HandoverList, handover_list, papers};

/// A list that is written.
struct WrittenList {
    client: String,
    path: PathBuf,
    list: HandoverList,
}

pub(crate) fn run(console: &mut Console, path: &Path, args: &HandoverArgs) -> Result<Verdict, Failure> {
    let place = ledger::place(path);
    let held = args.issue.as_ref().map(|_| ledger::Held::take(&place)).transpose()?;
    // A new issue says that what differs from the last one was meant.
    let is_meant =
        |finding: &Finding| held.is_some() && matches!(finding.rule.code, "M26" | "M59" | "M60" | "M61");
    let checked = crate::project::load(path)?;
    let Some(mut checked) = crate::project::sound_but_for(console, checked, &is_meant)? else {
        return Ok(Verdict::No);
    };
    crate::project::addressed(&checked).map_err(Failure::Usage)?;
    checked.findings.retain(|finding| !is_meant(finding));
    let written = lists(&checked, args)?;
    if let Some((own, list)) = overwritten(&checked, path, &written) {
        return Err(Failure::Usage(format!(
            "{} is the list that {list} has given back, and is not overwritten: name another folder",
            own.path.display()
        )));
    }
    let mut ready = ReadyFiles::default();
    for own in &written {
        ready.add(&own.path, &csv_of(&own.list)?)?;
    }
    let today = today();
    let issues = Issues::of(&checked, &place, args.issue.as_deref(), &today)?;
    let mut pages = vec![];
    if args.client.is_none() {
        pages = write_pages(&mut ready, &checked, args, &issues, &written, today)?;
    }
    if let Some(held) = held {
        issues.write(held)?;
    }
    ready.place()?;
    let closed = args.issue.as_ref().and(issues.last()).map(|issue| (issue.number, issues.is_new()));
    show(console, &written, &pages, closed.as_ref())?;
    Ok(if written.iter().all(|own| own.list.left_out.is_empty()) { Verdict::Yes } else { Verdict::No })
}

fn today() -> String {
    #[allow(clippy::disallowed_methods, reason = "the day on which a person hands over")]
    let now = humantime::format_rfc3339_seconds(SystemTime::now()).to_string();
    now.split('T').next().unwrap_or_default().to_string()
}

/// The lists that are asked for.
fn lists(checked: &Checked, args: &HandoverArgs) -> Result<Vec<WrittenList>, Failure> {
    let clients = &checked.project.clients;
    if let Some(name) = &args.client {
        match clients.iter().find(|client| client.name.value == *name) {
            Some(client) if client.image.is_none() => {
                return Err(Failure::Usage(format!(
                    "`{name}` asks through a forward: it has no list of an image's values"
                )));
            }
            Some(_) => {}
            None => {
                let names: Vec<&str> = clients.iter().map(|client| client.name.value.as_str()).collect();
                let known = if names.is_empty() { "there is none".into() } else { names.join(", ") };
                return Err(Failure::Usage(format!("there is no client `{name}` ({known})")));
            }
        }
    }
    let wanted =
        clients.iter().filter(|client| args.client.as_ref().is_none_or(|name| client.name.value == *name));
    let written = wanted.filter_map(|client| {
        let list = handover_list(checked, client)?;
        let path = args.dir.join(format!("{}.csv", client.name.value));
        Some(WrittenList { client: client.name.value.clone(), path, list })
    });
    Ok(written.collect())
}

/// The page, the same as Markdown, and its drawing.
fn write_pages(
    ready: &mut ReadyFiles,
    checked: &Checked,
    args: &HandoverArgs,
    issues: &Issues,
    written: &[WrittenList],
    today: String,
) -> Result<Vec<PathBuf>, Failure> {
    let papers = papers(checked);
    let results = args.with.iter().map(|path| results::read(path, &papers.project_id));
    let results = results.collect::<Result<_, _>>()?;
    let now = KnownSite::of_project(checked);
    let comparison = issues.since().map(|since| Comparison::of(&KnownSite::of_issue(since), &now));
    let changes = comparison.as_ref().map(rows).unwrap_or_default();
    let file = |own: &WrittenList| own.path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let mut lists: BTreeMap<String, String> =
        checked.project.clients.iter().map(|client| (client.name.value.clone(), String::new())).collect();
    lists.extend(written.iter().map(|own| (own.client.clone(), file(own))));
    let page = Page {
        papers: &papers,
        issue: issues.last().map(IssueHead::of),
        since: issues.since().map(IssueHead::of),
        differs: !issues.is_new() && !changes.is_empty(),
        followers: comparison.map(|comparison| followers(&comparison, checked)).unwrap_or_default(),
        changes,
        sources: &checked.project.sources,
        lists,
        results,
        date: today,
    };
    let mut paths = vec![];
    for (name, text) in [
        ("handover.html", page.html()?),
        ("handover.md", page.markdown()?),
        ("drawing.svg", papers.drawing.clone()),
    ] {
        let path = args.dir.join(name);
        ready.add(&path, text.as_bytes())?;
        paths.push(path);
    }
    Ok(paths)
}

/// A list that would be written over the one that a client has given back: that is the witness, with its own names.
fn overwritten<'w>(
    checked: &'w Checked,
    project: &Path,
    written: &'w [WrittenList],
) -> Option<(&'w WrittenList, &'w str)> {
    let folder = project.parent().unwrap_or(Path::new(""));
    let lists = checked.project.clients.iter().filter_map(|client| Some((client, client.list.as_ref()?)));
    let lists = lists.filter_map(|(client, list)| {
        let whole = std::fs::canonicalize(folder.join(&list.path.value)).ok()?;
        Some((whole, client.name.value.as_str()))
    });
    let lists: Vec<(PathBuf, &str)> = lists.collect();
    written.iter().find_map(|own| {
        let whole = std::fs::canonicalize(&own.path).ok()?;
        lists.iter().find(|(list, _)| *list == whole).map(|(_, client)| (own, *client))
    })
}

fn show(
    console: &mut Console,
    written: &[WrittenList],
    pages: &[PathBuf],
    issue: Option<&(u32, bool)>,
) -> Result<(), Failure> {
    match console.format {
        Format::Json => {
            let one = |own: &WrittenList| {
                let left_out = own.list.left_out.iter();
                let left_out: Vec<_> =
                    left_out.map(|(value, why)| serde_json::json!({ "value": value, "why": why })).collect();
                serde_json::json!({
                    "client": own.client, "path": own.path.display().to_string(),
                    "values": own.list.rows.len(), "left_out": left_out,
                })
            };
            let lists: Vec<_> = written.iter().map(one).collect();
            let issue = issue.map(|(number, is_new)| serde_json::json!({ "number": number, "new": is_new }));
            let pages: Vec<String> = pages.iter().map(|path| path.display().to_string()).collect();
            console
                .json(&serde_json::json!({ "format": 1, "lists": lists, "pages": pages, "issue": issue }))?;
        }
        Format::Csv => {
            let row = |own: &WrittenList| {
                vec![own.client.clone(), own.path.display().to_string(), own.list.rows.len().to_string()]
            };
            let rows = written.iter().map(row).collect();
            console.table(&Table { head: vec!["client", "path", "values"], rows, whole: &[] })?;
        }
        Format::Text => {
            let head = console.paint(Tone::Good, "wrote");
            for path in pages {
                console.say(&format!("{head} {}", path.display()))?;
            }
            for own in written {
                let values = counted(own.list.rows.len(), "value");
                console.say(&format!("{head} {} for {}: {values}", own.path.display(), own.client))?;
            }
        }
    }
    match issue {
        Some((number, true)) => {
            console
                .note(&format!("issue {number} is closed: `check` holds the project against it from now on"));
        }
        Some((number, false)) => {
            console.note(&format!("nothing has changed since issue {number}: no new one was closed"));
        }
        None => {}
    }
    for own in written {
        for (value, why) in &own.list.left_out {
            let head = console.paint(Tone::Bad, "left out");
            console.note(&format!("{head} of {}: `{value}`: {why}", own.path.display()));
        }
    }
    Ok(())
}
