//! Who else must follow when a device has another number.

use woodrush_core::check::Checked;
use woodrush_core::compare::asked_behind;

/// In words, each with what is to be done.
pub(super) fn list(checked: &Checked, device: usize, from: u32, to: u32) -> Vec<String> {
    let behind = asked_behind(&checked.project, &checked.plan, device, from, to);
    let mut found: Vec<String> = behind
        .into_iter()
        .flat_map(|follower| {
            follower.rows.into_iter().map(move |row| format!("{}: {}", follower.who, row.text))
        })
        .collect();
    if let Some(issue) = checked.project.issues.last() {
        found.push(format!(
            "clients and devices set up by issue {}: `woodrush compare issue:{}` lists them",
            issue.number, issue.number
        ));
    }
    found.push("a running converter: with `run --follow` it reloads the file, otherwise send SIGHUP".into());
    found.push("papers and labels that show the unit".into());
    found
}
