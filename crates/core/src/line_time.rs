//! Time on the wire of one port: characters, frame gaps, timeouts and rests.

use crate::project::{Line, Port};
use crate::protocol::{Cost, Dialect, Setup};

/// An exchange over TCP in a plant's network, with a device that answers at once, in microseconds: assumed, because
/// nothing in a project tells it.
pub const ROUND_TRIP: u64 = 1_000;

/// How long bytes and silences take on one port.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LineTime {
    /// Nanoseconds a character; 0 on a socket.
    pub char_nanos: u64,
    /// The silence that the protocol asks for, in microseconds.
    pub frame_gap: u64,
    /// The silence that we keep before a request, in microseconds; at least that of the protocol unless the project
    /// says less.
    pub own_frame_gap: u64,
    /// Wait for an answer, in microseconds.
    pub timeout: u64,
    /// Wait after a broadcast, in microseconds.
    pub turnaround: u64,
    /// The line does not rest after a failure: the next request goes to another device, which tells a late answer apart.
    pub hurry: bool,
}

impl LineTime {
    /// Of a port as the project describes it.
    #[must_use]
    pub fn of(port: &Port) -> Self {
        let line = port.line().map(|line| line.value);
        let frame_gap =
            port.protocol.zip(line).map_or(0, |(protocol, line)| protocol.value.framing().frame_gap(line));
        let pause = port.protocol.map_or(0, |protocol| protocol.value.framing().pause(&port.setup));
        Self {
            char_nanos: line.map_or(0, |line| line.char_nanos()),
            frame_gap,
            // A shorter gap does not lift what a link is asked at most.
            own_frame_gap: port.frame_gap.map_or(frame_gap, |own| own.value).max(pause),
            timeout: port.timeout.value,
            turnaround: port.turnaround,
            hurry: false,
        }
    }

    /// Of a way that no project describes, with the protocol's own silence.
    #[must_use]
    pub fn bare(protocol: &dyn Dialect, line: Option<Line>, timeout: u64) -> Self {
        let frame_gap = line.map_or(0, |line| protocol.framing().frame_gap(line));
        Self {
            char_nanos: line.map_or(0, Line::char_nanos),
            frame_gap,
            own_frame_gap: frame_gap.max(protocol.framing().pause(&Setup::default())),
            timeout,
            turnaround: 100_000,
            hurry: false,
        }
    }

    /// How long a line rests after a failure, in microseconds: an answer that comes late is thrown away meanwhile.
    #[must_use]
    pub fn rest(&self) -> u64 {
        /// The longest rest.
        const MOST: u64 = 100_000;
        let rest = if self.hurry { 0 } else { (self.timeout / 4).min(MOST) };
        rest.max(self.own_frame_gap)
    }

    /// Microseconds that so many bytes take.
    #[must_use]
    pub const fn bytes(&self, count: u32) -> u64 {
        (count as u64 * self.char_nanos).div_ceil(1000)
    }

    /// Microseconds of a whole exchange with a device that answers at once; over TCP one round trip is assumed.
    #[must_use]
    pub const fn exchange(&self, cost: Cost) -> u64 {
        self.bytes(cost.out) + self.bytes(cost.back) + self.silences(cost) + self.round_trip()
    }

    /// What an exchange takes over TCP, assumed, in microseconds; 0 on a line, where the bytes themselves take their time.
    #[must_use]
    pub const fn round_trip(&self) -> u64 {
        if self.char_nanos == 0 { ROUND_TRIP } else { 0 }
    }

    /// The silences of an exchange, in microseconds.
    const fn silences(&self, cost: Cost) -> u64 {
        match cost.turns {
            0 => 0,
            turns => self.own_frame_gap + (turns as u64 - 1) * self.frame_gap,
        }
    }

    /// What planning weighs: nanoseconds, and where those are none, bytes. Not rounded, so that each further byte
    /// weighs the same.
    #[must_use]
    pub const fn weight(&self, cost: Cost) -> u64 {
        let bytes = (cost.out + cost.back) as u64;
        // A request of its own costs a turn-round even where characters cost nothing.
        bytes * self.char_nanos + self.silences(cost) * 1000 + bytes + 40
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn exchanges_take_what_the_reference_table_says() {
        // 11 bits at 38400: a + b N with a = 7.2240 ms, b = 0.5729 ms; N = 10 is 12.95 ms.
        let line = LineTime {
            char_nanos: 286_458,
            frame_gap: 1750,
            own_frame_gap: 1750,
            timeout: 0,
            turnaround: 0,
            hurry: false,
        };
        let took = line.exchange(Cost { out: 8, back: 25, turns: 2 });
        assert!((12_945..12_960).contains(&took), "{took}");
        let slower = LineTime { own_frame_gap: 4000, ..line };
        assert_eq!(slower.exchange(Cost { out: 8, back: 25, turns: 2 }), took + 2250);
    }
}
