//! Writes that were asked for: through the image, looked for in the device, and the old value put back.

use super::{Subject, cells};
use crate::Failure;
use crate::connections::{Connections, Failed};
use crate::console::{Console, Tone};
use std::io::{BufRead, IsTerminal, Write};
use std::time::Duration;
use woodrush_core::form::hex_words;
use woodrush_core::project::Owner;
use woodrush_core::protocol::Verb;
use woodrush_core::wanted::Wanted;

/// How often the device is looked at for a value that was written, and the pause between.
const ARRIVES: (usize, Duration) = (25, Duration::from_millis(200));

/// How often something is asked for before it counts as not to be had.
const TRIES: u32 = 3;

/// A write that was asked for.
pub(super) struct Planned {
    pub(super) subject: usize,
    text: String,
    cells: Vec<u8>,
}

pub(super) fn planned(
    connections: &Connections,
    subjects: &[Subject],
    text: &str,
) -> Result<Planned, Failure> {
    let (target, value) = text.rsplit_once('=').ok_or_else(|| {
        Failure::Usage(format!(
            "`--write {text}` has no value (write it as POINT=VALUE: only you know what is safe there)"
        ))
    })?;
    let wanted = connections.wanted(&[target.trim().to_string()])?;
    let [wanted] = wanted.as_slice() else {
        return Err(Failure::Usage(format!("`{target}` is a whole device (name one point)")));
    };
    let own = wanted.place.extent();
    let hit = |subject: &&Subject| {
        let end =
            if matches!(wanted.owner, Some(Owner::Image(_))) { &subject.image } else { &subject.device };
        let there = end.place.extent();
        wanted.owner == end.owner
            && there.space == own.space
            && there.first == own.first
            && subject.pair.count == 1
    };
    let found = subjects.iter().enumerate().find(|(_, subject)| hit(subject));
    let Some((at, subject)) = found else {
        return Err(Failure::Usage(format!("no rule shows exactly `{target}`, one value, in an image")));
    };
    if subject.device.guarded {
        return Err(Failure::Usage(format!("`{target}` is marked `guarded`: no test writes it")));
    }
    if !subject.pair.writable {
        return Err(Failure::Usage(format!("the rule of `{target}` is read-only: no client can write it")));
    }
    let cells =
        subject.image.cells(value.trim()).map_err(|why| Failure::Usage(format!("{target}: {why}")))?;
    Ok(Planned { subject: at, text: value.trim().to_string(), cells })
}

/// Asks once for all writes.
pub(super) fn agreed(console: &Console, subjects: &[Subject], writes: &[Planned]) -> Result<(), Failure> {
    if !std::io::stdin().is_terminal() {
        return Err(Failure::Usage(
            "real devices are to be written, and no terminal to ask for confirmation (add `--yes`)".into(),
        ));
    }
    let list: Vec<String> = writes
        .iter()
        .filter_map(|write| Some(format!("{} = {}", subjects.get(write.subject)?.device.written, write.text)))
        .collect();
    let mut out = std::io::stderr().lock();
    let question =
        format!("write {} through the images, and put the old values back? [y/N] ", list.join(", "));
    write!(out, "{}", console.paint(Tone::Accent, &question))?;
    out.flush()?;
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line)?;
    if matches!(line.trim(), "y" | "Y" | "yes") {
        return Ok(());
    }
    Err(Failure::Usage("nothing was written".into()))
}

/// Writes through the image, looks at the device, and puts the old value back; in words, and whether all went well.
pub(super) fn written(
    connections: &mut Connections,
    subjects: &[Subject],
    planned: &Planned,
) -> (String, bool) {
    let Some(subject) = subjects.get(planned.subject) else { return ("it is not there".into(), false) };
    let (device, image) = (&subject.device, &subject.image);
    let old = match (tried(|| cells(connections, device)), tried(|| cells(connections, image))) {
        (Ok(device), Ok(image)) => (device, image),
        (Err(failed), _) | (_, Err(failed)) => {
            return (
                format!("not written, because it cannot be read first: {}", failed.diagnosis.seen),
                false,
            );
        }
    };
    if subject.pair.arrived(&old.0, &planned.cells) {
        return (format!("{} is there already: choose another value (M42)", planned.text), false);
    }
    let taken = put(connections, image, &planned.cells);
    // A write that was not confirmed may be in the device all the same.
    let arrived = arrives(connections, subject, &planned.cells);
    if let (Err(failed), false) = (&taken, arrived) {
        let seen = &failed.diagnosis.seen;
        if cells(connections, device).is_ok_and(|now| subject.pair.arrived(&now, &old.1)) {
            return (format!("{} was not taken: {seen}", planned.text), false);
        }
    }
    let back = put(connections, image, &old.1).is_ok() && arrives(connections, subject, &old.1);
    let shown = |wanted: &Wanted, cells: &[u8]| {
        wanted
            .values(cells)
            .into_iter()
            .next()
            .and_then(|shown| shown.value)
            .unwrap_or_else(|| hex_words(cells))
    };
    let before = shown(image, &old.1);
    let words = match (arrived, back) {
        (true, true) => format!("{} written and arrived; {before} put back", planned.text),
        (false, true) => format!("{} written and did not arrive; {before} put back", planned.text),
        (_, false) => format!("{} written; {before} could NOT be put back: write it by hand", planned.text),
    };
    (words, arrived && back)
}

fn put(connections: &mut Connections, image: &Wanted, cells: &[u8]) -> Result<(), Failed> {
    for extent in image.requests(Verb::Write).unwrap_or_default() {
        tried(|| connections.ask(image, |reach, station| reach.write(station, extent, cells.to_vec())))?;
    }
    Ok(())
}

/// Asks again where it went wrong: one message that noise took keeps no value from a device.
fn tried<T>(mut ask: impl FnMut() -> Result<T, Failed>) -> Result<T, Failed> {
    for _ in 1..TRIES {
        if let Ok(found) = ask() {
            return Ok(found);
        }
        crate::commands::rig::nap(ARRIVES.1);
    }
    ask()
}

fn arrives(connections: &mut Connections, subject: &Subject, wanted: &[u8]) -> bool {
    for _ in 0..ARRIVES.0 {
        if cells(connections, &subject.device).is_ok_and(|device| subject.pair.arrived(&device, wanted)) {
            return true;
        }
        crate::commands::rig::nap(ARRIVES.1);
    }
    false
}
