//! Frames that run: one end provides, the other consumes. Both ends of a connection have one of each.

use super::ether::{Mac, frame};
use crate::Moment;
use crate::speak::{LinkLoss, NetAct, Produced};
use std::collections::VecDeque;
use woodrush_wire::profinet::rt::{DataStatus, RtFrame, iox};
use woodrush_wire::profinet::{ETHERTYPE, TAG};

/// Something of a submodule in the data of a frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct FramePiece {
    /// Its first byte.
    pub(super) offset: usize,
    /// Its bytes of data before the provider's status; `None` for a consumer's status.
    pub(super) data: Option<usize>,
    /// The slot among ours; `None` for the head's, and for one that is not plugged.
    pub(super) slot: Option<usize>,
    /// It is plugged as the other end expects it.
    pub(super) plugged: bool,
}

/// One direction of frames as both ends have agreed on it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct FrameFlow {
    pub(super) frame_id: u16,
    /// Bytes of data.
    pub(super) length: u16,
    /// From frame to frame, in microseconds.
    pub(super) period: u64,
    pub(super) parts: Vec<FramePiece>,
}

/// The end that sends.
#[derive(Debug)]
pub(super) struct Provider {
    flow: FrameFlow,
    to: Mac,
    from: Mac,
    next: Moment,
    counter: u16,
    data: Vec<u8>,
    /// All of its data are good as soon as their values are.
    pub(super) ready: bool,
    /// It does not run.
    pub(super) stopped: bool,
    /// Its frames are one byte too short: a fault of simulated ends.
    pub(super) short: bool,
}

impl Provider {
    pub(super) fn new(flow: FrameFlow, (from, to): (Mac, Mac), now: Moment) -> Self {
        let data = vec![0; flow.length.into()];
        Self { flow, to, from, next: now, counter: 0, data, ready: false, stopped: false, short: false }
    }

    pub(super) fn is_due(&self, now: Moment) -> bool {
        now >= self.next
    }

    pub(super) const fn wakes_at(&self) -> Moment {
        self.next
    }

    /// Ticks of the counter from frame to frame.
    fn ticks(&self) -> u64 {
        self.flow.period * 1000 / u64::from(woodrush_wire::profinet::rt::TICK_NS)
    }

    /// Sends the frame that is due.
    pub(super) fn produced(
        &mut self,
        now: Moment,
        cells: &Produced,
        link: usize,
        out: &mut VecDeque<NetAct>,
    ) {
        let (bytes, due, skipped) = self.frame(now, cells);
        if skipped > 0 {
            out.push_back(NetAct::Skipped(link, skipped));
        }
        out.push_back(NetAct::Frame { bytes, due: Some((link, due)) });
    }

    /// The frame that is due, when that was, and how many before it are left out because their time has passed.
    fn frame(&mut self, now: Moment, cells: &Produced) -> (Vec<u8>, Moment, u64) {
        let period = self.flow.period.max(1);
        let skipped = now.since(self.next) / period;
        let due = self.next + skipped * period;
        self.next = due + period;
        let ticks = self.ticks().wrapping_mul(skipped + 1);
        self.counter = self.counter.wrapping_add(u16::try_from(ticks & 0xFFFF).unwrap_or(0));
        self.data.fill(0);
        for part in &self.flow.parts {
            let good = match (part.data, part.slot) {
                // What is plugged is taken, and the head has no data that could be bad.
                (None, _) => part.plugged,
                (Some(_), None) => part.plugged && self.ready,
                (Some(len), Some(slot)) => {
                    let bytes = cells.slots.get(slot).filter(|own| own.len() == len);
                    if let (Some(bytes), false) = (bytes, self.stopped)
                        && let Some(place) = self.data.get_mut(part.offset..part.offset + len)
                    {
                        place.copy_from_slice(bytes);
                    }
                    part.plugged && self.ready && bytes.is_some() && !cells.lost.contains(&slot)
                }
            };
            let status = match (part.data, self.stopped) {
                (Some(_), true) => iox::BAD_BY_CONTROLLER,
                _ if good => iox::GOOD,
                _ => iox::BAD,
            };
            if let Some(place) = self.data.get_mut(part.offset + part.data.unwrap_or(0)) {
                *place = status;
            }
        }
        let status = if self.stopped { DataStatus::STOP } else { DataStatus::RUN };
        let length = self.data.len() - usize::from(self.short);
        let data = self.data.get(..length).unwrap_or_default();
        let own = RtFrame { frame_id: self.flow.frame_id, data, counter: self.counter, status };
        let mut bytes = frame(self.to, self.from, ETHERTYPE, Some(TAG), |out| own.emit(out));
        if self.short {
            // Filled up it would look as long as it should be.
            bytes.truncate(12 + 4 + 2 + length + woodrush_wire::profinet::rt::AROUND);
        }
        (bytes, due, skipped)
    }
}

/// What was heard in a frame.
#[derive(Debug, Clone, PartialEq, Eq)]
enum HeardFrame {
    /// Other bytes than before.
    Came(usize, Vec<u8>),
    /// It came, and all that is good is as it was.
    Still,
    /// The other end says that this slot is bad.
    Unsound(usize),
    /// The other end does not run.
    Idle,
}

impl HeardFrame {
    /// What is told of it.
    fn act(self, link: usize) -> NetAct {
        match self {
            Self::Came(slot, cells) => NetAct::Came { link, slot, cells },
            Self::Still => NetAct::Still(link),
            Self::Unsound(slot) => NetAct::Unsound { link, slot },
            Self::Idle => NetAct::Stopped(link, LinkLoss::Idle),
        }
    }
}

/// The end that takes frames.
#[derive(Debug)]
pub(super) struct Consumer {
    pub(super) flow: FrameFlow,
    from: Mac,
    pub(super) watchdog: u64,
    counter: Option<u16>,
    /// When it is lost.
    deadline: Moment,
    /// What came last, by slot; nothing where it was bad.
    last: Vec<Option<Vec<u8>>>,
    /// Slots that are known to be bad.
    bad: Vec<bool>,
    idle: bool,
    /// Frames came of late whose sender says that their data mean nothing.
    pub(super) invalid: bool,
    /// What comes is for rules from now on.
    pub(super) lands: bool,
}

impl Consumer {
    /// Until the first frame it waits so long as `patience` says.
    pub(super) fn new(flow: FrameFlow, from: Mac, watchdog: u64, (now, patience): (Moment, u64)) -> Self {
        let slots = flow.parts.iter().filter_map(|part| part.slot).max().map_or(0, |most| most + 1);
        Self {
            flow,
            from,
            watchdog,
            counter: None,
            deadline: now + patience,
            last: vec![None; slots],
            bad: vec![false; slots],
            idle: false,
            invalid: false,
            lands: false,
        }
    }

    pub(super) const fn wakes_at(&self) -> Moment {
        self.deadline
    }

    pub(super) fn is_lost(&self, now: Moment) -> bool {
        now >= self.deadline
    }

    /// Takes a frame, and tells what was heard in it.
    pub(super) fn heard(
        &mut self,
        now: Moment,
        (from, payload): (Mac, &[u8]),
        link: usize,
        out: &mut VecDeque<NetAct>,
    ) {
        let mut heard = vec![];
        self.take(now, from, payload, &mut heard);
        out.extend(heard.into_iter().map(|heard| heard.act(link)));
    }

    /// Takes a frame, if it is one of its own.
    fn take(&mut self, now: Moment, from: Mac, payload: &[u8], heard: &mut Vec<HeardFrame>) {
        let Ok(own) = RtFrame::parse(payload, self.flow.length) else { return };
        if own.frame_id != self.flow.frame_id || from != self.from {
            return;
        }
        if self.counter.is_some_and(|last| !RtFrame::is_later(last, own.counter)) {
            return;
        }
        if !own.status.is_valid() || own.status.is_to_be_ignored() {
            self.invalid = true;
            return;
        }
        self.invalid = false;
        self.counter = Some(own.counter);
        self.deadline = now + self.watchdog;
        if !self.lands {
            return;
        }
        if !own.status.runs() {
            if !self.idle {
                self.idle = true;
                self.forget();
                heard.push(HeardFrame::Idle);
            }
            return;
        }
        self.idle = false;
        let begun = heard.len();
        for part in &self.flow.parts {
            let (Some(len), Some(slot)) = (part.data, part.slot) else { continue };
            let Some(bytes) = own.data.get(part.offset..part.offset + len) else { continue };
            let status = own.data.get(part.offset + len).copied().unwrap_or(iox::BAD);
            let (Some(last), Some(bad)) = (self.last.get_mut(slot), self.bad.get_mut(slot)) else { continue };
            if !iox::is_good(status) {
                if !*bad {
                    (*bad, *last) = (true, None);
                    heard.push(HeardFrame::Unsound(slot));
                }
            } else if last.as_deref() != Some(bytes) {
                (*bad, *last) = (false, Some(bytes.to_vec()));
                heard.push(HeardFrame::Came(slot, bytes.to_vec()));
            }
        }
        if heard.len() == begun || heard.iter().skip(begun).all(|own| matches!(own, HeardFrame::Unsound(_))) {
            heard.push(HeardFrame::Still);
        }
    }

    /// What comes next counts as new.
    fn forget(&mut self) {
        self.last.fill(None);
        self.bad.fill(false);
    }
}
