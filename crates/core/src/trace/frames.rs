//! Values in frames that go and come in cycles: the whole frame, with the value's bytes marked in it.

use super::{Checked, hex};
use crate::plan::{PlannedRule, Source, Station};
use crate::project::{OnLoss, Owner, show_micros};
use crate::protocol::{Extent, Flow, FrameExample, Space};
use serde::Serialize;

/// One frame in hex, with the value in it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct TracedFrame {
    /// What it is, in words.
    pub words: String,
    /// Bytes in hex, blank-separated, all else 0.
    pub bytes: String,
    /// Where the value's bytes begin, counted in bytes from 0.
    pub value_begins: usize,
    /// How many they are.
    pub value_bytes: usize,
}

impl TracedFrame {
    /// The bytes with the value's between brackets.
    #[must_use]
    pub fn marked(&self) -> String {
        let end = self.value_begins + self.value_bytes;
        let mark = |(at, byte): (usize, &str)| {
            let open = if at == self.value_begins { "[" } else { "" };
            let close = if at + 1 == end { "]" } else { "" };
            format!("{open}{byte}{close}")
        };
        self.bytes.split(' ').enumerate().map(mark).collect::<Vec<_>>().join(" ")
    }
}

/// The frames in which a value comes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct TracedCycle {
    /// Who sends them.
    pub from: String,
    /// How often, in microseconds: of a controller the shortest that is accepted.
    pub every_us: u64,
    /// Without one for so long it is lost, in microseconds: of a controller at that interval.
    pub lost_after_us: u64,
    /// Whether the other end chooses how often.
    pub chosen_there: bool,
    /// One of them.
    pub frame: TracedFrame,
}

impl TracedCycle {
    /// In words, as every output says it.
    #[must_use]
    pub fn told(&self) -> String {
        let often = if self.chosen_there { "or less often, as it asks" } else { "" };
        let comma = if self.chosen_there { " " } else { "" };
        format!(
            "every {}{comma}{often}; lost after {}; {}",
            show_micros(self.every_us),
            show_micros(self.lost_after_us),
            self.from
        )
    }
}

/// A frame with cells of one value at their place.
fn frame(
    station: &Station,
    space: &Space,
    extent: Extent,
    bit: Option<u8>,
    cells: &[u8],
) -> Option<TracedFrame> {
    let cyclic = station.dialect?.cyclic()?;
    let mut block = vec![0; space.len.unwrap_or(extent.end()) as usize];
    let place = extent.first as usize..extent.end() as usize;
    match bit {
        Some(bit) => {
            let on = cells.first().is_some_and(|cell| *cell != 0);
            crate::cells::set_bit(block.get_mut(place.clone())?, bit, on);
        }
        None => block.get_mut(place.clone())?.copy_from_slice(cells),
    }
    let FrameExample { words, bytes, begins } = cyclic.example(space, &block, &station.setup);
    Some(TracedFrame {
        words,
        bytes: hex(&bytes),
        value_begins: begins + place.start,
        value_bytes: place.len(),
    })
}

/// The frame that carries a value to its target; nothing where it is asked for or written there.
pub(super) fn goes(
    board: &Station,
    space: &Space,
    extent: Extent,
    bit: Option<u8>,
    cells: &[u8],
) -> Option<TracedFrame> {
    if space.flow != Flow::Goes {
        return None;
    }
    frame(board, space, extent, bit, cells)
}

/// The frames in which a value comes from its source; nothing where it is asked for.
pub(super) fn comes(
    checked: &Checked,
    rule: &PlannedRule,
    bit: Option<u8>,
    extent: Extent,
    cells: &[u8],
) -> Option<TracedCycle> {
    let Source::Values { owner, .. } = rule.source else { return None };
    let station = checked.plan.station(owner)?;
    let space = station.space_at(extent.space).filter(|space| space.flow == Flow::Comes)?;
    let link = checked.plan.link_of(owner)?;
    let controller = matches!(owner, Owner::Image(_));
    Some(TracedCycle {
        from: if controller { format!("the controller of {}", station.name) } else { station.name.clone() },
        every_us: link.period,
        lost_after_us: link.lost_after,
        chosen_there: controller,
        frame: frame(station, space, extent, bit, cells)?,
    })
}

/// What a device that is sent blocks gets once the source is lost.
pub(super) fn idle(rule: &PlannedRule) -> String {
    let lost = match (rule.source, rule.on_loss) {
        (Source::Health(_), _) => return "in every frame".into(),
        (_, OnLoss::Hold) => "the last value goes on being sent".into(),
        (_, OnLoss::Fill(word)) => format!("0x{word:04X} is sent"),
        _ => "the frames say idle".to_string(),
    };
    let after = if rule.max_age == u64::MAX {
        "lost".into()
    } else {
        format!("older than {}", show_micros(rule.max_age))
    };
    format!("in every frame; {lost} once {after}")
}
