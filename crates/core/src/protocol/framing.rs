//! How messages go over a link: what carries them, what ends them, and how they are told apart.

use super::Setup;
use crate::line::Line;

/// How a protocol's messages are framed.
pub trait Framing {
    /// A TCP port on which this protocol is a surprise, with the reason.
    fn odd_tcp_port(&self, _port: u16) -> Option<&'static str> {
        None
    }
    /// Why such line settings cannot carry it; `None` where they can.
    fn line_fault(&self, _line: Line) -> Option<&'static str> {
        None
    }
    /// The least silence between two messages on such a line, in microseconds; 0 where silence means nothing.
    fn frame_gap(&self, _line: Line) -> u64 {
        0
    }
    /// What is kept from one request to the next on a port, whatever carries it, in microseconds.
    fn pause(&self, _port: &Setup) -> u64 {
        0
    }
    /// Its usual TCP port.
    fn usual_tcp_port(&self) -> Option<u16> {
        None
    }
    /// Whether its messages are whole Ethernet frames.
    fn is_ethernet(&self) -> bool {
        false
    }
    /// The name under which packet analysers know it; `None` where they do not.
    fn dissector(&self) -> Option<&'static str> {
        None
    }
    /// Whether bytes are, from the first one on, what its framing makes: to tell two framings apart.
    fn is_frame(&self, _bytes: &[u8]) -> bool {
        false
    }
}
