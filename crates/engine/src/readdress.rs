//! Gives a device another number on its line, or other line settings: by the registers that its profile names, with a look
//! before and after, and an account of what state it is in wherever it ends.

use crate::direct::{Closed, Direct};
use crate::scan::{Depth, Presence, look, numbered};
use std::time::Duration;
use woodrush_core::Refusal;
use woodrush_core::plan::Station;
use woodrush_core::wanted::Wanted;

/// How often a place is looked at, to be sure that nobody or just one is there.
const LOOKS: usize = 3;
/// The pause between two looks for a device that settles.
const PAUSE: Duration = Duration::from_millis(200);

/// A value for one register of settings.
#[derive(Debug, Clone)]
pub struct NewSetting {
    /// Where.
    pub wanted: Wanted,
    /// What.
    pub cells: Vec<u8>,
}

/// What is to be done.
#[derive(Debug, Clone)]
pub struct Move {
    /// The port, with the device's keys but its number.
    pub base: Station,
    /// The key of the number.
    pub key: &'static str,
    /// Where it answers now.
    pub from: u32,
    /// Where it shall answer.
    pub to: u32,
    /// What must be written before settings can be.
    pub unlock: Option<NewSetting>,
    /// The settings, the number among them where it changes.
    pub settings: Vec<NewSetting>,
    /// What makes them take effect.
    pub apply: Option<NewSetting>,
    /// How often it is looked for afterwards.
    pub looks: usize,
}

/// Where a device is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MoveState {
    /// Nothing was written.
    Untouched,
    /// It was unlocked, and no setting was written.
    Unlocked,
    /// Settings were written, and it was not found yet.
    Written,
    /// It answers where it was before, although settings were written.
    Stayed,
    /// It answers where it shall.
    There,
}

/// How it ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MoveResult {
    /// Where the device is.
    pub state: MoveState,
    /// Why it went no further, in words; `None` where all is done.
    pub why: Option<String>,
    /// It was there before anything was written, as after a move that was stopped before its end was seen.
    pub already: bool,
}

/// What is being done, for the caller.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stage {
    /// Looking whether the new place is free.
    LookingAtNew,
    /// Looking whether just one is at the old place.
    LookingAtOld,
    /// Writing what unlocks it.
    Unlocking,
    /// Writing settings.
    Writing,
    /// Making them take effect.
    Applying,
    /// Looking for it at its new place.
    Finding,
}

/// Moves a device; `reopen` opens its line as it is set afterwards, where that changes. `go_on` hears of each step, and
/// ends the work before it by `false`.
pub fn readdress(
    reach: Direct,
    order: &Move,
    reopen: Option<&mut dyn FnMut() -> Result<Direct, Closed>>,
    go_on: &mut dyn FnMut(Stage) -> bool,
) -> MoveResult {
    let mut state = MoveState::Untouched;
    let mut already = false;
    let why = carry_out(reach, order, reopen, go_on, (&mut state, &mut already)).err();
    MoveResult { state, why, already }
}

fn stopped() -> String {
    "it was ended by hand".into()
}

fn gone(refusal: &Refusal) -> String {
    format!("the connection is gone: {}", refusal.kind.words())
}

fn carry_out(
    mut reach: Direct,
    order: &Move,
    reopen: Option<&mut dyn FnMut() -> Result<Direct, Closed>>,
    go_on: &mut dyn FnMut(Stage) -> bool,
    (state, already): (&mut MoveState, &mut bool),
) -> Result<(), String> {
    let mut step = |doing| if go_on(doing) { Ok(()) } else { Err(stopped()) };
    let (old, new) = (order.from, order.to);
    let other_line = reopen.is_some();
    if old != new {
        step(Stage::LookingAtNew)?;
        for _ in 0..LOOKS - 1 {
            let Some(found) = presence(&mut reach, order, new)? else { continue };
            // One that was moved and not seen since answers there alone; nothing else is to be done then.
            let moves_only = order.settings.len() == 1 && !other_line;
            let alone = moves_only && found == Presence::Answers && is_empty(&mut reach, order, old)?;
            if alone {
                (*state, *already) = (MoveState::There, true);
                return Ok(());
            }
            return Err(format!("{} {new} is taken: a device answers there already", order.key));
        }
    }
    step(Stage::LookingAtOld)?;
    // One answer that noise took is no reason to leave a device where it is; two devices show up in several looks.
    let (mut answered, mut missed) = (0, 0);
    while answered < LOOKS {
        match presence(&mut reach, order, old)? {
            Some(Presence::Answers) => answered += 1,
            None if missed + 1 < LOOKS => missed += 1,
            None => return Err(format!("no answer at {} {old}", order.key)),
            Some(Presence::Damaged | Presence::Unsteady) => {
                return Err(format!(
                    "the answers of {} {old} are damaged: two devices have it, or the line is noisy; connect one at a time",
                    order.key
                ));
            }
        }
    }
    if let Some(unlock) = &order.unlock {
        step(Stage::Unlocking)?;
        write(&mut reach, order, old, unlock)
            .map_err(|why| format!("it rejected the unlock value: {why}"))?;
        *state = MoveState::Unlocked;
    }
    step(Stage::Writing)?;
    for setting in &order.settings {
        // Some answer as what they were, some as what they are now, some not at all: looking for it decides.
        match write(&mut reach, order, old, setting) {
            Ok(()) | Err(Unwritten::Silent) => *state = MoveState::Written,
            Err(Unwritten::Refused(why)) => {
                return Err(format!("it refuses {}: {why}", setting.wanted.written));
            }
        }
    }
    if let Some(apply) = &order.apply {
        step(Stage::Applying)?;
        if let Err(Unwritten::Refused(why)) = write(&mut reach, order, old, apply) {
            return Err(format!("it refuses {}: {why}", apply.wanted.written));
        }
    }
    step(Stage::Finding)?;
    if let Some(reopen) = reopen {
        // Nobody else may have the line open, we neither.
        drop(reach);
        reach = reopen().map_err(|closed| format!("{} ({})", closed.what, closed.fix))?;
    }
    for _ in 0..order.looks.max(1) {
        if presence(&mut reach, order, new)? == Some(Presence::Answers) {
            *state = MoveState::There;
            if old != new && presence(&mut reach, order, old)?.is_some() {
                return Err(format!("a device still answers at {} {old} too: there were two", order.key));
            }
            return Ok(());
        }
        step(Stage::Finding)?;
        pause();
    }
    if !other_line && old != new && presence(&mut reach, order, old)?.is_some() {
        *state = MoveState::Stayed;
        return Err(
            "it took the value and still answers where it was: it may need its power switched off and on"
                .into(),
        );
    }
    Err("it is not found where it should answer: switch its power off and on, and look with `woodrush scan`"
        .into())
}

/// Whether nothing answers at a number, however often it is looked at.
fn is_empty(reach: &mut Direct, order: &Move, number: u32) -> Result<bool, String> {
    for _ in 0..LOOKS {
        if presence(reach, order, number)?.is_some() {
            return Ok(false);
        }
    }
    Ok(true)
}

fn pause() {
    #[allow(clippy::disallowed_methods, reason = "a device settles in real time")]
    std::thread::sleep(PAUSE);
}

fn presence(reach: &mut Direct, order: &Move, number: u32) -> Result<Option<Presence>, String> {
    let station = numbered(&order.base, order.key, number);
    let found = look(reach, &station, Some(number), Depth::quick()).map_err(|refusal| gone(&refusal))?;
    Ok(found.map(|found| found.presence))
}

/// Why something was not written.
enum Unwritten {
    Silent,
    Refused(String),
}

impl std::fmt::Display for Unwritten {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Self::Silent => "no answer came",
            Self::Refused(why) => why,
        })
    }
}

fn write(reach: &mut Direct, order: &Move, number: u32, setting: &NewSetting) -> Result<(), Unwritten> {
    let station = numbered(&setting.wanted.station, order.key, number);
    let extent = setting.wanted.place.item(0);
    match reach.write(&station, extent, setting.cells.clone()) {
        Ok(_) => Ok(()),
        Err(refusal) => Err(match refusal.native {
            Some(native) => Unwritten::Refused(woodrush_core::protocol::refusal_shown(native)),
            None => Unwritten::Silent,
        }),
    }
}
