//! `woodrush check`: every static fault, with the line of the file, why it hurts, and the fix.

use crate::args::Format;
use crate::console::{Console, Tone, counted};
use crate::render::findings;
use crate::{Failure, Verdict};
use std::path::Path;
use woodrush_core::check::Severity;

pub(crate) fn run(console: &mut Console, path: &Path, all: bool) -> Result<Verdict, Failure> {
    let checked = crate::project::load(path)?;
    match console.format {
        Format::Json => console.json(&findings::json(&checked))?,
        Format::Csv => console.table(&findings::table(&checked))?,
        Format::Text => {
            let most = if all { usize::MAX } else { findings::MOST };
            let text = findings::text(console, &checked, false, most);
            if !text.is_empty() {
                console.say(&text)?;
                console.say("")?;
            }
            if console.verbose {
                for line in findings::polls(&checked) {
                    console.say(&line)?;
                }
                console.say("")?;
            }
            let summary = summary(console, &checked);
            console.say(&summary)?;
        }
    }
    // A file that cannot be read is no answer.
    if checked.findings.iter().any(|finding| finding.rule.code == "F07") {
        return Err(Failure::Usage("a profile cannot be read, so the check is incomplete".into()));
    }
    Ok(if checked.has_errors() { Verdict::No } else { Verdict::Yes })
}

fn summary(console: &Console, checked: &woodrush_core::check::Checked) -> String {
    let count = |severity| checked.findings.iter().filter(|finding| finding.severity == severity).count();
    let (errors, warnings, remarks) =
        (count(Severity::Error), count(Severity::Warning), count(Severity::Remark));
    let plan = &checked.plan;
    let size = format!(
        "{}, {}, {}",
        counted(plan.devices.len(), "device"),
        counted(
            plan.rules.iter().filter(|rule| rule.source != woodrush_core::plan::Source::Client).count(),
            "rule"
        ),
        counted(plan.transfers.len(), "poll"),
    );
    let found =
        [counted(errors, "error"), counted(warnings, "warning"), counted(remarks, "remark")].join(", ");
    let (tone, word) = if errors > 0 { (Tone::Bad, "failed") } else { (Tone::Good, "good") };
    format!("{}  {found}  ({size})", console.paint(tone, word))
}
