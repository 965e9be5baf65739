//! `woodrush handover`: the list of values for the programmer of each client, ready to be taken into its system. Given
//! back as the client's `list`, it is what `check` holds the rules against.

use super::ledger;
use crate::args::{Format, HandoverArgs};
use crate::console::{Console, Table, Tone, counted, no_formula};
use crate::{Failure, Verdict};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::SystemTime;
use woodrush_core::check::{Checked, Finding};
use woodrush_core::compare::{device_settings, image_settings};
use woodrush_core::handover::{HandoverList, handover_list, issued_values};
use woodrush_core::ledger::{EndSettings, Issue, IssuedValue};

/// A list that was written.
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
    let Some(checked) = crate::project::sound_but_for(console, checked, &is_meant)? else {
        return Ok(Verdict::No);
    };
    crate::project::addressed(&checked).map_err(Failure::Usage)?;
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
    let mut written = vec![];
    for client in wanted {
        let Some(list) = handover_list(&checked, client) else { continue };
        let path = args.dir.join(format!("{}.csv", client.name.value));
        written.push(WrittenList { client: client.name.value.clone(), path, list });
    }
    if written.is_empty() {
        return Err(Failure::Usage(
            "no client asks an image: add `[clients.NAME]` with `image` for each client that shall get a list"
                .into(),
        ));
    }
    if let Some((own, list)) = overwritten(&checked, path, &written) {
        return Err(Failure::Usage(format!(
            "{} is the list that {list} has given back, and is not overwritten: name another folder",
            own.path.display()
        )));
    }
    for own in &written {
        write(&args.dir, own).map_err(|error| {
            Failure::Outside(format!("{} cannot be written: {error}", own.path.display()))
        })?;
    }
    let issue = match (args.issue.as_deref(), held) {
        (Some(note), Some(held)) => Some(close(&checked, &place, held, note)?),
        _ => None,
    };
    show(console, &written, issue.as_ref())?;
    Ok(if written.iter().all(|own| own.list.left_out.is_empty()) { Verdict::Yes } else { Verdict::No })
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

/// Closes an issue: its number, and whether it is a new one. What has not changed since the last one is that one.
fn close(checked: &Checked, place: &Path, held: ledger::Held, note: &str) -> Result<(u32, bool), Failure> {
    let mut whole = ledger::read(place)?;
    let values = issued_values(&checked.project, &checked.plan);
    let values: BTreeMap<String, IssuedValue> =
        values.into_iter().map(|(address, (value, _))| (address, value)).collect();
    let images = image_settings(&checked.project, &checked.plan);
    let devices = device_settings(&checked.project, &checked.plan);
    let is_as = |old: &BTreeMap<String, EndSettings>, new: &BTreeMap<String, EndSettings>| {
        old.len() == new.len()
            && old.iter().all(|(name, own)| new.get(name).is_some_and(|new| new.items == own.items))
    };
    if let Some(last) = whole.issues.last()
        && is_as(&last.images, &images)
        && is_as(&last.devices, &devices)
        && last.values.len() == values.len()
        && last.values.iter().all(|(address, old)| values.get(address).is_some_and(|new| new.is_as(old)))
    {
        return Ok((last.number, false));
    }
    let number = whole.issues.iter().map(|issue| issue.number).max().unwrap_or(0) + 1;
    #[allow(clippy::disallowed_methods, reason = "the day on which a person hands over")]
    let now = humantime::format_rfc3339_seconds(SystemTime::now()).to_string();
    whole.issues.push(Issue {
        number,
        date: now.split('T').next().unwrap_or_default().to_string(),
        note: note.to_string(),
        project: format!("{:016x}", checked.plan.fingerprint(&checked.project)),
        images,
        devices,
        values,
    });
    held.write(&whole.text())?;
    Ok((number, true))
}

/// Writes a list beside its place first, so that the one that was there stays whole until the new one is.
fn write(dir: &Path, own: &WrittenList) -> std::io::Result<()> {
    std::fs::create_dir_all(dir)?;
    let delimiter = u8::try_from(own.list.delimiter).unwrap_or(b',');
    let mut writer = csv::WriterBuilder::new().delimiter(delimiter).from_writer(vec![]);
    for row in std::iter::once(&own.list.head).chain(&own.list.rows) {
        writer.write_record(row.iter().map(|cell| no_formula(cell).into_owned()))?;
    }
    let bytes = writer.into_inner().map_err(|error| std::io::Error::other(error.to_string()))?;
    let beside = own.path.with_extension("csv.new");
    std::fs::write(&beside, bytes)?;
    std::fs::rename(&beside, &own.path)
}

fn show(console: &mut Console, written: &[WrittenList], issue: Option<&(u32, bool)>) -> Result<(), Failure> {
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
            console.json(&serde_json::json!({ "format": 1, "lists": lists, "issue": issue }))?;
        }
        Format::Csv => {
            let row = |own: &WrittenList| {
                vec![own.client.clone(), own.path.display().to_string(), own.list.rows.len().to_string()]
            };
            let rows = written.iter().map(row).collect();
            console.table(&Table { head: vec!["client", "path", "values"], rows, whole: &[] })?;
        }
        Format::Text => {
            for own in written {
                let head = console.paint(Tone::Good, "wrote");
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
