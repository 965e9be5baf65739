//! `woodrush compare`: two states of a site, as what changes for the clients of the images, and who must follow.

mod sides;

use crate::args::{CompareArgs, Format, Global};
use crate::console::{Console, Table, Tone};
use crate::render::changes::{ComparedRow, rows};
use crate::{Failure, Verdict};
use sides::Side;
use woodrush_core::Sources;
use woodrush_core::compare::{Comparison, Follower, followers};

pub(crate) fn run(console: &mut Console, global: &Global, args: &CompareArgs) -> Result<Verdict, Failure> {
    let old = sides::side(&args.old, global)?;
    let new = match &args.new {
        Some(word) => sides::side(word, global)?,
        None => sides::own(global)?,
    };
    for side in [&old, &new] {
        if let Some(Err(why)) = side.checked.as_ref().map(crate::project::addressed) {
            console.note(&format!("{}: {why}; until then it is shown nowhere", side.name));
        }
    }
    let comparison = Comparison::of(&old.site, &new.site);
    // Lists and devices are those of now; two issues are held against the project that they are issues of.
    let project = match (new.checked.is_some(), old.checked.is_some()) {
        (false, false) => sides::own(global).ok().and_then(|own| own.checked),
        _ => None,
    };
    let now = new.checked.as_ref().or(project.as_ref()).or(old.checked.as_ref());
    let following = now.map(|now| followers(&comparison, now)).unwrap_or_default();
    let rows = rows(&comparison);
    match console.format {
        Format::Json => {
            json(console, &old, &new, &comparison, &rows, &following, now.map(|now| &now.project.sources))?
        }
        Format::Csv => console.table(&table(&rows, true))?,
        Format::Text => {
            text(console, (&old, &new), &comparison, &rows)?;
            must_follow(console, &following, now.map(|now| &now.project.sources))?;
        }
    }
    let is_asked_for = !following.is_empty() || rows.iter().any(|row| row.must_follow);
    Ok(if is_asked_for { Verdict::No } else { Verdict::Yes })
}

fn table(rows: &[ComparedRow], whole: bool) -> Table {
    let mut head = vec!["of", "address", "change", "value", "was", "is"];
    if whole {
        head.push("must_follow");
    }
    let row = |row: &ComparedRow| {
        let mut cells = vec![
            row.of.clone(),
            row.address.clone(),
            row.change.clone(),
            row.value.clone(),
            row.was.clone(),
            row.is.clone(),
        ];
        if whole {
            cells.push(row.must_follow.to_string());
        }
        cells
    };
    Table { head, rows: rows.iter().map(row).collect(), whole: &[0, 1, 2] }
}

fn text(
    console: &mut Console,
    (old, new): (&Side, &Side),
    comparison: &Comparison,
    rows: &[ComparedRow],
) -> Result<(), Failure> {
    console.say(&format!("old  {}\nnew  {}", old.name, new.name))?;
    for (what, renamed) in [("device", &comparison.renamed_devices), ("image", &comparison.renamed_images)] {
        for (was, is) in renamed {
            console.say(&format!("the {what} {was} is called {is} now: nothing changes by that outside"))?;
        }
    }
    if rows.is_empty() {
        let good = console.paint(Tone::Good, "nothing changes");
        return console.say(&format!("{good} for the clients, and on no line"));
    }
    console.table(&table(rows, false))
}

fn must_follow(
    console: &mut Console,
    following: &[Follower],
    sources: Option<&Sources>,
) -> Result<(), Failure> {
    if following.is_empty() {
        return console.say(&console.paint(Tone::Good, "no client or device must follow"));
    }
    let head = console.paint(Tone::Accent, "must follow");
    console.say(&format!("\n{head}"))?;
    for own in following {
        console.say(&format!("  {}", own.who))?;
        for row in &own.rows {
            let at =
                place(sources, row.span).map_or(String::new(), |(file, line)| format!("{file}:{line}  "));
            console.say(&format!("    {at}{}", row.text))?;
        }
    }
    Ok(())
}

fn place(sources: Option<&Sources>, span: Option<woodrush_core::Span>) -> Option<(String, usize)> {
    let at = sources?.position(span?);
    Some((at.file.to_string(), at.line))
}

fn json(
    console: &mut Console,
    old: &Side,
    new: &Side,
    comparison: &Comparison,
    rows: &[ComparedRow],
    following: &[Follower],
    sources: Option<&Sources>,
) -> Result<(), Failure> {
    let who = |own: &Follower| {
        let row = |row: &woodrush_core::compare::FollowerRow| {
            let at = place(sources, row.span);
            serde_json::json!({
                "file": at.as_ref().map(|(file, _)| file), "line": at.as_ref().map(|(_, line)| line), "what": row.text,
            })
        };
        serde_json::json!({ "who": own.who, "rows": own.rows.iter().map(row).collect::<Vec<_>>() })
    };
    console.json(&serde_json::json!({
        "format": 1, "old": old.name, "new": new.name,
        "renamed": { "devices": comparison.renamed_devices, "images": comparison.renamed_images },
        "changes": rows,
        "must_follow": following.iter().map(who).collect::<Vec<_>>(),
    }))
}
