//! A connection of class 1 that runs: frames out on a fixed grid, frames in with a watchdog. The same at both ends.

use crate::Moment;
use std::net::{Ipv4Addr, SocketAddrV4};
use woodrush_wire::enip::cyclic::{CyclicData, CyclicFrame};

/// What was agreed when it was opened.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Agreed {
    /// The other end, and the UDP port that it takes frames on.
    pub(super) peer: SocketAddrV4,
    /// The id of the frames that we send: the other end chose it.
    pub(super) sends: u32,
    /// The id of the frames that come: ours.
    pub(super) takes: u32,
    /// Bytes of what we send, without sequence count and header; nothing where it is a heartbeat.
    pub(super) out_bytes: Option<usize>,
    /// What we send has the header with the run bit.
    pub(super) out_header: bool,
    /// The size of what comes, with all that counts towards it.
    pub(super) in_size: u16,
    /// What comes has the header.
    pub(super) in_header: bool,
    /// From one of our frames to the next, in microseconds.
    pub(super) period: u64,
    /// Without a frame of the other end for so long, it is lost, in microseconds.
    pub(super) lost_after: u64,
}

/// Before the first frame an end waits at least so long, in microseconds.
const FIRST: u64 = 10_000_000;

/// The share of a period by which the second of several is shifted against the first, in 1/65536: by the golden section any
/// number of them lies spread, without knowing how many there are.
const SECTION: u64 = 40_503;

/// Where the grid of the `nth` connection lies within its period, in microseconds.
const fn phase(nth: usize, period: u64) -> u64 {
    period.saturating_mul((nth as u64).wrapping_mul(SECTION) % 65_536) / 65_536
}

/// What a frame that was taken says.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum TakenFrame<'f> {
    /// Other bytes than before, or the first after the other end was idle.
    New(&'f [u8]),
    /// The same once more.
    Same,
    /// The other end has gone idle.
    Idle,
    /// It still is.
    StillIdle,
}

/// One such connection.
#[derive(Debug)]
pub(super) struct RunningConnection {
    pub(super) agreed: Agreed,
    /// When the next frame is due.
    next: Moment,
    /// Where its grid lies within a period: frames are due at that, and at every whole period from it.
    phase: u64,
    number: u32,
    sequence: u16,
    /// The number of the last frame that was taken.
    last: Option<u32>,
    /// The bytes that it brought; nothing while the other end is idle.
    held: Option<Vec<u8>>,
    idle: bool,
    /// When it counts as lost.
    deadline: Moment,
}

impl RunningConnection {
    /// The first frame goes at once, the others on the grid of the `nth` connection of this end: those of the same period are
    /// spread over it, whenever they were opened, so that none waits for the sending of all the others.
    pub(super) fn new(now: Moment, nth: usize, agreed: Agreed) -> Self {
        Self {
            agreed,
            next: now,
            phase: phase(nth, agreed.period),
            number: 0,
            sequence: 0,
            last: None,
            held: None,
            idle: false,
            deadline: now + agreed.lost_after.max(FIRST),
        }
    }

    /// Whether its frames have come so far.
    pub(super) const fn heard(&self) -> bool {
        self.last.is_some()
    }

    /// When something is to be done at the latest.
    pub(super) fn wakes_at(&self) -> Moment {
        self.next.min(self.deadline)
    }

    /// Whether nothing came in time.
    pub(super) fn is_lost(&self, now: Moment) -> bool {
        now >= self.deadline
    }

    /// When the frame that is due was due, and how many before it were not sent because their time has passed.
    pub(super) fn due(&self, now: Moment) -> Option<(Moment, u64)> {
        if now < self.next {
            return None;
        }
        // Never several at once: the grid stays, and what is past is left out.
        let passed = now.since(self.next) / self.agreed.period.max(1);
        Some((self.next + passed * self.agreed.period, passed))
    }

    /// The frame with these bytes, filled or cut to what was agreed; the next one is due where the grid goes on.
    pub(super) fn frame(&mut self, due: Moment, runs: bool, bytes: &[u8], short: bool) -> Vec<u8> {
        let period = self.agreed.period.max(1);
        self.next = due + (period - (due.0 + period - self.phase) % period);
        self.number = self.number.wrapping_add(1);
        self.sequence = self.sequence.wrapping_add(1);
        let mut data = bytes.to_vec();
        data.resize(self.agreed.out_bytes.unwrap_or(0), 0);
        if short {
            data.pop();
        }
        let header = self.agreed.out_header.then_some(u32::from(runs));
        let body = CyclicData { sequence: self.sequence, header, data: &data };
        let mut out = vec![];
        CyclicFrame::emit_with(&mut out, self.agreed.sends, self.number, |out| body.emit(out));
        out
    }

    /// Takes a frame; `None` for one that is dropped: from elsewhere, of another size, or older than the last. Such a one does
    /// not restart the watchdog.
    pub(super) fn take<'f>(
        &mut self,
        now: Moment,
        from: Ipv4Addr,
        frame: &CyclicFrame<'f>,
    ) -> Option<TakenFrame<'f>> {
        if from != *self.agreed.peer.ip()
            || self.last.is_some_and(|last| !CyclicFrame::is_later(last, frame.number))
        {
            return None;
        }
        let data = CyclicData::parse(frame.body, self.agreed.in_size, self.agreed.in_header).ok()?;
        self.last = Some(frame.number);
        self.deadline = now + self.agreed.lost_after;
        if !data.runs() {
            self.held = None;
            return Some(if std::mem::replace(&mut self.idle, true) {
                TakenFrame::StillIdle
            } else {
                TakenFrame::Idle
            });
        }
        self.idle = false;
        match &mut self.held {
            Some(held) if held == data.data => Some(TakenFrame::Same),
            held => {
                let held = held.get_or_insert_default();
                held.clear();
                held.extend_from_slice(data.data);
                Some(TakenFrame::New(data.data))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PEER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 20);

    fn agreed() -> Agreed {
        Agreed {
            peer: SocketAddrV4::new(PEER, 2222),
            sends: 0x20B3_0002,
            takes: 0x10A2_0001,
            out_bytes: Some(12),
            out_header: false,
            in_size: 10,
            in_header: true,
            period: 10_000,
            lost_after: 40_000,
        }
    }

    fn frame(number: u32, header: u32, data: &[u8]) -> Vec<u8> {
        let mut out = vec![];
        let body = CyclicData { sequence: 1, header: Some(header), data };
        CyclicFrame::emit_with(&mut out, 0x10A2_0001, number, |out| body.emit(out));
        out
    }

    fn take(own: &mut RunningConnection, at: u64, from: Ipv4Addr, bytes: &[u8]) -> Option<&'static str> {
        let frame = CyclicFrame::parse(bytes).ok()?;
        Some(match own.take(Moment(at), from, &frame)? {
            TakenFrame::New(_) => "new",
            TakenFrame::Same => "same",
            TakenFrame::Idle => "idle",
            TakenFrame::StillIdle => "still idle",
        })
    }

    #[test]
    fn a_frame_says_what_is_new_and_the_watchdog_is_exact() {
        let mut own = RunningConnection::new(Moment(0), 0, agreed());
        assert!(!own.is_lost(Moment(9_999_999)) && own.is_lost(Moment(10_000_000)), "before the first frame");
        let told = [
            (1_000, frame(5, 1, &[1, 2, 3, 4]), Some("new")),
            (11_000, frame(6, 1, &[1, 2, 3, 4]), Some("same")),
            (21_000, frame(6, 1, &[9, 9, 9, 9]), None),
            (22_000, frame(4, 1, &[9, 9, 9, 9]), None),
            (23_000, frame(7, 1, &[9, 9, 9]), None),
            (24_000, frame(8, 0, &[0, 0, 0, 0]), Some("idle")),
            (34_000, frame(9, 0, &[0, 0, 0, 0]), Some("still idle")),
            (44_000, frame(10, 1, &[1, 2, 3, 4]), Some("new")),
        ];
        for (at, bytes, wanted) in told {
            assert_eq!(take(&mut own, at, PEER, &bytes), wanted, "at {at}");
        }
        let stranger = Ipv4Addr::new(192, 0, 2, 21);
        assert_eq!(take(&mut own, 60_000, stranger, &frame(11, 1, &[5, 5, 5, 5])), None);
        assert!(
            !own.is_lost(Moment(83_999)) && own.is_lost(Moment(84_000)),
            "what was dropped changes nothing"
        );
    }

    #[test]
    fn numbers_may_wrap() {
        let mut own = RunningConnection::new(Moment(0), 0, agreed());
        assert_eq!(take(&mut own, 1, PEER, &frame(u32::MAX, 1, &[1; 4])), Some("new"));
        assert_eq!(take(&mut own, 2, PEER, &frame(0, 1, &[2; 4])), Some("new"));
        assert_eq!(take(&mut own, 3, PEER, &frame(u32::MAX, 1, &[3; 4])), None);
    }

    #[test]
    fn frames_stay_on_their_grid_and_what_is_past_is_left_out() {
        let mut own = RunningConnection::new(Moment(500), 0, agreed());
        assert_eq!(own.due(Moment(499)), None);
        assert_eq!(own.due(Moment(700)), Some((Moment(500), 0)), "the first goes at once");
        let out = own.frame(Moment(500), true, &[7], false);
        assert_eq!(out.len(), 32, "as `io_to`: filled to what was agreed");
        assert_eq!(own.due(Moment(9_999)), None);
        assert_eq!(
            own.due(Moment(44_500)),
            Some((Moment(40_000), 3)),
            "the frames of 10, 20 and 30 ms are not sent"
        );
        let _ = own.frame(Moment(40_000), true, &[7], false);
        assert_eq!(own.due(Moment(49_999)), None);
        assert_eq!(own.frame(Moment(50_000), true, &[], true).len(), 31, "one byte short on purpose");
    }

    #[test]
    fn connections_opened_together_are_not_due_together() {
        // At most twice and a half the distance that evenly spread ones have, however many there are.
        for count in [2_u64, 3, 7, 16, 40] {
            let mut due: Vec<u64> = (0..count)
                .map(|nth| {
                    let nth = usize::try_from(nth).unwrap();
                    let mut own = RunningConnection::new(Moment(123_456), nth, agreed());
                    let _ = own.frame(Moment(123_456), true, &[], false);
                    own.wakes_at().0
                })
                .collect();
            due.sort_unstable();
            assert!(due.iter().all(|own| (123_457..=133_456).contains(own)), "within a period: {due:?}");
            let least = due.windows(2).map(|pair| pair[1] - pair[0]).min().unwrap();
            assert!(least >= 10_000 / count * 2 / 5, "{count}: {least} us apart, {due:?}");
        }
    }
}
