//! Who gets through to what is behind a port of a network, and who is told what passed.

use crate::Moment;
use std::net::SocketAddr;

/// Who may connect, which connection makes room for it, and what is told.
pub(crate) trait Doorkeeper: Send {
    /// Whether a peer may send anything here.
    fn lets_in(&self, peer: SocketAddr) -> bool;
    /// Whether there is a place for one more, or which connection makes room; each with who it is and when it last asked.
    fn admits(
        &mut self,
        seats: &[(SocketAddr, Moment)],
        who: SocketAddr,
        now: Moment,
    ) -> Result<Option<usize>, ()>;
    /// A connection was ended by us, and why.
    fn tells(&mut self, _who: SocketAddr, _why: String) {}
    /// Nobody is accepted, because the system gives no descriptor; or again.
    fn accepts(&mut self, _trouble: Option<String>) {}
    /// How long a connection may be idle, in microseconds.
    fn idle_timeout(&self) -> u64;
    /// The sockets are open, or gone and why.
    fn is_open(&mut self, _open: Result<String, String>) {}
    /// Whether something may leave, and how much later than now: simulated stations lose and delay what they send.
    fn sends(&mut self, _is_frame: bool) -> Option<u64> {
        Some(0)
    }
    /// Whether frames get through to it.
    fn hears(&self) -> bool {
        true
    }
    /// A whole frame that passed, and whether it came.
    fn passed_frame(&mut self, _now: Moment, _came: bool, _bytes: &[u8]) {}
    /// Bytes that passed: with whom, whether they came, and whether as a datagram by that port.
    fn passed(&mut self, _now: Moment, _who: SocketAddr, _came: bool, _datagram: Option<u16>, _bytes: &[u8]) {
    }
}
