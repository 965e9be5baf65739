//! `woodrush set-up`: what a device's parameters shall be, held against what they are; shown, asked, written in the file's
//! order, read back, and why a block does not work.

mod blocks;
mod shown;

use crate::args::{ConnectionArgs, Global, SetUpArgs};
use crate::connections::{Connections, Failed, fault};
use crate::console::{Console, counted};
use crate::render;
use crate::{Failure, Verdict};
use blocks::{BlockState, Device};
use shown::{Mark, SetUpRow};
use std::io::{BufRead, IsTerminal, Write};
use std::time::Duration;
use woodrush_core::check::Checked;
use woodrush_core::finding::Finding;
use woodrush_core::nearest;
use woodrush_core::protocol::{SetUp, SetUpStep, Space};
use woodrush_engine::stop::Stop;

fn usage(text: impl Into<String>) -> Failure {
    Failure::Usage(text.into())
}

/// One line of `set-up`.
struct Line<'c> {
    /// The address as it is written.
    address: &'c str,
    value: &'c str,
    step: SetUpStep,
}

/// What the project says of a device.
struct Order<'c> {
    name: &'c str,
    lines: Vec<Line<'c>>,
    /// The blocks that the lines are about, in their order.
    blocks: Vec<String>,
}

pub(crate) fn run(console: &mut Console, global: &Global, args: &SetUpArgs) -> Result<Verdict, Failure> {
    let way = ConnectionArgs { timeout: args.timeout.clone(), rig: args.rig, ..ConnectionArgs::default() };
    let target = [args.name.clone()];
    let (mut connections, _) = Connections::of_station(global, &way, &target)?;
    let path = crate::project::find(global)?;
    let Some(checked) = crate::project::load_sound(console, &path)? else { return Ok(Verdict::No) };
    let device = device(&checked, &args.name)?;
    let dialect = checked.plan.devices.get(device).and_then(|station| station.dialect);
    let how = dialect
        .and_then(|dialect| dialect.set_up())
        .ok_or_else(|| usage(format!("the parameters of `{}` are not set up in its protocol", args.name)))?;
    let order = order(&checked, device, how)?;
    if !args.dry_run && !args.yes && !std::io::stdin().is_terminal() {
        return Err(usage(format!(
            "{} is not written: no terminal to ask for confirmation (add `--yes`, or `--dry-run` to compare only)",
            order.name
        )));
    }
    let stop = Stop::with_terminal()
        .map_err(|error| Failure::Outside(format!("signals cannot be heard: {error}")))?;
    let mut device = Device::new(&checked, device, how, &mut connections);
    match whole(console, &mut device, &order, args, &stop) {
        Ok(verdict) => Ok(verdict),
        Err(Ended::Failure(failure)) => Err(failure),
        Err(Ended::Failed(what, failed)) => {
            let text = render::diagnosis::text(console, &what, &failed.diagnosis);
            console.complain(&text);
            Ok(if failed.answered { Verdict::No } else { Verdict::Outside })
        }
    }
}

/// Why it ended before its end.
pub(super) enum Ended {
    Failure(Failure),
    /// Something was not answered as it should: what, and how.
    Failed(String, Failed),
}

impl From<Failure> for Ended {
    fn from(failure: Failure) -> Self {
        Self::Failure(failure)
    }
}

fn device(checked: &Checked, name: &str) -> Result<usize, Failure> {
    checked.project.device(name).ok_or_else(|| {
        let names = checked.project.devices.iter().map(|device| device.name.value.as_str());
        let near = nearest(name, names);
        let near = near.map_or_else(String::new, |near| format!(" (did you mean `{near}`?)"));
        usage(format!("there is no device `{name}`{near}"))
    })
}

fn order<'c>(checked: &'c Checked, device: usize, how: &dyn SetUp) -> Result<Order<'c>, Failure> {
    let own = checked.project.devices.get(device).ok_or_else(|| usage("no such device"))?;
    let name = own.name.value.as_str();
    let mut lines = vec![];
    for entry in &own.set_up {
        let (address, value) = (entry.address.value.as_str(), entry.value.value.as_str());
        let step = how.step(&own.setup, address, value).map_err(|found| {
            let at = if found.of_value { entry.value.span } else { entry.address.span };
            fault(&Finding::new(found.code, at, found.what))
        })?;
        lines.push(Line { address, value, step });
    }
    if lines.is_empty() {
        return Err(usage(format!(
            "`{name}` has no `set-up` in the project (add `[devices.{name}.set-up]` with what its parameters shall be)"
        )));
    }
    let mut blocks: Vec<String> = vec![];
    for line in &lines {
        if !blocks.contains(&line.step.block) {
            blocks.push(line.step.block.clone());
        }
    }
    Ok(Order { name, lines, blocks })
}

fn whole(
    console: &mut Console,
    device: &mut Device<'_>,
    order: &Order<'_>,
    args: &SetUpArgs,
    stop: &Stop,
) -> Result<Verdict, Ended> {
    console.note(&format!("reading {}: {}", order.name, counted(order.blocks.len(), "block")));
    for line in &order.lines {
        device.read(&line.step.space)?;
    }
    let before = device.states(&order.blocks)?;
    let rows = compared(device, order, &before);
    let differ = rows.iter().filter(|row| row.mark == Mark::Differs).count();
    if differ == 0 || args.dry_run {
        shown::say(console, order.name, &rows, &before, args.dry_run)?;
        let works = before.iter().all(|block| block.met);
        return Ok(if differ == 0 && works { Verdict::Yes } else { Verdict::No });
    }
    if !args.yes {
        shown::say(console, order.name, &rows, &before, true)?;
        if !asked(&format!("write {} to {}? [y/N] ", counted(differ, "parameter"), order.name))? {
            console.note(&format!("{} is left as it is", order.name));
            return Ok(Verdict::No);
        }
    }
    let done = write(console, device, order, &rows, stop);
    let (rows, ended) = match done {
        Ok(rows) => (rows, None),
        Err((rows, end)) => (rows, Some(end)),
    };
    // What was written is told whatever cannot be read any more.
    let (after, ended) = match (settled(device, order, ended.is_none(), stop), ended) {
        (Ok(after), ended) => (after, ended),
        (Err(end), ended) => (vec![], Some(ended.unwrap_or(end))),
    };
    shown::say(console, order.name, &rows, &after, false)?;
    let left = rows.iter().filter(|row| row.mark == Mark::NotWritten).count();
    if left > 0 {
        let written = rows.iter().filter(|row| row.mark == Mark::Written).count();
        console.complain(&format!("{written} written, {left} not written"));
    }
    for block in device.left_out_of_service() {
        console.complain(&format!(
            "{block} was put out of service and is not back: its value is bad until `{block}` is in its mode again"
        ));
    }
    if let Some(end) = ended {
        return Err(end);
    }
    let holds = rows.iter().all(|row| matches!(row.mark, Mark::Met | Mark::Written | Mark::Mode));
    Ok(if holds && after.iter().all(|block| block.met) { Verdict::Yes } else { Verdict::No })
}

/// How blocks are once all is written: one may need a turn of its link to come into its mode.
fn settled(
    device: &mut Device<'_>,
    order: &Order<'_>,
    waits: bool,
    stop: &Stop,
) -> Result<Vec<BlockState>, Ended> {
    let mut after = device.states(&order.blocks)?;
    for _ in 0..5 {
        if !waits || after.iter().all(|block| block.met) || stop.is_asked() {
            break;
        }
        super::rig::nap(Duration::from_millis(300));
        after = device.states(&order.blocks)?;
    }
    Ok(after)
}

/// Each line with what is there now. Modes on the way are written only where something else of the block is.
fn compared(device: &Device<'_>, order: &Order<'_>, states: &[BlockState]) -> Vec<SetUpRow> {
    let is_last_mode = |at: usize, block: &str| {
        let later = order.lines.get(at + 1..).unwrap_or_default();
        !later.iter().any(|line| line.step.is_mode && line.step.block == block)
    };
    let row = |(at, line): (usize, &Line<'_>)| {
        let present = device.cells(&line.step.space);
        let changes = order.lines.iter().any(|other| {
            other.step.block == line.step.block
                && !other.step.is_mode
                && !other.step.is_met(&device.cells(&other.step.space))
        });
        let works = states.iter().find(|own| own.name == line.step.block).is_some_and(|own| own.met);
        let met = line.step.is_met(&present);
        let mark = match line.step.is_mode {
            false if met => Mark::Met,
            true if !changes && is_last_mode(at, &line.step.block) && met && works => Mark::Met,
            true if !changes && !is_last_mode(at, &line.step.block) => Mark::Mode,
            true if changes && !is_last_mode(at, &line.step.block) => Mark::Mode,
            true if met && !changes => Mark::Met,
            _ => Mark::Differs,
        };
        SetUpRow {
            address: line.address.to_string(),
            is: device.shown(&line.step, &present),
            shall: line.value.to_string(),
            mark,
        }
    };
    order.lines.iter().enumerate().map(row).collect()
}

type Rows = Vec<SetUpRow>;

/// Writes what differs, in the file's order; a block is put out of service where it must be, and brought back.
fn write(
    console: &mut Console,
    device: &mut Device<'_>,
    order: &Order<'_>,
    rows: &[SetUpRow],
    stop: &Stop,
) -> Result<Rows, (Rows, Ended)> {
    let mut rows = rows.to_vec();
    let changed = |rows: &[SetUpRow], block: &str| {
        order.lines.iter().zip(rows).any(|(line, row)| line.step.block == block && row.mark == Mark::Differs)
    };
    let wanted: Vec<bool> = order.lines.iter().map(|line| changed(&rows, &line.step.block)).collect();
    // The modes that blocks had, of those that we put out of service without the file saying so.
    let mut borrowed: Vec<(String, Vec<u8>)> = vec![];
    let mut result = Ok(());
    for (at, line) in order.lines.iter().enumerate() {
        let is_to_do = rows.get(at).is_some_and(|row| match row.mark {
            Mark::Differs => true,
            Mark::Mode => wanted.get(at) == Some(&true),
            _ => false,
        });
        if !is_to_do {
            continue;
        }
        if stop.is_asked() {
            result = Err(Ended::Failure(Failure::Outside("interrupted: the rest is not written".into())));
            break;
        }
        let done = one(console, device, line, &mut borrowed);
        if let (Ok(()), Some(row)) = (&done, rows.get_mut(at)) {
            row.mark = if line.step.is_mode && row.mark == Mark::Mode { Mark::Mode } else { Mark::Written };
        }
        if done.is_err() {
            result = done;
            break;
        }
    }
    // Also after a write that failed: a block is not left out of service because of it.
    for (block, mode) in borrowed {
        let later = order.lines.iter().rev().find(|line| line.step.block == block && line.step.is_mode);
        if let (Some(_), true) = (later, result.is_ok()) {
            continue;
        }
        let back = device.restore(&block, &mode);
        if let (Err(end), true) = (back, result.is_ok()) {
            result = Err(end);
        }
    }
    for (row, line) in rows.iter_mut().zip(&order.lines) {
        row.is = device.shown(&line.step, &device.cells(&line.step.space));
        if row.mark == Mark::Differs {
            row.mark = Mark::NotWritten;
        }
    }
    match result {
        Ok(()) => Ok(rows),
        Err(end) => Err((rows, end)),
    }
}

fn one(
    console: &mut Console,
    device: &mut Device<'_>,
    line: &Line<'_>,
    borrowed: &mut Vec<(String, Vec<u8>)>,
) -> Result<(), Ended> {
    let step = &line.step;
    device.compare_revision(&step.block)?;
    if step.out_of_service && !device.is_out_of_service(&step.block) {
        console.note(&format!("{} is put out of service for {}", step.block, line.address));
        let mode = device.put_out_of_service(&step.block)?;
        borrowed.push((step.block.clone(), mode));
    }
    console.note(&format!("writing {} = {}", line.address, line.value));
    device.write(step)
}

/// Asks the person at the terminal.
fn asked(question: &str) -> Result<bool, Failure> {
    let mut out = std::io::stderr().lock();
    write!(out, "{question}")?;
    out.flush()?;
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line)?;
    Ok(matches!(line.trim(), "y" | "Y" | "yes"))
}

/// As a parameter is named in messages.
pub(super) fn called(device: &str, space: &Space) -> String {
    format!("{device}:{}", space.name())
}
