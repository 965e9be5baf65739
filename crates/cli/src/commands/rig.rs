//! `woodrush rig`: the bench, and commands to the one that runs in another terminal.

use crate::args::{Format, Rig as Words};
use crate::console::{Console, Table, Tone};
use crate::{Failure, Verdict};
use serde::Serialize;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;
use woodrush_engine::control::{Claim, Control, ControlAnswer, Remote, Row, Whose};
use woodrush_engine::rig::{Rig, RigWires};
use woodrush_engine::stop::Stop;

pub(crate) fn run(console: &mut Console, path: &Path, words: Words) -> Result<Verdict, Failure> {
    let (verb, words) = match words {
        Words::Up { wire } => return up(console, path, &wires(&wire)?),
        Words::Set { target } => ("set", vec![target]),
        Words::Get { targets } => ("get", targets),
        Words::Cut { port } => ("cut", vec![port]),
        Words::Mend { names } => ("mend", names),
        Words::Unplug { port } => ("unplug", vec![port]),
        Words::Mute { device } => ("mute", vec![device]),
        Words::Late { device } => ("late", vec![device]),
        Words::Twice { device } => ("twice", vec![device]),
        Words::Short { device } => ("short", vec![device]),
        Words::DropAck { device } => ("drop-ack", vec![device]),
        Words::AsUnit { device, unit } => ("as-unit", vec![device, unit]),
        Words::Close { port } => ("close", vec![port]),
        Words::ReadOnly { device } => ("read-only", vec![device]),
        Words::Rename { device, tag } => ("rename", vec![device, tag]),
        Words::Retype { device, tag } => ("retype", vec![device, tag]),
        Words::Slow { device, by } => ("slow", vec![device, by]),
        Words::Refuse { device, exception } => ("refuse", vec![device, exception]),
        Words::Noise { port, share } => ("noise", vec![port, share]),
        Words::BadStatus { device, status } => ("bad-status", vec![device, status]),
        Words::OutOfService { device } => ("out-of-service", vec![device]),
        Words::Swap { device } => ("swap", vec![device]),
        Words::Move { device, node } => ("move", vec![device, node]),
        Words::LatePublications { device, by } => ("late-publications", vec![device, by]),
        Words::DropPublications { device, share } => ("drop-publications", vec![device, share]),
        Words::WriteLock { device } => ("write-lock", vec![device]),
        Words::Unscheduled { device } => ("unscheduled", vec![device]),
        Words::AsShipped { device } => ("as-shipped", vec![device]),
        Words::NoMaster { port } => ("no-master", vec![port]),
        Words::Freeze { end } => ("freeze", vec![end]),
        Words::Idle { client } => ("idle", vec![client]),
        Words::DropCycles { end, share } => ("drop-cycles", vec![end, share]),
        Words::LateCycles { end, by } => ("late-cycles", vec![end, by]),
        Words::WrongSize { end } => ("wrong-size", vec![end]),
        Words::SecondOwner { client } => ("second-owner", vec![client]),
        Words::WrongSlot { client } => ("wrong-slot", vec![client]),
        Words::NameTaken { client } => ("name-taken", vec![client]),
        Words::Status => ("status", vec![]),
    };
    let answer = Remote::of(Whose::Rig, path).say(verb, &words).map_err(|error| match error.kind() {
        std::io::ErrorKind::NotFound | std::io::ErrorKind::ConnectionRefused => Failure::Outside(
            "no rig of this project is running (start `woodrush rig up` in another terminal)".into(),
        ),
        _ => Failure::Outside(format!("the rig does not answer: {error}")),
    })?;
    show(console, &answer)
}

fn show(console: &mut Console, answer: &ControlAnswer) -> Result<Verdict, Failure> {
    if !answer.done {
        return Err(Failure::Usage(answer.said.clone()));
    }
    match console.format {
        Format::Json => {
            console.json(&serde_json::json!({ "format": 1, "said": answer.said, "rows": answer.rows.iter().map(ShownRow::of).collect::<Vec<_>>() }))?
        }
        Format::Csv => console.table(&rows(&answer.rows))?,
        Format::Text => {
            if !answer.said.is_empty() {
                console.say(&answer.said)?;
            } else if !answer.rows.is_empty() {
                console.table(&rows(&answer.rows))?;
            }
        }
    }
    Ok(Verdict::Yes)
}

/// A row as programs read it: values that are numbers are numbers.
#[derive(Serialize)]
struct ShownRow<'r> {
    name: &'r str,
    #[serde(serialize_with = "woodrush_core::shown::one")]
    value: &'r str,
    detail: &'r str,
}

impl<'r> ShownRow<'r> {
    fn of(row: &'r Row) -> Self {
        Self { name: &row.name, value: &row.value, detail: &row.detail }
    }
}

fn rows(rows: &[Row]) -> Table {
    let row = |row: &Row| vec![row.name.clone(), row.value.clone(), row.detail.clone()];
    Table { head: vec!["name", "value", "detail"], rows: rows.iter().map(row).collect(), whole: &[0] }
}

/// `PORT=INTERFACE` for each.
pub(crate) fn wires(written: &[String]) -> Result<RigWires, Failure> {
    let one = |text: &String| {
        let (port, interface) =
            text.split_once('=').filter(|(port, own)| !port.is_empty() && !own.is_empty())?;
        Some((port.to_string(), interface.to_string()))
    };
    let all: Option<RigWires> = written.iter().map(one).collect();
    all.ok_or_else(|| Failure::Usage("write `--wire PORT=INTERFACE`, such as `--wire machine=eth2`".into()))
}

fn up(console: &mut Console, path: &Path, wires: &RigWires) -> Result<Verdict, Failure> {
    let Some(checked) = crate::project::load_sound(console, path)? else { return Ok(Verdict::No) };
    let claim = Claim::take(Whose::Rig, path).map_err(|error| match error.kind() {
        std::io::ErrorKind::AddrInUse => Failure::Outside(format!(
            "a rig of this project is running already{}",
            super::run::already(&error)
        )),
        _ => Failure::Outside(format!("no control socket can be had: {error}")),
    })?;
    let stop =
        Stop::listen().map_err(|error| Failure::Outside(format!("signals cannot be caught: {error}")))?;
    let read_file = crate::project::reader(path);
    let rig = Rig::up_on(Arc::new(checked), &read_file, wires)
        .map_err(|fault| Failure::Outside(fault.to_string()))?;
    let rig = Arc::new(rig);
    let weak = Arc::downgrade(&rig);
    let hear = move |verb: &str, words: &[String]| Some(weak.upgrade()?.command(verb, words).into());
    let control = Control::serve(claim, hear)
        .map_err(|error| Failure::Outside(format!("no control socket: {error}")))?;
    let answer = rig.command("status", &[]);
    match console.format {
        Format::Json => console.json(&serde_json::json!({ "format": 1, "rows": answer.rows.iter().map(ShownRow::of).collect::<Vec<_>>() }))?,
        Format::Csv => console.table(&rows(&answer.rows))?,
        Format::Text => {
            console.say(&format!("{}  the simulated side is up", console.paint(Tone::Good, "rig")))?;
            console.table(&rows(&answer.rows))?;
        }
    }
    console.note("");
    console.note("attach the converter:      woodrush run --rig");
    console.note("or any program:            open a line's path above; it runs at the speed shown");
    console.note("change a value, or a wire: woodrush rig set DEVICE.POINT=VALUE, rig cut PORT, rig mend");
    console.note("Ctrl-C ends it");
    while !stop.is_asked() && !stop.hung_up() {
        nap(Duration::from_millis(100));
    }
    drop(control);
    drop(rig);
    console.note("ended; the ptys are gone");
    Ok(Verdict::Yes)
}

pub(crate) fn nap(time: Duration) {
    #[allow(clippy::disallowed_methods, reason = "a command that waits for a person")]
    std::thread::sleep(time);
}
