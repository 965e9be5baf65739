//! Which settings a line has: by asking at each, and weighing what comes.

use super::{first_read, numbered};
use crate::direct::Direct;
use serde::Serialize;
use woodrush_core::plan::Station;
use woodrush_core::project::{Line, Parity};
use woodrush_core::{Kind, Refusal};

const fn line(baud: u32, parity: Parity, stop: u8) -> Line {
    Line { baud, data: 8, parity, stop }
}

const SPEEDS: [u32; 8] = [9600, 19_200, 38_400, 115_200, 57_600, 4800, 2400, 1200];

/// What lines are set to, the likeliest first.
pub static LINES: [Line; 32] = {
    let mut all = [line(9600, Parity::Even, 1); 32];
    let mut at = 0;
    // The two usual ones at every speed, then the others.
    let mut round = 0;
    while round < 2 {
        let mut speed = 0;
        while speed < SPEEDS.len() {
            let baud = SPEEDS[speed];
            let (first, second) = if round == 0 {
                (line(baud, Parity::Even, 1), line(baud, Parity::None, 1))
            } else {
                (line(baud, Parity::None, 2), line(baud, Parity::Odd, 1))
            };
            all[at] = first;
            all[at + 1] = second;
            at += 2;
            speed += 1;
        }
        round += 1;
    }
    all
};

/// What came at one setting.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct LineEvidence {
    /// Stations that were asked.
    pub asked: u32,
    /// Those that answered soundly, refusals with them.
    pub answered: Vec<u32>,
    /// Refusals among these.
    pub refused: u32,
    /// Bytes that made no frame.
    pub damaged: u32,
}

impl LineEvidence {
    /// Whether the line is set so.
    #[must_use]
    pub fn is_it(&self) -> bool {
        !self.answered.is_empty()
    }
}

/// Asks each of these stations once.
///
/// # Errors
/// The way is gone.
pub fn try_line(
    reach: &mut Direct,
    base: &Station,
    key: &'static str,
    numbers: &[u32],
    go_on: &mut dyn FnMut() -> bool,
) -> Result<LineEvidence, Refusal> {
    let mut evidence = LineEvidence::default();
    for number in numbers {
        if !go_on() {
            break;
        }
        let station = numbered(base, key, *number);
        let Some((station, extent)) = first_read(&station) else { break };
        evidence.asked += 1;
        match reach.read(&station, extent) {
            Ok(_) => evidence.answered.push(*number),
            Err(Refusal { kind: Kind::NoPath | Kind::NoAnswer, native: Some(_), .. }) => {}
            Err(Refusal { native: Some(_), .. }) => {
                evidence.answered.push(*number);
                evidence.refused += 1;
            }
            Err(refusal @ Refusal { kind: Kind::NoPath, .. }) => return Err(refusal),
            Err(_) if !reach.evidence().came.is_empty() => evidence.damaged += 1,
            Err(_) => {}
        }
    }
    Ok(evidence)
}
